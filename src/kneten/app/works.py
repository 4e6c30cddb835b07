"""Commands that change the work as a whole: parts, density, milestones, undo."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog

from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import Soup, forecast, remesh, soup_of
from kneten.core.transform import Transform
from kneten.document.scene import Part, keep

if TYPE_CHECKING:
    from kneten.app.window import Window


class Works:
    """What is done to parts, and taken back."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._studio = window.studio

    def add_ball(self) -> None:
        """Put a ball beside the part in hand, half its size."""
        project = self._studio.project
        part = project.active
        radius, place = 50.0, (0.0, 0.0, 0.0)
        if part is not None:
            low, high = part.bounds()
            radius = max(float((high - low).max()) / 4, 1.0)
            y, z = (low[1:] + high[1:]) / 2
            place = (float(high[0]) + radius * 1.1, float(y), float(z))
        mesh = Mesh.from_faces(*ball(radius, 64))
        project.add_meshes("Add a ball", [("Ball", mesh, Transform(place))])

    def hide_or_show(self) -> None:
        """Hide the part in hand, or show it again."""
        part = self._studio.project.active
        if part is not None:
            self._studio.project.show(part.id, not part.visible)

    def delete(self) -> None:
        """Take the part in hand out of the project."""
        part = self._studio.project.active
        if part is not None:
            self._studio.project.delete(part.id)

    def rename_part(self) -> None:
        """Ask for a name."""
        part = self._studio.project.active
        if part is None:
            return
        name, agreed = QInputDialog.getText(self._window, "Rename", "Name of the part:", text=part.name)
        if agreed:
            self._studio.project.rename(part.id, name)

    def remesh(self) -> None:
        """Remesh the part in hand to the density set in the card."""
        part = self._studio.project.active
        if part is None:
            return
        self._studio.remesh_active(*self._window.density_card.wanted())

    def fuse(self) -> None:
        """Join all visible parts by volume, at the finest mean edge among them."""
        project = self._studio.project
        chosen = [p for p in project.scene.parts if p.visible]
        copies = [replace(p, mesh=p.mesh.copy()) for p in chosen]
        ids = {p.id for p in chosen}
        self._studio.locked |= ids

        def land(mesh: Mesh) -> None:
            rest = tuple(p for p in project.scene.parts if p.id not in ids)
            body = Part(chosen[0].name, mesh)
            project.change(f"Fuse {len(chosen)} parts", project.scene.with_parts((*rest, body)))
            project.choose(body.id)

        def work(progress: Progress) -> Mesh:
            soup, edge = fused_soup(copies)
            mesh = remesh(soup, edge, progress)
            self._studio.journal_ahead([mesh])
            return mesh

        job = self._studio.start("Fuse", work, land)
        job.ended.connect(
            self._studio.receiver(lambda _=None: self._studio.locked.difference_update(ids)),
            Qt.ConnectionType.QueuedConnection,
        )

    def undo(self) -> None:
        """Take the last change back."""
        if not self._window.view.at_work:
            self._studio.project.undo()

    def redo(self) -> None:
        """Make it again."""
        if not self._window.view.at_work:
            self._studio.project.redo()

    def keep_milestone(self) -> None:
        """Keep this state with a picture."""
        project = self._studio.project
        name = f"Milestone {len(project.scene.milestones) + 1}"
        # Kept is what is there now; the picture may take a moment longer.
        parts = keep(project.scene.parts)
        picture = self._window.files.view_picture(208, 130)
        self._studio.aside(picture, lambda data: project.keep_milestone(name, data, parts))


def fused_soup(parts: list[Part]) -> tuple[Soup, float]:
    """Triangles of parts where they stand in the scene, and the finest mean edge among them."""
    placed = []
    edges = []
    for part in parts:
        mesh = part.mesh
        if part.transform != Transform():
            points = part.transform.to_scene(mesh.positions.astype(np.float64)).astype(np.float32)
            mesh = mesh.with_positions(points)
        placed.append(mesh)
        edges.append(forecast(mesh.positions, mesh.topology.faces, vertices=mesh.n_vertices).edge)
    return soup_of(placed), min(edges)
