"""Skeletons, skins, blend shapes and clips of USD: written and read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.arrays import F64, AnyArray
from kneten.core.pose.rig import MOST_JOINTS
from kneten.core.pose.weights import evened
from kneten.formats.clips import DialClip
from kneten.formats.gltf_skins import moves_of
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.skins import Clip, Skeleton, Skin
from kneten.formats.targets import Targets

PACE = 24.0
"""Time codes of a second."""

STILL = 1e-7
"""What a vertex moves less than is not told of a blend shape, in the file's unit."""

MOST_SAMPLES = 20_000
"""Moments of an animation that are read at most."""


class _Played:
    """One skeleton on the stage, and what plays on it."""

    def __init__(self, path: str, skeleton: Skeleton | None) -> None:
        self.path, self.skeleton = path, skeleton
        self.shapes: dict[str, float] = {}
        self.dials: dict[str, tuple[DialClip, tuple[str, ...]]] = {}


class Skels:
    """Hangs meshes on skeletons, each of which is written once."""

    def __init__(self, lib: Any, stage: Any, root: str) -> None:
        self._lib, self._stage, self._root = lib, stage, root
        self._known: dict[int, _Played] = {}
        self._last = 0.0

    def bind(self, mesh: Any, piece: Piece) -> None:
        """Let a mesh follow its joints and shapes, if it has any."""
        if piece.skin is None and (piece.targets is None or not piece.targets.names):
            return
        lib = self._lib
        skeleton = None if piece.skin is None else piece.skin.skeleton
        played = self._known.get(id(skeleton) if skeleton is not None else id(piece))
        if played is None:
            played = self._skeleton(skeleton)
            self._known[id(skeleton) if skeleton is not None else id(piece)] = played
        api = lib.UsdSkel.BindingAPI.Apply(mesh.GetPrim())
        api.CreateSkeletonRel().SetTargets([played.path])
        if piece.skin is not None:
            which = np.where(piece.skin.share > 0, piece.skin.which, 0).astype(np.int32)
            share = piece.skin.share / np.maximum(piece.skin.share.sum(axis=1, keepdims=True), 1e-12)
            api.CreateJointIndicesPrimvar(False, 4).Set(lib.Vt.IntArray.FromNumpy(which.reshape(-1)))
            api.CreateJointWeightsPrimvar(False, 4).Set(
                lib.Vt.FloatArray.FromNumpy(np.ascontiguousarray(share.reshape(-1), np.float32))
            )
        else:
            api.CreateJointIndicesPrimvar(True, 1).Set(lib.Vt.IntArray([0]))
            api.CreateJointWeightsPrimvar(True, 1).Set(lib.Vt.FloatArray([1.0]))
        api.CreateGeomBindTransformAttr(lib.Gf.Matrix4d(1.0))
        if piece.targets is not None:
            self._shapes(mesh, api, piece.targets, played)

    def _shapes(self, mesh: Any, api: Any, targets: Targets, played: _Played) -> None:
        lib, paths, tokens = self._lib, [], []
        taken: set[str] = set()
        for name, dial, moves in zip(targets.names, targets.dials, targets.moves, strict=True):
            plain = lib.Tf.MakeValidIdentifier(name)
            token = next(n for k in range(1, 9999) if (n := plain if k == 1 else f"{plain}_{k}") not in taken)
            taken.add(token)
            shape = lib.UsdSkel.BlendShape.Define(self._stage, f"{mesh.GetPath()}/{token}")
            shape.GetPrim().SetDisplayName(name)
            rows = np.flatnonzero(np.abs(moves).max(axis=1) > STILL).astype(np.int32)
            if len(rows) == 0:
                rows = np.zeros(1, np.int32)
            shape.CreateOffsetsAttr(
                lib.Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(moves[rows], np.float32))
            )
            shape.CreatePointIndicesAttr(lib.Vt.IntArray.FromNumpy(rows))
            paths.append(shape.GetPath())
            tokens.append(token)
            played.shapes.setdefault(token, dial)
        api.CreateBlendShapesAttr(lib.Vt.TokenArray(tokens))
        api.CreateBlendShapeTargetsRel().SetTargets(paths)
        for clip in targets.clips:
            played.dials.setdefault(clip.key, (clip, tuple(tokens)))

    def _skeleton(self, skeleton: Skeleton | None) -> _Played:
        lib = self._lib
        number = len(self._known)
        path = f"{self._root}/Skeleton{number + 1 if number else ''}"
        made = lib.UsdSkel.Skeleton.Define(self._stage, path)
        if skeleton is None:
            still = lib.Vt.Matrix4dArray([lib.Gf.Matrix4d(1.0)])
            made.CreateJointsAttr(lib.Vt.TokenArray(["Root"]))
            made.CreateBindTransformsAttr(still)
            made.CreateRestTransformsAttr(still)
            return _Played(path, None)
        made.GetPrim().SetDisplayName(skeleton.name)
        made.CreateJointsAttr(lib.Vt.TokenArray(self._joints(skeleton)))
        made.CreateJointNamesAttr(lib.Vt.TokenArray(list(skeleton.names)))
        own = _local(skeleton)
        made.CreateBindTransformsAttr(lib.Vt.Matrix4dArray([_placed(lib, at) for at in skeleton.places]))
        made.CreateRestTransformsAttr(lib.Vt.Matrix4dArray([_placed(lib, at) for at in own]))
        return _Played(path, skeleton)

    def _joints(self, skeleton: Skeleton) -> list[str]:
        """Joints as ways from the root, each part of it a name that the format allows."""
        ways: list[str] = []
        for name, parent in zip(skeleton.names, skeleton.parents, strict=True):
            plain = self._lib.Tf.MakeValidIdentifier(name)
            under = f"{ways[parent]}/" if parent >= 0 else ""
            ways.append(
                next(
                    w
                    for k in range(1, 9999)
                    if (w := f"{under}{plain}{'' if k == 1 else f'_{k}'}") not in ways
                )
            )
        return ways

    def finish(self) -> None:
        """Write what plays on the skeletons: how all stands now, and every clip over time."""
        for played in self._known.values():
            clips = () if played.skeleton is None else played.skeleton.clips
            keys = list(dict.fromkeys([*(clip.key for clip in clips), *played.dials]))
            moving = [key for key in keys if self._long(key, clips, played)]
            order = [*moving, *(key for key in keys if key not in moving)] or [""]
            animations = [self._animation(played, number, key) for number, key in enumerate(order)]
            prim = self._stage.GetPrimAtPath(played.path)
            api = self._lib.UsdSkel.BindingAPI.Apply(prim)
            api.CreateAnimationSourceRel().SetTargets([animations[0]])
        if self._last > 0:
            self._stage.SetStartTimeCode(0.0)
            self._stage.SetEndTimeCode(self._last * PACE)
            self._stage.SetTimeCodesPerSecond(PACE)

    @staticmethod
    def _long(key: str, clips: tuple[Clip, ...], played: _Played) -> bool:
        if any(clip.key == key and len(clip.times) > 1 for clip in clips):
            return True
        return key in played.dials and len(played.dials[key][0].times) > 1

    def _animation(self, played: _Played, number: int, key: str) -> Any:
        """One clip, with how all stands now as what it is outside of time."""
        lib, skeleton = self._lib, played.skeleton
        clip = None if skeleton is None else next((one for one in skeleton.clips if one.key == key), None)
        dialled = played.dials.get(key)
        title = clip.name if clip is not None else dialled[0].name if dialled is not None else "Now"
        path = f"{played.path}/{lib.Tf.MakeValidIdentifier(title)}_{number + 1}"
        made = lib.UsdSkel.Animation.Define(self._stage, path)
        made.GetPrim().SetDisplayName(title)
        if skeleton is not None:
            made.CreateJointsAttr(lib.Vt.TokenArray(self._joints(skeleton)))
            own, count = _local(skeleton), len(skeleton.names)
            moved, turned = made.CreateTranslationsAttr(), made.CreateRotationsAttr()
            made.CreateScalesAttr(lib.Vt.Vec3hArray([lib.Gf.Vec3h(1, 1, 1)] * count))
            moments: list[tuple[Any, F64, F64]] = [
                (lib.Usd.TimeCode.Default(), skeleton.turns, skeleton.shifts)
            ]
            if clip is not None:
                turns = _shortest(clip.turns)
                moments += [
                    (lib.Usd.TimeCode(float(at) * PACE), turns[m], clip.shifts[m])
                    for m, at in enumerate(clip.times)
                ]
                self._last = max(self._last, float(clip.times.max()))
            for when, turn, shift in moments:
                moved.Set(lib.Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(own + shift, np.float32)), when)
                turned.Set(
                    lib.Vt.QuatfArray([lib.Gf.Quatf(q[3], q[0], q[1], q[2]) for q in turn.tolist()]), when
                )
        if played.shapes:
            tokens = list(played.shapes)
            made.CreateBlendShapesAttr(lib.Vt.TokenArray(tokens))
            weights = made.CreateBlendShapeWeightsAttr()
            now = np.array(list(played.shapes.values()), np.float32)
            weights.Set(lib.Vt.FloatArray.FromNumpy(now))
            if dialled is not None:
                told, some = dialled
                for at, row in zip(told.times, told.values, strict=True):
                    full = dict(played.shapes) | dict(zip(some, row.tolist(), strict=True))
                    values = np.array([full[token] for token in tokens], np.float32)
                    weights.Set(lib.Vt.FloatArray.FromNumpy(values), lib.Usd.TimeCode(float(at) * PACE))
                self._last = max(self._last, float(told.times.max()))
        return made.GetPath()


def _local(skeleton: Skeleton) -> F64:
    """Where joints are at rest from what they hang on, (k, 3)."""
    above = np.array([skeleton.places[p] if p >= 0 else np.zeros(3) for p in skeleton.parents])
    return np.asarray(skeleton.places - above.reshape(-1, 3))


def _placed(lib: Any, at: F64) -> Any:
    return lib.Gf.Matrix4d(1.0).SetTranslate(lib.Gf.Vec3d(*at.tolist()))


def _shortest(turns: F64) -> F64:
    """Quaternions (m, k, 4) that go from moment to moment by the shorter way."""
    out = turns.copy()
    for m in range(1, len(out)):
        out[m, np.einsum("kq,kq->k", out[m], out[m - 1]) < 0] *= -1
    return out


# -- in -------------------------------------------------------------------------------------------


class SkelReader:
    """Reads what meshes hang on; each skeleton is the same object for all that hang on it."""

    def __init__(self, lib: Any, stage: Any, into: F64, notices: list[str]) -> None:
        self._lib, self._stage, self._into, self._notices = lib, stage, into, notices
        self._cache: Any = None
        self._known: dict[str, tuple[Skeleton, F64, AnyArray] | None] = {}

    def hung(self, prim: Any, piece: Piece, placed: F64) -> Piece:
        """An object with the joints and shapes that the file has of it; `placed`, as rows (4, 4), is what brought it to the scene. Raises `FormatError`."""
        lib = self._lib
        if not prim.HasAPI(lib.UsdSkel.BindingAPI):
            return piece
        api = lib.UsdSkel.BindingAPI(prim)
        hangs = api.GetInheritedSkeleton()
        skeleton = hangs.GetPrim() if hangs else None
        root = lib.UsdSkel.Root.Find(prim)
        found = self._skin(prim, api, skeleton, piece) if skeleton and root else None
        if found is not None:
            # Joints bring the clay to how it is posed: what is told of it is how it rests.
            skin, placed = found
            piece = replace(piece, positions=skin.rest, skin=skin)
        return replace(piece, targets=self._targets(prim, api, skeleton, piece, placed[:3, :3]))

    def _skin(self, prim: Any, api: Any, skeleton: Any, piece: Piece) -> tuple[Skin, F64] | None:
        lib = self._lib
        names = api.GetJointIndicesPrimvar(), api.GetJointWeightsPrimvar()
        if not all(one and one.HasValue() for one in names):
            return None
        which = np.array(names[0].ComputeFlattened(), np.int64)
        share = np.array(names[1].ComputeFlattened(), np.float64)
        n, wide = len(piece.positions), max(int(names[0].GetElementSize()), 1)
        if str(names[0].GetInterpolation()) == "constant":
            which, share = np.tile(which[:wide], n), np.tile(share[:wide], n)
        if len(which) != n * wide or len(share) != n * wide:
            raise FormatError(f"the joints and weights of {piece.name} do not fit its vertices")
        known = self._skeleton(skeleton)
        if known is None:
            return None
        told, common, order = known
        which, share = which.reshape(n, wide), share.reshape(n, wide)
        if not np.isfinite(share).all() or (share < 0).any():
            raise FormatError(f"a weight of {piece.name} is negative, or no number")
        if api.GetJointsAttr().HasAuthoredValue():
            of_skeleton = {
                str(one): k for k, one in enumerate(lib.UsdSkel.Skeleton(skeleton).GetJointsAttr().Get())
            }
            try:
                own = np.array([of_skeleton[str(one)] for one in api.GetJointsAttr().Get()])
            except KeyError as error:
                raise FormatError(f"{piece.name} hangs on a joint that its skeleton lacks") from error
            if which.min() < 0 or which.max() >= len(own):
                raise FormatError(f"{piece.name} hangs on a joint that is not there")
            which = own[which]
        if which.min(initial=0) < 0 or which.max(initial=0) >= len(order):
            raise FormatError(f"{piece.name} hangs on a joint that is not there")
        if wide > 4:
            self._notices.append("Some vertices hang on more than four joints: the four heaviest were taken.")
            best = np.argsort(-share, axis=1, kind="stable")[:, :4]
            which, share = np.take_along_axis(which, best, 1), np.take_along_axis(share, best, 1)
        blank = np.zeros((n, max(4 - wide, 0)))
        which = np.concatenate([order[which], blank.astype(np.int64)], axis=1)
        share = np.concatenate([share, blank], axis=1)
        bare = share.sum(axis=1) <= 0
        share[bare, 0] = 1.0
        joints, weights = evened(which.astype(np.uint8), share.astype(np.float32))
        geometry = np.array(api.GetGeomBindTransformAttr().Get() or lib.Gf.Matrix4d(1.0))
        points = np.array(
            lib.UsdGeom.Mesh(prim).GetPointsAttr().Get(lib.Usd.TimeCode.EarliestTime()), np.float64
        )
        rest = geometry @ common
        placed = points.reshape(-1, 3) @ rest[:3, :3] + rest[3, :3]
        return Skin(told, np.ascontiguousarray(placed, np.float32), joints, weights), rest

    def _skeleton(self, prim: Any) -> tuple[Skeleton, F64, AnyArray] | None:
        key = str(prim.GetPath())
        if key not in self._known:
            self._known[key] = self._read(prim)
        return self._known[key]

    def _read(self, prim: Any) -> tuple[Skeleton, F64, AnyArray] | None:
        """A skeleton; what brings what rests with it to the scene, as rows (4, 4); and where each joint of the file stands in it."""
        lib = self._lib
        made = lib.UsdSkel.Skeleton(prim)
        ways = [str(one) for one in made.GetJointsAttr().Get() or ()]
        bind = np.array(made.GetBindTransformsAttr().Get() or [], np.float64).reshape(-1, 4, 4)
        if not ways or len(set(ways)) < len(ways) or len(bind) != len(ways):
            raise FormatError("a skeleton names a joint twice, or does not say where they rest")
        if len(ways) > MOST_JOINTS:
            self._notices.append(
                f"A skeleton has {len(ways)} joints, {MOST_JOINTS} at most can be read: it was left out."
            )
            return None
        if (np.abs(np.linalg.det(bind)) < 1e-30).any() or not np.isfinite(bind).all():
            raise FormatError("the matrix of a joint flattens everything: it cannot be undone")
        order = np.argsort([way.count("/") for way in ways], kind="stable")
        at = {ways[k]: n for n, k in enumerate(order)}
        parents = [_above(ways[k], at) for k in order]
        own = lib.UsdGeom.XformCache(lib.Usd.TimeCode.EarliestTime()).GetLocalToWorldTransform(prim)
        common = np.array(own) @ self._into
        # As columns, which is what joints are told in.
        rest = [(bind[k] @ common).T for k in order]
        places = np.array([one[:3, 3] for one in rest])
        query = self._query(made)
        source: Any = query.GetAnimQuery() if query else None

        def worlds(when: Any) -> F64 | None:
            found = query.ComputeJointSkelTransforms(when) if query else None
            return None if found is None else np.array(found, np.float64).reshape(-1, 4, 4)

        def told(moments: list[F64]) -> tuple[F64, F64]:
            stacks = []
            for n, k in enumerate(order):
                now = np.array([(one[k] @ common).T for one in moments])
                stacks.append(now @ np.linalg.inv(rest[n]))
            return moves_of(stacks, parents, places)

        now = worlds(lib.Usd.TimeCode.Default())
        turns, shifts = (one[0] for one in told([now if now is not None else bind]))
        clips: list[Clip] = []
        times = list(source.GetJointTransformTimeSamples()) if source else []
        if len(times) > 1:
            pace = float(self._stage.GetTimeCodesPerSecond()) or PACE
            times = times[:: -(-len(times) // MOST_SAMPLES)]
            frames = [one for at_time in times if (one := worlds(lib.Usd.TimeCode(at_time))) is not None]
            if len(frames) == len(times):
                seconds = ((np.array(times) - times[0]) / pace).astype(np.float32)
                title = source.GetPrim().GetDisplayName() or source.GetPrim().GetName()
                clips.append(Clip(title, seconds, *told(frames), key=str(source.GetPrim().GetPath())))
        labels = made.GetJointNamesAttr().Get()
        titles = (
            [str(one) for one in labels]
            if labels and len(labels) == len(ways)
            else [way.rpartition("/")[2] for way in ways]
        )
        names: dict[str, None] = {}
        for k in order:
            wanted = titles[k] or "Joint"
            names[
                next(n for i in range(1, 9999) if (n := wanted if i == 1 else f"{wanted} {i}") not in names)
            ] = None
        skeleton = Skeleton(
            str(prim.GetDisplayName() or prim.GetName()),
            tuple(names),
            tuple(parents),
            places,
            turns,
            shifts,
            tuple(clips),
        )
        where = np.empty(len(ways), np.int64)
        where[order] = np.arange(len(ways))
        return skeleton, common, where

    def _query(self, skeleton: Any) -> Any:
        if self._cache is None:
            lib = self._lib
            self._cache = lib.UsdSkel.Cache()
            for prim in self._stage.Traverse():
                if prim.IsA(lib.UsdSkel.Root):
                    self._cache.Populate(lib.UsdSkel.Root(prim), lib.Usd.PrimDefaultPredicate)
        return self._cache.GetSkelQuery(skeleton)

    def _targets(self, prim: Any, api: Any, skeleton: Any, piece: Piece, matrix: F64) -> Targets | None:
        lib = self._lib
        tokens = [str(one) for one in api.GetBlendShapesAttr().Get() or ()]
        paths = api.GetBlendShapeTargetsRel().GetTargets()
        if not tokens or len(tokens) != len(paths):
            return None
        names, moves = [], []
        for token, path in zip(tokens, paths, strict=True):
            shape = lib.UsdSkel.BlendShape(self._stage.GetPrimAtPath(path))
            if not shape:
                raise FormatError(f"the blend shape {token} is not there")
            offsets = np.array(shape.GetOffsetsAttr().Get() or [], np.float64).reshape(-1, 3)
            rows = shape.GetPointIndicesAttr().Get()
            rows = np.arange(len(offsets)) if rows is None or not len(rows) else np.array(rows, np.int64)
            if len(rows) != len(offsets) or (
                len(rows) and not 0 <= rows.min() <= rows.max() < len(piece.positions)
            ):
                raise FormatError(f"the blend shape {token} moves other vertices than there are")
            move = np.zeros((len(piece.positions), 3))
            move[rows] = offsets @ matrix
            moves.append(move.astype(np.float32))
            names.append(shape.GetPrim().GetDisplayName() or token)
        weights, clips = self._dials(skeleton, tokens)
        return Targets(piece.positions, tuple(names), weights, tuple(moves), clips)

    def _dials(self, skeleton: Any, tokens: list[str]) -> tuple[tuple[float, ...], tuple[DialClip, ...]]:
        """How far shapes are dialled now, and over time."""
        lib = self._lib
        none = tuple(0.0 for _ in tokens)
        if not skeleton:
            return none, ()
        query = self._query(lib.UsdSkel.Skeleton(skeleton))
        source = query.GetAnimQuery() if query else None
        if not source:
            return none, ()
        order = [str(one) for one in source.GetBlendShapeOrder() or ()]

        def at(when: Any) -> list[float]:
            values: Mapping[str, float] = dict(
                zip(order, source.ComputeBlendShapeWeights(when) or (), strict=False)
            )
            return [float(values.get(token, 0.0)) for token in tokens]

        times = list(source.GetBlendShapeWeightTimeSamples())
        clips: tuple[DialClip, ...] = ()
        if len(times) > 1:
            pace = float(self._stage.GetTimeCodesPerSecond()) or PACE
            rows = np.array([at(lib.Usd.TimeCode(one)) for one in times])
            title = source.GetPrim().GetDisplayName() or source.GetPrim().GetName()
            seconds = (np.array(times) - times[0]) / pace
            clips = (DialClip(str(source.GetPrim().GetPath()), title, seconds, rows),)
        return tuple(at(lib.Usd.TimeCode.Default())), clips


def _above(way: str, at: dict[str, int]) -> int:
    """The number of the joint that another hangs on, -1 for none."""
    while "/" in way:
        way = way.rpartition("/")[0]
        if way in at:
            return at[way]
    return -1
