"""Remeshing in the real window: told of what is thin, edges and shells kept, memory that runs short."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

import numpy as np
import pytest

from kneten.app.benches.block import joining
from kneten.app.shell.window import Window
from kneten.app.work import memory
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, connected
from kneten.core.transform import Transform
from kneten.core.values import CLAY
from kneten.document import blocking
from kneten.document.layering import change_layer
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import run, said, settle, steps
from tests.conftest import make_ball
from tests.core.test_edges_and_thin import TURNED, box


def take(window: Window, mesh: Mesh, vertices: int) -> None:
    window.studio.take(Project(Scene((Part("Clay", mesh),))))
    window.choose_stage("Deliver")
    card = window.density_card
    window.side.bring("Density")
    card.count.set_value(vertices)
    card._lead(True)
    settle(window)


def press(window: Window, word: str) -> None:
    """A button of the newest notice that has one of this name."""
    for notice in reversed(window.notices.notices):
        for button in notice.findChildren(type(window.density_card.remesh)):
            if word in button.text():
                button.click()
                settle(window)
                return
    raise AssertionError(f"no notice offers {word}")


def until(window: Window, done: Callable[[], bool]) -> None:
    """Wait for what is worked out aside."""
    end = time.monotonic() + 30
    while not done() and time.monotonic() < end:
        settle(window)
    assert done()


def finned() -> Mesh:
    return concatenated([make_ball(30.0, 24), box((1.0, 1.0, 0.02), Transform())])


def test_thin_clay_is_told_of_before_it_is_lost(window: Window) -> None:
    mesh = finned()
    take(window, mesh, 4000)
    run(window, "density.remesh")
    assert "is thinner than new clay" in said(window)
    assert steps(window) == []
    assert window.studio.project.active.mesh is mesh
    press(window, "Mask the thin")
    mask = window.studio.project.active.mesh.mask
    assert mask is not None
    far = np.abs(mesh.positions[:, :2]).max(axis=1) > 32
    assert mask[far & (np.abs(mesh.positions[:, :2]).max(axis=1) < 48)].mean() > 0.9
    run(window, "edit.undo")
    run(window, "density.remesh")
    press(window, "Remesh to")
    # At the edge length that was offered, the fin is there.
    new = window.studio.project.active.mesh
    assert np.abs(new.positions[:, :2]).max() > 48
    assert len(np.unique(connected(new))) == 1
    run(window, "edit.undo")
    run(window, "density.remesh")
    press(window, "all the same")
    assert steps(window) == ["Remesh Clay"]


def test_edges_and_shells_are_kept_when_asked(window: Window) -> None:
    take(window, box(), 8000)
    window.density_card.edges.setChecked(True)
    run(window, "density.remesh")
    at = np.abs(TURNED.to_part(window.studio.project.active.mesh.positions.astype(np.float64)))
    assert np.linalg.norm(at - 50, axis=1).min() < 1e-2
    window.density_card.edges.setChecked(False)
    one, other = make_ball(30.0, 24), make_ball(30.0, 24)
    other.positions[:, 0] += 40
    for apart, shells in ((True, 2), (False, 1)):
        take(window, concatenated([one, Mesh.from_faces(*other.source_arrays())]), 5000)
        window.density_card.apart.setChecked(apart)
        run(window, "density.remesh")
        assert len(np.unique(connected(window.studio.project.active.mesh))) == shells


def test_the_card_foretells_counts_budget_and_memory(window: Window) -> None:
    take(window, finned(), 4000)
    card = window.density_card
    until(window, lambda: "Memory" in card.forecast.text())
    text = card.forecast.text()
    assert "is too thin for that" in text
    assert "Subdivided: " in text
    assert "Budget: " in text
    window.studio.project.change_settings(budget=100)
    card.fill()
    until(window, lambda: "over 100" in card.forecast.text())


def test_short_memory_is_told_once_and_work_is_refused(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    take(window, make_ball(50.0, 24), 4000)
    mesh = window.studio.project.active.mesh
    monkeypatch.setattr(memory, "free_memory", lambda: 1_000_000)
    for _ in range(3):
        window.memory.look()
    assert said(window).count("Only 1 MB of memory are left") == 1
    run(window, "density.remesh")
    assert "Remeshing needs about" in said(window)
    assert window.studio.project.active.mesh is mesh
    monkeypatch.undo()
    window.memory.look()
    assert memory.own_memory() > 1e7
    assert memory.all_memory() > memory.free_memory() > 0


def test_fusing_measures_beside_the_window_and_is_refused_without_memory(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    one, other = make_ball(50.0, 16), make_ball(30.0, 16)
    project = Project(Scene((Part("One", one), Part("Other", other, transform=Transform((40.0, 0.0, 0.0))))))
    window.studio.take(project)
    settle(window)
    measured, seen = joining.outer_area, []

    def noted(meshes: list[Mesh]) -> float:
        seen.append(threading.current_thread())
        return measured(meshes)

    monkeypatch.setattr(joining, "outer_area", noted)
    monkeypatch.setattr(memory, "free_memory", lambda: 1_000)
    run(window, "parts.fuse")
    assert "Fusing needs about" in said(window)
    assert [part.mesh for part in project.scene.parts] == [one, other]
    monkeypatch.setattr(memory, "free_memory", lambda: 8_000_000_000)
    run(window, "parts.fuse")
    assert len(project.scene.parts) == 1
    assert threading.main_thread() not in seen
    assert seen


@pytest.mark.parametrize("key", ["density.remesh", "density.decimate-run", "join.subtract"])
def test_layers_that_a_new_mesh_drops_are_told_before(window: Window, key: str) -> None:
    take(window, make_ball(50.0, 24), 4000)
    run(window, "layer.add")
    project = window.studio.project
    part = project.scene.parts[0]
    if key == "join.subtract":
        (other,) = blocking.copy(project, [part], way=np.array([60.0, 0, 0]))
        project.choose_all([part.id, other.id])
    if key == "density.decimate-run":
        rows = window.density_card.decimate
        rows.goal.setCurrentIndex(rows.goal.findData("share"))
        rows.goal.activated.emit(rows.goal.currentIndex())
        rows.amount._take(20.0, False)
    window.registry.run(key)
    # While the work goes on; a notice goes again after a while.
    assert "1 layer cannot go along" in said(window)
    settle(window)
    run(window, "edit.undo")
    assert window.levels.stack is not None


@pytest.mark.parametrize("key", ["density.remesh", "density.decimate-run"])
def test_paint_stays_on_its_layers(window: Window, key: str) -> None:
    take(window, make_ball(50.0, 24), 4000)
    run(window, "layer.add")
    window.colours.take((30, 60, 220))
    run(window, "colour.fill")
    settle(window)
    project = window.studio.project
    layer = window.levels.chosen
    if key == "density.decimate-run":
        rows = window.density_card.decimate
        rows.goal.setCurrentIndex(rows.goal.findData("share"))
        rows.goal.activated.emit(rows.goal.currentIndex())
        rows.amount._take(50.0, False)
    before = project.scene.parts[0].mesh.n_vertices
    window.registry.run(key)
    assert "cannot go along" not in said(window)
    settle(window)
    part = project.scene.parts[0]
    assert part.mesh.n_vertices != before
    assert part.stack is not None
    assert [one.id for one in part.stack.layers] == [layer.id]
    assert (part.mesh.value("colour")[:, 2] > 200).all()
    change_layer(project, part, layer.id, "Hide", shown=False)
    assert (project.scene.parts[0].mesh.value("colour")[:, :3] == CLAY).all()
    for _ in range(2):
        run(window, "edit.undo")
    assert project.scene.parts[0].mesh.n_vertices == before
    assert (project.scene.parts[0].mesh.value("colour")[:, 2] > 200).all()
