"""Game sets in the window: levels of detail, variants, a budget."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from kneten.app.fields.fields import NumberField, Words, choice, labelled, switch
from kneten.app.fields.quantities import count_text
from kneten.app.work import dialogs
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.arrays import Progress
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document.game_wish import GameWish, Variant
from kneten.document.scene import Part
from kneten.formats.exchange import pieces_of, with_maps, with_skins
from kneten.formats.game_set import GameSet, game_levels, write_game_set
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.space import Space

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

METRES = Space("m")
GLB = Path("set.glb")


class Gaming(QObject):
    """Commands of game sets."""

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio

    @property
    def wish(self) -> GameWish:
        """What a set is to have."""
        return self._studio.project.settings.game

    def change(self, **values: Any) -> None:
        """Ask for something else; what makes no sense is said and not taken."""
        wanted = replace(self.wish, **values)
        try:
            wanted.check()
        except ValueError as error:
            self._studio.refuse(error)
        else:
            self._studio.project.change_settings(game=wanted)
        self.changed.emit()

    def parts(self) -> list[Part]:
        """What is delivered: all that is visible."""
        return [part for part in self._studio.project.scene.parts if part.visible]

    def none(self) -> str:
        """Why there is no set."""
        parts = self.parts()
        if not parts:
            return "No part is visible."
        loose = [part.name for part in parts if isinstance(part.mesh, LooseMesh)]
        return f"{loose[0]} has live density: settle it first." if loose else ""

    def _pieces(self) -> list[Piece]:
        scene = self._studio.project.scene
        held = [replace(part, mesh=part.mesh.copy()) for part in self.parts()]
        return with_maps(GLB, with_skins(GLB, pieces_of(held, METRES), held, scene, METRES), held, scene)

    def write_set(self) -> None:
        """Write a set to a folder."""
        folder = dialogs.ask_folder(self._desk, "Write the game set into", str(Path.home()))
        if folder is not None:
            self.write_to(folder)

    def write_to(self, folder: Path) -> None:
        """Write a set to a folder."""
        studio, wish, pieces = self._studio, self.wish, self._pieces()
        name = studio.project.title

        def work(progress: Progress) -> GameSet | str:
            try:
                return write_game_set(folder, name, pieces, wish, 1000.0, progress)
            except FormatError as error:
                return str(error)

        def written(made: GameSet | str) -> None:
            if isinstance(made, str):
                studio.refuse(made)
            elif made.faults:
                studio.say(
                    f"{len(made.files)} files written to {folder}. {'; '.join(made.faults[:2])}.", "warning"
                )
            else:
                first = made.files[0]
                studio.say(
                    f"{len(made.files)} files written to {folder}; the first level has {count_text(first.triangles)} triangles in {first.size / 1e6:.1f} MB."
                )

        studio.start("Game set", work, written)

    def level_as_parts(self) -> None:
        """Put a level of detail into the scene."""
        studio, parts, pieces = self._studio, self.parts(), self._pieces()
        number = min(self._desk.game_card.level(), len(self.wish.counts) - 1)
        wish = replace(self.wish, counts=self.wish.counts[: number + 1], variants=())

        def work(progress: Progress) -> list[tuple[str, Mesh]] | str:
            try:
                found = game_levels(pieces, wish, progress)[number]
            except FormatError as error:
                return str(error)
            return [
                (
                    one.name,
                    Mesh.from_faces(
                        METRES.into(one.positions), one.faces, one.colour, material=one.material, uv=one.uv
                    ),
                )
                for one, _ in found
            ]

        def landed(made: list[tuple[str, Mesh]] | str) -> None:
            if isinstance(made, str):
                studio.refuse(made)
                return
            ids = {part.id for part in parts}
            with studio.project.at_once(f"Level of detail {number}"):
                scene = studio.project.scene
                hidden = [replace(one, visible=False) if one.id in ids else one for one in scene.parts]
                studio.project.change(f"Level of detail {number}", scene.with_parts(hidden))
                names = [(f"{name}, level {number}", mesh, Transform()) for name, mesh in made]
                studio.project.add_meshes(f"Level of detail {number}", names)
            count = sum(mesh.topology.n_triangles for _, mesh in made)
            studio.say(
                f"Level {number} has {count_text(count)} triangles; what it was made of is hidden. As they rest: joints and shapes are in the set."
            )

        studio.work_on(parts, "Level of detail", work, landed)


def counts_in(text: str) -> tuple[int, ...]:
    """The numbers of a list such as "8000, 4000 2k". Raises `ValueError` where one is none."""
    found = []
    for word in re.split(r"[;,\s]+", text.strip()):
        match = re.fullmatch(r"(\d+(?:\.\d+)?)([kM]?)", word)
        if match is None:
            raise ValueError(f"{word or 'nothing'} is no number of triangles")
        found.append(round(float(match[1]) * {"": 1, "k": 1e3, "M": 1e6}[match[2]]))
    return tuple(found)


class GameCard(Card):
    """What a game set has."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Game set", desk.studio)
        self._desk = desk
        self._gaming = desk.gaming
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self.fill)
        self.counts = QLineEdit()
        self.counts.setAccessibleName("Triangles of each level of detail")
        self.counts.setToolTip("All parts together, the finest level first: 8000, 4000, 2000")
        self.counts.editingFinished.connect(self._counted)
        self.column.addWidget(labelled("Levels", self.counts))
        self.triangles = self._limit(
            "Most triangles", "most_triangles", 10_000_000, "", "Of the first level; 0 for no limit"
        )
        self.bytes = self._limit(
            "Largest file", "most_bytes", 4000, "MB", "Of the first level; 0 for no limit", 1e6
        )
        self.draws = self._limit(
            "Most draw calls", "most_draws", 10_000, "", "Of the first level; 0 for no limit"
        )
        self.column.addWidget(labelled("Triangles", self.triangles))
        self.column.addWidget(labelled("Size", self.bytes))
        self.column.addWidget(labelled("Draw calls", self.draws))
        self.packed = switch(
            "Game set",
            "Small numbers",
            "Writes numbers as small as an open extension allows: a third of the size, a thousandth of the precision",
            False,
        )
        self.packed.toggled.connect(self._pack)
        self.column.addWidget(self.packed)
        self.names = choice("Variant", "The same in other colours", {})
        self.names.currentIndexChanged.connect(lambda _: self._fill_variant())
        row = QWidget()
        side = QHBoxLayout(row)
        side.setContentsMargins(0, 0, 0, 0)
        side.setSpacing(4)
        side.addWidget(self.names, 1)
        self.more = self._small(
            "Add", "Add a variant", "One more, a third of the way round the colours", self._add
        )
        self.less = self._small(
            "Take out", "Take the variant out", "Takes the chosen variant out of the set", self._remove
        )
        side.addWidget(self.more)
        side.addWidget(self.less)
        self.column.addWidget(row)
        self.hue = self._shade(
            "Hue of the variant", -180, 180, "°", "hue", "How far its colours are turned", 1.0
        )
        self.vivid = self._shade(
            "Vividness of the variant", -100, 200, "%", "vivid", "More or less colourful", 100.0
        )
        self.light = self._shade(
            "Lightness of the variant", -100, 200, "%", "light", "Lighter or darker", 100.0
        )
        self.column.addWidget(labelled("Hue", self.hue))
        self.column.addWidget(labelled("Vivid, light", self.vivid, self.light))
        self.which = choice("Level", "The level that is put into the scene", {})
        self.column.addWidget(labelled("Level", self.which))
        rows, _ = command_grid(desk.registry, (("game.level", "Level as parts"),), columns=1)
        self.column.addLayout(rows)
        self.says = Words()
        self.column.addWidget(self.says)
        self.button = QPushButton("Game set…")
        self.button.setObjectName("primary")
        command = desk.registry.commands["game.set"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("game.set"))
        self.column.addWidget(self.button)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed, self._gaming.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())
        self.fill()

    def _small(self, text: str, name: str, tip: str, run: Any) -> QPushButton:
        button = QPushButton(text)
        button.setStyleSheet("padding: 4px 8px;")
        button.setAccessibleName(name)
        button.setToolTip(tip)
        button.clicked.connect(lambda: run())
        return button

    def _limit(
        self, name: str, key: str, most: float, unit: str, tip: str, times: float = 1.0
    ) -> NumberField:
        field = NumberField(name, 0, most, suffix=unit, decimals=0 if times == 1 else 1, curve=3.0, tip=tip)
        field.settled.connect(lambda value: self._gaming.change(**{key: round(value * times)}))
        return field

    def _shade(
        self, name: str, low: float, high: float, unit: str, key: str, tip: str, share: float
    ) -> NumberField:
        field = NumberField(name, low, high, suffix=unit, decimals=0, tip=tip)
        field.settled.connect(lambda value: self._set_variant(key, value / share))
        return field

    def _counted(self) -> None:
        try:
            counts = counts_in(self.counts.text())
        except ValueError as error:
            self._studio.refuse(error)
            self.fill()
            return
        if counts != self._gaming.wish.counts:
            self._gaming.change(counts=counts)

    def _pack(self, on: bool) -> None:
        if on != self._gaming.wish.packed:
            self._gaming.change(packed=on)

    # -- variants ---------------------------------------------------------------------------------------

    def _chosen(self) -> int:
        return self.names.currentIndex()

    def _add(self) -> None:
        some = self._gaming.wish.variants
        names = {one.name for one in some}
        name = next(n for k in range(1, 99) if (n := f"Variant {k}") not in names)
        self._gaming.change(
            variants=(
                *some,
                Variant(name, 120.0 * ((len(some) + 1) % 3 or 1) - (180.0 if len(some) > 1 else 0.0)),
            )
        )
        self.fill()
        self.names.setCurrentIndex(self.names.count() - 1)

    def _remove(self) -> None:
        some, at = list(self._gaming.wish.variants), self._chosen()
        if 0 <= at < len(some):
            some.pop(at)
            self._gaming.change(variants=tuple(some))
            self.fill()

    def _set_variant(self, key: str, value: float) -> None:
        some, at = list(self._gaming.wish.variants), self._chosen()
        if 0 <= at < len(some):
            some[at] = replace(some[at], **{key: value})
            self._gaming.change(variants=tuple(some))

    def _fill_variant(self) -> None:
        some, at = self._gaming.wish.variants, self._chosen()
        there = 0 <= at < len(some)
        for field in (self.hue, self.vivid, self.light, self.less):
            field.setEnabled(there)
        if there:
            self.hue.set_value(some[at].hue)
            self.vivid.set_value(100 * some[at].vivid)
            self.light.set_value(100 * some[at].light)

    def level(self) -> int:
        """The level of detail that is chosen."""
        return max(self.which.currentIndex(), 0)

    def fill(self) -> None:
        """Say what is asked for."""
        wish = self._gaming.wish
        if not self.counts.hasFocus():
            self.counts.setText(", ".join(str(count) for count in wish.counts))
        self.triangles.set_value(wish.most_triangles)
        self.bytes.set_value(wish.most_bytes / 1e6)
        self.draws.set_value(wish.most_draws)
        self.packed.blockSignals(True)
        self.packed.setChecked(wish.packed)
        self.packed.blockSignals(False)
        names = [one.name for one in wish.variants]
        if [self.names.itemText(k) for k in range(self.names.count())] != names:
            at = self._chosen()
            self.names.blockSignals(True)
            self.names.clear()
            self.names.addItems(names)
            self.names.setCurrentIndex(min(max(at, 0), len(names) - 1))
            self.names.blockSignals(False)
        self._fill_variant()
        levels = [f"{k}: {count_text(count)} triangles" for k, count in enumerate(wish.counts)]
        if [self.which.itemText(k) for k in range(self.which.count())] != levels:
            at = self.level()
            self.which.clear()
            self.which.addItems(levels)
            self.which.setCurrentIndex(min(at, len(levels) - 1))
        if self.body.isVisible():
            parts = self._gaming.parts()
            now = sum(
                part.mesh.topology.n_triangles for part in parts if not isinstance(part.mesh, LooseMesh)
            )
            self.says.setText(f"{count_text(now)} triangles in {len(parts)} visible parts now.")
