"""Live density in the window: which clay has it, and to what detail size strokes bring the mesh."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from kneten.app.work.memory import free_memory
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Tool
from kneten.core.live_density import FINEST, Density
from kneten.core.loose import LooseMesh, loosened
from kneten.core.mesh import Mesh
from kneten.core.stroke import MOST
from kneten.core.topology import MeshError
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.work.workshop import Workshop

AT_ONCE = 150_000
"""Vertices up to which clay is loosened at the press: 0.1 s. Larger clay is made ready on another thread."""

STACKED = (
    "{} has levels or layers, which need a mesh that stays: drop the levels below and bake the layers first."
)

PER_VERTEX = 500
"""Bytes that a vertex made by a stroke takes until the stroke has ended: itself, what its patch was, its undo."""

SIZES = {
    "brush": ("Brush", "Edges as long as a share of the brush's radius: a smaller brush is finer", "%", 2, 100),
    "screen": ("Screen", "Edges of so many pixels on the screen: nearer is finer", "px", 2, 60),
    "model": ("Model", "Edges of a length on the model", "mm", 0.02, 200),
}  # fmt: skip
"""How the detail size is told: name, what it means, unit, least and greatest value."""


class LiveDensity:
    """Turns live density on and off, and says what strokes make of the mesh."""

    def __init__(self, studio: Workshop) -> None:
        self._studio = studio

    def most(self, part: Part) -> int:
        """Vertices that a stroke may bring a part to: what half of the free memory has room for, and its own limit."""
        return min(part.mesh.count + int(free_memory() / 2 / PER_VERTEX), MOST)

    def length(self, pixel: float, radius: float) -> float:
        """The detail size in the scene, where a pixel is `pixel` and the brush's radius is `radius` large."""
        held = self._studio.preferences
        wanted = {
            "brush": held.detail_brush / 100 * radius,
            "screen": held.detail_screen * pixel,
            "model": held.detail_model,
        }[held.detail_by]
        return max(wanted, radius / FINEST)

    def density(self, part: Part, tool: Tool) -> Callable[[float, float], Density] | None:
        """From a pixel's size and the brush's radius in the scene to what a dab makes of the mesh; None for nothing."""
        if not isinstance(part.mesh, LooseMesh):
            return None
        scale = part.transform.scale
        held = self._studio.preferences
        both = tool.density in ("", "grow")
        refine = tool.density == "refine" or (both and held.detail_refine)
        coarsen = tool.density == "coarsen" or (both and held.detail_coarsen)
        if tool.density == "grow":
            refine = True
        if not refine and not coarsen:
            return None
        return lambda pixel, radius: Density(self.length(pixel, radius) / scale, refine, coarsen)

    def ready(self, part: Part, tool: Tool) -> bool:
        """Whether a stroke may begin; clay that is to be loose and is not yet is made so."""
        if isinstance(part.mesh, LooseMesh) or not (part.live_density or tool.density):
            return True
        project = self._studio.project
        if part.stack is not None:
            self._studio.say(STACKED.format(part.name), "warning")
            return False
        turn_on = not part.live_density
        if part.mesh.uv is not None:
            self._studio.say(
                f"{part.name}'s UVs cannot go along while its mesh changes under the brush; undo brings them back.",
                "warning",
            )

        def take(mesh: LooseMesh) -> None:
            now = project.scene.part(part.id)
            if turn_on:
                name = f"Live density on {now.name}"
                project.change(name, project.with_mesh(part.id, mesh, live_density=True))
            else:
                project.exchange(part.id, mesh)

        if part.mesh.n_vertices <= AT_ONCE:
            try:
                take(loosened(part.mesh))
            except MeshError as error:
                self._studio.refuse(error)
                return False
            return True
        mesh = part.mesh.copy()

        def work(progress: Progress) -> LooseMesh:
            progress.report(0.2, "Making room in the mesh")
            made = loosened(mesh)
            self._studio.journal_ahead([made])
            return made

        self._studio.say(f"{part.name} is made ready for live density; draw in a moment.")
        self._studio.work_on([part], "Loosen", work, take)
        return False

    def rest(self, then: Callable[[], None]) -> str:
        """Settle all loose clay; large clay on another thread, and then go on. Returns what to say while that lasts."""
        project = self._studio.project
        loose = [
            part
            for part in project.scene.parts
            if isinstance(part.mesh, LooseMesh) and part.id not in self._studio.locked
        ]
        large = [part for part in loose if part.mesh.count > AT_ONCE]
        if not large:
            project.settle([part.id for part in loose])
            return ""
        part = large[0]
        mesh = part.mesh

        def work(progress: Progress) -> Mesh:
            progress.report(0.2, "Taking the room out of the mesh")
            made = mesh.settled()
            self._studio.journal_ahead([made])
            return made

        def land(made: Mesh) -> None:
            if project.scene.part(part.id).mesh is mesh:
                project.exchange(part.id, made)
            # The part is free once this has landed; the command comes after that.
            QTimer.singleShot(0, self._studio, lambda: self._studio.after(then))

        self._studio.work_on([part], "Settle", work, land)
        return f"{part.name} is brought to rest first, then it goes on."

    def blocked(self) -> str:
        """Why live density cannot be switched."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        return STACKED.format(part.name) if part.stack is not None else self._studio.stroke_blocked(part)

    def switch(self) -> None:
        """Turn live density of the part in hand on or off."""
        project = self._studio.project
        part = project.active
        assert part is not None
        same = [part, *project.scene.linked(part)]
        on = not part.live_density
        verb = "on" if on else "off"
        with project.at_once(f"Live density {verb} for {part.name}"):
            if not on:
                project.settle([part.id])
            now = [replace(project.scene.part(p.id), live_density=on) for p in same]
            project.change("Live density", project.scene.with_part(*now))
