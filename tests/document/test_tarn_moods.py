"""Tarn's moods: the demo of shapes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.demo.tarn_moods import CORRECTIONS, MOODS, SHAPES, TITLE, made
from kneten.document.driving import shapes_of
from kneten.document.project_file import open_project, save_project
from kneten.document.shape_checks import Trial, face_of
from kneten.document.shapes import dial, neutral


@pytest.mark.long
def test_he_has_shapes_of_both_sides_corrections_and_moods(tmp_path: Path) -> None:
    project = made(pictures=False)
    assert project.title == TITLE
    assert project.history.names() == ([], [])
    held = {one.name: one for one in shapes_of(project.scene).values()}
    own = [one for one in held.values() if not one.shape.drivers]
    assert {one.shape.action for one in own} == {*SHAPES, "61", "62", "63", "64"}
    followers = {name for name, one in held.items() if one.shape.drivers}
    assert {" + ".join(names) for names, _ in CORRECTIONS} < followers
    # Eyes that look aside and up stay round; what the check has found in pairs is corrected.
    assert "Eyes turn left + Eyes up" in followers
    assert len(followers) > len(CORRECTIONS) + 20
    assert {"Eye closure left", "Eye closure right"} <= set(held)
    assert [one.name for one in project.scene.milestones] == list(MOODS)
    body = project.active
    assert body is not None
    assert round(held["Jaw drop"].dial, 6) == MOODS["Laughs"]["Jaw drop"]
    assert held["Jaw drop + Lip corner puller left"].dial == 1.0
    save_project(project, tmp_path / "moods.kneten")
    again = shapes_of(open_project(tmp_path / "moods.kneten").scene)
    assert [(one.name, one.dial) for one in again.values()] == [(one.name, one.dial) for one in held.values()]
    # At rest he is as he was painted: what lies between the lips is hidden again.
    neutral(project, [body.id])
    named = {part.name: part for part in project.scene.parts}
    rest = {name: part.mesh.positions.copy() for name, part in named.items()}
    assert rest["Teeth below"][:, 2].max() < rest["Tarn"][:, 2].max() - 8
    dial(project, {held["Jaw drop"].id: 1.0}, "Jaw drop")
    now = {part.name: part.mesh.positions for part in project.scene.parts}
    teeth = now["Teeth below"] - rest["Teeth below"]
    assert -25 < teeth[:, 1].mean() < -12
    assert np.array_equal(now["Teeth above"], rest["Teeth above"])
    assert np.array_equal(now["Eyes"], rest["Eyes"])
    # Whiskers go along with the lip that they grow from, each as one.
    neutral(project, [body.id])
    dial(project, {held["Lip corner puller left"].id: 1.0}, "Smile")
    whiskers = next(part for part in project.scene.parts if part.name == "Whiskers").mesh.positions
    gone = np.abs(whiskers - rest["Whiskers"]).max(axis=1)
    left = rest["Whiskers"][:, 0] > 0
    assert gone[left].max() > 1.0 > gone[~left].max()
    # Each shape by itself is clean; that his mouth opens where nothing lies between the lips is meant so.
    neutral(project, [body.id])
    trial = Trial(project.scene, face_of(project.scene, project.scene.part(body.id)))
    assert [one.words for one in trial.singly(Progress())] == []
    assert len(trial.in_pairs(Progress())) <= 2
    assert [name for name, one in held.items() if one.shape.meant] == ["Jaw drop"]
