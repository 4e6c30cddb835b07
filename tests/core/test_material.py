"""What clay is made of: painted in its channels, laid over each other by layers, kept by all that makes clay."""

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
from kneten.core.carry import CarryWish, carried_over, source_of
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import CHANNELS, OF_MATERIAL, Ink
from kneten.core.paint.layers import begun, finer, open_paint, packed_in, paint_of, seen_values
from kneten.core.paint.materials import FAMILIES, PRESETS, Preset
from kneten.core.paint.packed import Paint, by_cover, from_cover, with_material
from kneten.core.paint.stroke import PaintStroke
from kneten.core.stack import Layer, Stack
from kneten.core.subdivide import Step
from kneten.core.values import PLAIN
from tests.conftest import make_ball

AT, VIEW = np.array([0.0, 0.0, 50.0]), np.array([0.0, 0.0, -1.0])
ALL = Ink((200, 60, 40), material=(30, 200, 100, 250), channels=tuple(CHANNELS), opacity=90)


def stroke(
    mesh: Mesh, key: str = "paint", stack: Stack | None = None, ink: Ink = ALL, **held: Any
) -> PaintStroke:
    """A stroke of six dabs across the front, running."""
    tool = TOOLS[key]
    sign = held.pop("sign", 1.0)
    made = PaintStroke(mesh, tool, replace(tool.defaults, **held), ink, stack)
    for k in range(6):
        made.dab(
            Dab(AT + np.array([2.0 * k, 0, 0]), np.array([2.0, 0, 0]), VIEW, 15.0, sign * 0.7, 0.12, 2.0 * k)
        )
    return made


def of_many(seed: int = 1, count: int = 3) -> tuple[Mesh, Stack]:
    """A ball with a material, and layers that have more of it, the last in hand."""
    mesh = make_ball(50.0, 20)
    n = mesh.n_vertices
    rng = np.random.default_rng(seed)
    mesh.colour = rng.integers(0, 256, (n, 4)).astype(np.uint8)
    mesh.material = rng.integers(0, 256, (n, 4)).astype(np.uint8)
    stack = begun(Stack.of(mesh), mesh)
    layers = []
    for k in range(count):
        dense = rng.integers(0, 256, (n, 9 if k % 2 == 0 else 4)).astype(np.uint8)
        dense[mesh.positions[:, k % 3] < 0] = 0
        layers.append(Layer(f"Paint {k}", 0.4 + 0.2 * k, paint=Paint.of(dense)))
    stack = replace(stack, layers=tuple(layers), hand=layers[-1].id)
    mesh.paint = paint_of(stack, stack.hand)
    shown = seen_values(stack, None, mesh.colour)
    mesh.colour, mesh.material = shown["colour"], shown["material"]
    return mesh, stack


def laid(stack: Stack, mesh: Mesh) -> np.ndarray:
    """The material that layers give, worked out plainly."""
    n = mesh.n_vertices
    out = np.tile(np.array(PLAIN, float), (n, 1)) if stack.material is None else stack.material.astype(float)
    for layer in packed_in(stack, mesh).layers:
        dense = layer.paint.dense(n).astype(float)
        cover = dense[:, 8:] / 255 * stack.strength(layer)
        out += (dense[:, 4:8] - out) * np.minimum(cover, 1)
    return np.clip(np.rint(out), 0, 255)


@given(st.sampled_from([1, 511, 512, 1300]), st.integers(0, 99), st.booleans())
@settings(max_examples=20, deadline=None)
def test_paint_with_material_is_packed_without_loss(n: int, seed: int, wide: bool) -> None:
    rng = np.random.default_rng(seed)
    dense = rng.integers(0, 256, (n, 9)).astype(np.uint8)
    dense[rng.random(n) < 0.7, 3] = 0
    dense[rng.random(n) < 0.7, 8] = 0
    if not wide:
        dense[:, 8] = 0
    dense[dense[:, 3] == 0, :3] = 0
    dense[dense[:, 8] == 0, 4:8] = 0
    paint = Paint.of(dense)
    assert np.array_equal(paint.dense(n), dense)
    assert paint.has_material == bool(dense[:, 8].any())
    assert paint.fits(n)
    # Nine bytes for each vertex that has both, four where there is no material.
    assert paint.nbytes <= (9 if paint.has_material else 4) * 512 * len(paint.patches) + paint.patches.nbytes
    back = from_cover(by_cover(dense)).astype(int)
    assert np.abs(back - dense).max() <= 1


@pytest.mark.parametrize("channel", list(CHANNELS))
@pytest.mark.parametrize("layered", [False, True])
def test_only_what_is_chosen_is_painted(channel: str, layered: bool) -> None:
    mesh, stack = of_many() if layered else (make_ball(50.0, 20), None)
    before = (mesh.value("colour").copy(), mesh.value("material").copy())
    bare = mesh.value("material")[0].tolist() == list(PLAIN)
    made = stroke(mesh, stack=stack, ink=replace(ALL, channels=(channel,)))
    changes = made.changes()
    after = (mesh.value("colour"), mesh.value("material"))
    if channel == "colour":
        assert not np.array_equal(after[0][:, :3], before[0][:, :3])
        assert np.array_equal(after[0][:, 3], before[0][:, 3])
        assert np.array_equal(after[1], before[1])
    elif channel == "opacity":
        assert np.array_equal(after[0][:, :3], before[0][:, :3])
        assert np.array_equal(after[1], before[1])
        middle = np.argmax(mesh.positions @ AT)
        assert abs(int(after[0][middle, 3]) - 90) < abs(int(before[0][middle, 3]) - 90)
    else:
        at = OF_MATERIAL.index(channel)
        assert np.array_equal(after[0], before[0])
        off = np.abs(after[1].astype(int) - before[1])
        assert off[:, at].max() > 40
        rest = np.delete(off, at, axis=1)
        # A layer covers with all four at once: what is seen of the others moves by rounding alone.
        assert rest.max() <= (0 if bare else 2)
        middle = after[1][np.argmax(mesh.positions @ AT), at]
        assert abs(int(middle) - ALL.material[at]) < abs(
            int(before[1][np.argmax(mesh.positions @ AT), at]) - ALL.material[at]
        )
    backs = [change.swap(mesh) for change in changes]
    assert np.array_equal(mesh.value("colour"), before[0])
    assert np.array_equal(mesh.value("material"), before[1])
    # Opacity is the clay's own: no layer's paint changes with it.
    assert len(backs) == (2 if layered and channel != "opacity" else 1)


@pytest.mark.parametrize("key", ["paint", "blend", "smudge", "erase"])
@pytest.mark.parametrize("layered", [False, True])
def test_what_is_seen_is_base_and_layers_after_every_tool(key: str, layered: bool) -> None:
    mesh, stack = of_many(4) if layered else (of_many(4)[0], None)
    mesh.paint = mesh.paint if layered else None
    colour, material = mesh.value("colour").copy(), mesh.value("material").copy()
    made = stroke(mesh, key, stack)
    assert not np.array_equal(mesh.value("material"), material)
    if stack is not None:
        shown = seen_values(stack, open_paint(stack, mesh), mesh.value("colour"))
        assert np.array_equal(shown["colour"], mesh.colour)
        assert np.array_equal(shown["material"], mesh.material)
        assert np.abs(laid(stack, mesh) - mesh.value("material")).max() <= 1
    made.take_back()
    assert np.array_equal(mesh.value("colour"), colour)
    assert np.array_equal(mesh.value("material"), material)
    made.dab(Dab(AT, np.array([2.0, 0, 0]), VIEW, 15.0, 0.7, 0.12, 2.0))
    made.cancel()
    assert np.array_equal(mesh.value("material"), material)


def test_clay_without_material_has_none_when_nothing_was_painted() -> None:
    mesh = make_ball(50.0, 20)
    made = stroke(mesh, ink=ALL)
    made.cancel()
    assert mesh.material is None
    assert mesh.colour is None
    nothing = PaintStroke(mesh, TOOLS["paint"], TOOLS["paint"].defaults, ALL)
    nothing.dab(Dab(np.array([500.0, 0, 0]), np.zeros(3), VIEW, 5.0, 0.7, 0.12))
    assert nothing.changes() == []
    assert mesh.material is None


def test_erasing_the_base_leads_back_to_bare_clay() -> None:
    mesh = make_ball(50.0, 20)
    stroke(mesh)
    for _ in range(8):
        stroke(mesh, "erase")
    middle = int(np.argmax(mesh.positions @ AT))
    assert np.abs(mesh.value("material")[middle].astype(int) - PLAIN).max() <= 3


def test_blending_keeps_the_mean_material() -> None:
    mesh = make_ball(50.0, 24)
    rng = np.random.default_rng(3)
    mesh.material = rng.integers(40, 216, (mesh.n_vertices, 4)).astype(np.uint8)
    near = np.linalg.norm(mesh.positions - AT, axis=1) < 22
    mean, spread = mesh.material[near].mean(axis=0), mesh.material[near].std(axis=0)
    ink = replace(ALL, channels=OF_MATERIAL)
    made = PaintStroke(mesh, TOOLS["blend"], TOOLS["blend"].defaults, ink)
    for _ in range(300):
        made.dab(Dab(AT, np.zeros(3), VIEW, 20.0, 0.8, 0.12))
    after = mesh.material[near]
    assert np.abs(after.mean(axis=0) - mean).max() <= 1.0
    assert (after.std(axis=0) < 0.6 * spread).all()


def test_dialling_a_layer_there_and_back_gives_the_same_bits() -> None:
    mesh, stack = of_many()
    assert mesh.colour is not None
    assert mesh.material is not None
    for layer in stack.layers:
        other = stack.with_layer(replace(layer, strength=0.123, shown=True))
        changed = seen_values(other, mesh.paint, mesh.colour)
        back = seen_values(stack, mesh.paint, mesh.colour)["material"]
        assert np.array_equal(back, mesh.material)
        if layer.paint.has_material:
            assert not np.array_equal(changed["material"], mesh.material)
    assert np.array_equal(seen_values(packed_in(stack, mesh), None, mesh.colour)["material"], mesh.material)


def test_layers_become_one_that_shows_the_same_material() -> None:
    mesh, stack = of_many()
    assert mesh.material is not None
    packed = packed_in(stack, mesh)
    one = packed.merged([layer.id for layer in packed.layers], "One")
    shown = seen_values(one, None, mesh.value("colour"))["material"]
    assert shown is not None
    assert np.abs(shown.astype(int) - mesh.material).max() <= 2


def test_a_level_more_has_the_material_between() -> None:
    mesh, stack = of_many()
    packed = packed_in(stack, mesh)
    step = Step.of(mesh.topology)
    fine = finer(packed, step, mesh.topology)
    assert fine.material is not None
    assert packed.material is not None
    assert np.array_equal(fine.material[step.of_vertex].shape, packed.material.shape)
    off = fine.material[step.of_vertex].astype(int) - packed.material
    # Vertices that stay are means of those around.
    assert abs(float(off.mean())) < 3
    assert all(
        a.paint.has_material == b.paint.has_material for a, b in zip(fine.layers, packed.layers, strict=True)
    )


def test_material_is_carried_over_with_the_colour_and_not_without() -> None:
    source, _ = of_many()
    source.paint = None
    target = make_ball(50.0, 26)
    for wanted in (True, False):
        wish = CarryWish(5.0, colour=wanted)
        made = carried_over(
            source_of(source, None, np.eye(4), Progress()), target, Stack.of(target), wish, Progress()
        )
        assert (made.mesh.material is not None) == wanted


def test_materials_of_our_own_are_enough_and_usable() -> None:
    assert len(PRESETS) >= 24
    assert len({preset.name for preset in PRESETS.values()}) == len(PRESETS)
    for preset in PRESETS.values():
        preset.check()
        assert preset.family in FAMILIES
        # Bare metal or none: nothing is half a metal.
        assert preset.material[1] in (0, 255)
    for bad in (
        Preset(" ", (0, 0, 0), PLAIN),
        Preset("A", (0, 0, 300), PLAIN),
        Preset("A", (0, 0, 0), (0, 0, 0, -1)),
    ):
        with pytest.raises(ValueError, match="usable"):
            bad.check()


def test_the_last_channel_stays_on() -> None:
    ink = Ink()
    assert ink.with_channel("colour", False) == ink
    both = ink.with_channel("wet", True)
    assert both.channels == ("colour", "wet")
    assert both.with_channel("colour", False).channels == ("wet",)
    assert both.inked() == (None, None, None, 0)
    assert Ink(channels=("wet",)).used().recent == ()
    for bad in (Ink(channels=()), Ink(channels=("taste",)), Ink(material=(0, 0, 0, 256))):
        with pytest.raises(ValueError, match="usable"):
            bad.check()


def test_paint_that_covers_all_is_the_base() -> None:
    mesh, stack = of_many()
    base = with_material(mesh.value("colour"), mesh.value("material"))
    assert (base[:, [3, 8]] == 255).all()
    hand = replace(packed_in(stack, mesh), hand="")
    opened = paint_of(hand, "")
    assert hand.material is not None
    assert np.array_equal(opened[:, 4:8], hand.material)
    mesh.paint = opened
    assert np.array_equal(
        seen_values(hand, opened, mesh.value("colour"))["material"],
        seen_values(hand, None, mesh.value("colour"))["material"],
    )
