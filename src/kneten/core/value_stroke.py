"""Strokes that change a mesh's values instead of its form: painting masks and regions."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, U16, AnyArray, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change, box_around, noted
from kneten.core.mesh import Mesh
from kneten.core.press import Press
from kneten.core.stroke import Stroke
from kneten.core.topology import PATCH
from kneten.core.twin_places import Axes, Twin

RATE = 2.5
"""Share of what is missing that a full-strength dab gives over one radius of stroke."""

INSIDE = 0.35
"""Weight from which a face's middle counts as painted: where the flat falloff begins to fall."""


@kernel
def _paint_mask(mask: F32, vertices: I32, weights: F32, aim: float, rate: float) -> None:
    for i in range(vertices.shape[0]):
        v = vertices[i]
        mask[v] += (aim - mask[v]) * min(weights[i] * rate, 1.0)


@kernel
def _blur_mask(
    mask: F32, faces: I32, start: I32, ring: I32, vertices: I32, weights: F32, rate: float, out: F32
) -> None:
    for i in range(vertices.shape[0]):
        v = vertices[i]
        total = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            for c in range(4):
                u = faces[ring[k], c]
                if u >= 0:
                    total += mask[u]
                    count += 1
        out[i] = mask[v]
        if count > 0:
            out[i] += (total / count - mask[v]) * min(weights[i] * rate, 1.0)


@kernel
def _paint_faces(
    regions: U16, faces: I32, start: I32, ring: I32, vertices: I32, weights: F32, number: int, out: I32
) -> int:
    """Give faces most of whose corners are well within the brush to a region; lists the changed ones."""
    n = 0
    for i in range(vertices.shape[0]):
        if weights[i] < INSIDE:
            continue
        v = vertices[i]
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            if regions[f] != number:
                regions[f] = number
                out[n] = f
                n += 1
    return n


class ValueStroke(Stroke):
    """A stroke of a tool that changes masks or regions.

    Parameters
    ----------
    number : int
        The region painted, for a tool that paints regions.
    smoothing : bool
        Soften the mask instead of painting it.
    """

    def __init__(
        self,
        mesh: Mesh,
        tool: Tool,
        settings: BrushSettings,
        symmetry: Axes = (False,) * 3,
        twins: list[Twin] | None = None,
        number: int = 0,
        smoothing: bool = False,
        press: Press | None = None,
    ) -> None:
        super().__init__(mesh, tool, settings, symmetry, twins, press)
        self._tapers = False
        self.log = None  # What it changes is kept in `_patches`.
        # What is masked can be painted; what is hidden cannot.
        self.protection = np.empty(0, np.float32)
        if mesh.hidden is not None:
            plain, mesh.mask = mesh.mask, None
            mesh.forget_protection()
            self.protection = mesh.protection()
            mesh.mask = plain
            mesh.forget_protection()
        self._number = number
        self._smoothing = smoothing
        self._values: AnyArray = mesh.need(tool.changes)
        self._patches: dict[int, AnyArray] = {}

    def _remember(self, patches: I32) -> None:
        """Keep what patches hold before they are touched first."""
        for p in patches.tolist():
            if p not in self._patches:
                self._patches[p] = self._values[self._rows(p)].copy()

    def _rows(self, patch: int) -> slice:
        if self.tool.changes == "regions":
            starts = self.mesh.topology.patch_faces
            return slice(int(starts[patch]), int(starts[patch + 1]))
        return slice(patch * PATCH, min((patch + 1) * PATCH, self.mesh.n_vertices))

    def dab(self, dab: Dab) -> None:
        """Paint once, and at every mirrored place at the same time."""
        reaches, _, _ = self._under(dab)
        mesh, shape = self.mesh, self.mesh.topology
        rate = abs(dab.strength) * dab.spacing * RATE
        for reach in reaches:
            # A face lies in the patch of its least corner: any of the dab's patches.
            self._remember(reach.near)
            if len(reach.vertices) == 0:
                continue
            if self.tool.changes == "regions":
                rings = shape.ring[reach.vertices]
                room = np.empty(int((rings[:, 1] - rings[:, 0]).sum()), np.int32)
                number = 0 if dab.strength < 0 else self._number
                n = _paint_faces(
                    self._values, shape.faces, shape.ring, shape.ring_faces, reach.vertices, reach.weights,
                    number, room,
                )  # fmt: skip
                noted(mesh, "regions", room[:n])
            else:
                if self._smoothing:
                    out = np.empty(len(reach.vertices), np.float32)
                    _blur_mask(
                        self._values, shape.faces, shape.ring, shape.ring_faces, reach.vertices,
                        reach.weights, min(rate * 3, 1.0), out,
                    )  # fmt: skip
                    self._values[reach.vertices] = out
                else:
                    _paint_mask(
                        self._values,
                        reach.vertices,
                        reach.weights,
                        0.0 if dab.strength < 0 else 1.0,
                        rate * 2,
                    )
                noted(mesh, "mask", reach.vertices)
            self.boxes.append(box_around(mesh, reach.vertices))

    def take_back(self) -> None:
        """Put everything back as the stroke found it, and go on."""
        change = self._difference()
        if change is not None:
            change.swap(self.mesh)
            places = change.places
            if self.tool.changes == "regions":
                corners = self.mesh.topology.faces[places].reshape(-1)
                places = np.unique(corners[corners >= 0]).astype(np.int32)
            self.boxes.append(box_around(self.mesh, places))
            self._values = self.mesh.need(self.tool.changes)

    def finish(self) -> Change | None:
        """End the stroke. Returns what undoes it, or None when nothing changed."""
        change = self._difference()
        if not self._values.any():
            setattr(self.mesh, self.tool.changes, None)
        return change

    def _difference(self) -> Change | None:
        places, before = [], []
        for patch, kept in sorted(self._patches.items()):
            rows = self._rows(patch)
            other = np.flatnonzero(self._values[rows] != kept)
            places.append((other + rows.start).astype(np.int32))
            before.append(kept[other])
        what = self.tool.changes
        if not places or not sum(len(p) for p in places):
            return None
        return Change(what, np.concatenate(places), np.concatenate(before))
