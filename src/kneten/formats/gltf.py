"""glTF 2.0 read: one GLB file, or .gltf with its buffers beside it or inside it; `gltf_write.py` writes it."""

from __future__ import annotations

import base64
import binascii
import json
import struct
import urllib.parse
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64, U8, AnyArray, Progress
from kneten.core.values import PLAIN, VALUES
from kneten.formats.clips import DialClip
from kneten.formats.gltf_skins import SkinReader, node_matrix
from kneten.formats.light_codes import to_srgb
from kneten.formats.pieces import (
    MOST_CORNERS,
    FormatError,
    Piece,
    Pieces,
    check_objects,
    checked_faces,
    drop_degenerate,
    drop_repeated,
    finite_positions,
)
from kneten.formats.targets import Targets

COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KNOWN_EXTENSIONS = {
    "KHR_materials_unlit", "KHR_texture_transform", "KHR_mesh_quantization", "KHR_materials_clearcoat",
}  # fmt: skip
MAX_DEPTH = 256

MOST_BLANK = 1 << 30
"""Bytes that an accessor without data may ask for."""

MOST_MOVES = 400_000_000
"""Vertices that all morph targets of an object move together at most: 4.8 GB."""

COAT = "KHR_materials_clearcoat"

OWN_MATERIAL = "_MATERIAL"
"""The attribute that has roughness, metalness, subsurface and wet of each vertex; other programs leave it alone."""


def read_gltf(path: Path, progress: Progress) -> Pieces:
    """Read a .glb or .gltf file. Raises `FormatError`, `OSError`."""
    data = path.read_bytes()
    blob = b""
    if data[:4] == b"glTF":
        text, blob = _split_glb(data)
    else:
        text = data
    try:
        words = json.loads(text)
    except (UnicodeDecodeError, json.JSONDecodeError) as error:
        at = f", line {error.lineno}, column {error.colno}" if isinstance(error, json.JSONDecodeError) else ""
        raise FormatError(f"its description is not JSON{at}") from error
    if not isinstance(words, dict) or "asset" not in words:
        raise FormatError("it is not a glTF file")
    version = str(words["asset"].get("version", "2")) if isinstance(words["asset"], dict) else "2"
    if not version.startswith("2"):
        raise FormatError(f"it is glTF {version[:8]}; Kneten reads glTF 2.0, convert it first")
    foreign = set(words.get("extensionsRequired", [])) - KNOWN_EXTENSIONS
    if foreign:
        raise FormatError(f"it needs the extension {sorted(foreign)[0]}, which Kneten cannot read")
    try:
        return _Reader(words, path, blob).read(progress)
    except KeyError as error:
        raise FormatError(f"its description does not fit together: {error} is missing") from error
    except IndexError as error:
        raise FormatError(
            "its description does not fit together: it names something that is not there"
        ) from error
    except (TypeError, AttributeError) as error:
        raise FormatError(
            "its description does not fit together: something is of another kind than it should be"
        ) from error


def _split_glb(data: bytes) -> tuple[bytes, bytes]:
    if len(data) < 20:
        raise FormatError("it is too short for a GLB file: it was cut short")
    _, version, length = struct.unpack_from("<4sII", data)
    if version != 2:
        raise FormatError(f"it is glTF version {version}; Kneten reads version 2")
    if length > len(data):
        raise FormatError(f"it says {length:,} bytes but is {len(data):,} long: it was cut short")
    at = 12
    text = blob = b""
    while at + 8 <= length:
        size, kind = struct.unpack_from("<II", data, at)
        chunk = data[at + 8 : at + 8 + size]
        if len(chunk) < size:
            raise FormatError("a chunk was cut short")
        if kind == 0x4E4F534A:
            text = chunk
        elif kind == 0x004E4942 and not blob:
            blob = chunk
        at += 8 + size + (-size) % 4
    return text, blob


class _Reader:
    def __init__(self, words: dict[str, Any], path: Path, blob: bytes) -> None:
        self.words = words
        self.path = path
        self.blob = blob
        self.buffers: dict[int, bytes] = {}
        self.result = Pieces()
        self._corners = 0
        self._sizes: list[int] = []
        self._skins = SkinReader(words, self._accessor, self.result.notices)

    def read(self, progress: Progress) -> Pieces:
        nodes = self.words.get("nodes", [])
        scenes = self.words.get("scenes", [])
        if scenes:
            roots = scenes[self.words.get("scene", 0)].get("nodes", [])
        else:
            children = {c for node in nodes for c in node.get("children", [])}
            roots = [i for i in range(len(nodes)) if i not in children]
        stack = [(root, np.eye(4), 0) for root in reversed(roots)]
        visited: set[int] = set()
        while stack:
            index, above, depth = stack.pop()
            # The standard has a node in one place only: in several, 40 of them could stand for a million million.
            if index in visited or depth > MAX_DEPTH:
                raise FormatError("its nodes contain each other in a circle, or stand in several places")
            visited.add(index)
            node = nodes[index]
            matrix = above @ node_matrix(node)
            if "mesh" in node:
                self._mesh(index, node, matrix)
                check_objects(len(self.result.pieces))
                progress.report(min(len(visited) / len(nodes), 1.0), "Reading")
            stack += [(c, matrix, depth + 1) for c in reversed(node.get("children", []))]
        if not self.result.pieces:
            raise FormatError("there are no meshes with triangles")
        return self.result

    def _mesh(self, number: int, node: dict[str, Any], matrix: F64) -> None:
        mesh = self.words["meshes"][node["mesh"]]
        positions, faces, colours, materials = [], [], [], []
        hangs: list[tuple[AnyArray, AnyArray] | None] = []
        bends: list[list[AnyArray]] = []
        laid: list[AnyArray | None] = []
        offset = 0
        shared: dict[int, int] = {}
        for primitive in mesh["primitives"]:
            mode = primitive.get("mode", 4)
            if mode not in (4, 5, 6):
                continue
            accessor = primitive["attributes"]["POSITION"]
            points = self._accessor(accessor)
            if accessor not in shared:
                shared[accessor] = offset
                positions.append(points)
                colours.append(self._colour(primitive, len(points)))
                laid.append(self._laid(primitive, len(points)))
                materials.append(self._material(primitive, len(points)))
                hangs.append(self._hangs(primitive, len(points)))
                bends.append(self._bends(primitive, len(points)))
                offset += len(points)
            if "indices" in primitive:
                index = self._accessor(primitive["indices"])[:, 0].astype(np.int64)
            else:
                index = np.arange(len(points))
            if len(index) and (index.max() >= len(points)):
                raise FormatError(
                    f"a face names vertex {int(index.max())}, but there are {len(points):,} vertices"
                )
            faces.append(_triangles(index, mode) + shared[accessor])
        if not positions:
            return
        skinned = "skin" in node and all(one is not None for one in hangs)
        at_rest = self._skins.placed_by(node["skin"]) if skinned else None
        if at_rest is not None:
            # What hangs on joints stands where these are, wherever its node is.
            matrix = at_rest
        placed = np.concatenate(positions).astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
        table = np.full((sum(len(f) for f in faces), 4), -1, np.int32)
        table[:, :3] = np.concatenate(faces)
        if np.linalg.det(matrix[:3, :3]) < 0:
            table[:, [1, 2]] = table[:, [2, 1]]
        self._corners += table.size
        if self._corners > MOST_CORNERS:
            raise FormatError("its objects together have more faces than can be held as clay")
        table = drop_repeated(drop_degenerate(table, self.result.notices), self.result.notices)
        uv = None
        if all(one is not None for one in laid):
            places = np.concatenate([one for one in laid if one is not None])
            if len(places) > int(table.max(initial=0)):
                uv = (
                    (places[np.maximum(table, 0)] * (table >= 0)[:, :, None])
                    .reshape(-1, 8)
                    .astype(np.float32)
                )
        counts = self._sizes = [len(p) for p in positions]
        colour, material = _together("colour", colours, counts), _together("material", materials, counts)
        name = str(node.get("name") or mesh.get("name") or self.path.stem)
        points32 = finite_positions(placed)
        skin = None
        if at_rest is not None:
            which, share = (np.concatenate([one[k] for one in hangs if one is not None]) for k in (0, 1))
            skin = self._skins.skin(node["skin"], which, share, points32)
        table = checked_faces(table, len(points32))
        targets = self._targets(number, mesh, bends, points32, matrix)
        self.result.pieces.append(
            Piece(name, points32, table, colour, material=material, skin=skin, targets=targets, uv=uv)
        )

    def _bends(self, primitive: dict[str, Any], n: int) -> list[AnyArray]:
        """How far vertices go with each morph target, (n, 3)."""
        found = []
        for target in primitive.get("targets", ()):
            moves = (
                self._accessor(target["POSITION"]) if "POSITION" in target else np.zeros((n, 3), np.float32)
            )
            if moves.shape != (n, 3):
                raise FormatError("a morph target does not move as many vertices as there are")
            found.append(moves)
        return found

    def _targets(
        self, number: int, mesh: dict[str, Any], bends: list[list[AnyArray]], rest: F32, matrix: F64
    ) -> Targets | None:
        """The shapes of a node's object whose sets of vertices move so; those that a set lacks leave it where it is."""
        count = max(map(len, bends))
        if not count:
            return None
        if any(len(one) not in (0, count) for one in bends):
            raise FormatError("the triangles of a mesh have different numbers of morph targets")
        if count * len(rest) > MOST_MOVES:
            raise FormatError(f"its {count:,} morph targets move more vertices than can be held as shapes")
        extras = mesh.get("extras")
        told = extras.get("targetNames") if isinstance(extras, dict) else None
        names = [str(one) for one in told] if isinstance(told, list) else []
        names = [*names[:count], *(f"Shape {k + 1}" for k in range(len(names), count))]
        weights = self.words["nodes"][number].get("weights", mesh.get("weights", [0.0] * count))
        dials = np.array(weights, np.float64)
        if dials.shape != (count,) or not np.isfinite(dials).all():
            raise FormatError("the weights of its morph targets are not as many as these")
        moves = []
        for k in range(count):
            sets = [
                one[k] if one else np.zeros((size, 3)) for one, size in zip(bends, self._sizes, strict=True)
            ]
            moves.append(finite_positions(np.concatenate(sets).astype(np.float64) @ matrix[:3, :3].T))
        return Targets(
            rest, tuple(names), tuple(dials.tolist()), tuple(moves), tuple(self._dial_clips(number, count))
        )

    def _dial_clips(self, number: int, count: int) -> list[DialClip]:
        """What the clips of the file do to a node's morph targets."""
        found = []
        for clip in self._skins.clips:
            times = clip.moments({number}, ("weights",), count)
            if len(times):
                values = clip.curves[number, "weights"].sampled(times)
                if values.shape[1] != count:
                    raise FormatError("a clip moves another number of morph targets than there are")
                found.append(DialClip(clip.key, clip.name, times - clip.begins, values))
        return found

    def _hangs(self, primitive: dict[str, Any], n: int) -> tuple[AnyArray, AnyArray] | None:
        """The joints (n, 4) and weights (n, 4) of vertices; None where they hang on none."""
        attributes = primitive["attributes"]
        if "JOINTS_0" not in attributes or "WEIGHTS_0" not in attributes:
            return None
        which, share = self._accessor(attributes["JOINTS_0"]), self._accessor(attributes["WEIGHTS_0"])
        if which.shape != (n, 4) or share.shape != (n, 4) or which.dtype.kind != "u":
            raise FormatError("the joints and weights of its vertices do not fit them")
        if "JOINTS_1" in attributes:
            self.result.notices.append(
                "Some vertices hang on more than four joints: the first four were taken."
            )
        return which, share

    def _surface(self, primitive: dict[str, Any]) -> dict[str, Any]:
        """What the file says of the material of some triangles."""
        if "material" not in primitive:
            return {}
        found = self.words["materials"][primitive["material"]]
        return found if isinstance(found, dict) else {}

    def _material(self, primitive: dict[str, Any], n: int) -> U8 | None:
        """What vertices are made of: each its own where Kneten wrote it, else as the material says."""
        if OWN_MATERIAL in primitive["attributes"]:
            values = self._accessor(primitive["attributes"][OWN_MATERIAL], normalise=True)
            if values.shape != (n, 4):
                raise FormatError("its materials are not as many as its vertices")
            return np.rint(255 * np.clip(np.nan_to_num(values), 0, 1)).astype(np.uint8)
        surface = self._surface(primitive)
        shares = surface.get("pbrMetallicRoughness", {})
        coat = surface.get("extensions", {}).get(COAT, {}).get("clearcoatFactor", 0.0)
        if not ({"roughnessFactor", "metallicFactor"} & set(shares)) and not coat:
            return None
        numbers = [shares.get("roughnessFactor", 1.0), shares.get("metallicFactor", 1.0), 0.0, coat]
        row = np.rint(255 * np.clip(np.nan_to_num(np.array(numbers, np.float64)), 0, 1)).astype(np.uint8)
        # What all clay is that was never given anything.
        return None if row.tolist() == list(PLAIN) else np.tile(row, (n, 1))

    def _laid(self, primitive: dict[str, Any], n: int) -> AnyArray | None:
        """Where vertices lie in the picture plane, (n, 2), v upwards."""
        if "TEXCOORD_0" not in primitive["attributes"]:
            return None
        found = self._accessor(primitive["attributes"]["TEXCOORD_0"], normalise=True)
        if found.shape != (n, 2) or not np.isfinite(found).all():
            self.result.notices.append("Its UVs do not fit its vertices; they were left out.")
            return None
        return np.stack([found[:, 0], 1 - found[:, 1]], axis=1).astype(np.float32)

    def _colour(self, primitive: dict[str, Any], n: int) -> U8 | None:
        if "COLOR_0" not in primitive["attributes"]:
            factor = self._surface(primitive).get("pbrMetallicRoughness", {}).get("baseColorFactor")
            if factor is None or list(factor) == [1, 1, 1, 1]:
                return None
            even = np.array(factor, np.float64)
            if even.shape != (4,) or not np.isfinite(even).all():
                raise FormatError("a material's colour is no colour")
            row = np.append(to_srgb(even[None, :3])[0], np.rint(255 * np.clip(even[3], 0, 1)))
            return np.tile(row.astype(np.uint8), (n, 1))
        values = self._accessor(primitive["attributes"]["COLOR_0"], normalise=True)
        if len(values) != n:
            raise FormatError("its colours are not as many as its vertices")
        out = np.full((n, 4), 255, np.uint8)
        out[:, :3] = to_srgb(np.nan_to_num(values[:, :3].astype(np.float64)))
        if values.shape[1] == 4:
            out[:, 3] = np.rint(np.clip(values[:, 3], 0, 1) * 255)
        return out

    def _accessor(self, index: int, normalise: bool = False) -> AnyArray:
        words = self.words["accessors"][index]
        kind = np.dtype(COMPONENTS[words["componentType"]])
        width = WIDTHS[words["type"]]
        count = words["count"]
        if not isinstance(count, int) or count < 0 or ("bufferView" not in words and "sparse" not in words):
            raise FormatError("an accessor has no data")
        if "bufferView" in words:
            table = self._table(words["bufferView"], words.get("byteOffset", 0), kind, count, width)
        else:
            if count * width * kind.itemsize > MOST_BLANK:
                raise FormatError(f"an accessor asks for {count:,} places of which it says nothing")
            table = np.zeros((count, width), kind)
        if "sparse" in words:
            table = self._filled(table, words["sparse"])
        if normalise or words.get("normalized"):
            if kind.kind == "u":
                return table / np.float64(np.iinfo(kind).max)
            if kind.kind == "i":
                return np.maximum(table / np.float64(np.iinfo(kind).max), -1.0)
        return table

    def _table(self, view_index: int, offset: int, kind: np.dtype[Any], count: int, width: int) -> AnyArray:
        """Numbers (count, width) as they lie in a buffer."""
        view = self.words["bufferViews"][view_index]
        data = self._buffer(view["buffer"])
        first = view.get("byteOffset", 0) + offset
        stride = view.get("byteStride", kind.itemsize * width)
        end = first + stride * (count - 1) + kind.itemsize * width if count else first
        if first < 0 or stride < kind.itemsize * width or end > len(data):
            raise FormatError("its data end before its arrays do: it was cut short")
        if count == 0:
            return np.empty((0, width), kind)
        return np.ndarray((count, width), kind, data, first, (stride, kind.itemsize))

    def _filled(self, table: AnyArray, words: dict[str, Any]) -> AnyArray:
        """A table (n, width) with some of its rows told anew."""
        count, at, to = words["count"], words["indices"], words["values"]
        index = np.dtype(COMPONENTS[at["componentType"]])
        if not isinstance(count, int) or not 0 <= count <= len(table) or index.kind != "u":
            raise FormatError("an accessor tells more places anew than it has, or does not say which")
        rows = self._table(at["bufferView"], at.get("byteOffset", 0), index, count, 1)[:, 0].astype(np.int64)
        if count and not 0 <= rows.min() <= rows.max() < len(table):
            raise FormatError("an accessor tells places anew that it does not have")
        out = table.copy()
        out[rows] = self._table(to["bufferView"], to.get("byteOffset", 0), table.dtype, count, table.shape[1])
        return out

    def _buffer(self, index: int) -> bytes:
        if index not in self.buffers:
            words = self.words["buffers"][index]
            uri = words.get("uri")
            if uri is None:
                self.buffers[index] = self.blob
            elif uri.startswith("data:"):
                try:
                    self.buffers[index] = base64.b64decode(uri.split(",", 1)[1])
                except (binascii.Error, IndexError) as error:
                    raise FormatError("its inner buffer is damaged") from error
            else:
                beside = (self.path.parent / urllib.parse.unquote(uri)).resolve()
                if self.path.parent.resolve() not in beside.parents:
                    raise FormatError(f"its buffer {uri} lies outside its folder")
                if not beside.is_file():
                    raise FormatError(f"its buffer {uri} is missing")
                self.buffers[index] = beside.read_bytes()
        return self.buffers[index]


def _together(name: str, values: list[U8 | None], counts: list[int]) -> U8 | None:
    """Values of several triangle sets one after the other; None where none has any."""
    if all(value is None for value in values):
        return None
    return np.concatenate(
        [VALUES[name].none(n) if v is None else v for v, n in zip(values, counts, strict=True)]
    )


def _triangles(index: AnyArray, mode: int) -> AnyArray:
    if mode == 4:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    n = max(len(index) - 2, 0)
    if mode == 5:
        strip = np.stack([index[:n], index[1 : n + 1], index[2 : n + 2]], axis=1)
        strip[1::2] = strip[1::2][:, [1, 0, 2]]
        return strip
    return np.stack([np.repeat(index[:1], n), index[1 : n + 1], index[2 : n + 2]], axis=1)
