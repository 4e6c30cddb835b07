"""Paint: colours as numbers, ways to blend against an independent reckoning, layers, strokes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import RECENT, Ink
from kneten.core.paint.layers import begun, light_under, open_paint, packed_in, paint_of, seen
from kneten.core.paint.light import DECODED, code_of, codes_of, lightness_colour_hue
from kneten.core.paint.mixing import BLENDS
from kneten.core.paint.packed import Paint
from kneten.core.paint.palette import dominant
from kneten.core.paint.shifting import Shift, shifted
from kneten.core.paint.stroke import PaintStroke
from kneten.core.stack import Layer, Stack
from kneten.core.topology import PATCH
from kneten.core.values import CLAY
from tests.conftest import make_ball

AT, VIEW = np.array([0.0, 0.0, 50.0]), np.array([0.0, 0.0, -1.0])
INK = Ink((200, 60, 40))


def decoded(codes: Any) -> Any:
    """Light of codes, by the standard's formula."""
    at = np.asarray(codes, np.float64) / 255
    return np.where(at <= 0.04045, at / 12.92, ((at + 0.055) / 1.055) ** 2.4)


def encoded(light: Any) -> Any:
    """Codes of light, not rounded."""
    light = np.clip(np.asarray(light, np.float64), 0, 1)
    return 255 * np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)


# -- numbers -----------------------------------------------------------------------------------------


def test_codes_become_light_and_codes_again() -> None:
    codes = np.arange(256)
    np.testing.assert_allclose(DECODED, decoded(codes), atol=1e-6)
    back = [int(code_of(light) + np.float32(0.5)) for light in DECODED]
    assert back == codes.tolist()
    light = np.linspace(0, 1, 5000).astype(np.float32)
    found = np.array([code_of(one) for one in light])
    assert np.abs(found - encoded(light)).max() < 0.02


def test_lightness_colourfulness_and_hue_lead_back_to_their_colour() -> None:
    rng = np.random.default_rng(5)
    codes = rng.integers(0, 256, (500, 3))
    lch = lightness_colour_hue(codes)
    assert np.abs(codes_of(*lch.T).astype(int) - codes).max() <= 1
    # White, black, and the published numbers of pure red.
    np.testing.assert_allclose(lightness_colour_hue([255, 255, 255])[:2], [1, 0], atol=1e-4)
    np.testing.assert_allclose(lightness_colour_hue([0, 0, 0])[:2], [0, 0], atol=1e-6)
    np.testing.assert_allclose(lightness_colour_hue([255, 0, 0]), [0.628, 0.2577, 29.23], rtol=2e-3)


def test_what_no_screen_shows_keeps_its_lightness_and_hue() -> None:
    found = lightness_colour_hue(codes_of(0.9, 0.3, 260.0))
    assert found[0] == pytest.approx(0.9, abs=0.01)
    assert found[2] == pytest.approx(260, abs=3)
    assert found[1] < 0.1


def test_recent_colours_are_few_and_each_once() -> None:
    ink = Ink()
    for k in range(30):
        ink = replace(ink, colour=(k % 15, 0, 0)).used()
    assert len(ink.recent) == RECENT
    assert len(set(ink.recent)) == RECENT
    assert ink.recent[0] == (14, 0, 0)
    with pytest.raises(ValueError, match="not usable"):
        Ink(recent=((0, 0, 300),)).check()


def test_a_palette_has_the_colours_that_a_picture_has_most_of() -> None:
    rng = np.random.default_rng(2)
    kinds = np.array([[30, 30, 40], [200, 40, 30], [40, 160, 60], [240, 230, 200]])
    picture = np.clip(
        np.repeat(kinds, [4000, 3000, 2000, 3000], axis=0) + rng.integers(-6, 7, (12000, 3)), 0, 255
    )
    found = np.array(dominant(picture.astype(np.uint8), 4))
    for kind in kinds:
        assert np.abs(found - kind).max(axis=1).min() < 12
    lightness = lightness_colour_hue(found)[:, 0]
    assert (np.diff(lightness) >= 0).all()
    assert set(dominant(kinds.astype(np.uint8), 8)) == set(map(tuple, kinds.tolist()))


# -- ways to blend -----------------------------------------------------------------------------------


def reference(mode: str, below: Any, above: Any) -> Any:
    """The light of what comes of sRGB codes below and above, in double precision."""
    b, s = np.asarray(below) / 255, np.asarray(above) / 255

    def hard(b: Any, s: Any) -> Any:
        return np.where(s <= 0.5, 2 * b * s, b + (2 * s - 1) - b * (2 * s - 1))

    with np.errstate(divide="ignore", invalid="ignore"):
        d = np.where(b <= 0.25, ((16 * b - 12) * b + 4) * b, np.sqrt(b))
        plain = {
            "normal": s,
            "multiply": b * s,
            "screen": b + s - b * s,
            "overlay": hard(s, b),
            "hard-light": hard(b, s),
            "soft-light": np.where(s <= 0.5, b - (1 - 2 * s) * b * (1 - b), b + (2 * s - 1) * (d - b)),
            "darken": np.minimum(b, s),
            "lighten": np.maximum(b, s),
            "color-dodge": np.where(b == 0, 0, np.where(s == 1, 1, np.minimum(1, b / (1 - s)))),
            "color-burn": np.where(b == 1, 1, np.where(s == 0, 0, 1 - np.minimum(1, (1 - b) / s))),
            "difference": np.abs(b - s),
        }
    if mode in plain:
        return decoded(255 * plain[mode])
    lb, ls = decoded(below), decoded(above)
    if mode == "add":
        return np.minimum(lb + ls, 1)
    if mode == "subtract":
        return np.maximum(lb - ls, 0)
    cones = np.array([
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ])  # fmt: skip
    to_lab = np.array([
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ])  # fmt: skip
    low, high = (np.cbrt(light @ cones.T) @ to_lab.T for light in (lb, ls))
    cl, ch = (np.hypot(lab[:, 1:2], lab[:, 2:]) for lab in (low, high))
    out = low.copy()
    if mode == "luminosity":
        out[:, 0] = high[:, 0]
    elif mode == "color":
        out[:, 1:] = high[:, 1:]
    elif mode == "hue":
        out[:, 1:] = high[:, 1:] * cl / np.maximum(ch, 1e-6)
    else:
        out[:, 1:] = low[:, 1:] * ch / np.maximum(cl, 1e-6)
    return np.clip((out @ np.linalg.inv(to_lab).T) ** 3 @ np.linalg.inv(cones).T, 0, 1)


@pytest.mark.parametrize("mode", BLENDS)
def test_ways_to_blend_are_those_of_the_reference(mode: str) -> None:
    mesh = make_ball(50.0, 8)
    n = mesh.n_vertices
    rng = np.random.default_rng(3)
    tint = np.full((n, 4), 255, np.uint8)
    tint[:, :3] = rng.integers(0, 256, (n, 3))
    paint = rng.integers(0, 256, (n, 4)).astype(np.uint8)
    tint[0, :3], paint[0, :3], tint[1, :3], paint[1, :3] = 255, 255, 0, 0
    strength = 0.7
    stack = replace(Stack.of(mesh), tint=tint)
    layer = Layer("Paint", strength, paint=Paint.of(paint), blend=mode)
    hides = np.zeros((n, 4), np.uint8)
    hides[: n // 2, 3] = rng.integers(0, 256, n // 2)
    below = decoded(tint[:, :3])
    for mask in (Paint.none(), Paint.of(hides)):
        found = seen(replace(stack, layers=(replace(layer, mask=mask),)), None, tint)
        cover = paint[:, 3:] / 255 * strength * (1 - mask.dense(n)[:, 3:4] / 255)
        wanted = encoded(below + (reference(mode, tint[:, :3], paint[:, :3]) - below) * cover)
        assert np.abs(found[:, :3] - wanted).max() <= 1.0
        assert np.array_equal(found[:, 3], tint[:, 3])


# -- layers ------------------------------------------------------------------------------------------


@given(st.integers(1, 2000), st.integers(0, 5))
@settings(max_examples=40, deadline=None)
def test_paint_is_packed_without_loss(n: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    dense = rng.integers(0, 256, (n, 4)).astype(np.uint8)
    dense[rng.random(n) < 0.9, 3] = 0
    dense[dense[:, 3] == 0] = 0
    paint = Paint.of(dense)
    assert np.array_equal(paint.dense(n)[:, :4], dense)
    assert not paint.has_material
    assert paint.fits(n)
    assert not Paint(paint.patches + 1 + n // PATCH, paint.values).fits(n) or not paint
    assert bool(paint) == bool(dense.any())


def painted_ball(count: int = 4, seed: int = 1) -> tuple[Mesh, Stack]:
    """A ball with layers of all sorts of paint, the last in hand."""
    mesh = make_ball(50.0, 20)
    n = mesh.n_vertices
    rng = np.random.default_rng(seed)
    mesh.colour = rng.integers(0, 256, (n, 4)).astype(np.uint8)
    stack = begun(Stack.of(mesh), mesh)
    layers = []
    for k in range(count):
        dense = rng.integers(0, 256, (n, 4)).astype(np.uint8)
        dense[mesh.positions[:, k % 3] < 0] = 0
        blend = list(BLENDS)[(3 * k) % len(BLENDS)]
        layers.append(Layer(f"Paint {k}", 0.4 + 0.2 * k, paint=Paint.of(dense), blend=blend))
    stack = replace(stack, layers=tuple(layers), hand=layers[-1].id)
    mesh.paint = paint_of(stack, stack.hand)
    mesh.colour = seen(stack, None, mesh.colour)
    return mesh, stack


def test_a_painted_vertex_takes_few_bytes() -> None:
    mesh, stack = painted_ball()
    for layer in stack.layers:
        painted = np.count_nonzero(layer.paint.dense(mesh.n_vertices)[:, 3])
        assert layer.paint.nbytes < 9 * painted


def test_dialling_there_and_back_gives_the_same_bits() -> None:
    mesh, stack = painted_ball()
    assert mesh.colour is not None
    for layer in stack.layers:
        other = stack.with_layer(replace(layer, strength=0.123, shown=True))
        changed = seen(other, mesh.paint, mesh.colour)
        assert not np.array_equal(changed, mesh.colour)
        assert np.array_equal(seen(stack, mesh.paint, changed), mesh.colour)
    # What is in hand counts as much packed as open.
    assert np.array_equal(seen(packed_in(stack, mesh), None, mesh.colour), mesh.colour)
    bare = replace(stack, layers=tuple(replace(layer, shown=False) for layer in stack.layers))
    base = seen(bare, mesh.paint, mesh.colour)
    assert stack.tint is not None
    assert np.array_equal(base[:, :3], stack.tint[:, :3])
    assert np.array_equal(base[:, 3], mesh.colour[:, 3])


def test_paint_stays_on_levels_and_lower_ones_show_it() -> None:
    mesh, stack = painted_ball()
    half = np.zeros((mesh.n_vertices, 4), np.uint8)
    half[mesh.positions[:, 1] > 0, 3] = 255
    stack = stack.with_layer(replace(stack.layers[0], mask=Paint.of(half)))
    mesh.colour = seen(stack, mesh.paint, mesh.value("colour"))
    stack, fine = stack.added(mesh, Progress())
    assert fine.colour is not None
    hidden = stack.layers[0].mask.dense(fine.n_vertices)[:, 3]
    assert hidden[fine.positions[:, 1] > 8].min() == 255
    assert hidden[fine.positions[:, 1] < -8].max() == 0
    assert np.array_equal(seen(stack, fine.paint, fine.colour), fine.colour)
    step = stack.levels[1].step
    assert step is not None
    kept, colour = fine.paint.copy() if fine.paint is not None else None, fine.colour.copy()
    stack, low = stack.stepped(fine, 0)
    assert np.array_equal(low.colour, colour[step.of_vertex])
    # A mask drawn below leaves the finer colours as they are.
    low.mask = np.linspace(0, 1, low.n_vertices).astype(np.float32)
    stack, again = stack.stepped(low, 1)
    assert np.array_equal(again.colour, colour)
    assert np.array_equal(again.paint, kept)
    assert again.mask is not None
    stack, low = stack.stepped(again, 0)
    alone = stack.without_above()
    held = open_paint(alone, low)
    assert np.array_equal(seen(alone, held, low.value("colour")), low.colour)


def test_layers_become_one_that_shows_the_same() -> None:
    mesh, stack = painted_ball(3)
    packed = packed_in(stack, mesh)
    some = np.zeros((mesh.n_vertices, 4), np.uint8)
    some[:, 3] = np.linspace(0, 255, mesh.n_vertices)
    packed = packed.with_layer(replace(packed.layers[1], mask=Paint.of(some)))
    mesh.colour = seen(packed, None, mesh.value("colour"))
    before = seen(packed, None, mesh.colour).astype(int)
    ids = [layer.id for layer in packed.layers]
    for some in (ids[:2], ids[1:]):
        found = seen(replace(packed.merged(some, "Both"), hand=""), None, mesh.colour)
        assert np.abs(found.astype(int) - before).max() <= 2
    lowest = seen(replace(packed.baked(ids[0]), hand=""), None, mesh.colour)
    assert np.abs(lowest.astype(int) - before).max() <= 1
    gone = packed.without(ids[1])
    assert len(gone.layers) == 2


def test_colours_are_turned_lightened_and_enriched_all_at_once() -> None:
    rng = np.random.default_rng(8)
    paint = rng.integers(60, 200, (500, 4)).astype(np.uint8)
    paint[:50, 3] = 0
    assert np.array_equal(shifted(paint, Shift()), paint)
    was = lightness_colour_hue(paint[50:, :3])
    turned = shifted(paint, Shift(hue=120.0))
    now = lightness_colour_hue(turned[50:, :3])
    rich = was[:, 1] > 0.03
    kept = rich & (now[:, 1] > 0.9 * was[:, 1])
    off = (now[kept, 2] - was[kept, 2] - 120 + 180) % 360 - 180
    assert np.median(np.abs(off)) < 2
    assert np.abs(now[:, 0] - was[:, 0]).max() < 0.02
    assert np.array_equal(turned[:, 3], paint[:, 3])
    assert np.array_equal(turned[:50], paint[:50])
    grey = shifted(paint, Shift(rich=-1.0))[50:, :3].astype(int)
    assert np.ptp(grey, axis=1).max() <= 1
    assert shifted(paint, Shift(light=1.0))[50:, :3].min() >= 253
    assert (shifted(paint, Shift(light=-1.0))[50:, :3] == 0).all()
    assert (
        lightness_colour_hue(shifted(paint, Shift(rich=0.5))[50:, :3])[:, 1].mean() > 1.2 * was[:, 1].mean()
    )
    assert not Shift(hue=200.0).usable


# -- strokes -----------------------------------------------------------------------------------------


def stroke(
    mesh: Mesh, key: str, dabs: int = 6, stack: Stack | None = None, sign: float = 1.0, **held: Any
) -> PaintStroke:
    """A stroke across the front, running."""
    tool = TOOLS[key]
    mirrored = held.pop("mirrored", (False,) * 3)
    strength, ink = held.pop("strength", 0.6), held.pop("ink", INK)
    made = PaintStroke(mesh, tool, replace(tool.defaults, **held), ink, stack, mirrored)
    for k in range(dabs):
        at = AT + 2.0 * k * np.array([1.0, 0, 0])
        made.dab(Dab(at, np.array([2.0, 0, 0]), VIEW, 15.0, sign * strength, 0.12, 2.0 * k))
    return made


PAINTERS = [key for key, tool in TOOLS.items() if tool.changes == "paint"]


def coloured(seed: int = 4) -> Mesh:
    mesh = make_ball(50.0, 24)
    rng = np.random.default_rng(seed)
    mesh.colour = rng.integers(40, 216, (mesh.n_vertices, 4)).astype(np.uint8)
    return mesh


@pytest.mark.parametrize("key", PAINTERS)
@pytest.mark.parametrize("layered", [False, True])
def test_a_stroke_changes_what_it_reaches_and_is_taken_back_to_the_bit(key: str, layered: bool) -> None:
    mesh, stack = painted_ball() if layered else (coloured(), None)
    colour, paint = mesh.value("colour").copy(), mesh.value("paint").copy()
    made = stroke(mesh, key, stack=stack)
    changes = made.changes()
    assert [change.what for change in changes if hasattr(change, "what")] == (
        ["paint", "colour"] if layered else ["colour"]
    )
    moved = np.flatnonzero((mesh.value("colour") != colour).any(axis=1))
    assert len(moved) > 20
    off = np.linalg.norm(
        mesh.positions[moved][:, None] - (AT + np.arange(6)[:, None] * [2.0, 0, 0])[None], axis=2
    )
    assert off.min(axis=1).max() <= 15.0
    assert np.array_equal(mesh.value("colour")[:, 3], colour[:, 3])
    after = mesh.value("colour").copy()
    if stack is not None:
        assert np.array_equal(seen(stack, open_paint(stack, mesh), after), after)
    backs = [change.swap(mesh) for change in changes]
    assert np.array_equal(mesh.value("colour"), colour)
    assert np.array_equal(mesh.value("paint"), paint)
    for back in backs:
        back.swap(mesh)
    assert np.array_equal(mesh.value("colour"), after)
    made.cancel()


@pytest.mark.parametrize("key", PAINTERS)
def test_mirrored_twins_paint_mirror_images(key: str) -> None:
    mesh = coloured()
    twin = np.argsort(np.lexsort(np.round(mesh.positions * [-1, 1, 1], 3).T))
    order = np.lexsort(np.round(mesh.positions, 3).T)
    across = order[twin]
    np.testing.assert_allclose(mesh.positions[across], mesh.positions * [-1, 1, 1], atol=2e-3)
    assert mesh.colour is not None
    mesh.colour = mesh.colour[np.minimum(np.arange(mesh.n_vertices), across)]
    stroke(mesh, key, mirrored=(True, False, False)).finish()
    off = mesh.colour[across].astype(int) - mesh.colour.astype(int)
    # Where both sides overlap at the seam, one comes after the other.
    assert np.abs(off[np.abs(mesh.positions[:, 0]) > 30]).max(initial=0) <= 1


def test_paint_covers_by_its_strength_and_a_wash_no_more_however_often() -> None:
    for variant, dabs in (("wash", 1), ("wash", 20)):
        mesh = make_ball(50.0, 24)
        tool = TOOLS["paint"]
        made = PaintStroke(mesh, tool, replace(tool.defaults, variant=variant, falloff=((0, 1), (1, 1))), INK)
        for _ in range(dabs):
            made.dab(Dab(AT, np.zeros(3), VIEW, 15.0, 0.5, 0.12))
        middle = mesh.value("colour")[np.argmax(mesh.positions[:, 2])]
        wanted = np.rint(encoded(0.5 * decoded(CLAY) + 0.5 * decoded(INK.colour)))
        assert np.abs(middle[:3] - wanted).max() <= 1
    # A pass of dabs covers about what the strength says, whatever their spacing.
    covers = []
    for spacing in (0.06, 0.12, 0.24):
        mesh = make_ball(50.0, 40)
        tool = TOOLS["paint"]
        made = PaintStroke(mesh, tool, tool.defaults, Ink((0, 0, 0)))
        for k in range(int(60 / (15 * spacing))):
            x = -30 + 15 * spacing * k
            made.dab(
                Dab(
                    np.array([x, 0.0, np.sqrt(2500 - x * x)]),
                    np.array([1.0, 0, 0]),
                    VIEW,
                    15.0,
                    0.6,
                    spacing,
                    k,
                )
            )
        light = decoded(mesh.value("colour")[np.argmax(mesh.positions[:, 2]), 0])
        covers.append(1 - float(light) / decoded(CLAY[0]))
    assert np.ptp(covers) < 0.06
    assert 0.45 < np.mean(covers) < 0.75


def test_the_faintest_dabs_add_up() -> None:
    """No rounding on the way: a thousand dabs of a two-hundredth lead to the colour."""
    mesh = make_ball(50.0, 16)
    tool = TOOLS["paint"]
    made = PaintStroke(mesh, tool, tool.defaults, INK)
    for _ in range(1500):
        made.dab(Dab(AT, np.zeros(3), VIEW, 15.0, 0.005, 0.12))
    middle = mesh.value("colour")[np.argmax(mesh.positions[:, 2]), :3].astype(int)
    share = 1 - (1 - 0.005) ** (1500 * 0.12 / 0.8)
    wanted = np.rint(encoded((1 - share) * decoded(CLAY) + share * decoded(INK.colour)))
    assert np.abs(middle - wanted).max() <= 3


def test_blending_a_thousand_times_keeps_the_mean_colour() -> None:
    mesh = coloured()
    near = np.linalg.norm(mesh.positions - AT, axis=1) < 14
    assert mesh.colour is not None
    # Even outside, so that nothing comes in from there.
    mean = decoded(mesh.colour[near, :3]).mean(axis=0)
    mesh.colour[~near, :3] = np.rint(encoded(mean))
    for _ in range(250):
        made = PaintStroke(mesh, TOOLS["blend"], TOOLS["blend"].defaults, INK)
        for _ in range(4):
            made.dab(Dab(AT, np.zeros(3), VIEW, 15.0, 0.8, 0.12))
        made.finish()
    found = encoded(decoded(mesh.colour[near, :3]).mean(axis=0))
    assert np.abs(found - encoded(mean)).max() <= 1.1
    assert np.ptp(mesh.colour[near, :3].astype(int), axis=0).max() < 25


def test_tones_hues_and_colourfulness_go_their_ways() -> None:
    start = np.array([150, 110, 90, 255], np.uint8)
    middle = int(np.argmax(make_ball(50.0, 24).positions[:, 2]))
    found = {}
    for key, sign in (
        ("lighten", 1),
        ("darken", 1),
        ("lighten", -1),
        ("hue", 1),
        ("hue", -1),
        ("vivid", 1),
        ("vivid", -1),
    ):
        mesh = make_ball(50.0, 24)
        mesh.colour = np.tile(start, (mesh.n_vertices, 1))
        stroke(mesh, key, sign=sign).finish()
        found[key, sign] = lightness_colour_hue(mesh.colour[middle, :3])
    was = lightness_colour_hue(start[:3])
    assert found["lighten", 1][0] > was[0] + 0.03
    assert found["darken", 1][0] < was[0] - 0.03
    assert found["lighten", -1][0] < was[0] - 0.03
    assert found["lighten", 1][2] == pytest.approx(was[2], abs=4)
    turns = [(found["hue", sign][2] - was[2] + 180) % 360 - 180 for sign in (1, -1)]
    assert turns[0] > 5
    assert turns[1] < -5
    assert found["hue", 1][0] == pytest.approx(was[0], abs=0.01)
    assert found["vivid", 1][1] > 1.15 * was[1]
    assert found["vivid", -1][1] < 0.9 * was[1]


def test_smudge_takes_colour_along() -> None:
    mesh = make_ball(50.0, 40)
    red = mesh.positions[:, 0] < 0
    mesh.colour = np.where(red[:, None], [200, 20, 20, 255], [240, 240, 240, 255]).astype(np.uint8)
    tool = TOOLS["smudge"]
    made = PaintStroke(mesh, tool, tool.defaults, INK)
    for x in np.arange(-14.0, 14.0, 1.2):
        made.dab(
            Dab(
                np.array([x, 0.0, np.sqrt(2500 - x * x)]), np.array([1.0, 0, 0]), VIEW, 8.0, 0.7, 0.12, x + 14
            )
        )
    made.finish()
    there = (
        (mesh.positions[:, 0] > 3)
        & (mesh.positions[:, 0] < 8)
        & (np.abs(mesh.positions[:, 1]) < 2)
        & (mesh.positions[:, 2] > 0)
    )
    aside = (mesh.positions[:, 0] > 3) & (np.abs(mesh.positions[:, 1]) > 12)
    assert mesh.colour[there, 1].mean() < 215
    assert mesh.colour[aside, 1].min() == 240


def test_masks_hidden_faces_and_the_far_side_are_left_alone() -> None:
    mesh = make_ball(50.0, 24)
    mesh.mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    stroke(mesh, "paint", dabs=12, strength=1.0).finish()
    painted = (mesh.value("colour")[:, :3] != CLAY).any(axis=1)
    assert painted.any()
    assert mesh.positions[painted, 1].max() <= 0
    whole = make_ball(50.0, 24)
    tool = TOOLS["paint"]
    made = PaintStroke(whole, tool, replace(tool.defaults, through=False), INK)
    made.dab(Dab(AT, np.zeros(3), VIEW, 140.0, 1.0, 0.12))
    assert whole.positions[(whole.value("colour")[:, :3] != CLAY).any(axis=1), 2].min() > -3


def test_erasing_takes_the_layer_off_and_nothing_below() -> None:
    mesh, stack = painted_ball()
    for _ in range(12):
        stroke(mesh, "erase", stack=stack, strength=1.0, falloff=((0, 1), (1, 1))).finish()
    middle = np.argmax(mesh.positions[:, 2])
    held = open_paint(stack, mesh)
    assert held is not None
    assert held[middle, 3] == 0
    row = np.array([middle], np.int32)
    under = light_under(stack, held, row, stack.hand)
    assert np.abs(encoded(under[0]) - mesh.value("colour")[middle, :3]).max() <= 1
    # Paint reversed is the same tool.
    other, stack = painted_ball()
    stroke(other, "paint", stack=stack, strength=1.0, sign=-1.0).finish()
    assert other.value("paint")[middle, 3] < 255


def test_a_dab_that_is_still_being_placed_is_put_back() -> None:
    mesh = coloured()
    before = mesh.value("colour").copy()
    made = stroke(mesh, "paint")
    made.take_back()
    assert np.array_equal(mesh.value("colour"), before)
    made.dab(Dab(AT, np.zeros(3), VIEW, 15.0, 0.5, 0.12))
    alone = coloured()
    stroke(alone, "paint", dabs=1, strength=0.5).finish()
    assert np.array_equal(mesh.value("colour"), alone.value("colour"))
