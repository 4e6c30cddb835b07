"""What other clay covers, against what the laws of evenly spread light say."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.arrays import Cancelled, Progress
from kneten.core.covered import covered
from kneten.core.mesh import Mesh
from kneten.core.paint.wash import START, Wash, measured
from kneten.core.primitives import ball
from tests.conftest import make_ball, make_sheet


def ball_over_a_sheet(radius: float, high: float) -> tuple[Mesh, int]:
    """A ball that hangs over the middle of a sheet, and that middle."""
    places, faces = ball(radius, 24)
    sheet = make_sheet(40, 6.0)
    own = sheet.topology.faces.copy()
    own[own >= 0] += len(places)
    faces = faces if faces.shape[1] == 4 else np.c_[faces, np.full(len(faces), -1)]
    mesh = Mesh.from_faces(
        np.concatenate([places + np.array([0, 0, high]), sheet.positions]).astype(np.float32),
        np.concatenate([faces, own]).astype(np.int32),
    )
    flat = mesh.positions[:, 2] == 0
    far = np.where(flat, np.hypot(mesh.positions[:, 0], mesh.positions[:, 1]), np.inf)
    return mesh, int(np.argmin(far))


@pytest.mark.parametrize(("radius", "high"), [(20.0, 40.0), (30.0, 40.0), (10.0, 40.0)])
def test_a_ball_overhead_covers_as_much_as_its_square_says(radius: float, high: float) -> None:
    """Seen from right below, a ball keeps (r / h) squared of evenly spread light away."""
    mesh, middle = ball_over_a_sheet(radius, high)
    found = covered(mesh, Progress())
    assert found[middle] == pytest.approx((radius / high) ** 2, abs=0.06)
    rim = (mesh.positions[:, 2] == 0) & (np.abs(mesh.positions[:, 0]) > 110)
    assert found[rim].mean() < 0.12


def test_a_round_body_covers_nothing_of_itself_however_it_stands() -> None:
    mesh = make_ball(50.0, 40)
    assert covered(mesh, Progress()).max() < 0.03
    moved = Mesh.from_faces(mesh.positions * np.float32(1e-3) + np.float32(7.0), mesh.topology.faces)
    assert covered(moved, Progress()).max() < 0.06


def test_hidden_clay_covers_nothing() -> None:
    mesh, middle = ball_over_a_sheet(30.0, 40.0)
    mesh.hidden = (mesh.positions[mesh.topology.faces[:, 0], 2] > 1).astype(np.uint8)
    assert covered(mesh, Progress())[middle] < 0.03


def test_it_is_told_and_can_be_cancelled() -> None:
    mesh, _ = ball_over_a_sheet(20.0, 40.0)
    shares: list[float] = []

    class Told(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            shares.append(fraction)
            if len(shares) > 60:
                raise Cancelled

    told = Told()
    wash = Wash("covered", *START["covered"])
    found = measured(wash, mesh, np.array([0.0, 1, 0]), None, told)
    assert found.shape == (mesh.n_vertices,)
    assert max(shares) == pytest.approx(1.0)
    with pytest.raises(Cancelled):
        covered(mesh, told)
