"""*Tarn, made clean*: his head as quads with loops round lids and mouth, his forms on levels above, laid flat, with maps.

`python -m kneten.demo.tarn_clean` makes the file that ships; it takes half a minute.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.maps.bake import BakeWish
from kneten.core.mesh import Mesh
from kneten.core.quads.retopologise import QuadWish
from kneten.core.uv.pack import PackWish
from kneten.demo.files import demo_path, demo_project
from kneten.document.guides import add_guides, erase
from kneten.document.layering import exchange_level
from kneten.document.mapping import baked_part, keep
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.retopology import laid_quads, land_apart, with_guides
from kneten.document.scene import Part
from kneten.document.unwrapping import cage_of, laid_flat, land
from kneten.formats.maps import as_png

EYES = ((39.0, 24.0), ((13.0, 9.5), (21.0, 16.0)))
"""The middle of his left eye, seen from before, and the half-widths and half-heights of the loops round it."""

MOUTH = ((0.0, -47.0), ((36.0, 7.0), (45.0, 17.0)))

POINTS = 64

WISH = QuadWish(9_000, symmetry=0)

STRETCH = 1.5
"""By what factor lengths of his UVs may be off."""

MAPS = BakeWish(("normal", "occlusion"), 1024, samples=2, rays=64)
"""Small enough to ship; larger ones are a press away."""


def loops(mesh: Mesh) -> list[F64]:
    """Closed lines (k, 3) on his face: round both eyes, and round the mouth."""
    tree = FaceTree.of(mesh)
    found = []
    (x, y), eye = EYES
    (_, low), mouth = MOUTH
    rings = [(side * x, y, *size) for size in eye for side in (1, -1)]
    rings += [(0.0, low, *size) for size in mouth]
    turn = np.linspace(0, 2 * np.pi, POINTS, endpoint=False)
    for middle, height, wide, high in rings:
        before = np.full(POINTS, 300.0)
        points = np.stack([middle + wide * np.cos(turn), height + high * np.sin(turn), before], axis=-1)
        ways = np.tile(np.array([0, 0, -1], np.float32), (POINTS, 1))
        _, far = tree.along(points.astype(np.float32), ways, 0.0, 500.0, -1.0, Progress())
        points[:, 2] -= far
        found.append(points[np.isfinite(far)])
    return found


def head_of(project: Project) -> Part:
    """His head, the part that is called after him."""
    return next(part for part in project.scene.parts if part.name == "Tarn")


def guided(project: Project) -> Part:
    """Lay the loops on his head, in the place of the notes that were there."""
    head = head_of(project)
    erase(project, {guide.id for guide in project.scene.guides})
    add_guides(project, head, loops(head.mesh), True)
    return head_of(project)


def made() -> Project:
    """The demo anew."""
    project = demo_project(name="tarn-forms")
    head = guided(project)
    laid = laid_quads(head, (), with_guides(WISH, project.scene, head), True, Progress())
    part = land_apart(project, head.id, laid)
    stack, mesh = stack_of(part).stepped(part.mesh, 0)
    exchange_level(project, part.id, stack, mesh, "Lowest level")
    # His guides go with what he was; the cage gets them anew.
    project.delete(head.id)
    add_guides(project, project.scene.part(part.id), loops(mesh), True)
    project.rename(part.id, "Tarn, clean")
    return project


def laid_out(project: Project) -> Project:
    """His clean head laid flat, and its maps baked from his finest forms."""
    part = next(part for part in project.scene.parts if part.name == "Tarn, clean")
    cage = cage_of(part)
    size = MAPS.size
    land(project, part, cage, laid_flat(cage, PackWish(size), STRETCH, Progress()), "Unwrap")
    keep(project, baked_part(project.scene.part(part.id), (), MAPS, None, Progress()), as_png)
    return project


def main() -> None:
    """Write the file."""
    save_project(laid_out(made()), demo_path("tarn-clean"))


if __name__ == "__main__":
    main()
