"""Shapes tried for what is wrong with them; each find shown, framed and mended."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeVar

import numpy as np
from PySide6.QtCore import QObject, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.benches.perform.small_pictures import place_drawn
from kneten.core.arrays import Progress
from kneten.core.pose.shape_check import Around, stretch
from kneten.core.pose.shapes import ShapeError
from kneten.document import mending, shape_checks
from kneten.document.driving import shapes_of
from kneten.document.moments import (
    MomentFind,
    Moments,
    moments_of_motion,
    moments_of_shape,
)
from kneten.document.motions import Moment
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.shape_checks import Mended, PairMended, ShapeFind, Trial
from kneten.document.shapes import dial

if TYPE_CHECKING:
    from kneten.app.benches.perform.shaping import Shaping
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk

Found = TypeVar("Found")

HEAT = ("Length of skin", "half", "as at rest", "twice")
"""What the colours of the heat map stand for."""

PAUSE = 40
"""Milliseconds between two heat maps while something is dialled."""

HELD = 150_000_000
"""Bytes of a trial that are kept to draw pictures of its finds."""

AROUND = 0.06
"""Of a part's size, how much around a find is brought into the picture at the least."""


class ShapeChecking(QObject):
    """Commands on finds.

    Attributes
    ----------
    finds : list of ShapeFind
        The worst first.
    chosen : int
        The number of the one that commands are about; -1 for none.
    tried : bool
        Whether shapes were checked at all.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self._shaping: Shaping = desk.shaping
        self.finds: list[ShapeFind] = []
        self.chosen = -1
        self.tried = False
        self._trial: Trial | None = None
        self._seen: Trial | None = None
        self._around: dict[str, Around] = {}
        self._heating = QTimer(self, singleShot=True, interval=PAUSE)
        self._heating.timeout.connect(self._show_heat)
        desk.studio.project_changed.connect(self._forget)
        # A change of the scene ends what is compared: this is told of it first.
        for signal in (desk.studio.scene_changed, self._shaping.changed, desk.rigging.changed):
            signal.connect(self._heat_on)

    def _forget(self) -> None:
        self.finds, self.chosen, self.tried, self._trial = [], -1, False, None
        self._around, self._seen = {}, None
        self.changed.emit()

    @property
    def find(self) -> ShapeFind | None:
        """The find that commands are about."""
        return self.finds[self.chosen] if 0 <= self.chosen < len(self.finds) else None

    def drawing(self, found: ShapeFind) -> Callable[[], bytes] | None:
        """What draws a small picture of a find; None where that is not possible."""
        trial = self._seen
        part = next((one for one in self._studio.project.scene.parts if one.id == found.part_id), None)
        if trial is None or part is None or isinstance(found, MomentFind):
            return None
        low, high = part.bounds()
        reach, camera = AROUND * float(np.linalg.norm(high - low)), self._desk.view.camera
        return lambda: place_drawn(trial.scene_of(found), camera, found.place, reach)

    def no_find(self) -> str:
        """Why nothing can be done with a find."""
        if self.find is None:
            return "No find is chosen: check the shapes, and press on what was found."
        # A body in motion need not have any shape.
        return "" if isinstance(self.find, MomentFind) else str(self._shaping.none())

    def no_mending(self) -> str:
        """Why the chosen find cannot be mended by itself."""
        if words := self.no_find():
            return words
        found = self.find
        assert found is not None
        if isinstance(found, MomentFind):
            return "It gives on the way: Correct takes it there; make a correction and sculpt it right."
        return mending.no_mending(found, self._studio.project.scene)

    def _face(self) -> tuple[Scene, list[Part]]:
        """The scene, settled, and the parts that take part in the shapes of the one in hand, that first."""
        project, part = self._studio.project, self._shaping.part
        assert part is not None
        project.settle([part.id])
        return project.scene, shape_checks.face_of(project.scene, project.scene.part(part.id))

    def check(self) -> None:
        """Try the shapes of the part in hand; then, beside whatever else is done, in pairs."""
        studio = self._studio
        self._shaping.stop()
        scene, parts = self._face()

        def work(progress: Progress) -> tuple[Trial, list[ShapeFind]]:
            progress.report(0.0, "At rest")
            trial = Trial(scene, parts)
            return trial, trial.singly(progress)

        def land(found: tuple[Trial, list[ShapeFind]]) -> None:
            self._trial, self.finds = found
            # Pictures are drawn of what was tried, as long as that is no burden.
            self._seen = self._trial if self._trial.nbytes < HELD else None
            self.chosen, self.tried = -1, True
            self.changed.emit()
            studio.say(self.words())
            self._try_pairs(self._trial)

        studio.start("Checking the shapes", work, land, parts)

    def _try_pairs(self, trial: Trial) -> None:
        def land(found: list[ShapeFind]) -> None:
            if self._trial is not trial:
                # Checked again meanwhile.
                return
            chosen = self.find
            self.finds = sorted([*self.finds, *found], key=lambda one: -one.amount)
            self.chosen = (
                -1 if chosen is None else next(k for k, one in enumerate(self.finds) if one is chosen)
            )
            self._trial = None
            self.changed.emit()
            if found:
                studio.say(f"In pairs: {len(found)} more; the worst: {found[0].words}.")

        studio = self._studio
        # It rests on copies of the clay: nothing need be locked.
        studio.start("Trying shapes in pairs", trial.in_pairs, land)

    def words(self) -> str:
        """What was found, for the user."""
        if not self.tried:
            return "Not checked yet."
        if not self.finds:
            return "Nothing is wrong with the shapes."
        together = sum(len(one.shapes) > 1 and not isinstance(one, MomentFind) for one in self.finds)
        more = f", {together} of them only in pairs" if together else ""
        return f"{len(self.finds)} find{'s' if len(self.finds) != 1 else ''}{more}; the worst: {self.finds[0].words}."

    def choose(self, number: int) -> None:
        """Show a find: its shapes wholly there, its place in the middle of the picture."""
        self.chosen = number
        found = self.find
        if found is None:
            return
        held = shapes_of(self._studio.project.scene)
        if any(key not in held for key in found.shapes):
            self._studio.say("The shape is not there any more: check again.", "warning")
            return
        if found.shapes:
            self._shaping.choose(found.shapes[0])
        for key in found.shapes[1:]:
            self._shaping.choose(key, more=True)
        self._show(found)
        low, high = self._studio.project.scene.part(found.part_id).bounds()
        reach = AROUND * float(np.linalg.norm(high - low))
        self._desk.views.frame_box(found.place - reach, found.place + reach)
        self.changed.emit()

    def _show(self, found: ShapeFind) -> None:
        """Show the clay as it is where something was found."""
        moment = found.moment if isinstance(found, MomentFind) else None
        self._desk.rigging.stop()
        if moment is None:
            self._shaping.show_alone(found.shapes)
        elif moment.rig is None:
            self._shaping.show_at(moment.dials)
        else:
            self._shaping.stop()
            self._desk.rigging.show(moment.rig, moment.dials)

    # -- moment by moment -----------------------------------------------------------------------

    def try_way(self) -> None:
        """Try the chosen shape on its way, and show where and when it is worst."""
        part, one, scene = self._shaping.part, self._shaping.last, self._studio.project.scene
        assert part is not None
        assert one is not None
        try:
            moments = moments_of_shape(scene, one.id, part)
        except ShapeError as error:
            self._studio.say(str(error), "warning")
            return
        self._try(part, shape_checks.face_of(scene, part), moments, f"Trying {one.name}")

    def try_motion(self) -> None:
        """Try the body in hand through the chosen motion, and show where and when it is worst."""
        playing, scene = self._desk.playing, self._studio.project.scene
        playing.stop()
        body, motion = playing.part, playing.motion
        assert body is not None
        assert motion is not None
        moments = moments_of_motion(scene, body, motion)
        dialled = any(moment.dials for moment in moments)
        parts = shape_checks.face_of(scene, body) if dialled else [body]
        self._try(body, parts, moments, f"Trying {body.name}")

    def _try(self, body: Part, parts: Sequence[Part], moments: Sequence[Moment], name: str) -> None:
        studio = self._studio
        self._shaping.stop()
        self._desk.rigging.stop()
        studio.project.settle([part.id for part in parts])
        scene = studio.project.scene
        parts = [scene.part(part.id) for part in parts]
        body = scene.part(body.id)

        def work(progress: Progress) -> list[ShapeFind] | str:
            try:
                return Moments(scene, body, parts).tried(moments, progress)
            except ShapeError as error:
                return str(error)

        def land(found: list[ShapeFind] | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
                return
            self.finds, self.chosen, self.tried, self._trial, self._seen = found, -1, True, None, None
            studio.say(self.words() if found else f"{len(moments)} moments tried: nothing gives.")
            self.changed.emit()
            if found:
                # Clay that rests till this has landed cannot be shown otherwise before.
                studio.after(lambda: self.choose(0) if self.finds is found else None)

        studio.start(name, work, land, parts)

    # -- heat map -------------------------------------------------------------------------------

    @property
    def heated(self) -> bool:
        """Whether the clay is coloured by how its skin is stretched."""
        view = self._desk.view
        return bool(self._around) and bool(view.distances) and view.distance_legend is HEAT

    def heat(self) -> None:
        """Colour the face in hand by how its skin is stretched and squashed, whatever is dialled; the same again ends it."""
        if self.heated:
            self._around = {}
            self._desk.view.stop_compare()
            return
        studio = self._studio
        scene, parts = self._face()

        def land(found: dict[str, Around]) -> None:
            self._around = found
            self._show_heat()

        studio.start("At rest", lambda _: Moments(scene, parts[0], parts).at_rest(), land, parts)

    def _show_heat(self) -> None:
        shown = {
            part.id: stretch(self._around[part.id], part.mesh.positions)
            for part in self._studio.project.scene.parts
            if part.id in self._around and len(self._around[part.id].rest) == part.mesh.n_vertices
        }
        if shown:
            self._desk.view.show_distances(shown, 1.0, HEAT)

    def _heat_on(self) -> None:
        """What is dialled has changed: so have the colours, once for all that happens in a moment."""
        if self.heated and not self._heating.isActive():
            self._heating.start()

    # -- mending --------------------------------------------------------------------------------

    def _mend(self, mend: Callable[[ShapeFind], object]) -> None:
        found = self.find
        assert found is not None
        self._shaping.stop()
        try:
            mend(found)
        except ShapeError as error:
            self._studio.say(str(error), "warning")
            return
        # What was mended is no find any more; the next one takes its place.
        number = self.chosen
        self.finds = [one for one in self.finds if one is not found]
        self.chosen = -1
        if self.finds:
            self.choose(min(number, len(self.finds) - 1))
        self.changed.emit()

    def smooth(self) -> None:
        """Have the shape move what was found as smoothly as what lies around."""
        self._mend(lambda found: mending.smooth_find(self._studio.project, found))

    def take_away(self) -> None:
        """Have the shape leave what was found where it is."""
        self._mend(lambda found: mending.take_find_away(self._studio.project, found))

    def lift(self) -> None:
        """Have the shape bring what was found out of the clay that it goes through."""
        self._mend(lambda found: mending.lift_find(self._studio.project, found))

    def mean(self) -> None:
        """What was found is meant so."""
        self._mend(lambda found: mending.mean_find(self._studio.project, found))

    def none_meant(self) -> str:
        """Why nothing can be told of again."""
        if words := self._shaping.none():
            return str(words)
        meant = any(one.shape.meant for one in shapes_of(self._studio.project.scene).values())
        return "" if meant else "Everything is told of: nothing was said to be meant so."

    def tell_all(self) -> None:
        """Tell of everything again at the next check."""
        self._shaping.stop()
        held = shapes_of(self._studio.project.scene)
        mending.tell_all(self._studio.project, [key for key, one in held.items() if one.shape.meant])

    def mend_all(self) -> None:
        """Mend what can be mended by itself, of all shapes of the part in hand, in one step; and check again."""

        def mend(project: Project, found: dict[str, list[Mended]]) -> str:
            mending.mend_all(project, found)
            return counted(sum(map(len, found.values())), "shape")

        self._mend_many("Mending the shapes", Trial.mended, mend)

    def mend_pairs(self) -> None:
        """Correct what only goes wrong in pairs, as far as it can be mended by itself, in one step; and check again."""

        def found(trial: Trial, progress: Progress) -> list[PairMended]:
            trial.singly(progress)
            return trial.pairs_mended(progress)

        def mend(project: Project, some: list[PairMended]) -> str:
            return counted(mending.mend_pairs(project, some), "pair")

        self._mend_many("Mending pairs of shapes", found, mend)

    def _mend_many(
        self, name: str, find: Callable[[Trial, Progress], Found], mend: Callable[[Project, Found], str]
    ) -> None:
        """Find beside other work what mends shapes, and mend them; `mend` says how many."""
        studio = self._studio
        self._shaping.stop()
        scene, parts = self._face()

        def work(progress: Progress) -> Found:
            progress.report(0.0, "At rest")
            return find(Trial(scene, parts), progress)

        def land(found: Found) -> None:
            if not found:
                studio.say("Nothing can be mended by itself.")
                return
            studio.say(f"{mend(studio.project, found)} mended.")
            studio.after(self.check)

        studio.start(name, work, land, parts)

    def even(self) -> None:
        """Have the shape move what was found as its mirror image."""
        self._mend(lambda found: mending.even_find(self._studio.project, found))

    def correct(self) -> None:
        """Dial the shapes of the find and make a correction of them."""
        found = self.find
        assert found is not None
        if not isinstance(found, MomentFind):
            self._desk.shape_tools.dial_and_correct(found.shapes)
            return
        self._shaping.stop()
        self._desk.rigging.stop()
        moment = found.moment
        if moment.rig is not None:
            self._desk.rigging.keep(moment.rig, moment.words)
        else:
            project = self._studio.project
            self._shaping.attempt(lambda: dial(project, moment.dials, moment.words))
        self._studio.say(
            "It is kept as it is there: make a correction of the joint, or of the dials together."
        )


def counted(count: int, word: str) -> str:
    """So many of something, in words."""
    return f"{count} {word}{'s' if count != 1 else ''}"


class FindLayer:
    """Marks the chosen find over the picture."""

    def __init__(self, view: Canvas, desk: Desk) -> None:
        self._view, self._desk = view, desk

    def paint(self, painter: QPainter) -> None:
        """A dot on each of its vertices that is seen from here, and a ring around where it is worst."""
        checking, view = self._desk.shape_checking, self._view
        found = checking.find
        # Where one looks for finds; elsewhere the dots would lie over the work.
        if found is None or not self._desk.card_open("check_card"):
            return
        part = next((one for one in view.studio.project.scene.parts if one.id == found.part_id), None)
        if part is None or not part.visible or found.find.rows.max() >= part.mesh.n_vertices:
            return
        rows = found.find.rows
        places = part.transform.to_scene(part.mesh.positions[rows].astype(np.float64))
        at = view.camera.project(places, view.wide, view.high)[:, :2]
        colour = QColor(self._desk.theme.warning)
        painter.setPen(QPen(colour, 3.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawPoints([QPointF(x, y) for x, y in at.tolist()])
        worst = at[int(np.searchsorted(rows, found.find.worst))]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(view.label_colour, 3.5), QPen(colour, 1.6)):
            painter.setPen(pen)
            painter.drawEllipse(QPointF(*worst.tolist()), 12.0, 12.0)
