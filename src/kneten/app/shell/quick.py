"""The quick card: what one reaches for while sculpting, at the cursor."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, QSize, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.fields.theme import glyph
from kneten.core.brushes.toolbox import TOOLS
from kneten.document.look import LOOKS

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

STEPS = 4


class QuickCard(QFrame):
    """Last tools, size, strength, look, and the last steps to undo."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window)
        self.setObjectName("notice")
        self.setAccessibleName("Quick card")
        self._window = window
        self._studio = window.studio
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 12)
        column.setSpacing(6)
        self._tools = QHBoxLayout()
        self._tools.setSpacing(4)
        column.addLayout(self._tools)
        self.radius = NumberField("Size", 2, 400, suffix="px", curve=2, tip="Radius of the brush on screen")
        self.radius.changed.connect(lambda v: self._studio.set_brush(size=v))
        self.strength = NumberField("Strength", 0, 100, suffix="%", tip="How much each dab does")
        self.strength.changed.connect(lambda v: self._studio.set_brush(strength=v / 100))
        self.look = QComboBox()
        self.look.setAccessibleName("Look")
        self.look.setToolTip("How the clay is shown")
        for key, (name, _) in LOOKS.items():
            self.look.addItem(name, key)
        self.look.activated.connect(lambda _: self._studio.set_look(kind=self.look.currentData()))
        for name, widget in (("Size", self.radius), ("Strength", self.strength), ("Look", self.look)):
            column.addWidget(labelled(name, widget))
        self._steps = QVBoxLayout()
        self._steps.setSpacing(2)
        column.addLayout(self._steps)
        self.tool_buttons: list[QToolButton] = []
        self.step_buttons: list[QPushButton] = []
        self.setFixedWidth(300)
        self.hide()

    def open(self, at: QPoint) -> None:
        """Show the card around a point of the window; the same again closes it."""
        if self.isVisible():
            self.leave()
            return
        self._fill()
        self.adjustSize()
        window = self.window()
        x = min(max(at.x() - self.width() // 2, 8), window.width() - self.width() - 8)
        y = min(max(at.y() - 40, 52), window.height() - self.height() - 8)
        self.move(x, y)
        self.show()
        self.raise_()
        if self.tool_buttons:
            self.tool_buttons[0].setFocus()

    def leave(self) -> None:
        """Take the card away."""
        self.hide()
        self._window.view.setFocus()

    def _fill(self) -> None:
        for button in (*self.tool_buttons, *self.step_buttons):
            button.hide()
            button.deleteLater()
        preferences = self._studio.preferences
        keys = [key for key in preferences.last_tools if key in TOOLS]
        keys += [key for key in TOOLS if key not in keys]
        self.tool_buttons = [self._tool(key) for key in keys[:5]]
        held = self._studio.settings()
        self.radius.set_value(held.size)
        self.strength.set_value(held.strength * 100)
        self.look.setCurrentIndex(list(LOOKS).index(self._studio.project.settings.look.kind))
        done = self._studio.project.history.names()[0]
        self.step_buttons = []
        for back, name in enumerate(reversed(done[-STEPS:]), 1):
            button = QPushButton(f"Undo {name}" if back == 1 else f"Undo to before {name}")
            button.setAccessibleName(button.text())
            button.setToolTip("Takes back this step and all after it")
            button.clicked.connect(lambda _=False, back=back: self._undo(back))
            self._steps.addWidget(button)
            self.step_buttons.append(button)

    def _tool(self, key: str) -> QToolButton:
        button = QToolButton()
        button.setObjectName("tool")
        button.setIcon(glyph(key, self._window.theme, 40))
        button.setIconSize(QSize(40, 28))
        button.setText(TOOLS[key].name)
        button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        button.setFixedSize(52, 56)
        button.setAccessibleName(TOOLS[key].name)
        button.setToolTip(TOOLS[key].does)
        button.clicked.connect(lambda: (self._window.registry.run(f"tool.{key}"), self.leave()))
        self._tools.addWidget(button)
        return button

    def _undo(self, steps: int) -> None:
        for _ in range(steps):
            self._window.registry.run("edit.undo")
        self.leave()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self.tool_buttons:
            focused = self.focusWidget()
            at = self.tool_buttons.index(focused) if focused in self.tool_buttons else 0
            step = 1 if event.key() == Qt.Key.Key_Right else -1
            self.tool_buttons[(at + step) % len(self.tool_buttons)].setFocus()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            button = self.focusWidget()
            if isinstance(button, QToolButton | QPushButton):
                button.click()
        else:
            super().keyPressEvent(event)
