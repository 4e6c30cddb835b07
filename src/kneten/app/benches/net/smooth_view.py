"""A net seen as the smooth surface it stands for, while its few faces are worked on."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtGui import QPainter

from kneten.app.benches.net.cage_layer import EdgeLines
from kneten.core.arrays import Progress
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.subdivide import subdivide
from kneten.document.netting import unfit
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SMOOTHEST = 3
"""Times that a net is subdivided at most to be seen."""

MOST_FACES = 60_000
"""Faces that it may have then: made anew at every event of a drag."""


def smoothed(mesh: Mesh) -> Mesh:
    """A mesh subdivided as often as its faces allow."""
    for _ in range(SMOOTHEST):
        if 4 * mesh.topology.n_faces > MOST_FACES:
            break
        mesh = subdivide(mesh, Progress())
    return mesh


class SmoothView:
    """Draws the part in hand smooth, and its own edges over it; presses go to the net itself.

    Attributes
    ----------
    on : bool
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self.on = False
        self._known: tuple[Mesh | None, Part | None] = (None, None)
        self._lines = EdgeLines(desk.view)
        desk.view.seen_as.append(self.applied)
        # A stroke changes clay where it lies.
        desk.studio.clay_changed.connect(self._forget)

    def _forget(self, *_: object) -> None:
        self._known = (None, None)

    def blocked(self) -> str:
        """Why nothing can be seen smooth."""
        part = self._desk.studio.project.active
        if part is None:
            return "There is no part in hand."
        return self._unfit(part)

    @staticmethod
    def _unfit(part: Part) -> str:
        if words := unfit(part):
            return words
        if 4 * part.mesh.topology.n_faces > MOST_FACES:
            return f"{part.name} has too many faces to be smoothed at every move: up to {MOST_FACES // 4:,} can be."
        return ""

    def switch(self) -> None:
        """See it smooth, or as it is."""
        self.on = not self.on
        self._forget()
        self._desk.view.refresh()
        self._desk.fill_chip()

    @property
    def shows(self) -> bool:
        """Whether something is seen smooth."""
        return self._now(self._desk.studio.project.scene) is not None

    def applied(self, scene: Scene) -> Scene:
        """The scene with the part in hand as it is to be seen."""
        part = self._now(scene)
        if part is None:
            return scene
        if self._known[0] is not part.mesh:
            mesh = smoothed(part.mesh)
            self._known = (part.mesh, replace(part, mesh=mesh, mesh_id=new_id(), stack=None))
        shown = self._known[1]
        assert shown is not None
        return scene.with_part(replace(part, mesh=shown.mesh, mesh_id=shown.mesh_id, stack=None))

    def _now(self, scene: Scene) -> Part | None:
        active = self._desk.studio.project.active
        if not self.on or active is None:
            return None
        part = next((one for one in scene.parts if one.id == active.id), None)
        if part is None or not part.visible or isinstance(part.mesh, LooseMesh) or self._unfit(part):
            return None
        return part

    def paint(self, painter: QPainter) -> None:
        """The net's own edges."""
        part = self._now(self._desk.studio.project.scene)
        if part is None:
            return
        part = self._desk.view.preview.get(part.id, part)
        self._lines.paint(painter, part, part.mesh.positions)
