"""Poses of parts: limbs found on their lowest level, what sits on them taken along, each change one undo step."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.live.armature import Armature
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import packed_in
from kneten.core.pose.bending import Bending
from kneten.core.pose.chain import REACH, Hinge, Limb, Pose
from kneten.core.pose.limb import Cut, LimbError, Sections, evened, find_cut, limb_beyond
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.stack import Layer, Stack
from kneten.core.transform import Transform
from kneten.document.blocking import bake
from kneten.document.layering import change_layers_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.scene import Part

NEAR = 1.0
"""Of how thick a limb is where it is thickest, within which another part counts as sitting on it."""

JOINT_NEAR = 1.0
"""Radii of a cut within which a joint of the armature draws it to itself."""

MOSTLY = 0.3
"""Share of a part's places near a limb that lie on what is posed, from which on it goes along without being asked."""

TWIN_APART = 0.6
"""Radii that a limb's middle lies off the plane of symmetry at least, to have a twin across it."""

RING = 24
"""Vertices nearest to a station that say how thick a limb is there."""

STEM = "Pose"


@dataclass(frozen=True, eq=False)
class LowClay:
    """A part's clay on its lowest level, all that was done above brought down to it.

    Attributes
    ----------
    stack : Stack
        With that brought down; the level in hand is as it was.
    mesh : Mesh
        Of level 0, where it is now.
    """

    stack: Stack
    mesh: Mesh


def low_clay(part: Part, without: str = "", progress: Progress | None = None) -> LowClay:
    """A part's lowest level; `without` is the id of a layer whose pose is left aside."""
    progress = progress or Progress()
    stack = packed_in(stack_of(part), part.mesh).taken(part.mesh.positions)
    if stack.level and any(level.owed for level in stack.levels):
        if stack.level == stack.top and stack.recorded is None:
            stack = stack.shared(part.mesh.positions, progress)
        else:
            # What was done above reaches the lowest level by going down and up again.
            level = stack.level
            stack, mesh = stack.stepped(part.mesh, 0, progress)
            stack, mesh = stack.stepped(mesh, level, progress)
            stack = replace(stack, synced=part.mesh.positions.copy())
    at = stack
    if without:
        at = stack.with_layer(replace(stack.layer(without), strength=0.0))
    return LowClay(stack, Mesh(stack.levels[0].topology, at.form(0)))


def place_on(mesh: Mesh, spot: F64) -> tuple[int, F64]:
    """The face of a mesh that is nearest to a place (3,), and its middle (3,). Raises `LimbError` where no clay is near."""
    vertex = int(np.argmin(((mesh.positions - spot.astype(np.float32)) ** 2).sum(axis=1)))
    shape = mesh.topology
    faces = shape.ring_faces[shape.ring[vertex, 0] : shape.ring[vertex, 1]]
    if not len(faces):
        raise LimbError("There is no clay here that could be posed.")
    middles = np.array(
        [
            mesh.positions[corners[corners >= 0]].astype(np.float64).mean(axis=0)
            for corners in shape.faces[faces]
        ]
    )
    nearest = int(np.argmin(((middles - spot) ** 2).sum(axis=1)))
    return int(faces[nearest]), middles[nearest]


@dataclass(frozen=True, eq=False)
class Found:
    """A limb that was pressed on.

    Attributes
    ----------
    pose : Pose
        With one hinge, not bent.
    cut : Cut
        Of the limb that was pressed.
    """

    pose: Pose
    cut: Cut


def joints_of(part: Part) -> F64 | None:
    """Where the armature that a part's clay came from has its balls, (k, 3) in the part's axes; None without one."""
    return part.was.arrays()[0] if isinstance(part.was, Armature) else None


def _at_joint(low: Mesh, cut: Cut, joints: F64) -> Cut:
    """The cut at the joint it is near to, where there is one: an armature knows better than the form."""
    off = np.linalg.norm(joints - cut.middle, axis=1)
    joint = joints[int(np.argmin(off))]
    if off.min() > JOINT_NEAR * cut.radius:
        return cut
    near = int(np.argmin(((low.positions - joint.astype(np.float32)) ** 2).sum(axis=1)))
    found = Sections(low).at_vertex(near, cut.normal)
    if found is None or np.linalg.norm(found.middle - joint) > found.radius:
        return cut
    # It begins on the side that was pressed: the limb curls about what is level with that.
    outwards = found.points - found.middle
    aside = np.linalg.norm(outwards, axis=1)
    first = int(np.argmax(outwards @ (cut.points[0] - cut.middle) / np.maximum(aside, 1e-12)))
    return replace(
        found, points=np.roll(found.points, -first, axis=0), edges=np.roll(found.edges, -first, axis=0)
    )


def find_limb(
    low: Mesh,
    spot: F64,
    mirror: int | None,
    slide: float,
    other_side: bool = False,
    progress: Progress | None = None,
    joints: F64 | None = None,
) -> Found:
    """The limb at a place (3,) of a part's lowest level, and its twin across an axis; it begins at one of `joints` (k, 3) that is near. Raises `LimbError`."""
    face, point = place_on(low, spot)
    cut = find_cut(low, face, point, slide)
    if joints is not None and len(joints) and slide > 0:
        cut = _at_joint(low, cut, joints)
    limb, hinge = limb_beyond(low, cut, other_side, progress)
    limbs = [limb]
    if mirror is not None and abs(cut.middle[mirror]) > TWIN_APART * cut.radius:
        twin = _twin(low, cut, limb, mirror, other_side)
        if twin is not None:
            limbs.append(twin)
    return Found(Pose(tuple(limbs), (hinge,)), cut)


def _twin(low: Mesh, cut: Cut, limb: Limb, axis: int, other_side: bool) -> Limb | None:
    """The same limb on the other side; None where there is none."""
    flip = np.ones(3)
    flip[axis] = -1
    line, across_axis = limb.line * flip.astype(np.float32), limb.across * flip
    gap, same = cKDTree(low.positions).query(low.positions[limb.rows] * flip)
    if gap.max() < 0.01 * cut.radius and len(np.unique(same)) == len(same):
        # The clay is symmetric: to the bit the same stations.
        order = np.argsort(same, kind="stable")
        rows = same[order].astype(np.int32)
        return replace(
            limb, rows=rows, station=limb.station[order], line=line, across=across_axis, mirrored=True
        )
    spot = cut.points[0] * flip
    near = int(np.argmin(((low.positions - spot.astype(np.float32)) ** 2).sum(axis=1)))
    across = Sections(low).at_vertex(near, cut.normal * flip)
    if across is None or np.linalg.norm(across.middle - cut.middle * flip) > 0.5 * cut.radius:
        return None
    try:
        twin, _ = limb_beyond(low, across, other_side)
    except LimbError:
        return None
    if (
        abs(twin.last - limb.last) > 0.5 * limb.last
        or len(np.intersect1d(twin.rows, limb.rows)) > len(limb.rows) / 2
    ):
        return None
    # The very mirror image of the line, so that both bend alike.
    line = limb.line * flip.astype(np.float32)
    return replace(
        twin, line=line, step=limb.step, first=limb.first, across=limb.across * flip, mirrored=True
    )


def limbs_of(layer: Layer) -> Pose | None:
    """The limbs that a layer bends; None where it bends none."""
    return layer.pose if isinstance(layer.pose, Pose) else None


# -- what sits on it -------------------------------------------------------------------------------


@dataclass(frozen=True)
class Rider:
    """A part that sits on a posed limb.

    Attributes
    ----------
    part_id : str
    on : str
        Id of the part that it sits on: the body, or another rider.
    mostly : bool
        It sits more on what is posed than beside it.
    """

    part_id: str
    on: str
    mostly: bool = True


def sitting(parts: Sequence[Part], body: Part, low: Mesh, pose: Pose) -> list[Rider]:
    """Parts that sit on the limbs of a body's pose, or on what sits there: as `riders` has it."""
    reach = NEAR * max(_thickest(limb, low) for limb in pose.limbs) * body.transform.scale
    moved = np.zeros(low.n_vertices, bool)
    for limb in pose.limbs:
        moved[rows_of(limb)] = True
    return riders(parts, body, low, moved, reach)


def riders(parts: Sequence[Part], body: Part, low: Mesh, moved: AnyArray, reach: float) -> list[Rider]:
    """Parts within reach, mm in the scene, of what of a body is moved, (n,) bool, or of what sits there: visible, free, not laid out over others.

    Whatever lies nearer to what is not moved stays. What each sits on comes before it.
    """
    places = body.transform.to_scene(low.positions.astype(np.float64))
    whole = cKDTree(places)
    still = cKDTree(places[~moved]) if not moved.all() else None
    left: dict[str, F64] = {}
    for part in parts:
        if part.id == body.id or not part.visible or part.locked or part.mesh_id == body.mesh_id:
            continue
        if not isinstance(part.recipe, Row | Scatter):
            left[part.id] = some_places(part)
    found: list[Rider] = []
    carriers: dict[str, cKDTree] = {}
    for part_id, some in list(left.items()):
        away, nearest = whole.query(some, distance_upper_bound=reach)
        sits = moved[nearest[np.isfinite(away)]]
        if sits.any():
            found.append(Rider(part_id, body.id, float(sits.mean()) > MOSTLY))
            left.pop(part_id)
            # Only what of it goes along carries more.
            carriers[part_id] = cKDTree(some[moved[whole.query(some)[1]]])
    grown = True
    while grown:
        grown = False
        for part_id, some in list(left.items()):
            gaps = {key: float(tree.query(some)[0].min()) for key, tree in carriers.items()}
            key = min(gaps, key=lambda one: gaps[one], default="")
            far = float(still.query(some)[0].min()) if still is not None else np.inf
            if key and gaps[key] <= 0.3 * reach < far:
                found.append(Rider(part_id, key))
                carriers[part_id] = cKDTree(left.pop(part_id))
                grown = True
    # Who has put things into one group means them to be together.
    groups = {
        part.group
        for part in parts
        if part.group and any(one.part_id == part.id and one.mostly for one in found)
    }
    for part in parts:
        if part.id in left and part.group in groups:
            gap = float(whole.query(left[part.id])[0].min())
            if still is None or gap < float(still.query(left[part.id])[0].min()):
                found.append(Rider(part.id, body.id))
    return found


def _thickest(limb: Limb, low: Mesh) -> float:
    """How far from its line the clay beyond the hinge lies, but for its farthest tenth, mm."""
    rows = limb.station > 0
    if not rows.any():
        return 0.0
    places, _ = limb.frames(limb.station[rows].astype(np.float64))
    return float(np.quantile(np.linalg.norm(low.positions[limb.rows[rows]] - places, axis=1), 0.9))


def some_places(part: Part) -> F64:
    """Some thousand places of a part, (k, 3), in the scene."""
    some = part.mesh.positions[:: max(part.mesh.n_vertices // 2000, 1)]
    return part.transform.to_scene(some.astype(np.float64))


def pose_along(
    pose: Pose, body: Transform, low: Mesh, other: Transform, mesh: Mesh, as_one: bool
) -> Pose | None:
    """The pose of a body as that of the lowest level of another part that sits on it: each vertex takes the station of the clay nearest to it.

    With `as_one` all of it takes the same: it is stiff. None where it does not reach the limb.
    """
    scale = body.scale / other.scale
    places = body.to_part(other.to_scene(mesh.positions.astype(np.float64)))
    tree = cKDTree(low.positions)
    _, nearest = tree.query(places)
    limbs = []
    for limb in pose.limbs:
        dense = stations_on(limb, low.n_vertices, pose.hinges[0].radius)
        own = dense[nearest]
        if as_one:
            # Where it touches counts: what stands far off hangs on that.
            gap = np.linalg.norm(places - low.positions[nearest], axis=1)
            touching = gap <= np.quantile(gap, 0.25)
            own = np.full(len(own), np.float32(np.median(own[touching])), np.float32)
        rows = np.flatnonzero(own > -REACH * pose.hinges[0].radius).astype(np.int32)
        if not len(rows):
            continue
        station = own[rows] if as_one else evened(mesh, rows, own[rows], 6)
        line = other.to_part(body.to_scene(limb.line.astype(np.float64))).astype(np.float32)
        begins = np.stack([limb.line[0].astype(np.float64)] * 2)
        begins[1] += limb.across
        first, across = other.to_part(body.to_scene(begins))
        across = (across - first) / max(float(np.linalg.norm(across - first)), 1e-12)
        own_limb = limb.scaled(rows, (station * scale).astype(np.float32), line, scale, across)
        # Seen in a mirror it bends the other way round.
        flipped = body.mirror != other.mirror
        limbs.append(replace(own_limb, mirrored=limb.mirrored != flipped))
    if not limbs:
        return None
    hinges = tuple(scaled_hinge(hinge, scale) for hinge in pose.hinges)
    return Pose(tuple(limbs), hinges)


def scaled_hinge(hinge: Hinge, scale: float) -> Hinge:
    """A hinge in lengths of which there are `scale` times as many."""
    return replace(hinge, at=hinge.at * scale, band=hinge.band * scale, radius=hinge.radius * scale)


def stations_on(limb: Limb, n: int, radius: float) -> F32:
    """The stations of all `n` vertices (n,): where the limb is not, so far before it that nothing moves."""
    dense = np.full(n, -REACH * radius, np.float32)
    dense[limb.rows] = limb.station
    return dense


def stations_above(pose: Pose, stack: Stack, level: int) -> F32:
    """The stations of all vertices of a level, (n, limbs)."""
    radius = pose.hinges[0].radius
    held: AnyArray = np.stack(
        [stations_on(limb, stack.levels[0].topology.n_vertices, radius) for limb in pose.limbs], axis=1
    )
    for k in range(1, level + 1):
        step = stack.levels[k].step
        assert step is not None
        held = step.refine(stack.levels[k - 1].topology, held, False, np.float32)
    return np.ascontiguousarray(held, np.float32)


# -- changes --------------------------------------------------------------------------------------


def posed_name(project: Project, part_ids: Sequence[str]) -> str:
    """A name for a pose that no layer of the parts has."""
    taken = {layer.name for key in part_ids for layer in stack_of(project.scene.part(key)).layers}
    return STEM if STEM not in taken else next(n for k in range(2, 999) if (n := f"{STEM} {k}") not in taken)


def add_pose(project: Project, poses: Mapping[str, tuple[LowClay, Bending]], name: str) -> dict[str, str]:
    """Pose parts, by their id, as one step: a layer on the lowest level of each. The layers' ids, by part."""
    made: dict[str, str] = {}
    with project.at_once(name):
        # What is made from numbers cannot be bent: it is clay from now on, and remembers them.
        bake(project, [project.scene.part(part_id) for part_id in poses])
        several = []
        for part_id, (low, pose) in poses.items():
            part = project.scene.part(part_id)
            layer = Layer(stack_of(part).free_name(name), pose=pose)
            made[part_id] = layer.id

            def change(now: Stack, low: LowClay = low, layer: Layer = layer) -> Stack:
                # What had been done above is on the lowest level by then.
                base = low.stack if np.array_equal(now.synced, low.stack.synced) else now
                return replace(base, layers=(*base.layers, layer), recording="", solo="")

            several.append((part, change))
        change_layers_of(project, several, name)
    return made


def change_pose(project: Project, layers: Mapping[str, str], poses: Mapping[str, Bending], name: str) -> None:
    """Have the pose of a layer of each part, both by the part's id, otherwise: one step."""
    several = []
    for part_id, layer_id in layers.items():

        def change(now: Stack, layer_id: str = layer_id, part_id: str = part_id) -> Stack:
            return now.with_layer(replace(now.layer(layer_id), pose=poses[part_id], strength=1.0, shown=True))

        several.append((project.scene.part(part_id), change))
    change_layers_of(project, several, name, paint=False)


def with_hinges(pose: Pose, hinges: tuple[Hinge, ...]) -> Pose:
    """A pose with other hinges, told in the lengths of the one it was copied from; its own scale is kept."""
    scale = pose.hinges[0].radius / hinges[0].radius
    return replace(pose, hinges=tuple(scaled_hinge(hinge, scale) for hinge in hinges))


def chain_of(hinge: Hinge, limb: Limb, positions: F32, count: int) -> tuple[Hinge, ...]:
    """So many hinges from one on, evenly along what is left of a limb of clay (n, 3), the last of them before its end."""
    apart = (limb.last - hinge.at) / (count + 0.3)
    band = hinge.band if count == 1 else min(hinge.band, 0.9 * apart)
    plain = replace(hinge, bend=(0.0, 0.0, 0.0), twist=0.0, length=1.0, thickness=1.0, band=band)
    if count == 1:
        return (hinge,)
    places, _ = limb.frames(limb.station.astype(np.float64))
    off = np.linalg.norm(positions[limb.rows] - places, axis=1)
    chain = []
    for k in range(count):
        at = hinge.at + k * apart
        # So many of the nearest as a ring has, however coarse the clay is.
        near = np.argsort(np.abs(limb.station - at))[:RING]
        chain.append(replace(plain, at=at, radius=hinge.radius if k == 0 else float(np.median(off[near]))))
    return tuple(chain)


def rows_of(limb: Limb) -> I32:
    """The vertices (k,) beyond the first hinge."""
    return limb.rows[limb.station > 0]
