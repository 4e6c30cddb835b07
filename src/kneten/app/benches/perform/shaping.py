"""Shapes in hand: dialled, recorded, corrected, split, mirrored, played."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.perform.held_shapes import HeldShapes
from kneten.app.benches.perform.shape_mode import BorderMode
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.shapes import Driver, ShapeError
from kneten.document import shape_sides, shapes
from kneten.document.driving import FoundShape, shapes_of
from kneten.document.opening import StackError
from kneten.document.rigging import is_stiff
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

ROUND = 2.4
"""Seconds of a shape that is played forth and back."""

SOFT = 0.12
"""Of a body's width, how soft the border of its halves is until it is said otherwise."""


class Shaping(QObject):
    """Commands on shapes.

    Attributes
    ----------
    chosen : list of str
        Ids of the shapes that commands are about, the one chosen last at the end.
    border : float
        Width of the border between left and right, mm; 0 until it is said.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.chosen: list[str] = []
        self._border = 0.0
        self._clay = HeldShapes(desk, self._put_back)
        self._clock = QTimer(self)
        self._clock.setInterval(15)
        self._clock.timeout.connect(self._tick)
        self._began, self._played = 0.0, ""
        for signal in (desk.studio.project_changed, desk.studio.history_changed, desk.studio.scene_changed):
            signal.connect(self._tell)

    # -- what there is --------------------------------------------------------------------------

    @property
    def part(self) -> Part | None:
        """The part in hand."""
        return self._studio.project.active

    @property
    def shapes(self) -> dict[str, FoundShape]:
        """The shapes that the part in hand takes part in, by their ids, in the order in which they were made."""
        part = self.part
        if part is None or part.stack is None:
            return {}
        held = shapes_of(self._studio.project.scene)
        own = [layer.shape.id for layer in part.stack.layers if layer.shape is not None]
        return {key: held[key] for key in own}

    def dial_of(self, shape_id: str) -> float:
        """A shape's dial, as it is shown."""
        held = self.shapes
        return self._clay.dials.get(shape_id, held[shape_id].dial if shape_id in held else 0.0)

    @property
    def last(self) -> FoundShape | None:
        """The shape that was chosen last."""
        held = self.shapes
        return next((held[key] for key in reversed(self.chosen) if key in held), None)

    @property
    def some(self) -> list[str]:
        """The ids of those that are chosen."""
        held = self.shapes
        return [key for key in self.chosen if key in held]

    @property
    def border(self) -> float:
        """Width of the border between left and right, mm."""
        part = self.part
        if self._border or part is None:
            return self._border
        first, last = part.bounds()
        return float(np.round(SOFT * (last - first)[0] / part.transform.scale, 1))

    def set_border(self, width: float) -> None:
        """Have the border between left and right as soft as this, mm."""
        self._border = max(width, 0.01)
        self._tell()

    def no_part(self) -> str:
        """Why no shape can be made."""
        part = self.part
        return "There is no part in hand." if part is None else self._studio.stroke_blocked(part)

    def no_shape(self) -> str:
        """Why nothing can be done with a shape."""
        one = self.last
        if self.part is None:
            return "There is no part in hand."
        if one is None:
            return (
                "No shape is chosen: press on its name."
                if self.shapes
                else f"{self.part.name} takes part in no shape: make one first."
            )
        return self._blocked([one])

    def no_several(self) -> str:
        """Why several shapes cannot be made one."""
        if words := self.no_shape():
            return words
        return (
            ""
            if len(self.some) > 1
            else "One shape is chosen: press on the names of others with Ctrl to choose them as well."
        )

    def none(self) -> str:
        """Why nothing can be done with all shapes."""
        held = list(self.shapes.values())
        if not held:
            return self.no_shape()
        return self._blocked(held)

    def no_mask(self) -> str:
        """Why a shape cannot be taken off the mask."""
        if words := self.no_shape():
            return words
        part = self.part
        assert part is not None
        masked = part.mesh.mask is not None and part.mesh.mask.any()
        return "" if masked else "Nothing is masked: mask where the shape is to go."

    def no_others(self) -> str:
        """Why no other parts can take part."""
        if words := self.no_shape():
            return words
        return "" if self._others() else "Choose the parts that are to go along, and the face last."

    def no_joint(self) -> str:
        """Why no correction can follow a joint."""
        if words := self.no_part():
            return words
        return str(self._desk.rigging.no_joint())

    def no_pose(self) -> str:
        """Why no shape can be made of a pose."""
        if self._desk.posing.posed_layers:
            return ""
        return "Nothing is posed: press on a limb with Pose, and bend it."

    def _blocked(self, some: list[FoundShape]) -> str:
        project = self._studio.project
        for key in dict.fromkeys(key for one in some for key in one.layers):
            if words := self._studio.stroke_blocked(project.scene.part(key)):
                return words
        return ""

    def _others(self) -> list[str]:
        part = self.part
        return [one.id for one in self._studio.project.chosen if part is not None and one.id != part.id]

    def words(self) -> str:
        """What is in hand, for the user."""
        part, held = self.part, self.shapes
        if part is None:
            return "Take the face in hand."
        if not held:
            return "No shapes yet: what is sculpted while one is recorded gets a dial."
        recorded = held.get(shapes.recorded_shape(part))
        if recorded is not None:
            return f"Strokes go to {recorded.name}."
        follows = sum(bool(one.shape.drivers) for one in held.values())
        more = f", {follows} of them follow{'s' if follows == 1 else ''} others" if follows else ""
        return f"{part.name}: {len(held)} shape{'s' if len(held) != 1 else ''}{more}."

    def told(self, one: FoundShape) -> str:
        """What a shape follows, in words; "" for one with a dial of its own."""
        held = shapes_of(self._studio.project.scene)
        sources = []
        for driver in one.shape.drivers:
            if driver.rig:
                sources.append(f"{driver.source}, turned {np.linalg.norm(driver.towards):.0f}°")
                continue
            name = held[driver.source].name if driver.source in held else "a shape that is gone"
            peak = max(driver.points, key=lambda point: point[1])[0]
            sources.append(f"{name} at {100 * peak:.0f} %")
        return f"Follows {', '.join(sources)}" if sources else ""

    # -- choosing and dialling ------------------------------------------------------------------

    def choose(self, shape_id: str, more: bool = False) -> None:
        """Let commands be about a shape; with `more` about those chosen before as well, or not any more about this one."""
        if more and shape_id in self.chosen:
            self.chosen.remove(shape_id)
        elif more:
            self.chosen.append(shape_id)
        else:
            self.chosen = [shape_id]
        self._tell()

    def show(self, shape_id: str, value: float) -> None:
        """Show a shape at another dial."""
        one = self.shapes.get(shape_id)
        if one is None or one.shape.drivers or self._blocked([one]):
            return
        if not self._clay.holds([shape_id]):
            self._clay.stop()
        self._clay.show({shape_id: value})
        self.changed.emit()

    def show_alone(self, shape_ids: Collection[str]) -> None:
        """Show some shapes wholly, and all others at rest, with what follows them."""
        held = self.shapes
        dials = {key: float(key in shape_ids) for key, one in held.items() if not one.shape.drivers}
        if self._blocked(list(held.values())):
            return
        self._clay.stop()
        self._clay.show(dials)
        self.changed.emit()

    def keep(self, shape_id: str, value: float) -> None:
        """Keep a shape at another dial: one step."""
        self.stop()
        one = self.shapes.get(shape_id)
        if one is None:
            return
        if words := self._blocked([one]):
            self._studio.say(words, "warning")
            self._tell()
            return
        self._try(
            lambda: shapes.dial(self._studio.project, {shape_id: value}, f"{one.name} at {100 * value:.0f} %")
        )

    def stop(self) -> None:
        """All clay as it is kept."""
        self._clock.stop()
        self._clay.stop()

    def _put_back(self) -> None:
        """Whatever put the clay back ends what is played."""
        self._clock.stop()
        self._played = ""
        self._tell()

    def neutral(self) -> None:
        """All dials at rest."""
        part = self.part
        assert part is not None
        self._try(lambda: shapes.neutral(self._studio.project, [part.id]))

    def show_it(self) -> None:
        """Dial what the chosen shape follows, or itself, to where it is seen wholly."""
        one = self.last
        assert one is not None
        scene = self._studio.project.scene
        dials = shapes.where_seen(scene, one.id)
        if not dials:
            self._studio.say(f"{one.name} follows joints: pose them, or take the pose in which it was made.")
            return
        self._try(lambda: shapes.dial(self._studio.project, dials, f"Show {one.name}"))

    @property
    def plays(self) -> bool:
        """Whether a shape is played."""
        return self._clock.isActive()

    def play(self) -> None:
        """Play the chosen shape forth and back; again ends that."""
        one = self.last
        if self.plays or one is None:
            self.stop()
            self._tell()
            return
        if one.shape.drivers:
            self._studio.say(f"{one.name} follows others: play one of those.", "warning")
            return
        self._played, self._began = one.id, time.monotonic()
        self._clock.start()
        self._tick()

    def _tick(self) -> None:
        # By the clock: a slow machine leaves pictures out.
        phase = (time.monotonic() - self._began) / ROUND
        self.show(self._played, float(0.5 - 0.5 * np.cos(2 * np.pi * phase)))

    # -- making ---------------------------------------------------------------------------------

    def _try(self, run: Callable[[], object]) -> bool:
        """Run what may be refused; whether it was not."""
        self.stop()
        try:
            run()
        except (ShapeError, StackError) as error:
            self._studio.say(str(error), "warning")
            self._tell()
            return False
        self._tell()
        return True

    def _face(self) -> list[str]:
        """The parts that a new shape is of: what is chosen, and what takes part in others with it."""
        part = self.part
        assert part is not None
        project = self._studio.project
        found = dict.fromkeys([part.id, *(one.id for one in project.chosen)])
        found |= dict.fromkeys(key for one in self.shapes.values() for key in one.layers)
        return [key for key in found if not self._studio.stroke_blocked(project.scene.part(key))]

    def ask_to_add(self) -> None:
        """A new shape, recorded on; the user is asked for its name."""
        offered = ["", *(f"{one.name} ({key})" for key, one in ACTIONS.items())]
        name, fine = QInputDialog.getItem(
            self._desk, "New shape", "Its name, or one of the facial action coding:", offered, 0, True
        )
        if fine:
            self.add(*as_action(name))

    def add(self, name: str, action: str = "", drivers: tuple[Driver, ...] = ()) -> None:
        """A new shape over the face, recorded on."""
        project = self._studio.project
        parts = self._face()
        project.end_trials()
        project.settle(parts)

        def run() -> None:
            self.chosen = [shapes.add_shape(project, parts, name, action, drivers)]

        self._try(run)

    def record(self) -> None:
        """Have strokes go to the chosen shape; again has them go to the clay."""
        part, one = self.part, self.last
        assert part is not None
        assert one is not None
        self.record_on("" if shapes.recorded_shape(part) == one.id else one.id)

    def record_on(self, shape_id: str) -> None:
        """Have strokes go to a shape, or to the clay ("")."""
        self._try(lambda: shapes.record_shape(self._studio.project, shape_id))

    def rename(self, name: str) -> None:
        """Give the chosen shape another name."""
        one = self.last
        if one is not None and name.strip() and name.strip() != one.name:
            self._try(lambda: shapes.rename_shape(self._studio.project, one.id, name))

    def set_action(self, action: str) -> None:
        """Say which action of the coding the chosen shape is."""
        one = self.last
        if one is not None and action != one.shape.action:
            self._try(lambda: shapes.rename_shape(self._studio.project, one.id, one.name, action))

    def correct(self) -> None:
        """A correction of the chosen shapes as they are dialled now, recorded on."""
        held = self.shapes
        some = self.some
        if len(some) < 2:
            some = [key for key, one in held.items() if one.dial and not one.shape.drivers]
        name = " + ".join(held[key].name for key in some)

        def run() -> None:
            self.add(name, drivers=shapes.drivers_now(self._studio.project.scene, some))

        self._try(run)

    def dial_and_correct(self, shape_ids: Collection[str]) -> None:
        """Some shapes wholly there and all others at rest, and a correction of them, recorded on: two steps."""
        held = self.shapes
        dials = {key: float(key in shape_ids) for key, one in held.items() if not one.shape.drivers}
        names = " + ".join(held[key].name for key in shape_ids)
        if self._try(lambda: shapes.dial(self._studio.project, dials, f"Show {names}")):
            self.chosen = list(shape_ids)
            if len(self.chosen) > 1:
                self.correct()
            else:
                self.record_on(self.chosen[0])

    def between(self) -> None:
        """An in-between of the chosen shape where it is dialled now, recorded on."""
        one = self.last
        assert one is not None
        self._try(
            lambda: self.add(f"{one.name} at {100 * one.dial:.0f} %", drivers=(shapes.between_driver(one),))
        )

    def correct_joint(self) -> None:
        """A correction of the chosen joint as it is turned now, recorded on."""
        part = self.part
        assert part is not None
        name = self._desk.rigging.chosen
        self._try(lambda: self.add(f"{name} turned", drivers=shapes.joint_drivers(part, [name])))

    def by_hand(self) -> None:
        """Give the chosen correction a dial of its own."""
        one = self.last
        assert one is not None
        self._try(lambda: shapes.set_drivers(self._studio.project, one.id, ()))

    def soften(self) -> None:
        """Have the chosen correction come and go gently, or evenly."""
        one = self.last
        assert one is not None
        soft = not all(driver.soft for driver in one.shape.drivers)
        drivers = tuple(Driver(d.source, d.points, d.rig, d.towards, soft) for d in one.shape.drivers)
        self._try(lambda: shapes.set_drivers(self._studio.project, one.id, drivers))

    def no_follower(self) -> str:
        """Why nothing can be done with what a shape follows."""
        if words := self.no_shape():
            return words
        one = self.last
        return "" if one is not None and one.shape.drivers else "The chosen shape follows no other."

    def of_pose(self) -> None:
        """Make a shape of what the limb in hand does."""
        layers = dict(self._desk.posing.posed_layers)
        self._desk.posing.let_go()
        offered = "Pose"
        name, fine = QInputDialog.getText(self._desk, "Pose as a shape", "Its name:", text=offered)
        if fine:
            self.make_of_pose(name, layers)

    def make_of_pose(self, name: str, layers: dict[str, str]) -> None:
        """Make a shape of what layers do that pose parts, by the parts' ids."""

        def run() -> None:
            self.chosen = [shape_sides.shape_of_pose(self._studio.project, name.strip() or "Pose", layers)]

        self._try(run)

    # -- sides and parts ------------------------------------------------------------------------

    def split(self) -> None:
        """Show the border between left and right, to split the chosen shape there; again leaves that."""
        view = self._desk.view
        view.take_mode(None if isinstance(view.mode, BorderMode) else BorderMode(view, self))

    def split_now(self) -> None:
        """Make the chosen shape's halves of it."""
        one, part = self.last, self.part
        if one is None or part is None:
            return

        def run() -> None:
            ids = shape_sides.split_shape(self._studio.project, part, one.id, self.border)
            self.chosen = list(ids)

        if self._try(run) and isinstance(self._desk.view.mode, BorderMode):
            self._desk.view.take_mode(None)

    def mirror(self) -> None:
        """A new shape that is the chosen one's mirror image."""
        one, part = self.last, self.part
        assert one is not None
        assert part is not None

        def run() -> None:
            key, left = shape_sides.mirror_shape(self._studio.project, part, one.id)
            self.chosen = [key]
            self._left_out(left)

        self._try(run)

    def even(self) -> None:
        """Have the chosen shape do on the right what it does on the left."""
        one, part = self.last, self.part
        assert one is not None
        assert part is not None
        self._try(lambda: self._left_out(shape_sides.even_shape(self._studio.project, part, one.id)))

    def _left_out(self, names: list[str]) -> None:
        if names:
            self._studio.say(f"{', '.join(names)}: no mirror image was found, nothing of it was mirrored.")

    def off_mask(self) -> None:
        """Take the chosen shape away where the part in hand is masked."""
        one, part = self.last, self.part
        assert one is not None
        assert part is not None
        self._try(lambda: shape_sides.clean_shape(self._studio.project, part, one.id))

    def take_along(self) -> None:
        """Have the other chosen parts go along with what the chosen shape does to the part in hand."""
        one, part = self.last, self.part
        assert one is not None
        assert part is not None
        project = self._studio.project
        others = self._others()
        blocked = [words for key in others if (words := self._studio.move_blocked(project.scene.part(key)))]
        if blocked:
            self._studio.say(blocked[0], "warning")
            return
        project.settle(others)
        self._try(
            lambda: shape_sides.take_along(project, part, one.id, others, lambda other: is_stiff(other, part))
        )

    def copy(self) -> None:
        """The chosen shape once more."""
        one = self.last
        assert one is not None

        def run() -> None:
            self.chosen = [shapes.copy_shape(self._studio.project, one.id)]

        self._try(run)

    def merge(self) -> None:
        """One shape that does what the chosen ones do now."""
        one = self.last
        assert one is not None
        some = self.some

        def run() -> None:
            self.chosen = [shapes.merge_shapes(self._studio.project, some, one.name)]

        self._try(run)

    def remove(self) -> None:
        """Take the chosen shapes away, and what follows them."""
        project, some = self._studio.project, self.some
        gone: list[str] = []

        def run() -> None:
            names = [self.shapes[key].name for key in some]
            with project.at_once(f"Remove {', '.join(names)}"):
                for key in some:
                    if key in shapes_of(project.scene):
                        gone.extend(shapes.remove_shape(project, key))

        if self._try(run) and gone:
            self._studio.say(f"{', '.join(gone)}, which followed, went as well.")

    def sheet(self) -> None:
        """Write all shapes on one page."""
        self._desk.registry.run("file.sheet")

    # -- telling --------------------------------------------------------------------------------

    def _tell(self) -> None:
        self.changed.emit()
        self._desk.view.repaint_over()


def as_action(text: str) -> tuple[str, str]:
    """A name as it was given, without the number of the coding; and that number, "" for none."""
    name = " ".join(text.split())
    for key, one in ACTIONS.items():
        if name in (f"{one.name} ({key})", one.name):
            return one.name, key
    return name, ""
