"""Ways of working in the view: their hint, what they end with, what is painted along with them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel

from kneten.app.benches.block.armature_mode import ArmatureMode
from kneten.app.benches.block.live_mode import LiveMode
from kneten.app.benches.block.solid_preview import SolidPreview
from kneten.app.benches.block.strand_mode import KnotMode
from kneten.app.fields.quantities import length_text
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class ModeHints:
    """Shows the hint of the way of working, ends it in time, previews solids, says where parts meet."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        view = desk.view
        self.hint = QLabel(view)
        self.hint.setObjectName("chip")
        self.hint.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hint.setWordWrap(True)
        self.hint.hide()
        view.mode_changed.connect(self.place_hint)
        view.hint_changed.connect(self.place_hint)

    def place_hint(self) -> None:
        """Put the hint below the picture."""
        mode = self._desk.view.mode
        self.hint.setVisible(mode is not None)
        if mode is None:
            return
        self.hint.setText(mode.hint)
        wide = min(self._desk.view.width() - 24, self.hint.fontMetrics().horizontalAdvance(mode.hint) + 28)
        self.hint.setFixedWidth(max(wide, 120))
        high = self.hint.heightForWidth(wide)
        self.hint.setFixedHeight(high)
        self.hint.move((self._desk.view.width() - wide) // 2, self._desk.view.height() - high - 10)
        self.hint.raise_()

    def check(self) -> None:
        """A way of working on a live part ends when that is no longer in hand."""
        mode = self._desk.view.mode
        if isinstance(mode, ArmatureMode | KnotMode | LiveMode) and mode.part is None:
            self._desk.view.take_mode(None)
        solid = self._desk.view.solid
        if solid is not None:
            ids = {part.id for part in self._desk.studio.project.scene.parts}
            if not ids.issuperset(solid.ids):
                self._desk.view.solid = None

    def preview_solid(self, operation: str | None) -> None:
        """Show what an exact operation on the chosen parts would give; the same again, or None, ends it."""
        now = self._desk.view.solid
        if operation is None or (now is not None and now.operation == operation):
            self._desk.view.solid = None
            self._desk.view.refresh()
            return
        preview = SolidPreview(operation, self._desk.joining.parts())
        scene = self._desk.studio.project.scene

        def ready(_: object) -> None:
            self._desk.view.solid = preview
            preview.applied(self._desk.studio.project.scene)
            if preview.failed:
                self._desk.view.solid = None
                self._desk.studio.say(preview.failed, "warning")
            self._desk.view.refresh()

        self._desk.studio.start("Preview", lambda progress: preview.prepare(scene), ready)

    def show_meeting(self, found: list[tuple[Part, Part, float]]) -> None:
        """Say which parts run into each other; each can be looked at."""
        if not found:
            self._desk.studio.say("No two visible parts run into each other.")
            return
        unit = self._desk.studio.project.settings.unit
        text = "; ".join(f"{a.name} and {b.name}: {length_text(deep, unit)}" for a, b, deep in found[:6])
        more = f"; and {len(found) - 6} more pairs" if len(found) > 6 else ""

        def look(pair: tuple[Part, Part, float]) -> None:
            ids = {part.id for part in self._desk.studio.project.scene.parts}
            self._desk.studio.project.choose_all(p.id for p in pair[:2] if p.id in ids)
            self._desk.block.find()

        self._desk.notices.show(
            f"{len(found)} pairs of parts run into each other, this deep: {text}{more}.",
            "info",
            [("Show the deepest", lambda: look(found[0]))],
            of_project=True,
        )
