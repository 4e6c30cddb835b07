"""Carry over in the window: from which part, how far, what; how near it came, and where it failed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLabel, QPushButton

from kneten.app.fields.fields import NumberField, choice, labelled, switch
from kneten.app.fields.quantities import count_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.memory import MOST_VERTICES, PER_VERTEX, budget_text, short_of_memory, size_text
from kneten.core.arrays import F32, Progress
from kneten.core.carry import CarryWish, deviation, offered_levels, offered_reach, source_of
from kneten.core.mesh import Mesh
from kneten.core.regions import by_connection, faces_of_mask
from kneten.core.subdivide import foretell
from kneten.document.carried_parts import Carried, carry, land, matrix_between
from kneten.document.opening import stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIDES = {
    "both": ("Both sides", "Looks for the source outside and inside of the part in hand"),
    "out": ("Outwards", "Looks outwards only"),
    "in": ("Inwards", "Looks inwards only"),
}
PLACES = {
    "all": ("Everywhere", "Carries over wherever something is found"),
    "free": ("Off the mask", "What is masked stays as it is"),
    "masked": ("On the mask", "Only what is masked gets it: to run again where there was no match"),
}


@dataclass(frozen=True)
class Offer:
    """What fits two parts."""

    pair: tuple[str, str, str, str]
    reach: float
    levels: int


class Carrying:
    """Commands that carry detail, layers and values from another part to the one in hand."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._gap = -1

    @property
    def source(self) -> Part | None:
        """The part it is carried over from."""
        return self._desk.carry_card.source()

    def none(self) -> str:
        """Why nothing can be carried over."""
        if blocked := self._desk.levels.none():
            return blocked
        part = self._studio.project.active
        if part is not None and part.recipe is not None:
            return f"{part.name} is still made from its numbers: bake it to clay first (Ctrl+Return)."
        if self.source is None:
            return (
                "Carrying over needs another part to carry from: add the old one, or a new base, beside it."
            )
        return self._studio.move_blocked(self.source) if self.source.id in self._studio.locked else ""

    def no_gap(self) -> str:
        """Why there is no place without a match to go to."""
        part = self._studio.project.active
        if part is None or part.mesh.mask is None or not (part.mesh.mask > 0.5).any():
            return "Nothing of the part in hand is masked for want of a match."
        return ""

    def run(self) -> None:
        """Carry over as the card says: one step."""
        source, target = self.source, self._studio.project.active
        assert source is not None
        assert target is not None
        self.between(source, target, self._desk.carry_card.wish(target))

    def between(self, source: Part, target: Part, wish: CarryWish) -> None:
        """Carry over from one part to another."""
        studio, project = self._studio, self._studio.project
        if wish.where != "all" and target.mesh.mask is None:
            studio.say(
                "Nothing is masked: carry over everywhere, or mask first where it is to go.", "warning"
            )
            return
        count = foretold(target, wish.levels)
        if count > MOST_VERTICES:
            studio.say(
                f"{target.name} would have {count:,} vertices; {MOST_VERTICES:,} is the most. Add fewer levels.",
                "warning",
            )
            return
        if short := short_of_memory("Carrying over", count * PER_VERTEX * 2):
            studio.say(short, "warning")
            return
        one, other = worker_copy(source), worker_copy(target)
        scene = project.scene
        name = f"Carry over from {source.name} to {target.name}"

        def work(progress: Progress) -> Carried:
            made = carry(one, other, scene.kept_masks, wish, progress, scene.guides, scene.landmarks)
            if studio.journal is not None:
                studio.journal.stage(made.made.mesh, made.made.stack)
            return made

        def arrived(made: Carried) -> None:
            if not made.made.found.there.any():
                studio.say(
                    f"Nothing of {source.name} lies within {wish.reach * target.transform.scale:.3g} mm of {target.name}: "
                    "look farther, or bring the two together. Nothing was changed.",
                    "warning",
                )
                return
            land(project, target.id, made, name)
            self.told(project.scene.part(target.id), source.name, made)

        studio.work_on([source, target], f"Carry over to {target.name}", work, arrived)

    def told(self, target: Part, source: str, made: Carried) -> None:
        """Say how it went; where there was no match, offer to help there."""
        studio, layers = self._studio, len(made.made.stack.layers)
        now = count_text(target.mesh.count)
        what = f"Carried over from {source}: {now} vertices" + (
            f", {layers} layer{'s' if layers != 1 else ''}" if layers else ""
        )
        for gone, word in ((made.lines, "guide"), (made.marks, "landmark")):
            if gone:
                what += f", {len(gone)} {word}{'s' if len(gone) != 1 else ''}"
        self._gap = -1
        if not made.missed:
            studio.say(f"{what}. Every vertex found its match.")
            return
        self._desk.carry_card.set_where("masked")
        share = made.missed / target.mesh.count * 100
        studio.advised.emit(
            f"{what}. {count_text(made.missed)} of them ({share:.1f} %) found no match and are masked: bring the clay "
            "nearer or look farther, and carry over again.",
            [
                ("Show them", lambda: self._desk.registry.run("carry.gap")),
                ("Work there", self.work_there),
            ],
        )

    def work_there(self) -> None:
        """Free what found no match and protect the rest."""
        self._desk.registry.run("carry.gap")
        self._desk.carry_card.set_where("free")
        self._desk.registry.run("mask.invert")

    def gap(self) -> None:
        """Frame the next place without a match, the largest first."""
        part, studio = self._studio.project.active, self._studio
        assert part is not None
        mesh = part.mesh
        assert mesh.mask is not None
        mask = mesh.mask

        def look() -> list[F32]:
            faces = faces_of_mask(mesh, mask)
            labels = by_connection(mesh, faces.astype(np.uint8))
            labels = np.where(faces, labels, -1)
            numbers, counts = np.unique(labels[labels >= 0], return_counts=True)
            order = numbers[np.argsort(-counts)][:200]
            corners = [mesh.topology.faces[labels == number].reshape(-1) for number in order]
            return [mesh.positions[some[some >= 0]] for some in corners]

        def frame(places: list[F32]) -> None:
            if not places or studio.project.active is None or studio.project.active.id != part.id:
                return
            self._gap = (self._gap + 1) % len(places)
            at = part.transform.to_scene(places[self._gap].astype(np.float64))
            low, high = at.min(axis=0), at.max(axis=0)
            room = 0.2 * (high - low).max() + 1e-6
            self._desk.views.frame_box(low - room, high + room)
            studio.say(f"Place {self._gap + 1} of {len(places)} without a match.")

        studio.aside(look, frame)

    def deviate(self) -> None:
        """Colour the part in hand by how far it is from the source; the same again ends it."""
        view, studio = self._desk.view, self._studio
        if view.distances:
            view.stop_compare()
            return
        source, target = self.source, studio.project.active
        assert source is not None
        assert target is not None
        one, other = worker_copy(source), worker_copy(target)
        scale = target.transform.scale

        def work(progress: Progress) -> F32:
            clay = source_of(one.mesh, one.stack, matrix_between(one, other), progress)
            return deviation(clay.mesh, other.mesh, progress) * np.float32(scale)

        def arrived(off: F32) -> None:
            # The largest of all, where there was no match, would leave no colours for the rest.
            worst = max(float(np.quantile(off, 0.99)), 1e-9)
            view.show_distances({target.id: (0.5 + 0.5 * off / worst).clip(0, 1).astype(np.float32)}, worst)
            studio.say(
                f"{target.name} is {float(off.mean()):.2g} mm off {source.name} in the mean, {float(off.max()):.2g} mm at "
                "most. The same again ends the map."
            )

        studio.work_on([source, target], "Deviation", work, arrived)


def worker_copy(part: Part) -> Part:
    """A part with clay of its own, that later strokes do not reach."""
    return replace(part, mesh=part.mesh.copy())


def foretold(part: Part, levels: int) -> int:
    """Vertices of a part's finest level after so many more."""
    stack = stack_of(part)
    shape = stack.levels[-1].topology
    count = shape.n_vertices
    if levels:
        count, faces = foretell(shape)
        # From the first on all faces are quads: each level has as many more vertices as the one below has edges and faces.
        for _ in range(levels - 1):
            count, faces = count + 3 * faces, 4 * faces
    return count


class CarryCard(Card):
    """From which part, how far, and what."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Carry over", desk.studio)
        self._desk = desk
        self.origin = choice("Part to carry over from", "The part whose detail the one in hand is to get", {})
        self.origin.activated.connect(lambda _: self._chosen_by_hand())
        self.column.addWidget(labelled("From", self.origin))
        self.reach = NumberField(
            "Search distance",
            0.001,
            10_000,
            unit="mm",
            decimals=2,
            tip="How far from the part in hand the other is looked for; offered from how far they are apart",
        )
        self.reach.changed.connect(lambda _: self._by_hand())
        self.column.addWidget(labelled("Search", self.reach))
        self.side = choice("Sides to search", "To which sides of the surface to look", SIDES)
        self.column.addWidget(labelled("Look", self.side))
        self.where = choice("Where to carry over", "Which of the clay gets it", PLACES)
        self.column.addWidget(labelled("Where", self.where))
        self.levels = NumberField(
            "Levels to add", 0, 7, tip="Levels added first, so that there is room for the detail"
        )
        self.levels.changed.connect(lambda _: self._by_hand())
        self.column.addWidget(labelled("Add levels", self.levels))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.layers = self._check(grid, 0, "Layers", "Layers arrive as layers; otherwise as form", True)
        self.apart = self._check(
            grid, 1, "Form on a layer", "The form itself goes on a layer of its own", False
        )
        self.colour = self._check(grid, 2, "Colour", "Colour arrives too", True)
        self.regions = self._check(grid, 3, "Regions", "Regions arrive too", True)
        self.masks = self._check(grid, 4, "Masks", "The mask and the kept masks arrive too", True)
        self.lines = self._check(
            grid, 5, "Lines", "Guides and landmarks go along where all is carried over", True
        )
        self.column.addLayout(grid)
        self.told = QLabel()
        self.told.setObjectName("quiet")
        self.column.addWidget(self.told)
        self.button = QPushButton("Carry over")
        self.button.setObjectName("primary")
        command = desk.registry.commands["carry.run"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("carry.run"))
        self.column.addWidget(self.button)
        rows, _ = command_grid(
            desk.registry, (("carry.deviation", "Deviation"), ("carry.gap", "Next gap")), columns=2
        )
        self.column.addLayout(rows)
        self._offer: Offer | None = None
        self._asked_for: tuple[str, str, str, str] | None = None
        self._set_by_hand = False
        self._set_for = ("", "")
        self._named = ""
        self._parts: list[tuple[str, str]] = []
        self.soon = QTimer(self)
        self.soon.setSingleShot(True)
        self.soon.setInterval(200)
        self.soon.timeout.connect(self.fill)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.soon.start)
        self.head.toggled.connect(lambda _: self.soon.start())

    def _check(self, grid: QGridLayout, at: int, name: str, tip: str, on: bool) -> QCheckBox:
        box = switch("Carry over", name, tip, on)
        grid.addWidget(box, at // 2, at % 2)
        return box

    def source(self) -> Part | None:
        """The part that is chosen to carry over from."""
        self._list()
        chosen = self.origin.currentData()
        return next((part for part in self._studio.project.scene.parts if part.id == chosen), None)

    def choose(self, source_id: str, reach: float, levels: int) -> None:
        """Carry over from a part, at a distance and with so many more levels."""
        self.name_source(source_id)
        self.reach.set_value(reach)
        self.levels.set_value(levels)
        active = self._studio.project.active
        self._set_for = (source_id, active.id if active is not None else "")
        self._set_by_hand = True
        self.soon.start()

    def name_source(self, source_id: str) -> None:
        """Carry over from a part from now on."""
        self._named = source_id
        self._list()

    def set_where(self, where: str) -> None:
        """Choose which of the clay gets it."""
        self.where.setCurrentIndex(self.where.findData(where))

    def wish(self, target: Part) -> CarryWish:
        """What is set, in the lengths of the part in hand."""
        source = self.source()
        name = f"Detail of {source.name}" if source is not None and self.apart.isChecked() else ""
        return CarryWish(
            self.reach.value() / target.transform.scale,
            str(self.side.currentData()),
            str(self.where.currentData()),
            round(self.levels.value()),
            self.layers.isChecked(),
            name,
            self.colour.isChecked(),
            self.regions.isChecked(),
            self.masks.isChecked(),
            self.lines.isChecked(),
        )

    def _chosen_by_hand(self) -> None:
        self._named = str(self.origin.currentData())
        self.soon.start()

    def _by_hand(self) -> None:
        self._set_by_hand = True
        self._tell()

    def _list(self) -> None:
        """Offer the other parts: the one named before, or the one that is most alike in place and size."""
        project = self._studio.project
        active = project.active
        parts = [part for part in project.scene.parts if part is not active]
        words = [(part.id, part.name) for part in parts]
        if words != self._parts:
            self._parts = words
            self.origin.clear()
            for part_id, name in words:
                self.origin.addItem(name, part_id)
        at = self.origin.findData(self._named)
        if at < 0 and active is not None and parts:
            at = int(np.argmax([alike(active, part) for part in parts]))
        self.origin.setCurrentIndex(at)

    def fill(self) -> None:
        """Offer a search distance and levels for the two parts; measured again only for others."""
        source, target = self.source(), self._studio.project.active
        self.button.setEnabled(source is not None)
        if source is None or target is None or not self.body.isVisible() or not self._studio.ready:
            self.told.setText("" if source is not None else "Needs another part to carry from.")
            return
        pair = (source.id, source.mesh_id, target.id, target.mesh_id)
        if self._offer is not None and self._offer.pair == pair:
            self._tell()
            return
        if self._asked_for == pair:
            return
        self._asked_for = pair
        one, other = source, target

        def show(offer: Offer) -> None:
            if pair != self._asked_for:
                return
            self._asked_for = None
            self._offer = offer
            ids = (pair[0], pair[2])
            # Once carried over the two are close: where there was no match, as far is to be looked as before.
            if self._set_for != ids:
                self._set_for, self._set_by_hand = ids, False
                self.reach.set_value(offer.reach)
                self.set_where("all")
            if not self._set_by_hand or not offer.levels:
                self.levels.set_value(offer.levels)
            self._tell()

        # It grows a tree over the source: 0.4 s for a million vertices.
        self._studio.aside(lambda: offered(one, other), show)

    def _tell(self) -> None:
        target = self._studio.project.active
        if target is None or self._offer is None:
            return
        count = foretold(target, round(self.levels.value()))
        more = count - target.mesh.count
        self.told.setText(
            f"Gives {count_text(count)} vertices, {size_text(count * PER_VERTEX)}\n"
            + budget_text(target, self._studio.project, more)
        )


def alike(one: Part, other: Part) -> float:
    """How much of the boxes around two parts they share, 0..1."""
    (a, b), (c, d) = one.bounds(), other.bounds()
    both = np.clip(np.minimum(b, d) - np.maximum(a, c), 0, None).prod()
    return float(both / max((b - a).prod() + (d - c).prod() - both, 1e-30))


def offered(source: Part, target: Part) -> Offer:
    """A search distance, in the scene, and levels to add for two parts. For other threads."""
    matrix = matrix_between(source, target)
    clay: Mesh = source_of(source.mesh, None, matrix, Progress()).mesh
    finest = source.mesh.count if source.stack is None else source.stack.levels[-1].topology.n_vertices
    now = stack_of(target).levels[-1].topology.n_vertices
    reach = offered_reach(clay, target.mesh) * target.transform.scale
    return Offer(
        (source.id, source.mesh_id, target.id, target.mesh_id), reach, min(offered_levels(finest, now), 7)
    )
