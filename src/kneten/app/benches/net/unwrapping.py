"""UVs in the window: seams cut, islands laid and packed, chosen and changed, shown on the clay."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.fields.quantities import count_text
from kneten.core.arrays import F32, U8, AnyArray, Progress
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.uv.edit import about_middle, changed, evened, rotation, squared_up, stood, straightened
from kneten.core.uv.islands import Islands, islands_of_uv
from kneten.core.uv.measure import measured, overlapping, texels_per_mm
from kneten.core.uv.seams import region_borders, sharp
from kneten.document.scene import Part
from kneten.document.unwrapping import (
    Cage,
    Laid,
    cage_of,
    is_laid,
    laid_flat,
    land,
    packed_anew,
    put_seams,
    put_uv,
    seams_of,
)
from kneten.render.laid import Sheets

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

MOST = 200_000
"""Faces of the lowest level up to which a part is unwrapped: what is denser wants clean quads first."""

SHOWN = {
    "checker": "Squares: alike everywhere where nothing is stretched, upright where the picture is",
    "stretch": "Blue is larger on the picture than in the mean, red smaller",
    "overlap": "Marked faces lie over others, or are turned over",
    "density": "Texels a millimetre: the darker the fewer",
}

SQUARES = 32
"""Of the checker, across a tile."""


@dataclass(frozen=True, eq=False)
class Shown:
    """What is known of the UVs of the part in hand.

    Attributes
    ----------
    part_id : str
    cage : Cage
    islands : Islands
    """

    part_id: str
    cage: Cage
    islands: Islands

    @property
    def uv(self) -> F32:
        """Those of the cage, (f, 8)."""
        assert self.cage.mesh.uv is not None
        return self.cage.mesh.uv


class Unwrapping(QObject):
    """Commands of seams and UVs.

    Attributes
    ----------
    chosen : set of int
        Faces of the cage, one of each island that is chosen.
    showing : str
        Of `SHOWN`; "" for the clay as it is.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.chosen: set[int] = set()
        self.showing = ""
        self._known: tuple[object, Shown | None] = ((), None)
        self._seams: tuple[object, tuple[Cage, AnyArray] | None] = ((), None)
        self._tints: tuple[object, U8] = ((), np.empty((0, 4), np.uint8))
        self._sheets: tuple[object, dict[str, Sheets]] = ((), {})
        for signal in (self._studio.history_changed, self._studio.scene_changed):
            signal.connect(self._follow)
        self._studio.project_changed.connect(self._forget)

    def _forget(self) -> None:
        self.chosen, self.showing = set(), ""
        self._follow()

    def _follow(self, *_: object) -> None:
        shown = self.shown()
        if shown is None:
            self.chosen = set()
        else:
            self.chosen = {face for face in self.chosen if face < len(shown.islands.of_face)}
        self._show()
        self.changed.emit()

    # -- what there is -----------------------------------------------------------------------------

    def _key(self, part: Part) -> object:
        return (
            part.id,
            part.mesh_id,
            part.mesh.topology.uid,
            id(part.mesh),
            self._studio.project.history.serial,
        )

    def shown(self) -> Shown | None:
        """The UVs of the part in hand; None where it has none."""
        part = self._studio.project.active
        if part is None or isinstance(part.mesh, LooseMesh) or not is_laid(part):
            return None
        if self._known[0] != self._key(part):
            cage = cage_of(part)
            self._known = (self._key(part), Shown(part.id, cage, islands_of_uv(cage.mesh, cage.edges)))
        return self._known[1]

    def seam_lines(self, part: Part) -> tuple[Cage, AnyArray] | None:
        """A part's cage, and which of its edges are seams or cut by UVs, (m,) bool; None where it has neither."""
        if isinstance(part.mesh, LooseMesh) or part.mesh.seams is None:
            return None
        if self._seams[0] != self._key(part):
            cage = cage_of(part)
            self._seams = (self._key(part), (cage, seams_of(cage)))
        return self._seams[1]

    def rows(self, shown: Shown) -> AnyArray:
        """The faces of the islands that are chosen, (k,)."""
        numbers = {int(shown.islands.of_face[face]) for face in self.chosen}
        return np.flatnonzero(np.isin(shown.islands.of_face, list(numbers)))

    def choose(self, faces: Iterable[int]) -> None:
        """Choose the islands of some faces of the cage."""
        self.chosen = set(faces)
        self.changed.emit()

    def choose_all(self) -> None:
        """Choose all islands; the same again none."""
        shown = self.shown()
        assert shown is not None
        first = {int(rows[0]) for rows in shown.islands.members()}
        self.choose(set() if len(self.chosen) >= len(first) else first)

    # -- why not ---------------------------------------------------------------------------------------

    def none(self) -> str:
        """Why nothing can be laid flat."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if blocked := self._studio.move_blocked(part):
            return blocked
        faces = part.mesh.topology.n_faces if part.stack is None else part.stack.levels[0].topology.n_faces
        if faces > MOST:
            return (
                f"{part.name} has {count_text(faces)} faces on its lowest level; up to {count_text(MOST)} are "
                "unwrapped. Retopologise it, or rebuild its levels, first."
            )
        return ""

    def no_uv(self) -> str:
        """Why no UVs can be changed."""
        if blocked := self.none():
            return blocked
        part = self._studio.project.active
        assert part is not None
        return "" if is_laid(part) else f"{part.name} has no UVs yet: unwrap it first."

    def no_island(self) -> str:
        """Why no island can be changed."""
        if blocked := self.no_uv():
            return blocked
        return "" if self.chosen else "No island is chosen: press one in the UV pane, or choose all."

    def no_seams(self) -> str:
        """Why no seams can be taken away."""
        part = self._studio.project.active
        if blocked := self.none():
            return blocked
        assert part is not None
        return "" if part.mesh.seams is not None else f"{part.name} has no seams."

    def no_regions(self) -> str:
        """Why there are no borders."""
        part = self._studio.project.active
        if blocked := self.none():
            return blocked
        assert part is not None
        return "" if part.mesh.regions is not None else f"{part.name} has no regions."

    # -- seams -------------------------------------------------------------------------------------------

    def _hand(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    def add_borders(self) -> None:
        """Cut along the borders of regions."""
        self._more_seams(lambda cage: region_borders(cage.mesh, cage.edges), "Seams at borders")

    def add_sharp(self) -> None:
        """Cut along sharp edges."""
        angle = self._desk.uv_card.angle.value()
        self._more_seams(lambda cage: sharp(cage.mesh, cage.edges, angle), "Seams at sharp edges")

    def _more_seams(self, found: Callable[[Cage], AnyArray], name: str) -> None:
        part = self._hand()
        cage = cage_of(part)
        now = seams_of(cage)
        more = found(cage) & ~now
        if not more.any():
            self._studio.say(f"{part.name} has none that are no seams already.")
            return
        put_seams(self._studio.project, part, cage, now | more, name)
        self._studio.say(f"{count_text(int(more.sum()))} edges became seams.")

    def clear_seams(self) -> None:
        """Take all seams away."""
        part = self._hand()
        self._studio.project.set_values(part.id, "seams", None, "No seams")

    # -- laid --------------------------------------------------------------------------------------------

    def unwrap(self) -> None:
        """Lay the part flat along its seams."""
        self.make(None)

    def unwrap_found(self) -> None:
        """Look for seams, and lay the part flat along them."""
        self.make(self._desk.uv_card.allowed())

    def make(self, allowed: float | None) -> None:
        """Unwrap and pack the part in hand."""
        part, studio = self._hand(), self._studio
        cage, wish = cage_of(part), self._desk.uv_card.wish()

        def work(progress: Progress) -> Laid:
            return laid_flat(cage, wish, allowed, progress)

        def arrived(made: Laid) -> None:
            now = studio.project.scene.part(part.id)
            land(studio.project, now, cage, made, f"Unwrap {part.name}")
            self._tell(now, cage.with_uv(made.uv), made)

        studio.work_on([part], "Unwrap", work, arrived)

    def _tell(self, part: Part, mesh: Mesh, made: Laid) -> None:
        islands = islands_of_uv(mesh).count
        size, skew = measured(mesh).stretch()
        text = (
            f"{part.name}: {count_text(islands)} island{'' if islands == 1 else 's'}, lengths off by {100 * (size - 1):.0f} % "
            f"in the mean, angles by {100 * (skew - 1):.0f} %."
        )
        if made.added:
            text += f" {count_text(made.added)} had to be opened further: see the seams."
        over = int((overlapping(mesh, leave=made.stacked)).sum())
        if over or made.turned:
            studio_text = f"{count_text(max(over, made.turned))} faces lie over others or turned over: Overlaps shows them."
            self._studio.say(f"{text} {studio_text}", "warning")
        else:
            self._studio.say(text)

    def pack(self) -> None:
        """Lay the islands side by side anew."""
        part, studio = self._hand(), self._studio
        cage, wish = cage_of(part), self._desk.uv_card.wish()

        def arrived(uv: F32) -> None:
            put_uv(studio.project, studio.project.scene.part(part.id), cage, uv, f"Pack {part.name}")

        studio.work_on([part], "Pack", lambda progress: packed_anew(cage, wish, progress), arrived)

    def drop(self) -> None:
        """Take the UVs away."""
        self._studio.project.set_values(self._hand().id, "uv", None, "No UVs")

    # -- islands ----------------------------------------------------------------------------------------

    def _change(self, name: str, change: Callable[[Shown, F32, AnyArray], F32]) -> None:
        """Change each chosen island by itself: one step."""
        shown = self.shown()
        assert shown is not None
        uv = shown.uv
        for number in sorted({int(shown.islands.of_face[face]) for face in self.chosen}):
            uv = change(shown, uv, np.flatnonzero(shown.islands.of_face == number))
        put_uv(self._studio.project, self._hand(), shown.cage, uv, name)

    def turn(self) -> None:
        """Turn the chosen islands by the card's angle."""
        turn = about_middle(rotation(self._desk.uv_card.turn.value()))
        self._change("Turn islands", lambda shown, uv, rows: changed(uv, rows, shown.islands.faces, turn))

    def size(self) -> None:
        """Make the chosen islands larger or smaller by the card's share."""
        factor = self._desk.uv_card.grow.value() / 100
        grow = about_middle(np.eye(2) * factor)
        self._change("Size islands", lambda shown, uv, rows: changed(uv, rows, shown.islands.faces, grow))

    def mirror(self) -> None:
        """Turn the chosen islands over, left to right."""
        over = about_middle(np.diag([-1.0, 1.0]))
        self._change("Mirror islands", lambda shown, uv, rows: changed(uv, rows, shown.islands.faces, over))

    def straighten(self) -> None:
        """Lay the chosen islands as rectangles."""
        self._change(
            "Straighten islands",
            lambda shown, uv, rows: straightened(shown.cage.mesh, shown.islands, uv, rows),
        )

    def square_up(self) -> None:
        """Turn the chosen islands so that they take the least room."""
        self._change("Align islands", lambda shown, uv, rows: squared_up(shown.cage.mesh, uv, rows))

    def stand(self) -> None:
        """Turn the chosen islands so that up on the clay is up."""
        self._change("Stand islands up", lambda shown, uv, rows: stood(shown.cage.mesh, uv, rows))

    def even(self) -> None:
        """Let all islands be as large as their clay."""
        shown = self.shown()
        assert shown is not None
        uv = evened(shown.cage.mesh, shown.islands, shown.uv)
        put_uv(self._studio.project, self._hand(), shown.cage, uv, "Even sizes")

    def next_tile(self) -> None:
        """Move the chosen islands to the next tile."""
        self.move(np.array([1.0, 0.0]), "Next tile")

    def move(self, way: AnyArray, name: str = "Move islands") -> None:
        """Move the chosen islands by a way (2,)."""
        self._change(
            name, lambda shown, uv, rows: changed(uv, rows, shown.islands.faces, lambda at: at + way)
        )

    # -- shown on the clay ---------------------------------------------------------------------------------

    def show(self, what: str) -> None:
        """Show the UVs of the part in hand on it; the same again ends it."""
        self.showing = "" if self.showing == what else what
        self._show()
        if self.showing:
            self._studio.say(f"{SHOWN[what]}. The same again ends it.")
        self.changed.emit()

    def tints(self, shown: Shown) -> U8:
        """A colour for each face of the cage, and how much of it, (f, 4)."""
        key = (id(shown), self.showing)
        if self._tints[0] != key:
            self._tints = (key, _tints_of(shown.cage.mesh, self.showing))
        return self._tints[1]

    def _show(self) -> None:
        view, shown = self._desk.view, self.shown()
        if not self.showing or shown is None:
            view.show_laid({})
            return
        key = (id(shown), self.showing)
        if self._sheets[0] != key:
            if self.showing == "checker":
                sheets = Sheets(squares=SQUARES)
            else:
                sheets = Sheets(tints=self.tints(shown)[shown.cage.owners()])
            self._sheets = (key, {shown.part_id: sheets})
        view.show_laid(self._sheets[1])

    def words(self) -> str:
        """What the UVs of the part in hand are like, in a line."""
        shown = self.shown()
        if shown is None:
            return ""
        laid = measured(shown.cage.mesh)
        size, _ = laid.stretch()
        texels = texels_per_mm(laid, self._desk.uv_card.wish().size) / self._hand().transform.scale
        chosen = f", {len(self.chosen)} chosen" if self.chosen else ""
        return (
            f"{count_text(shown.islands.count)} island{'' if shown.islands.count == 1 else 's'}{chosen}; "
            f"lengths off by {100 * (size - 1):.0f} %; {texels:.2g} texels a mm"
        )


LARGER, SMALLER, WRONG, FINE = (58, 110, 180), (196, 86, 60), (200, 40, 60), (150, 160, 150)
"""Colours of faces that are larger than in the mean, smaller, wrong; and of those with most texels."""


def _tints_of(mesh: Mesh, showing: str) -> U8:
    faces = mesh.topology.n_faces
    out = np.zeros((faces, 4), np.uint8)
    if showing in ("", "checker"):
        return out
    laid = measured(mesh)
    if showing == "stretch":
        off = np.log2(np.maximum(laid.size, 1e-6))
        strong = np.clip(np.abs(off) + 0.5 * np.log2(np.maximum(laid.skew, 1)), 0, 1)
        out[:, :3] = np.where((off > 0)[:, None], LARGER, SMALLER)
        out[:, 3] = np.rint(230 * strong)
    elif showing == "overlap":
        out[:, :3] = WRONG
        out[overlapping(mesh) | laid.turned, 3] = 220
    else:
        share = np.clip(0.5 + 0.5 * np.log2(np.maximum(laid.size, 1e-6)), 0, 1)
        out[:, :3] = np.rint(
            np.array([40, 52, 78]) + share[:, None] * (np.array([236, 226, 190]) - [40, 52, 78])
        )
        out[:, 3] = 225
    out[~laid.there, 3] = 0
    return out
