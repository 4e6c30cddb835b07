"""The cards at the right: parts, the tool in hand, place and size, density. Each folds and remembers."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.commands import Registry
from kneten.app.fields import CurveField, NumberField, labelled
from kneten.app.live_density import LiveDensityRows
from kneten.app.memory import MESH_VERTEX, PER_VERTEX, budget_text, memory_text, size_text
from kneten.app.quantities import count_text
from kneten.app.studio import Studio
from kneten.app.trial_ball import TrialBall
from kneten.core.falloff import PRESETS
from kneten.core.remesh import Forecast
from kneten.core.subdivide import foretell
from kneten.core.thin import Thin, thin_places
from kneten.core.topology import MeshError
from kneten.formats.exchange import UNITS

if TYPE_CHECKING:
    from kneten.app.decimating import DecimateRows


class Card(QWidget):
    """A titled piece of the right side that folds."""

    def __init__(self, title: str, studio: Studio) -> None:
        super().__init__()
        self.setObjectName("card")
        self.title = title
        self._studio = studio
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.head = QPushButton()
        self.head.setObjectName("fold")
        self.head.setCheckable(True)
        self.head.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.head.setAccessibleName(f"{title} card")
        self.head.setToolTip(f"Fold or unfold {title.lower()}")
        outer.addWidget(self.head)
        self.body = QWidget()
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(12, 2, 14, 12)
        self.column.setSpacing(6)
        outer.addWidget(self.body)
        folded = title in studio.preferences.folded
        self.head.setChecked(not folded)
        self.head.toggled.connect(self._fold)
        self._fold(not folded)

    def _fold(self, shown: bool) -> None:
        self.body.setVisible(shown)
        self.head.setText(f"{'▾' if shown else '▸'}  {self.title}")
        folded = [name for name in self._studio.preferences.folded if name != self.title]
        self._studio.preferences.folded = folded if shown else [*folded, self.title]

    def set_title(self, text: str) -> None:
        """Show another title; folding is still remembered under the first."""
        self.head.setText(f"{'▾' if self.head.isChecked() else '▸'}  {text}")


class ToolCard(Card):
    """How the tool in hand is held."""

    def __init__(self, studio: Studio) -> None:
        super().__init__("Tool", studio)
        self._showing = False
        brush = studio.set_brush
        self.size = NumberField(
            "Size", 2, 400, suffix="px", curve=2, tip="Radius of the brush on screen ([ and ])"
        )
        self.size.changed.connect(lambda v: brush(size=v))
        self.strength = NumberField("Strength", 0, 100, suffix="%", tip="How much each dab does (, and .)")
        self.strength.changed.connect(lambda v: brush(strength=v / 100))
        self.column.addWidget(labelled("Size", self.size))
        self.column.addWidget(labelled("Strength", self.strength))
        self.variant = QComboBox()
        self.variant.setAccessibleName("Variant")
        self.variant.setToolTip("Another way of working of the same tool")
        self.variant.setMinimumContentsLength(8)
        self.variant.activated.connect(lambda _: brush(variant=self.variant.currentData()))
        self.variant_row = labelled("Way", self.variant)
        self.column.addWidget(self.variant_row)
        self.on_model = self._check(
            "Size in millimetres",
            "The brush keeps its size on the clay when the view comes nearer",
            "size_on_model",
        )
        self.column.addWidget(self.on_model)
        self.falloff = CurveField(
            "Falloff", "How the force falls from the middle to the rim: drag the points", True
        )
        self.falloff.changed.connect(lambda points: brush(falloff=points))
        self.column.addWidget(self.falloff)
        row = QHBoxLayout()
        row.setSpacing(3)
        self.presets: dict[str, QToolButton] = {}
        for name in PRESETS:
            button = QToolButton()
            button.setObjectName("toggle")
            button.setText(name.capitalize())
            button.setAccessibleName(f"{name.capitalize()} falloff")
            button.setToolTip(f"{name.capitalize()} falloff")
            button.setCheckable(True)
            button.setStyleSheet("padding: 3px 0px; font-size: 12px;")
            button.setMinimumWidth(40)
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _=False, name=name: brush(falloff=PRESETS[name]))
            row.addWidget(button)
            self.presets[name] = button
        self.column.addLayout(row)
        self.trial = TrialBall(studio)
        self.column.addWidget(self.trial)
        self.reverse = self._check("Reverse", "Does the opposite (hold Ctrl for a while)", "reverse")
        self.front = self._check("Front only", "Leaves alone what faces away from you", "front_only")
        self.connected = self._check(
            "Connected only",
            "Leaves alone what no path under the brush joins to its middle",
            "connected_only",
        )
        pair = QHBoxLayout()
        pair.addWidget(self.reverse)
        pair.addWidget(self.front)
        self.column.addLayout(pair)
        self.column.addWidget(self.connected)
        self.reset = QPushButton("As it was made")
        self.reset.setAccessibleName("Reset tool")
        self.reset.setToolTip("Hold this tool the way it came with Kneten")
        self.reset.clicked.connect(self._reset)
        self.column.addWidget(self.reset)
        studio.tool_changed.connect(self.show_tool)
        self.show_tool()

    def _check(self, text: str, tip: str, name: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.setAccessibleName(text)
        box.toggled.connect(lambda on: None if self._showing else self._studio.set_brush(**{name: on}))
        return box

    def _reset(self) -> None:
        self._studio.preferences.tools.pop(self._studio.tool.key, None)
        self._studio.tool_changed.emit()

    def show_tool(self) -> None:
        """Show the tool in hand."""
        self._showing = True
        tool, held = self._studio.tool, self._studio.settings()
        self.set_title(tool.name)
        self.size.set_value(held.size)
        self.strength.set_value(held.strength * 100)
        self.falloff.set_points(held.falloff)
        self.size.suffix = "mm" if held.size_on_model else "px"
        self.size.set_value(held.size)
        self.variant.clear()
        for key, name, does in tool.variants:
            self.variant.addItem(name, key)
            self.variant.setItemData(self.variant.count() - 1, does, Qt.ItemDataRole.ToolTipRole)
        self.variant.setCurrentIndex(max(self.variant.findData(held.variant), 0) if tool.variants else -1)
        self.variant_row.setVisible(bool(tool.variants))
        for box, on in (
            (self.reverse, held.reverse),
            (self.front, held.front_only),
            (self.connected, held.connected_only),
            (self.on_model, held.size_on_model),
        ):
            box.setChecked(on)
        self.reverse.setEnabled(bool(tool.reversed_name))
        for name, button in self.presets.items():
            button.setChecked(held.falloff == PRESETS[name])
        self._showing = False


class PlaceCard(Card):
    """Where the part in hand stands, how it is turned, how large it is; and the symmetry of strokes."""

    def __init__(self, studio: Studio, registry: Registry) -> None:
        super().__init__("Place", studio)
        self.unit = QComboBox()
        self.unit.addItems(list(UNITS))
        self.unit.setAccessibleName("Unit")
        self.unit.setToolTip("Unit in which lengths are shown")
        self.unit.activated.connect(self._unit_chosen)
        self.column.addWidget(labelled("Unit", self.unit))
        far = 1e6
        self.place = [self._field(f"Position {a}", -far, far, self._placed) for a in "xyz"]
        self.turn = [self._field(f"Turn {a}", -360, 360, self._turned, "°") for a in "xyz"]
        self.size = [self._field(f"Size {a}", 1e-4, far, self._sized) for a in "xyz"]
        for name, fields in (("Position", self.place), ("Turn", self.turn), ("Size", self.size)):
            label = QLabel(f"{name}  x  y  z")
            label.setObjectName("quiet")
            self.column.addWidget(label)
            line = QHBoxLayout()
            line.setSpacing(4)
            for field in fields:
                line.addWidget(field)
            self.column.addLayout(line)
        self.space = QComboBox()
        for key, name in (("world", "World axes"), ("own", "Own axes"), ("view", "View axes")):
            self.space.addItem(name, key)
        self.space.setCurrentIndex(self.space.findData(studio.preferences.handle_space))
        self.space.setAccessibleName("Axes of the handles")
        self.space.setToolTip("Along which axes the handles stand")
        self.space.activated.connect(self._space_chosen)
        self.column.addWidget(labelled("Handles", self.space))
        self.step = NumberField(
            "Step of length",
            0,
            1e4,
            unit="mm",
            decimals=1,
            tip="Handles move in steps of this length; 0: freely",
        )
        self.step.set_value(studio.preferences.snap_length)
        self.step.changed.connect(lambda v: setattr(studio.preferences, "snap_length", v))
        self.angle = NumberField(
            "Step of angle",
            0,
            90,
            suffix="°",
            decimals=1,
            tip="Handles turn in steps of this angle; 0: freely",
        )
        self.angle.set_value(studio.preferences.snap_angle)
        self.angle.changed.connect(lambda v: setattr(studio.preferences, "snap_angle", v))
        self.column.addWidget(labelled("Steps", self.step, self.angle))
        self.even = QCheckBox("Keep proportions")
        self.even.setChecked(True)
        self.even.setAccessibleName("Keep proportions")
        self.even.setToolTip(
            "A changed size changes the other two along; otherwise it is kneaded into the clay"
        )
        self.column.addWidget(self.even)
        studio.scene_changed.connect(self.fill)
        studio.clay_changed.connect(self.fill)
        studio.hand_released.connect(self.fill)

    def _field(
        self, name: str, low: float, high: float, settled: Callable[[], None], suffix: str = ""
    ) -> NumberField:
        field = NumberField(name, low, high, unit="" if suffix else "mm", decimals=1, suffix=suffix)
        field.settled.connect(lambda _: settled())
        return field

    def _space_chosen(self) -> None:
        self._studio.preferences.handle_space = self.space.currentData()
        self._studio.scene_changed.emit()

    def _factor(self) -> float:
        return UNITS[self._studio.project.settings.unit]

    def _unit_chosen(self) -> None:
        self._studio.project.change_settings(unit=self.unit.currentText())
        self.fill()

    def fill(self) -> None:
        """Show the part in hand."""
        project = self._studio.project
        part = project.active
        self.unit.setCurrentText(project.settings.unit)
        for field in (*self.place, *self.turn, *self.size):
            field.setEnabled(part is not None)
        for field in (*self.place, *self.size):
            field.unit = project.settings.unit
            # Metres and inches need more places to show the same steps.
            field.decimals = {"mm": 1, "cm": 2, "in": 2, "m": 4}[project.settings.unit]
        if part is None:
            return
        low, high = part.mesh.bounds()
        size = (high - low) * part.transform.scale / self._factor()
        for fields, values in (
            (self.place, np.array(part.transform.place) / self._factor()),
            (self.turn, part.transform.degrees()),
            (self.size, size),
        ):
            for field, value in zip(fields, values, strict=True):
                field.set_value(float(value))

    def _placed(self) -> None:
        part = self._studio.project.active
        if part is not None:
            x, y, z = (field.value() * self._factor() for field in self.place)
            way = np.array([x, y, z]) - np.array(part.transform.place)
            self._studio.project.place(part.id, part.transform.moved(way), "Move")

    def _turned(self) -> None:
        part = self._studio.project.active
        if part is not None:
            x, y, z = (field.value() for field in self.turn)
            self._studio.project.place(part.id, part.transform.with_degrees(x, y, z), "Turn")

    def _sized(self) -> None:
        part = self._studio.project.active
        if part is None:
            return
        low, high = part.mesh.bounds()
        now = np.maximum((high - low) * part.transform.scale / self._factor(), 1e-9)
        wanted = np.array([field.value() for field in self.size])
        factors = wanted / now
        if self.even.isChecked():
            factors[:] = factors[int(np.argmax(np.abs(np.log(factors))))]
        self._studio.project.resize(part.id, tuple(float(f) for f in factors))


THIN_AT_ONCE = 300_000
"""Vertices up to which thin places are looked for with every forecast; beyond, only before remeshing."""


class DensityCard(Card):
    """Counts before they are paid for: remesh evenly, subdivide, decimate, live density."""

    decimate: DecimateRows

    def __init__(self, studio: Studio, registry: Registry) -> None:
        super().__init__("Density", studio)
        self._count_leads = True
        self.fused: Callable[[], int] = lambda: 0
        self._asked = 0
        self._thin: Thin | None = None
        self._thin_of: object = None
        self.count = NumberField(
            "Vertices", 100, 20_000_000, decimals=0, tip="Vertices to remesh to; 150k is fine too"
        )
        self.count.set_value(100_000)
        self.count.changed.connect(lambda _: self._lead(True))
        self.edge = NumberField(
            "Edge length", 1e-3, 1e5, unit="mm", decimals=3, tip="Mean edge length to remesh to"
        )
        self.edge.changed.connect(lambda _: self._lead(False))
        self.column.addWidget(labelled("Vertices", self.count))
        self.column.addWidget(labelled("Edge length", self.edge))
        self.fuse = NumberField(
            "Edge length for fusing",
            0,
            1e4,
            unit="mm",
            decimals=3,
            tip="Edge length of fused clay; 0: the finest of the parts",
        )
        self.column.addWidget(labelled("Fuse at", self.fuse))
        row = QHBoxLayout()
        self.edges = QCheckBox("Keep edges")
        self.apart = QCheckBox("Shells apart")
        for box, tip in (
            (self.edges, "Sharp edges and corners stay sharp when remeshing and fusing"),
            (
                self.apart,
                "Shells that do not hang together are remeshed each for itself; otherwise they merge",
            ),
        ):
            box.setAccessibleName(f"Remesh: {box.text().lower()}")
            box.setToolTip(tip)
            row.addWidget(box)
        self.column.addLayout(row)
        self.forecast = QLabel()
        self.forecast.setObjectName("quiet")
        self.column.addWidget(self.forecast)
        self.remesh = QPushButton("Remesh evenly")
        self.remesh.setObjectName("primary")
        self.subdivide = QPushButton("Subdivide")
        for button, key in ((self.remesh, "density.remesh"), (self.subdivide, "density.subdivide")):
            button.setAccessibleName(button.text())
            button.setToolTip(registry.tip(registry.commands[key]))
            button.clicked.connect(lambda _=False, key=key: registry.run(key))
            self.column.addWidget(button)
        self.live = LiveDensityRows(studio, registry, self.column)
        # Forecasts look at every triangle; while a number is dragged, one every fifth of a second.
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(200)
        self._soon.timeout.connect(self.foretell)
        studio.scene_changed.connect(self._soon.start)
        studio.clay_changed.connect(self._soon.start)
        studio.hand_released.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())

    def _lead(self, count: bool) -> None:
        self._count_leads = count
        self._soon.start()

    def foretell(self) -> None:
        """Show what remeshing and subdividing would give."""
        part = self._studio.project.active
        self.remesh.setEnabled(part is not None)
        self.subdivide.setEnabled(part is not None)
        if part is None or not self._studio.ready or not self.body.isVisible():
            self.forecast.setText("")
            return
        self._asked += 1
        asked, wanted = self._asked, self.wanted()

        def look() -> tuple[Forecast | str, int, Thin | None]:
            try:
                found = self._studio.forecast(part, *wanted)
            except MeshError as error:
                return str(error), 0, None
            key = (id(part.mesh), self._studio.project.history.serial, found.step)
            if self._thin_of != key:
                # Half a second for a million vertices: not while a number is dragged over large clay.
                small = part.mesh.count < THIN_AT_ONCE
                self._thin, self._thin_of = thin_places(part.mesh, found.step) if small else None, key
            return found, self.fused(), self._thin

        # It looks at every triangle: 40 ms for a million vertices.
        self._studio.aside(look, lambda found: self._show(*found) if asked == self._asked else None)

    def fuse_edge(self) -> float:
        """The edge length set for fusing, in millimetres; 0 for the finest of the parts."""
        return self.fuse.value()

    def wanted(self) -> tuple[float | None, int | None]:
        """The edge length or the count that was set last; the other is None."""
        if self._count_leads:
            return None, round(self.count.value())
        return self.edge.value(), None

    def _show(self, found: Forecast | str, fused: int, thin: Thin | None) -> None:
        part = self._studio.project.active
        if isinstance(found, str) or part is None:
            self.forecast.setText(str(found))
            return
        if self._count_leads:
            self.edge.set_value(found.edge)
        else:
            self.count.set_value(found.vertices)
        after = part.mesh.topology.n_triangles * 3 if part.live_density else foretell(part.mesh.topology)[0]
        project = self._studio.project
        lines = [
            f"Now {count_text(part.mesh.count)} vertices",
            f"Remeshed: {count_text(found.vertices)}, edges {found.edge:.3g} mm, {size_text(found.vertices * MESH_VERTEX)}",
            f"Subdivided: {count_text(after)}, {size_text(after * PER_VERTEX)}",
            *([f"Fused with the others: about {count_text(fused)}"] if fused else ()),
            *([f"{thin.share * 100:.1f} % is too thin for that"] if thin is not None else ()),
            budget_text(part, project),
            memory_text(),
        ]
        self.forecast.setText("\n".join(lines))
