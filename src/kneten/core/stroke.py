"""A running stroke: dabs and their mirrored twins, from the press to the difference they leave."""

from __future__ import annotations

import itertools

import numpy as np

from kneten.core.arrays import F32, F64, I32
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change, renew_normals
from kneten.core.falloff import curve_table
from kneten.core.mesh import Mesh
from kneten.core.patches import fit_clusters, loosen_boxes, patches_near
from kneten.core.reach import Reach, apply_push, keep_connected, weigh
from kneten.core.topology import PATCH
from kneten.core.workspace import Workspace

Axes = tuple[bool, bool, bool]

LOOSE = 0.1
"""How loose boxes may become before they are fitted again, as a share of the brush's radius."""


class Stroke:
    """One stroke of one tool on one mesh.

    Parameters
    ----------
    symmetry : three bools
        Mirror across the part's x = 0, y = 0, z = 0 planes.

    Attributes
    ----------
    boxes : list of (6,) float32
        Where the picture is out of date, in the part's space; the view empties it.
    n_reached : int
        Vertices under the last dab, without its twins.
    """

    def __init__(
        self, mesh: Mesh, tool: Tool, settings: BrushSettings, symmetry: Axes = (False,) * 3
    ) -> None:
        self.mesh = mesh
        self.tool = tool
        self.settings = settings
        self.work = Workspace(mesh)
        self.protection = mesh.protection()
        self.falloff = curve_table(settings.falloff)
        choices = [(1.0, -1.0) if on else (1.0,) for on in symmetry]
        self.mirrors = [np.array(signs) for signs in itertools.product(*choices)]
        self.boxes: list[F32] = []
        self.n_reached = 0
        self._loose = 0.0
        self._grabbed: list[Reach] = []
        self._vertices = np.empty(0, np.int32)
        self._places = np.empty(0, np.int32)
        self._weights = np.empty(0, np.float32)

    def _room(self, n: int) -> None:
        if n > len(self._vertices):
            old = (self._vertices, self._places, self._weights)
            room = max(n, 2 * len(self._vertices))
            self._vertices = np.empty(room, np.int32)
            self._places = np.empty(room, np.int32)
            self._weights = np.empty(room, np.float32)
            for new, kept in zip((self._vertices, self._places, self._weights), old, strict=True):
                new[: len(kept)] = kept

    def _reach(self, centre: F64, radius: float, view: F64, n: int) -> tuple[int, I32]:
        """Append what one dab reaches to the lists; returns their new length and the patches near."""
        mesh, work = self.mesh, self.work
        x, y, z = centre
        count = patches_near(mesh.boxes, mesh.clusters, x, y, z, radius, work.near_buffer)
        near = work.near_buffer[:count].copy()
        work.open(near)
        self._room(n + count * PATCH)
        first = n
        n = weigh(
            mesh.positions,
            mesh.normals,
            self.protection,
            near,
            work.patch_slot,
            x,
            y,
            z,
            radius,
            self.falloff,
            view,
            self.settings.front_only,
            self._vertices,
            self._places,
            self._weights,
            n,
        )
        if self.settings.connected_only:
            shape = mesh.topology
            n = keep_connected(
                mesh.positions,
                shape.faces,
                shape.ring_start,
                shape.ring_faces,
                mesh.stamp,
                mesh.next_stamp(),
                mesh.next_stamp(),
                x,
                y,
                z,
                self._vertices,
                self._places,
                self._weights,
                first,
                n,
            )
        return n, near

    def _reaches(self, centre: F64, radius: float, view: F64) -> tuple[list[Reach], I32]:
        ends = [0]
        nears = []
        for signs in self.mirrors:
            end, near = self._reach(centre * signs, radius, view * signs, ends[-1])
            ends.append(end)
            nears.append(near)
        reaches = [
            Reach(self._vertices[a:b], self._places[a:b], self._weights[a:b], near)
            for (a, b), near in zip(itertools.pairwise(ends), nears, strict=True)
        ]
        self.n_reached = ends[1]
        return reaches, np.array(ends, np.int32)

    def dab(self, dab: Dab) -> None:
        """Touch the clay once, and at every mirrored place at the same time."""
        reaches, ends = self._reaches(dab.centre, dab.radius, dab.view)
        for signs, reach in zip(self.mirrors, reaches, strict=True):
            twin = Dab(
                dab.centre * signs,
                dab.along * signs,
                dab.view * signs,
                dab.radius,
                dab.strength,
                dab.spacing,
            )
            self.tool.displace(self.mesh, self.work, reach, twin)
        self._apply(self._vertices, self._places, ends, [reach.near for reach in reaches], dab.radius)

    def grab(self, centre: F64, radius: float, view: F64) -> None:
        """Take hold of what is under the brush; it stays held until the stroke ends."""
        reaches, ends = self._reaches(centre, radius, view)
        self._grabbed = [Reach(r.vertices.copy(), r.places.copy(), r.weights.copy(), r.near) for r in reaches]
        self._held = (
            np.concatenate([r.vertices for r in self._grabbed]),
            np.concatenate([r.places for r in self._grabbed]),
            ends,
            [r.near for r in self._grabbed],
        )

    def drag(self, way: F64, radius: float, strength: float = 1.0) -> None:
        """Bring what is held to `way` from where it was grabbed."""
        for signs, reach in zip(self.mirrors, self._grabbed, strict=True):
            way_here = way * signs * strength
            dab = Dab(np.zeros(3), way_here, np.zeros(3), radius, strength, 1.0)
            self.tool.displace(self.mesh, self.work, reach, dab)
        self._apply(*self._held, radius)

    def _apply(self, vertices: I32, places: I32, ends: I32, nears: list[I32], radius: float) -> None:
        mesh, work = self.mesh, self.work
        share = self.settings.build_up_limit
        limit = share * radius if share > 0 else np.inf
        room = 2 * int(ends[-1]) + 4096
        base = mesh.next_stamps(room)
        listed = mesh.scratch("listed", room, np.uint32)
        longest = np.zeros(1)
        segments = []
        owners = []
        moves = []
        n = 0
        for near, (first, last) in zip(nears, itertools.pairwise(ends.tolist()), strict=True):
            begin = n
            n = apply_push(
                mesh.positions,
                work.origin,
                work.push,
                work.push_weight,
                self.tool.holds,
                limit,
                mesh.stamp,
                base,
                vertices.view(np.uint32),
                places.view(np.uint32),
                first,
                last,
                listed,
                n,
                longest,
            )
            if n > begin:
                segments.append((begin, n))
                owners.append(near)
                moves.append(float(longest[0]))
        if not segments:
            return
        bounds = renew_normals(mesh, base, listed, segments, owners)
        for box, move in zip(bounds, moves, strict=True):
            # The box holds where the clay is now; by this much it may have been outside before.
            box[:3] -= move
            box[3:] += move
            self.boxes.append(box)
        self._keep_boxes(nears, max(moves), radius)

    def _keep_boxes(self, nears: list[I32], move: float, radius: float) -> None:
        """Loosen the boxes near the dab by its longest move, and fit them anew now and then.

        A patch that owns a face of a moved vertex had that vertex in its box, so the dab was near it.
        """
        mesh, work = self.mesh, self.work
        move *= 1.0 + 1e-6
        self._loose += move
        if self._loose > LOOSE * radius:
            self._loose = 0.0
            mesh.refit(work.touched_patches())
            return
        for near in nears:
            loosen_boxes(mesh.boxes, near, move)
            fit_clusters(mesh.boxes, near, mesh.clusters)

    def finish(self) -> Change | None:
        """End the stroke. Returns what undoes it, or None when nothing moved."""
        vertices, before = self.work.moved()
        self.mesh.refit(self.work.touched_patches())
        if len(vertices) == 0:
            return None
        return Change("positions", vertices, before)

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        change = self.finish()
        if change is not None:
            change.swap(self.mesh)
