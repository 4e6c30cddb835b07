"""Commands that change the work as a whole: parts, density, milestones, undo."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QInputDialog

from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.transform import Transform
from kneten.document.blocking import show_all
from kneten.document.scene import keep

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


class SceneActions:
    """What is done to parts, and taken back."""

    def __init__(self, window: Frame) -> None:
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
        """Hide the chosen parts, or show them again."""
        project = self._studio.project
        if len(project.chosen) == 1:
            part = project.chosen[0]
            project.show(part.id, not part.visible)
        else:
            show_all(project, project.chosen, not any(part.visible for part in project.chosen))

    def delete(self) -> None:
        """Take the chosen parts out of the project."""
        self._studio.project.delete_all([part.id for part in self._studio.project.chosen])

    def rename_part(self) -> None:
        """Ask for a name."""
        part = self._studio.project.active
        if part is None:
            return
        name, agreed = QInputDialog.getText(self._window, "Rename", "Name of the part:", text=part.name)
        if agreed:
            self._studio.project.rename(part.id, name)

    def undo(self) -> None:
        """Take the last change back; while the pointer is at work, what that does."""
        if self._window.view.finish_hand():
            self._studio.project.undo()
        else:
            self._window.view.cancel_hand()

    def redo(self) -> None:
        """Make it again."""
        if self._window.view.finish_hand():
            self._studio.project.redo()
        else:
            self._studio.say("The pointer is at work on the clay; let go first.")

    def keep_milestone(self) -> None:
        """Keep this state with a picture."""
        project = self._studio.project
        name = f"Milestone {len(project.scene.milestones) + 1}"
        # Kept is what is there now; the picture may take a moment longer.
        parts = keep(project.scene.parts)
        picture = self._window.files.view_picture(208, 130)

        def land(data: bytes) -> None:
            project.keep_milestone(name, data, parts)

        self._studio.aside(picture, land)
