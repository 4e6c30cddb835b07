"""Guides: lines and notes on the clay that are neither form nor paint."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from kneten.core.arrays import F64
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import Guide, guide_of, guide_places


def add_guides(
    project: Project, part: Part, lines: Sequence[F64], closed: bool, note: str = ""
) -> list[Guide]:
    """Lay lines (k, 3), in the part's space, on its clay: one step."""
    new = [guide_of(part, line, closed, note) for line in lines]
    project.change(f"Guide on {part.name}", replace(project.scene, guides=(*project.scene.guides, *new)))
    return new


def go_on(project: Project, part: Part, lines: Sequence[tuple[F64, bool]], instead: Sequence[Guide]) -> None:
    """Lay lines (k, 3), each closed or open, in the place of guides that they go on with: one step. Their notes stay."""
    notes = " ".join(dict.fromkeys(guide.note for guide in instead if guide.note))
    new = [guide_of(part, line, closed, notes if k == 0 else "") for k, (line, closed) in enumerate(lines)]
    gone = {guide.id for guide in instead}
    kept = tuple(guide for guide in project.scene.guides if guide.id not in gone)
    project.change(f"Guide on {part.name}", replace(project.scene, guides=(*kept, *new)))


def erase(project: Project, ids: set[str], name: str = "Erase guides") -> None:
    """Take guides away."""
    rest = tuple(guide for guide in project.scene.guides if guide.id not in ids)
    if len(rest) != len(project.scene.guides):
        project.change(name, replace(project.scene, guides=rest))


def note_on(project: Project, guide: Guide, note: str) -> None:
    """Write a note to a guide."""
    if note != guide.note:
        guides = tuple(replace(g, note=note) if g.id == guide.id else g for g in project.scene.guides)
        project.change("Note on guide", replace(project.scene, guides=guides))


def lines_of(scene: Scene, part: Part) -> list[tuple[Guide, F64]]:
    """The guides on a part, and where they are now, (k, 3) in the part's space."""
    return [(guide, guide_places(guide, part.mesh)) for guide in scene.guides if guide.part == part.id]
