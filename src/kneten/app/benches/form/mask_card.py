"""The mask's card: what is done with it, finding it by form with a live threshold, kept masks."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from kneten.app.benches.form.form import MEASURES, START
from kneten.app.fields.fields import NumberField, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.arrays import F32, Progress
from kneten.core.masks import COMBINE, between
from kneten.core.mesh import Mesh
from kneten.document.masks import forget_mask, mask_of, recalled, with_mask
from kneten.document.things import KeptMask

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

WAYS = {"replace": "Instead", "add": "Add to", "subtract": "Take from", "intersect": "Within"}
"""How a new mask meets the one that is there."""


class MaskCard(Card):
    """What protects the part in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Mask", desk.studio)
        self._desk = desk
        entries = (
            ("mask.invert", "Invert"), ("mask.clear", "Unmask"), ("mask.lasso", "Lasso"),
            ("mask.blur", "Blur"), ("mask.sharpen", "Sharpen"), ("mask.gradient", "Gradient"),
            ("mask.grow", "Grow"), ("mask.shrink", "Shrink"), ("mask.hide", "Hide"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, entries)[0])
        self.ways = self._combo("How a new mask meets the old one", list(WAYS.items()))
        self.column.addWidget(labelled("New masks", self.ways))
        self.kinds = self._combo("Find by", [(key, name) for key, (name, _) in MEASURES.items()])
        self.kinds.activated.connect(lambda _: self._begin())
        find = QPushButton("Find")
        find.setStyleSheet("padding: 4px 2px;")
        find.setAccessibleName("Find a mask by form")
        find.setToolTip("Measures the part in hand and masks what lies between the two limits")
        find.clicked.connect(self._begin)
        self.column.addWidget(labelled("Find by", self.kinds))
        self.low, self.high, self.soft = (
            NumberField(name, 0, 100, suffix="%", tip=tip)
            for name, tip in (
                ("From", "Masked is what measures more than this"),
                ("To", "Masked is what measures less than this"),
                ("Softness", "How gradually the mask begins and ends"),
            )
        )
        for field in (self.low, self.high, self.soft):
            field.changed.connect(lambda _: self._show())
            field.settled.connect(lambda _: self._keep())
        self.limits = labelled("From, to", self.low, self.high)
        self.column.addWidget(self.limits)
        self.column.addWidget(labelled("Softness", self.soft, find))
        self.kept = self._combo("Kept masks", [])
        self.kept.setPlaceholderText("None kept yet")
        self.kept_row = labelled("Kept", self.kept)
        self.column.addWidget(self.kept_row)
        row = QHBoxLayout()
        row.setSpacing(4)
        keep = QPushButton("Keep…")
        keep.clicked.connect(lambda: desk.registry.run("mask.keep"))
        recall = QPushButton("Recall")
        recall.clicked.connect(self.recall)
        forget = QPushButton("Take away")
        forget.clicked.connect(self._forget)
        for button, name in (
            (keep, "Keep the mask under a name"),
            (recall, "Bring the kept mask back"),
            (forget, "Take the kept mask away"),
        ):
            button.setStyleSheet("padding: 4px 2px;")
            button.setAccessibleName(name)
            button.setToolTip(name)
            row.addWidget(button)
        self._needs_kept = (recall, forget)
        self.column.addLayout(row)
        self._measure: tuple[str, F32, F32] | None = None
        self._was: tuple[Mesh, F32] | None = None
        desk.studio.scene_changed.connect(self.fill)
        desk.studio.project_changed.connect(self._end)
        self._start_limits()
        self.fill()

    def _combo(self, name: str, entries: list[tuple[str, str]]) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(name)
        combo.setMinimumContentsLength(8)
        for key, text in entries:
            combo.addItem(text, key)
        return combo

    def _start_limits(self) -> None:
        """Show the limits that a measure begins with."""
        start = START[str(self.kinds.currentData())]
        for field, value in zip((self.low, self.high, self.soft), start, strict=True):
            field.set_value(value)

    def way(self) -> str:
        """How a new mask meets the old one: a key of `COMBINE`."""
        return str(self.ways.currentData())

    # -- finding --------------------------------------------------------------------------------

    def _begin(self) -> None:
        """Measure the part in hand, then show what the limits give."""
        form, studio = self._desk.form, self._studio
        blocked = form.none()
        if blocked:
            studio.say(blocked, "warning")
            return
        studio.project.settle([form.part().id])
        part = form.part()
        kind = str(self.kinds.currentData())
        if nothing := form.no_measure(kind):
            studio.say(nothing, "warning")
            return
        self._start_limits()
        scene = studio.project.scene
        others = [
            replace(p, mesh=p.mesh.copy())
            for p in scene.parts
            if kind == "parts" and p.visible and p is not part
        ]
        before = mask_of(part.mesh).copy()

        def work(progress: Progress) -> F32:
            return form.measure(kind, part, others, progress)

        def land(values: F32) -> None:
            self._measure = (part.id, values, before)
            low, high = sorted((self.low.value(), self.high.value()))
            if not (between(values, low / 100, high / 100, self.soft.value() / 100) > 0.5).any():
                # What is not there cannot be seen: without a word it looks as if nothing had been done.
                least, most = (round(100 * float(v)) for v in (values.min(), values.max()))
                studio.say(
                    f"Nothing of {part.name} measures between {low:g} and {high:g} %: it has {least} to {most} %. "
                    "Move the limits there.",
                    "warning",
                )
            self._keep()

        studio.work_on([part], f"Find by {MEASURES[kind][0].lower()}", work, land)

    def _mesh(self) -> tuple[Mesh, F32] | None:
        """The mesh the measure is of and the mask the limits give; None when there is none any more."""
        if self._measure is None:
            return None
        part_id, values, before = self._measure
        part = self._studio.project.active
        if part is None or part.id != part_id or part.mesh.n_vertices != len(values):
            self._end()
            return None
        low, high = sorted((self.low.value() / 100, self.high.value() / 100))
        found = between(values, low, high, self.soft.value() / 100)
        return part.mesh, COMBINE[self.way()](before, found)

    def _show(self) -> None:
        found = self._mesh()
        if found is not None:
            mesh, mask = found
            self._studio.project.try_on(self)
            if self._was is None:
                self._was = mesh, mask_of(mesh).copy()
            self._desk.view.show_mask(mesh, mask)

    def put_back(self) -> None:
        """The mask as it was before it was tried another way."""
        was, self._was = self._was, None
        if was is not None:
            self._desk.view.show_mask(*was)

    def _keep(self) -> None:
        found = self._mesh()
        if found is None:
            return
        _, mask = found
        # The step must begin where the last one ended, not at what was only shown.
        self._studio.project.end_trials()
        part = self._studio.project.active
        assert part is not None
        with_mask(self._studio.project, part, mask, f"Mask by {self.kinds.currentText().lower()} on")
        self._desk.view.refresh()

    def _end(self) -> None:
        self._measure = None
        self._was = None
        self._studio.project.trial_over(self)

    # -- kept masks -----------------------------------------------------------------------------

    def _chosen(self) -> KeptMask | None:
        key = self.kept.currentData()
        return next((m for m in self._studio.project.scene.kept_masks if m.id == key), None)

    def recall(self) -> None:
        """Bring the chosen kept mask to the part in hand."""
        kept, form = self._chosen(), self._desk.form
        if kept is None or form.none():
            return
        self._studio.project.settle([form.part().id])
        way = self.way()
        form.change_mask(
            f"Recall {kept.name} on", lambda mesh, before: COMBINE[way](before, recalled(kept, mesh))
        )

    def _forget(self) -> None:
        kept = self._chosen()
        if kept is not None:
            forget_mask(self._studio.project, kept)

    def fill(self) -> None:
        """Show the kept masks of the part in hand, then those of others."""
        project = self._studio.project
        now = self.kept.currentData()
        self.kept.clear()
        for mask in sorted(project.scene.kept_masks, key=lambda m: m.part != project.active_id):
            own = mask.part == project.active_id
            self.kept.addItem(mask.name if own else f"{mask.name} (other part)", mask.id)
        at = self.kept.findData(now)
        self.kept.setCurrentIndex(max(at, 0) if self.kept.count() else -1)
        self.kept_row.setVisible(self.kept.count() > 0)
        for button in self._needs_kept:
            button.setEnabled(self.kept.count() > 0)
        if self._measure is not None and self._measure[0] != project.active_id:
            self._end()
