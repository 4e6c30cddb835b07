"""The tour of a small creature: each step is done by its own commands, and the next is told only then."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtWidgets import QFileDialog, QInputDialog

from kneten.app.shell.stages import STAGES
from kneten.app.shell.tour import CREATURE, STEPS
from kneten.app.shell.window import Window
from tests.app.windows import drag, middle, run, settle, steps, until


def test_a_small_creature_from_a_ball_to_files(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    x, y = middle(window)
    project = window.studio.project
    run(window, "edit.creature")
    tour = window.tour
    told = [tour.label.text()]

    def goes_on(to: int) -> None:
        tour.look()
        assert tour.at == to, CREATURE[min(tour.at, len(CREATURE) - 1)].text
        told.append(tour.label.text())
        settle(window)

    def head() -> None:
        window.studio.project.choose(window.studio.project.scene.parts[0].id)
        settle(window)

    # The ball that is there will do.
    goes_on(1)
    assert window.studio.tool.key == "pull"
    goes_on(1)
    drag(window, [(x, y), (x + 20, y - 50)])
    goes_on(2)
    run(window, "density.remesh")
    goes_on(3)
    drag(window, [(x - 40, y + 30), (x + 40, y + 30)])
    goes_on(4)
    assert window.studio.stage == "Block"
    run(window, "live.eye")
    goes_on(5)
    run(window, "parts.onto")
    drag(window, [(x + 50, y - 30), (x + 50, y - 30)])
    settle(window)
    goes_on(6)
    run(window, "copy.mirror-x")
    goes_on(7)
    window.view.take_mode(None)
    run(window, "strand.surface")
    drag(window, [(x, y - 60), (x + 20, y - 90), (x + 40, y - 100)])
    settle(window)
    goes_on(8)
    window.view.take_mode(None)
    head()
    run(window, "density.subdivide")
    goes_on(9)
    assert window.studio.stage == "Surface"
    window.presses.choose("plain-dome")
    until(lambda: window.studio.presses.found(window.studio.settings().tip.press) is not None)
    drag(window, [(x, y), (x + 30, y)])
    settle(window)
    goes_on(10)
    run(window, "colour.fill")
    goes_on(11)
    # In the same colour there is nothing to be seen, and no step.
    window.colour_card.hex.setText("#336699")
    window.colour_card.hex.editingFinished.emit()
    drag(window, [(x, y), (x + 30, y)])
    settle(window)
    goes_on(12)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_, **__: ("Grin", True))
    run(window, "shape.add")
    goes_on(13)
    drag(window, [(x, y + 20), (x + 20, y + 40)])
    settle(window)
    goes_on(14)
    run(window, "shape.neutral")
    run(window, "light.set-lantern")
    goes_on(15)
    run(window, "camera.add")
    goes_on(16)
    window.files.export_still(tmp_path / "still.png", 64, 48, False)
    settle(window)
    goes_on(17)
    assert window.studio.stage == "Deliver"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "it.glb"), ""))
    window.exports.export_to(tmp_path / "it")
    settle(window)
    goes_on(18)
    window.studio.save_path(tmp_path / "it.kneten")
    settle(window)
    tour.look()
    assert tour.at == -1
    assert not tour.card.isVisible()
    assert len(set(told)) == len(CREATURE)
    assert project.path is not None
    assert len(steps(window)) > 10


def test_its_steps_pass_through_all_stages(window: Window) -> None:
    seen = set()
    for step in CREATURE[1:]:
        step.begin(window)
        seen.add(window.studio.stage)
    assert seen == set(STAGES) - {"Gather", "Net"}
    assert len(STEPS) < len(CREATURE)


def test_what_the_window_says_before_a_step_does_not_end_it(window: Window) -> None:
    window.studio.say("Exported still.png.")
    window.tour.start(CREATURE[16:18])
    window.tour.look()
    assert window.tour.at == 0
    window.studio.say("Exported still.png.")
    window.tour.look()
    assert window.tour.at == 1
    window.tour.look()
    assert window.tour.at == 1
