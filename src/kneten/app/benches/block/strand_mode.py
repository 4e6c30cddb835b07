"""Strands in the view: drawn freely, on the surface or point by point, and their points edited."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line, nothing
from kneten.core.arrays import F64
from kneten.core.live.curves import catmull_rom, thinned
from kneten.core.live.strand import TAPERS, Knot, Strand, Strands
from kneten.core.transform import Transform
from kneten.document.placing import laid_on
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

WAYS = {"free": "in the picture's plane", "surface": "on the clay", "points": "point by point"}


class StrandMode(Mode):
    """Draws strands. Further ones go to the same part while its strand is in hand.

    Attributes
    ----------
    way : str
        free, surface or points.
    points : list
        What was clicked so far, in the scene.
    """

    hint = "Draw a strand in the picture's plane; where it begins on clay, at that depth"

    def __init__(self, view: Canvas, way: str) -> None:
        super().__init__(view)
        self.way = way
        self.key = f"strand.{way}"
        self.points: list[F64] = []
        self._beside = False
        self._drawn: list[F64] = []
        self._at: F64 | None = None
        if way == "surface":
            self.hint = "Draw on the clay: the strand lies on its surface"
        elif way == "points":
            self.hint = (
                "Click points, on clay or beside it; double click or Enter ends the strand, C closes it"
            )

    def _place(self, x: float, y: float) -> F64 | None:
        """The place in the scene that a pixel means."""
        if self.way == "surface":
            found = self.view.part_at(x, y)
            return None if found is None else found[1]
        if self.way == "points":
            found = self.view.part_at(x, y)
            if found is not None:
                return found[1]
        return self.on_plane(x, y, self._depth(x, y))

    def _depth(self, x: float, y: float) -> F64:
        """A point at the depth that drawing goes on at."""
        for known in (self.points, self._drawn):
            if known:
                return known[-1]
        return self.view.point_under(x, y)

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        if self.way == "points":
            place = self._place(press.x, press.y)
            if place is not None:
                self._beside = self._beside or self.view.part_at(press.x, press.y) is None
                self.points.append(place)
                self.view.repaint_over()
            return nothing()
        first = self._place(press.x, press.y)
        if first is None:
            return None
        return self._draw(press, first)

    def _draw(self, press: Pointer, first: F64) -> Hand:
        self._drawn = [first]
        pressures = [press.pressure]
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self._drawn = []
                self.view.repaint_over()
                return
            place = self._place(event.x, event.y)
            if place is not None and np.linalg.norm(place - self._drawn[-1]) > 1e-9:
                self._drawn.append(place)
                pressures.append(event.pressure)
                self.view.repaint_over()
            if event.kind == "release":
                break
        drawn, self._drawn = np.array(self._drawn), []
        if len(drawn) < 2:
            self.studio.say("A strand needs a longer stroke: draw from its root to its tip.")
            self.view.repaint_over()
            return
        middle = drawn[len(drawn) // 2]
        pixel = self.view.camera.pixel_size(middle, self.view.high)
        keep = thinned(drawn, pixel * 2.5)
        if len(keep) == 2 and len(drawn) > 4:
            keep = [0, len(drawn) // 2, len(drawn) - 1]
        pen = np.array(pressures)
        pen = pen / pen.max() if pen.max() > 0 else np.ones(len(pen))
        self.make(drawn[keep], pen[keep], laid=self.way == "surface")

    def make(self, places: F64, shares: F64 | None = None, closed: bool = False, laid: bool = False) -> None:
        """A strand through places of the scene, as a new part or added to the one in hand; laid onto the clay or free."""
        thick = self.studio.preferences.strand_thickness
        shares = np.ones(len(places)) if shares is None else np.maximum(shares, 0.15)
        part = self.studio.project.active
        into = part is not None and isinstance(part.recipe, Strands) and self.studio.preferences.strand_adds
        transform = part.transform if into and part is not None else Transform(_tuple(places[0]))
        local = transform.to_part(places)
        scale = transform.scale
        knots = tuple(Knot(_tuple(p), thick * float(s) / scale) for p, s in zip(local, shares, strict=True))
        strand = Strand(knots, closed)
        if laid:
            clay = [other for other in self.studio.project.scene.parts if not into or other is not part]
            strand = laid_on(clay, strand, transform)
        if into and part is not None:
            assert isinstance(part.recipe, Strands)
            new = replace(part.recipe, strands=(*part.recipe.strands, strand))
            self.view.recasting.land(part, new, "Add a strand to")
            return
        recipe = Strands((strand,), taper=TAPERS[self.studio.preferences.strand_taper])
        self.view.recasting.add("Strand", recipe, transform)

    def finish(self, closed: bool = False) -> None:
        """End a strand of clicked points."""
        points, self.points = self.points, []
        laid, self._beside = not self._beside, False
        if len(points) < 2:
            if points:
                self.studio.say("A strand needs at least two points.")
            self.view.repaint_over()
            return
        self.make(np.array(points), closed=closed and len(points) > 2, laid=laid)

    def double(self, x: float, y: float) -> None:
        if self.way == "points":
            # The double click's second press has set a point twice.
            if len(self.points) > 1 and np.linalg.norm(self.points[-1] - self.points[-2]) < 1e-6:
                self.points.pop()
            self.finish()

    def pressed_key(self, key: int) -> bool:
        if self.way != "points":
            return False
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif key == Qt.Key.Key_C:
            self.finish(closed=True)
        elif key == Qt.Key.Key_Backspace and self.points:
            self.points.pop()
            self.view.repaint_over()
        else:
            return False
        return True

    def hover(self, x: float, y: float) -> bool:
        if self.way == "points" and self.points:
            self._at = self._place(x, y)
            return True
        return False

    def paint(self, painter: QPainter) -> None:
        accent = self.view.ring_colour
        shown = list(self._drawn)
        if self.points:
            shown = [*self.points, *([self._at] if self._at is not None else [])]
            if len(shown) > 1:
                shown = list(catmull_rom(np.array(shown), False, 8))
        if len(shown) > 1:
            line(painter, self.pixels(np.array(shown)), accent, 2.2)
        for place in self.pixels(np.array(self.points).reshape(-1, 3)) if self.points else []:
            dot(painter, place, accent)

    def leave(self) -> None:
        if len(self.points) > 1:
            self.finish()
        self.points = []
        self._beside = False
        self._drawn = []


class KnotMode(Mode):
    """Edits the points of the strand in hand."""

    key = "strand.edit"
    hint = (
        "Drag a point to move it; Shift+drag makes it thicker, Ctrl+drag rolls it; click the strand to add a "
        "point; Delete takes one out"
    )

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self.held = (-1, -1)
        self.hot = (-1, -1)

    @property
    def part(self) -> Part | None:
        """The strand in hand."""
        part = self.studio.project.active
        return part if part is not None and isinstance(part.recipe, Strands) else None

    def now(self) -> Strands | None:
        """The strand as it is shown."""
        part = self.part
        if part is None:
            return None
        recipe = self.view.preview.get(part.id, part).recipe
        return recipe if isinstance(recipe, Strands) else None

    def _knots(self, recipe: Strands) -> tuple[F64, list[tuple[int, int]]]:
        part = self.part
        assert part is not None
        which = [(s, k) for s, strand in enumerate(recipe.strands) for k in range(len(strand.knots))]
        places = np.array([recipe.strands[s].knots[k].place for s, k in which]).reshape(-1, 3)
        return part.transform.to_scene(places), which

    def _under(self, x: float, y: float) -> tuple[int, int]:
        recipe = self.now()
        if recipe is None:
            return -1, -1
        places, which = self._knots(recipe)
        hit = self.near(places, x, y)
        return which[hit] if hit >= 0 else (-1, -1)

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part, recipe = self.part, self.now()
        if part is None or recipe is None:
            return None
        at = self._under(press.x, press.y)
        if at[0] < 0:
            return self._insert(part, recipe, press)
        self.held = at
        shift = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        ctrl = bool(keys & Qt.KeyboardModifier.ControlModifier)
        return self._drag(part, recipe, at, press, "thick" if shift else "roll" if ctrl else "move")

    def _drag(self, part: Part, recipe: Strands, at: tuple[int, int], press: Pointer, what: str) -> Hand:
        knot = recipe.strands[at[0]].knots[at[1]]
        start = part.transform.to_scene(np.array(knot.place)[None])[0]
        grip = self.on_plane(press.x, press.y, start)
        recasting = self.view.recasting
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                recasting.cancel()
                return
            if what == "move":
                place = start + self.on_plane(event.x, event.y, start) - grip
                new = replace(knot, place=_tuple(part.transform.to_part(place[None])[0]))
            elif what == "thick":
                new = replace(knot, thickness=knot.thickness * float(np.exp((event.x - press.x) * 0.012)))
            else:
                new = replace(knot, roll=knot.roll + (event.x - press.x) * 0.6)
            changed = with_knot(recipe, at, new)
            if event.kind == "release":
                break
            recasting.preview(part, changed)
        recasting.land(
            part, changed, {"move": "Move a point of", "thick": "Thickness of", "roll": "Roll"}[what]
        )

    def _insert(self, part: Part, recipe: Strands, press: Pointer) -> Hand | None:
        """A point where the strand was clicked."""
        best, found = 10.0, None
        for s, strand in enumerate(recipe.strands):
            curve, _ = recipe.path(strand)
            at = self.pixels(part.transform.to_scene(curve))
            far = np.hypot(at[:, 0] - press.x, at[:, 1] - press.y)
            i = int(np.argmin(far))
            if far[i] < best:
                best, found = float(far[i]), (s, i, curve[i])
        if found is None:
            return None
        s, i, place = found
        strand = recipe.strands[s]
        k = min(i // recipe.spans, len(strand.knots) - 1)
        share = (i % recipe.spans) / recipe.spans
        a, b = strand.knots[k], strand.knots[(k + 1) % len(strand.knots)]
        middle = Knot(
            _tuple(place),
            a.thickness + (b.thickness - a.thickness) * share,
            a.roll + (b.roll - a.roll) * share,
        )
        knots = (*strand.knots[: k + 1], middle, *strand.knots[k + 1 :])
        strands = tuple(replace(x, knots=knots) if n == s else x for n, x in enumerate(recipe.strands))
        self.held = (s, k + 1)
        self.view.recasting.land(part, replace(recipe, strands=strands), "Add a point to")
        return nothing()

    def change(self, **values: Any) -> None:
        """Give the point held other values."""
        part, recipe = self.part, self.now()
        s, k = self.held
        if part is not None and recipe is not None and 0 <= s < len(recipe.strands):
            knot = recipe.strands[s].knots[k]
            self.view.recasting.land(
                part,
                with_knot(recipe, self.held, replace(knot, **values)),
                "Point of",
            )

    def pressed_key(self, key: int) -> bool:
        if key not in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            return False
        part, recipe = self.part, self.now()
        s, k = self.held
        if part is None or recipe is None or not 0 <= s < len(recipe.strands):
            return True
        strand = recipe.strands[s]
        if len(strand.knots) <= 2:
            if len(recipe.strands) == 1:
                self.studio.say("A strand keeps at least two points; delete the part to take it away.")
                return True
            strands = tuple(x for n, x in enumerate(recipe.strands) if n != s)
        else:
            knots = tuple(x for n, x in enumerate(strand.knots) if n != k)
            strands = tuple(replace(x, knots=knots) if n == s else x for n, x in enumerate(recipe.strands))
        self.held = (-1, -1)
        self.view.recasting.land(part, replace(recipe, strands=strands), "Delete a point of")
        return True

    def hover(self, x: float, y: float) -> bool:
        hot = self._under(x, y)
        if hot != self.hot:
            self.hot = hot
            return True
        return False

    def paint(self, painter: QPainter) -> None:
        recipe, part = self.now(), self.part
        if recipe is None or part is None:
            return
        quiet = QColor(self.view.text_colour)
        quiet.setAlpha(150)
        # Hundreds of strands would hide the clay: points are shown for the strand held, or for few.
        few = sum(len(s.knots) for s in recipe.strands) <= 120
        for s, strand in enumerate(recipe.strands):
            if not few and s != self.held[0]:
                continue
            curve, _ = recipe.path(strand)
            line(painter, self.pixels(part.transform.to_scene(curve)), quiet, 1.2)
        places, which = self._knots(recipe)
        for at, key in zip(self.pixels(places), which, strict=True):
            if few or key[0] == self.held[0]:
                strong = key in (self.held, self.hot)
                dot(painter, at, self.view.ring_colour if strong else quiet, 5.5 if strong else 4)

    def leave(self) -> None:
        self.view.recasting.cancel()


def with_knot(recipe: Strands, at: tuple[int, int], knot: Knot) -> Strands:
    """The strands with one point exchanged."""
    s, k = at
    strand = recipe.strands[s]
    knots = tuple(knot if n == k else x for n, x in enumerate(strand.knots))
    strands = tuple(replace(x, knots=knots) if n == s else x for n, x in enumerate(recipe.strands))
    return replace(recipe, strands=strands)


def _tuple(place: F64) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in place)
    return x, y, z
