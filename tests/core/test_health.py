"""Faults put into sound clay are found, told and repaired; what is sound stays as it was."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import trimesh

from kneten.core import crossings
from kneten.core.arrays import Progress
from kneten.core.crossings import crossing, crossing_among
from kneten.core.health import KINDS, ONE, Fault, examined, repaired, told
from kneten.core.live.clay import wall
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.solid import flaw, volume
from tests.conftest import make_ball, make_sheet

GO = Progress()


def kinds(mesh: Mesh) -> dict[str, int]:
    counts: dict[str, int] = {}
    for fault in examined(mesh, GO):
        counts[fault.kind] = counts.get(fault.kind, 0) + 1
    return counts


def parts(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Positions and faces that can be changed."""
    return mesh.positions.copy(), mesh.topology.faces.copy()


def holed() -> Mesh:
    positions, faces = parts(make_ball(100.0, 16))
    middle = positions[faces].mean(axis=1)
    return Mesh.from_faces(positions, faces[(middle[:, 2] < 80) & (middle[:, 0] > -92)])


def finned() -> Mesh:
    positions, faces = parts(make_ball(100.0, 12))
    a, b = faces[200, 0], faces[200, 1]
    tip = len(positions)
    positions = np.concatenate([positions, [positions[a] * 1.4]]).astype(np.float32)
    return Mesh.from_faces(positions, np.concatenate([faces, [[a, b, tip, -1]]]).astype(np.int32))


def jointed() -> Mesh:
    positions, faces = parts(make_ball(40.0, 8))
    top = int(np.argmax(positions[:, 1]))
    other = positions * np.float32([1, -1, 1]) + np.float32([0, 2 * positions[top, 1], 0])
    twin = faces[:, ::-1].copy() + len(positions)
    twin[twin == top + len(positions)] = top
    return Mesh.from_faces(
        np.concatenate([positions, other]).astype(np.float32), np.concatenate([faces, twin])
    )


def flipped() -> Mesh:
    positions, faces = parts(make_ball(100.0, 12))
    faces[50:60] = faces[50:60, ::-1]
    return Mesh.from_faces(positions, faces)


def inside_out() -> Mesh:
    positions, faces = parts(make_ball(100.0, 12))
    return Mesh.from_faces(positions, faces[:, ::-1].copy())


def crossed() -> Mesh:
    mesh = make_ball(100.0, 24)
    positions, faces = parts(mesh)
    # A finger pushed in at the front and out at the back.
    far = np.hypot(positions[:, 0], positions[:, 1])
    front = (positions[:, 2] > 0) & (far < 22)
    positions[front, 2] -= 215 * (1 - (far[front] / 22) ** 2)
    return Mesh.from_faces(positions, faces)


def bitten() -> Mesh:
    positions, faces = parts(make_ball(100.0, 24))
    small, more = parts(make_ball(2.0, 2))
    return Mesh.from_faces(
        np.concatenate([positions, small + np.float32([150, 0, 0])]).astype(np.float32),
        np.concatenate([faces, more + len(positions)]),
    )


def flattened() -> Mesh:
    positions, faces = parts(make_ball(100.0, 12))
    face = faces[100]
    positions[face[1:]] = positions[face[0]]
    return Mesh.from_faces(positions, faces)


def stretched() -> Mesh:
    mesh = make_sheet(20, 5.0)
    positions, faces = parts(mesh)
    row = np.abs(positions[:, 0]) < 0.1
    positions[row, 0] += 4.9
    return Mesh.from_faces(positions, faces)


def poled() -> Mesh:
    around = np.arange(12) * (np.pi / 6)
    rim = np.stack([np.cos(around), np.sin(around), 0 * around], axis=1) * 20
    positions = np.concatenate([[[0, 0, 10]], rim, [[0, 0, -10]]]).astype(np.float32)
    k = np.arange(12)
    top = np.stack([0 * k, 1 + k, 1 + (k + 1) % 12, 0 * k - 1], axis=1)
    low = np.stack([0 * k + 13, 1 + (k + 1) % 12, 1 + k, 0 * k - 1], axis=1)
    return Mesh.from_faces(positions, np.concatenate([top, low]).astype(np.int32))


def littered() -> Mesh:
    positions, faces = parts(make_ball(100.0, 8))
    return Mesh.from_faces(np.concatenate([positions, [[0, 0, 0], [1, 1, 1]]]).astype(np.float32), faces)


SICK = {
    "holes": holed, "edges": finned, "joints": jointed, "flipped": flipped, "crossing": crossed,
    "bits": bitten, "flat": flattened, "stretched": stretched, "poles": poled, "loose": littered,
}  # fmt: skip


@pytest.mark.parametrize("triangles", [False, True])
def test_sound_clay_has_no_fault(triangles: bool) -> None:
    assert kinds(make_ball(100.0, 20, triangles)) == {}
    assert told([]) == "Nothing is wrong with it."


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_fault_is_found_and_repaired(kind: str) -> None:
    mesh = SICK[kind]()
    before = examined(mesh, GO)
    some = [fault for fault in before if fault.kind == kind]
    assert some
    assert KINDS[kind][0].lower() in told(before) or ONE[kind] in told(before)
    for fault in some:
        at = mesh.positions[fault.vertices]
        assert (np.linalg.norm(at - fault.middle, axis=1) <= fault.reach + 1e-3).all()
    made = repaired(mesh, some, GO)
    after = kinds(made)
    if kind != "poles":
        # A pole is a matter of the mesh's shape: evened, it is no longer pinched, but still there.
        assert kind not in after
    if kind in ("holes", "edges", "flipped", "crossing", "bits", "flat", "loose"):
        assert flaw(made) == ""
        faces = triangulate(made.topology.faces)
        solid = trimesh.Trimesh(made.positions, faces, process=False)
        assert solid.is_watertight
        assert solid.is_winding_consistent


@pytest.mark.parametrize("kind", ["holes", "edges", "crossing", "flat"])
def test_what_is_far_from_the_fault_stays(kind: str) -> None:
    mesh = SICK[kind]()
    some = [fault for fault in examined(mesh, GO) if fault.kind == kind]
    made = repaired(mesh, some, GO)
    gap = np.array([np.linalg.norm(mesh.positions - fault.middle, axis=1) - fault.reach for fault in some])
    far = mesh.positions[gap.min(axis=0) > 25.0]
    assert len(far) > 50
    there = set(map(tuple, made.positions.tolist()))
    assert all(tuple(place) in there for place in far.tolist())


def test_all_of_a_piece_that_is_inside_out_is_turned() -> None:
    mesh = inside_out()
    some = [fault for fault in examined(mesh, GO) if fault.kind == "flipped"]
    assert sum(len(fault.faces) for fault in some) == mesh.topology.n_faces
    made = repaired(mesh, some, GO)
    assert kinds(made) == {}
    assert np.array_equal(made.positions, mesh.positions)


def test_a_hollow_faces_inwards_by_right() -> None:
    positions, faces = parts(make_ball(100.0, 12))
    small, more = parts(make_ball(60.0, 12))
    hollow = Mesh.from_faces(
        np.concatenate([positions, small]), np.concatenate([faces, more[:, ::-1] + len(positions)])
    )
    assert kinds(hollow) == {}


def test_one_of_two_holes_is_closed() -> None:
    mesh = holed()
    holes = [fault for fault in examined(mesh, GO) if fault.kind == "holes"]
    assert len(holes) == 2
    assert kinds(repaired(mesh, holes[:1], GO))["holes"] == 1


def test_values_stay_where_they_are() -> None:
    mesh = holed()
    mesh.need("mask")[:] = np.clip(mesh.positions[:, 1] / 100, 0, 1)
    mesh.need("regions")[:] = 3
    holes = [fault for fault in examined(mesh, GO) if fault.kind == "holes"]
    made = repaired(mesh, holes, GO)
    at = {tuple(p): m for p, m in zip(mesh.positions.tolist(), mesh.mask.tolist(), strict=True)}
    kept = [
        (at[tuple(p)], m)
        for p, m in zip(made.positions.tolist(), made.mask.tolist(), strict=True)
        if tuple(p) in at
    ]
    assert len(kept) == mesh.n_vertices
    assert all(a == b for a, b in kept)
    assert (made.regions == 3).sum() == mesh.topology.n_faces


def test_crossings_are_those_an_independent_search_finds() -> None:
    rng = np.random.default_rng(5)
    places = rng.uniform(-20, 20, (60, 1, 3)) + rng.normal(0, 4, (60, 3, 3))
    soup = Mesh.from_faces(
        places.reshape(-1, 3).astype(np.float32), np.arange(180).reshape(-1, 3).astype(np.int32)
    )
    found = crossing(soup)
    at = soup.positions.astype(float)
    rows = soup.topology.faces[:, :3]
    expected = np.zeros(len(rows), bool)
    for i in range(len(rows)):
        for j in range(len(rows)):
            if i == j:
                continue
            a, b, c = at[rows[j]]
            normal = np.cross(b - a, c - a)
            for k in range(3):
                p, q = at[rows[i][k]], at[rows[i][(k + 1) % 3]]
                d, e = (p - a) @ normal, (q - a) @ normal
                if d * e >= 0:
                    continue
                x = p + (q - p) * d / (d - e)
                inside = [np.cross(v - u, x - u) @ normal > 0 for u, v in ((a, b), (b, c), (c, a))]
                if all(inside):
                    expected[[i, j]] = True
    assert expected.sum() > 5
    assert np.array_equal(found, expected)


def test_a_fault_says_where_it_is() -> None:
    fault = next(fault for fault in examined(bitten(), GO) if fault.kind == "bits")
    assert isinstance(fault, Fault)
    assert fault.middle == pytest.approx([150, 0, 0], abs=0.1)
    assert fault.reach == pytest.approx(2.0, abs=0.3)


@pytest.mark.parametrize("around", [32, 128])
def test_poles_of_a_globe_make_way_for_even_clay(around: int) -> None:
    turn = np.arange(around) * (2 * np.pi / around)
    high = np.linspace(0, np.pi, around // 2 + 1)[1:-1]
    rings = [
        np.stack([np.sin(h) * np.cos(turn), np.cos(h) + 0 * turn, np.sin(h) * np.sin(turn)], -1) for h in high
    ]
    points = 50 * np.concatenate([*rings, [[0, 1, 0], [0, -1, 0]]])
    faces = wall(len(high), around)
    last, n = (len(high) - 1) * around, len(points)
    j = np.arange(around)
    top = np.stack([n - 2 + 0 * j, (j + 1) % around, j, 0 * j - 1], -1)
    low = np.stack([n - 1 + 0 * j, last + j, last + (j + 1) % around, 0 * j - 1], -1)
    mesh = Mesh.from_faces(points.astype(np.float32), np.concatenate([faces, top, low]).astype(np.int32))
    before = abs(volume(mesh))
    some = [fault for fault in examined(mesh, GO) if fault.kind == "poles"]
    assert len(some) == 2
    made = repaired(mesh, some, GO)
    counts = made.topology.ring[:, 1] - made.topology.ring[:, 0]
    assert counts.max() <= 12
    assert not made.topology.has_border
    assert abs(volume(made)) == pytest.approx(before, rel=0.01)


@pytest.mark.parametrize("seed", range(6))
def test_repairing_crossings_never_makes_more(seed: int) -> None:
    """Folded, pushed-through and spiked clay: fewer crossings than before or the clay as it was, and hardly less of it."""
    random = np.random.default_rng(seed)
    mesh = make_ball(100.0, 24)
    for _ in range(3):
        v = int(random.integers(mesh.n_vertices))
        near = np.linalg.norm(mesh.positions - mesh.positions[v], axis=1) < 12
        mesh.positions[near] -= (mesh.normals[v] * random.uniform(15, 40)).astype(np.float32)
        mesh.positions[near] += random.normal(0, 3, (near.sum(), 3)).astype(np.float32)
    mesh.refresh_all()
    before = int(np.count_nonzero(crossing(mesh)))
    some = [fault for fault in examined(mesh, GO) if fault.kind == "crossing"]
    if not some:
        return
    made = repaired(mesh, some, GO)
    assert int(np.count_nonzero(crossing(made))) < before or made is mesh
    assert not made.topology.has_border
    assert volume(made) > 0.97 * volume(mesh)


def test_dead_faces_are_not_compared_with_each_other(monkeypatch: pytest.MonkeyPatch) -> None:
    """Loose clay keeps them by the thousand at one vertex: each with each is half a million for every patch."""
    at, faces = ball(1.0, 12)
    other = at + np.float32([0.3, 0, 0])
    both = np.concatenate([faces, faces + len(at)]).astype(np.int32)
    places = np.concatenate([at, other]).astype(np.float32)
    dead = np.repeat(np.int32([[7, 7, 7, -1]]), 3000, axis=0)
    looked: list[int] = []
    compare = crossings._crossed

    def counted(*given: Any) -> None:
        looked.append(len(given[1]))
        compare(*given)

    monkeypatch.setattr(crossings, "_crossed", counted)
    alone = crossing_among(places, both)
    among = crossing_among(places, np.concatenate([dead, both]))
    assert alone.any()
    np.testing.assert_array_equal(among[len(dead) :], alone)
    assert not among[: len(dead)].any()
    assert looked[0] == looked[1]
    assert not crossing_among(places, dead).any()


def test_crossings_of_fine_clay_beside_one_long_triangle_are_found_in_time() -> None:
    """Its length makes the cells of the search large: all of the fine clay lies in one of them."""
    at, faces = ball(1.0, 40)
    other = at + np.float32([0.3, 0, 0])
    far = np.float32([[0, 0, 50], [100, 0, 50], [0, 100, 50]])
    both = np.concatenate([faces, faces + len(at)]).astype(np.int32)
    places = np.concatenate([at, other, far]).astype(np.float32)
    last = 2 * len(at)
    with_long = np.concatenate([both, np.int32([[last, last + 1, last + 2, -1]])]).astype(np.int32)
    found = crossing_among(places, with_long)
    assert found.sum() > 300
    assert np.array_equal(found[:-1], crossing_among(places, both))
    # Ten times as many: each with each would be three billion pairs.
    at, faces = ball(1.0, 160)
    places = np.concatenate([at, far]).astype(np.float32)
    long = np.int32([[len(at), len(at) + 1, len(at) + 2, -1]])
    assert not crossing_among(places, np.concatenate([faces, long]).astype(np.int32)).any()
