"""The parts' arrays on the graphics side: uploaded once, then by dirty patches."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace

import moderngl
import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray
from kneten.core.culling import fit_cones, patch_edges, patch_triangles
from kneten.core.heat import KINDS, heat, heat_colours, scale_of
from kneten.core.loose import LooseMesh
from kneten.core.loose_places import FACES
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import OPAQUE
from kneten.core.regions import region_colours
from kneten.core.stand_ins import stand_in
from kneten.core.topology import PATCH
from kneten.core.values import VALUES
from kneten.document.scene import Part, Scene
from kneten.render.fur import FurShelf
from kneten.render.grains import DrawnGrain, GrainShelf
from kneten.render.laid import LaidMesh, Sheets
from kneten.render.style import Style

STAND_IN = 40_000
"""Triangles of the stand-in at most. Software OpenGL on two cores draws 30,000 of them, lit, in 40 ms."""

LARGE = 300_000
"""Triangles from which on a part is drawn by its stand-in whenever the camera moves."""

MIDDLE = 3_000
"""Triangles from which on a part has a stand-in, for scenes of many parts."""

CROWD = 90_000
"""Triangles of a whole scene from which on all its parts are drawn by their stand-ins while it moves."""

SMALL = 60_000
"""Vertices up to which a part is put on the shelf at once: a few milliseconds."""

HEAT_PATCHES = 64
"""Patches measured in one go: 32,768 vertices, about 5 ms."""

PIECE = 4 << 20
"""Bytes uploaded in one go: about 4 ms where the graphics memory is the computer's own."""


@dataclass(frozen=True)
class Prepared:
    """What drawing a mesh needs besides its own arrays."""

    triangles: I32
    starts: I32
    cones: F32
    closed: bool
    stand_in: I32


def prepare(mesh: Mesh) -> Prepared:
    """Triangles in patch order, the patches' normal cones, the stand-in. Touches no OpenGL."""
    shape = mesh.topology
    if isinstance(mesh, LooseMesh):
        triangles, starts = np.ascontiguousarray(mesh.faces[:, :3]), shape.patch_faces
    else:
        triangles, starts = patch_triangles(shape)
    cones = np.empty((shape.n_patches, 4), np.float32)
    every = np.arange(shape.n_patches, dtype=np.int32)
    fit_cones(mesh.positions, shape.faces, shape.patch_faces, every, cones)
    few = np.empty((0, 3), np.int32)
    if len(triangles) > MIDDLE:
        target = STAND_IN if len(triangles) > LARGE else max(len(triangles) // 10, 700)
        few = stand_in(mesh.positions, triangles, target, mesh.bounds())
    return Prepared(triangles, starts, cones, not shape.has_border, few)


SPANNED = 16
"""Patches that have not changed between two that have, up to which all are sent at once: a call costs as much as 30 kB."""


def _runs(patches: I32, spanned: int = 0) -> list[tuple[int, int]]:
    """First and last + 1 of each run of neighbouring patches (ascending); so many others may lie in between."""
    breaks = np.flatnonzero(np.diff(patches) > 1 + spanned) + 1
    return [(int(run[0]), int(run[-1]) + 1) for run in np.split(patches, breaks) if len(run)]


def _mean_lengths(positions: F32, edges: I32, starts: I32) -> F32:
    """How long each patch's edges are on average; zero where there are none."""
    out = np.zeros(len(starts) - 1, np.float32)
    if not len(edges):
        return out
    lengths = np.linalg.norm(positions[edges[:, 0]] - positions[edges[:, 1]], axis=1)
    sums = np.concatenate([[0.0], np.cumsum(lengths, dtype=np.float64)])
    counts = np.diff(starts)
    np.divide(np.diff(sums[starts]), counts, out=out, where=counts > 0, casting="unsafe")
    return out


def shown_colours(mesh: Mesh, first: int, last: int) -> U8:
    """Colours (k, 4) of a run of vertices; what is masked is what is missing of the fourth number."""
    if mesh.colour is None:
        colour = VALUES["colour"].none(last - first)
    else:
        colour = mesh.colour[first:last].copy()
        colour[:, 3] = 255
    if mesh.mask is not None:
        colour[:, 3] = np.rint(255 * (1 - np.clip(mesh.mask[first:last], 0, 1)))
    return colour


def thin_patches(mesh: Mesh, first: int, last: int) -> AnyArray:
    """Which of a run of patches have a vertex that is seen through, (p,) bool."""
    out = np.zeros(last - first, bool)
    if mesh.colour is not None:
        rows = np.flatnonzero(mesh.colour[first * PATCH : last * PATCH, 3] != OPAQUE)
        out[rows // PATCH] = True
    return out


def _opacity(mesh: Mesh, first: int, last: int) -> U8:
    """How far a run of vertices hides what is behind, (k,)."""
    if mesh.colour is None:
        return np.full(last - first, OPAQUE, np.uint8)
    return np.ascontiguousarray(mesh.colour[first:last, 3])


def _material(mesh: Mesh, first: int, last: int) -> U8:
    """What a run of vertices is made of, (k, 4)."""
    if mesh.material is None:
        return VALUES["material"].none(last - first)
    return np.ascontiguousarray(mesh.material[first:last])


class DrawnMesh:
    """Buffers of one mesh.

    Attributes
    ----------
    triangle_starts : (patches + 1,) int32
        Where each patch's triangles begin in the index buffer.
    edge_starts : (patches + 1,) int32
    edge_lengths : (patches,) float32
        Where each patch's edges begin, once they are needed, and how long they were then on average.
    version : int
        Grows whenever what is drawn changes.
    """

    def __init__(self, ctx: moderngl.Context, mesh: Mesh, ready: Prepared) -> None:
        self.mesh = mesh
        self.triangle_starts, self.cones, self.closed = ready.starts, ready.cones, ready.closed
        self._ctx = ctx
        self._ready = ready
        self.version = 0
        self._faces_version = 0
        self._stand_in: moderngl.Buffer | None = None
        self._positions: moderngl.Buffer | None = None
        self._normals: moderngl.Buffer | None = None
        self._colours: moderngl.Buffer | None = None
        self._materials: moderngl.Buffer | None = None
        self._opacity: moderngl.Buffer | None = None
        self._thin = thin_patches(mesh, 0, -(-len(mesh.positions) // PATCH))
        self._indices: moderngl.Buffer | None = None
        self._heat: moderngl.Buffer | None = None
        self._heat_kind = ""
        self._heat_scale = 1.0
        self._heat_values: F32 | None = None
        self._heat_left = np.empty(0, np.int32)
        self._edges: moderngl.Buffer | None = None
        self._room = len(mesh.positions)
        self.edge_starts = np.empty(0, np.int32)
        self.edge_lengths = np.empty(0, np.float32)
        self._arrays: dict[tuple[int, str], moderngl.VertexArray] = {}
        self._grain: DrawnGrain | None = None
        self._laid: LaidMesh | None = None
        self._grained: set[tuple[int, str]] = set()

    def filled(self) -> Iterator[None]:
        """Upload everything, piece by piece."""
        mesh, ready = self.mesh, self._ready
        colour = shown_colours(mesh, 0, mesh.n_vertices)
        loose = isinstance(mesh, LooseMesh)
        self._room = (
            max(len(mesh.positions) * 3 // 2, len(mesh.positions) + 16 * PATCH)
            if loose
            else len(mesh.positions)
        )
        for name, values in (
            ("_positions", mesh.positions),
            ("_normals", mesh.normals),
            ("_colours", colour),
            ("_indices", ready.triangles),
        ):
            # Loose clay grows by patches: room for half as many again, before all is sent anew.
            buffer = self._ctx.buffer(reserve=values.nbytes * self._room // len(mesh.positions))
            setattr(self, name, buffer)
            yield
            flat = values.reshape(-1)
            step = PIECE // flat.itemsize
            for first in range(0, len(flat), step):
                buffer.write(flat[first : first + step], offset=first * flat.itemsize)
                yield
        if len(ready.stand_in):
            self._stand_in = self._ctx.buffer(ready.stand_in)
        if mesh.hidden is not None:
            self._hide()
        self._faces_version = mesh.faces_version

    @property
    def is_outgrown(self) -> bool:
        """Whether the mesh has more places than there is room for: it needs new buffers."""
        return len(self.mesh.positions) > self._room

    def array(
        self, program: moderngl.Program, what: str = "faces", grain: DrawnGrain | None = None
    ) -> moderngl.VertexArray:
        """The mesh as a program reads it.

        Parameters
        ----------
        grain : DrawnGrain, optional
            Grain that is shown by shading, for a program that asks for it.
        what : str
            faces; stand-in (the faces where there is none); heat (faces, coloured by the measure last asked
            for); edges.
        """
        if what == "stand-in" and self._stand_in is None:
            what = "faces"
        key = (program.glo, what)
        if grain is not None and grain is not self._grain:
            # What read the buffers of another has no use any more.
            for known in self._grained:
                self._arrays.pop(known).release()
            self._grained.clear()
            self._grain = grain
        if key not in self._arrays:
            indices = {"stand-in": self._stand_in, "edges": self._edges}.get(what, self._indices)
            content = [
                (buffer, kind, name)
                for buffer, kind, name in (
                    (self._positions, "3f4", "position"),
                    (self._normals, "3f4", "normal"),
                    (self._heat if what == "heat" else self._colours, "4f1", "colour"),
                    (self._materials, "4f1", "material"),
                    (self._opacity, "1f1", "opacity"),
                )
                if name in program
            ]
            if grain is not None:
                self._grained.add(key)
                content += [
                    (buffer, kind, name) for name, (buffer, kind) in grain.buffers.items() if name in program
                ]
            self._arrays[key] = self._ctx.vertex_array(program, content, indices)
        return self._arrays[key]

    def need_edges(self) -> None:
        """Have the mesh's real edges ready to be drawn."""
        if self._edges is None:
            self._edges = self._ctx.buffer(self._shown_edges())

    def need_materials(self) -> bool:
        """Have what the vertices are made of ready to be drawn; whether they are made of anything of their own."""
        if self._materials is None and self.mesh.material is not None:
            self._materials = self._ctx.buffer(reserve=self._room * 4)
            self._materials.write(self.mesh.material)
        return self._materials is not None

    def need_opacity(self) -> bool:
        """Have ready to be drawn how far the vertices hide what is behind; whether any is seen through."""
        if not self._thin.any():
            return False
        if self._opacity is None:
            self._opacity = self._ctx.buffer(reserve=self._room)
            self._opacity.write(_opacity(self.mesh, 0, self.mesh.n_vertices))
        return True

    def need_laid(self, sheets: Sheets) -> LaidMesh:
        """Have what is drawn by UVs ready."""
        if self._laid is None:
            self._laid = LaidMesh(self._ctx)
        self._laid.sync(self.mesh, sheets)
        return self._laid

    def need_heat(self, kind: str, values: F32 | None = None) -> None:
        """Colour the vertices by a measure, or by given values (n,) from 0 to 1; `warm_up` then does the work."""
        if self._heat_kind == kind and self._heat_values is values:
            return
        if self._heat is None:
            self._heat = self._ctx.buffer(np.full((self._room, 4), 255, np.uint8))
        self._heat_kind = kind
        self._heat_values = values
        self._heat_scale = 1.0 if values is not None else scale_of(self.mesh, kind)
        self._heat_left = np.arange(self.mesh.topology.n_patches, dtype=np.int32)

    def warm_up(self, until: float) -> bool:
        """Measure what is left to measure until a time (of `perf_counter`); whether all is done."""
        while len(self._heat_left):
            now, self._heat_left = self._heat_left[:HEAT_PATCHES], self._heat_left[HEAT_PATCHES:]
            self._write_heat(now)
            if time.perf_counter() > until:
                return len(self._heat_left) == 0
        return True

    def _write_heat(self, patches: I32) -> None:
        assert self._heat is not None
        if self._heat_kind == "regions":
            self._write_rows(self._heat, patches, region_colours(self.mesh, patches))
            return
        if self._heat_kind not in KINDS:
            at = (patches[:, None].astype(np.int64) * PATCH + np.arange(PATCH)).reshape(-1)
            at = at[at < self.mesh.n_vertices]
            known = self._heat_values is not None and len(self._heat_values) == self.mesh.n_vertices
            values = self._heat_values[at] if known else np.full(len(at), 0.5, np.float32)  # type: ignore[index]
        else:
            values = heat(self.mesh, self._heat_kind, patches, self._heat_scale)
        self._write_rows(self._heat, patches, heat_colours(self._heat_kind, values))

    def _write_rows(self, buffer: moderngl.Buffer, patches: I32, colours: U8) -> None:
        row = 0
        for first, last in _runs(patches):
            begin, end = first * PATCH, min(last * PATCH, self.mesh.n_vertices)
            buffer.write(colours[row : row + end - begin], offset=begin * 4)
            row += end - begin

    def _upload_values(self) -> None:
        """Send colours and masks that changed, and leave out faces that are hidden."""
        mesh = self.mesh
        changed = mesh.take_changed_values()
        if len(changed):
            self.version += 1
            assert self._colours is not None
            for first, last in _runs(changed, SPANNED):
                begin, end = first * PATCH, min(last * PATCH, mesh.n_vertices)
                self._colours.write(shown_colours(mesh, begin, end), offset=begin * 4)
                if self._materials is not None:
                    self._materials.write(_material(mesh, begin, end), offset=begin * 4)
                if last > len(self._thin):
                    self._thin = np.append(self._thin, np.zeros(last - len(self._thin), bool))
                self._thin[first:last] = thin_patches(mesh, first, last)
                if self._opacity is not None:
                    self._opacity.write(_opacity(mesh, begin, end), offset=begin)
            if self._heat_kind == "regions":
                self._write_heat(changed)
        if mesh.faces_version != self._faces_version:
            self._hide()
        if isinstance(mesh, LooseMesh):
            self._upload_faces(mesh)

    def _upload_faces(self, mesh: LooseMesh) -> None:
        """Send the faces of patches whose mesh has changed."""
        changed = mesh.take_changed_faces()
        more = mesh.n_patches - len(self.cones)
        if more > 0:
            self.cones = np.concatenate([self.cones, np.full((more, 4), 2.0, np.float32)])
            self.triangle_starts = mesh.topology.patch_faces
        if more > 0 or len(changed):
            self._drop_edges()
        if len(changed) == 0:
            return
        self.version += 1
        assert self._indices is not None
        for first, last in _runs(changed):
            rows = mesh.faces[first * FACES : last * FACES, :3]
            if mesh.hidden is not None:
                rows = np.where(mesh.hidden[first * FACES : last * FACES, None] != 0, np.int32(0), rows)
            self._indices.write(np.ascontiguousarray(rows), offset=first * FACES * 12)

    def _drop_edges(self) -> None:
        """Edges are of a mesh that has changed: they are gathered anew when they are next to be drawn."""
        if self._edges is not None:
            self._edges.release()
            self._edges = None
            for key in [key for key in self._arrays if key[1] == "edges"]:
                self._arrays.pop(key).release()

    def _hide(self) -> None:
        """Let hidden faces collapse to a point; then the clay's inside is seen, as of any open clay."""
        mesh, ready = self.mesh, self._ready
        self._faces_version = mesh.faces_version
        self.version += 1
        hidden = mesh.hidden
        self.closed = ready.closed and hidden is None
        triangles, few = ready.triangles, ready.stand_in
        if isinstance(mesh, LooseMesh):
            triangles = mesh.faces[:, :3]
        if hidden is not None and isinstance(mesh, LooseMesh):
            triangles = np.where(hidden[:, None] != 0, np.int32(0), triangles)
        elif hidden is not None:
            faces = mesh.topology.faces
            of_face = np.repeat(np.arange(len(faces)), np.where(faces[:, 3] >= 0, 2, 1))
            triangles = np.where(hidden[of_face, None] != 0, np.int32(0), triangles)
            shown = np.zeros(mesh.n_vertices + 1, bool)
            shown[faces[hidden == 0].reshape(-1)] = True
            few = np.where(shown[few].all(axis=1, keepdims=True), few, np.int32(0))
        assert self._indices is not None
        self._indices.write(np.ascontiguousarray(triangles))
        if self._stand_in is not None:
            self._stand_in.write(np.ascontiguousarray(few))
        self._drop_edges()

    def _shown_edges(self) -> I32:
        edges, self.edge_starts = patch_edges(self.mesh.topology)
        self.edge_lengths = _mean_lengths(self.mesh.positions, edges, self.edge_starts)
        hidden = self.mesh.hidden
        if hidden is not None:
            shown = np.zeros(self.mesh.n_vertices + 1, bool)
            shown[self.mesh.topology.faces[hidden == 0].reshape(-1)] = True
            edges = np.where(shown[edges].all(axis=1, keepdims=True), edges, np.int32(0))
        return np.ascontiguousarray(edges)

    @property
    def is_large(self) -> bool:
        """Whether a coarser mesh stands in for it whenever the camera moves."""
        return self._stand_in is not None and self.n_triangles > LARGE

    @property
    def n_triangles(self) -> int:
        """Triangles drawn when it is drawn whole."""
        return int(self.triangle_starts[-1])

    def upload(self) -> I32:
        """Send what changed since the last call; returns the changed patches, (p,)."""
        mesh = self.mesh
        self._upload_values()
        dirty = mesh.take_dirty()
        if len(dirty) == 0:
            return dirty
        self.version += 1
        assert self._positions is not None
        assert self._normals is not None
        # Neighbouring patches go in one piece.
        for run_first, run_last in _runs(dirty, SPANNED // 4):
            first, last = run_first * PATCH, min(run_last * PATCH, mesh.n_vertices)
            self._positions.write(mesh.positions[first:last], offset=first * 12)
            self._normals.write(mesh.normals[first:last], offset=first * 12)
        if self._heat_kind:
            self._write_heat(dirty)
        if not mesh.in_flux:
            shape = mesh.topology
            fit_cones(mesh.positions, shape.faces, shape.patch_faces, dirty, self.cones)
        return dirty

    @property
    def few(self) -> I32:
        """The triangles of the stand-in, (t, 3); none for a small part."""
        return self._ready.stand_in

    def release(self) -> None:
        """Give the graphics memory back."""
        for array in self._arrays.values():
            array.release()
        if self._laid is not None:
            self._laid.release()
        for buffer in (
            self._positions,
            self._normals,
            self._colours,
            self._materials,
            self._opacity,
            self._indices,
            self._stand_in,
            self._heat,
            self._edges,
        ):
            if buffer is not None:
                buffer.release()


class _Arrival:
    """A large mesh on its way: prepared by a thread, then uploaded in pieces."""

    def __init__(self, ctx: moderngl.Context, mesh: Mesh) -> None:
        self.mesh = mesh
        # What strokes change from here on is dirty once more, and uploaded again at the end.
        mesh.take_dirty()
        mesh.take_changed_values()
        self._ctx = ctx
        self._ready: Prepared | None = None
        self._failed: Exception | None = None
        self.drawn: DrawnMesh | None = None
        self._pieces: Iterator[None] = iter(())
        self._thread = threading.Thread(target=self._prepare, daemon=True)
        self._thread.start()

    def _prepare(self) -> None:
        try:
            self._ready = prepare(self.mesh)
        except Exception as error:
            self._failed = error

    def step(self, until: float) -> bool:
        """Go on until a time (of `perf_counter`); whether everything has arrived. Raises what preparing raised."""
        if self._failed is not None:
            raise self._failed
        if self._thread.is_alive() or self._ready is None:
            self._thread.join(max(min(until - time.perf_counter(), 0.004), 0.0))
            return False
        if self.drawn is None:
            self.drawn = DrawnMesh(self._ctx, self.mesh, self._ready)
            self._pieces = self.drawn.filled()
        while next(self._pieces, "all") != "all":
            if time.perf_counter() >= until:
                return False
        return True

    def release(self) -> None:
        if self.drawn is not None:
            self.drawn.release()


class Shelf:
    """All visible parts of a scene, ready to be drawn. Several pictures may share one.

    Parameters
    ----------
    patient : bool
        Large meshes arrive in pieces while the caller does other things; otherwise `sync` waits.

    Attributes
    ----------
    broken : dict
        By mesh id, meshes that could not be prepared, and why: pictures are drawn without them.
    taken_away : int
        How often buffers went that a picture in steps may still have been about to draw.
    """

    def __init__(self, ctx: moderngl.Context, patient: bool = False) -> None:
        self.ctx = ctx
        self.patient = patient
        self._drawn: dict[str, DrawnMesh] = {}
        self._arriving: dict[str, _Arrival] = {}
        self.furs = FurShelf(ctx, patient)
        self.grains = GrainShelf(ctx, patient)
        self.broken: dict[str, tuple[Mesh, Exception]] = {}
        self.taken_away = 0

    def drawable(self, scene: Scene) -> Scene:
        """The scene without parts that cannot be drawn."""
        if not self.broken:
            return scene
        return replace(scene, parts=tuple(part for part in scene.parts if part.mesh_id not in self.broken))

    def has(self, part: Part) -> bool:
        """Whether a part is there, ready to be drawn."""
        return part.mesh_id in self._drawn

    def sync(self, scene: Scene) -> bool:
        """Have buffers for exactly the visible parts; whether all of them are there."""
        wanted = {part.mesh_id: part.mesh for part in scene.parts if part.visible}
        shelves: tuple[dict[str, DrawnMesh] | dict[str, _Arrival], ...] = (self._drawn, self._arriving)
        for kept in shelves:
            things: list[tuple[str, DrawnMesh | _Arrival]] = list(kept.items())
            for mesh_id, thing in things:
                if wanted.get(mesh_id) is not thing.mesh:
                    kept.pop(mesh_id).release()
                    self.taken_away += 1
        for mesh_id, (mesh, _) in list(self.broken.items()):
            if wanted.pop(mesh_id, None) is not mesh:
                del self.broken[mesh_id]
        dirty: dict[str, I32] = {}
        for mesh_id, mesh in wanted.items():
            if mesh_id in self._drawn and self._drawn[mesh_id].is_outgrown:
                self._drawn.pop(mesh_id).release()
                self.taken_away += 1
            if mesh_id in self._drawn:
                dirty[mesh_id] = self._drawn[mesh_id].upload()
            elif mesh_id not in self._arriving:
                if self.patient and mesh.n_vertices > SMALL and not isinstance(mesh, LooseMesh):
                    self._arriving[mesh_id] = _Arrival(self.ctx, mesh)
                else:
                    mesh.take_dirty()
                    mesh.take_changed_values()
                    if isinstance(mesh, LooseMesh):
                        mesh.take_changed_faces()
                    drawn = DrawnMesh(self.ctx, mesh, prepare(mesh))
                    for _ in drawn.filled():
                        pass
                    self._drawn[mesh_id] = drawn
        grained = self.grains.sync(scene)
        return self.furs.sync(scene, dirty) and grained and not self._arriving

    def arrive(self, until: float) -> bool:
        """Bring in what is on its way, until a time (of `perf_counter`); whether all is there."""
        for mesh_id, arrival in list(self._arriving.items()):
            try:
                if not arrival.step(until):
                    return False
            except Exception as error:
                self.broken[mesh_id] = (arrival.mesh, error)
                self._arriving.pop(mesh_id).release()
                continue
            assert arrival.drawn is not None
            self._drawn[mesh_id] = arrival.drawn
            del self._arriving[mesh_id]
            arrival.drawn.upload()
        grained = self.grains.arrive()
        return self.furs.arrive() and grained

    def warm_up(self, scene: Scene, style: Style, until: float) -> bool:
        """Colour all parts by the style's measure, until a time (of `perf_counter`); whether all is done."""
        for part in scene.parts:
            if part.visible:
                drawn = self[part]
                drawn.need_heat(style.heat, style.distances.get(part.id))
                if not drawn.warm_up(until):
                    return False
        return True

    def __getitem__(self, part: Part) -> DrawnMesh:
        """A part's buffers. Raises `KeyError` while it is not there."""
        return self._drawn[part.mesh_id]

    def release(self) -> None:
        """Give all graphics memory back."""
        for drawn in self._drawn.values():
            drawn.release()
        for arrival in self._arriving.values():
            arrival.release()
        self._drawn.clear()
        self._arriving.clear()
        self.furs.release()
        self.grains.release()
