"""Retopologising in the window: foretold, its flow shown, done, and told what came of it."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.fields.quantities import count_text
from kneten.app.work.memory import short_of_memory
from kneten.core.arrays import F64, I32, AnyArray, Progress
from kneten.core.loose import LooseMesh
from kneten.core.quads.finish import irregular
from kneten.core.quads.retopologise import QuadWish, spread
from kneten.document.retopology import (
    Laid,
    finest_faces,
    laid_quads,
    land_apart,
    land_in_place,
    shown_flow,
    with_guides,
)
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PER_FACE = 600
"""Bytes that laying quads takes for each face of the clay, at its most."""

STROKES = 3000
"""Strokes that the flow is shown by."""

MOST_POLES = 5000
"""Poles that are marked at most: clay of triangles has little else."""

MARKED = 100_000
"""Faces of a part whose poles are looked for at most."""


class Retopologising(QObject):
    """Commands that make quads.

    Attributes
    ----------
    strokes : (k, 2, 3) float64
        Both ends of each stroke of the flow that is shown, in the space of its part.
    strokes_of : str
        That part's id; "" where no flow is shown.
    marking : bool
        Whether poles are marked: vertices that do not have four edges.
    told : str
        What the last quads are like.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.strokes: F64 = np.empty((0, 2, 3))
        self.strokes_of = ""
        self.marking = False
        self.told = ""
        self._marks: tuple[str, AnyArray] = ("", np.empty(0, np.int64))
        for signal in (self._studio.pressed, self._studio.scene_changed):
            signal.connect(self.end_flow)
        self._studio.project_changed.connect(self._forget)

    def _forget(self) -> None:
        self.told, self.marking = "", False
        self.end_flow()
        self.changed.emit()

    def none(self) -> str:
        """Why no quads can be made."""
        part = self._studio.project.active
        return "There is no part in hand." if part is None else self._studio.move_blocked(part)

    def too_dense(self) -> str:
        """Why poles cannot be marked."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if part.mesh.topology.n_faces > MARKED and not self.marking:
            return f"{part.name} has more than {count_text(MARKED)} faces in hand: step to a lower level, or retopologise first."
        return ""

    # -- made --------------------------------------------------------------------------------------

    def run(self) -> None:
        """Make quads of the part in hand as the card says."""
        card = self._desk.quads_card
        self.make(card.wish(), card.with_form.isChecked(), str(card.where.currentData()) == "place")

    def make(self, wish: QuadWish, with_form: bool, in_place: bool) -> None:
        """Make quads of the part in hand, as a part of its own or in its place."""
        studio = self._studio
        part = studio.project.active
        assert part is not None
        if short := short_of_memory("Retopologising", finest_faces(part) * PER_FACE):
            studio.say(short, "warning")
            return
        scene = studio.project.scene
        if self._desk.quads_card.guides.isChecked():
            wish = with_guides(wish, scene, part)
        copy = replace(part, mesh=part.mesh.copy())

        def work(progress: Progress) -> Laid:
            made = laid_quads(copy, scene.kept_masks, wish, with_form, progress)
            stack = made.carried.made.stack if made.carried is not None else None
            mesh = made.carried.made.mesh if made.carried is not None else made.mesh
            if studio.journal is not None:
                studio.journal.stage(mesh, stack)
            return made

        def land(made: Laid) -> None:
            project = studio.project
            now = (land_in_place if in_place else land_apart)(project, part.id, made)
            self._tell(now, made)

        reshapes = ("keeps paint" if with_form else "drops") if in_place else ""
        studio.work_on([part], "Retopologise", work, land, reshapes)  # type: ignore[arg-type]

    def _tell(self, part: Part, made: Laid) -> None:
        q = made.quality
        all_quads = "all quads" if q.quads == 1 else f"{q.quads * 100:.1f} % quads"
        self.told = f"{count_text(q.faces)} faces, {all_quads}; {q.irregular * 100:.1f} % poles; mean shape {q.shape:.2f} of 1"
        missed = made.carried.missed if made.carried is not None else 0
        more = f" {count_text(missed)} vertices found no match and are masked." if missed else ""
        self._studio.say(f"{part.name}: {self.told}.{more}")
        self.changed.emit()

    # -- seen before -------------------------------------------------------------------------------

    def flow(self) -> None:
        """Show where quads would point; the same again ends it."""
        studio, card = self._studio, self._desk.quads_card
        if self.strokes_of:
            self.end_flow()
            return
        part = studio.project.active
        assert part is not None
        wish = card.wish()
        if card.guides.isChecked():
            wish = with_guides(wish, studio.project.scene, part)
        copy = replace(part, mesh=part.mesh.copy())

        def work(progress: Progress) -> F64:
            first, last = spread(shown_flow(copy, wish, progress), STROKES)
            return np.stack([first, last], axis=1).astype(np.float64)

        def arrived(strokes: F64) -> None:
            self.strokes, self.strokes_of = strokes, part.id
            self._desk.view.repaint_over()
            studio.say("The flow of the quads to be. The next press, or the same again, ends it.")

        studio.work_on([part], "Flow", work, arrived)

    def end_flow(self) -> None:
        """Show no flow any more."""
        if self.strokes_of:
            self.strokes, self.strokes_of = np.empty((0, 2, 3)), ""
            self._desk.view.repaint_over()

    # -- poles ------------------------------------------------------------------------

    def switch_poles(self) -> None:
        """Mark poles, or no more."""
        self.marking = not self.marking
        self._desk.view.repaint_over()
        if self.marking and (part := self._studio.project.active) is not None:
            odd, faces = len(self._poles(part)), part.mesh.topology.faces
            threes = int((faces[:, 3] < 0).sum())
            self.marking = odd <= MOST_POLES
            self._studio.say(
                f"{part.name} has {count_text(odd)} poles among {count_text(part.mesh.count)} vertices; "
                f"{count_text(threes)} faces are triangles."
                + ("" if self.marking else " So many are not marked.")
            )

    def marks(self, part: Part) -> F64:
        """The places (k, 3) of the poles of a part, in its space; of none where it is too dense, or its mesh changes."""
        if part.mesh.topology.n_faces > MARKED or isinstance(part.mesh, LooseMesh):
            return np.empty((0, 3))
        rows = self._poles(part)
        return part.mesh.positions[rows[:MOST_POLES]].astype(np.float64)

    def _poles(self, part: Part) -> AnyArray:
        shape = part.mesh.topology
        if self._marks[0] != shape.uid:
            faces: I32 = shape.faces
            rows = np.flatnonzero(irregular(part.mesh.positions.astype(np.float64), faces))
            self._marks = (shape.uid, rows)
        return self._marks[1]
