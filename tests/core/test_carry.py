"""Carrying over: how near the result comes, what arrives with it, what stays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation

from kneten.core.arrays import Cancelled, Progress
from kneten.core.carry import (
    CarriedOver,
    CarryWish,
    Source,
    carried_over,
    deviation,
    offered_levels,
    offered_reach,
    source_of,
)
from kneten.core.crossings import crossing
from kneten.core.following import faded
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import begun, open_paint, paint_of, seen
from kneten.core.paint.packed import Paint
from kneten.core.remesh import remesh, soup_of, triangulate
from kneten.core.solid import combine
from kneten.core.stack import Layer, Stack
from kneten.core.transform import Transform
from tests.conftest import make_ball

GO = Progress()
HERE = np.eye(4)


def waves(mesh: Mesh, height: float, length: float) -> None:
    """Lift the clay in waves."""
    at = mesh.positions.astype(np.float64)
    lift = height * np.sin(at[:, 0] / length) * np.cos(at[:, 1] / length)
    mesh.positions += mesh.normals * lift.astype(np.float32)[:, None]
    mesh.refresh_all()


def figure() -> tuple[Mesh, Stack]:
    """A ball with broad waves, and two layers of finer ones: one at half strength, one hidden."""
    mesh = make_ball(100.0, 64)
    waves(mesh, 4.0, 18.0)
    stack = Stack.of(mesh)
    for name, height, length in (("Folds", 1.0, 7.0), ("Pores", 0.5, 4.0)):
        layer = Layer(name)
        stack = replace(stack, layers=(*stack.layers, layer), recording=layer.id)
        waves(mesh, height, length)
        stack = stack.taken(mesh.positions)
    folds, pores = stack.layers
    changed = stack.with_layer(replace(folds, strength=0.5)).with_layer(replace(pores, shown=False))
    mesh.positions[:] = changed.form(0)
    mesh.refresh_all()
    return mesh, replace(changed, synced=mesh.positions.copy(), recording="")


def base(radius: float = 101.0) -> Mesh:
    return make_ball(radius, 16)


def laid(source: Source, target: Mesh, reach: float = 8.0, **wish) -> CarriedOver:  # type: ignore[no-untyped-def]
    return carried_over(source, target, Stack.of(target), CarryWish(reach, **wish), GO)


def solid(mesh: Mesh) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)


def test_the_form_arrives_on_another_mesh() -> None:
    mesh, stack = figure()
    target = base()
    before = target.positions.copy()
    made = laid(source_of(mesh, stack, HERE, GO), target, levels=2)
    assert not made.missed.any()
    one, other = solid(mesh), solid(made.mesh)
    assert other.is_watertight
    assert abs(other.volume / one.volume - 1) < 1e-3
    # Both ways, by another library: the waves are 4 mm high, the target's edges 2.4 mm long.
    there = trimesh.proximity.closest_point_naive(one, other.vertices[::301])[1]
    back = trimesh.proximity.closest_point_naive(other, one.vertices[::301])[1]
    assert there.max() < 0.01
    assert back.max() < 0.35
    assert back.mean() < 0.04
    # Neither of the two has been changed.
    assert np.array_equal(target.positions, before)
    np.testing.assert_allclose(made.stack.form(made.stack.top), made.mesh.positions, atol=3e-5)


def test_layers_arrive_as_layers() -> None:
    mesh, stack = figure()
    made = laid(source_of(mesh, stack, HERE, GO), base(), levels=2)
    names = [(layer.name, layer.strength, layer.shown) for layer in made.stack.layers]
    assert names == [("Folds", 0.5, True), ("Pores", 1.0, False)]

    def compared(change) -> float:  # type: ignore[no-untyped-def]
        """How far both are apart, in the mean, after the same change to their layers."""
        one, other = change(stack).form(0), change(made.stack).form(made.stack.top)
        old, new = Mesh(mesh.topology, one), Mesh(made.mesh.topology, other)
        return float(deviation(old, new, GO).mean())

    folds, pores = stack.layers
    for change in (
        lambda held: held.with_layer(replace(held.layer(folds.id), strength=0.0)),
        lambda held: held.with_layer(replace(held.layer(folds.id), strength=2.0)),
        lambda held: held.with_layer(replace(held.layer(pores.id), shown=True)),
        lambda held: replace(held, solo=pores.id),
    ):
        assert compared(change) < 0.06
    # What no layer holds is in the clay: the same without them.
    plain = laid(source_of(mesh, stack, HERE, GO), base(), levels=2, layers=False)
    assert plain.stack.layers == ()
    assert np.abs(plain.mesh.positions - made.mesh.positions).max() < 1e-3


def painted_figure() -> tuple[Mesh, Stack]:
    """The figure with a red base, and a layer of blue on its right half."""
    mesh, stack = figure()
    n = mesh.n_vertices
    mesh.colour = np.tile(np.array([200, 60, 40, 255], np.uint8), (n, 1))
    stack = begun(stack, mesh)
    blue = np.tile(np.array([30, 60, 220, 255], np.uint8), (n, 1))
    blue[mesh.positions[:, 0] < 0] = 0
    hides = np.zeros((n, 4), np.uint8)
    hides[mesh.positions[:, 1] > 40, 3] = 255
    paint = Layer("Blue", 0.5, paint=Paint.of(blue), blend="multiply", mask=Paint.of(hides))
    stack = replace(stack, layers=(*stack.layers, paint), hand=paint.id)
    mesh.paint = paint_of(stack, paint.id)
    mesh.colour = seen(stack, None, mesh.colour)
    return mesh, stack


@pytest.mark.parametrize("layers", [True, False])
def test_paint_arrives_on_its_layers_or_as_it_is_seen(layers: bool) -> None:
    mesh, stack = painted_figure()
    made = laid(source_of(mesh, stack, HERE, GO), base(), levels=2, layers=layers)
    target = made.mesh
    colour = target.value("colour")
    right, left = target.positions[:, 0] > 6, target.positions[:, 0] < -6
    for side in (right, left):
        there = mesh.value("colour")[mesh.positions[:, 0] * (1 if side is right else -1) > 6]
        assert np.abs(np.median(colour[side], axis=0) - np.median(there, axis=0)).max() <= 1
    if not layers:
        assert made.stack.tint is None
        assert target.paint is None
        return
    assert np.array_equal(seen(made.stack, open_paint(made.stack, target), colour), colour)
    layer = next(one for one in made.stack.layers if one.name == "Blue")
    assert (layer.blend, layer.strength) == ("multiply", 0.5)
    hidden = layer.mask.dense(target.n_vertices)[:, 3]
    assert hidden[target.positions[:, 1] > 48].min() == 255
    assert hidden[target.positions[:, 1] < 32].max() == 0
    off = replace(made.stack, layers=tuple(replace(one, shown=False) for one in made.stack.layers))
    assert np.abs(seen(off, None, colour)[:, :3].astype(int) - [200, 60, 40]).max() <= 1
    # Once more, onto what has paint already: its layers are known.
    again = carried_over(source_of(mesh, stack, HERE, GO), target, made.stack, CarryWish(9.0), GO)
    assert [one.id for one in again.stack.layers] == [one.id for one in made.stack.layers]
    assert np.array_equal(again.mesh.value("colour"), colour)


def test_the_form_can_go_on_a_layer_of_its_own() -> None:
    mesh, _ = figure()
    target = base()
    plain = laid(Source(make_ball(101.0, 64)), target, levels=2, where="all", reach=0.0001)
    made = laid(Source(mesh), target, levels=2, detail_layer="Detail of Ball")
    (layer,) = made.stack.layers
    assert layer.name == "Detail of Ball"
    off = made.stack.with_layer(replace(layer, strength=0.0)).form(2)
    assert np.abs(off - plain.mesh.positions).max() < 1e-3
    assert np.abs(made.mesh.positions - off).max() > 1


def test_levels_below_carry_the_broad_form() -> None:
    mesh, stack = figure()
    made = laid(source_of(mesh, stack, HERE, GO), base(), levels=2)
    held, low = made.stack.stepped(made.mesh, 0)
    # Without them the lowest level would still be the ball it was.
    lift = np.linalg.norm(low.positions, axis=1)
    assert np.ptp(lift) > 4
    _, top = held.stepped(low, 2)
    assert np.abs(top.positions - made.mesh.positions).max() < 2e-4


def test_only_what_is_masked_or_free_gets_it() -> None:
    mesh, _ = figure()
    target = base()
    target.mask = (target.positions[:, 0] > 0).astype(np.float32)
    for where, side in (("free", -1), ("masked", 1)):
        made = laid(Source(mesh), target, where=where)
        moved = np.linalg.norm(made.mesh.positions - target.positions, axis=1)
        assert moved[side * target.positions[:, 0] > 1].max() > 1
        assert moved[side * target.positions[:, 0] < -1].max() == 0
    bare = base()
    assert np.array_equal(laid(Source(mesh), bare, where="masked").mesh.positions, bare.positions)


def test_what_has_no_match_is_reported_and_follows_its_neighbours() -> None:
    mesh, _ = figure()
    target = make_ball(100.0, 40)
    spike = np.clip(target.positions[:, 2] - 80, 0, None)
    target.positions[:, 2] += 3 * spike
    target.refresh_all()
    made = laid(Source(mesh), target, reach=9.0)
    assert made.missed.any()
    tip = target.positions[:, 2] > 115
    assert made.missed[tip].all()
    assert not made.missed[target.positions[:, 2] < 70].any()
    # No step where the match ends: what follows moves less from ring to ring.
    moved = np.linalg.norm(made.mesh.positions - target.positions, axis=1)
    assert moved[target.positions[:, 2] > 150].max() < 3
    # Brought nearer, and run again there only, it finds its match; the rest stays.
    again = made.mesh.copy()
    again.positions[made.missed] *= (
        np.float32(100) / np.linalg.norm(again.positions[made.missed], axis=1)[:, None]
    )
    again.refresh_all()
    again.mask = made.missed.astype(np.float32)
    second = carried_over(Source(mesh), again, made.stack, CarryWish(9.0, where="masked"), GO)
    assert not second.missed.any()
    rest = ~made.missed
    assert np.array_equal(second.mesh.positions[rest], again.positions[rest])


def test_the_end_of_a_finger_is_no_match_for_the_middle_of_a_longer_one() -> None:
    """Lines from the longer finger meet the round end of the shorter one far down its slope."""
    short = Primitive("capsule", (16.0, 60.0, 16.0), (48, 96, 48)).made().mesh()
    longer = Primitive("capsule", (16.6, 90.0, 16.6), (16, 32, 16)).made().mesh()
    longer.positions[:, 1] += 15.0
    longer.refresh_all()
    made = laid(Source(short), longer, reach=9.0, levels=2)
    off = deviation(short, made.mesh, GO)[~made.missed]
    assert np.quantile(off, 0.99) < 0.03
    at = made.mesh.positions[:, 1]
    assert made.missed[(at > 30) & (at < 58)].all()
    assert not made.missed[at < 25].any()


@pytest.mark.long
def test_what_only_the_new_clay_has_is_not_drawn_through_itself() -> None:
    """A horn joined to the new base: its foot finds the head, the rest of it nothing."""
    mesh, stack = figure()
    body = base()
    horn = Primitive("capsule", (14.0, 70.0, 14.0), (8, 16, 8)).made().mesh()
    turn = Rotation.from_euler("z", 40, degrees=True)
    horn = horn.with_positions(turn.apply(horn.positions + np.float32([0.0, 112.0, 0.0])).astype(np.float32))
    joined = remesh(soup_of([combine("join", [body, horn], Progress())]), 4.0, Progress())
    assert not crossing(joined).any()
    made = laid(source_of(mesh, stack, np.eye(4), Progress()), joined, reach=20.0, levels=2)
    assert not crossing(made.mesh).any()
    high = np.linalg.norm(made.mesh.positions, axis=1)
    assert high.max() > 140.0
    # The horn has no match; the head has.
    assert made.missed[high > 125.0].all()
    assert made.missed.mean() < 0.1


def test_the_far_side_of_a_thin_sheet_is_not_taken() -> None:
    """A lens 4 mm thick, searched 10 mm deep."""
    lens, target = make_ball(100.0, 48), make_ball(100.0, 24)
    for one, waved in ((lens, True), (target, False)):
        one.positions[:, 2] *= np.float32(0.02)
        if waved:
            one.positions[:, 2] += (np.sin(one.positions[:, 0] / 9)).astype(np.float32)
        one.refresh_all()
    made = laid(Source(lens), target, reach=10.0)
    over = target.positions[:, 2] > 0.5
    normals = made.mesh.normals
    assert (normals[over, 2] > 0).all()
    thick = solid(made.mesh).volume / solid(lens).volume
    assert abs(thick - 1) < 0.03


@pytest.mark.parametrize("mirror", [False, True])
def test_parts_may_stand_turned_scaled_and_mirrored(mirror: bool) -> None:
    mesh, stack = figure()
    place = Transform((5, -3, 2), (0.0, np.sin(0.4), 0.0, np.cos(0.4)), 0.5, mirror)
    matrix = place.matrix()
    source = source_of(mesh, stack, matrix, GO)
    wanted = mesh.positions @ matrix[:3, :3].T + matrix[:3, 3]
    np.testing.assert_allclose(source.mesh.positions, wanted, atol=1e-3)
    # Its normals look outwards, mirrored or not.
    assert (np.einsum("ij,ij->i", source.mesh.normals, wanted - matrix[:3, 3]) > 0).mean() > 0.999
    target = make_ball(51.0, 16)
    target.positions += np.array([5, -3, 2], np.float32)
    made = laid(source, target, 5.0, levels=2)
    assert not made.missed.any()
    assert deviation(source.mesh, made.mesh, GO).mean() < 0.03
    doubled = made.stack.with_layer(replace(made.stack.layers[0], strength=1.0)).form(2)
    double = stack.with_layer(replace(stack.layers[0], strength=1.0)).form(0)
    there = Mesh(source.mesh.topology, (double @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32))
    assert deviation(there, Mesh(made.mesh.topology, doubled), GO).mean() < 0.03


def test_colour_regions_and_mask_arrive() -> None:
    mesh = make_ball(100.0, 48)
    right = mesh.positions[:, 0] > 0
    mesh.colour = np.where(right[:, None], [200, 40, 40, 255], [40, 40, 200, 255]).astype(np.uint8)
    mesh.mask = (mesh.positions[:, 1] > 20).astype(np.float32)
    mesh.regions = np.where(right[mesh.topology.faces[:, 0]], 3, 7).astype(np.uint16)
    made = laid(Source(mesh), base(), levels=1).mesh
    assert made.colour is not None
    assert made.mask is not None
    assert made.regions is not None
    at = made.positions
    assert (made.colour[at[:, 0] > 6] == [200, 40, 40, 255]).all()
    assert (made.colour[at[:, 0] < -6] == [40, 40, 200, 255]).all()
    assert (made.mask[at[:, 1] > 26] > 0.999).all()
    assert (made.mask[at[:, 1] < 14] < 0.001).all()
    middles = at[made.topology.faces[:, 0], 0]
    assert (made.regions[middles > 12] == 3).all()
    assert (made.regions[middles < -12] == 7).all()
    bare = laid(Source(mesh), base(), colour=False, regions=False, mask=False).mesh
    assert bare.colour is bare.regions is bare.mask is None


def test_sides() -> None:
    bump = make_ball(100.0, 48)
    bump.positions *= np.where(bump.positions[:, :1] > 0, np.float32(1.04), np.float32(0.96))
    bump.refresh_all()
    target = make_ball(100.0, 24)
    out = laid(Source(bump), target, side="out").mesh.positions
    low = target.positions[:, 0] < -20
    assert np.linalg.norm(out[target.positions[:, 0] > 20], axis=1).min() > 103
    assert np.linalg.norm(out[low], axis=1).min() > 99
    inside = laid(Source(bump), target, side="in").mesh.positions
    assert np.linalg.norm(inside[low], axis=1).max() < 97


def test_what_is_offered() -> None:
    near = offered_reach(make_ball(100.0, 24), make_ball(102.0, 8))
    far = offered_reach(make_ball(100.0, 24), make_ball(106.0, 8))
    assert 6 < near < 14 < far < 40
    assert offered_levels(100_000, 1_600) == 3
    assert offered_levels(1_000, 100_000) == 0


def test_moves_fade_from_ring_to_ring() -> None:
    mesh = make_ball(100.0, 24)
    known = mesh.positions[:, 2] < 60
    moves = np.tile(np.array([[0, 0, 1]], np.float32), (mesh.n_vertices, 1))
    out = faded(mesh.topology, moves, known)
    assert (out[known] == moves[known]).all()
    lift = out[:, 2]
    order = np.argsort(mesh.positions[:, 2])[-50:]
    assert 0 <= lift[order].max() < 0.5
    near = (mesh.positions[:, 2] > 60) & (mesh.positions[:, 2] < 66)
    assert (lift[near] > 0.5).all()


def test_it_can_be_cancelled_at_every_report() -> None:
    mesh, stack = figure()

    class Count(Progress):
        def __init__(self, stop: int) -> None:
            self.reports, self.stop = 0, stop

        def report(self, fraction: float, text: str = "") -> None:
            self.reports += 1
            if self.reports == self.stop:
                raise Cancelled

    source = source_of(mesh, stack, HERE, GO)
    target = base()
    whole = Count(-1)
    carried_over(source, target, Stack.of(target), CarryWish(8.0, levels=1), whole)
    assert whole.reports > 8
    for stop in (2, whole.reports // 2, whole.reports):
        with pytest.raises(Cancelled):
            carried_over(source, target, Stack.of(target), CarryWish(8.0, levels=1), Count(stop))
