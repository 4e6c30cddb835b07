"""Cuts a path into dabs, each as the stroke and the press on its tip want it, and leaves them."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from kneten.app.view.aim import Aim, pressed
from kneten.core.arrays import F64
from kneten.core.brush_path import EvenSpacing, PenPoint, Touch
from kneten.core.brushes.press import FRONT
from kneten.core.brushes.tool import BrushSettings, Dab, Strip
from kneten.core.stroke import Stroke

ONE_DAB = 1.0
"""What a single dab is worth: as much as dabs over one radius of stroke."""

SINGLE = ("spaced", "scattered")
"""Kinds of stroke whose dabs stand by themselves."""

BEHIND = 1.3
"""How much longer the piece of the way is that a press is unrolled over than what fades at its front."""


class Chance:
    """What chance makes of each dab; the same stroke comes out alike whenever it is drawn."""

    def __init__(self, settings: BrushSettings) -> None:
        self._tip = settings.tip
        self._random = np.random.default_rng(7)

    def angle(self) -> float:
        """By how much a press is turned besides, in radians."""
        tip = self._tip
        share = 1.0 if tip.turned == "chance" else tip.turn_chance
        more = share * float(self._random.uniform(-np.pi, np.pi)) if share else 0.0
        return float(np.radians(tip.turn)) + more

    def size(self) -> float:
        """A factor for the radius: between half and one and a half of it at most."""
        share = self._tip.size_chance
        return 1.0 + share * float(self._random.uniform(-0.5, 0.5)) if share else 1.0

    def strength(self) -> float:
        """A factor for the strength: weaker, or the other way round."""
        tip = self._tip
        much = 1.0 - tip.strength_chance * float(self._random.uniform(0, 1)) if tip.strength_chance else 1.0
        return -much if tip.side_chance and self._random.random() < 0.5 else much

    def mirrored(self) -> bool:
        """Whether a press is turned over."""
        return bool(self._tip.flip_chance and self._random.random() < 0.5)

    def aside(self) -> tuple[float, float]:
        """An angle, and how far from the middle: even over a disc of radius 1."""
        return float(self._random.uniform(0, 2 * np.pi)), float(np.sqrt(self._random.uniform(0, 1)))


@dataclass
class Ahead:
    """A dab that waits for the next one to know where it leads."""

    touch: Touch
    along: F64
    radius: float
    travel: float


class Dabs:
    """The dabs of one stroke."""

    def __init__(self, stroke: Stroke, aim: Aim, settings: BrushSettings) -> None:
        self._stroke = stroke
        self._aim = aim
        self._settings = settings
        self._single = settings.kind in SINGLE
        share = max(settings.spacing, 2.0) if self._single else settings.spacing
        self._spacing = EvenSpacing(share)
        self._jitter = settings.jitter or (1.0 if settings.kind == "scattered" else 0.0)
        self._chance = Chance(settings)
        self._travel = 0.0
        self._before: tuple[float, float, float] | None = None
        self._speed = 0.0
        tip = settings.tip
        press = stroke.press is not None
        # Presses may stand out far: over them the way would be longer than over the clay.
        self._found = stroke.found_at if stroke.tool.presses else None
        self._rolls = (
            stroke.press is not None
            and stroke.press.aside is None
            and tip.rolled
            and stroke.tool.presses
            and not self._single
        )
        # Where a press lies along the stroke, the dab waits until it is known where that leads.
        self._waits = press and (tip.turned == "stroke" or self._rolls)
        self._ahead: Ahead | None = None
        self._way: list[tuple[F64, F64, float]] = []
        self._rolled = 0.0

    def along(self, points: Iterator[PenPoint]) -> Iterator[None]:
        """Leave the dabs that these places of the path call for; a pause after each place."""
        for point in points:
            for touch, along in self._spacing.add(self._aim.touch(point, self._found)):
                self._travel += float(np.sqrt(along @ along))
                radius = touch.radius * self._narrowed(point)
                if self._jitter:
                    moved = self._strewn(touch)
                    if moved is None:
                        continue
                    touch = moved
                self._come(Ahead(touch, along, radius, self._travel))
            yield

    def over(self, touches: Iterator[Touch]) -> Iterator[None]:
        """Leave the dabs that places of the clay call for, one after the other; a pause after each."""
        for place in touches:
            for touch, along in self._spacing.add(place):
                self._travel += float(np.sqrt(along @ along))
                self._come(Ahead(touch, along, touch.radius, self._travel))
            yield

    def end(self) -> None:
        """Leave what has waited for more of the path."""
        if self._ahead is not None:
            last, self._ahead = self._ahead, None
            if self._rolls and len(self._way) > 0:
                self._roll(last, last.along)
            else:
                self._leave(last)

    def _come(self, dab: Ahead) -> None:
        if not self._waits:
            self._leave(dab)
            return
        before, self._ahead = self._ahead, dab
        if not dab.along.any():
            # The path left the clay, and goes on elsewhere.
            if before is not None:
                self._ahead = before
                self.end()
                self._ahead = dab
            self._way.clear()
            return
        if before is None:
            return
        way = before.along + dab.along
        if self._rolls:
            self._roll(before, way)
        else:
            self._leave(replace(before, along=way))

    def _roll(self, dab: Ahead, way: F64) -> None:
        """Unroll the press as far as a place of the path, where the stroke goes along `way` (3,)."""
        length = float(np.sqrt(way @ way))
        if length <= 0:
            return
        if self._way:
            far = dab.touch.point - self._way[-1][0]
            self._rolled += float(np.sqrt(far @ far)) / dab.radius
        self._way.append((dab.touch.point, way / length, self._rolled))
        reach = BEHIND * FRONT + 2.0 * self._settings.spacing
        while len(self._way) > 2 and self._way[1][2] < self._rolled - reach:
            self._way.pop(0)
        if len(self._way) < 2:
            return
        places = np.array([place for place, _, _ in self._way])
        held = Strip(
            np.stack([places, np.array([on for _, on, _ in self._way])], 1),
            np.array([travel for _, _, travel in self._way]),
        )
        self._leave(
            replace(dab, touch=replace(dab.touch, point=0.5 * (places[0] + places[-1])), along=way), held
        )

    def _leave(self, dab: Ahead, held: Strip | None = None) -> None:
        settings, touch = self._settings, dab.touch
        sign = -1.0 if settings.reverse else 1.0
        radius = dab.radius * (self._chance.size() if held is None else 1.0)
        strength = sign * settings.strength * pressed(settings, touch.pressure)[1]
        if held is None:
            strength *= self._chance.strength()
        self._stroke.dab(
            Dab(
                touch.point,
                dab.along,
                touch.view,
                radius,
                strength,
                ONE_DAB if self._single else settings.spacing,
                dab.travel,
                detail=self._aim.detail(replace(touch, radius=radius)),
                up=self._aim.up(touch.way if settings.tip.turned == "pen" else 0.0),
                turn=self._chance.angle() if held is None else 0.0,
                mirrored=self._chance.mirrored() if held is None else False,
                strip=held,
            )
        )

    def _narrowed(self, point: PenPoint) -> float:
        """What the stroke's speed leaves of the radius: half of it from 3,000 pixels a second on."""
        share = self._settings.speed_size
        if not share:
            return 1.0
        now = time.perf_counter()
        if self._before is not None:
            far, took = np.hypot(point.x - self._before[0], point.y - self._before[1]), now - self._before[2]
            if took > 0.004:
                self._speed += 0.3 * (float(far) / took - self._speed)
                self._before = (point.x, point.y, now)
        else:
            self._before = (point.x, point.y, now)
        return 1.0 - 0.5 * share * min(self._speed / 3000.0, 1.0)

    def _strewn(self, touch: Touch) -> Touch | None:
        """A place on the clay beside another, at random."""
        angle, far = self._chance.aside()
        place = self._aim.part.transform
        at = place.to_scene(touch.point[None])[0]
        axes = self._aim.camera.axes()
        off = (axes[0] * np.cos(angle) + axes[1] * np.sin(angle)) * far * self._jitter
        spot = at + off * touch.radius * place.scale
        x, y, _ = self._aim.camera.project(spot[None], self._aim.width, self._aim.height)[0]
        return self._aim.touch(PenPoint(float(x), float(y), touch.pressure, way=touch.way), self._found)
