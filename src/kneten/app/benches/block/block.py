"""Commands of blocking: live parts, copies, mirrors, arrays, joining, groups, pivots, measures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.block.armature_mode import ArmatureMode
from kneten.app.benches.block.cut_mode import PURPOSES, SHAPES, CutMode
from kneten.app.benches.block.live_mode import LiveMode
from kneten.app.benches.block.place_modes import MirrorMode, PivotMode, SettleMode
from kneten.app.benches.block.strand_mode import KnotMode, StrandMode
from kneten.app.work.commands import Command
from kneten.app.work.dialogs import passing
from kneten.core.arrays import F64, Progress
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import BODIES
from kneten.core.live.clay import RecipeError
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.mesh import Mesh
from kneten.core.seam import SeamError
from kneten.core.transform import Transform
from kneten.document import blocking, placing, rows
from kneten.document.laying import maker
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

NAMES = {
    "sphere": "Sphere",
    "box": "Box",
    "cylinder": "Cylinder",
    "tube": "Tube",
    "cone": "Cone",
    "capsule": "Capsule",
    "torus": "Torus",
    "disc": "Disc",
    "plane": "Plane",
    "eye": "Eye",
}


class Block:
    """What is done to whole parts."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    @property
    def _project(self):  # type: ignore[no-untyped-def]
        return self._studio.project

    @property
    def _chosen(self) -> tuple[Part, ...]:
        return self._studio.project.chosen

    # -- why not --------------------------------------------------------------------------------

    def none(self) -> str:
        """Why nothing can be done to the chosen parts."""
        if not self._chosen:
            return "There is no part in hand."
        return next((why for p in self._chosen if (why := self._studio.move_blocked(p))), "")

    def not_live(self) -> str:
        """Why there is nothing to bake."""
        if not any(p.recipe is not None for p in self._chosen):
            return "The part in hand is clay already."
        return self.none()

    def no_recipe(self) -> str:
        """Why the part in hand cannot be begun again."""
        part = self._project.active
        if part is None or part.was is None:
            return "The part in hand was not baked from a live part."
        return ""

    def unless(self, kind: type, words: str) -> Callable[[], str]:
        """Why the part in hand is not of a kind."""
        return lambda: "" if self._is(kind) else words

    def _is(self, kind: type) -> bool:
        part = self._project.active
        return part is not None and isinstance(part.recipe, kind)

    def not_linked(self) -> str:
        """Why there is nothing to unlink."""
        if not any(self._project.scene.linked(p) for p in self._chosen):
            return "The part in hand shares its clay with no other."
        return ""

    def no_mask(self) -> str:
        """Why there is no unmasked clay to move by itself."""
        part = self._project.active
        if part is None or part.mesh.mask is None or not part.mesh.mask.any():
            return "Nothing of the part in hand is masked."
        return ""

    def not_grouped(self) -> str:
        """Why the chosen parts cannot leave their group."""
        return self.none() or (
            "" if any(p.group for p in self._chosen) else "The chosen parts are in no group."
        )

    # -- live parts -----------------------------------------------------------------------------

    def _measured(self) -> tuple[F64, F64] | None:
        """The box of the part in hand, or of all that is seen; None where there is nothing."""
        part = self._project.active
        if part is not None and part.visible:
            return part.bounds()
        return self._project.scene.bounds() if any(p.visible for p in self._project.scene.parts) else None

    def _beside(self, size: float) -> Transform:
        """A place for a new part: beside the part in hand, where it is seen whole; to the right if it can be."""
        box = self._measured()
        if box is None:
            return Transform()
        middle, half = (box[0] + box[1]) / 2, (box[1] - box[0]) / 2
        right, _, back = self._desk.view.camera.axes()
        ways = [way for axis in np.eye(3) for way in (axis, -axis) if abs(float(way @ back)) < 0.8]
        ways.sort(key=lambda way: -float(way @ right))
        places = [middle + way * (float(half @ np.abs(way)) + size * 0.6) for way in ways]
        place = next((at for at in places if self._seen_whole(at, size)), places[0])
        x, y, z = (float(v) for v in place)
        return Transform((x, y, z))

    def _seen_whole(self, middle: F64, size: float) -> bool:
        """Whether a body of a size around a place lies within the picture."""
        view = self._desk.view
        x, y = view.camera.project(middle[None], view.wide, view.high)[0, :2]
        far = size * 0.55 / view.camera.pixel_size(middle, view.high)
        return bool(far <= x <= view.wide - far and far <= y <= view.high - far)

    def _usual_size(self) -> float:
        """A third of the part in hand, or of what is there; or 100 mm."""
        box = self._measured()
        if box is None:
            return 100.0
        return float(np.clip(round(float((box[1] - box[0]).max()) / 3, 1), 0.5, 10_000))

    def add_primitive(self, shape: str) -> None:
        """A live primitive beside what is there."""
        size = self._usual_size()
        sizes = {
            "torus": (size, size * 0.3, size),
            "cylinder": (size * 0.6, size, size * 0.6),
            "cone": (size * 0.7, size, size * 0.7),
            "capsule": (size * 0.5, size, size * 0.5),
            "tube": (size * 0.7, size * 0.6, size * 0.7),
            "eye": (size * 0.4, size * 0.4, size * 0.4),
        }.get(shape, (size, size, size))
        divisions = {"eye": (48, 40, 1), "torus": (64, 24, 1), "box": (16, 16, 16), "plane": (24, 24, 24)}
        inner = {"cone": 0.0, "torus": 0.45, "tube": 0.7}.get(shape, 0.5)
        recipe = Primitive(shape, sizes, divisions.get(shape, (40, 24, 24)), inner)
        self._add(NAMES[shape], recipe, self._beside(size))

    def add_lathe(self) -> None:
        """A live lathe beside what is there."""
        size = self._usual_size() / 100
        points = tuple(replace(p, radius=p.radius * size, height=p.height * size) for p in Lathe().points)
        self._add("Lathe", Lathe(points), self._beside(size * 100))

    def add_armature(self, key: str = "") -> None:
        """An armature: one ball, or a body of the library; the view then works on its balls."""
        if key:
            name, make = BODIES[key]
            self._add(name, make(), Transform(), lambda part: self.edit_armature())
            return
        size = self._usual_size() / 2
        recipe = Armature((replace(Armature().joints[0], radius=size * 0.4),), edge=max(size / 14, 0.5))
        here = Transform() if not self._project.scene.parts else self._beside(size)
        self._add("Armature", recipe, here, lambda part: self.edit_armature())

    def _add(
        self, name: str, recipe: OnItsOwn, place: Transform, then: Callable[[Part], object] | None = None
    ) -> None:
        def added(part: Part) -> None:
            low, high = part.bounds()
            if not self._seen_whole((low + high) / 2, float((high - low).max())):
                self._desk.views.frame_all()
            self._desk.view.refresh()
            if then is not None:
                then(part)

        self._desk.view.take_mode(None)
        self._desk.view.recasting.add(name, recipe, place, added)

    def edit_armature(self) -> None:
        """Work on the balls of the armature in hand; without one, of a new one."""
        if not self._is(Armature):
            self.add_armature()
            return
        self._desk.view.toggle_mode(ArmatureMode(self._desk.view))

    def not_shaped(self) -> str:
        """Why the part in hand has no grips."""
        part = self._project.active
        if part is None or not isinstance(part.recipe, Primitive | Lathe):
            return "The part in hand is no live body; add one first."
        return ""

    def edit_shape(self) -> None:
        """Work on the grips of the live body in hand."""
        self._desk.view.toggle_mode(LiveMode(self._desk.view))

    def edit_strand(self) -> None:
        """Work on the points of the strand in hand."""
        self._desk.view.toggle_mode(KnotMode(self._desk.view))

    def draw_strand(self, way: str) -> None:
        """Draw strands."""
        self._desk.view.toggle_mode(StrandMode(self._desk.view, way))

    def cut(self, what: str, shape: str) -> None:
        """Draw an outline of a shape: to cut the part in hand by it, or to mask, hide or make a region of what lies within."""
        self._desk.view.toggle_mode(CutMode(self._desk.view, what, shape))

    def outline_commands(
        self, make: Callable[..., Command], what: str, keys: dict[str, str], blocked: Callable[[], str]
    ) -> list[Command]:
        """The commands that draw outlines for a purpose, one for each shape; some have shortcuts, by `keys`."""
        purpose = PURPOSES[what]
        return [
            make(
                purpose.command.format(shape),
                purpose.name.format(shape),
                purpose.does,
                lambda shape=shape: self.cut(what, shape),
                keys.get(shape, ""),
                blocked,
            )
            for shape in SHAPES
        ]

    def cut_square(self) -> None:
        """Have cuts run square to the picture, or from the eye."""
        preferences = self._studio.preferences
        preferences.cuts_square = not preferences.cuts_square
        mode = self._desk.view.mode
        if isinstance(mode, CutMode):
            self._desk.view.take_mode(CutMode(self._desk.view, mode.what, mode.shape))

    def pivot(self) -> None:
        """Put the pivot somewhere."""
        self._desk.view.toggle_mode(PivotMode(self._desk.view))

    def settle_onto(self) -> None:
        """Stand the part in hand on a surface."""
        self._desk.view.toggle_mode(SettleMode(self._desk.view))

    def bake(self) -> None:
        """Make clay of the chosen live parts."""
        self._desk.view.take_mode(None)
        blocking.bake(self._project, self._chosen)

    def begin_again(self) -> None:
        """A live part from what the clay in hand was baked from."""
        part = self._project.active
        if part is None or part.was is None:
            return
        try:
            make = maker(self._project.scene, part.was)
        except RecipeError as error:
            self._studio.say(f"It cannot be begun again: {error}.", "warning")
            return

        def land(mesh: Mesh) -> None:
            blocking.begin_again(self._project, part, mesh)

        self._studio.start("Begin again", make, land)

    # -- copies ---------------------------------------------------------------------------------

    def copy(self, linked: bool = False) -> None:
        """Copies beside the chosen parts."""
        low = np.min([p.bounds()[0] for p in self._chosen], axis=0)
        high = np.max([p.bounds()[1] for p in self._chosen], axis=0)
        blocking.copy(self._project, self._chosen, linked, np.array([float(high[0] - low[0]) * 1.1, 0, 0]))

    def _plane(self, kind: str) -> tuple[F64, F64]:
        """A point and the normal of a plane: world-x, -y, -z, or the part's own x through its pivot."""
        if kind == "own":
            part = self._project.active
            assert part is not None
            return part.pivot_place(), part.transform.axes()[:, 0]
        return np.zeros(3), np.eye(3)["xyz".index(kind)]

    def mirror(self, kind: str = "x", linked: bool = False) -> None:
        """Mirrored copies of the chosen parts."""
        blocking.mirror(self._project, self._chosen, *self._plane(kind), linked)

    def make_whole(self, kind: str = "x") -> None:
        """The half in hand made whole, welded along a plane."""
        part = self._project.active
        if part is None:
            return
        try:
            blocking.make_whole(self._project, part, *self._plane(kind))
        except SeamError as error:
            self._studio.say(f"{part.name} was not welded: {error}.", "warning")

    def mirror_line(self) -> None:
        """Mirror across a plane drawn as a line."""
        self._desk.view.toggle_mode(MirrorMode(self._desk.view))

    def flip(self, kind: str = "x") -> None:
        """The chosen parts mirrored themselves."""
        if kind == "own":
            blocking.flip(self._project, self._chosen, *self._plane(kind))
            return
        # Where they stand, not to the other side of the world.
        low = np.min([p.bounds()[0] for p in self._chosen], axis=0)
        high = np.max([p.bounds()[1] for p in self._chosen], axis=0)
        blocking.flip(self._project, self._chosen, (low + high) / 2, self._plane(kind)[1])

    def unlink(self) -> None:
        """Give the chosen linked copies clay of their own."""
        blocking.unlink(self._project, self._chosen)

    def array(self) -> None:
        """Ask for an array and make it."""
        from kneten.app.benches.block.dialogs import ArrayDialog

        paths = rows.courses(self._project.scene, [part.id for part in self._chosen])
        chosen = sorted(self._chosen, key=lambda part: part is not self._project.active)
        with passing(ArrayDialog(self._desk, chosen, paths)) as dialog:
            if dialog.exec():
                dialog.make(self._project)

    # -- place ----------------------------------------------------------------------------------

    def to_floor(self, each: bool = False) -> None:
        """Stand the chosen parts on the floor, together or each by itself."""
        placing.to_floor(self._project, self._chosen, each)

    def pivot_to(self, where: str) -> None:
        """Each pivot to its part's middle, base, tip or axis, or to the world's middle."""
        placing.pivot_to(self._project, self._chosen, where)

    def switch_unmasked(self) -> None:
        """Handles move only unmasked clay, or whole parts."""
        self._studio.unmasked = not self._studio.unmasked
        words = "only the unmasked clay of the chosen parts" if self._studio.unmasked else "whole parts"
        self._studio.say(f"Handles and numbers now move {words}.")

    # -- the list -------------------------------------------------------------------------------

    def group(self) -> None:
        """Put the chosen parts into a new group."""
        blocking.group(self._project, self._chosen)

    def ungroup(self) -> None:
        """Take the chosen parts out of their groups."""
        blocking.into_group(self._project, self._chosen, "")

    def lock(self) -> None:
        """Lock the chosen parts, or unlock them when all are locked."""
        blocking.lock(self._project, self._chosen, not all(p.locked for p in self._chosen))

    def rename_many(self) -> None:
        """Ask for a pattern and name the chosen parts by it."""
        text, agreed = QInputDialog.getText(
            self._desk,
            "Name by pattern",
            "* the old name, # a number (## two digits), @ the side:",
            text="* ##",
        )
        if agreed:
            try:
                blocking.rename_by_pattern(self._project, self._chosen, text)
            except ValueError as error:
                self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")

    def sort(self) -> None:
        """Order the parts by name."""
        blocking.sort_by_name(self._project)

    def choose_everything(self) -> None:
        """Choose all visible parts."""
        self._project.choose_all(p.id for p in self._project.scene.parts if p.visible)

    def find(self) -> None:
        """Frame the part in hand, shining through what hides it."""
        if not self._project.settings.look.xray:
            self._studio.set_look(xray=True)
        self._desk.views.frame_part()

    def check_meeting(self) -> None:
        """Which visible parts run into each other, and how deep."""
        parts = [replace(p, mesh=p.mesh.copy()) for p in self._project.scene.parts if p.visible]

        def work(progress: Progress) -> list[tuple[Part, Part, float]]:
            pairs = blocking.meeting_pairs(parts)
            found = []
            for count, (a, b) in enumerate(pairs):
                progress.report(count / max(len(pairs), 1), f"{a.name}, {b.name}")
                deep = blocking.depth_between(a, b, Progress())
                if deep > 0:
                    found.append((a, b, deep))
            return sorted(found, key=lambda row: -row[2])

        self._studio.start("Look where parts meet", work, self._desk.mode_hints.show_meeting)

    def set_budget(self) -> None:
        """Ask for the part's budget."""
        part = self._project.active
        if part is None:
            return
        number, agreed = QInputDialog.getInt(
            self._desk,
            "Budget",
            f"Vertices {part.name} should stay under (0: none):",
            part.budget,
            0,
            100_000_000,
        )
        if agreed:
            blocking.set_budget(self._project, part, number)

    def note(self) -> None:
        """Ask for a note on the part in hand."""
        part = self._project.active
        if part is None:
            return
        text, agreed = QInputDialog.getMultiLineText(self._desk, "Note", f"Note on {part.name}:", part.note)
        if agreed:
            blocking.set_note(self._project, part, text.strip())
