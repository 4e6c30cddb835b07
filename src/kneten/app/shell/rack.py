"""The rack: the stage's tools as cards that show what each does to a surface's cross-section."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QPoint, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QDrag, QDragEnterEvent, QDragMoveEvent, QDropEvent, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import QApplication, QButtonGroup, QGridLayout, QScrollArea, QToolButton, QWidget

from kneten.app.fields.theme import Theme, glyph
from kneten.app.work.commands import Registry

CARRIED = "application/x-kneten-command"
"""What is dragged: the key of a command."""

HELD = (
    "parts.move", "parts.turn", "parts.scale", "parts.pivot", "parts.onto", "live.edit", "armature.edit", "strand.edit",
    "strand.free", "strand.surface", "strand.points", "copy.mirror-line", "measure.tape", "measure.landmark",
    *(way.format(shape) for way in ("cut.{}", "mask.{}", "region.{}", "region.{}-hide")
      for shape in ("lasso", "rectangle", "line", "polygon", "curve")),
)  # fmt: skip
"""Commands that are in hand until another is taken, besides the tools."""


SHORT = {
    "deliver.export": "Write",
    "game.set": "Game set",
    "print.check": "Check",
    "print.thin": "Walls",
    "print.hollow": "Hollow",
    "print.cut": "Cut apart",
    "print.set": "Print set",
    "file.export": "Export",
    "file.still": "Still",
    "density.remesh": "Remesh",
    "live.sphere": "Sphere",
    "live.box": "Box",
    "live.lathe": "Lathe",
    "live.bake": "Bake",
    "armature.edit": "Armature",
    "strand.free": "Strand",
    "strand.surface": "On clay",
    "cut.lasso": "Cut",
    "cut.line": "Cut line",
    "copy.mirror-x": "Mirror",
    "parts.pivot": "Pivot",
    "parts.onto": "Onto",
    "parts.floor": "To floor",
    "board.show": "Board",
    "net.retopologise": "Quads",
    "uv.unwrap": "Unwrap",
    "net.strip": "Strips",
    "measure.ruler": "Ruler",
    "measure.tape": "Tape",
    "measure.landmark": "Landmarks",
    "library.open": "Library",
    "press.shelf": "Shelf",
    "press.from-view": "From clay",
    "press.along-guides": "Along",
    "colour.pick": "Pick",
    "colour.fill": "Fill",
    "colour.swap": "Swap",
}
"""Names that fit on a card, where the command's own does not."""


LEAST, MOST = 37, 62
"""Pixels of a card's height: the drawing small above its name, and with room around it."""


class RackButton(QToolButton):
    """A card that can be dragged to another place."""

    def __init__(self, rack: Rack, key: str) -> None:
        super().__init__()
        self._rack = rack
        self.key = key
        self._press: QPoint | None = None

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._press = event.position().toPoint()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._press is None:
            return
        far = (event.position().toPoint() - self._press).manhattanLength()
        if far < QApplication.startDragDistance():
            return
        self._press = None
        self.setDown(False)
        drag = QDrag(self)
        words = QMimeData()
        words.setData(CARRIED, self.key.encode())
        drag.setMimeData(words)
        drag.setPixmap(self.grab())
        if drag.exec(Qt.DropAction.MoveAction) == Qt.DropAction.IgnoreAction:
            # Dropped beside the rack: it comes off it.
            self._rack.removed.emit(self.key)


class Rack(QScrollArea):
    """A column of tool cards; which ones is the stage's choice, and the user's.

    Signals
    -------
    moved(str, int)
        A card was dropped at a place.
    removed(str)
        A card was dropped beside the rack.
    """

    WIDTH = 92
    MANY = 10
    """Cards that fit below each other on a small screen; more stand in two columns."""
    moved = Signal(str, int)
    removed = Signal(str)

    def __init__(self, registry: Registry) -> None:
        super().__init__()
        self._registry = registry
        self.buttons: dict[str, QToolButton] = {}
        self._body = QWidget()
        self._body.setObjectName("rack")
        self._grid = QGridLayout(self._body)
        self._grid.setContentsMargins(6, 6, 6, 6)
        self._grid.setSpacing(4)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self._columns = 1
        self.scale = 1.0
        self.setWidget(self._body)
        self.setWidgetResizable(True)
        self.setFixedWidth(self.WIDTH)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Rack")
        self.setAcceptDrops(True)

    def fill(self, entries: list[tuple[str, str]], theme: Theme) -> None:
        """Show these commands, each with its drawing."""
        columns = 2 if len(entries) > self.MANY else 1
        wide = round((self.WIDTH - 16 if columns == 1 else 62) * self.scale)
        self.setFixedWidth(wide * columns + 12 + 4 * (columns - 1))
        self._grid.setRowStretch(self._grid.rowCount(), 0)
        while item := self._grid.takeAt(0):
            if widget := item.widget():
                self._group.removeButton(widget)  # type: ignore[arg-type]
                widget.hide()
                widget.deleteLater()
        self.buttons.clear()
        for slot, (key, drawing) in enumerate(entries):
            command = self._registry.commands[key]
            button = RackButton(self, key)
            button.setObjectName("tool")
            button.setText(SHORT.get(key, command.name))
            button.setIcon(glyph(drawing, theme, 46))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setFixedWidth(wide)
            # What is held stays marked; what is done at once does not.
            button.setCheckable(key.startswith("tool.") or key in HELD)
            button.setAccessibleName(command.name)
            number = f"  (slot {slot + 1}: key {slot + 1})" if slot < 9 else ""
            button.setToolTip(
                f"{self._registry.tip(command)}{number}. Drag it to another place, or off the rack"
            )
            button.setAccessibleDescription(command.does + number)
            button.clicked.connect(lambda _=False, key=key: self._registry.run(key))
            self._group.addButton(button)
            self._grid.addWidget(button, slot // columns, slot % columns)
            self.buttons[key] = button
        for row in range(self._grid.rowCount()):
            self._grid.setRowStretch(row, 0)
        self._grid.setRowStretch(len(entries), 1)
        self._columns = columns
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """As high as all of them have room below each other: so there is nothing to scroll."""
        rows = -(-len(self.buttons) // self._columns)
        if not rows:
            return
        high = min(max((self.height() - 12) // rows - 4, LEAST), MOST)
        for button in self.buttons.values():
            button.setFixedHeight(high)
            button.setIconSize(QSize(46, min(max(high - 28, 16), 32)))

    def place_at(self, x: int, y: int) -> int:
        """The place a card dropped on the rack's body takes."""
        two = self.width() > self.WIDTH
        for i, button in enumerate(self.buttons.values()):
            middle = button.geometry().center()
            if y < (button.geometry().bottom() if two else middle.y()) and (not two or x < middle.x()):
                return i
        return len(self.buttons)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasFormat(CARRIED):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:  # noqa: N802
        if event.mimeData().hasFormat(CARRIED):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        key = bytes(event.mimeData().data(CARRIED).data()).decode()
        at = self._body.mapFrom(self.viewport(), event.position().toPoint())
        event.acceptProposedAction()
        place = self.place_at(at.x(), at.y())
        QTimer.singleShot(0, lambda: self.moved.emit(key, place))

    def mark(self, key: str) -> None:
        """Show which command is in hand; none when it is not on the rack."""
        self._group.setExclusive(False)
        for name, button in self.buttons.items():
            button.setChecked(name == key)
        self._group.setExclusive(True)
