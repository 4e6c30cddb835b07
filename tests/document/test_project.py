"""Undo, redo, milestones, names: nothing is lost."""

from __future__ import annotations

import copy
from typing import Any

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import remesh, soup_of
from kneten.core.subdivide import subdivide
from kneten.core.transform import Transform
from kneten.document.history import History, StrokeEdit
from kneten.document.placing import resize
from kneten.document.project import Project
from kneten.document.scene import KeptPart, Part, Scene
from tests.conftest import FRONT, make_ball


def small_project() -> Project:
    return Project(Scene((Part("Ball", make_ball(50.0, 10)),)))


def state(project: Project) -> list[Any]:
    """Everything of the scene, copied."""
    out: list[Any] = []
    for part in project.scene.parts:
        mesh = part.mesh
        out.append((part.id, part.name, part.visible, part.transform, mesh.topology.uid))
        out.append(mesh.positions.copy())
        out.append(mesh.topology.faces)
        out.extend((name, value.tobytes()) for name, value in mesh.values().items())
    for milestone in project.scene.milestones:
        out.append((milestone.id, milestone.name))
        out.extend(kept.positions.copy() for kept in milestone.parts)
    return out


def same(a: list[Any], b: list[Any]) -> bool:
    if len(a) != len(b):
        return False
    for one, other in zip(a, b, strict=True):
        if isinstance(one, np.ndarray):
            if not np.array_equal(one, other):
                return False
        elif one != other:
            return False
    return True


def stroke(project: Project, rng: np.random.Generator) -> None:
    part = project.active
    if part is None:
        return
    # Of those that move or paint clay as it is: density needs loose clay, which has tests of its own.
    keys = [key for key, tool in TOOLS.items() if not tool.density]
    key = keys[rng.integers(len(keys))]
    tool = TOOLS[key]
    run = project.begin_stroke(part.id, tool, tool.defaults)
    centre = part.mesh.positions[rng.integers(part.mesh.n_vertices)].astype(np.float64)
    radius = rng.uniform(5, 25)
    if tool.holds:
        run.grab(centre, radius, FRONT)
        run.drag(rng.uniform(-8, 8, 3), radius)
    else:
        for _ in range(3):
            centre = centre + rng.uniform(-2, 2, 3)
            run.dab(Dab(centre, rng.uniform(-1, 1, 3), FRONT, radius, rng.uniform(-1, 1), 0.12))
    if rng.random() < 0.1:
        run.cancel()
    else:
        project.end_stroke(part.id, run, tool.name)


def sure_stroke(project: Project, rng: np.random.Generator) -> None:
    """A stroke that leaves something: chance may pick a tool that finds nothing to do, or break one off."""
    before = len(project.history.names()[0])
    while len(project.history.names()[0]) == before:
        stroke(project, rng)


def random_change(project: Project, rng: np.random.Generator) -> None:
    """One change of any kind."""
    parts = project.scene.parts
    part = parts[rng.integers(len(parts))] if parts else None
    kind = rng.integers(12)
    if part is None or (kind == 0 and len(parts) < 5):
        mesh = Mesh.from_faces(*ball(20.0, 6))
        place = Transform(tuple(rng.uniform(-50, 50, 3).tolist()))
        project.add_meshes("Add a ball", [("Ball", mesh, place)])
    elif kind == 1:
        project.rename(part.id, f"Name {rng.integers(4)}")
    elif kind == 2:
        project.show(part.id, not part.visible)
    elif kind == 3 and len(parts) > 1:
        project.delete(part.id)
    elif kind == 4:
        project.place(part.id, part.transform.moved(rng.uniform(-5, 5, 3)))
    elif kind == 5:
        resize(project, [part], tuple(rng.uniform(0.8, 1.2, 3).tolist()))
    elif kind == 6 and len(project.scene.milestones) < 4:
        project.keep_milestone(f"M{rng.integers(100)}", b"png")
    elif kind == 7 and project.scene.milestones:
        milestones = project.scene.milestones
        project.go_back(milestones[rng.integers(len(milestones))].id)
    elif kind == 8 and part.mesh.n_vertices < 3_000:
        project.replace_mesh(part.id, subdivide(part.mesh, Progress()), "Subdivide")
    elif kind == 9 and part.mesh.n_vertices > 200:
        low, high = part.mesh.bounds()
        edge = float((high - low).max()) / 12
        project.replace_mesh(part.id, remesh(soup_of([part.mesh]), edge, Progress()), "Remesh")
    else:
        project.choose(part.id)
        stroke(project, rng)


@pytest.mark.parametrize("seed", [0, 1])
def test_undo_and_redo_of_300_random_changes_restore_everything_exactly(seed: int) -> None:
    rng = np.random.default_rng(seed)
    project = small_project()
    states = [state(project)]
    while len(states) <= 300:
        before = len(project.history.names()[0])
        random_change(project, rng)
        if len(project.history.names()[0]) > before:
            states.append(state(project))
    for expected in reversed(states[:-1]):
        assert project.undo()
        assert same(state(project), expected)
    assert project.undo() is None
    for expected in states[1:]:
        assert project.redo()
        assert same(state(project), expected)
    assert project.redo() is None
    for part in project.scene.parts:
        fresh = Mesh(part.mesh.topology, part.mesh.positions.copy())
        assert np.abs(part.mesh.normals - fresh.normals).max() < 1e-5
        assert np.array_equal(part.mesh.boxes, fresh.boxes)


def test_a_new_change_gives_up_what_was_undone() -> None:
    project = small_project()
    part = project.scene.parts[0]
    project.rename(part.id, "One")
    project.undo()
    project.rename(part.id, "Two")
    assert project.history.names() == (["Rename Ball to Two"], [])


def test_steps_are_named_in_words() -> None:
    project = small_project()
    rng = np.random.default_rng(4)
    while not project.history.names()[0]:
        stroke(project, rng)
    project.show(project.scene.parts[0].id, False)
    done, _ = project.history.names()
    assert done[0].endswith("on Ball")
    assert done[1] == "Hide Ball"


def test_history_keeps_to_its_budget() -> None:
    class Owner:
        def swap(self, edit: StrokeEdit) -> StrokeEdit:
            return edit

    class Heavy:
        nbytes = 400

    history = History(Owner(), budget=1000)
    for i in range(5):
        history.push(StrokeEdit(str(i), "", Heavy()))  # type: ignore[arg-type]
    assert history.names()[0] == ["3", "4"]
    assert history.nbytes == 800


def test_sparse_undo_costs_by_the_stroke_not_by_the_mesh() -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 64)),)))
    part = project.scene.parts[0]
    tool = TOOLS["raise"]
    run = project.begin_stroke(part.id, tool, tool.defaults)
    run.dab(Dab(np.array([0.0, 0, 100.0]), np.zeros(3), FRONT, 10.0, 0.5, 0.12))
    project.end_stroke(part.id, run, "Raise")
    assert project.history.nbytes < part.mesh.positions.nbytes / 20
    assert run.work.n_slots < part.mesh.topology.n_patches / 3


def test_going_back_to_a_milestone_can_be_undone_and_the_milestone_stays_whole() -> None:
    project = small_project()
    rng = np.random.default_rng(0)
    milestone = project.keep_milestone("First", b"png")
    kept = milestone.parts[0].positions.copy()
    for _ in range(5):
        stroke(project, rng)
    after = state(project)
    project.go_back(milestone.id)
    assert np.array_equal(project.scene.parts[0].mesh.positions, kept)
    sure_stroke(project, rng)
    assert np.array_equal(milestone.parts[0].positions, kept)
    project.undo()
    project.undo()
    assert same(state(project), after)
    with pytest.raises(KeyError):
        project.go_back("no such milestone")


def test_names_never_collide() -> None:
    project = small_project()
    for _ in range(3):
        project.add_meshes("Add", [("Ball", make_ball(5.0, 4), Transform())])
    assert [p.name for p in project.scene.parts] == ["Ball", "Ball 2", "Ball 3", "Ball 4"]
    project.rename(project.scene.parts[0].id, "  Ball   2 ")
    assert project.scene.parts[0].name == "Ball 5"
    project.rename(project.scene.parts[0].id, "   ")
    assert project.scene.parts[0].name == "Ball 5"


def test_sizes_must_be_positive() -> None:
    project = small_project()
    before = copy.copy(project.scene)
    for bad in ((0.0, 1.0, 1.0), (1.0, -1.0, 1.0), (np.nan, 1.0, 1.0)):
        with pytest.raises(ValueError, match="greater than zero"):
            resize(project, project.scene.parts[:1], bad)
    assert project.scene.parts == before.parts


def test_uneven_sizes_are_kneaded_into_the_clay() -> None:
    project = small_project()
    part = project.scene.parts[0]
    resize(project, [part], (2.0, 1.0, 1.0))
    low, high = project.scene.parts[0].mesh.bounds()
    assert (high - low).tolist() == pytest.approx([200, 100, 100], rel=1e-5)
    resize(project, [part], (2.0, 2.0, 2.0))
    assert project.scene.parts[0].transform.scale == 2.0


def test_deleting_the_part_in_hand_takes_another() -> None:
    project = small_project()
    project.add_meshes("Add", [("Other", make_ball(5.0, 4), Transform())])
    assert project.active is not None
    assert project.active.name == "Other"
    project.delete(project.active.id)
    assert project.active is not None
    assert project.active.name == "Ball"
    project.delete(project.active.id)
    assert project.active is None
    assert project.scene.bounds()[1].tolist() == [50, 50, 50]


def test_taking_one_part_back_leaves_the_others() -> None:
    project = small_project()
    other = project.add_meshes("Add", [("Other", make_ball(10.0, 6), Transform((50.0, 0, 0)))])[0]
    first = project.scene.parts[0]
    milestone = project.keep_milestone("Before", b"")
    kept = first.mesh.positions.copy()
    first.mesh.positions += 1.0
    other.mesh.positions += 1.0
    project.take_back(milestone.id, first.id)
    assert np.array_equal(project.scene.part(first.id).mesh.positions, kept)
    assert project.scene.part(other.id) is other
    project.undo()
    assert project.scene.parts[0] is first


def test_a_part_taken_back_gets_a_free_name() -> None:
    project = small_project()
    first = project.scene.parts[0]
    milestone = project.keep_milestone("Before", b"")
    project.rename(first.id, "Renamed")
    project.add_meshes("Add", [(first.name, make_ball(10.0, 6), Transform())])
    project.take_back(milestone.id, first.id)
    names = [part.name for part in project.scene.parts]
    assert len(set(names)) == len(names)


def test_milestones_keep_what_was_copied_not_what_came_after() -> None:
    project = small_project()
    part = project.scene.parts[0]
    copied = tuple(KeptPart.of(p) for p in project.scene.parts)
    before = part.mesh.positions.copy()
    part.mesh.positions += 5.0
    milestone = project.keep_milestone("Late picture", b"png", copied)
    assert np.array_equal(milestone.parts[0].positions, before)


def test_names_and_notes_of_milestones_are_undone_like_anything() -> None:
    project = small_project()
    milestone = project.keep_milestone("One", b"")
    project.edit_milestone(milestone.id, "Two", "a note")
    assert project.milestone(milestone.id).note == "a note"
    steps = len(project.history.names()[0])
    project.edit_milestone(milestone.id, "Two", "a note")
    assert len(project.history.names()[0]) == steps
    project.undo()
    assert project.milestone(milestone.id).name == "One"
    project.redo()
    project.delete_milestone(milestone.id)
    with pytest.raises(KeyError):
        project.milestone(milestone.id)


def test_moved_vertices_cost_what_moved() -> None:
    project = small_project()
    part = project.scene.parts[0]
    before = part.mesh.positions.copy()
    wanted = before.copy()
    wanted[5:9] += 0.25
    project.move_vertices(part.id, wanted, "Nudge")
    assert np.array_equal(part.mesh.positions, wanted)
    assert project.history.names()[0][-1] == "Nudge"
    assert project.history.nbytes < 500
    project.undo()
    assert np.array_equal(part.mesh.positions, before)
    with pytest.raises(ValueError, match="other vertices"):
        project.move_vertices(part.id, wanted[:-1], "Nudge")


def test_clay_that_came_to_rest_after_a_stroke_takes_one_undo() -> None:
    """Settling is no step of its own: it goes along with the step before it, whichever way."""
    project = small_project()
    part = project.scene.parts[0]
    project.rename(part.id, "First")
    project.exchange(part.id, loosened(part.mesh))
    before = project.scene.parts[0].mesh.settled().positions.copy()
    run = project.begin_stroke(part.id, TOOLS["raise"], TOOLS["raise"].defaults)
    at = np.array([0.0, 0.0, float(before[:, 2].max())])
    run.dab(Dab(at, np.array([0.0, 0, 1]), FRONT, 20.0, 0.5, 0.5, 0.0, detail=Density(2.0)))
    project.end_stroke(part.id, run, "Raise")
    project.settle([part.id])
    after = project.scene.parts[0].mesh.positions.copy()
    assert len(after) != len(before) or not np.array_equal(after, before)
    assert project.undo_touches() == {part.id}
    assert project.undo() == "Raise on First"
    assert np.array_equal(project.scene.parts[0].mesh.settled().positions, before)
    assert project.redo() == "Raise on First"
    assert np.array_equal(project.scene.parts[0].mesh.settled().positions, after)
    assert project.redo() is None
    assert [project.undo(), project.undo(), project.undo()] == [
        "Raise on First",
        "Rename Ball to First",
        None,
    ]
    assert [project.redo(), project.redo(), project.redo()] == [
        "Rename Ball to First",
        "Raise on First",
        None,
    ]
    assert np.array_equal(project.scene.parts[0].mesh.settled().positions, after)
