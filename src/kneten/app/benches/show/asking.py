"""What is asked before a sheet or a reel is made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kneten.app.fields.fields import labelled
from kneten.app.work.dialogs import agree_or_not, whole_number
from kneten.core.light.page import PAPERS
from kneten.core.light.reel import Reel

SHOWN: dict[str, str] = {
    "cameras": "Cameras",
    "milestones": "Milestones and now",
    "parts": "Visible parts, each by itself",
    "shapes": "Shapes, each by itself",
    "poses": "Poses that are kept",
    "before-after": "Before and after",
}
"""What a sheet may show."""

NOW = "Now"


class SheetDialog(QDialog):
    """What is on a sheet, and what it is on."""

    def __init__(
        self,
        parent: QWidget,
        title: str,
        milestones: Sequence[str],
        named: Mapping[str, Sequence[tuple[str, str]]],
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Export a sheet")
        self._named = named
        column = _column(self)
        self.entries = QListWidget()
        self.entries.setAccessibleName("What is on the sheet")
        self.entries.setMaximumHeight(150)
        self.shown, self.paper = _choice(SHOWN), _choice({key: name for key, (name, _, _) in PAPERS.items()})
        self.heading = QLineEdit(title)
        states = {str(k): name for k, name in enumerate((*milestones, NOW))}
        self.before, self.after = _choice(states), _choice(states)
        self.after.setCurrentIndex(len(states) - 1)
        self.across = whole_number(400, 16000, 3508, " px")
        self._rows = {}
        for name, box in (
            ("Shows", self.shown),
            ("Before", self.before),
            ("After", self.after),
            ("Heading", self.heading),
            ("Paper", self.paper),
            ("Width as PNG", self.across),
        ):
            box.setAccessibleName(name)
            self._rows[name] = labelled(name, box)
            column.addWidget(self._rows[name])
            if name == "Shows":
                column.addWidget(self.entries)
        column.addWidget(agree_or_not(self))
        self.shown.currentIndexChanged.connect(self._fit)
        self._fit()

    def _fit(self) -> None:
        shown = self.shown.currentData()
        for name in ("Before", "After"):
            self._rows[name].setVisible(shown == "before-after")
        self.entries.clear()
        self.entries.setVisible(shown in self._named)
        for key, name in self._named.get(shown, ()):
            entry = QListWidgetItem(name)
            entry.setData(Qt.ItemDataRole.UserRole, key)
            entry.setCheckState(Qt.CheckState.Checked)
            self.entries.addItem(entry)

    def chosen(self) -> set[str]:
        """Ids of what is to be on the sheet."""
        entries = (self.entries.item(row) for row in range(self.entries.count()))
        return {
            str(entry.data(Qt.ItemDataRole.UserRole))
            for entry in entries
            if entry.checkState() == Qt.CheckState.Checked
        }


class ReelDialog(QDialog):
    """How the work is played."""

    def __init__(self, parent: QWidget, words: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Export a reel")
        column = _column(self)
        told = QLabel(words)
        told.setWordWrap(True)
        column.addWidget(told)
        usual = Reel()
        self.wide, self.high = whole_number(16, 8192, 1280, " px"), whole_number(16, 8192, 720, " px")
        self.pace = whole_number(1, 240, round(usual.pace), " a second")
        self.seconds, self.rest = _number(0.5, 600, usual.seconds, " s"), _number(0, 60, usual.rest, " s")
        self.turns = _number(-20, 20, usual.turns, "")
        for name, box in (
            ("Length", self.seconds),
            ("Rest at the end", self.rest),
            ("Turns of the camera", self.turns),
            ("Width", self.wide),
            ("Height", self.high),
            ("Pace", self.pace),
        ):
            box.setAccessibleName(name)
            column.addWidget(labelled(name, box))
        column.addWidget(agree_or_not(self))

    def reel(self) -> Reel:
        """What was chosen."""
        return Reel(self.seconds.value(), float(self.pace.value()), self.turns.value(), self.rest.value())


def _column(dialog: QDialog) -> QVBoxLayout:
    column = QVBoxLayout(dialog)
    column.setContentsMargins(20, 16, 20, 16)
    column.setSpacing(10)
    return column


def _choice(entries: dict[str, str]) -> QComboBox:
    box = QComboBox()
    for key, name in entries.items():
        box.addItem(name, key)
    return box


def _number(low: float, high: float, value: float, suffix: str) -> QDoubleSpinBox:
    box = QDoubleSpinBox()
    box.setRange(low, high)
    box.setDecimals(1)
    box.setSingleStep(0.5)
    box.setValue(value)
    box.setSuffix(suffix)
    return box
