"""The cards of peeling and deforming."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton

from kneten.app.cards import Card
from kneten.app.fields import NumberField, labelled
from kneten.core.arrays import F32, F64, Progress
from kneten.core.deform import KINDS, deformed, latticed, projected, relaxed
from kneten.core.distance import nearest_points
from kneten.core.mesh import Mesh
from kneten.core.peel import PeelSettings, peeled
from kneten.document.blocking import placed
from kneten.document.masks import mask_of
from kneten.document.scene import Part, new_id

if TYPE_CHECKING:
    from kneten.app.window import Window


class PeelCard(Card):
    """A shell from what is masked."""

    def __init__(self, window: Window) -> None:
        super().__init__("Peel", window.studio)
        self._window = window
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
        self.closed = QCheckBox("Closed: inside and rim")
        self.closed.setAccessibleName("Closed shell")
        self.closed.setToolTip("With an inside and a rim of quads; otherwise one open sheet")
        self.closed.setChecked(True)
        self.column.addWidget(self.closed)
        button = QPushButton("Peel")
        button.setAccessibleName("Peel what is masked")
        button.setToolTip(window.registry.tip(window.registry.commands["mask.peel"]))
        button.clicked.connect(lambda: window.registry.run("mask.peel"))
        self.column.addWidget(button)

    def settings(self, scale: float) -> PeelSettings:
        """What is set, in the lengths of a part of that scale."""
        return PeelSettings(
            self.thickness.value() / scale,
            str(self.towards.currentData()),
            self.offset.value() / scale,
            round(self.smooth.value()),
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

        def work(progress: Progress) -> Mesh:
            made = peeled(mesh, mask, held, progress)
            studio.journal_ahead([made])
            return made

        def land(made: Mesh) -> None:
            now = project.scene.part(part.id)
            name = project.scene.free_name(f"{now.name} shell")
            shell = Part(
                name, made, mesh_id=new_id(), transform=now.transform, group=now.group, pivot=now.pivot
            )
            project.change(f"Peel {name}", project.scene.with_parts((*project.scene.parts, shell)))
            project.choose(shell.id)

        studio.work_on([part], "Peel", work, land)


SMALL = 100_000
"""Vertices up to which normals follow while a deformer is dragged: 10 ms."""


@dataclass
class Held:
    """A part that is being deformed, as it was: what every picture of the drag begins with."""

    part: Part
    before: F32
    places: F64
    normals: F64
    free: F32
    nearest: F64 | None = None
    onto: str = ""

    @classmethod
    def of(cls, part: Part) -> Held:
        """Take hold of a part."""
        mesh = part.mesh
        before = mesh.positions.copy()
        normals = mesh.normals.astype(np.float64) @ part.transform.axes().T
        return cls(part, before, part.transform.to_scene(before), normals, 1 - mask_of(mesh))

    def show(self, positions: F32) -> None:
        """Put the vertices elsewhere for a while."""
        mesh = self.part.mesh
        mesh.positions[:] = positions
        if mesh.n_vertices <= SMALL:
            mesh.refresh_all()
            return
        # Boxes may be too large: one around all of it is found faster than each patch's own.
        box = np.concatenate([positions.min(axis=0), positions.max(axis=0)])
        mesh.boxes[:] = box
        mesh.clusters[:] = box
        mesh.mark_all_dirty()

    def let_go(self) -> None:
        """Put everything back."""
        mesh = self.part.mesh
        mesh.positions[:] = self.before
        mesh.refresh_all()


class DeformCard(Card):
    """Deformers on all chosen parts as one, on what their masks leave free."""

    def __init__(self, window: Window) -> None:
        super().__init__("Deform", window.studio)
        self._window = window
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
        self.size = NumberField("Size of the lumps", 0.1, 500, unit="mm", decimals=1, curve=2)
        self.size.set_value(10.0)
        self.size_row = labelled("Lumps", self.size)
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
            field.changed.connect(lambda _: window.view.repaint_over())
        self.range_row = labelled("Range", self.start, self.end)
        self.column.addWidget(self.range_row)
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
        handles.setToolTip(window.registry.tip(window.registry.commands["form.deform"]))
        handles.clicked.connect(lambda: window.registry.run("form.deform"))
        self.column.addWidget(handles)
        self.offsets = np.zeros((27, 3))
        window.studio.scene_changed.connect(self._fill_targets)
        self._held: list[Held] | None = None
        window.studio.project_changed.connect(self._forget)
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
        self.size_row.setVisible(kind == "noise")
        self.target_row.setVisible(kind == "project")
        self.amount_row.setVisible(kind != "lattice")
        self._fill_targets()
        self._window.view.repaint_over()

    def _fill_targets(self) -> None:
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
            lows, highs = zip(
                *((h.places.min(axis=0), h.places.max(axis=0)) for h in self._held), strict=True
            )
            return np.min(lows, axis=0), np.max(highs, axis=0)
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
        self._held = [Held.of(part) for part in parts]
        self._box = self.box()
        return True

    def deformed(self) -> list[F32]:
        """Where the held parts' vertices belong, each in its own space."""
        assert self._held is not None
        kind, axis = str(self.kind.currentData()), int(self.axis.currentData())
        if kind == "relax":
            rounds = round(self.amount.value())
            return [
                relaxed(h.part.mesh.with_positions(h.before), h.free, rounds).astype(np.float32)
                for h in self._held
            ]
        low, high = self._box
        if kind == "lattice":
            moved = [latticed(h.places, h.free, low, high, self.offsets) for h in self._held]
        elif kind == "project":
            moved = [self._projected(h) for h in self._held]
        else:
            start, end = sorted((self.start.value() / 100, self.end.value() / 100))
            args = (kind, axis, self.amount.value(), self.size.value(), low, high)
            ends = start, max(end, start + 0.01)
            moved = [deformed(h.places, h.normals, h.free, *args, *ends) for h in self._held]
        return [
            h.part.transform.to_part(new).astype(np.float32) for h, new in zip(self._held, moved, strict=True)
        ]

    def _projected(self, held: Held) -> F64:
        """Where projecting brings a part; the nearest places are looked for once, whatever the amount."""
        onto = str(self.target.currentData())
        if held.nearest is None or held.onto != onto:
            target = placed([self._studio.project.scene.part(onto)])[0]
            held.onto, held.nearest = onto, nearest_points(held.places, target, Progress())[0]
        return projected(held.places, held.free, held.nearest, self.amount.value())

    def _preview(self) -> None:
        if not self._begin():
            return
        assert self._held is not None
        for held, new in zip(self._held, self.deformed(), strict=True):
            held.show(new)
        self._window.view.moved()

    def _keep(self) -> None:
        if not self._begin():
            return
        assert self._held is not None
        found = self.deformed()
        held, self._held = self._held, None
        for one in held:
            one.let_go()
        if self.amount.value() or self.offsets.any():
            name = KINDS[str(self.kind.currentData())][0]
            what = held[0].part.name if len(held) == 1 else f"{len(held)} parts"
            project = self._studio.project
            with project.at_once(f"{name} {what}"):
                for one, new in zip(held, found, strict=True):
                    project.move_vertices(one.part.id, new, name)
        self.amount.set_value(0.0)
        self.offsets = np.zeros((27, 3))
        self._window.view.refresh()
