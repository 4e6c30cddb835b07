"""The cards of levels and layers: strata to step through, and strengths to dial."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QSizePolicy,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from kneten.app.fields.fields import NumberField
from kneten.app.fields.quantities import count_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.memory import budget_text, size_text
from kneten.app.work.signs import NameButton, Sign
from kneten.core.stack import LEAST, MOST, Layer, LayerGroup, Stack

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

ROW = 24
"""Pixels of a level's stratum."""


def shares_by_level(stack: Stack) -> list[float]:
    """What each level carries of its own: the mean length of its details and layers, as a share of its edges."""
    found = [1.0]
    size = float(np.linalg.norm(np.ptp(stack.base, axis=0)))
    for number, level in enumerate(stack.levels[1:], 1):
        n = level.topology.n_vertices
        reliefs = [level.detail, *(layer.relief(number) for layer in stack.layers if stack.strength(layer))]
        total = sum(float(np.linalg.norm(r.values, axis=1).sum()) for r in reliefs if r)
        found.append(total / n / (size / np.sqrt(n)))
    return found


class Strata(QWidget):
    """The levels, the coarsest at the bottom: as wide as they have vertices, filled as far as they carry detail."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._carried: list[float] = []
        self._hot = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Levels")
        self.setToolTip("The levels, the coarsest at the bottom; a click takes one in hand")

    def fill(self, measured: list[float]) -> None:
        """Show the levels of the part in hand."""
        stack = self._desk.levels.stack
        self._carried = measured
        self.setFixedHeight(ROW * (len(stack.levels) if stack is not None else 1) + 4)
        self.update()

    def _level_at(self, y: float) -> int:
        stack = self._desk.levels.stack
        top = stack.top if stack is not None else 0
        return min(max(top - int((y - 2) // ROW), 0), top)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        hot = self._level_at(event.position().y())
        if hot != self._hot:
            self._hot = hot
            self.update()
        QToolTip.showText(event.globalPosition().toPoint(), self.told(hot), self)

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self._hot = -1
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._desk.levels.step(self._level_at(event.position().y()))

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        by = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(Qt.Key(event.key()), 0)
        stack = self._desk.levels.stack
        if by and stack is not None:
            self._desk.levels.step(stack.level + by)
        else:
            super().keyPressEvent(event)

    def told(self, level: int) -> str:
        """A level in words."""
        stack = self._desk.levels.stack
        if stack is None:
            return "One level only; Subdivide adds another above it."
        count = stack.levels[level].topology.n_vertices
        words = f"Level {level}: {count:,} vertices"
        if 0 < level < len(self._carried):
            share = self._carried[level]
            words += (
                f"; its details stand off the level below by {share * 100:.2g} % of an edge"
                if share > 1e-5
                else "; it carries nothing of its own: deleting it would lose nothing"
            )
        return words

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        desk = self._desk
        theme, stack, part = desk.theme, desk.levels.stack, desk.studio.project.active
        counts = (
            [level.topology.n_vertices for level in stack.levels]
            if stack is not None
            else [part.mesh.count if part is not None else 0]
        )
        now = stack.level if stack is not None else 0
        least = np.log(max(counts[0], 2)) * 0.6
        for number, count in enumerate(counts):
            y = 2 + ROW * (len(counts) - 1 - number)
            share = (np.log(max(count, 2)) - least) / max(np.log(max(counts[-1], 2)) - least, 1e-9)
            width = max((self.width() - 4) * share, 96.0)
            body = QRectF(2, y + 2, width, ROW - 4)
            inside = QColor(theme.raised)
            painter.setPen(QPen(QColor(theme.accent if number == now else theme.line), 1.4))
            painter.setBrush(inside if number != self._hot else QColor(theme.line))
            painter.drawRoundedRect(body, 4, 4)
            if number < len(self._carried) and number > 0:
                # A thousandth of an edge is seen as a hair, a whole edge fills it.
                full = float(np.clip(1 + np.log10(max(self._carried[number], 1e-9)) / 3.5, 0, 1))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(theme.accent))
                painter.drawRoundedRect(QRectF(6, body.bottom() - 4, (width - 8) * full, 2), 1, 1)
            painter.setPen(QColor(theme.text if number == now else theme.quiet))
            text = f"{number}   {count_text(count)}"
            painter.drawText(QPointF(10, y + ROW - 8), text)
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))


class LevelsCard(Card):
    """The part's levels, and what one more would cost."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Levels", desk.studio)
        self._desk = desk
        self.strata = Strata(desk)
        self.column.addWidget(self.strata)
        self.forecast = QLabel()
        self.forecast.setObjectName("quiet")
        self.column.addWidget(self.forecast)
        keys = (
            ("density.subdivide", "Subdivide"), ("level.down", "Down"), ("level.up", "Up"),
            ("level.rebuild", "Rebuild"), ("level.delete-below", "Drop below"), ("level.delete-above", "Drop above"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        self._known: object = None
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)

    def fill(self) -> None:
        """Show the levels; measured again only where there are others."""
        levels = self._desk.levels
        part = self._studio.project.active
        stack = levels.stack
        known = (id(stack), part.mesh_id if part is not None else "")
        if known == self._known:
            return
        self._known = known
        if stack is None:
            self.strata.fill([])
        else:
            # Looks at every difference: 15 ms for a million.
            self._studio.aside(
                lambda: shares_by_level(stack),
                lambda found: self.strata.fill(found) if levels.stack is stack else None,
            )
            self.strata.fill([])
        if part is None:
            self.forecast.setText("")
            return
        count, size = levels.foretold()
        more = count - part.mesh.count
        self.forecast.setText(
            f"One more: {count_text(count)} vertices, {size_text(size)}\n"
            + budget_text(part, self._studio.project, more)
        )


class LayerRow(QWidget):
    """One layer: recorded on or not, shown or not, its name, its strength."""

    def __init__(self, card: LayersCard, layer: Layer, stack: Stack) -> None:
        super().__init__()
        desk = card.desk_of()
        levels, theme = desk.levels, desk.theme
        self.layer_id = layer.id
        row = QHBoxLayout(self)
        row.setContentsMargins(14 if stack.group(layer.group) is not None else 0, 0, 0, 0)
        row.setSpacing(2)
        recorded = stack.recording == layer.id
        self.record = Sign("record", recorded, theme.error if recorded else theme.quiet)
        self.record.setAccessibleName(f"Record on {layer.name}")
        self.record.setToolTip("Strokes go to this layer; once more: to the clay")
        self.record.clicked.connect(lambda: levels.record(layer.id))
        self.eye = Sign("eye", layer.shown, theme.text if layer.shown else theme.quiet)
        self.eye.setAccessibleName(f"Show {layer.name}")
        self.eye.setToolTip("Hides the layer, or shows it")
        self.eye.clicked.connect(lambda: levels.show(layer.id))
        told = ["alone"] * (stack.solo == layer.id) + ["masked"] * bool(layer.mask)
        self.name = NameButton(layer.name + (f"  ({', '.join(told)})" if told else ""))
        chosen = levels.chosen is not None and levels.chosen.id == layer.id
        colour = theme.accent if chosen else theme.text if stack.strength(layer) else theme.quiet
        weight = "600" if chosen else "400"
        self.name.setStyleSheet(
            f"text-align: left; padding: 4px 2px; border: none; background: transparent; color: {colour};"
            f" font-weight: {weight};"
        )
        self.name.setAccessibleName(f"Layer {layer.name}")
        held = ", ".join(str(k) for k, relief in enumerate(layer.reliefs) if relief)
        nothing = "A pose" if layer.pose is not None else "Nothing on it yet"
        self.name.setToolTip(f"On levels {held}" if held else nothing)
        self.name.clicked.connect(lambda: levels.choose(layer.id))
        self.strength = strength_field(layer.name, layer.strength)
        self.strength.changed.connect(lambda value: levels.dial(layer.id, value / 100))
        self.strength.settled.connect(lambda value: levels.keep_dial(layer.id, value / 100))
        for widget in (self.record, self.eye, self.name, self.strength):
            row.addWidget(widget, 1 if widget is self.name else 0)


class GroupRow(QWidget):
    """A group of layers: folded or not, shown or not, its name, its strength."""

    def __init__(self, card: LayersCard, group: LayerGroup) -> None:
        super().__init__()
        desk = card.desk_of()
        levels, theme = desk.levels, desk.theme
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(2)
        self.fold = QToolButton()
        self.fold.setText("▸" if group.folded else "▾")
        self.fold.setFixedSize(26, 26)
        self.fold.setStyleSheet("padding: 0;")
        self.fold.setAccessibleName(f"Fold {group.name}")
        self.fold.setToolTip("Lists the group's layers, or only the group")
        self.fold.clicked.connect(lambda: levels.fold_group(group.id))
        self.eye = Sign("eye", group.shown, theme.text if group.shown else theme.quiet)
        self.eye.setAccessibleName(f"Show {group.name}")
        self.eye.setToolTip("Hides the group, or shows it")
        self.eye.clicked.connect(lambda: levels.show_group(group.id))
        self.name = QLabel(group.name)
        self.name.setStyleSheet(f"color: {theme.text if group.shown else theme.quiet}; padding: 4px 2px;")
        self.strength = strength_field(group.name, group.strength)
        self.strength.changed.connect(lambda value: levels.dial(group.id, value / 100))
        self.strength.settled.connect(lambda value: levels.keep_dial(group.id, value / 100))
        for widget in (self.fold, self.eye, self.name, self.strength):
            row.addWidget(widget, 1 if widget is self.name else 0)


def strength_field(name: str, strength: float) -> NumberField:
    """A field for how much of a layer or group there is."""
    field = NumberField(
        f"Strength of {name}",
        LEAST * 100,
        MOST * 100,
        suffix="%",
        tip="How much of it there is: drag, or type −100 to 200",
    )
    field.set_value(strength * 100)
    field.setFixedWidth(76)
    return field


class LayersCard(Card):
    """The part's layers, the newest on top."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Layers", desk.studio)
        self._desk = desk
        self.none = QLabel("None yet: what is done on a layer\ncan be dialled, hidden and taken away.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.list = QWidget()
        self.list.setAccessibleName("Layers")
        self.rows_column = QVBoxLayout(self.list)
        self.rows_column.setContentsMargins(0, 0, 0, 0)
        self.rows_column.setSpacing(1)
        self.column.addWidget(self.list)
        keys = (
            ("layer.add", "Add"), ("layer.before", "Before/after"), ("layer.solo", "Only this"),
            ("layer.rename", "Rename"), ("layer.copy", "Copy"), ("layer.mirror", "Mirror"),
            ("layer.higher", "Higher"), ("layer.lower", "Lower"), ("layer.off-mask", "Off mask"),
            ("layer.mask", "Hide masked"), ("layer.mask-get", "Get mask"), ("layer.unmask", "Unmask"),
            ("layer.group", "Group"), ("layer.ungroup", "Ungroup"), ("layer.group-rename", "Name group"),
            ("layer.merge", "Merge"), ("layer.bake", "Bake"), ("layer.delete", "Delete"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        self.rows: list[LayerRow | GroupRow] = []
        self._known: object = None
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)

    def desk_of(self) -> Desk:
        """The window it is in."""
        return self._desk

    def fill(self) -> None:
        """Show the layers of the part in hand."""
        levels = self._desk.levels
        stack = levels.stack
        chosen = levels.chosen
        known = (id(stack), chosen.id if chosen is not None else "", self._desk.theme.name)
        if known == self._known:
            return
        self._known = known
        for row in self.rows:
            self.rows_column.removeWidget(row)
            row.hide()
            row.deleteLater()
        layers = stack.listed if stack is not None else ()
        self.rows = []
        group_id = ""
        for layer in reversed(layers):
            assert stack is not None
            group = stack.group(layer.group)
            if group is not None and group.id != group_id:
                self.rows.append(GroupRow(self, group))
            group_id = layer.group
            if group is None or not group.folded:
                self.rows.append(LayerRow(self, layer, stack))
        for row in self.rows:
            self.rows_column.addWidget(row)
        self.none.setVisible(not layers)
        self.list.setVisible(bool(layers))
        for key, button in self.buttons.items():
            button.setVisible(key == "layer.add" or bool(layers))
