"""Commands of measuring: landmarks, tapes, what to compare with, the brief."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.gather.tape_modes import MarkMode, TapeMode
from kneten.core.arrays import Progress
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import BODIES
from kneten.core.live.skeleton import skeleton
from kneten.core.live.skull import CROWN, FEET, skull
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document import blocking
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Measures:
    """What is measured, and compared with."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    @property
    def _project(self):  # type: ignore[no-untyped-def]
        return self._studio.project

    @property
    def _chosen(self) -> tuple[Part, ...]:
        return self._studio.project.chosen

    def no_tape(self) -> str:
        """Why there is no tape to change."""
        return "" if self._project.scene.tapes else "There is no tape yet."

    def mark(self) -> None:
        """Set landmarks."""
        self._desk.view.toggle_mode(MarkMode(self._desk.view))

    def tape(self) -> None:
        """Lay tapes."""
        self._desk.view.toggle_mode(TapeMode(self._desk.view))

    def brief(self) -> None:
        """Ask for the character's brief."""
        settings = self._project.settings
        text, agreed = QInputDialog.getMultiLineText(
            self._desk, "Character brief", "Who is it, why, made of what?", settings.brief
        )
        if agreed and text.strip() != settings.brief:
            self._project.change_settings(brief=text.strip())

    def mannequin(self) -> None:
        """A neutral body as high as what is chosen, over it, locked, shining through."""
        recipe = BODIES["slender"][1]()
        tall = max(j.place[1] + j.radius for j in recipe.joints)
        self._lay_over("Mannequin", 0.0, tall, lambda progress: recipe.made(progress).mesh(), was=recipe)

    def skull(self) -> None:
        """A skull as high as what is chosen, over it, locked, shining through."""
        self._lay_over("Skull", FEET, CROWN - FEET, lambda progress: skull(progress=progress).mesh())

    def skeleton(self) -> None:
        """A skeleton over what is chosen, locked, shining through: fitted to the armature it comes from, else of its height."""
        part = self._project.active
        recipe = None if part is None else part.recipe or part.was
        if part is None or not isinstance(recipe, Armature):
            recipe = BODIES["slender"][1]()
            tall = max(j.place[1] + j.radius for j in recipe.joints)
            self._lay_over("Skeleton", 0.0, tall, lambda progress: skeleton(recipe, progress).mesh())
            return
        armature, place = recipe, part.transform

        def made(mesh: Mesh) -> None:
            free = self._project.scene.free_name("Skeleton")
            blocking.add(
                self._project,
                "Add a skeleton",
                [Part(free, mesh, transform=place, locked=True)],
                choose=False,
            )
            self._studio.set_look(xray=True)

        self._studio.start("Skeleton", lambda progress: skeleton(armature, progress).mesh(), made)

    def _lay_over(
        self, name: str, bottom: float, tall: float, make: Callable[[Progress], Mesh], **traits: Any
    ) -> None:
        """A body that reaches from `bottom` up by `tall`, as high as what is chosen and where it is."""
        found = self._desk.proportion.height()
        if found is None:
            self._studio.say("There is nothing to compare with yet.")
            return
        low, high, z, _ = found
        scale = (high - low) / tall
        parts = [p for p in self._chosen if p.visible] or list(self._project.scene.parts)
        boxes = [p.bounds() for p in parts]
        x = float(min(b[0][0] for b in boxes) + max(b[1][0] for b in boxes)) / 2
        place = Transform((x, low - bottom * scale, z), scale=scale)

        def made(mesh: Mesh) -> None:
            free = self._project.scene.free_name(name)
            part = Part(free, mesh, transform=place, locked=True, **traits)
            blocking.add(self._project, f"Add a {name.lower()}", [part], choose=False)
            self._studio.set_look(xray=True)

        self._studio.start(name, make, made)

    def divide(self, parts: int) -> None:
        """Mark the newest tape at equal parts of its length."""
        self.divide_at(tuple(k / parts for k in range(1, parts)))

    def divide_at(self, shares: tuple[float, ...]) -> None:
        """Mark the newest tape at shares of its length."""
        scene = self._project.scene
        tape = replace(scene.tapes[-1], divisions=shares)
        tapes = (*scene.tapes[:-1], tape)
        self._project.change("Divide a tape", replace(scene, tapes=tapes))

    def marks_on_clay(self) -> None:
        """Make landmarks of the newest tape's divisions."""
        from kneten.document.marks import landmark, measured

        scene = self._project.scene
        tape = scene.tapes[-1]
        start = next(m for m in scene.landmarks if m.id == tape.start)
        part = scene.part(start.part)
        new = scene
        for place in measured(tape, scene).marks:
            mark = landmark(new, "Division", part, part.transform.to_part(place[None])[0])
            new = replace(new, landmarks=(*new.landmarks, mark))
        if new is not scene:
            self._project.change("Mark divisions", new)
        else:
            self._studio.say("The newest tape is not divided; divide it first.")

    def clear_tapes(self) -> None:
        """Take all tapes away, and the landmarks that only they used."""
        scene = self._project.scene
        used = {key for tape in scene.tapes for key in (tape.start, tape.end)}
        marks = tuple(m for m in scene.landmarks if m.id not in used or not m.name.startswith("Landmark "))
        self._project.change("Clear tapes", replace(scene, tapes=(), landmarks=marks))
