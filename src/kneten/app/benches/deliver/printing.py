"""Printing in the window: bodies made, hollowed, cut, checked, written."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.fields.quantities import number_text
from kneten.app.work import dialogs
from kneten.app.work.memory import short_of_memory
from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.printing.body import OneBody
from kneten.core.printing.hollow import Hollow
from kneten.core.printing.slices import Section, layer_heights
from kneten.core.printing.split import Halves, plane_through
from kneten.core.printing.walls import Thickened, overhanging, thickened, thickness
from kneten.core.solid_work import SolidError
from kneten.core.topology import MeshError
from kneten.document.guides import lines_of
from kneten.document.print_wish import PrintWish
from kneten.document.printing import (
    Checked,
    base_of,
    body_of,
    checks,
    drain_of,
    factor_of,
    halves_of,
    hollow_of,
    in_print,
    land_base,
    land_body,
    land_clay,
    land_drains,
    land_halves,
    lowest_places,
    own_lengths,
    thick_map,
)
from kneten.document.scene import Part
from kneten.formats.pieces import FormatError
from kneten.formats.print_set import write_print_set

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

FONT = Path(__file__).parents[3] / "data" / "fonts" / "Lato-Semibold.ttf"

PER_POINT = 18
"""Bytes that each point of a grid takes while clay is hollowed."""

WAYS: dict[str, tuple[str, str, tuple[float, float, float]]] = {
    "level": (
        "Level",
        "Square to up, through the part's pivot, or its middle where that was never moved",
        (0.0, 1.0, 0.0),
    ),
    "side": ("Left and right", "Upright from front to back, through the same", (1.0, 0.0, 0.0)),
    "front": ("Front and back", "Upright from side to side, through the same", (0.0, 0.0, 1.0)),
    "guide": (
        "The latest guide",
        "The plane nearest to the latest guide on the part that goes round",
        (0.0, 0.0, 0.0),
    ),
}
"""Where a part is cut: name, what it is, normal."""


class Printing(QObject):
    """Commands of printing.

    Attributes
    ----------
    found : list of Checked
        What the last check found; empty once the project has changed.
    layer : int
        The layer that is shown; the middle one as long as none was chosen.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.found: list[Checked] = []
        self._layer: int | None = None
        self._showing = ""
        self._studio.history_changed.connect(self._forget)
        self._studio.project_changed.connect(self._forget)

    def _forget(self, *_: object) -> None:
        self.found = []
        self.changed.emit()

    # -- what is asked for ------------------------------------------------------------------------------

    @property
    def wish(self) -> PrintWish:
        """What the print is to be."""
        return self._studio.project.settings.printing

    def change(self, **values: Any) -> None:
        """Ask for something else; what makes no sense is said and not taken."""
        wanted = replace(self.wish, **values)
        try:
            wanted.check()
        except ValueError as error:
            self._studio.refuse(error)
            return
        self._studio.project.change_settings(printing=wanted)
        self.found = []
        self.changed.emit()

    def parts(self) -> list[Part]:
        """What is printed: all that is visible."""
        return [part for part in self._studio.project.scene.parts if part.visible]

    def factor(self) -> float:
        """Millimetres of the print in each of the scene."""
        return factor_of(self.wish, self.parts())

    def _hand(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    # -- why not ----------------------------------------------------------------------------------------

    def none(self) -> str:
        """Why nothing can be printed."""
        parts = self.parts()
        if not parts:
            return "No part is visible."
        blocked = [words for part in parts if (words := self._busy(part))]
        return blocked[0] if blocked else ""

    def _busy(self, part: Part) -> str:
        if isinstance(part.mesh, LooseMesh):
            return f"{part.name} has live density: settle it first."
        return self._studio.move_blocked(part) if not part.locked else ""

    def no_hand(self) -> str:
        """Why the part in hand cannot be worked on."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        return self._studio.move_blocked(part) or self._busy(part)

    def no_solid(self) -> str:
        """Why the part in hand cannot be hollowed or cut."""
        if blocked := self.no_hand():
            return blocked
        part = self._hand()
        if part.mesh.topology.has_border:
            return f"{part.name} has open edges: make one body first."
        return ""

    def no_layers(self) -> str:
        """Why no layer can be shown."""
        return "" if self.found else "Check the print first: it lays the layers."

    # -- looking ----------------------------------------------------------------------------------------

    def check(self, then: Callable[[list[Checked]], object] | None = None) -> None:
        """Look through all that is visible."""
        project, wish = self._studio.project, self.wish
        scene = _held(project.scene, self.parts())

        def arrived(found: list[Checked]) -> None:
            self.found = found
            faults = [words for one in found for words in one.words(wish)]
            weight = sum(one.facts.weight for one in found)
            if then is not None:
                then(found)
            elif faults:
                self._studio.say("; ".join(faults[:3]) + ".", "warning")
            else:
                self._studio.say(f"Nothing stands against printing it: {number_text(weight, 4)} g.")
            self.changed.emit()

        self._studio.start("Check the print", lambda progress: checks(scene, wish, progress), arrived)

    def show_walls(self) -> None:
        """Colour the part in hand by the thickness of its walls; again ends it."""
        if self._end("walls"):
            return
        part = self._hand()
        copy, unit, asked = part.mesh.copy(), own_lengths(part, self.factor()), self.wish.thinnest

        def arrived(off: F32) -> None:
            self._showing = "walls"
            # Blue is thick, red thin: the scale's other end.
            shown = 1 - thick_map(off / unit, asked)
            words = ("Walls", f"{number_text(2 * asked)} mm", f"{number_text(asked)} mm", "0 mm")
            self._desk.view.show_distances({part.id: shown.astype(np.float32)}, asked, words)
            thin = float((off < asked * unit).mean())
            self._studio.say(
                f"{100 * thin:.1f} % of the vertices of {part.name} have walls thinner than {number_text(asked)} mm. The same again ends the map."
            )

        self._studio.work_on([part], "Measure walls", lambda progress: thickness(copy, progress), arrived)

    def show_overhangs(self) -> None:
        """Colour the part in hand where it needs supports; again ends it."""
        if self._end("overhangs"):
            return
        part = self._hand()
        copy, factor, angle = replace(part, mesh=part.mesh.copy()), self.factor(), self.wish.angle

        def work(progress: Progress) -> tuple[F32, float]:
            mesh = in_print(copy, factor)
            over = overhanging(mesh, angle)
            values = np.full(mesh.n_vertices, 0.5, np.float32)
            corners = mesh.topology.faces[over]
            values[corners[corners >= 0]] = 1.0
            return values, float(over.mean())

        def arrived(found: tuple[F32, float]) -> None:
            values, share = found
            self._showing = "overhangs"
            words = ("Overhangs", "", "holds itself", "needs supports")
            self._desk.view.show_distances({part.id: values}, 1.0, words)
            self._studio.say(
                f"{100 * share:.0f} % of the faces of {part.name} lean out more than {angle:g}°. The same again ends the map."
            )

        self._studio.work_on([part], "Overhangs", work, arrived)

    def _end(self, what: str) -> bool:
        """End a map that is shown; whether it was this one."""
        was, self._showing = self._showing, ""
        if self._desk.view.distances:
            self._desk.view.stop_compare()
            return was == what
        return False

    # -- layers -----------------------------------------------------------------------------------------

    @property
    def layer(self) -> int:
        """The layer that is shown."""
        count = len(self.heights())
        return count // 2 if self._layer is None else min(self._layer, max(count - 1, 0))

    def heights(self) -> F64:
        """The heights (k,) of layers, in millimetres of the print, as the last check found it; none without one."""
        if not self.found:
            return np.zeros(0)
        ends = [getattr(one.mesh.positions, end)(axis=0) for one in self.found for end in ("min", "max")]
        return layer_heights(np.array(ends), self.wish.layer)

    def sections(self) -> list[Section]:
        """What the shown layer has of each part."""
        heights = self.heights()
        return [one.layers.at(float(heights[self.layer])) for one in self.found] if len(heights) else []

    def plate(self) -> tuple[F64, F64]:
        """The box of all layers seen from above: lowest and highest corner, (2,) each, x and z."""
        ends = [getattr(one.mesh.positions, end)(axis=0) for one in self.found for end in ("min", "max")]
        rows = np.array(ends, np.float64)[:, [0, 2]]
        return rows.min(axis=0), rows.max(axis=0)

    def layer_up(self) -> None:
        """Show the next layer."""
        self.show_layer(self.layer + 1)

    def layer_down(self) -> None:
        """Show the layer beneath."""
        self.show_layer(self.layer - 1)

    def show_layer(self, number: int) -> None:
        """Show a layer, the first is 0."""
        self._layer = int(np.clip(number, 0, max(len(self.heights()) - 1, 0)))
        self.changed.emit()

    # -- made -------------------------------------------------------------------------------------------

    def one_body(self) -> None:
        """One closed body of all that is visible."""
        studio, parts = self._studio, self.parts()
        held = [replace(part, mesh=part.mesh.copy()) for part in parts]

        def arrived(made: OneBody) -> None:
            body = land_body(studio.project, parts, made.mesh)
            if made.exact:
                studio.say(f"{body.name} is the exact union of {len(parts)} parts; they are hidden.")
            else:
                why = "; ".join(made.why[:3])
                studio.say(
                    f"{body.name} was made by volume, since {why}. The parts are hidden: look whether fine detail is still there.",
                    "warning",
                )

        studio.work_on(
            parts,
            "One body",
            self._said(lambda progress: body_of(held, 0.0, progress)),
            self._landing(arrived),
        )

    def thicken(self) -> None:
        """Thicken what is too thin of the part in hand."""
        studio, part = self._studio, self._hand()
        copy, unit, asked = part.mesh.copy(), own_lengths(part, self.factor()), self.wish.thinnest

        def arrived(made: Thickened) -> None:
            studio.project.move_vertices(part.id, made.positions, "Thicken thin walls")
            rest = f"; {100 * made.thin:.2f} % of its surface is still thinner" if made.thin > 0.001 else ""
            studio.say(
                f"{part.name} was moved by {number_text(made.most / unit)} mm at most{rest}.",
                "warning" if rest else "info",
            )

        work = self._said(lambda progress: thickened(copy, asked * unit, progress))
        studio.work_on([part], "Thicken thin walls", work, self._landing(arrived))

    def hollow(self) -> None:
        """Make the part in hand hollow."""
        studio, part, wish, factor = self._studio, self._hand(), self.wish, self.factor()
        sides = np.ptp(part.mesh.positions, axis=0)
        points = float(np.prod(sides / sides.max() * wish.fine + 6))
        if short := short_of_memory("Hollowing", int(points * PER_POINT)):
            studio.say(short, "warning")
            return
        copy = replace(part, mesh=part.mesh.copy())
        unit = own_lengths(part, factor)

        def arrived(made: Hollow) -> None:
            land_clay(studio.project, part, made.body, "Hollow out")
            studio.say(
                f"{part.name} is hollow: {100 * made.saved:.0f} % of its volume is gone, walls are {number_text(made.least / unit)} mm at least. "
                f"{len(made.cavities)} hollow{'s' if len(made.cavities) > 1 else ''} to be drained."
            )

        work = self._said(lambda progress: hollow_of(copy, wish, factor, progress))
        studio.work_on([part], "Hollow out", work, self._landing(arrived), "drops")

    def drain_lowest(self) -> None:
        """Drill a hole under each hollow."""
        wish, factor = self.wish, self.factor()
        self._drill(lambda part: lowest_places(part, wish, factor))

    def drain(self, places: list[tuple[F64, F64]]) -> None:
        """Drill holes into the part in hand at places of its own space, each with the way in (3,)."""
        self._drill(lambda _: places)

    def _drill(self, places: Callable[[Part], list[tuple[F64, F64]]]) -> None:
        studio, part, wish, factor = self._studio, self._hand(), self.wish, self.factor()
        copy = replace(part, mesh=part.mesh.copy())

        def arrived(made: tuple[Mesh, list[Mesh]]) -> None:
            land_drains(studio.project, part, *made)
            studio.say(
                f"{len(made[1])} hole{'s' if len(made[1]) > 1 else ''} of {number_text(2 * wish.drain)} mm; the plugs stand in them as parts of their own."
            )

        work = self._said(lambda progress: drain_of(copy, places(copy), wish, factor, progress))
        studio.work_on([part], "Drain", work, self._landing(arrived), "drops")

    def cut(self) -> None:
        """Cut the part in hand in two."""
        studio, part, wish, factor = self._studio, self._hand(), self.wish, self.factor()
        try:
            place, normal = self._plane(part, self._desk.print_parts_card.way())
        except MeshError as error:
            studio.refuse(error)
            return
        copy = replace(part, mesh=part.mesh.copy())

        def arrived(made: Halves) -> None:
            land_halves(studio.project, part, made)
            if made.pegs < wish.pegs.count:
                studio.say(f"There was room for {made.pegs} of {wish.pegs.count} pegs.", "warning")
            else:
                studio.say(f"Cut apart, with {made.pegs} pegs.")

        work = self._said(lambda progress: halves_of(copy, place, normal, wish, factor, progress))
        studio.work_on([part], "Cut apart", work, self._landing(arrived), "drops")

    def _plane(self, part: Part, way: str) -> tuple[AnyArray, AnyArray]:
        """A plane of the scene: a place (3,) and the normal (3,). Raises `MeshError`."""
        if way != "guide":
            middle = part.transform.to_scene(np.mean(part.mesh.bounds(), axis=0)[None])[0]
            return part.pivot_place() if any(part.pivot) else middle, np.array(WAYS[way][2])
        lines = lines_of(self._studio.project.scene, part)
        if not lines:
            raise MeshError(f"{part.name} has no guide: draw one round it with the guide pen")
        return plane_through(part.transform.to_scene(np.asarray(lines[-1][1], np.float64)))

    def base(self) -> None:
        """Put a base under all that is visible."""
        studio, parts, wish, factor = self._studio, self.parts(), self.wish, self.factor()
        held = [replace(part, mesh=part.mesh.copy()) for part in parts]

        def arrived(mesh: Mesh) -> None:
            if wish.sizing == "height":
                # Higher by the base, it would be made smaller: what was said of lengths holds as it is.
                self.change(sizing="ratio", ratio=1.0 / factor)
                studio.say(
                    f"The size stays as it is, 1 : {number_text(1 / factor)}, and is no longer told by the height."
                )
            made = land_base(studio.project, mesh)
            low = float(np.ptp(mesh.positions[:, 1])) * factor
            studio.say(
                f"{made.name} is {number_text(low)} mm high; what stands on it reaches a little into it."
            )

        work = self._said(lambda progress: base_of(held, wish, factor, FONT, progress))
        studio.work_on(parts, "Base", work, self._landing(arrived))

    def write_set(self) -> None:
        """Check all, and write a set to a folder."""
        folder = dialogs.ask_folder(self._desk, "Write the print set into", str(Path.home()))
        if folder is not None:
            self.write_to(folder)

    def write_to(self, folder: Path) -> None:
        """Check all, and write a set to a folder."""
        studio, wish = self._studio, self.wish
        scene, name = _held(studio.project.scene, self.parts()), studio.project.title
        picture = studio.picture(960, 600)

        def work(progress: Progress) -> Any:
            bodies = checks(scene, wish, progress)
            shown = picture()
            try:
                return write_print_set(folder, name, bodies, wish, progress, {"": shown} if shown else None)
            except FormatError as error:
                return str(error)

        def written(made: Any) -> None:
            if isinstance(made, str):
                studio.refuse(made)
            elif made.faults:
                studio.say(
                    f"{len(made.files)} files written to {folder}. To be mended: {'; '.join(made.faults[:2])}.",
                    "warning",
                )
            else:
                studio.say(
                    f"{len(made.files)} files written to {folder}: {made.numbers['weight_g']:g} g, {made.numbers['layers']:,} layers."
                )

        studio.start("Print set", work, written)

    # -- what goes wrong is said ------------------------------------------------------------------------

    def _said(self, work: Callable[[Progress], Any]) -> Callable[[Progress], Any]:
        """Work whose refusals become words."""

        def run(progress: Progress) -> Any:
            try:
                return work(progress)
            except (MeshError, SolidError) as error:
                return str(error)

        return run

    def _landing(self, land: Callable[[Any], object]) -> Callable[[Any], object]:
        """What becomes of work, or of the words that refused it."""

        def arrived(made: Any) -> None:
            if isinstance(made, str):
                self._studio.refuse(made)
            else:
                land(made)

        return arrived


def _held(scene: Any, parts: list[Part]) -> Any:
    """The scene with clay that later strokes do not reach."""
    return replace(scene, parts=tuple(replace(part, mesh=part.mesh.copy()) for part in parts), milestones=())
