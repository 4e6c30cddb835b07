"""Clay, projects and windows for all tests."""

from __future__ import annotations

import locale
import pathlib
from collections.abc import Iterator

import numpy as np
import pytest
from hypothesis import HealthCheck, settings

from kneten.core.mesh import Mesh
from kneten.core.primitives import ball

# The same examples at every run: what is tried anew is tried on purpose, with other seeds.
settings.register_profile(
    "kneten", deadline=None, max_examples=40, suppress_health_check=list(HealthCheck), derandomize=True
)
settings.load_profile("kneten")

FRONT = np.array([0.0, 0.0, -1.0])


def make_ball(radius: float = 100.0, divisions: int = 24, triangles: bool = False) -> Mesh:
    """A ball of clay; cut into triangles on demand."""
    positions, faces = ball(radius, divisions)
    if triangles:
        faces = np.concatenate([faces[:, :3], faces[:, [0, 2, 3]]]).astype(np.int32)
    return Mesh.from_faces(positions, faces)


def make_sheet(size: int = 40, step: float = 5.0) -> Mesh:
    """A flat open sheet of quads in the xy plane, facing +z, symmetric across x and y."""
    side = (np.arange(size + 1) - size / 2) * step
    x, y = np.meshgrid(side, side, indexing="ij")
    positions = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    index = np.arange((size + 1) ** 2).reshape(size + 1, size + 1)
    faces = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], -1)
    return Mesh.from_faces(positions.astype(np.float32), faces.reshape(-1, 4).astype(np.int32))


@pytest.fixture
def clay() -> Mesh:
    """A ball of 3,458 vertices, 200 mm across."""
    return make_ball()


@pytest.fixture(autouse=True)
def own_folders(tmp_path: pathlib.Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Journals and preferences of a test go to its own folder."""
    monkeypatch.setenv("KNETEN_STATE", str(tmp_path / "state"))
    monkeypatch.setenv("KNETEN_CONFIG", str(tmp_path / "config"))


@pytest.fixture(autouse=True)
def same_locale() -> Iterator[None]:
    """Whoever leaves the process with another locale fails here, and not all who read a name after it."""
    before = locale.setlocale(locale.LC_CTYPE)
    yield
    after = locale.setlocale(locale.LC_CTYPE)
    locale.setlocale(locale.LC_CTYPE, before)
    assert after == before
