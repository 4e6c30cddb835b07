"""Work with the fur of the part in hand."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from kneten.app.benches.surface.comb_mode import TOOLS, CombMode
from kneten.core.arrays import F32, Progress
from kneten.core.fur.leads import Leads, lengthened
from kneten.core.fur.numbers import FurError, FurNumbers
from kneten.core.live.clay import RecipeError
from kneten.core.live.recipes import Laid
from kneten.document.furs import (
    MOST_STRANDS,
    WIDTH,
    add_fur,
    exchange_fur,
    free_fur_name,
    fur_to_strands,
    furs_on,
    mask_under,
    remove_fur,
    sown,
)
from kneten.document.masks import mask_to_keep
from kneten.document.scene import Part
from kneten.document.things import Fur, KeptMask, leads_of, with_leads

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Furs:
    """Commands on the fur of the part in hand.

    Attributes
    ----------
    chosen_id : str
        Id of the fur that commands are about.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.chosen_id = ""
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self._show_nothing)

    def _show_nothing(self) -> None:
        """What was shown while a number was dragged is over, whatever ended it."""
        view = self._desk.view
        if view.shown_things and not view.at_work:
            view.shown_things = {}
            view.refresh()

    @property
    def all(self) -> tuple[Fur, ...]:
        """The furs of the part in hand."""
        part = self._studio.project.active
        return () if part is None else furs_on(self._studio.project.scene, part.id)

    @property
    def chosen(self) -> Fur | None:
        """The fur that commands are about."""
        held = self.all
        return next((fur for fur in held if fur.id == self.chosen_id), held[-1] if held else None)

    # -- why not --------------------------------------------------------------------------------

    def none(self) -> str:
        """Why no fur can be laid."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand for fur to grow on."
        if isinstance(part.recipe, Laid):
            return f"{part.name} is a row or scatter: bake it to clay first (Ctrl+Return)."
        return self._studio.move_blocked(part)

    def no_fur(self) -> str:
        """Why nothing can be done with fur."""
        return self.none() or (
            "" if self.chosen is not None else "The part in hand has no fur yet: lay one first."
        )

    def no_mask(self) -> str:
        """Why the fur cannot lie on the mask."""
        if words := self.no_fur():
            return words
        part = self._studio.project.active
        masked = part is not None and part.mesh.mask is not None and part.mesh.mask.any()
        return "" if masked else "Nothing is masked: mask first where the fur is to grow."

    def words(self) -> str:
        """What is to be said of the chosen fur; "" for nothing."""
        fur = self.chosen
        if fur is None:
            return ""
        return f"{fur.numbers.count:,} fibres follow {len(fur.places):,} leads."

    # -- commands -------------------------------------------------------------------------------

    def _part(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    def _kept_mask(self, part: Part, name: str) -> KeptMask | None:
        mask = part.mesh.mask
        return mask_to_keep(part, f"Under {name}") if mask is not None and mask.any() else None

    def add(self) -> None:
        """Lay fur on the part in hand, or on its mask."""
        studio, part = self._studio, self._part()
        name = free_fur_name(studio.project.scene)
        kept = self._kept_mask(part, name)
        low, high = part.mesh.bounds()
        size = float(((high - low) ** 2).sum()) ** 0.5
        numbers = FurNumbers(width=WIDTH * size, mask=kept.id if kept is not None else "")
        self._sow(part, numbers, None if kept is None else part.mesh.mask, name, kept)

    def _sow(
        self,
        part: Part,
        numbers: FurNumbers,
        mask: F32 | None,
        name: str,
        kept: KeptMask | None,
        old: Fur | None = None,
    ) -> None:
        """Lay first leads on another thread: one undo step."""
        studio, project = self._studio, self._studio.project
        mesh = part.mesh.settled()
        mesh = mesh.copy() if mesh is part.mesh else mesh
        own_mask = None if mask is None else mask.copy()

        def make(progress: Progress) -> Fur | str:
            try:
                return sown(part, mesh, own_mask, numbers, name, progress)
            except FurError as error:
                return str(error)

        def landed(made: Fur | str) -> None:
            if isinstance(made, str):
                studio.say(f"{made[0].upper()}{made[1:]}.", "warning")
                return
            self.chosen_id = made.id if old is None else old.id
            if old is None:
                add_fur(project, made, kept)
            else:
                exchange_fur(project, replace(made, id=old.id), f"Lay {name} anew", kept)

        studio.work_on([part], f"Fur on {part.name}", make, landed)

    def anew(self) -> None:
        """Lay the chosen fur anew: evenly, lying downwards, for the clay as it is now."""
        fur, part = self.chosen, self._part()
        assert fur is not None
        try:
            mask = mask_under(self._studio.project.scene, fur, part.mesh)
        except FurError as error:
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
            return
        self._sow(part, fur.numbers, mask, fur.name, None, fur)

    def take_mask(self) -> None:
        """Let the chosen fur grow where the part is masked now."""
        fur, part = self.chosen, self._part()
        assert fur is not None
        kept = self._kept_mask(part, fur.name)
        assert kept is not None
        self._sow(part, replace(fur.numbers, mask=kept.id), part.mesh.mask, fur.name, kept, fur)

    def remove(self) -> None:
        """Take the chosen fur off."""
        fur = self.chosen
        assert fur is not None
        self._desk.view.take_mode(None)
        remove_fur(self._studio.project, fur)

    def comb(self, tool: str) -> None:
        """Work on the chosen fur in the view; the same again goes back to sculpting."""
        self._desk.view.toggle_mode(CombMode(self._desk.view, tool, lambda: self.chosen))

    def to_strands(self) -> None:
        """Lay live strands along some of the chosen fur's fibres, and hide it."""
        fur, part = self.chosen, self._part()
        assert fur is not None
        project = self._studio.project
        try:
            with project.at_once(f"Strands of {fur.name}"):
                fur_to_strands(project, part, fur, MOST_STRANDS)
                exchange_fur(project, replace(fur, numbers=replace(fur.numbers, shown=False)), "Hide")
        except (FurError, RecipeError) as error:
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")

    def choose(self, fur_id: str) -> None:
        """Take another fur in hand."""
        self.chosen_id = fur_id
        self._studio.scene_changed.emit()

    # -- changing -------------------------------------------------------------------------------

    def length(self) -> float:
        """How long the chosen fur's leads are in the mean, in the part's space."""
        fur = self.chosen
        return 0.0 if fur is None else float(np.linalg.norm(fur.tips, axis=1).mean())

    def _with(self, traits: dict[str, Any]) -> Fur | None:
        fur = self.chosen
        if fur is None or self.no_fur():
            return None
        traits = dict(traits)
        length = traits.pop("length", None)
        changed = replace(fur, numbers=replace(fur.numbers, **traits)) if traits else fur
        now = self.length()
        if length is not None and now > 0 and abs(length / now - 1) > 1e-6:
            leads: Leads = leads_of(fur, self._part().mesh)
            changed = with_leads(changed, lengthened(leads, np.ones(len(leads)), length / now, np.inf))
        return changed

    def change(self, **traits: Any) -> None:
        """Give the chosen fur other numbers: one step."""
        self._desk.view.shown_things = {}
        changed = self._with(traits)
        if changed is None or changed == self.chosen or (changed is self.chosen):
            self._studio.scene_changed.emit()
            return
        try:
            changed.numbers.check()
        except FurError as error:
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
            self._studio.scene_changed.emit()
            return
        exchange_fur(self._studio.project, changed, f"Change {changed.name}")

    def dial(self, **traits: Any) -> None:
        """Show the chosen fur with other numbers while one is dragged."""
        changed = self._with(traits)
        if changed is None or "count" in traits:
            return  # Other fibres take a moment to find: they come once the number rests.
        furs = self._studio.project.scene.things("furs")
        self._desk.view.shown_things = {
            "furs": tuple(changed if one.id == changed.id else one for one in furs)
        }
        self._desk.view.moved()


COMBS = tuple(TOOLS)
"""What can be done with fur in the view."""
