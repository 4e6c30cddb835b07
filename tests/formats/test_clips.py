"""Clips in GLB: motions of joints and dials written and read, by the standard's words, and what is wrong with them told."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from kneten.core.pose.keys import DIAL, SHIFT, TURN, Keys, Track
from kneten.core.pose.motions import MOTIONS
from kneten.core.transform import Transform
from kneten.document.driving import shapes_of
from kneten.document.motions import bring_motions, kept_motion, played
from kneten.document.project import Project
from kneten.document.rigging import keep_pose, rig_of
from kneten.document.scene import Scene
from kneten.document.shapes import add_shape, joint_drivers
from kneten.formats.exchange import bring, read_rigged
from kneten.formats.gltf_clips import MOST_MOMENTS, Curve, ReadClip
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.document.test_rigging import TURNED, rig_all, with_body
from tests.document.test_shapes import arm, bent, bump, push
from tests.formats.test_gltf_skins import Glb, changed, written
from tests.formats.test_targets import two_shapes


def wave() -> Keys:
    """An arm that waves, and a chest that rises."""
    at = np.array([0.0, 0.5, 1.25, 2.0])
    turns = np.array([[0, 0, 0], [20, 10, 60], [0, 0, -40], [0, 0, 0.0]])
    return Keys.of(
        [
            (Track(TURN, "Elbow left"), at, turns),
            (Track(SHIFT, "Chest"), at[[0, 2, 3]], np.array([[0, 0, 0], [0, 12.0, 3.0], [0, 0, 0]])),
        ]
    )


def waving(place: Transform = TURNED) -> Project:
    project = with_body(place=place)
    rig_all(project)
    bring_motions(project, [kept_motion("Wave", "body", wave())], "Wave")
    return project


def read_again(path: Path, space: Space) -> Project:
    other = Project(Scene())
    bring(other, read_rigged(path, space)[0], "Import")
    assert other.history.names()[0] == ["Import"]
    return other


@pytest.mark.parametrize(
    ("place", "space"),
    [
        (Transform(), Space("m")),
        (TURNED, Space("mm")),
        (Transform((9.0, 2.0, 1.0), mirror=True), Space("cm", "z")),
    ],
)
def test_a_motion_is_the_same_when_it_is_read_again(place: Transform, space: Space, tmp_path: Path) -> None:
    project = waving(place)
    path = tmp_path / "body.glb"
    written(project, path, space)
    other = read_again(path, space)
    (kept,) = [one for one in other.scene.things("motions") if one.name == "Wave"]
    body = other.scene.part(kept.part)
    assert body.name == "Body"
    mine, again = rig_of(project.scene.part("body")), rig_of(body)
    assert mine is not None
    assert again is not None
    for seconds in np.linspace(0, 2, 17):
        wanted = place.to_scene(wave().posed(mine, seconds).places_now())
        assert np.abs(kept.keys.posed(again, seconds).places_now() - wanted).max() < 5e-3
    # Those made by code are in the file for others; Kneten has them itself.
    own = {one["name"] for one in Glb(path).words["animations"] if "extras" in one}
    assert own
    assert own <= {one.name for one in MOTIONS.values()}
    assert [one.name for one in other.scene.things("motions")] == ["Wave"]
    other.undo()
    assert not other.scene.things("motions")


def test_what_follows_joints_goes_with_the_motion(tmp_path: Path) -> None:
    """A correction's dial is in the file wherever its joint is: others know nothing of following."""
    project, part = arm()
    bent(project, 70.0)
    part = project.scene.parts[0]
    add_shape(project, [part.id], "Elbow bent", drivers=joint_drivers(part, ["Elbow"]))
    push(project, project.scene.parts[0], bump(part, (20.0, 0.0, 0.0), 25.0, 6.0))
    keep_pose(project, project.scene.parts[0], "Bent")
    bent(project, 0.0)
    part = project.scene.parts[0]
    at = np.array([0.0, 1.0])
    keys = Keys.of([(Track(TURN, "Elbow"), at, np.array([[0, 0, 0], rig_turn(project, "Bent", "Elbow")]))])
    bring_motions(project, [kept_motion("Bend", part.id, keys)], "Bend")
    path = tmp_path / "arm.glb"
    written(project, path, Space("m"))
    file = Glb(path)
    clip = next(one for one in file.words["animations"] if one["name"] == "Bend")
    by_path = {one["target"]["path"]: clip["samplers"][one["sampler"]] for one in clip["channels"]}
    assert file.array(by_path["weights"]["output"])[:, 0] == pytest.approx([0.0, 1.0], abs=1e-5)
    assert file.array(by_path["weights"]["input"])[:, 0] == pytest.approx([0.0, 1.0])
    pose = next(one for one in file.words["animations"] if one["name"] == "Bent")
    assert {one["target"]["path"] for one in pose["channels"]} == {"rotation", "weights"}
    # A pose stays a pose when it is read: what follows it is no motion beside it.
    other = read_again(path, Space("m"))
    assert [one.name for one in other.scene.things("poses")] == ["Bent"]
    assert "Bent" not in [one.name for one in other.scene.things("motions")]
    (kept,) = [one for one in other.scene.things("motions") if one.name == "Bend"]
    assert {track.kind for track in kept.tracks} == {TURN, DIAL}


def rig_turn(project: Project, pose: str, joint: str) -> tuple[float, float, float]:
    kept = next(one for one in project.scene.things("poses") if one.name == pose)
    return next(move.turn for move in kept.moves if move.joint == joint)


def test_dials_go_out_and_come_back(tmp_path: Path) -> None:
    project, both, own = two_shapes()
    head = next(part for part in project.scene.parts if part.name == "Head")
    at = np.array([0.0, 0.4, 1.0])
    value = np.zeros((3, 3))
    value[:, 0] = [0.0, 1.25, -0.5]
    keys = Keys.of([(Track(DIAL, both), at, value), (Track(DIAL, own), at[:2], value[:2])])
    bring_motions(project, [kept_motion("Talk", head.id, keys)], "Talk")
    path = tmp_path / "face.glb"
    written(project, path, Space("mm"))
    file = Glb(path)
    (clip,) = file.words["animations"]
    # The head and the hat, each with its own shapes.
    assert [file.words["nodes"][one["target"]["node"]]["name"] for one in clip["channels"]] == ["Head", "Hat"]
    other = read_again(path, Space("mm"))
    (kept,) = other.scene.things("motions")
    names = {one.id: one.name for one in shapes_of(other.scene).values()}
    _, _, dials = kept.keys.told(0.2)
    assert {names[key]: value for key, value in dials.items()} == pytest.approx(
        {"Frown": 0.625, "Puff": 0.625}
    )
    motion = played(other.scene, other.scene.part(kept.part), kept.id)
    assert motion is not None
    assert motion.lacking(other.scene, None) == ""
    moment = motion.at(other.scene, None, 1.0)
    assert moment.rig is None
    assert {names[key]: value for key, value in moment.dials.items()} == pytest.approx(
        {"Frown": -0.5, "Puff": 1.25}
    )


# -- files of other programs ----------------------------------------------------------------------


class Added:
    """Puts arrays and clips into a file."""

    def __init__(self, file: Glb, blob: bytearray) -> None:
        self.file, self.blob = file, blob

    def array(self, values: np.ndarray, kind: str) -> int:
        words = self.file.words
        data = values.astype("<f4").tobytes()
        words["bufferViews"].append({"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(data)})
        self.blob += data
        words["buffers"][0]["byteLength"] = len(self.blob)
        view = len(words["bufferViews"]) - 1
        words["accessors"].append(
            {"bufferView": view, "componentType": 5126, "count": len(values), "type": kind}
        )
        return len(words["accessors"]) - 1

    def clip(self, node: int, path: str, at: list[float], values: np.ndarray, way: str = "LINEAR") -> None:
        kind = {"rotation": "VEC4", "weights": "SCALAR"}.get(path, "VEC3")
        sampler = {
            "input": self.array(np.array(at), "SCALAR"),
            "output": self.array(values, kind),
            "interpolation": way,
        }
        self.file.words["animations"] = [
            {"name": "Theirs", "samplers": [sampler], "channels": [{"sampler": 0, "target": {"node": node, "path": path}}]}
        ]  # fmt: skip


def elsewhere(tmp_path: Path, path: str, at: list[float], values: np.ndarray, way: str) -> Project:
    """A body whose left elbow has a clip of another program."""
    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("mm"))

    def change(file: Glb, blob: bytearray) -> None:
        node = next(k for k, one in enumerate(file.words["nodes"]) if one["name"] == "Elbow left")
        rest = np.array(file.words["nodes"][node]["translation"])
        Added(file, blob).clip(node, path, at, values + (rest if path == "translation" else 0.0), way)

    return read_again(changed(tmp_path / "body.glb", change), Space("mm"))


def theirs(project: Project) -> Keys:
    (kept,) = project.scene.things("motions")
    assert kept.name == "Theirs"
    return kept.keys


def test_turns_between_keys_are_as_the_standard_has_them(tmp_path: Path) -> None:
    at = [0.5, 1.0, 3.0]
    turns = Rotation.from_euler("xyz", [[0, 0, 0], [40, 10, 90], [-20, 0, 30]], degrees=True)
    keys = theirs(elsewhere(tmp_path, "rotation", at, turns.as_quat(), "LINEAR"))
    # A clip begins with its first key.
    assert keys.seconds == pytest.approx(2.5)
    for seconds in np.linspace(0.5, 3.0, 11):
        mine = Rotation.from_rotvec(np.radians(keys.values(seconds - 0.5)[0]))
        assert np.degrees((mine.inv() * Slerp(at, turns)(seconds)).magnitude()) < 1e-2


def test_what_jumps_jumps(tmp_path: Path) -> None:
    keys = theirs(
        elsewhere(
            tmp_path, "translation", [0.0, 1.0, 2.0], np.array([[0, 0, 0], [9, 0, 0], [0, 4.0, 0]]), "STEP"
        )
    )
    for seconds, wanted in ((0.9, (0, 0, 0)), (1.1, (9, 0, 0)), (1.9, (9, 0, 0)), (2.0, (0, 4, 0))):
        assert keys.values(seconds)[0] == pytest.approx(wanted, abs=1e-3)


def test_curves_that_bend_are_followed(tmp_path: Path) -> None:
    at, places = [0.0, 1.0, 1.5], np.array([[0, 0, 0], [30.0, 0, 0], [10.0, 20.0, 0]])
    slopes = np.array([[80.0, 0, 0], [0, 40.0, 0], [-60.0, 0, 0]])
    told = np.stack([slopes, places, slopes], axis=1).reshape(-1, 3)

    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("mm"))

    def change(file: Glb, blob: bytearray) -> None:
        node = next(k for k, one in enumerate(file.words["nodes"]) if one["name"] == "Elbow left")
        values = told.copy()
        values[1::3] += np.array(file.words["nodes"][node]["translation"])
        Added(file, blob).clip(node, "translation", at, values, "CUBICSPLINE")

    keys = theirs(read_again(changed(tmp_path / "body.glb", change), Space("mm")))
    curve = CubicHermiteSpline(at, places, slopes)
    for seconds in np.linspace(0, 1.5, 23):
        assert keys.values(seconds)[0] == pytest.approx(curve(seconds), abs=0.05)


def test_a_node_above_that_moves_takes_the_joints_along(tmp_path: Path) -> None:
    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("mm"))

    def change(file: Glb, blob: bytearray) -> None:
        first = file.words["skins"][0]["joints"][0]
        roots, nodes = file.words["scenes"][0]["nodes"], file.words["nodes"]
        roots.remove(first)
        nodes.append({"name": "Above", "children": [first]})
        roots.append(len(nodes) - 1)
        Added(file, blob).clip(len(nodes) - 1, "translation", [0.0, 1.0], np.array([[0, 0, 0], [0, 50.0, 0]]))

    other = read_again(changed(tmp_path / "body.glb", change), Space("mm"))
    keys = theirs(other)
    rig = rig_of(next(part for part in other.scene.parts if part.name == "Body"))
    assert rig is not None
    moved = keys.posed(rig, 1.0).places_now() - rig.places
    assert moved == pytest.approx(np.tile([0, 50.0, 0], (len(moved), 1)), abs=1e-2)


def test_very_long_clips_are_thinned_evenly() -> None:
    n = 3 * MOST_MOMENTS
    at, value = np.linspace(0, 600, n), np.zeros((n, 3))
    value[:, 0] = np.sin(at / 30)
    curve = Curve(at, value, "LINEAR", value, value, False)
    moments = ReadClip("0", "Long", {(3, "translation"): curve}).moments({3}, ("translation",), 20)
    assert len(moments) == MOST_MOMENTS
    assert moments[[0, -1]].tolist() == [0.0, 600.0]
    assert len(ReadClip("0", "Long", {(3, "translation"): curve}).moments({4}, ("translation",))) == 0


def break_clip(**changes: Any) -> Any:
    def change(file: Glb, blob: bytearray) -> None:
        node = file.words["skins"][0]["joints"][1]
        add = Added(file, blob)
        add.clip(node, "rotation", [0.0, 1.0], np.tile([0.0, 0, 0, 1], (2, 1)))
        clip = file.words["animations"][0]
        for key, value in changes.items():
            if key == "times":
                clip["samplers"][0]["input"] = add.array(np.array(value), "SCALAR")
            elif key == "values":
                clip["samplers"][0]["output"] = add.array(np.array(value), "VEC4")
            elif key == "path":
                clip["channels"][0]["target"]["path"] = value
            elif key == "node":
                clip["channels"][0]["target"]["node"] = value
            else:
                clip["samplers"][0][key] = value

    return change


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (break_clip(times=[1.0, 0.5]), "not in order"),
        (break_clip(times=[0.0, np.nan]), "not in order"),
        (break_clip(times=[-4.0, 0.0]), "not in order"),
        (break_clip(times=[0.0, 1e30]), "not in order"),
        (break_clip(times=[0.0, 1.0, 2.0]), "do not fit"),
        (break_clip(values=[[0, 0, 0, 0.0]] * 2), "no.*turn|nothing"),
        (break_clip(values=[[0, 0, 0, np.inf]] * 2), "do not fit"),
        (break_clip(path="translation"), "do not fit"),
        (break_clip(node=999), "not there"),
        (break_clip(output=9999), "not there"),
        (break_clip(interpolation="BEZIER"), "does not know"),
        (break_clip(interpolation="CUBICSPLINE"), "do not fit"),
    ],
)
def test_damaged_clips_are_refused_with_words(change: Any, words: str, tmp_path: Path) -> None:
    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("m"))
    with pytest.raises(FormatError, match=words):
        read_rigged(changed(tmp_path / "body.glb", change))


def test_a_clip_with_another_number_of_weights_is_refused(tmp_path: Path) -> None:
    project, _, _ = two_shapes()
    written(project, tmp_path / "face.glb", Space("m"))

    def change(file: Glb, blob: bytearray) -> None:
        node = next(k for k, one in enumerate(file.words["nodes"]) if one["name"] == "Head")
        Added(file, blob).clip(node, "weights", [0.0, 1.0], np.zeros(6))

    with pytest.raises(FormatError, match="another number of morph targets"):
        read_rigged(changed(tmp_path / "face.glb", change))


def test_extensions_may_move_what_kneten_does_not_know(tmp_path: Path) -> None:
    project = with_body(place=Transform())
    rig_all(project)
    written(project, tmp_path / "body.glb", Space("m"))
    path = changed(tmp_path / "body.glb", break_clip(path="pointer"))
    assert not read_again(path, Space("m")).scene.things("motions")
