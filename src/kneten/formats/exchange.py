"""The door for files: formats by ending, units and up axis, messages."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Cancelled, Progress
from kneten.core.maps.bake import packed_together
from kneten.core.maps.surfaces import Low
from kneten.core.maps.tiles import in_one
from kneten.core.mesh import Mesh
from kneten.core.pose.rig import Rig
from kneten.core.topology import MeshError
from kneten.core.transform import Transform
from kneten.core.values import VALUES, turned_over
from kneten.document.arrays_file import explain, replacing
from kneten.document.mapping import maps_of
from kneten.document.project import Project
from kneten.document.rigging import bring_rigs
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptPose, new_id
from kneten.formats.clips import ReadMotion, bodies_of, bring_clips, takes_of
from kneten.formats.gltf import read_gltf
from kneten.formats.gltf_write import write_gltf
from kneten.formats.maps import as_png, decoded
from kneten.formats.obj import read_obj, write_obj
from kneten.formats.pieces import FormatError, Piece, Pieces
from kneten.formats.ply import read_ply, write_ply
from kneten.formats.skins import motions_from, poses_from, rig_from, skins_of
from kneten.formats.space import Space
from kneten.formats.stl import read_stl, write_stl
from kneten.formats.targets import bring_shapes, motions_in, read_targets, targets_of
from kneten.formats.threemf import read_3mf, write_3mf
from kneten.formats.usd import ENDINGS as USD
from kneten.formats.usd import read_usd, write_usd

READERS: dict[str, Callable[[Path, Progress], Pieces]] = {
    ".obj": read_obj,
    ".ply": read_ply,
    ".stl": read_stl,
    ".glb": read_gltf,
    ".gltf": read_gltf,
    ".3mf": read_3mf,
    **dict.fromkeys(USD, read_usd),
}
ENDINGS = tuple(READERS)
GLTF = (".glb", ".gltf")
TOLD_WHOLE = (*GLTF, *USD)
"""What holds materials, maps, joints, shapes and clips."""
MAX_BYTES = 8 << 30

KINDS: dict[str, tuple[str, str]] = {
    ".glb": ("GLB", "Triangles, colours, materials, maps, joints, shapes and clips in one file"),
    ".gltf": ("glTF", "The same as readable text"),
    ".usdc": ("USD crate", "Quads, colours, materials, joints, shapes and a clip; pictures lie beside it"),
    ".usda": ("USD text", "The same as readable text"),
    ".usdz": ("USDZ package", "The same with its pictures in one file"),
    ".usd": ("USD", "A crate under the plain ending"),
    ".obj": ("OBJ", "Quads, colours, UVs; vertices keep their order"),
    ".3mf": ("3MF", "Triangles in a real unit and colours, for printers"),
    ".ply": ("PLY", "Quads and colours as one object"),
    ".stl": ("STL", "Triangles alone"),
}
"""The kinds of files: what they are called, and what they hold."""

Reader = Callable[[Path, Progress], Pieces]
Made = TypeVar("Made")


def usual_space(path: Path) -> Space:
    """GlTF is in metres with y up by its standard, 3MF in millimetres with z up, USD says it itself, metres with y up where it is not asked otherwise; the others say nothing: millimetres, y up."""
    ending = path.suffix.lower()
    if ending in TOLD_WHOLE:
        return Space("m")
    return Space("mm", "z") if ending == ".3mf" else Space()


def read_pieces(path: Path, progress: Progress) -> Pieces:
    """Read any known file as it is: its own order, units and axes.

    Raises
    ------
    FormatError
        With a message that names the file and says what is wrong with it.
    Cancelled
        Through `progress`.
    """
    return _read(path, lambda reader: reader(path, progress))


@dataclass(frozen=True, eq=False)
class Taken:
    """An object that was read.

    Attributes
    ----------
    rig : Rig or None
        The mesh is as it rests.
    poses : list of KeptPose
        Of its rig; of what shares one, the first has them.
    shapes : list of (str, float, (n, 3) float32)
        Name, dial and moves of its vertices at rest.
    motions : list of ReadMotion
        Of its joints and shapes; those of joints as poses have them.
    """

    name: str
    mesh: Mesh
    rig: Rig | None = None
    poses: tuple[KeptPose, ...] = ()
    shapes: tuple[tuple[str, float, F32], ...] = ()
    motions: tuple[ReadMotion, ...] = ()


def read_file(
    path: Path, space: Space | None = None, progress: Progress | None = None
) -> tuple[list[tuple[str, Mesh, Transform]], list[str]]:
    """Read any known file, what hangs on joints as it rests: a list of (name, mesh, transform), and notices as `read_rigged` has them. Raises as that."""
    taken, notices = read_rigged(path, space, progress)
    return [(one.name, one.mesh, Transform()) for one in taken], notices


def read_rigged(
    path: Path, space: Space | None = None, progress: Progress | None = None
) -> tuple[list[Taken], list[str]]:
    """Read any known file, with rigs.

    Returns
    -------
    taken : list of Taken
    notices : list of str
        What the reader wants the user to know.

    Raises
    ------
    FormatError
        With a message that names the file and says what is wrong with it.
    Cancelled
        Through `progress`.
    """
    path = Path(path)
    going = progress or Progress()
    measure = space or usual_space(path)

    def read(reader: Reader) -> tuple[list[Taken], list[str]]:
        found = reader(path, going)
        taken: list[Taken] = []
        keys: dict[int, str] = {}
        for piece in found.pieces:
            mesh = Mesh.from_faces(
                measure.into(piece.positions), piece.faces, piece.colour,
                material=piece.material, uv=piece.uv, creases=piece.creases,
            )  # fmt: skip
            rig: Rig | None = None
            poses: tuple[KeptPose, ...] = ()
            motions: list[ReadMotion] = []
            if piece.skin is not None and mesh.n_vertices == len(piece.skin.which):
                skeleton = piece.skin.skeleton
                first = id(skeleton) not in keys
                try:
                    rig = rig_from(piece.skin, measure, mesh, keys.setdefault(id(skeleton), new_id()))
                except ValueError as error:
                    raise FormatError(str(error)) from error
                if first:
                    poses = tuple(poses_from(skeleton, measure, ""))
                    motions += motions_from(skeleton, measure)
            shapes: tuple[tuple[str, float, F32], ...] = ()
            if piece.targets is not None and mesh.n_vertices == len(piece.positions):
                try:
                    shapes = tuple(read_targets(piece.targets, measure, mesh))
                except ValueError as error:
                    raise FormatError(str(error)) from error
                # What follows a pose is told of with it: as a motion of one moment it would stand beside that.
                posed = {one.key for one in piece.skin.skeleton.clips} if piece.skin is not None else set()
                motions += [one for one in motions_in(piece.targets) if len(one) > 1 or one.key not in posed]
            taken.append(Taken(piece.name or path.stem, mesh, rig, poses, shapes, tuple(motions)))
        return taken, [f"{path.name}: {text}" for text in found.notices]

    return _read(path, read)


def bring(project: Project, taken: Sequence[Taken], name: str) -> None:
    """Add what was read as parts, with rigs, poses, shapes and motions: one step."""
    with project.at_once(name):
        added = project.add_meshes(name, [(one.name, one.mesh, Transform()) for one in taken])
        pairs = list(zip(added, taken, strict=True))
        rigs = {part.id: one.rig for part, one in pairs if one.rig is not None}
        bring_rigs(project, rigs, {part.id: one.poses for part, one in pairs}, name)
        ids = bring_shapes(project, {part.id: one.shapes for part, one in pairs if one.shapes}, name)
        bring_clips(project, [(part, one.rig, one.motions) for part, one in pairs], ids, name)


def _read(path: Path, run: Callable[[Reader], Made]) -> Made:
    """Read with the reader for a file's ending; whatever goes wrong becomes a message about the file."""
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        raise FormatError(
            f"{path.name}: Kneten cannot read {path.suffix or 'a file without ending'}. "
            f"It reads {', '.join(ENDINGS)} and .kneten."
        )
    try:
        if path.is_dir():
            raise FormatError("it is a folder")
        if path.stat().st_size == 0:
            raise FormatError("it is empty")
        if path.stat().st_size > MAX_BYTES:
            raise FormatError("it is larger than 8 GB")
        with open(path, "rb") as file:
            if file.read(2) in (b"\xff\xfe", b"\xfe\xff"):
                raise FormatError("it is written in UTF-16; save it as UTF-8")
        return run(reader)
    except (FormatError, MeshError) as error:
        stop = "" if str(error).endswith("?") else "."
        raise FormatError(f"{path.name}: {error}{stop}{_wrong_ending(path)}") from error
    except OSError as error:
        raise FormatError(explain(error, path)) from error
    except Cancelled:
        raise
    except MemoryError as error:
        raise FormatError(f"{path.name}: there is not enough memory for it.") from error
    except Exception as error:
        # A file may be wrong in any way: whatever a reader meets is about the file, not about Kneten.
        reason = str(error) or type(error).__name__
        raise FormatError(f"{path.name}: it does not fit together ({reason}).") from error


def _wrong_ending(path: Path) -> str:
    """A hint, where a file's first bytes belong to another format than its ending."""
    try:
        with path.open("rb") as file:
            head = file.read(512)
    except OSError:
        return ""
    kinds = {
        b"ply": ".ply",
        b"glTF": ".glb",
        b"solid": ".stl",
        b"PK\x03\x04": ".kneten",
        b"PXR-USDC": ".usdc",
    }
    for magic, ending in kinds.items():
        same = (ending, ".3mf", ".usdz") if magic.startswith(b"PK") else (ending,)
        if head.startswith(magic) and path.suffix.lower() not in same:
            return f" It looks like a {ending} file with the wrong ending."
    return ""


def placed_faces(faces: I32, transform: Transform) -> I32:
    """Faces (f, 4) as they look outwards where a part stands: a mirrored part's go round the other way."""
    if not transform.mirror:
        return faces
    return np.asarray(np.where(faces[:, 3:] < 0, faces[:, [0, 2, 1, 3]], faces[:, [0, 3, 2, 1]]), np.int32)


def pieces_of(parts: Sequence[Part], space: Space) -> list[Piece]:
    """Parts where they stand in the scene, in their source order."""
    pieces = []
    for part in parts:
        positions, faces = part.mesh.source_arrays()
        points: F64 = positions.astype(np.float64)
        if part.transform != Transform():
            points = part.transform.to_scene(points)
        colour = part.mesh.colour
        if colour is not None:
            colour = part.mesh.in_source_order(colour)
        faces = placed_faces(faces, part.transform)
        material = part.mesh.material
        if material is not None:
            material = part.mesh.in_source_order(material)
        stack = part.stack
        cage = (stack is not None and stack.level < len(stack.levels) - 1) or part.mesh.creases is not None
        piece = Piece(part.name, space.out_of(points), faces, colour, _own(part), material, cage=cage)
        around = {name: value for name, value in part.mesh.values().items() if name in ("uv", "creases")}
        pieces.append(replace(piece, **_round_faces(part, around)))
    return pieces


def _round_faces(part: Part, values: dict[str, AnyArray]) -> dict[str, Any]:
    """What goes around a part's faces, (f, ...) each, as its piece has them."""
    if part.transform.mirror:
        values = turned_over(values, part.mesh.topology.faces)
    out = {}
    for name, value in values.items():
        out[name] = np.empty_like(value)
        out[name][part.mesh.topology.source_face] = value
    return out


def with_maps(path: Path, pieces: Sequence[Piece], parts: Sequence[Part], scene: Scene) -> list[Piece]:
    """Pieces with the maps that were baked for the parts they came from, and what these need, where a file of this ending holds them."""
    if path.suffix.lower() not in TOLD_WHOLE:
        return list(pieces)
    out = []
    for piece, part in zip(pieces, parts, strict=True):
        found = maps_of(scene, part.id)
        if not found or part.mesh.uv is None:
            out.append(piece)
            continue
        tables, uv = in_one(decoded(found), part.mesh.uv)
        # What lies on one tile is written as it was kept.
        whole = found[0, 0] if set(found) == {(0, 0)} else {}
        pictures: dict[str, bytes] = {
            key: bytes(whole[key].data) if key in whole else as_png(tables[key])
            for key in ("colour", "normal", "occlusion")
            if key in tables
        }
        rough = [tables.get(key) for key in ("roughness", "metalness")]
        if any(one is not None for one in rough):
            size = next(one.shape[0] for one in rough if one is not None)
            pictures["mixed"] = as_png(packed_together([None, *rough], size))
        normals = part.mesh.in_source_order(part.mesh.normals).astype(np.float64) @ part.transform.axes().T
        tangents = None
        if "normal" in pictures:
            tangents = np.empty((part.mesh.topology.n_faces, 4, 4), np.float32)
            tangents[part.mesh.topology.source_face] = Low.of(part.mesh).of_faces()
            tangents[..., :3] = tangents[..., :3] @ part.transform.axes().T.astype(np.float32)
        # A mirrored part's corners run the other way, and its bitangent lies on the other side.
        if tangents is not None and part.transform.mirror:
            quads = piece.faces[:, 3:] >= 0
            order = np.where(quads, [[0, 3, 2, 1]], [[0, 2, 1, 3]])
            tangents = np.take_along_axis(tangents, order[:, :, None], axis=1)
            tangents[..., 3] *= -1
        around = _round_faces(part, {"uv": uv})
        out.append(
            replace(piece, normals=normals.astype(np.float32), tangents=tangents, maps=pictures, **around)
        )
    return out


def with_skins(
    path: Path, pieces: Sequence[Piece], parts: Sequence[Part], scene: Scene, space: Space
) -> list[Piece]:
    """Pieces with the rigs of the parts they came from, the poses and motions of these, and the shapes, where a file of this ending holds them."""
    if path.suffix.lower() not in TOLD_WHOLE:
        return list(pieces)
    takes = {body.id: takes_of(body, scene) for body in bodies_of(parts, scene)}
    skins = skins_of(parts, takes, space)
    targets = targets_of(parts, scene, space, takes)
    return [
        replace(piece, skin=skins.get(part.id), targets=targets.get(part.id))
        for piece, part in zip(pieces, parts, strict=True)
    ]


def _own(part: Part) -> tuple[str, ...]:
    """What a part has that no open format holds, in words."""
    mesh, stack = part.mesh, part.stack
    held = {
        "masks": mesh.mask is not None and bool(mesh.mask.any()),
        "regions": mesh.regions is not None and bool(mesh.regions.any()),
        "levels": stack is not None and len(stack.levels) > 1,
        "layers": stack is not None and bool(stack.layers),
        "live numbers": part.recipe is not None,
    }
    return tuple(words for words, there in held.items() if there)


def write_file(
    path: Path,
    pieces: list[Piece],
    ascii_text: bool = False,
    progress: Progress | None = None,
    space: Space | None = None,
    packed: bool = False,
) -> list[str]:
    """Write parts to a file of any known format, atomically; `space` is how their places are measured, for files that say so; `packed` writes glTF's numbers small.

    Returns
    -------
    notices : list of str

    Raises
    ------
    FormatError
        With a message for the user.
    Cancelled
        Through `progress`.
    """
    progress = progress or Progress()
    path = Path(path)
    ending = path.suffix.lower()
    notices = []
    if ending not in ENDINGS:
        raise FormatError(
            f"{path.name}: Kneten cannot write {path.suffix or 'a file without ending'}. "
            f"It writes {', '.join(ENDINGS)}."
        )
    if not pieces:
        raise FormatError("there is nothing to export: no part is visible.")
    if ending in (".stl", ".3mf", *GLTF) and any((p.faces[:, 3] >= 0).any() for p in pieces):
        notices.append(f"{path.name}: {ending[1:]} has no quads; they were cut into triangles.")
    if ending == ".stl" and any(p.colour is not None for p in pieces):
        notices.append(f"{path.name}: stl has no colours; they were left out.")
    if ending not in TOLD_WHOLE and any(p.material is not None for p in pieces):
        notices.append(
            f"{path.name}: {ending[1:]} has no roughness, metalness, subsurface and wet; they were left out. GLB and USD keep them."
        )
    if ending in (".ply", ".stl", ".3mf") and any(p.uv is not None for p in pieces):
        notices.append(
            f"{path.name}: {ending[1:]} has no UVs; they were left out. OBJ, GLB and USD keep them."
        )
    seen_through = any(p.colour is not None and (p.colour[:, 3] < 255).any() for p in pieces)
    if ending == ".obj" and seen_through:
        notices.append(f"{path.name}: obj has no opacity; everything was written as opaque.")
    skins = [piece.skin for piece in pieces if piece.skin is not None]
    if skins and ending in TOLD_WHOLE:
        skeletons = {id(skin.skeleton): skin.skeleton for skin in skins}.values()
        joints = sum(len(one.names) for one in skeletons)
        clips = sum(len(one.clips) for one in skeletons)
        notices.append(
            f"{path.name}: {joints} joints, {len(skins)} skins, {clips} poses and motions as clips. "
            "Others bend skins more simply than Kneten: where limbs are twisted they lose some thickness."
        )
    shaped = {name for piece in pieces if piece.targets is not None for name in piece.targets.names}
    if shaped:
        notices.append(
            f"{path.name}: {len(shaped)} shape{'s' if len(shaped) != 1 else ''} as morph targets. "
            "What follows other dials has one of its own there."
        )
    own = list(dict.fromkeys(itertools.chain.from_iterable(piece.own for piece in pieces)))
    if own:
        words = ", ".join(own[:-1]) + (" and " if len(own) > 1 else "") + own[-1]
        notices.append(f"{path.name}: {words} stay in the project; only the form as it is was written.")
    if ending == ".ply" and len(pieces) > 1:
        pieces = [_joined(pieces)]
        notices.append(f"{path.name}: ply holds one object; all parts were written as one.")
    measure = space or usual_space(path)
    with replacing(path) as file:
        if ending == ".obj":
            write_obj(file, pieces, progress)
        elif ending == ".ply":
            write_ply(file, pieces[0], ascii_text, progress)
        elif ending == ".stl":
            write_stl(file, pieces, ascii_text, progress)
        elif ending == ".3mf":
            write_3mf(file, pieces, measure.unit, progress)
        elif ending in USD:
            beside = write_usd(file, path, pieces, measure, progress)
            if beside:
                notices.append(
                    f"{path.name}: {len(beside)} pictures lie in {beside[0].parent.name} beside it."
                )
        else:
            write_gltf(file, pieces, ending == ".glb", progress, packed)
    return notices


def _joined(pieces: list[Piece]) -> Piece:
    offset = 0
    faces = []
    for piece in pieces:
        faces.append(np.where(piece.faces >= 0, piece.faces + offset, -1).astype(np.int32))
        offset += len(piece.positions)
    colour = None
    if any(p.colour is not None for p in pieces):
        colour = np.concatenate(
            [VALUES["colour"].none(len(p.positions)) if p.colour is None else p.colour for p in pieces]
        )
    positions = np.concatenate([p.positions for p in pieces])
    return Piece(pieces[0].name, positions, np.concatenate(faces), colour)
