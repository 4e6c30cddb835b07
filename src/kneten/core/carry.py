"""Carry over: the form, layers and values of one piece of clay laid onto another mesh.

The target is followed up its levels. On each, every vertex looks along the normal of the smooth surface for the source,
to both sides or to one; what faces away is not met, so that the far side of an ear is never taken for its near side.
Where nothing is met, or something lies less than half as far, the nearest place counts. On the coarser levels the moves
are evened over the neighbours, so that no vertex falls into a pore; the finest takes the source as it is. Vertices
without a match follow those around them, less and less, and are reported.

Laying a mesh of subdivision levels onto a surface level by level: Lee, Moreton, Hoppe 2000 ("Displaced subdivision
surfaces"), with the search along normals in both directions.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, U8, AnyArray, Progress
from kneten.core.crossings import crossing_among
from kneten.core.face_tree import FaceTree, Found
from kneten.core.following import bent, evened, faded, flooded, means, turned
from kneten.core.mesh import Mesh
from kneten.core.normals import compute_normals
from kneten.core.paint.layers import BASE, base_material, begun, packed_in, paint_of, seen_values
from kneten.core.paint.packed import Paint, by_cover, from_cover
from kneten.core.relief import Relief
from kneten.core.stack import Layer, LayerGroup, Stack
from kneten.core.topology import Topology
from kneten.core.uncross import AROUND, put_back
from kneten.core.values import VALUES, between, existing, met_most, of_round_faces, staying, taken_round

FACING = 0.2
"""Least cosine between the target's normal and that of what it meets: some 78 degrees."""

ENDING = 0.5
"""Cosine below which what leans away from the target, and borders on what has no match, is the source's end."""

ASIDE = 1.5
"""Edges that a place may lie aside of a vertex which no line finds: creases do, the end of a finger lies farther."""

EVENING = 6
"""Rings over which the normals of rough ground are evened."""

UNFOLDING = 12
"""Rounds of spreading out what was folded. Most folds are gone after three."""

GIVEN_UP = (1, 2, 4, 8)
"""Rings around clay that would go through other clay whose matches are given up, in one round after the other."""

NEARBY = 12.0
"""Faces' sizes around it that are looked at again."""

SAMPLES = 3000

FEW = 1e-6
"""Moves below this share of the target's size are none."""


@dataclass(frozen=True, eq=False)
class Source:
    """What is carried over, on its finest level, in the target's space.

    Attributes
    ----------
    layers : tuple of Layer
        As the source has them; their differences are not used.
    moves : tuple of (n, 3) float32
        What each layer does to the vertices at full strength.
    solo : str
    groups : tuple of LayerGroup
    tint : (n, 4) uint8 or None
        Colours without the paint of layers, where they have any.
    material : (n, 4) uint8 or None
        The same of what `Mesh.material` has.
    """

    mesh: Mesh
    layers: tuple[Layer, ...] = ()
    moves: tuple[F32, ...] = ()
    solo: str = ""
    groups: tuple[LayerGroup, ...] = ()
    tint: U8 | None = None
    material: U8 | None = None


@dataclass(frozen=True)
class CarryWish:
    """How to carry over.

    Attributes
    ----------
    reach : float
        How far from the target the source is looked for, in the target's space.
    side : str
        both, out or in: where along the normal.
    where : str
        all, free (of the mask) or masked.
    levels : int
        Levels to add first.
    layers : bool
        Layers arrive as layers; else what they do arrives as form.
    detail_layer : str
        A name: the form goes on a layer called so; "" for into the clay.
    colour, regions, mask : bool
    lines : bool
        Guides and landmarks go along.
    """

    reach: float
    side: str = "both"
    where: str = "all"
    levels: int = 0
    layers: bool = True
    detail_layer: str = ""
    colour: bool = True
    regions: bool = True
    mask: bool = True
    lines: bool = True


@dataclass(frozen=True, eq=False)
class CarriedOver:
    """What was made.

    Attributes
    ----------
    missed : (n,) bool
        Vertices that should have had a match and have none.
    found : Found
        The places of the source that the vertices lie on.
    """

    stack: Stack
    mesh: Mesh
    missed: AnyArray
    found: Found


def source_of(mesh: Mesh, stack: Stack | None, matrix: F64, progress: Progress) -> Source:
    """A part's clay on its finest level, with what its layers do, brought into another space.

    Parameters
    ----------
    mesh : Mesh
        That of the level in hand; not changed.
    matrix : (4, 4) float64
        From its space into the target's.
    """
    if stack is None:
        return Source(_brought(mesh, matrix))
    progress.report(0.0, "Reading the source")
    stack, mesh = stack.stepped(mesh, stack.top)
    stack = packed_in(stack, mesh).taken(mesh.positions)
    moves: list[F32] = []
    if stack.layers:
        bare = stack.bare()
        plain = bare.form(stack.top)
        for layer in stack.layers:
            progress.report(0.0, f"Reading {layer.name}")
            alone = bare.with_layer(replace(layer, strength=1.0, shown=True)).form(stack.top) - plain
            moves.append((alone @ matrix[:3, :3].T.astype(np.float32)).astype(np.float32))
    brought = _brought(mesh, matrix)
    return Source(brought, stack.layers, tuple(moves), stack.solo, stack.groups, stack.tint, stack.material)


def _brought(mesh: Mesh, matrix: F64) -> Mesh:
    """A mesh in another space; mirrored spaces turn its faces over."""
    if np.array_equal(matrix, np.eye(4)):
        return mesh
    places = (mesh.positions @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32)
    shape, values = mesh.topology, mesh.own_values()
    if np.linalg.det(matrix[:3, :3]) < 0:
        # Only the corners' order is another: numbers of vertices and faces stay.
        faces = shape.faces.copy()
        quads = faces[:, 3] >= 0
        faces[quads] = faces[quads][:, ::-1]
        faces[~quads, :3] = faces[~quads, 2::-1]
        shape = replace(shape, faces=faces)
        corners = np.where(quads[:, None], [3, 2, 1, 0], [2, 1, 0, -1])
        values |= taken_round(of_round_faces(values), corners, np.where(quads, 4, 3))
    return Mesh(shape, places, **values)


def offered_reach(source: Mesh, target: Mesh) -> float:
    """A search distance for two meshes of one space: four times how far they mostly are apart, by their sizes."""
    size = float(np.linalg.norm(np.ptp(np.array(source.bounds(), np.float64), axis=0)))
    some = np.unique(np.linspace(0, target.n_vertices - 1, SAMPLES).astype(np.int32))
    at = np.ascontiguousarray(target.positions[some])
    far = np.full(len(at), np.inf, np.float32)
    _, off = FaceTree.of(source).nearest(at, far, Progress())
    return float(np.clip(4 * np.median(off), 0.01 * size, 0.15 * size))


def offered_levels(source: int, target: int) -> int:
    """Levels to add so that a target has about as many vertices as its source."""
    return max(round(float(np.log(max(source, 1) / max(target, 1)) / np.log(4))), 0)


def carried_over(
    source: Source, mesh: Mesh, stack: Stack, wish: CarryWish, progress: Progress
) -> CarriedOver:
    """Lay a source's form, layers and values onto a mesh.

    Parameters
    ----------
    mesh, stack : Mesh, Stack
        The target's level in hand, and its levels and layers. Not changed.

    Returns
    -------
    CarriedOver
        With the finest level in hand.

    Raises
    ------
    Cancelled
        Through `progress`.
    """
    if stack.level < stack.top:
        stack, mesh = stack.stepped(mesh, stack.top, progress)
    for k in range(wish.levels):
        progress.report(0.05 + 0.1 * k / wish.levels, f"Level {stack.top + 1}")
        stack, mesh = stack.added(mesh, Progress())
    stack = replace(packed_in(stack, mesh).taken(mesh.positions), recording="", hand=BASE)
    weights = _weights(mesh, wish.where)
    search = _Search(source.mesh, wish, float(np.linalg.norm(np.ptp(np.array(mesh.bounds()), axis=0))))
    smooth = not any(level.detail for level in stack.levels[1:]) and not stack.layers and wish.where == "all"
    if smooth:
        places, found, known = search.from_base(stack, progress)
    else:
        # What the target has of its own stays the ground that is searched from.
        places, found, known = search.on(mesh.positions, mesh.topology, True, progress, (0.2, 0.7), True)
    places = mesh.positions + (places - mesh.positions) * weights[:, None]
    places, over = search.unfolded(mesh.topology, places, found, known, weights)
    known = known & ~over
    wanted, known = _uncrossed(mesh, places - mesh.positions, known, weights)
    missed = ~known & (weights > 0.5)
    progress.report(0.75, "Layers")
    stack = _with_layers(stack, mesh, source, found, known, weights, wish, progress)
    stack = _with_form(stack, wanted, wish)
    progress.report(0.85, "Colour and regions")
    values = dict(_values(source.mesh, mesh, found, known, weights, wish))
    stack = _with_paint(stack, mesh, source, found, known & (weights > 0.5), wish, values)
    if stack.top and wish.where == "all":
        # Broad moves go down as far as they reach: each level then carries what belongs to it. Where some of the
        # clay is to stay as it is, to the bit, that waits for the next step down.
        stack = stack.shared(wanted, progress)
    else:
        stack = stack.taken(wanted)
    made = stack.mesh_of(stack.top, wanted, values)
    return CarriedOver(stack, made, missed, found)


def _uncrossed(mesh: Mesh, moves: F32, known: AnyArray, weights: F32) -> tuple[F32, AnyArray]:
    """Where vertices go by their moves (n, 3), and which of them are still known: what would go through other clay is not.

    At the end of what has a match, a horn say that only the new clay has, its foot is drawn down onto the source while
    the rest stays. What is nearest to such a crossing goes back; where that is not enough, matches are given up, over more
    and more rings.
    """
    ground, faces = mesh.positions, mesh.topology.faces

    def laid(known: AnyArray) -> tuple[F32, F32]:
        even = faded(mesh.topology, moves, known)
        return even, ground + np.where(known[:, None], even, even * weights[:, None])

    even, wanted = laid(known)
    if not bent(mesh.topology, ground, even):
        return wanted, known
    new = crossing_among(wanted, faces)
    if not new.any() or not (new := new & ~crossing_among(ground, faces)).any():
        return wanted, known
    # From here on only what lies around is looked at.
    corners = np.where(faces >= 0, faces, faces[:, :1])
    hit = np.unique(corners[new])
    size = float(np.linalg.norm(np.ptp(wanted[corners[new]], axis=1), axis=1).mean())
    near = np.zeros(len(wanted), bool)
    for at in (wanted, ground):
        near |= cKDTree(at[hit]).query(at, distance_upper_bound=NEARBY * size)[0] < np.inf
    among = np.flatnonzero(near[corners].any(axis=1))
    before = crossing_among(ground, faces[among])
    rows = np.flatnonzero((wanted != ground).any(axis=1)).astype(np.int32)
    back = put_back(ground, wanted, rows, faces[among], size, AROUND)
    if not (crossing_among(back, faces[among]) & ~before).any():
        # It is told where it goes back far.
        off = np.linalg.norm(wanted - back, axis=1)
        return back, known & ~(2.0 * off > np.linalg.norm(wanted - ground, axis=1) + size)
    fewer = known
    new = crossing_among(wanted, faces[among]) & ~before
    for rings in GIVEN_UP:
        marked = np.zeros(len(moves), bool)
        marked[corners[among[new]]] = True
        for _ in range(rings):
            marked[corners[marked[corners].any(axis=1)]] = True
        fewer = fewer & ~marked
        _, wanted = laid(fewer)
        new = crossing_among(wanted, faces[among]) & ~before
        if not new.any():
            return wanted, fewer
    return back, known


def _weights(mesh: Mesh, where: str) -> F32:
    if mesh.mask is None or where == "all":
        n = mesh.n_vertices
        return np.ones(n, np.float32) if where != "masked" else np.zeros(n, np.float32)
    return mesh.mask.copy() if where == "masked" else np.float32(1) - mesh.mask


class _Search:
    """Finds the source from the target's levels."""

    def __init__(self, source: Mesh, wish: CarryWish, size: float) -> None:
        self._source = source
        self._tree = FaceTree.of(source)
        self._wish = wish
        self._least = size * FEW

    def from_base(self, stack: Stack, progress: Progress) -> tuple[F32, Found, AnyArray]:
        """Follow smooth levels up from the lowest: places on the highest, what they lie on, which have any."""
        places = stack.form(0)
        total = sum(level.topology.n_vertices for level in stack.levels)
        done = 0
        for k, level in enumerate(stack.levels):
            if level.step is not None:
                below = stack.levels[k - 1].topology
                places = level.step.refine(below, places, True, np.float32)
            share = (0.2 + 0.5 * done / total, 0.2 + 0.5 * (done + level.topology.n_vertices) / total)
            ground = places
            places, found, known = self.on(ground, level.topology, k == stack.top, progress, share)
            if k < stack.top:
                places = ground + faded(level.topology, places - ground, known)
            done += level.topology.n_vertices
        return places, found, known

    def on(
        self,
        at: F32,
        shape: Topology,
        exact: bool,
        progress: Progress,
        share: tuple[float, float],
        rough: bool = False,
    ) -> tuple[F32, Found, AnyArray]:
        """Places on the source for the vertices of one level; evened over their neighbours unless `exact`.

        `rough` ground has fine detail of its own.
        """
        wish = self._wish
        normals = compute_normals(at, shape)
        if rough:
            # Pores turn a vertex's normal anywhere; the form under them tells where to look.
            every = np.ones(len(at), bool)
            for _ in range(EVENING):
                normals = evened(shape, normals, every)
            normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
        back = 0.0 if wish.side == "out" else wish.reach
        ahead = 0.0 if wish.side == "in" else wish.reach
        middle = share[0] + 0.7 * (share[1] - share[0])
        found, off = self._tree.along(at, normals, back, ahead, FACING, progress, (share[0], middle))
        # A line that misses, or travels far along a slope, is not trusted where something is nearer.
        way = np.abs(off)
        rows = np.flatnonzero(way > max(0.15 * wish.reach, self._least)).astype(np.int32)
        if len(rows):
            reaches = np.minimum(0.5 * way, np.float32(wish.reach))
            into = (found, way)
            lines = found.faces[rows]
            self._tree.nearest(at, reaches, progress, normals, FACING, rows, into, (middle, share[1]))
            # What is near but lies aside, past the end of a finger say, would draw the clay along its own surface.
            moves = found.of(self._source.positions)[rows] - at[rows]
            along = np.einsum("ij,ij->i", moves, normals[rows])
            aside = np.sqrt(np.maximum(np.einsum("ij,ij->i", moves, moves) - along * along, 0))
            some = shape.faces[:: max(shape.n_faces // 4096, 1)]
            edge = float(np.linalg.norm(at[some[:, 0]] - at[some[:, 1]], axis=1).mean())
            astray = (aside > np.maximum(np.abs(along), ASIDE * edge)) & (lines < 0)
            found.faces[rows[astray]] = -1
        known = found.there
        places = np.where(known[:, None], found.of(self._source.positions), at)
        if wish.side != "both":
            side = np.einsum("ij,ij->i", places - at, normals)
            wrong = side < -self._least if wish.side == "out" else side > self._least
            known = known & ~wrong
            places[wrong] = at[wrong]
        # The round end of a finger is no match for the middle of a longer one, though lines meet it.
        lean = np.einsum("ij,ij->i", found.of(self._source.normals), normals)
        ends = flooded(shape, ~known, lean < ENDING) & known
        known = known & ~ends
        places[ends] = at[ends]
        if not exact:
            places = at + evened(shape, places - at, known)
        return places, found, known

    def unfolded(
        self, shape: Topology, places: F32, found: Found, known: AnyArray, weights: F32
    ) -> tuple[F32, AnyArray]:
        """Places with faces that would lie upside down spread out again, and vertices (n,) bool of those still left.

        What `found` says of the vertices that were moved changes with them.
        """
        source = self._source
        places = places.copy()
        for _ in range(UNFOLDING):
            over = turned(shape, places, found.of(source.normals)) & known & (weights > 0)
            rows = np.flatnonzero(over).astype(np.int32)
            if not len(rows):
                break
            places[rows] = means(shape, places, rows)
            reaches = np.full(len(places), np.inf, np.float32)
            off = np.empty(len(places), np.float32)
            self._tree.nearest(places, reaches, Progress(), rows=rows, into=(found, off))
            places[rows] = found.of(source.positions)[rows]
        return places, turned(shape, places, found.of(source.normals)) & known


def _with_layers(
    stack: Stack,
    mesh: Mesh,
    source: Source,
    found: Found,
    known: AnyArray,
    weights: F32,
    wish: CarryWish,
    progress: Progress,
) -> Stack:
    """The stack with the source's layers, on the finest level, each with what it does there."""
    if not wish.layers or not source.layers:
        return stack
    top, n = stack.top, mesh.n_vertices
    ids = {layer.id for layer in stack.layers}
    new = [
        replace(
            one, reliefs=(), paint=Paint.none(), mask=Paint.none(), pose=None, name=stack.free_name(one.name)
        )
        for one in source.layers
        if one.id not in ids
    ]
    held_groups = {group.id for group in stack.groups}
    groups = (*stack.groups, *(group for group in source.groups if group.id not in held_groups))
    stack = replace(stack, layers=(*stack.layers, *new), groups=groups, solo=stack.solo or source.solo)
    bare = stack.bare()
    ground = stack.ground(top)
    plain = bare.form(top) if ids else None
    for layer, moves in zip(source.layers, source.moves, strict=True):
        progress.report(0.78, f"Layer {layer.name}")
        wanted = faded(mesh.topology, found.of(moves), known)
        held = stack.layer(layer.id)
        if layer.id in ids and plain is not None:
            alone = bare.with_layer(replace(held, strength=1.0, shown=True))
            wanted -= alone.form(top) - plain
        wanted *= weights[:, None]
        rows = np.flatnonzero(wanted.any(axis=1)).astype(np.int32)
        told = Relief(rows, ground.told(rows, wanted[rows]))
        stack = stack.with_layer(held.with_relief(top, held.relief(top).plus(told, 1.0, n)))
    return stack


def _with_paint(
    stack: Stack,
    mesh: Mesh,
    source: Source,
    found: Found,
    here: AnyArray,
    wish: CarryWish,
    values: dict[str, Any],
) -> Stack:
    """The stack with the source's paint on its layers where it has a match, `here` (n,); colours in `values` follow."""
    as_layers = wish.layers and wish.colour and source.tint is not None
    if not as_layers and stack.tint is None:
        return stack
    own = mesh.value("colour")
    stack = begun(stack, mesh)
    assert stack.tint is not None
    if wish.colour:
        base = source.tint if as_layers else source.mesh.colour
        if base is not None:
            tint = stack.tint.copy()
            tint[here, :3] = np.rint(found.of(base)[here, :3])
            stack = replace(stack, tint=tint)
        gloss = source.material if as_layers else source.mesh.material
        if gloss is not None:
            material = base_material(stack).copy()
            material[here] = np.rint(found.of(gloss)[here])
            stack = replace(stack, material=material)
    n = mesh.n_vertices
    for layer in source.layers if as_layers else ():
        if not layer.paint:
            continue
        held = stack.layer(layer.id)
        laid = []
        for one, before in ((layer.paint, held.paint), (layer.mask, held.mask)):
            # What covers more counts more for the colour between.
            there = from_cover(found.of(by_cover(one.dense(source.mesh.n_vertices))))
            dense = before.dense(n)
            dense[here] = there[here]
            laid.append(Paint.of(dense))
        paint, mask = laid
        held = replace(held, paint=paint, mask=mask, blend=layer.blend, leaves=layer.leaves)
        stack = stack.with_layer(held)
    values["paint"] = paint_of(stack, stack.hand)
    values |= existing(seen_values(stack, None, values.get("colour", own)))
    return stack


def _with_form(stack: Stack, wanted: F32, wish: CarryWish) -> Stack:
    """The stack ready to take positions of the finest level into its clay; or with a layer of its own that has them."""
    now = stack.form(stack.top)
    if wish.detail_layer:
        layer = Layer(stack.free_name(wish.detail_layer))
        stack = replace(stack, layers=(*stack.layers, layer), recording=layer.id, solo="")
        made = replace(stack, synced=now).taken(wanted)
        return replace(made, recording="")
    return replace(stack, synced=now)


def _values(
    source: Mesh, mesh: Mesh, found: Found, known: AnyArray, weights: F32, wish: CarryWish
) -> Mapping[str, AnyArray]:
    """The target's values with the source's where it has a match."""
    values: dict[str, Any] = mesh.own_values()
    here: AnyArray = np.logical_and(known, weights > 0.5).reshape(-1)
    faces = mesh.topology.faces
    for name, value in staying(source.values()).items():
        kind = VALUES[name]
        if not _wanted(wish, mesh, name) or kind.around == "edges":
            continue
        if kind.around:
            chosen = np.asarray(here[np.maximum(faces, 0)].all(axis=1))
            own = values.get(name, kind.none(len(faces)))
            values[name] = np.where(chosen[:, None], corners_carried(source, value, mesh, found), own)
            continue
        own = values.get(name, kind.none(len(faces) if kind.by_face else mesh.n_vertices))
        if kind.by_face:
            # The one met most often at a face's corners; the first of them where several are.
            met = np.concatenate([value, kind.none(1)])[np.where(here, found.faces, -1)]
            best, chosen = met_most(met, faces), here[np.maximum(faces[:, 0], 0)]
        elif kind.label:
            best, chosen = between(name, value, found.corners, found.shares), here
        else:
            best = kind.cast(found.of(value.reshape(len(value), -1)).astype(np.float64))
            chosen = here
        values[name] = np.where(chosen.reshape(-1, *[1] * (own.ndim - 1)), best, own)
    return values


def corners_carried(source: Mesh, value: AnyArray, mesh: Mesh, found: Found) -> AnyArray:
    """What goes around the corners of faces, (f, 4 k) float32, from the places of the source that vertices lie on.

    Where the places of a face's corners lie on both sides of a seam, all of it goes to the side that its first corner
    lies on, told on from there by how the source's face there lies: seams run along edges of the clay they come to.
    """
    faces = mesh.topology.faces
    known = np.maximum(faces, 0)
    table = value.reshape(len(value), 4, -1).astype(np.float64)
    rows = source.topology.faces
    at = found.corners
    # Which corner of its face each of the three is, and what there is at them.
    which = np.argmax(rows[np.maximum(found.faces, 0)][:, None, :] == at[:, :, None], axis=2)
    three = table[np.maximum(found.faces, 0)[:, None], which]
    own = np.einsum("nc,nck->nk", found.shares.astype(np.float64), three)
    p = source.positions.astype(np.float64)[at]
    # How the value changes with the place: exact on the triangle, nothing across it.
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    aa, ab, bb = (a * a).sum(1), (a * b).sum(1), (b * b).sum(1)
    scale = np.maximum(aa * bb - ab * ab, 1e-30)
    to_a, to_b = (bb[:, None] * a - ab[:, None] * b) / scale[:, None], (aa[:, None] * b - ab[:, None] * a) / scale[:, None]  # fmt: skip
    slope = np.einsum("nk,nd->nkd", three[:, 1] - three[:, 0], to_a)
    slope += np.einsum("nk,nd->nkd", three[:, 2] - three[:, 0], to_b)
    where = np.einsum("nc,ncd->nd", found.shares.astype(np.float64), p)
    # The first corner tells for all: that which the others agree with most would be no better at a seam.
    first = known[:, 0]
    away = where[known] - where[first][:, None]
    told = own[first][:, None] + np.einsum("nkd,ncd->nck", slope[first], away)
    spread = np.linalg.norm(told - own[first][:, None], axis=2).max(axis=1)
    off = np.linalg.norm(own[known] - told, axis=2)
    out = np.where((off <= 0.75 * spread[:, None])[:, :, None], own[known], told)
    out[faces < 0] = 0
    return out.reshape(len(faces), -1).astype(value.dtype)


def _wanted(wish: CarryWish, mesh: Mesh, name: str) -> bool:
    """Whether a kind of value is to be carried over; those that the wish does not name are."""
    if name == "mask":
        # A mask that the target has says where to carry to.
        return wish.mask and mesh.mask is None
    if name == "origin":
        # Which parts it was joined from is the target's own affair.
        return False
    return bool(getattr(wish, "colour" if name == "material" else name, True))


def deviation(source: Mesh, made: Mesh, progress: Progress) -> F32:
    """How far two surfaces of one space are apart, (n,) float32, at the vertices of the second.

    The greater of a vertex's own distance from the first surface, and that of any vertex of the first which lies
    nearest to a triangle at it: so what has not been carried over shows where it should be.
    """
    far = np.full(made.n_vertices, np.inf, np.float32)
    _, own = FaceTree.of(source).nearest(made.positions, far, progress, share=(0.0, 0.5))
    far = np.full(source.n_vertices, np.inf, np.float32)
    found, off = FaceTree.of(made).nearest(source.positions, far, progress, share=(0.5, 1.0))
    for corner in range(3):
        np.maximum.at(own, found.corners[:, corner], off)
    return own
