"""A body turned at its joints: which joint turns which, and how much each vertex goes along with each.

A joint turns all that hangs on it about its place. A vertex goes along with up to four of them, by its weights; what these
do to it is blended as dual quaternions, so that it stays a turn and a shift, and a twisted limb keeps its thickness
(Kavan, Collins, Zara and O'Sullivan, "Geometric skinning with approximate dual quaternion blending", 2008). For a
vertex that is a rigid move: it is undone exactly, and moves can be told from before it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F32, F64, I32, U8, in_parts, kernel
from kneten.core.words import all_finite

Vector = tuple[float, float, float]

WEIGHTS = 4
"""Joints that a vertex goes along with at most."""

MOST_JOINTS = 255

MOST_TURN = 180.0

NOWHERE: Vector = (0.0, 0.0, 0.0)


class RigError(ValueError):
    """Joints that cannot turn a body, with the reason in words."""


@dataclass(frozen=True)
class Joint:
    """A place about which a body turns.

    Attributes
    ----------
    name : str
    parent : int
        The joint it hangs on, one of those before it; -1 for none.
    place : three floats
        At rest, mm, in the part's axes.
    twin : int
        The joint on the other side; its own number in the middle, -1 without one.
    turn : three floats
        How it is turned: axis times degrees, in the axes of the part at rest, after what it hangs on.
    shift : three floats
        How far it is moved, mm, in the same axes.
    limit : float
        Degrees that it turns at most.
    """

    name: str
    parent: int
    place: Vector
    twin: int = -1
    turn: Vector = NOWHERE
    shift: Vector = NOWHERE
    limit: float = MOST_TURN

    @property
    def still(self) -> bool:
        """Whether it does nothing."""
        return not any(self.turn) and not any(self.shift)


def as_vector(values: F64) -> Vector:
    """An array (3,) as three floats."""
    x, y, z = (float(value) for value in values)
    return x, y, z


def wrong_joints(joints: Sequence[Joint]) -> str:
    """Why joints cannot turn a body; "" where they can."""
    if not 0 < len(joints) <= MOST_JOINTS:
        return f"a rig has 1 to {MOST_JOINTS} joints, not {len(joints)}"
    names = [joint.name for joint in joints]
    for k, joint in enumerate(joints):
        if not joint.name or names.count(joint.name) > 1:
            return f"two joints are called {joint.name}" if joint.name else "a joint has no name"
        if not -1 <= joint.parent < len(joints) or not -1 <= joint.twin < len(joints):
            return f"{joint.name} hangs on a joint that is not there"
        if joint.parent >= k:
            return f"{joint.name} hangs on itself, or on what comes after it"
        if not all_finite(vars(joint)) or not 0 < joint.limit <= MOST_TURN:
            return f"{joint.name} has numbers that make no sense"
        if joint.parent >= 0:
            length = np.linalg.norm(np.subtract(joint.place, joints[joint.parent].place))
            if length < 1e-6:
                return f"{joint.name} lies on {joints[joint.parent].name}: a limb needs some length"
    return ""


@dataclass(frozen=True, eq=False)
class Rig:
    """Joints, and the weights of a part's lowest level.

    Attributes
    ----------
    joints : tuple of Joint
        What a joint hangs on comes before it.
    which : (n, 4) uint8
        For each vertex the joints it goes along with.
    share : (n, 4) float32
        How much with each, 1 together.
    id : str
        Rigs of one body and of what goes along with it have the same.
    """

    joints: tuple[Joint, ...]
    which: U8
    share: F32
    id: str = ""

    @property
    def nbytes(self) -> int:
        """Bytes of its arrays."""
        return self.which.nbytes + self.share.nbytes

    @property
    def still(self) -> bool:
        """Whether it leaves the clay where it is."""
        return all(joint.still for joint in self.joints)

    @property
    def as_one(self) -> bool:
        """Whether all vertices go along alike: it is stiff."""
        return bool((self.which == self.which[:1]).all() and (self.share == self.share[:1]).all())

    @cached_property
    def places(self) -> F64:
        """Where the joints are at rest, (k, 3)."""
        return np.array([joint.place for joint in self.joints], np.float64)

    @cached_property
    def children(self) -> tuple[tuple[int, ...], ...]:
        """For each joint those that hang on it."""
        return tuple(
            tuple(k for k, joint in enumerate(self.joints) if joint.parent == number)
            for number in range(len(self.joints))
        )

    def tail(self, number: int) -> F64:
        """Where what a joint turns ends at rest, (3,): at what hangs on it, else beyond it as far as it came."""
        below = self.children[number]
        if below:
            return np.asarray(self.places[list(below)].mean(axis=0))
        parent = self.joints[number].parent
        place = self.places[number]
        return place + (0.5 * (place - self.places[parent]) if parent >= 0 else np.array([0.0, 1.0, 0.0]))

    def axes(self, number: int) -> F64:
        """A joint's own axes at rest, (3, 3): rows across, aside and along."""
        along = self.tail(number) - self.places[number]
        along = along / max(float(np.linalg.norm(along)), 1e-12)
        # An elbow or a knee bends about what is level, and square to the limb.
        across = np.cross(along, [0.0, 0.0, 1.0])
        if np.linalg.norm(across) < 0.3:
            across = np.cross(along, [0.0, 1.0, 0.0])
        across /= np.linalg.norm(across)
        if across[int(np.argmax(np.abs(across)))] < 0:
            across = -across
        return np.stack([across, np.cross(along, across), along])

    def chain(self, number: int) -> list[int]:
        """A joint and those it hangs on, the nearest first."""
        found = [number]
        while self.joints[found[-1]].parent >= 0:
            found.append(self.joints[found[-1]].parent)
        return found

    # -- posing ---------------------------------------------------------------------------------

    def matrices(self, share: float = 1.0) -> F64:
        """What each joint does to all that hangs on it, (k, 4, 4), posed by a share."""
        turns = np.radians([joint.turn for joint in self.joints]) * share
        found = np.tile(np.eye(4), (len(self.joints), 1, 1))
        found[:, :3, :3] = Rotation.from_rotvec(turns).as_matrix()
        shifts = np.array([joint.shift for joint in self.joints]) * share
        found[:, :3, 3] = self.places + shifts - np.einsum("kij,kj->ki", found[:, :3, :3], self.places)
        for k, joint in enumerate(self.joints):
            if joint.parent >= 0:
                found[k] = found[joint.parent] @ found[k]
        return found

    def places_now(self, share: float = 1.0) -> F64:
        """Where the joints are as it is posed, (k, 3)."""
        moves = self.matrices(share)
        return np.asarray(np.einsum("kij,kj->ki", moves[:, :3, :3], self.places) + moves[:, :3, 3])

    def posed(self, positions: F32, share: float, back: bool = False) -> F32:
        """Places (n, 3) of all of the part posed by a share; with `back` brought back from that."""
        return self.posed_some(positions, self.which, self.share, share, back)

    def posed_some(self, places: F32, which: U8, weights: F32, share: float, back: bool = False) -> F32:
        """Some places (m, 3) posed, whose joints (m, 4) and weights (m, 4) are given."""
        return _run(places, which, weights, duals_of(self.matrices(share)), back, False)

    def turned(self, rows: I32, moves: F32, share: float, back: bool = False) -> F32:
        """Moves (m, 3) of vertices `rows` (m,) as they are once these are posed; with `back` as they were before."""
        duals = duals_of(self.matrices(share))
        return _run(moves.astype(np.float32), self.which[rows], self.share[rows], duals, back, True)

    # -- changes --------------------------------------------------------------------------------

    def with_joint(self, number: int, **words: object) -> Rig:
        """The rig with one joint otherwise. Raises `IndexError` where there is no such joint."""
        if not 0 <= number < len(self.joints):
            raise IndexError(number)
        joint = replace(self.joints[number], **words)  # type: ignore[arg-type]
        return replace(self, joints=(*self.joints[:number], joint, *self.joints[number + 1 :]))

    def with_turn(self, number: int, turn: F64) -> Rig:
        """The rig with a joint turned by a vector (3,) of degrees, as far as its limit lets it."""
        turn = as_short(turn)
        size = float(np.linalg.norm(turn))
        turn = turn * min(1.0, self.joints[number].limit / max(size, 1e-9))
        return self.with_joint(number, turn=as_vector(turn))

    def at_rest(self) -> Rig:
        """The rig with nothing turned."""
        return replace(self, joints=tuple(replace(j, turn=NOWHERE, shift=NOWHERE) for j in self.joints))

    def with_moves(self, moves: Mapping[str, tuple[Vector, Vector]]) -> Rig:
        """The rig turned and shifted as told for joints by their names; the others rest."""
        joints = []
        for joint in self.joints:
            turn, shift = moves.get(joint.name, (NOWHERE, NOWHERE))
            same = joint.turn == turn and joint.shift == shift
            joints.append(joint if same else replace(joint, turn=turn, shift=shift))
        return replace(self, joints=tuple(joints))

    @property
    def moves(self) -> dict[str, tuple[Vector, Vector]]:
        """How the joints are turned and shifted, by their names; without those that rest."""
        return {joint.name: (joint.turn, joint.shift) for joint in self.joints if not joint.still}

    def mirrored(self) -> Rig:
        """The pose seen in a mirror at x = 0: what the left does, the right does."""
        joints = list(self.joints)
        for k, joint in enumerate(self.joints):
            other = self.joints[joint.twin] if joint.twin >= 0 else joint
            (a, b, c), (x, y, z) = other.turn, other.shift
            joints[k] = replace(joint, turn=(a, -b, -c), shift=(-x, y, z))
        return replace(self, joints=tuple(joints))


def as_short(turn: F64) -> F64:
    """The same turn (3,), axis times degrees, by the shorter way: 180 degrees at most."""
    return np.asarray(np.degrees(Rotation.from_rotvec(np.radians(turn)).as_rotvec()))


def mixed(first: Rig, second: Rig, share: float) -> Rig:
    """Between two poses of the same joints, 0 the first, 1 the second: each joint turns the shortest way."""
    joints = []
    for a, b in zip(first.joints, second.joints, strict=True):
        one, other = (Rotation.from_rotvec(np.radians(joint.turn)) for joint in (a, b))
        turn = one * Rotation.from_rotvec((one.inv() * other).as_rotvec() * share)
        shift = np.array(a.shift) * (1 - share) + np.array(b.shift) * share
        joints.append(replace(a, turn=as_vector(np.degrees(turn.as_rotvec())), shift=as_vector(shift)))
    return replace(first, joints=tuple(joints))


def pulled(rig: Rig, number: int, point: F64, target: F64, up: int = 1, rounds: int = 8) -> Rig:
    """The rig with a joint, and so many in all on the way to the body, turned so that a place (3,) at rest that it turns comes to a target (3,).

    Each in turn brings it as near as its limit lets it (Wang and Chen, 1991).
    """
    chain = rig.chain(number)[:up]
    near = 1e-4 * max(float(np.linalg.norm(point - rig.places[number])), 1e-9)
    for _ in range(rounds if up > 1 else 1):
        for k in chain:
            moves = rig.matrices()
            now = moves[number, :3, :3] @ point + moves[number, :3, 3]
            if np.linalg.norm(now - target) < near:
                return rig
            parent = rig.joints[k].parent
            pivot = moves[k, :3, :3] @ rig.places[k] + moves[k, :3, 3]
            have, want = now - pivot, target - pivot
            axis = np.cross(have, want)
            length = float(np.linalg.norm(axis))
            angle = float(np.arctan2(length, have @ want))
            if length < 1e-12 or angle < 1e-7:
                continue
            # A chain shares the way between its joints, or the last would do all of it.
            world = Rotation.from_rotvec(axis / length * angle * (1.0 if up == 1 else 0.5))
            under = Rotation.from_matrix(moves[parent, :3, :3]) if parent >= 0 else Rotation.identity()
            own = Rotation.from_rotvec(np.radians(rig.joints[k].turn))
            rig = rig.with_turn(k, np.degrees((under.inv() * world * under * own).as_rotvec()))
    return rig


# -- blending -------------------------------------------------------------------------------------


def duals_of(moves: F64) -> F64:
    """Rigid moves (k, 4, 4) as dual quaternions (k, 8): the real part w, x, y, z, then the dual one."""
    x, y, z, w = Rotation.from_matrix(moves[:, :3, :3]).as_quat().T
    a, b, c = moves[:, :3, 3].T
    real = np.stack([w, x, y, z], axis=1)
    dual = 0.5 * np.stack(
        [
            -a * x - b * y - c * z,
            a * w + b * z - c * y,
            -a * z + b * w + c * x,
            a * y - b * x + c * w,
        ],
        axis=1,
    )
    return np.concatenate([real, dual], axis=1)


@kernel
def _skin(
    places: F32, which: U8, share: F32, duals: F64, back: bool, linear: bool, first: int, last: int, out: F32
) -> None:  # fmt: skip
    """Move places by the blend of their joints' dual quaternions, or back; `linear` for moves, which only turn."""
    for i in range(first, last):
        # The one it goes along with most says which of two equal turns is meant (antipodal quaternions).
        k0 = which[i, 0]
        w = x = y = z = dw = dx = dy = dz = 0.0
        for j in range(which.shape[1]):
            part = np.float64(share[i, j])
            if part == 0.0:
                continue
            k = which[i, j]
            dot = (
                duals[k, 0] * duals[k0, 0]
                + duals[k, 1] * duals[k0, 1]
                + duals[k, 2] * duals[k0, 2]
                + duals[k, 3] * duals[k0, 3]
            )
            if dot < 0.0:
                part = -part
            w += part * duals[k, 0]
            x += part * duals[k, 1]
            y += part * duals[k, 2]
            z += part * duals[k, 3]
            dw += part * duals[k, 4]
            dx += part * duals[k, 5]
            dy += part * duals[k, 6]
            dz += part * duals[k, 7]
        size = 1.0 / (w * w + x * x + y * y + z * z)
        px, py, pz = np.float64(places[i, 0]), np.float64(places[i, 1]), np.float64(places[i, 2])
        if not linear:
            tx = 2.0 * size * (w * dx - dw * x + y * dz - z * dy)
            ty = 2.0 * size * (w * dy - dw * y + z * dx - x * dz)
            tz = 2.0 * size * (w * dz - dw * z + x * dy - y * dx)
            if back:
                px -= tx
                py -= ty
                pz -= tz
        if back:
            x, y, z = -x, -y, -z
        # v + 2 r x (r x v + w v), for a quaternion that need not have length one.
        cx = y * pz - z * py + w * px
        cy = z * px - x * pz + w * py
        cz = x * py - y * px + w * pz
        qx = px + 2.0 * size * (y * cz - z * cy)
        qy = py + 2.0 * size * (z * cx - x * cz)
        qz = pz + 2.0 * size * (x * cy - y * cx)
        if not linear and not back:
            qx += tx
            qy += ty
            qz += tz
        out[i, 0] = qx
        out[i, 1] = qy
        out[i, 2] = qz


def _run(places: F32, which: U8, share: F32, duals: F64, back: bool, linear: bool) -> F32:
    out = np.empty((len(places), 3), np.float32)
    given, joints = np.ascontiguousarray(places), np.ascontiguousarray(which)
    weights = np.ascontiguousarray(share)
    in_parts(
        len(out), lambda first, last: _skin(given, joints, weights, duals, back, linear, first, last, out)
    )
    return out
