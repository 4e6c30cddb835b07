"""Commands that make one part of several, or several of one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from kneten.app.work.memory import MESH_VERTEX, short_of_memory
from kneten.core.arrays import Progress
from kneten.core.distance import outer_area
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated
from kneten.core.regions import with_face_values
from kneten.core.remesh import mean_edge, remesh, soup_of
from kneten.core.solid import combine, flaw, made_solid
from kneten.core.topology import MeshError
from kneten.core.transform import Transform
from kneten.document import blocking
from kneten.document.blocking import said
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

MOST_FORETOLD = 40
"""Parts up to which the count of their fusing is foretold: a tenth of a second."""


class Joining:
    """Joins, fuses, combines and splits parts."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    @property
    def _project(self):  # type: ignore[no-untyped-def]
        return self._studio.project

    @property
    def _chosen(self) -> tuple[Part, ...]:
        return self._studio.project.chosen

    def no_others(self) -> str:
        """Why there is nothing to join the part in hand with."""
        if len(self.parts()) < 2:
            return "This needs at least two parts: choose them with Shift or Ctrl, or show another."
        return self._desk.block.none() or next(
            (w for p in self.parts() if (w := self._studio.move_blocked(p))), ""
        )

    def no_origin(self) -> str:
        """Why the part in hand cannot be split by origin."""
        part = self._project.active
        if part is None or len(part.origins) < 2:
            return "The part in hand was not joined from several parts."
        return self._desk.block.none()

    def parts(self, active_first: bool = True) -> list[Part]:
        """The chosen parts, the one in hand first; all visible ones when only one is chosen.

        Without `active_first`, all visible ones come in the list's order.
        """
        chosen = [p for p in self._chosen if p.visible]
        if len(chosen) < 2:
            visible = [p for p in self._project.scene.parts if p.visible]
            if not active_first:
                return visible
            chosen = visible
        active = self._project.active
        return sorted(chosen, key=lambda p: p is not active)

    def join(self) -> None:
        """Make one part of several, their surfaces as they are."""
        parts = self.parts(False)
        copies = [replace(p, mesh=p.mesh.copy()) for p in parts]

        def work(progress: Progress) -> tuple[Mesh, Transform]:
            whole = _with_common_space(copies)
            mesh = concatenated(blocking.in_space_of(copies, whole))
            self._studio.journal_ahead([mesh])
            return mesh, whole.transform

        self._put_together(parts, "Join", work)

    def fuse(self) -> None:
        """Make one even body of several, at the density the card foretells."""
        parts = self.parts(False)
        copies = [replace(p, mesh=p.mesh.copy()) for p in parts]
        wanted = self._desk.density_card.fuse_edge()
        edges = self._desk.density_card.edges.isChecked()

        def work(progress: Progress) -> tuple[Mesh, Transform]:
            # Measuring large parts takes seconds: none of it is done on the window's thread.
            progress.report(0.0, "Measuring the parts")
            edge = _fuse_edge(copies, wanted)
            if edge <= 0:
                raise MeshError("None of these parts has a surface to fuse.")
            whole = _with_common_space(copies)
            edge /= whole.transform.scale
            meshes = blocking.in_space_of(copies, whole)
            count = outer_area(meshes) / edge**2 if len(copies) <= MOST_FORETOLD else 0.0
            if short := short_of_memory("Fusing", count * MESH_VERTEX * 2):
                raise MeshError(short)
            made = remesh(soup_of(meshes), edge, progress, keep_edges=edges)
            mesh = with_face_values(meshes, made)
            self._studio.journal_ahead([mesh])
            return mesh, whole.transform

        self._put_together(parts, "Fuse", work)

    def fuse_count(self) -> int:
        """About how many vertices fusing would give; 0 where there is nothing to fuse, or clay is loose. For other threads."""
        parts = self.parts(False)
        if not 2 <= len(parts) <= MOST_FORETOLD or any(isinstance(p.mesh, LooseMesh) for p in parts):
            # A stroke would change loose clay under the hands of another thread.
            return 0
        edge = _fuse_edge(parts, self._desk.density_card.fuse_edge()) / parts[0].transform.scale
        return round(outer_area(blocking.in_space_of(parts, parts[0])) / edge**2) if edge > 0 else 0

    def combine(self, operation: str, keep: bool = False) -> None:
        """Exact union, difference or intersection; what is not solid is made so first, and said."""
        parts = self.parts(operation == "subtract")
        copies = [replace(p, mesh=p.mesh.copy()) for p in parts]
        told: list[str] = []

        def work(progress: Progress) -> tuple[Mesh, Transform]:
            meshes = []
            # What is cut out of a body, or cut down, stays where it is.
            whole = _with_common_space(copies) if operation == "join" else copies[0]
            for part, mesh in zip(copies, blocking.in_space_of(copies, whole), strict=True):
                wrong = flaw(mesh)
                if wrong:
                    told.append(f"{part.name} {wrong}: it was made solid first.")
                    mesh = made_solid(mesh, progress)
                meshes.append(mesh)
            mesh = combine(operation, meshes, progress)
            self._studio.journal_ahead([mesh])
            return mesh, whole.transform

        names = {"join": "Unite", "subtract": "Subtract from", "intersect": "Intersect"}
        self._put_together(parts, names[operation], work, told, keep)

    def _put_together(
        self,
        parts: Sequence[Part],
        name: str,
        work: Callable[[Progress], tuple[Mesh, Transform]],
        told: list[str] | None = None,
        keep: bool = False,
    ) -> None:
        self._desk.view.take_mode(None)
        self._desk.mode_hints.preview_solid(None)
        project = self._project
        what = f"{name} {parts[0].name}" if name == "Subtract from" else f"{name} {said(parts)}"

        def land(made: tuple[Mesh, Transform]) -> None:
            mesh, space = made
            names = blocking.origin_names(parts)
            blocking.put_together(project, parts[0], mesh, [p.id for p in parts], names, what, keep, space)
            for text in told or []:
                self._studio.say(text)

        self._studio.work_on(parts, name, work, land, "drops")

    def preview(self, operation: str) -> None:
        """Show what an exact operation would give, coarser where parts are large; again hides it."""
        self._desk.mode_hints.preview_solid(operation)

    def split_origin(self) -> None:
        """Make a joined part several again."""
        self._split("Split by origin", blocking.pieces_by_origin, blocking.split_by_origin)

    def split_connected(self) -> None:
        """Make parts of what does not hang together."""
        self._split("Split into pieces", blocking.pieces_by_connection, blocking.split_connected)

    def _split(
        self,
        name: str,
        work: Callable[[Mesh, Progress], dict[int, Mesh]],
        land: Callable[..., object],
    ) -> None:
        part = self._project.active
        assert part is not None
        mesh = part.mesh.copy()

        def landed(pieces: dict[int, Mesh]) -> None:
            if len(pieces) < 2:
                self._studio.say(f"{part.name} is in one piece.")
                return
            land(self._project, part, pieces)

        def made(progress: Progress) -> dict[int, Mesh]:
            pieces = work(mesh, progress)
            self._studio.journal_ahead(list(pieces.values()))
            return pieces

        self._studio.work_on([part], name, made, landed, "drops")


def _with_common_space(parts: Sequence[Part]) -> Part:
    """The first of several parts, in the space in which all of them together are most symmetric."""
    return replace(parts[0], transform=blocking.common_space(parts))


def _fuse_edge(parts: Sequence[Part], wanted: float) -> float:
    """The edge length wanted for fusing, in the scene; the finest mean edge of the parts when it is 0.

    0 where none of the parts has a surface.
    """
    if wanted > 0:
        return wanted
    edges = [mean_edge(part.mesh) * part.transform.scale for part in parts]
    return min([edge for edge in edges if edge > 0], default=0.0)
