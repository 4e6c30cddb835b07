"""A part's arrays on the graphics side: uploaded once, then by dirty patches."""

from __future__ import annotations

import moderngl
import numpy as np

from kneten.core.arrays import I32
from kneten.core.culling import fit_cones, patch_triangles, stand_in
from kneten.core.mesh import Mesh
from kneten.core.topology import PATCH

STAND_IN = 60_000
"""Triangles of the stand-in at most. Software OpenGL on two cores draws 30,000 of them, lit, in 40 ms."""

LARGE = 300_000
"""Triangles from which on a part gets a stand-in."""


class DrawnMesh:
    """Buffers of one mesh.

    Attributes
    ----------
    triangle_starts : (patches + 1,) int32
        Where each patch's triangles begin in the index buffer.
    """

    def __init__(self, ctx: moderngl.Context, program: moderngl.Program, mesh: Mesh) -> None:
        self.mesh = mesh
        triangles, self.triangle_starts = patch_triangles(mesh.topology)
        self._positions = ctx.buffer(mesh.positions)
        self._normals = ctx.buffer(mesh.normals)
        colour = mesh.colour
        if colour is None:
            colour = np.full((mesh.n_vertices, 4), 255, np.uint8)
        self._colours = ctx.buffer(colour)
        self._indices = ctx.buffer(triangles)
        mesh.take_dirty()
        self.closed = not mesh.topology.border.any()
        self.cones = np.empty((mesh.topology.n_patches, 4), np.float32)
        self._fit(np.arange(mesh.topology.n_patches, dtype=np.int32))
        content = [
            (self._positions, "3f4", "position"),
            (self._normals, "3f4", "normal"),
            (self._colours, "4f1", "colour"),
        ]
        self.array = ctx.vertex_array(program, content, self._indices)
        self._stand_in_indices: moderngl.Buffer | None = None
        self.stand_in_array: moderngl.VertexArray | None = None
        if len(triangles) > LARGE:
            few = stand_in(mesh.positions, triangles, STAND_IN)
            if len(few):
                self._stand_in_indices = ctx.buffer(few)
                self.stand_in_array = ctx.vertex_array(program, content, self._stand_in_indices)

    def _fit(self, patches: I32) -> None:
        shape = self.mesh.topology
        fit_cones(self.mesh.positions, shape.faces, shape.patch_faces, patches, self.cones)

    def upload(self) -> I32:
        """Send what changed since the last call; returns the changed patches."""
        mesh = self.mesh
        dirty = mesh.take_dirty()
        if len(dirty) == 0:
            return dirty
        # Neighbouring patches go in one piece.
        breaks = np.flatnonzero(np.diff(dirty) > 1) + 1
        for run in np.split(dirty, breaks):
            first = int(run[0]) * PATCH
            last = min((int(run[-1]) + 1) * PATCH, mesh.n_vertices)
            self._positions.write(mesh.positions[first:last], offset=first * 12)
            self._normals.write(mesh.normals[first:last], offset=first * 12)
        self._fit(dirty)
        return dirty

    def release(self) -> None:
        """Give the graphics memory back."""
        self.array.release()
        if self.stand_in_array is not None:
            self.stand_in_array.release()
        for buffer in (
            self._positions,
            self._normals,
            self._colours,
            self._indices,
            self._stand_in_indices,
        ):
            if buffer is not None:
                buffer.release()
