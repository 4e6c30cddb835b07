"""What was changed on a loose mesh: enough to take it back and to make it again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import I32, AnyArray
from kneten.core.loose import LooseMesh
from kneten.core.loose_places import FACE_BITS, FACES, exchange_faces, fill_free, find_borders
from kneten.core.mesh import Mesh
from kneten.core.topology import PATCH, PATCH_BITS
from kneten.core.values import VALUES


@dataclass(frozen=True)
class LooseChange:
    """Other states of some places of a loose mesh: `swap` puts them in and keeps what it found.

    Attributes
    ----------
    vertices : (k,) int32
    vertex_rows : dict
        "positions" and those of `VALUES` that the mesh has, (k, ...) each.
    faces : (m,) int32
    face_rows : dict
        "faces" and those of `VALUES` that faces have.
    """

    vertices: I32
    vertex_rows: dict[str, AnyArray]
    faces: I32
    face_rows: dict[str, AnyArray]

    what = "mesh"

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        rows = (*self.vertex_rows.values(), *self.face_rows.values())
        return self.vertices.nbytes + self.faces.nbytes + sum(row.nbytes for row in rows)

    def swap(self, mesh: Mesh) -> LooseChange:
        """Put the kept rows in, and return the change that takes this back."""
        assert isinstance(mesh, LooseMesh)
        found = self.now(mesh)
        old = mesh.faces[self.faces]
        patches = np.unique(np.concatenate([self.vertices >> PATCH_BITS, self.faces >> FACE_BITS]))
        version, boxes = mesh.changing(), mesh.boxes[patches]
        s = mesh.store()
        rows = self.face_rows["faces"].copy()
        exchange_faces(s, self.faces, rows)
        for name, row in self.vertex_rows.items():
            mesh.array(name)[self.vertices] = row
        for name, row in self.face_rows.items():
            if name != "faces":
                mesh.array(name)[self.faces] = row
        mesh.forget_protection()
        s = mesh.store()
        fill_free(s, patches.astype(np.int32))
        corners = np.concatenate(
            [old[:, :3].reshape(-1), mesh.faces[self.faces, :3].reshape(-1), self.vertices]
        )
        around = np.unique(corners).astype(np.int32)
        find_borders(s, around)
        mesh.renew_around(around)
        after = mesh.boxes[np.union1d(patches, around >> PATCH_BITS)]
        mesh.note_moved(version, np.concatenate([boxes, after]))
        return found

    def now(self, mesh: LooseMesh) -> LooseChange:
        """What these places hold at present."""
        vertex_rows = {name: mesh.array(name)[self.vertices] for name in self.vertex_rows}
        face_rows = {name: mesh.array(name)[self.faces] for name in self.face_rows}
        return LooseChange(self.vertices, vertex_rows, self.faces, face_rows)


class LooseLog:
    """What a stroke found in each patch it came near, so that it can be taken back.

    Attributes
    ----------
    renamed : list of pairs
        Old and new places of vertices that went to other patches.
    """

    def __init__(self, mesh: LooseMesh) -> None:
        self.mesh = mesh
        self._found: dict[int, tuple[dict[str, AnyArray], dict[str, AnyArray]]] = {}
        self.renamed: list[tuple[I32, I32]] = []
        mesh.noted[:] = 0

    def note(self, patches: I32) -> None:
        """Keep what these patches (p,) hold, before anything in them changes."""
        mesh = self.mesh
        new = patches[mesh.noted[patches] == 0]
        if len(new) == 0:
            return
        mesh.noted[new] = 1
        by_vertex = ["positions", *(n for n in mesh.values() if not VALUES[n].by_face)]
        by_face = ["faces", *(n for n in mesh.values() if VALUES[n].by_face)]
        for p in new.tolist():
            of_vertex, of_face = slice(p * PATCH, (p + 1) * PATCH), slice(p * FACES, (p + 1) * FACES)
            self._found[p] = (
                {name: mesh.array(name)[of_vertex].copy() for name in by_vertex},
                {name: mesh.array(name)[of_face].copy() for name in by_face},
            )

    def change(self) -> LooseChange | None:
        """What takes back all that was done since, or None when nothing was."""
        mesh = self.mesh
        ids: tuple[list[AnyArray], list[AnyArray]] = ([], [])
        rows: tuple[dict[str, list[AnyArray]], dict[str, list[AnyArray]]] = ({}, {})
        for p in sorted(self._found):
            for side, (found, size) in enumerate(zip(self._found[p], (PATCH, FACES), strict=True)):
                span = slice(p * size, (p + 1) * size)
                other = np.zeros(size, bool)
                for name, before in found.items():
                    differs = before != mesh.array(name)[span]
                    other |= differs.any(axis=1) if differs.ndim > 1 else differs
                at = np.flatnonzero(other)
                ids[side].append(at + p * size)
                for name, before in found.items():
                    rows[side].setdefault(name, []).append(before[at])
        if not any(len(at) for side in ids for at in side):
            return None
        vertices, faces = (np.concatenate(side).astype(np.int32) for side in ids)
        of_vertex, of_face = ({n: np.concatenate(parts) for n, parts in side.items()} for side in rows)
        return LooseChange(vertices, of_vertex, faces, of_face)
