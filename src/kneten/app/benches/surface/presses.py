"""Work with presses: choosing, importing, taking them from the clay, laying them along guides."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.benches.surface.frame_mode import Frame, FrameMode
from kneten.app.view.hands import along_lines
from kneten.app.work import dialogs
from kneten.app.work.press_shelf import OWN
from kneten.core.arrays import F32, F64, Progress
from kneten.core.deep_capture import deep_moves
from kneten.core.press import PressError, deep_press, press_of
from kneten.core.press_edits import Edits
from kneten.core.seen_heights import heights_seen, over_base
from kneten.document.presses import AnyPress, all_presses, edit_press, forget_press, keep_press, rename_press
from kneten.document.things import KeptDeep, KeptPress, guide_places, kept_deep, kept_press, new_id
from kneten.formats.heights import HeightsError, read_deep, read_heights, write_deep, write_heights

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

WIDE = 1024
"""Pixels across a press that is taken from the clay."""

FADE = 0.12
"""Its edge fade: what is cut out of clay would else end in a wall."""


class Presses:
    """What the surface's commands do."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    # -- choosing -------------------------------------------------------------------------------

    def choose(self, key: str) -> None:
        """Put a press on the tip of the tool in hand; one of the user's folder comes into the project."""
        studio = self._studio
        if key.startswith(OWN):
            press = studio.presses.owned().get(key.removeprefix(OWN))
            if press is not None:
                self._take(press)
        listed = next((one for one in studio.presses.listed() if one.key == key), None)
        tip = replace(studio.settings().tip, press=key)
        if listed is not None and studio.tool.presses:
            # What is made to be unrolled is, and what is one thing is stamped whole.
            tip = replace(tip, rolled=listed.rolls, whole=not listed.tiles and not listed.rolls)
        if listed is not None and listed.deep:
            # As it is, neither flatter nor drawn out; it is one thing, that is put somewhere.
            natural = studio.presses.made(key).natural
            tip = replace(tip, height=round(natural, 3), height_mm=False, whole=True)
            if studio.tool.presses and studio.settings().kind not in (
                "dragged",
                "sized",
                "spaced",
                "scattered",
            ):
                studio.set_brush(kind="sized")
        studio.set_brush(tip=tip)

    def _take(self, press: AnyPress) -> None:
        """Have a press of the user's folder in the project, too."""
        if press.id not in {one.id for one in all_presses(self._studio.project)}:
            keep_press(self._studio.project, press, "Take press")

    def take_off(self) -> None:
        """Free the tip of the tool in hand."""
        self._studio.set_tip(press="")

    def no_tip(self) -> str:
        """Why there is nothing to take off."""
        if not self._studio.settings().tip.press:
            return "There is no press on the tip of the tool in hand."
        return "Press cannot do without one: choose another." if self._studio.tool.presses else ""

    # -- importing and exporting ----------------------------------------------------------------

    def ask_import(self) -> None:
        """Ask for pictures."""
        paths = dialogs.ask_presses(self._desk)
        if paths:
            self.import_files(paths)

    def import_files(self, paths: Sequence[Path], channel: str = "light") -> None:
        """Make presses of pictures; those that cannot be used are told of."""

        def read(progress: Progress) -> tuple[list[KeptPress], list[str]]:
            found, wrong = [], []
            for count, path in enumerate(paths):
                progress.report(count / len(paths), path.name)
                try:
                    found.append(kept_press(path.stem, read_heights(path, channel)))
                except HeightsError as error:
                    wrong.append(str(error))
            return found, wrong

        self._studio.start("Import presses", read, self._imported)

    def ask_deep(self) -> None:
        """Ask for deep presses."""
        paths = dialogs.ask_deep_presses(self._desk)

        def read(progress: Progress) -> tuple[list[KeptDeep], list[str]]:
            found, wrong = [], []
            for path in paths:
                try:
                    found.append(kept_deep(path.stem, read_deep(path)))
                except HeightsError as error:
                    wrong.append(str(error))
            return found, wrong

        if paths:
            self._studio.start("Import deep presses", read, self._imported)

    def _imported(self, result: tuple[Sequence[AnyPress], list[str]]) -> None:
        found, wrong = result
        for text in wrong:
            self._studio.say(text, "warning")
        for press in found:
            self.keep(press, "Import press")

    def keep(self, press: AnyPress, what: str = "Keep press") -> AnyPress:
        """Keep a press with the project and in the user's folder, and show it."""
        kept: AnyPress = keep_press(self._studio.project, press, what)
        self._studio.presses.keep_file(kept)
        self._desk.press_panel.show_press(OWN + kept.id)
        return kept

    def copy_of(self, key: str) -> None:
        """Make a press of the user's own of another, to change it."""
        shelf = self._studio.presses
        name = shelf.name_of(key)
        if key.startswith(OWN):
            old = shelf.owned()[key.removeprefix(OWN)]
            self.keep(replace(old, id=new_id()), "Copy press")
            return
        work = shelf.maker(key)

        def made(progress: Progress) -> AnyPress:
            press = work()
            if press.aside is not None:
                moves = np.concatenate([press.aside, press.heights[..., None]], -1)
                return kept_deep(name, moves * np.float32(press.natural))
            low, high = float(press.heights.min()), float(press.heights.max())
            return kept_press(name, press.heights, press.tiles, Edits(zero=-low / (high - low)))

        self._studio.start("Copy press", made, lambda press: self.keep(press, "Copy press"))

    def edit(self, press_id: str, edits: Edits) -> None:
        """Change a press of the user's own; what was laid with it stays."""
        studio = self._studio
        self._take(studio.presses.owned()[press_id])
        studio.presses.keep_file(edit_press(studio.project, press_id, edits))
        studio.presses.want(studio.settings().tip.press)

    def rename(self, press_id: str, name: str) -> None:
        """Call a press of the user's own something else."""
        self._take(self._studio.presses.owned()[press_id])
        self._studio.presses.keep_file(rename_press(self._studio.project, press_id, name))

    def delete(self, press_id: str) -> None:
        """Take a press away, out of the project and the user's folder."""
        forget_press(self._studio.project, press_id)
        self._studio.presses.drop_file(press_id)

    def export(self, key: str, path: Path) -> None:
        """Write a press as a picture that others can read."""
        work = self._studio.presses.maker(key)

        def write(progress: Progress) -> None:
            try:
                press = work()
                if press.aside is None:
                    write_heights(path, press.heights)
                elif path.suffix.lower() != ".exr":
                    raise HeightsError(
                        f"{path.name}: a deep press needs three channels; choose a name ending in .exr."
                    )
                else:
                    moves = np.concatenate([press.aside, press.heights[..., None]], -1)
                    write_deep(path, moves * np.float32(press.natural))
            except OSError as error:
                raise HeightsError(f"{path.name} cannot be written ({error.strerror}).") from error

        self._studio.start("Export press", write, lambda _: self._studio.say(f"Exported {path.name}."))

    # -- from the clay --------------------------------------------------------------------------

    def no_clay(self) -> str:
        """Why nothing can be taken from the clay."""
        return "" if self._studio.project.scene.parts else "There is no clay yet."

    def no_mask(self) -> str:
        """Why there is no mask to take."""
        part = self._studio.project.active
        return (
            ""
            if part is not None and part.mesh.mask is not None
            else "Nothing is masked on the part in hand."
        )

    def frame_clay(self) -> None:
        """Have a frame dragged whose heights become a press."""
        self._desk.view.toggle_mode(FrameMode(self._desk.view, "press.from-view", self.from_view))

    def frame_deep(self) -> None:
        """Have a frame dragged about a piece of clay that becomes a deep press."""
        self._desk.view.toggle_mode(FrameMode(self._desk.view, "press.deep-from-view", self.deep_from))

    def deep_from(self, frame: Frame) -> None:
        """Make a deep press of the piece of clay in a frame."""
        part = frame.part
        mesh, matrix = part.mesh.copy(), part.transform.matrix()

        def work(progress: Progress) -> KeptDeep:
            moves = deep_moves(mesh, matrix, frame.middle, frame.axes, frame.size)
            deep_press(moves)
            return kept_deep(f"From {part.name}", moves)

        self._studio.start("Deep press from the clay", work, lambda press: self.keep(press))

    def frame_mask(self) -> None:
        """Have a frame dragged whose mask becomes a press."""
        self._desk.view.toggle_mode(
            FrameMode(self._desk.view, "press.from-mask", lambda frame: self.from_view(frame, mask=True))
        )

    def from_view(self, frame: Frame, mask: bool = False) -> None:
        """Make a press of what stands in a frame: of its heights, or of the mask of the part in hand."""
        scene, active = self._studio.project.scene, self._studio.project.active
        parts = [part for part in scene.parts if part.visible and (not mask or part is active)]
        taken = [(part.mesh.copy(), part.transform.matrix()) for part in parts]
        wide = WIDE if frame.size[0] >= frame.size[1] else max(round(WIDE * frame.size[0] / frame.size[1]), 2)

        def work(progress: Progress) -> KeptPress:
            near, shown = heights_seen(taken, frame.middle, frame.axes, frame.size, wide)
            if mask:
                return self._made("Mask", shown.astype(np.float32), 0.0)
            heights, share = over_base(near)
            if share == 0:
                raise PressError("There is no clay in the frame.")
            return self._made("From the clay", heights, FADE)

        self._studio.start("Press from the clay", work, lambda press: self.keep(press))

    @staticmethod
    def _made(name: str, heights: F32, fade: float) -> KeptPress:
        """A press whose zero is that of the heights. Raises `PressError` when they leave no mark."""
        press_of(heights)
        low, high = min(float(heights.min()), 0.0), max(float(heights.max()), 0.0)
        return kept_press(
            name, heights, False, Edits(zero=float(np.clip(-low / (high - low), 0, 1)), fade=fade)
        )

    # -- along guides ---------------------------------------------------------------------------

    def no_guide(self) -> str:
        """Why there is no stroke along guides."""
        studio, part = self._studio, self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if studio.tool.holds or studio.tool.density == "grow":
            return f"{studio.tool.name} holds what it grabs: it cannot be led along a guide."
        if not any(guide.part == part.id for guide in studio.project.scene.guides):
            return "The part in hand has no guides: draw one with the guide pen (J)."
        return studio.presses.blocked(studio.tool, studio.settings()) or studio.stroke_blocked(part)

    def along_guides(self) -> None:
        """Lead the tool in hand along each guide of the part in hand."""
        studio, part, view = self._studio, self._studio.project.active, self._desk.view
        if part is None:
            return
        lines = [
            along_line(guide_places(guide, part.mesh), guide.closed)
            for guide in studio.project.scene.guides
            if guide.part == part.id
        ]
        view.take_hand(along_lines(view, part, studio.tool, studio.settings(), lines))


STEP = 0.5
"""Millimetres, at most, between the places of a guide that a stroke is led over."""


def along_line(places: F64, closed: bool) -> F64:
    """Places (k, 3) close together along a guide, back to its beginning where it is closed."""
    line = np.concatenate([places, places[:1]]) if closed else places
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    far = np.concatenate([[0.0], np.cumsum(steps)])
    count = int(np.clip(far[-1] / STEP, 2, 20_000))
    at = np.linspace(0.0, far[-1], count + 1)
    return np.stack([np.interp(at, far, line[:, k]) for k in range(3)], -1)
