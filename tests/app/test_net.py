"""Clean topology in the real window: foretold, its flow seen, made, undone; poles marked; on the command line."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kneten.app.benches.net import retopologising as made_here
from kneten.app.shell.window import Window
from kneten.app.start import cli
from kneten.app.work import memory
from kneten.core.symmetry import exactly_symmetric
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.formats.exchange import read_file
from tests.app.windows import drag, middle, run, said, settle, shown, steps, until
from tests.conftest import make_ball


def take(window: Window, divisions: int = 24) -> Part:
    """A ball in hand, in the stage of nets."""
    part = Part("Ball", make_ball(50.0, divisions))
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    window.choose_stage("Net")
    settle(window)
    return part


def few(window: Window, count: int = 300) -> None:
    window.quads_card.count.set_value(count)
    window.quads_card.fill()
    settle(window)


def test_the_card_foretells_and_the_part_becomes_quads(window: Window) -> None:
    part = take(window)
    few(window)
    # A ball of 50 mm has 31,416 square millimetres.
    until(lambda: "300 quads with edges of 10 mm" in window.quads_card.says.text())
    assert window.studio.project.settings.symmetry[0]
    assert "tick Symmetric" in window.quads_card.says.text()
    window.quads_card.symmetric.setChecked(True)
    until(lambda: "tick Symmetric" not in window.quads_card.says.text())
    run(window, "net.retopologise")
    window.studio.wait(120)
    settle(window)
    hand = window.studio.project.active
    assert hand is not None
    assert hand.name == "Ball quads"
    assert not window.studio.project.scene.part(part.id).visible
    stack = stack_of(hand)
    assert stack.top >= 1
    _, cage = stack.stepped(hand.mesh, 0)
    assert abs(cage.topology.n_faces / 300 - 1) < 0.15
    assert "all quads" in said(window)
    assert "poles" in said(window)
    assert "all quads" in window.retopologising.told
    assert steps(window)[-1] == "Retopologise Ball"
    run(window, "edit.undo")
    settle(window)
    assert [one.name for one in window.studio.project.scene.parts] == ["Ball"]
    assert window.studio.project.scene.parts[0].visible
    run(window, "edit.redo")
    settle(window)
    assert len(window.studio.project.scene.parts) == 2


def test_a_cage_in_the_parts_place_is_exactly_symmetric_and_can_be_sculpted(window: Window) -> None:
    part = take(window)
    few(window)
    card = window.quads_card
    card.symmetric.setChecked(True)
    card.with_form.setChecked(False)
    card.where.setCurrentIndex(card.where.findData("place"))
    run(window, "net.retopologise")
    window.studio.wait(120)
    settle(window)
    now = window.studio.project.scene.part(part.id)
    assert window.studio.project.scene.parts == (now,)
    assert exactly_symmetric(now.mesh.positions, 0)
    assert stack_of(now).top == 0
    run(window, "density.subdivide")
    window.studio.wait(60)
    assert stack_of(window.studio.project.scene.part(part.id)).top == 1


def test_the_flow_is_shown_until_the_next_press(window: Window) -> None:
    take(window)
    few(window)
    before = shown(window)
    run(window, "net.flow")
    window.studio.wait(120)
    settle(window)
    of = window.retopologising
    assert len(of.strokes) > 100
    assert of.strokes_of
    assert "flow" in said(window).lower()
    assert (np.abs(shown(window).astype(int) - before) > 30).any(axis=2).sum() > 200
    view = window.view
    QTest.mousePress(
        view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(4, view.height() - 4)
    )
    QTest.mouseRelease(
        view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(4, view.height() - 4)
    )
    settle(window)
    assert not of.strokes_of
    # The same again ends it, too.
    run(window, "net.flow")
    window.studio.wait(120)
    run(window, "net.flow")
    assert not of.strokes_of
    assert not steps(window)


def test_poles_are_marked_and_counted(window: Window) -> None:
    part = take(window, 8)
    before = shown(window)
    run(window, "net.poles")
    settle(window)
    assert "8 poles" in said(window)
    assert len(window.retopologising.marks(part)) == 8
    assert (np.abs(shown(window).astype(int) - before) > 30).any(axis=2).sum() > 10
    run(window, "net.poles")
    settle(window)
    assert not window.retopologising.marking


def test_poles_rest_while_the_hand_works_and_on_clay_of_triangles(window: Window) -> None:
    part = Part("Ball", make_ball(50.0, 40, triangles=True))
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    run(window, "net.poles")
    settle(window)
    # Nearly all vertices have six edges: they are counted only.
    assert "So many are not marked" in said(window)
    assert not window.retopologising.marking
    part = take(window, 8)
    run(window, "net.poles")
    run(window, "density.live")
    run(window, "tool.raise")
    x, y = middle(window)
    drag(window, [(x, y), (x + 15, y)], events=2)
    settle(window)
    now = window.studio.project.scene.part(part.id)
    assert not len(window.retopologising.marks(now))


def test_what_cannot_be_done_is_said_and_changes_nothing(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    part = take(window, 8)
    monkeypatch.setattr(made_here, "MARKED", 10)
    run(window, "net.poles")
    assert "lower level" in said(window)
    assert not window.retopologising.marking
    monkeypatch.setattr(memory, "free_memory", lambda: 1000)
    run(window, "net.retopologise")
    settle(window)
    assert "Retopologising needs about" in said(window)
    assert not steps(window)
    monkeypatch.undo()
    window.quads_card.symmetric.setChecked(True)
    moved = part.mesh.positions - np.float32([200, 0, 0])
    window.studio.project.move_vertices(part.id, moved, "Away")
    run(window, "net.retopologise")
    window.studio.wait(60)
    settle(window)
    assert "no clay on the side" in said(window)
    assert steps(window) == ["Away"]
    window.studio.project.choose(None)
    for key in ("net.retopologise", "net.flow", "net.poles"):
        assert window.registry.commands[key].blocked() == "There is no part in hand."


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    save_project(Project(Scene((Part("Ball", make_ball(50.0, 24)),))), tmp_path / "clay.kneten")
    words = [str(tmp_path / "clay.kneten"), str(tmp_path / "quads.obj"), "--faces", "400", "--symmetry", "x"]
    assert cli.run("retopologise", words) == 0
    assert "100.0 % quads" in capsys.readouterr().out
    ((_, mesh, _),), _ = read_file(tmp_path / "quads.obj")
    assert abs(mesh.topology.n_faces / 400 - 1) < 0.15
    assert (mesh.topology.faces[:, 3] >= 0).all()
    judge = trimesh.load(tmp_path / "quads.obj", process=False)
    assert judge.is_watertight
    assert (
        cli.run(
            "retopologise", [str(tmp_path / "quads.obj"), str(tmp_path / "again.kneten"), "--faces", "100"]
        )
        == 0
    )
    (part,) = open_project(tmp_path / "again.kneten").scene.parts
    assert abs(part.mesh.topology.n_faces / 100 - 1) < 0.2
    for bad in (
        [str(tmp_path / "clay.kneten"), str(tmp_path / "quads.xyz"), "--faces", "400"],
        [str(tmp_path / "none.obj"), str(tmp_path / "quads.obj"), "--faces", "400"],
        [str(tmp_path / "clay.kneten"), str(tmp_path / "quads.obj"), "--faces", "900000000"],
        [str(tmp_path / "clay.kneten"), str(tmp_path / "quads.obj")],
    ):
        assert cli.run("retopologise", bad) == (1 if "none.obj" in bad[0] else 2)
        assert capsys.readouterr().err.startswith("kneten: ")
