"""The board: reference pictures beside the viewport, over it, or in a window of its own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QGuiApplication,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QWheelEvent,
)
from PySide6.QtWidgets import (
    QGraphicsItem,
    QGraphicsPixmapItem,
    QGraphicsScene,
    QGraphicsView,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMenu,
    QSlider,
    QStyleOptionGraphicsItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.benches.gather.references import PictureError
from kneten.app.work.dialogs import passing
from kneten.document.things import Reference

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Sheet(QGraphicsPixmapItem):
    """One picture on the board."""

    def __init__(self, board: Board, reference: Reference) -> None:
        super().__init__()
        self.reference = reference
        self._board = board
        image = board.references.image(reference)
        self.setPixmap(QPixmap.fromImage(image))
        self.setTransformationMode(Qt.TransformationMode.SmoothTransformation)
        self.setOffset(-image.width() / 2, -image.height() / 2)
        self.setPos(*reference.place)
        self.setScale(reference.scale)
        self.setRotation(reference.turn)
        self.setOpacity(reference.opacity)
        self.setToolTip(reference.note or reference.name)
        flags = QGraphicsItem.GraphicsItemFlag
        self.setFlags(flags.ItemIsMovable | flags.ItemIsSelectable)

    def paint(
        self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None
    ) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawPixmap(self.offset(), self.pixmap())
        if self.isSelected():
            pen = QPen(QColor(self._board.accent), 2)
            pen.setCosmetic(True)
            painter.setPen(pen)
            painter.drawRect(QRectF(self.offset(), self.pixmap().deviceIndependentSize()))
        if self.reference.note:
            pen = QPen(QColor(self._board.accent), 6)
            pen.setCosmetic(True)
            painter.setPen(pen)
            painter.drawPoint(self.offset() + QPointF(12, 12))


class Table(QGraphicsView):
    """Where the pictures lie: wheel zooms, middle or right drag moves, left drags pictures."""

    def __init__(self, board: Board) -> None:
        super().__init__()
        self._board = board
        self._pan: QPointF | None = None
        self._crop: tuple[Sheet, QPointF] | None = None
        self.crop_next = False
        self.points_for: tuple[Sheet, list[QPointF]] | None = None
        self.setScene(QGraphicsScene(self))
        self.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
        self.setDragMode(QGraphicsView.DragMode.RubberBandDrag)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QGraphicsView.Shape.NoFrame)
        # The window takes whatever is dropped, wherever: a view of pictures would keep it from there.
        self.setAcceptDrops(False)
        self.viewport().setAcceptDrops(False)
        self.setAccessibleName("Reference board")
        self.setAccessibleDescription("Drop pictures here. Drag them, turn the wheel to zoom.")

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        factor = 1.0015 ** event.angleDelta().y()
        sheet = self._board.sheet_at(event.position().toPoint())
        if sheet is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            reference = sheet.reference
            self._board.references.change(
                reference.id, "Size", scale=min(max(reference.scale * factor, 1e-3), 50.0)
            )
        elif sheet is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            steps = (event.angleDelta().y() or event.angleDelta().x()) / 120
            self._board.references.change(sheet.reference.id, "Turn", turn=sheet.reference.turn + 5 * steps)
        else:
            self.scale(factor, factor)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        sheet = self._board.sheet_at(at.toPoint())
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = at
            return
        if event.button() == Qt.MouseButton.LeftButton and sheet is not None:
            if event.modifiers() & Qt.KeyboardModifier.AltModifier:
                self._board.sample(sheet, self.mapToScene(at.toPoint()))
                return
            if self.crop_next:
                self._crop = (sheet, sheet.mapFromScene(self.mapToScene(at.toPoint())))
                return
            if self.points_for is not None and self.points_for[0] is sheet:
                self.points_for[1].append(sheet.mapFromScene(self.mapToScene(at.toPoint())))
                if len(self.points_for[1]) == 2:
                    self._board.finish_calibration()
                return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._pan is not None:
            way = event.position() - self._pan
            self._pan = event.position()
            anchor = self.transformationAnchor()
            self.setTransformationAnchor(QGraphicsView.ViewportAnchor.NoAnchor)
            self.translate(way.x() / self.transform().m11(), way.y() / self.transform().m22())
            self.setTransformationAnchor(anchor)
            return
        if self._crop is None:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._pan is not None:
            self._pan = None
            return
        if self._crop is not None:
            (sheet, start), self._crop = self._crop, None
            self.crop_next = False
            self._board.crop(sheet, start, sheet.mapFromScene(self.mapToScene(event.position().toPoint())))
            return
        super().mouseReleaseEvent(event)
        self._board.moved()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        sheet = self._board.sheet_at(event.position().toPoint())
        if sheet is not None:
            self.fitInView(sheet, Qt.AspectRatioMode.KeepAspectRatio)
        else:
            self._board.frame()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._board.references.delete([s.reference.id for s in self._board.chosen()])
        elif event.key() == Qt.Key.Key_Escape:
            self.crop_next = False
            self.points_for = None
            self._board.tell("")
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:  # noqa: N802
        sheet = self._board.sheet_at(event.pos())
        with passing(self._board.menu(sheet)) as menu:
            menu.exec(event.globalPos())


class Board(QWidget):
    """The board with its few buttons."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.middle)
        self._desk = desk
        self.references = desk.references
        self.accent = desk.theme.accent
        self.setObjectName("board")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._sheets: dict[str, Sheet] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setContentsMargins(12, 4, 6, 4)
        title = QLabel("References")
        title.setObjectName("heading")
        head.addWidget(title)
        self.told = QLabel()
        self.told.setObjectName("quiet")
        head.addWidget(self.told, 1)
        self.fade = QSlider(Qt.Orientation.Horizontal)
        self.fade.setRange(5, 100)
        self.fade.setFixedWidth(70)
        self.fade.setAccessibleName("Opacity of the chosen picture")
        self.fade.setToolTip(
            "How strongly the chosen picture is shown, on the board, in space or over the view"
        )
        self.fade.valueChanged.connect(self._fading)
        self.fade.sliderReleased.connect(self._faded)
        self.fade.hide()
        head.addWidget(self.fade)
        for key, text in (("board.add", "Add"), ("board.arrange", "Arrange"), ("board.show", "Close")):
            button = QToolButton()
            button.setText(text)
            command = desk.registry.commands[key]
            button.setAccessibleName(command.name)
            button.setToolTip(desk.registry.tip(command))
            button.clicked.connect(lambda _=False, key=key: desk.registry.run(key))
            head.addWidget(button)
        column.addLayout(head)
        self.table = Table(self)
        column.addWidget(self.table, 1)
        self.hide()
        self.table.scene().selectionChanged.connect(self._chosen_changed)
        desk.studio.scene_changed.connect(self.fill)
        desk.view.installEventFilter(self)

    # -- showing --------------------------------------------------------------------------------

    @property
    def shown(self) -> bool:
        """Whether the board is to be seen."""
        return not self.isHidden()

    def switch(self) -> None:
        """Show the board, or hide it."""
        if self.shown:
            self.hide()
        else:
            self.show_board()

    def show_board(self) -> None:
        """Show it where the user wants it."""
        where = self._desk.studio.preferences.board
        self.hide()
        self._desk.columns.removeWidget(self)
        if where == "window":
            # A window of its own that closes, and goes, with the first one.
            self.setParent(self._desk, Qt.WindowType.Window)
            self.setWindowTitle("References - Kneten")
            self.resize(520, 640)
        elif where == "over":
            self.setWindowFlag(Qt.WindowType.Window, False)
            self.setParent(self._desk.view)
            self._over()
        else:
            self.setWindowFlag(Qt.WindowType.Window, False)
            self.setParent(self._desk.middle)
            self._desk.columns.insertWidget(2, self)
            self.setMinimumSize(220, 160)
            self.setMaximumWidth(420)
            self.setFixedWidth(min(max(self._desk.width() // 4, 240), 520))
        if where != "beside":
            self.setMinimumSize(160, 120)
            self.setMaximumSize(16777215, 16777215)
            if where == "over":
                self._over()
        self.show()
        self.raise_()
        self.fill()
        QTimer.singleShot(0, self.frame)

    def _over(self) -> None:
        """In the lower left corner of the view, a third of its width."""
        view = self._desk.view
        wide, high = max(view.width() // 3, 200), max(view.height() // 2, 160)
        self.setGeometry(12, view.height() - high - 12, wide, high)

    def eventFilter(self, watched, event) -> bool:  # type: ignore[no-untyped-def]  # noqa: N802
        if event.type() == event.Type.Resize and self.shown and self.parent() is self._desk.view:
            self._over()
        return False

    def fill(self) -> None:
        """Show the project's board."""
        if not self.shown:
            return
        self.accent = self._desk.theme.accent
        self.table.setBackgroundBrush(QColor(self._desk.theme.base))
        scene = self.table.scene()
        chosen = {s.reference.id for s in self.chosen()}
        wanted = {r.id: r for r in self._desk.studio.project.scene.references}
        for key, sheet in list(self._sheets.items()):
            if wanted.get(key) != sheet.reference:
                scene.removeItem(sheet)
                del self._sheets[key]
        for number, (key, reference) in enumerate(wanted.items()):
            if key not in self._sheets:
                # What stands in space stays on the board as well, where it lay or at its edge.
                shown = reference
                if reference.way != "board":
                    from dataclasses import replace

                    image = self.references.image(reference)
                    scale = 200.0 / max(image.width(), image.height(), 1)
                    shown = replace(reference, place=(-160.0, 220.0 * number), scale=scale, opacity=1.0)
                sheet = Sheet(self, shown)
                sheet.reference = reference
                sheet.setFlag(QGraphicsItem.GraphicsItemFlag.ItemIsMovable, reference.way == "board")
                sheet.setSelected(key in chosen)
                scene.addItem(sheet)
                self._sheets[key] = sheet
        empty = not wanted
        self.tell("Drop pictures here" if empty else "")

    def frame(self) -> None:
        """Bring all pictures into sight."""
        box = self.table.scene().itemsBoundingRect()
        if not box.isEmpty():
            room = max(box.width(), box.height()) * 0.04
            self.table.setSceneRect(box.adjusted(-4000, -4000, 4000, 4000))
            self.table.fitInView(box.adjusted(-room, -room, room, room), Qt.AspectRatioMode.KeepAspectRatio)

    def _chosen_changed(self) -> None:
        chosen = self.chosen()
        self.fade.setVisible(len(chosen) == 1)
        if len(chosen) == 1 and not self.fade.isSliderDown():
            self.fade.blockSignals(True)
            self.fade.setValue(round(chosen[0].reference.opacity * 100))
            self.fade.blockSignals(False)

    def _fading(self, value: int) -> None:
        """While the slider is dragged the picture follows; the step is made when it is let go."""
        for sheet in self.chosen():
            if sheet.reference.way == "board":
                sheet.setOpacity(value / 100)
            else:
                self.references.fading = (sheet.reference.id, value / 100)
                self._desk.view.repaint_over()
        if not self.fade.isSliderDown():
            self._faded()

    def _faded(self) -> None:
        self.references.fading = None
        for sheet in self.chosen():
            self.references.change(sheet.reference.id, "Opacity of", opacity=self.fade.value() / 100)

    def tell(self, text: str) -> None:
        """A word beside the title."""
        self.told.setText(text)

    # -- pictures -------------------------------------------------------------------------------

    def sheet_at(self, at) -> Sheet | None:  # type: ignore[no-untyped-def]
        """The picture at a place of the table."""
        item = self.table.itemAt(at)
        return item if isinstance(item, Sheet) else None

    def chosen(self) -> list[Sheet]:
        """The chosen pictures."""
        return [item for item in self.table.scene().selectedItems() if isinstance(item, Sheet)]

    def moved(self) -> None:
        """After a drag: pictures that lie elsewhere now are noted, in one step."""
        from dataclasses import replace

        project = self._desk.studio.project
        places = {}
        for sheet in self.chosen():
            r = sheet.reference
            at = (sheet.pos().x(), sheet.pos().y())
            if r.way == "board" and at != r.place:
                sheet.reference = places[r.id] = replace(r, place=at)
        if places:
            references = tuple(places.get(r.id, r) for r in project.scene.references)
            what = next(iter(places.values())).name if len(places) == 1 else f"{len(places)} pictures"
            project.change(f"Move {what}", replace(project.scene, references=references))

    def sample(self, sheet: Sheet, at: QPointF) -> None:
        """Read a colour off a picture; it is in hand then, and on the clipboard."""
        local = sheet.mapFromScene(at) - sheet.offset()
        image = self.references.image(sheet.reference)
        x = min(max(int(local.x()), 0), image.width() - 1)
        y = min(max(int(local.y()), 0), image.height() - 1)
        colour = image.pixelColor(x, y)
        self._desk.colours.take((colour.red(), colour.green(), colour.blue()))
        QGuiApplication.clipboard().setText(colour.name())
        self.tell(f"{colour.name()} is on the clipboard")

    def crop(self, sheet: Sheet, start: QPointF, end: QPointF) -> None:
        """Keep only what lies between two corners, given in the picture's own pixels about its middle."""
        image = self.references.image(sheet.reference)
        wide, tall = image.width(), image.height()
        left, right = sorted((start.x() / wide + 0.5, end.x() / wide + 0.5))
        top, bottom = sorted((start.y() / tall + 0.5, end.y() / tall + 0.5))
        left, top = max(left, 0.0), max(top, 0.0)
        right, bottom = min(right, 1.0), min(bottom, 1.0)
        self.tell("")
        if right - left < 0.02 or bottom - top < 0.02:
            self.tell("Too small a piece to crop to")
            return
        if sheet.reference.mirror:
            left, right = 1 - right, 1 - left
        a, b, c, d = sheet.reference.crop
        crop = (a + left * (c - a), b + top * (d - b), a + right * (c - a), b + bottom * (d - b))
        self.references.change(sheet.reference.id, "Crop", crop=crop)

    def begin_calibration(self, sheet: Sheet) -> None:
        """Have two places of a plane's picture clicked, then ask how far they lie apart."""
        self.table.points_for = (sheet, [])
        self.tell("Click two places whose distance you know")

    def finish_calibration(self) -> None:
        """Ask for the length between the two clicked places."""
        assert self.table.points_for is not None
        (sheet, points), self.table.points_for = self.table.points_for, None
        self.tell("")
        length, agreed = QInputDialog.getDouble(
            self, "Calibrate", "Millimetres between the two places:", 100.0, 0.001, 1e6, 2
        )
        if not agreed:
            return
        image = self.references.image(sheet.reference)
        a, b = ((p.x() / image.width(), p.y() / image.height()) for p in points)
        try:
            self.references.calibrate(sheet.reference.id, a, b, length)
        except PictureError as error:
            self._desk.studio.say(str(error), "warning")

    def menu(self, sheet: Sheet | None) -> QMenu:
        """What can be done to a picture, or to the board."""
        menu = QMenu(self)
        desk, references = self._desk, self.references
        if sheet is None:
            for key in (
                "board.add",
                "board.paste",
                "board.arrange",
                "board.beside",
                "board.over",
                "board.window",
            ):
                menu.addAction(desk.registry.actions[key])
            return menu
        r = sheet.reference
        flip = menu.addAction("Mirror")
        flip.triggered.connect(lambda: references.change(r.id, "Mirror", mirror=not r.mirror))
        grey = menu.addAction("In colour" if r.grey else "Greyscale")
        grey.triggered.connect(lambda: references.change(r.id, "Grey", grey=not r.grey))
        menu.addAction("Crop…").triggered.connect(self._crop_next)
        if r.crop != (0.0, 0.0, 1.0, 1.0):
            whole = menu.addAction("Whole picture")
            whole.triggered.connect(lambda: references.change(r.id, "Uncrop", crop=(0.0, 0.0, 1.0, 1.0)))
        fade = menu.addMenu("Opacity")
        for share in (100, 75, 50, 25):
            fade.addAction(f"{share} %").triggered.connect(
                lambda _=False, share=share: references.change(r.id, "Opacity of", opacity=share / 100)
            )
        menu.addAction("Note…").triggered.connect(lambda: self._note(r))
        menu.addAction("Rename…").triggered.connect(lambda: self._rename(r))
        menu.addSeparator()
        stand = menu.addMenu("Stand in space")
        for way in ("front", "side", "top"):
            stand.addAction(way.capitalize()).triggered.connect(
                lambda _=False, way=way: references.to_plane(r.id, way)
            )
        bind = menu.addMenu("Bind to this view")
        bind.addAction("Over the clay").triggered.connect(lambda: references.bind(r.id, True))
        bind.addAction("Behind the clay").triggered.connect(lambda: references.bind(r.id, False))
        if r.way != "board":
            menu.addAction("Calibrate by two points…").triggered.connect(
                lambda: self.begin_calibration(sheet)
            )
            for key in ("board.place-plane", "board.align-plane"):
                menu.addAction(desk.registry.actions[key])
            over = menu.addAction("Behind the clay" if r.over else "Over the clay")
            over.triggered.connect(lambda: references.change(r.id, "Order of", over=not r.over))
            shown = menu.addAction("Hide in space" if r.shown else "Show in space")
            shown.triggered.connect(lambda: references.change(r.id, "Show", shown=not r.shown))
            back = menu.addAction("Back to the board")
            back.triggered.connect(lambda: self._back(r))
        menu.addSeparator()
        menu.addAction("Delete").triggered.connect(lambda: references.delete([r.id]))
        return menu

    def _crop_next(self) -> None:
        self.table.crop_next = True
        self.tell("Drag across what is to stay")

    def _back(self, r: Reference) -> None:
        scale = 320.0 / max(self.references.image(r).width(), 1)
        self.references.change(r.id, "Lay down", way="board", place=(0.0, 0.0), scale=scale, view="")

    def _note(self, r: Reference) -> None:
        text, agreed = QInputDialog.getMultiLineText(self, "Note", f"Note on {r.name}:", r.note)
        if agreed:
            self.references.change(r.id, "Note on", note=text.strip())

    def _rename(self, r: Reference) -> None:
        text, agreed = QInputDialog.getText(self, "Rename", "Name of the picture:", text=r.name)
        if agreed and text.strip():
            self.references.change(r.id, "Rename", name=text.strip())
