"""A small ball of clay in the tool's card: the tool as it is held is tried on it at once, and by hand."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import replace

import numpy as np
from PIL import Image, ImageDraw
from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kneten.app.fields.theme import rgb
from kneten.app.work.studio import Studio
from kneten.core.arrays import F64
from kneten.core.brush_path import EvenSpacing, Touch
from kneten.core.brushes.tool import Dab
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.paint.trial import trial_colours
from kneten.core.picking import pick
from kneten.core.press import Press
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke
from kneten.core.strokes import stroke_of

HIGH = 112
"""Pixels of the widget's height: the ball's diameter and a margin."""

RADIUS = 50.0
CELLS = 40
FINE = 72
"""9,600 faces, half of them seen: painted in some 15 ms."""

BRUSH = 13.0
"""The brush's radius on the ball: a quarter of the ball's."""

LIGHT = np.array([-0.5, 0.62, 0.6]) / np.linalg.norm([-0.5, 0.62, 0.6])

SAMPLES = 48
"""Pictures of sample strokes that are kept: tools are taken again and again."""

SAMPLE = ((-30.0, 12.0), (-12.0, -6.0), (8.0, 8.0), (30.0, -10.0))
"""Where the sample stroke runs, in millimetres of the ball's front."""


_known: OrderedDict[tuple[object, ...], tuple[QImage, Press | None]] = OrderedDict()
"""Pictures, with the press that each was made with: kept, so that no other one takes its number."""


class TrialBall(QWidget):
    """Shows a sample stroke of the tool in hand; drag on it to try more, double click for a fresh ball."""

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self._studio = studio
        self._clay = QColor("#b9ad9b")
        self._accent = QColor("#7fb8a4")
        self._drawn: QImage | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Trial ball")
        self.setToolTip(
            "The tool as it is held, on a ball of clay. Drag to try it; double click for a fresh ball"
        )
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.mesh: Mesh | None = None
        self._sampled: tuple[object, ...] | None = None
        self._press: Press | None = None
        self._stroke: Stroke | None = None
        self._spacing = EvenSpacing(0.1)
        self._travel = 0.0
        self._grip: tuple[float, float] | None = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(120)
        self._soon.timeout.connect(self.sample)
        studio.tool_changed.connect(self._soon.start)

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, HIGH)

    # -- strokes --------------------------------------------------------------------------------

    def fresh(self) -> None:
        """A new ball."""
        self._sampled = None
        tool = self._studio.tool
        mesh = Mesh.from_faces(*ball(RADIUS, FINE if tool.presses else CELLS))
        if tool.key in ("smooth", "flatten", "shave", "span", "burnish", "slide", "restore"):
            # Something to even out.
            p = mesh.positions
            mesh.positions += (1.1 * np.sin(p[:, [0]] / 2.8) * np.sin(p[:, [1]] / 2.8)) * mesh.normals
            mesh.refresh_all()
        if tool.changes == "paint":
            mesh.colour = trial_colours(mesh.positions)
        self.mesh = loosened(mesh) if tool.density else mesh
        self._redraw()

    def sample(self) -> None:
        """A new ball with a sample stroke on it."""
        if not self.isVisible() or not self._studio.is_warm({self._studio.tool.name}):
            return
        settings = self._studio.settings()
        ink = self._studio.project.settings.ink
        self._press = self._studio.presses.found(settings.tip.press)
        held = (self._studio.tool.key, settings, id(self._press), ink)
        if held == self._sampled:
            return
        # The tool was taken before: 60 ms for the same picture. Its clay is made once it is pressed on.
        self.mesh, self._sampled = None, held
        self._redraw()

    def _looks(self) -> tuple[object, ...]:
        """What a picture of the sample stroke depends on."""
        size = (self.width(), self.height(), self.devicePixelRatioF())
        return (self._sampled, *size, self._clay.rgb(), self._accent.rgb())

    def _stroke_sample(self) -> None:
        """A new ball with a sample stroke on it."""
        sampled = self._sampled
        self.fresh()
        self._sampled = sampled
        points = np.array(SAMPLE)
        t = np.linspace(0, len(points) - 1, 40)
        line = np.stack([np.interp(t, range(len(points)), points[:, k]) for k in range(2)], axis=-1)
        if self._studio.settings().kind in ("dragged", "sized") and not self._studio.tool.holds:
            # One dab is all that comes of such a stroke.
            line = np.array([[0.0, 0.0]])
        self._begin(float(line[0, 0]), float(line[0, 1]))
        for x, y in line[1:].tolist() or line.tolist():
            self._move(x, y)
        self._end()

    def _begin(self, x: float, y: float) -> None:
        assert self.mesh is not None
        tool = self._studio.tool
        settings = replace(self._studio.settings(), steadying=0.0)
        press = self._studio.presses.found(settings.tip.press)
        if press is None and tool.presses:
            return
        ink = self._studio.project.settings.ink
        self._stroke = stroke_of(self.mesh, tool, settings, press, BRUSH / 12.0, ink)
        if tool.needs_before:
            self._stroke.work.before = Mesh.from_faces(*ball(RADIUS, CELLS)).positions
        self._spacing = EvenSpacing(settings.spacing)
        self._travel = 0.0
        self._grip = (x, y)
        if tool.holds:
            hit = self._hit(x, y)
            if hit is not None:
                self._stroke.grab(hit, BRUSH * 1.6, np.array([0.0, 0.0, -1.0]))

    def _hit(self, x: float, y: float) -> F64 | None:
        assert self.mesh is not None
        found = pick(self.mesh, np.array([x, y, 400.0]), np.array([0.0, 0.0, -1.0]))
        return None if found is None else found.point

    def _move(self, x: float, y: float) -> None:
        stroke, tool, held = self._stroke, self._studio.tool, self._studio.settings()
        if stroke is None:
            # Its press is not there.
            return
        assert self._grip is not None
        view = np.array([0.0, 0.0, -1.0])
        if tool.holds:
            dx, dy = x - self._grip[0], y - self._grip[1]
            amount = {"turn": dx / 18.0, "scale": dx / 40.0, "bend": -np.hypot(dx, dy) / 22.0}
            way = np.array([dx, dy, 0.0]) * 0.5
            stroke.drag(way, BRUSH * 1.6, held.strength, float(amount.get(tool.gesture, 0.0)))
            return
        hit = self._hit(x, y)
        one = held.kind in ("dragged", "sized")
        touch = None if hit is None else Touch(hit, view, BRUSH * (2.2 if one else 1.0), 1.0)
        for dab, along in self._spacing.add(touch):
            self._travel += float(np.linalg.norm(along))
            strength = held.strength * (-1.0 if held.reverse else 1.0)
            detail = None
            if tool.density:
                detail = Density(BRUSH / 8, tool.density != "coarsen", tool.density != "refine")
            stroke.dab(
                Dab(
                    dab.point,
                    along,
                    view,
                    dab.radius,
                    strength,
                    1.0 if one else held.spacing,
                    self._travel,
                    held.variant,
                    detail,
                    up=np.array([0.0, 1.0, 0.0]),
                    turn=float(np.radians(held.tip.turn)),
                )
            )

    def _end(self) -> None:
        if self._stroke is not None:
            self._stroke.finish()
        self._stroke = None
        self._redraw()

    # -- events ---------------------------------------------------------------------------------

    def _at(self, event: QMouseEvent) -> tuple[float, float]:
        scale = RADIUS / (HIGH / 2 - 6)
        at = event.position()
        return (at.x() - self.width() / 2) * scale, (self.height() / 2 - at.y()) * scale

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if not self._studio.is_warm({self._studio.tool.name}):
            return
        if self.mesh is None:
            self._stroke_sample()
        self._sampled = None
        self._begin(*self._at(event))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._stroke is not None:
            self._move(*self._at(event))
            self._redraw()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._end()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._studio.is_warm({self._studio.tool.name}):
            self.fresh()

    def showEvent(self, event: object) -> None:  # noqa: N802
        self._soon.start()

    def _redraw(self) -> None:
        """The ball has changed."""
        self._drawn = None
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        if self.mesh is None and self._sampled is None:
            return
        ratio = self.devicePixelRatioF()
        if self._drawn is None or self._drawn.size() != self.size() * ratio:
            self._drawn = self._picture()
        painter = QPainter(self)
        painter.drawImage(0, 0, self._drawn)
        painter.end()

    def _picture(self) -> QImage:
        """The ball as it is. Some thousand polygons: 20 ms, too long for each time that a neighbour is drawn anew."""
        looks = self._looks()
        if self.mesh is None and looks in _known:
            _known.move_to_end(looks)
            return _known[looks][0]
        if self.mesh is None:
            self._stroke_sample()
        assert self.mesh is not None
        ratio = self.devicePixelRatioF()
        drawn = QImage(self.size() * ratio, QImage.Format.Format_ARGB32_Premultiplied)
        drawn.setDevicePixelRatio(ratio)
        drawn.fill(Qt.GlobalColor.transparent)
        self._draw(drawn, self.mesh)
        if self._sampled is not None:
            _known[looks] = drawn, self._press
            while len(_known) > SAMPLES:
                _known.popitem(last=False)
        return drawn

    def _draw(self, on: QImage, mesh: Mesh) -> None:
        faces = mesh.topology.faces
        faces = faces[faces[:, 0] != faces[:, 1]]
        at = mesh.positions.astype(np.float64)
        fourth = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 2])
        a, b, c, d = at[faces[:, 0]], at[faces[:, 1]], at[faces[:, 2]], at[fourth]
        across = np.cross(c - a, np.where((faces[:, 3] >= 0)[:, None], d - b, c - b))
        normals = across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)
        seen = np.flatnonzero(normals[:, 2] > 0)
        seen = seen[np.argsort(a[seen, 2], kind="stable")]
        # Rounded by the normals of the corners: flat faces would hide what is fine.
        corner = mesh.normals[np.maximum(faces[seen], 0)] * (faces[seen] >= 0)[:, :, None]
        round_ = corner.sum(axis=1)
        round_ /= np.maximum(np.linalg.norm(round_, axis=1, keepdims=True), 1e-12)
        light = np.clip((0.7 * round_ + 0.3 * normals[seen]) @ LIGHT, 0, 1) * 0.82 + 0.18
        painted = np.zeros(len(seen))
        if mesh.mask is not None:
            painted = mesh.mask[faces[seen, 0]].astype(float)
        elif mesh.regions is not None:
            painted = (mesh.regions[: len(mesh.topology.faces)][seen] > 0).astype(float)
        base = np.array(rgb(self._clay), np.float64)
        if mesh.colour is not None:
            base = mesh.colour[faces[seen, 0], :3].astype(np.float64)
        tint = np.array(rgb(self._accent), np.float64)
        colours = (base + (tint - base) * painted[:, None] * 0.75) * light[:, None]
        self._paint(on, np.stack([a[seen], b[seen], c[seen], d[seen]], 1)[:, :, :2], colours)

    def _paint(self, on: QImage, corners: F64, colours: F64) -> None:
        """Paint faces, corners (k, 4, 2) in millimetres and sRGB (k, 3), each over those before it.

        At several times the size and averaged down: Pillow fills thousands of polygons in the time that Qt takes for hundreds.
        """
        lines = bool(self._studio.tool.density)
        times = 4 if lines else 2
        fine = times * on.devicePixelRatio()
        scale = (HIGH / 2 - 6) / RADIUS
        wide, high = (round(side * fine) for side in (self.width(), self.height()))
        spots = ([self.width() / 2, self.height() / 2] + corners * [scale, -scale]) * fine
        image = Image.new("RGBA", (wide, high))
        draw = ImageDraw.Draw(image)
        inks = np.concatenate([np.clip(colours, 0, 255).astype(int), np.full((len(colours), 1), 255)], 1)
        edges = (inks * [0.55, 0.55, 0.55, 1]).astype(int) if lines else inks
        for spot, ink, edge in zip(spots.reshape(-1, 8).tolist(), inks.tolist(), edges.tolist(), strict=True):
            draw.polygon(spot, tuple(ink), tuple(edge))
        # Averaging goes with what is covered, else the rim would be dark.
        small = image.convert("RGBa").reduce(times)
        picture = QImage(small.tobytes(), *small.size, QImage.Format.Format_RGBA8888_Premultiplied)
        picture.setDevicePixelRatio(on.devicePixelRatio())
        painter = QPainter(on)
        painter.drawImage(0, 0, picture)
        painter.end()
