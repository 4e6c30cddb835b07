"""Proportion: the ruler of head units beside the clay, tapes, ratios, landmarks."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QInputDialog,
    QListWidget,
    QListWidgetItem,
    QPushButton,
)

from kneten.app.fields.fields import Words, labelled
from kneten.app.fields.quantities import length_text, number_text
from kneten.app.view.modes import label, line
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.measure import CANONS
from kneten.document.things import Landmark, Tape

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Proportion:
    """The ruler: marks of a canon over the height of the chosen parts, or of all.

    Attributes
    ----------
    on : bool
    canon : str
        Name of the canon.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.on = False
        self.canon = next(iter(CANONS))

    def canons(self) -> dict[str, tuple[float, ...]]:
        """All canons: those that come along and the user's own."""
        return {**CANONS, **dict(self._studio.project.settings.canons)}

    def switch_ruler(self) -> None:
        """Show the ruler, or hide it."""
        self.on = not self.on
        self._desk.view.repaint_over()
        self._desk.fill_card("proportion_card")

    def choose(self, name: str) -> None:
        """Use another canon, and show it."""
        self.canon = name
        self.on = True
        self._desk.view.repaint_over()

    def marks(self) -> tuple[float, ...]:
        """The shares of the height at which the ruler is marked, from the top down."""
        return self.canons().get(self.canon, (0.0, 1.0))

    def keep_canon(self, name: str, shares: tuple[float, ...]) -> None:
        """Keep one's own canon with the project."""
        settings = self._studio.project.settings
        marks = tuple(sorted({0.0, *shares, 1.0}))
        others = (canon for canon in settings.canons if canon[0] != name)
        self._studio.project.change_settings(canons=(*others, (name, marks)))
        self.canon = name

    def height(self) -> tuple[float, float, float, float] | None:
        """Lowest and highest y, middle z and the x beside which the ruler stands; None without parts."""
        project = self._studio.project
        parts = [p for p in project.chosen if p.visible] or [p for p in project.scene.parts if p.visible]
        if not parts:
            return None
        low = np.min([p.bounds()[0] for p in parts], axis=0)
        high = np.max([p.bounds()[1] for p in parts], axis=0)
        beside = float(high[0] + (high[1] - low[1]) * 0.08)
        return float(low[1]), float(high[1]), float(low[2] + high[2]) / 2, beside

    def paint(self, painter: QPainter) -> None:
        """The ruler over the picture, in pixels of the pane in use."""
        view = self._desk.view
        found = self.height() if self.on else None
        if found is None:
            return
        low, high, z, x = found
        accent = QColor(view.ring_colour)
        marks = self.marks()
        places = np.array([[x, high - (high - low) * share, z] for share in marks])
        at = view.camera.project(places, view.wide, view.high)
        if (at[:, 2] <= 0).any():
            return
        line(painter, at[:, :2], accent, 1.6)
        unit = self._studio.project.settings.unit
        for k, spot in enumerate(at[:, :2]):
            tick = np.array([9.0, 0.0])
            line(painter, np.array([spot - tick, spot + tick]), accent, 1.6)
            if k and abs(spot[1] - at[k - 1, 1]) > 13:
                middle = (spot + at[k - 1, :2]) / 2
                label(painter, view, QPointF(*middle), str(k))
        label(painter, view, QPointF(*at[0, :2]), length_text(high - low, unit))


class ProportionCard(Card):
    """Canon, tapes with their lengths and ratios, landmarks."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Proportion", desk.studio)
        self._desk = desk
        registry = desk.registry
        self.canon = QComboBox()
        self.canon.setAccessibleName("Canon")
        self.canon.setToolTip("Which proportions the head-unit ruler shows")
        self.canon.setMinimumContentsLength(12)
        self.canon.activated.connect(self._chosen)
        self.column.addWidget(labelled("Canon", self.canon))
        self.list = QListWidget()
        self.list.setAccessibleName("Tapes")
        self.list.setToolTip("Choose two tapes to see their ratio; a double click names a landmark anew")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.itemSelectionChanged.connect(self._compare)
        self.list.itemDoubleClicked.connect(self._rename)
        self.column.addWidget(self.list)
        self.ratio = Words(quiet=False)
        self.column.addWidget(self.ratio)
        buttons = (
            ("measure.ruler", "Ruler"), ("measure.tape", "Tape"), ("measure.landmark", "Landmark"),
            ("measure.divide-2", "Halves"), ("measure.divide-3", "Thirds"), ("measure.golden", "Golden"),
            ("measure.marks", "Mark"), ("measure.clear", "Clear"),
        )  # fmt: skip
        grid, _ = command_grid(registry, buttons)
        keep = QPushButton("Keep canon")
        keep.setStyleSheet("padding: 4px 2px;")
        keep.setAccessibleName("Keep the tape's divisions as a canon")
        keep.setToolTip("Keeps the divisions of the newest tape as a canon of your own")
        keep.clicked.connect(self._keep)
        grid.addWidget(keep, 2, 2)
        self.column.addLayout(grid)
        desk.studio.scene_changed.connect(self.fill)
        desk.studio.clay_changed.connect(self.fill)
        desk.studio.measured.connect(self.fill)
        desk.studio.project_changed.connect(self.fill)

    def fill(self) -> None:
        """Show canons, tapes and landmarks."""
        proportion, scene = self._desk.proportion, self._studio.project.scene
        names = list(proportion.canons())
        if [self.canon.itemText(i) for i in range(self.canon.count())] != names:
            self.canon.clear()
            self.canon.addItems(names)
        self.canon.setCurrentIndex(names.index(proportion.canon) if proportion.canon in names else 0)
        kept = {item.data(Qt.ItemDataRole.UserRole) for item in self.list.selectedItems()}
        self.list.blockSignals(True)
        self.list.clear()
        marks = {mark.id: mark for mark in scene.landmarks}
        unit = self._studio.project.settings.unit
        for tape in scene.tapes:
            found = self._desk.tapes.found.get(tape.id)
            length = "…" if found is None else length_text(found.length, unit)
            ends = f"{_short(marks[tape.start])} to {_short(marks[tape.end])}"
            self._row(f"{length}   {ends}{' (surface)' if tape.surface else ''}", tape.id, kept)
        used = {key for tape in scene.tapes for key in (tape.start, tape.end)}
        for mark in scene.landmarks:
            if mark.id not in used:
                self._row(mark.name, mark.id, kept)
        self.list.blockSignals(False)
        self.list.setVisible(self.list.count() > 0)
        self.list.setFixedHeight(min(max(self.list.count(), 1), 6) * 30 + 6)
        self._compare()

    def _row(self, text: str, key: str, kept: set[str]) -> None:
        item = QListWidgetItem(text)
        item.setData(Qt.ItemDataRole.UserRole, key)
        self.list.addItem(item)
        item.setSelected(key in kept)

    def _tapes(self) -> list[Tape]:
        keys = [item.data(Qt.ItemDataRole.UserRole) for item in self.list.selectedItems()]
        return [tape for tape in self._studio.project.scene.tapes if tape.id in keys]

    def _compare(self) -> None:
        tapes = self._tapes()
        found = [self._desk.tapes.found.get(tape.id) for tape in tapes]
        if len(found) == 2 and all(found):
            a, b = (f.length for f in found if f is not None)
            if min(a, b) > 0:
                first, second = max(a, b), min(a, b)
                self.ratio.setText(
                    f"Ratio {number_text(first / second, 4)} : 1, or {number_text(second / first, 3)}"
                )
                self.ratio.show()
                return
        self.ratio.hide()

    def _chosen(self) -> None:
        self._desk.proportion.choose(self.canon.currentText())

    def _rename(self, item: QListWidgetItem) -> None:
        scene = self._studio.project.scene
        key = item.data(Qt.ItemDataRole.UserRole)
        mark = next((m for m in scene.landmarks if m.id == key), None)
        if mark is None:
            return
        name, agreed = QInputDialog.getText(self, "Rename", "Name of the landmark:", text=mark.name)
        name = " ".join(name.split())
        if agreed and name and name not in {m.name for m in scene.landmarks}:
            marks = tuple(replace(m, name=name) if m.id == key else m for m in scene.landmarks)
            self._studio.project.change(f"Rename {mark.name} to {name}", replace(scene, landmarks=marks))

    def _keep(self) -> None:
        tapes = self._studio.project.scene.tapes
        if not tapes or not tapes[-1].divisions:
            self._studio.say("Lay a tape and divide it first; its divisions become the canon.")
            return
        name, agreed = QInputDialog.getText(self, "Keep canon", "Name of the canon:", text="My canon")
        if agreed and name.strip():
            self._desk.proportion.keep_canon(name.strip(), tapes[-1].divisions)
            self.fill()


def _short(mark: Landmark) -> str:
    return mark.name.removeprefix("Landmark ")
