"""A part as quads, through the project: landed, undone, saved, opened, recovered."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.carry import deviation
from kneten.core.mesh import Mesh
from kneten.core.quads.retopologise import QuadWish
from kneten.core.transform import Transform
from kneten.document.guides import add_guides
from kneten.document.layering import add_layer
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.retopology import finest, laid_quads, land_apart, land_in_place, shown_flow, with_guides
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball


def figure() -> Mesh:
    """A ball with waves and colour."""
    mesh = make_ball(50.0, 32)
    wave = 1 + 0.02 * np.sin(0.25 * mesh.positions[:, 1])
    colour = np.full((mesh.n_vertices, 4), 255, np.uint8)
    colour[:, 0] = np.where(mesh.positions[:, 0] > 0, 220, 40)
    return Mesh.from_faces(
        (mesh.positions * wave[:, None]).astype(np.float32), mesh.topology.faces, colour=colour
    )


@pytest.fixture
def project() -> Project:
    part = Part("Figure", figure(), transform=Transform((30.0, 0.0, 0.0), scale=2.0))
    made = Project(Scene((part, Part("Other", make_ball(10.0, 6)))))
    made.choose(part.id)
    return made


WISH = QuadWish(300)


def test_quads_become_a_part_that_has_form_and_colour(project: Project, tmp_path: Path) -> None:
    part = project.scene.parts[0]
    laid = laid_quads(part, (), WISH, True, Progress())
    before = project.scene
    made = land_apart(project, part.id, laid)
    assert made.name == "Figure quads"
    assert made.transform == part.transform
    assert not project.scene.part(part.id).visible
    assert project.active is not None
    assert project.active.id == made.id
    stack = stack_of(made)
    assert stack.top >= 1
    assert stack.levels[0].topology.n_vertices == laid.mesh.n_vertices
    assert made.mesh.n_vertices > 0.5 * part.mesh.n_vertices
    off = deviation(part.mesh, made.mesh, Progress())
    assert float(off.max()) < 0.4
    assert float(off.mean()) < 0.06
    assert made.mesh.colour is not None
    assert (made.mesh.colour[made.mesh.positions[:, 0] > 3, 0] > 200).all()
    save_project(project, tmp_path / "a.kneten")
    back = open_project(tmp_path / "a.kneten").scene.part(made.id)
    assert (back.mesh.positions == made.mesh.positions).all()
    assert stack_of(back).top == stack.top
    # The cage below is what was laid, and takes the form of the clay when it is stepped to.
    _, low = stack.stepped(made.mesh, 0)
    assert (low.topology.faces == laid.mesh.topology.faces).all()
    assert project.undo() == "Retopologise Figure"
    assert project.scene.parts == before.parts
    assert project.redo() == "Retopologise Figure"
    assert project.scene.part(made.id).mesh.n_vertices == made.mesh.n_vertices


@pytest.mark.parametrize("with_form", [True, False])
def test_quads_take_the_place_of_the_clay(project: Project, with_form: bool) -> None:
    part = project.scene.parts[0]
    turn = np.linspace(0, 2 * np.pi, 40)
    ring = np.stack([40 * np.cos(turn), np.full(40, 30.0), 40 * np.sin(turn)], axis=-1)
    add_guides(project, part, [ring], True)
    laid = laid_quads(part, (), with_guides(WISH, project.scene, part), with_form, Progress())
    assert (laid.carried is not None) is with_form
    made = land_in_place(project, part.id, laid)
    assert made.id == part.id
    assert made.visible
    assert made.mesh.n_vertices != part.mesh.n_vertices
    # Its guide lies on the new clay.
    (guide,) = project.scene.guides
    assert guide.part == part.id
    assert guide.corners.max() < made.mesh.n_vertices
    project.undo()
    assert (project.scene.part(part.id).mesh.positions == part.mesh.positions).all()


def test_layers_arrive_as_layers(project: Project) -> None:
    part = project.scene.parts[0]
    add_layer(project, part, "Lumps")
    now = project.scene.part(part.id)
    moved = now.mesh.positions.copy()
    moved[moved[:, 1] > 30] *= 1.1
    assert project.move_vertices(part.id, moved.astype(np.float32), "Lump")
    now = project.scene.part(part.id)
    laid = laid_quads(now, project.scene.kept_masks, WISH, True, Progress())
    made = land_apart(project, part.id, laid)
    found = stack_of(made).layers
    assert [one.name for one in found] == ["Lumps"]
    high = float(made.mesh.positions[:, 1].max())
    assert high > 1.04 * 50


def test_it_is_made_from_the_finest_level(project: Project) -> None:
    part = project.scene.parts[0]
    stack, fine = stack_of(part).added(part.mesh, Progress())
    coarse_stack, coarse = stack.stepped(fine, 0)
    low = replace(part, mesh=coarse, stack=coarse_stack)
    assert finest(low, Progress()).n_vertices == fine.n_vertices
    laid = laid_quads(low, (), WISH, False, Progress())
    assert abs(laid.mesh.topology.n_faces / 300 - 1) < 0.1
    flow = shown_flow(low, WISH, Progress())
    assert len(flow.points) == len(flow.crosses)
    assert np.abs(np.linalg.norm(flow.points, axis=1) - 50).max() < 2.5
