"""Live parts made anew while their numbers change: at once while they are small, aside when they are not."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from kneten.core.live.armature import Armature
from kneten.core.live.clay import Clay, RecipeError
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.live.strand import Strands
from kneten.core.mesh import Mesh
from kneten.document.blocking import add_live
from kneten.document.placing import laid_again
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

PREVIEW = 0.03
"""Seconds that making a preview may take; a costlier skin is previewed coarser."""

AT_ONCE = 0.15
"""Seconds up to which the final clay is made on the window's thread; the rest goes to another."""


class Recasting:
    """Previews a live part while it is being changed, and lands the change as one undo step.

    Attributes
    ----------
    coarser : float
        How much longer the edges of an armature's preview are than its own.
    """

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self._studio = view.studio
        self.coarser = 1.0
        self._cost = 0.0
        self._wanted: tuple[str, OnItsOwn] | None = None
        self._soon = QTimer(view)
        self._soon.setSingleShot(True)
        self._soon.setInterval(0)
        self._soon.timeout.connect(self._show)

    def preview(self, part: Part, recipe: OnItsOwn) -> None:
        """Show a part as it would be; the newest wish counts."""
        self._wanted = (part.id, recipe)
        if not self._soon.isActive():
            self._soon.start()

    def _show(self) -> None:
        if self._wanted is None:
            return
        part_id, recipe = self._wanted
        self._wanted = None
        try:
            part = self._studio.project.scene.part(part_id)
            began = time.perf_counter()
            recipe = laid_again(self._studio.project.scene, part, recipe)
            mesh = self._rough(recipe).mesh()
            self._note(time.perf_counter() - began)
        except (RecipeError, KeyError):
            return  # The card says what is wrong when the change lands.
        shown = replace(part, mesh=mesh, mesh_id=new_id(), recipe=recipe)
        self._view.preview = {part_id: shown}
        self._view.moved()

    def _rough(self, recipe: OnItsOwn) -> Clay:
        if isinstance(recipe, Armature):
            return replace(recipe, edge=recipe.edge * self.coarser).made(rough=True)
        return recipe.made()

    def _note(self, seconds: float) -> None:
        """Coarser or finer previews, by what the last one took."""
        if seconds > PREVIEW:
            self.coarser = min(self.coarser * 1.25, 4.0)
        elif seconds < PREVIEW / 4 and self.coarser > 1.0:
            self.coarser = max(self.coarser / 1.15, 1.0)

    def cancel(self) -> None:
        """Show everything as it is again."""
        self._soon.stop()
        self._wanted = None
        if self._view.preview:
            self._view.preview = {}
            self._view.refresh()

    def land(self, part: Part, recipe: OnItsOwn, name: str, again: bool = False) -> None:
        """Make the change: one undo step. With `again` also when the numbers are the same."""
        self._soon.stop()
        self._wanted = None
        recipe = laid_again(self._studio.project.scene, part, recipe)
        if recipe == part.recipe and not again:
            self.cancel()
            return

        def done(mesh: Mesh) -> None:
            self._view.preview = {}
            self._studio.project.reshape(part.id, recipe, mesh, f"{name} {part.name}")

        self._make(recipe, name, part, done)

    def add(
        self, wanted: str, recipe: OnItsOwn, transform: object, then: Callable[[Part], object] | None = None
    ) -> None:
        """A new live part."""
        from kneten.core.transform import Transform

        place = transform if isinstance(transform, Transform) else Transform()

        def done(mesh: Mesh) -> None:
            part = add_live(self._studio.project, wanted, recipe, mesh, place)
            if then is not None:
                then(part)

        self._make(recipe, f"Add {wanted}", None, done)

    def _make(self, recipe: OnItsOwn, name: str, part: Part | None, done: Callable[[Mesh], None]) -> None:
        if self._heavy(recipe):

            def work(progress: object) -> Mesh:
                mesh = recipe.made().mesh()
                self._studio.journal_ahead([mesh])
                return mesh

            self._studio.start(name, work, done, () if part is None else (part,))
            return
        try:
            mesh = recipe.made().mesh()
        except RecipeError as error:
            self.cancel()
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
            self._studio.scene_changed.emit()
            return
        done(mesh)

    def _heavy(self, recipe: OnItsOwn) -> bool:
        """Whether making it would hold the window up."""
        if isinstance(recipe, Armature):
            places, radii, _ = recipe.arrays()
            area = float((radii * radii).sum()) * 12 + float(abs(places).max(initial=0)) * float(
                radii.max(initial=0)
            )
            return area / max(recipe.edge, 1e-6) ** 2 > 25_000
        if isinstance(recipe, Strands):
            knots = sum(len(s.knots) for s in recipe.strands)
            return knots * recipe.spans * recipe.sides * (recipe.copies + 1) > 60_000
        if isinstance(recipe, Primitive):
            a, b, c = recipe.divisions
            return a * b + b * c + a * c > 40_000
        return recipe.around * recipe.spans * len(recipe.points) > 80_000
