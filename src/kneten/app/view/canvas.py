"""What hands and modes know of the viewport they work in."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtGui import QColor, QPainter
from PySide6.QtOpenGLWidgets import QOpenGLWidget

from kneten.core.arrays import F32, F64, I32
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.document.scene import Part, Scene

if TYPE_CHECKING:
    from kneten.app.work.studio import Studio


class Overlay(Protocol):
    """Something that is painted over the picture, in pixels of the pane in use."""

    def paint(self, painter: QPainter) -> None: ...


class ScenePreview(Protocol):
    """Something that shows the scene as it would be."""

    @property
    def ids(self) -> Iterable[str]:
        """The parts it is made of."""

    @property
    def operation(self) -> str:
        """What is done to them."""

    def applied(self, scene: Scene) -> Scene: ...


class Canvas(QOpenGLWidget):
    """The viewport, as far as those that work in it need it; `Viewport` does all this.

    Attributes
    ----------
    preview : dict
        Parts that are shown in another state while they are dragged, by id.
    shown_things : dict
        Things that are shown instead of the scene's while they are dragged, by their kind.
    shown_stacks : dict
        Stacks that parts are shown with while a number of theirs is dragged, by the part's id.
    seen_as : list of function
        Each gives the scene as it is drawn instead, time after time; what is pressed on stays what it is.
    """

    studio: Studio
    mirrored: bool
    preview: dict[str, Part]
    shown_things: dict[str, tuple[Any, ...]]
    shown_stacks: dict[str, Stack]
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
    seen_as: list[Callable[[Scene], Scene]]
    wipe: float

    @property
    def wide(self) -> int:
        """Width of the pane in use."""
        raise NotImplementedError

    @property
    def high(self) -> int:
        """Height of the pane in use."""
        raise NotImplementedError

    @property
    def camera(self) -> Camera:
        """Where the pane in use is looked at from."""
        raise NotImplementedError

    @property
    def at_work(self) -> bool:
        """Whether a pressed pointer is at work."""
        raise NotImplementedError

    def moved(self) -> None:
        """What is shown has another place now."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Draw the picture anew."""
        raise NotImplementedError

    def repaint_over(self) -> None:
        """Paint anew what lies over the picture."""
        raise NotImplementedError

    def take_mode(self, mode: Any) -> None:
        """Give the pointer another way of working, or None for sculpting."""
        raise NotImplementedError

    def end_mode(self) -> None:
        """Go back to sculpting, from within the hand of the mode in hand."""
        raise NotImplementedError

    def part_at(self, x: float, y: float) -> tuple[Part, F64, float] | None:
        """The part under a pixel, the place in the scene, and how far it is."""
        raise NotImplementedError

    def point_under(self, x: float, y: float) -> F64:
        """The place under a pixel: on clay, else in the plane of what is looked at."""
        raise NotImplementedError

    def show_mask(self, mesh: Mesh, mask: F32) -> None:
        """Show a mask that the mesh does not have."""
        raise NotImplementedError

    def stand_in(self, part: Part) -> I32 | None:
        """The vertices of a part that are drawn while a hand moves; None for all."""
        raise NotImplementedError

    def set_camera(self, camera: Camera) -> None:
        """Look from elsewhere."""
        raise NotImplementedError

    def over_budget(self) -> bool:
        """Whether the running hand should let the window breathe."""
        raise NotImplementedError

    def add_overlay(self, overlay: Overlay) -> None:
        """Let something paint over the picture from now on."""
        raise NotImplementedError

    if TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            """Whatever else a viewport has."""


PaintUnder = Callable[[], Callable[[QPainter], None] | None]
"""Gives what paints under the picture, or None while nothing is to be seen there."""
