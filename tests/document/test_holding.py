"""Held pictures in a project: undone, saved, gone with their picture; laid on layers, raised as form."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.paint.held import HeldPicture, Through
from kneten.core.paint.ink import OF_LAYERS, Ink
from kneten.document.arrays_file import read_content, write_content
from kneten.document.holding import change_held, held_in, hold, lay_picture, lay_relief, let_go
from kneten.document.kinds import tidied
from kneten.document.layering import add_layer, change_layer
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.things import Reference
from tests.conftest import make_ball

PICTURE = np.zeros((32, 32, 4), np.uint8)
PICTURE[:16] = (250, 250, 250, 255)
PICTURE[16:] = (10, 10, 10, 255)


def holding() -> tuple[Project, HeldPicture]:
    reference = Reference("Eye", "none.png")
    project = Project(Scene((Part("Ball", make_ball(50.0, 24)),), references=(reference,)))
    return project, hold(project, reference, 1.0, 1.5)


def seen(project: Project, held: HeldPicture) -> tuple[np.ndarray, np.ndarray]:
    camera = Camera(distance=400.0, orthographic=True)
    return Through(project.scene.parts[0].mesh, np.eye(4), camera, 1.5, held, PICTURE).seen(Progress())


def test_it_is_held_changed_and_let_go_each_in_one_step(tmp_path: Path) -> None:
    project, held = holding()
    assert held_in(project) == (held,)
    assert np.ptp(np.array(held.net), axis=0).tolist() == pytest.approx([0.7, 0.7])
    change_held(project, held.id, "Fit Eye", opacity=0.3, mirrored=True)
    change_held(project, held.id, "Fit Eye", opacity=0.3)
    assert project.history.names()[0] == ["Hold Eye", "Fit Eye"]
    save_project(project, tmp_path / "a.kneten")
    assert held_in(open_project(tmp_path / "a.kneten")) == held_in(project)
    let_go(project, held.id, "Let go of Eye")
    assert held_in(project) == ()
    project.undo()
    project.undo()
    assert held_in(project) == (held,)
    wide = hold(project, project.scene.references[0], 4.0, 1.0)
    assert np.ptp(np.array(wide.net), axis=0).tolist() == pytest.approx([0.7, 0.175])


def test_it_goes_with_its_picture() -> None:
    project, _ = holding()
    project.change("Delete Eye", tidied(replace(project.scene, references=())))
    assert held_in(project) == ()
    project.undo()
    assert len(held_in(project)) == 1


def test_a_picture_held_unusably_is_refused(tmp_path: Path) -> None:
    project, _ = holding()
    save_project(project, tmp_path / "a.kneten")
    content = read_content(tmp_path / "a.kneten", Progress())
    content.document["held"][0]["net"] = [[0, 0]] * 4
    write_content(tmp_path / "b.kneten", content, Progress())
    with pytest.raises(ProjectFileError, match="held usably"):
        open_project(tmp_path / "b.kneten")


@pytest.mark.parametrize("layered", [False, True])
def test_it_is_laid_on_what_the_ink_paints(layered: bool) -> None:
    project, held = holding()
    if layered:
        add_layer(project, project.scene.parts[0], "Photo")
    light, share = seen(project, held)
    ink = Ink((0, 255, 0), channels=OF_LAYERS)
    assert lay_picture(project, project.scene.parts[0], ink, light, share, "Lay")
    mesh = project.scene.parts[0].mesh
    up = (mesh.positions[:, 1] > 6) & (share > 0.99)
    assert np.abs(mesh.value("colour")[up, :3].astype(int) - 250).max() <= 2
    assert np.abs(mesh.value("material")[up].astype(int) - 250).max() <= 2
    assert np.array_equal(mesh.value("colour")[share == 0], make_ball(50.0, 24).value("colour")[share == 0])
    if layered:
        layer = project.scene.parts[0].stack.layers[0]  # type: ignore[union-attr]
        change_layer(project, project.scene.parts[0], layer.id, "Hide", shown=False)
        hidden = project.scene.parts[0].mesh
        assert np.array_equal(hidden.value("colour"), make_ball(50.0, 24).value("colour"))
        project.undo()
    assert not lay_picture(project, project.scene.parts[0], ink, light, 0 * share, "Lay")
    project.undo()
    assert project.scene.parts[0].mesh.colour is None
    assert project.scene.parts[0].mesh.material is None


def test_it_is_raised_by_what_is_light_and_not_where_it_is_masked() -> None:
    project, held = holding()
    part = project.scene.parts[0]
    mask = (part.mesh.positions[:, 0] > 0).astype(np.float32)
    project.set_values(part.id, "mask", mask, "Mask")
    light, share = seen(project, held)
    before = part.mesh.positions.copy()
    assert lay_relief(project, project.scene.parts[0], light, share, 3.0, "Raise")
    after = project.scene.parts[0].mesh.positions
    off = np.einsum("ij,ij->i", after - before, before / 50.0)
    up = (before[:, 1] > 6) & (share > 0.99) & (mask == 0)
    assert np.allclose(off[up], 3.0 * 250 / 255, rtol=0.02)
    assert np.array_equal(after[mask > 0], before[mask > 0])
    assert np.abs(off[(before[:, 1] < -6) & (mask == 0)]).max() < 0.13
    project.undo()
    assert np.array_equal(project.scene.parts[0].mesh.positions, before)
    assert not lay_relief(project, project.scene.parts[0], light, 0 * share, 3.0, "Raise")
