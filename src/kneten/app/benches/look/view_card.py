"""The card for looking: look, matcap, what lies over it, effects, lens, saved views."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QImage, QPainter, QPainterPath, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QToolButton,
    QWidget,
)

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.card import Card
from kneten.app.work.commands import Registry
from kneten.app.work.studio import Studio
from kneten.document.look import LOOKS
from kneten.document.settings import SavedView
from kneten.render.matcaps import MATCAPS, pixels_of
from kneten.render.style import EFFECTS

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

SWATCH = 34

OVERLAYS = {
    "cavity": ("Creases", "Darkens creases and lightens ridges"),
    "cover": ("Occlusion", "Darkens where nearby clay keeps the light out"),
    "outline": ("Outline", "Draws a line around the part in hand"),
    "wires": ("Edges", "Draws the mesh's own edges"),
    "xray": ("X-ray", "Hidden forms shine through"),
    "back_faces": ("Insides", "Marks faces that are seen from their inside"),
    "floor": ("Floor", "A floor with a grid and the clay's contact shadow"),
    "ghost": ("Ghost rest", "Shows all parts but the one in hand as outlines only"),
    "isolate": ("Alone", "Shows only the part in hand"),
}


def swatch(key: str, own: dict[str, bytes], size: int = SWATCH) -> QIcon:
    """A matcap as a small ball."""
    pixels = pixels_of(key, own)
    image = QImage(
        pixels.tobytes(), pixels.shape[1], pixels.shape[0], pixels.shape[1] * 3, QImage.Format.Format_RGB888
    )
    out = QPixmap(2 * size, 2 * size)
    out.fill(Qt.GlobalColor.transparent)
    painter = QPainter(out)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    path = QPainterPath()
    path.addEllipse(2, 2, 2 * size - 4, 2 * size - 4)
    painter.setClipPath(path)
    painter.drawImage(out.rect(), image)
    painter.end()
    out.setDevicePixelRatio(2)
    return QIcon(out)


class ViewCard(Card):
    """How one looks at the clay."""

    def __init__(self, studio: Studio, registry: Registry, view: Canvas) -> None:
        super().__init__("View", studio)
        self._registry = registry
        self._view = view
        self._showing = False
        look = studio.set_look
        self.look = QComboBox()
        for key, (name, tip) in LOOKS.items():
            self.look.addItem(name, key)
            self.look.setItemData(self.look.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        self.look.setAccessibleName("Look")
        self.look.setToolTip("How the clay is shown; F5 and Shift+F5 go through them")
        self.look.activated.connect(lambda _: look(kind=self.look.currentData()))
        self.column.addWidget(labelled("Look", self.look))
        self._build_matcaps()
        self._build_values()
        self._build_overlays()
        self.effects = QComboBox()
        self.effects.addItem("As fast as it draws", -1)
        for level, name in enumerate(EFFECTS):
            self.effects.addItem(name, level)
        self.effects.setAccessibleName("Effects")
        self.effects.setToolTip(
            "What is drawn besides form and light. By itself Kneten leaves out what would slow strokes down; "
            "stills always have all"
        )
        self.effects.activated.connect(lambda _: view.set_effects(self.effects.currentData()))
        self.column.addWidget(labelled("Effects", self.effects))
        self.effects_now = QLabel()
        self.effects_now.setObjectName("quiet")
        self.column.addWidget(self.effects_now)
        self.focal = NumberField(
            "Focal length", 10, 400, suffix="mm", decimals=0, curve=2, tip="Of the lens, on full frame"
        )
        self.focal.changed.connect(lambda _: self._lens())
        self.column.addWidget(labelled("Lens", self.focal))
        self._build_saved()
        studio.look_changed.connect(lambda moving: None if moving else self.fill())
        studio.project_changed.connect(self.fill)
        view.effects_changed.connect(self.show_effects)
        view.camera_changed.connect(self.show_lens)
        self.fill()

    # -- building -------------------------------------------------------------------------------

    def _build_matcaps(self) -> None:
        self.matcaps = QWidget()
        self._matcaps = QGridLayout(self.matcaps)
        self._matcaps.setContentsMargins(0, 0, 0, 0)
        self._matcaps.setSpacing(4)
        self.column.addWidget(self.matcaps)
        self.swatches: dict[str, QToolButton] = {}
        self._own_shown: tuple[str, ...] | None = None

    def _fill_matcaps(self) -> None:
        own = self._studio.project.settings.matcaps
        names = tuple(own)
        if names != self._own_shown:
            self._own_shown = names
            while item := self._matcaps.takeAt(0):
                if widget := item.widget():
                    widget.hide()
                    widget.deleteLater()
            self.swatches.clear()
            entries = [(key, name, tip) for key, (name, tip, _) in MATCAPS.items()]
            entries += [(f"own:{name}", name, "Your picture") for name in names]
            for i, (key, name, tip) in enumerate(entries):
                button = QToolButton()
                button.setObjectName("swatch")
                button.setIcon(swatch(key, own))
                button.setIconSize(QSize(SWATCH, SWATCH))
                button.setFixedSize(SWATCH + 10, SWATCH + 10)
                button.setCheckable(True)
                button.setAccessibleName(f"Matcap {name}")
                button.setToolTip(f"{name}: {tip[0].lower()}{tip[1:]}")
                button.clicked.connect(lambda _=False, key=key: self._studio.set_look(matcap=key))
                self._matcaps.addWidget(button, i // 5, i % 5)
                self.swatches[key] = button
            add = QToolButton()
            add.setObjectName("swatch")
            add.setText("+")
            add.setFixedSize(SWATCH + 10, SWATCH + 10)
            add.setAccessibleName("Add a matcap picture")
            add.setToolTip(self._registry.tip(self._registry.commands["look.own-matcap"]))
            add.clicked.connect(lambda: self._registry.run("look.own-matcap"))
            self._matcaps.addWidget(add, len(entries) // 5, len(entries) % 5)
        chosen = self._studio.project.settings.look.matcap
        for key, button in self.swatches.items():
            button.setChecked(key == chosen)

    def _build_values(self) -> None:
        look = self._studio.set_look
        self.soft = NumberField(
            "Shadow's edge", 0, 100, suffix="%", tip="0 is a hard edge, 100 a very soft one"
        )
        self.soft.changed.connect(lambda v: look(lamp_soft=v / 100))
        self.rough = NumberField("Roughness", 0, 100, suffix="%", tip="0 mirrors, 100 is dull")
        self.rough.changed.connect(lambda v: look(roughness=v / 100))
        self.metal = NumberField("Metalness", 0, 100, suffix="%", tip="0 is clay, 100 is metal")
        self.metal.changed.connect(lambda v: look(metalness=v / 100))
        self.steps = NumberField("Planes", 1, 12, decimals=0, tip="Planes over a quarter turn")
        self.steps.changed.connect(lambda v: look(steps=round(v)))
        self.band = NumberField(
            "Contours every", 0, 1000, unit="mm", decimals=1, curve=3, tip="0 chooses by the size of the clay"
        )
        self.band.changed.connect(lambda v: look(band=v))
        self.values: list[tuple[QWidget, tuple[str, ...]]] = []
        for name, field, kinds in (
            ("Shadow", self.soft, ("lamp", "sky")),
            ("Roughness", self.rough, ("sky", "lit")),
            ("Metalness", self.metal, ("sky", "lit")),
            ("Planes", self.steps, ("planes",)),
            ("Every", self.band, ("contours",)),
        ):
            row = labelled(name, field)
            self.column.addWidget(row)
            self.values.append((row, kinds))
        self.hint = Words()
        self.column.addWidget(self.hint)

    def _build_overlays(self) -> None:
        grid = QGridLayout()
        grid.setSpacing(4)
        self.overlays: dict[str, QCheckBox] = {}
        for i, (key, (name, tip)) in enumerate(OVERLAYS.items()):
            box = QCheckBox(name)
            box.setAccessibleName(name)
            box.setToolTip(tip)
            box.toggled.connect(
                lambda on, key=key: None if self._showing else self._studio.set_look(**{key: on})
            )
            grid.addWidget(box, i // 2, i % 2)
            self.overlays[key] = box
        self.column.addLayout(grid)

    def _build_saved(self) -> None:
        row = QHBoxLayout()
        label = QLabel("Saved views")
        label.setObjectName("quiet")
        row.addWidget(label, 1)
        save = QPushButton("Save view")
        save.setAccessibleName("Save view")
        save.setToolTip(self._registry.tip(self._registry.commands["view.save"]))
        save.clicked.connect(lambda: self._registry.run("view.save"))
        row.addWidget(save)
        self.column.addLayout(row)
        self.saved = QWidget()
        self._saved = QGridLayout(self.saved)
        self._saved.setContentsMargins(0, 0, 0, 0)
        self._saved.setSpacing(4)
        self.column.addWidget(self.saved)
        self.saved_buttons: list[QToolButton] = []

    # -- showing --------------------------------------------------------------------------------

    def fill(self) -> None:
        """Show what is set."""
        look = self._studio.project.settings.look
        self._showing = True
        self.look.setCurrentIndex(list(LOOKS).index(look.kind))
        self.matcaps.setVisible(look.kind == "matcap")
        if look.kind == "matcap":
            self._fill_matcaps()
        for row, kinds in self.values:
            row.setVisible(look.kind in kinds)
        self.soft.set_value(look.lamp_soft * 100)
        self.rough.set_value(look.roughness * 100)
        self.metal.set_value(look.metalness * 100)
        self.steps.set_value(look.steps)
        self.band.set_value(look.band)
        key = self._studio.preferences.held_keys["lamp"]
        self.hint.setText(f"Hold {key} and drag on the canvas to move the light.")
        self.hint.setVisible(look.kind in ("lamp", "sky"))
        for name, box in self.overlays.items():
            box.setChecked(getattr(look, name))
        self._showing = False
        self.show_effects()
        self.show_lens()
        self.show_saved()

    def show_effects(self) -> None:
        """Show what is set, and what is drawn."""
        wanted = self._studio.preferences.effects
        self.effects.setCurrentIndex(wanted + 1)
        self.effects_now.setText(f"Drawn now: {EFFECTS[self._view.effects].lower()}")
        self.effects_now.setVisible(wanted < 0)

    def show_lens(self) -> None:
        """Show the camera's focal length."""
        self.focal.set_value(self._studio.project.settings.camera.focal_length)

    def _lens(self) -> None:
        camera = self._studio.project.settings.camera
        slope = 12.0 / self.focal.value()
        import math

        self._view.set_main(camera.with_angle(2 * math.degrees(math.atan(slope))))

    def show_saved(self) -> None:
        """Show the saved views."""
        for button in self.saved_buttons:
            button.hide()
            button.deleteLater()
        self.saved_buttons = []
        for i, saved in enumerate(self._studio.project.settings.views):
            button = self._saved_button(saved)
            self._saved.addWidget(button, i // 3, i % 3)
            self.saved_buttons.append(button)

    def _saved_button(self, saved: SavedView) -> QToolButton:
        button = QToolButton()
        button.setObjectName("saved")
        picture = QPixmap()
        picture.loadFromData(saved.picture)
        button.setIcon(QIcon(picture))
        button.setIconSize(QSize(72, 45))
        button.setText(self.fontMetrics().elidedText(saved.name, Qt.TextElideMode.ElideRight, 70))
        button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        button.setAccessibleName(f"Saved view {saved.name}")
        button.setToolTip(f"Look from “{saved.name}”. Press the right button to rename or delete it")
        button.clicked.connect(lambda: self._view.fly(saved.camera))
        button.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        button.customContextMenuRequested.connect(
            lambda at: self._view.studio.wanted.emit(f"view.saved-menu {saved.id}")
        )
        return button
