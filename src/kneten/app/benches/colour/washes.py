"""Work with paint that follows the form."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QTimer

from kneten.core.arrays import F32, U8, Progress
from kneten.core.changes import noted
from kneten.core.mesh import Mesh
from kneten.core.paint.byform import ByForm
from kneten.core.paint.reading import OverClay
from kneten.core.paint.wash import KINDS, Wash, share_of
from kneten.core.stack import Layer
from kneten.core.values import VALUES
from kneten.document.opening import StackError
from kneten.document.painting import bake_wash, filled, lay_wash, measured_on, tinted
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PATTERN = ("kind", "scale", "seed")
"""Numbers that change what is measured, not only where the limits are."""


RESTED = 400
"""Milliseconds without a change after which a brush's measure is worked out anew."""

AT_ONCE, SLOW = 120_000, ("covered", "thin", "mask")
"""Vertices up to which a part is measured as a stroke begins, some 50 ms; and kinds for which that would take too long."""


def _plain(wash: Wash) -> Wash:
    """What of a wash says what is measured."""
    return replace(wash, low=0.0, high=1.0, soft=0.0, colour=(0, 0, 0), strength=1.0)


def _form_of(part: Part, plain: Wash) -> tuple[object, ...]:
    """What must be the same for a measure to hold."""
    mesh = part.mesh
    mask = mesh.values_version if plain.kind == "mask" else 0
    return (part.id, mesh.topology.uid, mesh.shape_version, mask, plain)


class _Known:
    """What a brush by form goes by, and of which form."""

    def __init__(self, part: Part, plain: Wash, measure: F32, form: tuple[object, ...] = ()) -> None:
        self.measure = measure
        self.form = form or _form_of(part, plain)

    def fits(self, part: Part, plain: Wash, exactly: bool) -> bool:
        """Whether it can be painted by; unless `exactly` it may be of the form before the last stroke."""
        now = _form_of(part, plain)
        if exactly:
            return now == self.form
        return now[:2] == self.form[:2] and now[-1] == self.form[-1]


class Washes:
    """Commands on paint by the form.

    Attributes
    ----------
    wash : Wash
        The one in hand: that of the chosen layer, or the next to be laid.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._free = Wash()
        self._measure: tuple[str, Wash, F32] | None = None
        self._was: tuple[Mesh, U8 | None] | None = None
        self._known: _Known | None = None
        self._asked: tuple[object, ...] = ()
        self._rest = QTimer(desk)
        self._rest.setSingleShot(True)
        self._rest.setInterval(RESTED)
        self._rest.timeout.connect(self._measure_for_brush)
        desk.studio.project_changed.connect(self._forget)
        for signal in (desk.studio.scene_changed, desk.studio.clay_changed):
            signal.connect(self._changed)

    def _forget(self) -> None:
        self._measure = self._was = self._known = None
        self._asked = ()

    # -- what is in hand ------------------------------------------------------------------------

    @property
    def layer(self) -> Layer | None:
        """The chosen layer, if it follows the form."""
        chosen = self._desk.levels.chosen
        return chosen if chosen is not None and chosen.wash is not None else None

    @property
    def wash(self) -> Wash:
        """The one that the card is about."""
        layer = self.layer
        if layer is not None and layer.wash is not None:
            return layer.wash
        return replace(self._free, colour=self._studio.project.settings.ink.colour)

    def words(self) -> str:
        """What the card is about."""
        layer = self.layer
        return f"These are the limits of the layer {layer.name}." if layer is not None else ""

    def none(self) -> str:
        """Why nothing can be painted by the form."""
        return str(self._desk.colours.none())

    def no_layer(self) -> str:
        """Why nothing can be done with a layer that follows the form."""
        if words := self.none():
            return words
        return "" if self.layer is not None else "Choose a layer that follows the form first, in Layers."

    def no_top(self) -> str:
        """Why no layer can be laid here."""
        if words := self.none():
            return words
        part = self._part()
        stack = part.stack
        if stack is not None and stack.level < stack.top:
            return f"Paint lies on the highest level, {stack.top}: go up to it first."
        return ""

    def _part(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    # -- measuring ------------------------------------------------------------------------------

    def _with_measure(self, wash: Wash, name: str, then: Any, anew: bool = False) -> None:
        """Work out what a wash goes by, aside, unless that is known; then go on with it."""
        self._studio.project.end_trials()
        self._studio.project.settle([self._part().id])
        part = self._part()
        plain = _plain(wash)
        known = self._measure
        if (
            not anew
            and known is not None
            and known[:2] == (part.id, plain)
            and len(known[2]) == part.mesh.n_vertices
        ):
            then(part, known[2])
            return

        def land(measure: F32) -> None:
            self._measure = (part.id, plain, measure)
            # Another part may be in hand by now.
            then(self._studio.project.scene.part(part.id), measure)

        def work(progress: Progress) -> F32:
            return measured_on(part, wash, progress)

        self._studio.work_on([part], f"{name} {KINDS[wash.kind][0].lower()} on", work, land)

    # -- showing --------------------------------------------------------------------------------

    def show(self) -> None:
        """Show where the paint would lie; nothing is painted."""
        self._with_measure(
            self.wash, "Measure", lambda part, measure: self._show(part, self.wash, measure), anew=True
        )

    def _show(self, part: Part, wash: Wash, measure: F32) -> None:
        mesh = part.mesh
        if len(measure) != mesh.n_vertices or part.id != self._studio.project.active_id:
            return
        self._studio.project.try_on(self)
        if self._was is None:
            self._was = mesh, None if mesh.colour is None else mesh.colour.copy()
        _, before = self._was
        base = VALUES["colour"].none(mesh.n_vertices) if before is None else before
        mesh.need("colour")[:] = tinted(base, wash.colour, share_of(wash, measure))
        self._noted(mesh)
        self._desk.view.moved()

    def put_back(self) -> None:
        """The colours as they were before it was shown."""
        was, self._was = self._was, None
        if was is not None:
            mesh, colour = was
            mesh.colour = colour
            self._noted(mesh)
            self._desk.view.moved()

    def _noted(self, mesh: Mesh) -> None:
        noted(mesh, "colour", np.arange(mesh.n_vertices, dtype=np.int32))

    # -- changing -------------------------------------------------------------------------------

    def dial(self, **traits: Any) -> None:
        """Show the wash in hand with other limits while one is dragged."""
        if self.none() or any(name in traits for name in PATTERN):
            return
        wash = replace(self.wash, **traits)
        known = self._measure
        part = self._part()
        if known is not None and known[0] == part.id and len(known[2]) == part.mesh.n_vertices:
            self._show(part, wash, known[2])

    def change(self, **traits: Any) -> None:
        """Keep other limits: a layer that follows the form gets them in one step, the next wash will have them."""
        wash = replace(self.wash, **traits)
        if not wash.usable:
            self._studio.scene_changed.emit()
            return
        layer = self.layer
        if layer is None:
            self._free = wash
            if self.none():
                self._studio.scene_changed.emit()
                return
            self._with_measure(wash, "Measure", lambda part, measure: self._show(part, wash, measure))
        else:
            self._lay(wash, layer.id)
        self._studio.scene_changed.emit()

    def _lay(self, wash: Wash, layer_id: str, anew: bool = False) -> None:
        def lay(part: Part, measure: F32) -> None:
            try:
                layer = lay_wash(self._studio.project, part, wash, measure, layer_id)
            except StackError as error:
                self._studio.say(str(error), "warning")
                return
            if part.id == self._studio.project.active_id:
                self._desk.levels.choose(layer.id)

        self._with_measure(wash, "Lay", lay, anew)

    def as_layer(self) -> None:
        """Lay the wash in hand on a layer of its own, which follows the form."""
        self._lay(replace(self._free, colour=self._studio.project.settings.ink.colour), "", anew=True)

    def paint(self) -> None:
        """Paint once, on the layer recorded on or the clay, where the limits say."""
        ink = self._studio.project.settings.ink
        wash = replace(self.wash, colour=ink.colour)

        def lay(part: Part, measure: F32) -> None:
            try:
                name = f"Paint {KINDS[wash.kind][0].lower()} of {part.name}"
                if not filled(self._studio.project, part, ink, share_of(wash, measure), name):
                    self._studio.say(
                        "Nothing lies between the limits, or all of it is masked: move them.", "warning"
                    )
            except StackError as error:
                self._studio.say(str(error), "warning")

        self._with_measure(wash, "Paint", lay, anew=True)

    # -- brushing -------------------------------------------------------------------------------

    @property
    def brushed(self) -> bool:
        """Whether the tool Paint lays its colour only where the limits say."""
        return self._studio.brush_by is self

    def brush(self, on: bool) -> None:
        """Let Paint keep to the limits, or lay its colour everywhere again."""
        self._studio.project.end_trials()
        self._studio.brush_by = self if on else None
        self._studio.scene_changed.emit()

    def brush_words(self) -> tuple[str, str]:
        """What the chip says."""
        return (
            f"Painting by form: {KINDS[self.wash.kind][0].lower()}",
            "Paint is laid only where the card By form says; press here to paint everywhere",
        )

    def over(self, part: Part) -> OverClay | None:
        """Where a brush lays paint on a part. Raises `StackError` while that is being measured."""
        wash, known = self.wash, self._known
        quick = wash.kind not in SLOW and part.mesh.n_vertices <= AT_ONCE
        if known is None or not known.fits(part, _plain(wash), quick):
            if not quick:
                self._measure_for_brush()
                name = KINDS[wash.kind][0].lower()
                raise StackError(f"{part.name} is being measured by its {name}: paint in a moment.")
            known = self._known = _Known(part, _plain(wash), measured_on(part, wash, Progress()))
        return ByForm(wash, known.measure)

    def _changed(self) -> None:
        """Measure once the hand rests, where the form or what is measured is another."""
        if self.brushed and self._studio.project.active is not None:
            self._rest.start()

    def _measure_for_brush(self) -> None:
        part, wash = self._studio.project.active, self.wash
        if not self.brushed or part is None or self.none():
            return
        form = _form_of(part, _plain(wash))
        if form == self._asked or (self._known is not None and self._known.form == form):
            return
        self._asked = form
        # Strokes may go on meanwhile.
        still = replace(part, mesh=part.mesh.copy())

        def land(measure: F32) -> None:
            if self._asked == form:
                self._asked = ()
                self._known = _Known(part, _plain(wash), measure, form)
                self._changed()

        self._studio.aside(lambda: measured_on(still, wash, Progress()), land)

    def renew(self) -> None:
        """Work the chosen layer out anew, for the form as it is now."""
        layer = self.layer
        assert layer is not None
        assert layer.wash is not None
        self._lay(layer.wash, layer.id, anew=True)

    def bake(self) -> None:
        """Let the chosen layer no longer follow the form."""
        layer = self.layer
        assert layer is not None
        bake_wash(self._studio.project, self._part(), layer.id)
