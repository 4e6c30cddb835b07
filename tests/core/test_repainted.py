"""Paint on layers, kept by clay that is made anew."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.decimate import Wanted, decimated
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import begun, open_paint, paint_of, seen_values
from kneten.core.paint.packed import WIDE, Paint
from kneten.core.remesh import remesh, soup_of
from kneten.core.repainted import repainted
from kneten.core.stack import Layer, Stack
from tests.conftest import make_ball

GO = Progress()


def painted(levels: int = 0) -> tuple[Mesh, Stack]:
    """A grey ball, blue laid on its left, wet on its top, the blue hidden below; and a layer of form alone."""
    mesh = make_ball(50.0, 20)
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, GO)
    n = mesh.n_vertices
    mesh.colour = np.tile(np.array([120, 110, 100, 255], np.uint8), (n, 1))
    stack = begun(stack, mesh)
    x, y = mesh.positions[:, 0], mesh.positions[:, 1]
    blue = np.zeros((n, 4), np.uint8)
    blue[x > 0] = (20, 40, 220, 255)
    wet = np.zeros((n, WIDE), np.uint8)
    wet[y > 0, 4:] = (60, 0, 40, 255, 200)
    hides = np.zeros((n, 4), np.uint8)
    hides[y < -20, 3] = 255
    form = Layer("Form")
    stack = replace(
        stack,
        layers=(
            Layer("Blue", 0.8, paint=Paint.of(blue), blend="multiply", mask=Paint.of(hides)),
            form,
            Layer("Wet", paint=Paint.of(wet), leaves=("metalness",)),
        ),
    )
    for name, value in seen_values(stack, None, mesh.value("colour")).items():
        setattr(mesh, name, value)
    mesh.paint = paint_of(stack, stack.hand)
    return mesh, stack


def made_of(mesh: Mesh, way: str) -> Mesh:
    if way == "remesh":
        return remesh(soup_of([mesh]), 3.0, GO)
    return decimated(mesh, Wanted(triangles=2000), GO).mesh


@pytest.mark.parametrize("way", ["remesh", "decimate"])
def test_layers_of_paint_are_kept_as_layers(way: str) -> None:
    mesh, stack = painted()
    made = made_of(mesh, way)
    new = repainted(stack, mesh, made, GO)
    assert new is not None
    assert new.fits(made)
    assert [layer.name for layer in new.layers] == ["Blue", "Wet"]
    blue, wet = new.layers
    assert (blue.strength, blue.blend, wet.leaves) == (0.8, "multiply", ("metalness",))
    n, x, y = made.n_vertices, made.positions[:, 0], made.positions[:, 1]
    assert blue.paint.dense(n)[x > 6, 3].min() == 255
    assert blue.paint.dense(n)[x < -6, 3].max() == 0
    assert blue.mask.dense(n)[y < -26, 3].min() == 255
    assert wet.paint.dense(n)[y > 6, 8].min() >= 199
    # What is seen is base and layers, and looks as before.
    given = seen_values(new, open_paint(new, made), made.value("colour"))
    assert np.array_equal(given["colour"], made.colour)
    assert np.array_equal(given["material"], made.material)
    for there, here in ((mesh.positions[:, 0] > 8, x > 8), (mesh.positions[:, 0] < -8, x < -8)):
        old = np.median(mesh.value("colour")[there], axis=0)
        assert np.abs(old - np.median(made.value("colour")[here], axis=0)).max() <= 1
    # A layer can still be dialled away.
    off = replace(new, layers=tuple(replace(layer, shown=False) for layer in new.layers))
    bare = seen_values(off, open_paint(off, made), made.value("colour"))["colour"]
    assert np.abs(bare[:, :3].astype(int) - (120, 110, 100)).max() <= 1


def test_a_lower_level_gets_the_paint_of_the_highest() -> None:
    mesh, stack = painted(levels=1)
    stack, low = stack.stepped(mesh, 0)
    made = made_of(low, "remesh")
    new = repainted(stack, low, made, GO)
    assert new is not None
    assert new.fits(made)
    blue = new.layers[0].paint.dense(made.n_vertices)
    assert blue[made.positions[:, 0] > 6, 3].min() == 255


def test_without_paint_on_layers_there_is_nothing_to_keep() -> None:
    mesh, stack = painted()
    made = made_of(mesh, "remesh")
    assert repainted(None, mesh, made, GO) is None
    assert repainted(replace(stack, tint=None, layers=()), mesh, made, GO) is None
    assert repainted(replace(stack, layers=()), mesh, made, GO) is None
