"""What an exact operation would give, shown while parts are still moved: on simplified solids."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace

import manifold3d
import numpy as np

from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.solid_work import OPERATIONS, RawSolid, Request, SolidError, solved
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id

FEW = 12_000
"""Triangles up to which a part is previewed as it is; a larger one is simplified first."""


class SolidPreview:
    """The preview of one operation on some parts.

    Attributes
    ----------
    failed : str
        Why there is nothing to show, or "".
    """

    def __init__(self, operation: str, parts: Sequence[Part]) -> None:
        self.operation = operation
        self.ids = [part.id for part in parts]
        self._solids: dict[str, manifold3d.Manifold] = {}
        self._made: tuple[object, Part] | None = None
        self.failed = ""

    def _solid(self, part: Part) -> manifold3d.Manifold:
        """A part's clay as a simplified solid, in the part's own space."""
        if part.mesh_id not in self._solids:
            triangles = triangulate(part.mesh.topology.faces).astype(np.uint32)
            raw = RawSolid(part.mesh.positions, triangles, np.zeros(len(triangles), np.uint32))
            if len(triangles) > FEW:
                low, high = part.mesh.bounds()
                tolerance = float(np.max(high - low)) / 250
                # What is not closed stays as it is, and the preview says so.
                with contextlib.suppress(SolidError):
                    (raw,) = solved(Request("simplify", [raw], tolerance=tolerance), Progress())
            # Copies: arrays that come from another process are read-only, which manifold3d refuses.
            positions = np.array(raw.positions, np.float32)
            corners = np.array(raw.triangles, np.uint32)
            self._solids[part.mesh_id] = manifold3d.Manifold(manifold3d.Mesh(positions, corners))
        return self._solids[part.mesh_id]

    def prepare(self, scene: Scene) -> None:
        """Make the solids; may be called on another thread."""
        for part in scene.parts:
            if part.id in self.ids:
                self._solid(part)

    def applied(self, scene: Scene) -> Scene:
        """The scene with the parts exchanged for what the operation gives."""
        parts = sorted((p for p in scene.parts if p.id in self.ids), key=lambda p: self.ids.index(p.id))
        if len(parts) < 2:
            return scene
        key = tuple((p.mesh_id, p.transform) for p in parts)
        if self._made is None or self._made[0] != key:
            shown = self._combined(parts)
            if shown is None:
                return scene
            self._made = (key, shown)
        rest = [replace(p, visible=False) for p in parts[1:]]
        return scene.with_part(self._made[1], *rest)

    def _combined(self, parts: Sequence[Part]) -> Part | None:
        placed = [self._solid(p).transform(p.transform.matrix()[:3]) for p in parts]
        if any(s.status() != manifold3d.Error.NoError for s in placed):
            self.failed = (
                "A part is not closed; the preview needs closed parts. The operation itself closes them."
            )
            return None
        found = manifold3d.Manifold.batch_boolean(placed, OPERATIONS[self.operation]).to_mesh()
        if len(found.tri_verts) == 0:
            self.failed = "Nothing would be left."
            return None
        self.failed = ""
        faces = np.ascontiguousarray(found.tri_verts, np.int32)
        positions = np.ascontiguousarray(found.vert_properties[:, :3], np.float32)
        from kneten.core.transform import Transform

        return replace(
            parts[0], mesh=Mesh.from_faces(positions, faces), mesh_id=new_id(), transform=Transform()
        )
