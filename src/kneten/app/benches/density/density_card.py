"""The card of density: counts before they are paid for."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
)

from kneten.app.benches.density.live_density_rows import LiveDensityRows
from kneten.app.fields.fields import NumberField, labelled
from kneten.app.fields.quantities import count_text
from kneten.app.work.commands import Registry
from kneten.app.work.memory import MESH_VERTEX, PER_VERTEX, budget_text, memory_text, size_text
from kneten.app.work.studio import Studio
from kneten.core.remesh import Forecast
from kneten.core.subdivide import foretell
from kneten.core.thin import Thin, thin_places
from kneten.core.topology import MeshError

if TYPE_CHECKING:
    from kneten.app.benches.density.decimating import DecimateRows


from kneten.app.work.card import Card

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
        self._soon.timeout.connect(self.fill)
        studio.scene_changed.connect(self._soon.start)
        studio.clay_changed.connect(self._soon.start)
        studio.hand_released.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())

    def _lead(self, count: bool) -> None:
        self._count_leads = count
        self._soon.start()

    def fill(self) -> None:
        """Show what remeshing and subdividing would give."""
        part = self._studio.project.active
        self.remesh.setEnabled(part is not None)
        self.subdivide.setEnabled(part is not None)
        if part is None or not self._studio.all_ready or not self.body.isVisible():
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
