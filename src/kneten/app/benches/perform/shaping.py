"""Shapes in hand: dialled, recorded, corrected, split, mirrored, played."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Mapping
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.perform.held_shapes import HeldShapes
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.shapes import Driver, ShapeError
from kneten.document import shapes
from kneten.document.driving import FoundShape, shapes_of
from kneten.document.opening import StackError
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
        return self.blocked([one])

    def none(self) -> str:
        """Why nothing can be done with all shapes."""
        held = list(self.shapes.values())
        if not held:
            return self.no_shape()
        return self.blocked(held)

    def blocked(self, some: list[FoundShape]) -> str:
        project = self._studio.project
        for key in dict.fromkeys(key for one in some for key in one.layers):
            if words := self._studio.stroke_blocked(project.scene.part(key)):
                return words
        return ""

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
        if one is None or one.shape.drivers or self.blocked([one]):
            return
        if not self._clay.holds([shape_id]):
            self._clay.stop()
        self._clay.show({shape_id: value})
        self.changed.emit()

    def show_alone(self, shape_ids: Collection[str]) -> None:
        """Show some shapes wholly, and all others at rest, with what follows them."""
        held = self.shapes
        self.show_at({key: float(key in shape_ids) for key, one in held.items() if not one.shape.drivers})

    def show_at(self, dials: Mapping[str, float]) -> None:
        """Show shapes, by their ids, at other dials, with what follows them."""
        if self.blocked(list(self.shapes.values())):
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
        if words := self.blocked([one]):
            self._studio.say(words, "warning")
            self._tell()
            return
        self.attempt(
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
        self.attempt(lambda: shapes.neutral(self._studio.project, [part.id]))

    def show_it(self) -> None:
        """Dial what the chosen shape follows, or itself, to where it is seen wholly."""
        one = self.last
        assert one is not None
        scene = self._studio.project.scene
        dials = shapes.where_seen(scene, one.id)
        if not dials:
            self._studio.say(f"{one.name} follows joints: pose them, or take the pose in which it was made.")
            return
        self.attempt(lambda: shapes.dial(self._studio.project, dials, f"Show {one.name}"))

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

    def attempt(self, run: Callable[[], object]) -> bool:
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

        self.attempt(run)

    def record(self) -> None:
        """Have strokes go to the chosen shape; again has them go to the clay."""
        part, one = self.part, self.last
        assert part is not None
        assert one is not None
        self.record_on("" if shapes.recorded_shape(part) == one.id else one.id)

    def record_on(self, shape_id: str) -> None:
        """Have strokes go to a shape, or to the clay ("")."""
        self.attempt(lambda: shapes.record_shape(self._studio.project, shape_id))

    def rename(self, name: str) -> None:
        """Give the chosen shape another name."""
        one = self.last
        if one is not None and name.strip() and name.strip() != one.name:
            self.attempt(lambda: shapes.rename_shape(self._studio.project, one.id, name))

    def set_action(self, action: str) -> None:
        """Say which action of the coding the chosen shape is."""
        one = self.last
        if one is not None and action != one.shape.action:
            self.attempt(lambda: shapes.rename_shape(self._studio.project, one.id, one.name, action))

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
