"""Game sets: levels that keep what hangs on them, variants, small numbers; judged by the open validator where it is there."""

from __future__ import annotations

import io
import json
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PIL import Image

from kneten.core.arrays import Cancelled, Progress
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document.game import recoloured, shared_out
from kneten.document.game_wish import GameWish, Variant
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.formats import gltf_judge
from kneten.formats.exchange import pieces_of, read_file, read_rigged, with_skins, write_file
from kneten.formats.game_set import game_levels, smaller, write_game_set
from kneten.formats.maps import as_png
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.space import Space
from tests.conftest import make_ball
from tests.core.test_detail_levels import laid_ball
from tests.document.test_rigging import TURNED, rig_all, turned, with_body
from tests.formats.test_gltf_skins import Glb

GO, METRES = Progress(), Space("m")

judge = pytest.mark.skipif(
    not gltf_judge.there(), reason="the open validator of glTF is not installed: no Node"
)


def rigged_pieces() -> tuple[Project, list[Piece]]:
    project = with_body(1, TURNED)
    rig_all(project)
    turned(project, "Elbow left", (0.0, 0.0, 50.0))
    parts = list(project.scene.parts)
    return project, with_skins(Path("a.glb"), pieces_of(parts, METRES), parts, project.scene, METRES)


def mapped_piece() -> Piece:
    from dataclasses import replace

    from kneten.core.maps.surfaces import Low

    mesh = laid_ball(20)
    mesh.refresh_all()
    piece = pieces_of([Part("Head", mesh)], METRES)[0]
    rng = np.random.default_rng(7)
    pictures = {
        "colour": as_png(rng.random((64, 64, 3)).astype(np.float32)),
        "normal": as_png(np.full((64, 64, 3), (0.5, 0.5, 1.0), np.float32)),
    }
    tangents = np.empty((mesh.topology.n_faces, 4, 4), np.float32)
    tangents[mesh.topology.source_face] = Low.of(mesh).of_faces()
    return replace(piece, maps=pictures, normals=mesh.in_source_order(mesh.normals), tangents=tangents)


def test_levels_bend_as_the_first_does(tmp_path: Path) -> None:
    _, pieces = rigged_pieces()
    made = write_game_set(tmp_path, "Body", pieces, GameWish((100_000, 2500, 900)), 1000.0, GO)
    files = [one for one in made.files if one.triangles]
    assert [one.triangles for one in files[1:]] == pytest.approx([2500, 900], rel=0.06)
    first = Glb(files[0].path).bent("Body")
    tree = trimesh.Trimesh(first, process=False)
    for one in files[1:]:
        other = Glb(one.path).bent("Body")
        off = np.linalg.norm(first[:, None] - other[None, :400], axis=2).min(axis=0)
        assert np.median(off) < 0.002
        assert off.max() < 0.01
        assert Glb(one.path).words["animations"]
    assert tree.vertices.shape[1] == 3
    told = json.loads((tmp_path / "Body.json").read_text())
    assert len(told["joints"]) == 6
    assert len(told["clips"]) == 3


@judge
@pytest.mark.parametrize("packed", [False, True])
def test_the_open_validator_finds_nothing(tmp_path: Path, packed: bool) -> None:
    _, pieces = rigged_pieces()
    wish = GameWish((3000, 800), (Variant("Blue", 180.0),), packed=packed)
    made = write_game_set(tmp_path, "Both", [*pieces, mapped_piece()], wish, 1000.0, GO)
    meshes = [one for one in made.files if one.triangles]
    assert {one.judge for one in meshes} == {"nothing found"}
    said = gltf_judge.judged(meshes[0].path)
    assert said is not None
    assert said.triangles == meshes[0].triangles
    assert said.draws == meshes[0].draws


@judge
def test_the_validator_says_what_is_wrong(tmp_path: Path) -> None:
    path = tmp_path / "bad.glb"
    write_file(path, pieces_of([Part("Ball", make_ball(10.0, 4))], METRES))
    data = bytearray(path.read_bytes())
    at = data.index(b'"count"') + 10
    data[at : at + 1] = b"9"
    path.write_bytes(bytes(data))
    said = gltf_judge.judged(path)
    assert said is not None
    assert said.errors > 0
    assert "error" in said.text
    path.write_bytes(b"nothing")
    said = gltf_judge.judged(path)
    assert said is not None
    assert said.errors == 1


def test_without_node_nothing_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(gltf_judge.PLACE, str(tmp_path / "none"))
    assert not gltf_judge.there()
    made = write_game_set(
        tmp_path, "Ball", pieces_of([Part("Ball", make_ball(10.0, 6))], METRES), GameWish((500,)), 1000.0, GO
    )
    assert made.files[0].judge == ""
    assert "not asked" in (tmp_path / "Ball.html").read_text(encoding="utf-8")


@pytest.mark.parametrize("place", [Transform(), TURNED])
def test_small_numbers_are_read_again(tmp_path: Path, place: Transform) -> None:
    mesh = laid_ball(16, painted=True)
    mesh.refresh_all()
    part = Part("Ball", mesh, transform=place)
    one, two = tmp_path / "one.glb", tmp_path / "two.glb"
    pieces = pieces_of([part], METRES)
    write_file(one, pieces)
    write_file(two, pieces, packed=True)
    assert two.stat().st_size < 0.7 * one.stat().st_size
    assert "KHR_mesh_quantization" in Glb(two).words["extensionsRequired"]
    ((_, a, _),), ((_, b, _),) = read_file(one)[0], read_file(two)[0]
    assert a.n_vertices == b.n_vertices
    order = np.lexsort(np.round(a.source_arrays()[0], 1).T)
    other = np.lexsort(np.round(b.source_arrays()[0], 1).T)
    assert len(order) == len(other)
    low, high = a.bounds()
    size = float(np.max(high - low))
    back = trimesh.Trimesh(b.source_arrays()[0], process=False).vertices
    near = np.linalg.norm(a.source_arrays()[0] - back, axis=1)
    assert near.max() < 3e-5 * size
    assert np.abs(a.colour.astype(int) - b.colour.astype(int)).max() <= 1
    assert np.abs(a.uv - b.uv).max() < 1e-4 or a.topology.n_faces == b.topology.n_faces


def test_small_weights_are_whole_together(tmp_path: Path) -> None:
    _, pieces = rigged_pieces()
    path = tmp_path / "body.glb"
    write_file(path, pieces, packed=True)
    file = Glb(path)
    for mesh in file.words["meshes"]:
        attributes = mesh["primitives"][0]["attributes"]
        if "WEIGHTS_0" in attributes:
            assert (file.array(attributes["WEIGHTS_0"]).astype(int).sum(axis=1) == 255).all()
    taken, _ = read_rigged(path)
    assert sum(one.rig is not None for one in taken) == 3


def test_variants_stand_in_one_file_where_there_is_a_picture(tmp_path: Path) -> None:
    wish = GameWish((2000, 500), (Variant("Blue", 180.0), Variant("Pale", 0.0, -0.8)))
    made = write_game_set(tmp_path, "Head", [mapped_piece()], wish, 1000.0, GO)
    words = Glb(made.files[0].path).words
    assert [one["name"] for one in words["extensions"]["KHR_materials_variants"]["variants"]] == [
        "Blue",
        "Pale",
    ]
    mappings = words["meshes"][0]["primitives"][0]["extensions"]["KHR_materials_variants"]["mappings"]
    assert sorted(one["variants"][0] for one in mappings) == [0, 1]
    assert len({one["material"] for one in mappings}) == 2
    names = [one.path.name for one in made.files]
    assert "Head_colour.png" in names
    assert not any("Blue" in name for name in names)
    # Maps of the next level are half as large.
    second = Glb(made.files[1].path)
    view = second.words["bufferViews"][second.words["images"][0]["bufferView"]]
    data = second.blob[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]
    with Image.open(io.BytesIO(data)) as image:
        assert image.size == (64, 64)


def test_pictures_are_halved() -> None:
    data = as_png(np.random.default_rng(1).random((256, 512, 3)).astype(np.float32))
    with Image.open(io.BytesIO(smaller(data, 2))) as image:
        assert image.size == (256, 128)
    assert smaller(data, 1) is data


def test_hues_turn_and_lightness_stays() -> None:
    from kneten.core.paint.light import lightness_colour_hue

    codes = np.array([[200, 80, 60], [60, 120, 80], [128, 128, 128]], np.uint8)
    before, after = lightness_colour_hue(codes), lightness_colour_hue(recoloured(codes, Variant("x", 90.0)))
    assert after[:, 0] == pytest.approx(before[:, 0], abs=0.02)
    turn = (after[:2, 2] - before[:2, 2]) % 360
    assert turn == pytest.approx([90, 90], abs=4)
    # Grey has no hue to turn.
    assert np.abs(recoloured(codes, Variant("x", 90.0))[2].astype(int) - 128).max() <= 2
    picture = np.zeros((2, 3, 4), np.uint8)
    assert recoloured(picture, Variant("x", 10.0, 0.5, 0.5)).shape == picture.shape


def test_each_part_keeps_its_share() -> None:
    assert shared_out([9000, 1000], 1000) == [900, 100]
    assert shared_out([9000, 1000], 10**6) == [9000, 1000]
    assert shared_out([9000, 10], 100)[1] == 10


@pytest.mark.parametrize(
    ("how", "words"),
    [
        ({"counts": ()}, "1 to 8"),
        ({"counts": (10,)}, "24 triangles"),
        ({"counts": (500, 500)}, "fewer triangles"),
        ({"most_bytes": -1}, "budget"),
        ({"variants": (Variant("a"), Variant("a"))}, "name of its own"),
        ({"variants": (Variant("a", float("nan")),)}, "not usable"),
    ],
)
def test_wishes_that_make_no_sense(how: dict, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        GameWish(**how).check()


def test_nothing_to_deliver_and_what_is_cancelled(tmp_path: Path) -> None:
    with pytest.raises(FormatError, match="nothing to deliver"):
        write_game_set(tmp_path, "x", [], GameWish(), 1000.0, GO)
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(FormatError, match="file"):
        write_game_set(tmp_path / "file", "x", [mapped_piece()], GameWish(), 1000.0, GO)

    class Stops(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    with pytest.raises(Cancelled):
        game_levels([mapped_piece()], GameWish(), Stops())


def test_a_mesh_that_is_coarse_enough_stays_as_it_is() -> None:
    mesh = Mesh.from_faces(*_tent())
    pieces = pieces_of(Scene((Part("Tent", mesh),)).parts, METRES)
    found = game_levels(pieces, GameWish((8000, 4000)), GO)
    assert [len(level[0][0].faces) for level in found] == [4, 4]
    assert [level[0][1] for level in found] == [0.0, 0.0]


def _tent() -> tuple[np.ndarray, np.ndarray]:
    corners = np.array([[0, 0, 0], [40, 0, 0], [0, 0, 40], [0, 30, 0]], np.float32)
    return corners, np.array([[0, 1, 2, -1], [0, 3, 1, -1], [0, 2, 3, -1], [1, 3, 2, -1]], np.int32)
