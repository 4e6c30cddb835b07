"""Prints of a project: sizes, steps, checks, the set on disk; judged by independent readers."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Progress
from kneten.core.printing.numbers import Pegs
from kneten.core.topology import MeshError
from kneten.core.transform import Transform
from kneten.document.print_wish import PrintWish
from kneten.document.printing import (
    base_of,
    body_of,
    cavities_of,
    checked,
    checks,
    drain_of,
    factor_of,
    halves_of,
    hollow_of,
    in_print,
    land_base,
    land_body,
    land_clay,
    land_drains,
    land_halves,
    own_lengths,
    thick_map,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.formats.pieces import FormatError
from kneten.formats.print_set import write_print_set
from tests.conftest import make_ball, make_sheet
from tests.judge import printable

GO = Progress()
FONT = Path(__file__).parents[2] / "src/kneten/data/fonts/Lato-Semibold.ttf"
TURNED = Transform((10, 20, -5), (0.0, 0.3826834, 0.0, 0.9238795), 1.5, True)


def figure(transform: Transform = Transform()) -> Project:  # noqa: B008
    return Project(Scene((Part("Tarn", make_ball(30.0, 24), transform=transform),)))


def test_sizes_are_those_asked_for() -> None:
    project = figure(TURNED)
    parts = project.scene.parts
    assert factor_of(PrintWish(), parts) == 1
    assert factor_of(PrintWish(sizing="ratio", ratio=6.0), parts) == pytest.approx(1 / 6)
    wish = PrintWish(sizing="height", height=45.0)
    factor = factor_of(wish, parts)
    mesh = in_print(parts[0], factor)
    assert np.ptp(mesh.positions[:, 1]) == pytest.approx(45.0, abs=1e-3)
    assert own_lengths(parts[0], factor) == pytest.approx(1 / (1.5 * factor))
    assert factor_of(wish, ()) == 1


@pytest.mark.parametrize("place", [Transform(), TURNED])
def test_walls_and_holes_are_in_millimetres_of_the_print(place: Transform) -> None:
    project = figure(place)
    part = project.scene.parts[0]
    wish = PrintWish(sizing="ratio", ratio=2.0, wall=2.0, fine=96, drain=1.5)
    factor = factor_of(wish, [part])
    made = hollow_of(part, wish, factor, GO)
    land_clay(project, part, made.body, "Hollow")
    part = project.scene.parts[0]
    told = checked(part.name, in_print(part, factor), wish, GO)
    assert told.flaw == ""
    assert np.median(told.walls.off) == pytest.approx(2.0, rel=0.05)
    (cavity,) = cavities_of(part.mesh)
    bottom = np.array(part.mesh.positions[int(part.mesh.positions[:, 1].argmin())], float)
    body, plugs = drain_of(part, [(bottom, -bottom / np.linalg.norm(bottom))], wish, factor, GO)
    land_drains(project, part, body, plugs)
    plug = in_print(project.scene.parts[1], factor)
    assert np.ptp(plug.positions, axis=0)[0] == pytest.approx(2 * (1.5 - 0.12), abs=0.2)
    assert cavity.n_vertices > 100
    project.undo()
    assert len(project.scene.parts) == 1


def test_what_is_not_hollow_is_not_drained() -> None:
    part = figure().scene.parts[0]
    with pytest.raises(MeshError, match="not hollow"):
        drain_of(part, [(np.zeros(3), np.ones(3))], PrintWish(), 1.0, GO)


@pytest.mark.parametrize("place", [Transform(), TURNED])
def test_halves_stand_where_the_whole_did(place: Transform) -> None:
    project = figure(place)
    part = project.scene.parts[0]
    middle = place.to_scene(np.zeros((1, 3)))[0]
    wish = PrintWish(pegs=Pegs(2, 2.0, 4.0, 0.2))
    made = halves_of(part, middle, np.array([0.0, 1.0, 0.0]), wish, 1.0, GO)
    low, high = land_halves(project, part, made)
    assert project.history.names()[0] == ["Cut Tarn apart"]
    ends = [in_print(one, 1.0).positions[:, 1] for one in (low, high)]
    assert ends[1].min() == pytest.approx(middle[1], abs=1e-2)
    assert ends[0].max() == pytest.approx(middle[1] + 4.0, abs=0.1)
    project.undo()
    assert [one.name for one in project.scene.parts] == ["Tarn"]


@pytest.mark.parametrize("kind", ["round", "square", "eight"])
@pytest.mark.parametrize("raised", [0.6, -0.5])
def test_bases_stand_under_what_they_carry(kind: str, raised: float) -> None:
    project = figure(TURNED)
    parts = list(project.scene.parts)
    wish = PrintWish(base=kind, title="Tarn", raised=raised, high=9.0)
    mesh = base_of(parts, wish, 0.5, FONT, GO)
    made = land_base(project, mesh)
    low = in_print(parts[0], 1.0).positions[:, 1].min()
    assert in_print(made, 1.0).positions[:, 1].max() == pytest.approx(low + 0.8, abs=1e-3)
    assert np.ptp(mesh.positions[:, 1]) == pytest.approx(18.0, abs=1e-3)
    plain = base_of(parts, replace(wish, title=""), 0.5, FONT, GO)
    other = trimesh.Trimesh(plain.source_arrays()[0], plain.source_arrays()[1][:, :3], process=False)
    assert mesh.topology.n_faces > plain.topology.n_faces
    assert len(other.vertices) > 8
    told = checked("Base", in_print(made, 0.5), wish, GO)
    assert told.flaw == ""
    assert told.facts.stands


def test_a_set_is_what_independent_readers_see(tmp_path: Path) -> None:
    project = figure(TURNED)
    parts = list(project.scene.parts)
    body = body_of(parts, 0.0, GO)
    assert body.exact
    land_body(project, parts, body.mesh)
    wish = PrintWish(sizing="height", height=50.0, material="bronze", layer=0.1)
    bodies = checks(project.scene, wish, GO)
    made = write_print_set(tmp_path / "new", "Tarn, small", bodies, wish, GO)
    told = made.numbers
    assert told["layers"] == 500
    assert told["bodies"][0]["size_mm"][1] == pytest.approx(50.0, abs=0.01)
    solid = trimesh.load(tmp_path / "new" / "Tarn__small_Print_body.stl")
    solid.merge_vertices()
    assert solid.is_watertight
    assert solid.bounds[0, 2] == pytest.approx(0.0, abs=1e-4)
    assert solid.bounds[1, 2] == pytest.approx(50.0, abs=1e-3)
    assert solid.volume / 1000 * 8.8 == pytest.approx(told["weight_g"], rel=1e-3)
    assert solid.bounds[:, :2].mean(axis=0) == pytest.approx([0, 0], abs=1e-3)
    _, model = printable(tmp_path / "new" / "Tarn__small.3mf")
    meshes = model.GetMeshObjects()
    assert meshes.MoveNext()
    assert meshes.GetCurrentMeshObject().IsManifoldAndOriented()
    assert json.loads((tmp_path / "new" / "Tarn__small.json").read_text()) == told


def test_faults_are_named(tmp_path: Path) -> None:
    sheet = Part("Cloth", make_sheet(8))
    ear = make_ball(20.0, 16)
    ear.positions[:, 2] *= 0.03
    ear.refresh_all()
    project = Project(Scene((sheet, Part("Ear", ear))))
    wish = PrintWish()
    bodies = checks(project.scene, wish, GO)
    made = write_print_set(tmp_path, "Both", bodies, wish, GO)
    assert any("Cloth has open edges" in text for text in made.faults)
    assert any("Ear is thinner than 1.2 mm" in text for text in made.faults)
    assert "To be mended" in (tmp_path / "Both.html").read_text(encoding="utf-8")
    with pytest.raises(FormatError, match="nothing to print"):
        write_print_set(tmp_path, "None", [], wish, GO)


@pytest.mark.parametrize(
    "how",
    [
        {"sizing": "huge"}, {"material": "cheese"}, {"base": "star"}, {"wall": 0.0}, {"height": float("nan")}, {"fine": 4},
        {"pegs": Pegs(count=99)}, {"pegs": Pegs(radius=0.0)}, {"layer": -1.0}, {"price": 1e30},
    ],
)  # fmt: skip
def test_wishes_that_make_no_sense_are_refused(how: dict) -> None:
    with pytest.raises(ValueError, match=r"print|length"):
        replace(PrintWish(), **how).check()


def test_files_with_senseless_wishes_are_refused(tmp_path: Path) -> None:
    from kneten.document.arrays_file import ProjectFileError

    project = figure()
    project.change_settings(printing=PrintWish(material="cheese"))
    save_project(project, tmp_path / "a.kneten")
    with pytest.raises(ProjectFileError):
        open_project(tmp_path / "a.kneten")


def test_colours_of_walls() -> None:
    off = np.array([0.0, 1.0, 2.0, 9.0, np.inf], np.float32)
    assert thick_map(off, 1.0) == pytest.approx([0.0, 0.5, 1.0, 1.0, 1.0])
