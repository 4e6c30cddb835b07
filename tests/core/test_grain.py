"""Grain: its heights, its seams, what it is fine enough for, and where it lies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.grain import KINDS, WHERE, Grain, coarse, heights
from kneten.core.grain_work import GrainWork
from kneten.core.mesh import Mesh
from kneten.core.press import Press, press_of
from kneten.core.primitives import ball
from kneten.core.stack import Layer, Stack

GO = Progress()


def bumps() -> Press:
    """A press that goes on at its edges: a wave up and a wave across."""
    y, x = np.mgrid[0:128, 0:128] / 128 * 2 * np.pi
    return press_of((np.sin(3 * x) * np.cos(2 * y)).astype(np.float32), tiles=True)


def sphere(rings: int = 60, radius: float = 100.0) -> tuple[np.ndarray, np.ndarray]:
    """Places and normals on a ball."""
    at = ball(radius, rings)[0]
    return at, np.ascontiguousarray(at / np.linalg.norm(at, axis=1)[:, None], np.float32)


@pytest.mark.parametrize("kind", KINDS)
def test_heights_stay_within_one_and_use_most_of_it(kind: str) -> None:
    at, out = sphere()
    high = heights(Grain(kind=kind, scale=12.0), bumps(), at, out, 0.5)
    assert np.isfinite(high).all()
    assert np.abs(high).max() <= 1.0
    assert np.ptp(high) > 0.7
    # Neither a plain nor a few spikes.
    assert high.std() > 0.05


@pytest.mark.parametrize("kind", KINDS)
def test_the_same_is_laid_however_many_are_asked_for(kind: str) -> None:
    at, out = sphere()
    grain = Grain(kind=kind, scale=12.0)
    whole = heights(grain, bumps(), at, out, 0.5)
    rows = np.arange(3, len(at), 7, dtype=np.int32)
    assert np.array_equal(heights(grain, bumps(), at, out, 0.5, rows), whole[rows])


@pytest.mark.parametrize("kind", KINDS)
def test_there_is_no_step_anywhere(kind: str) -> None:
    """Over a great circle in small steps, past all directions that a press is laid along, it rises and falls in small steps."""
    t = np.linspace(0, 2 * np.pi, 200_001)
    way = np.stack([np.cos(t), 0.6 * np.sin(t), 0.8 * np.sin(t)], axis=1).astype(np.float32)
    grain = Grain(kind=kind, scale=20.0)
    high = heights(grain, bumps(), way * np.float32(100), way, 0.5)
    # 0.003 mm from one to the next: the steepest wall of all kinds is that of a crack.
    assert np.abs(np.diff(high)).max() < 0.02


@pytest.mark.parametrize("strewn", [False, True])
def test_a_press_is_as_rough_where_directions_meet_as_where_one_lays_it(strewn: bool) -> None:
    at, out = sphere(300)
    grain = Grain(kind="press", scale=15.0, strewn=strewn)
    high = heights(grain, bumps(), at, out, 0.5)
    square = np.abs(out).max(axis=1)
    alone, corner = high[square > 0.985], high[square < 0.62]
    assert corner.std() == pytest.approx(alone.std(), rel=0.2)


def test_a_press_laid_flat_is_its_picture() -> None:
    press = bumps()
    y, x = np.mgrid[0:50, 0:50].astype(np.float32)
    at = np.stack([x.ravel(), y.ravel(), np.zeros(2500, np.float32)], axis=1)
    out = np.tile(np.float32([0, 0, 1]), (2500, 1))
    high = heights(Grain(kind="press", scale=40.0, strewn=False), press, at, out, 0.05)
    # Of the direction it is laid along it takes the places as they are, but for where it begins.
    u, v = at[:, 0] / 40 + 0.71, at[:, 1] / 40 + 0.23
    middle = 0.5 / 128
    wanted = np.sin(6 * np.pi * (u - middle)) * np.cos(4 * np.pi * (-v - middle))
    assert np.abs(high - wanted).max() < 0.02


def test_strewn_pieces_do_not_repeat() -> None:
    press = bumps()
    # Far from the middle, too.
    x = np.linspace(-90_000, -86_000, 40_000, dtype=np.float32)
    at = np.stack([x, np.full_like(x, 3.0), np.zeros_like(x)], axis=1)
    out = np.tile(np.float32([0, 0, 1]), (len(x), 1))

    def alike(strewn: bool) -> float:
        high = heights(Grain(kind="press", scale=40.0, strewn=strewn), press, at, out, 0.05)
        high = high - high.mean()
        return float((high[400:] * high[:-400]).mean() / (high * high).mean())

    assert alike(False) > 0.99
    assert abs(alike(True)) < 0.25


@pytest.mark.parametrize("kind", KINDS)
def test_the_right_side_can_be_the_mirror_image_of_the_left(kind: str) -> None:
    at, out = sphere()
    other, out_other = at * np.float32([-1, 1, 1]), out * np.float32([-1, 1, 1])
    grain = Grain(kind=kind, scale=12.0, mirrored=True)
    press = bumps()
    assert np.array_equal(heights(grain, press, at, out, 0.5), heights(grain, press, other, out_other, 0.5))
    plain = replace(grain, mirrored=False)
    assert not np.array_equal(
        heights(plain, press, at, out, 0.5), heights(plain, press, other, out_other, 0.5)
    )


def test_what_a_mesh_cannot_show_is_left_out() -> None:
    """On a coarse mesh only the largest unevenness is left, and a press is evened."""
    at, out = sphere(200)
    fine = heights(Grain(kind="clouds", scale=10.0), None, at, out, 0.1)
    rough = heights(Grain(kind="clouds", scale=10.0), None, at, out, 3.7)
    # One whose vertices would hit upon any height has none of it.
    assert not heights(Grain(kind="clouds", scale=10.0), None, at, out, 8.0).any()
    assert np.abs(fine - rough).max() > 0.1
    assert np.array_equal(rough, heights(Grain(kind="clouds", scale=10.0, roughness=0.0), None, at, out, 0.1))
    flat = heights(Grain(kind="press", scale=2.0, strewn=False), bumps(), at, out, 2.0)
    assert flat.std() < 0.1
    assert coarse(Grain(scale=10.0), 10.0) > 3
    assert coarse(Grain(scale=10.0), 1.0) < 1


def test_traits_do_what_they_say() -> None:
    at, out = sphere()
    grain = Grain(kind="ridges", scale=12.0)
    high = heights(grain, None, at, out, 0.5)
    assert not np.array_equal(high, heights(replace(grain, seed=2), None, at, out, 0.5))
    assert not np.array_equal(high, heights(replace(grain, turn=30.0), None, at, out, 0.5))
    # A curve that holds low places down.
    steep = heights(replace(grain, curve=((0.0, 0.0), (0.5, 0.0), (1.0, 1.0))), None, at, out, 0.5)
    assert not steep[high < 0.45].any()
    # Twice as wide on clay twice as large is the same.
    twice = heights(replace(grain, scale=24.0), None, at * np.float32(2), out, 1.0)
    assert np.allclose(twice, high, atol=1e-4)
    with pytest.raises(ValueError, match="no press"):
        heights(Grain(kind="press"), None, at, out, 0.5)


@pytest.mark.parametrize(
    "grain",
    [
        Grain(kind="moss"),
        Grain(where="there"),
        Grain(scale=0.0),
        Grain(low=2.0),
        Grain(scale=-4.0),
        Grain(height=1e12),
        Grain(seed=1 << 40),
    ],
)
def test_what_cannot_be_worked_with_is_known(grain: Grain) -> None:
    assert not grain.usable
    assert Grain().usable


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf, 3e38, -1e12])
def test_seats_that_make_no_sense_do_no_harm(kind: str, bad: float) -> None:
    """They may come from a damaged file; places in a picture are read off them."""
    at, out = sphere(20)
    at = at.copy()
    at[::3] = bad
    out = out.copy()
    out[::6] = np.nan
    high = heights(Grain(kind=kind, scale=1e-3), bumps(), at, out, 0.5)
    assert np.isfinite(high).all()
    assert np.abs(high).max() <= 1.0


# -- on a part's layers ----------------------------------------------------------------------------


def body(levels: int = 0) -> tuple[Stack, Mesh]:
    mesh = Mesh.from_faces(*ball(100.0, 40))
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, GO)
    return stack, mesh


def laid(stack: Stack, mesh: Mesh, grain: Grain, mask: np.ndarray | None = None) -> np.ndarray:
    """How far each vertex stands out of the ball after a grain was laid."""
    work = GrainWork(stack, mesh, Layer("Grain", grain=grain))
    made = work.laid(grain, bumps(), work.measure(grain, mask, GO))
    form = made.form(made.level)
    rows = np.arange(5, mesh.n_vertices, 9, dtype=np.int32)
    tried = work.tried(grain, bumps(), work.measure(grain, mask, GO), rows)
    assert np.abs(tried - form[rows]).max() < 1e-4
    moved = form - work.bare.positions
    return np.einsum("ij,ij->i", moved, work.bare.normals)


@pytest.mark.parametrize("levels", [0, 2])
@pytest.mark.parametrize("kind", ["pebbles", "press"])
def test_a_height_is_as_high_as_it_says(levels: int, kind: str) -> None:
    stack, mesh = body(levels)
    grain = Grain(kind=kind, scale=90.0, height=1.5, roughness=0.0)
    high = laid(stack, mesh, grain)
    work = GrainWork(stack, mesh, Layer("Grain", grain=grain))
    wanted = np.float32(1.5) * heights(grain, bumps(), mesh.positions, mesh.normals, work.edge)
    # Along the normals of the level below, which turn a little against the clay's own.
    assert np.abs(high - wanted).max() < 0.02 * 1.5


@pytest.mark.parametrize("where", WHERE)
def test_it_lies_where_it_is_told_to(where: str) -> None:
    _, mesh = body()
    at = mesh.positions
    mask = (at[:, 2] > 20).astype(np.float32)
    mesh.regions = (mesh.positions[mesh.topology.faces[:, 0], 2] > 20).astype(np.uint16) * 3
    # A waist, thin and hollow.
    mesh.positions[:, [0, 2]] *= (1 - 0.7 * np.exp(-((at[:, 1:2] / 25) ** 2))).astype(np.float32)
    mesh.refresh_all()
    grain = Grain(kind="pebbles", scale=20.0, height=2.0, where=where, low=0.0, high=0.4, soft=0.05)
    grain = replace(grain, of="3" if where == "region" else "")
    high = np.abs(laid(Stack.of(mesh), mesh, grain, mask))
    there = {
        "all": np.ones(len(at), bool),
        "mask": mask > 0.5,
        "region": at[:, 2] > 30,
        "curve": np.abs(at[:, 1]) < 8,
        "height": at[:, 1] < -30,
        "slope": mesh.normals[:, 1] < -0.5,
        "thickness": np.abs(at[:, 1]) < 15,
    }[where]
    assert high[there].mean() > 0.3
    off = {
        "mask": mask < 0.5,
        "region": at[:, 2] < 0,
        "curve": np.abs(at[:, 1]) > 80,
        "height": at[:, 1] > 0,
        "slope": mesh.normals[:, 1] > 0.2,
        "thickness": np.abs(at[:, 1]) > 97,
    }.get(where)
    assert off is None or not high[off].any()


def test_it_goes_along_with_the_clay() -> None:
    """Laid anew on clay that was moved and bent meanwhile, each vertex gets what it had."""
    stack, mesh = body()
    grain = Grain(kind="pebbles", scale=20.0, height=1.0)
    work = GrainWork(stack, mesh, Layer("Grain", grain=grain))
    before = work.relief(grain, None, None)
    mesh.seat = work.seats.copy()
    mesh.positions[:, 0] += np.float32(0.004) * mesh.positions[:, 1] ** 2 + np.float32(30)
    mesh.refresh_all()
    after = GrainWork(Stack.of(mesh), mesh, Layer("Grain", grain=grain)).relief(grain, None, None)
    long = np.linalg.norm(before.dense(mesh.n_vertices), axis=1)
    assert np.allclose(np.linalg.norm(after.dense(mesh.n_vertices), axis=1), long, atol=1e-5)
    # What came to the clay later has no place of its own: it takes where it is.
    mesh.seat[:50] = 0
    work = GrainWork(Stack.of(mesh), mesh, Layer("Grain", grain=grain))
    assert np.array_equal(work.seats[:50], mesh.positions[:50])
