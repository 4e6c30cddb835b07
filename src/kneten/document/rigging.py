"""Rigs of bodies: joints from armatures and by hand, weights, what goes along, poses kept. Each change is one undo step."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.live import armature
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.pose.bending import Bending
from kneten.core.pose.keys import DIAL, Track
from kneten.core.pose.rig import NOWHERE, Joint, Rig, RigError, as_vector
from kneten.core.pose.weights import found_weights, weights_along
from kneten.core.stack import Layer, Stack
from kneten.core.transform import Transform
from kneten.document.driving import formed_scene
from kneten.document.layering import change_layers_of
from kneten.document.opening import stack_of
from kneten.document.posing import LowClay, add_pose, change_pose, low_clay, riders, some_places
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import JointMove, KeptPose, new_id

NAME = "Rig"

CLOSE = 0.03
"""Of a body's size, within which a part counts as sitting on it."""

SMALL = 0.12
"""Of a body's size, up to which what sits on it is stiff."""

LARGER = 1.3
"""Times as large as a stiff thing, up to which something may be carried by that."""

NEARER = 0.5
"""Of how far something is from the body, how far it must be from a stiff thing at most to go with that."""

ACROSS = 24
"""Directions in which it is looked how wide a limb is."""

TWIN_NEAR = 0.02
"""Of a body's size, how far two joints may be from mirror images of each other."""


# -- joints ---------------------------------------------------------------------------------------


def joints_from(made_from: armature.Armature) -> tuple[Joint, ...]:
    """The joints of an armature: its balls where it has any limb, what each hangs on before it. Raises `RigError`."""
    balls = {ball.key: ball for ball in made_from.joints}
    order: list[int] = []
    left = list(balls)
    while left:
        ready = [key for key in left if balls[key].parent in order or balls[key].parent not in balls]
        if not ready:
            raise RigError("the balls of the armature hang on each other in a circle")
        order += ready
        left = [key for key in left if key not in ready]
    at = {key: k for k, key in enumerate(order)}
    taken: set[str] = set()
    joints = []
    for k, key in enumerate(order):
        ball = balls[key]
        name = free_joint(ball.name or ("Root" if k == 0 else "Joint"), taken)
        taken.add(name)
        joints.append(
            Joint(name, at.get(ball.parent, -1), ball.place, at.get(ball.twin, -1) if ball.twin >= 0 else -1)
        )
    return without_doubles(joints)


def free_joint(wanted: str, taken: set[str]) -> str:
    """A name that no joint has."""
    name = wanted[:1].upper() + wanted[1:]
    if name not in taken:
        return name
    return next(one for k in range(2, 9999) if (one := f"{name} {k}") not in taken)


def without_doubles(joints: Sequence[Joint]) -> tuple[Joint, ...]:
    """Joints without those that lie on the one they hang on."""
    out: list[Joint] = []
    now: dict[int, int] = {-1: -1}
    for k, joint in enumerate(joints):
        parent = now[joint.parent]
        if parent >= 0 and np.linalg.norm(np.subtract(joint.place, out[parent].place)) < 1e-6:
            now[k] = parent
            continue
        now[k] = len(out)
        out.append(replace(joint, parent=parent))
    return tuple(replace(joint, twin=now.get(joint.twin, -1)) for joint in out)


def with_twins(joints: Sequence[Joint], size: float) -> tuple[Joint, ...]:
    """Joints that know which of them is on the other side of x = 0: as near to its mirror image as a body's size, mm, asks."""
    places = np.array([joint.place for joint in joints])
    gap, nearest = cKDTree(places).query(places * [-1.0, 1.0, 1.0])
    out = []
    for k, joint in enumerate(joints):
        other = int(nearest[k])
        both = gap[k] <= TWIN_NEAR * size and int(nearest[other]) == k
        out.append(replace(joint, twin=other if both else -1))
    return tuple(out)


# -- making ---------------------------------------------------------------------------------------


def rig_layer(part: Part) -> Layer | None:
    """The layer that a part's rig is on."""
    return next((layer for layer in reversed(stack_of(part).layers) if isinstance(layer.pose, Rig)), None)


def rig_of(part: Part) -> Rig | None:
    """A part's rig."""
    layer = rig_layer(part)
    return layer.pose if layer is not None and isinstance(layer.pose, Rig) else None


def rigged(scene: Scene, rig_id: str) -> list[Part]:
    """The parts with one rig: the body first that all joints were found on, then what goes along."""
    return [part for part in scene.parts if (rig := rig_of(part)) is not None and rig.id == rig_id]


def made_rig(low: LowClay, joints: Sequence[Joint], progress: Progress | None = None, key: str = "") -> Rig:
    """A rig over a part's lowest level. Raises `RigError`."""
    which, share = found_weights(low.mesh, joints, progress)
    return Rig(tuple(joints), which, share, key or new_id())


@dataclass(frozen=True)
class Along:
    """A part that goes along with a body.

    Attributes
    ----------
    part_id : str
    on : str
        Id of what carries it: the body, or another part that goes along.
    stiff : bool
        It goes along as one.
    """

    part_id: str
    on: str
    stiff: bool


def sits_on_body(parts: Sequence[Part], body: Part, low: LowClay) -> list[Along]:
    """Parts that sit on a body, or on what sits there; what carries comes before what it carries.

    What lies in or on a stiff thing as large as itself goes with that, not with the body, and so do the two of them
    with what joins one to the body.
    """
    first, last = body.bounds()
    reach = CLOSE * float(np.linalg.norm(last - first))
    found = riders(parts, body, low.mesh, np.ones(low.mesh.n_vertices, bool), reach)
    held = {part.id: part for part in parts}
    places = {one.part_id: some_places(held[one.part_id]) for one in found}
    sizes = {key: float(np.linalg.norm(np.subtract(*held[key].bounds()))) for key in places}
    skin = cKDTree(body.transform.to_scene(low.mesh.positions.astype(np.float64)))
    gaps = {key: float(skin.query(some)[0].min()) for key, some in places.items()}
    stiff = {key: cKDTree(some) for key, some in places.items() if is_stiff(held[key], body)}
    on = {one.part_id: one.on for one in found}
    for key in sorted(on, key=lambda key: -sizes[key]):
        near = {
            other: float(tree.query(places[key])[0].min())
            for other, tree in stiff.items()
            # Of two stiff things the larger carries the other.
            if other != key
            and sizes[key] < LARGER * sizes[other]
            and (key not in stiff or (sizes[other], other) > (sizes[key], key))
        }
        nearest = min(near, key=lambda other: near[other], default="")
        if nearest and near[nearest] < NEARER * gaps[key]:
            on[key] = nearest
    # Where two carry each other, what is nearer to the body is carried by that.
    for key in sorted(on, key=lambda key: gaps[key]):
        at, way = key, [key]
        while on.get(at, body.id) != body.id and on[at] not in way:
            at = on[at]
            way.append(at)
        if on.get(at, body.id) != body.id:
            on[key] = body.id
    bears = {on[key] for key in stiff if sizes[key] > 0.5 * sizes.get(on[key], np.inf)}
    order: list[Along] = []

    def put(key: str) -> None:
        if key in on and all(one.part_id != key for one in order):
            put(on[key])
            order.append(Along(key, on[key], key in stiff or key in bears or on[key] != body.id))

    for key in on:
        put(key)
    return order


def is_stiff(part: Part, body: Part) -> bool:
    """Whether what sits on a body goes along as one: what was turned or made from numbers of a form, small things and metal do."""
    if isinstance(part.recipe, Lathe | Primitive) or isinstance(part.was, Lathe | Primitive):
        return True
    material = part.mesh.material
    metal = material is not None and float(material[:, 1].mean()) > 100
    (low, high), (first, last) = part.bounds(), body.bounds()
    return metal or float(np.linalg.norm(high - low)) < SMALL * float(np.linalg.norm(last - first))


def gone_along(of: tuple[LowClay, Rig], carrier: Part, part: Part, stiff: bool) -> tuple[LowClay, Rig]:
    """A part's lowest level, and its rig as what goes along with a carrier, whose own are given."""
    own = rig_layer(part)
    low = low_clay(part, without="" if own is None else own.id)
    return low, rig_along(of[1], carrier.transform, of[0].mesh, part.transform, low.mesh, stiff)


def found_rigs(
    parts: Sequence[Part],
    body: Part,
    joints: Sequence[Joint],
    free: Callable[[Part], bool] = lambda _: True,
    progress: Progress | None = None,
) -> dict[str, tuple[LowClay, Rig]]:
    """The rigs of a body with joints and of what goes along, with the lowest level of each, by part. Raises `RigError`.

    Where it has a rig already, what goes along with that does so as it did; else what sits on the body, where it is `free`.
    """
    old, layer = rig_of(body), rig_layer(body)
    low = low_clay(body, without="" if layer is None else layer.id)
    rig = made_rig(low, joints, progress, "" if old is None else old.id)
    found = {body.id: (low, rig)}
    held = {one.id: one for one in parts}
    own = {key: mine for key, one in held.items() if (mine := rig_of(one)) is not None}
    along = {key for key, mine in own.items() if old is not None and mine.id == old.id} - {body.id}
    for one in sits_on_body(parts, body, low):
        key = one.part_id
        if (old is None or key in along) and free(held[key]) and one.on in found:
            stiff = own[key].as_one if key in own else one.stiff
            found[key] = gone_along(found[one.on], held[one.on], held[key], stiff)
    for key in along - set(found):
        # What was taken along by hand need not be near.
        if free(held[key]):
            found[key] = gone_along(found[body.id], body, held[key], own[key].as_one)
    return found


def give_rigs(project: Project, made: Mapping[str, tuple[LowClay, Rig]], name: str) -> None:
    """Give parts, by their id, rigs on the layers that they have, or on new ones: one step."""
    with project.at_once(name):
        for key in made:
            # A copy that shares its clay would be turned twice.
            project.give_own(key)
        had = {key: rig for key, (_, rig) in made.items() if rig_of(project.scene.part(key)) is not None}
        if had:
            pose_rigs(project, had, name)
        new = {key: one for key, one in made.items() if key not in had}
        if new:
            add_rigs(project, new, NAME)


def between(body: Transform, other: Transform) -> tuple[F64, F64]:
    """Turn, mirrored where one of them is, (3, 3), and scaled matrix with its shift, (3, 4), from a body's axes to another part's."""
    begins = other.to_part(body.to_scene(np.concatenate([np.zeros((1, 3)), np.eye(3)])))
    linear = (begins[1:] - begins[0]).T
    return linear / np.cbrt(abs(np.linalg.det(linear))), np.column_stack([linear, begins[0]])


def rig_along(rig: Rig, body: Transform, low: Mesh, other: Transform, mesh: Mesh, as_one: bool) -> Rig:
    """A body's rig as that of the lowest level of another part that sits on it; with `as_one` that is stiff."""
    places = body.to_part(other.to_scene(mesh.positions.astype(np.float64))).astype(np.float32)
    which, share = weights_along(rig, low, places, as_one)
    _, whole = between(body, other)
    joints = [
        replace(joint, place=as_vector(whole[:, :3] @ np.array(joint.place) + whole[:, 3]))
        for joint in rig.joints
    ]
    return moved_alike(Rig(tuple(joints), which, share, rig.id), rig, body, other)


def moved_alike(along: Rig, rig: Rig, body: Transform, other: Transform) -> Rig:
    """The rig of what goes along, posed as the body's: joints by their names."""
    turn, whole = between(body, other)
    # An axis of turning goes the other way round in a mirror.
    axial = turn * np.sign(np.linalg.det(turn))
    moves = {
        name: (as_vector(axial @ np.array(turned)), as_vector(whole[:, :3] @ np.array(shifted)))
        for name, (turned, shifted) in rig.moves.items()
    }
    return along.with_moves(moves)


# -- changes --------------------------------------------------------------------------------------


def add_rigs(project: Project, rigs: Mapping[str, tuple[LowClay, Rig]], name: str) -> dict[str, str]:
    """Give parts, by their id, their rigs, as one step: a layer on the lowest level of each. The layers' ids, by part."""
    poses: dict[str, tuple[LowClay, Bending]] = {key: (low, rig) for key, (low, rig) in rigs.items()}
    return add_pose(project, poses, name)


def bring_rigs(
    project: Project, rigs: Mapping[str, Rig], poses: Mapping[str, Sequence[KeptPose]], name: str
) -> None:
    """Give parts that were read their rigs, and the poses that are kept of them, both by the part's id: one step."""
    if not rigs:
        return
    with project.at_once(name):
        add_rigs(project, {key: (low_clay(project.scene.part(key)), rig) for key, rig in rigs.items()}, NAME)
        kept = [replace(one, part=key) for key, some in poses.items() for one in some]
        if kept:
            scene = project.scene
            project.change(name, scene.with_things("poses", (*scene.things("poses"), *kept)))


def pose_rigs(project: Project, rigs: Mapping[str, Rig], name: str) -> None:
    """Exchange the rigs of parts, by their id: one step."""
    layers = {}
    for key in rigs:
        layer = rig_layer(project.scene.part(key))
        assert layer is not None
        layers[key] = layer.id
    poses: dict[str, Bending] = dict(rigs)
    change_pose(project, layers, poses, name)


def posed_alike(scene: Scene, body: Part, rig: Rig) -> dict[str, Rig]:
    """The rigs of a body and of all that goes along, posed as one, by part."""
    out = {body.id: rig}
    for part in rigged(scene, rig.id):
        own = rig_of(part)
        if part.id != body.id and own is not None:
            out[part.id] = moved_alike(own, rig, body.transform, part.transform)
    return out


def rested_alike(scene: Scene, body: Part, rig: Rig) -> dict[str, Rig]:
    """The rigs of a body and of all that goes along, whose joints rest elsewhere or are called otherwise, by part."""
    out = {body.id: rig}
    for part in rigged(scene, rig.id):
        own = rig_of(part)
        if part.id != body.id and own is not None:
            _, whole = between(body.transform, part.transform)
            joints = [
                replace(joint, place=as_vector(whole[:, :3] @ np.array(joint.place) + whole[:, 3]))
                for joint in rig.joints
            ]
            there = replace(own, joints=tuple(joints))
            out[part.id] = moved_alike(there, rig, body.transform, part.transform)
    return out


def remove_rig(project: Project, rig_id: str, name: str) -> None:
    """Take a rig away from all parts that have it: one step."""
    leave_rig(project, [part.id for part in rigged(project.scene, rig_id)], name)


def leave_rig(project: Project, part_ids: Sequence[str], name: str) -> None:
    """Take the rigs away from some parts: one step."""
    several = []
    for part in map(project.scene.part, part_ids):
        layer = rig_layer(part)
        assert layer is not None
        several.append((part, lambda now, key=layer.id: now.without(key)))
    if several:
        change_layers_of(project, several, name)


def rename_joint(project: Project, body: Part, old: str, new: str) -> None:
    """Call a joint of a body's rig otherwise, in its kept poses and motions as well: one step."""
    rig = rig_of(body)
    assert rig is not None
    number = [joint.name for joint in rig.joints].index(old)
    name = f"Call {old} {new}"
    with project.at_once(name):
        pose_rigs(project, rested_alike(project.scene, body, rig.with_joint(number, name=new)), name)
        poses = tuple(
            replace(one, moves=tuple(replace(m, joint=new) if m.joint == old else m for m in one.moves))
            if one.part == body.id
            else one
            for one in project.scene.things("poses")
        )
        motions = tuple(
            replace(one, tracks=tuple(_renamed(track, old, new) for track in one.tracks))
            if one.part == body.id
            else one
            for one in project.scene.things("motions")
        )
        if poses or motions:
            scene = project.scene.with_things("poses", poses)
            project.change(name, scene.with_things("motions", motions))


def _renamed(track: Track, old: str, new: str) -> Track:
    return replace(track, of=new) if track.kind != DIAL and track.of == old else track


def middle_at(mesh: Mesh, spot: F64) -> F64:
    """The middle of the clay at a place (3,) on it: half-way through, then half-way across where it is narrowest."""
    near = int(np.argmin(((mesh.positions - spot.astype(np.float32)) ** 2).sum(axis=1)))
    tree, far = FaceTree.of(mesh), float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))

    def out(start: F64, ways: F64) -> F64:
        points = np.tile(start.astype(np.float32), (len(ways), 1))
        _, off = tree.along(points, ways.astype(np.float32), 0.0, far, 0.0, Progress())
        return np.asarray(off, np.float64)

    inwards = -mesh.normals[near].astype(np.float64)
    start = mesh.positions[near].astype(np.float64)
    deep = float(out(start, inwards[None])[0])
    if not np.isfinite(deep):
        return start
    middle = start + inwards * deep / 2
    side = np.cross(inwards, np.eye(3)[int(np.argmin(np.abs(inwards)))])
    side /= np.linalg.norm(side)
    turn = np.linspace(0, np.pi, ACROSS, endpoint=False)[:, None]
    ways = np.cos(turn) * side + np.sin(turn) * np.cross(inwards, side)
    there, back = out(middle, ways), out(middle, -ways)
    wide = there + back
    k = int(np.argmin(wide))
    return np.asarray(middle + ways[k] * (there[k] - back[k]) / 2) if np.isfinite(wide[k]) else middle


# -- poses kept -----------------------------------------------------------------------------------


def poses_of(scene: Scene, part: Part) -> tuple[KeptPose, ...]:
    """The poses that are kept of a body."""
    return tuple(one for one in scene.things("poses") if one.part == part.id)


def keep_pose(project: Project, part: Part, wanted: str) -> KeptPose:
    """Keep how a body is posed, under a name that no other of its poses has: one step."""
    rig = rig_of(part)
    assert rig is not None
    taken = {one.name for one in poses_of(project.scene, part)}
    name = (
        wanted
        if wanted not in taken
        else next(n for k in range(2, 9999) if (n := f"{wanted} {k}") not in taken)
    )
    moves = tuple(JointMove(joint, turn, shift) for joint, (turn, shift) in rig.moves.items())
    kept = KeptPose(name, part.id, moves)
    scene = project.scene
    project.change(f"Keep {name}", scene.with_things("poses", (*scene.things("poses"), kept)))
    return kept


def _posed_stacks(scene: Scene, body: Part, kept: KeptPose) -> list[tuple[Part, Stack]]:
    """The stacks of a body and of all that goes along, posed as was kept."""
    rig = rig_of(body)
    assert rig is not None
    made = []
    for key, own in posed_alike(scene, body, as_kept(rig, kept)).items():
        part = scene.part(key)
        layer = rig_layer(part)
        assert layer is not None
        stack = stack_of(part).taken(part.mesh.positions)
        made.append((part, stack.with_layer(replace(layer, pose=own, strength=1.0, shown=True))))
    return made


def with_pose(scene: Scene, body: Part, kept: KeptPose) -> Scene:
    """A scene of its own in which a body, with all that goes along, is posed as was kept: nothing of the first one changes."""
    return formed_scene(scene, _posed_stacks(scene, body, kept))


def posed_roughly(scene: Scene, body: Part, kept: KeptPose, most: int) -> Scene:
    """Only a body and what goes along, posed as was kept, on levels of at most so many vertices where there are such."""
    parts = []
    for part, stack in _posed_stacks(scene, body, kept):
        level = stack.level
        while level > 0 and stack.levels[level].topology.n_vertices > most:
            level -= 1
        mesh = Mesh(stack.levels[level].topology, stack.form(level))
        parts.append(replace(part, stack=None, mesh=mesh, mesh_id=new_id()))
    return Scene(tuple(parts))


def forget_pose(project: Project, kept: KeptPose) -> None:
    """Forget a pose: one step."""
    scene = project.scene
    left = tuple(one for one in scene.things("poses") if one.id != kept.id)
    project.change(f"Forget {kept.name}", scene.with_things("poses", left))


def as_kept(rig: Rig, kept: KeptPose) -> Rig:
    """A rig posed as was kept; joints that it does not have any more are left out."""
    return rig.with_moves({move.joint: (move.turn, move.shift) for move in kept.moves})


def rest_moved(rig: Rig, number: int, place: F64, both: bool) -> Rig:
    """A rig whose joint rests at another place (3,), and its twin at the mirror image where both move: weights stay as they are."""
    rig = rig.with_joint(number, place=as_vector(place))
    twin = rig.joints[number].twin
    if both and twin == number:
        return rig.with_joint(number, place=as_vector(place * [0.0, 1.0, 1.0]))
    if both and twin >= 0:
        return rig.with_joint(twin, place=as_vector(place * [-1.0, 1.0, 1.0]))
    return rig


def grown(joints: Sequence[Joint], parent: int, place: F64, both: bool, size: float) -> tuple[Joint, ...]:
    """Joints with one more at a place (3,), hung on another or on none, -1; and with its twin where both sides are wanted."""
    taken = {joint.name for joint in joints}
    out = list(joints)
    middle = abs(place[0]) <= TWIN_NEAR * size
    if both and middle:
        place = place * [0.0, 1.0, 1.0]
    sided = both and not middle
    base = "Root" if parent < 0 else "Joint"
    side = (" left" if place[0] > 0 else " right") if sided else ""
    name = free_joint(base + side, taken)
    out.append(Joint(name, parent, as_vector(place), len(out) if both and middle else -1))
    if sided:
        above = joints[parent].twin if parent >= 0 and joints[parent].twin >= 0 else parent
        other = free_joint(base + (" right" if side == " left" else " left"), {*taken, name})
        out[-1] = replace(out[-1], twin=len(out))
        out.append(Joint(other, above, as_vector(place * [-1.0, 1.0, 1.0]), len(out) - 1))
    return tuple(out)


def pruned(joints: Sequence[Joint], number: int) -> tuple[Joint, ...]:
    """Joints without one, its twin, and all that hangs on them."""
    gone = {number}
    if 0 <= joints[number].twin != number:
        gone.add(joints[number].twin)
    for k, joint in enumerate(joints):
        if joint.parent in gone:
            gone.add(k)
    now = {k: n for n, k in enumerate(k for k in range(len(joints)) if k not in gone)}
    return tuple(
        replace(joint, parent=now.get(joint.parent, -1), twin=now.get(joint.twin, -1))
        for k, joint in enumerate(joints)
        if k not in gone
    )


def spun(rig: Rig, number: int, vector: F64) -> Rig:
    """The rig with a joint turned further by a rotation vector (3,), in radians, as it is posed."""
    parent = rig.joints[number].parent
    under = Rotation.from_matrix(rig.matrices()[parent, :3, :3]) if parent >= 0 else Rotation.identity()
    own = Rotation.from_rotvec(np.radians(rig.joints[number].turn))
    turn = (under.inv() * Rotation.from_rotvec(vector) * under * own).as_rotvec()
    return rig.with_turn(number, np.degrees(turn))


def same_joints(rig: Rig, joints: Sequence[Joint]) -> bool:
    """Whether a rig has these joints, however they are turned."""
    bare = [replace(joint, turn=NOWHERE, shift=NOWHERE) for joint in rig.joints]
    return bare == [replace(joint, turn=NOWHERE, shift=NOWHERE) for joint in joints]


def side_of(mesh: Mesh) -> AnyArray:
    """Which vertices are on the left, x > 0, (n,) bool."""
    return np.asarray(mesh.positions[:, 0] > 0)
