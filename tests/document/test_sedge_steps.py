"""Widow Sedge steps off the ferry: the demo of rigs."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kneten.demo.files import demo_project
from kneten.demo.sedge_steps import POSES, TITLE, made
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import as_kept, poses_of, rig_of, rigged


def test_she_is_rigged_with_all_she_wears_and_posed(tmp_path: Path) -> None:
    project = made()
    before = {part.name: part for part in demo_project(name="widow-sedge").scene.parts}
    assert project.title == TITLE
    assert project.history.names() == ([], [])
    body = project.active
    assert body is not None
    rig = rig_of(body)
    assert rig is not None
    along = {part.name for part in rigged(project.scene, rig.id)}
    assert {"Ferry hat", "Eyes", "Reeds, lower", "Basket", "Basket handle", "Egg", "Collar"} <= along
    assert not along & {"Mooring post", "Mooring rope"}
    kept = poses_of(project.scene, body)
    assert [one.name for one in kept] == list(POSES)
    for pose in kept:
        # All that a pose is about is there: a joint that is called otherwise would rest.
        assert len(as_kept(rig, pose).moves) == len(POSES[pose.name])
    assert rig.moves.keys() == POSES["Steps off"].keys()
    # The eggs lie in the basket as they did, and the hat sits on her head.
    parts = {part.name: part for part in project.scene.parts}
    for one, other in (("Basket", "Egg"), ("Basket", "Basket handle"), ("Ferry hat", "Hat band")):
        gaps = []
        for some in (before, parts):
            a, b = (
                some[name].transform.to_scene(some[name].mesh.positions.astype(np.float64))
                for name in (one, other)
            )
            gaps.append(np.linalg.norm(a.mean(axis=0) - b.mean(axis=0)))
        assert abs(gaps[0] - gaps[1]) < 0.02 * gaps[0] + 1e-3
    path = tmp_path / "steps.kneten"
    save_project(project, path)
    again = open_project(path)
    for part, other_ in zip(project.scene.parts, again.scene.parts, strict=True):
        assert np.array_equal(part.mesh.positions, other_.mesh.positions)
