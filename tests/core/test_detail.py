"""Detail check: what a press needs of the mesh, and what lower levels lose."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.arrays import Cancelled, Progress
from kneten.core.detail import EDGES, finest_wave, levels_more, lost_below, under_the_brush
from kneten.core.mesh import Mesh
from kneten.core.press import Press, press_of
from kneten.core.presses.library import library
from kneten.core.primitives import ball
from kneten.core.stack import Stack
from tests.conftest import make_ball


def waves(count: float, side: int = 512) -> np.ndarray:
    """A picture of so many waves from side to side."""
    x = (np.arange(side) + 0.5) / side
    return np.tile(np.sin(2 * np.pi * count * x), (side, 1)).astype(np.float32)


@pytest.mark.parametrize("count", [3, 8, 20, 60])
def test_the_finest_wave_of_waves_is_theirs(count: int) -> None:
    assert finest_wave(press_of(waves(count), tiles=True)) == pytest.approx(1 / count, rel=1e-6)
    # Where it does not go on at its borders, it fades, which widens what it is made of.
    assert finest_wave(press_of(waves(count))) == pytest.approx(1 / count, rel=1.3 / count)


def test_small_unevenness_besides_does_not_count_until_it_matters() -> None:
    coarse, fine = waves(5), waves(50)
    assert finest_wave(press_of(coarse + 0.1 * fine)) == pytest.approx(1 / 5, rel=0.25)
    assert finest_wave(press_of(coarse + 0.8 * fine)) == pytest.approx(1 / 50, rel=0.1)


def test_a_flat_press_needs_nothing() -> None:
    assert finest_wave(Press(np.zeros((64, 64), np.float32))) == 1.0


def test_a_taller_picture_is_measured_by_its_width() -> None:
    tall = np.vstack([waves(8, 256)] * 3)
    assert finest_wave(press_of(tall)) == pytest.approx(1 / 8, rel=0.15)


def test_fine_pores_need_more_than_a_dome() -> None:
    fine, dome = (finest_wave(library()[key].made()) for key in ("pores-fine", "plain-dome"))
    assert fine < 0.2 * dome


def test_levels_more_are_enough_and_no_more_than_needed() -> None:
    for wave in (0.3, 1.0, 2.4, 2.5, 2.6, 7.0):
        more = levels_more(1.0, wave)
        assert 0.5**more * EDGES <= wave * (1 + 1e-9)
        assert more == 0 or 0.5 ** (more - 1) * EDGES > wave
    assert levels_more(0.0, 1.0) == levels_more(1.0, 0.0) == 0


def test_so_many_vertices_lie_under_the_brush() -> None:
    x, z = np.meshgrid(np.arange(-40.0, 41.0), np.arange(-40.0, 41.0))
    inside = int(np.count_nonzero(np.hypot(x, z) <= 20))
    assert under_the_brush(1.0, 20.0) == pytest.approx(inside, rel=0.01)
    assert under_the_brush(0.0, 20.0) == 0


def levelled(levels: int) -> tuple[Stack, Mesh]:
    mesh = make_ball(100.0, 12)
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, Progress())
    return stack, mesh


def test_smooth_clay_loses_nothing_on_the_way_down() -> None:
    stack, mesh = levelled(2)
    lost = lost_below(stack, mesh, Progress())
    assert [one.level for one in lost] == [1, 0]
    assert [one.count for one in lost] == [stack.levels[1].topology.n_vertices, len(stack.base)]
    assert all(one.most < 1e-4 for one in lost)


def test_fine_detail_is_lost_where_it_is_and_coarse_detail_later() -> None:
    stack, mesh = levelled(3)
    at = mesh.positions
    right = at[:, 0] > 30
    fine = 0.4 * np.where((np.arange(len(at)) % 2 == 0) & right, 1.0, 0.0)
    bump = 6.0 * np.exp(-((np.linalg.norm(at - [0, 100, 0], axis=1) / 35) ** 2))
    mesh.positions[:] = at + mesh.normals * (fine + bump)[:, None]
    mesh.refresh_all()
    before = mesh.positions.copy()
    one, two, three = lost_below(stack, mesh, Progress())
    assert np.array_equal(mesh.positions, before)
    assert 0.2 < one.most < 0.6
    far = (at[:, 0] < -10) & (at[:, 1] < 0)
    assert float(one.off[far].max()) < 0.02
    # What is broad is kept by the next levels, and lost at last.
    top = bump > 4
    assert float(one.off[top & ~right].max()) < 0.1
    assert one.usual < 0.3
    assert two.usual < three.usual
    assert float(three.off[top].max()) > 5 * float(one.off[top & ~right].max())


def test_it_can_be_cancelled() -> None:
    class Stopped(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    with pytest.raises(Cancelled):
        lost_below(*levelled(1), Stopped())


def test_a_closed_mesh_of_other_faces_is_measured_too() -> None:
    mesh = Mesh.from_faces(*ball(10.0, 4))
    stack, fine = Stack.of(mesh).added(mesh, Progress())
    (lost,) = lost_below(stack, fine, Progress())
    assert lost.off.shape == (fine.n_vertices,)
