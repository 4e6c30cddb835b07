"""What one picture is drawn with: camera, depth range, clip matrix, where clay can be seen."""

from __future__ import annotations

from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F32, F64, I32
from kneten.core.camera import Camera
from kneten.core.culling import clip_planes, seen_runs
from kneten.document.scene import Part
from kneten.render.lit import Light
from kneten.render.parts import DrawnMesh
from kneten.render.programs import put
from kneten.render.rects import Rect, box_rect
from kneten.render.style import Style


@dataclass(frozen=True)
class Window:
    """Which pixels of a whole picture are drawn: all of them, or those of a tile.

    Attributes
    ----------
    size : two ints
        Pixels that are drawn, across and up.
    corner : two ints
        Where their lower left one lies in the whole.
    whole : two ints
        Pixels of the whole.
    """

    size: tuple[int, int]
    corner: tuple[int, int]
    whole: tuple[int, int]

    @classmethod
    def of(cls, width: int, height: int) -> Window:
        """A picture that is drawn whole."""
        return cls((width, height), (0, 0), (width, height))

    @property
    def aspect(self) -> float:
        """Width of the whole by its height."""
        return self.whole[0] / self.whole[1]

    def stretch(self) -> tuple[float, float, float, float]:
        """From places in the tile, -1 to 1, to those in the whole: factors across and up, and what is added."""
        across, up = (n / w for n, w in zip(self.size, self.whole, strict=True))
        right = (2 * self.corner[0] + self.size[0]) / self.whole[0] - 1
        high = (2 * self.corner[1] + self.size[1]) / self.whole[1] - 1
        return across, up, right, high

    def matrix(self) -> F64:
        """(4, 4) from clip space of the whole to that of the tile."""
        across, up, right, high = self.stretch()
        matrix = np.eye(4)
        matrix[0, 0], matrix[1, 1] = 1 / across, 1 / up
        matrix[0, 3], matrix[1, 3] = -right / across, -high / up
        return matrix

    def rect(self, camera: Camera, box: F32) -> Rect | None:
        """The rectangle of the tile that a box (6,) of the scene may cover; None where it is not seen."""
        found = box_rect(camera, box, *self.whole)
        if found is None:
            return None
        x, y, w, h = found
        left, low = max(x - self.corner[0], 0), max(y - self.corner[1], 0)
        right = min(x + w - self.corner[0], self.size[0])
        high = min(y + h - self.corner[1], self.size[1])
        return (left, low, right - left, high - low) if right > left and high > low else None


@dataclass(eq=False)
class Frame:
    """What one picture is drawn with.

    Attributes
    ----------
    near, far : float
        Range of depths.
    clip : (4, 4) float64
        From the scene to clip space.
    clay : rectangle
        Where clay can be seen.
    low, high : (3,) float64
        Corners of all clay.
    """

    camera: Camera
    near: float
    far: float
    clip: F64
    clay: Rect
    low: F64
    high: F64
    style: Style
    window: Window
    light: Light | None = None

    def place(self, program: moderngl.Program, part: Part) -> None:
        """Tell a program where a part is."""
        turn = self.camera.axes() @ part.transform.axes()
        # A mirrored part's faces run round the other way.
        program.ctx.front_face = "cw" if part.transform.mirror else "ccw"
        put(program, clip_from_part=self.clip @ part.transform.matrix(), eye_from_part=turn)

    def seen(self, part: Part, drawn: DrawnMesh, rect: Rect) -> I32:
        """Runs of patches, (k, 2) first and last + 1, of a part that a rectangle may show."""
        width, height = self.window.size
        x, y, w, h = rect
        planes = clip_planes(
            self.clip @ part.transform.matrix(),
            2 * x / width - 1,
            2 * (x + w) / width - 1,
            2 * y / height - 1,
            2 * (y + h) / height - 1,
        )
        camera = self.camera
        eye = np.append(part.transform.to_part(camera.eye()[None])[0], 1.0)
        if camera.orthographic:
            eye = np.append(part.transform.way_to_part(camera.axes()[2]), 0.0)
        closed = drawn.closed and not self.style.look.back_faces
        mesh = part.mesh
        # Loose clay may have grown since it was sent: what is new comes with the next picture.
        boxes = mesh.boxes[: len(drawn.cones)]
        return seen_runs(boxes, mesh.clusters, drawn.cones, planes, eye, closed)
