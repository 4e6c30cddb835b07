"""Peeling: what a shell is like, whatever the mask."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.crossings import crossing
from kneten.core.mesh import Mesh
from kneten.core.outline import outlined
from kneten.core.peel import PeelError, PeelSettings, peeled
from kneten.core.primitives import ball
from tests.conftest import make_ball, make_sheet
from tests.judge import drawn_out, folds, judged

CLAY = Mesh.from_faces(*ball(50.0, 64))


def masks() -> dict[str, np.ndarray]:
    """What one peels from a ball with edges of 1 mm."""
    x, y, z = CLAY.positions.T.astype(float)
    far, round_ = np.hypot(x, y), np.arctan2(y, x)
    front = z > 0
    across, along = 0.866 * x - 0.5 * y, 0.5 * x + 0.866 * y
    ragged = np.random.default_rng(1).normal(0, 2.5, len(x))
    return {
        "square": (np.maximum(abs(x), abs(y)) < 28) & front,
        "turned square": (np.maximum(abs(across), abs(along)) < 28) & front,
        "ring": (far < 40) & (far > 24) & front,
        "helix": (abs((z / 28 - round_ / (2 * np.pi) + 0.5) % 1 - 0.5) < 0.16) & (abs(z) < 42),
        "ragged": (far < 30 + ragged) & front,
        "strip": (abs(x) < 3) & (abs(y) < 40) & front,
        "star": (far < 30 + 12 * np.sign(np.cos(5 * round_))) & front,
    }


@pytest.mark.parametrize("settings", [
    PeelSettings(2.0), PeelSettings(6.0), PeelSettings(3.0, "in"), PeelSettings(2.0, corners=True), PeelSettings(4.0, "both", rounded=1.0),
    PeelSettings(2.0, smooth=40),
], ids=["out", "thick", "in", "corners", "both", "very smooth"])  # fmt: skip
@pytest.mark.parametrize("name", list(masks()))
def test_a_shell_is_clean_whatever_the_mask(name: str, settings: PeelSettings) -> None:
    made = peeled(CLAY, masks()[name].astype(np.float32), settings, Progress()).mesh
    assert judged(made).is_watertight
    assert not crossing(made).any()
    assert np.percentile(drawn_out(made), 99) < 6.0
    corners_of_rim = 8 if settings.corners else 0
    assert folds(made) <= corners_of_rim


@pytest.mark.parametrize("thickness", [0.3, 20.0])
def test_the_rim_has_as_many_rows_as_its_thickness_wants(thickness: float) -> None:
    made = peeled(CLAY, masks()["square"].astype(np.float32), PeelSettings(thickness), Progress()).mesh
    assert np.percentile(drawn_out(made), 99) < 6.0


def test_an_outline_is_even_or_keeps_its_corners() -> None:
    sheet = make_sheet(100, 1.0)
    x, y = sheet.positions[:, 0].astype(float), sheet.positions[:, 1].astype(float)
    across, along = 0.8 * x - 0.6 * y, 0.6 * x + 0.8 * y
    mask = (np.maximum(abs(across), abs(along)) < 30).astype(np.float32)
    off: dict[bool, float] = {}
    for corners in (False, True):
        made = outlined(sheet, mask, 12, corners, Progress())
        assert len(made.loops) == 1
        rim = made.points[made.loops[0]]
        a, b = 0.8 * rim[:, 0] - 0.6 * rim[:, 1], 0.6 * rim[:, 0] + 0.8 * rim[:, 1]
        sides = np.minimum(abs(a), abs(b)) < 20
        # Along its sides it runs straight, where the mask steps by an edge.
        assert abs(np.maximum(abs(a), abs(b))[sides] - 30).max() < 0.5
        off[corners] = 30 * np.sqrt(2) - np.hypot(a, b).max()
    assert off[True] < 1.2
    assert off[False] > 2.0


def test_smoothing_leaves_what_is_narrow() -> None:
    mask = masks()["strip"].astype(np.float32)
    wide = outlined(CLAY, mask, 0, False, Progress())
    even = outlined(CLAY, mask, 60, False, Progress())
    assert len(even.faces) > 0.8 * len(wide.faces)


def test_a_shell_into_thin_clay_stays_within_it_and_says_so() -> None:
    flat = CLAY.positions * np.array([1.0, 1.0, 0.04], np.float32)
    slab = Mesh.from_faces(flat, CLAY.topology.faces)
    mask = (slab.positions[:, 2] > 0.5).astype(np.float32)
    made = peeled(slab, mask, PeelSettings(6.0, "in"), Progress())
    assert made.thinner
    assert not crossing(made.mesh).any()
    assert made.mesh.positions[:, 2].min() > 0.0
    assert not peeled(slab, mask, PeelSettings(1.0), Progress()).thinner


@pytest.mark.parametrize("towards", ["out", "in", "both"])
@pytest.mark.parametrize("seed", range(4))
def test_a_peel_is_closed_and_as_thick_as_asked(towards: str, seed: int) -> None:
    mesh = make_ball(100.0, 40)
    rng = np.random.default_rng(seed)
    way = rng.normal(size=3)
    way /= np.linalg.norm(way)
    height = mesh.positions @ way + rng.normal(0, 3, mesh.n_vertices)
    mask = (height > rng.uniform(-60, 60)).astype(np.float32)
    shell = peeled(mesh, mask, PeelSettings(6.0, towards, 1.0), Progress()).mesh
    solid = judged(shell)
    assert solid.is_watertight
    assert solid.is_winding_consistent
    assert solid.volume > 0
    far = np.linalg.norm(shell.positions, axis=1)
    low, high = {"out": (1, 7), "in": (-5, 1), "both": (-2, 4)}[towards]
    # The rim bulges within its own thickness; the sheets lie where they belong.
    assert far.min() == pytest.approx(100 + low, abs=0.7)
    assert far.max() == pytest.approx(100 + high, abs=0.7)
    rim = PeelSettings(6.0, towards, 1.0, smooth=0)
    assert judged(peeled(mesh, mask, rim, Progress()).mesh).is_watertight


def test_peeling_nothing_says_so_and_open_sheets_are_open() -> None:
    mesh = make_ball()
    with pytest.raises(PeelError, match="masked"):
        peeled(mesh, np.zeros(mesh.n_vertices, np.float32), PeelSettings(), Progress())
    mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    with pytest.raises(PeelError, match="thickness"):
        peeled(mesh, mask, PeelSettings(thickness=0.0), Progress())
    assert peeled(mesh, mask, PeelSettings(closed=False), Progress()).mesh.topology.has_border
