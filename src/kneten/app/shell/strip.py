"""Along the bottom: milestones as pictures, and the undo steps in words."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.work.commands import Registry
from kneten.app.work.studio import Studio
from kneten.document.scene import Milestone

PICTURE = QSize(104, 65)
MOST_STEPS = 200


class Strip(QWidget):
    """Milestones and history.

    Signals
    -------
    asked(Milestone, QPoint)
        A milestone was clicked.
    """

    asked = Signal(object, object)

    HEIGHT = 116

    def __init__(self, studio: Studio, registry: Registry) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._studio = studio
        self.setFixedHeight(self.HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(12)
        left = QVBoxLayout()
        heading = QLabel("Milestones")
        heading.setObjectName("heading")
        keep = QPushButton("Keep this")
        keep.setAccessibleName("Keep milestone")
        keep.setToolTip(registry.tip(registry.commands["edit.milestone"]))
        keep.clicked.connect(lambda: registry.run("edit.milestone"))
        left.addWidget(heading)
        left.addWidget(keep)
        left.addStretch(1)
        row.addLayout(left)
        self.pictures = QWidget()
        self._pictures = QHBoxLayout(self.pictures)
        self._pictures.setContentsMargins(0, 0, 0, 0)
        self._pictures.setSpacing(8)
        self._pictures.addStretch(1)
        row.addWidget(self.pictures, 1)
        self.steps = QListWidget()
        self.steps.setAccessibleName("Undo steps")
        self.steps.setToolTip("What you did, newest last. Click a step to go back or forth to it")
        self.steps.setFixedWidth(250)
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.steps.itemClicked.connect(self._go)
        row.addWidget(self.steps)
        self.buttons: list[QToolButton] = []
        self._shown: tuple[str, ...] = ("-",)
        studio.history_changed.connect(self.fill_steps)
        studio.scene_changed.connect(self.fill_pictures)

    def fill_pictures(self) -> None:
        """Show the newest milestones that fit."""
        milestones = self._studio.project.scene.milestones
        ids = tuple(f"{m.id} {m.name} {m.note}" for m in milestones)
        if ids == self._shown:
            return
        self._shown = ids
        for button in self.buttons:
            button.hide()
            button.deleteLater()
        room = max((self.width() - 420) // (PICTURE.width() + 20), 1)
        self.buttons = [self._button(m) for m in milestones[-room:]]
        for i, button in enumerate(self.buttons):
            self._pictures.insertWidget(i, button)

    def _button(self, milestone: Milestone) -> QToolButton:
        button = QToolButton()
        picture = QPixmap()
        picture.loadFromData(milestone.picture)
        button.setIcon(QIcon(picture))
        button.setIconSize(PICTURE)
        name = self.fontMetrics().elidedText(milestone.name, Qt.TextElideMode.ElideRight, PICTURE.width())
        button.setText(name)
        button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        button.setStyleSheet("padding: 3px; font-size: 12px;")
        button.setAccessibleName(f"Milestone {milestone.name}")
        note = f"\n{milestone.note}" if milestone.note else ""
        button.setToolTip(f"{milestone.name}: compare it with now, take from it, go back to it{note}")
        button.clicked.connect(
            lambda: self.asked.emit(milestone, button.mapToGlobal(button.rect().topLeft()))
        )
        return button

    def fill_steps(self) -> None:
        """Show what can be undone and redone."""
        done, undone = self._studio.project.history.names()
        self.steps.clear()
        for name in done[-MOST_STEPS:]:
            self.steps.addItem(QListWidgetItem(name))
        for name in reversed(undone[-MOST_STEPS:]):
            item = QListWidgetItem(name)
            item.setForeground(self.palette().placeholderText())
            self.steps.addItem(item)
        self._here = len(done[-MOST_STEPS:])
        if self._here:
            self.steps.setCurrentRow(self._here - 1)
            self.steps.scrollToItem(self.steps.item(self._here - 1))

    def _go(self, item: QListWidgetItem) -> None:
        steps = self.steps.row(item) + 1 - self._here
        project = self._studio.project
        for _ in range(abs(steps)):
            if steps < 0:
                project.undo()
            else:
                project.redo()
