"""Along the bottom: a slim bar that opens into milestones as pictures and undo steps in words."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QEnterEvent, QIcon, QPixmap
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

SOON = 180
"""Milliseconds the pointer rests on the bar before it opens: passing over it does nothing."""

LINGER = 450
"""Milliseconds after which it closes behind the pointer."""


class StripPanel(QWidget):
    """What the bar opens into: pictures and steps. Lies over the view, or below it while pinned."""

    HEIGHT = 112

    def __init__(self, strip: Strip, over: QWidget) -> None:
        super().__init__(over)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._strip = strip
        self.setFixedHeight(self.HEIGHT)

    def enterEvent(self, event: QEnterEvent) -> None:  # noqa: N802
        self._strip.pointed(True)

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self._strip.pointed(False)


class Strip(QWidget):
    """Milestones and history.

    Signals
    -------
    asked(Milestone, QPoint)
        A milestone was clicked.
    """

    asked = Signal(object, object)

    HEIGHT = 26

    def __init__(self, studio: Studio, registry: Registry, over: QWidget) -> None:
        super().__init__(over)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._studio = studio
        self._over = over
        self.panel = StripPanel(self, over)
        self._build_bar(registry)
        self._build_panel(registry)
        self.buttons: list[QToolButton] = []
        self._shown: tuple[str, ...] = ("-",)
        self._here = 0
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._turn)
        self._pointed = False
        self.panel.hide()
        studio.history_changed.connect(self.fill_steps)
        studio.scene_changed.connect(self.fill_pictures)

    def _build_bar(self, registry: Registry) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        bar = QWidget()
        bar.setFixedHeight(self.HEIGHT)
        row = QHBoxLayout(bar)
        row.setContentsMargins(12, 0, 8, 0)
        row.setSpacing(8)
        self.toggle = _flat("Milestones", "Shows milestones and undo steps, or hides them")
        self.toggle.clicked.connect(self.switch)
        keep = _flat("Keep this", registry.tip(registry.commands["edit.milestone"]))
        keep.setAccessibleName("Keep milestone")
        keep.clicked.connect(lambda: registry.run("edit.milestone"))
        self.now = QLabel()
        self.now.setObjectName("quiet")
        self.now.setAccessibleName("Last step")
        self.pin = _flat(
            "Pin", "Keeps milestones and undo steps open below the view, or lets them close again"
        )
        self.pin.setCheckable(True)
        self.pin.setChecked(self._studio.preferences.strip_pinned)
        self.pin.toggled.connect(self._pinned)
        for widget in (self.toggle, keep):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(self.now)
        row.addWidget(self.pin)
        self._column = column
        column.addWidget(bar)

    def _build_panel(self, registry: Registry) -> None:
        row = QHBoxLayout(self.panel)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(12)
        self.pictures = QWidget()
        self._pictures = QHBoxLayout(self.pictures)
        self._pictures.setContentsMargins(0, 0, 0, 0)
        self._pictures.setSpacing(8)
        self.none = QLabel(
            "A milestone keeps this state with a picture, to compare with and to come back to."
        )
        self.none.setObjectName("quiet")
        self.none.setWordWrap(True)
        self.first = QPushButton("Keep this state")
        self.first.setAccessibleName("Keep the first milestone")
        self.first.setToolTip(registry.tip(registry.commands["edit.milestone"]))
        self.first.clicked.connect(lambda: registry.run("edit.milestone"))
        self._pictures.addWidget(self.first)
        self._pictures.addWidget(self.none, 1)
        self._pictures.addStretch(1)
        row.addWidget(self.pictures, 1)
        self.steps = QListWidget()
        self.steps.setAccessibleName("Undo steps")
        self.steps.setToolTip("What you did, newest last. Click a step to go back or forth to it")
        self.steps.setFixedWidth(250)
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.steps.itemClicked.connect(self._go)
        row.addWidget(self.steps)

    # -- open and closed ------------------------------------------------------------------------

    def place(self) -> None:
        """Put the panel below the view while it is pinned, over its lower edge otherwise."""
        pinned = self.pin.isChecked()
        if pinned and self._column.indexOf(self.panel) < 0:
            self._column.addWidget(self.panel)
        elif not pinned and self._column.indexOf(self.panel) >= 0:
            self._column.removeWidget(self.panel)
            self.panel.setParent(self._over)
        self.setFixedHeight(self.HEIGHT + (StripPanel.HEIGHT if pinned else 0))
        if pinned:
            self.panel.show()
            self.fill_steps()
            return
        self.panel.setGeometry(0, self.y() - StripPanel.HEIGHT, self.width(), StripPanel.HEIGHT)
        self.panel.raise_()

    def _pinned(self, on: bool) -> None:
        self._studio.preferences.strip_pinned = on
        self.panel.hide()
        self.place()

    def switch(self) -> None:
        """Open the panel, or close it."""
        self._soon.stop()
        if self.pin.isChecked():
            self.pin.setChecked(False)
        elif self.panel.isVisible():
            self.panel.hide()
        else:
            self._open()

    def _open(self) -> None:
        self.place()
        self.fill_pictures()
        self.panel.show()
        self.fill_steps()
        self.panel.raise_()

    def pointed(self, on: bool) -> None:
        """The pointer is on bar or panel, or no longer."""
        self._pointed = on
        self._soon.start(SOON if on else LINGER)

    def _turn(self) -> None:
        if self.pin.isChecked() or not self.isVisible():
            return
        if self._pointed and not self.panel.isVisible() and not self._studio.at_work():
            self._open()
        elif not self._pointed and not self.steps.hasFocus():
            self.panel.hide()

    def enterEvent(self, event: QEnterEvent) -> None:  # noqa: N802
        self.pointed(True)

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self.pointed(False)

    def hideEvent(self, event: object) -> None:  # noqa: N802
        self.panel.hide()

    # -- contents -------------------------------------------------------------------------------

    def fill_pictures(self) -> None:
        """Show the newest milestones that fit."""
        milestones = self._studio.project.scene.milestones
        room = max((self.width() - 320) // (PICTURE.width() + 20), 1)
        ids = (str(room), *(f"{m.id} {m.name} {m.note}" for m in milestones))
        if ids == self._shown:
            return
        self._shown = ids
        for button in self.buttons:
            button.hide()
            button.deleteLater()
        self.buttons = [self._button(m) for m in milestones[-room:]]
        for i, button in enumerate(self.buttons):
            self._pictures.insertWidget(i, button)
        self.none.setVisible(not milestones)
        self.first.setVisible(not milestones)
        self.toggle.setText(f"Milestones  {len(milestones)}" if milestones else "Milestones")

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
        """Show what can be undone and redone: in the bar the last of it, all of it where the list is open."""
        done, undone = self._studio.project.history.names()
        self.now.setText(done[-1] if done else "")
        if self.panel.isHidden():
            # Two hundred rows after each stroke would be made for nobody.
            return
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
        project, studio = self._studio.project, self._studio
        for _ in range(abs(steps)):
            touched = project.undo_touches() if steps < 0 else project.redo_touches()
            if busy := studio.any_at_work(touched):
                studio.say(busy)
                return
            if steps < 0:
                project.undo()
            else:
                project.redo()


def _flat(text: str, tip: str) -> QToolButton:
    button = QToolButton()
    button.setObjectName("flat")
    button.setText(text)
    button.setAccessibleName(text)
    button.setToolTip(tip)
    return button
