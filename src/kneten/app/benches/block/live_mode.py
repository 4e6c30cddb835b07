"""Handles of live bodies in the view: sizes and inner share of primitives, points of a lathe."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.fields.quantities import length_text
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import REACH, Mode, dot, label, line
from kneten.core.arrays import F64
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

FLAT = ("disc", "plane")
APART = 2.0 * REACH
"""Pixels between grips: each can be pressed."""

INNER = ("tube", "torus", "cone", "eye")


@dataclass(frozen=True)
class Grip:
    """A point to drag.

    Attributes
    ----------
    name : str
    place : (3,) float64
        In the part's space.
    change : callable
        The recipe that a new place makes.
    """

    name: str
    place: F64
    change: Callable[[F64], OnItsOwn]


def grips_of(recipe: OnItsOwn) -> list[Grip]:
    """What can be dragged on a live body."""
    if isinstance(recipe, Lathe):
        return [_lathe_grip(recipe, k) for k in range(len(recipe.points))]
    if not isinstance(recipe, Primitive):
        return []
    axes = (0, 2) if recipe.shape in FLAT else (0, 1, 2)
    found = [_size_grip(recipe, axis) for axis in axes]
    if recipe.shape in INNER:
        found.append(_inner_grip(recipe))
    return found


def kept_apart(at: F64, middle: F64, least: float) -> F64:
    """Points (k, 2), each at least so far from those before it: moved away from a middle (2,), or aside where it lies there."""
    out = at.copy()
    for k in range(1, len(out)):
        way = out[k] - middle
        long = float(np.hypot(*way))
        way = way / long if long > 1.0 else np.array([np.cos(0.8 * k), np.sin(0.8 * k)])
        for _ in range(4 * len(out)):
            if np.hypot(*(out[:k] - out[k]).T).min() >= least:
                break
            out[k] += way * least / 2
    return out


def _size_grip(recipe: Primitive, axis: int) -> Grip:
    place = np.zeros(3)
    place[axis] = recipe.size[axis] / 2

    def change(new: F64) -> OnItsOwn:
        size = list(recipe.size)
        size[axis] = max(2 * abs(float(new[axis])), 0.01)
        return replace(recipe, size=(size[0], size[1], size[2]))

    return Grip(f"Size {'xyz'[axis]}", place, change)


def _inner_grip(recipe: Primitive) -> Grip:
    half = recipe.size[0] / 2
    # Out of the way of the size's own grip: at the tip of a cone, the rim of a tube, before an eye.
    high = {"cone": recipe.size[1] / 2, "tube": recipe.size[1] / 2}.get(recipe.shape, 0.0)
    front = recipe.size[2] / 2 if recipe.shape == "eye" else 0.0

    def change(new: F64) -> OnItsOwn:
        return replace(recipe, inner=float(np.clip(new[0] / half, 0.0, 1.0)))

    return Grip("Inner", np.array([recipe.inner * half, high, front]), change)


def _lathe_grip(recipe: Lathe, index: int) -> Grip:
    point = recipe.points[index]

    def change(new: F64) -> OnItsOwn:
        moved = replace(point, radius=max(float(new[0]), 0.0), height=float(new[1]))
        points = tuple(moved if k == index else p for k, p in enumerate(recipe.points))
        return replace(recipe, points=points)

    return Grip(
        "Sharp point" if point.sharp else "Point", np.array([point.radius, point.height, 0.0]), change
    )


class LiveMode(Mode):
    """Drags the grips of the live body in hand."""

    key = "live.edit"
    hint = "Drag a point: the body's size, its inner share, or the lathe's curve; numbers stand in the card"

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self.hot = -1

    @property
    def part(self) -> Part | None:
        """The live body in hand."""
        part = self.studio.project.active
        return part if part is not None and isinstance(part.recipe, Primitive | Lathe) else None

    def _now(self) -> tuple[Part, list[Grip]] | None:
        part = self.part
        if part is None:
            return None
        shown = self.view.preview.get(part.id, part)
        return part, grips_of(shown.recipe) if isinstance(shown.recipe, OnItsOwn) else []

    def _at(self, part: Part, grips: list[Grip]) -> F64:
        return part.transform.to_scene(np.array([g.place for g in grips]).reshape(-1, 3))

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        now = self._now()
        if now is None or self.studio.move_blocked(now[0]):
            return None
        part, grips = now
        hit = self._under(part, grips, press.x, press.y)
        return self._drag(part, grips[hit], press) if hit >= 0 else None

    def _shown(self, part: Part, grips: list[Grip]) -> F64:
        """Where grips are seen, (k, 2) pixels: none on another, however small the body is or whence it is looked at."""
        at = self.pixels(self._at(part, grips))
        if len(grips) == 0 or isinstance(part.recipe, Lathe):
            # A lathe's points make a curve: they stay on it.
            return at
        middle = self.pixels(part.transform.to_scene(np.zeros((1, 3))))[0]
        return kept_apart(at, middle, APART)

    def _under(self, part: Part, grips: list[Grip], x: float, y: float) -> int:
        """The grip at a pixel, or -1."""
        far = np.hypot(*(self._shown(part, grips) - [x, y]).T)
        return int(np.argmin(far)) if len(far) and far.min() < REACH else -1

    def _drag(self, part: Part, grip: Grip, press: Pointer) -> Hand:
        recasting = self.view.recasting
        start = part.transform.to_scene(grip.place[None])[0]
        grab = self.on_plane(press.x, press.y, start)
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                recasting.cancel()
                return
            place = start + self.on_plane(event.x, event.y, start) - grab
            changed = grip.change(part.transform.to_part(place[None])[0])
            if event.kind == "release":
                break
            recasting.preview(part, changed)
        recasting.land(part, changed, f"{grip.name} of")

    def hover(self, x: float, y: float) -> bool:
        now = self._now()
        hot = -1 if now is None else self._under(*now, x, y)
        if hot != self.hot:
            self.hot = hot
            return True
        return False

    def paint(self, painter: QPainter) -> None:
        now = self._now()
        if now is None:
            return
        part, grips = now
        at, places = self._shown(part, grips), self.pixels(self._at(part, grips))
        quiet = QColor(self.view.text_colour)
        shown = self.view.preview.get(part.id, part).recipe
        if isinstance(shown, Lathe):
            curve = shown.curve()
            scene = part.transform.to_scene(np.stack([curve[:, 0], curve[:, 1], np.zeros(len(curve))], -1))
            line(painter, self.pixels(scene), quiet, 1.2)
        for k, (grip, place) in enumerate(zip(grips, at, strict=True)):
            if not np.array_equal(place, places[k]):
                line(painter, np.array([places[k], place]), quiet, 1.0)
            dot(
                painter, place, self.view.ring_colour if k == self.hot else quiet, 6 if k == self.hot else 4.5
            )
            if k == self.hot:
                size = grip.place[int(np.argmax(np.abs(grip.place)))] * 2 * part.transform.scale
                text = grip.name
                if grip.name.startswith("Size"):
                    text += f" {length_text(float(size), self.studio.project.settings.unit)}"
                label(painter, self.view, QPointF(*place), text)

    def leave(self) -> None:
        self.view.recasting.cancel()
