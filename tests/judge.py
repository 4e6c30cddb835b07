"""What an outside judge says of a mesh: how drawn out its faces are, where it folds, whether it is tight."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import trimesh

from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.formats.gltf_judge import judged as asked
from kneten.formats.threemf import own_locale


def judged(mesh: Mesh) -> trimesh.Trimesh:
    """The mesh as triangles, as it was given."""
    positions, faces = mesh.source_arrays()
    return trimesh.Trimesh(positions, triangulate(faces), process=False)


def sound(mesh: Mesh) -> trimesh.Trimesh:
    """The same, after it has been found closed, oriented, and to hold something."""
    solid = judged(mesh)
    assert solid.is_watertight
    assert solid.is_winding_consistent
    assert solid.volume > 0
    return solid


def drawn_out(mesh: Mesh) -> np.ndarray:
    """How drawn out each face is (f,): of an even triangle 1, of a square 1.73, whichever way it splits better."""

    def triangle(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
        long = np.max([np.linalg.norm(x - y, axis=1) for x, y in ((a, b), (b, c), (c, a))], axis=0)
        twice = np.linalg.norm(np.cross(b - a, c - a), axis=1)
        return np.sqrt(0.75) * long**2 / np.maximum(twice, 1e-12)

    faces = mesh.topology.faces
    quads = faces[:, 3] >= 0
    a, b, c, d = (mesh.positions[faces[:, k]].astype(float) for k in range(4))
    one = np.maximum(triangle(a, b, c), np.where(quads, triangle(c, d, a), 0.0))
    other = np.where(quads, np.maximum(triangle(b, c, d), triangle(d, a, b)), np.inf)
    return np.minimum(one, other)


def folds(mesh: Mesh, degrees: float = 120.0) -> int:
    """How many edges the surface turns at by more than some degrees."""
    return int((judged(mesh).face_adjacency_angles > np.radians(degrees)).sum())


def well_formed(path: Path) -> Path:
    """A GLB file, after the open validator of glTF, where it is installed, has found nothing wrong with it."""
    said = asked(path)
    assert said is None or (said.errors, said.warnings) == (0, 0), said.text
    return path


def printable(path: Path) -> tuple[Any, Any]:
    """A 3MF file as its library reads it where it forgives nothing: wrapper, which must outlive it, and model."""
    lib3mf = pytest.importorskip("lib3mf")
    with own_locale():
        wrapper = lib3mf.Wrapper()
        model = wrapper.CreateModel()
        reader = model.QueryReader("3mf")
        reader.SetStrictModeActive(True)
        reader.ReadFromFile(str(path))
        assert reader.GetWarningCount() == 0
    return wrapper, model
