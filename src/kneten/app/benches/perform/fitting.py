"""Joints found from the form, shown before they are taken: what was not found is asked for, what is off is dragged."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QPointF, Qt, Signal
from PySide6.QtGui import QColor, QPainter

from kneten.app.benches.perform.rig_mode import paint_bones
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dragged, label, let_go
from kneten.core.arrays import F64, Progress
from kneten.core.pose.fitter import KINDS, Fit
from kneten.core.pose.middles import HollowError, Inside
from kneten.core.pose.rig import Joint, RigError, Vector, as_vector
from kneten.document.fitting import fitted, inside_of, standing
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk


class Fitting(QObject):
    """Joints that were found for the part in hand, until they are taken.

    Attributes
    ----------
    kind : str
        What kind of body it is, one of `KINDS`.
    joints : tuple of Joint
        As they are shown.
    asks : tuple of str
        Ends of the body that were not found and may be pointed at.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk, self._studio = desk, desk.studio
        self.kind = "biped"
        self.joints: tuple[Joint, ...] = ()
        self.asks: tuple[str, ...] = ()
        self._pins: dict[str, Vector] = {}
        self._moved: dict[str, Vector] = {}
        self._skipped: set[str] = set()
        self._inside: Inside | None = None
        self._of: tuple[object, ...] = ()
        for signal in (desk.studio.project_changed, desk.studio.history_changed):
            signal.connect(self._outdate)

    # -- what there is --------------------------------------------------------------------------

    @property
    def part(self) -> Part | None:
        """The part whose joints are shown."""
        part = self._studio.project.active
        return part if part is not None and self.joints and _state(part) == self._of else None

    def none_shown(self) -> str:
        """Why there is nothing to take."""
        return "" if self.part is not None else "No joints are shown: find them first."

    def none_asked(self) -> str:
        """Why there is nothing to skip."""
        return self.none_shown() or ("" if self.asks else "Nothing is asked for.")

    def words(self) -> str:
        """What is shown and asked, for the user."""
        if self.part is None:
            return ""
        kind = KINDS[self.kind].name.lower()
        found = (
            f"{len(self.joints)} joints of a {kind}"
            if kind[0] not in "aeiou"
            else f"{len(self.joints)} joints"
        )
        if self.asks:
            return f"{found}. Press on the clay where its {spoken(self.asks[0])} is, or go on without."
        return f"{found}. Drag what is off, then take them."

    # -- finding --------------------------------------------------------------------------------

    def choose(self, kind: str) -> None:
        """Say what kind of body it is."""
        self.kind = kind
        self.changed.emit()

    def find(self) -> None:
        """Find the joints of the part in hand, and show them."""
        part = self._studio.project.active
        assert part is not None
        self._pins, self._moved, self._skipped = {}, {}, set()
        self._inside = None
        self._search(part)

    def _search(self, part: Part) -> None:
        """Find joints with what was pointed at so far, on another thread."""
        studio, kind, pins, inside = self._studio, self.kind, dict(self._pins), self._inside
        clay = standing(part) if inside is None else None

        def work(progress: Progress) -> tuple[Inside, Fit] | str:
            try:
                body = inside
                if body is None:
                    assert clay is not None
                    body = inside_of(clay, progress)
                progress.report(0.7, "Finding the joints")
                return body, fitted(part, body, kind, pins)
            except (HollowError, RigError) as error:
                return f"{part.name} gets no joints: {error}."

        def land(found: tuple[Inside, Fit] | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
                return
            self._inside, fit = found
            self._of = _state(part)
            self.asks = tuple(name for name in fit.asks if name not in self._skipped)
            self.joints = tuple(
                replace(joint, place=self._moved.get(joint.name, joint.place)) for joint in fit.joints
            )
            view = self._desk.view
            if not isinstance(view.mode, FitMode):
                view.take_mode(FitMode(view, self))
            self._tell()

        studio.start("Finding the joints", work, land, [part])

    def point_at(self, place: F64) -> None:
        """Say where what is asked for is, (3,) in the scene, and find the joints anew."""
        part = self.part
        assert part is not None
        self._pins[self.asks[0]] = as_vector(place)
        self._search(part)

    def skip(self) -> None:
        """The body does not have what is asked for, nor that of the other side."""
        name = spoken(self.asks[0]).split()[-1]
        gone = {ask for ask in self.asks if spoken(ask).split()[-1] == name}
        self._skipped |= gone
        self.asks = tuple(ask for ask in self.asks if ask not in gone)
        self._tell()

    def with_moved(self, number: int, place: F64) -> tuple[Joint, ...]:
        """The joints, one of them elsewhere (3,) in the part's axes, its twin as well."""
        out = list(self.joints)
        twin = out[number].twin if self._desk.rigging.both else -1
        if twin == number:
            place = place * [0.0, 1.0, 1.0]
        out[number] = replace(out[number], place=as_vector(place))
        if twin >= 0 and twin != number:
            out[twin] = replace(out[twin], place=as_vector(place * [-1.0, 1.0, 1.0]))
        return tuple(out)

    def move(self, joints: tuple[Joint, ...]) -> None:
        """Show joints elsewhere; they stay there whatever else is found."""
        for old, new in zip(self.joints, joints, strict=True):
            if old.place != new.place:
                self._moved[new.name] = new.place
        self.joints = joints
        self._tell()

    def take(self) -> None:
        """Give the part these joints, with weights: one step."""
        part, joints = self.part, self.joints
        assert part is not None
        self.drop()
        self._desk.rigging.give(part, joints, f"Rig {part.name}")

    def drop(self) -> None:
        """Show no joints any more."""
        self.joints, self.asks, self._inside = (), (), None
        view = self._desk.view
        if isinstance(view.mode, FitMode):
            view.take_mode(None)
        self._tell()

    def _outdate(self) -> None:
        if self.joints and self.part is None:
            self.drop()

    def _tell(self) -> None:
        self.changed.emit()
        self._desk.view.hint_changed.emit()
        self._desk.view.repaint_over()


def spoken(name: str) -> str:
    """An end of a body as it is said: left hand."""
    for side in (" left", " right"):
        if name.endswith(side):
            return f"{side.strip()} {name.removesuffix(side).lower()}"
    return name.lower()


def _state(part: Part) -> tuple[object, ...]:
    """What joints were found for: other clay has others."""
    return part.id, part.mesh.topology.uid, part.mesh.shape_version, part.transform


class FitMode(Mode):
    """Joints that were found are looked at, dragged, asked for."""

    key = "rig.fit"

    def __init__(self, view: Canvas, fitting: Fitting) -> None:
        super().__init__(view)
        self._fitting = fitting

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do."""
        asks = self._fitting.asks
        if asks:
            return f"Press on the clay where its {spoken(asks[0])} is; S: it has none · Enter takes the joints as they are · Esc leaves"
        return "Drag a joint that is off; Enter takes them all · Esc leaves"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on a joint drags it, one on the clay says where what is asked for is."""
        fitting = self._fitting
        part = fitting.part
        if part is None:
            return None
        places = part.transform.to_scene(np.array([joint.place for joint in fitting.joints]))
        number = self.near(places, press.x, press.y)
        if number >= 0:
            return self._drag(press, part, number, places[number])
        found = self.view.part_at(press.x, press.y)
        return (
            self._point(found[1]) if found is not None and found[0].id == part.id and fitting.asks else None
        )

    def _drag(self, press: Pointer, part: Part, number: int, place: F64) -> Hand:
        fitting, first = self._fitting, self._fitting.joints
        start = self.on_plane(press.x, press.y, place)

        def change(event: Pointer) -> tuple[Joint, ...]:
            to = place + self.on_plane(event.x, event.y, place) - start
            return fitting.with_moved(number, part.transform.to_part(to[None])[0])

        def show(joints: tuple[Joint, ...]) -> None:
            fitting.joints = joints
            self.view.repaint_over()

        def keep(joints: tuple[Joint, ...]) -> None:
            fitting.joints = first
            fitting.move(joints)

        yield from dragged(press, change, show, keep, lambda: show(first))

    def _point(self, place: F64) -> Hand:
        if (yield from let_go()) is not None and self._fitting.part is not None:
            self._fitting.point_at(place)

    def pressed_key(self, key: int) -> bool:
        """Enter takes the joints, S says that what is asked for is not there."""
        does: dict[int, Callable[[], None]] = {
            Qt.Key.Key_Return: self._fitting.take,
            Qt.Key.Key_Enter: self._fitting.take,
        }
        if self._fitting.asks:
            does[Qt.Key.Key_S] = self._fitting.skip
        if key not in does or self._fitting.part is None:
            return False
        does[key]()
        return True

    def paint(self, painter: QPainter) -> None:
        """Paint the joints that were found."""
        part, joints = self._fitting.part, self._fitting.joints
        if part is None:
            return
        colour = QColor(self.view.ring_colour)
        at = self.pixels(part.transform.to_scene(np.array([joint.place for joint in joints])))
        paint_bones(painter, joints, at, colour, colour, -1)
        if self._fitting.asks:
            words = f"{spoken(self._fitting.asks[0]).capitalize()}?"
            label(painter, self.view, QPointF(float(at[:, 0].max()) + 16.0, float(at[:, 1].min())), words)

    def leave(self) -> None:
        """The mode ends: what was found is let go."""
        if self._fitting.joints:
            self._fitting.joints, self._fitting.asks = (), ()
            self._fitting.changed.emit()
