"""Work with rows and scatter: laid, changed, and following what they are made of."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer

from kneten.core.arrays import Progress
from kneten.core.live.clay import RecipeError
from kneten.core.live.recipes import Laid
from kneten.core.live.strand import Strands
from kneten.core.regions import numbers_of
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.scatter.pieces import OWN
from kneten.document.laying import (
    Gathered,
    Made,
    add_laid,
    change_laid,
    follow,
    gathered,
    gone_along,
    lacking,
    laid_parts,
    made_from,
    part_of,
    shapes_of,
    sites_of,
)
from kneten.document.masks import mask_to_keep
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import KeptMask, new_id

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIZE = 0.025
"""How large a new piece is, against the clay that it is laid on."""

STAY = frozenset({"lean", "sink", "bend"})
"""What may change while pieces stay where they sit."""

AGAIN = 60
"""Milliseconds after which it is looked again whether what is at work has ended."""


class Layings:
    """Commands on the row or scatter in hand."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._following = Following(desk)
        self._wanted: Laid | None = None
        self._dialling = False

    @property
    def chosen(self) -> Part | None:
        """The row or scatter in hand."""
        part = self._studio.project.active
        return part if part is not None and isinstance(part.recipe, Laid) else None

    # -- why not --------------------------------------------------------------------------------

    def none(self) -> str:
        """Why nothing can be laid."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand to lay pieces on."
        if isinstance(part.recipe, Laid) and part_of(self._studio.project.scene, part.recipe.ground) is None:
            return "Its clay is not there any more: take the part in hand that is to have the pieces."
        return ""

    def no_line(self) -> str:
        """Why no row can be laid."""
        if words := self.none():
            return words
        ground = self._ground()
        if any(guide.part == ground.id for guide in self._studio.project.scene.guides):
            return ""
        if ground.mesh.topology.has_border or numbers_of(ground.mesh):
            return ""
        return f"{ground.name} has no guide, open rim or region for a row to follow: draw a guide."

    def no_laid(self) -> str:
        """Why nothing can be done with rows or scatter."""
        part = self.chosen
        if part is None:
            return "The part in hand is no row or scatter: lay one first."
        assert isinstance(part.recipe, Laid)
        words = lacking(self._studio.project.scene, part.id, part.recipe)
        return f"{words[0].upper()}{words[1:]}." if words else self._studio.move_blocked(part)

    def no_mask(self) -> str:
        """Why the scatter in hand cannot lie on the mask."""
        if words := self.no_laid():
            return words
        if not isinstance(self.chosen.recipe, Scatter):  # type: ignore[union-attr]
            return "A row follows lines: only scatter lies on a mask."
        ground = self._ground()
        masked = ground.mesh.mask is not None and ground.mesh.mask.any()
        return (
            "" if masked else f"Nothing of {ground.name} is masked: mask first where the pieces are to lie."
        )

    def no_others(self) -> str:
        """Why the pieces cannot be made of chosen parts."""
        if self.chosen is None:
            return "Choose the parts first, then the row or scatter as well: it is the one in hand."
        return "" if self._others() else "Choose the parts that are to be laid as well."

    def words(self) -> str:
        """What is to be said of the row or scatter in hand."""
        part = self.chosen
        if part is None:
            return ""
        assert isinstance(part.recipe, Laid)
        if words := lacking(self._studio.project.scene, part.id, part.recipe):
            return f"{words[0].upper()}{words[1:]}."
        ground = self._ground()
        held = sites_of(self._studio.project.scene, part.id)
        count = "" if held is None else f"{len(held.which):,} pieces "
        if isinstance(part.recipe, Scatter) and held is not None and len(held.which) < part.recipe.most:
            return f"{count}on {ground.name}: no more have room."
        return f"{count or 'It lies '}on {ground.name}."

    def pieces(self) -> dict[str, str]:
        """What can be laid, by key: our own pieces, and the other parts."""
        own = {key: name for key, (name, _) in OWN.items()}
        part = self.chosen
        ground = part.recipe.ground if part is not None and isinstance(part.recipe, Laid) else ""
        left_out = {ground, part.id if part is not None else ""}
        return {**own, **{p.id: p.name for p in self._studio.project.scene.parts if p.id not in left_out}}

    def regions(self) -> list[int]:
        """The regions of the clay that is laid on."""
        return numbers_of(self._ground().mesh) if not self.none() else []

    def strands(self) -> list[Part]:
        """The parts that rows may follow."""
        return [part for part in self._studio.project.scene.parts if isinstance(part.recipe, Strands)]

    def _ground(self) -> Part:
        project = self._studio.project
        part = project.active
        assert part is not None
        return project.scene.part(part.recipe.ground) if isinstance(part.recipe, Laid) else part

    def _others(self) -> tuple[Part, ...]:
        part = self.chosen
        assert part is not None
        assert isinstance(part.recipe, Laid)
        return tuple(p for p in self._studio.project.chosen if p.id not in (part.id, part.recipe.ground))

    # -- commands -------------------------------------------------------------------------------

    def _size(self, ground: Part) -> float:
        low, high = ground.mesh.bounds()
        return float(((high - low) ** 2).sum()) ** 0.5 * SIZE

    def scatter(self) -> None:
        """Scatter pieces over the part in hand, or over its mask."""
        ground = self._ground()
        masked = ground.mesh.mask is not None and bool(ground.mesh.mask.any())
        led = any(guide.part == ground.id for guide in self._studio.project.scene.guides)
        size = self._size(ground)
        recipe = Scatter(
            ground=ground.id,
            size=size,
            reach=5 * size,
            over="mask" if masked else "all",
            flow="guides" if led else "down",
            mirrored=self._studio.project.settings.symmetry[0] and not masked,
        )
        self._lay(None, recipe, "Scatter", f"Scatter over {ground.name}")

    def row(self) -> None:
        """Lay pieces along the guides of the part in hand, else its open rims, else a region's border."""
        ground = self._ground()
        led = any(guide.part == ground.id for guide in self._studio.project.scene.guides)
        along = "guides" if led else "rims" if ground.mesh.topology.has_border else "border"
        numbers = numbers_of(ground.mesh)
        recipe = Row(
            ground=ground.id,
            sources=("rivet",),
            size=self._size(ground),
            gap=0.5,
            along=along,
            of=str(numbers[-1]) if along == "border" else "",
        )
        self._lay(None, recipe, "Row", f"Row on {ground.name}")

    def anew(self) -> None:
        """Place all pieces anew, for the clay as it is now."""
        part = self.chosen
        assert part is not None
        assert isinstance(part.recipe, Laid)
        self._lay(part, part.recipe, part.name, f"Lay {part.name} anew")

    def take_mask(self) -> None:
        """Let the scatter in hand lie on the mask as it is now."""
        part = self.chosen
        assert part is not None
        assert isinstance(part.recipe, Scatter)
        over = part.recipe.over if part.recipe.shrink_by == "mask" else "mask"
        self._lay(part, replace(part.recipe, over=over, mask=""), part.name, f"Lay {part.name} on the mask")

    def take_parts(self) -> None:
        """Make the row or scatter in hand of the other chosen parts, in turn."""
        self.change(sources=tuple(part.id for part in self._others()))

    # -- changing -------------------------------------------------------------------------------

    def change(self, **traits: Any) -> None:
        """Give the row or scatter in hand other numbers: one step."""
        part = self.chosen
        if part is None or not isinstance(part.recipe, Laid):
            return
        self._wanted = None
        if words := self._studio.move_blocked(part):
            self._studio.say(words, "warning")
            self._studio.scene_changed.emit()
            return
        recipe = replace(part.recipe, **traits)
        if recipe == part.recipe:
            self._show_nothing()
            return
        self._lay(part, recipe, part.name, f"Change {part.name}", set(traits) <= STAY)

    def dial(self, **traits: Any) -> None:
        """Show the row or scatter in hand with other numbers while one is dragged."""
        part = self.chosen
        if part is None or not isinstance(part.recipe, Laid) or self._studio.move_blocked(part):
            return
        self._wanted = replace(part.recipe, **traits)
        if not self._dialling:
            self._try(part, set(traits) <= STAY)

    def _try(self, part: Part, stay: bool) -> None:
        """Work out on another thread what is wished for last, and show it."""
        recipe, project = self._wanted, self._studio.project
        if recipe is None:
            return
        held = sites_of(project.scene, part.id) if stay else None
        try:
            have = gathered(project.scene, part.id, recipe, held)
        except RecipeError:
            return  # What is wrong is told once it is to stay.
        self._dialling = True

        def shown(made: Made | str) -> None:
            self._dialling = False
            wanted = self._wanted
            if wanted is None or self._studio.project is not project or self.chosen is not part:
                return
            if not isinstance(made, str) and made.mesh is not None:
                now = replace(part, mesh=made.mesh, mesh_id=new_id(), recipe=recipe)
                self._desk.view.preview = {part.id: now}
                self._desk.view.moved()
            if wanted != recipe:
                self._try(part, stay)

        self._studio.aside(lambda: _worked_out(have, Progress()), shown)

    def _show_nothing(self) -> None:
        if self._desk.view.preview:
            self._desk.view.preview = {}
            self._desk.view.refresh()

    def _lay(self, part: Part | None, recipe: Laid, wanted: str, name: str, stay: bool = False) -> None:
        """Lay a new row or scatter, or one with other numbers, on another thread: one undo step."""
        studio, project = self._studio, self._studio.project
        kept: KeptMask | None = None
        held = sites_of(project.scene, part.id) if stay and part is not None else None
        scene = project.scene
        try:
            if isinstance(recipe, Scatter) and recipe.by_mask:
                recipe, kept = self._with_mask(recipe, wanted)
                if kept is not None:
                    scene = replace(scene, kept_masks=(*scene.kept_masks, kept))
            have = gathered(scene, part.id if part is not None else "", recipe, held)
        except RecipeError as error:
            self._refused(str(error))
            return

        def make(progress: Progress) -> Made | str:
            made = _worked_out(have, progress)
            if not isinstance(made, str) and made.mesh is not None:
                studio.journal_ahead([made.mesh])
            return made

        def landed(made: Made | str) -> None:
            self._desk.view.preview = {}
            if isinstance(made, str):
                self._refused(made)
                return
            if part is None:
                now = add_laid(project, wanted, recipe, made, kept)
            else:
                now = project.scene.part(part.id)
                change_laid(project, now, recipe, made, name, kept)
                now = project.scene.part(part.id)
            self._following.is_fresh(project, now)
            if isinstance(recipe, Scatter) and made.count < recipe.most and part is None:
                studio.say(f"{made.count:,} pieces have room on {self._ground().name}.")

        resting = [part] if part is not None else [project.scene.part(recipe.ground)]
        studio.work_on(resting, name, make, landed)

    def _with_mask(self, recipe: Scatter, name: str) -> tuple[Scatter, KeptMask | None]:
        """A scatter that goes by a mask that is kept, and the mask where it is not kept yet."""
        scene = self._studio.project.scene
        if any(mask.id == recipe.mask for mask in scene.kept_masks):
            return recipe, None
        ground = scene.part(recipe.ground)
        if ground.mesh.mask is None or not ground.mesh.mask.any():
            raise RecipeError(f"nothing of {ground.name} is masked: mask first where the pieces are to lie")
        kept = mask_to_keep(ground, f"Under {name}")
        return replace(recipe, mask=kept.id), kept

    def _refused(self, words: str) -> None:
        self._show_nothing()
        self._studio.say(f"{words[0].upper()}{words[1:]}.", "warning")
        self._studio.scene_changed.emit()


def _worked_out(have: Gathered, progress: Progress, places_only: bool = False) -> Made | str:
    """A row or scatter, or why it cannot be made."""
    try:
        return have.worked_out(progress, places_only)
    except RecipeError as error:
        return str(error)


class Following:
    """Lets rows and scatter follow what they are made of."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._known: dict[str, tuple[Any, ...]] = {}
        self._shapes: dict[str, tuple[Any, ...]] = {}
        self._busy = False
        self._soon = QTimer(desk)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._look)
        desk.studio.scene_changed.connect(lambda: self._soon.start(0))
        desk.studio.clay_changed.connect(lambda: self._soon.start(0))
        desk.studio.project_changed.connect(self._opened)

    def is_fresh(self, project: Project, part: Part) -> None:
        """A part is what its recipe makes of everything as it is now."""
        assert isinstance(part.recipe, Laid)
        uid = part.mesh.topology.uid
        self._known[uid] = made_from(project.scene, part.recipe)
        self._shapes[uid] = shapes_of(project.scene, part.recipe)

    def _opened(self) -> None:
        """What is opened is as it was saved."""
        self._known.clear()
        self._shapes.clear()
        project = self._studio.project
        for part in laid_parts(project.scene):
            self.is_fresh(project, part)

    def _later(self) -> None:
        self._soon.start(AGAIN)

    def _look(self) -> None:
        """Find what does not follow yet."""
        studio, project = self._studio, self._studio.project
        laid = laid_parts(project.scene)
        if not laid or studio.closed or self._busy:
            return
        if self._desk.view.at_work or project.is_trying:
            self._later()
            return
        stands = gone_along(project.scene)
        if stands is not project.scene:
            project.derive(stands)
        for part in laid:
            assert isinstance(part.recipe, Laid)
            state = made_from(project.scene, part.recipe)
            if self._known.get(part.mesh.topology.uid) == state or lacking(
                project.scene, part.id, part.recipe
            ):
                continue
            if studio.is_at_work(part) or studio.any_at_work([part.recipe.ground]):
                self._later()
                continue
            self._renew(project, project.scene.part(part.id), state)
            return

    def _renew(self, project: Project, part: Part, state: tuple[Any, ...]) -> None:
        recipe = part.recipe
        assert isinstance(recipe, Laid)
        uid = part.mesh.topology.uid
        same = isinstance(recipe, Scatter) and self._shapes.get(uid) == shapes_of(project.scene, recipe)
        held = sites_of(project.scene, part.id)
        try:
            have = gathered(project.scene, part.id, recipe, held)
        except RecipeError as error:
            self._failed(uid, state, part, str(error))
            return
        self._busy = True

        def landed(made: Made | str) -> None:
            self._busy = False
            self._soon.start(0)
            now = part_of(project.scene, part.id)
            if self._studio.project is not project or now is None or now.recipe != recipe:
                return
            if now.mesh is not part.mesh or made_from(project.scene, recipe) != state:
                return
            if self._desk.view.at_work or project.is_trying:
                self._later()
                return
            if isinstance(made, str):
                self._failed(uid, state, part, made)
                return
            follow(project, now, made)
            self.is_fresh(project, project.scene.part(part.id))

        places_only = same and held is not None
        self._studio.aside(lambda: _worked_out(have, Progress(), places_only), landed)

    def _failed(self, uid: str, state: tuple[Any, ...], part: Part, words: str) -> None:
        """It stays as it is until what it is made of is other."""
        self._known[uid] = state
        self._studio.say_now_and_then(part.id, f"{part.name} stays as it is: {words}.", "warning")
