"""Modelling with few faces and nets drawn onto clay, in the real window."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QEvent, Qt
from scipy.spatial import cKDTree

from kneten.app.shell.states import states_of
from kneten.app.shell.window import Window
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.net.drawing import open_rims
from kneten.core.primitives import lattice
from kneten.core.remesh import triangulate
from kneten.core.stack import Stack
from kneten.core.symmetry import exactly_symmetric
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, part_words, traits_from
from kneten.document.scene import Part, Scene
from tests.app.windows import LEFT, NONE, drag, middle, pixel, run, said, send, settle, shown, steps
from tests.conftest import make_ball

SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def cube(n: int = 2) -> Mesh:
    points, faces = lattice(n, n, n)
    return Mesh.from_faces(((points / n - 0.5) * 40.0).astype(np.float32), faces)


@pytest.fixture
def cubed(window: Window) -> Window:
    """A cube of 24 faces in hand, in the stage of nets, seen from the front; presses choose faces."""
    part = Part("Cube", cube())
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    window.studio.project.change_settings(symmetry=(False, False, False))
    window.choose_stage("Net")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    run(window, "net.model")
    return window


def hand(window: Window) -> Part:
    part = window.studio.project.active
    assert part is not None
    return part


def press(window: Window, *places: tuple[float, float, float], keys: Qt.KeyboardModifier = NONE) -> None:
    """Press at the first place of the scene, drag through the others, and let go."""
    at = [pixel(window, place) for place in places]
    send(window, QEvent.Type.MouseButtonPress, *at[0], LEFT, keys)
    for a, b in pairwise(at):
        for share in (0.34, 0.67, 1.0):
            x, y = (a[k] + share * (b[k] - a[k]) for k in (0, 1))
            send(window, QEvent.Type.MouseMove, x, y, LEFT, keys)
    send(window, QEvent.Type.MouseButtonRelease, *at[-1], LEFT, keys)
    settle(window)


def chosen(window: Window) -> int:
    return int(window.modelling.raw(hand(window).mesh).sum())


def judged(mesh: Mesh) -> trimesh.Trimesh:
    judge = trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)
    assert judge.is_watertight
    assert judge.is_winding_consistent
    return judge


def test_faces_are_chosen_painted_enclosed_and_extruded(cubed: Window) -> None:
    plain = shown(cubed)
    press(cubed, (10, 10, 20))
    assert chosen(cubed) == 1
    assert (np.abs(shown(cubed) - plain) > 20).any(axis=2).sum() > 200
    press(cubed, (-10, 10, 20), keys=SHIFT)
    assert chosen(cubed) == 2
    press(cubed, (-10, 10, 20), keys=SHIFT)
    assert chosen(cubed) == 1
    press(cubed, (-10, -10, 20), (10, -10, 20), (10, 10, 20))
    assert chosen(cubed) == 3
    press(cubed, (-30, -30, 20), (30, -30, 20), (30, 30, 20), (-30, 30, 20), keys=CTRL)
    assert chosen(cubed) == 4
    cubed.net_card.distance.set_value(10)
    run(cubed, "net.extrude")
    assert steps(cubed)[-1] == "Extrude"
    assert np.isclose(judged(hand(cubed).mesh).volume, 40**3 + 40 * 40 * 10)
    assert chosen(cubed) == 4
    cubed.net_card.share.set_value(40)
    run(cubed, "net.inset")
    run(cubed, "edit.undo")
    run(cubed, "edit.undo")
    assert hand(cubed).mesh.topology.n_faces == 24
    assert "24 faces" in cubed.modelling.words()


def test_vertices_are_dragged_alone_softly_and_on_both_sides(cubed: Window) -> None:
    cubed.modelling.take_kind("vertices")
    press(cubed, (19.5, 19.5, 20))
    assert chosen(cubed) == 1
    press(cubed, (19.5, 19.5, 20), (28, 28, 20))
    assert steps(cubed) == ["Move net"]
    moved = hand(cubed).mesh.positions
    assert (np.abs(moved - cube().positions).max(axis=1) > 1).sum() == 1
    assert chosen(cubed) == 1
    run(cubed, "edit.undo")
    cubed.net_card.softly.set_value(30)
    cubed.studio.project.change_settings(symmetry=(True, False, False))
    press(cubed, (19.5, 19.5, 20))
    press(cubed, (19.5, 19.5, 20), (28, 28, 20))
    moved = hand(cubed).mesh.positions
    assert (np.abs(moved - cube().positions).max(axis=1) > 0.1).sum() > 4
    assert (
        exactly_symmetric(moved, 0)
        or np.abs(np.sort(np.abs(moved[:, 0])) - np.sort(np.abs(moved[:, 0]))).max() == 0
    )
    left, right = moved[moved[:, 0] < -15], moved[moved[:, 0] > 15]
    key = lambda p: np.sort(np.round(p * [1, 1, 1] @ np.array([0.0, 7.0, 1.0]), 3))  # noqa: E731
    assert np.allclose(key(left), key(right), atol=0.01)


def test_edges_take_their_loop_and_a_loop_is_cut_slid_and_dissolved(cubed: Window) -> None:
    cubed.modelling.take_kind("edges")
    press(cubed, (10, 0, 20))
    assert chosen(cubed) == 1
    x, y = pixel(cubed, (10, 0.3, 20))
    cubed.view.mode.double(x, y)
    assert chosen(cubed) == 8
    press(cubed, (10, 0, 20))
    run(cubed, "net.choose-ring")
    assert chosen(cubed) == 8 or chosen(cubed) > 2
    press(cubed, (0, 10, 20))
    cubed.net_card.share.set_value(50)
    run(cubed, "net.loop")
    assert hand(cubed).mesh.topology.n_faces == 32
    assert cubed.modelling.kind == "vertices"
    assert chosen(cubed) == 8
    cubed.modelling.take_kind("edges")
    assert chosen(cubed) == 8
    run(cubed, "net.slide")
    assert steps(cubed)[-1] == "Slide"
    cubed.modelling.take_kind("edges")
    run(cubed, "net.dissolve")
    assert hand(cubed).mesh.topology.n_faces == 24
    judged(hand(cubed).mesh)


def test_faces_go_and_come_back_and_edges_are_bevelled(cubed: Window) -> None:
    press(cubed, (10, 10, 20))
    run(cubed, "net.delete")
    assert hand(cubed).mesh.topology.n_faces == 23
    run(cubed, "net.choose-all")
    assert chosen(cubed) == 23
    run(cubed, "net.fill")
    assert hand(cubed).mesh.topology.n_faces == 24
    judged(hand(cubed).mesh)
    cubed.modelling.take_kind("edges")
    press(cubed, (10, 0, 20))
    cubed.net_card.distance.set_value(4)
    run(cubed, "net.bevel")
    judged(hand(cubed).mesh)
    run(cubed, "edit.undo")
    for key in ("net.split", "net.flip", "net.choose-more", "net.collapse", "net.relax", "net.weld", "net.spin", "net.face", "net.bridge"):  # fmt: skip
        cubed.modelling.take_kind("faces")
        cubed.modelling.choose(hand(cubed).mesh, np.arange(hand(cubed).mesh.topology.n_faces) == 0)
        run(cubed, key)
        assert not cubed.studio.mishaps, key
        assert np.isfinite(hand(cubed).mesh.positions).all()


def test_what_cannot_be_done_is_said_and_changes_nothing(cubed: Window) -> None:
    assert "Nothing of the part is chosen" in cubed.registry.commands["net.extrude"].blocked()
    press(cubed, (10, 10, 20))
    run(cubed, "net.bridge")
    assert "two rims" in said(cubed)
    assert not steps(cubed)
    part = hand(cubed)
    stack, mesh = Stack.of(part.mesh).added(part.mesh, Progress())
    cubed.studio.project.replace_mesh(part.id, mesh, "Level", stack=stack)
    assert "levels or layers" in cubed.registry.commands["net.extrude"].blocked()
    cubed.studio.project.choose(None)
    for key in ("net.model", "net.extrude", "net.strip", "net.finish"):
        assert cubed.registry.commands[key].blocked() == "There is no part in hand."


# -- drawn ---------------------------------------------------------------------------------------------------


@pytest.fixture
def clay(window: Window) -> Window:
    """A ball to draw on, seen from the front."""
    part = Part("Ball", make_ball(50.0, 24))
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    window.studio.project.change_settings(symmetry=(False, False, False))
    window.choose_stage("Net")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    run(window, "net.strip")
    return window


def test_strips_are_drawn_side_by_side_grown_and_finished_as_a_base(clay: Window) -> None:
    ball = hand(clay)
    clay.net_card.width_field.set_value(12)
    press(clay, (-25, 0, 42), (0, 0, 50), (25, 0, 42))
    net = hand(clay)
    assert net.name == "Ball net"
    assert net.net
    assert steps(clay) == ["Strip on Ball"]
    assert (net.mesh.topology.faces[:, 3] >= 0).all()
    assert np.abs(np.linalg.norm(net.mesh.positions, axis=1) - 50).max() < 1
    press(clay, (-25, 12, 42), (0, 12, 48), (25, 12, 42))
    assert len(clay.studio.project.scene.parts) == 2
    assert len(open_rims(hand(clay).mesh)) == 1
    # What it is does not hang on what it is called.
    clay.studio.project.rename(net.id, "Cage")
    assert traits_from(part_words(hand(clay)))["net"]
    clay.net_card.laid.setChecked(True)
    run(clay, "net.choose-all")
    clay.net_card.distance.set_value(10)
    before = hand(clay).mesh.topology.n_faces
    run(clay, "net.grow")
    assert hand(clay).mesh.topology.n_faces > before
    assert np.abs(np.linalg.norm(hand(clay).mesh.positions, axis=1) - 50).max() < 1
    run(clay, "net.relax")
    run(clay, "net.snap")
    run(clay, "net.finish")
    clay.studio.wait(60)
    settle(clay)
    assert "is a base now" in said(clay)
    assert stack_of(hand(clay)).top >= 1
    assert not hand(clay).net
    assert not clay.studio.project.scene.part(ball.id).visible
    run(clay, "edit.undo")
    assert clay.studio.project.scene.part(ball.id).visible


def test_a_press_lays_a_ring_and_a_line_that_comes_back_is_closed(clay: Window) -> None:
    limb = make_ball(20.0, 24)
    limb = limb.with_positions((limb.positions * [1, 4, 1]).astype(np.float32))
    limb.refresh_all()
    part = Part("Limb", limb)
    clay.studio.take(Project(Scene((part,))))
    clay.studio.project.choose(part.id)
    clay.views.frame_all()
    settle(clay)
    run(clay, "net.strip")
    press(clay, (0, 0, 20))
    net = hand(clay)
    assert net.name == "Limb net"
    assert net.mesh.topology.n_faces == 12
    assert len(open_rims(net.mesh)) == 2
    clay.studio.project.choose(part.id)
    clay.net_card.width_field.set_value(4)
    press(clay, (0, 30, 18), (10, 38, 14), (0, 48, 15), (-10, 38, 14), (0, 30.5, 18))
    assert len(open_rims(hand(clay).mesh)) == 2


def test_strips_are_drawn_on_both_sides_where_symmetry_is_on(clay: Window) -> None:
    clay.studio.project.change_settings(symmetry=(True, False, False))
    clay.net_card.width_field.set_value(6)
    press(clay, (15, 10, 46), (25, 10, 42), (25, 20, 38), (15, 20, 43))
    mesh = hand(clay).mesh
    assert steps(clay) == ["Strip on Ball"]
    assert (mesh.positions[:, 0] > 5).sum() == (mesh.positions[:, 0] < -5).sum() == mesh.n_vertices / 2
    # Across the middle there is one, the same on both sides.
    press(clay, (-20, -15, 43), (0, -18, 46), (24, -15, 41))
    mesh = hand(clay).mesh
    low = mesh.positions[mesh.positions[:, 1] < -5]
    far, _ = cKDTree(low * [-1, 1, 1]).query(low)
    assert len(low) > 8
    assert far.max() < 1.0
    run(clay, "edit.undo")
    run(clay, "edit.undo")
    assert len(clay.studio.project.scene.parts) == 1


def test_a_net_is_seen_smooth_while_it_is_modelled(cubed: Window) -> None:
    cubed.view.take_mode(None)
    part = hand(cubed)
    plain = shown(cubed).astype(int)
    run(cubed, "net.smooth")
    assert cubed.smooth_view.shows
    assert "Smooth preview" in [state.text for state in states_of(cubed)]
    smooth = shown(cubed).astype(int)
    # A cube's corners are gone.
    assert (np.abs(smooth - plain).max(axis=2) > 30).sum() > 500
    seen = cubed.view._scene().part(part.id).mesh
    assert seen.topology.n_faces == part.mesh.topology.n_faces * 64
    corner = np.linalg.norm(part.mesh.positions, axis=1).max()
    assert np.linalg.norm(seen.positions, axis=1).max() < 0.85 * corner
    assert hand(cubed).mesh is part.mesh
    assert not steps(cubed)
    # Presses go to the net, and what is seen follows a drag.
    x, y = middle(cubed)
    run(cubed, "net.model")
    press(cubed, (10, 10, 20))
    assert chosen(cubed) == 1
    run(cubed, "net.extrude")
    assert hand(cubed).mesh.topology.n_faces > part.mesh.topology.n_faces
    grown = cubed.view._scene().part(part.id).mesh
    assert grown.positions[:, 2].max() > seen.positions[:, 2].max()
    run(cubed, "edit.undo")
    # A stroke as well.
    cubed.view.take_mode(None)
    run(cubed, "tool.pull")
    drag(cubed, [(x, y), (x + 40, y - 20)])
    settle(cubed)
    pulled = cubed.view._scene().part(part.id).mesh
    assert not np.array_equal(pulled.positions, seen.positions)
    run(cubed, "edit.undo")
    run(cubed, "net.smooth")
    assert not cubed.smooth_view.shows
    # But for the ring of the tool.
    assert np.abs(shown(cubed) - plain).mean() < 1


def test_what_is_dense_is_not_smoothed_at_every_move(window: Window) -> None:
    window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 60)),))))
    assert "too many faces" in window.registry.commands["net.smooth"].blocked()
    run(window, "net.smooth")
    assert not window.smooth_view.on


def test_edges_stay_sharp_where_they_are_creased(cubed: Window, tmp_path: Path) -> None:
    window = cubed
    part = hand(window)
    run(window, "net.smooth")
    window.modelling.take_kind("edges")
    edges = window.modelling.edges(part.mesh)
    front = (part.mesh.positions[edges.ends][:, :, 2] > 19.9).all(axis=1)
    rim = front & (np.abs(part.mesh.positions[edges.ends].mean(axis=1)[:, :2]).max(axis=1) > 19.9)

    def smooth() -> Mesh:
        return window.view._scene().part(part.id).mesh

    round_ = smooth().positions.copy()
    window.modelling.choose(part.mesh, rim)
    assert "No edge" in window.registry.commands["net.choose-creases"].blocked()
    window.net_card.crease.set_value(10)
    before = shown(window)
    run(window, "net.crease")
    assert steps(window) == ["Crease edges"]
    # The rim stays where the cube has it, the corners only follow it.
    assert (smooth().positions[:, 2] > 19.99).sum() > (round_[:, 2] > 19.99).sum() + 30
    assert np.abs(shown(window) - before).max() > 40
    assert "8 edges stay sharp" in window.modelling.words()
    run(window, "net.crease")
    assert "already" in said(window)
    window.modelling.choose(part.mesh, np.zeros(len(rim), bool))
    run(window, "net.choose-creases")
    assert np.array_equal(window.modelling.raw(part.mesh), rim)
    run(window, "edit.undo")
    assert part.mesh.creases is None
    assert np.allclose(smooth().positions, round_)
    run(window, "edit.redo")
    # Levels keep them, and a project does.
    window.studio.save_path(tmp_path / "cube.kneten")
    settle(window)
    run(window, "density.subdivide")
    fine = hand(window).mesh
    assert len(fine.positions) == 98
    assert (fine.positions[:, 2] > 19.99).sum() >= 16
    again = open_project(tmp_path / "cube.kneten").scene.part(part.id)
    assert np.array_equal(again.mesh.creases, part.mesh.creases)


def test_a_crease_is_taken_off_again_and_open_edges_need_none(cubed: Window) -> None:
    window = cubed
    window.modelling.take_kind("faces")
    window.modelling.choose(hand(window).mesh, np.arange(24) < 4)
    window.net_card.crease.set_value(1.5)
    run(window, "net.crease")
    assert hand(window).mesh.creases.max() == 38
    window.net_card.crease.set_value(0)
    run(window, "net.crease")
    assert hand(window).mesh.creases is None
    run(window, "net.delete")
    window.modelling.take_kind("edges")
    mesh = hand(window).mesh
    window.modelling.choose(mesh, ~window.modelling.edges(mesh).inner)
    run(window, "net.crease")
    assert "two faces" in said(window)
