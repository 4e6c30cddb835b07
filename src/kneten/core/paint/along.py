"""Form and paint in one stroke: a groove and the darkness in it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import Mesh
from kneten.core.paint.stroke import PaintStroke
from kneten.core.stroke import Stroke

NEVER = ("smooth", "restore", "burnish")
"""Tools that take form away and would only smear paint over it."""


def paints_along(tool: Tool) -> bool:
    """Whether a tool can lay paint at the same time: its dabs stay where they are laid."""
    return not tool.changes and not tool.holds and tool.key not in NEVER


class PaintedStroke(Stroke):
    """A stroke of a tool that changes the form, and paints under each of its dabs.

    Parameters
    ----------
    paint : PaintStroke
        Of the same mesh; it goes along, as strong as the tool, whichever way that works.
    """

    def __init__(
        self, mesh: Mesh, tool: Tool, settings: BrushSettings, paint: PaintStroke, **traits: Any
    ) -> None:
        super().__init__(mesh, tool, settings, **traits)
        self.paint = paint

    def dab(self, dab: Dab) -> None:
        """Change the form once, and paint what has become of it."""
        super().dab(dab)
        before = len(self.paint.boxes)
        self.paint.region = self.region
        self.paint.dab(replace(dab, strength=abs(dab.strength)))
        self.boxes.extend(self.paint.boxes[before:])

    def take_back(self) -> None:
        """Put form and paint back as the stroke found them, and go on."""
        super().take_back()
        before = len(self.paint.boxes)
        self.paint.take_back()
        self.boxes.extend(self.paint.boxes[before:])

    def changes(self) -> list[Change | LooseChange]:
        """What undoes both, in the order to be put in."""
        return [*super().changes(), *self.paint.changes()]

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        super().cancel()
        self.paint.cancel()
