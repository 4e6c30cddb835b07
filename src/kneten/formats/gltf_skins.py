"""Skeletons, skins and clips of glTF 2.0: written and read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, U8, AnyArray
from kneten.core.pose.rig import MOST_JOINTS
from kneten.core.pose.weights import evened
from kneten.formats.clips import DialClip
from kneten.formats.gltf_clips import OWN, ReadClip, read_clips
from kneten.formats.pieces import FormatError
from kneten.formats.skins import Clip, Skeleton, Skin

MOVES = 1e-7
"""How far a joint must be turned or moved from its rest to have keys in a clip."""


class Add(Protocol):
    """Puts an array into the file, and gives the number of its accessor."""

    def __call__(self, table: AnyArray, component: int, kind: str, target: int, **more: Any) -> int:
        """An array (n, ...) of numbers of a kind; `target` 0 for what no vertex reads."""


class Skeletons:
    """The skeletons of a file, each written once."""

    def __init__(self, nodes: list[dict[str, Any]], roots: list[int], add: Add) -> None:
        self._nodes, self._roots, self._add = nodes, roots, add
        self._numbers: dict[int, int] = {}
        self.skins: list[dict[str, Any]] = []
        self._animations: dict[str, dict[str, Any]] = {}

    @property
    def animations(self) -> list[dict[str, Any]]:
        """The clips of the file."""
        return list(self._animations.values())

    def attributes(self, skin: Skin, small: Callable[[AnyArray], U8] | None = None) -> dict[str, int]:
        """The attributes of a skin's vertices; `small` tells weights (n, 4) as bytes."""
        share = skin.share.astype("<f4") if small is None else small(skin.share)
        # Joints without a weight are told as the first: readers need not look for them.
        which = np.where(share > 0, skin.which, 0).astype(np.uint8)
        if small is not None:
            weights = self._add(share, 5121, "VEC4", 34962, normalized=True)
        else:
            weights = self._add(share, 5126, "VEC4", 34962)
        return {"JOINTS_0": self._add(which, 5121, "VEC4", 34962), "WEIGHTS_0": weights}

    def number(self, skeleton: Skeleton) -> int:
        """The number of the skin that a skeleton's objects share; it is written when it is first asked for."""
        known = self._numbers.get(id(skeleton))
        if known is not None:
            return known
        first, nodes = len(self._nodes), self._nodes
        for k, name in enumerate(skeleton.names):
            parent = skeleton.parents[k]
            above = skeleton.places[parent] if parent >= 0 else np.zeros(3)
            node: dict[str, Any] = {
                "name": name,
                "translation": (skeleton.places[k] - above + skeleton.shifts[k]).tolist(),
                "rotation": skeleton.turns[k].tolist(),
            }
            nodes.append(node)
            if parent >= 0:
                nodes[first + parent].setdefault("children", []).append(first + k)
            else:
                self._roots.append(first + k)
        inverse = np.tile(np.eye(4, dtype="<f4"), (len(skeleton.names), 1, 1))
        # Column by column, as the standard has matrices.
        inverse[:, 3, :3] = -skeleton.places
        joints = [first + k for k in range(len(skeleton.names))]
        matrices = self._add(inverse.reshape(-1, 16), 5126, "MAT4", 0)
        self.skins.append({"name": skeleton.name, "joints": joints, "inverseBindMatrices": matrices})
        for clip in skeleton.clips:
            self._animate(clip, skeleton, first)
        self._numbers[id(skeleton)] = len(self.skins) - 1
        return len(self.skins) - 1

    def _animate(self, clip: Clip, skeleton: Skeleton, first: int) -> None:
        channel = self._channels(clip)
        for k, parent in enumerate(skeleton.parents):
            turned = np.abs(clip.turns[:, k, :3]).max() > MOVES or np.abs(skeleton.turns[k, :3]).max() > MOVES
            shifted = np.abs(clip.shifts[:, k]).max() > MOVES or np.abs(skeleton.shifts[k]).max() > MOVES
            if turned:
                # From key to key by the shorter way.
                turns = clip.turns[:, k].copy()
                for m in range(1, len(turns)):
                    if turns[m] @ turns[m - 1] < 0:
                        turns[m] *= -1
                channel(first + k, "rotation", turns, "VEC4")
            if shifted:
                above = skeleton.places[parent] if parent >= 0 else np.zeros(3)
                channel(first + k, "translation", skeleton.places[k] - above + clip.shifts[:, k], "VEC3")

    def dial(self, node: int, clip: DialClip) -> None:
        """Have the shapes of a node go as a clip says."""
        channel = self._channels(clip)
        channel(node, "weights", clip.values.reshape(-1), "SCALAR")

    def _channels(self, told: Clip | DialClip) -> Callable[[int, str, AnyArray, str], None]:
        """What puts values into a clip of the file."""
        asked: list[int] = []

        def channel(node: int, path: str, values: AnyArray, kind: str) -> None:
            if not asked:
                low, high = float(told.times.min()), float(told.times.max())
                asked.append(self._add(told.times.astype("<f4"), 5126, "SCALAR", 0, min=[low], max=[high]))
            clip = self._animations.setdefault(told.key, {"name": told.name, "samplers": [], "channels": []})
            if told.own:
                clip["extras"] = {OWN: told.own}
            output = self._add(values.astype("<f4"), 5126, kind, 0)
            clip["samplers"].append({"input": asked[0], "interpolation": "LINEAR", "output": output})
            target = {"node": node, "path": path}
            clip["channels"].append({"sampler": len(clip["samplers"]) - 1, "target": target})

        return channel


# -- reading --------------------------------------------------------------------------------------

DEEPEST = 256
"""Nodes that hang on each other at most."""

PATHS = ("rotation", "translation", "scale")
"""What of a node moves what hangs on it."""


def node_matrix(node: dict[str, Any]) -> F64:
    """How a node stands in the one above it, (4, 4)."""
    if "matrix" in node:
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    matrix = np.eye(4)
    turn = np.array(node.get("rotation", [0, 0, 0, 1]), np.float64)
    if np.linalg.norm(turn) > 0:
        matrix[:3, :3] = Rotation.from_quat(turn).as_matrix()
    matrix[:3, :3] *= np.array(node.get("scale", [1, 1, 1]), np.float64)
    matrix[:3, 3] = node.get("translation", [0, 0, 0])
    return matrix


def node_matrices(node: dict[str, Any], said: Mapping[str, F64]) -> F64:
    """How a node stands in the one above it at several moments, (m, 4, 4), where a clip says (m, w) of some of it."""
    if "matrix" in node or not said:
        return node_matrix(node)[None]
    count = max(len(one) for one in said.values())
    turn = said.get("rotation", np.array(node.get("rotation", [0, 0, 0, 1]), np.float64)[None])
    if np.linalg.norm(turn[0]) < 1e-12:
        turn = np.array([[0.0, 0.0, 0.0, 1.0]])
    scale = said.get("scale", np.array(node.get("scale", [1, 1, 1]), np.float64)[None])
    out = np.tile(np.eye(4), (count, 1, 1))
    out[:, :3, :3] = Rotation.from_quat(turn).as_matrix() * scale[:, None]
    out[:, :3, 3] = said.get("translation", np.array(node.get("translation", [0, 0, 0]), np.float64)[None])
    return out


class SkinReader:
    """Reads the skins of a file; each skeleton is the same object for all that hang on it."""

    def __init__(
        self, words: dict[str, Any], accessor: Callable[[int], AnyArray], notices: list[str]
    ) -> None:
        self._words, self._accessor, self._notices = words, accessor, notices
        self._clips: list[ReadClip] | None = None
        self._nodes = words.get("nodes", [])
        self._above = {child: k for k, node in enumerate(self._nodes) for child in node.get("children", [])}
        self._known: dict[int, tuple[Skeleton, F64, AnyArray] | None] = {}

    def placed_by(self, number: int) -> F64 | None:
        """What brings the vertices of a skin to where they rest in the scene, (4, 4); None where the skin cannot be had."""
        known = self._skeleton(number)
        return None if known is None else known[1]

    def skin(self, number: int, which: AnyArray, share: AnyArray, rest: AnyArray) -> Skin | None:
        """A skin with vertices at rest (n, 3), their joints (n, 4) and weights (n, 4) as the file has them. Raises `FormatError`."""
        known = self._skeleton(number)
        if known is None:
            return None
        skeleton, _, order = known
        if len(which) and int(which.max()) >= len(order):
            raise FormatError(f"a vertex hangs on joint {int(which.max())}, but its skin has {len(order)}")
        if not np.isfinite(share).all() or (share < 0).any():
            raise FormatError("a weight of a skin is negative, or no number")
        joints, weights = evened(order[which.astype(np.int64)].astype(np.uint8), share.astype(np.float32))
        return Skin(skeleton, np.ascontiguousarray(rest, np.float32), joints, weights)

    @property
    def clips(self) -> list[ReadClip]:
        """The clips of the file. Raises `FormatError`."""
        if self._clips is None:
            self._clips = read_clips(self._words, self._accessor)
        return self._clips

    def _upwards(self, number: int) -> list[int]:
        """A node and all that it hangs on."""
        found = [number]
        while (at := self._above.get(found[-1])) is not None:
            found.append(at)
            if len(found) > DEEPEST:
                raise FormatError("its nodes contain each other in a circle")
        return found

    def _world(self, number: int) -> F64:
        matrix = np.eye(4)
        for at in self._upwards(number):
            matrix = node_matrix(self._nodes[at]) @ matrix
        return matrix

    def _worlds(self, nodes: list[int], clip: ReadClip, times: F64) -> list[F64]:
        """Where nodes stand in the scene at some moments of a clip, (m, 4, 4) each; m is 1 for what rests."""
        known: dict[int, F64] = {}

        def world(at: int) -> F64:
            if at not in known:
                said = {
                    path: clip.curves[at, path].sampled(times) for path in PATHS if (at, path) in clip.curves
                }
                above = self._above.get(at)
                own = node_matrices(self._nodes[at], said)
                known[at] = own if above is None else world(above) @ own
            return known[at]

        return [world(node) for node in nodes]

    def _skeleton(self, number: int) -> tuple[Skeleton, F64, AnyArray] | None:
        if number not in self._known:
            self._known[number] = self._read(self._words["skins"][number])
        return self._known[number]

    def _read(self, words: dict[str, Any]) -> tuple[Skeleton, F64, AnyArray] | None:
        given = words["joints"]
        if len(set(given)) < len(given) or not given:
            raise FormatError("a skin names a joint twice, or none")
        if len(given) > MOST_JOINTS:
            self._notices.append(
                f"A skin has {len(given)} joints, {MOST_JOINTS} at most can be read: it was left out."
            )
            return None
        inverse = np.tile(np.eye(4), (len(given), 1, 1))
        if "inverseBindMatrices" in words:
            table = self._accessor(words["inverseBindMatrices"]).astype(np.float64)
            if table.shape[1] != 16 or len(table) < len(given) or not np.isfinite(table).all():
                raise FormatError("the matrices of a skin do not fit its joints")
            inverse = table[: len(given)].reshape(-1, 4, 4).transpose(0, 2, 1)
        if (np.abs(np.linalg.det(inverse)) < 1e-30).any():
            raise FormatError("the matrix of a joint flattens everything: it cannot be undone")
        order, parents = self._sorted(given)
        nodes = [given[k] for k in order]
        inverse = inverse[order]
        common = self._world(nodes[0]) @ inverse[0]
        places = np.array([(common @ np.linalg.inv(one))[:3, 3] for one in inverse])
        names = self._names(nodes)

        def moves(worlds: list[F64]) -> tuple[F64, F64]:
            back = np.linalg.inv(common)
            return moves_of(
                [one @ rest @ back for one, rest in zip(worlds, inverse, strict=True)], parents, places
            )

        turns, shifts = (one[0] for one in moves([self._world(node)[None] for node in nodes]))
        chain = {above for node in nodes for above in self._upwards(node)}
        clips = []
        for clip in self.clips:
            times = clip.moments(chain, PATHS, len(nodes))
            if len(times):
                told = moves(self._worlds(nodes, clip, times))
                seconds = (times - clip.begins).astype(np.float32)
                clips.append(Clip(clip.name, seconds, *told, key=clip.key))
        skeleton = Skeleton(
            str(words.get("name") or "Rig"), tuple(names), tuple(parents), places, turns, shifts, tuple(clips)
        )
        back = np.empty(len(given), np.int64)
        back[order] = np.arange(len(given))
        return skeleton, common, back

    def _names(self, nodes: list[int]) -> list[str]:
        """What nodes are called, each otherwise."""
        names: dict[str, None] = {}
        for node in nodes:
            wanted = str(self._nodes[node].get("name") or "Joint")
            names[
                next(n for k in range(1, 9999) if (n := f"{wanted} {k}" if k > 1 else wanted) not in names)
            ] = None
        return list(names)

    def _sorted(self, given: list[int]) -> tuple[list[int], list[int]]:
        """The joints with what each hangs on before it, as places in the skin's list; and for each of these the number of that, -1 for none."""
        at = {node: k for k, node in enumerate(given)}

        def parent(node: int) -> int:
            up, deep = self._above.get(node), 0
            while up is not None and up not in at:
                up, deep = self._above.get(up), deep + 1
                if deep > DEEPEST:
                    raise FormatError("its nodes contain each other in a circle")
            return -1 if up is None else at[up]

        above = [parent(node) for node in given]
        order: list[int] = []
        left = list(range(len(given)))
        while left:
            ready = [k for k in left if above[k] < 0 or above[k] in order]
            if not ready:
                raise FormatError("the joints of a skin hang on each other in a circle")
            order += ready
            left = [k for k in left if k not in ready]
        now = {k: n for n, k in enumerate(order)}
        return order, [now.get(above[k], -1) for k in order]


def moves_of(placed: list[F64], parents: list[int], places: F64) -> tuple[F64, F64]:
    """The turns (m, k, 4) and shifts (m, k, 3) of joints at m moments, given what brings what hangs on each from its rest to where it is, (m, 4, 4) or (1, 4, 4). Raises `FormatError` where one is scaled to nothing."""
    count = max(len(one) for one in placed)
    turns, shifts = np.empty((count, len(placed), 4)), np.empty((count, len(placed), 3))
    for k, parent in enumerate(parents):
        if (np.abs(np.linalg.det(placed[k])) < 1e-36).any():
            raise FormatError("a joint is scaled to nothing")
        own = np.linalg.inv(placed[parent]) @ placed[k] if parent >= 0 else placed[k]
        scale = np.cbrt(np.abs(np.linalg.det(own[:, :3, :3])))
        turns[:, k] = Rotation.from_matrix(own[:, :3, :3] / scale[:, None, None]).as_quat()
        shifts[:, k] = own[:, :3, :3] @ places[k] + own[:, :3, 3] - places[k]
    return turns, shifts
