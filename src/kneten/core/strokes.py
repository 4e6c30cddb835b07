"""The stroke of any tool on clay that stands for itself: what a project does with its parts is `Project.begin_stroke`."""

from __future__ import annotations

from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import Ink
from kneten.core.paint.stroke import PaintStroke
from kneten.core.press import Press
from kneten.core.stroke import Stroke
from kneten.core.value_stroke import ValueStroke


def stroke_of(
    mesh: Mesh,
    tool: Tool,
    settings: BrushSettings,
    press: Press | None = None,
    unit: float = 1.0,
    ink: Ink | None = None,
    number: int = 1,
) -> Stroke:
    """A stroke of the kind that the tool makes, without mirrored twins."""
    if tool.changes == "paint":
        return PaintStroke(mesh, tool, settings, ink or Ink(), press=press)
    if tool.changes:
        return ValueStroke(mesh, tool, settings, number=number, press=press)
    return Stroke(mesh, tool, settings, press=press, unit=unit)
