"""Preferences, and the card where one tries one's pen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QTabletEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kneten.app.fields.fields import CurveField, labelled
from kneten.app.fields.quantities import use_comma
from kneten.app.work.panel import Panel
from kneten.app.work.preferences import PEN_ACTIONS
from kneten.core.falloff import PRESSURE_LINEAR, Points, curve_at
from kneten.formats.space import UNITS
from kneten.render.style import EFFECTS

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


class SetupPanel(Panel):
    """What is set once and stays."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window, "Preferences", 560, 420)
        self._window = window
        preferences = window.studio.preferences
        self.theme = self._choice(
            "Theme", "Kiln is dark, Porcelain light", [("Kiln", "kiln"), ("Porcelain", "porcelain")]
        )
        self.theme.activated.connect(lambda _: self._theme())
        self.text = self._choice(
            "Text",
            "How large words and numbers are",
            [(f"{size} %", size / 100) for size in (100, 115, 130, 150)],
        )
        self.text.activated.connect(lambda _: self._own(text_scale=self.text.currentData()))
        self.follow = self._check(
            "As the desktop has it", "Theme, size of text and motion follow the desktop's settings", True
        )
        self.follow.toggled.connect(self._follow)
        self.unit = self._choice("Unit", "In which lengths are shown", [(name, name) for name in UNITS])
        self.unit.activated.connect(lambda _: self._unit())
        self.effects = self._choice(
            "Effects",
            "What is drawn besides form and light",
            [("As fast as it draws", -1), *((name, i) for i, name in enumerate(EFFECTS))],
        )
        self.effects.activated.connect(lambda _: window.view.set_effects(self.effects.currentData()))
        self.comma = self._check(
            "Numbers with a comma", "2,5 instead of 2.5; both may be typed", preferences.comma
        )
        self.comma.toggled.connect(self._comma)
        self.still = self._check(
            "No motion", "The camera jumps instead of moving; nothing blinks by itself", preferences.still
        )
        self.still.toggled.connect(lambda on: on == preferences.still or self._own(still=on))
        self.stay = self._check(
            "Notices stay", "What Kneten says stays until it is dismissed", preferences.notices_stay
        )
        self.stay.toggled.connect(lambda on: setattr(preferences, "notices_stay", on))
        label = QLabel("Pen")
        label.setObjectName("heading")
        self.column.addWidget(label)
        actions: list[tuple[str, object]] = [(name, key) for key, name in PEN_ACTIONS.items()]
        self.pen: dict[str, QComboBox] = {}
        for which in ("lower", "upper"):
            box = self._choice(
                f"{which.capitalize()} button", "What this button on the pen's side does", actions
            )
            box.activated.connect(
                lambda _, which=which, box=box: preferences.pen_buttons.__setitem__(which, box.currentData())
            )
            self.pen[which] = box
        row = QHBoxLayout()
        for name, key in (("Try your pen…", "edit.pen"), ("Shortcuts…", "edit.shortcuts")):
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.setToolTip(window.registry.tip(window.registry.commands[key]))
            button.clicked.connect(lambda _=False, key=key: (self.leave(), window.registry.run(key)))
            row.addWidget(button)
        row.addStretch(1)
        self.column.addLayout(row)
        self.column.addStretch(1)

    def _choice(self, name: str, tip: str, entries: list[tuple[str, object]]) -> QComboBox:
        box = QComboBox()
        for text, data in entries:
            box.addItem(text, data)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        self.column.addWidget(labelled(name, box))
        return box

    def _check(self, name: str, tip: str, on: bool) -> QCheckBox:
        box = QCheckBox(name)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.setChecked(on)
        self.column.addWidget(box)
        return box

    def open(self) -> None:
        """Show what is set."""
        preferences = self._window.studio.preferences
        for box, value in (
            (self.theme, preferences.theme),
            (self.unit, self._window.studio.project.settings.unit),
            (self.effects, preferences.effects),
            *((box, preferences.pen_buttons[which]) for which, box in self.pen.items()),
        ):
            box.setCurrentIndex(max(box.findData(value), 0))
        self._show_own()
        super().open()
        self.theme.setFocus()

    def _show_own(self) -> None:
        preferences = self._window.studio.preferences
        self.follow.setChecked(preferences.follow_desktop)
        self.still.setChecked(preferences.still)
        sizes = [self.text.itemData(at) for at in range(self.text.count())]
        nearest = min(sizes, key=lambda size: abs(size - preferences.text_scale))
        self.text.setCurrentIndex(sizes.index(nearest))

    def _theme(self) -> None:
        if self.theme.currentData() != self._window.studio.preferences.theme:
            self._window.switch_theme()
            self._show_own()

    def _own(self, **values: object) -> None:
        """What the user sets is no longer the desktop's to say."""
        preferences = self._window.studio.preferences
        for name, value in values.items():
            setattr(preferences, name, value)
        preferences.follow_desktop = False
        self._window.dress(self._window.theme)
        self._show_own()

    def _follow(self, on: bool) -> None:
        self._window.studio.preferences.follow_desktop = on
        if on and self._window.wishes is not None:
            self._window.wishes.changed.emit()
            self._show_own()

    def _unit(self) -> None:
        self._window.studio.project.change_settings(unit=self.unit.currentData())
        self._window.fill_card("place_card")

    def _comma(self, on: bool) -> None:
        self._window.studio.preferences.comma = on
        use_comma(on)
        self._window.studio.tool_changed.emit()
        self._window.fill_card("place_card")
        self._window.fill_card("view_card")


class PenPad(QWidget):
    """Paper to draw on: as wide as the pressure makes it, and the pressures seen so far."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(300, 200)
        self.setAccessibleName("Draw here")
        self.setToolTip("Draw here with your pen, lightly and firmly")
        self.setTabletTracking(True)
        self.curve: Points = PRESSURE_LINEAR
        self.ink = QColor("#ece5db")
        self.paper = QColor("#181513")
        self.marks: list[tuple[QPointF, float, bool]] = []
        self.tilt = 0.0

    def clear(self) -> None:
        """Clean paper."""
        self.marks.clear()
        self.update()

    def add(self, at: QPointF, pressure: float, begins: bool) -> None:
        """A point of a stroke."""
        self.marks.append((at, pressure, begins))
        self.update()

    def tabletEvent(self, event: QTabletEvent) -> None:  # noqa: N802
        pressed = event.type() == QEvent.Type.TabletPress
        self.tilt = max(abs(event.xTilt()), abs(event.yTilt()))
        if pressed or (event.type() == QEvent.Type.TabletMove and event.pressure() > 0):
            self.add(event.position(), event.pressure(), pressed)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.add(event.position(), 1.0, True)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.add(event.position(), 1.0, False)

    def range(self) -> tuple[float, float]:
        """Least and greatest pressure seen."""
        pressures = [pressure for _, pressure, _ in self.marks]
        return (min(pressures), max(pressures)) if pressures else (0.0, 0.0)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.paper)
        painter.drawRoundedRect(QRectF(self.rect()), 6, 6)
        before = None
        for at, pressure, begins in self.marks:
            if before is not None and not begins:
                wide = 1.0 + 18.0 * curve_at(self.curve, pressure)
                pen = QPen(self.ink, wide, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap)
                painter.setPen(pen)
                painter.drawLine(before, at)
            before = at


class PenPanel(Panel):
    """Where one draws, sees one's pressures, and shapes the curve of the tool in hand."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window, "Try your pen", 640, 520)
        self._window = window
        hint = QLabel(
            "Draw lightly, then as firmly as you like to. The curve turns your pressure (from left to right) into "
            "the tool's strength; “Fit” sets it to the pressures you drew with."
        )
        hint.setWordWrap(True)
        hint.setObjectName("quiet")
        self.column.addWidget(hint)
        row = QHBoxLayout()
        self.pad = PenPad()
        row.addWidget(self.pad, 2)
        side = QVBoxLayout()
        self.curve = CurveField("Pressure curve", "From a light touch (left) to full pressure (right)", False)
        self.curve.changed.connect(self._shaped)
        side.addWidget(self.curve)
        self.told = QLabel()
        self.told.setWordWrap(True)
        self.told.setObjectName("quiet")
        side.addWidget(self.told)
        side.addStretch(1)
        for name, tip, run in (
            ("Fit", "Sets the curve to the pressures you drew with", self.fit),
            ("Even", "Strength follows pressure evenly", lambda: self._shaped(PRESSURE_LINEAR)),
            ("Clean paper", "Takes away what was drawn here", self.pad.clear),
            ("For all tools", "Every tool follows your pen by this curve", self.for_all),
        ):
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, run=run: run())
            side.addWidget(button)
        row.addLayout(side, 1)
        self.column.addLayout(row, 1)

    def open(self) -> None:
        """Clean paper and the present curve."""
        theme = self._window.theme
        self.pad.ink, self.pad.paper = QColor(theme.text), QColor(theme.base)
        self.pad.clear()
        self._show(self._window.studio.settings().pressure_curve)
        super().open()

    def _show(self, points: Points) -> None:
        self.curve.set_points(points)
        self.pad.curve = points
        self.pad.update()

    def _shaped(self, points: Points) -> None:
        self._show(points)
        self._window.studio.set_brush(pressure_curve=points)

    def fit(self) -> None:
        """Lay the curve over the range of pressures that was drawn with."""
        low, high = self.pad.range()
        if high - low < 0.05:
            self.told.setText("Draw a light and a firm line first; all pressures were alike.")
            return
        low, high = max(low, 0.01), min(high, 0.99)
        self._shaped(((0.0, 0.0), (low, 0.02), (high, 1.0), (1.0, 1.0)))
        self.told.setText(f"Your pressures lie between {low * 100:.0f} and {high * 100:.0f} %.")

    def for_all(self) -> None:
        """Every tool by this curve."""
        from dataclasses import replace

        from kneten.core.brushes.toolbox import TOOLS

        preferences = self._window.studio.preferences
        for key in TOOLS:
            preferences.hold(key, replace(preferences.settings(key), pressure_curve=self.pad.curve))
        self._window.studio.tool_changed.emit()
        self.told.setText("All tools follow your pen by this curve.")
