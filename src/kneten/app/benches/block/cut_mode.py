"""Cutting in the view: an outline is drawn over the clay, and what lies inside is cut away or split off."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPolygonF

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line, nothing
from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.drawn_outline import rays, within
from kneten.core.live.curves import catmull_rom, thinned
from kneten.core.mesh import Mesh
from kneten.core.placing import kneaded
from kneten.core.regions import faces_of_mask
from kneten.core.remesh import mean_edge
from kneten.core.solid import cut, flaw, made_solid, prism
from kneten.document.masks import with_mask
from kneten.document.numbers import RegionError
from kneten.document.regions import hide_faces, isolate_faces, make_region, put_in_region
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

SHAPES = {
    "lasso": "Draw around what is to {verb}",
    "rectangle": "Drag over what is to {verb}",
    "line": "Drag a line: what lies to the right of its way {does}",
    "polygon": "Click corners around what is to {verb}; double click or Enter ends",
    "curve": "Click points of a smooth curve; double click or Enter: what lies to its right {does}",
}
"""Shapes of an outline, and how each is drawn."""


@dataclass(frozen=True)
class Purpose:
    """What an outline is drawn for.

    Attributes
    ----------
    command : str
        Its commands' id, with the shape's place in it; `name` is what they are called.
    does : str
        What they do, in words.
    verb, third : str
        What happens to what lies within: "is to …", "it …".
    keys : str
        What the keys do.
    """

    command: str
    name: str
    does: str
    verb: str
    third: str
    keys: str


PURPOSES = {
    "cut": Purpose(
        "cut.{}", "Cut with {}", "Cuts the part in hand by a drawn outline; Ctrl splits it, Shift cuts only the front", "go", "goes",
        "Ctrl splits instead of cutting away, Shift cuts only the front",
    ),
    "mask": Purpose(
        "mask.{}", "Mask with {}", "Protects what lies within from strokes and handles; Ctrl frees it instead", "be masked", "is masked",
        "Ctrl frees instead, Shift takes only what faces you",
    ),
    "hide": Purpose(
        "region.{}-hide", "Hide with {}", "Hides what lies within; Ctrl hides all else", "be hidden", "is hidden",
        "Ctrl hides all else, Shift takes only what faces you",
    ),
    "region": Purpose(
        "region.{}", "Region with {}", "Makes a region of what lies within; Ctrl takes it out of regions", "be a region", "is a region",
        "Ctrl takes out of regions instead, Shift takes only what faces you",
    ),
}  # fmt: skip
"""What outlines are drawn for."""

CLICKED = ("polygon", "curve")
"""Shapes whose points are clicked."""


class CutMode(Mode):
    """Draws an outline of a shape and cuts the part in hand by it, or chooses what lies within.

    Attributes
    ----------
    what : str
        One of `PURPOSES`.
    shape : str
        One of `SHAPES`.
    """

    def __init__(self, view: Canvas, what: str, shape: str) -> None:
        super().__init__(view)
        self.what, self.shape = what, shape
        purpose = PURPOSES[what]
        self.key = purpose.command.format(shape)
        how = SHAPES[shape].format(verb=purpose.verb, does=purpose.third)
        square = ""
        if what == "cut":
            straight = self.studio.preferences.cuts_square
            square = f". Up: {'from the eye again' if straight else 'square to the picture'}"
        self.hint = f"{how}. {purpose.keys}. Left, Right: other shapes{square}"
        self.points: list[tuple[float, float]] = []
        self.keys = Qt.KeyboardModifier.NoModifier
        self._at: tuple[float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        self.keys = keys
        if self.shape in CLICKED:
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
            if self.shape == "lasso":
                if np.hypot(event.x - self.points[-1][0], event.y - self.points[-1][1]) > 2:
                    self.points.append((event.x, event.y))
            else:
                self.points = [self.points[0], (event.x, event.y)]
            self.view.repaint_over()
            if event.kind == "release":
                break
        self.finish()

    def double(self, x: float, y: float) -> None:
        if self.shape in CLICKED:
            if len(self.points) > 1 and np.hypot(*(np.array(self.points[-1]) - self.points[-2])) < 4:
                self.points.pop()
            self.finish()

    def pressed_key(self, key: int) -> bool:
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and not self.points:
            shapes = list(SHAPES)
            step = 1 if key == Qt.Key.Key_Right else -1
            self.view.take_mode(
                CutMode(self.view, self.what, shapes[(shapes.index(self.shape) + step) % len(shapes)])
            )
        elif key == Qt.Key.Key_Up and self.what == "cut" and not self.points:
            self.studio.wanted.emit("cut.square")
        elif self.shape not in CLICKED:
            return False
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
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
        if self.shape == "rectangle":
            (x0, y0), (x1, y1) = points[0], points[-1]
            if abs(x1 - x0) < 2 or abs(y1 - y0) < 2:
                return None
            return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
        if self.shape in ("line", "curve"):
            curve = catmull_rom(points, False, 12) if self.shape == "curve" else points
            return self._to_the_right(curve)
        if len(points) < 3:
            return None
        if self.shape == "lasso":
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
        if self.what == "cut":
            self.cut(outline, split, front)
        else:
            self.choose(outline, split, front)

    def choose(self, outline: F64, other: bool, front: bool) -> None:
        """Mask, hide or make a region of what lies within an outline in pixels of the pane."""
        part = self.studio.project.active
        if part is None or self.studio.move_blocked(part):
            self.studio.say(
                self.studio.move_blocked(part) if part else "There is no part in hand.", "warning"
            )
            return
        view = self.view
        camera, size = view.camera, (view.wide, view.high)
        project = self.studio.project
        # Strokes since the outline was taken up may have left the clay loose.
        project.settle([part.id])
        part = project.scene.part(part.id)
        mesh = part.mesh.copy()
        twins = project.twins(part)
        pairs = project.pairs.get(mesh.topology.uid) if project.settings.symmetry_space == "shape" else None

        def work(progress: Progress) -> AnyArray:
            found = within(mesh, part.transform, outline, camera, size, twins, front)
            if pairs is not None:
                likes = pairs.twin[found]
                found[likes[likes >= 0]] = True
            return found.astype(np.float32)

        def land(chosen: AnyArray) -> None:
            if not chosen.any():
                self.studio.say("The outline misses the part in hand.", "warning")
                return
            now = project.scene.part(part.id)
            faces = faces_of_mask(now.mesh, chosen)
            try:
                if self.what == "hide":
                    (isolate_faces if other else hide_faces)(project, now, faces)
                elif self.what == "region":
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
        camera, size, square = view.camera, (view.wide, view.high), self.studio.preferences.cuts_square
        twins = self.studio.project.twins(part)
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
            tool = prism(rays(outline, camera, size, copy.transform, copy.bounds(), edge, square), edge)
            eye = copy.transform.to_part(camera.eye()[None])
            tools = [tool, *(kneaded(tool, twin.matrix) for twin in twins[1:])]
            eyes = np.concatenate([eye @ twin.linear.T + twin.shift for twin in twins])
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

        self.studio.work_on([part], "Cut", work, land, "drops")

    def paint(self, painter: QPainter) -> None:
        if not self.points:
            return
        accent = QColor(self.view.ring_colour)
        points = list(self.points)
        if self.shape in CLICKED and self._at is not None:
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
        if self.shape in CLICKED:
            for at in self.points:
                dot(painter, np.array(at), accent, 3.5)

    def leave(self) -> None:
        self.points = []
