"""The few questions that need an answer before something can go on."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QGridLayout,
    QLabel,
    QMessageBox,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from kneten.app.fields.fields import labelled
from kneten.core.light.turntable import MOST_PICTURES, Turntable
from kneten.document.project_file import ENDING
from kneten.formats.exchange import ENDINGS, usual_space
from kneten.formats.heights import ENDINGS as HEIGHTS
from kneten.formats.pictures import FILMS, NUMBERED
from kneten.formats.space import UNITS, Space
from kneten.render.still import PASSES

MESHES = "Meshes (" + " ".join(f"*{e}" for e in ENDINGS) + ")"
PROJECTS = f"Kneten projects (*{ENDING})"

Asking = TypeVar("Asking", bound=QWidget)


@contextmanager
def passing(asking: Asking) -> Iterator[Asking]:
    """A dialog or menu that is gone once it is answered: its parent would keep it, and all it holds, for good."""
    try:
        yield asking
    finally:
        asking.deleteLater()


def agree_or_not(dialog: QDialog) -> QDialogButtonBox:
    """The two buttons that end a dialog."""
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons


def ask_open(parent: QWidget, title: str, projects: bool) -> list[Path]:
    """Files to open or import."""
    kinds = f"{PROJECTS};;{MESHES}" if projects else MESHES
    names, _ = QFileDialog.getOpenFileNames(parent, title, "", kinds)
    return [Path(name) for name in names]


def ask_save(parent: QWidget, title: str, start: str, kinds: str) -> Path | None:
    """A file to write."""
    name, _ = QFileDialog.getSaveFileName(parent, title, start, kinds)
    return Path(name) if name else None


def ask_film(parent: QWidget, title: str, start: str) -> Path | None:
    """A film to write, or pictures with numbers."""
    kinds = f"Films ({' '.join(f'*{e}' for e in FILMS)});;Numbered pictures ({' '.join(f'*{e}' for e in NUMBERED)})"
    return ask_save(parent, title, start, kinds)


def ask_folder(parent: QWidget, title: str, start: str) -> Path | None:
    """A folder to write to."""
    name = QFileDialog.getExistingDirectory(parent, title, start)
    return Path(name) if name else None


class SpaceDialog(QDialog):
    """Unit and up axis of a file."""

    def __init__(self, parent: QWidget, path: Path, writing: bool) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"{'Export' if writing else 'Import'} {path.name}")
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        column.setSpacing(10)
        usual = usual_space(path)
        self.unit = QComboBox()
        self.unit.addItems(list(UNITS))
        self.unit.setCurrentText(usual.unit)
        self.unit.setAccessibleName("Unit of the file")
        self.up = QComboBox()
        self.up.addItems(["y", "z"])
        self.up.setAccessibleName("Up axis of the file")
        column.addWidget(QLabel("The file's own way to measure space:"))
        column.addWidget(labelled("One unit is", self.unit))
        column.addWidget(labelled("Up is", self.up))
        self.visible_only = QCheckBox("Only visible parts")
        self.visible_only.setChecked(True)
        self.ascii = QCheckBox("As readable text (larger)")
        if writing:
            column.addWidget(self.visible_only)
            if path.suffix.lower() in (".ply", ".stl"):
                column.addWidget(self.ascii)
        column.addWidget(agree_or_not(self))

    def space(self) -> Space:
        """What was chosen."""
        return Space(self.unit.currentText(), self.up.currentText())


class StillDialog(QDialog):
    """Size and ground of an exported picture."""

    def __init__(self, parent: QWidget, width: int, height: int) -> None:
        super().__init__(parent)
        self.setWindowTitle("Export a still")
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        column.setSpacing(10)
        self.wide, self.high = QSpinBox(), QSpinBox()
        for box, value, name in ((self.wide, width, "Width"), (self.high, height, "Height")):
            box.setRange(16, 16384)
            box.setValue(value)
            box.setSuffix(" px")
            box.setAccessibleName(name)
            column.addWidget(labelled(name, box))
        self.clear = QCheckBox("Transparent ground (PNG, WebP, OpenEXR)")
        column.addWidget(self.clear)
        self.fine = QCheckBox("16 bits for each colour (PNG)")
        column.addWidget(self.fine)
        words = QLabel("Passes, as layers of an OpenEXR file or in files beside the picture:")
        words.setWordWrap(True)
        column.addWidget(words)
        grid = QGridLayout()
        self.passes = {}
        for k, (key, (name, tip)) in enumerate(PASSES.items()):
            self.passes[key] = QCheckBox(name)
            self.passes[key].setToolTip(tip)
            grid.addWidget(self.passes[key], k // 2, k % 2)
        column.addLayout(grid)
        column.addWidget(agree_or_not(self))


class TurntableDialog(QDialog):
    """How a film of the clay goes round."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Export a turntable")
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        column.setSpacing(10)
        usual = Turntable()
        self.wide, self.high = whole_number(16, 8192, 1280, " px"), whole_number(16, 8192, 720, " px")
        self.pictures = whole_number(2, MOST_PICTURES, usual.pictures, "")
        self.pace = whole_number(1, 240, round(usual.pace), " a second")
        self.turns = whole_number(1, 20, usual.turns, "")
        self.ease = whole_number(0, 100, round(100 * usual.ease), " %")
        self.pauses = whole_number(0, 36, usual.pauses, "")
        for name, box in (
            ("Width", self.wide),
            ("Height", self.high),
            ("Pictures", self.pictures),
            ("Pace", self.pace),
            ("Whole turns", self.turns),
            ("Ease", self.ease),
            ("Pauses in a turn", self.pauses),
        ):
            box.setAccessibleName(name)
            column.addWidget(labelled(name, box))
        self.back = QCheckBox("The other way round")
        column.addWidget(self.back)
        column.addWidget(agree_or_not(self))

    def table(self) -> Turntable:
        """What was chosen."""
        turns = -self.turns.value() if self.back.isChecked() else self.turns.value()
        return Turntable(
            self.pictures.value(), self.pace.value(), turns, self.ease.value() / 100, self.pauses.value()
        )


def whole_number(low: int, high: int, value: int, suffix: str) -> QSpinBox:
    """A whole number."""
    box = QSpinBox()
    box.setRange(low, high)
    box.setValue(value)
    box.setSuffix(suffix)
    return box


def ask_picture(parent: QWidget) -> Path | None:
    """A picture to read, or None."""
    name, _ = QFileDialog.getOpenFileName(parent, "Picture", "", "Pictures (*.png *.jpg *.jpeg *.webp *.tif)")
    return Path(name) if name else None


def ask_tools(parent: QWidget) -> list[Path]:
    """Files of own tools; none when the user thinks better of it."""
    names, _ = QFileDialog.getOpenFileNames(parent, "Load own tools", "", "Kneten tool (*.kneten-tool)")
    return [Path(name) for name in names]


def ask_materials(parent: QWidget) -> Path | None:
    """A file of materials to read, or None."""
    name, _ = QFileDialog.getOpenFileName(parent, "Load materials", "", "Materials (*.json)")
    return Path(name) if name else None


def ask_sky(parent: QWidget) -> Path | None:
    """A picture of a sky to read, or None."""
    name, _ = QFileDialog.getOpenFileName(parent, "Load a sky", "", "Skies (*.hdr *.exr)")
    return Path(name) if name else None


def ask_table(parent: QWidget) -> Path | None:
    """A colour table to read, or None."""
    name, _ = QFileDialog.getOpenFileName(parent, "Load a colour table", "", "Colour tables (*.cube)")
    return Path(name) if name else None


def ask_pictures(parent: QWidget) -> list[Path]:
    """Pictures to read; empty when none was chosen."""
    kinds = "Pictures (*.png *.jpg *.jpeg *.webp *.tif *.tiff)"
    names, _ = QFileDialog.getOpenFileNames(parent, "Add pictures", "", kinds)
    return [Path(name) for name in names]


def ask_presses(parent: QWidget) -> list[Path]:
    """Pictures to make presses of; empty when none was chosen."""
    kinds = f"Pictures ({' '.join(f'*{ending}' for ending in HEIGHTS)})"
    names, _ = QFileDialog.getOpenFileNames(parent, "Import presses", "", kinds)
    return [Path(name) for name in names]


def ask_deep_presses(parent: QWidget) -> list[Path]:
    """EXR files to read deep presses from; empty when none was chosen."""
    names, _ = QFileDialog.getOpenFileNames(parent, "Import deep presses", "", "Deep presses (*.exr)")
    return [Path(name) for name in names]


def ask_unsaved(parent: QWidget) -> str:
    """What to do with unsaved work: save, discard or stay."""
    with passing(QMessageBox(parent)) as box:
        box.setWindowTitle("Unsaved work")
        box.setText("This project has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Do not save", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay here", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is save:
            return "save"
        return "discard" if box.clickedButton() is drop else "stay"
