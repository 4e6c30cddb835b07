"""All shortcuts: shown, searched, changed, exported; two that clash are shown and not taken."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QKeySequenceEdit,
    QLabel,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
)

from kneten.app.work import dialogs
from kneten.app.work.key_page import write_keys
from kneten.app.work.panel import Panel
from kneten.document.arrays_file import replacing
from kneten.formats.pieces import FormatError

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

HELD_NAMES = {
    "pan": "While held: move the picture",
    "feel": "While held: feel size and strength",
    "lamp": "While held: drag the lamp",
}


class KeysField(QKeySequenceEdit):
    """Keys as they are pressed; Escape is nobody's shortcut and leaves."""

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            event.ignore()
        else:
            super().keyPressEvent(event)


class ShortcutPanel(Panel):
    """A list of commands with their keys."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window, "Shortcuts", 720, 620)
        self._window = window
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find by name or key")
        self.field.setAccessibleName("Find a shortcut")
        self.field.textChanged.connect(self.fill)
        self.column.addWidget(self.field)
        self.list = QTreeWidget()
        self.list.setHeaderLabels(["Command", "Keys", "About"])
        self.list.setRootIsDecorated(False)
        self.list.setAccessibleName("Commands and their shortcuts")
        self.list.setToolTip("Choose a command, then press new keys below")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.list.header().setStretchLastSection(False)
        self.list.currentItemChanged.connect(self._chosen)
        self.column.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.keys = KeysField()
        self.keys.setMaximumSequenceLength(1)
        self.keys.setAccessibleName("New keys")
        self.keys.setToolTip("Press the keys that shall run the chosen command")
        self.keys.editingFinished.connect(self._try)
        row.addWidget(self.keys, 1)
        for name, tip, run in (
            ("None", "The chosen command has no shortcut", lambda: self.change("")),
            ("As it was", "The chosen command has the shortcut it came with", self.reset),
            ("All as they were", "Every command has the shortcut it came with", self.reset_all),
            ("Export…", "Writes the list as a page to print, or as a text file", self.ask_export),
        ):
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.setToolTip(tip)
            button.setAutoDefault(False)
            button.clicked.connect(lambda _=False, run=run: run())
            row.addWidget(button)
        self.column.addLayout(row)
        self.told = QLabel()
        self.told.setWordWrap(True)
        self.told.setObjectName("quiet")
        self.column.addWidget(self.told)

    def open(self) -> None:
        """Show all."""
        if not self.isVisible():
            self.field.clear()
            self.fill()
        super().open()
        self.field.setFocus()

    def _rows(self) -> list[tuple[str, str, str, str]]:
        registry = self._window.registry
        rows = [(c.key, c.name, registry.shortcut(c.key), c.place) for c in registry.commands.values()]
        held = self._window.studio.preferences.held_keys
        return rows + [(f"held.{key}", name, held[key], "Held keys") for key, name in HELD_NAMES.items()]

    def fill(self) -> None:
        """Show what fits the search."""
        chosen = self.chosen
        words = self.field.text().lower().split()
        self.list.clear()
        for key, name, keys, place in self._rows():
            shown = QKeySequence(keys).toString(QKeySequence.SequenceFormat.NativeText)
            if all(word in f"{name} {shown} {place}".lower() for word in words):
                item = QTreeWidgetItem([name, shown, place])
                item.setData(0, Qt.ItemDataRole.UserRole, key)
                self.list.addTopLevelItem(item)
                if key == chosen:
                    self.list.setCurrentItem(item)

    @property
    def chosen(self) -> str:
        """Key of the chosen command, or ""."""
        item = self.list.currentItem()
        return str(item.data(0, Qt.ItemDataRole.UserRole)) if item is not None else ""

    def _chosen(self) -> None:
        for key, _, keys, _ in self._rows():
            if key == self.chosen:
                self.keys.setKeySequence(QKeySequence(keys))
        self.told.setText("")

    def _try(self) -> None:
        self.change(self.keys.keySequence().toString(QKeySequence.SequenceFormat.PortableText))

    def change(self, keys: str) -> bool:
        """Give the chosen command other keys; False, with the reason shown, when they are taken."""
        key = self.chosen
        if not key:
            self.told.setText("Choose a command first.")
            return False
        for other, name, taken, _ in self._rows():
            if keys and other != key and taken == keys:
                self.told.setText(
                    f"{keys} belongs to “{name}” already. Choose other keys, or free them there."
                )
                return False
        if key.startswith("held."):
            if not keys or "+" in keys.rstrip("+"):
                self.told.setText("A held key is one key alone.")
                return False
            self._window.studio.preferences.held_keys[key[5:]] = keys
        else:
            self._window.set_shortcut(key, keys)
        self.told.setText("")
        self.fill()
        return True

    def reset(self) -> None:
        """The chosen command as it came."""
        from kneten.app.work.preferences import HELD_KEYS

        key = self.chosen
        if key.startswith("held."):
            self.change(HELD_KEYS[key[5:]])
        elif key:
            self.change(self._window.registry.commands[key].shortcut)

    def reset_all(self) -> None:
        """All as they came."""
        from kneten.app.work.preferences import HELD_KEYS

        preferences = self._window.studio.preferences
        preferences.held_keys = dict(HELD_KEYS)
        preferences.shortcuts.clear()
        self._window.registry.set_shortcuts({})
        self.fill()

    def ask_export(self) -> None:
        """Ask for a file and write the list to it."""
        path = dialogs.ask_save(
            self._window, "Export shortcuts", "kneten-shortcuts.pdf", "Page to print (*.pdf);;Text (*.txt)"
        )
        if path is not None:
            self.export(path)

    def export(self, path: Path) -> None:
        """Write all commands that have a shortcut, by what they are about: as a page to print, or as text, by the ending."""
        groups: dict[str, list[tuple[str, str]]] = {}
        for _, name, keys, about in sorted(self._rows(), key=lambda row: row[3]):
            if keys:
                groups.setdefault(about, []).append((name, keys))
        if path.suffix.lower() == ".pdf":
            try:
                write_keys(path, "Kneten's shortcuts", groups)
            except FormatError as error:
                self._window.studio.say(str(error), "warning")
                return
            self._window.studio.say(f"Exported {path.name}.")
            return
        lines = []
        for about, rows in groups.items():
            lines += ["", about, *(f"  {keys:<18}{name}" for name, keys in rows)]
        with replacing(path) as file:
            file.write(("Kneten's shortcuts\n" + "\n".join(lines) + "\n").encode())
        self._window.studio.say(f"Exported {path.name}.")
