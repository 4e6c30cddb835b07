"""Delivering in the window: files by preset, prints from check to set, game sets."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.deliver.game_card import counts_in
from kneten.app.shell.window import Window
from kneten.app.work import dialogs
from kneten.app.work.preferences import load_preferences, save_preferences
from kneten.core.transform import Transform
from kneten.document.game_wish import Variant
from kneten.document.guides import add_guides, lines_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from tests.app.windows import drag, middle, run, said, settle
from tests.conftest import make_ball, make_sheet


def parts_of(window: Window) -> list[str]:
    return [part.name for part in window.studio.project.scene.parts]


def two_balls(window: Window) -> None:
    parts = (
        Part("Head", make_ball(30.0, 24)),
        Part("Body", make_ball(40.0, 24), transform=Transform((0.0, -55.0, 0.0))),
    )
    window.studio.take(Project(Scene(parts)))
    settle(window)


def work(window: Window, key: str) -> None:
    run(window, key)
    window.studio.wait(120)
    settle(window)


# -- files ----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("preset", "ending"), [("game", ".glb"), ("film", ".usdc"), ("print", ".3mf"), ("web", ".glb")]
)
def test_files_by_preset(window: Window, tmp_path: Path, preset: str, ending: str) -> None:
    card = window.files_card
    card.choose(preset)
    assert card.wish().ending == ending
    window.exports.export_to(tmp_path / "clay")
    window.studio.wait(60)
    assert (tmp_path / f"clay{ending}").stat().st_size > 1000
    assert "Exported" in said(window)


def test_settings_of_ones_own_are_kept_and_forgotten(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    card = window.files_card
    card.choose("film")
    card.up.setCurrentIndex(card.up.findData("z"))
    card.up.activated.emit(1)
    assert card.chosen() == ""
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("Mill", True))
    run(window, "deliver.keep")
    assert card.chosen() == "Mill"
    card.choose("game")
    card.choose("Mill")
    assert (card.wish().ending, card.wish().up) == (".usdc", "z")
    save_preferences(window.studio.preferences)
    assert load_preferences().exports["Mill"] == card.wish()
    run(window, "deliver.forget")
    assert card.chosen() == ""
    assert not window.studio.preferences.exports
    assert "none of your own" in window.exports.none_own().lower()


def test_export_asks_for_a_file_of_its_kind(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.files_card.choose("print")
    monkeypatch.setattr(dialogs, "ask_save", lambda *_: tmp_path / "ball.3mf")
    work(window, "deliver.export")
    assert (tmp_path / "ball.3mf").is_file()


# -- prints ---------------------------------------------------------------------------------------


def test_a_print_from_parts_to_its_set(window: Window, tmp_path: Path) -> None:
    two_balls(window)
    project = window.studio.project
    window.printing.change(sizing="height", height=70.0, wall=3.0, fine=96, title="Tarn")
    work(window, "print.body")
    assert [part.visible for part in project.scene.parts] == [False, False, True]
    assert "exact union" in said(window)
    work(window, "print.hollow")
    assert "is hollow" in said(window)
    work(window, "print.drain-lowest")
    body = project.scene.parts[2]
    assert parts_of(window)[-1] == "Print body plug"
    work(window, "print.base")
    assert parts_of(window)[-1] == "Base"
    # The size is no longer told by the height, which the base has changed.
    assert window.printing.wish.sizing == "ratio"
    assert window.printing.factor() == pytest.approx(0.56, abs=0.01)
    work(window, "print.check")
    found = {one.name: one for one in window.printing.found}
    assert found[body.name].flaw == ""
    assert found["Base"].facts.stands
    assert window.printing.layer > 0
    assert sum(cut.area for cut in window.printing.sections()) > 100
    window.printing.write_to(tmp_path)
    window.studio.wait(120)
    names = sorted(path.name for path in tmp_path.iterdir())
    assert "Untitled.3mf" in names
    assert "Untitled_Base.stl" in names
    told = json.loads((tmp_path / "Untitled.json").read_text())
    assert told["unit"] == "mm"
    page = (tmp_path / "Untitled.html").read_text(encoding="utf-8")
    assert "Print body" in page
    assert "data:image/png" in page
    solid = trimesh.load(tmp_path / "Untitled_Print_body.stl")
    solid.merge_vertices()
    assert solid.is_watertight
    assert solid.volume == pytest.approx(1000 * told["bodies"][0]["volume_cm3"], rel=1e-3)
    # Each was a step of its own.
    for _ in range(4):
        run(window, "edit.undo")
    assert parts_of(window) == ["Head", "Body"]


def test_a_part_is_cut_with_pegs_along_a_plane_and_along_a_guide(window: Window) -> None:
    window.printing.change(wall=3.0)
    work(window, "print.cut")
    assert parts_of(window) == ["Ball, below", "Ball, above"]
    assert "with 2 pegs" in said(window)
    low, high = (part.mesh for part in window.studio.project.scene.parts)
    assert low.positions[:, 1].max() == pytest.approx(6.0, abs=0.2)
    assert high.positions[:, 1].min() == pytest.approx(0.0, abs=1e-3)
    run(window, "edit.undo")
    assert parts_of(window) == ["Ball"]
    window.print_parts_card.where.setCurrentIndex(3)
    work(window, "print.cut")
    assert "has no guide" in said(window)
    part = window.studio.project.active
    turn = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    ring = np.stack([np.full(60, 30.0), 95 * np.cos(turn), 95 * np.sin(turn)], axis=1)
    add_guides(window.studio.project, part, [ring], True)
    assert lines_of(window.studio.project.scene, part)
    window.printing.change(pegs=window.printing.wish.pegs.__class__(0))
    work(window, "print.cut")
    assert parts_of(window) == ["Ball, below", "Ball, above"]
    sides = [one.mesh.positions[:, 0].max() for one in window.studio.project.scene.parts]
    assert min(sides) == pytest.approx(30.0, abs=2.0)


def test_walls_and_overhangs_are_shown_and_thickened(window: Window) -> None:
    ball = make_ball(20.0, 24)
    ball.positions[:, 2] *= 0.05
    ball.refresh_all()
    window.studio.take(Project(Scene((Part("Ear", ball),))))
    window.printing.change(thinnest=3.0)
    work(window, "print.thin")
    assert window.view.distances
    assert "thinner than 3 mm" in said(window)
    run(window, "print.thin")
    assert not window.view.distances
    work(window, "print.overhang")
    assert "lean out" in said(window)
    run(window, "print.overhang")
    work(window, "print.thicken")
    part = window.studio.project.active
    assert np.ptp(part.mesh.positions[:, 2]) > 2.9
    run(window, "edit.undo")
    assert np.ptp(window.studio.project.active.mesh.positions[:, 2]) == pytest.approx(2.0, abs=0.01)
    window.studio.take(Project(Scene((Part("Ball", make_ball(20.0, 16)),))))
    work(window, "print.thicken")
    assert "no wall is thinner" in said(window).lower()


def test_a_press_drills_a_hole(window: Window) -> None:
    window.printing.change(fine=64)
    work(window, "print.drain-lowest")
    assert "It is not hollow" in said(window)
    work(window, "print.hollow")
    run(window, "print.drain")
    x, y = middle(window)
    drag(window, [(x, y), (x + 2, y)])
    window.studio.wait(60)
    assert parts_of(window) == ["Ball", "Ball plug"]
    plug = window.studio.project.scene.parts[1].mesh
    # Towards the eye.
    assert plug.positions[:, 2].mean() > 80


def test_what_cannot_be_printed_is_said(window: Window) -> None:
    window.studio.take(Project(Scene((Part("Cloth", make_sheet(10)),))))
    for key in ("print.hollow", "print.cut", "print.drain"):
        run(window, key)
        assert "open edges" in said(window)
    work(window, "print.check")
    assert "open edges" in said(window)
    window.printing.change(wall=-1.0)
    assert "more than nothing" in said(window)
    assert window.printing.wish.wall > 0


def test_layers_are_gone_through(window: Window) -> None:
    run(window, "print.layer-up")
    assert "Check the print first" in said(window)
    work(window, "print.check")
    window.printing.change(layer=0.5)
    work(window, "print.check")
    assert len(window.printing.heights()) == 400
    run(window, "print.layer-up")
    assert window.printing.layer == 201
    window.choose_stage("Deliver")
    window.print_card.head.setChecked(True)
    settle(window)
    window.print_card.fill()
    window.print_card.slider.setValue(10)
    assert window.printing.layer == 10
    assert "of 400" in window.print_card.which.text() or not window.print_card.body.isVisible()
    run(window, "print.layer-down")
    assert window.printing.layer == 9


# -- games ----------------------------------------------------------------------------------------


def test_a_game_set_and_its_page(window: Window, tmp_path: Path) -> None:
    part = window.studio.project.active
    part.mesh.colour = np.full((part.mesh.n_vertices, 4), (200, 90, 60, 255), np.uint8)
    window.gaming.change(
        counts=(4000, 900, 200), variants=(Variant("Green", 120.0),), most_triangles=3000, packed=True
    )
    window.gaming.write_to(tmp_path)
    window.studio.wait(120)
    assert "the budget is 3,000" in said(window)
    told = json.loads((tmp_path / "Untitled.json").read_text())
    counts = {one["name"]: one["triangles"] for one in told["files"]}
    assert counts["Untitled_lod0.glb"] == pytest.approx(4000, rel=0.02)
    assert counts["Untitled_lod2.glb"] == pytest.approx(200, rel=0.05)
    assert "Untitled_lod0_Green.glb" in counts
    green = trimesh.load(tmp_path / "Untitled_lod0_Green.glb", force="mesh")
    r, g, _ = green.visual.vertex_colors[:, :3].mean(axis=0)
    assert g > r
    assert "Levels of detail" in (tmp_path / "Untitled.html").read_text(encoding="utf-8")


def test_a_level_becomes_parts(window: Window) -> None:
    window.gaming.change(counts=(4000, 500))
    window.game_card.fill()
    window.game_card.which.setCurrentIndex(1)
    work(window, "game.level")
    parts = window.studio.project.scene.parts
    assert [part.visible for part in parts] == [False, True]
    assert parts[1].mesh.topology.n_triangles == pytest.approx(500, rel=0.05)
    low, high = parts[1].mesh.bounds()
    assert high - low == pytest.approx(200.0, rel=0.05)
    run(window, "edit.undo")
    assert parts_of(window) == ["Ball"]


def test_the_card_takes_counts_and_variants(window: Window) -> None:
    assert counts_in("8000, 4k 1.5k;200") == (8000, 4000, 1500, 200)
    with pytest.raises(ValueError, match="no number"):
        counts_in("many")
    card = window.game_card
    card.counts.setText("9k, 3k")
    card.counts.editingFinished.emit()
    assert window.gaming.wish.counts == (9000, 3000)
    card.counts.setText("3k, 9k")
    card.counts.editingFinished.emit()
    assert window.gaming.wish.counts == (9000, 3000)
    assert "fewer triangles" in said(window)
    card.more.click()
    card.more.click()
    assert [one.name for one in window.gaming.wish.variants] == ["Variant 1", "Variant 2"]
    card.hue.set_value(40)
    card.hue.settled.emit(40.0)
    assert window.gaming.wish.variants[1].hue == 40
    card.less.click()
    assert [one.name for one in window.gaming.wish.variants] == ["Variant 1"]


def test_what_is_asked_for_is_saved(window: Window, tmp_path: Path) -> None:
    window.printing.change(material="bronze", title="Tarn", ratio=6.0, sizing="ratio")
    window.gaming.change(counts=(5000, 100), variants=(Variant("Pale", 0.0, -0.5),))
    settings = window.studio.project.settings
    save_project(window.studio.project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten").settings
    assert (again.printing, again.game) == (settings.printing, settings.game)
