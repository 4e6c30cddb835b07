"""Rigs: skinning against NumPy, weights against a factorisation, dragging a joint on two million triangles."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from benchmarks.measure import Figure, median_time
from benchmarks.posing import arm, seen
from kneten.app.benches.perform.held_parts import HeldPart
from kneten.core.arrays import F32, F64, U8
from kneten.core.live.primitive import Primitive
from kneten.core.pose.rig import Joint, Rig, as_vector, duals_of
from kneten.core.pose.weights import areas, evened, found_weights, stiffness
from kneten.document.opening import stack_of
from kneten.document.posing import low_clay

MANY, JOINTS = 1_000_000, 60

SKINNING = 10.0
"""Times as fast as NumPy, at the least."""

WEIGHTS = 5.0
"""Times one factorisation of the Laplacian, at the most."""

DRAGGING, RESTED = 15.0, 0.5


def in_numpy(places: F32, which: U8, share: F32, duals: F64) -> F32:
    """The same skinning, vectorised (n, 4) joints and weights at once."""
    some = duals[which]
    sign = np.where(np.einsum("nkc,nc->nk", some[..., :4], some[:, 0, :4]) < 0, -1.0, 1.0)
    blend = np.einsum("nk,nkc->nc", share * sign, some)
    blend /= np.linalg.norm(blend[:, :4], axis=1, keepdims=True)
    w, r, dw, d = blend[:, :1], blend[:, 1:4], blend[:, 4:5], blend[:, 5:]
    turned = places + 2 * np.cross(r, np.cross(r, places) + w * places)
    return (turned + 2 * (w * d - dw * r + np.cross(r, d))).astype(np.float32)


def rigging() -> Iterator[Figure]:
    """Joints and weights."""
    rng = np.random.default_rng(1)
    which, share = evened(
        rng.integers(0, JOINTS, (MANY, 4)).astype(np.uint8), rng.random((MANY, 4)).astype(np.float32)
    )
    joints = tuple(
        Joint(f"J{k}", k - 1, (0.0, 4.0 * k, 0.0), turn=as_vector(rng.normal(0, 20, 3)))
        for k in range(JOINTS)
    )
    rig = Rig(joints, which, share)
    places = rng.normal(0, 100, (MANY, 3)).astype(np.float32)
    duals = duals_of(rig.matrices())
    ours = median_time(lambda _: rig.posed(places, 1.0), 7, 1)
    theirs = median_time(lambda _: in_numpy(places, which, share, duals), 3, 1)
    off = float(np.abs(rig.posed(places, 1.0) - in_numpy(places, which, share, duals)).max())
    note = f"{ours * 1e3:.0f} ms against {theirs * 1e3:.0f} ms; at most {off:.1e} mm apart"
    yield Figure(
        "skinning 1,000,000 vertices by 60 joints, over NumPy", theirs / ours, SKINNING, "times", False, note
    )
    yield _weights()
    yield from _dragging()


def _weights() -> Figure:
    mesh = Primitive("capsule", (40.0, 240.0, 40.0), (64, 110, 1)).made().mesh()
    joints = tuple(Joint(f"J{k}", k - 1, (0.0, -110 + 11.0 * k, 0.0)) for k in range(20))
    found_weights(mesh, joints)
    began = time.perf_counter()
    found_weights(mesh, joints)
    ours = time.perf_counter() - began
    faces = mesh.topology.faces
    matrix = (stiffness(mesh.positions, faces) + sparse.diags(1e-3 * areas(mesh.positions, faces))).tocsc()
    once = median_time(lambda _: splu(matrix), 3)
    note = f"{mesh.n_vertices:,} vertices, 20 joints: {ours:.2f} s; one factorisation {once:.2f} s"
    return Figure("weights of a body over one LU factorisation", ours / once, WEIGHTS, "times", True, note)


def _dragging() -> Iterator[Figure]:
    part = arm()
    with seen(part) as (view, draw):
        low = low_clay(part)
        joints = (
            Joint("Root", -1, (0.0, -100.0, 0.0)),
            Joint("Elbow", 0, (0.0, 0.0, 0.0)),
            Joint("Hand", 1, (0.0, 80.0, 0.0)),
            Joint("End", 2, (0.0, 110.0, 0.0)),
        )
        rig = Rig(joints, *found_weights(low.mesh, joints))
        began = time.perf_counter()
        held = HeldPart(part, stack_of(part), rig)
        held.begin(view, part)
        taken = time.perf_counter() - began
        angle = [0.0]

        def shown(_: int = 0) -> None:
            angle[0] += 3.0
            held.show(rig.with_joint(1, turn=(angle[0] % 90, 0.0, 0.0)))
            draw()

        shown()
        picture = median_time(shown, 15)
        note = f"{picture * 1e3:.0f} ms a picture; {taken:.2f} s to take hold"
        yield Figure("dragging a joint, 2 M triangles", 1 / picture, DRAGGING, "pictures/s", False, note)
        bent = rig.with_joint(1, turn=(50.0, 0.0, 0.0))
        yield Figure(
            "all of it, once the hand rests",
            median_time(lambda _: held.show_whole(bent), 3),
            RESTED,
            "s",
            True,
            "",
        )
        held.end()
