"""USD: meshes with colours, UVs, materials and pictures, skeletons, blend shapes and clips, out and in.

The library (`pxr`) is loaded when a file is first read or written, and nothing else needs it. Text (.usda), crates (.usdc)
and packages (.usdz) hold the same.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kneten.core.arrays import F64, I32, AnyArray, Progress
from kneten.core.net.draft import after_each
from kneten.core.subdivide import CREASE, FOR_EVER
from kneten.document.arrays_file import ProjectFileError, explain, replacing
from kneten.formats.light_codes import to_linear, to_srgb
from kneten.formats.pieces import (
    FormatError,
    Piece,
    Pieces,
    check_objects,
    checked_faces,
    drop_degenerate,
    faces_from_runs,
    finite_positions,
)
from kneten.formats.space import UNITS, Space
from kneten.formats.usd_skels import SkelReader, Skels

ENDINGS = (".usd", ".usda", ".usdc", ".usdz")

PLAIN_ROUGHNESS = 0.5


def library() -> Any:
    """The library's package. Raises `FormatError` where it is not there."""
    try:
        from pxr import Gf, Kind, Sdf, Tf, Usd, UsdGeom, UsdShade, UsdSkel, UsdUtils, Vt
    except ImportError as error:
        raise FormatError(
            "USD needs the package usd-core, which is not there or does not start; all other formats work. "
            "Install it with: pip install usd-core"
        ) from error

    class Library:
        """The modules that are used."""

    found: Any = Library()
    for module in (Gf, Kind, Sdf, Tf, Usd, UsdGeom, UsdShade, UsdSkel, UsdUtils, Vt):
        setattr(found, module.__name__.rpartition(".")[2], module)
    return found


# -- out ------------------------------------------------------------------------------------------


def write_usd(
    file: BinaryIO, path: Path, pieces: Sequence[Piece], space: Space, progress: Progress
) -> list[Path]:
    """Write objects to a file of the kind that the ending of `path` says; the pictures that were written beside it.

    Raises
    ------
    FormatError
        With words for the user.
    Cancelled
        Through `progress`.
    """
    lib = library()
    ending = path.suffix.lower()
    pictures: dict[str, bytes] = {}
    folder = "textures" if ending == ".usdz" else f"{path.stem}_textures"
    stage = lib.Usd.Stage.CreateInMemory()
    _Writer(lib, stage, space, folder, pictures).write(pieces, progress)
    progress.report(0.9, "Writing")
    with tempfile.TemporaryDirectory() as name:
        beside = Path(name)
        inner = beside / f"clay{'.usdc' if ending in ('.usdz', '.usd') else ending}"
        if not stage.GetRootLayer().Export(str(inner)):
            raise FormatError(f"{path.name}: the scene could not be written; is there room on the disk?")
        if ending == ".usdz":
            for title, data in pictures.items():
                at = beside / title
                at.parent.mkdir(exist_ok=True)
                at.write_bytes(data)
            packed = beside / "clay.usdz"
            if not lib.UsdUtils.CreateNewUsdzPackage(lib.Sdf.AssetPath(str(inner)), str(packed)):
                raise FormatError(f"{path.name}: the package could not be put together")
            inner, pictures = packed, {}
        with open(inner, "rb") as made:
            while block := made.read(1 << 22):
                file.write(block)
    written = []
    for title, data in pictures.items():
        at = path.parent / title
        try:
            at.parent.mkdir(exist_ok=True)
            with replacing(at) as out:
                out.write(data)
        except OSError as error:
            raise FormatError(explain(error, at)) from error
        except ProjectFileError as error:
            raise FormatError(str(error)) from error
        written.append(at)
    return written


class _Writer:
    """Puts pieces on a stage."""

    def __init__(self, lib: Any, stage: Any, space: Space, folder: str, pictures: dict[str, bytes]) -> None:
        self._lib, self._stage, self._folder, self._pictures = lib, stage, folder, pictures
        lib.UsdGeom.SetStageUpAxis(stage, lib.UsdGeom.Tokens.z if space.up == "z" else lib.UsdGeom.Tokens.y)
        lib.UsdGeom.SetStageMetersPerUnit(stage, UNITS[space.unit] / 1000)
        self._names: dict[str, set[str]] = {}

    def write(self, pieces: Sequence[Piece], progress: Progress) -> None:
        lib, stage = self._lib, self._stage
        jointed = any(piece.skin is not None or piece.targets is not None for piece in pieces)
        root = (
            lib.UsdSkel.Root.Define(stage, "/Clay") if jointed else lib.UsdGeom.Xform.Define(stage, "/Clay")
        )
        lib.Usd.ModelAPI(root).SetKind(lib.Kind.Tokens.component)
        stage.SetDefaultPrim(root.GetPrim())
        skels = Skels(lib, stage, "/Clay")
        for count, piece in enumerate(pieces):
            name = self._name("/Clay", piece.name)
            mesh = self._mesh(f"/Clay/{name}", piece)
            mesh.GetPrim().SetDisplayName(piece.name)
            self._material(mesh, f"/Clay/Materials/{name}", piece)
            skels.bind(mesh, piece)
            progress.report(0.9 * (count + 1) / len(pieces), "Writing")
        skels.finish()

    def _name(self, under: str, wanted: str) -> str:
        """A name that the format allows, and that no other of the same place has."""
        taken = self._names.setdefault(under, {"Materials", "Skeleton"})
        plain = self._lib.Tf.MakeValidIdentifier(wanted.strip() or "Part")
        name = next(n for k in range(1, 100_000) if (n := plain if k == 1 else f"{plain}_{k}") not in taken)
        taken.add(name)
        return str(name)

    def _mesh(self, path: str, piece: Piece) -> Any:
        lib = self._lib
        mesh = lib.UsdGeom.Mesh.Define(self._stage, path)
        points = piece.positions if piece.skin is None else piece.skin.rest
        if piece.targets is not None:
            points = piece.targets.rest
        has = piece.faces >= 0
        mesh.CreatePointsAttr(_vectors(lib.Vt.Vec3fArray, points))
        mesh.CreateFaceVertexCountsAttr(_numbers(lib.Vt.IntArray, has.sum(axis=1)))
        mesh.CreateFaceVertexIndicesAttr(_numbers(lib.Vt.IntArray, piece.faces[has]))
        mesh.CreateExtentAttr(_vectors(lib.Vt.Vec3fArray, np.stack([points.min(axis=0), points.max(axis=0)])))
        tokens = lib.UsdGeom.Tokens
        mesh.CreateSubdivisionSchemeAttr(tokens.catmullClark if piece.cage else tokens.none)
        if piece.cage and piece.creases is not None:
            ends, sharp = creases_as_edges(piece.faces, piece.creases)
            mesh.CreateCreaseIndicesAttr(_numbers(lib.Vt.IntArray, ends.reshape(-1)))
            mesh.CreateCreaseLengthsAttr(_numbers(lib.Vt.IntArray, np.full(len(ends), 2)))
            mesh.CreateCreaseSharpnessesAttr(_numbers(lib.Vt.FloatArray, sharp))
        mesh.CreateOrientationAttr(tokens.rightHanded)
        api = lib.UsdGeom.PrimvarsAPI(mesh)
        if piece.colour is not None:
            shown = mesh.CreateDisplayColorPrimvar(tokens.vertex)
            shown.Set(_vectors(lib.Vt.Vec3fArray, to_linear(piece.colour[:, :3])))
            if (piece.colour[:, 3] < 255).any():
                mesh.CreateDisplayOpacityPrimvar(tokens.vertex).Set(
                    _numbers(lib.Vt.FloatArray, piece.colour[:, 3] / 255.0)
                )
        if piece.material is not None:
            for band, name in enumerate(("roughness", "metallic", "subsurface", "wet")):
                made = api.CreatePrimvar(name, lib.Sdf.ValueTypeNames.FloatArray, tokens.vertex)
                made.Set(_numbers(lib.Vt.FloatArray, piece.material[:, band] / 255.0))
        if piece.uv is not None:
            st = api.CreatePrimvar("st", lib.Sdf.ValueTypeNames.TexCoord2fArray, tokens.faceVarying)
            corners = piece.uv.reshape(-1, 4, 2)[has]
            unique, which = np.unique(corners, axis=0, return_inverse=True)
            st.Set(_vectors(lib.Vt.Vec2fArray, unique))
            st.SetIndices(_numbers(lib.Vt.IntArray, which.reshape(-1)))
        if piece.normals is not None and piece.skin is None and piece.targets is None and not piece.cage:
            mesh.CreateNormalsAttr(_vectors(lib.Vt.Vec3fArray, piece.normals))
            mesh.SetNormalsInterpolation(tokens.vertex)
        return mesh

    def _material(self, mesh: Any, path: str, piece: Piece) -> None:
        """A material of the standard's preview surface, fed by the vertices' values or the object's pictures."""
        lib = self._lib
        if piece.colour is None and piece.material is None and not piece.maps:
            return
        if not self._stage.GetPrimAtPath("/Clay/Materials"):
            lib.UsdGeom.Scope.Define(self._stage, "/Clay/Materials")
        material = lib.UsdShade.Material.Define(self._stage, path)
        kinds = lib.Sdf.ValueTypeNames
        surface = lib.UsdShade.Shader.Define(self._stage, f"{path}/Surface")
        surface.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
        surface.CreateInput("roughness", kinds.Float).Set(PLAIN_ROUGHNESS)

        def reader(name: str, varname: str, kind: str) -> Any:
            made = lib.UsdShade.Shader.Define(self._stage, f"{path}/{name}")
            made.CreateIdAttr(f"UsdPrimvarReader_{kind}")
            made.CreateInput("varname", kinds.String).Set(varname)
            return made

        def feed(slot: str, kind: Any, source: Any, output: str, of: Any) -> None:
            source.CreateOutput(output, of)
            surface.CreateInput(slot, kind).ConnectToSource(source.ConnectableAPI(), output)

        if piece.colour is not None and "colour" not in piece.maps:
            feed(
                "diffuseColor",
                kinds.Color3f,
                reader("Colour", "displayColor", "float3"),
                "result",
                kinds.Float3,
            )
            if (piece.colour[:, 3] < 255).any():
                feed(
                    "opacity",
                    kinds.Float,
                    reader("Opacity", "displayOpacity", "float"),
                    "result",
                    kinds.Float,
                )
        if piece.material is not None and "mixed" not in piece.maps:
            for slot in ("roughness", "metallic"):
                feed(slot, kinds.Float, reader(slot.title(), slot, "float"), "result", kinds.Float)
            if piece.material[:, 3].any():
                feed("clearcoat", kinds.Float, reader("Wet", "wet", "float"), "result", kinds.Float)
        if not piece.maps or piece.uv is None:
            lib.UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
            return
        at = reader("Places", "st", "float2")
        at.CreateOutput("result", kinds.Float2)
        stem = Path(path).name
        for key, data in piece.maps.items():
            title = f"{self._folder}/{stem}_{key}.png"
            self._pictures[title] = data
            picture = lib.UsdShade.Shader.Define(self._stage, f"{path}/{key.title()}Map")
            picture.CreateIdAttr("UsdUVTexture")
            picture.CreateInput("file", kinds.Asset).Set(lib.Sdf.AssetPath(f"./{title}"))
            picture.CreateInput("sourceColorSpace", kinds.Token).Set("sRGB" if key == "colour" else "raw")
            for way in ("wrapS", "wrapT"):
                picture.CreateInput(way, kinds.Token).Set("repeat")
            picture.CreateInput("st", kinds.Float2).ConnectToSource(at.ConnectableAPI(), "result")
            if key == "colour":
                feed("diffuseColor", kinds.Color3f, picture, "rgb", kinds.Float3)
            elif key == "normal":
                picture.CreateInput("scale", kinds.Float4).Set(lib.Gf.Vec4f(2, 2, 2, 1))
                picture.CreateInput("bias", kinds.Float4).Set(lib.Gf.Vec4f(-1, -1, -1, 0))
                feed("normal", kinds.Normal3f, picture, "rgb", kinds.Float3)
            elif key == "occlusion":
                feed("occlusion", kinds.Float, picture, "r", kinds.Float)
            elif key == "mixed":
                feed("roughness", kinds.Float, picture, "g", kinds.Float)
                feed("metallic", kinds.Float, picture, "b", kinds.Float)
        lib.UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)


def _vectors(kind: Any, table: AnyArray) -> Any:
    """Rows (n, 2 or 3) as an array of the library's."""
    return kind.FromNumpy(np.ascontiguousarray(table, np.float32))


def _numbers(kind: Any, table: AnyArray) -> Any:
    """Plain numbers (n,) as an array of the library's."""
    whole = "Int" in kind.__name__
    return kind.FromNumpy(np.ascontiguousarray(table, np.int32 if whole else np.float32))


# -- in -------------------------------------------------------------------------------------------


def read_usd(path: Path, progress: Progress) -> Pieces:
    """Read the meshes of a file where they stand, in metres with y up. Raises `FormatError`."""
    lib = library()
    try:
        stage = lib.Usd.Stage.Open(str(path))
    except lib.Tf.ErrorException as error:
        raise FormatError("it is no USD file, or is damaged") from error
    result = Pieces()
    into = _into_metres(lib, stage)
    places = lib.UsdGeom.XformCache(lib.Usd.TimeCode.EarliestTime())
    skels = SkelReader(lib, stage, into, result.notices)
    prims = [
        prim
        for prim in stage.Traverse(lib.Usd.TraverseInstanceProxies())
        if prim.IsA(lib.UsdGeom.Mesh) and _shown(lib, prim)
    ]
    check_objects(len(prims))
    for count, prim in enumerate(prims):
        placed = np.array(places.GetLocalToWorldTransform(prim)) @ into
        piece = _read_mesh(lib, prim, placed, result)
        if piece is not None:
            result.pieces.append(skels.hung(prim, piece, placed))
        progress.report((count + 1) / len(prims), "Reading")
    if not result.pieces:
        raise FormatError("there are no meshes in it that are shown")
    return result


def _into_metres(lib: Any, stage: Any) -> F64:
    """What brings a stage's places, as rows, into metres with y up, (4, 4)."""
    matrix = np.eye(4)
    if lib.UsdGeom.GetStageUpAxis(stage) == lib.UsdGeom.Tokens.z:
        matrix[:3, :3] = [[1, 0, 0], [0, 0, -1], [0, 1, 0]]
    unit = float(lib.UsdGeom.GetStageMetersPerUnit(stage))
    if not 1e-9 < unit < 1e9:
        raise FormatError(f"it says that a unit is {unit:g} metres long")
    matrix[:3, :3] *= unit
    return matrix


def _shown(lib: Any, prim: Any) -> bool:
    seen = lib.UsdGeom.Imageable(prim)
    usual = (lib.UsdGeom.Tokens.default_, lib.UsdGeom.Tokens.render)
    return seen.ComputeVisibility() != lib.UsdGeom.Tokens.invisible and seen.ComputePurpose() in usual


def _read_mesh(lib: Any, prim: Any, matrix: F64, result: Pieces) -> Piece | None:
    """One mesh, its places by a matrix for rows (4, 4)."""
    mesh, when = lib.UsdGeom.Mesh(prim), lib.Usd.TimeCode.EarliestTime()
    title = prim.GetDisplayName() or prim.GetName()

    def table(attribute: Any, kind: Any, wide: int = 0) -> AnyArray:
        value = attribute.Get(when)
        found = np.array(value if value is not None else [], kind)
        return found.reshape(-1, wide) if wide else found.reshape(-1)

    points = table(mesh.GetPointsAttr(), np.float64, 3)
    counts, corners = (
        table(mesh.GetFaceVertexCountsAttr(), np.int64),
        table(mesh.GetFaceVertexIndicesAttr(), np.int64),
    )
    if not len(points) or not len(counts):
        result.notices.append(f"{title} has no faces; it was left out.")
        return None
    if counts.min() < 0 or counts.sum() != len(corners):
        raise FormatError(f"the faces of {title} do not have as many corners as they say")
    order = np.arange(len(corners))
    if mesh.GetOrientationAttr().Get() == lib.UsdGeom.Tokens.leftHanded:
        ends = np.repeat(np.cumsum(counts), counts)
        starts = ends - np.repeat(counts, counts)
        order = starts + ends - 1 - order
    which = faces_from_runs(order, counts, result.notices)
    faces = np.where(which >= 0, corners[np.maximum(which, 0)], -1).astype(np.int32)
    if np.linalg.det(matrix[:3, :3]) < 0:
        turned = np.where(which[:, 3:] < 0, which[:, [0, 2, 1, 3]], which[:, [0, 3, 2, 1]])
        which, faces = turned, np.where(turned >= 0, corners[np.maximum(turned, 0)], -1).astype(np.int32)
    positions = finite_positions(points @ matrix[:3, :3] + matrix[3, :3])
    faces = checked_faces(faces, len(positions))
    uv = _uv(lib, prim, which, corners, when)
    creases = None
    if mesh.GetSubdivisionSchemeAttr().Get() == lib.UsdGeom.Tokens.catmullClark:
        creases = creases_from_edges(
            faces,
            table(mesh.GetCreaseIndicesAttr(), np.int64),
            table(mesh.GetCreaseLengthsAttr(), np.int64),
            table(mesh.GetCreaseSharpnessesAttr(), np.float64),
        )
    kept = drop_degenerate(faces, result.notices)
    if len(kept) != len(faces):
        uv, creases = None, None
    colour = _colour(lib, mesh, faces, which, len(positions), when)
    material = _materials(lib, prim, len(positions), when)
    return Piece(title, positions, kept, colour, material=material, uv=uv, creases=creases)


INFINITE = 10.0
"""What the standard takes for sharp for ever."""


def creases_as_edges(faces: I32, creases: AnyArray) -> tuple[AnyArray, AnyArray]:
    """Sharp edges of faces (f, 4) with creases (f, 4): their ends (k, 2), and in how many subdivisions they stay sharp (k,)."""
    after = after_each(faces)
    has = (faces >= 0) & (creases > 0)
    both = np.sort(np.stack([faces[has], after[has]], axis=1).astype(np.int64), axis=1)
    ends, back = np.unique(both, axis=0, return_inverse=True)
    most = np.zeros(len(ends), np.uint8)
    np.maximum.at(most, back.reshape(-1), creases[has])
    return ends, np.where(most == FOR_EVER, INFINITE, most / CREASE)


def creases_from_edges(faces: I32, ways: AnyArray, lengths: AnyArray, sharpness: AnyArray) -> AnyArray | None:
    """The creases (f, 4) uint8 of faces (f, 4); None where there are none, or they do not fit each other.

    Parameters
    ----------
    ways : (k,) int
        Vertices along sharp edges, one way after the other.
    lengths : (w,) int
        Vertices of each way.
    sharpness : (w,) or one less than `lengths` for each, float
    """
    if not len(lengths) or lengths.min() < 2 or lengths.sum() != len(ways):
        return None
    of_way = np.repeat(np.arange(len(lengths)), lengths - 1)
    first = np.concatenate([np.arange(n - 1) for n in lengths]) + np.repeat(
        np.cumsum(lengths) - lengths, lengths - 1
    )
    if len(sharpness) == len(lengths):
        sharpness = sharpness[of_way]
    elif len(sharpness) != len(of_way):
        return None
    told = np.where(sharpness >= INFINITE, FOR_EVER, np.clip(np.rint(sharpness * CREASE), 0, FOR_EVER - 1))
    n = int(max(faces.max(initial=0), ways.max(initial=0))) + 1
    ends = np.sort(np.stack([ways[first], ways[first + 1]], axis=1), axis=1)
    keys, back = np.unique(ends[:, 0] * n + ends[:, 1], return_inverse=True)
    most = np.zeros(len(keys), np.uint8)
    np.maximum.at(most, back, np.nan_to_num(told).astype(np.uint8))
    after = after_each(faces).astype(np.int64)
    own = np.minimum(faces, after) * n + np.maximum(faces, after)
    at = np.minimum(np.searchsorted(keys, own), len(keys) - 1)
    out = np.where((keys[at] == own) & (faces >= 0), most[at], 0).astype(np.uint8)
    return out if out.any() else None


def _primvar(lib: Any, prim: Any, name: str, when: Any) -> tuple[AnyArray, str] | None:
    found = lib.UsdGeom.PrimvarsAPI(prim).GetPrimvar(name)
    if not found or not found.HasValue():
        return None
    value = found.ComputeFlattened(when)
    return None if value is None else (np.array(value, np.float64), str(found.GetInterpolation()))


def _by_vertex(table: AnyArray, kind: str, faces: I32, which: I32, n: int) -> F64 | None:
    """A primvar's values (k, w) for each vertex (n, w): those of faces and corners as the mean of what meets there."""
    table = table.reshape(len(table), -1)
    if kind == "constant" and len(table) == 1:
        return np.repeat(table, n, axis=0)
    if kind in ("vertex", "varying") and len(table) == n:
        return table
    has = faces >= 0
    if kind == "faceVarying" and len(table) > int(which.max()):
        rows = table[which[has]]
    elif kind == "uniform" and len(table) == len(faces):
        rows = np.repeat(table, has.sum(axis=1), axis=0)
    else:
        return None
    out = np.stack([np.bincount(faces[has], rows[:, c], n) for c in range(table.shape[1])], axis=1)
    return np.asarray(out / np.maximum(np.bincount(faces[has], minlength=n), 1)[:, None])


def _colour(lib: Any, mesh: Any, faces: I32, which: I32, n: int, when: Any) -> AnyArray | None:
    """What vertices are painted with, (n, 4) uint8."""
    found = _primvar(lib, mesh.GetPrim(), "displayColor", when)
    if found is None:
        return None
    told = _by_vertex(found[0].reshape(-1, 3), found[1], faces, which, n)
    if told is None:
        return None
    out = np.full((n, 4), 255, np.uint8)
    out[:, :3] = to_srgb(np.nan_to_num(told))
    seen = _primvar(lib, mesh.GetPrim(), "displayOpacity", when)
    if seen is not None:
        opacity = _by_vertex(seen[0].reshape(-1, 1), seen[1], faces, which, n)
        if opacity is not None:
            out[:, 3] = np.rint(np.clip(np.nan_to_num(opacity[:, 0], nan=1.0), 0, 1) * 255)
    return out


def _materials(lib: Any, prim: Any, n: int, when: Any) -> AnyArray | None:
    """Roughness, metalness, subsurface and wet of vertices (n, 4) uint8, where it says so of each."""
    bands = [_primvar(lib, prim, name, when) for name in ("roughness", "metallic", "subsurface", "wet")]
    if bands[0] is None or bands[1] is None:
        return None
    out = np.zeros((n, 4), np.uint8)
    for band, found in enumerate(bands):
        if found is not None and found[1] == "vertex" and len(found[0]) == n:
            out[:, band] = np.rint(np.clip(np.nan_to_num(found[0]), 0, 1) * 255)
    return out


def _uv(lib: Any, prim: Any, which: I32, corners: AnyArray, when: Any) -> AnyArray | None:
    """Where corners lie in the picture plane, (f, 8) float32."""
    api = lib.UsdGeom.PrimvarsAPI(prim)
    kinds = lib.Sdf.ValueTypeNames
    some = [
        one for one in api.GetPrimvars() if one.GetTypeName() in (kinds.TexCoord2fArray, kinds.Float2Array)
    ]
    some.sort(key=lambda one: one.GetPrimvarName() != "st")
    for one in some:
        value = one.ComputeFlattened(when)
        if value is None:
            continue
        table, kind = np.array(value, np.float64).reshape(-1, 2), str(one.GetInterpolation())
        if kind in ("vertex", "varying") and len(table) > int(corners.max(initial=0)):
            table = table[corners]
        elif kind != "faceVarying" or len(table) != len(corners):
            continue
        if not np.isfinite(table).all():
            continue
        laid = table[np.maximum(which, 0)] * (which >= 0)[:, :, None]
        return np.ascontiguousarray(laid.reshape(-1, 8), np.float32)
    return None
