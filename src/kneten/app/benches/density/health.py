"""The health of the part in hand: examined, each fault framed and marked, repaired."""

from __future__ import annotations

import weakref
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QLabel, QListWidget, QListWidgetItem

from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.arrays import Progress
from kneten.core.health import KINDS, ONE, Fault, examined, repaired, told
from kneten.core.mesh import Mesh
from kneten.core.repainted import repainted
from kneten.core.stack import Stack
from kneten.core.topology import MeshError
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk

MOST_MARKED = 300
"""Faults marked in the view at once; the list counts all of them."""


class Health:
    """Commands on the faults of the part in hand.

    Attributes
    ----------
    faults : list of Fault
        As found last, on `mesh`; strokes since then may have moved them.
    kind : str
        The kind that commands are about, "" for all.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.faults: list[Fault] = []
        # Faults are no reason to keep clay that nobody else has any more.
        self._mesh: weakref.ref[Mesh] | None = None
        self.kind = ""
        self._at = -1

    @property
    def mesh(self) -> Mesh | None:
        """What the faults were found on; None when it is gone."""
        return None if self._mesh is None else self._mesh()

    @property
    def _part(self) -> Part | None:
        return self._studio.project.active

    @property
    def current(self) -> list[Fault]:
        """The faults of the part in hand, as long as it has the mesh they were found on; of the chosen kind."""
        part = self._part
        if part is None or part.mesh is not self.mesh:
            return []
        return [fault for fault in self.faults if self.kind in ("", fault.kind)]

    def none(self) -> str:
        """Why nothing can be examined."""
        part = self._part
        return "There is no part in hand." if part is None else self._studio.move_blocked(part)

    def no_fault(self) -> str:
        """Why there is nothing to frame or repair."""
        if blocked := self.none():
            return blocked
        part = self._part
        if part is None or part.mesh is not self.mesh:
            return "Examine the part first (Ctrl+Alt+H)."
        return "" if self.current else "Nothing is wrong with it."

    def examine(self) -> None:
        """Look for everything that may be wrong with the part in hand."""
        part = self._part
        assert part is not None
        mesh = part.mesh
        copy = mesh.copy()

        def land(found: list[Fault]) -> None:
            self.faults, self._mesh, self.kind, self._at = found, weakref.ref(mesh), "", -1
            self._studio.say(f"{part.name}: {told(found)}", "warning" if found else "info")
            self._desk.fill_card("health_card")
            self._desk.view.repaint_over()

        self._studio.work_on([part], f"Examine {part.name}", lambda progress: examined(copy, progress), land)

    def choose(self, kind: str) -> None:
        """Let commands be about one kind of fault; "" for all."""
        self.kind, self._at = kind, -1
        self._desk.view.repaint_over()

    def frame(self, by: int) -> None:
        """Bring the next fault into the picture."""
        faults, part = self.current, self._part
        assert part is not None
        self._at = (self._at + by) % len(faults)
        fault = faults[self._at]
        size = float(np.linalg.norm(np.ptp(np.array(part.mesh.bounds()), axis=0)))
        reach = max(fault.reach * 1.5, size * 0.02)
        low, high = fault.middle - reach, fault.middle + reach
        corners = part.transform.to_scene(np.array([low, high]))
        self._desk.views.frame_box(corners.min(axis=0), corners.max(axis=0))
        _, what, cure = KINDS[fault.kind]
        self._studio.say(f"{self._at + 1} of {len(faults)}, {ONE[fault.kind]}: {what}. Repairing {cure}.")

    def repair(self, everything: bool) -> None:
        """Repair the faults of the chosen kind, or of all kinds one after the other."""
        part, studio = self._part, self._studio
        assert part is not None
        mesh = part.mesh.copy()
        faults = self.faults if everything else self.current
        chosen = [kind for kind in KINDS if any(fault.kind == kind for fault in faults)]
        only = None if everything or self._at < 0 or not self.kind else faults[self._at : self._at + 1]

        def work(progress: Progress) -> tuple[Mesh, list[Fault], Stack | None] | str:
            made = mesh
            try:
                for kind in chosen:
                    # One repair may have cured, or moved, what the next one is about.
                    some = only or [f for f in examined(made, progress) if f.kind == kind]
                    if some:
                        made = repaired(made, some, progress)
            except MeshError as error:
                return str(error)
            studio.journal_ahead([made])
            left = examined(made, progress)
            return made, left, repainted(part.stack, mesh, made, progress)

        def land(found: tuple[Mesh, list[Fault], Stack | None] | str) -> None:
            if isinstance(found, str):
                studio.say(f"{part.name} could not be repaired: {found}.", "warning")
                return
            made, left, stack = found
            before = told(self.faults)
            studio.project.replace_mesh(part.id, made, f"Repair {part.name}", recipe=None, stack=stack)
            self.faults, self._mesh, self.kind, self._at = left, weakref.ref(made), "", -1
            studio.say(f"{part.name} had {before}. Now: {told(left)}", "warning" if left else "info")
            self._desk.fill_card("health_card")
            self._desk.view.repaint_over()

        studio.work_on([part], f"Repair {part.name}", work, land, "keeps paint")


class FaultLayer:
    """Marks faults over the picture."""

    def __init__(self, view: Canvas, desk: Desk) -> None:
        self._view, self._desk = view, desk

    def paint(self, painter: QPainter) -> None:
        """A ring around each fault."""
        health, view = self._desk.health, self._view
        part, faults = view.studio.project.active, health.current[:MOST_MARKED]
        # Where one looks for faults; elsewhere the rings would lie over the work.
        looking = self._desk.card_open("health_card")
        if part is None or not faults or not part.visible or not looking:
            return
        middles = part.transform.to_scene(np.array([fault.middle for fault in faults]))
        at = view.camera.project(middles, view.wide, view.high)[:, :2]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for fault, middle, (x, y) in zip(faults, middles, at, strict=True):
            pixel = view.camera.pixel_size(middle, view.high)
            reach = float(np.clip(fault.reach * part.transform.scale / max(pixel, 1e-9), 7, 4000))
            for colour, width in ((view.label_colour, 3.5), (QColor(self._desk.theme.warning), 1.6)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(QPointF(float(x), float(y)), reach, reach)


class HealthCard(Card):
    """What is wrong with the part in hand, by kind."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Health", desk.studio)
        self._desk = desk
        self.state = QLabel("Not examined yet.")
        self.state.setObjectName("quiet")
        self.column.addWidget(self.state)
        self.list = QListWidget()
        self.list.setAccessibleName("Faults")
        self.list.setToolTip("Kinds of faults and how many there are; Next frames them one by one")
        self.list.currentItemChanged.connect(lambda item, _: self._chosen(item))
        self.column.addWidget(self.list)
        keys = (
            ("health.examine", "Examine"), ("health.last", "Last"), ("health.next", "Next"),
            ("health.repair", "Repair"), ("health.repair-all", "Repair all"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self._known: object = None
        self.fill()

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._desk.health.choose(str(item.data(Qt.ItemDataRole.UserRole)))

    def fill(self) -> None:
        """Show what was found."""
        health, part = self._desk.health, self._studio.project.active
        known = (id(health.faults), id(part.mesh) if part is not None else 0)
        if known == self._known:
            return
        self._known = known
        current = part is not None and part.mesh is health.mesh
        counts = {kind: sum(f.kind == kind for f in health.faults) for kind in KINDS} if current else {}
        self.list.blockSignals(True)
        self.list.clear()
        for kind, count in counts.items():
            if count:
                item = QListWidgetItem(f"{KINDS[kind][0]}   {count:,}")
                item.setData(Qt.ItemDataRole.UserRole, kind)
                item.setToolTip(
                    f"{KINDS[kind][1][0].upper()}{KINDS[kind][1][1:]}. Repairing {KINDS[kind][2]}."
                )
                self.list.addItem(item)
        self.list.blockSignals(False)
        rows = self.list.count()
        self.list.setVisible(bool(rows))
        self.list.setFixedHeight(min(max(rows, 1), 10) * max(self.list.sizeHintForRow(0), 20) + 6)
        self.state.setVisible(not rows)
        self.state.setText("Nothing is wrong with it." if current else "Not examined yet.")
