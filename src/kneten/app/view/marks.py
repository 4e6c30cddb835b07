"""What is painted over the pictures: that they are mirrored, what colours mean, what is compared."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen

from kneten.app.fields.quantities import number_text
from kneten.core.heat import PALETTES

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas


@dataclass(frozen=True)
class Feel:
    """Size and strength while they are changed by a drag on the canvas.

    Attributes
    ----------
    x, y : float
        Middle of the ring, pixels of the viewport.
    size, strength : float
        Radius in pixels; 0..1.
    """

    x: float
    y: float
    size: float
    strength: float


PANE_NAMES = {"main": "", "front": "Front", "right": "Right", "top": "Top", "then": ""}

LEGENDS = {
    "curvature": ("Curvature", "hollow", "flat", "ridge"),
    "stretch": ("Longest to shortest edge", "1", "2.8", "8"),
    "density": ("Edge length, of the mean", "¼", "1", "4"),
}


def paint_marks(painter: QPainter, view: Canvas) -> None:
    """Paint everything that is not the brush."""
    ink, back = view.ring_colour, view.label_colour
    _pane_names(painter, view, ink, back)
    if view.mirrored:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(ink, 2, Qt.PenStyle.DashLine))
        painter.drawRect(QRectF(1, 1, view.width() - 2, view.height() - 2))
    if view.then is not None:
        _compared(painter, view, ink, back)
    heat = "distance" if view.distances else view.studio.project.settings.look.heat
    if heat and heat != "regions":
        _legend(painter, view, heat, back)
    if view.feel is not None:
        _feel(painter, view.feel, ink, back)


def _label(
    painter: QPainter, text: str, at: QPointF, ink: QColor, back: QColor, middle: bool = False
) -> None:
    metrics = QFontMetricsF(painter.font())
    wide = metrics.horizontalAdvance(text) + 16
    box = QRectF(at.x() - (wide / 2 if middle else 0), at.y(), wide, metrics.height() + 6)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back)
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(ink)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def _pane_names(painter: QPainter, view: Canvas, ink: QColor, back: QColor) -> None:
    for i, pane in enumerate(view.panes):
        if len(view.panes) == 1:
            return
        name = PANE_NAMES[pane.name]
        if name:
            right = pane.x + pane.wide - 34
            # Readouts lie along the upper edge, words about what is under the brush at the lower left.
            _label(painter, name, QPointF(right, pane.y + pane.high - 32), ink, back, middle=True)
        if i == view.pane_index:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(ink, 2))
            painter.drawRect(QRectF(pane.x + 1, pane.y + 1, pane.wide - 2, pane.high - 2))


def _compared(painter: QPainter, view: Canvas, ink: QColor, back: QColor) -> None:
    then = view.then
    assert then is not None
    y = view.height() - 68
    if view.compare_mode == "wipe":
        x = view.wipe_x()
        painter.setPen(QPen(ink, 2))
        painter.drawLine(QPointF(x, 0), QPointF(x, view.height()))
        painter.setBrush(ink)
        painter.drawEllipse(QPointF(x, view.height() / 2), 7, 7)
        left, right = ("now", view.compared) if view.mirrored else (view.compared, "now")
        if x > 120:
            _label(painter, left, QPointF(x / 2, y), ink, back, middle=True)
        if view.width() - x > 120:
            _label(painter, right, QPointF((x + view.width()) / 2, y), ink, back, middle=True)
    elif view.compare_mode == "side":
        _label(painter, view.compared, QPointF(view.width() / 4, y), ink, back, middle=True)
        _label(painter, "now", QPointF(view.width() * 3 / 4, y), ink, back, middle=True)
    else:
        text = view.compared if view.shows_then else "now"
        _label(painter, text, QPointF(view.width() / 2, y), ink, back, middle=True)


def _legend(painter: QPainter, view: Canvas, heat: str, back: QColor) -> None:
    wide, high = 220, 10
    x, y = view.width() - wide - 26, view.height() - 66
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back)
    painter.drawRoundedRect(QRectF(x - 12, y - 24, wide + 24, 62), 6, 6)
    colours = PALETTES[heat]
    strip = QImage(colours.tobytes(), 256, 1, 1024, QImage.Format.Format_RGBA8888)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.drawImage(QRectF(x, y, wide, high), strip)
    if heat == "distance" and view.distance_legend is not None:
        title, low, middle, top = view.distance_legend
    elif heat == "distance":
        far = number_text(view.distance_range, 3)
        title, low, middle, top = "Distance in mm", f"−{far}", "0", f"+{far}"
    else:
        title, low, middle, top = LEGENDS[heat]
    painter.setPen(view.text_colour)
    painter.drawText(QRectF(x, y - 22, wide, 18), Qt.AlignmentFlag.AlignLeft, title)
    below = QRectF(x, y + high + 3, wide, 20)
    painter.drawText(below, Qt.AlignmentFlag.AlignLeft, low)
    painter.drawText(below, Qt.AlignmentFlag.AlignHCenter, middle)
    painter.drawText(below, Qt.AlignmentFlag.AlignRight, top)


def _feel(painter: QPainter, feel: Feel, ink: QColor, back: QColor) -> None:
    at = QPointF(feel.x, feel.y)
    disc = QColor(ink)
    disc.setAlphaF(0.10 + 0.45 * feel.strength)
    painter.setBrush(disc)
    painter.setPen(QPen(ink, 2))
    painter.drawEllipse(at, feel.size, feel.size)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(ink, 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
    ring = QRectF(at.x() - feel.size - 7, at.y() - feel.size - 7, 2 * feel.size + 14, 2 * feel.size + 14)
    painter.drawArc(ring, 90 * 16, -round(feel.strength * 360 * 16))
    text = f"size {feel.size:.0f} px   strength {feel.strength * 100:.0f} %"
    _label(painter, text, at + QPointF(0, feel.size + 18), ink, back, middle=True)
