"""Strokes that change colour and material: paint laid on, mixed, drawn along, made lighter, turned in hue, taken off.

While a stroke runs, colours are held in light as single numbers, so that the faintest dab adds up; they are rounded to
codes each time they are shown, and once for good at the end. What is laid on is worked out from what the stroke found
and from how much of it there is by now: a stroke can be led over one place as often as one likes without a step.

Each of four things is painted in the same way, on a *plane* of its own: colour; roughness, metalness and subsurface; wet;
opacity, which is the clay's own, whatever layer is in hand.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import DAB_PART, F32, I32, U8, AnyArray, in_parts, inlined, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change, box_around
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import Mesh
from kneten.core.paint.blending import MANY, run_to_neighbours, run_together
from kneten.core.paint.ink import Ink
from kneten.core.paint.layers import material_under, show
from kneten.core.paint.light import DECODED, code_of, lab_of, light_of_lab
from kneten.core.paint.mixing import rounded
from kneten.core.paint.packed import COVER, MATERIAL, MATERIAL_COVER
from kneten.core.paint.reading import OverClay, greys
from kneten.core.press import Press
from kneten.core.reach import Reach
from kneten.core.stack import Stack
from kneten.core.stroke import Stroke
from kneten.core.topology import PATCH, PATCH_BITS
from kneten.core.twin_places import Axes, Twin
from kneten.core.values import CLAY, PLAIN

LAY, ERASE, TONE, HUE, VIVID, BLEND, SMUDGE = range(7)

DOES = {
    "paint": LAY, "erase": ERASE, "lighten": TONE, "darken": TONE, "hue": HUE, "vivid": VIVID, "blend": BLEND,
    "smudge": SMUDGE,
}  # fmt: skip
"""What each tool does."""

TONES = 0.45
"""How much lighter, of 1, full strength makes."""

TURN = 2.1
"""How far full strength turns the hue, radians."""

OVERLAP = 0.8
"""How many dabs over one radius count as one: with the soft falloff a pass then covers as much as the strength says."""

RUN = 0.35
"""The same for Blend, in which dabs work against each other."""

TAKEN = 0.35
"""Share of what is under it that Smudge takes along over one radius."""

ZERO, ONE, FULL, LEAST = np.float32(0.0), np.float32(1.0), np.float32(255.0), np.float32(1e-6)

EVEN: F32 = np.arange(256, dtype=np.float32) / FULL
"""What a byte of a material stands for."""


@kernel
def _open(
    values: U8, columns: I32, table: F32, below: F32, slot_patch: I32, first: int, last: int, state: F32
) -> None:
    """Begin patches: the numbers and the cover that are there, or full cover where no column has it; what is below, (room, 3), where nothing covers."""
    for slot in range(first, last):
        begin = slot_patch[slot] << PATCH_BITS
        for k in range(min(PATCH, values.shape[0] - begin)):
            at = (slot << PATCH_BITS) + k
            cover = ONE if columns[3] < 0 else np.float32(values[begin + k, columns[3]]) / FULL
            for c in range(3):
                if cover == ZERO and below.shape[0] > 0:
                    state[at, c] = below[at, c]
                else:
                    state[at, c] = table[values[begin + k, columns[c]]]
            state[at, 3] = cover


@kernel
def _gather(
    amount: F32, places: I32, weights: F32, share: np.float32, top: np.float32, first: int, last: int
) -> None:
    """Add to how much there is; with `top` up to that times the weight, however often."""
    for i in range(first, last):
        p = places[i]
        if top > ZERO:
            amount[p] = max(amount[p], top * weights[i])
        else:
            amount[p] += (ONE - amount[p]) * min(share * weights[i], ONE)


@inlined
def _held(value: np.float32) -> np.float32:
    return min(max(value, ZERO), ONE)


@kernel
def _lay(
    what: int,
    way: np.float32,
    ink: F32,
    inks: F32,
    shares: F32,
    blank: F32,
    below: F32,
    was: F32,
    amount: F32,
    places: I32,
    state: F32,
    bare: bool,
    first: int,
    last: int,
) -> None:
    """Work out colours from what was found, and from how much has been laid since.

    Ink that is NaN is no ink: as much as is covered now is then like what is `below` (room, 3), so that nothing is seen of it.
    A picture has `inks` (room, 3) of each place, and `shares` (room,) of how much of them is laid.
    """
    for i in range(first, last):
        p = places[i]
        a = amount[p] if shares.shape[0] == 0 else amount[p] * shares[p]
        cover = was[p, 3]
        if what == LAY:
            covered = cover + (ONE - cover) * a
            for c in range(3):
                if covered <= ZERO:
                    continue
                if ink[c] == ink[c]:
                    own = ink[c] if inks.shape[0] == 0 else inks[p, c]
                    state[p, c] = (was[p, c] * cover * (ONE - a) + own * a) / covered
                elif below.shape[0] > 0:
                    state[p, c] = (was[p, c] * cover + below[p, c] * (covered - cover)) / covered
            state[p, 3] = covered
        elif what == ERASE:
            if bare:
                for c in range(3):
                    if ink[c] == ink[c]:
                        state[p, c] = was[p, c] + (blank[c] - was[p, c]) * a
            else:
                state[p, 3] = cover * (ONE - a)
        else:
            lightness, u, v = lab_of(was[p, 0], was[p, 1], was[p, 2])
            if what == TONE:
                lightness = _held(lightness + way * a * np.float32(TONES))
            elif what == HUE:
                turn = way * a * np.float32(TURN)
                s, t = np.sin(turn), np.cos(turn)
                u, v = u * t - v * s, u * s + v * t
            else:
                u, v = u * (ONE + way * a), v * (ONE + way * a)
            r, g, b = light_of_lab(lightness, u, v)
            # What no screen can show is made less colourful: its lightness stays.
            for _ in range(12):
                if min(r, g, b) > np.float32(-0.002) and max(r, g, b) < np.float32(1.002):
                    break
                u, v = u * np.float32(0.85), v * np.float32(0.85)
                r, g, b = light_of_lab(lightness, u, v)
            state[p, 0], state[p, 1], state[p, 2] = _held(r), _held(g), _held(b)


@kernel
def _drag(state: F32, places: I32, weights: F32, share: np.float32, taken: np.float32, carried: F32) -> None:
    """Lay what is carried, (4,) light times cover and cover, and take along what is there."""
    r, g, b, cover, total = 0.0, 0.0, 0.0, 0.0, 0.0
    for i in range(places.shape[0]):
        p = places[i]
        w = np.float64(weights[i])
        r += w * state[p, 3] * state[p, 0]
        g += w * state[p, 3] * state[p, 1]
        b += w * state[p, 3] * state[p, 2]
        cover += w * state[p, 3]
        total += w
    if total <= 0.0:
        return
    found = (r / total, g / total, b / total, cover / total)
    if carried[3] < ZERO:
        for c in range(4):
            carried[c] = found[c]
    for i in range(places.shape[0]):
        p = places[i]
        own = min(weights[i] * share, ONE)
        covered = state[p, 3] + (carried[3] - state[p, 3]) * own
        if covered > LEAST:
            for c in range(3):
                state[p, c] = (state[p, c] * state[p, 3] * (ONE - own) + carried[c] * own) / covered
        state[p, 3] = covered
    for c in range(4):
        carried[c] += (np.float32(found[c]) - carried[c]) * taken


@kernel
def _write(
    state: F32, columns: I32, light: bool, vertices: I32, places: I32, first: int, last: int, values: U8
) -> None:
    for i in range(first, last):
        v = vertices[i]
        p = places[i]
        for c in range(3):
            values[v, columns[c]] = rounded(code_of(state[p, c]) if light else state[p, c] * FULL)
        if columns[3] >= 0:
            values[v, columns[3]] = rounded(state[p, 3] * FULL)


def _with_room(held: F32, rows: int) -> F32:
    """An array (n, ...) with room for so many rows, what it holds first."""
    if rows <= len(held):
        return held
    grown = np.zeros((rows, *held.shape[1:]), np.float32)
    grown[: len(held)] = held
    return grown


@dataclass(eq=False)
class _Plane:
    """What a stroke paints in one: three numbers for each vertex and how much they cover.

    Attributes
    ----------
    name : str
        What it is: `colour`, `material` or `opacity`.
    values : (n, 4 or 9) uint8
        Where it is painted.
    columns : (4,) int32
        Where in a row the numbers and the cover stand; -1 where nothing tells the cover: all is covered.
    table : (256,) float32
        What a byte stands for.
    ink, blank : (3,) float32
        What is laid on, NaN for what is left as it is, and what is under the base.
    below : (room, 3) float32
        What the layers below the one in hand give; empty where they do not matter.
    inks : (room, 3) float32
        What a picture lays at each place; empty where the ink does.
    state, was : (room, 4) float32
        The numbers and covers now, and as the stroke found them.
    """

    name: str
    values: U8
    columns: I32
    table: F32
    ink: F32
    blank: F32
    below: F32
    inks: F32 = field(default_factory=lambda: np.empty((0, 3), np.float32))
    state: F32 = field(default_factory=lambda: np.empty((0, 4), np.float32))
    was: F32 = field(default_factory=lambda: np.empty((0, 4), np.float32))
    carried: list[F32] = field(default_factory=list)

    @property
    def bare(self) -> bool:
        """Whether all of it is covered, as of a base."""
        return bool(self.columns[3] < 0)

    def opened(self, slot_patch: I32, first: int, last: int, rows: int) -> None:
        """Begin the patches of some slots; there is room for so many rows."""
        self.state, self.was = _with_room(self.state, rows), _with_room(self.was, rows)
        _open(self.values, self.columns, self.table, self.below, slot_patch, first, last, self.state)
        span = slice(first * PATCH, last * PATCH)
        self.was[span] = self.state[span]

    def keep(self, places: I32) -> None:
        """Let what is not painted look as it did, however much is covered now."""
        for column in np.flatnonzero(np.isnan(self.ink)):
            was = self.was[places, column]
            if len(self.below):
                covered, cover = self.state[places, 3], self.was[places, 3]
                more = was * cover + self.below[places, column] * (covered - cover)
                was = np.clip(np.where(covered > 0, more / np.maximum(covered, LEAST), was), 0, 1)
            self.state[places, column] = was


class PaintStroke(Stroke):
    """A stroke of a tool that changes colour and material, on the base or on the layer in hand.

    Parameters
    ----------
    ink : Ink
    stack : Stack or None
        Where the part has layers with paint: the mesh's `paint` is in hand then, and its `colour` and `material` what is
        seen.
    through : OverClay, optional
        A picture that is painted instead of the ink: its colours, or its lightness for what clay is made of.
    """

    def __init__(
        self,
        mesh: Mesh,
        tool: Tool,
        settings: BrushSettings,
        ink: Ink,
        stack: Stack | None = None,
        symmetry: Axes = (False,) * 3,
        twins: list[Twin] | None = None,
        press: Press | None = None,
        smoothing: bool = False,
        through: OverClay | None = None,
    ) -> None:
        super().__init__(mesh, tool, settings, symmetry, twins, press)
        self._tapers = False
        self.log = None
        self._through = through if tool.paints == "paint" and not smoothing else None
        self._shares = np.empty(0, np.float32)
        self._stack = None if stack is None or stack.tint is None else stack
        # Of the base, opacity is another matter than cover.
        self._bare = self._stack is None or self._stack.hand == ""
        self._does = BLEND if smoothing else DOES[tool.paints]
        colours = self._does in (TONE, HUE, VIVID)
        self._ink = ink if not colours else Ink(ink.colour)
        layered = [what for what in ("colour", "material") if self._ink.reaches(what)]
        self._names = layered if self._stack is None or not layered else ["paint", *layered]
        self._layered = self._stack is not None and bool(layered)
        if self._ink.reaches("opacity") and "colour" not in self._names:
            self._names.append("colour")
        self._blank = [name for name in self._names if getattr(mesh, name) is None]
        self._slots = 0
        self._amount = np.empty(0, np.float32)
        self._found: dict[int, dict[str, U8]] = {}
        self._need()
        self._planes = self._made_planes()

    def _need(self) -> None:
        self._values: dict[str, U8] = {name: self.mesh.need(name) for name in self._names}

    def _made_planes(self) -> list[_Plane]:
        planes = []
        none = np.empty((0, 3), np.float32)
        bare = self._bare
        if self._ink.reaches("colour"):
            columns = np.array([0, 1, 2, -1 if bare else COVER], np.int32)
            ink = DECODED[np.array(self._ink.colour)]
            values = self._values["colour" if self._stack is None else "paint"]
            planes.append(_Plane("colour", values, columns, DECODED, ink, DECODED[np.array(CLAY)], none))
        if self._ink.reaches("material"):
            first = 0 if self._stack is None else MATERIAL.start
            values = self._values["material" if self._stack is None else "paint"]
            # A layer covers with all four at once: what is not painted is laid as it is below.
            ink = np.array([np.nan if code is None else code / 255 for code in self._ink.inked()], np.float32)
            blank = np.array(PLAIN, np.float32) / FULL
            for some in ([0, 1, 2], [3, 3, 3]):
                columns = np.array([*(first + c for c in some), -1 if bare else MATERIAL_COVER], np.int32)
                planes.append(_Plane("material", values, columns, EVEN, ink[some], blank[some], none))
        if self._ink.reaches("opacity"):
            columns = np.array([3, 3, 3, -1], np.int32)
            ink = np.full(3, self._ink.opacity / 255, np.float32)
            planes.append(
                _Plane("opacity", self._values["colour"], columns, EVEN, ink, np.ones(3, np.float32), none)
            )
        return planes

    def _remember(self) -> None:
        """Begin the patches that the dab has opened."""
        work = self.work
        if work.n_slots == self._slots:
            return
        rows = len(work.origin)
        self._amount = _with_room(self._amount, rows)
        first, last = self._slots, work.n_slots
        if self._stack is not None and not self._bare and self._ink.reaches("material"):
            self._look_below(first, last, rows)
        if self._through is not None:
            self._look_through(first, last, rows)
        for plane in self._planes:
            plane.opened(work.slot_patch, first, last, rows)
        for patch in work.slot_patch[first:last].tolist():
            some = self._rows(patch)
            self._found[patch] = {name: value[some].copy() for name, value in self._values.items()}
        self._slots = last

    def _look_below(self, first: int, last: int, rows: int) -> None:
        """Work out what the layers below have in the patches of some slots."""
        assert self._stack is not None
        there, vertices = self._of_slots(first, last)
        found = material_under(self._stack, self._values["paint"], vertices, self._stack.hand)
        for plane in self._planes:
            if plane.name == "material":
                plane.below = _with_room(plane.below, rows)
                plane.below[there] = found[:, plane.columns[:3] - MATERIAL.start]

    def _look_through(self, first: int, last: int, rows: int) -> None:
        """Ask what is to be laid on the patches of some slots."""
        assert self._through is not None
        there, vertices = self._of_slots(first, last)
        light, share = self._through.at(vertices)
        self._shares = _with_room(self._shares, rows)
        self._shares[there] = share
        if light is None:
            return
        for plane in self._planes:
            plane.inks = _with_room(plane.inks, rows)
            plane.inks[there] = light if plane.name == "colour" else greys(light)[:, None]

    def _of_slots(self, first: int, last: int) -> tuple[AnyArray, I32]:
        """The places of some slots that have a vertex, (k,), and these vertices, (k,)."""
        begin = self.work.slot_patch[first:last, None].astype(np.int64) * PATCH
        vertices = (begin + np.arange(PATCH)).reshape(-1)
        there = np.flatnonzero(vertices < self.mesh.n_vertices)
        return there + first * PATCH, vertices[there].astype(np.int32)

    def _rows(self, patch: int) -> slice:
        return slice(patch * PATCH, min((patch + 1) * PATCH, self.mesh.n_vertices))

    def dab(self, dab: Dab) -> None:
        """Paint once, and at every mirrored place at the same time."""
        reaches, _, likes = self._under(dab)
        self._remember()
        strength = min(abs(dab.strength), 1.0)
        for twin, reach in enumerate(reaches):
            if len(reach.vertices):
                self._touch(reach, likes[twin], strength, -1.0 if dab.strength < 0 else 1.0, twin)
        # Twins may share vertices: all are worked on before any is shown.
        for reach in reaches:
            if len(reach.vertices):
                self._show(reach)

    def _touch(self, reach: Reach, dab: Dab, strength: float, sign: float, twin: int) -> None:
        does, spacing = self._does, dab.spacing
        # Dabs one after the other cover as much as one of that strength would.
        share = np.float32(1.0 - (1.0 - min(strength, 0.999)) ** (spacing / OVERLAP))
        if does == BLEND:
            once = np.float32(1.0 - (1.0 - min(strength, 0.999)) ** (spacing / RUN))
            for plane in self._planes:
                self._run(plane, reach, dab, once)
                plane.keep(reach.places)
            return
        if does == SMUDGE:
            taken = np.float32(1.0 - (1.0 - TAKEN) ** (spacing * 2))
            for plane in self._planes:
                while len(plane.carried) <= twin:
                    plane.carried.append(np.full(4, -1, np.float32))
                _drag(
                    plane.state, reach.places, reach.weights, np.float32(strength), taken, plane.carried[twin]
                )
                plane.keep(reach.places)
            return
        wash = np.float32(strength if self.settings.variant == "wash" else 0.0)
        what, way = does, np.float32(-sign if self.tool.paints == "darken" else sign)
        if does == LAY and sign < 0:
            what = ERASE

        shares = self._shares if what == LAY else self._shares[:0]

        def lay(first: int, last: int) -> None:
            _gather(self._amount, reach.places, reach.weights, share, wash, first, last)
            for plane in self._planes:
                _lay(
                    what,
                    way,
                    plane.ink,
                    plane.inks,
                    shares,
                    plane.blank,
                    plane.below,
                    plane.was,
                    self._amount,
                    reach.places,
                    plane.state,
                    plane.bare,
                    first,
                    last,
                )

        in_parts(len(reach.vertices), lay, DAB_PART)

    def _run(self, plane: _Plane, reach: Reach, dab: Dab, once: np.float32) -> None:
        """Let what is under the brush run together."""
        mesh = self.mesh
        if len(reach.vertices) >= MANY:
            run_together(mesh.positions, reach, dab.centre, self._span(dab), once, plane.state)
            return
        slots = self.work.patch_slot
        run_to_neighbours(mesh, reach, slots, plane.values, plane.columns, plane.table, once, plane.state)

    def _show(self, reach: Reach) -> None:
        mesh, vertices = self.mesh, reach.vertices

        def write(first: int, last: int) -> None:
            for plane in self._planes:
                _write(
                    plane.state,
                    plane.columns,
                    plane.name == "colour",
                    vertices,
                    reach.places,
                    first,
                    last,
                    plane.values,
                )

        in_parts(len(vertices), write, DAB_PART)
        if self._layered:
            assert self._stack is not None
            colour = self._values["colour"] if self._ink.reaches("colour") else None
            show(self._stack, self._values["paint"], vertices, colour, self._values.get("material"))
        # The faces around a vertex lie in the patches near the dab, whose boxes hold them.
        boxes = mesh.boxes[reach.near]
        box = np.concatenate([boxes[:, :3].min(axis=0), boxes[:, 3:].max(axis=0)])
        version = mesh.changing()
        mesh.mark_dirty(vertices, shape=False)
        mesh.note_moved(version, box[None])
        self.boxes.append(box)

    def take_back(self) -> None:
        """Put everything back as the stroke found it, and go on."""
        for change in self._made():
            change.swap(self.mesh)
            self.boxes.append(box_around(self.mesh, change.places))
        self._need()
        for plane, anew in zip(self._planes, self._made_planes(), strict=True):
            plane.values = anew.values
            plane.state[:] = plane.was
            plane.carried.clear()
        self._amount[:] = 0

    def finish(self) -> Change | LooseChange | None:
        """End the stroke. Returns what undoes what is seen of it, or None when nothing changed; see `changes`."""
        return next(iter(self.changes()), None)

    def changes(self) -> list[Change | LooseChange]:
        """What undoes the stroke, in the order to be put in: of the paint in hand, and of what is seen."""
        made = self._made()
        if not made:
            self._tidy()
        return [*made]

    def _tidy(self) -> None:
        """Clay that had no colours has none again."""
        for what in self._blank:
            setattr(self.mesh, what, None)

    def _made(self) -> list[Change]:
        made: list[Change] = []
        for name, now in self._values.items():
            places, before = [], []
            for patch, kept in sorted(self._found.items()):
                rows = self._rows(patch)
                other = np.flatnonzero((now[rows] != kept[name]).any(axis=1))
                places.append((other + rows.start).astype(np.int32))
                before.append(kept[name][other])
            if sum(len(some) for some in places):
                made.append(Change(name, np.concatenate(places), np.concatenate(before)))
        return made

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        for change in self._made():
            change.swap(self.mesh)
        self._tidy()
