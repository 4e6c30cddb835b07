"""Kneten from Python: open, change and write clay without a window.

What stands here is what programs may rely on; everything else may change. Lengths are millimetres, y is up, pictures are
arrays. `docs/library.md` has examples.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress
from kneten.core.camera import Camera
from kneten.core.carry import CarryWish, offered_levels, offered_reach, source_of
from kneten.core.decimate import Wanted, decimated
from kneten.core.maps.bake import BakeWish, checked
from kneten.core.mesh import Mesh
from kneten.core.printing.body import one_body
from kneten.core.quads.retopologise import QuadWish
from kneten.core.regions import with_face_values
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.core.repainted import repainted
from kneten.core.solid_work import SolidError
from kneten.core.topology import MeshError
from kneten.core.transform import Transform
from kneten.core.uv.pack import PackWish
from kneten.document import printing
from kneten.document.arrays_file import ProjectFileError
from kneten.document.carried_parts import carry, land, matrix_between
from kneten.document.game_wish import GameWish
from kneten.document.mapping import Made, baked_part
from kneten.document.picturing import shot_named
from kneten.document.print_wish import PrintWish
from kneten.document.project import Project as _Project
from kneten.document.project_file import ENDING, open_project, save_project
from kneten.document.retopology import laid_quads, land_in_place, with_guides
from kneten.document.scene import Part as _Part
from kneten.document.unwrapping import cage_of, laid_flat
from kneten.document.unwrapping import land as land_uv
from kneten.formats.exchange import (
    bring,
    pieces_of,
    read_rigged,
    usual_space,
    with_maps,
    with_skins,
    write_file,
)
from kneten.formats.game_set import GameSet, write_game_set
from kneten.formats.maps import write_maps
from kneten.formats.pieces import FormatError
from kneten.formats.print_set import PrintSet, write_print_set
from kneten.formats.space import Space

FilePath = str | os.PathLike[str]

Report = Callable[[float, str], object]
"""Told how far work is, 0 to 1, and what is done. What it raises ends the work."""


class KnetenError(Exception):
    """Something cannot be done. The text says what is wrong, and what to do."""


class _Reporting(Progress):
    def __init__(self, report: Report | None) -> None:
        self._report = report

    def report(self, fraction: float, text: str = "") -> None:
        if self._report is not None:
            self._report(fraction, text)


def _tried(name: str, run: Callable[[], Any]) -> Any:
    """What work gives; its refusals as `KnetenError`."""
    try:
        return run()
    except (MeshError, SolidError) as error:
        raise KnetenError(f"{name}: {error}") from error
    except (FormatError, ProjectFileError, ValueError) as error:
        raise KnetenError(str(error)) from error


class Part:
    """A part of a project: a mesh, its levels and layers, and where it stands. Made by `Project.parts`."""

    def __init__(self, project: Project, part_id: str) -> None:
        self._owner, self._id = project, part_id

    def __repr__(self) -> str:
        return f"<Part {self.name!r}, {self.vertices:,} vertices>"

    @property
    def _part(self) -> _Part:
        return self._owner._project.scene.part(self._id)

    @property
    def name(self) -> str:
        """What it is called."""
        return self._part.name

    @property
    def visible(self) -> bool:
        """Whether it is shown, and so written."""
        return self._part.visible

    @visible.setter
    def visible(self, on: bool) -> None:
        self._owner._project.show(self._id, on)

    @property
    def vertices(self) -> int:
        """How many vertices it has."""
        return self._part.mesh.n_vertices

    @property
    def triangles(self) -> int:
        """How many triangles it has, quads counted as two."""
        return int(self._part.mesh.topology.n_triangles)

    @property
    def positions(self) -> F64:
        """Where its vertices stand in the scene, (n, 3), in the order of the file they came from."""
        part = self._part
        return part.transform.to_scene(part.mesh.source_arrays()[0].astype(np.float64))

    @property
    def faces(self) -> I32:
        """Its faces, (f, 4); -1 as the last corner of a triangle."""
        return self._part.mesh.source_arrays()[1]

    @property
    def colours(self) -> U8 | None:
        """Its vertices' colours, (n, 4), sRGB and opacity; None where it is not painted."""
        mesh = self._part.mesh
        return None if mesh.colour is None else mesh.in_source_order(mesh.colour)

    @property
    def uv(self) -> AnyArray | None:
        """Where corners lie in the picture plane, (f, 4, 2), v upwards; None where it is not laid out."""
        mesh = self._part.mesh
        if mesh.uv is None:
            return None
        out = np.empty_like(mesh.uv)
        out[mesh.topology.source_face] = mesh.uv
        return out.reshape(-1, 4, 2)

    def remesh(
        self, edge: float | None = None, vertices: int | None = None, keep_edges: bool = False,
        report: Report | None = None,
    ) -> Part:  # fmt: skip
        """Make its clay anew of even quads, by a mean edge length in mm or by about how many vertices.

        Raises
        ------
        KnetenError
            When neither or both are given, or nothing encloses anything.
        """
        part = self._part
        if (edge is None) == (vertices is None):
            raise KnetenError("give an edge length or a number of vertices")
        scale = part.transform.scale
        soup = soup_of([part.mesh])
        told = forecast(soup.positions, soup.triangles, None if edge is None else edge / scale, vertices)

        def work() -> tuple[Mesh, Any]:
            going = _Reporting(report)
            made = with_face_values([part.mesh], remesh(soup, told.edge, going, keep_edges=keep_edges))
            return made, repainted(part.stack, part.mesh, made, going)

        return self._reshaped(_tried(self.name, work), "Remesh")

    def decimate(
        self, triangles: int = 0, error: float = 0.0, keep_regions: bool = True, report: Report | None = None
    ) -> Part:
        """Make its mesh coarser, to so many triangles or as far as the surface may move, in mm. UVs, colours and regions stay.

        Raises
        ------
        KnetenError
            When it has fewer triangles already, or nothing is asked for.
        """
        part = self._part
        if triangles <= 0 and error <= 0:
            raise KnetenError("give a number of triangles, or how far the surface may move")
        limit = error / part.transform.scale if error > 0 else np.inf
        wish = Wanted(max(triangles, 0), limit, keep_regions)

        def work() -> tuple[Mesh, Any]:
            going = _Reporting(report)
            made = decimated(part.mesh, wish, going).mesh
            return made, repainted(part.stack, part.mesh, made, going)

        return self._reshaped(_tried(self.name, work), "Decimate")

    def _reshaped(self, made: tuple[Mesh, Any], name: str) -> Part:
        mesh, stack = made
        self._owner._project.replace_mesh(
            self._id, mesh, name, recipe=None, **({"stack": stack} if stack else {})
        )
        return self

    def retopologise(
        self,
        faces: int,
        symmetry: str = "",
        curvature: float = 0.5,
        sharp: bool = False,
        report: Report | None = None,
    ) -> Part:
        """Lay clean quads over it that follow its form and its guides.

        Parameters
        ----------
        symmetry : str
            x, y or z: exactly symmetric across that axis.
        curvature : float
            Denser where it is round, 0 to 1.

        Raises
        ------
        KnetenError
            When no quads can be laid.
        """
        part, scene = self._part, self._owner._project.scene
        axis = "xyz".index(symmetry) if symmetry else None
        wish = QuadWish(faces, axis, curvature, 0.0, sharp, False)
        laid = _tried(
            self.name, lambda: laid_quads(part, (), with_guides(wish, scene, part), False, _Reporting(report))
        )
        land_in_place(self._owner._project, self._id, laid)
        return self

    def unwrap(
        self, size: int = 2048, margin: int = 8, stretch: float | None = 0.6, report: Report | None = None
    ) -> Part:
        """Lay it flat, with UVs on one picture, along seams that are found; along its own where `stretch` is None. Raises `KnetenError`."""
        part = self._part
        cage = cage_of(part)
        most = None if stretch is None else 1 + stretch
        made = _tried(self.name, lambda: laid_flat(cage, PackWish(size, margin), most, _Reporting(report)))
        land_uv(self._owner._project, part, cage, made, "Unwrap")
        return self

    def bake(
        self, maps: Sequence[str] = ("normal", "occlusion"), size: int = 2048, samples: int = 1,
        sources: Sequence[Part] = (), folder: FilePath | None = None, report: Report | None = None,
    ) -> dict[str, AnyArray]:  # fmt: skip
        """Bake maps for it, from its own finest level or from other parts.

        Returns
        -------
        dict
            By what they are: (h, w, 1 or 3); whole numbers for pictures, millimetres for lengths. With a folder they are
            written as well.

        Raises
        ------
        KnetenError
            When it has no UVs, or the wish makes no sense.
        """
        part, wish = self._part, BakeWish(tuple(maps), size, samples)
        own = [one._part for one in sources]

        def work() -> Made:
            checked(part.mesh, wish)
            return baked_part(part, own, wish, None, _Reporting(report))

        made: Made = _tried(self.name, work)
        if folder is not None:
            _tried(self.name, lambda: write_maps(Path(folder), self.name, made, _Reporting(report)))
        return dict(made.tiles[0].pictures)

    def carry_over(self, source: Part, levels: int | None = None, report: Report | None = None) -> Part:
        """Lay another part's form, layers, colour and regions onto this one's mesh; both stand where they stand. Raises `KnetenError`."""
        one, target = source._part, self._part

        def work() -> Any:
            going = _Reporting(report)
            clay = source_of(one.mesh, one.stack, matrix_between(one, target), going)
            count = offered_levels(clay.mesh.n_vertices, target.mesh.n_vertices) if levels is None else levels
            wish = CarryWish(offered_reach(clay.mesh, target.mesh), levels=count)
            scene = self._owner._project.scene
            return carry(one, target, scene.kept_masks, wish, going)

        land(self._owner._project, self._id, _tried(self.name, work), "Carry over")
        return self


class Project:
    """Clay in parts, with all that belongs to it. `open` and `new` make one."""

    def __init__(self, project: _Project) -> None:
        self._project = project

    def __repr__(self) -> str:
        return f"<Project {self._project.title!r}, {len(self.parts)} parts>"

    @property
    def parts(self) -> tuple[Part, ...]:
        """All parts, in their order."""
        return tuple(Part(self, part.id) for part in self._project.scene.parts)

    def part(self, name: str) -> Part:
        """The part of a name. Raises `KnetenError` where there is none."""
        for part in self.parts:
            if part.name == name:
                return part
        raise KnetenError(
            f"there is no part {name}; there are {', '.join(one.name for one in self.parts) or 'none'}"
        )

    def add(self, name: str, positions: AnyArray, faces: AnyArray, colours: AnyArray | None = None) -> Part:
        """Add a mesh as a part.

        Parameters
        ----------
        positions : (n, 3)
            Mm, y up.
        faces : (f, 3) or (f, 4) int
            -1 as the last corner of a triangle.
        colours : (n, 4) uint8, optional

        Raises
        ------
        KnetenError
            When they do not fit together.
        """
        table = np.full((len(faces), 4), -1, np.int32)
        table[:, : np.shape(faces)[1]] = faces
        mesh: Mesh = _tried(
            name,
            lambda: Mesh.from_faces(
                np.asarray(positions, np.float32),
                table,
                None if colours is None else np.asarray(colours, np.uint8),
            ),
        )
        (part,) = self._project.add_meshes(f"Add {name}", [(name, mesh, Transform())])
        return Part(self, part.id)

    def one_body(self, edge: float = 0.0, report: Report | None = None) -> Part:
        """Make one closed body of all visible parts, exactly where they are sound; these are hidden. Raises `KnetenError`."""
        parts = self._visible()
        meshes = [printing.in_print(part, 1.0) for part in parts]
        made = _tried(
            "One body", lambda: one_body(meshes, [part.name for part in parts], edge, _Reporting(report))
        )
        return Part(self, printing.land_body(self._project, parts, made.mesh).id)

    def _visible(self) -> list[_Part]:
        return [part for part in self._project.scene.parts if part.visible]

    def save(self, path: FilePath) -> Path:
        """Save it as a project, or, by another ending, write what is visible as that; the file. Raises `KnetenError`."""
        target = Path(path)
        if target.suffix.lower() == ENDING:
            _tried(target.name, lambda: save_project(self._project, target))
        else:
            self.export(target)
        return target

    def export(
        self, path: FilePath, unit: str | None = None, up: str | None = None, packed: bool = False
    ) -> list[str]:
        """Write what is visible to a file of an open format by its ending; what could not go along, in words. Raises `KnetenError`."""
        target, usual = Path(path), usual_space(Path(path))
        space = Space(unit or usual.unit, up or usual.up)
        parts, scene = self._visible(), self._project.scene

        def work() -> list[str]:
            pieces = with_skins(target, pieces_of(parts, space), parts, scene, space)
            return write_file(target, with_maps(target, pieces, parts, scene), space=space, packed=packed)

        told: list[str] = _tried(target.name, work)
        return told

    def still(
        self, path: FilePath | None = None, size: tuple[int, int] = (1920, 1080), view: str = "front", camera: str = "",
        look: str = "", report: Report | None = None,
    ) -> F32:  # fmt: skip
        """Draw it, and write the picture where a path is given; its colours, (h, w, 4), 0 to 1. Raises `KnetenError`."""
        from kneten.app.work.picture_files import write_still
        from kneten.render.still import StillError, draw_still

        shown, style = self._shown(size, view, camera, look)
        try:
            made = draw_still(self._project.scene, shown, *size, style, progress=_Reporting(report))
            if path is not None:
                write_still(Path(path), made)
        except (StillError, FormatError) as error:
            raise KnetenError(str(error)) from error
        return made.colours

    def render(
        self, path: FilePath, size: tuple[int, int] = (1920, 1080), samples: int = 64, view: str = "front",
        camera: str = "", seed: int = 0,
    ) -> Path:  # fmt: skip
        """Trace light in it, and write the picture; the file. Raises `KnetenError`."""
        from kneten.app.work.picture_files import write_still
        from kneten.render.handover import Order
        from kneten.render.still import StillError
        from kneten.render.tracing import TraceError, Tracing

        shown, style = self._shown(size, view, camera, "")
        try:
            tracing = Tracing(self._project.scene, shown, style, Order(size, samples, seed))
            try:
                tracing.begin()
                write_still(Path(path), tracing.still(tracing.wait()))
            finally:
                tracing.end()
        except (StillError, TraceError, FormatError, ValueError) as error:
            raise KnetenError(str(error)) from error
        return Path(path)

    def _shown(self, size: tuple[int, int], view: str, camera: str, look: str) -> tuple[Camera, Any]:
        from kneten.document.look import LOOKS
        from kneten.render.filming import finished
        from kneten.render.style import KILN, Style

        settings, scene = self._project.settings, self._project.scene
        through = ""
        shown = settings.camera
        if camera:
            shot = shot_named(scene, camera)
            if shot is None:
                raise KnetenError(f"there is no camera {camera}")
            shown, through = shot.camera, shot.id
        else:
            shown = replace(shown, angle=28.0).seen_from(view)
            shown = shown.framing(*scene.bounds(), size[0] / max(size[1], 1))
        if look and look not in LOOKS:
            raise KnetenError(f"there is no look {look}; there are {', '.join(LOOKS)}")
        seen = replace(settings.look, kind=look) if look else settings.look
        return shown, finished(Style(KILN, seen, matcaps=settings.matcaps), scene, through)

    def check(self, report: Report | None = None, **wish: Any) -> list[printing.Checked]:
        """Look through all that is visible as it would be printed, body by body; `wish` as `PrintWish` has it. Raises `KnetenError`."""
        wanted = self._print_wish(wish)
        told: list[printing.Checked] = _tried(
            "Check", lambda: printing.checks(self._project.scene, wanted, _Reporting(report))
        )
        return told

    def print_set(self, folder: FilePath, report: Report | None = None, **wish: Any) -> PrintSet:
        """Check all that is visible, and write 3MF, STL and a page to a folder; `wish` as `PrintWish` has it. Raises `KnetenError`."""
        wanted, bodies = self._print_wish(wish), self.check(report, **wish)
        made: PrintSet = _tried(
            "Print set",
            lambda: write_print_set(Path(folder), self._project.title, bodies, wanted, _Reporting(report)),
        )
        return made

    def _print_wish(self, wish: Mapping[str, Any]) -> PrintWish:
        try:
            wanted = replace(self._project.settings.printing, **wish)
            wanted.check()
        except (TypeError, ValueError) as error:
            raise KnetenError(str(error)) from error
        return wanted

    def game_set(self, folder: FilePath, report: Report | None = None, **wish: Any) -> GameSet:
        """Write levels of detail, maps, skeleton, shapes, clips and a page to a folder; `wish` as `GameWish` has it. Raises `KnetenError`."""
        try:
            wanted: GameWish = replace(self._project.settings.game, **wish)
            wanted.check()
        except (TypeError, ValueError) as error:
            raise KnetenError(str(error)) from error
        space, target, parts, scene = Space("m"), Path("set.glb"), self._visible(), self._project.scene

        def work() -> GameSet:
            pieces = with_skins(target, pieces_of(parts, space), parts, scene, space)
            pieces = with_maps(target, pieces, parts, scene)
            return write_game_set(
                Path(folder), self._project.title, pieces, wanted, 1000.0, _Reporting(report)
            )

        made: GameSet = _tried("Game set", work)
        return made


def open(path: FilePath, unit: str | None = None, up: str | None = None) -> Project:
    """Open a project, or a file of any format that Kneten reads.

    Parameters
    ----------
    unit, up : str, optional
        How the file measures space, where it does not say: mm, cm, m or in; y or z.

    Raises
    ------
    KnetenError
        When it cannot be read.
    """
    source = Path(path)
    if source.suffix.lower() == ENDING:
        return Project(_tried(source.name, lambda: open_project(source)))
    usual = usual_space(source)

    def work() -> _Project:
        taken, _ = read_rigged(source, Space(unit or usual.unit, up or usual.up))
        project = _Project()
        bring(project, taken, "Import")
        return project

    return Project(_tried(source.name, work))


def new() -> Project:
    """An empty project."""
    return Project(_Project())
