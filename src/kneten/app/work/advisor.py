"""Says before a stroke what would spoil it: too few vertices, a symmetry that is not what it seems."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.fields.quantities import count_text
from kneten.core.arrays import F32
from kneten.core.brushes.tool import Tool
from kneten.core.loose import LooseMesh
from kneten.core.symmetry import measure_symmetry, symmetric_axes
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.work.workshop import Workshop

AXES = "XYZ"

PAUSE = 300.0
"""Seconds in which a part is not advised of the same again."""

Found = tuple[tuple[bool, bool, bool], tuple[float, float, float]]
"""For each plane whether a part is symmetric, and the greatest distance that it is off."""


def look_at_symmetry(positions: F32, edge: float) -> Found:
    """Across which planes clay is symmetric within a tenth of an edge, and how far it is off."""
    symmetric = symmetric_axes(positions, edge * 0.1)
    worst = [0.0, 0.0, 0.0]
    # A sample tells how far off it is, which need not be exact.
    few = np.ascontiguousarray(positions[:: max(len(positions) // 20_000, 1)])
    for axis in range(3):
        if not symmetric[axis]:
            worst[axis] = measure_symmetry(few, axis, edge).worst
    return symmetric, (worst[0], worst[1], worst[2])


class Advisor:
    """Watches the part in hand.

    Attributes
    ----------
    symmetry : dict
        What was found, by the name of the mesh; missing while it is not known.
    """

    def __init__(self, studio: Workshop) -> None:
        self._studio = studio
        self.symmetry: dict[str, Found] = {}
        self._asked: set[str] = set()
        self._told: dict[tuple[str, str], float] = {}
        self._recording = ""

    def look(self, part: Part | None) -> None:
        """Find out about a part's symmetry, aside."""
        if part is None or not self._studio.all_ready or part.mesh_id in self._asked:
            return
        if isinstance(part.mesh, LooseMesh):
            return  # It changes with every dab: the check in the Symmetry card measures it when asked.
        self._asked.add(part.mesh_id)
        positions = part.mesh.positions.copy()
        faces = part.mesh.topology.faces[:: max(part.mesh.topology.n_faces // 1000, 1)]
        edge = float(np.linalg.norm(positions[faces[:, 0]] - positions[faces[:, 1]], axis=1).mean())
        key = part.mesh_id

        def done(found: Found) -> None:
            self.symmetry[key] = found

        self._studio.aside(lambda: look_at_symmetry(positions, edge), done)

    def before_stroke(self, part: Part, tool: Tool, ring: tuple[float, float] | None) -> None:
        """Put up what the next stroke should not come without; `ring` is radius and edge length."""
        if ring is not None:
            self._density(part, tool, *ring)
        self._symmetry(part)

    def watch_recording(self) -> None:
        """Say when a layer stops recording because it has no effect any more: strokes go to the clay then."""
        part = self._studio.project.active
        stack = None if part is None else part.stack
        before, self._recording = self._recording, "" if stack is None else stack.recording
        if stack is None or stack.recording or not before:
            return
        layer = next((layer for layer in stack.layers if layer.id == before), None)
        if layer is not None and not stack.strength(layer):
            self._studio.say(
                f"{layer.name} has no effect now and is not recorded on any more: strokes go to the clay itself. "
                "Record on it again once it shows.",
                "warning",
            )

    def _once(self, part: Part, what: str) -> bool:
        """Whether to say so: once about the same clay, and not again soon about a part that only goes from level to level."""
        now = time.monotonic()
        clay, whole = (part.mesh_id, what), (part.id, what)
        if clay in self._told or now - self._told.get(whole, float("-inf")) < PAUSE:
            return False
        self._told[clay] = self._told[whole] = now
        return True

    def _density(self, part: Part, tool: Tool, radius: float, edge: float) -> None:
        count = round(np.pi * (radius / max(edge, 1e-9)) ** 2)
        if count >= tool.needs or isinstance(part.mesh, LooseMesh) or not self._once(part, f"few {tool.key}"):
            return
        studio = self._studio
        finer = edge * np.sqrt(count / (tool.needs * 1.5)) * part.transform.scale
        ways: list[tuple[str, Callable[[], object]]] = [
            ("Subdivide", studio.subdivide),
            (f"Remesh to {finer:.2g} mm", lambda: studio.remesh_active(float(finer))),
        ]
        if part.stack is None:
            ways.insert(0, ("Finer here", lambda: studio.wanted.emit("density.finer-here")))
        leaves = "its edges are ragged" if tool.changes else "it leaves steps"
        studio.advised.emit(
            f"Only about {count} vertices lie under the brush; {tool.name} needs some {tool.needs} or {leaves}.",
            ways,
        )

    def _symmetry(self, part: Part) -> None:
        found = self.symmetry.get(part.mesh_id)
        if found is None:
            self.look(part)
            return
        symmetric, worst = found
        settings = self._studio.project.settings
        if settings.symmetry_space != "part":
            # The world's planes and twins by shape are the user's own affair.
            return
        on = settings.symmetry
        for axis, name in enumerate(AXES):
            if on[axis] and not symmetric[axis] and self._once(part, f"not {name}"):
                self._studio.advised.emit(
                    f"Symmetry across {name} is on, but {part.name} is not symmetric: it is off by up to "
                    f"{worst[axis] * part.transform.scale:.2g} mm. Strokes are mirrored all the same.",
                    [(f"Switch {name} off", lambda axis=axis: self._switch(axis))],
                )
        if symmetric[0] and not on[0] and self._once(part, "breaks"):
            self._studio.advised.emit(
                f"{part.name} is symmetric across X, and symmetry is off: strokes now make it "
                f"unsymmetric ({count_text(part.mesh.count)} vertices have a twin each).",
                [("Switch symmetry on", lambda: self._switch(0))],
            )

    def _switch(self, axis: int) -> None:
        self._studio.wanted.emit(f"form.symmetry-{AXES[axis].lower()}")

    def stroke_made(self, part: Part) -> None:
        """What was found may no longer hold."""
        on = self._studio.project.settings.symmetry
        found = self.symmetry.get(part.mesh_id)
        if found is None:
            return
        kept = tuple(known and mirrored for known, mirrored in zip(found[0], on, strict=True))
        if kept != found[0]:
            # It may still be symmetric by chance; what counts is that nobody vouches for it.
            del self.symmetry[part.mesh_id]
            self._told[part.mesh_id, "breaks"] = time.monotonic()
