"""3MF: out and in again, read by the library in its strict mode, broken in every way."""

from __future__ import annotations

import locale
import zipfile
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Cancelled, Progress
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document.scene import Part
from kneten.formats import threemf
from kneten.formats.exchange import pieces_of, read_file, write_file
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.conftest import make_ball, make_sheet
from tests.formats.test_exchange import shuffled_part
from tests.judge import printable

lib3mf = pytest.importorskip("lib3mf")
PLATE = Space("mm", "z")


def test_several_parts_there_and_back(tmp_path: Path) -> None:
    turned = Transform((10, 20, -5), (0.0, 0.3826834, 0.0, 0.9238795), 1.5, True)
    parts = [shuffled_part(triangles=True), Part("Beads", make_ball(9.0, 5, True), transform=turned)]
    path = tmp_path / "a.3mf"
    write_file(path, pieces_of(parts, PLATE), space=PLATE)
    printable(path)
    pieces, notices = read_file(path)
    assert notices == []
    assert [name for name, _, _ in pieces] == ["Näse", "Beads"]
    for (_, mesh, _), part in zip(pieces, parts, strict=True):
        wanted = part.transform.to_scene(part.mesh.source_arrays()[0].astype(float))
        assert mesh.source_arrays()[0] == pytest.approx(wanted, abs=1e-4)
        out = mesh.positions - mesh.positions.mean(axis=0)
        assert (np.einsum("nk,nk->n", out, mesh.normals) > 0).all()
    first = pieces[0][1]
    wanted = parts[0].mesh
    assert np.array_equal(first.in_source_order(first.colour), wanted.in_source_order(wanted.colour))
    assert pieces[1][1].colour is None


@pytest.mark.parametrize(("unit", "number"), [("mm", 1), ("cm", 2), ("in", 3), ("m", 5)])
def test_units_are_real(tmp_path: Path, unit: str, number: int) -> None:
    path, space = tmp_path / "a.3mf", Space(unit, "z")
    write_file(path, pieces_of([Part("Ball", make_ball(10.0, 5))], space), space=space)
    _, model = printable(path)
    assert threemf._number(model.GetUnit()) == number  # type: ignore[attr-defined]
    ((_, mesh, _),), _ = read_file(path)
    low, high = mesh.bounds()
    assert high - low == pytest.approx(20.0, abs=1e-3)


def test_the_process_keeps_its_locale(tmp_path: Path) -> None:
    before = locale.setlocale(locale.LC_ALL)
    path = tmp_path / "a.3mf"
    write_file(path, pieces_of([shuffled_part()], PLATE), space=PLATE)
    read_file(path)
    assert locale.setlocale(locale.LC_ALL) == before
    path.write_bytes(b"nothing of the kind" * 9)
    with pytest.raises(FormatError):
        read_file(path)
    assert locale.setlocale(locale.LC_ALL) == before


def test_closed_bodies_and_loose_surfaces_are_told_apart(tmp_path: Path) -> None:
    path = tmp_path / "a.3mf"
    parts = [Part("Ball", make_ball(10.0, 5)), Part("Cloth", make_sheet(6))]
    write_file(path, pieces_of(parts, PLATE), space=PLATE)
    _, model = printable(path)
    found = model.GetMeshObjects()  # type: ignore[attr-defined]
    kinds = []
    while found.MoveNext():
        kinds.append(threemf._number(found.GetCurrentMeshObject().GetType()))
    assert kinds == [lib3mf.ObjectType.Model.value, lib3mf.ObjectType.Surface.value]


def test_objects_made_of_objects_come_where_they_stand(tmp_path: Path) -> None:
    with threemf.own_locale():
        wrapper = lib3mf.Wrapper()
        model = wrapper.CreateModel()
        model.SetUnit(lib3mf.ModelUnit.CentiMeter)
        ball = make_ball(1.0, 4, True)
        one = model.AddMeshObject()
        one.SetName("Bead")
        points, faces = ball.source_arrays()
        threemf._give(
            wrapper, one, "setgeometry",
            (lib3mf.Position, points), (lib3mf.Triangle, faces[:, :3].astype(np.uint32)),
        )  # fmt: skip
        both = model.AddComponentsObject()
        for k in range(2):
            both.AddComponent(one, wrapper.GetTranslationTransform(5.0 * k, 0.0, 0.0))
        model.AddBuildItem(both, wrapper.GetTranslationTransform(0.0, 0.0, 2.0))
        path = tmp_path / "a.3mf"
        model.QueryWriter("3mf").WriteToFile(str(path))
    pieces, _ = read_file(path)
    middles = [mesh.positions.mean(axis=0) for _, mesh, _ in pieces]
    # Centimetres with z up.
    assert middles[0] == pytest.approx([0, 20, 0], abs=0.1)
    assert middles[1] == pytest.approx([50, 20, 0], abs=0.1)


def test_notes_go_along(tmp_path: Path) -> None:
    path = tmp_path / "a.3mf"
    pieces = pieces_of([Part("Ball", make_ball(10.0, 5))], PLATE)
    with open(path, "wb") as file:
        threemf.write_3mf(file, pieces, "mm", Progress(), {"Title": "Tarn, 1:6"})
    _, model = printable(path)
    group = model.GetMetaDataGroup()  # type: ignore[attr-defined]
    told = {
        group.GetMetaData(k).GetName(): group.GetMetaData(k).GetValue()
        for k in range(group.GetMetaDataCount())
    }
    assert told["Title"] == "Tarn, 1:6"


def test_damaged_files_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.3mf"
    write_file(path, pieces_of([shuffled_part()], PLATE), space=PLATE)
    data = path.read_bytes()
    for cut in (50, len(data) // 2):
        path.write_bytes(data[:cut])
        with pytest.raises(FormatError, match=r"a\.3mf"):
            read_file(path)
    path.write_bytes(b"not a package at all" * 10)
    with pytest.raises(FormatError, match=r"a\.3mf"):
        read_file(path)
    with zipfile.ZipFile(path, "w") as package:
        package.writestr("3D/3dmodel.model", "<model/>")
    with pytest.raises(FormatError, match=r"a\.3mf"):
        read_file(path)


class Stops(Progress):
    def report(self, fraction: float, text: str = "") -> None:
        raise Cancelled


def test_writing_is_cancelled_and_leaves_the_old_file(tmp_path: Path) -> None:
    path = tmp_path / "a.3mf"
    path.write_bytes(b"old")

    with pytest.raises(Cancelled):
        write_file(path, pieces_of([shuffled_part()], PLATE), progress=Stops(), space=PLATE)
    assert path.read_bytes() == b"old"


def test_what_it_cannot_hold_is_said(tmp_path: Path) -> None:
    part = shuffled_part()
    part.mesh.uv = np.zeros((part.mesh.topology.n_faces, 8), np.float32)
    part.mesh.material = np.zeros((part.mesh.n_vertices, 4), np.uint8)
    said = write_file(tmp_path / "a.3mf", pieces_of([part], PLATE), space=PLATE)
    assert any("no quads" in one for one in said)
    assert any("no UVs" in one for one in said)
    assert any("no roughness" in one for one in said)


def test_closedness_is_seen() -> None:
    faces = make_ball(10.0, 4, True).topology.faces[:, :3]
    assert threemf._closed(faces)
    assert not threemf._closed(faces[1:])
    flipped = faces.copy()
    flipped[0] = flipped[0, ::-1]
    assert not threemf._closed(flipped)
    assert not threemf._closed(
        Mesh.from_faces(np.zeros((3, 3), np.float32), np.array([[0, 1, 2, -1]], np.int32)).topology.faces[
            :, :3
        ]
    )
