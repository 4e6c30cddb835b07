"""What hands and modes know of the viewport they work in."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtGui import QColor, QPainter

from kneten.core.arrays import F32, F64, I32
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.document.scene import Part, Scene

if TYPE_CHECKING:
    from kneten.app.work.studio import Studio


class Overlay(Protocol):
    """Something that is painted over the picture, in pixels of the pane in use."""

    def paint(self, painter: QPainter) -> None: ...


class ScenePreview(Protocol):
    """Something that shows the scene as it would be."""

    def applied(self, scene: Scene) -> Scene: ...


class Canvas(Protocol):
    """The viewport, as far as those that work in it need it.

    Attributes
    ----------
    wide, high : int
        Pixels of the pane in use.
    preview : dict
        Parts that are shown in another state while they are dragged, by id.
    """

    studio: Studio
    camera: Camera
    wide: int
    high: int
    mirrored: bool
    preview: dict[str, Part]
    ring_colour: QColor
    text_colour: QColor
    label_colour: QColor
    hidden_guides: set[str]
    guide: tuple[tuple[float, float], ...]
    recasting: Any
    handles: Any
    feel: Any
    mode: Any
    solid: ScenePreview | None
    at_work: bool

    def moved(self) -> None: ...
    def refresh(self) -> None: ...
    def repaint_over(self) -> None: ...
    def take_mode(self, mode: Any) -> None: ...
    def part_at(self, x: float, y: float) -> tuple[Part, F64, float] | None: ...
    def point_under(self, x: float, y: float) -> F64: ...
    def show_mask(self, mesh: Mesh, mask: F32) -> None: ...
    def stand_in(self, part: Part) -> I32 | None: ...
    def set_camera(self, camera: Camera) -> None: ...
    def over_budget(self) -> bool: ...
    def add_overlay(self, overlay: Overlay) -> None: ...

    def __getattr__(self, name: str) -> Any:
        """Whatever else a widget has."""


PaintUnder = Callable[[], Callable[[QPainter], None] | None]
"""Gives what paints under the picture, or None while nothing is to be seen there."""
