"""All tools at a glance, each with its feel sheet: the cross-sections that real strokes leave."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.fields.fields import Words
from kneten.app.fields.theme import Theme, glyph
from kneten.app.work.commands import Registry
from kneten.app.work.panel import Panel
from kneten.core.arrays import F64
from kneten.core.brushes.tease import narrowed
from kneten.core.brushes.tool import Dab, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.paint.trial import trial_colours
from kneten.core.regions import vertices_of
from kneten.core.stroke import Stroke
from kneten.core.strokes import stroke_of

HALF = 30.0
"""Half the width of the piece of clay that strokes are tried on, in millimetres."""

RADIUS = 10.0

HELD = {"turn": 1.2, "scale": 0.6, "bend": 0.5}
"""How far a tool that holds is moved, by what its drag means."""

STEP = 0.75

PAINTED = 3.0
"""Millimetres by which painted clay stands out in a section."""


def trial_clay() -> Mesh:
    """A sheet with a ridge and a furrow along the stroke, so that flattening and smoothing show."""
    count = round(2 * HALF / STEP) + 1
    at = np.linspace(-HALF, HALF, count)
    x, y = np.meshgrid(at, at[np.abs(at) <= HALF / 2])
    z = 2.0 * np.exp(-(((y - 4.0) / 2.0) ** 2)) - 2.0 * np.exp(-(((y + 4.0) / 2.0) ** 2))
    rows, columns = x.shape
    i = np.arange(rows * columns).reshape(rows, columns)
    quads = np.stack([i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]], -1).reshape(-1, 4)
    points = np.stack([x, y, z], -1).reshape(-1, 3).astype(np.float32)
    return Mesh.from_faces(points, quads.astype(np.int32))


def section(tool: Tool, strength: float, reverse: bool) -> tuple[F64, F64]:
    """Cross-sections (k, 2) of the trial clay before and after one stroke along its length.

    What a tool paints stands above the clay in the second; one that changes the mesh gives the mesh's vertices.
    """
    if tool.density:
        return _mesh_section(tool, strength)
    mesh = trial_clay()
    middle = np.abs(mesh.positions[:, 0]) < STEP / 2
    order = np.flatnonzero(middle)[np.argsort(mesh.positions[middle, 1])]
    before = mesh.positions[order][:, 1:].astype(np.float64)
    settings = replace(tool.defaults, strength=strength)
    if tool.changes == "paint":
        mesh.colour = trial_colours(mesh.positions)
    start = mesh.value("colour")[order, :3].astype(np.float64)
    stroke = stroke_of(mesh, tool, settings)
    if tool.needs_before:
        # A milestone kept when the clay was still even.
        stroke.work.before = mesh.positions * np.array([1, 1, 0], np.float32)
    view = np.array([0.0, 0.0, -1.0])
    sign = -1.0 if reverse else 1.0
    if tool.holds:
        if tool.gesture == "bend":
            # What is bent lies square to the drag and to the view: seen along the stroke it is the section.
            view = np.array([1.0, 0.0, 0.0])
        stroke.grab(np.array([0.0, 0.0, 0.0]), RADIUS, view)
        stroke.drag(np.array([0.0, 0.0, sign * 6.0]), RADIUS, strength, HELD.get(tool.gesture, 0.0) * sign)
    else:
        along = np.array([1.0, 0.0, 0.0])
        first = -HALF * 0.7
        for x in np.arange(-HALF * 0.7, HALF * 0.7, settings.spacing * RADIUS):
            centre = np.array([x, 0.0, 0.0])
            stroke.dab(Dab(centre, along, view, RADIUS, sign * strength, settings.spacing, x - first))
    stroke.finish()
    after = mesh.positions[order][:, 1:].astype(np.float64)
    if tool.changes == "paint":
        off = np.abs(mesh.value("colour")[order, :3].astype(np.float64) - start).max(axis=1)
        after[:, 1] += PAINTED * off / 255
    elif tool.changes == "mask":
        after[:, 1] += PAINTED * mesh.value("mask")[order]
    elif tool.changes:
        after[:, 1] += PAINTED * vertices_of(mesh, mesh.value("regions") == 1)[order]
    return before, after


def _mesh_section(tool: Tool, strength: float) -> tuple[F64, F64]:
    """The same for a tool that makes a mesh denser, sparser, or draws it out."""
    plain = trial_clay()
    mesh = loosened(plain)
    stroke = Stroke(mesh, tool, replace(tool.defaults, strength=strength))
    view = np.array([0.0, 0.0, -1.0])
    if tool.density == "grow":
        tip, radius, step = np.zeros(3), RADIUS * 0.5, np.array([0.0, 0.0, RADIUS / 16])
        while tip[2] < HALF * 0.4:
            detail = Density(radius * 0.3)
            stroke.dab(Dab(tip, step, view, radius, strength, 0.125, detail=detail))
            tip, radius = tip + step, narrowed(radius, float(step[2]), strength)
    else:
        finer = tool.density == "refine"
        length = STEP * (1.0 - 0.7 * strength if finer else 1.0 + 5.0 * strength)
        for x in np.arange(-HALF * 0.7, HALF * 0.7, RADIUS * 0.4):
            detail = Density(float(length), finer, not finer)
            stroke.dab(Dab(np.array([x, 0.0, 0.0]), view, view, RADIUS, strength, 0.4, detail=detail))
    stroke.finish()
    settled = mesh.settled().positions
    sections = []
    for points in (plain.positions, settled):
        near = points[np.abs(points[:, 0]) < STEP * 0.6][:, 1:].astype(np.float64)
        # Seen from below the middle, what has been drawn out is still in order.
        sections.append(near[np.argsort(-np.arctan2(near[:, 1] + 6.0, near[:, 0]))])
    return sections[0], sections[1]


def feel_sheet(tool: Tool) -> list[tuple[str, F64, F64]]:
    """Sections at three strengths, and reversed where that makes a difference."""
    sheet = [(f"{s * 100:.0f} %", *section(tool, s, False)) for s in (0.3, 0.6, 1.0)]
    if tool.reversed_name:
        sheet.append(("reversed", *section(tool, 0.6, True)))
    return sheet


class FeelSheet(QWidget):
    """Draws the sections: thin before, bold after."""

    def __init__(self, tool: Tool) -> None:
        super().__init__()
        self._sheet: list[tuple[str, F64, F64]] = []
        self._theme: Theme | None = None
        self._dots = tool.density in ("refine", "coarsen")
        self.setMinimumHeight(64)
        self.setAccessibleName(f"Feel sheet of {tool.name}")
        self.setToolTip("Cross-sections of clay before (thin) and after (bold) one stroke")

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(280, 64)

    def show_sheet(self, sheet: list[tuple[str, F64, F64]], theme: Theme) -> None:
        """Draw these sections."""
        self._sheet, self._theme = sheet, theme
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        if not self._sheet or self._theme is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide = self.width() / 4
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        for i, (name, before, after) in enumerate(self._sheet):
            scale = (wide - 8) / HALF
            left, base = i * wide + wide / 2, self.height() * 0.56

            def line(points: F64, left: float = left, base: float = base, scale: float = scale) -> QPolygonF:
                return QPolygonF([QPointF(left + y * scale, base - z * scale) for y, z in points.tolist()])

            painter.setPen(QPen(QColor(self._theme.quiet), 1))
            painter.drawPolyline(line(before))
            painter.setPen(QPen(QColor(self._theme.text), 2))
            if self._dots:
                painter.setPen(
                    QPen(QColor(self._theme.text), 2.4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap)
                )
                painter.drawPoints(line(after))
            else:
                painter.drawPolyline(line(after))
            painter.setPen(QColor(self._theme.quiet))
            box = QRectF(i * wide, self.height() - 15, wide, 15)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)


class ToolOverview(Panel):
    """A searchable page of all tools."""

    def __init__(
        self,
        parent: QWidget,
        registry: Registry,
        aside: Callable[[Callable[[], Any], Callable[[Any], None]], None],
        put: Callable[[str], None],
    ) -> None:
        super().__init__(parent, "All tools", 760, 640)
        self._registry = registry
        self._aside = aside
        self._put = put
        self.field = QLineEdit()
        self.field.setPlaceholderText("What should happen to the clay?")
        self.field.setAccessibleName("Find a tool")
        self.field.textChanged.connect(self._search)
        self.column.addWidget(self.field)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setAccessibleName("Tools")
        body = QWidget()
        self._grid = QGridLayout(body)
        self._grid.setContentsMargins(0, 0, 8, 0)
        self._grid.setSpacing(8)
        area.setWidget(body)
        self.column.addWidget(area, 1)
        self.entries: dict[str, QFrame] = {}
        self.sheets: dict[str, FeelSheet] = {}
        self._known: dict[str, list[tuple[str, F64, F64]]] = {}

    def show_tools(self, theme: Theme) -> None:
        """Open the page, drawn in a theme."""
        if self.isVisible():
            self.leave()
            return
        for entry in self.entries.values():
            entry.hide()
            entry.deleteLater()
        self.entries.clear()
        self.sheets.clear()
        for key, tool in TOOLS.items():
            self.entries[key] = self._entry(tool, theme)
        self.field.clear()
        self._search("")
        self.open()
        self.field.setFocus()
        for key, tool in TOOLS.items():
            if key in self._known:
                self.sheets[key].show_sheet(self._known[key], theme)
            else:
                self._aside(
                    partial(feel_sheet, tool),
                    partial(self._arrived, key, theme),
                )

    def _arrived(self, key: str, theme: Theme, sheet: list[tuple[str, F64, F64]]) -> None:
        self._known[key] = sheet
        if key in self.sheets:
            self.sheets[key].show_sheet(sheet, theme)

    def _entry(self, tool: Tool, theme: Theme) -> QFrame:
        entry = QFrame()
        column = QVBoxLayout(entry)
        column.setContentsMargins(8, 8, 8, 8)
        column.setSpacing(4)
        row = QHBoxLayout()
        take = QToolButton()
        take.setObjectName("tool")
        take.setIcon(glyph(tool.key, theme, 40))
        take.setIconSize(QSize(40, 28))
        take.setText(tool.name)
        take.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        take.setAccessibleName(f"Take {tool.name}")
        take.setToolTip(self._registry.tip(self._registry.commands[f"tool.{tool.key}"]))
        take.clicked.connect(lambda: (self._registry.run(f"tool.{tool.key}"), self.leave()))
        row.addWidget(take)
        row.addStretch(1)
        put = QPushButton("On the rack")
        put.setAccessibleName(f"Put {tool.name} on the rack")
        put.setToolTip(f"Puts {tool.name} at the end of this stage's rack")
        put.clicked.connect(lambda: self._put(f"tool.{tool.key}"))
        row.addWidget(put)
        column.addLayout(row)
        does = Words(tool.does + (f"; reversed it {tool.reversed_name}" if tool.reversed_name else ""))
        column.addWidget(does)
        sheet = FeelSheet(tool)
        self.sheets[tool.key] = sheet
        column.addWidget(sheet)
        return entry

    def _search(self, words: str) -> None:
        wanted = words.lower().split()
        shown = []
        for key, entry in self.entries.items():
            tool = TOOLS[key]
            text = f"{tool.name} {tool.does} {tool.reversed_name}".lower()
            fits = all(word in text for word in wanted)
            entry.setVisible(fits)
            self._grid.removeWidget(entry)
            if fits:
                shown.append(entry)
        for i, entry in enumerate(shown):
            self._grid.addWidget(entry, i // 2, i % 2)
        self._grid.setRowStretch(len(shown), 1)
