"""Clay moved for good: a place kneaded into the vertices."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.mesh import Mesh
from kneten.core.topology import Topology, finish_topology


def turned_out(faces: I32) -> I32:
    """Faces (f, 4) that run round the other way."""
    out = faces.copy()
    quads = faces[:, 3] >= 0
    out[quads] = faces[quads][:, ::-1]
    out[~quads, :3] = faces[~quads][:, 2::-1]
    return out


def flipped(topology: Topology) -> Topology:
    """The same shape turned inside out; vertices and faces keep their order."""
    return finish_topology(turned_out(topology.faces), topology.source_vertex, topology.source_face)


def kneaded(mesh: Mesh, matrix: F64) -> Mesh:
    """The clay moved by a (4, 4) matrix; one that mirrors turns the faces round, so that outside stays out."""
    points = mesh.positions.astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
    topology = mesh.topology
    if np.linalg.det(matrix[:3, :3]) < 0:
        topology = flipped(topology)
    return Mesh(topology, points.astype(np.float32), **mesh.own_values())
