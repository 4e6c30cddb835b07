"""The rows of the Density card that are about live density."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QComboBox

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.live_density import SIZES

if TYPE_CHECKING:
    from PySide6.QtWidgets import QVBoxLayout

    from kneten.app.work.commands import Registry
    from kneten.app.work.studio import Studio


class LiveDensityRows:
    """The part of the Density card that is about live density."""

    def __init__(self, studio: Studio, registry: Registry, column: QVBoxLayout) -> None:
        self._studio = studio
        self._showing = False
        held = studio.preferences
        self.on = QCheckBox("Live density")
        self.on.setAccessibleName("Live density of the part in hand")
        self.on.setToolTip(registry.tip(registry.commands["density.live"]))
        self.on.clicked.connect(lambda _: (registry.run("density.live"), self.show()))
        column.addWidget(self.on)
        self.by = QComboBox()
        self.by.setAccessibleName("What the detail size is told in")
        self.by.setToolTip("What the detail size is told in")
        self.by.setMinimumContentsLength(4)
        for key, (name, does, *_) in SIZES.items():
            self.by.addItem(name, key)
            self.by.setItemData(self.by.count() - 1, does, 3)
        self.by.setCurrentIndex(self.by.findData(held.detail_by))
        self.by.activated.connect(lambda _: self._choose(str(self.by.currentData())))
        self.size = NumberField(
            "Detail size", 0.02, 200, decimals=1, tip="How long edges become under the brush"
        )
        self.size.changed.connect(self._size)
        self.size.setMinimumWidth(72)
        column.addWidget(labelled("Detail", self.by, self.size))
        self.refine = QCheckBox("Split long edges")
        self.coarsen = QCheckBox("Join short edges")
        for box, name, tip in (
            (self.refine, "detail_refine", "Strokes add vertices where edges are longer than the detail size"),
            (self.coarsen, "detail_coarsen", "Strokes take vertices away where edges are shorter than the detail size"),
        ):  # fmt: skip
            box.setAccessibleName(box.text())
            box.setToolTip(tip)
            box.setChecked(bool(getattr(held, name)))
            box.toggled.connect(lambda on, name=name: setattr(held, name, on))
            column.addWidget(box)
        self.words = Words()
        column.addWidget(self.words)
        self._choose(held.detail_by)
        studio.scene_changed.connect(self.show)
        self.show()

    def _choose(self, by: str) -> None:
        held = self._studio.preferences
        held.detail_by = by
        _, _, unit, low, high = SIZES[by]
        self._showing = True
        self.size.low, self.size.high = low, high
        self.size.unit = unit if unit == "mm" else ""
        self.size.suffix = "" if unit == "mm" else unit
        self.size.decimals = 2 if unit == "mm" else 0
        self.size.set_value(getattr(held, f"detail_{by}"))
        self._showing = False

    def _size(self, value: float) -> None:
        if not self._showing:
            setattr(self._studio.preferences, f"detail_{self._studio.preferences.detail_by}", value)

    def show(self) -> None:
        """Show the part in hand."""
        part = self._studio.project.active
        self.on.setEnabled(part is not None and part.recipe is None)
        self.on.setChecked(part is not None and part.live_density)
        self.words.setText(
            "Strokes split and join edges; each undoes exactly. Levels and vertex order end with it."
            if part is not None and part.live_density
            else ""
        )
        self.words.setVisible(bool(self.words.text()))
