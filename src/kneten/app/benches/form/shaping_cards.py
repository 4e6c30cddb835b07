"""The cards of peeling and deforming."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.view.trial import RESTED, Trial
from kneten.app.work.card import Card
from kneten.core.arrays import F32, F64, I32, Progress
from kneten.core.deform import KINDS, deformed, latticed, projected, relaxed
from kneten.core.distance import nearest_points
from kneten.core.peel import Peeled, PeelSettings, peeled
from kneten.document.blocking import placed
from kneten.document.masks import mask_of
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk


class PeelCard(Card):
    """A shell from what is masked."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Peel", desk.studio)
        self._desk = desk
        self.thickness = NumberField("Thickness of the shell", 0.01, 200, unit="mm", decimals=1, curve=2)
        self.thickness.set_value(2.0)
        self.column.addWidget(labelled("Thickness", self.thickness))
        self.towards = QComboBox()
        self.towards.setAccessibleName("Where the shell grows to")
        self.towards.setToolTip("Where the shell grows to")
        for key, name in (("out", "Outwards"), ("in", "Inwards"), ("both", "Both ways")):
            self.towards.addItem(name, key)
        self.column.addWidget(labelled("Grows", self.towards))
        self.offset = NumberField(
            "Offset of the shell",
            -50,
            50,
            unit="mm",
            decimals=1,
            tip="How far it lies off the clay, outwards",
        )
        self.offset.set_value(0.0)
        self.column.addWidget(labelled("Offset", self.offset))
        self.smooth = NumberField("Smoothing of the rim", 0, 60, tip="How far the shell's edge is smoothed")
        self.smooth.set_value(12)
        self.rounded = NumberField("Roundness of the rim", 0, 100, suffix="%", tip="0 flat, 100 half round")
        self.rounded.set_value(60)
        self.column.addWidget(labelled("Rim", self.smooth, self.rounded))
        self.corners = QCheckBox("Keep the outline's corners")
        self.corners.setAccessibleName("Keep the outline's corners")
        self.corners.setToolTip("Smoothing runs from corner to corner; otherwise it rounds them")
        self.column.addWidget(self.corners)
        self.closed = QCheckBox("Closed: inside and rim")
        self.closed.setAccessibleName("Closed shell")
        self.closed.setToolTip("With an inside and a rim of quads; otherwise one open sheet")
        self.closed.setChecked(True)
        self.column.addWidget(self.closed)
        button = QPushButton("Peel")
        button.setAccessibleName("Peel what is masked")
        button.setToolTip(desk.registry.tip(desk.registry.commands["mask.peel"]))
        button.clicked.connect(lambda: desk.registry.run("mask.peel"))
        self.column.addWidget(button)

    def settings(self, scale: float) -> PeelSettings:
        """What is set, in the lengths of a part of that scale."""
        return PeelSettings(
            self.thickness.value() / scale,
            str(self.towards.currentData()),
            self.offset.value() / scale,
            round(self.smooth.value()),
            self.corners.isChecked(),
            3,
            self.rounded.value() / 100,
            self.closed.isChecked(),
        )

    def peel(self) -> None:
        """Add the shell of what is masked as a part of its own."""
        part = self._studio.project.active
        assert part is not None
        self.peel_masked(part, mask_of(part.mesh).copy())

    def peel_masked(self, part: Part, mask: F32) -> None:
        """Add the shell of what a mask covers."""
        studio, project = self._studio, self._studio.project
        mesh = part.mesh.copy()
        held = self.settings(part.transform.scale)

        def work(progress: Progress) -> Peeled:
            made = peeled(mesh, mask, held, progress)
            studio.journal_ahead([made.mesh])
            return made

        def land(made: Peeled) -> None:
            now = project.scene.part(part.id)
            name = project.scene.free_name(f"{now.name} shell")
            shell = Part(
                name, made.mesh, mesh_id=new_id(), transform=now.transform, group=now.group, pivot=now.pivot
            )
            project.change(f"Peel {name}", project.scene.with_parts((*project.scene.parts, shell)))
            project.choose(shell.id)
            if made.thinner:
                studio.say(f"“{name}” is thinner than asked where the clay has no room for it.")

        studio.work_on([part], "Peel", work, land)


@dataclass
class Places:
    """Some or all of a part's vertices before they are deformed: what every picture of the drag begins with."""

    places: F64
    normals: F64
    free: F32
    nearest: F64 | None = None
    onto: str = ""


class HeldPart:
    """A part that is being deformed, as it was: all of it, and what stands in for it while the hand moves."""

    def __init__(self, view: Canvas, part: Part) -> None:
        self.part = part
        self.trial = Trial(view, part)
        self._mask: F32 = 1 - mask_of(part.mesh)
        self._normals = part.mesh.normals.copy() if len(self.trial.rows) else part.mesh.normals
        self.all: Places | None = None
        self.few: Places | None = None
        if len(self.trial.rows):
            self.few = self._of(self.trial.rows)
        else:
            self.whole()

    def _of(self, rows: I32 | None) -> Places:
        at = slice(None) if rows is None else rows
        place = self.part.transform
        normals = self._normals[at].astype(np.float64) @ place.axes().T
        return Places(place.to_scene(self.trial.before[at]), normals, self._mask[at])

    def whole(self) -> Places:
        """All vertices."""
        self.all = self.all or self._of(None)
        return self.all


class DeformCard(Card):
    """Deformers on all chosen parts as one, on what their masks leave free."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Deform", desk.studio)
        self._desk = desk
        self.kind = QComboBox()
        self.kind.setAccessibleName("Deformer")
        self.kind.setToolTip("Deformer")
        for key, (name, does, _, _, _) in KINDS.items():
            self.kind.addItem(name, key)
            self.kind.setItemData(self.kind.count() - 1, does, 3)
        self.kind.activated.connect(lambda _: self._show_kind())
        self.column.addWidget(labelled("Deformer", self.kind))
        self.axis = QComboBox()
        self.axis.setAccessibleName("Axis of the deformer")
        self.axis.setToolTip("Axis of the deformer")
        for axis, name in enumerate(("X", "Y", "Z")):
            self.axis.addItem(name, axis)
        self.axis.setCurrentIndex(1)
        self.axis_row = labelled("Along", self.axis)
        self.column.addWidget(self.axis_row)
        self.lumps = NumberField("Size of the lumps", 0.1, 500, unit="mm", decimals=1, curve=2)
        self.lumps.set_value(10.0)
        self.size_row = labelled("Lumps", self.lumps)
        self.column.addWidget(self.size_row)
        self.start = NumberField(
            "Range begins", 0, 100, suffix="%", tip="Where the deformed range begins, along the axis"
        )
        self.end = NumberField(
            "Range ends", 0, 100, suffix="%", tip="Where it ends; what lies beyond goes along stiffly"
        )
        self.start.set_value(0)
        self.end.set_value(100)
        for field in (self.start, self.end):
            field.changed.connect(lambda _: desk.view.repaint_over())
        self.range_row = labelled("Range", self.start, self.end)
        self.column.addWidget(self.range_row)
        self.soft = NumberField(
            "Soft border",
            0,
            100,
            suffix="%",
            tip="How much of the range the deformer takes to set in at its ends",
        )
        self.soft.set_value(50)
        self.soft_row = labelled("Soft border", self.soft)
        self.column.addWidget(self.soft_row)
        self.target = QComboBox()
        self.target.setAccessibleName("Part to project onto")
        self.target.setToolTip("The part whose surface the clay is laid onto")
        self.target_row = labelled("Onto", self.target)
        self.column.addWidget(self.target_row)
        self.amount = NumberField(
            "Amount of the deformer", -360, 360, tip="Drag: the clay follows; let go: it is kept"
        )
        self.amount.changed.connect(lambda _: self._preview())
        self.amount.settled.connect(lambda _: self._keep())
        self.amount_row = labelled("Amount", self.amount)
        self.column.addWidget(self.amount_row)
        handles = QPushButton("Handles in the view")
        handles.setAccessibleName("Handles of the deformer")
        handles.setToolTip(desk.registry.tip(desk.registry.commands["form.deform"]))
        handles.clicked.connect(lambda: desk.registry.run("form.deform"))
        self.column.addWidget(handles)
        self.offsets = np.zeros((27, 3))
        desk.studio.scene_changed.connect(self.fill)
        self._held: list[HeldPart] | None = None
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(RESTED)
        self._rest.timeout.connect(self._show_whole)
        desk.studio.project_changed.connect(self._forget)
        self._show_kind()

    def _show_kind(self) -> None:
        kind = str(self.kind.currentData())
        _, _, unit, low, high = KINDS[kind]
        self.amount.low, self.amount.high = low, high
        self.amount.suffix = unit
        self.amount.decimals = 1 if unit == "mm" else 0
        self.amount.set_value(0.0)
        self.axis_row.setVisible(kind not in ("relax", "project", "lattice"))
        self.range_row.setVisible(kind not in ("relax", "project", "lattice"))
        self.soft_row.setVisible(kind not in ("relax", "project", "lattice"))
        self.size_row.setVisible(kind == "noise")
        self.target_row.setVisible(kind == "project")
        self.amount_row.setVisible(kind != "lattice")
        self.fill()
        self._desk.view.repaint_over()

    def fill(self) -> None:
        """Offer all parts but those that are deformed."""
        now = self.target.currentData()
        chosen = {part.id for part in self._studio.project.chosen}
        self.target.clear()
        for part in self._studio.project.scene.parts:
            if part.id not in chosen:
                self.target.addItem(part.name, part.id)
        self.target.setCurrentIndex(max(self.target.findData(now), 0) if self.target.count() else -1)

    def box(self) -> tuple[F64, F64]:
        """The box around all that is deformed, in the scene."""
        if self._held is not None:
            return self._box
        bounds = [part.bounds() for part in self.parts()]
        return np.min([b[0] for b in bounds], axis=0), np.max([b[1] for b in bounds], axis=0)

    def begin(self) -> bool:
        """Take hold of the chosen parts; False, with a notice, where that is not possible."""
        return self._begin()

    def preview(self) -> None:
        """Show what is set."""
        self._preview()

    def keep(self) -> None:
        """Make what is shown a step."""
        self._keep()

    def _forget(self) -> None:
        self._held = None
        self._rest.stop()
        self.amount.set_value(0.0)

    def parts(self) -> list[Part]:
        """The chosen parts, linked copies once."""
        found: dict[str, Part] = {}
        for part in self._studio.project.chosen:
            found.setdefault(part.mesh_id, part)
        return list(found.values())

    def _begin(self) -> bool:
        if self._held is not None:
            return True
        self._studio.project.settle([part.id for part in self.parts()])
        parts = self.parts()
        blocked = "There is no part in hand." if not parts else ""
        blocked = blocked or next((w for p in parts if (w := self._studio.stroke_blocked(p))), "")
        if not blocked and self.kind.currentData() == "project" and self.target.currentData() is None:
            blocked = "There is no other part to project onto: add one, or choose fewer parts."
        if blocked:
            self._studio.say(blocked, "warning")
            self.amount.set_value(0.0)
            return False
        bounds = [part.bounds() for part in parts]
        self._box = np.min([b[0] for b in bounds], axis=0), np.max([b[1] for b in bounds], axis=0)
        self._studio.project.try_on(self)
        self._held = [HeldPart(self._desk.view, part) for part in parts]
        return True

    def put_back(self) -> None:
        """All clay as it was before the drag."""
        held, self._held = self._held, None
        self._rest.stop()
        for one in held or ():
            one.trial.let_go()
        self.amount.set_value(0.0)
        self.offsets = np.zeros((27, 3))
        self._desk.view.moved()

    def deformed(self, held: HeldPart, of: Places) -> F32:
        """Where vertices of a held part belong, in its own space."""
        kind, axis = str(self.kind.currentData()), int(self.axis.currentData())
        if kind == "relax":
            mesh = held.part.mesh.with_positions(held.trial.before)
            return relaxed(mesh, of.free, round(self.amount.value())).astype(np.float32)
        low, high = self._box
        if kind == "lattice":
            moved = latticed(of.places, of.free, low, high, self.offsets)
        elif kind == "project":
            moved = self._projected(of)
        else:
            start, end = sorted((self.start.value() / 100, self.end.value() / 100))
            soft = self.soft.value() / 100
            args = (kind, axis, self.amount.value(), self.lumps.value(), low, high)
            moved = deformed(of.places, of.normals, of.free, *args, start, max(end, start + 0.01), soft)
        return held.part.transform.to_part(moved).astype(np.float32)

    def _projected(self, of: Places) -> F64:
        """Where projecting brings places; the nearest ones are looked for once, whatever the amount."""
        onto = str(self.target.currentData())
        if of.nearest is None or of.onto != onto:
            target = placed([self._studio.project.scene.part(onto)])[0]
            of.onto, of.nearest = onto, nearest_points(of.places, target, Progress())[0]
        return projected(of.places, of.free, of.nearest, self.amount.value())

    def _preview(self) -> None:
        if not self._begin():
            return
        assert self._held is not None
        # Relaxing looks at neighbours: it needs all of them.
        whole = self.kind.currentData() == "relax"
        for held in self._held:
            if held.few is not None and not whole:
                held.trial.show(self.deformed(held, held.few), held.trial.rows)
                self._rest.start()
            else:
                held.trial.show(self.deformed(held, held.whole()))
        self._desk.view.moved()

    def _show_whole(self) -> None:
        """The hand rests: work all of it out."""
        for held in self._held or ():
            if held.part.mesh.in_flux:
                held.trial.show(self.deformed(held, held.whole()))
        self._desk.view.moved()

    def _keep(self) -> None:
        if not self._begin():
            return
        assert self._held is not None
        self._rest.stop()
        found = [self.deformed(held, held.whole()) for held in self._held]
        held, self._held = self._held, None
        self._studio.project.trial_over(self)
        for one in held:
            one.trial.let_go()
        if self.amount.value() or self.offsets.any():
            name = KINDS[str(self.kind.currentData())][0]
            what = held[0].part.name if len(held) == 1 else f"{len(held)} parts"
            project = self._studio.project
            with project.at_once(f"{name} {what}"):
                for one, new in zip(held, found, strict=True):
                    project.move_vertices(one.part.id, new, name)
        self.amount.set_value(0.0)
        self.offsets = np.zeros((27, 3))
        self._desk.view.refresh()
