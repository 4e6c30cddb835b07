"""Skeletons, skins and clips of glTF 2.0: written."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from kneten.core.arrays import AnyArray
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
        self.animations: list[dict[str, Any]] = []

    def attributes(self, skin: Skin) -> dict[str, int]:
        """The attributes of a skin's vertices."""
        # Joints without a weight are told as the first: readers need not look for them.
        which = np.where(skin.share > 0, skin.which, 0).astype(np.uint8)
        return {
            "JOINTS_0": self._add(which, 5121, "VEC4", 34962),
            "WEIGHTS_0": self._add(skin.share.astype("<f4"), 5126, "VEC4", 34962),
        }

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
        low, high = float(clip.times.min()), float(clip.times.max())
        times = self._add(clip.times.astype("<f4"), 5126, "SCALAR", 0, min=[low], max=[high])
        samplers: list[dict[str, Any]] = []
        channels: list[dict[str, Any]] = []

        def channel(k: int, path: str, values: AnyArray, kind: str) -> None:
            output = self._add(values.astype("<f4"), 5126, kind, 0)
            samplers.append({"input": times, "interpolation": "LINEAR", "output": output})
            channels.append({"sampler": len(samplers) - 1, "target": {"node": first + k, "path": path}})

        for k, parent in enumerate(skeleton.parents):
            turned = np.abs(clip.turns[:, k, :3]).max() > MOVES or np.abs(skeleton.turns[k, :3]).max() > MOVES
            shifted = np.abs(clip.shifts[:, k]).max() > MOVES or np.abs(skeleton.shifts[k]).max() > MOVES
            if turned:
                # From key to key by the shorter way.
                turns = clip.turns[:, k].copy()
                for m in range(1, len(turns)):
                    if turns[m] @ turns[m - 1] < 0:
                        turns[m] *= -1
                channel(k, "rotation", turns, "VEC4")
            if shifted:
                above = skeleton.places[parent] if parent >= 0 else np.zeros(3)
                channel(k, "translation", skeleton.places[k] - above + clip.shifts[:, k], "VEC3")
        if channels:
            self.animations.append({"name": clip.name, "samplers": samplers, "channels": channels})
