"""glTF 2.0 written: as one GLB file, or as .gltf with its buffers inside it."""

from __future__ import annotations

import base64
import json
import struct
from dataclasses import replace
from typing import Any, BinaryIO

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray, Progress
from kneten.core.remesh import triangulate
from kneten.core.values import VALUES
from kneten.formats.gltf import COAT, OWN_MATERIAL, WIDTHS
from kneten.formats.gltf_skins import Add, Skeletons
from kneten.formats.light_codes import to_linear
from kneten.formats.pieces import FormatError, Piece


def _mean_material(name: str, material: U8) -> dict[str, Any]:
    """A material for all of an object: the mean of what its vertices (n, 4) are made of."""
    rough, metal, _, wet = (round(float(share), 4) for share in material.mean(axis=0) / 255)
    words: dict[str, Any] = {
        "name": name,
        "pbrMetallicRoughness": {"roughnessFactor": rough, "metallicFactor": metal},
    }
    if wet > 0:
        words["extensions"] = {COAT: {"clearcoatFactor": wet, "clearcoatRoughnessFactor": 0.13}}
    return words


def _dressed(material: dict[str, Any], key: str, texture: int) -> None:
    """Let a material have one of an object's pictures."""
    shares, there = material["pbrMetallicRoughness"], {"index": texture}
    if key == "colour":
        shares["baseColorTexture"] = there
    elif key == "mixed":
        shares |= {"metallicRoughnessTexture": there, "roughnessFactor": 1.0, "metallicFactor": 1.0}
    else:
        material[f"{key}Texture"] = there


FIXED_MAPS = ("colour", "mixed", "normal", "occlusion")
"""The pictures that a material has; all others are colours of variants, by their names."""


def _vary(
    primitive: dict[str, Any], materials: list[dict[str, Any]], pictures: dict[str, int], names: list[str]
) -> None:
    """Give triangles a material more for each variant, with another picture of colours."""
    usual = len(materials) - 1
    told: list[dict[str, Any]] = []
    for name, texture in pictures.items():
        if name not in names:
            names.append(name)
        made = json.loads(json.dumps(materials[usual]))
        made["name"] = f"{made['name']}, {name}"
        made["pbrMetallicRoughness"]["baseColorTexture"] = {"index": texture}
        told.append({"material": len(materials), "variants": [names.index(name)]})
        materials.append(made)
    primitive["extensions"] = {VARIANTS: {"mappings": told}}


def split_at_seams(piece: Piece) -> tuple[Piece, AnyArray | None, AnyArray | None]:
    """An object whose vertices have one place in the picture plane each, as the format wants them.

    Returns
    -------
    piece : Piece
        With a vertex more wherever a seam runs through one.
    uv : (n, 2) float32 or None
        v downwards, as the format has it.
    tangents : (n, 4) float32 or None
    """
    if piece.uv is None:
        return piece, None, None
    faces = piece.faces
    has = faces >= 0
    vertex, at = faces[has], piece.uv.reshape(-1, 4, 2)[has]
    rows = np.concatenate([vertex[:, None].view(np.float32), at + np.float32(0)], axis=1)
    if piece.tangents is not None:
        rows = np.concatenate([rows, piece.tangents[has] + np.float32(0)], axis=1)
    rows = np.ascontiguousarray(rows, np.float32)
    keys = rows.view([("", np.int32)] * rows.shape[1]).ravel()
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    source = vertex[first]
    made = np.full_like(faces, -1)
    made[has] = number
    changes: dict[str, Any] = {"positions": piece.positions[source], "faces": made}
    for name in ("colour", "material", "normals"):
        table = getattr(piece, name)
        changes[name] = None if table is None else table[source]
    if piece.skin is not None:
        skin = piece.skin
        changes["skin"] = replace(
            skin, rest=skin.rest[source], which=skin.which[source], share=skin.share[source]
        )
    if piece.targets is not None:
        told = piece.targets
        moves = tuple(move[source] for move in told.moves)
        changes["targets"] = replace(told, rest=told.rest[source], moves=moves)
    uv = at[first].astype("<f4")
    uv[:, 1] = 1 - uv[:, 1]
    tangents = None if piece.tangents is None else piece.tangents[has][first].astype("<f4")
    return replace(piece, **changes), uv, tangents


def _moves(add: Add, moves: F32) -> int:
    """The number of an accessor of moves (n, 3)."""
    table = moves.astype("<f4")
    return add(table, 5126, "VEC3", 34962, min=table.min(axis=0).tolist(), max=table.max(axis=0).tolist())


QUANTISED = "KHR_mesh_quantization"
VARIANTS = "KHR_materials_variants"

SHORT = 65535


def _in_bytes(table: AnyArray, wide: int) -> AnyArray:
    """Numbers -1..1 (n, c) as bytes with a sign, each row filled up to so many."""
    out = np.zeros((len(table), wide), np.int8)
    out[:, : table.shape[1]] = np.rint(np.clip(table, -1, 1) * 127)
    return out


def _packed_share(share: AnyArray) -> U8:
    """Weights (n, 4) as bytes that are 255 together."""
    out = np.floor(share * 255).astype(np.int64)
    out[:, 0] += 255 - out.sum(axis=1)
    return out.astype(np.uint8)


class _Numbers:
    """How an object's numbers are written: as they are, or as small as the open extension for it allows."""

    def __init__(self, add: Add, packed: bool) -> None:
        self._add, self.packed = add, packed
        self.needs_extension = False

    def position(self, points: F32, free: bool) -> tuple[int, dict[str, Any]]:
        """The accessor of places (n, 3), and what the node that they hang on is moved and scaled by, if it is free to."""
        low, high = points.min(axis=0), points.max(axis=0)
        size = float((high - low).max())
        if not self.packed or not free or size <= 0:
            return self._add(points, 5126, "VEC3", 34962, min=low.tolist(), max=high.tolist()), {}
        self.needs_extension = True
        codes = np.zeros((len(points), 4), "<u2")
        codes[:, :3] = np.rint((points.astype(np.float64) - low) / size * SHORT)
        ends = {"min": codes[:, :3].min(axis=0).tolist(), "max": codes[:, :3].max(axis=0).tolist()}
        placed = {"translation": low.astype(float).tolist(), "scale": [size / SHORT] * 3}
        return self._add(codes, 5123, "VEC3", 34962, **ends), placed

    def colour(self, linear: AnyArray) -> int:
        """Colours (n, 4) of light."""
        if not self.packed:
            return self._add(linear, 5126, "VEC4", 34962)
        return self._add(np.rint(linear * SHORT).astype("<u2"), 5123, "VEC4", 34962, normalized=True)

    def ways(self, table: AnyArray) -> int:
        """Normals (n, 3) or tangents (n, 4)."""
        kind = f"VEC{table.shape[1]}"
        if not self.packed:
            return self._add(table.astype("<f4"), 5126, kind, 34962)
        self.needs_extension = True
        return self._add(_in_bytes(table, 4), 5120, kind, 34962, normalized=True)

    def laid(self, uv: AnyArray) -> int:
        """Places in the picture (n, 2); those outside of it stay as they are."""
        if not self.packed or uv.min(initial=0) < 0 or uv.max(initial=0) > 1:
            return self._add(uv, 5126, "VEC2", 34962)
        return self._add(
            np.rint(uv.astype(np.float64) * SHORT).astype("<u2"), 5123, "VEC2", 34962, normalized=True
        )


class _Writer:
    """A file that is being made: its bytes, and the words about them.

    Attributes
    ----------
    blob : bytearray
        All numbers and pictures.
    variants : list of str
        The names of all variants so far.
    """

    def __init__(self, packed: bool) -> None:
        self.blob = bytearray()
        self.variants: list[str] = []
        self._packed = packed
        self._views: list[dict[str, Any]] = []
        self._accessors: list[dict[str, Any]] = []
        self._meshes: list[dict[str, Any]] = []
        self._nodes: list[dict[str, Any]] = []
        self._roots: list[int] = []
        self._materials: list[dict[str, Any]] = []
        self._images: list[dict[str, Any]] = []
        self._skeletons = Skeletons(self._nodes, self._roots, self._add)
        self._numbers = _Numbers(self._add, packed)

    def _add(self, table: AnyArray, component: int, kind: str, target: int, **more: Any) -> int:
        """The number of a new accessor over a table (n, ...)."""
        raw = np.ascontiguousarray(table).tobytes()
        view = {"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(raw)}
        if table.ndim == 2 and WIDTHS[kind] < table.shape[1] <= 4:
            # Rows are filled up to whole words.
            view["byteStride"] = table.shape[1] * table.itemsize
        self._views.append({**view, "target": target} if target else view)
        self.blob.extend(raw + b"\0" * (-len(raw) % 4))
        self._accessors.append(
            {
                "bufferView": len(self._views) - 1,
                "componentType": component,
                "count": len(table),
                "type": kind,
                **more,
            }
        )
        return len(self._accessors) - 1

    def piece(self, whole: Piece) -> None:
        """Take in an object: a node with a mesh, its material, and what moves it."""
        piece, laid, bent = split_at_seams(whole)
        # What hangs on a skeleton is told as it rests: its joints bring it to how it is posed.
        points = (piece.positions if piece.skin is None else piece.skin.rest).astype("<f4")
        if piece.targets is not None:
            points = piece.targets.rest.astype("<f4")
        hangs = piece.skin is not None or piece.targets is not None
        # Joints and shapes move places as they are: only what has none is scaled by its node.
        where, stands = self._numbers.position(points, not hangs)
        attributes = {"POSITION": where, **self._of_vertices(piece, laid, bent)}
        few = len(points) < SHORT
        corners = triangulate(piece.faces).astype("<u2" if few else "<u4").reshape(-1)
        index = self._add(corners, 5123 if few else 5125, "SCALAR", 34963)
        primitive: dict[str, Any] = {"attributes": attributes, "indices": index}
        self._dress(piece, primitive)
        mesh: dict[str, Any] = {"name": piece.name, "primitives": [primitive]}
        if piece.targets is not None and piece.targets.names:
            primitive["targets"] = [{"POSITION": _moves(self._add, one)} for one in piece.targets.moves]
            mesh["weights"] = list(piece.targets.dials)
            mesh["extras"] = {"targetNames": list(piece.targets.names)}
        node: dict[str, Any] = {"name": piece.name, "mesh": len(self._meshes), **stands}
        self._meshes.append(mesh)
        if piece.skin is not None:
            attributes |= self._skeletons.attributes(piece.skin, _packed_share if self._packed else None)
            node["skin"] = self._skeletons.number(piece.skin.skeleton)
        if piece.targets is not None and piece.targets.names:
            for clip in piece.targets.clips:
                self._skeletons.dial(len(self._nodes), clip)
        self._roots.append(len(self._nodes))
        self._nodes.append(node)

    def _of_vertices(self, piece: Piece, laid: AnyArray | None, bent: AnyArray | None) -> dict[str, int]:
        """What the vertices of an object have besides places."""
        attributes = {}
        # A picture has what the vertices' colours say: both would be multiplied.
        if piece.colour is not None and "colour" not in piece.maps:
            linear = np.empty((len(piece.colour), 4), "<f4")
            linear[:, :3] = to_linear(piece.colour[:, :3])
            linear[:, 3] = piece.colour[:, 3] / 255.0
            attributes["COLOR_0"] = self._numbers.colour(linear)
        if piece.normals is not None:
            attributes["NORMAL"] = self._numbers.ways(piece.normals)
        if laid is not None:
            attributes["TEXCOORD_0"] = self._numbers.laid(laid)
        if bent is not None:
            attributes["TANGENT"] = self._numbers.ways(bent)
        if piece.material is not None:
            attributes[OWN_MATERIAL] = self._add(piece.material, 5121, "VEC4", 34962, normalized=True)
        return attributes

    def _dress(self, piece: Piece, primitive: dict[str, Any]) -> None:
        """Give an object's triangles a material, where it has anything to say of one, with its pictures and variants."""
        clear = piece.colour is not None and bool((piece.colour[:, 3] != 255).any())
        if piece.material is None and not clear and not piece.maps:
            return
        table = VALUES["material"].none(1) if piece.material is None else piece.material
        primitive["material"] = len(self._materials)
        self._materials.append(_mean_material(piece.name, table))
        if clear:
            self._materials[-1]["alphaMode"] = "BLEND"
        others: dict[str, int] = {}
        for key, data in piece.maps.items():
            self._views.append({"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(data)})
            self.blob.extend(data + b"\0" * (-len(data) % 4))
            view = len(self._views) - 1
            self._images.append({"bufferView": view, "mimeType": "image/png", "name": f"{piece.name} {key}"})
            if key in FIXED_MAPS:
                _dressed(self._materials[-1], key, len(self._images) - 1)
            else:
                others[key] = len(self._images) - 1
        if others:
            _vary(primitive, self._materials, others, self.variants)

    def words(self) -> dict[str, Any]:
        """All that is said about the bytes."""
        words = {
            "asset": {"version": "2.0", "generator": "Kneten"},
            "scene": 0,
            "scenes": [{"nodes": self._roots}],
            "nodes": self._nodes,
            "meshes": self._meshes,
            "accessors": self._accessors,
            "bufferViews": self._views,
            "buffers": [{"byteLength": len(self.blob)}],
        }
        if self._skeletons.skins:
            words["skins"] = self._skeletons.skins
        if self._skeletons.animations:
            words["animations"] = self._skeletons.animations
        if self._materials:
            words["materials"] = self._materials
        if self._images:
            sampler = {"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497}
            textures = [{"source": number, "sampler": 0} for number in range(len(self._images))]
            words |= {"images": self._images, "samplers": [sampler], "textures": textures}
        used = [COAT] if any(COAT in one.get("extensions", {}) for one in self._materials) else []
        if self.variants:
            used.append(VARIANTS)
            words["extensions"] = {VARIANTS: {"variants": [{"name": name} for name in self.variants]}}
        if self._numbers.needs_extension:
            used.append(QUANTISED)
            words["extensionsRequired"] = [QUANTISED]
        if used:
            words["extensionsUsed"] = used
        return words


def write_gltf(
    file: BinaryIO, pieces: list[Piece], binary: bool, progress: Progress, packed: bool = False
) -> None:
    """Write objects as nodes with names; quads become triangles, which is all glTF has. `packed` writes numbers as small as an open extension allows. Raises `FormatError`."""
    writer = _Writer(packed)
    for count, piece in enumerate(pieces):
        writer.piece(piece)
        progress.report((count + 1) / len(pieces), "Writing")
    words, blob = writer.words(), writer.blob
    if not binary:
        encoded = base64.b64encode(bytes(blob)).decode()
        words["buffers"][0]["uri"] = f"data:application/octet-stream;base64,{encoded}"
        file.write(json.dumps(words).encode())
        return
    text = json.dumps(words).encode()
    text += b" " * (-len(text) % 4)
    total = 12 + 8 + len(text) + 8 + len(blob)
    if total > 0xFFFFFFFF:
        raise FormatError("GLB files cannot be larger than 4 GB; export fewer parts or use PLY")
    file.write(struct.pack("<4sII", b"glTF", 2, total))
    file.write(struct.pack("<II", len(text), 0x4E4F534A) + text)
    file.write(struct.pack("<II", len(blob), 0x004E4942))
    file.write(blob)
