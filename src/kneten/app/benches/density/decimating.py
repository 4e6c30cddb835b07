"""Decimating in the window: how far, seen before it is done, and where it would show."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.fields.quantities import count_text
from kneten.core.arrays import F32, Progress
from kneten.core.decimate import Decimated, Wanted, decimated, distances_to
from kneten.core.repainted import repainted
from kneten.core.stack import Stack
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from PySide6.QtWidgets import QVBoxLayout

    from kneten.app.view.desk import Desk

GOALS = {
    "share": ("Share", "So many percent of the triangles", "%", 1.0, 99.0, 25.0),
    "count": ("Count", "So many triangles", "", 100, 20_000_000, 50_000),
    "error": ("Error", "As few as the surface stays within this distance with", "mm", 0.001, 100, 0.2),
    "budget": ("Budget", "As many as the part's budget, or the project's, allows", "", 0, 0, 0),
}
"""How far to go: name, what it means, unit, least and greatest value, and the one it begins with."""


class Decimating:
    """What the Density card's rows about decimating do."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._shown: Decimated | None = None
        self._studio.pressed.connect(self.end_preview)
        self._studio.scene_changed.connect(self.end_preview)

    def blocked(self) -> str:
        """Why the part in hand cannot be decimated."""
        part = self._studio.project.active
        return "There is no part in hand." if part is None else self._studio.move_blocked(part)

    def _part(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    def _take(self) -> tuple[Part, Wanted] | None:
        """The part in hand and how far to go; None, with a notice, where it is so coarse already."""
        part = self._part()
        wanted = self._desk.density_card.decimate.wanted(part)
        now = part.mesh.topology.n_triangles
        if not wanted.error < np.inf and wanted.triangles >= now:
            self._studio.say(
                f"{part.name} has {count_text(now)} triangles already; choose fewer than that.", "warning"
            )
            return None
        return part, wanted

    def run(self) -> None:
        """Decimate the part in hand: one step."""
        found = self._take()
        if found is None:
            return
        part, wanted = found
        mesh, scale, before = part.mesh.copy(), part.transform.scale, part.mesh.topology.n_triangles

        def work(progress: Progress) -> tuple[Decimated, Stack | None]:
            made = decimated(mesh, wanted, progress)
            stack = repainted(part.stack, mesh, made.mesh, progress)
            self._studio.journal_ahead([made.mesh])
            return made, stack

        def land(done: tuple[Decimated, Stack | None]) -> None:
            made, stack = done
            project = self._studio.project
            now = project.scene.part(part.id)
            was = now.recipe or now.was
            project.replace_mesh(
                part.id, made.mesh, f"Decimate {now.name}", recipe=None, was=was, stack=stack
            )
            self._studio.say(
                f"{now.name} has {count_text(made.mesh.topology.n_triangles)} triangles instead of "
                f"{count_text(before)}; its surface moved by up to {made.error * scale:.2g} mm"
                + (", and is symmetric as before." if made.symmetric else ".")
            )

        self._studio.work_on([part], "Decimate", work, land, "keeps paint and UVs")

    def preview(self) -> None:
        """Show what decimating would give, with its edges, until the next press."""
        found = self._take()
        if found is None:
            return
        part, wanted = found
        mesh, scale = part.mesh.copy(), part.transform.scale

        def land(made: Decimated) -> None:
            now = self._studio.project.scene.part(part.id)
            self._desk.view.preview = {part.id: replace(now, mesh=made.mesh, mesh_id=new_id())}
            self._shown = made
            self._desk.view.refresh()
            self._studio.say(
                f"Preview: {count_text(made.mesh.topology.n_triangles)} triangles, off by up to "
                f"{made.error * scale:.2g} mm. Press anywhere to end it."
            )

        self._studio.work_on([part], "Preview", lambda progress: decimated(mesh, wanted, progress), land)

    def end_preview(self) -> None:
        """Show the clay as it is again."""
        if self._shown is not None:
            self._shown = None
            self._desk.view.preview = {}
            self._desk.view.refresh()

    def error_map(self) -> None:
        """Colour the part in hand by how far decimating would move its surface; the same again ends it."""
        view = self._desk.view
        if view.distances:
            view.stop_compare()
            return
        found = self._take()
        if found is None:
            return
        part, wanted = found
        mesh, scale = part.mesh.copy(), part.transform.scale

        def work(progress: Progress) -> F32:
            made = decimated(mesh, wanted, progress)
            progress.report(0.97, "Measuring")
            return distances_to(mesh.positions, made.mesh)

        def land(off: F32) -> None:
            worst = float(off.max())
            shown = (0.5 + 0.5 * off / max(worst, 1e-12)).astype(np.float32)
            self._studio.say(
                f"Decimating would move {part.name} by up to {worst * scale:.2g} mm, {float(off.mean()) * scale:.2g} mm "
                "in the mean. The same again ends the map."
            )
            view.show_distances({part.id: shown}, worst * scale)

        self._studio.work_on([part], "Error map", work, land)


class DecimateRows:
    """The part of the Density card that is about decimating."""

    def __init__(self, desk: Desk, column: QVBoxLayout) -> None:
        self._studio = desk.studio
        registry = desk.registry
        self.goal = QComboBox()
        self.goal.setAccessibleName("How far to decimate")
        self.goal.setToolTip("How far to decimate")
        self.goal.setMinimumContentsLength(4)
        for key, (name, does, *_) in GOALS.items():
            self.goal.addItem(name, key)
            self.goal.setItemData(self.goal.count() - 1, does, 3)
        self.goal.activated.connect(lambda _: self._choose())
        self.amount = NumberField("Decimate to", 0, 1, tip="How far to decimate")
        self.amount.setMinimumWidth(72)
        column.addWidget(labelled("Decimate", self.goal, self.amount))
        self.regions = QCheckBox("Keep region borders")
        self.mask = QCheckBox("Masked stays finer")
        row = QHBoxLayout()
        for box, tip in (
            (self.regions, "Borders of regions stay where they are"),
            (self.mask, "What is masked keeps up to five times as fine edges: paint where detail counts"),
        ):
            box.setAccessibleName(box.text())
            box.setToolTip(tip)
            box.setChecked(True)
            column.addWidget(box)
        for text, key in (("Preview", "preview"), ("Error map", "error"), ("Decimate", "run")):
            button = QPushButton(text)
            command = f"density.decimate-{key}"
            button.setAccessibleName(registry.commands[command].name)
            button.setToolTip(registry.tip(registry.commands[command]))
            button.setStyleSheet("padding: 4px 2px;")
            button.clicked.connect(lambda _=False, command=command: registry.run(command))
            row.addWidget(button)
        column.addLayout(row)
        self._choose()

    def _choose(self) -> None:
        key = str(self.goal.currentData())
        _, _, unit, low, high, start = GOALS[key]
        self.amount.setVisible(key != "budget")
        self.amount.low, self.amount.high = low, high
        self.amount.unit = unit if unit == "mm" else ""
        self.amount.suffix = unit if unit == "%" else ""
        self.amount.decimals = 3 if key == "error" else 0
        self.amount.set_value(start)

    def wanted(self, part: Part) -> Wanted:
        """How far the part is to be decimated."""
        key, value = str(self.goal.currentData()), self.amount.value()
        kept = (self.regions.isChecked(), self.mask.isChecked())
        if key == "error":
            return Wanted(0, value / part.transform.scale, *kept)
        now = part.mesh.topology.n_triangles
        if key == "budget":
            project = self._studio.project
            others = sum(p.mesh.count for p in project.scene.parts if p.id != part.id)
            vertices = part.budget or max(project.settings.budget - others, 0)
            # Triangle meshes have about twice as many triangles as vertices.
            return Wanted(max(2 * vertices - 4, 4), np.inf, *kept)
        count = round(now * value / 100) if key == "share" else round(value)
        return Wanted(max(count, 4), np.inf, *kept)
