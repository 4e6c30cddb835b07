"""Tarn, painted: hide with its zones, spots, scars and wet places, on layers; eyes, tin with rust, rope, a neckcloth.

Run `python -m kneten.demo.tarn_painted OUT.kneten` to make the project that ships with Kneten. It begins with *Tarn,
skin*; all of it is what the tools and commands do.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.paint.wash import Wash
from kneten.demo.files import demo_project
from kneten.demo.painter import OTHER, Painter, hexed, percents, toned
from kneten.demo.sculptor import FRONT, Line
from kneten.demo.tarn import EYE
from kneten.demo.tarn_belongings import eyes, neckcloth, rope, tin
from kneten.demo.tarn_forms import SIDE
from kneten.demo.tarn_skin import BACK, CAMERA, KEPT_LEVEL, piece, ship, step
from kneten.document.furs import exchange_fur, furs_on
from kneten.document.opening import stack_of
from kneten.document.painting import set_ink
from kneten.document.project import Project

ABOVE = (0.0, -1.0, -0.15)

SEAM: Line = [(0, -40, 145), (16, -43, 140), (34, -47, 126), (50, -53, 104)]
"""Where the lips meet."""


# -- skin ------------------------------------------------------------------------------------------


def base_coat(p: Painter) -> None:
    """One colour and one material over everything, on the base; broad zones of pale and dark on it."""
    p.hold("7b6353")
    set_ink(p.project, material=percents(56, 0, 34, 0), channels=("colour", "roughness", "subsurface"))
    p.fill()
    # Dark over the crown and down the back, as beasts are that swim.
    for line, radius, view in (
        ([(0, 100, 60), (0, 104, 20), (0, 96, -30)], 62, ABOVE),
        ([(0, 60, -110), (0, -10, -110), (0, -90, -130)], 78, BACK),
        ([(60, 84, 30), (86, 40, -20)], 40, ABOVE),
    ):
        p.zone("54443b", line, radius, 0.6, view)
    # Pale around the mouth and down the throat.
    for line, radius in (
        ([(14, -22, 140), (34, -30, 130), (44, -40, 116)], 24),
        ([(0, -62, 130), (22, -64, 124)], 22),
        ([(0, -88, 110), (30, -92, 104), (40, -112, 90)], 40),
    ):
        p.zone("b39a83", line, radius, 0.62)


def zones(p: Painter) -> None:
    """Red where blood is near, yellow over bone, blue-grey in the shadow of the beard and under the eyes."""
    ex, ey, _ = EYE
    with p.layer("Zones"):
        for line, radius, strength in (
            ([(24, 2, 140), (38, 0, 124)], 13, 0.42),
            ([(52, -12, 112), (66, -18, 100), (72, -32, 88)], 22, 0.36),
            ([(ex - 12, ey - 12, 118), (ex + 6, ey - 15, 110), (ex + 18, ey - 9, 100)], 9, 0.4),
            ([(0, 26, 140), (4, 14, 146)], 10, 0.2),
            ([(4, -70, 128), (18, -70, 124)], 10, 0.22),
        ):
            p.zone("98604a", line, radius, strength)
        for line, radius in (([(92, 74, 40), (98, 66, 40)], 15), ([(104, 80, 40), (108, 66, 40)], 8)):
            p.zone("a25a48", line, radius, 0.5)
        for line, radius in (
            ([(24, 48, 120), (48, 46, 110), (64, 38, 98)], 9),
            ([(66, 4, 100), (82, -2, 84)], 11),
            ([(6, 80, 108), (34, 78, 98)], 22),
            ([(0, 36, 134), (1, 26, 140)], 7),
        ):
            p.zone("a98a58", line, radius, 0.34)
        for line, radius in (
            ([(ex - 10, ey - 20, 116), (ex + 12, ey - 24, 108), (ex + 26, ey - 14, 92)], 11),
            ([(60, -54, 96), (46, -66, 110), (24, -74, 118)], 15),
            ([(84, -40, 60), (70, -66, 80)], 20),
        ):
            p.zone("646a70", line, radius, 0.36)
        p.zone("4a3a38", [(ex - 14, ey + 10, 118), (ex + 2, ey + 13, 114), (ex + 16, ey + 6, 104)], 6, 0.5)
        # Nothing is the same on both sides: he slept on one, and the other had the sun.
        with p.one_side():
            p.zone("9a4e3e", [(-60, -16, 104), (-74, -30, 86)], 17, 0.3)
            p.zone("8d7048", [(40, 84, 92), (64, 70, 70)], 18, 0.3)
            p.zone("6a4438", [(-30, 70, 110), (-12, 62, 116)], 12, 0.26)


def mottled(p: Painter) -> None:
    """Uneven patches, taken off again where the skin is thin, and darkness that the form lays into its folds."""
    dark = p.wash("Mottle", Wash("clouds", 0.56, 1.0, 0.26, hexed("57453a"), 0.42, 30.0, 4), live=False)
    with p.on(dark):
        for line, radius in (
            ([(10, -24, 140), (40, -34, 124)], 26),
            ([(0, 0, 150), (20, 2, 144)], 18),
            ([(40, 16, 110), (60, 4, 104)], 14),
            ([(0, -64, 130), (20, -66, 124)], 20),
        ):
            p.stroke("erase", line, radius, 0.6, taper=False, falloff="soft", variant="wash")
        with p.one_side():
            p.stroke("erase", [(-20, 84, 110), (-50, 70, 100)], 24, 0.5, falloff="soft", variant="wash")
            p.stroke("erase", [(84, -20, 60), (90, -50, 50)], 26, 0.6, falloff="soft", variant="wash")
    p.wash("Hollows", Wash("hollows", 0.42, 1.0, 0.4, hexed("54362c"), 0.58), "multiply")
    p.wash("Peaks", Wash("peaks", 0.5, 1.0, 0.4, hexed("bfa488"), 0.28))
    p.wash("Shut in", Wash("covered", 0.42, 1.0, 0.3, hexed("51423f"), 0.55), "multiply")


def spotted(p: Painter) -> None:
    """Freckles in crowds, age spots few and large, none on the pads; more of them on the side that had the sun."""
    with p.layer("Spots"), p.one_side():
        p.spots(
            ("3f2c25", "54382c", "62412f"),
            (
                ((30, 78, 100), 13, 34), ((58, 58, 90), 9, 22), ((-34, 82, 98), 12, 18), ((4, 88, 100), 12, 16),
                ((64, -6, 102), 8, 26), ((78, -22, 84), 8, 18), ((-66, -8, 100), 9, 15),
                ((8, 22, 140), 7, 20), ((-12, 34, 134), 6, 9), ((70, 22, 84), 8, 14),
            ),
            (0.7, 3.4), 0.62,
        )  # fmt: skip
        p.spots(
            ("5d3d2d", "6d4a36"),
            (((44, 86, 90), 9, 5), ((-52, 74, 88), 8, 3), ((84, 6, 76), 6, 3)),
            (3, 8),
            0.42,
        )
        p.spots(("c9b093",), (((-30, 92, 96), 10, 8), ((50, 72, 90), 12, 7)), (1.0, 3.0), 0.4)
        p.spots(("43302a",), (((28, -66, 122), 3, 1), ((-58, -34, 104), 3, 1)), (2.2, 2.6), 0.85)
    with p.layer("Veins", strength=0.8), p.one_side():
        for _ in range(13):
            side = float(p.rng.choice([-1.0, 1.0]))
            x, y = p.rng.uniform(24, 62), p.rng.uniform(-24, 2)
            way = p.rng.normal(0, 1, 2)
            way /= np.linalg.norm(way)
            line: Line = [
                (
                    side * x + 4.0 * k * way[0] + p.rng.normal(0, 1.2),
                    y + 4.0 * k * way[1] + p.rng.normal(0, 1.2),
                    130,
                )
                for k in range(4)
            ]
            p.thread("8c3430", line, p.rng.uniform(0.7, 1.1), 0.5)
        temple: Line = [(88, 24, 60), (84, 38, 62), (88, 50, 54), (80, 64, 52)]
        p.thread("56606c", temple, 2.0, 0.42, (-0.75, 0, -0.65))
        p.thread("56606c", piece(temple, 0.45, 0.95), 1.3, 0.3, (-0.65, 0.1, -0.75))


def moist(p: Painter) -> None:
    """Nose, lips, lids: darker, and wet; sweat and lake on the brow, as what the clay is made of alone."""
    ex, ey, _ = EYE
    with p.layer("Nose and lips"):
        for line, radius in (
            ([(0, 6, 150), (10, 8, 150), (20, 7, 142)], 11),
            ([(0, -4, 150), (10, -5, 148)], 8),
            ([(24, 2, 140), (30, -2, 134)], 8),
        ):
            p.zone("38292a", line, radius, 0.62, times=4, stray=0.16)
        p.zone("2a1c1d", [(16, -3, 146), (20, -2, 144)], 5, 0.75, stray=0.1)
        for off, tone, wide in (
            (-2.6, "6c4842", 4.6),
            (2.2, "583e39", 4.2),
            (-5.5, "7e5a4e", 4.0),
            (0.0, "35201f", 1.9),
        ):
            p.zone(tone, [(x, y + off, z) for x, y, z in SEAM], wide, 0.6, stray=0.12)
        p.zone("93685a", [(6, -49, 140), (22, -52, 134)], 4, 0.3)
        lower: Line = [
            (ex - 15, ey - 7, 118),
            (ex - 4, ey - 10, 116),
            (ex + 9, ey - 9, 110),
            (ex + 17, ey - 3, 102),
        ]
        p.zone("6c423a", lower, 2.2, 0.6, stray=0.1)
        p.zone("7c4a42", [(ex - 18, ey - 4, 120), (ex - 16, ey - 2, 120)], 3.0, 0.7, stray=0.1)
        p.zone(
            "3a2626",
            [(ex - 15, ey + 4, 118), (ex - 2, ey + 8, 116), (ex + 14, ey + 3, 106)],
            2.2,
            0.6,
            stray=0.1,
        )
    with p.layer("Wet"):
        p.hold_material(roughness=26, wet=85)
        glossy: list[tuple[Line, float, float]] = [
            ([(0, 6, 150), (12, 7, 148), (22, 4, 140)], 13, 0.9),
            (SEAM, 4.5, 0.6),
            ([(4, -51, 140), (26, -54, 132)], 4, 0.35),
            ([(ex - 17, ey - 5, 118), (ex - 4, ey - 10, 116), (ex + 17, ey - 4, 102)], 3.2, 0.9),
        ]
        for shape, across, force in glossy:
            p.stroke("paint", shape, across, force, variant="wash", taper=False)
        p.hold_material(roughness=34, wet=34)
        for line, radius, strength in (
            ([(10, 74, 108), (40, 70, 98)], 20, 0.5),
            ([(58, -2, 106), (74, -12, 92)], 15, 0.5),
            ([(30, 46, 118), (58, 42, 102)], 9, 0.5),
        ):
            p.stroke("paint", line, radius, strength, falloff="soft", variant="wash")
        with p.one_side():
            # What ran down from his hair.
            for line in (
                [(22, 92, 96), (24, 78, 106), (21, 64, 114), (25, 54, 118)],
                [(-44, 88, 84), (-47, 72, 98), (-51, 62, 104)],
                [(74, 10, 90), (72, -8, 96), (75, -26, 88), (72, -44, 78)],
            ):
                p.stroke("paint", line, 2.0, 0.95, variant="wash")


def scarred(p: Painter) -> None:
    """The lake at his shoulders; the cut through the brow, pale and shiny, its edge red."""
    with p.layer("Lake", strength=0.9), p.one_side():
        # Green where the waterline stood, and mud on the shoulder that carries.
        for line, radius, view in (
            ([(-60, -150, 90), (0, -156, 110), (70, -150, 80)], 26, FRONT),
            ([(110, -120, 40), (120, -140, -20)], 30, SIDE),
            ([(-110, -120, 40), (-120, -150, -30)], 24, OTHER),
        ):
            p.zone("4e5138", line, radius, 0.4, view)
    cut: Line = [(-57, 66, 112), (-50, 52, 112), (-46, 40, 110), (-47, 33, 104)]
    with p.layer("Scar, colour"), p.one_side():
        p.zone("80503f", cut, 4.6, 0.4, stray=0.1)
        p.hold("scar", "colour", "roughness")
        p.stroke("paint", cut, 2.0, 0.6, variant="wash")
        for at in (0.2, 0.38, 0.56, 0.74):
            (x, y, z) = piece(cut, at, at + 0.1)[0]
            p.stroke(
                "paint", [(x - 3.4, y - 0.6, z + 10), (x + 3.2, y + 0.9, z + 10)], 1.1, 0.7, variant="wash"
            )


def soften(p: Painter) -> None:
    """Blend what still looks brushed."""
    layer = next(one.id for one in stack_of(p.part).layers if one.name == "Zones")
    with p.on(layer):
        for line, radius in (
            ([(50, -10, 112), (70, -30, 90)], 26),
            ([(10, 80, 106), (44, 76, 94)], 26),
            ([(56, -52, 100), (30, -70, 116)], 18),
        ):
            p.stroke("blend", line, radius, 0.7, falloff="soft")


def furs(p: Painter) -> None:
    """Roots dark, tips as the light bleached them; paler on the chest."""
    tones = {
        "Hump": ("2b211c", "6d5747"), "Cheeks": ("4a3a30", "8f7a64"), "Ears": ("3a2c26", "7d6654"),
        "Chest": ("3c2f27", "8f7a62"), "Brows": ("332822", "7a6755"),
    }  # fmt: skip
    bust = p.choose("Tarn")
    for fur in furs_on(p.project.scene, bust.id):
        root, tip = (toned(tone) for tone in tones[fur.name])
        exchange_fur(
            p.project,
            replace(fur, numbers=replace(fur.numbers, root=root, tip=tip)),
            f"Colours of {fur.name}",
        )


# -- the whole -------------------------------------------------------------------------------------


def paint_skin(p: Painter) -> None:
    """All that is painted on the bust."""
    for work in (base_coat, zones, soften, mottled, spotted, moist, scarred):
        work(p)


def make(progress: Progress | None = None) -> Project:
    """The whole project; on its second level, as it is kept."""
    progress = progress or Progress()
    project = demo_project(progress, "tarn-skin")
    p = Painter(project)
    p.choose("Tarn")
    project.change_settings(symmetry=(True, False, False))
    progress.report(0.1, "Skin")
    paint_skin(p)
    progress.report(0.8, "Eyes, and what he wears")
    project.change_settings(symmetry=(False, False, False))
    eyes(p)
    tin(p)
    rope(p)
    neckcloth(p)
    furs(p)
    step(p, KEPT_LEVEL)
    set_ink(project, recent=())
    look = replace(project.settings.look, kind="sky")
    project.change_settings(symmetry=(True, False, False), camera=CAMERA, look=look)
    project.history.clear()
    project.unsaved = False
    return project


if __name__ == "__main__":
    ship(make(), Path(sys.argv[1]))
