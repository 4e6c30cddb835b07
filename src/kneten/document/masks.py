"""What is done with masks: each function is one undo step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32
from kneten.core.mesh import Mesh
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import KeptMask


def mask_of(mesh: Mesh) -> F32:
    """A mesh's mask (n,), or one of zeros."""
    return np.zeros(mesh.n_vertices, np.float32) if mesh.mask is None else mesh.mask


def with_mask(project: Project, part: Part, mask: F32 | None, name: str) -> bool:
    """Give a part another mask (n,); False when it has it already."""
    return project.set_values(part.id, "mask", mask, f"{name} {part.name}")


def mask_to_keep(part: Part, wanted: str) -> KeptMask:
    """A part's mask as it is now, under a name."""
    name = " ".join(wanted.split()) or "Mask"
    values = np.rint(mask_of(part.mesh) * 255).astype(np.uint8)
    return KeptMask(name, part.id, part.mesh.positions.copy(), values)


def add_kept(project: Project, kept: KeptMask) -> None:
    """Keep a mask with the project; one of the same name and part is exchanged."""
    others = tuple(m for m in project.scene.kept_masks if (m.name, m.part) != (kept.name, kept.part))
    project.change(f"Keep mask {kept.name}", replace(project.scene, kept_masks=(*others, kept)))


def keep_mask(project: Project, part: Part, wanted: str) -> KeptMask:
    """Keep a part's mask under a name; one of the same name is exchanged."""
    kept = mask_to_keep(part, wanted)
    add_kept(project, kept)
    return kept


def forget_mask(project: Project, kept: KeptMask) -> None:
    """Take a kept mask away."""
    rest = tuple(m for m in project.scene.kept_masks if m.id != kept.id)
    project.change(f"Take kept mask {kept.name} away", replace(project.scene, kept_masks=rest))


FAR = 0.1
"""Share of the kept clay's extent from which on a place has nothing to do with it."""


def recalled(kept: KeptMask, mesh: Mesh) -> F32:
    """A kept mask on a mesh, which may be another than it was kept from: (n,) float32.

    Where the mesh is still the same, to the vertex; else each vertex takes what the nearest place had, and what is
    far from all of them is free.
    """
    values: F32 = kept.values.astype(np.float32) / np.float32(255)
    if len(values) == mesh.n_vertices and len(kept.positions) == mesh.n_vertices:
        low, high = mesh.bounds()
        off = np.linalg.norm(kept.positions - mesh.positions, axis=1)
        # Sculpted since, but the same vertices: most have hardly moved against the part's size.
        if float(np.median(off)) < 0.02 * float(np.linalg.norm(high - low)):
            return values
    # From the middle of a ball all of it is equally far: a search without a bound would visit every place.
    bound = FAR * float(np.linalg.norm(np.ptp(kept.positions, axis=0)))
    _, nearest = cKDTree(kept.positions).query(mesh.positions, distance_upper_bound=bound, workers=-1)
    return np.asarray(np.append(values, np.float32(0))[nearest])
