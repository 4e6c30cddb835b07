"""Parts drawn by their UVs: a checker, a colour for each face, or pictures laid on them."""

from __future__ import annotations

from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F32, U8, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.uv.raster import corner_places, triangles_of
from kneten.render.programs import put

WIDE = 4096
"""Texels in a row of the pictures that hold numbers for each corner."""

UNITS = {"places": 10, "along": 11, "tints": 12, "colours": 13, "normals_laid": 14, "materials_laid": 15}


@dataclass(frozen=True, eq=False)
class Sheets:
    """What is shown on a part by its UVs; the same object as long as it is the same.

    Attributes
    ----------
    squares : int
        Of a checker across a tile; 0 for none.
    tints : (f, 4) uint8 or None
        A colour for each face, and how much of it.
    colour, normal, material : (h, w, 3) uint8 or None
        Pictures; the material's green is roughness, its blue metalness.
    tangents : (f, 4, 4) float32 or None
        For each corner of each face: the way the first coordinate grows, and the sign of the other; for `normal`.
    uv : (f, 8) float32 or None
        Where corners lie in the pictures; None where the mesh's own UVs say it.
    """

    squares: int = 0
    tints: U8 | None = None
    colour: U8 | None = None
    normal: U8 | None = None
    material: U8 | None = None
    tangents: F32 | None = None
    uv: F32 | None = None

    @property
    def pictures(self) -> bool:
        """Whether it says what the part looks like, and not what its UVs are like."""
        return self.colour is not None or self.normal is not None or self.material is not None

    def fits(self, n_faces: int) -> bool:
        """Whether it is of a mesh with so many faces: clay may change before it is told anew what lies on it."""
        return all(one is None or len(one) == n_faces for one in (self.tints, self.tangents, self.uv))


class LaidMesh:
    """A mesh's corners, and what is laid on them, on the graphics side."""

    def __init__(self, ctx: moderngl.Context) -> None:
        self._ctx = ctx
        self._uv: AnyArray | None = None
        self._sheets: Sheets | None = None
        self._textures: dict[str, moderngl.Texture] = {}

    def sync(self, mesh: Mesh, sheets: Sheets) -> None:
        """Have what is to be drawn."""
        owner, corners = None, None
        own = mesh.uv if sheets.uv is None else sheets.uv
        if self._uv is not own or "places" not in self._textures:
            self._uv = own
            owner, corners = triangles_of(mesh.topology.faces)
            uv = own if own is not None else np.zeros((mesh.topology.n_faces, 8), np.float32)
            self._put("places", corner_places(uv, owner, corners).reshape(-1, 2), "f4")
        if self._sheets is sheets:
            return
        self._sheets = sheets
        if owner is None or corners is None:
            owner, corners = triangles_of(mesh.topology.faces)
        tints = np.zeros((1, 4), np.uint8) if sheets.tints is None else sheets.tints[owner]
        if sheets.tints is None:
            tints = np.zeros((len(owner), 4), np.uint8)
        self._put("tints", tints, "f1")
        if sheets.tangents is not None:
            self._put("along", sheets.tangents[owner[:, None], corners].reshape(-1, 4), "f4")
        for name, picture in (
            ("colours", sheets.colour),
            ("normals_laid", sheets.normal),
            ("materials_laid", sheets.material),
        ):
            if picture is None:
                continue
            self._drop(name)
            # Rows of a picture go down, those of a texture up.
            rows = np.ascontiguousarray(picture[::-1, :, :3])
            texture = self._ctx.texture(rows.shape[1::-1], 3, rows.tobytes(), alignment=1)
            texture.build_mipmaps()
            texture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
            self._textures[name] = texture

    def _put(self, name: str, table: AnyArray, kind: str) -> None:
        """Numbers (n, k) as a picture."""
        self._drop(name)
        high = max(-(-len(table) // WIDE), 1)
        whole = np.zeros((high * WIDE, table.shape[1]), np.float32 if kind == "f4" else np.uint8)
        whole[: len(table)] = table
        texture = self._ctx.texture((WIDE, high), table.shape[1], whole.tobytes(), dtype=kind, alignment=1)
        texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        self._textures[name] = texture

    def _drop(self, name: str) -> None:
        if name in self._textures:
            self._textures.pop(name).release()

    def use(self, program: moderngl.Program) -> None:
        """Give them to a program."""
        assert self._sheets is not None
        put(program, squares=float(self._sheets.squares), **UNITS)
        for name, texture in self._textures.items():
            texture.use(UNITS[name])

    def release(self) -> None:
        """Give the graphics memory back."""
        for name in list(self._textures):
            self._drop(name)


def switches_of(sheets: Sheets, materials: bool) -> dict[str, int]:
    """The switches of the program that draws them."""
    return {
        "CHECKER": int(sheets.squares > 0),
        "COLOUR": int(sheets.colour is not None),
        "NORMAL": int(sheets.normal is not None and sheets.tangents is not None),
        "MATERIAL": 0 if not materials else 1 if sheets.material is not None else 2,
    }
