"""The health card in the real window: examine, frame, repair, undo."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.app.shell.window import Window
from kneten.core.solid import flaw
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import run, said, settle, shown, steps
from tests.conftest import make_ball
from tests.core.test_health import bitten, holed


def take(window: Window, mesh) -> None:  # type: ignore[no-untyped-def]
    window.studio.take(Project(Scene((Part("Ball", mesh),))))
    window.choose_stage("Deliver")
    window.views.frame_all()
    settle(window)


def test_faults_are_found_framed_and_repaired(window: Window) -> None:
    take(window, holed())
    run(window, "health.next")
    assert "Examine the part first" in said(window)
    plain = shown(window)
    run(window, "health.examine")
    assert "2 holes" in said(window)
    card = window.health_card
    assert card.list.count() == 2
    assert card.list.item(0).text().startswith("Holes   2")
    # Marked in the picture.
    assert (np.abs(shown(window) - plain).max(axis=2) > 40).sum() > 100
    card.list.setCurrentRow(0)
    assert {fault.kind for fault in window.health.current} == {"holes"}
    before = window.view.camera
    run(window, "health.next")
    assert window.view.camera != before
    assert "1 of 2" in said(window)
    mesh = window.studio.project.active.mesh
    run(window, "health.repair")
    assert "Now: 1 hole" in said(window)
    assert steps(window) == ["Repair Ball"]
    run(window, "health.repair-all")
    assert flaw(window.studio.project.active.mesh) == ""
    assert window.health.current == []
    assert "Nothing is wrong" in card.state.text()
    for _ in range(2):
        run(window, "edit.undo")
    assert window.studio.project.active.mesh is mesh
    run(window, "health.repair")
    assert "Examine the part first" in said(window)


def test_sound_clay_is_told_so_and_levels_that_are_lost_are_named(window: Window) -> None:
    take(window, make_ball(100.0, 20))
    run(window, "health.examine")
    assert "Nothing is wrong with it" in said(window)
    run(window, "health.repair-all")
    assert steps(window) == []
    take(window, bitten())
    run(window, "layer.add")
    run(window, "health.examine")
    assert "1 floating bit" in said(window)
    run(window, "health.repair-all")
    assert "1 layer cannot go along" in said(window)
    assert np.abs(window.studio.project.active.mesh.positions[:, 0]).max() == pytest.approx(100, abs=0.5)
    run(window, "edit.undo")
    assert window.levels.stack is not None
