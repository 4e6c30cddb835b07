"""Handles of the deformers in the view: the range along the axis, the amount, the points of a lattice."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line
from kneten.core.arrays import F64
from kneten.core.deform import KINDS, LATTICE, lattice_points

if TYPE_CHECKING:
    from kneten.app.benches.form.shaping_cards import DeformCard
    from kneten.app.view.canvas import Canvas

PULL = 260.0
"""Pixels dragged to go from nothing to half of a deformer's greatest amount."""


class DeformMode(Mode):
    """Drags what the Deform card is set to."""

    key = "form.deform"

    def __init__(self, view: Canvas, card: DeformCard) -> None:
        super().__init__(view)
        self._card = card
        self._box: tuple[F64, F64] | None = None

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do, by the kind of deformer."""
        if self._lattice:
            return "Drag the points of the lattice; Escape ends"
        return "Drag the ends of the range along the axis, and the large point sideways for the amount; Escape ends"

    @property
    def _lattice(self) -> bool:
        return bool(self._card.kind.currentData() == "lattice")

    def _points(self) -> F64:
        """The handles in the scene: the lattice's points; or both ends of the range, and the amount."""
        low, high = self._box or self._card.box()
        if self._lattice:
            return lattice_points(low, high) + self._card.offsets
        axis = int(self._card.axis.currentData())
        middle = (low + high) / 2
        points = np.stack([middle] * 3)
        start, end = sorted((self._card.start.value() / 100, self._card.end.value() / 100))
        points[:, axis] = low[axis] + (high - low)[axis] * np.array([start, end, 1.18])
        return points

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        if not self._card.parts():
            return None
        handle = self.near(self._points(), press.x, press.y)
        if handle < 0:
            return None
        if self._lattice:
            return self._drag_point(press, handle)
        if handle == 2:
            return self._drag_amount(press)
        return self._drag_end(press, handle)

    def _drag_amount(self, press: Pointer) -> Hand:
        card = self._card
        _, _, _, low, high = KINDS[str(card.kind.currentData())]
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel":
                    card.amount.set_value(0.0)
                    card.keep()
                    return
                share = (event.x - press.x) / PULL * 0.5
                card.amount.set_value(float(np.clip(share * (high if share > 0 else -low), low, high)))
                if event.kind == "release":
                    card.keep()
                    return
                card.preview()
        finally:
            self.view.repaint_over()

    def _drag_end(self, press: Pointer, handle: int) -> Hand:
        card = self._card
        low, high = card.box()
        axis = int(card.axis.currentData())
        field = sorted((card.start, card.end), key=lambda f: f.value())[handle]
        while True:
            event = yield None
            if event is None:
                continue
            if event.kind == "cancel":
                return
            ends = np.stack([(low + high) / 2] * 2)
            ends[:, axis] = low[axis], high[axis]
            a, b = self.pixels(ends)
            way = b - a
            share = float((np.array([event.x, event.y]) - a) @ way / max(float(way @ way), 1e-9))
            field.set_value(float(np.clip(round(share * 100), 0, 100)))
            self.view.repaint_over()
            if event.kind == "release":
                return

    def _drag_point(self, press: Pointer, handle: int) -> Hand:
        card = self._card
        if not card.begin():
            return
        self._box = card.box()
        rest = lattice_points(*self._box)[handle]
        start = self.on_plane(press.x, press.y, rest)
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel":
                    card.offsets[:] = 0.0
                    card.keep()
                    return
                card.offsets[handle] = self.on_plane(event.x, event.y, rest) - start
                if event.kind == "release":
                    card.keep()
                    return
                card.preview()
        finally:
            self._box = None
            self.view.repaint_over()

    def paint(self, painter: QPainter) -> None:
        if not self._card.parts():
            return
        accent = QColor(self.view.ring_colour)
        at = self.pixels(self._points())
        if self._lattice:
            grid = at.reshape(LATTICE, LATTICE, LATTICE, 2)
            for axis in range(3):
                for row in np.moveaxis(grid, axis, 2).reshape(-1, LATTICE, 2):
                    line(painter, row, accent, 0.8)
            for spot in at:
                dot(painter, spot, accent, 4.0)
            return
        line(painter, at[[0, 1]], accent, 1.6)
        line(painter, at[[1, 2]], accent, 1.0, True)
        for spot in at[:2]:
            dot(painter, spot, accent, 5.0, False)
        dot(painter, at[2], accent, 6.5)
