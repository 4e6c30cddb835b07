"""Levels and layers: laws that hold whatever is done with them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.core import arrays
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.rebuild import RebuildError, rebuilt
from kneten.core.relief import Relief, packed
from kneten.core.restriction import restricted, restricted_some
from kneten.core.stack import Layer, LayerGroup, Stack
from kneten.core.subdivide import Step, subdivide
from kneten.core.transform import Transform
from tests.conftest import make_ball, make_sheet

GO = Progress()
CLOSE = 2e-5
"""Millimetres on a ball 200 mm across: a few of float32's last bits."""


def built(levels: int, mesh: Mesh | None = None) -> tuple[Stack, Mesh]:
    """A ball with so many levels, the highest in hand."""
    mesh = mesh or make_ball(100.0, 6)
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, GO)
    return stack, mesh


def rough(mesh: Mesh, amount: float, seed: int = 1, where: np.ndarray | None = None) -> np.ndarray:
    """Move vertices along their normals by chance; the moves."""
    lift = np.random.default_rng(seed).normal(0, amount, mesh.n_vertices)
    if where is not None:
        lift = np.where(where, lift, 0)
    moves = (mesh.normals * lift[:, None]).astype(np.float32)
    mesh.positions += moves
    return moves


def away(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.abs(a.astype(float) - b).max())


def test_adding_a_level_is_subdividing() -> None:
    ball = make_ball(100.0, 8)
    expected = subdivide(ball, GO)
    stack, mesh = built(1, ball)
    assert np.array_equal(mesh.positions, expected.positions)
    assert np.array_equal(mesh.topology.faces, expected.topology.faces)
    assert stack.top == stack.level == 1
    assert stack.fits(mesh)


@pytest.mark.parametrize("kind", ["quads", "triangles", "open"])
def test_down_and_up_again_changes_nothing(kind: str) -> None:
    start = make_sheet(6, 10.0) if kind == "open" else make_ball(100.0, 5, kind == "triangles")
    stack, mesh = built(3, start)
    for level in (3, 2, 1, 3):
        stack, mesh = stack.stepped(mesh, level)
        rough(mesh, 0.4, level)
    stack, mesh = stack.stepped(mesh, 2)
    stack, mesh = stack.stepped(mesh, 3)
    before = mesh.positions.copy()
    for to in (0, 3, 1, 2, 3):
        stack, mesh = stack.stepped(mesh, to)
    assert away(mesh.positions, before) < 20 * CLOSE


def test_what_is_done_above_is_kept_exactly_and_reaches_below_in_the_mean() -> None:
    stack, mesh = built(2)
    low, _ = stack.stepped(mesh, 0)
    plain = low.form(0)
    # Broad: half of the ball comes forward. Fine: grain that has no mean.
    broad = np.where(mesh.positions[:, 2:] > 0, [[0.0, 0.0, 12.0]], 0.0).astype(np.float32)
    mesh.positions += broad
    rough(mesh, 0.2)
    wanted = mesh.positions.copy()
    stack, below = stack.stepped(mesh, 0)
    front = plain[:, 2] > 60
    assert below.positions[front, 2] - plain[front, 2] == pytest.approx(12.0, abs=0.3)
    back = plain[:, 2] < -60
    assert np.abs(below.positions[back] - plain[back]).max() < 0.15
    stack, mesh = stack.stepped(below, 2)
    assert away(mesh.positions, wanted) < 20 * CLOSE


def test_posture_on_the_lowest_level_carries_pores_without_swelling() -> None:
    stack, mesh = built(3)
    smooth = mesh.positions.copy()
    pores = rough(mesh, 0.3)
    stack, low = stack.stepped(mesh, 0)
    # Turned and moved as a whole, all of it goes along.
    turn = Transform((5.0, -3.0, 2.0)).with_degrees(30, 50, -70)
    low.positions[:] = turn.to_scene(low.positions)
    stack, high = stack.stepped(low, 3)
    assert away(high.positions, turn.to_scene(smooth + pores)) < 1e-3
    # Bent: what stands off the surface stands off the bent one as far.
    stack, low = stack.stepped(high, 0)
    low.positions[:] *= (1.0, 1.0, 1.6)
    stack, high = stack.stepped(low, 3)
    bare = replace(stack, levels=tuple(replace(one, detail=Relief.none()) for one in stack.levels))
    off = np.linalg.norm(high.positions - bare.form(3), axis=1)
    assert off == pytest.approx(np.linalg.norm(pores, axis=1), abs=0.05)


def test_smoothing_low_keeps_fine_detail() -> None:
    stack, mesh = built(3)
    pores = rough(mesh, 0.3)
    stack, low = stack.stepped(mesh, 1)
    ring = low.positions.copy()
    for face in low.topology.faces:
        ring[face] = 0.5 * ring[face] + 0.5 * low.positions[face].mean(axis=0)
    low.positions[:] = ring
    _, high = stack.stepped(low, 3)
    plain = high.positions - subdivide(subdivide(low, GO), GO).positions
    assert np.linalg.norm(plain, axis=1).mean() == pytest.approx(
        np.linalg.norm(pores, axis=1).mean(), rel=0.1
    )


def test_values_stay_with_their_level_until_they_are_changed_below() -> None:
    stack, mesh = built(2)
    mask = mesh.need("mask")
    mask[::7] = 1.0
    mesh.need("regions")[: mesh.topology.n_faces // 2] = 4
    fine, regions = mask.copy(), mesh.regions.copy()
    stack, low = stack.stepped(mesh, 0)
    assert low.regions is not None
    assert set(np.unique(low.regions)) <= {0, 4}
    stack, mesh = stack.stepped(low, 2)
    assert np.array_equal(mesh.mask, fine)
    assert np.array_equal(mesh.regions, regions)
    stack, low = stack.stepped(mesh, 1)
    low.need("mask")[:] = 0.5
    stack, mesh = stack.stepped(low, 2)
    assert mesh.mask == pytest.approx(0.5)


def recorded(stack: Stack, mesh: Mesh, name: str, seed: int, level: int | None = None) -> tuple[Stack, Mesh]:
    """Grain on a layer of its own."""
    layer = Layer(stack.free_name(name))
    stack = replace(stack.taken(mesh.positions), layers=(*stack.layers, layer), recording=layer.id)
    if level is not None:
        stack, mesh = stack.stepped(mesh, level)
    rough(mesh, 0.5, seed, mesh.positions[:, 1] > (seed - 2) * 30)
    stack = replace(stack.taken(mesh.positions), recording="")
    return stack, mesh


def strengths(stack: Stack, mesh: Mesh, *values: float) -> np.ndarray:
    """The form with these strengths of the layers."""
    layers = tuple(replace(layer, strength=v) for layer, v in zip(stack.layers, values, strict=True))
    return stack.changed(mesh, lambda s: replace(s, layers=layers))[1]


def test_layers_add_up_and_at_no_strength_are_not_there() -> None:
    stack, mesh = built(2)
    plain = mesh.positions.copy()
    stack, mesh = recorded(stack, mesh, "Pores", 1)
    first = mesh.positions - plain
    stack, mesh = recorded(stack, mesh, "Veins", 3)
    second = mesh.positions - plain - first
    assert np.array_equal(strengths(stack, mesh, 0, 0), plain)
    assert away(strengths(stack, mesh, 1, 0), plain + first) < CLOSE
    assert away(strengths(stack, mesh, 0, 1), plain + second) < CLOSE
    assert away(strengths(stack, mesh, 1, 1), plain + first + second) < CLOSE
    assert away(strengths(stack, mesh, -1, 2), plain - first + 2 * second) < CLOSE


@given(st.lists(st.floats(-1, 2), min_size=2, max_size=2), st.integers(0, 3))
def test_strength_can_be_dialled_there_and_back(values: list[float], seed: int) -> None:
    stack, mesh = built(2)
    stack, mesh = recorded(stack, mesh, "A", seed)
    stack, mesh = recorded(stack, mesh, "B", seed + 1, level=1)
    stack, mesh = stack.stepped(mesh, 2)
    before = strengths(stack, mesh, 1, 1)
    new, form = stack.changed(mesh, lambda s: replace(s, layers=tuple(
        replace(one, strength=v) for one, v in zip(s.layers, values, strict=True))))  # fmt: skip
    other = new.mesh_of(2, form, {})
    assert np.array_equal(strengths(new, other, 1, 1), before)


def test_recording_at_half_strength_shows_what_the_hand_did() -> None:
    stack, mesh = built(1)
    layer = Layer("Half", 0.5)
    stack = replace(stack, layers=(layer,), recording=layer.id)
    before = mesh.positions.copy()
    moves = rough(mesh, 0.5)
    stack = stack.taken(mesh.positions)
    assert away(stack.form(1), before + moves) < CLOSE
    assert away(strengths(stack, mesh, 1.0), before + 2 * moves) < CLOSE


def test_a_hidden_layer_takes_no_strokes_and_solo_leaves_the_others_out() -> None:
    stack, mesh = built(1)
    plain = mesh.positions.copy()
    stack, mesh = recorded(stack, mesh, "A", 1)
    a = mesh.positions - plain
    stack, mesh = recorded(stack, mesh, "B", 2)
    alone, form = stack.changed(mesh, lambda s: replace(s, solo=s.layers[0].id))
    assert away(form, plain + a) < CLOSE
    hidden = replace(alone, recording=alone.layers[1].id)
    assert hidden.recorded is None
    held = hidden.mesh_of(1, form.copy(), {})
    rough(held, 0.3)
    assert hidden.taken(held.positions).layers[1].reliefs == stack.layers[1].reliefs


def test_layers_merge_bake_and_go() -> None:
    stack, mesh = built(2)
    plain = mesh.positions.copy()
    stack, mesh = recorded(stack, mesh, "A", 1)
    stack, mesh = recorded(stack, mesh, "B", 2, level=1)
    stack, mesh = stack.stepped(mesh, 2)
    stack, form = stack.changed(mesh, lambda s: s.with_layer(replace(s.layers[0], strength=0.4)))
    made, same = stack.changed(
        stack.mesh_of(2, form, {}), lambda s: s.merged([one.id for one in s.layers], "AB")
    )
    assert [layer.name for layer in made.layers] == ["AB"]
    assert away(same, form) < CLOSE
    _, baked = made.changed(made.mesh_of(2, same, {}), lambda s: s.baked(s.layers[0].id))
    assert away(baked, form) < CLOSE
    _, gone = made.changed(made.mesh_of(2, same, {}), lambda s: s.without(s.layers[0].id))
    assert away(gone, plain) < CLOSE


def test_deleting_levels_keeps_the_form_and_the_layers() -> None:
    stack, mesh = built(3)
    stack, mesh = recorded(stack, mesh, "A", 1)
    stack, mesh = recorded(stack, mesh, "B", 2, level=1)
    low = stack.without_above()
    assert low.top == 1
    stack, mesh = stack.stepped(mesh, 2)
    both = [strengths(stack, mesh, 1, 1), strengths(stack, mesh, 0.5, -1)]
    stack = replace(stack, synced=mesh.positions.copy())
    cut = stack.without_below(mesh, GO)
    assert (cut.level, cut.top) == (0, 1)
    assert away(cut.form(0), both[0]) < 20 * CLOSE
    # Other strengths add up in the part's axes now, not in turning frames: near, not to the bit.
    assert away(strengths(cut, mesh, 0.5, -1), both[1]) < 0.3
    _, high = cut.stepped(mesh, 1)
    assert high.n_vertices > mesh.n_vertices


def test_the_restriction_keeps_what_is_the_same_everywhere() -> None:
    for start in (make_ball(100.0, 5), make_ball(100.0, 5, True), make_sheet(5, 4.0)):
        step = Step.of(start.topology)
        moves = np.tile(np.float32([1.0, -2.0, 3.0]), (len(step.source), 1))
        assert restricted(step, start.topology, moves) == pytest.approx(
            np.tile([1.0, -2.0, 3.0], (start.n_vertices, 1))
        )


def test_reliefs_keep_few_rows_sparse_and_many_dense() -> None:
    values = np.zeros((100, 3), np.float32)
    assert not packed(values)
    values[[3, 50]] = 1.0
    few = packed(values)
    assert few.rows.tolist() == [3, 50]
    assert np.array_equal(few.dense(100), values)
    full = packed(np.ones((100, 3), np.float32))
    assert not len(full.rows)
    assert np.array_equal(few.plus(full, -1.0, 100).dense(100), values - 1)
    assert np.array_equal(
        few.times(np.linspace(0, 1, 100, dtype=np.float32)).dense(100)[50], np.full(3, 50 / 99, np.float32)
    )
    assert not few.times(0.0).values.any()


@pytest.mark.parametrize("kind", ["quads", "triangles", "open"])
def test_lower_levels_are_found_again(kind: str) -> None:
    start = make_sheet(5, 10.0) if kind == "open" else make_ball(100.0, 4, kind == "triangles")
    _, dense = built(2, start)
    dense.need("mask")[:] = np.linspace(0, 1, dense.n_vertices)
    dense.need("regions")[:] = np.arange(dense.topology.n_faces) % 60000
    # In another order than we would have made it in.
    positions, faces = dense.source_arrays()
    regions = dense.regions[np.argsort(dense.topology.source_face)]
    shuffled = Mesh.from_faces(
        positions, faces, mask=dense.in_source_order(dense.mask), regions=regions.astype(np.uint16)
    )
    stack, mesh = rebuilt(shuffled, GO)
    assert stack.top >= 2
    assert stack.levels[stack.top - 2].topology.n_vertices == start.n_vertices
    assert sorted(map(tuple, np.round(mesh.positions, 3).tolist())) == sorted(
        map(tuple, np.round(dense.positions, 3).tolist())
    )
    at, names = mesh.source_arrays()
    assert away(at, positions) < 1e-3
    assert np.array_equal(np.sort(names, axis=1), np.sort(faces, axis=1))
    assert mesh.in_source_order(mesh.mask) == pytest.approx(dense.in_source_order(dense.mask))
    assert np.array_equal(mesh.regions[np.argsort(mesh.topology.source_face)], regions)
    low = stack.form(stack.top - 2)
    if kind != "open":
        assert np.sort(np.linalg.norm(low, axis=1)) == pytest.approx(
            np.sort(np.linalg.norm(start.positions, axis=1)), abs=0.05
        )


def test_a_sculpted_mesh_keeps_every_vertex_over_its_rebuilt_levels() -> None:
    _, dense = built(3, make_ball(100.0, 4))
    rough(dense, 0.4)
    positions, faces = dense.source_arrays()
    stack, mesh = rebuilt(Mesh.from_faces(positions, faces), GO)
    assert away(mesh.source_arrays()[0], positions) < 20 * CLOSE
    stack, low = stack.stepped(mesh, stack.top - 2)
    assert np.linalg.norm(low.positions, axis=1).std() < 3
    stack, mesh = stack.stepped(low, stack.top)
    assert away(mesh.source_arrays()[0], positions) < 20 * CLOSE


def test_what_was_never_subdivided_is_refused_with_a_reason() -> None:
    with pytest.raises(RebuildError, match="triangles"):
        rebuilt(make_ball(100.0, 6, True), GO)
    # A ring of an odd number of quads: no edge in two could have been a half.
    around, along = np.meshgrid(np.arange(7), np.arange(8), indexing="ij")
    angle, other = around * (2 * np.pi / 7), along * (np.pi / 4)
    far = 40 + 12 * np.cos(other)
    places = np.stack([far * np.cos(angle), far * np.sin(angle), 12 * np.sin(other)], -1).reshape(-1, 3)

    def name(i: np.ndarray, j: np.ndarray) -> np.ndarray:
        return (i % 7) * 8 + j % 8

    quads = [
        name(around, along),
        name(around + 1, along),
        name(around + 1, along + 1),
        name(around, along + 1),
    ]
    ring = Mesh.from_faces(places.astype(np.float32), np.stack(quads, -1).reshape(-1, 4).astype(np.int32))
    with pytest.raises(RebuildError, match="odd numbers"):
        rebuilt(ring, GO)


def test_what_was_taken_over_before_a_layer_began_still_reaches_below() -> None:
    stack, mesh = built(2)
    plain = stack.form(0)
    mesh.positions += np.float32([0, 0, 9])
    stack = stack.taken(mesh.positions)
    stack, mesh = recorded(stack, mesh, "Veins", 1)
    stack = replace(stack, recording=stack.layers[0].id)
    wanted = mesh.positions.copy()
    stack, low = stack.stepped(mesh, 0)
    assert low.positions == pytest.approx(plain + np.float32([0, 0, 9]), abs=1e-3)
    assert not any(stack.layers[0].reliefs[:2])
    _, high = stack.stepped(low, 2)
    assert away(high.positions, wanted) < 20 * CLOSE


@pytest.mark.parametrize("kind", ["quads", "triangles", "open"])
def test_single_vertices_are_placed_as_all_are(kind: str) -> None:
    start = make_sheet(6, 10.0) if kind == "open" else make_ball(100.0, 5, kind == "triangles")
    rough(start, 2.0)
    step = Step.of(start.topology)
    whole = step.refine(start.topology, start.positions, True, np.float32)
    some = np.zeros_like(whole)
    rows = np.random.default_rng(2).permutation(len(whole))[: len(whole) // 2]
    rows = np.sort(rows).astype(np.int32)
    step.refine_some(start.topology, start.positions, rows, some)
    assert np.array_equal(some[rows], whole[rows])
    assert not np.delete(some, rows, axis=0).any()


def test_large_clay_is_worked_out_in_parts_as_in_one(monkeypatch: pytest.MonkeyPatch) -> None:
    ball = make_ball(100.0, 20)
    rough(ball, 1.0)
    one = subdivide(ball, GO)
    monkeypatch.setattr(arrays, "PART", 100)
    monkeypatch.setattr(arrays, "PROCESSORS", 3)
    several = subdivide(ball, GO)
    assert np.array_equal(one.positions, several.positions)
    assert np.array_equal(one.normals, several.normals)
    assert np.array_equal(one.boxes, several.boxes)


@pytest.mark.parametrize("kind", ["quads", "triangles", "open"])
def test_moves_of_few_vertices_reach_the_level_below_as_those_of_all_do(kind: str) -> None:
    mesh = make_sheet(12) if kind == "open" else make_ball(100.0, 8, kind == "triangles")
    step = Step.of(mesh.topology)
    random = np.random.default_rng(4)
    rows = np.sort(random.choice(len(step.source), 40, replace=False)).astype(np.int32)
    moves = Relief(rows, random.normal(0, 1, (40, 3)).astype(np.float32))
    dense = restricted(step, mesh.topology, moves.dense(len(step.source)))
    low, told = restricted_some(step, mesh.topology, moves)
    assert np.array_equal(low, np.flatnonzero(dense.any(axis=1)))
    np.testing.assert_allclose(told, dense[low], rtol=1e-6)


def test_sharing_broad_moves_is_stepping_down_and_up() -> None:
    stack, mesh = built(3)
    rough(mesh, 3.0)
    stack, mesh = stack.stepped(mesh, 2)[0].stepped(stack.stepped(mesh, 2)[1], 3)
    mesh.positions[::3] *= np.float32(1.05)
    shared = stack.shared(mesh.positions, GO)
    down, low = stack.stepped(mesh, 0)
    up, top = down.stepped(low, 3)
    assert away(shared.form(3), mesh.positions) < CLOSE
    assert away(shared.form(3), top.positions) < CLOSE
    assert away(shared.base, up.base) < CLOSE
    assert not any(level.owed for level in shared.levels)
    assert away(shared.form(1), up.form(1)) < CLOSE


@given(st.floats(-1, 2), st.floats(-1, 2), st.floats(-1, 2), st.booleans(), st.booleans())
def test_a_group_multiplies_what_its_layers_do(
    a: float, b: float, g: float, shown: bool, inner: bool
) -> None:
    mesh = make_ball(100.0, 6)
    random = np.random.default_rng(5)
    reliefs = [packed(random.normal(0, 1, mesh.positions.shape).astype(np.float32)) for _ in range(3)]
    group = LayerGroup("Face", g, shown)
    layers = (
        Layer("One", a, True, (reliefs[0],), group=group.id),
        Layer("Two", b, inner, (reliefs[1],), group=group.id),
        Layer("Three", 0.5, True, (reliefs[2],)),
    )
    stack = replace(Stack.of(mesh), layers=layers, groups=(group,))
    whole = g if shown else 0.0
    wanted = mesh.positions + np.float32(a * whole) * reliefs[0].values + np.float32(0.5) * reliefs[2].values
    wanted = wanted + (np.float32(b * whole) * reliefs[1].values if inner else 0)
    np.testing.assert_allclose(stack.form(0), wanted, atol=1e-4)
    # Merged or baked, the form stays; so it does when a group is left.
    merged = stack.merged([layers[0].id, layers[2].id], "Both")
    np.testing.assert_allclose(merged.form(0), wanted, atol=1e-4)
    together = stack.merged([layers[0].id, layers[1].id], "Face")
    np.testing.assert_allclose(together.form(0), wanted, atol=1e-4)
    assert together.layers[0].group == group.id
    np.testing.assert_allclose(stack.baked(layers[0].id).form(0), wanted, atol=1e-4)
    assert stack.without(layers[0].id).without(layers[1].id).groups == ()


def test_layers_of_a_group_stand_together() -> None:
    group = LayerGroup("Face")
    layers = tuple(Layer(name, group=group.id if name in "AC" else "lost") for name in "ABCD")
    tidy = replace(Stack.of(make_ball(1.0, 2)), layers=layers, groups=(group, LayerGroup("Empty"))).tidied()
    assert [layer.name for layer in tidy.layers] == ["A", "C", "B", "D"]
    assert [layer.group for layer in tidy.layers] == [group.id, group.id, "", ""]
    assert tidy.groups == (group,)
