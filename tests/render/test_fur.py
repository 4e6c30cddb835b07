"""Fur on the graphics side: drawn over the clay, hidden behind it, written anew only where something has changed."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.fur.numbers import FurNumbers
from kneten.document.furs import sown
from kneten.document.scene import Part, Scene
from kneten.document.things import Fur
from kneten.render.parts import Shelf
from kneten.render.renderer import Renderer
from kneten.render.style import Style
from tests.conftest import make_ball


def furry(**numbers: object) -> tuple[Scene, Part, Fur]:
    part = Part("Ball", make_ball(100.0, 40))
    wide = FurNumbers(count=12_000, width=1.0, root=(0.9, 0.1, 0.1), tip=(0.9, 0.1, 0.1))
    fur = sown(part, part.mesh, None, replace(wide, **numbers), "Coat", Progress())  # type: ignore[arg-type]
    return Scene((part,)).with_things("furs", (fur,)), part, fur


def camera_on(scene: Scene) -> Camera:
    low, high = scene.bounds()
    return Camera().seen_from("front").framing(low, high, 4 / 3)


def drawn(renderer: Renderer, scene: Scene, moving: bool = False) -> np.ndarray:
    renderer.draw(scene, camera_on(scene), Style(), moving=moving)
    target = renderer.ctx.framebuffer([renderer.ctx.texture(renderer.size, 4)])
    renderer.present(target)
    data = np.frombuffer(target.read(components=4), np.uint8)
    return data.reshape(renderer.size[1], renderer.size[0], 4)[::-1].astype(int)


def red(pixels: np.ndarray) -> np.ndarray:
    return pixels[..., 0] > pixels[..., 1] + 40


def test_fur_covers_its_clay_at_rest_and_moving(renderer: Renderer) -> None:
    scene, _, _ = furry()
    bare = drawn(renderer, scene.with_things("furs", ()))
    assert not red(bare).any()
    clay = np.abs(bare - bare[0, 0]).max(axis=2) > 25
    rest = red(drawn(renderer, scene))
    assert rest[clay].mean() > 0.8
    # Its rim stands out beyond the clay.
    assert (rest & ~clay).sum() > 300
    moving = red(drawn(renderer, scene, moving=True))
    assert moving[clay].mean() > 0.6
    assert not red(drawn(renderer, scene.with_things("furs", ()))).any()


def test_fur_that_is_not_shown_or_whose_part_is_hidden_is_not_drawn(renderer: Renderer) -> None:
    scene, part, fur = furry()
    off = replace(fur, numbers=replace(fur.numbers, shown=False))
    assert not red(drawn(renderer, scene.with_things("furs", (off,)))).any()
    hidden = scene.with_part(replace(part, visible=False))
    assert not red(
        drawn(renderer, replace(hidden, parts=(*hidden.parts, Part("Two", make_ball(80.0, 12)))))
    ).any()


def test_clay_before_fur_hides_it(renderer: Renderer) -> None:
    scene, part, fur = furry()
    del part, fur
    wall = make_ball(60.0, 16)
    wall.positions += [0, 0, 220]
    wall.refresh_all()
    both = replace(scene, parts=(*scene.parts, Part("Before", wall)))
    seen = red(drawn(renderer, both))
    middle = seen[100:140, 140:180]
    assert middle.mean() < 0.02
    assert seen.mean() > 0.05


def test_a_rectangle_drawn_anew_is_what_it_was(renderer: Renderer) -> None:
    scene, _, _ = furry()
    whole = drawn(renderer, scene)
    for _ in renderer.draw_in_steps(scene, camera_on(scene), Style(), [(100, 80, 60, 50)]):
        pass
    again = renderer.read().astype(int)
    assert np.abs(again - whole).max() <= 3


def test_only_what_changed_is_written(renderer: Renderer, monkeypatch: pytest.MonkeyPatch) -> None:
    from kneten.render import fur as fur_module

    scene, part, _ = furry(count=40_000)
    drawn(renderer, scene)
    runs: list[int] = []
    plain = fur_module.write_fibres

    def noted(mesh, numbers, roots, leads, out, first=0, last=-1, whole=None):  # type: ignore[no-untyped-def]
        runs.append((len(roots) if last < 0 else last) - first)
        plain(mesh, numbers, roots, leads, out, first, last, whole)

    monkeypatch.setattr(fur_module, "write_fibres", noted)
    drawn(renderer, scene)
    assert not runs
    some = np.arange(40, dtype=np.int32)
    part.mesh.positions[some] *= np.float32(1.02)
    part.mesh.mark_dirty(some)
    drawn(renderer, scene)
    assert 0 < sum(runs) < 40_000 / 3
    # Once nothing moves, all of them.
    runs.clear()
    drawn(renderer, scene)
    assert sum(runs) == 40_000


def test_roots_are_found_aside_where_the_shelf_is_patient(context: moderngl.Context) -> None:
    scene, part, fur = furry()
    shelf = Shelf(context, patient=True)
    while not shelf.sync(scene):
        shelf.arrive(0.0)
    assert shelf.furs.any
    # What cannot grow is told, and nothing waits for it.
    lost = replace(fur, numbers=replace(fur.numbers, mask="gone"))
    assert shelf.sync(scene.with_things("furs", (lost,)))
    assert "mask" in shelf.furs.bald[fur.id][1]
    assert not list(shelf.furs.on(scene.with_things("furs", (lost,)), part))
    shelf.release()


def test_fibres_of_other_clay_or_leads_are_not_drawn(context: moderngl.Context) -> None:
    scene, part, fur = furry()
    shelf = Shelf(context)
    shelf.sync(scene)
    assert len(list(shelf.furs.on(scene, part))) == 1
    other = replace(part, mesh=make_ball(100.0, 12))
    assert not list(shelf.furs.on(scene, other))
    fewer = replace(fur, corners=fur.corners[:3], shares=fur.shares[:3])
    assert not list(shelf.furs.on(scene.with_things("furs", (fewer,)), part))
    combed = replace(fur, tips=fur.tips * np.float32(2))
    assert list(shelf.furs.on(scene.with_things("furs", (combed,)), part))
    shelf.release()


def test_a_change_that_is_taken_back_while_roots_are_found_leaves_nothing_to_wait_for(
    context: moderngl.Context,
) -> None:
    scene, _, fur = furry()
    shelf = Shelf(context, patient=True)
    while not shelf.sync(scene):
        shelf.arrive(0.0)
    fewer = replace(fur, numbers=replace(fur.numbers, count=5000))
    # Roots of other numbers are being found when an undo brings the old ones back.
    shelf.sync(scene.with_things("furs", (fewer,)))
    for _ in range(200):
        if shelf.sync(scene):
            break
        shelf.arrive(0.0)
    assert shelf.sync(scene)
    shelf.release()
