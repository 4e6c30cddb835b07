"""Sheets for others: cameras, milestones, parts, before and after on one page."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.benches.show.asking import NOW, SheetDialog
from kneten.app.benches.show.pictures import widened
from kneten.app.work import dialogs
from kneten.app.work.pages import ENDINGS, Page, joined, write_page
from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.light.page import PAPERS, laid_out
from kneten.document.driving import shapes_of
from kneten.document.lighting import in_light_of
from kneten.document.rigging import with_pose
from kneten.document.scene import Milestone, Scene, bring_back
from kneten.document.shapes import moved_within, where_seen, with_dials
from kneten.document.things import Shot
from kneten.formats.pieces import FormatError
from kneten.render.filming import finished
from kneten.render.still import StillError, drawing_in, render_still
from kneten.render.style import Style

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

MOST = 120
"""Pictures on a page."""

Seen = tuple[str, str, Scene, Camera, Style]
"""A picture to be drawn: id and name of what it is of, what it shows, from where, and how."""


class Sheets:
    """Commands that write sheets."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    def ask(self) -> None:
        """Ask what is to be on a sheet and for a file, and write that."""
        project = self._studio.project
        names = [one.name for one in project.scene.milestones]
        title = project.path.stem if project.path is not None else project.title
        with dialogs.passing(SheetDialog(self._desk, title, names, self._named())) as dialog:
            if not dialog.exec():
                return
            kinds = f"Sheets ({' '.join(f'*{ending}' for ending in ENDINGS)})"
            path = dialogs.ask_save(self._desk, "Export a sheet", "sheet.png", kinds)
            if path is None:
                return
            pair = dialog.before.currentIndex(), dialog.after.currentIndex()
            self.export(
                path,
                dialog.shown.currentData(),
                " ".join(dialog.heading.text().split()),
                dialog.paper.currentData(),
                dialog.across.value(),
                pair,
                dialog.chosen(),
            )

    def _named(self) -> dict[str, list[tuple[str, str]]]:
        """What may be chosen for a sheet: ids and names."""
        scene = self._studio.project.scene
        return {
            "cameras": [(shot.id, shot.name) for shot in self._desk.pictures.shots],
            "milestones": [*((one.id, one.name) for one in scene.milestones), (NOW, NOW)],
            "parts": [(part.id, part.name) for part in scene.parts if part.visible],
            "poses": [(one.id, one.name) for one in scene.things("poses")],
            "shapes": [(key, one.name) for key, one in shapes_of(scene).items()],
        }

    def no_sheet(self, shown: str) -> str:
        """Why there is nothing of a kind to put on a sheet."""
        scene = self._studio.project.scene
        if shown == "cameras" and not scene.things("cameras"):
            return "There is no camera yet: add one in the card Cameras."
        if shown in ("milestones", "before-after") and not scene.milestones:
            return "There is no milestone yet: keep one first."
        if shown == "shapes" and not shapes_of(scene):
            return "There is no shape yet: make one in the card Shapes."
        if shown == "poses" and not scene.things("poses"):
            return "There is no pose yet: keep one in the card Rig."
        if not any(part.visible for part in scene.parts):
            return "There is no visible part."
        return ""

    def export(
        self,
        path: Path,
        shown: str,
        heading: str,
        paper: str = "a4-wide",
        across: int = 3508,
        pair: tuple[int, int] = (0, -1),
        only: set[str] | None = None,
    ) -> None:
        """Write a sheet, as PNG or PDF by the ending, of all of a kind or of those with some ids.

        Of before and after, `pair` are the numbers of milestones, the one after the last being now.
        """
        if not path.suffix:
            path = path.with_suffix(".png")
        why = self.no_sheet(shown)
        if why:
            self._studio.say(why, "warning")
            return
        scene, camera, style = self._desk.files.asked()
        milestones = self._studio.project.scene.milestones
        note = f"{len(scene.parts)} parts, {sum(p.mesh.n_vertices for p in scene.parts):,} vertices"
        _, wide, high = PAPERS[paper]
        aspect = self._aspect(shown)
        columns = 2 if shown == "before-after" else 0

        def write(progress: Progress) -> int | str:
            try:
                seen = _chosen(shown, scene, camera, style, milestones, pair, aspect)
                everything = only is None or shown == "before-after"
                chosen = [one[1:] for one in seen if everything or one[0] in (only or ())]
                if not chosen:
                    raise ValueError("nothing was chosen for the sheet: choose one thing at least")
                if len(chosen) > MOST:
                    raise ValueError(f"{len(chosen)} pictures are too many for a page: {MOST} at the most")
                cell = laid_out(len(chosen), across, across * high / wide, aspect, columns).cells[0]
                size = max(round(cell.width), 16), max(round(cell.height), 16)
                drawn = []
                with drawing_in(None) as ctx:
                    for k, (name, one, eye, how) in enumerate(chosen):
                        progress.report(k / len(chosen), name)
                        image = render_still(one, eye, *size, how, ctx)
                        drawn.append((name, np.asarray(image.convert("RGB"))))
                write_page(path, Page(heading, note, paper, joined(drawn), columns), across)
            except (FormatError, StillError, ValueError) as error:
                return str(error)
            return len(drawn)

        def written(found: int | str) -> None:
            if isinstance(found, str):
                self._studio.say(f"{found[0].upper()}{found[1:].rstrip('.')}.", "warning")
            else:
                self._studio.say(f"{path.name} shows {found} picture{'s' * (found != 1)}.")

        self._studio.start("Sheet", write, written)

    def _aspect(self, shown: str) -> float:
        """What all pictures of a sheet have."""
        if shown in ("parts", "shapes", "poses"):
            return 1.0
        through = self._desk.pictures.through
        shots: tuple[Shot, ...] = self._desk.pictures.shots
        if shown == "cameras":
            return float(np.median([shot.aspect for shot in shots]))
        if through is not None:
            return through.aspect
        view = self._desk.view
        return float(np.clip(view.wide / max(view.high, 1), 0.5, 2.0))


def _chosen(
    shown: str,
    scene: Scene,
    camera: Camera,
    style: Style,
    milestones: tuple[Milestone, ...],
    pair: tuple[int, int],
    aspect: float,
) -> Iterator[Seen]:
    """What a sheet shows."""
    if shown == "cameras":
        for shot in scene.things("cameras"):
            # All of each is seen, whatever its own aspect is.
            eye = widened(shot.camera, max(shot.aspect / aspect, 1.0))
            yield shot.id, shot.name, scene, eye, finished(style, scene, shot.id)
    elif shown == "parts":
        for part in scene.parts:
            low, high = part.bounds()
            yield part.id, part.name, _alone(scene, part.id), camera.framing(low, high, aspect, 1.1), style
    elif shown == "shapes":
        yield from _shapes(scene, camera, style)
    elif shown == "poses":
        yield from _poses(scene, camera, style)
    else:
        states = [*((one.name, one) for one in milestones), (NOW, None)]
        numbers = range(len(states)) if shown == "milestones" else pair
        for k in numbers:
            name, kept = states[k]
            words = f"{name}, {kept.time[:10]}" if kept is not None and shown == "before-after" else name
            there = scene if kept is None else _as_kept(scene, kept)
            yield NOW if kept is None else kept.id, words, there, camera, style


def _shapes(scene: Scene, camera: Camera, style: Style) -> Iterator[Seen]:
    """Each shape with the others at rest, the same for all: what any of them moves fills the picture."""
    held = shapes_of(scene)
    rest = {key: 0.0 for key, one in held.items() if not one.shape.drivers}
    eye = camera.framing(*moved_within(scene), 1.0, 1.15)
    for key, one in held.items():
        there = with_dials(scene, rest | where_seen(scene, key))
        yield key, one.name, there, eye, style


def _poses(scene: Scene, camera: Camera, style: Style) -> Iterator[Seen]:
    """Each pose with all that there is, the body in the middle."""
    for kept in scene.things("poses"):
        there = with_pose(scene, scene.part(kept.part), kept)
        low, high = there.part(kept.part).bounds()
        yield kept.id, kept.name, there, camera.framing(low, high, 1.0, 1.25), style


def _alone(scene: Scene, part_id: str) -> Scene:
    return replace(scene, parts=tuple(part for part in scene.parts if part.id == part_id))


def _as_kept(scene: Scene, kept: Milestone) -> Scene:
    """A milestone's clay in the light that there is now."""
    parts = bring_back(one for one in kept.parts if one.visible)
    return in_light_of(scene, tuple(parts))
