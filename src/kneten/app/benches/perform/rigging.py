"""Rigs in hand: joints, weights, poses; what goes along with a body."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.perform.held_parts import NO_DIALS, HeldFace, HeldPart, HeldParts
from kneten.app.benches.perform.rig_mode import JointMode, RigMode
from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.live.armature import Armature
from kneten.core.pose.rig import Joint, Rig, RigError, mixed
from kneten.core.pose.shapes import following
from kneten.core.pose.weights import dense, smoothed, twin_weights, with_weights_of
from kneten.core.twins import pairs_of
from kneten.document import rigging
from kneten.document.driving import shapes_of
from kneten.document.masks import mask_of, with_mask
from kneten.document.motions import Moment, take_moment
from kneten.document.opening import stack_of
from kneten.document.posing import LowClay, low_clay
from kneten.document.scene import Part
from kneten.document.things import KeptPose

if TYPE_CHECKING:
    from kneten.app.benches.perform.playing import Playing
    from kneten.app.view.desk import Desk

LARGE = 20_000
"""Vertices of a body and of what may sit on it from which on finding weights is long work."""


class Rigging(QObject):
    """Commands on rigs.

    Attributes
    ----------
    chosen : str
        The name of the joint that numbers are about.
    both : bool
        What is done to a joint is done to its twin, mirrored.
    playing : Playing or None
        The motion that the body is shown in.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.chosen = ""
        self.both = True
        self._shown: Rig | None = None
        self.playing: Playing | None = None
        self._clay = HeldParts(desk, self._put_back)
        for signal in (desk.studio.project_changed, desk.studio.history_changed, desk.studio.scene_changed):
            signal.connect(self._tell)

    # -- what there is --------------------------------------------------------------------------

    @property
    def body(self) -> Part | None:
        """The part in hand, where it has a rig."""
        part = self._studio.project.active
        return part if part is not None and rigging.rig_of(part) is not None else None

    @property
    def rig(self) -> Rig | None:
        """Its rig, as it is shown."""
        part = self._studio.project.active
        return self._shown or (None if part is None else rigging.rig_of(part))

    @property
    def shown(self) -> Rig | None:
        """How the body is shown posed; None where it is shown as it is."""
        return self._shown

    @property
    def number(self) -> int:
        """The chosen joint's number; -1 without one."""
        rig = self.rig
        names = [] if rig is None else [joint.name for joint in rig.joints]
        return names.index(self.chosen) if self.chosen in names else -1

    def no_part(self) -> str:
        """Why no rig can be made."""
        part = self._studio.project.active
        return "There is no part in hand." if part is None else self._studio.stroke_blocked(part)

    def no_armature(self) -> str:
        """Why no rig comes from an armature."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if not isinstance(part.was, Armature) and not isinstance(part.recipe, Armature):
            return f"{part.name} did not come from an armature: place its joints by hand."
        return "" if isinstance(part.recipe, Armature) else self._studio.stroke_blocked(part)

    def no_rig(self) -> str:
        """Why nothing can be done with a rig."""
        if self.body is None:
            return "The part in hand has no rig: take one from its armature, or place joints."
        return self._studio.stroke_blocked(self.body)

    def no_joint(self) -> str:
        """Why nothing can be done with a joint."""
        return self.no_rig() or ("" if self.number >= 0 else "No joint is chosen: press on one.")

    def no_mask(self) -> str:
        """Why a mask cannot become weights."""
        if words := self.no_joint():
            return words
        assert self.body is not None
        return (
            "" if mask_of(self.body.mesh).any() else "Nothing is masked: paint with Mask what is to go along."
        )

    def words(self) -> str:
        """What is in hand, for the user."""
        part = self._studio.project.active
        rig = self.rig
        if part is None:
            return "Take a part in hand that is to have joints."
        if rig is None:
            return "No joints yet: from its armature, found in its form, or placed by hand."
        others = len(rigging.rigged(self._studio.project.scene, rig.id)) - 1
        along = f", {others} part{'s' if others != 1 else ''} along" if others else ""
        return f"{part.name}: {len(rig.joints)} joints{along}."

    def kept(self) -> tuple[KeptPose, ...]:
        """The poses that are kept of the body in hand."""
        body = self.body
        return () if body is None else rigging.poses_of(self._studio.project.scene, body)

    # -- making ---------------------------------------------------------------------------------

    def from_armature(self) -> None:
        """Give the part in hand the joints of the armature that it came from, and those parts along that sit on it."""
        part = self._studio.project.active
        assert part is not None
        made_from = part.was if isinstance(part.was, Armature) else part.recipe
        assert isinstance(made_from, Armature)
        self._make(part, lambda: rigging.joints_from(made_from), f"Rig {part.name}")

    def find_weights(self) -> None:
        """Find all weights anew from the form; those that were painted go."""
        rig, part = self.rig, self.body
        assert rig is not None
        assert part is not None
        self._make(part, lambda: rig.joints, f"Weights of {part.name}")

    def give(self, part: Part, joints: tuple[Joint, ...], name: str) -> None:
        """Give a part joints, with weights, and take along what sits on it: one step."""
        self._make(part, lambda: joints, name)

    def _make(self, part: Part, joints: Callable[[], tuple[Joint, ...]], name: str) -> None:
        """Find weights for joints of a part and of what sits on it: one step, on another thread where it takes long."""
        studio, project = self._studio, self._studio.project
        project.end_trials()
        project.settle([part.id])
        part, parts = project.scene.part(part.id), project.scene.parts

        def work(progress: Progress) -> dict[str, tuple[LowClay, Rig]] | str:
            try:
                return rigging.found_rigs(
                    parts, part, joints(), lambda one: not studio.move_blocked(one), progress
                )
            except RigError as error:
                return f"{str(error)[:1].upper()}{str(error)[1:]}."

        def land(made: dict[str, tuple[LowClay, Rig]] | str) -> None:
            if isinstance(made, str):
                studio.say(made, "warning")
                return
            rigging.give_rigs(project, made, name)
            if self.number < 0:
                self.chosen = made[part.id][1].joints[0].name
            self._tell()

        if sum(one.mesh.n_vertices for one in parts) > LARGE:
            studio.start("Finding the weights", work, land, [part])
        else:
            land(work(Progress()))

    def along(self) -> list[Part]:
        """The parts that go along with the body in hand."""
        rig, body = self.rig, self.body
        if rig is None or body is None:
            return []
        parts = rigging.rigged(self._studio.project.scene, rig.id)
        return [part for part in parts if part.id != body.id]

    def no_others(self) -> str:
        """Why nothing can be taken along."""
        if words := self.no_rig():
            return words
        return "" if self._others() else "Choose the parts that are to go along, and the body last."

    def _others(self) -> list[Part]:
        body, rig = self.body, self.rig
        if body is None or rig is None:
            return []
        had = {part.id for part in self.along()}
        chosen = self._studio.project.chosen
        return [part for part in chosen if part.id != body.id and part.id not in had]

    def take_along(self) -> None:
        """Have the other chosen parts go along with the body in hand."""
        body = self.body
        assert body is not None
        self._go_along(
            {part.id: "stiff" if rigging.is_stiff(part, body) else "soft" for part in self._others()}
        )

    def go_along(self, part_id: str, how: str) -> None:
        """Say how a part goes along: "no", "soft" or "stiff"."""
        self._go_along({part_id: how})

    def _go_along(self, how: dict[str, str]) -> None:
        """One step, in which parts begin to go along, do so otherwise, or stay."""
        studio, project, body, rig = self._studio, self._studio.project, self.body, self.rig
        assert body is not None
        assert rig is not None
        blocked = [words for key in how if (words := studio.move_blocked(project.scene.part(key)))]
        if blocked:
            studio.say(blocked[0], "warning")
            return
        layer = rigging.rig_layer(body)
        assert layer is not None
        under = low_clay(body, without=layer.id), rig
        names = [project.scene.part(key).name for key in how]
        name = f"{names[0]} goes along" if len(names) == 1 else f"{len(names)} parts go along"
        with project.at_once(name):
            rigging.leave_rig(project, [key for key, one in how.items() if one == "no"], name)
            made = {}
            for key, one in how.items():
                if one != "no":
                    project.settle([key])
                    made[key] = rigging.gone_along(under, body, project.scene.part(key), one == "stiff")
            rigging.give_rigs(project, made, name)
        self._tell()

    def remove(self) -> None:
        """Take the rig away from the part in hand and all that goes along: clay goes back to its rest."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        rigging.remove_rig(self._studio.project, rig.id, f"Remove the rig of {body.name}")
        self._tell()

    # -- joints ---------------------------------------------------------------------------------

    def choose(self, name: str) -> None:
        """Let numbers be about a joint."""
        self.chosen = name
        self._tell()

    def switch_both(self) -> None:
        """Do what is done to a joint to its twin as well, or not."""
        self.both = not self.both
        self._tell()

    def place(self) -> None:
        """Press on limbs to put joints into them; again goes back to sculpting."""
        rig = self.rig
        if rig is not None and not rig.still:
            # Joints are placed where the body rests.
            self.rest()
        view = self._desk.view
        view.take_mode(None if isinstance(view.mode, JointMode) else JointMode(view, self))

    def pose(self) -> None:
        """Drag joints to pose the body; again goes back to sculpting."""
        view = self._desk.view
        view.take_mode(None if isinstance(view.mode, RigMode) else RigMode(view, self))

    def add_joint(self, part: Part, spot: F64) -> None:
        """Put a joint into a limb at a place (3,) of a part: it hangs on the chosen one."""
        rig, number = rigging.rig_of(part), self.number
        low, high = part.mesh.positions.min(axis=0), part.mesh.positions.max(axis=0)
        joints = () if rig is None else rig.joints
        parent = number if rig is not None and number >= 0 else len(joints) - 1
        inside = rigging.middle_at(part.mesh, spot)
        new = rigging.grown(joints, parent, inside, self.both, float(np.linalg.norm(high - low)))
        first = new[len(joints)].name
        self._make(part, lambda: new, f"Joint in {part.name}")
        self.chosen = first
        self._tell()

    def move_joint(self, number: int, place: F64) -> None:
        """Have a joint rest elsewhere (3,); weights stay as they are."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        moved = rigging.rest_moved(rig, number, place, self.both)
        self._keep(moved, f"Move {rig.joints[number].name}")

    def remove_joint(self) -> None:
        """Take the chosen joint away with its twin and all that hangs on them; what they turned goes along with what is left."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        left = rigging.pruned(rig.joints, self.number)
        if not left:
            self.remove()
            return
        self.chosen = left[max(min(self.number, len(left)) - 1, 0)].name
        self._make(body, lambda: left, f"Remove a joint of {body.name}")

    def rename(self, name: str) -> str:
        """Give the chosen joint another name; why not, or "". Kept poses follow."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        name = name.strip()
        if not name or name == self.chosen:
            return ""
        if name in [joint.name for joint in rig.joints]:
            return f"There is a joint called {name} already."
        rigging.rename_joint(self._studio.project, body, self.chosen, name)
        self.chosen = name
        self._tell()
        return ""

    # -- posing ---------------------------------------------------------------------------------

    @property
    def shows(self) -> bool:
        """Whether the body, or its face, is shown otherwise than it is."""
        return self._clay.trying

    def begin(self, ids: Collection[str] = ()) -> bool:
        """Take hold of all that goes along, and of what the shapes with these ids move; False, with a notice, where that is not possible."""
        if self._clay.trying and self._clay.ids >= set(ids):
            return True
        if self._clay.trying:
            self._clay.stop()
        project, body = self._studio.project, self.body
        rig = None if body is None else self.rig
        parts = [] if rig is None else rigging.rigged(project.scene, rig.id)
        posed = {part.id for part in parts}
        faces = self._faces(ids, posed)
        for part in [*parts, *faces]:
            blocked = self._studio.stroke_blocked(part)
            if blocked:
                self._studio.say(blocked, "warning")
                return False
        held: dict[str, HeldPart] = {part.id: HeldFace(part) for part in faces}
        for part in parts:
            layer = rigging.rig_layer(part)
            assert layer is not None
            if layer.strength != 1.0 or not layer.shown:
                assert body is not None
                assert rig is not None
                self._studio.say(f"{layer.name} of {part.name} is dialled: it is shown in full.")
                rigging.pose_rigs(project, rigging.posed_alike(project.scene, body, rig), "Rig in full")
                return self.begin(ids)
            known = self._clay.parts.get(part.id)
            stack = stack_of(part)
            own = rigging.rig_of(part)
            assert own is not None
            if known is not None and known.fits(stack, own):
                known.pose, held[part.id] = own, known
            else:
                held[part.id] = HeldPart(part, stack, own, layer.id)
        if not held:
            return False
        self._clay.parts = held
        self._clay.begin(ids)
        return True

    def _faces(self, ids: Collection[str], posed: Collection[str]) -> list[Part]:
        """The parts that shapes, or what follows them, move and no joint does."""
        scene = self._studio.project.scene
        held = shapes_of(scene)
        some = set(ids) | following({key: one.shape for key, one in held.items()}, set(ids))
        keys = {key for one in some if one in held for key in held[one].layers}
        return [part for part in scene.parts if part.id in keys and part.id not in posed]

    def show(self, rig: Rig | None, dials: Mapping[str, float] = NO_DIALS) -> None:
        """Show the body posed otherwise, with all that goes along, and shapes, by their ids, dialled otherwise."""
        scene = self._studio.project.scene
        shapes = {key: one.shape for key, one in shapes_of(scene).items()}
        if self.begin({*dials, *following(shapes, set(dials))} if dials else ()):
            body = self.body
            self._shown = rig
            poses = {} if rig is None or body is None else rigging.posed_alike(scene, body, rig)
            self._clay.show(poses, dials)
            self.changed.emit()

    def _put_back(self) -> None:
        self._shown = None
        self._tell()

    def stop(self) -> None:
        """Nothing of what is shown is kept."""
        self._clay.stop()

    def keep(self, rig: Rig, name: str) -> None:
        """Pose the body, and all that goes along: one step."""
        if self.begin():
            self._clay.stop()
            self._keep(rig, name)

    def take(self, moment: Moment, name: str) -> None:
        """Leave the body, and its face, as at a moment: one step."""
        part = self._studio.project.active
        assert part is not None
        self._clay.stop()
        take_moment(self._studio.project, part, moment, f"{name}: {part.name}")
        self._desk.view.refresh()
        self._tell()

    def _keep(self, rig: Rig, name: str) -> None:
        project, body = self._studio.project, self.body
        assert body is not None
        now = rigging.rig_of(body)
        assert now is not None
        if rig.joints != now.joints:
            new = rigging.posed_alike(project.scene, body, rig)
            if not rigging.same_joints(now, rig.joints):
                new = rigging.rested_alike(project.scene, body, rig)
            rigging.pose_rigs(project, new, f"{name}: {body.name}")
        self._desk.view.refresh()
        self._tell()

    def with_twin(self, rig: Rig, number: int) -> Rig:
        """The rig with a joint's twin posed as the joint, mirrored, where both sides are posed."""
        twin = rig.joints[number].twin
        if not self.both or twin < 0:
            return rig
        if twin == number:
            return rig
        (a, b, c), (x, y, z) = rig.joints[number].turn, rig.joints[number].shift
        return rig.with_joint(twin, turn=(a, -b, -c), shift=(-x, y, z))

    def grabbed(self, spot: F64) -> tuple[int, F64] | None:
        """What is under a place (3,) of the body as it is shown: the joint that it goes along with most, and the place at rest."""
        body, rig = self.body, self.rig
        if body is None or rig is None:
            return None
        layer = rigging.rig_layer(body)
        assert layer is not None
        # The lowest level is near enough, and small.
        rest = low_clay(body, without=layer.id).mesh.positions
        now = rig.posed(rest, 1.0)
        near = int(np.argmin(((now - spot.astype(np.float32)) ** 2).sum(axis=1)))
        which, share = rig.which[near : near + 1], rig.share[near : near + 1]
        back = rig.posed_some(spot[None].astype(np.float32), which, share, 1.0, True)
        return int(which[0, 0]), back[0].astype(np.float64)

    def numbers(self) -> tuple[float, float, float]:
        """How far the chosen joint bends, goes aside and turns about itself, degrees."""
        rig, at = self.rig, self.number
        assert rig is not None
        bend, aside, twist = rig.axes(at) @ np.array(rig.joints[at].turn)
        return float(bend), float(aside), float(twist)

    def with_numbers(self, bend: float, aside: float, twist: float) -> Rig:
        """The rig, the chosen joint turned by numbers."""
        rig, at = self.rig, self.number
        assert rig is not None
        return self.with_twin(rig.with_turn(at, np.array([bend, aside, twist]) @ rig.axes(at)), at)

    def rest(self) -> None:
        """Take all turns of all joints back."""
        rig = self.rig
        assert rig is not None
        self.keep(rig.at_rest(), "Rest")

    def mirror_pose(self) -> None:
        """What the left side does, the right does, and the other way round."""
        rig = self.rig
        assert rig is not None
        self.keep(rig.mirrored(), "Mirror the pose")

    # -- poses kept -----------------------------------------------------------------------------

    def ask_to_keep(self) -> None:
        """Keep how the body is posed; the user is asked for its name."""
        count = len(self.kept()) + 1
        name, fine = QInputDialog.getText(self._desk, "Keep the pose", "Its name:", text=f"Pose {count}")
        if fine:
            self.keep_pose(name)

    def set_limit(self, degrees: float) -> None:
        """Have the chosen joint turn so far at most, with its twin where both sides are meant."""
        rig = self.rig
        assert rig is not None
        at = self.number
        twin = rig.joints[at].twin if self.both else -1
        for k in {at, twin} - {-1}:
            rig = rig.with_joint(k, limit=degrees)
            rig = rig.with_turn(k, np.array(rig.joints[k].turn))
        self.keep(rig, f"Limit {self.chosen}")

    def keep_pose(self, name: str) -> None:
        """Keep how the body is posed, under a name."""
        body = self.body
        assert body is not None
        rigging.keep_pose(self._studio.project, body, name.strip() or "Pose")
        self._tell()

    def towards(self, kept: KeptPose, share: float) -> Rig:
        """The rig on the way from how it is posed to a kept pose."""
        body = self.body
        assert body is not None
        now = rigging.rig_of(body)
        assert now is not None
        return mixed(now, rigging.as_kept(now, kept), share)

    def take_pose(self, kept: KeptPose) -> None:
        """Pose the body as was kept."""
        self.keep(self.towards(kept, 1.0), kept.name)

    def forget_pose(self, kept: KeptPose) -> None:
        """Forget a kept pose."""
        rigging.forget_pose(self._studio.project, kept)
        self._tell()

    # -- weights --------------------------------------------------------------------------------

    def to_mask(self) -> None:
        """Mask what goes along with the chosen joint, the more the more it does."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        stack = stack_of(body)
        held: AnyArray = dense(rig, [self.number])
        for below, level in zip(stack.levels, stack.levels[1 : stack.level + 1], strict=False):
            assert level.step is not None
            held = level.step.refine(below.topology, held, False, np.float32)
        with_mask(
            self._studio.project, body, np.ascontiguousarray(held[:, 0], np.float32), "Weights as mask of"
        )

    def from_mask(self) -> None:
        """Let go along with the chosen joint what is masked, as far as it is; the other joints share the rest."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        stack = stack_of(body)
        mask = mask_of(body.mesh)
        for level in reversed(stack.levels[1 : stack.level + 1]):
            assert level.step is not None
            mask = mask[level.step.of_vertex]
        self._keep_weights(with_weights_of(rig, self.number, np.ascontiguousarray(mask)), "Mask as weights")

    def smooth_weights(self) -> None:
        """Even the weights out, where nothing is masked."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        stack = stack_of(body)
        free = 1.0 - mask_of(body.mesh)
        for level in reversed(stack.levels[1 : stack.level + 1]):
            assert level.step is not None
            free = free[level.step.of_vertex]
        self._keep_weights(smoothed(rig, low_clay(body).mesh, free.astype(np.float32)), "Smooth weights")

    def mirror_weights(self) -> None:
        """Take the weights of the left side over to the right."""
        rig, body = self.rig, self.body
        assert rig is not None
        assert body is not None
        layer = rigging.rig_layer(body)
        assert layer is not None
        low = low_clay(body, without=layer.id).mesh
        pairs = pairs_of(low, 0)
        if pairs is None:
            self._studio.say(f"The two sides of {body.name} are not meshed alike: paint both.", "warning")
            return
        self._keep_weights(twin_weights(rig, pairs.twin, True, rigging.side_of(low)), "Mirror weights")

    def _keep_weights(self, rig: Rig, name: str) -> None:
        body = self.body
        assert body is not None
        rigging.pose_rigs(self._studio.project, {body.id: rig}, f"{name}: {body.name}")
        self._tell()

    # -- telling --------------------------------------------------------------------------------

    def _tell(self) -> None:
        self.changed.emit()
        self._desk.view.hint_changed.emit()
        self._desk.view.repaint_over()
