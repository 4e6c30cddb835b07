"""Layers that follow the form are worked out anew by themselves, once the form is another and the hand rests."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from kneten.core.arrays import U8, Progress
from kneten.core.loose import LooseMesh
from kneten.core.paint.layers import open_paint, seen_values
from kneten.core.paint.packed import Paint
from kneten.document.painting import newly_washed, renew_washes, with_paints
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

RESTED = 900
"""Milliseconds after the last step from which on the hand rests."""

MOST = 600_000
"""Vertices of a part up to which its layers are renewed by themselves: more would keep the machine at work after each stroke."""

Form = tuple[object, ...]


def follows(part: Part) -> bool:
    """Whether a part has layers that are renewed by themselves."""
    stack = part.stack
    if stack is None or stack.level < stack.top or part.mesh.n_vertices > MOST:
        return False
    return not isinstance(part.mesh, LooseMesh) and any(layer.wash is not None for layer in stack.layers)


def _form_of(part: Part) -> Form:
    return (part.mesh.topology.uid, part.mesh.shape_version)


class Renewing(QObject):
    """Looks after the layers that follow the form."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self._known: dict[str, Form] = {}
        self._busy = False
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(RESTED)
        self._rest.timeout.connect(self._rested)
        desk.studio.project_changed.connect(self._forget)
        for signal in (desk.studio.scene_changed, desk.studio.history_changed):
            signal.connect(self._changed)

    def _forget(self) -> None:
        self._rest.stop()
        self._known = {}
        self._changed()

    def _other(self) -> Part | None:
        """A part whose form is another than its layers follow."""
        for part in self._studio.project.scene.parts:
            if follows(part) and self._known.setdefault(part.id, _form_of(part)) != _form_of(part):
                return part
        return None

    def _changed(self) -> None:
        if self._studio.preferences.renew_washes and self._other() is not None:
            self._rest.start()

    def _rested(self) -> None:
        part, studio = self._other(), self._studio
        if part is None or not studio.preferences.renew_washes:
            return
        if self._busy or self._desk.view.at_work or studio.is_at_work(part):
            self._rest.start()
            return
        if studio.project.history.names()[1]:
            # What was undone may be made again: nothing is done in between. The next step asks again.
            return
        form, stack, mesh = _form_of(part), part.stack, part.mesh
        assert stack is not None
        still, version = mesh.copy(), mesh.values_version
        self._busy = True

        def work() -> tuple[dict[str, Paint], dict[str, U8 | None]]:
            paints = newly_washed(part, still, Progress())
            if not paints:
                return {}, {}
            new = with_paints(stack, paints)
            return paints, seen_values(new, open_paint(new, still), still.value("colour"))

        def land(found: tuple[dict[str, Paint], dict[str, U8 | None]]) -> None:
            self._busy = False
            now = next((one for one in studio.project.scene.parts if one.id == part.id), None)
            if now is None or now.mesh is not mesh:
                return
            same = _form_of(now) == form and now.stack is stack and mesh.values_version == version
            undone = bool(studio.project.history.names()[1])
            if not same or undone or self._desk.view.at_work or studio.is_at_work(now):
                self._rest.start()
                return
            self._known[part.id] = form
            if found[0]:
                renew_washes(studio.project, now, *found)
            self._changed()

        studio.aside(work, land)
