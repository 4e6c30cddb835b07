"""The card of shapes: a dial for each, and what is done with those that are chosen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.signs import NameButton, Sign
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.shapes import LEAST_DIAL, MOST_DIAL
from kneten.document.driving import FoundShape
from kneten.document.shapes import recorded_shape

if TYPE_CHECKING:
    from kneten.app.benches.perform.shaping import Shaping
    from kneten.app.view.desk import Desk

MANY = 10
"""Shapes from which on they can be looked for by their names."""


class ShapeRow(QWidget):
    """One shape: recorded on or not, its name, its dial."""

    def __init__(self, desk: Desk, one: FoundShape) -> None:
        super().__init__()
        self._desk = desk
        self._shaping: Shaping = desk.shaping
        self.shape_id = one.id
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(2)
        part, theme = self._shaping.part, desk.theme
        recorded = part is not None and recorded_shape(part) == one.id
        self.record = Sign("record", recorded, theme.error if recorded else theme.quiet)
        self.record.setAccessibleName(f"Record on {one.name}")
        self.record.setToolTip("Strokes on all its parts go to this shape; once more: to the clay")
        self.record.clicked.connect(lambda: self._shaping.record_on("" if recorded else one.id))
        self.name = NameButton(one.name)
        self.name.setAccessibleName(f"Shape {one.name}")
        told = self._shaping.told(one)
        parts = len(one.layers)
        self.name.setToolTip(
            f"{one.name}, {parts} part{'s' if parts != 1 else ''}. {told + '. ' if told else ''}Ctrl chooses several"
        )
        self.name.clicked.connect(self._choose)
        self.dial = NumberField(
            f"Dial of {one.name}",
            LEAST_DIAL * 100,
            MOST_DIAL * 100,
            suffix="%",
            tip=told or "How much of it there is: drag, or type −50 to 150",
        )
        self.dial.setFixedWidth(76)
        self.dial.setEnabled(not one.shape.drivers)
        self.dial.changed.connect(lambda value: self._shaping.show(one.id, value / 100))
        self.dial.settled.connect(lambda value: self._shaping.keep(one.id, value / 100))
        for widget in (self.record, self.name, self.dial):
            row.addWidget(widget, 1 if widget is self.name else 0)
        self.refresh()

    def _choose(self) -> None:
        held = QGuiApplication.keyboardModifiers()
        self._shaping.choose(self.shape_id, bool(held & Qt.KeyboardModifier.ControlModifier))

    def refresh(self) -> None:
        """Show its dial, and whether it is chosen."""
        theme = self._desk.theme
        value = self._shaping.dial_of(self.shape_id)
        chosen = self.shape_id in self._shaping.chosen
        colour = theme.accent if chosen else theme.text if value else theme.quiet
        self.name.setStyleSheet(
            f"text-align: left; padding: 4px 2px; border: none; background: transparent; color: {colour};"
            f" font-weight: {'600' if chosen else '400'};"
        )
        self.dial.set_value(value * 100)


class ShapeCard(Card):
    """The shapes of the part in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Shapes", desk.studio)
        self._desk = desk
        self._shaping: Shaping = desk.shaping
        self.says = Words()
        self.column.addWidget(self.says)
        grid, self.buttons = command_grid(
            desk.registry,
            (
                ("shape.add", "New"), ("shape.record", "Record"), ("shape.neutral", "Neutral"),
                ("shape.play", "Play"), ("shape.show", "Show it"), ("shape.sheet", "Sheet"),
            ),
        )  # fmt: skip
        self.column.addLayout(grid)
        self.look = QLineEdit()
        self.look.setPlaceholderText("Look for a shape")
        self.look.setAccessibleName("Look for a shape")
        self.look.setToolTip("Lists only shapes with this in their names")
        self.look.textChanged.connect(lambda _: self.fill())
        self.column.addWidget(self.look)
        self.list = QWidget()
        self.list.setAccessibleName("Shapes")
        self.rows_column = QVBoxLayout(self.list)
        self.rows_column.setContentsMargins(0, 0, 0, 0)
        self.rows_column.setSpacing(1)
        self.long = QScrollArea()
        self.long.setWidgetResizable(True)
        self.long.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.long.setFrameShape(QFrame.Shape.NoFrame)
        self.long.setWidget(self.list)
        for one in (self.long, self.long.viewport(), self.list):
            one.setAutoFillBackground(False)
        self.long.setStyleSheet("QScrollArea, QScrollArea > QWidget > QWidget { background: transparent; }")
        self.column.addWidget(self.long)
        self.rows: list[ShapeRow] = []
        self.about = QWidget()
        about = QVBoxLayout(self.about)
        about.setContentsMargins(0, 4, 0, 0)
        about.setSpacing(6)
        self.column.addWidget(self.about)
        self._about_rows(about)
        self._known: object = None
        self._shaping.changed.connect(self.fill)
        self.fill()

    def _about_rows(self, rows: QVBoxLayout) -> None:
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the shape")
        self.name.setToolTip("What the shape is called, here and in files")
        self.name.editingFinished.connect(lambda: self._shaping.rename(self.name.text()))
        rows.addWidget(labelled("Name", self.name))
        self.action = QComboBox()
        self.action.setAccessibleName("Action of the shape")
        self.action.setToolTip("Which action of the facial action coding it is")
        self.action.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.action.addItem("Of its own", "")
        for key, one in ACTIONS.items():
            self.action.addItem(f"{key}  {one.name}", key)
            self.action.setItemData(self.action.count() - 1, one.moves, Qt.ItemDataRole.ToolTipRole)
        self.action.activated.connect(lambda _: self._shaping.set_action(str(self.action.currentData())))
        rows.addWidget(labelled("Action", self.action))
        self.moves = Words()
        rows.addWidget(self.moves)
        for title, keys in (
            (
                "Corrections",
                (
                    ("shape.correct", "Of dials"), ("shape.correct-joint", "Of joint"), ("shape.between", "In-between"),
                    ("shape.by-hand", "By hand"), ("shape.soft", "Soft"),
                ),
            ),
            (
                "Sides",
                (("shape.split", "Split"), ("shape.mirror", "Mirror"), ("shape.even", "Left to right")),
            ),
            (
                "The shape",
                (
                    ("shape.along", "Take along"), ("shape.off-mask", "Off mask"), ("shape.of-pose", "From pose"),
                    ("shape.copy", "Copy"), ("shape.merge", "Merge"), ("shape.remove", "Remove"),
                    ("shape.export", "Export"), ("shape.import", "Import"), ("shape.take", "Take mesh"),
                ),
            ),
        ):  # fmt: skip
            label = QLabel(title)
            label.setObjectName("quiet")
            rows.addWidget(label)
            grid, more = command_grid(self._desk.registry, keys)
            self.buttons |= more
            rows.addLayout(grid)
        self.border = NumberField(
            "Border",
            0.01,
            10_000,
            unit="mm",
            decimals=1,
            curve=3.0,
            tip="How softly the two halves of a shape meet",
        )
        self.border.changed.connect(self._shaping.set_border)
        rows.addWidget(labelled("Border", self.border))

    def fill(self) -> None:
        """Show the shapes of the part in hand."""
        shaping = self._shaping
        held = shaping.shapes
        part = shaping.part
        self.says.setText(shaping.words())
        self.buttons["shape.play"].setText("End" if shaping.plays else "Play")
        self.look.setVisible(len(held) >= MANY)
        wanted = self.look.text().strip().lower() if len(held) >= MANY else ""
        listed = [one for one in held.values() if wanted in one.name.lower()]
        known = (
            [(one.id, one.name, one.shape, len(one.layers)) for one in listed],
            recorded_shape(part) if part is not None else "",
            self._desk.theme.name,
        )
        if known != self._known:
            self._known = known
            for row in self.rows:
                self.rows_column.removeWidget(row)
                row.hide()
                row.deleteLater()
            self.rows = [ShapeRow(self._desk, one) for one in listed]
            for row in self.rows:
                self.rows_column.addWidget(row)
        else:
            for row in self.rows:
                row.refresh()
        self.long.setVisible(bool(listed))
        if self.rows:
            # What is done with them stays at hand, however many there are.
            shown = min(len(self.rows), MANY)
            self.long.setFixedHeight(shown * (self.rows[0].sizeHint().height() + 1) + 2)
        one = shaping.last
        self.about.setVisible(bool(held))
        for widget in (self.name, self.action):
            widget.setEnabled(one is not None)
        if not self.name.hasFocus():
            self.name.setText("" if one is None else one.name)
        with QSignalBlocker(self.action):
            self.action.setCurrentIndex(max(self.action.findData("" if one is None else one.shape.action), 0))
        self._say_what_moves(one)
        self.border.set_value(shaping.border)

    def _say_what_moves(self, one: FoundShape | None) -> None:
        words = ""
        if one is not None:
            action = ACTIONS.get(one.shape.action)
            words = "\n".join(
                some for some in (self._shaping.told(one), action.moves if action else "") if some
            )
        self.moves.setText(words)
        self.moves.setVisible(bool(words))
