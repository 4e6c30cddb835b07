"""The field of colours: hue across, lightness up, as one sees them; how colourful is a bar below it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from kneten.core.paint.ink import Colour
from kneten.core.paint.light import codes_of, lightness_colour_hue

HIGH, BAR, GAP = 118, 14, 5

MOST = 0.30
"""How colourful colours are at most that the field offers: what screens show of the strongest reds and violets."""

STEP = 0.02


class ColourField(QWidget):
    """A map of hue and lightness at the present colourfulness, and a bar of that.

    Signals
    -------
    changed(tuple)
        sRGB codes, while dragging.
    settled(tuple)
        Once a drag has ended.
    """

    changed = Signal(object)
    settled = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.lightness, self.colourful, self.hue = 0.6, 0.08, 40.0
        self._map: tuple[object, QImage] | None = None
        self._on_bar = False
        self._dragging = False
        self.setFixedHeight(HIGH + GAP + BAR + 2)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setAccessibleName("Colour field")
        self.setToolTip(
            "Hue across, lightness up; the bar says how colourful. Arrow keys: small steps, with Shift on the bar"
        )

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, self.height())

    def colour(self) -> Colour:
        """The colour chosen, sRGB codes."""
        r, g, b = codes_of(np.array(self.lightness), np.array(self.colourful), np.array(self.hue)).tolist()
        return r, g, b

    def set_colour(self, colour: Colour) -> None:
        """Show another colour without telling anyone; greys keep the hue that was shown."""
        if self._dragging or colour == self.colour():
            return
        lightness, colourful, hue = lightness_colour_hue(np.array(colour)).tolist()
        self.lightness, self.colourful = lightness, min(colourful, MOST)
        if colourful > 0.004:
            self.hue = hue
        self.update()

    # -- painting -------------------------------------------------------------------------------

    def _picture(self) -> QImage:
        ratio = self.devicePixelRatioF()
        wide, high = max(int(self.width() * ratio), 2), int(HIGH * ratio)
        key = (wide, high, round(self.colourful, 3))
        if self._map is None or self._map[0] != key:
            # A quarter of the pixels each way: colours change slowly here.
            hue = np.linspace(0, 360, max(wide // 4, 2))[None, :]
            light = np.linspace(1, 0, max(high // 4, 2))[:, None]
            codes = codes_of(light, np.array(self.colourful), hue)
            small = QImage(
                np.ascontiguousarray(codes).tobytes(), codes.shape[1], codes.shape[0], 3 * codes.shape[1],
                QImage.Format.Format_RGB888,
            )  # fmt: skip
            mode = Qt.TransformationMode.SmoothTransformation
            self._map = key, small.scaled(wide, high, Qt.AspectRatioMode.IgnoreAspectRatio, mode)
        return self._map[1]

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawImage(QRectF(0, 0, self.width(), HIGH), self._picture())
        bar = QRectF(0, HIGH + GAP, self.width(), BAR)
        shares = np.linspace(0, MOST, 48)
        codes = codes_of(np.array(self.lightness), shares, np.array(self.hue))
        strip = QImage(np.ascontiguousarray(codes).tobytes(), 48, 1, 144, QImage.Format.Format_RGB888)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(bar, strip)
        at = QPointF(self.hue / 360 * self.width(), (1 - self.lightness) * HIGH)
        x = self.colourful / MOST * self.width()
        for ink, width in ((QColor(0, 0, 0, 170), 3.2), (QColor(255, 255, 255), 1.5)):
            painter.setPen(QPen(ink, width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 5.5, 5.5)
            painter.drawLine(QPointF(x, bar.top() - 1), QPointF(x, bar.bottom() + 1))
        if self.hasFocus():
            painter.setPen(QPen(QColor(255, 255, 255, 160), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, HIGH - 1))

    # -- hands ----------------------------------------------------------------------------------

    def _take(self, at: QPointF) -> None:
        across = min(max(at.x() / max(self.width(), 1), 0.0), 1.0)
        if self._on_bar:
            self.colourful = across * MOST
        else:
            self.hue = across * 360
            self.lightness = min(max(1 - at.y() / HIGH, 0.0), 1.0)
        self.update()
        self.changed.emit(self.colour())

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.LeftButton:
            self._dragging = True
            self._on_bar = event.position().y() > HIGH + GAP / 2
            self._take(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._dragging:
            self._take(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._dragging and event.button() == Qt.MouseButton.LeftButton:
            self._dragging = False
            self.settled.emit(self.colour())

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        ways = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        way = ways.get(Qt.Key(event.key()))
        if way is None:
            super().keyPressEvent(event)
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.colourful = min(max(self.colourful + STEP * MOST * (way[0] + way[1]), 0.0), MOST)
        else:
            self.hue = (self.hue + 360 * STEP * way[0]) % 360
            self.lightness = min(max(self.lightness + STEP * way[1], 0.0), 1.0)
        self.update()
        self.settled.emit(self.colour())
