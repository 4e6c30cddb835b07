"""The command finder: type a few letters, run any command."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from kneten.app.work.commands import Registry


class Finder(QFrame):
    """A field and a list, laid over the window."""

    def __init__(self, parent: QWidget, registry: Registry) -> None:
        super().__init__(parent)
        self.setObjectName("notice")
        self._registry = registry
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 12)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Find a command")
        self.field.textChanged.connect(self._search)
        self.field.installEventFilter(self)
        column.addWidget(self.field)
        self.list = QListWidget()
        self.list.setAccessibleName("Found commands")
        self.list.itemActivated.connect(lambda _: self._run())
        self.list.itemClicked.connect(lambda _: self._run())
        column.addWidget(self.list)
        self.hide()

    def open(self) -> None:
        """Show the finder, all commands listed."""
        window = self.window()
        width = min(560, window.width() - 40)
        self.setGeometry((window.width() - width) // 2, 60, width, min(430, window.height() - 120))
        self.field.clear()
        self._search("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _search(self, words: str) -> None:
        self.list.clear()
        for command in self._registry.search(words):
            keys = QKeySequence(self._registry.shortcut(command.key)).toString(
                QKeySequence.SequenceFormat.NativeText
            )
            reason = command.blocked()
            text = f"{command.name}   ·   {command.place}" + (f"   ·   {keys}" if keys else "")
            item = QListWidgetItem(text)
            item.setToolTip(reason or command.does)
            item.setData(Qt.ItemDataRole.UserRole, command.key)
            if reason:
                item.setForeground(self.palette().placeholderText())
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        item = self.list.currentItem()
        self.hide()
        if item is not None:
            self._registry.run(item.data(Qt.ItemDataRole.UserRole))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._run()
                return True
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                row = min(max(self.list.currentRow() + step, 0), self.list.count() - 1)
                self.list.setCurrentRow(row)
                return True
        return False
