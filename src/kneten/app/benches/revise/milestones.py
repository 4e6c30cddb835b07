"""Commands on milestones: compare with now, take back, name, delete."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QInputDialog, QMenu

from kneten.app.work import dialogs
from kneten.core.arrays import F32, Progress
from kneten.core.distance import signed_distances
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document.arrays_file import replacing
from kneten.document.scene import KeptPart, Milestone, Part, Scene
from kneten.render.still import encoded
from kneten.render.variants import drawn_variants, sheet_of

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHEET = 720
"""Pixels that each variant is high."""

Distances = tuple[dict[str, F32], float]


def distances_between(
    now: list[tuple[str, Mesh, Transform]], then: list[KeptPart], progress: Progress
) -> Distances:
    """How far each part's vertices lie from the same part at a milestone.

    Returns
    -------
    values : dict
        For each part's id (n,) float32: 0.5 unchanged, 0 far inwards, 1 far outwards.
    range : float
        Millimetres that 0 and 1 stand for: 98 of 100 changed vertices lie within.
    """
    kept = {part.id: part for part in then}
    far: dict[str, F32] = {}
    for part_id, mesh, transform in now:
        if part_id not in kept:
            continue
        old = kept[part_id].restored()
        points = transform.to_scene(mesh.positions)
        there = old.transform.to_part(points)
        far[part_id] = signed_distances(there, old.mesh, progress) * np.float32(old.transform.scale)
    changed = [np.abs(v[np.abs(v) > 1e-4]) for v in far.values()]
    flat = np.concatenate(changed) if changed else np.empty(0)
    reach = float(np.quantile(flat, 0.98)) if len(flat) else 1.0
    values = {key: np.clip(0.5 + 0.5 * v / reach, 0, 1).astype(np.float32) for key, v in far.items()}
    return values, reach


class Milestones:
    """What is done with kept states.

    Attributes
    ----------
    chosen_id : str
        The milestone that was clicked last; the newest counts while it is empty.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.chosen_id = ""

    @property
    def chosen(self) -> Milestone | None:
        """The milestone that commands are about."""
        milestones = self._studio.project.scene.milestones
        for milestone in milestones:
            if milestone.id == self.chosen_id:
                return milestone
        return milestones[-1] if milestones else None

    def none(self) -> str:
        """Why there is nothing to do."""
        return "" if self.chosen is not None else "There is no milestone yet: keep one first (Ctrl+M)."

    # -- comparing ------------------------------------------------------------------------------

    def compare(self, mode: str) -> None:
        """Show the milestone over or beside the present; the same again ends it."""
        view, milestone = self._desk.view, self.chosen
        if view.compare_mode == mode:
            view.stop_compare()
            return
        assert milestone is not None
        project = self._studio.project

        def built() -> Scene:
            return Scene(tuple(kept.restored() for kept in milestone.parts))

        def show(scene: Scene) -> None:
            if self._studio.project is project:
                view.start_compare(scene, milestone.name, mode)

        self._studio.aside(built, show)

    def distance(self) -> None:
        """Colour the clay by how far it has come since the milestone; the same again ends it."""
        view, milestone = self._desk.view, self.chosen
        if view.distances:
            view.stop_compare()
            return
        assert milestone is not None
        now = [(p.id, p.mesh.copy(), p.transform) for p in self._studio.project.scene.parts if p.visible]
        self._studio.start(
            "Compare",
            lambda progress: distances_between(now, list(milestone.parts), progress),
            lambda found: view.show_distances(*found),
        )

    # -- handing over ---------------------------------------------------------------------------

    def variants(self) -> None:
        """Write the milestones and the present as pictures of the same view: side by side, and each by itself."""
        path = dialogs.ask_save(self._desk, "Picture of the variants", "variants.png", "Pictures (*.png)")
        if path is None:
            return
        path = path if path.suffix.lower() == ".png" else path.with_name(path.name + ".png")
        scene, milestones = self._studio.project.scene, self._studio.project.scene.milestones
        now = Scene(tuple(replace(p, mesh=p.mesh.copy()) for p in scene.parts if p.visible))
        view, style = self._desk.view, self._desk.view.picture_style()
        camera = view.camera
        size = (round(SHEET * min(view.wide / view.high, 2.0)), SHEET)

        def scenes() -> Iterator[tuple[str, Scene]]:
            for milestone in milestones:
                kept = tuple(kept.restored() for kept in milestone.parts if kept.visible)
                yield milestone.name, Scene(kept)
            yield "Now", now

        def draw(progress: Progress) -> int:
            drawn = drawn_variants(scenes(), len(milestones) + 1, camera, style, size, progress)
            for number, (_, image) in enumerate(drawn):
                with replacing(path.with_name(f"{path.stem}-{number + 1:02d}.png")) as file:
                    file.write(encoded(image))
            with replacing(path) as file:
                file.write(encoded(sheet_of(drawn, style)))
            return len(drawn)

        self._studio.start(
            "Variants",
            draw,
            lambda count: self._studio.say(
                f"{path.name} shows {count} variants; each is beside it, numbered."
            ),
        )

    # -- taking back ----------------------------------------------------------------------------

    def go_back(self) -> None:
        """Everything as it was."""
        milestone = self.chosen
        if milestone is not None:
            self._desk.view.stop_compare()
            self._studio.project.go_back(milestone.id)

    def not_all_free(self) -> str:
        """Why not everything can be taken back."""
        return self.none() or self._studio.any_at_work(p.id for p in self._studio.project.scene.parts)

    def _kept(self) -> KeptPart | None:
        milestone, part = self.chosen, self._studio.project.active
        if milestone is None or part is None:
            return None
        return next((kept for kept in milestone.parts if kept.id == part.id), None)

    def no_part(self) -> str:
        """Why the part in hand cannot be taken back."""
        if self.none():
            return self.none()
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if self._kept() is None:
            return f"{part.name} was not there at that milestone."
        return self._studio.stroke_blocked(part)

    def take_part(self) -> None:
        """The part in hand as it was."""
        milestone, part = self.chosen, self._studio.project.active
        if milestone is not None and part is not None:
            self._studio.project.take_back(milestone.id, part.id)

    def no_mask(self) -> str:
        """Why what the mask covers cannot be taken back."""
        part = self._studio.project.active
        if not self.no_part() and part is not None and (part.mesh.mask is None or not part.mesh.mask.any()):
            return f"Nothing on {part.name} is masked."
        return self.no_part()

    def take_masked(self) -> None:
        """What the mask covers as it was."""
        milestone, part, kept = self.chosen, self._studio.project.active, self._kept()
        if milestone is None or part is None or kept is None:
            return
        project = self._studio.project
        mesh = part.mesh.copy()
        place = part.transform

        def work(progress: Progress) -> F32:
            return masked_back(Part(part.name, mesh, id=part.id, transform=place), kept, progress)

        self._studio.work_on(
            [part],
            "Take back",
            work,
            lambda positions: project.move_vertices(
                part.id, positions, f"Take back the masked clay of {part.name}"
            ),
        )

    # -- names ----------------------------------------------------------------------------------

    def rename(self) -> None:
        """Ask for a name."""
        milestone = self.chosen
        if milestone is not None:
            name, agreed = QInputDialog.getText(
                self._desk, "Rename", "Name of the milestone:", text=milestone.name
            )
            if agreed and name.strip():
                self._studio.project.edit_milestone(milestone.id, name.strip(), milestone.note)

    def note(self) -> None:
        """Ask for a note."""
        milestone = self.chosen
        if milestone is not None:
            note, agreed = QInputDialog.getMultiLineText(
                self._desk, "Note", f"Note on “{milestone.name}”:", milestone.note
            )
            if agreed:
                self._studio.project.edit_milestone(milestone.id, milestone.name, note.strip())

    def delete(self) -> None:
        """Take the milestone out."""
        milestone = self.chosen
        if milestone is not None:
            self._desk.view.stop_compare()
            self._studio.project.delete_milestone(milestone.id)

    def menu(self, milestone: Milestone, at: QPoint) -> QMenu:
        """Show what can be done with a milestone."""
        self.chosen_id = milestone.id
        menu = QMenu(self._desk)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        registry = self._desk.registry
        for key, command in registry.commands.items():
            if key.startswith("milestone."):
                action = menu.addAction(command.name)
                action.setToolTip(registry.tip(command))
                action.setEnabled(not command.blocked())
                action.triggered.connect(lambda _=False, key=key: registry.run(key))
        menu.setToolTipsVisible(True)
        menu.popup(at)
        return menu


def masked_back(part: Part, kept: KeptPart, progress: Progress) -> F32:
    """Positions of a part's vertices with what its mask covers where it was at a milestone.

    With the same topology each vertex goes back where it was; with another, to the nearest point of the
    old surface.
    """
    mesh = part.mesh
    assert mesh.mask is not None
    covered = np.flatnonzero(mesh.mask > 0)
    share = mesh.mask[covered, None].astype(np.float64)
    if kept.topology is mesh.topology:
        there = part.transform.to_part(kept.transform.to_scene(kept.positions[covered]))
    else:
        from kneten.core.distance import nearest_points

        old = kept.restored()
        points = old.transform.to_part(part.transform.to_scene(mesh.positions[covered]))
        nearest, _ = nearest_points(points, old.mesh, progress)
        there = part.transform.to_part(old.transform.to_scene(nearest))
    out = mesh.positions.copy()
    out[covered] = (1 - share) * mesh.positions[covered] + share * there
    return out
