"""How much each vertex of a body goes along with which joint, found from the form.

Each bone warms what it sees from inside, the nearer the more; the warmth spreads over the surface. A vertex goes along
with a joint as far as its bones have warmed it (Baran and Popovic, "Automatic rigging and animation of 3D characters",
2007). Bones lead from a joint to those that hang on it. Weights are between 0 and 1 and add up to 1: edges whose
angles are too wide count nothing instead of less than that (else there would be weights below 0).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.pose.rig import WEIGHTS, Joint, Rig, RigError, wrong_joints
from kneten.core.remesh import triangulate
from kneten.core.subdivide import Step
from kneten.core.topology import Topology

TRIES = 4
"""Of the nearest bones those that are looked for from a vertex, until one is seen."""

UNSEEN = 0.02
"""How much what sees no bone is warmed by the nearest all the same."""

AS_NEAR = 1.05
"""Bones that are farther than the nearest by this share at most warm together."""

LEAST = 1e-4
"""Weights below this are none."""

FAINT = 0.01, 0.08
"""Warmth below the first is none, and all of it counts from the second on: far from a joint clay is only turned."""

JOINTS_AT_ONCE = 8
"""Whose weights are brought to a finer level together: what it takes is their number for each vertex."""


@dataclass(frozen=True, eq=False)
class Bones:
    """The lines that warm.

    Attributes
    ----------
    of : (b,) int32
        The joint that turns each.
    begin, end : (b, 3) float64
    """

    of: I32
    begin: F64
    end: F64


def bones_of(joints: Sequence[Joint]) -> Bones:
    """From each joint to those that hang on it; of a joint alone, its place."""
    places = np.array([joint.place for joint in joints], np.float64)
    pairs = [(joint.parent, k) for k, joint in enumerate(joints) if joint.parent >= 0]
    if not pairs:
        return Bones(np.zeros(1, np.int32), places[:1], places[:1])
    first, last = np.array(pairs).T
    return Bones(first.astype(np.int32), places[first], places[last])


def nearest_on(bones: Bones, points: F64) -> tuple[F64, F64]:
    """How far points (n, 3) are from each bone, (n, b), and the places on these, (n, b, 3)."""
    way = bones.end - bones.begin
    long = np.maximum((way * way).sum(axis=1), 1e-18)
    t = np.einsum("nbk,bk->nb", points[:, None] - bones.begin, way) / long
    spots = bones.begin + np.clip(t, 0.0, 1.0)[..., None] * way
    return np.linalg.norm(points[:, None] - spots, axis=2), spots


def cut_both_ways(faces: I32) -> tuple[I32, F64]:
    """Triangles (t, 3) of faces (f, 4), and how much each counts, (t,): a quad is cut along both diagonals, so that mirror images are measured alike."""
    quad = faces[:, 3] >= 0
    three, four = faces[~quad, :3], faces[quad]
    cuts = [four[:, corners] for corners in ([0, 1, 2], [0, 2, 3], [0, 1, 3], [1, 2, 3])]
    shares = np.concatenate([np.ones(len(three)), np.full(4 * len(four), 0.5)])
    return np.concatenate([three, *cuts]).astype(np.int32), shares


def stiffness(positions: F32, faces: I32) -> sparse.csc_matrix:
    """The cotangent stiffness of a surface of faces (f, 4), (n, n): how warmth goes along its edges; no edge goes below 0."""
    places = positions.astype(np.float64)
    triangles, shares = cut_both_ways(faces)
    n = len(places)
    rows, columns, values = [], [], []
    for k in range(3):
        a, b, c = (triangles[:, (k + j) % 3] for j in range(3))
        u, v = places[b] - places[a], places[c] - places[a]
        double = np.linalg.norm(np.cross(u, v), axis=1)
        flat = 1e-12 * np.maximum((u * u).sum(axis=1), 1e-30)
        half = shares * 0.5 * np.einsum("ij,ij->i", u, v) / np.maximum(double, flat)
        rows += [b, c]
        columns += [c, b]
        values += [half, half]
    edges = sparse.coo_matrix(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), (n, n)
    ).tocsr()
    edges.data = np.maximum(edges.data, 0.0)
    return (sparse.diags(np.asarray(edges.sum(axis=1)).ravel()) - edges).tocsc()


def areas(positions: F32, faces: I32) -> F64:
    """The area about each vertex, (n,): a third of its triangles."""
    triangles, shares = cut_both_ways(faces)
    a, b, c = (positions[triangles[:, k]].astype(np.float64) for k in range(3))
    each = shares * np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6
    return np.asarray(np.bincount(triangles.ravel(), np.repeat(each, 3), len(positions)), np.float64)


def factored(matrix: sparse.csc_matrix) -> object:
    """The LU factorisation of a symmetric matrix that needs no pivots."""
    return splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})


def warmed(mesh: Mesh, bones: Bones, progress: Progress) -> tuple[F64, sparse.csr_matrix]:
    """How strongly each vertex is warmed, (n,), and by which bones, (n, b), rows that add up to 1."""
    points = mesh.positions.astype(np.float64)
    n, count = len(points), len(bones.of)
    tree = FaceTree.of(mesh)
    far, near = np.empty(n), np.full((n, TRIES), -1, np.int32)
    seen = np.zeros(n, bool)
    block = max(1, 4_000_000 // (count * 3))
    for first in range(0, n, block):
        progress.report(first / n, "Looking for the bones")
        some = slice(first, min(first + block, n))
        off, spots = nearest_on(bones, points[some])
        order = np.argsort(off, axis=1)[:, :TRIES]
        away = np.take_along_axis(off, order, axis=1)
        seen_off = np.full(len(off), np.inf)
        sees = np.zeros(order.shape, bool)
        for k in range(order.shape[1]):
            # As long as none is seen; and those that are as near as the one that is.
            left = np.flatnonzero(away[:, k] <= AS_NEAR * seen_off)
            goes = spots[left, order[left, k]] - points[some][left]
            long = np.linalg.norm(goes, axis=1)
            way = (goes / np.maximum(long, 1e-12)[:, None]).astype(np.float32)
            start = np.ascontiguousarray(mesh.positions[some][left])
            # What leaves the body on its way does not see the bone.
            _, out = tree.along(start, way, 0.0, float(long.max(initial=0.0)), 0.02, Progress())
            sees[left, k] = out >= 0.999 * long
            seen_off = np.where(sees[:, k], np.minimum(seen_off, away[:, k]), seen_off)
        blind = ~sees.any(axis=1)
        sees[blind, 0] = True
        seen[some] = ~blind
        far[some] = np.where(blind, away[:, 0], seen_off)
        near[some, : order.shape[1]] = np.where(sees, order, -1)
    counts = (near >= 0).sum(axis=1)
    rows, places = np.nonzero(near >= 0)
    by = sparse.csr_matrix((1.0 / counts[rows], (rows, near[rows, places])), (n, count))
    least = 1e-3 * float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    return np.where(seen, 1.0, UNSEEN) / np.maximum(far, least) ** 2, by


def found_weights(mesh: Mesh, joints: Sequence[Joint], progress: Progress | None = None) -> tuple[U8, F32]:
    """The joints (n, 4) that the vertices of a body go along with, and how much with each, (n, 4).

    Raises
    ------
    RigError
        For joints that cannot turn a body, or that all lie outside of it.
    """
    progress = progress or Progress()
    words = wrong_joints(joints)
    if words:
        raise RigError(words)
    low, high = mesh.positions.min(axis=0), mesh.positions.max(axis=0)
    places = np.array([joint.place for joint in joints])
    reach = 0.05 * float(np.linalg.norm(high - low))
    outside = ((places < low - reach) | (places > high + reach)).any(axis=1)
    if outside.any():
        name = joints[int(np.argmax(outside))].name
        raise RigError(f"{name} lies outside of the body: move it in")
    bones = bones_of(joints)
    faces = mesh.topology.faces
    strength, by = warmed(mesh, bones, progress)
    mass = areas(mesh.positions, faces) * strength
    # Loose vertices would have no line of their own.
    held = sparse.diags(np.maximum(mass, 1e-12 * max(float(mass.max()), 1e-30)))
    progress.report(0.5, "Warming the body")
    solver = factored((stiffness(mesh.positions, faces) + held).tocsc())
    turns = sorted(set(bones.of.tolist()))
    best = Heaviest(mesh.n_vertices)
    spread = sparse.csr_matrix(
        (np.ones(len(bones.of)), (np.arange(len(bones.of)), bones.of)), (len(bones.of), len(joints))
    )
    heat = (held @ by @ spread).tocsc()
    for at, number in enumerate(turns):
        progress.report(0.5 + 0.5 * at / len(turns), joints[number].name)
        column = np.asarray(heat[:, [number]].todense()).ravel()
        warmth = solver.solve(column)  # type: ignore[attr-defined]
        soft = np.clip((warmth - FAINT[0]) / (FAINT[1] - FAINT[0]), 0.0, 1.0)
        best.add(np.array([number]), (warmth * soft * soft * (3 - 2 * soft))[:, None].astype(np.float32))
    return best.whole()


class Heaviest:
    """The four heaviest weights of each vertex, as those of one joint after the other are told."""

    def __init__(self, n: int) -> None:
        self._which = np.zeros((n, WEIGHTS), np.uint8)
        self._share = np.zeros((n, WEIGHTS), np.float32)

    def add(self, joints: AnyArray, weights: F32) -> None:
        """Weigh some joints (j,), whose weights are (n, j)."""
        for column, number in enumerate(joints):
            value = np.maximum(weights[:, column], 0.0)
            least = np.argmin(self._share, axis=1)
            rows = np.flatnonzero(value > np.take_along_axis(self._share, least[:, None], axis=1)[:, 0])
            self._share[rows, least[rows]] = value[rows]
            self._which[rows, least[rows]] = number

    def whole(self) -> tuple[U8, F32]:
        """Joints (n, 4) and weights (n, 4), the heaviest first, 1 together; what has none goes along with the first joint."""
        return evened(self._which, self._share)


def evened(which: U8, share: F32) -> tuple[U8, F32]:
    """Joints (n, k) and weights (n, k) with the heaviest first, no more than four, 1 together and none that are next to nothing."""
    order = np.argsort(-share, axis=1, kind="stable")[:, :WEIGHTS]
    which, share = np.take_along_axis(which, order, axis=1), np.take_along_axis(share, order, axis=1)
    total = share.astype(np.float64).sum(axis=1, keepdims=True)
    even = np.where(total > 0, share / np.maximum(total, 1e-30), 0.0)
    even[total[:, 0] <= 0, 0] = 1.0
    even[even < LEAST] = 0.0
    even /= even.sum(axis=1, keepdims=True)
    out = even.astype(np.float32)
    # To the bit: the heaviest has what rounding left.
    out[:, 0] = 1.0 - out[:, 1:].sum(axis=1)
    return np.where(out > 0, which, which[:, :1]).astype(np.uint8), out


def dense(rig: Rig, numbers: Sequence[int]) -> F32:
    """The weights of some joints over all vertices, (n, j)."""
    out = np.zeros((len(rig.which), len(numbers)), np.float32)
    for column, number in enumerate(numbers):
        out[:, column] = np.where(rig.which == number, rig.share, 0.0).sum(axis=1)
    return out


def weights_above(rig: Rig, shapes: Sequence[Topology], steps: Sequence[Step]) -> tuple[U8, F32]:
    """Joints (n, 4) and weights (n, 4) of the vertices of a finer level: `steps` lead there, from the levels with `shapes`."""
    if not steps:
        return rig.which, rig.share
    used = sorted(set(rig.which[rig.share > 0].tolist()))
    best = Heaviest(len(steps[-1].source))
    for first in range(0, len(used), JOINTS_AT_ONCE):
        some = used[first : first + JOINTS_AT_ONCE]
        held: AnyArray = dense(rig, some)
        for shape, step in zip(shapes, steps, strict=False):
            held = step.refine(shape, held, False, np.float32)
        best.add(np.array(some), np.ascontiguousarray(held, np.float32))
    return best.whole()


# -- changes --------------------------------------------------------------------------------------


def with_weights_of(rig: Rig, number: int, weights: F32) -> Rig:
    """The rig with other weights (n,) of a joint, 0 to 1: the others have what is left, as they shared it before."""
    wanted = np.clip(weights, 0.0, 1.0).astype(np.float32)
    own = rig.which == number
    others = np.where(own, 0.0, rig.share)
    rest = others.sum(axis=1)
    # What went along with nothing else goes on with what its joint hangs on, or the first.
    parent = max(rig.joints[number].parent, 0)
    scaled = others * ((1.0 - wanted) / np.maximum(rest, 1e-12))[:, None]
    which = np.concatenate([rig.which, np.full((len(wanted), 2), number, np.uint8)], axis=1)
    which[:, -1] = parent
    left = np.where(rest <= 1e-6, 1.0 - wanted, 0.0)
    share = np.concatenate([scaled, wanted[:, None], left[:, None]], axis=1).astype(np.float32)
    if parent == number:
        # The first joint turns what nothing else does.
        share[:, -1] = 0.0
        share[rest <= 1e-6, -2] = 1.0
    new, even = evened(which, share)
    return replace(rig, which=new, share=even)


def smoothed(rig: Rig, mesh: Mesh, where: F32, rounds: int = 4) -> Rig:
    """The rig with weights evened out over neighbours, as far as `where` (n,) says, 0 to 1."""
    edges = _neighbours(mesh)
    used = sorted(set(rig.which[rig.share > 0].tolist()))
    best = Heaviest(len(rig.which))
    for number in used:
        held = dense(rig, [number])[:, 0].astype(np.float64)
        for _ in range(rounds):
            held += where * 0.5 * (edges @ held - held)
        best.add(np.array([number]), held[:, None].astype(np.float32))
    which, share = best.whole()
    return replace(rig, which=which, share=share)


def _neighbours(mesh: Mesh) -> sparse.csr_matrix:
    """The mean of each vertex's neighbours, (n, n)."""
    triangles = triangulate(mesh.topology.faces)
    n = mesh.n_vertices
    a, b = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).T
    graph = sparse.csr_matrix((np.ones(2 * len(a)), (np.concatenate([a, b]), np.concatenate([b, a]))), (n, n))
    graph.data[:] = 1.0
    return sparse.diags(1.0 / np.maximum(np.asarray(graph.sum(axis=1)).ravel(), 1.0)) @ graph


def twin_weights(rig: Rig, twins: I32, from_left: bool, left: AnyArray) -> Rig:
    """The rig with the weights of one side taken over to the other.

    Parameters
    ----------
    twins : (n,) int32
        Each vertex's twin; -1 without one.
    from_left : bool
        What is on the left leads.
    left : (n,) bool
        Which vertices are there.
    """
    to = np.flatnonzero((left != from_left) & (twins >= 0))
    other = np.array([joint.twin if joint.twin >= 0 else k for k, joint in enumerate(rig.joints)], np.uint8)
    which, share = rig.which.copy(), rig.share.copy()
    which[to], share[to] = other[rig.which[twins[to]]], rig.share[twins[to]]
    return replace(rig, which=which, share=share)


def weights_along(rig: Rig, body: Mesh, places: F32, as_one: bool) -> tuple[U8, F32]:
    """Joints (m, 4) and weights (m, 4) of places (m, 3) near a body, in its axes: those of the clay nearest to each; with `as_one` all the same."""
    everywhere = np.full(len(places), np.inf, np.float32)
    there, gap = FaceTree.of(body).nearest(np.ascontiguousarray(places), everywhere, Progress())
    best = Heaviest(len(places))
    # Where it touches counts: what stands far off hangs on that.
    touching = gap <= np.quantile(gap, 0.25)
    for number in sorted(set(rig.which[rig.share > 0].tolist())):
        own = there.of(dense(rig, [number]))
        if as_one:
            own[:] = own[touching].mean()
        best.add(np.array([number]), own)
    return best.whole()
