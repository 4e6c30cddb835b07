"""Armatures in the view: balls dragged out of balls, moved, turned, sized; the skin follows at once."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, label, line
from kneten.core.arrays import F64
from kneten.core.live.armature import Armature
from kneten.core.live.clay import RecipeError
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

Reshape = Callable[[Pointer], Armature]
"""The armature that a place of the pointer makes."""


class ArmatureMode(Mode):
    """Works on the armature in hand.

    Attributes
    ----------
    held : int
        Key of the ball that was touched last; -1 for none.
    hot : int
        Key of the ball under the pointer.
    """

    key = "armature.edit"
    hint = (
        "Drag a ball to move it; Shift pulls a new ball out of it, Ctrl takes along what hangs on it, "
        "Ctrl+Shift turns that. + and - size the ball, Page up and Page down its limb; H hangs it on the ball "
        "under the pointer; click a limb to put a ball in; Delete takes one out"
    )

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self.held = -1
        self.hot = -1

    @property
    def part(self) -> Part | None:
        """The armature in hand."""
        part = self.studio.project.active
        return part if part is not None and isinstance(part.recipe, Armature) else None

    def now(self) -> Armature | None:
        """The armature as it is shown: while a ball is dragged, as it would be."""
        part = self.part
        if part is None:
            return None
        shown = self.view.preview.get(part.id, part)
        return shown.recipe if isinstance(shown.recipe, Armature) else None

    # -- where balls are ------------------------------------------------------------------------

    def _balls(self, armature: Armature) -> tuple[F64, F64]:
        """Places (n, 3) in the scene and radii in pixels."""
        part = self.part
        assert part is not None
        places = part.transform.to_scene(np.array([j.place for j in armature.joints]))
        view = self.view
        sizes = [
            j.radius * part.transform.scale / view.camera.pixel_size(p, view.high)
            for j, p in zip(armature.joints, places, strict=True)
        ]
        return places, np.array(sizes)

    def ball_at(self, x: float, y: float) -> int:
        """Key of the ball under a pixel: the one whose middle is nearest among those that hold it."""
        armature = self.now()
        if armature is None:
            return -1
        places, sizes = self._balls(armature)
        at = self.pixels(places)
        far = np.hypot(at[:, 0] - x, at[:, 1] - y)
        share = far / np.maximum(sizes, 8.0)
        best = int(np.argmin(share))
        return armature.joints[best].key if share[best] <= 1.0 else -1

    def limb_at(self, x: float, y: float) -> tuple[int, float]:
        """Key of the ball a limb under a pixel leads to, and how far along the limb; -1 for none."""
        armature = self.now()
        if armature is None:
            return -1, 0.0
        places, _ = self._balls(armature)
        at = self.pixels(places)
        row = {j.key: i for i, j in enumerate(armature.joints)}
        best, found = 9.0, (-1, 0.0)
        for joint in armature.joints:
            if joint.parent not in row:
                continue
            a, b = at[row[joint.parent]], at[row[joint.key]]
            way = b - a
            t = float(np.clip((np.array([x, y]) - a) @ way / max(float(way @ way), 1e-9), 0, 1))
            off = float(np.hypot(*(a + t * way - [x, y])))
            if off < best and 0.1 < t < 0.9:
                best, found = off, (joint.key, t)
        return found

    # -- hands ----------------------------------------------------------------------------------

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part, armature = self.part, self.now()
        if part is None or armature is None:
            return None
        key = self.ball_at(press.x, press.y)
        shift = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        ctrl = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if key < 0:
            limb, share = self.limb_at(press.x, press.y)
            if limb >= 0:
                changed, new = armature.inserted(limb, share)
                self.held = new
                self.view.recasting.land(part, changed, "Ball in a limb of")
                return self._swallow()
            return None
        self.held = key
        if self.view.held_key == "feel":
            return self._size(part, armature, key, press)
        if shift and not ctrl:
            return self._pull_out(part, armature, key, press)
        if shift and ctrl:
            return self._turn(part, armature, key, press)
        return self._move(part, armature, key, press, subtree=ctrl)

    @property
    def both(self) -> bool:
        """Whether the other side follows."""
        return self.studio.project.settings.symmetry[0]

    def _swallow(self) -> Hand:
        while True:
            event = yield None
            if event is None or event.kind in ("release", "cancel"):
                return

    def _local(self, part: Part, place: F64) -> tuple[float, float, float]:
        x, y, z = (float(v) for v in part.transform.to_part(place[None])[0])
        return x, y, z

    def _follow(self, part: Part, name: str, make: Reshape) -> Hand:
        """Preview while the pointer moves; one step at the release."""
        recasting = self.view.recasting
        changed = None
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                recasting.cancel()
                return
            try:
                changed = make(event)
            except RecipeError as error:
                self.studio.say(f"{error}.", "warning")
                continue
            if event.kind == "release":
                break
            recasting.preview(part, changed)
        recasting.land(part, changed, name)

    def _move(self, part: Part, armature: Armature, key: int, press: Pointer, subtree: bool) -> Hand:
        start = part.transform.to_scene(np.array(armature.joint(key).place)[None])[0]
        grip = self.on_plane(press.x, press.y, start)

        def make(event: Pointer) -> Armature:
            place = start + self.on_plane(event.x, event.y, start) - grip
            return armature.moved(key, self._local(part, place), subtree, self.both)

        return self._follow(part, "Move limb of" if subtree else "Move ball of", make)

    def _pull_out(self, part: Part, armature: Armature, key: int, press: Pointer) -> Hand:
        joint = armature.joint(key)
        start = part.transform.to_scene(np.array(joint.place)[None])[0]

        def make(event: Pointer) -> Armature:
            # A ball pulled out keeps its size; Ctrl while pulling makes it as large as it is pulled far.
            from PySide6.QtWidgets import QApplication

            place = self.on_plane(event.x, event.y, start)
            radius = joint.radius
            if QApplication.keyboardModifiers() & Qt.KeyboardModifier.ControlModifier:
                far = float(np.linalg.norm(place - start)) / part.transform.scale
                radius = min(max(far * 0.5, joint.radius * 0.15), joint.radius * 2)
            changed, new = armature.drag_out(key, self._local(part, place), radius, self.both)
            self.held = new
            return changed

        return self._follow(part, "Pull a ball out of", make)

    def _turn(self, part: Part, armature: Armature, key: int, press: Pointer) -> Hand:
        axis = part.transform.way_to_part(self.view.camera.axes()[2])

        def make(event: Pointer) -> Armature:
            # From the first movement on: the press lies on the ball itself.
            degrees = (event.x - press.x) * -0.45
            return armature.turned(key, axis, degrees, self.both)

        return self._follow(part, "Turn limb of", make)

    def _size(self, part: Part, armature: Armature, key: int, press: Pointer) -> Hand:
        def make(event: Pointer) -> Armature:
            factor = float(np.exp((event.x - press.x) * 0.01))
            return armature.scaled(key, factor, False, self.both)

        return self._follow(part, "Size a ball of", make)

    def size_by(self, factor: float, subtree: bool = False) -> None:
        """Make the ball held larger or smaller; with `subtree` all that hangs on it, spread with it."""
        part, armature = self.part, self.now()
        if part is not None and armature is not None and self.held >= 0:
            name = "Size a limb of" if subtree else "Size a ball of"
            self.view.recasting.land(part, armature.scaled(self.held, factor, subtree, self.both), name)

    def attach(self, parent: int) -> None:
        """Hang the ball held on another."""
        part, armature = self.part, self.now()
        if part is not None and armature is not None and self.held >= 0:
            try:
                self.view.recasting.land(part, armature.attached(self.held, parent), "Hang a limb of")
            except RecipeError as error:
                self.studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")

    def delete(self, subtree: bool = False) -> None:
        """Take the ball held out; what hung on it moves up, or goes too."""
        part, armature = self.part, self.now()
        if part is None or armature is None or self.held < 0:
            return
        try:
            changed = armature.without(self.held, subtree)
        except (RecipeError, KeyError) as error:
            self.studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
            return
        self.held = -1
        self.view.recasting.land(part, changed, "Delete a ball of")

    def pressed_key(self, key: int) -> bool:
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.delete()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_BracketRight):
            self.size_by(1.1)
        elif key in (Qt.Key.Key_Minus, Qt.Key.Key_BracketLeft):
            self.size_by(1 / 1.1)
        elif key == Qt.Key.Key_PageUp:
            self.size_by(1.1, subtree=True)
        elif key == Qt.Key.Key_PageDown:
            self.size_by(1 / 1.1, subtree=True)
        elif key == Qt.Key.Key_H and self.hot >= 0 and self.hot != self.held:
            self.attach(self.hot)
        else:
            return False
        return True

    def hover(self, x: float, y: float) -> bool:
        hot = self.ball_at(x, y)
        if hot != self.hot:
            self.hot = hot
            return True
        return False

    # -- painting -------------------------------------------------------------------------------

    def paint(self, painter: QPainter) -> None:
        armature = self.now()
        if armature is None:
            return
        places, sizes = self._balls(armature)
        at = self.pixels(places)
        row = {j.key: i for i, j in enumerate(armature.joints)}
        accent, quiet = QColor(self.view.ring_colour), QColor(self.view.text_colour)
        quiet.setAlpha(120)
        for joint in armature.joints:
            if joint.parent in row:
                line(painter, at[[row[joint.parent], row[joint.key]]], quiet, 1.4)
        for joint, place, size in zip(armature.joints, at, sizes, strict=True):
            strong = joint.key in (self.held, self.hot)
            # The twin of the ball held is marked along.
            also = self.both and self.held >= 0 and joint.twin == self.held and joint.key != self.held
            colour = accent if strong or also else quiet
            painter.setBrush(Qt.BrushStyle.NoBrush)
            pen = QPen(colour, 2.0 if strong else 1.2)
            if also and not strong:
                pen.setDashPattern([3, 3])
            painter.setPen(pen)
            painter.drawEllipse(QPointF(*place), size, size)
            painter.setBrush(colour)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawEllipse(QPointF(*place), 2.2, 2.2)
        if self.hot in row and armature.joint(self.hot).name:
            place = at[row[self.hot]]
            label(
                painter,
                self.view,
                QPointF(*place) + QPointF(sizes[row[self.hot]], 0),
                armature.joint(self.hot).name,
            )

    def leave(self) -> None:
        self.view.recasting.cancel()
