"""The list of parts: groups, search, several chosen at once, shown, locked, counted."""

from __future__ import annotations

from collections import Counter

from PySide6.QtCore import QItemSelectionModel, QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QBrush, QColor, QDropEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLineEdit,
    QMenu,
    QTreeWidget,
    QTreeWidgetItem,
)

from kneten.app.fields.quantities import count_text
from kneten.app.fields.theme import glyph
from kneten.app.view.desk import Desk
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.dialogs import passing
from kneten.document import blocking
from kneten.document.scene import Part

NAME, LOCK, EYE, COUNT = range(4)

PART = Qt.ItemDataRole.UserRole
GROUP = Qt.ItemDataRole.UserRole + 1

SEARCH_FROM = 9
"""Parts from which on there is a field to search them."""

ROW = 30

KIND_DRAWINGS = {"primitive": "ball", "strand": "strand", "lathe": "lathe", "armature": "armature"}
"""What marks a live part in the list."""

MENU = (
    "parts.rename", "parts.rename-many", "parts.hide", "parts.lock", "parts.group", "parts.ungroup", "",
    "copy.copy", "copy.mirror-x", "live.bake", "join.split-origin", "", "parts.find", "parts.budget",
    "library.keep", "parts.delete",
)  # fmt: skip


def children(item: QTreeWidgetItem) -> list[QTreeWidgetItem]:
    """The rows below a row."""
    found = (item.child(k) for k in range(item.childCount()))
    return [one for one in found if one is not None]


class PartsTree(QTreeWidget):
    """The tree; a row dropped on a group goes into it, between rows it takes that place."""

    def __init__(self, card: PartsCard) -> None:
        super().__init__()
        self._card = card

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        item = self.itemAt(event.position().toPoint())
        where = self.dropIndicatorPosition()
        event.setDropAction(Qt.DropAction.IgnoreAction)
        event.accept()
        ids = [i.data(NAME, PART) for i in self.selectedItems() if i.data(NAME, PART)]
        QTimer.singleShot(0, lambda: self._card.dropped(ids, item, where))


class PartsCard(Card):
    """All parts: choose, show, lock, group, rename."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Parts", desk.studio)
        studio, registry = desk.studio, desk.registry
        self._desk = desk
        self._registry = registry
        self._filling = False
        self._sharing: Counter[str] = Counter()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search parts")
        self.search.setAccessibleName("Search parts")
        self.search.textChanged.connect(self._filter)
        self.column.addWidget(self.search)
        self.list = PartsTree(self)
        self.list.setColumnCount(4)
        self.list.setHeaderHidden(True)
        self.list.setObjectName("parts")
        self.list.setAccessibleName("Parts")
        self.list.setToolTip("Click to take a part in hand; Ctrl or Shift for several; F2 to rename it")
        self.list.setIndentation(10)
        self.list.setUniformRowHeights(True)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setIconSize(QSize(17, 17))
        self.list.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.list.customContextMenuRequested.connect(self._menu)
        header = self.list.header()
        header.setStretchLastSection(False)
        header.setMinimumSectionSize(20)
        header.setSectionResizeMode(NAME, QHeaderView.ResizeMode.Stretch)
        for column, width in ((LOCK, 24), (EYE, 24), (COUNT, 52)):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Fixed)
            header.resizeSection(column, width)
        self.list.itemSelectionChanged.connect(self._chosen)
        self.list.itemClicked.connect(self._clicked)
        self.list.itemDoubleClicked.connect(self._renamed)
        self.list.itemExpanded.connect(lambda item: self._fold_group(item, False))
        self.list.itemCollapsed.connect(lambda item: self._fold_group(item, True))
        self.column.addWidget(self.list)
        entries = (
            ("live.sphere", "Add sphere"), ("parts.group", "Group"), ("file.import", "Import"),
            ("library.open", "Library"), ("copy.mirror-x", "Mirror"), ("parts.delete", "Delete"),
        )  # fmt: skip
        self.column.addLayout(command_grid(registry, entries)[0])
        studio.scene_changed.connect(self.fill)
        studio.clay_changed.connect(self._count_again)

    # -- filling --------------------------------------------------------------------------------

    def fill(self) -> None:
        """Show the project's parts and groups."""
        project = self._studio.project
        scene = project.scene
        self._filling = True
        self.list.setUpdatesEnabled(False)
        self.list.clear()
        chosen = {part.id for part in project.chosen}
        self._sharing = Counter(part.mesh_id for part in scene.parts)
        folders: dict[str, QTreeWidgetItem] = {}
        for part in scene.parts:
            group = scene.group(part.group)
            above: QTreeWidget | QTreeWidgetItem = self.list
            if group is not None:
                if group.id not in folders:
                    folders[group.id] = self._group_row(group.id)
                above = folders[group.id]
            item = QTreeWidgetItem(above)
            self._part_row(item, part)
            if part.id in chosen:
                item.setSelected(True)
            if part.id == project.active_id:
                self.list.setCurrentItem(item, NAME, QItemSelectionModel.SelectionFlag.NoUpdate)
        for group_id, item in folders.items():
            group = scene.group(group_id)
            item.setExpanded(group is None or not group.folded)
        self.list.setUpdatesEnabled(True)
        self._filling = False
        self.search.setVisible(len(scene.parts) >= SEARCH_FROM or bool(self.search.text()))
        self._filter()

    def _count_again(self) -> None:
        """Strokes on clay with live density change how many vertices there are."""
        if any(part.live_density for part in self._studio.project.chosen):
            self.fill()

    def _part_row(self, item: QTreeWidgetItem, part: Part) -> None:
        item.setText(NAME, part.name)
        kind = part.recipe.kind if part.recipe is not None else ""
        linked = self._sharing[part.mesh_id] > 1
        drawing = KIND_DRAWINGS.get(kind, "copy" if linked else "")
        if drawing:
            item.setIcon(NAME, glyph(drawing, self._desk.theme, 17))
        words = [part.name, f"live: {kind}" if kind else "", "a linked copy" if linked else "", part.note]
        item.setToolTip(NAME, "; ".join(word for word in words if word))
        item.setData(NAME, PART, part.id)
        item.setData(NAME, Qt.ItemDataRole.AccessibleTextRole, part.name)
        item.setSizeHint(NAME, QSize(60, ROW))
        item.setIcon(EYE, glyph("seen" if part.visible else "unseen", self._desk.theme, 17))
        item.setToolTip(EYE, f"{'Hide' if part.visible else 'Show'} {part.name}")
        item.setIcon(LOCK, glyph("lock" if part.locked else "unlock", self._desk.theme, 17))
        item.setToolTip(LOCK, f"{'Unlock' if part.locked else 'Lock'} {part.name}")
        count = part.mesh.count
        item.setText(COUNT, count_text(count))
        item.setTextAlignment(COUNT, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        quiet = QBrush(QColor(self._desk.theme.quiet))
        item.setForeground(COUNT, quiet)
        if not part.visible:
            item.setForeground(NAME, quiet)
        if part.budget and count > part.budget:
            item.setForeground(COUNT, QBrush(QColor(self._desk.theme.warning)))
            item.setToolTip(COUNT, f"{count:,} vertices; the budget is {part.budget:,}")

    def _group_row(self, group_id: str) -> QTreeWidgetItem:
        scene = self._studio.project.scene
        group = scene.group(group_id)
        assert group is not None
        parts = [part for part in scene.parts if part.group == group_id]
        item = QTreeWidgetItem(self.list)
        item.setText(NAME, group.name)
        item.setSizeHint(NAME, QSize(60, ROW))
        item.setIcon(NAME, glyph("group", self._desk.theme, 17))
        item.setData(NAME, GROUP, group_id)
        item.setData(NAME, Qt.ItemDataRole.AccessibleTextRole, f"Group {group.name}")
        shown = any(part.visible for part in parts)
        item.setIcon(EYE, glyph("seen" if shown else "unseen", self._desk.theme, 17))
        item.setIcon(
            LOCK, glyph("lock" if all(part.locked for part in parts) else "unlock", self._desk.theme, 17)
        )
        total = sum(part.mesh.count for part in parts)
        item.setText(COUNT, count_text(total))
        item.setTextAlignment(COUNT, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        over = group.budget and total > group.budget
        item.setForeground(
            COUNT, QBrush(QColor(self._desk.theme.warning if over else self._desk.theme.quiet))
        )
        return item

    def _filter(self) -> None:
        """Show only rows whose name holds what is searched, and size the list to them."""
        words = self.search.text().lower().split()
        rows = 0
        for i in range(self.list.topLevelItemCount()):
            item = self.list.topLevelItem(i)
            assert item is not None
            inner = children(item)
            seen = 0
            for child in inner:
                hidden = any(word not in child.text(NAME).lower() for word in words)
                child.setHidden(hidden)
                seen += not hidden
            own = all(word in item.text(NAME).lower() for word in words)
            item.setHidden(not own and not seen)
            rows += (own or seen > 0) + (seen if item.isExpanded() else 0)
        self.list.setFixedHeight(min(max(rows, 1), 9) * ROW + 6)

    # -- doing ----------------------------------------------------------------------------------

    def rows(self) -> list[QTreeWidgetItem]:
        """The rows of parts, in order."""
        found: list[QTreeWidgetItem] = []
        for i in range(self.list.topLevelItemCount()):
            item = self.list.topLevelItem(i)
            assert item is not None
            found += [item] if item.data(NAME, PART) else children(item)
        return found

    def _chosen(self) -> None:
        if self._filling:
            return
        ids: list[str] = []
        for item in self.list.selectedItems():
            if item.data(NAME, PART):
                ids.append(item.data(NAME, PART))
            else:
                ids += [child.data(NAME, PART) for child in children(item)]
        project = self._studio.project
        current = self.list.currentItem()
        lead = current.data(NAME, PART) if current is not None else None

        def choose() -> None:
            here = {part.id for part in project.scene.parts}
            wanted = [i for i in dict.fromkeys(ids) if i in here]
            if not wanted or set(wanted) == {p.id for p in project.chosen}:
                return
            if len(wanted) == 1:
                project.choose(wanted[0])
            else:
                if lead in wanted:
                    project.active_id = lead
                project.choose_all(wanted)

        QTimer.singleShot(0, choose)

    def _clicked(self, item: QTreeWidgetItem, column: int) -> None:
        if column not in (EYE, LOCK):
            return
        project = self._studio.project
        group = item.data(NAME, GROUP)
        parts = [
            p for p in project.scene.parts if (p.group == group if group else p.id == item.data(NAME, PART))
        ]
        if not parts:
            return
        if column == EYE:
            visible = not any(p.visible for p in parts)
            QTimer.singleShot(0, lambda: blocking.show_all(project, parts, visible))
        else:
            locked = not all(p.locked for p in parts)
            QTimer.singleShot(0, lambda: blocking.lock(project, parts, locked))

    def _renamed(self, item: QTreeWidgetItem, column: int) -> None:
        if column != NAME:
            return
        if item.data(NAME, PART):
            self._registry.run("parts.rename")
        else:
            self.rename_group(item.data(NAME, GROUP))

    def rename_group(self, group_id: str) -> None:
        """Ask for a group's name."""
        from dataclasses import replace

        from PySide6.QtWidgets import QInputDialog

        group = self._studio.project.scene.group(group_id)
        if group is None:
            return
        name, agreed = QInputDialog.getText(self, "Rename", "Name of the group:", text=group.name)
        name = " ".join(name.split())
        if agreed and name and name != group.name:
            blocking.change_group(self._studio.project, group_id, "Rename", replace(group, name=name))

    def _fold_group(self, item: QTreeWidgetItem, folded: bool) -> None:
        # Folding is no change of the work: it is kept without an undo step.
        if self._filling:
            return
        from dataclasses import replace

        project = self._studio.project
        groups = tuple(
            replace(g, folded=folded) if g.id == item.data(NAME, GROUP) else g for g in project.scene.groups
        )
        project.scene = replace(project.scene, groups=groups)
        self._filter()

    def _menu(self, at: QPoint) -> None:
        item = self.list.itemAt(at)
        with passing(QMenu(self)) as menu:
            if item is not None and item.data(NAME, GROUP):
                group_id = item.data(NAME, GROUP)
                menu.addAction("Rename group…").triggered.connect(lambda: self.rename_group(group_id))
                menu.addSeparator()
            for key in MENU:
                if key:
                    menu.addAction(self._registry.actions[key])
                else:
                    menu.addSeparator()
            menu.exec(self.list.viewport().mapToGlobal(at))

    def dropped(
        self, ids: list[str], item: QTreeWidgetItem | None, where: QAbstractItemView.DropIndicatorPosition
    ) -> None:
        """Rows were dropped on or beside another."""
        project = self._studio.project
        parts = [p for p in project.scene.parts if p.id in ids]
        if not parts:
            return
        group = item.data(NAME, GROUP) if item is not None else ""
        other = item.data(NAME, PART) if item is not None else None
        if group:
            blocking.into_group(project, parts, group)
            return
        if other is not None:
            target = project.scene.part(other)
            if target.group != parts[0].group:
                blocking.into_group(project, parts, target.group)
            if other in ids:
                return
            below = where == QAbstractItemView.DropIndicatorPosition.BelowItem
            after = [p.id for p in project.scene.parts]
            at = after.index(other) + (1 if below else 0)
            before = next((i for i in after[at:] if i not in ids), None)
            blocking.reorder(project, parts[0].id, before)
            return
        if any(p.group for p in parts):
            blocking.into_group(project, parts, "")
        else:
            blocking.reorder(project, parts[0].id, None)
