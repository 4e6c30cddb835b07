"""Shapes in files: morph targets written and read, series of whole faces, corrected meshes taken back."""

from __future__ import annotations

import struct
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.transform import Transform
from kneten.document.driving import shapes_of
from kneten.document.project import Project
from kneten.document.rigging import rig_of
from kneten.document.scene import Scene
from kneten.document.shapes import add_shape, dial, drivers_now, joint_drivers, record_shape
from kneten.formats.exchange import bring, pieces_of, read_pieces, read_rigged
from kneten.formats.pieces import FormatError
from kneten.formats.series import (
    bring_series,
    file_name,
    places_in,
    read_series,
    take_form,
    write_series,
)
from kneten.formats.space import Space
from kneten.formats.targets import targets_of
from tests.document.test_rigging import TURNED
from tests.document.test_shapes import arm, bent, bump, face, head_of, part_called, push
from tests.formats.test_gltf_skins import Glb, changed, put, written

STRAIGHT = Transform()


def two_shapes(place: Transform = STRAIGHT) -> tuple[Project, str, str]:
    """A head and a hat with a shape over both, and one of the head alone, dialled."""
    project = face()
    scene = project.scene
    project.change("Place", scene.with_part(*(replace(part, transform=place) for part in scene.parts)))
    both = add_shape(project, [part.id for part in project.scene.parts], "Frown", "4")
    for part in project.scene.parts:
        push(project, part, bump(part, (0.0, 0.0, 0.0), 1e6, 3.0))
    own = add_shape(project, [head_of(project).id], "Puff")
    push(project, head_of(project), bump(head_of(project), (60.0, 0.0, 80.0)))
    record_shape(project, "")
    dial(project, {both: 0.25, own: -0.5}, "Dials")
    return project, both, own


def morphed(file: Glb, name: str) -> np.ndarray:
    """The vertices of an object, (n, 3), with as much of each target as the file says."""
    mesh = next(one for one in file.words["meshes"] if one["name"] == name)
    primitive = mesh["primitives"][0]
    places = file.array(primitive["attributes"]["POSITION"]).astype(float)
    for weight, target in zip(mesh["weights"], primitive["targets"], strict=True):
        places = places + weight * file.array(target["POSITION"])
    return places


@pytest.mark.parametrize(
    ("place", "space"),
    [
        (Transform(), Space("m")),
        (TURNED, Space("mm")),
        (Transform((9.0, 2.0, 1.0), mirror=True), Space("cm", "z")),
    ],
)
def test_the_file_has_the_face_as_it_is_dialled_and_is_read_again(
    place: Transform, space: Space, tmp_path: Path
) -> None:
    project, _, _ = two_shapes(place)
    path = tmp_path / "face.glb"
    assert any("2 shapes as morph targets" in text for text in written(project, path, space))
    file = Glb(path)
    unit = {"m": 0.001, "cm": 0.1, "mm": 1.0}[space.unit]
    for piece in pieces_of(project.scene.parts, space):
        assert np.abs(morphed(file, piece.name) - piece.positions).max() < 1e-3 * unit
    mesh = next(one for one in file.words["meshes"] if one["name"] == "Head")
    assert mesh["extras"]["targetNames"] == ["Frown", "Puff"]
    for target in mesh["primitives"][0]["targets"]:
        words = file.words["accessors"][target["POSITION"]]
        assert np.allclose(words["min"], file.array(target["POSITION"]).min(axis=0), atol=1e-7)
    taken, _ = read_rigged(path, space)
    other = Project(Scene())
    bring(other, taken, "Import")
    found = {one.name: one for one in shapes_of(other.scene).values()}
    assert {name: round(one.dial, 6) for name, one in found.items()} == {"Frown": 0.25, "Puff": -0.5}
    assert len(found["Frown"].layers) == 2
    dial(other, {found["Puff"].id: 0.0, found["Frown"].id: 1.0}, "Dials")
    now = {one.name: one.id for one in shapes_of(project.scene).values()}
    dial(project, {now["Puff"]: 0.0, now["Frown"]: 1.0}, "Dials")
    for piece, wanted in zip(
        pieces_of(other.scene.parts, space), pieces_of(project.scene.parts, space), strict=True
    ):
        assert np.abs(piece.positions - wanted.positions).max() < 1e-3 * unit
    other.undo()
    other.undo()
    assert other.scene.parts == ()


def test_shapes_are_told_before_the_skin(tmp_path: Path) -> None:
    project, part = arm()
    bent(project, 70.0)
    part = project.scene.parts[0]
    add_shape(project, [part.id], "Elbow bent", drivers=joint_drivers(part, ["Elbow"]))
    part = project.scene.parts[0]
    push(project, part, bump(part, (20.0, 0.0, 0.0), 25.0, 6.0))
    path = tmp_path / "arm.glb"
    written(project, path, Space("m"))
    file = Glb(path)
    mesh = file.words["meshes"][0]
    at_rest = morphed(file, "Arm") * 1000
    assert mesh["weights"] == [1.0]
    rig = rig_of(part)
    assert rig is not None
    order = part.mesh.in_source_order
    which, share = order(rig.which), order(rig.share)
    posed = rig.posed_some(at_rest.astype(np.float32), which, share, 1.0, False)
    assert np.abs(posed - part.mesh.source_arrays()[0]).max() < 1e-2
    taken, _ = read_rigged(path)
    other = Project(Scene())
    bring(other, taken, "Import")
    assert np.abs(other.scene.parts[0].mesh.source_arrays()[0] - part.mesh.source_arrays()[0]).max() < 1e-2


def test_a_part_without_shapes_has_no_targets() -> None:
    project = face()
    assert targets_of(project.scene.parts, project.scene, Space(), {}) == {}


def damaged(tmp_path: Path, change: Any) -> Path:
    """A small file with two targets, changed."""
    project, _, _ = two_shapes()
    written(project, tmp_path / "face.glb", Space("m"))
    return changed(tmp_path / "face.glb", change)


def head_mesh(file: Glb) -> dict[str, Any]:
    found: dict[str, Any] = next(one for one in file.words["meshes"] if one["name"] == "Head")
    return found


def first_target(file: Glb) -> int:
    return int(head_mesh(file)["primitives"][0]["targets"][0]["POSITION"])


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda f, b: put(f, b, first_target(f), 0, struct.pack("<f", np.nan)), "number"),
        (lambda f, b: put(f, b, first_target(f), 0, struct.pack("<f", 1e30)), "too far"),
        (lambda f, _: head_mesh(f).update(weights=[1.0]), "weights of its morph targets"),
        (lambda f, _: head_mesh(f).update(weights=["a", "b"]), "could not|fit"),
        (lambda f, _: f.words["accessors"][first_target(f)].update(count=3), "as many vertices"),
        (lambda f, _: f.words["accessors"][first_target(f)].update(type="VEC2"), "as many vertices"),
        (lambda f, _: head_mesh(f)["primitives"][0].update(targets=[{"POSITION": 999}]), "not there"),
        (
            lambda f, _: f.words["accessors"][first_target(f)].update(
                sparse={"count": 1, "indices": {"bufferView": 0, "componentType": 5126}, "values": {"bufferView": 0}}
            ),
            "anew|fit",
        ),
        (lambda f, _: f.words["accessors"][first_target(f)].update(sparse={"count": 10**9}), "fit|anew"),
    ],
)  # fmt: skip
def test_damaged_targets_are_refused_with_words(change: Any, words: str, tmp_path: Path) -> None:
    path = damaged(tmp_path, change)
    with pytest.raises(FormatError, match=words):
        read_rigged(path)


def test_targets_told_sparsely_and_without_names_are_read(tmp_path: Path) -> None:
    def change(file: Glb, blob: bytearray) -> None:
        mesh = head_mesh(file)
        del mesh["extras"], mesh["weights"]
        one = file.words["accessors"][first_target(file)]
        del one["bufferView"]
        views = file.words["bufferViews"]
        views += [
            {"buffer": 0, "byteOffset": len(blob), "byteLength": 4},
            {"buffer": 0, "byteOffset": len(blob) + 4, "byteLength": 24},
        ]
        blob += struct.pack("<2H6f", 2, 5, 0.01, 0, 0, 0, 0.02, 0)
        file.words["buffers"][0]["byteLength"] = len(blob)
        one["sparse"] = {
            "count": 2,
            "indices": {"bufferView": len(views) - 2, "componentType": 5123},
            "values": {"bufferView": len(views) - 1},
        }

    taken, _ = read_rigged(damaged(tmp_path, change))
    head = next(one for one in taken if one.name == "Head")
    assert [(name, value) for name, value, _ in head.shapes] == [("Shape 1", 0.0), ("Shape 2", 0.0)]
    moves = head.mesh.in_source_order(head.shapes[0][2])
    assert np.allclose(moves[[2, 5]], [[10, 0, 0], [0, 20, 0]], atol=1e-4)
    assert np.count_nonzero(moves.any(axis=1)) == 2


@pytest.mark.parametrize("ending", [".obj", ".glb", ".ply"])
def test_a_series_of_faces_goes_out_and_comes_in(ending: str, tmp_path: Path) -> None:
    project, both, own = two_shapes(TURNED if ending != ".ply" else Transform())
    scene, ids = project.scene, [part.id for part in project.scene.parts]
    if ending == ".ply":
        ids = ids[:1]
    dial(project, {both: 1.0}, "Dials")
    more = add_shape(project, ids[:1], "Frown: more?", drivers=drivers_now(project.scene, [both]))
    push(project, head_of(project), bump(head_of(project), (0.0, 80.0, 50.0)))
    record_shape(project, "")
    scene, space = project.scene, Space()
    assert write_series(tmp_path, scene, ids, space, ending, Progress()) == 4
    names = sorted(path.name for path in tmp_path.iterdir())
    assert names == sorted(f"{name}{ending}" for name in ("Neutral", "Frown", "Puff", "Frown- more-"))
    other, _, _ = two_shapes(TURNED if ending != ".ply" else Transform())
    for key in list(shapes_of(other.scene)):
        dial(other, {key: 0.0}, "Rest")
    parts = [part for part in other.scene.parts if part.name in {scene.part(key).name for key in ids}]
    files = sorted(tmp_path.glob(f"*{ending}"))
    found = read_series(files, parts, space, Progress())
    made = bring_series(other, found)
    held = shapes_of(other.scene)
    assert sorted(held[key].name for key in made) == ["Frown 2", "Frown- more-", "Puff 2"]
    assert all(held[key].dial == 0.0 for key in made)
    new = {held[key].name: key for key in made}
    dial(other, {new["Puff 2"]: 1.0}, "Puff")
    dial(project, {own: 1.0, both: 0.0}, "Puff")
    assert shapes_of(project.scene)[more].dial == 0.0
    for part in parts:
        twin = part_called(project, part.name)
        assert np.abs(part_called(other, part.name).mesh.positions - twin.mesh.positions).max() < 2e-3


def test_what_does_not_fit_is_refused(tmp_path: Path) -> None:
    project, _, _ = two_shapes()
    other = face()
    written(other, tmp_path / "Frown.obj", Space())
    hat = [part_called(project, "Hat")]
    assert len(read_series([tmp_path / "Frown.obj"], hat, None, Progress())) == 1
    small = Project(Scene((part_called(project, "Hat"),)))
    written(small, tmp_path / "Small.obj", Space())
    with pytest.raises(FormatError, match="Head 866"):
        read_series([tmp_path / "Small.obj"], [head_of(project)], None, Progress())
    with pytest.raises(FormatError, match="no shape"):
        write_series(tmp_path, other.scene, [head_of(other).id], Space(), ".obj", Progress())
    assert file_name(" ../Lid: close? ") == "-Lid- close-"
    assert file_name("...") == "Shape"


def test_a_corrected_mesh_from_elsewhere_becomes_a_correction_before_the_pose(tmp_path: Path) -> None:
    project, part = arm()
    bent(project, 90.0)
    part = project.scene.parts[0]
    written(project, tmp_path / "posed.obj", Space())
    pieces = read_pieces(tmp_path / "posed.obj", Progress()).pieces
    pieces[0] = replace(pieces[0], positions=pieces[0].positions + np.float32(2.0))
    places = places_in(pieces, [part], Space())
    with pytest.raises(FormatError, match="record a shape on Arm"):
        take_form(project, places, "Take")
    key = add_shape(project, [part.id], "Elbow bent", drivers=joint_drivers(part, ["Elbow"]))
    take_form(project, places, "Take")
    record_shape(project, "")
    now = project.scene.parts[0].mesh.source_arrays()[0]
    assert np.abs(now - pieces[0].positions).max() < 1e-3
    bent(project, 0.0)
    assert shapes_of(project.scene)[key].dial == pytest.approx(0.0)
    bent(project, 90.0)
    assert np.abs(project.scene.parts[0].mesh.source_arrays()[0] - pieces[0].positions).max() < 1e-2
