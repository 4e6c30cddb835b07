"""The shelf of presses: found by picture, family and words; the user's own are changed here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.benches.surface.edit_fields import EditFields
from kneten.app.fields.fields import Words
from kneten.app.work import dialogs
from kneten.app.work.panel import Panel
from kneten.app.work.preferences import save_preferences
from kneten.app.work.press_shelf import OWN, PICTURE, Listed, shaded
from kneten.core.press import Press, PressError
from kneten.core.press_edits import Edits, edited
from kneten.core.presses.entry import FAMILIES
from kneten.document.things import KeptPress

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

LARGE = 236
"""Pixels of the large picture."""

PAUSE = 400
"""Milliseconds after the last change of an edit until it is kept: a drag is one undo step."""

ALL, FAVOURITES, MINE = "All", "Favourites", "Your own"


class PressPanel(Panel):
    """All presses with pictures; a double click or Enter puts one on the tip of the tool in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Shelf of presses", 940, 690)
        self._desk = desk
        self._shelf = desk.studio.presses
        self._items: dict[str, QListWidgetItem] = {}
        self._next = ""
        self._edits: tuple[str, Edits] | None = None
        self._trying = False
        body = QHBoxLayout()
        body.setSpacing(14)
        body.addLayout(self._left(), 1)
        body.addWidget(self._right())
        self.column.addLayout(body, 1)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(PAUSE)
        self._later.timeout.connect(self._keep_edits)
        self._shelf.arrived.connect(self._arrived)
        self._shelf.changed.connect(self._changed)
        desk.studio.scene_changed.connect(self._changed)

    def _left(self) -> QVBoxLayout:
        column = QVBoxLayout()
        row = QHBoxLayout()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find: pores, rope, wet …")
        self.search.setAccessibleName("Find a press")
        self.search.setToolTip("Names, families and words of presses")
        self.search.textChanged.connect(lambda _: self.sift())
        self.family = QComboBox()
        self.family.setAccessibleName("Family of presses")
        self.family.setToolTip("Shows only presses of one family")
        for name in (ALL, FAVOURITES, MINE, *(family.capitalize() for family in FAMILIES)):
            self.family.addItem(name)
        self.family.currentIndexChanged.connect(lambda _: self.sift())
        row.addWidget(self.search, 2)
        row.addWidget(self.family, 1)
        column.addLayout(row)
        self.list = QListWidget()
        self.list.setViewMode(QListWidget.ViewMode.IconMode)
        self.list.setIconSize(QSize(PICTURE, PICTURE))
        self.list.setGridSize(QSize(PICTURE + 20, PICTURE + 40))
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setMovement(QListWidget.Movement.Static)
        self.list.setWordWrap(True)
        self.list.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.list.setAccessibleName("Presses")
        self.list.itemActivated.connect(lambda _: self.use())
        self.list.currentItemChanged.connect(lambda *_: self._show_current())
        column.addWidget(self.list, 1)
        making = QHBoxLayout()
        making.setSpacing(6)
        for text, key in (
            ("Import…", "press.import"),
            ("From the clay", "press.from-view"),
            ("Deep", "press.deep-from-view"),
            ("From text…", "press.text"),
            ("From unevenness…", "press.noise"),
            ("From the mask", "press.from-mask"),
        ):
            button = QPushButton(text)
            button.setToolTip(self._desk.registry.commands[key].does)
            button.clicked.connect(lambda _=False, key=key: self._make(key))
            making.addWidget(button)
        column.addLayout(making)
        return column

    def _right(self) -> QWidget:
        side = QWidget()
        side.setFixedWidth(LARGE + 20)
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.large = QLabel()
        self.large.setFixedHeight(LARGE)
        self.large.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.large.setAccessibleName("The press in clay")
        column.addWidget(self.large)
        row = QHBoxLayout()
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the press")
        self.title.editingFinished.connect(self._rename)
        self.star = QToolButton()
        self.star.setCheckable(True)
        self.star.setText("★")
        self.star.setAccessibleName("Favourite")
        self.star.setToolTip("Favourites are shown first")
        self.star.clicked.connect(self._star)
        row.addWidget(self.title, 1)
        row.addWidget(self.star)
        column.addLayout(row)
        self.told = Words()
        column.addWidget(self.told)
        row = QHBoxLayout()
        self.button = QPushButton("Put on the tip")
        self.button.setObjectName("primary")
        self.button.setToolTip("Lays the clay with it by the tool in hand (Enter)")
        self.button.clicked.connect(self.use)
        self.copy = QPushButton("Copy")
        self.copy.setToolTip("Makes a press of your own of it, to change it")
        self.copy.clicked.connect(lambda: self._desk.presses.copy_of(self.current()))
        self.save = QPushButton("Export…")
        self.save.setToolTip("Writes it as a picture: PNG of 16 bits, TIFF or EXR of 32")
        self.save.clicked.connect(self._export)
        row.addWidget(self.button, 2)
        row.addWidget(self.copy, 1)
        row.addWidget(self.save, 1)
        column.addLayout(row)
        self.fields = EditFields()
        self.fields.changed.connect(self._edit)
        column.addWidget(self.fields)
        column.addStretch(1)
        self.drop = QPushButton("Delete")
        self.drop.setToolTip(
            "Takes a press of your own away, out of the project and your folder; the clay stays"
        )
        self.drop.clicked.connect(self._delete)
        column.addWidget(self.drop)
        return side

    # -- what is shown --------------------------------------------------------------------------

    def open(self) -> None:
        """Show it, at the press on the tip."""
        if not self.isVisible():
            self._shelf.read_folder()
            self._next = self._next or self._desk.studio.settings().tip.press
            self.fill()
            self.search.setFocus()
        super().open()

    def current(self) -> str:
        """The key of the press that is chosen here, or ""."""
        item = self.list.currentItem()
        return "" if item is None else str(item.data(Qt.ItemDataRole.UserRole))

    def show_press(self, key: str) -> None:
        """Choose a press here as soon as it is listed."""
        self._next = key
        if self.isVisible():
            self.family.setCurrentText(ALL)
            self.search.clear()
            self.fill()

    def _changed(self) -> None:
        if self.isVisible():
            listed = {one.key for one in self._shelf.listed()}
            if listed != set(self._items):
                self._next = self._next or self.current()
                self.fill()
            else:
                self._show_current()

    def fill(self) -> None:
        """List what there is: favourites first, then the user's own, then ours."""
        stars = self._desk.studio.preferences.favourite_presses
        listed = sorted(self._shelf.listed(), key=lambda one: one.key not in stars)
        wanted = self._next or self.current()
        self._next = ""
        self.list.blockSignals(True)
        self.list.clear()
        self._items.clear()
        for one in listed:
            item = QListWidgetItem(one.name)
            item.setData(Qt.ItemDataRole.UserRole, one.key)
            item.setTextAlignment(Qt.AlignmentFlag.AlignHCenter)
            item.setToolTip(f"{one.name}: {one.words}")
            self._items[one.key] = item
            self.list.addItem(item)
            self._paint(one.key)
        self.list.blockSignals(False)
        self.sift()
        item = self._items.get(wanted) or self.list.item(0)
        if item is not None:
            self.list.setCurrentItem(item)
            self.list.scrollToItem(item)
        self._show_current()

    def _paint(self, key: str) -> None:
        image = self._shelf.picture(key)
        item = self._items.get(key)
        if item is None:
            return
        square = QPixmap(PICTURE, PICTURE)
        square.fill(Qt.GlobalColor.transparent)
        if image is not None:
            item.setIcon(QIcon(QPixmap.fromImage(image)))
        else:
            item.setIcon(QIcon(square))

    def sift(self) -> None:
        """Show only what is looked for."""
        words = self.search.text().lower().split()
        family = self.family.currentText()
        stars = self._desk.studio.preferences.favourite_presses
        first = None
        for one in self._shelf.listed():
            item = self._items.get(one.key)
            if item is None:
                continue
            shown = all(word in one.words for word in words) and self._belongs(one, family, stars)
            item.setHidden(not shown)
            if shown and (first is None or self.list.row(item) < self.list.row(first)):
                first = item
        now = self.list.currentItem()
        if first is not None and (now is None or now.isHidden()):
            self.list.setCurrentItem(first)

    @staticmethod
    def _belongs(one: Listed, family: str, stars: list[str]) -> bool:
        if family == FAVOURITES:
            return one.key in stars
        if family == MINE:
            return one.key.startswith(OWN)
        return family == ALL or one.family.capitalize() == family

    def _arrived(self, key: str) -> None:
        if not self.isVisible():
            return
        self._paint(key)
        if key == self.current():
            self._show_current()

    def _show_current(self) -> None:
        key = self.current()
        own = self._shelf.owned().get(key.removeprefix(OWN)) if key.startswith(OWN) else None
        listed = next((one for one in self._shelf.listed() if one.key == key), None)
        for widget in (self.button, self.copy, self.save, self.star):
            widget.setEnabled(listed is not None)
        self.drop.setVisible(own is not None)
        self.fields.setVisible(isinstance(own, KeptPress))
        self.title.setReadOnly(own is None)
        if listed is None:
            self.title.clear()
            self.told.setText("No press is called so.")
            self.large.clear()
            return
        self.title.setText(listed.name)
        self.star.setChecked(key in self._desk.studio.preferences.favourite_presses)
        goes_on = (
            "goes on at its edges"
            if listed.tiles
            else "one piece, sideways too"
            if listed.deep
            else "one picture"
        )
        self.told.setText(f"{listed.family} · {'to be unrolled · ' if listed.rolls else ''}{goes_on}")
        if isinstance(own, KeptPress) and (self._edits is None or self._edits[0] != own.id):
            self.fields.show_edits(own.edits, own.tiles)
        press = self._shelf.found(key)
        if press is None:
            self._shelf.want(key)
            image = self._shelf.picture(key)
            if image is not None:
                self.large.setPixmap(QPixmap.fromImage(image).scaledToWidth(LARGE))
        elif self._edits is None:
            self._show_large(press)

    def _show_large(self, press: Press) -> None:
        pixels = shaded(press, LARGE)
        high, wide = pixels.shape[:2]
        image = QImage(pixels.tobytes(), wide, high, 3 * wide, QImage.Format.Format_RGB888)
        self.large.setPixmap(QPixmap.fromImage(image.copy()))

    # -- what is done ---------------------------------------------------------------------------

    def use(self) -> None:
        """Put the chosen press on the tip."""
        self._keep_edits()
        key = self.current()
        if key:
            self._desk.presses.choose(key)
            self.leave()

    def leave(self) -> None:
        """Take it away; edits are kept."""
        self._keep_edits()
        super().leave()

    def _make(self, key: str) -> None:
        self._keep_edits()
        if key != "press.import":
            super().leave()
        self._desk.registry.run(key)

    def _star(self) -> None:
        stars, key = self._desk.studio.preferences.favourite_presses, self.current()
        stars[:] = [one for one in stars if one != key]
        if self.star.isChecked():
            stars.append(key)
        save_preferences(self._desk.studio.preferences)
        self.fill()

    def _rename(self) -> None:
        key, name = self.current(), " ".join(self.title.text().split())
        own = self._shelf.owned().get(key.removeprefix(OWN)) if key.startswith(OWN) else None
        if own is not None and name and name != own.name:
            self._next = key
            self._desk.presses.rename(own.id, name)
            self.fill()

    def _edit(self, edits: Edits) -> None:
        """Try another edit: it is shown at once, small, and kept when it rests."""
        key = self.current()
        own = self._shelf.owned().get(key.removeprefix(OWN)) if key.startswith(OWN) else None
        if not isinstance(own, KeptPress):
            return
        self._edits = (own.id, edits)
        self._later.start()
        if self._trying:
            return
        self._trying = True
        picture, tiles = own.picture, own.tiles

        def work() -> Press | str:
            step = max(max(picture.shape) // 512, 1)
            try:
                return edited(picture[::step, ::step], edits, tiles)
            except PressError as error:
                return str(error)

        def done(result: Press | str) -> None:
            self._trying = False
            if isinstance(result, str):
                self.told.setText(result)
            else:
                self._show_large(result)
            if self._edits is not None and self._edits[1] is not edits:
                self._edit(self._edits[1])

        self._desk.studio.aside(work, done)

    def _keep_edits(self) -> None:
        self._later.stop()
        if self._edits is not None:
            (press_id, edits), self._edits = self._edits, None
            own = self._shelf.owned().get(press_id)
            if isinstance(own, KeptPress) and own.edits != edits:
                self._desk.presses.edit(press_id, edits)
                self._shelf.want(OWN + press_id)
                self._paint(OWN + press_id)

    def _delete(self) -> None:
        key = self.current()
        if key.startswith(OWN):
            self._edits = None
            self._desk.presses.delete(key.removeprefix(OWN))

    def _export(self) -> None:
        key = self.current()
        deep = any(one.deep for one in self._shelf.listed() if one.key == key)
        start = f"{self._shelf.name_of(key)}{'.exr' if deep else '.png'}"
        kinds = "PNG of 16 bits (*.png);;TIFF of 32 bits (*.tif);;EXR of 32 bits (*.exr)"
        if deep:
            kinds = "EXR of 32 bits (*.exr)"
        path = dialogs.ask_save(self._desk, "Export a press", start, kinds)
        if path is not None:
            self._desk.presses.export(key, path)
