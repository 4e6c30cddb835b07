"""Fields for numbers that can be dragged or typed, and the drawn curve."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import (
    QAbstractScrollArea,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QSizePolicy,
    QToolTip,
    QWidget,
)

from kneten.app.fields.quantities import QuantityError, fixed_text, number_text, parse_quantity
from kneten.core.falloff import SAMPLES, Points, clean_points, curve_table

DRAG_START = 3


class Words(QLabel):
    """Words, quiet as a rule, in as many lines as they need.

    Where a label's words change, the layouts around it ask only whether its least size is another, and not how high it
    has become: what stands below it would be squeezed.
    """

    def __init__(self, text: str = "", quiet: bool = True) -> None:
        super().__init__(text)
        if quiet:
            self.setObjectName("quiet")
        self.setWordWrap(True)

    def setText(self, text: str) -> None:  # noqa: N802
        """Other words, with room for them."""
        if text == self.text():
            return
        super().setText(text)
        widget: QWidget | None = self
        while widget is not None and not widget.isWindow() and not isinstance(widget, QAbstractScrollArea):
            widget.updateGeometry()
            widget = widget.parentWidget()


class NumberField(QLineEdit):
    """A number: drag sideways, or click and type.

    Signals
    -------
    changed(float)
        While dragging and after typing.
    settled(float)
        Once a drag or an entry has ended.
    """

    changed = Signal(float)
    settled = Signal(float)

    def __init__(
        self,
        name: str,
        low: float,
        high: float,
        *,
        unit: str = "",
        decimals: int = 0,
        curve: float = 1.0,
        suffix: str = "",
        tip: str = "",
    ) -> None:
        super().__init__()
        self.low, self.high = low, high
        self.unit, self.suffix, self.decimals, self.curve = unit, suffix, decimals, curve
        self._value = low
        self._press: QPointF | None = None
        self._start = 0.0
        self._dragging = False
        self.setAccessibleName(name)
        self.setToolTip(tip or name)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(44)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.editingFinished.connect(self._typed)
        self.set_value(low)

    def value(self) -> float:
        """The present number, in the field's unit."""
        return self._value

    def set_value(self, value: float) -> None:
        """Show another number without telling anyone."""
        self._value = min(max(value, self.low), self.high)
        if not self.hasFocus():
            self._show()
        self.update()

    def _show(self) -> None:
        text = fixed_text(self._value, self.decimals)
        tail = f" {self.unit or self.suffix}" if self.unit or self.suffix else ""
        self.setText(text + tail)
        self.setProperty("bad", False)
        self.style().polish(self)

    def _share(self) -> float:
        return ((self._value - self.low) / (self.high - self.low)) ** (1 / self.curve)

    def _typed(self) -> None:
        tail = self.unit or self.suffix
        text = self.text().strip()
        bare = text[: -len(tail)] if tail and text.endswith(tail) else text
        try:
            value = self._meant(parse_quantity(bare, self.unit))
        except QuantityError as error:
            self.setProperty("bad", True)
            self.style().polish(self)
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), str(error), self)
            return
        different = abs(value - self._value) > 1e-12
        self._value = value
        self._show()
        if different:
            self.changed.emit(value)
            self.settled.emit(value)

    def _meant(self, value: float) -> float:
        """A typed number that the field can take. Raises `QuantityError` that says what it takes instead."""
        if not self.low <= value <= self.high:
            tail = f" {self.unit or self.suffix}" if self.unit or self.suffix else ""
            low, high = (number_text(bound, 7) for bound in (self.low, self.high))
            raise QuantityError(f"between {low} and {high}{tail}, please")
        if not (self.unit or self.suffix or self.decimals) and value != round(value):
            raise QuantityError("a whole number, please")
        return value

    def focusOutEvent(self, event: QFocusEvent) -> None:  # noqa: N802
        super().focusOutEvent(event)
        self._show()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = (1 if event.key() == Qt.Key.Key_Up else -1) * 10.0**-self.decimals
            self._take(self._value + step, True)
            self._show()
            return
        if event.key() == Qt.Key.Key_Escape:
            self._show()
            self.clearFocus()
            return
        super().keyPressEvent(event)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not self.property("bad"):
            self.clearFocus()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self.hasFocus() or event.button() != Qt.MouseButton.LeftButton:
            super().mousePressEvent(event)
            return
        self._press = event.position()
        self._start = self._share()
        self._dragging = False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._press is None:
            super().mouseMoveEvent(event)
            return
        way = event.position().x() - self._press.x()
        if abs(way) >= DRAG_START:
            self._dragging = True
        if self._dragging:
            fine = 5.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            share = min(max(self._start + way / (220.0 * fine), 0.0), 1.0)
            self._take(self.low + (self.high - self.low) * share**self.curve, False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._press is None:
            super().mouseReleaseEvent(event)
            return
        self._press = None
        if self._dragging:
            self.clearFocus()
            self.settled.emit(self._value)
        else:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            self.selectAll()

    def _take(self, value: float, settled: bool) -> None:
        value = round(min(max(value, self.low), self.high), self.decimals + 1)
        if value != self._value:
            self._value = value
            self._show()
            self.update()
            self.changed.emit(value)
            if settled:
                self.settled.emit(value)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        super().paintEvent(event)
        if self.high - self.low > 1e4 or self.low < 0:
            return
        painter = QPainter(self)
        colour = self.palette().highlight().color()
        width = (self.width() - 12) * self._share()
        painter.fillRect(QRectF(6, self.height() - 4, max(width, 0), 2), colour)


def labelled(name: str, *fields: QWidget) -> QWidget:
    """A row: a quiet name at the left, fields at the right."""
    row = QWidget()
    layout = QHBoxLayout(row)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(6)
    label = QLabel(name)
    label.setObjectName("quiet")
    label.setMinimumWidth(84)
    label.setBuddy(fields[0])
    layout.addWidget(label)
    for field in fields:
        layout.addWidget(field, 1)
    return row


def switch(about: str, name: str, tip: str, on: bool) -> QCheckBox:
    """A box to tick, which tells who cannot see its card what it is about."""
    box = QCheckBox(name)
    box.setAccessibleName(f"{about}: {name.lower()}")
    box.setToolTip(tip)
    box.setChecked(on)
    return box


def choice(name: str, tip: str, entries: Mapping[str, tuple[str, str]]) -> QComboBox:
    """A list to choose from: by key the word of each and what it does."""
    box = QComboBox()
    box.setAccessibleName(name)
    box.setToolTip(tip)
    box.setMinimumContentsLength(8)
    for key, (word, does) in entries.items():
        box.addItem(word, key)
        box.setItemData(box.count() - 1, does, 3)
    return box


class CurveField(QWidget):
    """A curve drawn in place: drag points, click the line to add one, double-click one to remove it."""

    changed = Signal(object)

    def __init__(self, name: str, tip: str, mirrored: bool) -> None:
        super().__init__()
        self.points: Points = ((0.0, 0.0), (1.0, 1.0))
        self._held = -1
        self._mirrored = mirrored
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setFixedHeight(84)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, 84)

    def set_points(self, points: Points) -> None:
        """Show another curve without telling anyone."""
        self.points = points
        self.update()

    def _area(self) -> QRectF:
        box = QRectF(self.rect()).adjusted(8, 8, -8, -8)
        if self._mirrored:
            # A brush's profile reads best whole: its left half mirrors the drawn right half.
            box.setLeft(box.center().x())
        return box

    def _place(self, point: tuple[float, float]) -> QPointF:
        box = self._area()
        return QPointF(box.left() + point[0] * box.width(), box.bottom() - point[1] * box.height())

    def _nearest(self, at: QPointF) -> int:
        far = [(self._place(p) - at).manhattanLength() for p in self.points]
        best = min(range(len(far)), key=far.__getitem__)
        return best if far[best] < 14 else -1

    def _unit(self, at: QPointF) -> tuple[float, float]:
        box = self._area()
        x = (at.x() - box.left()) / box.width()
        y = (box.bottom() - at.y()) / box.height()
        return min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0)

    def _set(self, points: list[tuple[float, float]]) -> None:
        try:
            self.points = clean_points(points)
        except ValueError:
            return
        self.update()
        self.changed.emit(self.points)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = self._nearest(event.position())
        if self._held < 0 and len(self.points) < 9:
            point = self._unit(event.position())
            self._set([*self.points, point])
            self._held = self._nearest(self._place(point))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._held < 0 or not event.buttons():
            return
        x, y = self._unit(event.position())
        points = list(self.points)
        low = points[self._held - 1][0] + 0.02 if self._held > 0 else 0.0
        high = points[self._held + 1][0] - 0.02 if self._held + 1 < len(points) else 1.0
        if self._held == 0:
            high = 0.0
        if self._held == len(points) - 1:
            low = 1.0
        points[self._held] = (min(max(x, low), high), y)
        self._set(points)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = -1

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = self._nearest(event.position())
        if 0 < at < len(self.points) - 1:
            self._set([p for i, p in enumerate(self.points) if i != at])

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {int(Qt.Key.Key_Up): 0.05, int(Qt.Key.Key_Down): -0.05}.get(event.key())
        if step is not None:
            middle = len(self.points) // 2
            points = list(self.points)
            x, y = points[middle]
            points[middle] = (x, min(max(y + step, 0.0), 1.0))
            self._set(points)
            return
        super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = self.palette()
        painter.setPen(QPen(palette.highlight().color() if self.hasFocus() else _line(palette), 1))
        painter.setBrush(palette.base())
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        table = curve_table(self.points)
        path = QPainterPath(self._place((0.0, float(table[0]))))
        for i in range(1, SAMPLES, 4):
            path.lineTo(self._place((i / (SAMPLES - 1), float(table[i]))))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(palette.text().color(), 2))
        painter.drawPath(path)
        if self._mirrored:
            painter.save()
            painter.translate(2 * self._area().left(), 0)
            painter.scale(-1, 1)
            painter.setPen(QPen(palette.text().color(), 2))
            painter.drawPath(path)
            painter.restore()
        painter.setPen(QPen(palette.base().color(), 1.5))
        painter.setBrush(palette.highlight())
        for point in self.points:
            painter.drawEllipse(self._place(point), 4.5, 4.5)


def _line(palette: object) -> QColor:
    colour = palette.placeholderText().color()  # type: ignore[attr-defined]
    colour.setAlphaF(0.45)
    return colour
