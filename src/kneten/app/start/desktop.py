"""Puts Kneten on the desktop: menu entry, icons, file type with thumbnails."""

from __future__ import annotations

import contextlib
import importlib.resources
import io
import os
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

from PIL import Image

from kneten.document.arrays_file import ProjectFileError, read_content, replacing
from kneten.document.preview import preview_of

SIZES = (16, 22, 24, 32, 48, 64, 96, 128, 256, 512)
MIME = "application/x-kneten-project"

ENTRY = """[Desktop Entry]
Type=Application
Name=Kneten
GenericName=Sculpting
Comment=Sculpt characters and creatures in clay
Exec={command} %F
Icon=kneten
Terminal=false
Categories=Graphics;3DGraphics;
MimeType={mime};model/obj;model/stl;model/gltf-binary;
StartupWMClass=Kneten
Keywords=sculpt;clay;3D;character;creature;
"""

TYPE = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{mime}">
    <comment>Kneten project</comment>
    <sub-class-of type="application/zip"/>
    <glob pattern="*{ending}"/>
    <icon name="kneten"/>
  </mime-type>
</mime-info>
"""

THUMBNAILER = """[Thumbnailer Entry]
Exec={command} thumbnail %i %o %s
MimeType={mime};
"""


def launcher() -> str:
    """The command that starts this Kneten, as desktop files write it."""
    given = os.environ.get("KNETEN_LAUNCHER")
    if given:
        return shlex.quote(given)
    return f"{shlex.quote(sys.executable)} -m kneten"


def data_home() -> Path:
    """Where the user's desktop looks for such things."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def icon_picture(size: int) -> bytes:
    """The application's icon as PNG: its sign on a dark tile."""
    from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QRectF, Qt
    from PySide6.QtGui import QColor, QImage, QPainter
    from PySide6.QtSvg import QSvgRenderer

    from kneten.app.fields.theme import THEMES, coloured_drawing

    theme = THEMES["kiln"]
    image = QImage(size, size, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(theme.panel))
    painter.drawRoundedRect(QRectF(0, 0, size, size), size * 0.22, size * 0.22)
    renderer = QSvgRenderer(QByteArray(coloured_drawing("kneten", theme).encode()))
    box = renderer.viewBoxF()
    wide = size * 0.74
    high = wide * box.height() / box.width()
    renderer.render(painter, QRectF((size - wide) / 2, (size - high) / 2, wide, high))
    painter.end()
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(data.data())


def install(root: Path | None = None) -> list[Path]:
    """Write everything under the user's data folder; returns the files. Raises `ProjectFileError`."""
    from kneten.document.project_file import ENDING

    root = root or data_home()
    command = launcher()
    files: dict[Path, bytes] = {
        root / "applications" / "kneten.desktop": ENTRY.format(command=command, mime=MIME).encode(),
        root / "mime" / "packages" / "kneten.xml": TYPE.format(mime=MIME, ending=ENDING).encode(),
        root / "thumbnailers" / "kneten.thumbnailer": THUMBNAILER.format(command=command, mime=MIME).encode(),
    }
    drawing = importlib.resources.files("kneten") / "data" / "icons" / "kneten.svg"
    assert drawing.is_file()
    for size in SIZES:
        files[root / "icons" / "hicolor" / f"{size}x{size}" / "apps" / "kneten.png"] = icon_picture(size)
    for path, data in files.items():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise ProjectFileError(f"{path.parent} cannot be made ({error.strerror}).") from error
        with replacing(path) as file:
            file.write(data)
    for tool, folder in (
        ("update-mime-database", root / "mime"),
        ("update-desktop-database", root / "applications"),
        ("gtk-update-icon-cache", root / "icons" / "hicolor"),
    ):
        found = shutil.which(tool)
        if found:
            # They only make the desktop notice sooner.
            with contextlib.suppress(OSError, subprocess.SubprocessError):
                options = ["-t"] if tool.startswith("gtk") else []
                subprocess.run([found, *options, str(folder)], capture_output=True, timeout=30, check=False)
    return list(files)


def thumbnail(project: Path, target: Path, size: int) -> None:
    """A project's picture for the desktop's file manager. Raises `ProjectFileError`."""
    data = preview_of(project)
    if data:
        image = Image.open(io.BytesIO(data)).convert("RGB")
    else:
        from kneten.core.arrays import Progress
        from kneten.document.project_file import restore
        from kneten.render.still import StillError, render_still

        found = restore(read_content(project, Progress()), project.name)
        try:
            image = render_still(found.scene, found.settings.camera, 480, 300)
        except StillError as error:
            raise ProjectFileError(str(error)) from error
    image.thumbnail((size, size), Image.Resampling.LANCZOS)
    with replacing(target) as file:
        image.save(file, "PNG")
