"""Grain on a part's layers: what its settings share is worked out once, then any of them is tried fast."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core import masks
from kneten.core.arrays import F32, F64, I32, Progress
from kneten.core.grain import EVERY, Grain, heights
from kneten.core.mesh import Mesh
from kneten.core.normals import compute_normals
from kneten.core.press import Press
from kneten.core.regions import vertices_of
from kneten.core.relief import Relief, packed, packed_rows
from kneten.core.stack import Layer, Stack

UP: F64 = np.array([0.0, 1.0, 0.0])


class GrainWork:
    """One layer of grain on the finest level of a part.

    Attributes
    ----------
    stack : Stack
        The part's, without what the layer does now.
    bare : Mesh
        The clay of that level without it.
    seats : (n, 3) float32
        Where its vertices were when grain was first laid.
    normals : (n, 3) float32
        Which way the clay faced there.
    edge : float
        How far they lie apart there, in the mean.
    """

    def __init__(self, stack: Stack, mesh: Mesh, layer: Layer) -> None:
        stack = stack.taken(mesh.positions)
        assert stack.level == stack.top
        known = any(one.id == layer.id for one in stack.layers)
        self._layer = replace(layer, reliefs=())
        layers = stack.layers if known else (*stack.layers, self._layer)
        self.stack = replace(stack, layers=layers).with_layer(self._layer)
        level, shape = stack.level, mesh.topology
        self._ground = self.stack.ground(level)
        places = self.stack.on(self._ground, level)
        self.bare = Mesh(shape, places, regions=mesh.regions)
        held = mesh.seat
        if held is None:
            self.seats = places
        else:
            # What came to the clay later lies where it is.
            unknown = np.asarray(~held.any(axis=1))
            self.seats = np.where(unknown[:, None], places, held) if unknown.any() else held
        self.normals = self.bare.normals if held is None else compute_normals(self.seats, shape)
        some = shape.faces[:: max(shape.n_faces // 20_000, 1)]
        self.edge = float(np.linalg.norm(self.seats[some[:, 0]] - self.seats[some[:, 1]], axis=1).mean())
        self._measures: dict[str, F32] = {}
        self._room = places.copy()

    def measure(self, grain: Grain, mask: F32 | None, progress: Progress) -> F32 | None:
        """What says where a grain lies, (n,) from 0 to 1; None for everywhere. Raises `Cancelled`.

        Parameters
        ----------
        mask : (n,) float32 or None
            The mask it lies on, where it does.
        """
        name = f"{grain.where} {grain.of}"
        if grain.where == "all":
            return None
        if name not in self._measures:
            self._measures[name] = self._measured(grain, mask, progress)
        return self._measures[name]

    def _measured(self, grain: Grain, mask: F32 | None, progress: Progress) -> F32:
        mesh = self.bare
        if grain.where == "mask":
            return np.zeros(mesh.n_vertices, np.float32) if mask is None else mask
        if grain.where == "region":
            number = int(grain.of) if grain.of.isdigit() else 0
            inside = np.zeros(mesh.n_vertices, np.float32)
            if mesh.regions is not None:
                inside[vertices_of(mesh, mesh.regions == number)] = 1.0
            return masks.blurred(mesh, inside, 2)
        if grain.where == "curve":
            return masks.cavity(mesh)
        if grain.where == "height":
            return masks.along(mesh.positions.astype(np.float64), UP)
        if grain.where == "slope":
            return masks.facing(mesh.normals, UP)
        return masks.thickness(mesh, progress)

    def cover(self, grain: Grain, measure: F32 | None, rows: I32 = EVERY) -> F32 | None:
        """How much of a grain lies on some vertices (k,), or on all; None for all of it everywhere."""
        if measure is None:
            return None
        some = measure[rows] if len(rows) else measure
        if grain.where in ("mask", "region"):
            return some
        return masks.between(some, grain.low, grain.high, grain.soft)

    def relief(self, grain: Grain, press: Press | None, measure: F32 | None, rows: I32 = EVERY) -> Relief:
        """The differences that a grain makes on some vertices (k,), or on all (n,), where `measure` (n,) lets it. Raises `ValueError` without a press to lay."""
        high = heights(grain, press, self.seats, self.normals, self.edge, rows)
        cover = self.cover(grain, measure, rows)
        high *= np.float32(grain.height)
        if cover is not None:
            high *= cover
        if self._ground.framed:
            values = np.zeros((len(high), 3), np.float32)
            values[:, 2] = high
        else:
            values = high[:, None] * (self.bare.normals[rows] if len(rows) else self.bare.normals)
        n = self.bare.n_vertices
        return packed_rows(rows, values, n) if len(rows) else packed(values)

    def tried(self, grain: Grain, press: Press | None, measure: F32 | None, rows: I32 = EVERY) -> F32:
        """Where some vertices (k,), or all, belong with a grain: (k, 3)."""
        relief = self.relief(grain, press, measure, rows)
        share = self.stack.strength(self.stack.layer(self._layer.id))
        if not len(rows):
            form = self.bare.positions.copy()
            self._ground.add(relief, share, form)
            return form
        # Only these are put right: copying all of a large part for each picture would take longer than all else.
        self._room[rows] = self.bare.positions[rows]
        self._ground.add(relief, share, self._room)
        return self._room[rows]

    def laid(self, grain: Grain, press: Press | None, measure: F32 | None) -> Stack:
        """The stack with the grain on it, where `measure` (n,) lets it lie."""
        layer, relief = replace(self._layer, grain=grain), self.relief(grain, press, measure)
        if self.stack.level == 0:
            relief = self.stack.told_before(relief, self.bare.n_vertices)
        return self.stack.with_layer(layer.with_relief(self.stack.level, relief))
