"""The regions' card: the list of those on the part in hand, and what is done with them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QLabel, QListWidget, QListWidgetItem

from kneten.app.fields.quantities import count_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.regions import region_colour
from kneten.document.regions import region_name

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

MOST_LISTED = 400
"""More regions than anyone can choose from by eye; the label says how many are not listed."""


class RegionCard(Card):
    """The regions of the part in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Regions", desk.studio)
        self._desk = desk
        self.none = QLabel("None yet: draw around some clay,\nor divide the part.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.list = QListWidget()
        self.list.setAccessibleName("Regions")
        self.list.setToolTip("The regions of the part in hand; a double click renames")
        self.list.currentItemChanged.connect(lambda item, _: self._chosen(item))
        self.list.itemDoubleClicked.connect(lambda _: desk.registry.run("region.rename"))
        self.column.addWidget(self.list)
        make = (
            ("region.lasso", "Lasso"), ("region.from-mask", "From mask"), ("region.look", "Look"),
            ("region.by-angle", "By angle"), ("region.by-connection", "By piece"), ("region.by-origin", "By origin"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, make)[0])
        use = (
            ("region.mask", "Mask"), ("region.hide", "Hide"), ("region.isolate", "Only this"),
            ("region.grow", "Grow"), ("region.shrink", "Shrink"), ("region.show-all", "Show all"),
            ("region.take-out", "Take out"), ("region.copy-out", "Copy out"), ("region.forget", "Take away"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, use)[0])
        self._known: object = None
        desk.studio.scene_changed.connect(self.fill)
        desk.studio.clay_changed.connect(self.fill)
        desk.studio.project_changed.connect(self.fill)

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._desk.form.choose_region(int(item.data(Qt.ItemDataRole.UserRole)))

    def fill(self) -> None:
        """Show the regions; nothing is counted while none has changed."""
        project = self._studio.project
        part = project.active
        mesh = part.mesh if part is not None else None
        known = (
            id(mesh),
            mesh.values_version if mesh is not None else 0,
            project.scene.region_names,
            self._desk.form.region,
        )
        if known == self._known:
            return
        self._known = known
        self.list.blockSignals(True)
        self.list.clear()
        counts = np.empty(0, np.int64) if mesh is None or mesh.regions is None else np.bincount(mesh.regions)
        numbers = [number for number in np.flatnonzero(counts).tolist() if number]
        for number in numbers[:MOST_LISTED]:
            swatch = QPixmap(14, 14)
            swatch.fill(QColor(*region_colour(number)))
            text = f"{region_name(project.scene, number)}   {count_text(int(counts[number]))}"
            item = QListWidgetItem(QIcon(swatch), text)
            item.setData(Qt.ItemDataRole.UserRole, number)
            self.list.addItem(item)
            if number == self._desk.form.region:
                self.list.setCurrentItem(item)
        if self.list.currentRow() < 0 and numbers:
            self.list.setCurrentRow(0)
            self._desk.form.choose_region(numbers[0])
        self.list.blockSignals(False)
        self.none.setVisible(not numbers)
        self.list.setVisible(bool(numbers))
        self.list.setFixedHeight(min(max(self.list.count(), 1), 6) * 30 + 6)
