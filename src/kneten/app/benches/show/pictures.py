"""Work with cameras and the finish of pictures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.show.focus_mode import FocusMode
from kneten.app.work import dialogs
from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.light.finish import ColourTable, Finish
from kneten.document.picturing import (
    add_shot,
    add_table,
    change_finish,
    change_shot,
    copy_shot,
    finish_of,
    remove_shot,
    shot_with,
    shots_of,
    with_finish,
)
from kneten.document.things import KeptTable, Shot
from kneten.formats.cubes import read_cube
from kneten.formats.pieces import FormatError

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

ROOM = 1.06
"""How much more than a camera's picture the view shows when one looks through it."""


class Pictures:
    """Commands on cameras and finish. What one looks through is kept in the settings, as the view is."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        desk.studio.project_changed.connect(self._stand)

    # -- what there is --------------------------------------------------------------------------

    @property
    def shots(self) -> tuple[Shot, ...]:
        """The project's cameras."""
        return shots_of(self._studio.project.scene)

    @property
    def through(self) -> Shot | None:
        """The camera that is looked through, whose finish pictures have."""
        return shot_with(self._studio.project.scene, self._studio.project.settings.through)

    @property
    def finish(self) -> Finish:
        """The finish that pictures have now."""
        return finish_of(self._studio.project.scene, self._studio.project.settings.through)

    @property
    def tables(self) -> tuple[KeptTable, ...]:
        """The project's colour tables."""
        return self._studio.project.scene.things("colour_tables")

    def widening(self, shot: Shot) -> float:
        """How much larger the view's picture is than a camera's: all of that is seen, and a little around it."""
        view = self._desk.view
        return ROOM * max(shot.aspect / (view.width() / max(view.height(), 1)), 1.0)

    def widened_by(self, shot: Shot) -> float:
        """How much higher than a camera's the view's picture is now."""
        half = np.radians(self._studio.project.settings.camera.angle) / 2
        return float(np.tan(half) / np.tan(np.radians(shot.camera.angle) / 2))

    def _stand(self) -> None:
        """See all of the picture of the camera that a project was left at, whatever the window it was left in was like."""
        shot = self.through
        if shot is not None and self.is_there(shot):
            self._desk.view.set_main(self.seen_from(shot))

    def seen_from(self, shot: Shot) -> Camera:
        """How the view has to look to show all of a camera's picture."""
        return widened(shot.camera, self.widening(shot))

    def is_there(self, shot: Shot) -> bool:
        """Whether the view stands where a camera does."""
        one, other = self._desk.studio.project.settings.camera, shot.camera
        moved = np.linalg.norm(one.eye() - other.eye()) > 1e-6 * other.distance
        turned = np.abs(one.axes() - other.axes()).max() > 1e-6
        return not moved and not turned

    # -- why not --------------------------------------------------------------------------------

    def no_shot(self) -> str:
        """Why nothing can be done with a camera."""
        if self.through is not None:
            return ""
        return "No camera is chosen: add one, or look through one in the card Cameras."

    def no_free_shot(self) -> str:
        """Why the chosen camera cannot be moved."""
        shot = self.through
        if shot is not None and shot.locked:
            return f"{shot.name} is locked: unlock it to move it."
        return self.no_shot()

    def no_table(self) -> str:
        """Why no colour table can be taken away."""
        return "" if self._table() is not None else "The finish has no colour table."

    def _table(self) -> KeptTable | None:
        return next((one for one in self.tables if one.id == self.finish.table), None)

    # -- cameras --------------------------------------------------------------------------------

    def _try(self, change: Callable[[], Any]) -> Any:
        """Do what may be refused, and say why it was."""
        try:
            return change()
        except ValueError as error:
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:].rstrip('.')}.", "warning")
            return None

    def add(self) -> None:
        """One more camera where the view is."""
        view, project = self._desk.view, self._studio.project
        name = f"Camera {len(self.shots) + 1}"
        aspect = float(np.clip(view.width() / max(view.height(), 1), 0.1, 10.0))
        camera = view.studio.project.settings.camera
        shot = self._try(lambda: add_shot(project, name, camera, self.finish, aspect))
        if shot is not None:
            project.change_settings(through=shot.id)
            self._studio.scene_changed.emit()
            self._desk.view.fly(self.seen_from(shot))

    def look(self, shot_id: str) -> None:
        """Look through a camera; through none with ""."""
        self._studio.project.change_settings(through=shot_id)
        shot = self.through
        if shot is not None:
            self._desk.view.fly(self.seen_from(shot))
        self._studio.scene_changed.emit()
        self._desk.view.refresh()

    def back(self) -> None:
        """Look through the chosen camera again."""
        shot = self.through
        assert shot is not None
        self._desk.view.fly(self.seen_from(shot))

    def step(self, by: int) -> None:
        """Look through the next camera."""
        ids = [shot.id for shot in self.shots]
        now = self._studio.project.settings.through
        self.look(ids[(ids.index(now) + by) % len(ids) if now in ids else 0])

    def no_shots(self) -> str:
        """Why there is no next camera."""
        return "" if self.shots else "There is no camera yet: add one."

    def set_here(self) -> None:
        """Have the chosen camera see what the view shows."""
        shot = self.through
        assert shot is not None
        camera = widened(self._studio.project.settings.camera, 1 / self.widening(shot))
        self.change(camera=camera)

    def frame(self) -> None:
        """Move the chosen camera back or forth until all clay just fits its picture."""
        shot = self.through
        assert shot is not None
        low, high = self._studio.project.scene.bounds()
        self.change(camera=shot.camera.framing(low, high, shot.aspect, 1.1))
        self.back()

    def change(self, **traits: Any) -> None:
        """Have the chosen camera otherwise: one step."""
        shot = self.through
        if shot is not None:
            changed = replace(shot, **traits)
            if not self._try(lambda: change_shot(self._studio.project, changed, f"Change {shot.name}")):
                self._studio.scene_changed.emit()

    def switch_lock(self) -> None:
        """Lock the chosen camera, or unlock it."""
        shot = self.through
        assert shot is not None
        self.change(locked=not shot.locked)

    def copy(self) -> None:
        """One more camera like the chosen one, which is then looked through."""
        shot = self.through
        assert shot is not None
        made = self._try(lambda: copy_shot(self._studio.project, shot))
        if made is not None:
            self.look(made.id)

    def rename(self) -> None:
        """Call the chosen camera something else."""
        shot = self.through
        assert shot is not None
        text, fine = QInputDialog.getText(self._desk, "Rename camera", "Name", text=shot.name)
        name = " ".join(text.split())[:80]
        if fine and name:
            self.change(name=name)

    def remove(self) -> None:
        """Take the chosen camera away; the view stays where it is."""
        shot = self.through
        assert shot is not None
        remove_shot(self._studio.project, shot.id)

    def dial_angle(self, angle: float) -> None:
        """Show the chosen camera with another lens while it is dragged."""
        shot = self.through
        if shot is not None and not shot.locked:
            self._desk.view.set_main(self.seen_from(replace(shot, camera=shot.camera.with_angle(angle))))

    def change_angle(self, angle: float) -> None:
        """Have another lens on the chosen camera; what is in its middle keeps its size."""
        shot = self.through
        if shot is not None:
            self.change(camera=shot.camera.with_angle(angle))
            self.back()

    # -- finish ---------------------------------------------------------------------------------

    def _show_lit(self) -> None:
        if self._studio.project.settings.look.kind != "lit":
            self._studio.set_look(kind="lit")

    def dial_finish(self, **traits: Any) -> None:
        """Show another finish while a number is dragged."""
        self.show_finish(replace(self.finish, **traits))

    def show_finish(self, finish: Finish) -> None:
        """Show another finish than there is."""
        project, view = self._studio.project, self._desk.view
        shown = with_finish(project.scene, finish, project.settings.through)
        view.shown_things = {name: shown.things(name) for name in ("finishes", "cameras")}
        view.moved()

    def show_again(self) -> None:
        """Show the finish as it is."""
        self._desk.view.shown_things = {}
        self._desk.view.refresh()

    def change_finish(self, **traits: Any) -> None:
        """Have another finish: one step."""
        self._desk.view.shown_things = {}
        project = self._studio.project
        finish = replace(self.finish, **traits)
        done = self._try(
            lambda: change_finish(project, finish, "Change the finish", project.settings.through)
        )
        if not done:
            self._studio.scene_changed.emit()
        self._show_lit()

    def plain_finish(self) -> None:
        """Leave the light as it comes, but for the curve and what is sharp."""
        now = self.finish
        kept = {name: getattr(now, name) for name in ("blurs", "focus", "stop")}
        self.change_finish(**{**vars(Finish()), **kept})

    def focus(self) -> None:
        """Say by clicking what is sharp; the same again leaves."""
        self._show_lit()
        self._desk.view.toggle_mode(FocusMode(self._desk.view, self))

    def switch_compare(self) -> None:
        """Show pictures without their finish, or with it again."""
        view = self._desk.view
        view.unfinished = not view.unfinished
        self._show_lit()
        view.refresh()
        self._desk.fill_chip()

    def load_table(self, path: Path | None = None) -> None:
        """Take in a colour table from a file and have it: it is read aside."""
        found_path = dialogs.ask_table(self._desk) if path is None else path
        if found_path is None:
            return
        studio = self._studio

        def read(progress: Progress) -> ColourTable | str:
            progress.report(0.2, "Reading")
            try:
                return read_cube(found_path)
            except FormatError as error:
                return str(error)

        def landed(found: ColourTable | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
                return
            add_table(studio.project, found, studio.project.settings.through)
            self._show_lit()

        studio.work_on([], f"Colours {found_path.name}", read, landed)

    def drop_table(self) -> None:
        """Have no colour table; it stays in the project for later."""
        self.change_finish(table="")


def widened(camera: Camera, by: float) -> Camera:
    """A camera at the same place whose picture is so many times as high, of what is at its target."""
    slope = float(np.tan(np.radians(camera.angle) / 2)) * by
    return replace(camera, angle=float(np.degrees(2 * np.arctan(slope))))
