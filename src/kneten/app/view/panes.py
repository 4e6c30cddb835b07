"""One picture in the viewport: its place, its camera, and how far it is drawn."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace

from kneten.core.arrays import F32
from kneten.core.camera import Camera
from kneten.core.stroke import Stroke
from kneten.document.scene import Part, Scene
from kneten.render.rects import Rect, screen_rect
from kneten.render.renderer import Renderer
from kneten.render.style import Style

FOUR = ("top", "main", "front", "right")
"""What four panes show: upper row, lower row. *main* is the picture there is always."""


class Pane:
    """A rectangle of the viewport with a picture of its own.

    Attributes
    ----------
    x, y, wide, high : int
        Place in the viewport, logical pixels, y down.
    camera : Camera
    scene : Scene or None
        What it shows when that is not the project's present.
    """

    def __init__(self, name: str, renderer: Renderer, camera: Camera) -> None:
        self.name = name
        self.renderer = renderer
        self.camera = camera
        self.x = self.y = 0
        self.wide = self.high = 1
        self.rects: list[Rect] = []
        self.everything = True
        self.moving = False
        self.steps: Iterator[None] | None = None
        self.scene: Scene | None = None
        self._taken_away = 0

    def place(self, x: int, y: int, wide: int, high: int, ratio: float) -> bool:
        """Take a place in the viewport; whether the size is new, and everything must be drawn."""
        self.x, self.y, self.wide, self.high = x, y, max(wide, 1), max(high, 1)
        size = (max(round(self.wide * ratio), 1), max(round(self.high * ratio), 1))
        if size == self.renderer.size:
            return False
        self.renderer.resize(*size, ratio)
        self.steps = None
        self.everything = True
        return True

    def holds(self, x: float, y: float) -> bool:
        """Whether a pixel of the viewport lies in this pane."""
        return self.x <= x < self.x + self.wide and self.y <= y < self.y + self.high

    @property
    def outdated(self) -> bool:
        """Whether the picture is not what it should be."""
        return self.everything or bool(self.rects) or self.steps is not None

    def refresh(self) -> None:
        """Everything is to be drawn anew."""
        self.moving = False
        self.everything = True
        self.steps = None

    def move(self) -> None:
        """Something large moves: everything is to be drawn, fast."""
        self.moving = True
        self.everything = True
        self.steps = None

    def stroke_moved(self, stroke: Stroke, part: Part) -> None:
        """Note where a stroke has changed the picture."""
        for box in stroke.boxes:
            rect = screen_rect(self.camera, part, box, *self.renderer.size)
            if rect is not None:
                self.rects.append(rect)

    def clay_moved(self, part: Part, boxes: F32) -> None:
        """Note that a part's clay has changed within boxes (k, 6) of its space."""
        found = (screen_rect(self.camera, part, box, *self.renderer.size) for box in boxes)
        self.rects += [rect for rect in found if rect is not None]

    def draw_on(self, scene: Scene, style: Style, until: float) -> bool:
        """Draw until a time (of `perf_counter`); whether a new picture is complete."""
        renderer = self.renderer
        while self.outdated and time.perf_counter() < until:
            if self.steps is not None and renderer.shelf.taken_away != self._taken_away:
                # Another picture has had the shelf keep other clay meanwhile: this one is of what is gone.
                self.refresh()
            if self.steps is None:
                if not renderer.shelf.sync(scene) and not renderer.shelf.arrive(until):
                    return False
                if style.heat and not renderer.shelf.warm_up(renderer.shelf.drawable(scene), style, until):
                    return False
                if self.everything and self.moving:
                    self.everything = False
                    self.rects.clear()
                    renderer.draw(scene, self.camera, style, moving=True)
                    return True
                rects = None if self.everything else list(self.rects)
                self.everything = False
                self.rects.clear()
                self.steps = renderer.draw_in_steps(scene, self.camera, style, rects)
                self._taken_away = renderer.shelf.taken_away
            if next(self.steps, "done") == "done":
                self.steps = None
                # What came in meanwhile belongs to the next picture; this one is shown first.
                return True
        return False


def side_camera(main: Camera, name: str) -> Camera:
    """The camera of a side pane: without perspective, as near as the main one."""
    return replace(main.seen_from(name), orthographic=True)
