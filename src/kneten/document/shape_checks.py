"""Shapes of a face tried one by one and in pairs: what is wrong with them, and what would mend it."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.pose.actions import OPPOSITES
from kneten.core.pose.shape_check import (
    KINDS,
    Around,
    Find,
    Other,
    evened_out,
    grown,
    left_behind,
    lifted,
    strained,
    stray,
    through,
    uneven,
)
from kneten.core.pose.shape_edits import alone, moves_in_hand
from kneten.core.pose.shapes import driven_dials
from kneten.core.relief import Relief
from kneten.core.stack import Stack
from kneten.core.twins import pairs_of
from kneten.document.driving import FoundShape, shape_layer, shapes_of
from kneten.document.opening import stack_of
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id

WORSE = 1.3
"""Times as bad as in either shape alone, from which on something is the fault of the two together."""

RINGS = 2
"""Of vertices around a find that are mended with it."""

FEW = 24
"""Vertices that are stretched or squashed together, up to which they are smoothed by themselves."""

PASSES = 6
"""Times that a shape is mended and tried again."""

PAIRS = 400
"""Pairs of shapes that are tried: those that move most of the same clay."""


@dataclass(frozen=True, eq=False)
class ShapeFind:
    """Something wrong with a shape, or with two of them together.

    Attributes
    ----------
    shapes : tuple of str
        Their ids.
    part_id : str
    find : Find
        Vertices of the level that was in hand.
    place : (3,) float64
        Where it is worst, in the scene, with the shapes wholly there.
    words : str
    """

    shapes: tuple[str, ...]
    part_id: str
    find: Find
    place: F64
    words: str

    @property
    def amount(self) -> float:
        """How bad it is, mm of the scene."""
        return self.find.amount


@dataclass(frozen=True, eq=False)
class Mended:
    """How a shape moves some vertices of a part from now on.

    Attributes
    ----------
    layer_id : str
    rows : (k,) int32
    wanted : (k, 3) float64
        On the level in hand, in the part's axes.
    """

    layer_id: str
    rows: I32
    wanted: F64

    def on(self, now: Stack) -> Stack:
        """A stack with the layer changed so."""
        level, own = now.level, now.layer(self.layer_id)
        more = (self.wanted - alone(now, own, level)[self.rows]).astype(np.float32)
        told = Relief(self.rows, now.bare().ground(level).told(self.rows, more))
        n = now.levels[level].topology.n_vertices
        return now.with_layer(own.with_relief(level, own.relief(level).plus(told, 1.0, n)))


@dataclass(frozen=True, eq=False)
class PairMended:
    """How a correction of two shapes moves some vertices of a part from now on.

    Attributes
    ----------
    shapes : tuple of str
        The ids of the two.
    correction : str
        The id of the one that there is already; "" for none.
    part_id : str
    rows : (k,) int32
    wanted : (k, 3) float64
        On the level in hand, in the part's axes.
    """

    shapes: tuple[str, ...]
    correction: str
    part_id: str
    rows: I32
    wanted: F64


class CheckedPart:
    """A part at rest, and what each shape does to the level in hand."""

    def __init__(self, part: Part) -> None:
        self.part = part
        stack = stack_of(part).taken(part.mesh.positions)
        layers = [layer for layer in stack.layers if layer.shape is not None]
        rest = replace(
            stack,
            layers=tuple(one if one.shape is None else replace(one, strength=0.0) for one in stack.layers),
        )
        self.rest: F32 = rest.form(rest.level).copy()
        self.mesh = Mesh(part.mesh.topology, self.rest)
        n = len(self.rest)
        self.moves: dict[str, F32] = {}
        for layer, relief in zip(layers, moves_in_hand(rest, layers), strict=True):
            if relief and layer.shape is not None:
                self.moves[layer.shape.id] = relief.dense(n)
        self.around = Around(part.mesh.topology, self.rest)
        self.depths: dict[str, F64] = {}
        self._twin: I32 | None = None

    @property
    def twin(self) -> I32 | None:
        """The mirror image of each vertex, (n,); None where its sides are not meshed alike."""
        if self._twin is None:
            pairs = pairs_of(self.mesh, 0)
            self._twin = np.empty(0, np.int32) if pairs is None else pairs.twin
        return self._twin if len(self._twin) else None

    def moved(self, dials: Mapping[str, float]) -> F32 | None:
        """How far its vertices go (n, 3) at some dials; None where none does."""
        some = [(self.moves[key], value) for key, value in dials.items() if value and key in self.moves]
        if not some:
            return None
        out = np.zeros_like(self.rest)
        for moves, value in some:
            out += moves * np.float32(value)
        return out


def face_of(scene: Scene, part: Part) -> list[Part]:
    """The parts that take part in the shapes of a part, that first."""
    ids = dict.fromkeys(
        [part.id, *(key for one in shapes_of(scene).values() if part.id in one.layers for key in one.layers)]
    )
    return [scene.part(key) for key in ids]


class Trial:
    """The shapes of a face that have dials of their own, tried wholly: one by one, then in pairs.

    It has its own copy of the clay: trying pairs takes long, and the face may be worked on meanwhile.
    """

    def __init__(self, scene: Scene, parts: Sequence[Part]) -> None:
        self.held = shapes_of(scene)
        ids = {part.id for part in parts}
        self.own = [key for key, one in self.held.items() if not one.shape.drivers and ids & set(one.layers)]
        self.shapes = {key: one.shape for key, one in self.held.items()}
        self.checked = [CheckedPart(part) for part in parts]
        self._alone: dict[tuple[str, str], list[Find]] = {}

    @property
    def nbytes(self) -> int:
        """Bytes of what it holds of the clay."""
        return sum(
            one.rest.nbytes + sum(moves.nbytes for moves in one.moves.values()) for one in self.checked
        )

    def scene_of(self, found: ShapeFind) -> Scene:
        """The face alone, with the shapes of a find wholly there."""
        dials = dict.fromkeys(found.shapes, 1.0)
        dials |= driven_dials(self.shapes, dials, {})
        parts = []
        for one in self.checked:
            moves = one.moved(dials)
            places = one.rest if moves is None else one.rest + moves
            mesh = Mesh(one.part.mesh.topology, places)
            parts.append(replace(one.part, stack=None, mesh=mesh, mesh_id=new_id(), visible=True))
        return Scene(tuple(parts))

    def singly(self, progress: Progress) -> list[ShapeFind]:
        """What is wrong with each shape alone, the worst first. Raises `Cancelled`."""
        return self._tried([(key,) for key in self.own], progress)

    def in_pairs(self, progress: Progress) -> list[ShapeFind]:
        """What only goes wrong where two are there together, the worst first; after `singly`. Raises `Cancelled`."""
        return self._tried(self._pairs(), progress)

    def _pairs(self) -> list[tuple[str, ...]]:
        """The pairs that are tried."""
        return [
            pair
            for pair in _overlapping(self.checked, self.own)
            if frozenset(self.shapes[key].action for key in pair) not in OPPOSITES
        ][:PAIRS]

    def _tried(self, several: Sequence[tuple[str, ...]], progress: Progress) -> list[ShapeFind]:
        found: list[ShapeFind] = []
        for k, keys in enumerate(several):
            progress.report(k / len(several), " + ".join(self.held[key].name for key in keys))
            dials = dict.fromkeys(keys, 1.0)
            dials |= driven_dials(self.shapes, dials, {})
            moved = {one.part.id: one.moved(dials) for one in self.checked}
            for one in self.checked:
                moves = moved[one.part.id]
                if moves is not None:
                    wrong = self._wrong(one, moves, moved, keys)
                    found += [_told(find, keys, one, moves, self.held, self.checked) for find in wrong]
        return sorted(found, key=lambda one: -one.amount)

    def mended(self, progress: Progress) -> dict[str, list[Mended]]:
        """What mends shapes by itself: what is left behind is smoothed, what is uneven evened, what lies under other clay lifted out.

        Raises
        ------
        Cancelled
            Through `progress`.
        """
        out: dict[str, list[Mended]] = {}
        for k, key in enumerate(self.own):
            progress.report(k / len(self.own), self.held[key].name)
            dials = {key: 1.0}
            dials |= driven_dials(self.shapes, dials, {})
            for one in self.checked:
                layer = shape_layer(one.part, key)
                if layer is None or key not in one.moves:
                    continue
                before, moves = one.moves[key], self._sound(one, key, dials, (key,))
                off = np.abs(np.subtract(moves, before)).max(axis=1)
                rows = np.flatnonzero(off).astype(np.int32)
                if len(rows):
                    out.setdefault(one.part.id, []).append(
                        Mended(layer.id, rows, moves[rows].astype(np.float64))
                    )
        return out

    def pairs_mended(self, progress: Progress) -> list[PairMended]:
        """What mends pairs of shapes by itself, as corrections of both; after `singly`, for what is wrong with one alone is left to that.

        Raises
        ------
        Cancelled
            Through `progress`.
        """
        pairs, out = self._pairs(), []
        for k, keys in enumerate(pairs):
            progress.report(k / len(pairs), " + ".join(self.held[key].name for key in keys))
            known = self._correction(keys)
            own = known or "+".join(keys)
            dials = dict.fromkeys(keys, 1.0)
            dials |= {**driven_dials(self.shapes, dials, {}), own: 1.0}
            for one in self.checked:
                if not any(key in one.moves for key in keys):
                    continue
                before = one.moves.setdefault(own, np.zeros_like(one.rest))
                moves = self._sound(one, own, dials, keys)
                rows = np.flatnonzero(np.abs(moves - before).max(axis=1)).astype(np.int32)
                if len(rows):
                    wanted = moves[rows].astype(np.float64)
                    out.append(PairMended(keys, known, one.part.id, rows, wanted))
                if not known:
                    del one.moves[own]
        return out

    def _correction(self, keys: tuple[str, ...]) -> str:
        """The id of the shape that follows these and nothing else; "" for none."""
        for key, shape in self.shapes.items():
            followed = sorted(driver.source for driver in shape.drivers)
            if followed == sorted(keys) and not any(driver.rig for driver in shape.drivers):
                return key
        return ""

    def _sound(self, one: CheckedPart, key: str, dials: Mapping[str, float], keys: tuple[str, ...]) -> F32:
        """How a shape should move a part (n, 3), for as little as can be to be wrong with those that are tried, itself or what it corrects."""
        first = one.moves[key]
        try:
            for turn in range(PASSES):
                moved = {other.part.id: other.moved(dials) for other in self.checked}
                moves = moved[one.part.id]
                assert moves is not None
                wrong = self._wrong(one, moves, moved, keys)
                own = one.moves[key].astype(np.float64)
                behind = [find.rows for find in wrong if _uneven(find)]
                if behind:
                    # At last only they themselves: what was lifted out beside them would be drawn under again.
                    rings = RINGS if turn < PASSES - 2 else 0
                    rows = grown(one.around, np.unique(np.concatenate(behind)), rings)
                    if key in keys:
                        own = evened_out(one.around, own, rows)
                    else:
                        # What a correction adds need not be even: what comes of all must.
                        own += evened_out(one.around, moves.astype(np.float64), rows) - moves
                aside = [find.rows for find in wrong if find.kind == "uneven"]
                if aside and one.twin is not None:
                    rows = np.unique(np.concatenate(aside))
                    rows = rows[one.twin[rows] >= 0]
                    both = 0.5 * (own[rows] + own[one.twin[rows]] * [-1.0, 1.0, 1.0])
                    own[rows], own[one.twin[rows]] = both, both * [-1.0, 1.0, 1.0]
                for other in self.checked[1:]:
                    under = [
                        find.rows for find in wrong if find.kind == "through" and find.other == other.part.id
                    ]
                    if under:
                        rows = np.unique(np.concatenate(under)).astype(np.int32)
                        own += lifts(one, moves, other, moved[other.part.id], rows)
                if not behind and not aside and all(find.kind != "through" for find in wrong):
                    break
                one.moves[key] = own.astype(np.float32)
            return one.moves[key]
        finally:
            one.moves[key] = first

    def _wrong(
        self, one: CheckedPart, moves: F32, moved: Mapping[str, F32 | None], keys: tuple[str, ...]
    ) -> list[Find]:
        """What is wrong with a part moved by some shapes; of two, what is not wrong with one of them already."""
        wrong = left_behind(one.around, moves) + strained(one.around, moves)
        if len(keys) == 1:
            wrong += stray(one.around, moves)
            if one.twin is not None:
                wrong += uneven(one.around, moves, one.twin)
        # Eyes that turn slide under the lids, as they should: only what the face does to others is meant.
        for other in self.checked[1:] if one is self.checked[0] else ():
            wrong += _through(one, moves, other, moved[other.part.id])
        meant = {kind for key in keys for kind in self.shapes[key].meant}
        wrong = [find for find in wrong if find.kind not in meant]
        if len(keys) == 1:
            self._alone[keys[0], one.part.id] = wrong
            return wrong
        before = [find for key in keys for find in self._alone.get((key, one.part.id), [])]
        return [find for find in wrong if not _known(find, before)]


def _overlapping(checked: Sequence[CheckedPart], own: Sequence[str]) -> list[tuple[str, ...]]:
    """Pairs of shapes that move some of the same clay, those that move most of it first."""
    shared: dict[tuple[str, ...], float] = {}
    for one in checked:
        sizes = {key: np.abs(one.moves[key]).max(axis=1) for key in own if key in one.moves}
        for a, b in itertools.combinations(sizes, 2):
            both = float(np.minimum(sizes[a], sizes[b]).sum())
            if both > 0:
                shared[a, b] = shared.get((a, b), 0.0) + both
    return sorted(shared, key=lambda pair: -shared[pair])


def _through(one: CheckedPart, moves: F32, other: CheckedPart, others: F32 | None) -> list[Find]:
    def into(places: F32) -> F32:
        there = other.part.transform.to_part(one.part.transform.to_scene(places.astype(np.float64)))
        return np.ascontiguousarray(there, np.float32)

    now = other.rest if others is None else other.rest + others
    there = other.mesh if others is None else Mesh(other.mesh.topology, now)
    clay = Other(other.part.id, other.mesh, there)
    return through(one.around, into(one.rest), into(one.rest + moves), clay, one.depths)


def _uneven(find: Find) -> bool:
    """Whether a find goes where what lies around moves evenly; large ones may be where a mouth opens."""
    return find.kind == "behind" or (find.kind in ("squashed", "stretched") and len(find.rows) <= FEW)


def lifts(one: CheckedPart, moves: F32, other: CheckedPart, others: F32 | None, rows: I32) -> F64:
    """How vertices (k,) that lie under another part are to move further, (n, 3), in the first part's axes."""
    scene = one.part.transform.to_scene((one.rest + moves).astype(np.float64))
    places = other.part.transform.to_part(scene)
    now = Mesh(other.mesh.topology, other.rest if others is None else other.rest + others)
    off = lifted(one.around, np.ascontiguousarray(places, np.float32), now, rows)
    lifted_to = one.part.transform.to_part(other.part.transform.to_scene(places + off))
    return np.where(np.any(off, axis=1, keepdims=True), lifted_to - (one.rest + moves), 0.0)


def _known(find: Find, before: Sequence[Find]) -> bool:
    """Whether a find of two shapes was there with one of them alone, not much better."""
    return any(
        one.kind == find.kind
        and find.amount < WORSE * one.amount
        and bool(len(np.intersect1d(one.rows, find.rows, assume_unique=True)))
        for one in before
    )


def find_words(who: str, find: Find, part: Part, into: str = "") -> str:
    """A find in words: whose it is, what it is, how bad and how large; `into` is what a part goes through."""
    what = f"{KINDS[find.kind]} {into}" if into else KINDS[find.kind]
    size = f"{len(find.rows)} {'vertices' if len(find.rows) != 1 else 'vertex'}"
    amount = find.amount * part.transform.scale
    return f"{who}: {what[:1].lower()}{what[1:]}, {amount:.2g} mm, {size} of {part.name}"


def _told(
    find: Find,
    keys: tuple[str, ...],
    one: CheckedPart,
    moves: AnyArray,
    held: Mapping[str, FoundShape],
    checked: Sequence[CheckedPart],
) -> ShapeFind:
    place = one.part.transform.to_scene((one.rest[find.worst] + moves[find.worst])[None].astype(np.float64))[
        0
    ]
    names = " + ".join(held[key].name for key in keys)
    into = next((other.part.name for other in checked if other.part.id == find.other), "")
    scale = one.part.transform.scale
    words = find_words(names, find, one.part, into)
    return ShapeFind(keys, one.part.id, replace(find, amount=find.amount * scale), place, words)
