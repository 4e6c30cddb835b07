"""Grain that a mesh is too coarse for, shown as shading: the pixels' patterns are those of the form."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.grain import KINDS, Grain, coarse, heights, share_held
from kneten.core.press import Press
from kneten.core.presses.library import library
from kneten.document.grains import add_grain, change_grain
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.render.grains import NUMBERS, DrawnGrain, Shown, Worked, switches
from kneten.render.parts import Shelf
from kneten.render.programs import source
from kneten.render.renderer import Renderer
from kneten.render.style import Style
from tests.conftest import make_ball

SIDE = 64
ASK = """
out vec4 found;
void main() { found = vec4(residue(KIND0, 0, presses[0], 1.0)); }
"""
PLACE = """
uniform vec3 corner, across, up, faces;
out vec3 place, seat, seat_normal;
out vec4 cover;
void main() {
    vec2 at = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 2.0;
    gl_Position = vec4(2.0 * at - 1.0, 0.0, 1.0);
    place = seat = corner + at.x * across + at.y * up;
    seat_normal = faces;
    cover = vec4(1.0);
}
"""


@pytest.fixture(scope="module")
def press() -> Press:
    return next(entry for entry in library().values() if entry.tiles and not entry.rolls).made()


def asked(context: moderngl.Context, grain: Grain, press: Press | None, seats: np.ndarray) -> np.ndarray:
    """What pixels find at seats (k, k, 3) that lie evenly on a plane, where the form has nothing of the pattern."""
    k = len(seats)
    step_across, step_up = seats[0, 1] - seats[0, 0], seats[1, 0] - seats[0, 0]
    none = np.zeros((1, 3), np.float32)
    presses = {} if press is None else {"laid": press}
    made = Worked(("one",), none, none, np.zeros((1, 4), np.uint8), 1e6, presses)
    drawn = DrawnGrain(context, made)
    shown = [Shown(0, replace(grain, press="laid"), 1.0)]
    pixels = source("grain.glsl", **switches(shown)) + ASK
    program = context.program("#version 330\n" + PLACE, pixels)
    drawn.use(program, shown)
    program["corner"] = tuple((seats[0, 0] - 0.5 * step_across - 0.5 * step_up).tolist())
    program["across"], program["up"] = tuple((k * step_across).tolist()), tuple((k * step_up).tolist())
    if "faces" in program:
        program["faces"] = (0.3, 0.5, 0.81)
    target = context.framebuffer([context.texture((k, k), 4, dtype="f4")])
    target.use()
    context.enable_only(moderngl.NOTHING)
    context.vertex_array(program, []).render(moderngl.TRIANGLES, 3)
    found = np.frombuffer(target.read(components=4, dtype="f4"), np.float32).reshape(k, k, 4)[..., 0]
    drawn.release()
    return found


@pytest.mark.parametrize("kind", list(KINDS))
@pytest.mark.parametrize("turn", [0.0, 30.0])
def test_pixels_find_what_vertices_do(
    context: moderngl.Context, press: Press, kind: str, turn: float
) -> None:
    laid = press if kind == "press" else None
    grain = Grain(kind, scale=8.0, height=1.0, turn=turn, roughness=0.6, seed=5, mirrored=turn > 0)
    random = np.random.default_rng(3)
    across, up = random.normal(0, 1, (2, 3))
    steps = np.arange(SIDE) * {"press": 0.15, "pits": 2.5}.get(kind, 0.4) / SIDE
    seats = np.array([-7.0, 3.0, 5.0]) + steps[None, :, None] * across + steps[:, None, None] * up
    flat = seats.reshape(-1, 3).astype(np.float32)
    normals = np.tile(np.array([0.3, 0.5, 0.81], np.float32), (len(flat), 1))
    # As fine as pixels are here.
    wanted = heights(grain, laid, flat, normals, 1e-4).reshape(SIDE, SIDE)
    found = asked(context, grain, laid, seats)
    if kind == "press":
        # The form has what is left of the picture at its coarsest: an even ground.
        found, wanted = found - found.mean(), wanted - wanted.mean()
    assert np.abs(wanted).max() > 0.05
    near = np.abs(found - wanted) < 0.02
    # Two pixels of the picture may fall to different pieces at their borders.
    assert near.mean() > 0.98, (near.mean(), np.abs(found - wanted).max())


def test_a_form_has_no_more_of_a_pattern_than_it_can_hold() -> None:
    grain = Grain("pebbles", scale=4.0, height=1.0)
    seats = np.random.default_rng(1).uniform(-50, 50, (4000, 3)).astype(np.float32)
    normals = np.tile(np.array([0, 0, 1], np.float32), (4000, 1))
    rough = [np.abs(heights(grain, None, seats, normals, edge)).max() for edge in (0.3, 1.5, 1.9, 3.0)]
    assert rough[0] == pytest.approx(rough[1], abs=0.05)
    assert rough[1] > rough[2] > rough[3]
    assert rough[3] == 0.0
    assert share_held(replace(grain, kind="press"), 100.0) == 1.0


def on_ball(cells: int, **traits: object) -> tuple[Project, Part]:
    project = Project(Scene((Part("Ball", make_ball(100.0, cells)),)))
    grain = replace(Grain("pebbles", scale=9.0, height=1.0), **traits)  # type: ignore[arg-type]
    add_grain(project, project.scene.parts[0], grain, None, "Pebbles")
    return project, project.scene.parts[0]


def picture(renderer: Renderer, scene: Scene) -> np.ndarray:
    low, high = scene.bounds()
    renderer.draw(scene, Camera().framing(low, high, 4 / 3), Style())
    return renderer.read()[..., :3].astype(int)


def roughness(pixels: np.ndarray) -> float:
    """How much pixels in the ball's middle differ from their neighbours."""
    middle = pixels[80:160, 120:200].mean(axis=2)
    return float(np.abs(np.diff(middle, axis=1)).mean())


def test_what_is_too_fine_for_a_mesh_is_seen_as_on_a_finer_one(renderer: Renderer) -> None:
    smooth = picture(renderer, Scene((Part("Ball", make_ball(100.0, 20)),)))
    project, part = on_ball(20)
    assert coarse(part.stack.layers[-1].grain, 8.0) > 1.5  # type: ignore[union-attr, arg-type]
    shaded = picture(renderer, project.scene)
    fine = picture(renderer, on_ball(160)[0].scene)
    assert roughness(shaded) > 3 * roughness(smooth)
    assert roughness(shaded) == pytest.approx(roughness(fine), rel=0.5)
    # The same pebbles at the same places.
    cut = (slice(90, 150), slice(130, 190))
    one, other = (p[cut].mean(axis=2).ravel() for p in (shaded, fine))
    assert np.corrcoef(one, other)[0, 1] > 0.6


def test_it_follows_strength_place_and_mesh(renderer: Renderer) -> None:
    project, part = on_ball(20, where="height", low=0.5, high=1.0)
    above = picture(renderer, project.scene)
    assert roughness(np.roll(above, 60, 0)) > 2 * roughness(np.roll(above, -60, 0))
    layer = part.stack.layers[-1]  # type: ignore[union-attr]
    change_grain(project, part, layer.id, replace(layer.grain, where="all"), None)  # type: ignore[type-var]
    part = project.scene.parts[0]
    everywhere = picture(renderer, project.scene)
    assert roughness(np.roll(everywhere, -60, 0)) > 2 * roughness(np.roll(above, -60, 0))
    shelf = Shelf(renderer.ctx)
    shelf.sync(project.scene)
    assert shelf.grains.on(part) is not None
    hidden = replace(part, stack=part.stack.with_layer(replace(part.stack.layers[-1], shown=False)))  # type: ignore[union-attr]
    shelf.sync(project.scene.with_part(hidden))
    assert shelf.grains.on(hidden) is None
    fine, fine_part = on_ball(160)
    shelf.sync(fine.scene)
    assert shelf.grains.on(fine_part) is None
    shelf.release()


def test_every_kind_has_a_number() -> None:
    assert sorted(NUMBERS.values()) == list(range(len(KINDS)))


def test_a_change_that_is_taken_back_while_it_is_worked_out_leaves_nothing_to_wait_for(
    context: moderngl.Context,
) -> None:
    project, part = on_ball(20)
    before = project.scene
    shelf = Shelf(context, patient=True)
    while not shelf.sync(before):
        shelf.arrive(0.0)
    layer = part.stack.layers[-1]  # type: ignore[union-attr]
    other = replace(layer, grain=replace(layer.grain, where="height", low=0.5))  # type: ignore[type-var]
    shelf.sync(before.with_part(replace(part, stack=part.stack.with_layer(other))))  # type: ignore[union-attr]
    for _ in range(200):
        if shelf.sync(before):
            break
        shelf.arrive(0.0)
    assert shelf.sync(before)
    assert shelf.grains.on(part) is not None
    shelf.release()
