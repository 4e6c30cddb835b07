"""The eye: where it stands, what it sees, and how pixels and space belong together."""

from __future__ import annotations

import functools
import itertools
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64

VIEWS: dict[str, tuple[float, float]] = {
    "front": (0.0, 0.0),
    "back": (180.0, 0.0),
    "left": (-90.0, 0.0),
    "right": (90.0, 0.0),
    "top": (0.0, 90.0),
    "bottom": (0.0, -90.0),
}
"""Yaw and pitch in degrees. The character looks along +z and up is +y; *left* shows its right side
as seen from -x."""


@dataclass(frozen=True)
class Camera:
    """A view of the scene.

    Attributes
    ----------
    target : three floats
        The point in the middle of the picture.
    distance : float
        From the eye to the target, in millimetres.
    yaw, pitch : float
        Degrees; 0, 0 looks at the front.
    angle : float
        Vertical angle of view in degrees. 28 is about a 50 mm lens on full frame.
    orthographic : bool
    roll : float
        Degrees the camera is tilted to its right.
    """

    target: tuple[float, float, float] = (0.0, 0.0, 0.0)
    distance: float = 420.0
    yaw: float = 0.0
    pitch: float = 0.0
    angle: float = 28.0
    orthographic: bool = False
    roll: float = 0.0

    def axes(self) -> F64:
        """Rows: right, up, and towards the eye, as (3, 3)."""
        return self._axes.copy()

    @functools.cached_property
    def _axes(self) -> F64:
        # Asked for dozens of times in one event of a stroke: working them out takes 0.1 ms.
        yaw, pitch = np.radians(self.yaw), np.radians(self.pitch)
        back = np.array([np.sin(yaw) * np.cos(pitch), np.sin(pitch), np.cos(yaw) * np.cos(pitch)])
        right = np.array([np.cos(yaw), 0.0, -np.sin(yaw)])
        up = np.array(
            [
                back[1] * right[2] - back[2] * right[1],
                back[2] * right[0] - back[0] * right[2],
                back[0] * right[1] - back[1] * right[0],
            ]
        )
        if self.roll:
            c, s = np.cos(np.radians(self.roll)), np.sin(np.radians(self.roll))
            right, up = c * right - s * up, s * right + c * up
        return np.array([right, up, back])

    def eye(self) -> F64:
        """Position of the eye, (3,)."""
        return self._eye.copy()

    @functools.cached_property
    def _eye(self) -> F64:
        return np.array(self.target) + self._axes[2] * self.distance

    def view_matrix(self) -> F64:
        """(4, 4), from space to the eye's space (looking along -z)."""
        axes = self.axes()
        matrix = np.eye(4)
        matrix[:3, :3] = axes
        matrix[:3, 3] = -axes @ self.eye()
        return matrix

    def half_height(self) -> float:
        """Half the height of the picture at the target's depth."""
        return self.distance * float(np.tan(np.radians(self.angle) / 2))

    def projection_matrix(self, aspect: float, near: float, far: float) -> F64:
        """(4, 4) to OpenGL clip space."""
        matrix = np.zeros((4, 4))
        if self.orthographic:
            half = self.half_height()
            matrix[0, 0] = 1 / (half * aspect)
            matrix[1, 1] = 1 / half
            matrix[2, 2] = -2 / (far - near)
            matrix[2, 3] = -(far + near) / (far - near)
            matrix[3, 3] = 1
        else:
            scale = 1 / float(np.tan(np.radians(self.angle) / 2))
            matrix[0, 0] = scale / aspect
            matrix[1, 1] = scale
            matrix[2, 2] = -(far + near) / (far - near)
            matrix[2, 3] = -2 * far * near / (far - near)
            matrix[3, 2] = -1
        return matrix

    def depth_range(self, low: F64, high: F64, room: float = 1.1) -> tuple[float, float]:
        """Near and far distances that hold the ball around a box, `room` times as large; its corners are (3,)."""
        centre = (low + high) / 2
        radius = float(np.linalg.norm(high - low)) / 2 + 1e-3
        middle = float((self.eye() - centre) @ self.axes()[2])
        far = max(middle + radius * room, 1e-2)
        near = middle - radius * room
        if not self.orthographic:
            # Inside the ball the clay may come as near as what is looked at, and a good deal nearer.
            near = max(near, min(far * 1e-4, self.distance * 0.02))
        return near, max(far, near + 1e-3)

    def ray(self, x: float, y: float, width: float, height: float) -> tuple[F64, F64]:
        """Origin and unit direction, (3,) each, of the ray through a pixel (y down)."""
        axes = self._axes
        u = (2 * x / width - 1) * width / height
        v = 1 - 2 * y / height
        if self.orthographic:
            half = self.half_height()
            # From far behind the eye, so that clay beside the eye is hit as well.
            origin = self._eye + half * (u * axes[0] + v * axes[1]) + axes[2] * 1e5
            return origin, -axes[2]
        slope = float(np.tan(np.radians(self.angle) / 2))
        way = slope * (u * axes[0] + v * axes[1]) - axes[2]
        return self.eye(), way / np.linalg.norm(way)

    def project(self, points: F64, width: float, height: float) -> F64:
        """Pixels (x, y down) and depth in front of the eye, (k, 3), of (k, 3) points."""
        local = (np.atleast_2d(points) - self._eye) @ self._axes.T
        depth = -local[:, 2]
        half = (
            self.half_height()
            / self.distance
            * (self.distance if self.orthographic else np.maximum(depth, 1e-9))
        )
        x = width / 2 + local[:, 0] / half * height / 2
        y = height / 2 - local[:, 1] / half * height / 2
        return np.stack([x, y, depth], axis=1)

    def plane_to_pixels(self, at: F64, across: F64, up: F64, width: float, height: float) -> F64:
        """How a plane lies in the picture, (3, 3).

        Parameters
        ----------
        at, across, up : (3,)
            The plane's origin and its two units.

        Returns
        -------
        (3, 3) float64
            (a, b, 1) times this is (x w, y w, w), pixels with y down, for the place `at + a across + b up`.
        """
        axes = self._axes
        local = np.array([across, up, at - self.eye()]) @ axes.T
        out = np.empty((3, 3))
        if self.orthographic:
            out[:, 2] = (0.0, 0.0, 1.0)
            scale = height / 2 / self.half_height()
        else:
            out[:, 2] = -local[:, 2]
            scale = height / 2 / float(np.tan(np.radians(self.angle) / 2))
        out[:, 0] = out[:, 2] * (width / 2) + local[:, 0] * scale
        out[:, 1] = out[:, 2] * (height / 2) - local[:, 1] * scale
        return out

    def pixel_size(self, point: F64, height: float) -> float:
        """Millimetres of one pixel at the depth of a point (3,)."""
        depth = self.distance
        if not self.orthographic:
            depth = max(float((self._eye - point) @ self._axes[2]), 1e-6)
        return 2 * depth * float(np.tan(np.radians(self.angle) / 2)) / height

    def turned(self, yaw: float, pitch: float, pivot: F64) -> Camera:
        """Turned by degrees around a point (3,) that stays where it is in the picture."""
        new = replace(
            self,
            yaw=(self.yaw + yaw + 180) % 360 - 180,
            pitch=float(np.clip(self.pitch + pitch, -90, 90)),
        )
        held = self.axes() @ (np.array(self.target) - pivot)
        x, y, z = pivot + new.axes().T @ held
        return replace(new, target=(float(x), float(y), float(z)))

    def panned(self, dx: float, dy: float, height: float, depth_point: F64) -> Camera:
        """Moved so that a point follows the cursor by (dx, dy) pixels."""
        size = self.pixel_size(depth_point, height)
        axes = self.axes()
        x, y, z = np.array(self.target) + (-dx * axes[0] + dy * axes[1]) * size
        return replace(self, target=(float(x), float(y), float(z)))

    def zoomed(self, factor: float, pivot: F64) -> Camera:
        """Nearer (factor < 1) or farther; `pivot` (3,) stays where it is in the picture."""
        distance = float(np.clip(self.distance * factor, 1e-2, 1e6))
        factor = distance / self.distance
        axes = self.axes()
        offset = axes @ (np.array(self.target) - pivot)
        if self.orthographic:
            offset[:2] *= factor
        else:
            # In perspective the eye moves along the line to the pivot.
            offset[:2] *= factor
            offset[2] = (offset[2] + self.distance) * factor - distance
        x, y, z = pivot + axes.T @ offset
        return replace(self, distance=distance, target=(float(x), float(y), float(z)))

    def framing(self, low: F64, high: F64, aspect: float, margin: float = 1.15) -> Camera:
        """Looking at the whole of a box between two corners (3,)."""
        x, y, z = (low + high) / 2
        corners = np.array(list(itertools.product(*zip(low, high, strict=True)))) - (low + high) / 2
        across, up, back = (corners @ self.axes().T).T
        slope = float(np.tan(np.radians(self.angle) / 2))
        # How far away the eye must be for each corner to lie within the picture.
        need = np.maximum(np.abs(across) / aspect, np.abs(up)) * margin / slope
        distance = float((need + (0 if self.orthographic else back)).max())
        return replace(self, target=(float(x), float(y), float(z)), distance=max(distance, 1e-2))

    def seen_from(self, name: str) -> Camera:
        """One of the six named views. Raises `KeyError` for another name."""
        yaw, pitch = VIEWS[name]
        return replace(self, yaw=yaw, pitch=pitch, roll=0.0)

    def rolled(self, degrees: float) -> Camera:
        """Tilted to its right, -180..180 in all."""
        return replace(self, roll=(self.roll + degrees + 180) % 360 - 180)

    def with_angle(self, angle: float) -> Camera:
        """With another angle of view; what is at the target keeps its size in the picture."""
        angle = float(np.clip(angle, 2.0, 120.0))
        slopes = np.tan(np.radians(self.angle) / 2) / np.tan(np.radians(angle) / 2)
        return replace(self, angle=angle, distance=float(np.clip(self.distance * slopes, 1e-2, 1e6)))

    @property
    def focal_length(self) -> float:
        """Millimetres on full frame (24 mm high) that give the angle of view."""
        return float(12.0 / np.tan(np.radians(self.angle) / 2))

    def between(self, other: Camera, t: float) -> Camera:
        """On the way to another camera: this one at t = 0, the other at 1; turns take the short way."""
        if t >= 1:
            return other

        def turn(a: float, b: float) -> float:
            return a + ((b - a + 180) % 360 - 180) * t

        x, y, z = (a + (b - a) * t for a, b in zip(self.target, other.target, strict=True))
        return Camera(
            (x, y, z),
            # Distances by ratio: a move from far to near looks even.
            float(self.distance ** (1 - t) * other.distance**t),
            turn(self.yaw, other.yaw),
            self.pitch + (other.pitch - self.pitch) * t,
            self.angle + (other.angle - self.angle) * t,
            other.orthographic,
            turn(self.roll, other.roll),
        )
