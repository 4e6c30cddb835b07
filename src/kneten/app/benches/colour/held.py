"""Work with pictures held before the view: shown over the clay, bent to fit, laid and brushed through."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QImage, QPainter, QPolygonF, QTransform
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.colour.hold_mode import HoldMode
from kneten.core.arrays import F32, F64, U8, Progress
from kneten.core.paint.held import HeldPicture, Through, places_of
from kneten.core.paint.reading import OverClay, PictureOver
from kneten.core.paint.tiled import Tiled
from kneten.document.holding import change_held, held_in, hold, lay_picture, lay_relief, let_go
from kneten.document.opening import StackError
from kneten.document.scene import Part
from kneten.document.things import Reference

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

CELLS = 8
"""Pieces along each side that a bent picture is drawn in."""


class PictureHolder:
    """Commands on held pictures; drawn over the view.

    Attributes
    ----------
    held_id : str
        Id of the one in hand.
    relief : float
        Millimetres that white stands over black in a relief.
    trial : HeldPicture or None
        One that is shown in another place while it is dragged.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.held_id = ""
        self.relief = 2.0
        self.trial: HeldPicture | None = None

    # -- which ----------------------------------------------------------------------------------

    @property
    def all(self) -> tuple[HeldPicture, ...]:
        """All that are held."""
        return held_in(self._studio.project)

    @property
    def chosen(self) -> HeldPicture | None:
        """The one in hand."""
        held = self.all
        return next((one for one in held if one.id == self.held_id), held[-1] if held else None)

    def reference(self, held: HeldPicture) -> Reference:
        """The picture on the board that is held."""
        return next(one for one in self._studio.project.scene.references if one.id == held.reference)

    def choose(self, held_id: str) -> None:
        """Take another in hand."""
        self.held_id = held_id
        self._studio.scene_changed.emit()

    # -- why not --------------------------------------------------------------------------------

    def none_on_board(self) -> str:
        """Why none can be held."""
        has = bool(self._studio.project.scene.references)
        return "" if has else "There is no picture on the board (Gather): drop one there first."

    def none_held(self) -> str:
        """Why nothing can be done with a held picture."""
        return "" if self.all else "No picture is held before the view: hold one first."

    def none_before(self) -> str:
        """Why there is no picture before the view to be moved or hidden."""
        if (chosen := self.chosen) is not None and chosen.tiled:
            return "The picture is tiled over the clay, not held before it: its size and turn are on the card Picture."
        return self.none_held()

    def not_layable(self) -> str:
        """Why nothing can be laid through."""
        return self.none_held() or self._desk.colours.none()

    # -- holding --------------------------------------------------------------------------------

    def hold(self) -> None:
        """Hold a picture of the board before the view."""
        references = self._studio.project.scene.references
        chosen = references[-1]
        if len(references) > 1:
            names = [f"{k + 1}: {one.name}" for k, one in enumerate(references)]
            name, fine = QInputDialog.getItem(
                self._desk, "Hold a picture before the view", "Picture", names, len(names) - 1, False
            )
            if not fine:
                return
            chosen = references[names.index(name)]
        image, view = self._desk.references.image(chosen), self._desk.view
        made = hold(
            self._studio.project, chosen, image.width() / max(image.height(), 1), view.wide / view.high
        )
        self.held_id = made.id
        self.fit()

    def fit(self) -> None:
        """Drag the picture in hand until it fits."""
        self._desk.view.toggle_mode(HoldMode(self._desk.view, self))

    def change(self, name: str = "Hold", **traits: Any) -> None:
        """Give the picture in hand other traits."""
        if (chosen := self.chosen) is not None:
            change_held(self._studio.project, chosen.id, f"{name} {self.reference(chosen).name}", **traits)

    def turn_over(self) -> None:
        """Turn the picture in hand over, left for right."""
        if (chosen := self.chosen) is not None:
            rows = [chosen.net[first : first + 3][::-1] for first in (0, 3, 6)]
            self.change("Turn over", net=tuple(point for row in rows for point in row))

    def show(self) -> None:
        """Hide the picture in hand, or show it again."""
        if (chosen := self.chosen) is not None:
            self.change("Hide" if chosen.shown else "Show", shown=not chosen.shown)

    def let_go(self) -> None:
        """Hold the picture in hand no longer."""
        if (chosen := self.chosen) is not None:
            let_go(self._studio.project, chosen.id, f"Let go of {self.reference(chosen).name}")

    # -- laying ---------------------------------------------------------------------------------

    @property
    def brushed(self) -> bool:
        """Whether the tool Paint lays the picture in hand instead of the colour."""
        return self._studio.brush_by is self

    def brush(self, on: bool) -> None:
        """Let Paint lay the picture, or the colour again."""
        self._studio.brush_by = self if on else None
        self._studio.scene_changed.emit()

    def pixels(self, held: HeldPicture) -> U8:
        """The picture as it is seen, (h, w, 4)."""
        image = self._desk.references.image(self.reference(held)).convertToFormat(
            QImage.Format.Format_RGBA8888
        )
        codes = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1)
        return codes[:, : 4 * image.width()].reshape(image.height(), image.width(), 4).copy()

    def over(self, part: Part) -> OverClay | None:
        """The picture that is brushed on a part."""
        chosen = self.chosen
        if chosen is None or not (chosen.shown or chosen.tiled):
            return None
        return self._through(part, chosen)

    def brush_words(self) -> tuple[str, str]:
        """What the chip says."""
        chosen = self.chosen
        if chosen is None or not (chosen.shown or chosen.tiled):
            return "", ""
        name = self.reference(chosen).name
        return f"Painting {name}", "Paint lays the picture; press here to paint with the colour in hand"

    def _through(self, part: Part, held: HeldPicture) -> PictureOver:
        if held.tiled:
            return Tiled(part.mesh, part.transform.scale, held, self.pixels(held))
        view = self._desk.view
        return Through(
            part.mesh, part.transform.matrix(), view.camera, view.wide / view.high, held, self.pixels(held)
        )

    def _with_picture(self, name: str, then: Any) -> None:
        """Read the picture over the part in hand, aside; then go on with its light and shares."""
        part, chosen = self._studio.project.active, self.chosen
        assert part is not None
        assert chosen is not None
        self._studio.project.end_trials()
        self._studio.project.settle([part.id])
        part = self._studio.project.scene.part(part.id)
        through = self._through(part, chosen)

        def work(progress: Progress) -> tuple[F32, F32]:
            return through.seen(progress)

        def land(found: tuple[F32, F32]) -> None:
            now = self._studio.project.scene.part(part.id)
            if not found[1].any():
                self._studio.say(
                    "Nothing of the picture can be seen: it is transparent."
                    if chosen.tiled
                    else "The picture lies over nothing of this part that faces you: move it, or turn the clay.",
                    "warning",
                )
                return
            try:
                done = then(now, *found)
            except StackError as error:
                self._studio.say(str(error), "warning")
                return
            if not done:
                self._studio.say(
                    f"Nothing of {now.name} changed: all of it there is masked, or like that already."
                )

        self._studio.work_on([part], f"{name} on", work, land)

    def lay(self) -> None:
        """Lay the picture in hand through onto the part in hand, as far as that is seen."""

        def lay(part: Part, light: F32, share: F32) -> bool:
            ink = self._studio.project.settings.ink
            return lay_picture(self._studio.project, part, ink, light, share, f"Lay a picture on {part.name}")

        self._with_picture("Lay a picture", lay)

    def lay_relief(self) -> None:
        """Raise the clay by what is light in the picture in hand."""

        def lay(part: Part, light: F32, share: F32) -> bool:
            height = self.relief / part.transform.scale
            name = f"Raise a picture on {part.name}"
            return lay_relief(self._studio.project, part, light, share, height, name)

        self._with_picture("Raise a picture", lay)

    # -- showing --------------------------------------------------------------------------------

    def to_pixels(self, places: F64) -> F64:
        """Pixels of the pane, (k, 2), of places in the view, (k, 2), in its heights."""
        view = self._desk.view
        return np.stack(
            [view.wide / 2 + places[:, 0] * view.high, view.high / 2 - places[:, 1] * view.high], axis=1
        )

    def to_view(self, x: float, y: float) -> tuple[float, float]:
        """A pixel of the pane as a place in the view."""
        view = self._desk.view
        return (x - view.wide / 2) / view.high, (view.high / 2 - y) / view.high

    def paint(self, painter: QPainter) -> None:
        """Draw all that are shown over the clay, as clearly as each is to be seen."""
        if self._studio.stage not in ("Colour", "Form", "Surface"):
            return
        for held in self.all:
            seen = self.trial if self.trial is not None and self.trial.id == held.id else held
            if seen.shown and not seen.tiled:
                self._draw(painter, seen)

    def _draw(self, painter: QPainter, held: HeldPicture) -> None:
        image = self._desk.references.image(self.reference(held))
        t = np.linspace(0, 1, CELLS + 1)
        lattice = np.stack(np.meshgrid(t, t), axis=-1).reshape(-1, 2)
        at = self.to_pixels(places_of(held.net, lattice)).reshape(CELLS + 1, CELLS + 1, 2)
        wide, high = image.width() / CELLS, image.height() / CELLS
        painter.save()
        painter.setOpacity(held.opacity)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        held_by = painter.transform()
        for i in range(CELLS):
            for j in range(CELLS):
                corners = (at[i, j], at[i, j + 1], at[i + 1, j + 1], at[i + 1, j])
                piece = QRectF(j * wide, i * high, wide, high)
                there = QTransform()
                square = QPolygonF(
                    [piece.topLeft(), piece.topRight(), piece.bottomRight(), piece.bottomLeft()]
                )
                goal = QPolygonF([QPointF(*corner) for corner in corners])
                if QTransform.quadToQuad(square, goal, there):
                    painter.setTransform(there * held_by)
                    painter.drawImage(piece, image, piece)
        painter.restore()
