"""Looking at the clay in the real window: looks, panes, camera, comparing."""

from __future__ import annotations

import itertools
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kneten.app.shell.window import Window
from kneten.core.changes import noted
from kneten.core.transform import Transform
from kneten.document.look import LOOKS
from kneten.document.project_file import open_project
from tests.app.windows import LEFT, NONE, clay, drag, middle, picture, run, send, settle, shown, until
from tests.conftest import make_ball
from tests.long import some


def dent(window: Window) -> None:
    """A stroke to the right of the middle, without symmetry."""
    window.studio.project.change_settings(symmetry=(False, False, False))
    x, y = middle(window)
    drag(window, [(x + 60, y - 10), (x + 90, y + 10)])
    settle(window)


def test_every_look_is_switched_in_one_step_and_differs(window: Window) -> None:
    pictures = {}
    for key in LOOKS:
        window.registry.run(f"look.{key}")
        pictures[key] = picture(window)
        assert window.view_card.look.currentData() == key
    keys = list(pictures)
    for i, one in enumerate(keys):
        for other in keys[i + 1 :]:
            assert np.abs(pictures[one] - pictures[other]).max() > 20, (one, other)


@pytest.mark.parametrize("name", ["wires", "xray", "floor", "outline", "back_faces", "cavity", "cover"])
def test_overlays_change_the_picture_and_back(window: Window, name: str) -> None:
    if name == "back_faces":
        part = window.studio.project.active
        assert part is not None
        turned = part.mesh.topology.faces[:, [0, 3, 2, 1]]
        mesh = type(part.mesh).from_faces(part.mesh.positions, turned)
        window.studio.project.replace_mesh(part.id, mesh, "Turn")
    window.view.set_effects(3)
    if name in ("cavity", "cover"):
        window.registry.run("tool.score")
        window.studio.set_brush(strength=1.0, size=70.0, taper=0.0)
        for _ in range(4):
            dent(window)
    if name == "outline":
        window.studio.project.add_meshes("Add", [("Small", make_ball(40.0, 24), Transform((0, 0, 110.0)))])
    before = picture(window)
    window.registry.run(f"look.{name.replace('_', '-')}")
    changed = picture(window)
    assert (np.abs(changed - before).max(axis=2) > 6).sum() > 40
    window.registry.run(f"look.{name.replace('_', '-')}")
    assert np.abs(picture(window) - before).max() <= 2


def test_looks_are_kept_with_the_project(window: Window, tmp_path: Path) -> None:
    Image.new("RGB", (300, 200), (200, 40, 40)).save(tmp_path / "red.png")
    window.views.add_matcap(tmp_path / "red.png")
    settle(window)
    look = window.studio.project.settings.look
    assert (look.kind, look.matcap) == ("matcap", "own:red")
    middle_pixel = picture(window)[200, 456]
    assert middle_pixel[0] > 2 * middle_pixel[1]
    window.studio.set_look(steps=5, floor=True)
    window.studio.save_path(tmp_path / "a.kneten")
    settle(window)
    again = open_project(tmp_path / "a.kneten")
    assert again.settings.look == window.studio.project.settings.look
    assert list(again.settings.matcaps) == ["red"]


def test_a_picture_that_is_none_gets_a_message(window: Window, tmp_path: Path) -> None:
    (tmp_path / "broken.png").write_bytes(b"not a picture")
    before = window.studio.project.settings.look
    window.views.add_matcap(tmp_path / "broken.png")
    settle(window)
    assert any("not a picture" in notice.text for notice in window.notices.notices)
    assert window.studio.project.settings.look == before


def test_the_lamp_follows_the_pointer_while_its_key_is_held(window: Window) -> None:
    window.registry.run("look.lamp")
    settle(window)
    view = window.view
    before = clay(window).copy()
    QTest.keyPress(view, Qt.Key.Key_L)
    drag(window, [(view.width() * 0.2, 40), (view.width() * 0.9, 300)])
    QTest.keyRelease(view, Qt.Key.Key_L)
    x, y = window.studio.project.settings.look.lamp
    assert x == pytest.approx(0.8, abs=0.02)
    assert y == pytest.approx(1 - 2 * 300 / view.height(), abs=0.02)
    assert np.array_equal(clay(window), before)
    image = picture(window)
    half = image.shape[1] // 2
    assert image[:, half:].sum() > image[:, :half].sum() * 1.2


def test_four_views_can_be_sculpted_and_turned_each(window: Window) -> None:
    window.registry.run("view.four")
    settle(window)
    view = window.view
    assert [pane.name for pane in view.panes] == ["top", "main", "front", "right"]
    front = view.panes[2]
    before = clay(window).copy()
    pictures = [pane.renderer for pane in view.panes]
    view.makeCurrent()
    old = [renderer.read() for renderer in pictures]
    view.doneCurrent()
    x, y = front.x + front.wide / 2, front.y + front.high / 2
    drag(window, [(x, y), (x + 20, y)])
    settle(window)
    moved = np.abs(clay(window) - before).max(axis=1) > 0
    # The front view meets the clay's front.
    assert moved.any()
    assert clay(window)[moved, 2].min() > 0
    view.makeCurrent()
    new = [renderer.read() for renderer in pictures]
    view.doneCurrent()
    assert [bool((a != b).any()) for a, b in zip(old, new, strict=True)].count(True) >= 3
    main = window.studio.project.settings.camera
    drag(window, [(front.x + 3, front.y + 3), (front.x + 60, front.y + 30)])
    assert view.panes[2].camera.yaw != 0.0
    assert window.studio.project.settings.camera == main
    window.registry.run("view.four")
    settle(window)
    assert [pane.name for pane in view.panes] == ["main"]


def test_in_the_mirrored_picture_tools_hit_what_is_under_them(window: Window) -> None:
    dent(window)
    plain = shown(window)
    window.registry.run("edit.undo")
    window.registry.run("view.mirror")
    x, y = middle(window)
    width = window.view.width()
    before = clay(window).copy()
    # The same place of the clay now lies on the other side.
    drag(window, [(width - (x + 60), y - 10), (width - (x + 90), y + 10)])
    moved = np.abs(clay(window) - before).max(axis=1) > 0
    assert clay(window)[moved, 0].min() > 0
    mirrored = shown(window)[:, ::-1]
    inner = (slice(60, -60), slice(60, -60))
    # But for the ring at the cursor and the mark that tells that the picture is mirrored.
    assert (np.abs(mirrored[inner] - plain[inner]).max(axis=2) > 12).mean() < 0.02
    assert (np.abs(mirrored[:40] - plain[:40]).max(axis=2) > 12).sum() > 200


def test_half_closed_eyes_blur(window: Window) -> None:
    sharp = shown(window)
    window.registry.run("view.squint")
    soft = shown(window)
    rows = slice(100, 500)
    assert np.abs(np.diff(soft[rows], axis=1)).max() < 0.4 * np.abs(np.diff(sharp[rows], axis=1)).max()


def test_silhouette_is_one_tone_and_goes_back(window: Window) -> None:
    window.registry.run("look.sky")
    window.registry.run("view.silhouette")
    image = picture(window)
    x, y = (round(v) for v in middle(window))
    assert image[y - 20 : y + 20, x - 20 : x + 20, :3].max() < 40
    assert image[5, 5, :3].min() > 120
    window.registry.run("view.silhouette")
    assert window.studio.project.settings.look.kind == "sky"


def test_camera_tilts_levels_and_changes_its_lens(window: Window) -> None:
    camera = window.view.camera
    window.registry.run("view.roll-right")
    assert window.view.camera.roll == 15.0
    x, y = middle(window)
    found = window.view.part_at(x + 40, y)
    assert found is not None
    seen = window.view.camera.project(found[1][None], window.view.width(), window.view.height())[0]
    assert seen[:2] == pytest.approx((x + 40, y), abs=0.01)
    window.registry.run("view.level")
    assert window.view.camera == camera
    window.side.bring("View")
    window.view_card.focal.set_value(100.0)
    window.view_card.focal.changed.emit(100.0)
    lens = window.view.camera
    assert lens.focal_length == pytest.approx(100.0)
    assert lens.half_height() == pytest.approx(camera.half_height())


def test_saved_views_have_pictures_and_bring_the_camera_back(window: Window, tmp_path: Path) -> None:
    window.registry.run("view.left")
    settle(window)
    kept = window.view.camera
    window.registry.run("view.save")
    until(lambda: window.studio.project.settings.views)
    saved = window.studio.project.settings.views[0]
    assert saved.picture.startswith(b"\x89PNG")
    window.registry.run("view.front")
    window.view_card.saved_buttons[0].click()
    assert window.view.camera == kept
    window.views.rename_view(saved.id, "From the left")
    window.studio.save_path(tmp_path / "v.kneten")
    settle(window)
    (again,) = open_project(tmp_path / "v.kneten").settings.views
    assert (again.name, again.camera, again.picture) == ("From the left", kept, saved.picture)
    window.views.delete_view(saved.id)
    assert window.studio.project.settings.views == ()


def test_smooth_moves_end_where_they_should(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    # However slow the pictures are: some are drawn on the way.
    monkeypatch.setattr("kneten.app.view.picture.FLIGHT", 2.0)
    window.studio.preferences.still = False
    goal = window.view.camera.seen_from("right")
    window.registry.run("view.right")
    assert window.view.flying
    yaws = []
    until(lambda: yaws.append(window.view.camera.yaw) or not window.view.flying)
    assert window.view.camera == goal
    assert any(5 < yaw < 85 for yaw in yaws)
    assert yaws == sorted(yaws)


def test_turntable_turns_until_a_press(window: Window) -> None:
    before = window.view.camera.yaw
    window.registry.run("view.turntable")
    until(lambda: abs(window.view.camera.yaw - before) > 3)
    x, y = middle(window)
    send(window, QEvent.Type.MouseButtonPress, x, y, LEFT, NONE)
    send(window, QEvent.Type.MouseButtonRelease, x, y, LEFT, NONE)
    stopped = window.view.camera.yaw
    settle(window)
    assert window.view.camera.yaw == stopped


def test_framing_the_last_stroke_brings_it_near(window: Window) -> None:
    dent(window)
    far = window.view.camera.distance
    window.registry.run("view.frame-last")
    settle(window)
    assert window.view.camera.distance < 0.6 * far
    assert window.view.camera.target[0] > 5


@pytest.mark.parametrize("factor", [1.0, 0.05, 0.002])
def test_depth_never_cuts_into_the_clay(window: Window, factor: float) -> None:
    """Straight on, as near as it gets: the picture's middle is clay, never what lies behind its skin."""
    camera = window.view.camera.seen_from("front")
    window.view.set_camera(replace(camera, target=(0.0, 0.0, 100.0), distance=400.0 * factor))
    image = picture(window)
    y, x = image.shape[0] // 2, image.shape[1] // 2
    around = image[y - 30 : y + 30, x - 30 : x + 30, :3]
    assert around.min() > 70
    assert around.std() < 30


@pytest.mark.parametrize("mode", some(["wipe", "blink", "side"], 2))
def test_comparing_with_a_milestone(window: Window, mode: str) -> None:
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    window.studio.set_brush(strength=1.0, size=90.0)
    dent(window)
    dent(window)
    now = shown(window)
    window.registry.run(f"milestone.{mode}")
    until(lambda: window.view.then is not None)
    both = shown(window)
    half = both.shape[1] // 2
    changed = np.abs(both - now).max(axis=2) > 12
    if mode == "wipe":
        # The stroke lies right of the edge, where now is shown.
        assert changed[80:-90, half + 20 :].mean() < 0.01
        drag(window, [(window.view.wipe_x(), 60), (window.view.width() - 30, 60)])
        assert window.view.wipe > 0.9
        assert (np.abs(shown(window) - now).max(axis=2) > 12)[80:-90, half + 20 :].mean() > 0.01
    elif mode == "blink":
        assert changed[80:-90, half:].mean() > 0.005
        window.view.blink()
        again = shown(window)
        assert (np.abs(again - now).max(axis=2) > 12)[80:-90].mean() < 0.005
    else:
        assert changed.mean() > 0.1
        assert window.view.main is not None
        assert window.view.main.wide < window.view.width() / 2
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    assert not window.view.comparing
    # But for the brush's ring, which is drawn again where the pointer is.
    assert (np.abs(shown(window) - now).max(axis=2) > 12).mean() < 0.01


@pytest.mark.parametrize("key", ["milestone.side", "view.four"])
def test_panes_that_come_while_a_picture_is_under_way_are_drawn_in_their_places(
    window: Window, key: str
) -> None:
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    settle(window)
    # Nothing is painted in between, as when other events come first.
    window.view.setUpdatesEnabled(False)
    window.registry.run(key)
    until(lambda: len(window.view.pictures) > 1)
    for _ in range(3):
        window.view._continue()
    assert all(min(pane.renderer.size) > 1 for pane in window.view.pictures)
    window.view.setUpdatesEnabled(True)
    settle(window)
    assert not window.studio.mishaps


def test_a_picture_under_way_of_clay_that_another_has_put_away_begins_anew(window: Window) -> None:
    pane = window.view.main
    assert pane is not None
    scene, shelf = window.studio.project.scene, pane.renderer.shelf
    window.view.makeCurrent()
    pane.refresh()
    style = window.view.picture_style()
    shelf.sync(scene)
    while pane.steps is None:
        pane.draw_on(scene, style, time.perf_counter() + 0.001)
    nobody = replace(scene, parts=tuple(replace(part, visible=False) for part in scene.parts))
    shelf.sync(nobody)
    assert not shelf.has(scene.parts[0])
    until(lambda: pane.draw_on(scene, style, time.perf_counter() + 0.05))
    assert shelf.has(scene.parts[0])
    window.view.doneCurrent()
    settle(window)
    assert not window.studio.mishaps


def test_distance_to_a_milestone_is_shown_with_a_legend(window: Window) -> None:
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    dent(window)
    window.registry.run("milestone.distance")
    until(lambda: window.view.distances)
    (values,) = window.view.distances.values()
    assert values.max() > 0.9
    assert np.median(values) == pytest.approx(0.5, abs=1e-3)
    assert 0.1 < window.view.distance_range < 30
    coloured = shown(window)
    assert (coloured[..., 0] - coloured[..., 2] > 60).any()
    window.registry.run("milestone.distance")
    assert not window.view.comparing


def test_isolated_parts_are_alone_and_ghosts_leave_outlines(window: Window) -> None:
    project = window.studio.project
    other = make_ball(30.0, 24)
    project.add_meshes("Add", [("Small", other, Transform((120.0, 0, 0)))])
    project.choose(project.scene.parts[0].id)
    window.views.frame_all()
    whole = picture(window)
    window.registry.run("look.isolate")
    alone = picture(window)
    small = window.view.camera.project(np.array([[120.0, 0, 0]]), *window.view.size().toTuple())[0]
    x, y = round(small[0]), round(small[1])
    assert np.abs(alone[y, x] - whole[y, x]).max() > 40
    assert window.view.part_at(x, y) is None
    camera = window.view.camera
    window.views.frame_all()
    assert np.allclose(window.view.camera.target, np.mean(window.studio.project.active.bounds(), axis=0))
    window.view.fly(camera)
    window.registry.run("look.isolate")
    window.registry.run("look.ghost")
    ghost = picture(window)
    assert np.abs(ghost[y, x] - alone[y, x]).max() < 12
    around = np.abs(ghost - alone)[y - 80 : y + 80, x - 80 : x + 80].max(axis=2)
    assert (around > 25).sum() > 60


def test_effects_yield_to_a_slow_machine_and_can_be_overruled(window: Window) -> None:
    window.studio.preferences.effects = -1
    view = window.view
    assert view.effects == 3

    def slow_pictures() -> None:
        for _ in range(3):
            view.panes[0].renderer.light_cost = 50.0
            view._weigh_effects()

    view.panes[0].renderer.light_cost = 50.0
    view._weigh_effects()
    assert view.effects == 3
    slow_pictures()
    assert view.effects < 3
    settle(window)
    assert "effects" in window.chip.text()
    view.set_effects(3)
    slow_pictures()
    assert view.effects == 3
    assert window.view_card.effects.currentData() == 3
    view.set_effects(0)
    settle(window)
    assert view.effects == 0
    # Stills have all effects whatever the view shows.
    assert view.picture_style().effects == 0


def test_too_few_vertices_are_told_with_the_action_that_helps(window: Window) -> None:
    project = window.studio.project
    part = project.active
    assert part is not None
    project.replace_mesh(part.id, make_ball(100.0, 6), "Coarse")
    settle(window)
    window.registry.run("tool.score")
    window.studio.set_brush(size=20.0)
    x, y = middle(window)
    window.view._hover(QPointF(x, y))
    drag(window, [(x, y), (x + 10, y)])
    (notice,) = [n for n in window.notices.notices if "vertices lie under the brush" in n.text]
    count = project.scene.parts[0].mesh.n_vertices
    buttons = notice.findChildren(type(window.density_card.remesh))
    next(b for b in buttons if b.text() == "Subdivide").click()
    settle(window)
    assert project.scene.parts[0].mesh.n_vertices > 3 * count


def test_symmetry_that_is_not_what_it_seems_is_told(window: Window) -> None:
    project = window.studio.project
    part = project.active
    assert part is not None
    lopsided = make_ball(100.0, 24)
    lopsided.positions[lopsided.positions[:, 0] > 50] *= np.float32(1.1)
    lopsided.refresh_all()
    project.replace_mesh(part.id, lopsided, "Lopsided")
    settle(window)
    project.change_settings(symmetry=(True, False, False))
    x, y = middle(window)
    now = project.scene.parts[0]
    until(lambda: now.mesh_id in window.studio.advisor.symmetry)
    window.view._hover(QPointF(x + 30, y))
    drag(window, [(x + 30, y), (x + 40, y)])
    (notice,) = [n for n in window.notices.notices if "is not symmetric" in n.text]
    assert "mm" in notice.text
    notice.findChildren(type(window.density_card.remesh))[0].click()
    assert project.settings.symmetry == (False, False, False)


def test_a_stroke_that_breaks_symmetry_is_told_before(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    part = project.active
    assert part is not None
    until(lambda: part.mesh_id in window.studio.advisor.symmetry)
    x, y = middle(window)
    window.view._hover(QPointF(x + 30, y))
    drag(window, [(x + 30, y), (x + 40, y)])
    QApplication.processEvents()
    assert any("symmetry is off" in n.text for n in window.notices.notices)


@pytest.mark.parametrize("what", ["raise", "mask", "coil", "live density", "cut off"])
def test_undo_draws_only_where_the_clay_has_changed_and_all_of_that(window: Window, what: str) -> None:
    x, y = middle(window)
    if what == "live density":
        run(window, "density.live")
    if what in ("raise", "mask", "coil"):
        run(window, f"tool.{what}")
    for step in range(3):
        drag(window, [(x + 20, y - 60 + 50 * step), (x + 60, y - 50 + 50 * step)])
        settle(window)
    window.view.refresh()
    settle(window)
    calls = []
    refresh = window.view.refresh
    window.view.refresh = lambda: (calls.append(1), refresh())  # type: ignore[method-assign]
    for key in ("edit.undo", "edit.undo", "edit.redo", "edit.undo"):
        window.registry.run(key)
        if what == "cut off":
            # The next one comes while the picture is still being drawn.
            QApplication.processEvents()
            continue
        settle(window)
        before = picture(window).astype(int)
        refresh()
        settle(window)
        assert np.abs(before - picture(window).astype(int)).max() <= 2
    settle(window)
    before = picture(window).astype(int)
    refresh()
    settle(window)
    assert np.abs(before - picture(window).astype(int)).max() <= 2
    if what != "live density":
        assert calls == []


def test_a_strokes_own_pictures_leave_nothing_out(window: Window) -> None:
    for tool, kind in itertools.product(
        ("raise", "mask", "coil", "score", "region", "pull", "swell"), ("continuous", "dragged")
    ):
        x, y = middle(window)
        run(window, f"tool.{tool}")
        window.studio.set_brush(kind=kind)
        drag(window, [(x + 20, y - 60), (x + 60, y - 50), (x + 40, y - 40)])
        settle(window)
        before = picture(window)
        window.view.refresh()
        settle(window)
        assert np.abs(before - picture(window)).max() <= 2


def test_what_changed_while_the_window_was_hidden_is_drawn_when_it_comes_back(window: Window) -> None:
    before = picture(window)
    window.hide()
    QApplication.processEvents()
    mesh = window.studio.project.active.mesh
    mesh.need("colour")[:, :3] = (200, 40, 30)
    noted(mesh, "colour", np.arange(mesh.n_vertices, dtype=np.int32))
    window.view.refresh()
    for _ in range(5):
        QApplication.processEvents()
    window.show()
    settle(window)
    assert np.abs(picture(window).astype(int) - before).mean() > 2


@pytest.mark.parametrize("look", [{"kind": "lamp"}, {"kind": "sky"}, {"floor": True}])
def test_shadows_fall_anew_once_the_hand_rests(window: Window, look: dict[str, object]) -> None:
    """While a stroke runs, its picture keeps the shadows as they were."""
    run(window, "stage.form")
    window.studio.set_look(**look)
    window.studio.choose_tool("raise")
    window.studio.set_brush(size=70.0, strength=1.0)
    x, y = middle(window)
    for _ in range(2):
        drag(window, [(x - 70, y - 60), (x + 60, y - 60)])
        found = picture(window)
        window.view.refresh()
        assert np.array_equal(picture(window), found)
