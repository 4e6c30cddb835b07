"""Rigs in GLB: read by a reader of its own here, bent as the standard says, compared with the clay."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kneten.core.pose.motions import MOTIONS
from kneten.core.transform import Transform
from kneten.document.project import Project
from kneten.document.rigging import as_kept, keep_pose, pose_rigs, posed_alike, rename_joint, rig_of
from kneten.document.scene import Scene
from kneten.formats.exchange import bring, pieces_of, read_file, read_rigged, with_skins, write_file
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.document.test_rigging import TURNED, rig_all, turned, with_body
from tests.judge import well_formed

KINDS = {5121: "u1", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDE = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


class Glb:
    """A GLB file, read by nothing but the standard's words."""

    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        assert data[:4] == b"glTF"
        size = struct.unpack_from("<I", data, 12)[0]
        self.words: dict[str, Any] = json.loads(data[20 : 20 + size])
        self.blob = data[28 + size :]

    def array(self, number: int) -> np.ndarray:
        one = self.words["accessors"][number]
        view = self.words["bufferViews"][one["bufferView"]]
        kind, wide = np.dtype(KINDS[one["componentType"]]), WIDE[one["type"]]
        found = np.frombuffer(self.blob, kind, one["count"] * wide, view["byteOffset"])
        return found.reshape(one["count"], wide)

    def worlds(self, over: dict[int, dict[str, Any]] | None = None) -> list[np.ndarray]:
        """Where each node stands, (4, 4), with what a clip says over it."""
        nodes, found = self.words["nodes"], {}

        def place(number: int, above: np.ndarray) -> None:
            node = {**nodes[number], **(over or {}).get(number, {})}
            own = np.eye(4)
            own[:3, :3] = Rotation.from_quat(node.get("rotation", [0, 0, 0, 1])).as_matrix()
            own[:3, 3] = node.get("translation", [0, 0, 0])
            found[number] = above @ own
            for child in node.get("children", []):
                place(child, found[number])

        for root in self.words["scenes"][0]["nodes"]:
            place(root, np.eye(4))
        assert len(found) == len(nodes)
        return [found[k] for k in range(len(nodes))]

    def solid(self, name: str) -> np.ndarray:
        """Which vertices of an object go along with one joint alone, (n,) bool."""
        node = next(one for one in self.words["nodes"] if one["name"] == name and "mesh" in one)
        attributes = self.words["meshes"][node["mesh"]]["primitives"][0]["attributes"]
        return self.array(attributes["WEIGHTS_0"]).max(axis=1) > 0.9999

    def bent(self, name: str, over: dict[int, dict[str, Any]] | None = None) -> np.ndarray:
        """The vertices of an object, (n, 3), bent by its skin as the standard says: matrices are blended."""
        node = next(one for one in self.words["nodes"] if one["name"] == name and "mesh" in one)
        attributes = self.words["meshes"][node["mesh"]]["primitives"][0]["attributes"]
        skin = self.words["skins"][node["skin"]]
        worlds = self.worlds(over)
        inverse = self.array(skin["inverseBindMatrices"]).reshape(-1, 4, 4).transpose(0, 2, 1)
        joints = np.array([worlds[j] @ inverse[k] for k, j in enumerate(skin["joints"])])
        which, share = self.array(attributes["JOINTS_0"]), self.array(attributes["WEIGHTS_0"])
        places = np.pad(self.array(attributes["POSITION"]).astype(float), ((0, 0), (0, 1)), constant_values=1)
        blend = np.einsum("nk,nkij->nij", share.astype(float), joints[which])
        return np.einsum("nij,nj->ni", blend, places)[:, :3]


def written(project: Project, path: Path, space: Space) -> list[str]:
    parts = [part for part in project.scene.parts if part.visible]
    notices = write_file(path, with_skins(path, pieces_of(parts, space), parts, project.scene, space))
    if path.suffix == ".glb":
        well_formed(path)
    return notices


@pytest.mark.parametrize(
    ("place", "space"),
    [
        (Transform(), Space("m")),
        (TURNED, Space("mm")),
        (Transform((9.0, 2.0, 1.0), mirror=True), Space("cm", "z")),
    ],
)
def test_the_file_bends_as_the_clay_is_posed(place: Transform, space: Space, tmp_path: Path) -> None:
    project = with_body(1, place)
    rig_all(project)
    turned(project, "Elbow left", (0.0, 0.0, 50.0))
    turned(project, "Chest", (12.0, 8.0, 0.0))
    path = tmp_path / "body.glb"
    notices = written(project, path, space)
    assert any("6 joints, 3 skins" in text for text in notices)
    file = Glb(path)
    unit = {"m": 0.001, "cm": 0.1, "mm": 1.0}[space.unit]
    for part in project.scene.parts:
        if rig_of(part) is None:
            continue
        wanted = space.out_of(part.transform.to_scene(part.mesh.source_arrays()[0].astype(np.float64)))
        # Where one joint turns all, to rounding; blended ones differ a little, as matrices lose thickness.
        off = np.linalg.norm(file.bent(part.name) - wanted, axis=1) / unit
        assert off[file.solid(part.name)].max(initial=0.0) < 0.01 * part.transform.scale
        # Skin that is blended half-way differs the most: most of a body is not.
        assert part.id != "body" or np.median(off) < 0.2 * part.transform.scale
        assert off.max() < 2.5 * part.transform.scale
    # What has no rig is as it was.
    names = [node["name"] for node in file.words["nodes"] if "skin" not in node and "mesh" in node]
    assert names == ["Far"]
    # Kneten's own reader sees them where they rest.
    assert len(read_file(path, space)[0]) == 4


def test_joints_weights_and_matrices_keep_to_the_standard(tmp_path: Path) -> None:
    project = with_body(place=TURNED)
    rig = rig_all(project)
    path = tmp_path / "body.glb"
    written(project, path, Space("m"))
    file = Glb(path)
    (skin,) = file.words["skins"]
    nodes = file.words["nodes"]
    assert [nodes[j]["name"] for j in skin["joints"]] == [joint.name for joint in rig.joints]
    for k, joint in enumerate(rig.joints):
        above = [n for n, node in enumerate(nodes) if skin["joints"][k] in node.get("children", [])]
        assert above == ([] if joint.parent < 0 else [skin["joints"][joint.parent]])
    inverse = file.array(skin["inverseBindMatrices"])
    assert (inverse[:, [3, 7, 11]] == 0).all()
    assert (inverse[:, 15] == 1).all()
    for mesh in file.words["meshes"]:
        attributes = mesh["primitives"][0]["attributes"]
        if "JOINTS_0" not in attributes:
            continue
        which, share = file.array(attributes["JOINTS_0"]), file.array(attributes["WEIGHTS_0"])
        assert np.abs(share.sum(axis=1) - 1).max() < 1e-6
        assert (which[share == 0] == 0).all()
        assert which.max() < len(skin["joints"])
        position = file.words["accessors"][attributes["POSITION"]]
        points = file.array(attributes["POSITION"])
        assert np.allclose(position["min"], points.min(axis=0), atol=1e-7)
        assert np.allclose(position["max"], points.max(axis=0), atol=1e-7)
    for number in (skin["inverseBindMatrices"],):
        assert "target" not in file.words["bufferViews"][file.words["accessors"][number]["bufferView"]]
    for view in file.words["bufferViews"]:
        assert view["byteOffset"] % 4 == 0
    for node in nodes:
        if "rotation" in node:
            assert np.linalg.norm(node["rotation"]) == pytest.approx(1.0, abs=1e-6)


def test_poses_and_motions_are_clips(tmp_path: Path) -> None:
    project = with_body(place=Transform())
    rig_all(project)
    for old, new in (("Elbow left", "Shoulder left"), ("Elbow right", "Shoulder right")):
        rename_joint(project, project.scene.part("body"), old, new)
    turned(project, "Shoulder left", (0.0, 0.0, 40.0))
    keep_pose(project, project.scene.part("body"), "Wave")
    body = project.scene.part("body")
    rig = rig_of(body)
    assert rig is not None
    waved = Space("m").out_of(body.mesh.source_arrays()[0].astype(np.float64))
    pose_rigs(project, posed_alike(project.scene, body, rig.at_rest()), "Rest")
    path = tmp_path / "body.glb"
    written(project, path, Space("m"))
    file = Glb(path)
    clips = {clip["name"]: clip for clip in file.words["animations"]}
    # Neither neck nor head: it cannot look about.
    assert set(clips) == {"Wave", "Stand", "Breathe", "Reach", "Walk"}
    for clip in clips.values():
        for channel in clip["channels"]:
            sampler = clip["samplers"][channel["sampler"]]
            times, values = file.array(sampler["input"])[:, 0], file.array(sampler["output"])
            assert len(times) == len(values)
            assert (np.diff(times) > 0).all()
            told = file.words["accessors"][sampler["input"]]
            assert told["min"] == [float(times[0])]
            assert told["max"] == [float(times[-1])]
            if channel["target"]["path"] == "rotation":
                assert np.abs(np.linalg.norm(values, axis=1) - 1).max() < 1e-5
                # It loops, and never takes the longer way.
                assert np.abs(values[0] - values[-1]).max() < 1e-5
                assert ((values[1:] * values[:-1]).sum(axis=1) > 0).all()
    last = file.array(clips["Reach"]["samplers"][0]["input"])[-1, 0]
    assert last == pytest.approx(MOTIONS["reach"].seconds)
    over: dict[int, dict[str, Any]] = {}
    for channel in clips["Wave"]["channels"]:
        values = file.array(clips["Wave"]["samplers"][channel["sampler"]]["output"])
        over.setdefault(channel["target"]["node"], {})[channel["target"]["path"]] = values[0].tolist()
    assert np.median(np.linalg.norm(file.bent("Body", over) - waved, axis=1)) < 2e-5
    assert np.linalg.norm(file.bent("Body", over) - waved, axis=1).max() < 2.5e-3


def test_other_endings_have_no_rigs(tmp_path: Path) -> None:
    project = with_body(place=Transform())
    rig_all(project)
    path = tmp_path / "body.obj"
    written(project, path, Space())
    meshes, _ = read_file(path, Space())
    body = next(mesh for name, mesh, _ in meshes if name == "Body")
    assert np.abs(body.bounds()[1] - project.scene.part("body").mesh.bounds()[1]).max() < 1e-3
    bare = Project(Scene((project.scene.part("far"),)))
    written(bare, tmp_path / "far.glb", Space("m"))
    assert "skins" not in Glb(tmp_path / "far.glb").words


# -- reading --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("place", "space"),
    [
        (Transform(), Space("m")),
        (TURNED, Space("mm")),
        (Transform((9.0, 2.0, 1.0), mirror=True), Space("cm", "z")),
    ],
)
def test_what_was_written_is_read_again(place: Transform, space: Space, tmp_path: Path) -> None:
    project = with_body(place=place)
    rig_all(project)
    turned(project, "Elbow left", (10.0, 5.0, 50.0))
    keep_pose(project, project.scene.part("body"), "Wave")
    turned(project, "Chest", (12.0, 8.0, 0.0))
    path = tmp_path / "body.glb"
    written(project, path, space)
    other = Project()
    taken, _ = read_rigged(path, space)
    bring(other, taken, "Import")
    assert other.history.names()[0] == ["Import"]
    parts = {part.name: part for part in other.scene.parts}
    assert len({rig_of(parts[name]).id for name in ("Body", "Lamp", "Ring")}) == 1  # type: ignore[union-attr]
    for part in project.scene.parts:
        mine, theirs = part.mesh.source_arrays()[0], parts[part.name].mesh.source_arrays()[0]
        assert np.abs(part.transform.to_scene(mine.astype(np.float64)) - theirs).max() < 2e-3
        rig, again = rig_of(part), rig_of(parts[part.name])
        if rig is None:
            assert again is None
            continue
        assert again is not None
        assert [joint.name for joint in again.joints] == [joint.name for joint in rig.joints]
        assert [joint.parent for joint in again.joints] == [joint.parent for joint in rig.joints]
        assert np.abs(part.transform.to_scene(rig.places) - again.places).max() < 1e-3
        assert np.abs(part.transform.to_scene(rig.places_now()) - again.places_now()).max() < 2e-3
        for k in range(len(rig.joints)):
            a = part.mesh.in_source_order(np.where(rig.which == k, rig.share, 0).sum(axis=1))
            b = parts[part.name].mesh.in_source_order(np.where(again.which == k, again.share, 0).sum(axis=1))
            assert np.abs(a - b).max() < 1e-5
    (kept,) = other.scene.things("poses")
    assert (kept.name, kept.part) == ("Wave", parts["Body"].id)
    assert [move.joint for move in kept.moves] == ["Elbow left"]
    body = rig_of(parts["Body"])
    assert body is not None
    mine = rig_of(project.scene.part("body"))
    assert mine is not None
    waved = as_kept(mine, project.scene.things("poses")[0]).places_now()
    assert (
        np.abs(project.scene.part("body").transform.to_scene(waved) - as_kept(body, kept).places_now()).max()
        < 2e-3
    )
    other.undo()
    assert other.scene.parts == ()


def changed(path: Path, change: Any) -> Path:
    """A GLB file once more, in which something is otherwise."""
    file = Glb(path)
    blob = bytearray(file.blob)
    change(file, blob)
    blob += bytes(-len(blob) % 4)
    text = json.dumps(file.words).encode()
    text += b" " * (-len(text) % 4)
    out = path.with_name("changed.glb")
    total = 28 + len(text) + len(blob)
    out.write_bytes(
        struct.pack("<4sII", b"glTF", 2, total)
        + struct.pack("<II", len(text), 0x4E4F534A) + text
        + struct.pack("<II", len(blob), 0x004E4942) + bytes(blob)
    )  # fmt: skip
    return out


def damaged(tmp_path: Path, change: Any) -> Path:
    """A small file with a skin, in which something is wrong."""
    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("m"))
    return changed(tmp_path / "body.glb", change)


def first_skin(file: Glb) -> dict[str, Any]:
    return next(m for m in file.words["meshes"] if "JOINTS_0" in m["primitives"][0]["attributes"])[
        "primitives"
    ][0]["attributes"]


def put(file: Glb, blob: bytearray, accessor: int, at: int, data: bytes) -> None:
    view = file.words["bufferViews"][file.words["accessors"][accessor]["bufferView"]]
    blob[view["byteOffset"] + at : view["byteOffset"] + at + len(data)] = data


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda f, b: put(f, b, first_skin(f)["JOINTS_0"], 0, b"\x63"), "hangs on joint 99, but its skin has 6"),
        (lambda f, b: put(f, b, first_skin(f)["WEIGHTS_0"], 0, struct.pack("<f", -1)), "negative"),
        (lambda f, b: put(f, b, first_skin(f)["WEIGHTS_0"], 0, struct.pack("<f", np.nan)), "no number"),
        (lambda f, b: put(f, b, f.words["skins"][0]["inverseBindMatrices"], 0, bytes(60)), "flattens everything"),
        (lambda f, _: f.words["skins"][0]["joints"].append(f.words["skins"][0]["joints"][0]), "a joint twice"),
        (lambda f, _: f.words["skins"][0].update(joints=[777]), "not there|not fit"),
        (lambda f, _: f.words["skins"][0].update(inverseBindMatrices=first_skin(f)["POSITION"]), "do not fit"),
        (lambda f, _: first_skin(f).update(JOINTS_0=first_skin(f)["WEIGHTS_0"]), "do not fit"),
        (lambda f, _: f.words.update(skins=[]), "not there"),
        (lambda f, _: f.words["nodes"][f.words["skins"][0]["joints"][2]].update(translation=[0, 1e35, 0]), "too far off"),
        (lambda f, _: f.words["nodes"][f.words["skins"][0]["joints"][0]].update(scale=[0, 0, 0]), "cannot|nothing|singular|fit"),
    ],
)  # fmt: skip
def test_damaged_skins_are_refused_with_words(change: Any, words: str, tmp_path: Path) -> None:
    path = damaged(tmp_path, change)
    with pytest.raises(FormatError, match=words):
        read_rigged(path)


def test_joints_of_other_programs_are_read(tmp_path: Path) -> None:
    """Joints with axes of their own, one on another, children first, under a node that scales, without names."""

    def change(file: Glb, _: bytearray) -> None:
        nodes, skin = file.words["nodes"], file.words["skins"][0]
        first = skin["joints"][0]
        roots = file.words["scenes"][0]["nodes"]
        roots.remove(first)
        nodes.append(
            {"name": "Above", "scale": [2.0, 2.0, 2.0], "translation": [1.0, 0.0, 0.0], "children": [first]}
        )
        roots.append(len(nodes) - 1)
        for joint in skin["joints"]:
            nodes[joint].pop("name")

    path = damaged(tmp_path, change)
    taken, _ = read_rigged(path)
    body = next(one for one in taken if one.name == "Body")
    assert body.rig is not None
    assert [joint.name for joint in body.rig.joints] == ["Joint", *(f"Joint {k}" for k in range(2, 7))]
    assert body.rig.still
    # The node above says where the skin stands, and how large it is.
    assert np.allclose(body.rig.places[1], [1000.0, 80.0, 0.0], atol=1e-2)
    low, high = body.mesh.bounds()
    assert (low[0] + high[0]) / 2 == pytest.approx(1000.0, abs=1.0)
