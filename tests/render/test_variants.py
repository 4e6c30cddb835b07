"""Variants side by side: in order, named, of one view."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render.still import render_still
from kneten.render.style import Style
from kneten.render.variants import drawn_variants, sheet_of
from tests.conftest import make_ball

FLAT = Style(look=Look(kind="flat"))
HUES = ((200, 60, 40), (60, 160, 80), (50, 80, 200), (220, 200, 60), (160, 60, 180))


def scene(colour: tuple[int, int, int]) -> Scene:
    mesh = make_ball(40.0, 16)
    mesh.need("colour")[:, :3] = colour
    return Scene((Part("Ball", mesh),))


def test_variants_are_drawn_in_order_and_put_in_rows() -> None:
    camera = Camera(distance=300.0)
    told: list[str] = []

    class Told(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            told.append(text)

    names = [f"Variant {k}" for k in range(len(HUES) - 1)] + [
        "One with a name that is far too long to stand there"
    ]
    drawn = drawn_variants(
        zip(names, map(scene, HUES), strict=True), len(HUES), camera, FLAT, (120, 100), Told()
    )
    assert told == names
    assert [name for name, _ in drawn] == names
    for (_, image), hue in zip(drawn, HUES, strict=True):
        assert np.abs(np.asarray(image)[50, 60].astype(int) - hue).max() <= 1
    alone = render_still(scene(HUES[2]), camera, 120, 100, FLAT)
    assert np.array_equal(np.asarray(drawn[2][1]), np.asarray(alone))
    sheet = np.asarray(sheet_of(drawn, FLAT)).astype(int)
    label = 12
    assert sheet.shape == (2 * (100 + label), 4 * 120, 3)
    for place, hue in enumerate(HUES):
        row, column = divmod(place, 4)
        assert np.abs(sheet[row * (100 + label) + 50, column * 120 + 60] - hue).max() <= 1
        # Its name stands below it.
        words = sheet[
            row * (100 + label) + 100 : (row + 1) * (100 + label), column * 120 : (column + 1) * 120
        ]
        assert np.ptp(words) > 40
    assert np.ptp(sheet[112:, 200:]) < 30
