"""Strokes that change colour: paint laid on, mixed, drawn along, made lighter, turned in hue, taken off.

While a stroke runs, colours are held in light as single numbers, so that the faintest dab adds up; they are rounded to
codes each time they are shown, and once for good at the end. What is laid on is worked out from what the stroke found
and from how much of it there is by now: a stroke can be led over one place as often as one likes without a step.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import DAB_PART, F32, I32, U8, in_parts, inlined, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change, box_around
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import Mesh
from kneten.core.paint.blending import MANY, run_to_neighbours, run_together
from kneten.core.paint.ink import Ink
from kneten.core.paint.layers import show
from kneten.core.paint.light import DECODED, code_of, lab_of, light_of_lab
from kneten.core.paint.mixing import rounded
from kneten.core.press import Press
from kneten.core.reach import Reach
from kneten.core.stack import Stack
from kneten.core.stroke import Stroke
from kneten.core.topology import PATCH, PATCH_BITS
from kneten.core.twin_places import Axes, Twin

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


@kernel
def _open(values: U8, slot_patch: I32, first: int, last: int, state: F32, bare: bool) -> None:
    """Begin patches: the light and the cover that are there, or full cover where `bare`."""
    for slot in range(first, last):
        begin = slot_patch[slot] << PATCH_BITS
        for k in range(min(PATCH, values.shape[0] - begin)):
            for c in range(3):
                state[(slot << PATCH_BITS) + k, c] = DECODED[values[begin + k, c]]
            state[(slot << PATCH_BITS) + k, 3] = ONE if bare else np.float32(values[begin + k, 3]) / FULL


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
    was: F32,
    amount: F32,
    places: I32,
    state: F32,
    bare: bool,
    first: int,
    last: int,
) -> None:
    """Work out colours from what was found, and from how much has been laid since."""
    for i in range(first, last):
        p = places[i]
        a = amount[p]
        cover = was[p, 3]
        if what == LAY:
            covered = cover + (ONE - cover) * a
            for c in range(3):
                if covered > ZERO:
                    state[p, c] = (was[p, c] * cover * (ONE - a) + ink[c] * a) / covered
            state[p, 3] = covered
        elif what == ERASE:
            if bare:
                for c in range(3):
                    state[p, c] = was[p, c] + (ONE - was[p, c]) * a
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
def _write(state: F32, vertices: I32, places: I32, bare: bool, first: int, last: int, values: U8) -> None:
    for i in range(first, last):
        v = vertices[i]
        p = places[i]
        for c in range(3):
            values[v, c] = rounded(code_of(state[p, c]))
        if not bare:
            values[v, 3] = rounded(state[p, 3] * FULL)


class PaintStroke(Stroke):
    """A stroke of a tool that changes colour, on the base or on the layer in hand.

    Parameters
    ----------
    ink : Ink
    stack : Stack or None
        Where the part has layers with paint: the mesh's `paint` is in hand then, and its `colour` what is seen.
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
    ) -> None:
        super().__init__(mesh, tool, settings, symmetry, twins, press)
        self._tapers = False
        self.log = None
        self._stack = None if stack is None or stack.tint is None else stack
        self._what = "colour" if self._stack is None else "paint"
        # Of the base, opacity is another matter than cover.
        self._bare = self._stack is None or self._stack.hand == ""
        self._does = BLEND if smoothing else DOES[tool.paints]
        self._ink = DECODED[np.array(ink.colour)]
        self._blank = [what for what in ("colour", "paint") if getattr(mesh, what) is None]
        self._need()
        self._slots = 0
        self._state = np.empty((0, 4), np.float32)
        self._was = np.empty((0, 4), np.float32)
        self._amount = np.empty(0, np.float32)
        self._found: dict[int, tuple[U8, U8]] = {}
        self._carried: list[F32] = []

    def _need(self) -> None:
        self._values: U8 = self.mesh.need(self._what)
        self._colour: U8 = self.mesh.need("colour")

    def _remember(self) -> None:
        """Begin the patches that the dab has opened."""
        work = self.work
        if work.n_slots == self._slots:
            return
        rows = len(work.origin)
        if rows > len(self._state):
            for name in ("_state", "_was"):
                grown, old = np.zeros((rows, 4), np.float32), getattr(self, name)
                grown[: len(old)] = old
                setattr(self, name, grown)
            amount = np.zeros(rows, np.float32)
            amount[: len(self._amount)] = self._amount
            self._amount = amount
        first, last = self._slots, work.n_slots
        _open(self._values, work.slot_patch, first, last, self._state, self._bare)
        span = slice(first * PATCH, last * PATCH)
        self._was[span] = self._state[span]
        for patch in work.slot_patch[first:last].tolist():
            some = self._rows(patch)
            self._found[patch] = (self._values[some].copy(), self._colour[some].copy())
        self._slots = last

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
        n, does, spacing = len(reach.vertices), self._does, dab.spacing
        # Dabs one after the other cover as much as one of that strength would.
        share = np.float32(1.0 - (1.0 - min(strength, 0.999)) ** (spacing / OVERLAP))
        if does == BLEND:
            once = np.float32(1.0 - (1.0 - min(strength, 0.999)) ** (spacing / RUN))
            if n >= MANY:
                run_together(self.mesh.positions, reach, dab.centre, self._span(dab), once, self._state)
            else:
                run_to_neighbours(
                    self.mesh, reach, self.work.patch_slot, self._values, self._bare, once, self._state
                )
            return
        if does == SMUDGE:
            while len(self._carried) <= twin:
                self._carried.append(np.full(4, -1, np.float32))
            taken = np.float32(1.0 - (1.0 - TAKEN) ** (spacing * 2))
            _drag(self._state, reach.places, reach.weights, np.float32(strength), taken, self._carried[twin])
            return
        wash = np.float32(strength if self.settings.variant == "wash" else 0.0)
        what, way = does, np.float32(-sign if self.tool.paints == "darken" else sign)
        if does == LAY and sign < 0:
            what = ERASE

        def lay(first: int, last: int) -> None:
            _gather(self._amount, reach.places, reach.weights, share, wash, first, last)
            _lay(
                what,
                way,
                self._ink,
                self._was,
                self._amount,
                reach.places,
                self._state,
                self._bare,
                first,
                last,
            )

        in_parts(n, lay, DAB_PART)

    def _show(self, reach: Reach) -> None:
        mesh, vertices = self.mesh, reach.vertices
        in_parts(
            len(vertices),
            lambda first, last: _write(
                self._state, vertices, reach.places, self._bare, first, last, self._values
            ),
            DAB_PART,
        )
        if self._stack is not None:
            show(self._stack, self._values, vertices, self._colour)
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
        self._state[:] = self._was
        self._amount[:] = 0
        self._carried.clear()

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
        for which, what, now in ((0, self._what, self._values), (1, "colour", self._colour)):
            if which == 1 and what == self._what:
                break
            places, before = [], []
            for patch, kept in sorted(self._found.items()):
                rows = self._rows(patch)
                other = np.flatnonzero((now[rows] != kept[which]).any(axis=1))
                places.append((other + rows.start).astype(np.int32))
                before.append(kept[which][other])
            if sum(len(some) for some in places):
                made.append(Change(what, np.concatenate(places), np.concatenate(before)))
        return made

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        for change in self._made():
            change.swap(self.mesh)
        self._tidy()
