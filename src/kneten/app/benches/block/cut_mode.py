"""Cutting in the view: an outline is drawn over the clay, and what lies inside is cut away or split off."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPolygonF

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line, nothing
from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.live.curves import catmull_rom, lengths_along, thinned
from kneten.core.mesh import Mesh
from kneten.core.pieces import inside
from kneten.core.placing import kneaded
from kneten.core.regions import faces_of_mask
from kneten.core.remesh import mean_edge
from kneten.core.solid import Outline, cut, flaw, made_solid, prism
from kneten.document.masks import with_mask
from kneten.document.numbers import RegionError
from kneten.document.regions import hide_faces, isolate_faces, make_region, put_in_region
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

SHAPES = {
    "lasso": ("Lasso", "Draw around what is to go"),
    "rectangle": ("Rectangle", "Drag from corner to corner"),
    "line": ("Line", "Drag a line: what lies to the right of its way goes"),
    "polygon": ("Polygon", "Click corners; double click or Enter cuts"),
    "mask": ("Lasso", "Draw around what is to be masked"),
    "mask-box": ("Rectangle", "Drag over what is to be masked"),
    "hide": ("Lasso", "Draw around what is to be hidden"),
    "region": ("Lasso", "Draw around what is to be a region"),
    "curve": ("Curve", "Click points of a smooth curve; double click or Enter cuts what lies to its right"),
}


FREE = ("lasso", "mask", "hide", "region")
"""Shapes that follow the pointer."""

CHOOSING = {
    "mask": ("mask.lasso", "Ctrl frees instead, Shift takes only what faces you"),
    "mask-box": ("mask.rectangle", "Ctrl frees instead, Shift takes only what faces you"),
    "hide": ("region.lasso-hide", "Ctrl hides all else, Shift takes only what faces you"),
    "region": ("region.lasso", "Ctrl takes out of regions instead, Shift takes only what faces you"),
}
"""Shapes that choose clay instead of cutting it: the command's id, and what the keys do."""


class CutMode(Mode):
    """Draws an outline of a shape and cuts the part in hand by it, or chooses what lies within.

    Attributes
    ----------
    shape : str
        One of `SHAPES`.
    """

    def __init__(self, view: Canvas, shape: str) -> None:
        super().__init__(view)
        self.shape = shape
        cutting = (f"cut.{shape}", "Ctrl splits instead of cutting away, Shift cuts only the front")
        self.key, end = CHOOSING.get(shape, cutting)
        self.hint = f"{SHAPES[shape][1]}. {end}"
        self.points: list[tuple[float, float]] = []
        self.keys = Qt.KeyboardModifier.NoModifier
        self._at: tuple[float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        self.keys = keys
        if self.shape in ("polygon", "curve"):
            self.points.append((press.x, press.y))
            self.view.repaint_over()
            return nothing()
        return self._draw(press)

    def _draw(self, press: Pointer) -> Hand:
        self.points = [(press.x, press.y)]
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self.points = []
                self.view.repaint_over()
                return
            if self.shape in FREE:
                if np.hypot(event.x - self.points[-1][0], event.y - self.points[-1][1]) > 2:
                    self.points.append((event.x, event.y))
            else:
                self.points = [self.points[0], (event.x, event.y)]
            self.view.repaint_over()
            if event.kind == "release":
                break
        self.finish()

    def double(self, x: float, y: float) -> None:
        if self.shape in ("polygon", "curve"):
            if len(self.points) > 1 and np.hypot(*(np.array(self.points[-1]) - self.points[-2])) < 4:
                self.points.pop()
            self.finish()

    def pressed_key(self, key: int) -> bool:
        if self.shape not in ("polygon", "curve"):
            return False
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif key == Qt.Key.Key_Backspace and self.points:
            self.points.pop()
            self.view.repaint_over()
        else:
            return False
        return True

    def hover(self, x: float, y: float) -> bool:
        self._at = (x, y)
        return bool(self.points)

    def outline(self, points: F64) -> F64 | None:
        """The closed outline in pixels of the pane that drawn points mean; None when they mean nothing."""
        apart = np.linalg.norm(np.diff(points, axis=0), axis=1) > 0.5
        points = points[np.concatenate([[True], apart])] if len(points) else points
        if len(points) < 2:
            return None
        if self.shape in ("rectangle", "mask-box"):
            (x0, y0), (x1, y1) = points[0], points[-1]
            if abs(x1 - x0) < 2 or abs(y1 - y0) < 2:
                return None
            return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
        if self.shape in ("line", "curve"):
            curve = catmull_rom(points, False, 12) if self.shape == "curve" else points
            return self._to_the_right(curve)
        if len(points) < 3:
            return None
        if self.shape in FREE:
            points = points[thinned(points, 0.6)]
            if len(points) < 3:
                return None
        return points

    def _to_the_right(self, curve: F64) -> F64 | None:
        """All of the picture to the right of a line's way, the line's ends drawn on to far outside."""
        if np.linalg.norm(curve[-1] - curve[0]) < 3:
            return None
        far = 4.0 * (self.view.wide + self.view.high)
        first, last = curve[0] - curve[1], curve[-1] - curve[-2]
        start = curve[0] + first / np.linalg.norm(first) * far
        end = curve[-1] + last / np.linalg.norm(last) * far
        way = (end - start) / np.linalg.norm(end - start)
        # Pixels count downwards: right of the way is the way turned clockwise on the screen.
        right = np.array([-way[1], way[0]]) * far
        return np.concatenate([[start], curve, [end, end + right, start + right]])

    def finish(self) -> None:
        """Cut."""
        points, self.points = np.array(self.points, np.float64).reshape(-1, 2), []
        self.view.repaint_over()
        outline = self.outline(points)
        if outline is None:
            self.studio.say("The outline is too small to cut with; draw it larger.")
            return
        split = bool(self.keys & Qt.KeyboardModifier.ControlModifier)
        front = bool(self.keys & Qt.KeyboardModifier.ShiftModifier)
        if self.shape in CHOOSING:
            self.choose(outline, split, front)
        else:
            self.cut(outline, split, front)

    def choose(self, outline: F64, other: bool, front: bool) -> None:
        """Mask, hide or make a region of what lies within an outline in pixels of the pane."""
        part = self.studio.project.active
        if part is None or self.studio.move_blocked(part):
            self.studio.say(
                self.studio.move_blocked(part) if part else "There is no part in hand.", "warning"
            )
            return
        view = self.view
        mesh = part.mesh
        camera, wide, high = view.camera, view.wide, view.high
        project = self.studio.project
        positions, normals = mesh.positions.copy(), mesh.normals

        def work(progress: Progress) -> AnyArray:
            scene = part.transform.to_scene(positions)
            at = camera.project(scene, wide, high)
            low, top = outline.min(axis=0), outline.max(axis=0)
            near = ((at[:, :2] >= low) & (at[:, :2] <= top)).all(axis=1) & (at[:, 2] > 0)
            index = np.flatnonzero(near)
            index = index[inside(outline, at[index, :2])]
            if front:
                eye = part.transform.to_part(camera.eye()[None])[0]
                way = eye - positions[index]
                index = index[np.einsum("ij,ij->i", way, normals[index]) > 0]
            chosen = np.zeros(len(positions), np.float32)
            chosen[index] = 1.0
            return chosen

        def land(chosen: AnyArray) -> None:
            if not chosen.any():
                self.studio.say("The outline misses the part in hand.", "warning")
                return
            now = project.scene.part(part.id)
            faces = faces_of_mask(now.mesh, chosen)
            try:
                if self.shape == "hide":
                    (isolate_faces if other else hide_faces)(project, now, faces)
                elif self.shape == "region":
                    if other:
                        put_in_region(project, now, faces, 0, "Out of regions")
                    else:
                        make_region(project, now, faces)
                else:
                    mask = now.mesh.mask.copy() if now.mesh.mask is not None else np.zeros_like(chosen)
                    mask[chosen > 0] = 0.0 if other else 1.0
                    with_mask(project, now, mask, "Unmask" if other else "Mask")
            except RegionError as error:
                self.studio.say(str(error), "warning")

        self.studio.work_on([part], "Choose", work, land)

    def cut(self, outline: F64, split: bool, front: bool) -> None:
        """Cut the part in hand by an outline in pixels of the pane."""
        part = self.studio.project.active
        if part is None:
            self.studio.say("There is no part in hand to cut.", "warning")
            return
        blocked = self.studio.move_blocked(part)
        if blocked:
            self.studio.say(blocked, "warning")
            return
        view = self.view
        camera, wide, high = view.camera, view.wide, view.high
        symmetry = self.studio.project.settings.symmetry
        copy = replace(part, mesh=part.mesh.copy())
        studio, project = self.studio, self.studio.project
        told: list[str] = []

        def work(progress: Progress) -> list[Mesh]:
            progress.report(0.02, "Looking at the part")
            mesh = copy.mesh
            wrong = flaw(mesh)
            if wrong:
                told.append(f"{part.name} {wrong}: it was made solid first.")
                mesh = made_solid(mesh, progress)
            edge = mean_edge(mesh)
            tool = prism(outline_rays(outline, camera, wide, high, copy, edge), edge)
            tools = [tool]
            eyes = copy.transform.to_part(camera.eye()[None])
            for axis in range(3):
                if symmetry[axis]:
                    flip = np.eye(4)
                    flip[axis, axis] = -1
                    tools += [kneaded(one, flip) for one in tools]
                    eyes = np.concatenate([eyes, eyes @ flip[:3, :3]])
            pieces = cut(mesh, tools, split, eyes if front else None, progress)
            studio.journal_ahead(pieces)
            return pieces

        def land(pieces: list[Mesh]) -> None:
            verb = "Split" if split else "Cut"
            scene = project.with_mesh(part.id, pieces[0], recipe=None, was=part.recipe or part.was)
            chosen = [part.id]
            if split:
                off = Part(
                    scene.free_name(f"{part.name} cut off"),
                    pieces[1],
                    mesh_id=new_id(),
                    transform=part.transform,
                    group=part.group,
                    origins=part.origins,
                    pivot=part.pivot,
                )
                scene = scene.with_parts((*scene.parts, off))
                chosen.append(off.id)
            project.change(f"{verb} {part.name}", scene)
            project.choose(chosen[-1])
            for text in told:
                studio.say(text)

        self.studio.work_on([part], "Cut", work, land, True)

    def paint(self, painter: QPainter) -> None:
        if not self.points:
            return
        accent = QColor(self.view.ring_colour)
        points = list(self.points)
        if self.shape in ("polygon", "curve") and self._at is not None:
            points.append(self._at)
        shape = self.outline(np.array(points))
        if shape is not None:
            inside = QColor(accent)
            inside.setAlpha(46)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(inside)
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in shape]))
            line(painter, np.concatenate([shape, shape[:1]]), accent, 1.6)
        elif len(points) > 1:
            line(painter, np.array(points), accent, 1.6)
        if self.shape in ("polygon", "curve"):
            for at in self.points:
                dot(painter, np.array(at), accent, 3.5)

    def leave(self) -> None:
        self.points = []


def outline_rays(outline: F64, camera, wide: float, high: float, part: Part, edge: float) -> Outline:  # type: ignore[no-untyped-def]
    """An outline in pixels as rays through a part, in the part's space, as dense as the clay's edges.

    The rays end where the part's box does, a little before and behind it.
    """
    low, high_corner = part.bounds()
    middle = (low + high_corner) / 2
    reach = float(np.linalg.norm(high_corner - low)) / 2
    back = camera.axes()[2]
    depth = float((camera.eye() - middle) @ back)
    near = (
        max(depth - reach * 1.05, min(depth, camera.distance) * 1e-3)
        if not camera.orthographic
        else depth - reach * 1.05
    )
    far = depth + reach * 1.05
    pixel = camera.pixel_size(middle, high)
    step = max(edge * part.transform.scale / pixel, 1.0)
    corners = np.array(list(itertools.product(*zip(low, high_corner, strict=True))))
    seen = camera.project(corners, wide, high)[:, :2]
    # Where no clay is seen nothing is cut: the outline need not be dense there.
    clay_low, clay_high = seen.min(axis=0) - 4 * step, seen.max(axis=0) + 4 * step
    if not camera.orthographic and depth < reach:
        # The camera is among the clay: all of the picture may show some.
        clay_low, clay_high = np.full(2, -1e9), np.full(2, 1e9)
    along = lengths_along(outline, True)
    whole = np.concatenate([outline, outline[:1]])
    places = [along[:-1]]
    for (a, b), start in zip(itertools.pairwise(whole), along[:-1], strict=True):
        length = float(np.linalg.norm(b - a))
        count = int(length // step)
        if count:
            t = np.arange(1, count + 1) / (count + 1)
            spots = a + (b - a) * t[:, None]
            near_clay = ((spots > clay_low) & (spots < clay_high)).all(axis=1)
            places.append(start + t[near_clay] * length)
    at = np.unique(np.concatenate(places))
    dense = np.stack([np.interp(at, along, whole[:, k]) for k in range(2)], -1)
    rays = [camera.ray(float(x), float(y), wide, high) for x, y in dense]
    origin = np.array([o for o, _ in rays])
    way = np.array([w for _, w in rays])
    # Along the ray until a plane before the camera at that depth.
    eye = camera.eye()
    slope = -(way @ back)
    start_depth = (eye - origin) @ back
    first = origin + way * ((near - start_depth) / slope)[:, None]
    last = origin + way * ((far - start_depth) / slope)[:, None]
    depths = (eye - corners) @ back
    span = np.clip((np.array([depths.min(), depths.max()]) - near) / (far - near), 0.0, 1.0)
    room = 0.01 * (span[1] - span[0])
    return Outline(
        part.transform.to_part(first),
        part.transform.to_part(last),
        (max(float(span[0]) - room, 0.0), min(float(span[1]) + room, 1.0)),
    )
