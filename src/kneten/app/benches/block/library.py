"""The part library: a folder of project files with pictures, and what comes along with Kneten."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs
from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import (
    QHBoxLayout,
    QInputDialog,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
)

from kneten.app.work.panel import Panel
from kneten.core.arrays import Progress
from kneten.core.live.starter import STARTERS
from kneten.document.incoming import bring_in, own_scene
from kneten.document.numbers import RegionError
from kneten.document.project import Project
from kneten.document.project_file import ENDING, open_project, save_project
from kneten.document.scene import Part, Scene, bring_back, keep
from kneten.render.still import encoded, render_still
from kneten.render.style import Style

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PICTURE = QSize(112, 84)


def library_folder() -> Path:
    """Where the user's own parts lie: ordinary project files, one for each entry."""
    base = os.environ.get("KNETEN_STATE") or platformdirs.user_data_dir("kneten")
    return Path(base) / "library"


@dataclass(frozen=True)
class Entry:
    """Something that can be put into a project."""

    name: str
    scene: Callable[[], Scene]
    path: Path | None = None


def starter(key: str) -> Scene:
    """A starter part, live."""
    name, make = STARTERS[key]
    recipe = make()
    return Scene((Part(name, recipe.made().mesh(), recipe=recipe),))


def _scene_of(path: Path) -> Scene:
    return open_project(path, Progress()).scene


def entries() -> list[Entry]:
    """The starters, then the user's own by name."""
    found = [Entry(name, partial(starter, key)) for key, (name, _) in STARTERS.items()]
    folder = library_folder()
    for path in sorted(folder.glob(f"*{ENDING}")) if folder.is_dir() else []:
        found.append(Entry(path.stem, partial(_scene_of, path), path))
    return found


class Library:
    """Commands around the library."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    def open(self) -> None:
        """Show the library."""
        self._desk.library_panel.open()

    def keep(self) -> None:
        """Ask for a name and keep the chosen parts."""
        chosen = self._studio.project.chosen
        start = chosen[0].name if len(chosen) == 1 else "Parts"
        name, agreed = QInputDialog.getText(self._desk, "Keep in the library", "Name:", text=start)
        if agreed and name.strip():
            self.keep_parts(name.strip(), chosen)

    def keep_armature(self) -> None:
        """Keep the armature in hand."""
        part = self._studio.project.active
        if part is not None:
            self.keep_parts(part.name, (part,))

    def keep_parts(self, name: str, parts: tuple[Part, ...]) -> None:
        """Write parts to a file of the library, under a name that is free."""
        kept = keep(parts)
        names = own_scene(self._studio.project.scene, parts).region_names

        def write(progress: Progress) -> Path:
            folder = library_folder()
            folder.mkdir(parents=True, exist_ok=True)
            stem = " ".join(re.sub(r'[\\/:*?"<>|\x00-\x1f]', " ", name).split()).strip(". ")[:80] or "Part"
            path, count = folder / f"{stem}{ENDING}", 2
            while path.exists():
                path, count = folder / f"{stem} {count}{ENDING}", count + 1
            living = bring_back(kept)
            scene = Scene(tuple(replace(part, group="") for part in living), region_names=names)
            save_project(Project(scene), path, picture_of(living))
            return path

        self._studio.start(
            "Keep in the library", write, lambda path: self._studio.say(f"{path.stem} is in the library now.")
        )

    def put(self, entry: Entry) -> None:
        """Put an entry's parts into the project, beside what is there."""

        def arrived(scene: Scene) -> None:
            try:
                added = bring_in(self._studio.project, f"Put {entry.name}", scene)
            except RegionError as error:
                self._studio.say(str(error), "warning")
                return
            if added:
                self._desk.views.frame_part()

        self._studio.start("Library", lambda progress: entry.scene(), arrived)


def picture_of(parts: tuple[Part, ...]) -> bytes:
    """A small picture of parts."""
    from kneten.core.camera import Camera

    scene = Scene(tuple(replace(p, visible=True) for p in parts))
    low, high = scene.bounds()
    camera = replace(Camera(), yaw=28.0, pitch=16.0).framing(low, high, PICTURE.width() / PICTURE.height())
    return encoded(render_still(scene, camera, PICTURE.width() * 2, PICTURE.height() * 2, Style()))


class LibraryPanel(Panel):
    """The library's entries with pictures; a double click or Enter puts one into the project."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Part library", 620, 520)
        self._desk = desk
        self._pictures: dict[str, QIcon] = {}
        self._entries: list[Entry] = []
        body = QVBoxLayout()
        self.list = QListWidget()
        self.list.setViewMode(QListWidget.ViewMode.IconMode)
        self.list.setIconSize(PICTURE)
        self.list.setGridSize(QSize(136, 126))
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setMovement(QListWidget.Movement.Static)
        self.list.setWordWrap(True)
        self.list.setAccessibleName("Part library")
        self.list.itemActivated.connect(lambda _: self.put())
        body.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.button = QPushButton("Put into the project")
        self.button.setObjectName("primary")
        self.button.setToolTip("Puts the chosen entry beside what is there (Enter)")
        self.button.clicked.connect(self.put)
        self.drop = QPushButton("Delete from the library")
        self.drop.setToolTip("Takes an entry of your own out of the library, for good")
        self.drop.clicked.connect(self.delete)
        row.addStretch(1)
        row.addWidget(self.drop)
        row.addWidget(self.button)
        body.addLayout(row)
        self.column.addLayout(body)
        self.list.currentRowChanged.connect(lambda _: self._allow())

    def open(self) -> None:
        """Show it with what is there now."""
        if not self.isVisible():
            self.fill()
        super().open()

    def fill(self) -> None:
        """Show what is there now; pictures follow from another thread."""
        self._entries = entries()
        self.list.clear()
        for entry in self._entries:
            item = QListWidgetItem(entry.name)
            item.setTextAlignment(Qt.AlignmentFlag.AlignHCenter)
            item.setToolTip(f"Put {entry.name} into the project")
            key = self._key(entry)
            if key in self._pictures:
                item.setIcon(self._pictures[key])
            else:
                blank = QPixmap(PICTURE)
                blank.fill(Qt.GlobalColor.transparent)
                item.setIcon(QIcon(blank))
                self._desk.studio.aside(partial(self._picture, entry), partial(self._arrived, key))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self._allow()

    def _key(self, entry: Entry) -> str:
        if entry.path is None:
            return entry.name
        return f"{entry.path}:{entry.path.stat().st_mtime_ns}" if entry.path.exists() else str(entry.path)

    def _picture(self, entry: Entry) -> bytes:
        if entry.path is not None:
            import zipfile

            try:
                with zipfile.ZipFile(entry.path) as archive:
                    return archive.read("preview.png")
            except (OSError, KeyError, zipfile.BadZipFile):
                return b""
        return picture_of(entry.scene().parts)

    def _arrived(self, key: str, data: bytes) -> None:
        image = QImage.fromData(data)
        if not image.isNull():
            self._pictures[key] = QIcon(QPixmap.fromImage(image))
            for row, entry in enumerate(self._entries):
                item = self.list.item(row)
                if item is not None and self._key(entry) == key:
                    item.setIcon(self._pictures[key])

    def _allow(self) -> None:
        entry = self.current()
        self.button.setEnabled(entry is not None)
        self.drop.setEnabled(entry is not None and entry.path is not None)

    def current(self) -> Entry | None:
        """The entry that is chosen."""
        row = self.list.currentRow()
        return self._entries[row] if 0 <= row < len(self._entries) else None

    def put(self) -> None:
        """Put the chosen entry into the project."""
        entry = self.current()
        if entry is not None:
            self.leave()
            self._desk.library.put(entry)

    def delete(self) -> None:
        """Take the user's own entry away; it goes to no bin, so it is asked for first."""
        from PySide6.QtWidgets import QMessageBox

        entry = self.current()
        if entry is None or entry.path is None:
            return
        answer = QMessageBox.question(self, "Delete", f"Delete {entry.name} from the library for good?")
        if answer == QMessageBox.StandardButton.Yes:
            entry.path.unlink(missing_ok=True)
            self.fill()
