"""Tarn, forms: the bust with its anatomy under the skin, lids around the eyes, lips, nostrils, ears; hands begun.

Run `python -m kneten.demo.tarn_forms OUT.kneten` to make the project that ships with Kneten. All of it is strokes of
the tools, along the same path a pen takes.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.live.bodies import hand as hand_body
from kneten.core.live.primitive import Primitive
from kneten.core.transform import Transform
from kneten.demo.sculptor import Line, Sculptor
from kneten.demo.tarn import EYE, EYE_RADIUS, blend, block, densify, forms, fuse
from kneten.document import blocking
from kneten.document.guides import add_guides
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.render.still import encoded, render_still

CAMERA = Camera(target=(0.0, -62.0, 30.0), distance=860.0, yaw=24.0, pitch=6.0)

SIDE = (-1.0, 0.0, -0.25)
LOW = (0.0, 0.5, -1.0)


def _picture(project: Project) -> bytes:
    return encoded(render_still(project.scene, CAMERA, 208, 130))


def shifted(line: Line, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Line:
    """A line elsewhere."""
    return [(a + x, b + y, c + z) for a, b, c in line]


def posture(s: Sculptor) -> None:
    """Big moves first: a heavier brow, a jaw that hangs forward, a hump behind, ears that droop."""
    s.pull((0, 56, 120), (0, -5, 5), 34)
    s.pull((42, 52, 110), (4, -4, 6), 26)
    s.pull((0, -56, 130), (0, -5, 7), 34)
    s.pull((56, -40, 120), (5, -7, 2), 30)
    s.pull((96, 74, 60), (7, -5, -2), 26)
    s.pull((0, -60, 200), (0, 10, -16), 70, (0, 0, 1))
    s.pull((120, -150, 60), (8, 4, 4), 60)


def neck_and_shoulders(s: Sculptor) -> None:
    """Muscles laid as they run, fibre beside fibre."""
    mastoid: Line = [(84, -22, 60), (70, -62, 80), (46, -100, 90), (18, -128, 90)]
    for off in (-5.0, 0.0, 5.0):
        s.stroke("pellet", shifted(mastoid, off, off * 0.4), 11, 0.28)
    s.stroke("raise", [(58, -78, 90), (36, -112, 90)], 11, 0.35, reverse=True)
    # The hollow above the breastbone, collar bones, the fan of the breast.
    s.stroke("raise", [(0, -124, 100), (0, -132, 100)], 14, 0.6, reverse=True)
    s.stroke("coil", [(14, -134, 100), (50, -130, 90), (92, -122, 70), (116, -120, 40)], 9, 0.56)
    for y in (-146.0, -156.0, -166.0):
        s.stroke("pellet", [(12, y, 100), (50, y + 4, 90), (100, y + 18, 50)], 12, 0.23)
    s.stroke("score", [(0, -138, 100), (0, -172, 100)], 10, 0.42)
    # The slope from neck to shoulder, and the wet hump behind.
    for off in (0.0, 12.0):
        s.stroke(
            "slab", [(86, -54 - off, 20), (104, -86 - off, 0), (126, -112 - off, -10)], 17, 0.33, view=SIDE
        )
    s.stroke("score", [(74, -70, 80), (92, -96, 50), (110, -112, 20)], 9, 0.38)


def face(s: Sculptor) -> None:
    """Masses under the skin: brow, cheek, nose, muzzle, jaw."""
    # The brow: a slab that hangs over the eye, thickest outside, and the knot between.
    brow: Line = [(8, 46, 120), (24, 52, 120), (44, 50, 110), (64, 42, 96), (74, 34, 84)]
    s.stroke("slab", brow, 10, 0.41)
    s.stroke("pellet", shifted(brow, 2, -5), 7.5, 0.28)
    s.stroke("pellet", [(10, 42, 120), (16, 47, 120)], 8, 0.35)
    s.stroke("raise", [(0, 46, 120), (0, 38, 122)], 8, 0.5, reverse=True)
    # Cheekbone under the eye, the muscle that runs from it to the corner of the mouth.
    s.stroke("pellet", [(30, 2, 110), (52, 0, 100), (74, 8, 80), (86, 20, 50)], 11, 0.30)
    for off in (0.0, 6.0, 12.0):
        s.stroke(
            "pellet", [(62 + off, -4, 90), (58 + off * 0.7, -26, 90), (52 + off * 0.4, -44, 90)], 8, 0.21
        )
    s.stroke("pellet", [(78, -22, 70), (82, -44, 56), (72, -60, 56)], 16, 0.23)
    s.stroke("raise", [(70, -14, 90), (66, -38, 90)], 8, 0.35, reverse=True)
    # The nose: planes first, then the wings rolled around the holes.
    s.stroke("burnish", [(0, 40, 130), (0, 12, 140)], 15, 0.6)
    s.stroke("shave", [(10, 30, 130), (16, 14, 136)], 9, 0.5)
    wing: Line = [(9, -2, 150), (16, -6, 148), (25, -3, 140), (30, 5, 132), (26, 12, 130)]
    s.stroke("coil", wing, 6.5, 0.63)
    s.stroke("raise", [(14, 2, 150), (20, 3, 146)], 6, 1.0, reverse=True, taper=False, times=4)
    s.stroke("score", [(29, 14, 130), (33, 4, 128), (29, -7, 136), (16, -12, 142)], 6, 0.59)
    s.stroke("score", [(0, 16, 150), (0, -12, 148)], 6, 0.47)
    for y in (22.0, 28.0, 34.0):
        s.stroke("score", [(3, y, 140), (13, y + 3, 132), (20, y - 2, 126)], 4.5, 0.34)
    # Whisker pads, split in the middle.
    for off in (0.0, -7.0, -14.0):
        s.stroke("pellet", [(8, -17 + off, 150), (26, -19 + off, 144), (44, -22 + off, 126)], 8, 0.20)
    s.stroke("score", [(0, -12, 150), (0, -36, 146)], 8, 0.72, times=2)


def calm(s: Sculptor) -> None:
    """Let the masses grow together: big brush, little force, over all that was laid."""
    for line, radius in (
        ([(60, 10, 100), (70, -20, 90), (64, -50, 80)], 22.0),
        ([(20, -18, 140), (46, -24, 120)], 16.0),
        ([(10, -150, 100), (60, -146, 90), (110, -136, 50)], 26.0),
        ([(80, -30, 70), (60, -80, 80), (30, -116, 90)], 18.0),
        ([(10, 62, 110), (40, 60, 100), (70, 50, 84)], 16.0),
    ):
        s.stroke("smooth", line, radius, 0.35, taper=False)


def flow(s: Sculptor) -> None:
    """Take the balls out of the forms: brow, cheek and jaw pass into each other, and only their edges stay."""
    brow: Line = [(8, 46, 120), (24, 52, 120), (44, 50, 110), (64, 42, 96), (76, 32, 84)]
    s.stroke("smooth", shifted(brow, 2, 16), 20, 0.9, taper=False, times=5)
    s.stroke("smooth", [(70, 50, 90), (82, 40, 80), (90, 22, 60)], 18, 0.9, taper=False, times=4)
    s.stroke(
        "smooth", [(100, 60, 60), (100, 40, 74), (100, 20, 60)], 20, 0.9, view=SIDE, taper=False, times=3
    )
    s.stroke("smooth", shifted(brow, 0, 2), 16, 0.6, taper=False, times=2)
    # The jaw and the cheek.
    for line in (
        [(100, 14, 30), (100, -20, 0), (100, -56, 0)],
        [(100, -50, 60), (100, -70, 40), (100, -74, 10)],
        [(100, 6, 60), (100, -10, 50), (100, -40, 50)],
    ):
        s.stroke("smooth", line, 25, 0.8, view=SIDE, taper=False, times=4)
    s.stroke("smooth", [(68, 0, 90), (70, -30, 90), (66, -60, 80)], 16, 0.6, taper=False, times=2)
    # Where the ear grows out of the skull.
    s.stroke("smooth", [(72, 84, 40), (70, 68, 50), (78, 50, 50)], 13, 0.8, taper=False, times=3)
    s.stroke(
        "smooth", [(14, 66, 110), (40, 66, 104), (64, 60, 90), (78, 46, 84)], 15, 0.9, taper=False, times=4
    )
    # The edge of the brow, cut under, heaviest outside; the knot over the nose.
    edge: Line = [(10, 40, 120), (24, 43, 120), (42, 42, 112), (60, 36, 100), (72, 26, 90)]
    s.stroke("slab", shifted(edge, 0, 5), 8, 0.35)
    s.stroke("score", shifted(edge, 0, -3), 6, 0.35)
    s.stroke("pellet", [(48, 46, 110), (64, 38, 98), (73, 28, 90)], 9, 0.25)
    # Cheekbone and the soft bag of the jowl.
    s.stroke("pellet", [(44, 0, 110), (62, 2, 96), (80, 12, 70)], 10, 0.22)
    s.stroke("pellet", [(72, -30, 80), (74, -46, 70), (68, -58, 70)], 14, 0.22)
    s.stroke("raise", [(70, -12, 90), (66, -34, 90)], 10, 0.25, reverse=True)
    # Between the wings of the nose and the cheek, where the strokes of both met.
    s.stroke(
        "smooth", [(28, 13, 125), (36, 8, 118), (46, 4, 112), (54, 0, 110)], 7, 0.9, taper=False, times=7
    )
    # The chest rises into the neck; the breast hangs, as far as the bust goes.
    s.stroke(
        "smooth",
        [(0, -124, 100), (40, -122, 95), (90, -114, 60), (118, -108, 20)],
        17,
        0.8,
        taper=False,
        times=4,
    )
    s.stroke(
        "smooth",
        [(140, -112, 30), (140, -104, -20), (140, -96, -60)],
        22,
        0.8,
        view=SIDE,
        taper=False,
        times=4,
    )


def mouth(s: Sculptor) -> None:
    """Two lips that press together, turned down at the corners."""
    line: Line = [(0, -39, 140), (16, -42, 138), (34, -46, 124), (50, -52, 104), (60, -62, 90)]
    s.stroke("score", line, 8, 0.77, times=2)
    s.stroke("coil", shifted(line[:4], 0, 5.5), 5.5, 0.35)
    s.stroke("coil", shifted(line[:4], 0, -7), 8.5, 0.52)
    s.stroke("pinch", line, 7, 0.5, times=2)
    s.stroke("smooth", [(48, -54, 110), (58, -58, 100)], 6, 0.9, taper=False, times=4)
    s.stroke("raise", [(0, -62, 140), (22, -64, 130), (40, -66, 110)], 9, 0.4, reverse=True)
    s.stroke("pellet", [(0, -74, 136), (14, -76, 130)], 15, 0.30)
    for x in (10.0, 20.0, 30.0):
        s.stroke("score", [(x, -52, 140), (x * 1.1, -58, 130)], 3.6, 0.30)


def lids(s: Sculptor) -> None:
    """A socket for the eye, two lids as rolls around it, bags below."""
    ex, ey, _ = EYE
    slit: Line = [(ex - 13, ey - 4, 120), (ex, ey - 2, 120), (ex + 12, ey - 5, 112)]
    s.stroke("raise", slit, 7.5, 1.0, reverse=True, falloff="flat", times=5)
    s.stroke("raise", slit, 6.0, 1.0, reverse=True, falloff="flat", times=3)
    for line in (slit[:1], slit[2:]):
        s.stroke("raise", line, 6.0, 1.0, reverse=True, falloff="flat", taper=False, times=3)
    upper: Line = [
        (ex - 17, ey - 5, 120), (ex - 10, ey + 3, 120), (ex, ey + 5.5, 118), (ex + 10, ey + 3, 112), (ex + 18, ey - 5, 104),
    ]  # fmt: skip
    lower: Line = [
        (ex - 17, ey - 6, 120), (ex - 8, ey - 11, 120), (ex + 2, ey - 12, 116), (ex + 11, ey - 10, 110), (ex + 18, ey - 5, 104),
    ]  # fmt: skip
    s.stroke("coil", upper, 5.2, 0.66, taper=False)
    s.stroke("coil", lower, 4.4, 0.56, taper=False)
    s.stroke("score", shifted(upper, 0.6, 6), 4.6, 0.59)
    s.stroke("score", shifted(lower, 0, -6), 4.2, 0.51)
    s.stroke("pinch", upper, 5, 0.35)
    # Bags, one fold below the other, and feet of crows outside.
    for off, size, force in ((-9.0, 6.5, 0.5), (-17.0, 8.0, 0.42)):
        s.stroke(
            "pellet",
            shifted([(ex - 16, ey - 10, 116), (ex, ey - 15, 110), (ex + 18, ey - 7, 96)], 0, off + 6),
            size,
            force,
        )
        s.stroke(
            "score",
            shifted([(ex - 16, ey - 12, 116), (ex, ey - 18, 110), (ex + 20, ey - 9, 96)], 0, off + 1),
            4.2,
            0.42,
        )
    for rise in (-7.0, 0.0, 7.0):
        s.stroke("score", [(ex + 22, ey - 3 + rise * 0.4, 100), (ex + 36, ey + rise * 1.5, 76)], 3.8, 0.42)


def ears(s: Sculptor) -> None:
    """A bowl, a rolled rim, the fold in front."""
    s.stroke("raise", [(90, 62, 20), (94, 58, 20)], 14, 1.0, reverse=True, taper=False, times=5)
    rim: Line = [(76, 52, 20), (74, 68, 20), (84, 84, 16), (100, 84, 10), (110, 70, 6), (108, 54, 4)]
    s.stroke("coil", rim, 6, 0.59)
    s.stroke("coil", [(86, 54, 20), (92, 66, 16), (100, 70, 14)], 5, 0.42)
    s.stroke("pinch", rim, 6, 0.4)


def age(s: Sculptor) -> None:
    """What eighty winters on the water leave: folds of the forehead and neck, a scar."""
    for y, force in ((64.0, 0.6), (74.0, 0.55), (84.0, 0.42)):
        s.stroke("score", [(2, y, 100), (18, y + 4, 100), (40, y + 2, 90), (60, y - 7, 76)], 5.5, force)
        s.stroke("pellet", [(4, y + 5, 100), (24, y + 9, 98), (46, y + 6, 86)], 5.5, 0.16)
    s.stroke("score", [(5, 48, 120), (7, 58, 116), (5, 66, 110)], 5.5, 0.51)
    fold: Line = [(31, 6, 128), (46, -8, 116), (57, -26, 100), (61, -44, 94), (59, -56, 92)]
    s.stroke("raise", fold, 7, 0.35, reverse=True)
    s.stroke("score", fold, 5, 0.25)
    s.stroke("pellet", shifted(fold, 8, 2), 9, 0.17)
    s.stroke("smooth", [(54, -62, 100), (64, -66, 90), (74, -66, 70)], 9, 0.8, taper=False, times=4)
    for y in (-84.0, -96.0, -108.0):
        s.stroke("score", [(0, y, 110), (24, y + 2, 100), (50, y + 14, 80)], 6.5, 0.42)
    for row in range(3):
        for column in range(5):
            x, y = 15.0 + 6.8 * column, -18.0 - 6.2 * row - 0.9 * column
            s.stroke("raise", [(x, y, 150)], 2.2, 1.0, reverse=True, taper=False, times=3)
    s.project.change_settings(symmetry=(False, False, False))
    scar: Line = [(-56, 64, 110), (-48, 46, 110), (-46, 30, 104)]
    s.stroke("coil", scar, 3.6, 0.35)
    s.stroke("score", shifted(scar, 0.6), 2.6, 0.51)
    s.project.change_settings(symmetry=(True, False, False))


def hands(project: Project, s: Sculptor) -> None:
    """Two broad webbed hands, begun: baked from an armature, tendons laid, webs spanned, nails cut."""
    recipe = hand_body()
    part = blocking.add_live(project, "Hand", recipe, recipe.made().mesh(), Transform())
    project.choose(part.id)
    blocking.bake(project, [part])
    project.change_settings(symmetry=(False, False, False))
    densify(project, 26_000)
    top = (0.0, -1.0, 0.0)
    for x, fan in ((-19, -5.0), (-5, -0.8), (9, 2.8), (22, 6.0)):
        s.stroke("coil", [(x * 0.4, 40, -40), (x * 0.75, 40, -10), (x, 40, 18)], 5.2, 0.45, view=top)
        s.stroke("inflate", [(x, 40, 20), (x + fan * 0.2, 40, 24)], 11, 0.55, view=top)
        long = 66 - abs(x + 4) * 0.5
        for share in (0.45, 0.77):
            at = (x + fan * share, 40.0, 20 + long * share)
            s.stroke("inflate", [at, (at[0], at[1], at[2] + 2)], 8.5, 0.5, view=top)
            for step in (-2.5, 0.5, 3.5):
                s.stroke(
                    "score",
                    [(at[0] - 6, 40, at[2] + step), (at[0] + 6, 40, at[2] + step + 0.6)],
                    2.6,
                    0.4,
                    view=top,
                )
        end = 20 + long * 0.93
        nail: Line = [(x + fan - 4.2, 40, end + 3), (x + fan - 4, 40, end - 3), (x + fan, 40, end - 5.5), (x + fan + 4, 40, end - 3), (x + fan + 4.2, 40, end + 3)]  # fmt: skip
        s.stroke("score", nail, 2.4, 0.7, view=top)
    for a, b in ((-19, -5), (-5, 9), (9, 22)):
        middle = (a + b) / 2
        web: Line = [(middle, 40, 14), (middle * 1.04, 40, 24), (middle * 1.1, 40, 34)]
        s.stroke("span", web, 13, 0.9, view=top, taper=False, times=4)
        s.stroke("pellet", [(a + 1, 40, 22), (middle, 40, 26), (b - 1, 40, 22)], 7, 0.6, view=top, times=2)
        s.stroke("smooth", web, 8, 0.4, view=top, taper=False)
    for side in (-22.0, -8.0, 6.0):
        s.stroke(
            "coil", [(side, 40, -62), (side * 0.6 + 3, 40, -34), (side * 0.8, 40, -8)], 2.6, 0.5, view=top
        )
    s.stroke("score", [(-22, 40, -56), (0, 40, -60), (18, 40, -56)], 6, 0.4, view=top)
    left = project.active
    assert left is not None
    turn = Transform((104.0, -186.0, 92.0)).with_degrees(30.0, -16.0, -6.0)
    project.place(left.id, turn, "Place")
    project.rename(left.id, "Hand left")
    other = blocking.mirror(project, [project.scene.part(left.id)], np.zeros(3), np.array([1.0, 0, 0]), True)[
        0
    ]
    project.rename(other.id, "Hand right")
    project.change_settings(symmetry=(True, False, False))


def eyes(project: Project) -> None:
    """A live pair: the gaze can still be turned."""
    x, y, z = EYE
    recipe = Primitive("eye", (EYE_RADIUS,) * 3, (44, 36, 1), 0.5, (0.0, -3.0), 2 * x)
    blocking.add_live(project, "Eyes", recipe, recipe.made().mesh(), Transform((0.0, y - 2.0, z + 6.0)))


def make(progress: Progress | None = None) -> Project:
    """The whole project, with milestones on the way."""
    progress = progress or Progress()
    project = Project()
    project.change_settings(symmetry=(True, False, False))
    project.change_settings(camera=CAMERA)
    s = Sculptor(project)
    block(s)
    fuse(project, "Tarn", 24_000)
    project.keep_milestone("Balls fused", _picture(project))
    blend(s)
    densify(project, 60_000)
    forms(s)
    posture(s)
    progress.report(0.3, "Anatomy")
    densify(project, 90_000)
    neck_and_shoulders(s)
    face(s)
    calm(s)
    flow(s)
    densify(project, 170_000)
    progress.report(0.6, "Lids, lips, ears")
    lids(s)
    mouth(s)
    ears(s)
    age(s)
    body = project.active
    assert body is not None
    # Small enough to ship, with even quads again.
    densify(project, 118_000)
    progress.report(0.8, "Hands")
    hands(project, s)
    eyes(project)
    project.choose(body.id)
    head = project.scene.part(body.id)
    ridge = [s.at((x, y, 300.0)) for x, y in ((10, -112), (40, -106), (70, -88), (92, -66))]
    line = np.array([p for p in ridge if p is not None])
    if len(line) > 2:
        add_guides(project, head, [line], False, "rope belt")
        add_guides(project, head, [line * [-1, 1, 1]], False)
    project.history.clear()
    project.unsaved = False
    return project


if __name__ == "__main__":
    made = make()
    target = Path(sys.argv[1])
    save_project(made, target, encoded(render_still(made.scene, CAMERA, 480, 300)), small=True)
