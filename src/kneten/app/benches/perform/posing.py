"""Posing by hand: the limb that was pressed, its hinges, what goes along."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.benches.perform.held_parts import HeldLimb, HeldParts
from kneten.app.benches.perform.pose_mode import PoseMode
from kneten.core.arrays import F64, Progress
from kneten.core.pose.chain import Hinge, Limb, Pose, course_of, curled, pulled
from kneten.core.pose.limb import SLIDE, Cut, LimbError
from kneten.document.layering import change_layer
from kneten.document.opening import stack_of
from kneten.document.posing import (
    Found,
    LowClay,
    add_pose,
    chain_of,
    change_pose,
    find_limb,
    joints_of,
    limbs_of,
    low_clay,
    pose_along,
    posed_name,
    sitting,
    with_hinges,
)
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

LARGE = 60_000
"""Vertices of a lowest level from which on looking for a limb is long work."""

ROUNDS = 3
"""Of pulling, for each move of the pointer: it goes on from the last."""

MOST_HINGES = 12


class Posing(QObject):
    """Commands on poses.

    Attributes
    ----------
    hinges : tuple of Hinge
        Of the limb in hand, in the lengths of its part; empty without one.
    chosen : int
        The hinge that numbers are about.
    others : dict
        Parts that sit on the limb, by id: "no", "soft" or "stiff", as they go along.
    mirrored : bool
        The limb across the plane of symmetry is posed as well.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.hinges: tuple[Hinge, ...] = ()
        self.chosen = 0
        self.others: dict[str, str] = {}
        self._on: dict[str, str] = {}
        self.mirrored = True
        self._spot: F64 | None = None
        self._other_side = False
        self._slide = SLIDE
        self._found: Found | None = None
        self._clay = HeldParts(desk, self._put_back)
        self._held: dict[str, HeldLimb] = {}
        self._body = ""
        self._shown: tuple[Hinge, ...] = ()
        self._keeping = False
        self._studio.project_changed.connect(self.let_go)
        self._studio.history_changed.connect(self._follow)

    # -- what there is --------------------------------------------------------------------------

    @property
    def has_limb(self) -> bool:
        """Whether a limb is in hand."""
        return bool(self.hinges) and self._body in self._held

    @property
    def body(self) -> Part | None:
        """The part whose limb is in hand."""
        parts = self._studio.project.scene.parts
        return next((part for part in parts if part.id == self._body), None) if self.has_limb else None

    @property
    def limbs(self) -> tuple[Limb, ...]:
        """The limb in hand and its twin."""
        return self._held[self._body].limbs.limbs if self.has_limb else ()

    @property
    def cut(self) -> Cut | None:
        """Where the limb was cut, in its part's axes."""
        return None if self._found is None else self._found.cut

    @property
    def now(self) -> tuple[Hinge, ...]:
        """The hinges as they are shown."""
        return self._shown or self.hinges

    @property
    def posed_layers(self) -> dict[str, str]:
        """The layers that the limb in hand is posed on, by part."""
        return {key: held.layer_id for key, held in self._held.items() if held.there}

    def no_limb(self) -> str:
        """Why there is nothing to be posed."""
        return "" if self.has_limb else "No limb is in hand: take Pose and press on an arm, a neck or a tail."

    def no_clay(self) -> str:
        """Why nothing can be pressed on."""
        return (
            ""
            if any(p.visible for p in self._studio.project.scene.parts)
            else "There is no visible clay to pose."
        )

    def words(self) -> str:
        """What is in hand, for the user."""
        part = self.body
        if part is None:
            return "Take Pose and press where a limb is to bend."
        limb, hinge = self.limbs[0], self.hinges[0]
        length = (limb.last - hinge.at) * part.transform.scale
        twin = " and its twin" if len(self.limbs) > 1 else ""
        return f"{part.name}: {length:.0f} mm of limb{twin}, {hinge.radius * part.transform.scale * 2:.0f} mm thick."

    def near_parts(self) -> list[Part]:
        """The parts that sit on the limb, whether they go along or not."""
        scene = self._studio.project.scene
        return [part for part in scene.parts if part.id in self.others]

    def goes_along(self, part_id: str) -> bool:
        """Whether a part is the body in hand, or goes along with its limb."""
        return part_id == self._body or self.others.get(part_id, "no") != "no"

    # -- taking a limb --------------------------------------------------------------------------

    def enter(self) -> None:
        """Press on limbs to pose them; again goes back to sculpting."""
        view = self._desk.view
        view.take_mode(None if isinstance(view.mode, PoseMode) else PoseMode(view, self))

    def press(self, part: Part, spot: F64) -> None:
        """Look for the limb at a place (3,) of a part, in its axes."""
        self._other_side, self._slide = False, SLIDE
        self._look_for(part, spot)

    def _look_for(self, part: Part, spot: F64, then: Callable[[], object] | None = None) -> None:
        studio, project = self._studio, self._studio.project
        blocked = studio.stroke_blocked(part)
        if blocked:
            studio.say(blocked, "warning")
            return
        project.end_trials()
        project.settle([part.id])
        part = project.scene.part(part.id)
        axes = project.settings.symmetry
        mirror = next((axis for axis in range(3) if axes[axis]), None) if self.mirrored else None
        other_side, slide, joints = self._other_side, self._slide, joints_of(part)

        def work(progress: Progress) -> tuple[LowClay, Found] | str:
            try:
                low = low_clay(part, progress=progress)
                return low, find_limb(low.mesh, spot, mirror, slide, other_side, progress, joints)
            except LimbError as error:
                return str(error)

        def land(made: tuple[LowClay, Found] | str) -> None:
            if isinstance(made, str):
                studio.say(made, "warning")
                return
            self._take(part, spot, *made)
            if then is not None:
                then()

        if stack_of(part).levels[0].topology.n_vertices > LARGE:
            studio.start("Looking for the limb", work, land, [part])
        else:
            land(work(Progress()))

    def _take(self, part: Part, spot: F64, low: LowClay, found: Found) -> None:
        self._held = {part.id: HeldLimb(part, low, found.pose)}
        self._body, self._spot, self._found = part.id, spot, found
        self.hinges, self._shown, self.chosen = found.pose.hinges, (), 0
        scene = self._studio.project.scene
        near = sitting(scene.parts, part, low.mesh, found.pose)
        self.others = {
            one.part_id: self._wanted(scene.part(one.part_id), one.on != part.id) if one.mostly else "no"
            for one in near
        }
        self._on = {one.part_id: one.on for one in near}
        self._tell()

    def flip(self) -> None:
        """Take what lies on the other side of the hinge."""
        part, spot = self.body, self._spot
        assert part is not None
        assert spot is not None
        self._other_side = not self._other_side
        self._look_for(part, spot)

    def place(self, spot: F64) -> None:
        """Have the first hinge at another place (3,) along the limb, in its part's axes: as it is pressed, not where it is narrowest."""
        part = self.body
        assert part is not None
        self._slide = 0.0
        self._look_for(part, spot)

    def switch_mirror(self) -> None:
        """Pose the limb across the plane of symmetry as well, or not."""
        self.mirrored = not self.mirrored
        part, spot = self.body, self._spot
        if part is not None and spot is not None and not self._held[part.id].there:
            self._look_for(part, spot)
        self._tell()

    def go_along(self, part_id: str, how: str) -> None:
        """Say whether a part that sits on the limb goes along: "no", "soft" or "stiff"."""
        if self.has_limb and part_id in self.others:
            self.others[part_id] = how
            self._held.pop(part_id, None)
            self._tell()

    def let_go(self) -> None:
        """No limb is in hand any more."""
        self._held, self.hinges, self._shown, self._found, self.others = {}, (), (), None, {}
        self._body = ""
        self._tell()

    def _tell(self) -> None:
        self.changed.emit()
        self._desk.view.hint_changed.emit()
        self._desk.view.repaint_over()

    # -- hinges ---------------------------------------------------------------------------------

    def set_count(self, count: int) -> None:
        """Have so many hinges along the limb; the bends of those there are go back to nothing."""
        if not self.has_limb or count == len(self.hinges):
            return
        straight = replace(self.hinges[0], bend=(0.0, 0.0, 0.0))
        positions = self._held[self._body].low.mesh.positions
        hinges = chain_of(straight, self.limbs[0], positions, min(max(count, 1), MOST_HINGES))
        self.chosen = 0
        self.keep(hinges, f"{len(hinges)} hinges")

    def choose(self, index: int) -> None:
        """Let numbers be about a hinge."""
        self.chosen = index
        self._tell()

    def with_numbers(self, **numbers: object) -> tuple[Hinge, ...]:
        """The hinges, the chosen one with other numbers."""
        hinges = list(self.now)
        at = min(self.chosen, len(hinges) - 1)
        hinges[at] = replace(hinges[at], **numbers)  # type: ignore[arg-type]
        return tuple(hinges)

    def curled(self, degrees: float) -> tuple[Hinge, ...]:
        """All hinges bent alike."""
        return curled(self.now, degrees)

    def straighten(self) -> None:
        """All hinges as they were before they were bent."""
        plain = [replace(h, bend=(0.0, 0.0, 0.0), twist=0.0, length=1.0, thickness=1.0) for h in self.hinges]
        self.keep(tuple(plain), "Straighten")

    def pulled(self, point: F64, station: float, target: F64, limb: int = 0) -> tuple[Hinge, ...]:
        """Hinges that bring a place (3,) of a limb at rest towards a target, both in the part's axes."""
        return pulled(self.limbs[limb], self.now, point, station, target, ROUNDS)

    def grabbed(self, spot: F64) -> tuple[F64, float, int] | None:
        """What is under a place (3,) of the part as it is shown: the place at rest, its station and its limb; None off the limbs."""
        if not self.has_limb:
            return None
        held = self._held[self._body]
        pose = with_hinges(held.limbs, self.now)
        places = pose.posed(held.low.mesh.positions, 1.0)
        nearest = int(np.argmin(((places - spot.astype(np.float32)) ** 2).sum(axis=1)))
        for k, limb in enumerate(pose.limbs):
            at = int(np.searchsorted(limb.rows, nearest))
            if at < len(limb.rows) and limb.rows[at] == nearest and limb.station[at] > 0.1 * limb.last:
                station = float(limb.station[at])
                rest, now, matrix = course_of(limb, pose.hinges).at(station)
                return rest + np.linalg.solve(matrix, spot - now), station, k
        return None

    # -- showing and keeping --------------------------------------------------------------------

    def begin(self) -> bool:
        """Take hold of all that goes along; False, with a notice, where that is not possible."""
        if self._clay.trying:
            return True
        if not self.has_limb:
            return False
        body = self.body
        assert body is not None
        blocked = self._studio.stroke_blocked(body)
        if blocked:
            self._studio.say(blocked, "warning")
            return False
        self._hold_others()
        self._clay.parts = self._held
        self._clay.begin()
        return True

    def _hold_others(self) -> None:
        """Take hold of what sits on the limb and is to go along."""
        project, body = self._studio.project, self.body
        assert body is not None
        for part_id, how in self.others.items():
            on = self._on.get(part_id, body.id)
            if how == "no" or part_id in self._held or on not in self._held:
                continue
            project.settle([part_id])
            # A copy that shares its clay would be bent twice.
            project.give_own(part_id)
            part, under, first = project.scene.part(part_id), project.scene.part(on), self._held[on]
            if self._studio.move_blocked(part):
                continue
            low = low_clay(part)
            plain = with_hinges(first.limbs, self.hinges)
            pose = pose_along(
                plain, under.transform, first.low.mesh, part.transform, low.mesh, how == "stiff"
            )
            if pose is not None:
                self._held[part_id] = HeldLimb(part, low, pose)

    def show(self, hinges: tuple[Hinge, ...]) -> None:
        """Show what is in hand with other hinges."""
        if self.begin():
            self._shown = hinges
            self._clay.show(self._poses(hinges))

    def _poses(self, hinges: tuple[Hinge, ...]) -> dict[str, Pose]:
        return {key: with_hinges(held.limbs, hinges) for key, held in self._held.items()}

    def _put_back(self) -> None:
        self._shown = ()
        self._tell()

    def stop(self) -> None:
        """Nothing of what is shown is kept."""
        self._clay.stop()

    def keep(self, hinges: tuple[Hinge, ...], name: str) -> None:
        """Pose what is in hand, as one step."""
        if not self.begin():
            return
        project = self._studio.project
        self._clay.stop()
        if hinges == self.hinges:
            return
        poses = self._poses(hinges)
        still = poses[self._body].still
        new = {key: held for key, held in self._held.items() if not held.there}
        old = {key: held for key, held in self._held.items() if held.there}
        live: list[str] = []
        self._keeping = True
        try:
            body = project.scene.part(self._body)
            if old or not still:
                with project.at_once(f"{name}: {body.name}"):
                    if old:
                        change_pose(
                            project, {k: h.layer_id for k, h in old.items()}, {k: poses[k] for k in old}, name
                        )
                    if new:
                        title = posed_name(project, list(new))
                        live = [p.name for k in new if (p := project.scene.part(k)).recipe is not None]
                        made = add_pose(project, {k: (h.low, poses[k]) for k, h in new.items()}, title)
                        for key, layer_id in made.items():
                            self._held[key].layer_id, self._held[key].there = layer_id, True
        finally:
            self._keeping = False
        if live:
            more = f" and {len(live) - 1} more" if len(live) > 1 else ""
            self._studio.say(
                f"{live[0]}{more}: made from numbers until now, clay that bends along from here on. Undo brings them back."
            )
        for key, held in self._held.items():
            held.pose = poses[key]
        self.hinges = hinges
        self._desk.view.refresh()
        self._tell()

    def _follow(self) -> None:
        """Undo and redo, and other work, may have changed what is in hand."""
        if self._keeping or not self.has_limb or self._clay.trying:
            return
        scene = self._studio.project.scene
        parts = {part.id: part for part in scene.parts}
        for part_id, held in list(self._held.items()):
            part = parts.get(part_id)
            if part is None or stack_of(part).levels[0].topology is not held.low.stack.levels[0].topology:
                self.let_go()
                return
            layers = {layer.id: layer for layer in stack_of(part).layers}
            layer = layers.get(held.layer_id)
            held.there = layer is not None
            if held.layer_id and layer is None:
                # Undone: it may be made again.
                pose = held.limbs
                held.pose = with_hinges(pose, _plain(pose.hinges))
                if part_id == self._body:
                    self.hinges = _plain(pose.hinges)
            elif layer is not None and (now := limbs_of(layer)) is not None:
                held.pose = now
                if part_id == self._body:
                    self.hinges = now.hinges
        self._tell()

    def _wanted(self, part: Part, hangs: bool) -> str:
        """How a part goes along until it is said: what hangs on another thing, metal, and small things stay stiff."""
        if self._studio.move_blocked(part):
            return "no"
        material = part.mesh.material
        metal = material is not None and float(material[:, 1].mean()) > 100
        low, high = part.bounds()
        body = self.body
        thick = 0.0 if body is None else self.hinges[0].radius * body.transform.scale
        small = float(np.linalg.norm(high - low)) < thick
        return "stiff" if hangs or metal or small else "soft"

    # -- poses that are there -------------------------------------------------------------------

    def poses(self) -> list[tuple[Part, str, str, float]]:
        """The poses of the chosen parts: the part, the layer's id, its name and strength."""
        found = []
        for part in self._studio.project.chosen:
            found += [
                (part, layer.id, layer.name, layer.strength)
                for layer in stack_of(part).layers
                if limbs_of(layer) is not None
            ]
        return found

    def resume(self, part: Part, layer_id: str) -> None:
        """Take a pose in hand again, to bend it further."""
        pose = limbs_of(stack_of(part).layer(layer_id))
        assert pose is not None
        project = self._studio.project
        project.end_trials()
        if stack_of(part).layer(layer_id).strength != 1.0 or not stack_of(part).layer(layer_id).shown:
            change_layer(project, part, layer_id, "Pose in full", strength=1.0, shown=True)
            part = project.scene.part(part.id)
        low = low_clay(part, without=layer_id)
        self.let_go()
        self._held = {part.id: HeldLimb(part, low, pose, layer_id)}
        self._body, self.hinges, self.chosen = part.id, pose.hinges, 0
        name = stack_of(part).layer(layer_id).name
        for other in project.scene.parts:
            same = next((one for one in stack_of(other).layers if one.name == name and limbs_of(one)), None)
            along = None if same is None else limbs_of(same)
            if other.id == part.id or same is None or along is None:
                continue
            if len(along.hinges) == len(pose.hinges):
                self._held[other.id] = HeldLimb(other, low_clay(other, without=same.id), along, same.id)
                self.others[other.id] = "soft"
        if not isinstance(self._desk.view.mode, PoseMode):
            self._desk.view.take_mode(PoseMode(self._desk.view, self))
        self._tell()


def _plain(hinges: tuple[Hinge, ...]) -> tuple[Hinge, ...]:
    return tuple(replace(h, bend=(0.0, 0.0, 0.0), twist=0.0, length=1.0, thickness=1.0) for h in hinges)
