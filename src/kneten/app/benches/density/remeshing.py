"""Remeshing evenly in the window: foretold, warned of what would be lost, done."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.work.memory import MESH_VERTEX, short_of_memory
from kneten.core.arrays import F32, Progress
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, connected, taken_apart
from kneten.core.regions import with_face_values
from kneten.core.remesh import remesh, soup_of
from kneten.core.repainted import repainted
from kneten.core.stack import Stack
from kneten.core.thin import Thin, thin_places, too_thin
from kneten.core.topology import MeshError
from kneten.document.masks import with_mask
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Remeshing:
    """Gives the part in hand new, even quads."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._studio.remesh_active = self.run

    def run(self, edge: float | None, count: int | None = None, sure: bool = False) -> None:
        """Remesh the part in hand to an edge length in the scene or to a vertex count.

        Thin places that would be lost are told of first, unless one is `sure`.
        """
        studio, card = self._studio, self._desk.density_card
        part = studio.project.active
        if part is None or studio.move_blocked(part):
            studio.say(studio.move_blocked(part) if part else "There is no part in hand.", "warning")
            return
        # No stroke, but an undo may change the part meanwhile: the worker gets clay of its own.
        part = replace(part, mesh=part.mesh.copy())
        mesh, scale = part.mesh, part.transform.scale
        edges, apart = card.edges.isChecked(), card.apart.isChecked()

        def work(progress: Progress) -> tuple[Mesh, Stack | None] | Thin | str:
            progress.report(0.0, "Looking for thin places")
            found = studio.forecast(part, edge, count)
            size = found.grid_points * 7 + found.vertices * MESH_VERTEX * 2
            if short := short_of_memory("Remeshing", size):
                return short
            thin = None if sure else thin_places(mesh, found.step)
            if thin is not None:
                return thin
            made = remeshed(mesh, found.edge / scale, progress, edges, apart)
            stack = repainted(part.stack, mesh, made, progress)
            studio.journal_ahead([made])
            return made, stack

        def land(made: tuple[Mesh, Stack | None] | Thin | str) -> None:
            if isinstance(made, str):
                studio.say(made, "warning")
            elif isinstance(made, Thin):
                self._warn(part, made, edge, count)
            else:
                was = part.recipe or part.was
                clay, stack = made
                name = f"Remesh {part.name}"
                studio.project.replace_mesh(part.id, clay, name, recipe=None, was=was, stack=stack)

        studio.work_on([part], "Remesh", work, land, "keeps paint")

    def _warn(self, part: Part, thin: Thin, edge: float | None, count: int | None) -> None:
        """Say what would be lost, with what can be done about it."""
        studio = self._studio
        found = studio.forecast(part, edge, count)
        finer = found.edge * thin.step / found.step
        amount = "less than 0.1" if thin.share < 0.001 else f"{thin.share * 100:.1f}"
        studio.advised.emit(
            f"{amount} % of {part.name} is thinner than new clay with edges of {found.edge:.2g} mm can hold: it would "
            "get holes or vanish there. Nothing has been changed yet.",
            [
                (f"Remesh to {finer:.2g} mm", lambda: self.run(float(finer), sure=True)),
                ("Remesh all the same", lambda: self.run(edge, count, True)),
                ("Mask the thin", lambda: self._mask(part.id, found.step)),
            ],
        )

    def _mask(self, part_id: str, step: float) -> None:
        """Mask what is too thin for a grid step."""
        studio = self._studio
        part = studio.project.scene.part(part_id)
        mesh = part.mesh.copy()

        def work(progress: Progress) -> F32:
            return too_thin(mesh, step, progress).astype(np.float32)

        def land(mask: F32) -> None:
            with_mask(studio.project, studio.project.scene.part(part_id), mask, "Mask thin places of")

        studio.work_on([part], "Thin places", work, land)


def remeshed(mesh: Mesh, edge: float, progress: Progress, edges: bool, apart: bool) -> Mesh:
    """New, even clay of a mesh, with its regions; shells that do not hang together merged or each for itself."""
    if not apart:
        return with_face_values([mesh], remesh(soup_of([mesh]), edge, progress, keep_edges=edges))
    made = []
    for piece in taken_apart(mesh, connected(mesh), progress).values():
        try:
            made.append(with_face_values([piece], remesh(soup_of([piece]), edge, progress, keep_edges=edges)))
        except MeshError:
            # A crumb smaller than the grid stays as it is.
            made.append(piece)
    return concatenated(made)
