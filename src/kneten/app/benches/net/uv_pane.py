"""The pane of UVs beside the clay: islands as they lie on the picture, chosen by a press, dragged, turned and sized."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from kneten.core.arrays import F64, I32, U8, AnyArray
from kneten.core.uv.edit import about_middle, changed, rotation
from kneten.core.uv.measure import tiles_of
from kneten.core.uv.raster import corner_places, filled, triangles_of
from kneten.document.unwrapping import put_uv

if TYPE_CHECKING:
    from kneten.app.benches.net.unwrapping import Shown
    from kneten.app.view.desk import Desk

ROOM = 18.0
"""Pixels around the tile when it is framed."""

LINES_FROM = 5.0
"""Pixels of a face from which on its edges are drawn."""

CHECKS = 32


class UvSheet(QWidget):
    """Where the islands lie: wheel zooms, middle or right drag moves; left chooses and drags islands.

    Attributes
    ----------
    scale : float
        Pixels across a tile.
    corner : (2,) float64
        Where the tile's lower left is, in pixels.
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._of = desk.unwrapping
        self.scale = 300.0
        self.corner: F64 = np.array([ROOM, 320.0])
        self._framed = True
        self._pan: QPointF | None = None
        self._drag: tuple[QPointF, str] | None = None
        self._moved: AnyArray | None = None
        self._image: tuple[object, QImage, I32] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setMouseTracking(False)
        self.setAccessibleName("Picture plane of the UVs")
        self.setAccessibleDescription(
            "Press an island to choose it, Shift adds; drag moves what is chosen, Ctrl turns, Alt sizes. The wheel zooms."
        )

    # -- places --------------------------------------------------------------------------------

    def frame(self) -> None:
        """Bring all tiles into sight."""
        shown = self._of.shown()
        tiles = (tiles_of(shown.uv) if shown is not None else []) or [(0, 0)]
        table = np.array([*tiles, (0, 0)])
        low, high = table.min(axis=0), table.max(axis=0) + 1
        wide, tall = max(self.width() - 2 * ROOM, 40), max(self.height() - 2 * ROOM, 40)
        self.scale = float(min(wide / (high - low)[0], tall / (high - low)[1]))
        middle = np.array([self.width() / 2, self.height() / 2])
        at = (low + high) / 2 * self.scale
        self.corner = middle - [at[0], -at[1]]
        self._framed = True
        self.update()

    def pixels(self, uv: AnyArray) -> F64:
        """Where places (..., 2) of the picture plane are, in pixels."""
        return np.asarray(self.corner + np.asarray(uv, np.float64) * [self.scale, -self.scale])

    def plane(self, point: QPointF) -> F64:
        """The place (2,) of the picture plane under a pixel."""
        return np.asarray((np.array([point.x(), point.y()]) - self.corner) / [self.scale, -self.scale])

    def resizeEvent(self, event: object) -> None:  # noqa: N802
        if self._framed:
            self.frame()

    def face_at(self, point: QPointF) -> int:
        """The face of the cage under a pixel; -1 where there is none."""
        if self._image is None:
            return -1
        faces = self._image[2]
        x, y = int(point.x()), int(point.y())
        if not (0 <= y < faces.shape[0] and 0 <= x < faces.shape[1]):
            return -1
        return int(faces[y, x])

    # -- drawing -------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        theme = self._desk.theme
        painter.fillRect(self.rect(), QColor(theme.base))
        shown = self._of.shown()
        self._tiles(painter, shown)
        if shown is not None:
            painter.drawImage(0, 0, self._picture(shown))
            self._marks(painter, shown)
        else:
            painter.setPen(QColor(theme.quiet))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No UVs yet")
        painter.end()

    def _tiles(self, painter: QPainter, shown: Shown | None) -> None:
        for tile in (tiles_of(shown.uv) if shown is not None else []) or [(0, 0)]:
            a, b = (
                self.pixels(np.array([tile[0], tile[1] + 1])),
                self.pixels(np.array([tile[0] + 1, tile[1]])),
            )
            painter.setPen(QPen(QColor(self._desk.theme.line), 1.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(QPointF(*a), QPointF(*b)))
            if self._of.showing == "checker":
                continue
            faint = QColor(self._desk.theme.line)
            faint.setAlpha(70)
            painter.setPen(QPen(faint, 1.0))
            for k in range(1, 4):
                x, y = a + (b - a) * k / 4
                painter.drawLine(QPointF(x, a[1]), QPointF(x, b[1]))
                painter.drawLine(QPointF(a[0], y), QPointF(b[0], y))

    def _picture(self, shown: Shown) -> QImage:
        """The islands, pixel by pixel."""
        key = (
            id(shown), self._of.showing, tuple(sorted(self._of.chosen)), self.size(), self.scale, tuple(self.corner),
            None if self._moved is None else self._moved.tobytes(), self._desk.theme.base,
        )  # fmt: skip
        if self._image is None or self._image[0] != key:
            self._image = (key, *self._drawn(shown))
        return self._image[1]

    def _drawn(self, shown: Shown) -> tuple[QImage, I32]:
        wide, high = max(self.width(), 1), max(self.height(), 1)
        faces = shown.cage.mesh.topology.faces
        owner, corners = triangles_of(faces)
        at = self.pixels(corner_places(self._uv(shown), owner, corners))
        triangle, times = filled(at, wide, high)
        inside = triangle >= 0
        face = np.where(inside, owner[np.maximum(triangle, 0)], -1).astype(np.int32)
        island = np.where(inside, shown.islands.of_face[np.maximum(face, 0)], -1)
        out = np.zeros((high, wide, 4), np.uint8)
        out[inside] = self._colours(shown, face[inside])
        if self._of.showing == "checker":
            y, x = np.nonzero(inside)
            plane = (np.stack([x + 0.5, y + 0.5], axis=1) - self.corner) / [self.scale, -self.scale]
            odd = (np.floor(plane * CHECKS).sum(axis=1) % 2).astype(bool)
            out[y, x, :3] = np.where(odd[:, None], (222, 214, 199), (84, 92, 99)).astype(np.uint8)
        out[times > 1, :3] = (200, 40, 60)
        span = np.sqrt(max(inside.sum(), 1) / max(len(faces), 1))
        for axis in (0, 1):
            there = np.roll(face, -1, axis=axis)
            edge = inside & (face != there) if span >= LINES_FROM else np.zeros_like(inside)
            rim = (island != np.roll(island, -1, axis=axis)) & (inside | (np.roll(face, -1, axis=axis) >= 0))
            out[edge, :3] = (out[edge, :3] * 0.62).astype(np.uint8)
            out[rim] = np.append(self._rgb(self._desk.theme.text), 235)
        image = QImage(out.tobytes(), wide, high, 4 * wide, QImage.Format.Format_RGBA8888)
        return image.copy(), face

    def _rgb(self, name: str) -> F64:
        colour = QColor(name)
        return np.array([colour.red(), colour.green(), colour.blue()], np.float64)

    def _colours(self, shown: Shown, face: I32) -> U8:
        """What faces (k,) are filled with, (k, 4)."""
        theme = self._desk.theme
        plain = 0.45 * self._rgb(theme.quiet) + 0.55 * self._rgb(theme.base)
        tints = self._of.tints(shown)[face].astype(float)
        share = tints[:, 3:] / 255
        colour = plain + share * (tints[:, :3] - plain)
        chosen = np.isin(face, self._of.rows(shown)) if self._of.chosen else np.zeros(len(face), bool)
        accent = self._rgb(theme.accent)
        colour[chosen] = 0.5 * colour[chosen] + 0.5 * accent
        return np.concatenate([colour, np.full((len(face), 1), 255)], axis=1).astype(np.uint8)

    def _marks(self, painter: QPainter, shown: Shown) -> None:
        """A box around what is chosen."""
        if not self._of.chosen:
            return
        rows = self._of.rows(shown)
        has = shown.islands.faces[rows] >= 0
        at = self.pixels(self._uv(shown).reshape(-1, 4, 2)[rows][has])
        low, high = at.min(axis=0) - 3, at.max(axis=0) + 3
        painter.setPen(QPen(QColor(self._desk.theme.accent), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(QPointF(*low), QPointF(*high)))

    def _uv(self, shown: Shown) -> AnyArray:
        return shown.uv if self._moved is None else self._moved

    # -- pointer ----------------------------------------------------------------------------------

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        at = event.position()
        place = self.plane(at)
        self.scale = float(np.clip(self.scale * 1.0015 ** event.angleDelta().y(), 40.0, 60_000.0))
        self.corner = np.array([at.x(), at.y()]) - place * [self.scale, -self.scale]
        self._framed = False
        self.update()
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        if event.button() != Qt.MouseButton.LeftButton:
            self._pan = at
            return
        shown = self._of.shown()
        if shown is None:
            return
        face = self.face_at(at)
        more = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        numbers = {int(shown.islands.of_face[one]): one for one in self._of.chosen}
        if face < 0:
            if not more:
                self._of.choose(())
            return
        number = int(shown.islands.of_face[face])
        if more and number in numbers:
            self._of.choose(one for key, one in numbers.items() if key != number)
            return
        if number not in numbers:
            self._of.choose([*(self._of.chosen if more else ()), face])
        keys = event.modifiers()
        how = "turn" if keys & Qt.KeyboardModifier.ControlModifier else "size" if keys & Qt.KeyboardModifier.AltModifier else "move"  # fmt: skip
        if not self._of.no_island():
            self._drag = (at, how)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        if self._pan is not None:
            self.corner = self.corner + np.array([at.x() - self._pan.x(), at.y() - self._pan.y()])
            self._pan, self._framed = at, False
            self.update()
            return
        shown = self._of.shown()
        if self._drag is None or shown is None:
            return
        if (at - self._drag[0]).manhattanLength() > 3 or self._moved is not None:
            self._moved = self._changed(shown, at)
            self.update()

    def _changed(self, shown: Shown, at: QPointF) -> AnyArray:
        """The UVs as the drag makes them."""
        assert self._drag is not None
        start, how = self._drag
        rows, faces = self._of.rows(shown), shown.islands.faces
        if how == "move":
            way = self.plane(at) - self.plane(start)
            return changed(shown.uv, rows, faces, lambda places: places + way)
        has = faces[rows] >= 0
        places = shown.uv.reshape(-1, 4, 2)[rows][has]
        middle = 0.5 * (places.min(axis=0) + places.max(axis=0))
        a, b = self.plane(start) - middle, self.plane(at) - middle
        if how == "turn":
            angle = np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
            return changed(shown.uv, rows, faces, about_middle(rotation(float(angle))))
        factor = float(np.clip(np.hypot(*b) / max(float(np.hypot(*a)), 1e-9), 0.02, 50))
        return changed(shown.uv, rows, faces, about_middle(np.eye(2) * factor))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._pan = None
        drag, self._drag = self._drag, None
        made, self._moved = self._moved, None
        shown = self._of.shown()
        if drag is not None and made is not None and shown is not None and not self._of.no_island():
            name = {"move": "Move islands", "turn": "Turn islands", "size": "Size islands"}[drag[1]]
            part = self._desk.studio.project.scene.part(shown.part_id)
            put_uv(self._desk.studio.project, part, shown.cage, made, name)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape and self._drag is not None:
            self._drag = self._moved = None
            self.update()
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self.face_at(event.position()) < 0:
            self.frame()


class UvPane(QWidget):
    """The sheet with its head."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.middle)
        self._desk = desk
        self.setObjectName("board")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        sheet = UvSheet(desk)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setContentsMargins(12, 4, 6, 4)
        title = QLabel("UVs")
        title.setObjectName("heading")
        head.addWidget(title)
        head.addStretch(1)
        frame = QToolButton()
        frame.setText("Frame")
        frame.setAccessibleName("Frame all islands")
        frame.setToolTip("Brings all tiles into sight")
        frame.clicked.connect(sheet.frame)
        head.addWidget(frame)
        command = desk.registry.commands["uv.pane"]
        close = QToolButton()
        close.setText("Close")
        close.setAccessibleName(command.name)
        close.setToolTip(desk.registry.tip(command))
        close.clicked.connect(lambda: desk.registry.run("uv.pane"))
        head.addWidget(close)
        column.addLayout(head)
        self.sheet = sheet
        column.addWidget(self.sheet, 1)
        self.hide()
        desk.unwrapping.changed.connect(self._renew)

    def _renew(self) -> None:
        if self.isVisible():
            self.sheet.update()

    @property
    def shown(self) -> bool:
        """Whether it is to be seen."""
        return not self.isHidden()

    def switch(self) -> None:
        """Show it beside the view, or hide it."""
        if self.shown:
            self.hide()
            return
        desk = self._desk
        desk.columns.removeWidget(self)
        desk.columns.insertWidget(2, self)
        room = desk.view.width()
        self.setFixedWidth(min(max(room * 45 // 100, 220), 1100))
        self.show()
        self.sheet.frame()
