"""The guide pen: lines drawn on the clay, and what follows them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPolygonF
from PySide6.QtWidgets import QInputDialog

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, label, line, polyline
from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.brush_path import Leash, PenPoint
from kneten.core.guides import continued, enclosed, mirrored, resampled, round_about, smoothed
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.masks import blurred
from kneten.core.measure import at_share
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.regions import vertices_of
from kneten.document import regions
from kneten.document.guides import erase, go_on, lines_of, note_on
from kneten.document.marks import landmark
from kneten.document.placing import laid_on
from kneten.document.scene import Part
from kneten.document.things import Guide

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk

LEASH = 14.0
"""Pixels by which the line follows behind the pen: without tremble, and without an offset at the end."""

CLOSES = 16.0
"""Pixels between the ends of a line that close it."""

STEP = 7.0
"""Pixels between the points of a line."""

ERASES = 12.0
"""Pixels around the eraser."""


class GuideMode(Mode):
    """Draws guides on the part in hand; Shift erases what it touches."""

    key = "guide.draw"
    hint = (
        "Draw on the clay; begin where a line ends to go on with it, from any side; end where it began to close it. "
        "Shift erases, a double click writes a note"
    )

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self._drawn: list[F64] = []

    def _place(self, part: Part, x: float, y: float) -> F64 | None:
        view = self.view
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        place = part.transform
        hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
        return None if hit is None else hit.point

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part = self.studio.project.active
        if part is None or part.locked:
            return None
        if keys & Qt.KeyboardModifier.ShiftModifier:
            return self._erase(part, press)
        if self._place(part, press.x, press.y) is None:
            return None
        return self._draw(part, press)

    def _draw(self, part: Part, press: Pointer) -> Hand:
        leash = Leash(LEASH)
        event: Pointer | None = press
        try:
            while True:
                assert event is not None
                now = leash.follow(PenPoint(event.x, event.y))
                if event.kind == "release":
                    now = PenPoint(event.x, event.y)
                place = self._place(part, now.x, now.y)
                if place is not None:
                    self._drawn.append(place)
                self.view.repaint_over()
                if event.kind == "release":
                    break
                event = yield None
                if event is not None and event.kind == "cancel":
                    return
            drawn, self._drawn = self._drawn, []
            self._lay(part, drawn)
        finally:
            self._drawn = []
            self.view.repaint_over()

    def _lay(self, part: Part, drawn: list[F64]) -> None:
        if len(drawn) < 3:
            return
        points = np.array(drawn)
        scene_point = part.transform.to_scene(points[:1])[0]
        pixel = self.view.camera.pixel_size(scene_point, self.view.high) / part.transform.scale
        step = STEP * pixel
        points = smoothed(resampled(points, step, False), False)
        project = self.studio.project
        drawn_likes = [mirrored(points, twin.linear, twin.shift) for twin in project.twins(part)]
        if len(drawn_likes) > 1 and all(
            np.abs(other - drawn_likes[0]).max() < step for other in drawn_likes[1:]
        ):
            drawn_likes = drawn_likes[:1]  # It lies on the seam.
        lines: list[tuple[F64, bool]] = []
        instead: list[Guide] = []
        # Seen from the side, where an end often lies, few pixels are far on the clay.
        for like in drawn_likes:
            gone = {guide.id for guide in instead}
            known = [(g, at) for g, at in lines_of(project.scene, part) if not g.closed and g.id not in gone]
            found = continued(like, [at for _, at in known], 2 * CLOSES * pixel)
            instead += [known[i][0] for i in found.used]
            lines.append(
                (smoothed(resampled(found.points, step, found.closed), found.closed, 2), found.closed)
            )
        go_on(project, part, lines, instead)

    def _erase(self, part: Part, press: Pointer) -> Hand:
        gone: set[str] = set()
        event: Pointer | None = press
        while event is not None and event.kind not in ("release", "cancel"):
            gone |= {g.id for g in self.under(part, event.x, event.y)}
            self.view.hidden_guides = gone
            self.view.repaint_over()
            event = yield None
        self.view.hidden_guides = set()
        if event is not None and event.kind == "release":
            erase(self.studio.project, gone)
        self.view.repaint_over()

    def under(self, part: Part, x: float, y: float) -> list[Guide]:
        """The guides near a pixel."""
        found = []
        for guide, points in lines_of(self.studio.project.scene, part):
            at = self.pixels(part.transform.to_scene(points))
            if np.hypot(at[:, 0] - x, at[:, 1] - y).min() < ERASES:
                found.append(guide)
        return found

    def double(self, x: float, y: float) -> None:
        part = self.studio.project.active
        for guide in self.under(part, x, y) if part is not None else ():
            text, fine = QInputDialog.getText(self.view, "Note on guide", "Note:", text=guide.note)
            if fine:
                note_on(self.studio.project, guide, " ".join(text.split()))
            return

    def paint(self, painter: QPainter) -> None:
        part = self.studio.project.active
        if part is not None and len(self._drawn) > 1:
            points = self.pixels(part.transform.to_scene(np.array(self._drawn)))
            line(painter, points, QColor(self.view.ring_colour), 2.0)


PLANNING = ("Gather", "Block", "Form", "Net")
"""Stages in which lines to plan by belong to the work; their notes are shown while the guide pen is in hand."""


@dataclass(frozen=True)
class _Seen:
    """What is seen of a guide: its lines as they are drawn and where it begins, in pixels."""

    guide: Guide
    lines: list[QPolygonF]
    begin: F64 | None


class GuideLayer:
    """Paints all guides of visible parts over the picture, those behind the clay left out."""

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self._known: tuple[object, list[_Seen]] = ((), [])

    def paint(self, painter: QPainter) -> None:
        view = self._view
        project = view.studio.project
        drawing = view.mode is not None and view.mode.key == GuideMode.key
        planning = view.studio.stage in PLANNING or drawing
        if not project.scene.guides or not project.settings.show_guides or not planning:
            return
        # What a camera sees is kept as it is drawn: each event of a stroke draws it anew.
        key = (view.camera, view.wide, view.high, project.scene, project.history.serial)
        if self._known[0] != key:
            self._known = (None if view.at_work else key, self._seen())
        colour = QColor(view.ring_colour)
        for seen in self._known[1]:
            if seen.guide.id in view.hidden_guides:
                continue
            for shape in seen.lines:
                line(painter, shape, colour, 1.8)
            if seen.guide.note and drawing and seen.begin is not None:
                dot(painter, seen.begin, colour, 3.0)
                label(painter, view, QPointF(*seen.begin), seen.guide.note)

    def _seen(self) -> list[_Seen]:
        view = self._view
        scene = view.studio.project.scene
        found = []
        for part in scene.parts:
            if not part.visible:
                continue
            for guide, local in lines_of(scene, part):
                if guide.closed:
                    local = np.concatenate([local, local[:1]])
                points = part.transform.to_scene(local)
                seen = self._in_sight(part, points)
                at = view.camera.project(points, view.wide, view.high)[:, :2]
                runs = [polyline(at[first:last]) for first, last in _runs(seen)]
                begin = at[np.flatnonzero(seen)[0]] if seen.any() else None
                found.append(_Seen(guide, runs, begin))
        return found

    def _in_sight(self, part: Part, points: F64) -> AnyArray:
        """Which points nothing of their part hides."""
        view = self._view
        camera, place = view.camera, part.transform
        at = camera.project(points, view.wide, view.high)
        out = np.zeros(len(points), bool)
        for i, (x, y) in enumerate(at[:, :2].tolist()):
            origin, way = camera.ray(x, y, view.wide, view.high)
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            far = float((points[i] - origin) @ way)
            out[i] = hit is None or hit.distance * place.scale > far - 2.0 * hit.edge * place.scale
        return out


def _runs(seen: AnyArray) -> list[tuple[int, int]]:
    """Where runs of at least two points that are seen begin and end."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], seen.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a > 1]


class GuideWork:
    """What can be made to follow guides."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    def none(self) -> str:
        """Why there are no guides to work with."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if not lines_of(self._studio.project.scene, part):
            return f"There is no guide on {part.name}; draw one first (J)."
        return self._studio.move_blocked(part)

    def none_closed(self) -> str:
        """Why there is nothing inside guides."""
        part = self._studio.project.active
        if part is not None and not self._closed(part):
            return "No guide on the part in hand is closed; draw one that ends where it began."
        return self.none()

    def _closed(self, part: Part) -> list[F64]:
        return [at for guide, at in lines_of(self._studio.project.scene, part) if guide.closed]

    def _inside(self, name: str, take: Callable[[Part, AnyArray], None]) -> None:
        part = self._studio.project.active
        assert part is not None
        mesh, lines = part.mesh.copy(), self._closed(part)

        def land(faces: AnyArray) -> None:
            if not faces.any():
                self._studio.say(
                    "The guides part nothing from the rest: they are finer than the mesh.", "warning"
                )
                return
            take(self._studio.project.scene.part(part.id), faces)

        self._studio.work_on([part], name, lambda progress: enclosed(mesh, lines), land)

    def mask(self) -> None:
        """Mask what lies inside closed guides, beside what is masked already."""
        part = self._studio.project.active
        assert part is not None
        lines = self._closed(part)

        def found(mesh: Mesh, before: F32) -> F32 | None:
            inside = vertices_of(mesh, enclosed(mesh, lines)).astype(np.float32)
            return np.maximum(before, blurred(mesh, inside, 1))

        self._desk.form.change_mask("Mask inside guides on", found)

    def region(self) -> None:
        """Make what lies inside closed guides a region."""

        def take(part: Part, faces: AnyArray) -> None:
            self._desk.form.region = regions.make_region(self._studio.project, part, faces)

        self._inside("Region inside guides", take)

    def cut(self) -> None:
        """Take what lies inside closed guides out as a part; both sides are closed."""

        def take(part: Part, faces: AnyArray) -> None:
            self._studio.project.choose(part.id)
            self._desk.form.take_out(faces, f"{part.name} inside guide", False)

        self._inside("Cut along guides", take)

    def peel(self) -> None:
        """Make a shell of what lies inside closed guides, as the Peel card is set."""

        def take(part: Part, faces: AnyArray) -> None:
            self._desk.peel_card.peel_masked(part, vertices_of(part.mesh, faces).astype(np.float32))

        self._inside("Peel inside guides", take)

    def none_open(self) -> str:
        """Why there is no line to close."""
        part = self._studio.project.active
        if part is not None and not any(not g.closed for g, _ in lines_of(self._studio.project.scene, part)):
            return "No guide on the part in hand is open; draw one over the limb first (J)."
        return self.none()

    def close(self) -> None:
        """Close each open guide round the other side of the clay."""
        project = self._studio.project
        part = project.active
        assert part is not None
        mesh = part.mesh.copy()
        known = [(guide, at) for guide, at in lines_of(project.scene, part) if not guide.closed]

        def work(progress: Progress) -> list[tuple[Guide, F64]]:
            found = []
            for count, (guide, line_) in enumerate(known):
                progress.report(count / len(known), "Going round")
                way = round_about(mesh, line_)
                if way is not None:
                    step = float(np.linalg.norm(np.diff(line_, axis=0), axis=1).mean())
                    whole = np.concatenate([line_, way[1:-1]])
                    found.append((guide, smoothed(resampled(whole, step, True), True, 2)))
            return found

        def land(found: list[tuple[Guide, F64]]) -> None:
            if not found:
                self._studio.say("The clay has no way round there: the guides stay open.", "warning")
                return
            go_on(project, part, [(line_, True) for _, line_ in found], [guide for guide, _ in found])

        self._studio.work_on([part], "Close guides", work, land)

    def strand(self) -> None:
        """Lay a strand along each guide."""
        project = self._studio.project
        part = project.active
        assert part is not None
        held = self._studio.preferences
        strands = []
        for guide, points in lines_of(project.scene, part):
            few = points[:: max(len(points) // 12, 1)]
            if not guide.closed:
                few = np.concatenate([few, points[-1:]])
            knots = tuple(
                Knot((float(x), float(y), float(z)), held.strand_thickness / part.transform.scale)
                for x, y, z in few
            )
            strands.append(laid_on([part], Strand(knots, guide.closed), part.transform))
        recipe = Strands(tuple(strands))
        self._desk.view.recasting.add(f"{part.name} strand", recipe, part.transform)

    def landmarks(self) -> None:
        """Set landmarks on the guides of the part in hand, named by their notes: at the ends, or in quarters all round."""
        project = self._studio.project
        part = project.active
        assert part is not None
        scene = project.scene
        for guide, points in lines_of(scene, part):
            shares = (0.0, 0.25, 0.5, 0.75) if guide.closed else (0.0, 1.0)
            whole = np.concatenate([points, points[:1]]) if guide.closed else points
            for share in shares:
                mark = landmark(scene, guide.note or "Guide", part, at_share(whole, share))
                scene = replace(scene, landmarks=(*scene.landmarks, mark))
        project.change(f"Landmarks on {part.name}'s guides", scene)

    def clear(self) -> None:
        """Take all guides of the part in hand away."""
        project = self._studio.project
        part = project.active
        assert part is not None
        ids = {guide.id for guide, _ in lines_of(project.scene, part)}
        erase(project, ids, f"Erase all guides on {part.name}")

    def show(self) -> None:
        """Show or hide guides."""
        project = self._studio.project
        project.change_settings(show_guides=not project.settings.show_guides)
        self._desk.view.repaint_over()
