"""Files for others: what kind, in which unit and axes, with presets, and one's own."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog, QPushButton

from kneten.app.fields.fields import Words, choice, labelled, switch
from kneten.app.work import dialogs
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.preferences import ExportWish
from kneten.formats.exchange import ENDINGS, KINDS
from kneten.formats.space import UNITS, Space

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PRESETS: dict[str, tuple[str, str, ExportWish]] = {
    "game": (
        "Games",
        "GLB with materials, maps, joints, shapes and clips, metres, y up",
        ExportWish(".glb", "m", "y"),
    ),
    "film": (
        "Film",
        "USD crate with subdivision, materials, joints and shapes, centimetres, y up",
        ExportWish(".usdc", "cm", "y"),
    ),
    "print": ("Print", "3MF with colours, millimetres, z up", ExportWish(".3mf", "mm", "z")),
    "web": ("Web", "GLB with small numbers, metres, y up", ExportWish(".glb", "m", "y", packed=True)),
}


class Exports(QObject):
    """Commands of the card Files."""

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio

    def none(self) -> str:
        """Why there is nothing to write."""
        card = self._desk.files_card
        some = [part for part in self._studio.project.scene.parts if part.visible or not card.wish().visible]
        return "" if some else "No part is visible."

    def own(self) -> dict[str, ExportWish]:
        """Settings that were kept, by name."""
        return self._studio.preferences.exports

    def none_own(self) -> str:
        """Why none can be forgotten."""
        return (
            ""
            if self._desk.files_card.chosen() in self.own()
            else "None of your own is chosen on the card Files."
        )

    def export(self) -> None:
        """Write a file as the card says."""
        wish = self._desk.files_card.wish()
        stem = self._studio.project.path.stem if self._studio.project.path else "clay"
        path = dialogs.ask_save(
            self._desk, "Export", f"{stem}{wish.ending}", f"{KINDS[wish.ending][0]} (*{wish.ending})"
        )
        if path is not None:
            self.export_to(path)

    def export_to(self, path: Path) -> None:
        """Write a file as the card says."""
        wish = self._desk.files_card.wish()
        if path.suffix.lower() != wish.ending:
            path = path.with_name(path.name + wish.ending)
        parts = [part for part in self._studio.project.scene.parts if part.visible or not wish.visible]
        self._studio.export_path(path, parts, Space(wish.unit, wish.up), wish.text, wish.packed)

    def keep(self) -> None:
        """Keep what the card says under a name."""
        name, agreed = QInputDialog.getText(self._desk, "Keep export settings", "Name")
        if agreed and name.strip():
            self.keep_as(name.strip())

    def keep_as(self, name: str) -> None:
        """Keep what the card says."""
        preferences = self._studio.preferences
        preferences.exports = {**preferences.exports, name: self._desk.files_card.wish()}
        self.changed.emit()
        self._desk.files_card.choose(name)
        self._studio.say(f"Kept as {name}.")

    def forget(self) -> None:
        """Take settings of one's own out of the list."""
        name = self._desk.files_card.chosen()
        preferences = self._studio.preferences
        preferences.exports = {key: one for key, one in preferences.exports.items() if key != name}
        self.changed.emit()


class FilesCard(Card):
    """What a file for others is to be."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Files", desk.studio)
        self._desk = desk
        self._exports = desk.exports
        self.preset = choice("Files for", "Sets kind, unit and axes", {})
        self.preset.activated.connect(lambda _: self._take())
        self.column.addWidget(labelled("For", self.preset))
        self.kind = choice("Kind of file", "What is written", {key: KINDS[key] for key in ENDINGS})
        self.kind.activated.connect(lambda _: self._other())
        self.unit = choice(
            "Unit of the file", "What a length of 1 in the file is", {key: (key, key) for key in UNITS}
        )
        self.unit.activated.connect(lambda _: self._other())
        self.up = choice(
            "Up in the file",
            "The axis that points up",
            {"y": ("y up", "y points up"), "z": ("z up", "z points up")},
        )
        self.up.activated.connect(lambda _: self._other())
        for box in (self.unit, self.up):
            box.setMinimumContentsLength(2)
        self.column.addWidget(labelled("Kind", self.kind))
        self.column.addWidget(labelled("Unit, up", self.unit, self.up))
        self.visible = switch("Files", "Only visible parts", "Hidden parts are left out", True)
        self.packed = switch("Files", "Small numbers", "Of GLB: as small as an open extension allows", False)
        self.text = switch("Files", "As readable text", "Of PLY and STL: larger, but can be read", False)
        for tick in (self.visible, self.packed, self.text):
            tick.toggled.connect(lambda _: self._other())
            self.column.addWidget(tick)
        self.says = Words()
        self.column.addWidget(self.says)
        rows, _ = command_grid(
            desk.registry, (("deliver.keep", "Keep…"), ("deliver.forget", "Forget")), columns=2
        )
        self.column.addLayout(rows)
        self.button = QPushButton("Export…")
        self.button.setObjectName("primary")
        command = desk.registry.commands["deliver.export"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("deliver.export"))
        self.column.addWidget(self.button)
        self._exports.changed.connect(self._list)
        self._list()
        self.choose("game")

    def _list(self) -> None:
        """List presets, and one's own."""
        now = self.chosen()
        self.preset.clear()
        self.preset.addItem("As below", "")
        for key, (name, does, _) in PRESETS.items():
            self.preset.addItem(name, key)
            self.preset.setItemData(self.preset.count() - 1, does, 3)
        for name in self._exports.own():
            self.preset.addItem(name, name)
        self.preset.setCurrentIndex(max(self.preset.findData(now), 0))

    def chosen(self) -> str:
        """The preset that is chosen; "" for none."""
        return str(self.preset.currentData() or "")

    def choose(self, key: str) -> None:
        """Take a preset."""
        self.preset.setCurrentIndex(max(self.preset.findData(key), 0))
        self._take()

    def _take(self) -> None:
        key = self.chosen()
        own = self._exports.own()
        if key in own:
            self._show(own[key])
        elif key in PRESETS:
            self._show(PRESETS[key][2])
            self.says.setText(PRESETS[key][1])

    def _show(self, wish: ExportWish) -> None:
        for box, value in ((self.kind, wish.ending), (self.unit, wish.unit), (self.up, wish.up)):
            box.setCurrentIndex(max(box.findData(value), 0))
        for tick, on in ((self.visible, wish.visible), (self.packed, wish.packed), (self.text, wish.text)):
            tick.blockSignals(True)
            tick.setChecked(on)
            tick.blockSignals(False)
        self._fit()

    def _other(self) -> None:
        """What stands here is no preset any more, unless it is one."""
        known = {key: one for key, (_, _, one) in PRESETS.items()} | self._exports.own()
        wish = self.wish()
        key = next((key for key, one in known.items() if one == wish), "")
        self.preset.setCurrentIndex(max(self.preset.findData(key), 0))
        self._fit()

    def _fit(self) -> None:
        """Offer what the kind of file has."""
        ending = str(self.kind.currentData())
        self.packed.setVisible(ending in (".glb", ".gltf"))
        self.text.setVisible(ending in (".ply", ".stl"))
        self.says.setText(KINDS[ending][1])

    def wish(self) -> ExportWish:
        """What stands on the card."""
        ending = str(self.kind.currentData())
        wish = ExportWish(
            ending, str(self.unit.currentData()), str(self.up.currentData()), self.visible.isChecked(),
            self.packed.isChecked(), self.text.isChecked(),
        )  # fmt: skip
        wish = wish if ending in (".glb", ".gltf") else replace(wish, packed=False)
        return wish if ending in (".ply", ".stl") else replace(wish, text=False)
