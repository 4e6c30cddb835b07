"""Pim, the lantern newt: long body, splayed toes, frilled gills; spotted, wet, in four kinds of colours.

Run `python -m kneten.demo.pim OUT.kneten` to make the project that ships with Kneten. Every step is one of those that a
user has.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from scipy.interpolate import CubicSpline

from kneten.core.arrays import F64, Progress
from kneten.core.camera import Camera
from kneten.core.grain import Grain
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import Builder
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import TAPERS, Knot, Strand, Strands
from kneten.core.paint.shifting import Shift
from kneten.core.paint.wash import Wash
from kneten.core.transform import Transform
from kneten.demo.painter import Painter, hexed, percents
from kneten.demo.sculptor import Line
from kneten.document.blocking import add_live, bake
from kneten.document.grains import add_grain, bake_grain
from kneten.document.layering import add_layer, exchange_level, record
from kneten.document.look import Look
from kneten.document.opening import stack_of
from kneten.document.painting import recolour, set_ink
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.render.still import encoded, render_still
from kneten.render.style import Style

CAMERA = Camera(target=(12.0, 9.0, -4.0), distance=265.0, yaw=38.0, pitch=24.0)

ABOVE = (0.0, -1.0, 0.0)
UP = np.array([0.0, 1.0, 0.0])
EDGE = 1.0
"""Length of the edges of the skin that the armature gets."""

LEVELS = 2

SPINE: tuple[tuple[str, float, float, float, float], ...] = (
    ("hips", 0, 13, -26, 8.6), ("belly", -4, 13.5, -12, 10.2), ("middle", -6, 14, 3, 10.6), ("chest", -3, 15, 19, 10.0),
    ("neck", 1, 18, 31, 8.2), ("skull", 5, 21.5, 41, 10.2), ("face", 8, 22, 52, 9.0), ("snout", 10, 20, 60, 6.2),
)  # fmt: skip
"""Balls from the hips to the snout: name, place and radius."""

TAIL: tuple[tuple[str, float, float, float, float], ...] = (
    ("tail 1", 6, 12, -40, 7.0), ("tail 2", 15, 9.5, -53, 5.8), ("tail 3", 28, 8, -63, 4.8), ("tail 4", 42, 7, -67, 3.9),
    ("tail 5", 55, 7, -63, 3.1), ("tail 6", 63, 8, -53, 2.3), ("tail 7", 64, 10, -43, 1.5),
)  # fmt: skip


# -- form ------------------------------------------------------------------------------------------


def spot(place: F64) -> tuple[float, float, float]:
    """A place (3,) as numbers."""
    x, y, z = place.tolist()
    return (x, y, z)


def body() -> Armature:
    """The newt as he sits: head raised and turned, tail curled, each foot where he last put it."""
    b = Builder(*SPINE[0])
    b.chain("hips", SPINE[1:])
    b.chain("hips", TAIL)
    for side, word in ((1.0, "left"), (-1.0, "right")):
        ahead = 5.0 if side > 0 else -4.0
        shoulder, hip = np.array([-2 + 8 * side, 13.0, 22.0]), np.array([6.5 * side, 11.5, -27.0])
        for name, start, root, elbow, wrist, palm, toes, spread in (
            ("front", "chest", shoulder, (11, -1, -4), (17, -8, 5 + ahead), (20, -11.6, 8 + ahead), 4, 1.25),
            ("hind", "hips", hip, (13, 0, 7 - ahead), (18, -7, -2 - ahead), (21, -10.2, 1 - ahead), 5, 1.5),
        ):  # fmt: skip
            spots = [root + np.array([side * x, y, z]) for x, y, z in (elbow, wrist, palm)]
            rows = [
                (f"{name} root {word}", *root, 4.6), (f"{name} knee {word}", *spots[0], 3.3),
                (f"{name} ankle {word}", *spots[1], 2.3), (f"{name} sole {word}", *spots[2], 2.5),
            ]  # fmt: skip
            b.chain(start, [(key, float(x), float(y), float(z), r) for key, x, y, z, r in rows])
            sole = spots[2]
            for toe in range(toes):
                angle = side * (np.pi / 2 + spread * (toe / (toes - 1) - 0.5) * 1.6 * -side) * 0.72
                way = np.array([np.sin(angle), 0.0, np.cos(angle)])
                long = 11.5 - 1.6 * abs(toe - (toes - 1) / 2)
                middle, tip = sole + way * long * 0.55 + [0, 0.4, 0], sole + way * long + [0, -0.9, 0]
                b.chain(
                    f"{name} sole {word}",
                    [
                        (f"{name} toe {toe} {word}", *spot(middle), 0.95),
                        (f"{name} pad {toe} {word}", *spot(tip), 1.35),
                    ],
                )
    return b.made(EDGE, 0.22)


def along(share: float) -> F64:
    """A place on the middle line, (3,), from the snout at 0 to the end of the tail at 1."""
    rows = np.array([row[1:4] for row in (*SPINE[::-1], *TAIL)], float)
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(rows, axis=0), axis=1))])
    return np.asarray(CubicSpline(run / run[-1], rows)(share))


def aside(share: float) -> F64:
    """To the left of the middle line there, (3,), level."""
    way = along(min(share + 0.01, 1.0)) - along(max(share - 0.01, 0.0))
    side = np.array([-way[2], 0.0, way[0]])
    return side / np.linalg.norm(side)


def over(first: float, last: float, off: float = 0.0, count: int = 9) -> Line:
    """A line along the back between two shares of the length, so far to the left."""
    rows = [along(t) + off * aside(t) + [0, 20, 0] for t in np.linspace(first, last, count)]
    return [(float(x), float(y), float(z)) for x, y, z in rows]


def calmed(p: Painter) -> None:
    """Even the mesh where limbs and neck leave the body: what is stretched there would show in all that comes later."""
    for side in (-1.0, 1.0):
        for first, last, low in ((0.12, 0.3, 4.0), (0.14, 0.3, -4.0), (0.5, 0.6, 2.0)):
            line = [spot(along(t) + aside(t) * side * 20 + low * UP) for t in np.linspace(first, last, 7)]
            view = spot(-aside(0.5 * (first + last)) * side)
            p.stroke("smooth", line, 11.0, 0.9, view=view, taper=False, times=6, variant="relax")
    for view, high in ((ABOVE, 20.0), ((0.0, 1.0, 0.0), -20.0)):
        line = [spot(along(t) + high * UP) for t in np.linspace(0.12, 0.3, 7)]
        p.stroke("smooth", line, 12.0, 0.9, view=view, taper=False, times=6, variant="relax")


def sculpted(p: Painter) -> None:
    """A crest along back and tail, folds along the flanks, mouth, nostrils, sockets."""
    add_layer(p.project, p.part, "Crest, folds")
    p.stroke("coil", over(0.30, 0.98, count=16), 3.2, 0.55, view=ABOVE, times=2)
    p.stroke("pinch", over(0.34, 0.97, count=16), 3.0, 0.5, view=ABOVE)
    for side in (-1.0, 1.0):
        for k in range(11):
            at = 0.235 + 0.026 * k
            out = aside(at) * side
            top, low = along(at) + out * 6 + [0, 9, 0], along(at + 0.012) + out * 12 + [0, -6, 0]
            mid = along(at + 0.004) + out * 14 + [0, 2, 0]
            p.stroke("score", [tuple(top), tuple(mid), tuple(low)], 2.2, 0.34, view=tuple(-out))
        # A long mouth that ends under the eye, in something like a smile.
        lip = [
            along(t) + aside(t) * side * w + [0, y, 0]
            for t, w, y in ((0.0, 3.0, -1.5), (0.03, 7, -2.2), (0.075, 9, -2.6), (0.115, 9.5, -0.6))
        ]
        p.stroke(
            "score",
            [tuple(at) for at in lip],
            1.7,
            0.75,
            view=tuple(-aside(0.06) * side + [0.0, 0, -0.45]),
            times=2,
        )
        p.stroke("pellet", [tuple(at + 1.8 * UP) for at in lip], 2.2, 0.2, view=tuple(-aside(0.06) * side))
        # Lids, as a roll around where the eye comes to lie.
        eye, out = along(0.082) + aside(0.082) * side * 7.2 + [0, 3.9, 0], aside(0.082) * side
        ahead = along(0.06) - along(0.1)
        ahead /= np.linalg.norm(ahead)
        lid = [
            eye + 4.1 * (np.cos(a) * ahead + np.sin(a) * np.array([0, 1.0, 0])) + out * 9
            for a in np.linspace(0.2, 2 * np.pi + 0.2, 13)
        ]
        p.stroke("coil", [tuple(at) for at in lid], 1.7, 0.75, view=tuple(-out), taper=False, times=2)
        hole = along(0.0) + aside(0.0) * side * 2.4 + [0, 1.6, 8]
        p.stroke("raise", [tuple(hole)], 0.9, 0.9, reverse=True, taper=False, times=3)
    record(p.project, p.part, "")
    for name, grain in (
        ("Warts", Grain("pebbles", scale=1.5, height=0.10, mirrored=False, seed=3, roughness=0.6)),
        ("Skin, uneven", Grain("clouds", scale=7.0, height=0.35, mirrored=False, seed=8)),
    ):
        layer = add_grain(p.project, p.part, grain, None, name)
        bake_grain(p.project, p.part, layer.id)


def gills(p: Painter) -> None:
    """Three stems at each side, each with two rows of threads that grow shorter to its tip."""
    made: list[Strand] = []
    for side in (-1.0, 1.0):
        for k, (share, up, back) in enumerate(((0.215, 13.0, 9.0), (0.235, 8.0, 14.0), (0.25, 2.0, 16.0))):
            out = aside(share) * side
            ahead = along(share - 0.01) - along(share + 0.01)
            ahead /= np.linalg.norm(ahead)
            root = along(share) + out * 6.0 + [0, 3.5 - 2.5 * k, 0]
            knots = [root, root + out * 6 + [0, 0.45 * up, 0] - ahead * 0.25 * back]
            knots.append(root + out * (13 - k) + [0, 0.85 * up, 0] - ahead * 0.6 * back)
            knots.append(root + out * (17 - k) + [0, up - 2.0, 0] - ahead * back)
            curve = CubicSpline([0, 0.35, 0.7, 1], np.array(knots))
            stem = [Knot(tuple(curve(t).tolist()), float(1.5 - 1.1 * t)) for t in np.linspace(0, 1, 6)]
            made.append(Strand(tuple(stem)))
            for j in range(22):
                t = 0.18 + 0.8 * (j // 2) / 10.5 + p.rng.normal(0, 0.012)
                t = float(min(t, 0.99))
                way = curve(t, 1)
                way /= np.linalg.norm(way)
                across = np.cross(way, out + 0.6 * UP)
                across *= (1 if j % 2 else -1) / np.linalg.norm(across)
                long = (6.6 - 4.2 * t) * p.rng.uniform(0.8, 1.2)
                begin = curve(t)
                middle = begin + across * long * 0.5 + way * long * 0.28 + [0, -0.4, 0]
                tip = (
                    begin + across * long * 0.85 + way * long * 0.75 + [0, -1.6, 0] + p.rng.normal(0, 0.4, 3)
                )
                rows = zip((begin, middle, tip), (0.55, 0.42, 0.16), strict=True)
                made.append(Strand(tuple(Knot(tuple(place.tolist()), thick) for place, thick in rows)))
    recipe = Strands(tuple(made), sides=7, spans=4, taper=TAPERS["tip"])
    add_live(p.project, "Gills", recipe, recipe.made().mesh(), Transform())


def seat(p: Painter) -> None:
    """A river stone to sit on."""
    recipe = Primitive("sphere", (176.0, 26.0, 190.0), (96, 96, 96))
    add_live(p.project, "Stone", recipe, recipe.made().mesh(), Transform((8.0, -11.6, -4.0)))
    bake(p.project, [p.choose("Stone")])
    for _ in range(1):
        exchange_level(
            p.project, p.part.id, *stack_of(p.part).added(p.part.mesh, Progress()), "Subdivide Stone"
        )
    for name, grain in (
        ("Worn", Grain("clouds", scale=60.0, height=2.2, mirrored=False, seed=2)),
        ("Pitted", Grain("pits", scale=7.0, height=0.5, mirrored=False, seed=5)),
    ):
        layer = add_grain(p.project, p.part, grain, None, name)
        bake_grain(p.project, p.part, layer.id)


def eyes(p: Painter) -> None:
    """A pair that stands out at the sides of the head, with gold in them."""
    ahead = along(0.0) - along(0.08)
    yaw = float(np.degrees(np.arctan2(ahead[0], ahead[2])))
    x, y, z = along(0.082)
    for side, name in ((1.0, "Eye left"), (-1.0, "Eye right")):
        recipe = Primitive("eye", (6.8, 6.8, 6.8), (44, 36, 1), 0.78, (0.0, 8.0), 0.0, "amber", "bar")
        out = aside(0.082) * side * 7.2
        place = Transform(spot(np.array([x, y + 3.9, z]) + out)).with_degrees(0.0, yaw + 58 * side, 0.0)
        add_live(p.project, name, recipe, recipe.made().mesh(), place)


# -- colour ----------------------------------------------------------------------------------------


def painted(p: Painter) -> None:
    """Olive above, fire below, a row of lamps along the flank; spots strewn, edged and lost again."""
    p.choose("Pim")
    p.hold("68713f")
    set_ink(
        p.project, material=percents(34, 0, 46, 72), channels=("colour", "roughness", "subsurface", "wet")
    )
    p.fill()
    p.wash("Belly", Wash("up", 0.0, 0.34, 0.22, hexed("c4601f"), 1.0), live=False)
    with p.layer("Zones"):
        for first, last, off, colour, radius, strength in (
            (0.0, 0.12, 0.0, "6a6a3c", 9.0, 0.5), (0.3, 0.55, 2.0, "4a542f", 8.0, 0.4), (0.6, 0.98, 0.0, "5a4a2a", 6.0, 0.5),
            (0.12, 0.3, -4.0, "6f7140", 6.0, 0.4), (0.86, 1.0, 0.0, "a4512a", 4.0, 0.5),
        ):  # fmt: skip
            p.zone(colour, over(first, last, off), radius, strength, ABOVE)
        for side in (-1.0, 1.0):
            at = [along(t) + aside(t) * side * 14 + [0, -3, 0] for t in (0.2, 0.32, 0.44, 0.52)]
            p.zone("96702e", [tuple(one) for one in at], 6.0, 0.5, tuple(-aside(0.35) * side))
            cheek = [tuple(along(t) + aside(t) * side * 12 + [0, -1, 0]) for t in (0.06, 0.12)]
            p.zone("a8662c", cheek, 5.0, 0.5, tuple(-aside(0.09) * side))
    p.wash("Mottle", Wash("clouds", 0.55, 1.0, 0.2, hexed("454c2c"), 0.4, 12.0, 5), live=False)
    spots(p)
    lamps(p)
    p.wash("Hollows", Wash("hollows", 0.45, 1.0, 0.4, hexed("23201a"), 0.6), "multiply")
    p.wash("Warts, light", Wash("peaks", 0.55, 1.0, 0.35, hexed("8f8a54"), 0.22))
    with p.layer("Feet"):
        for joint in body().joints:
            if "pad" in joint.name or "toe" in joint.name:
                x, y, z = joint.place
                p.near("b06a34", 6)
                p.stroke(
                    "paint",
                    [(x, y, z)],
                    3.2 if "pad" in joint.name else 2.2,
                    0.6,
                    view=ABOVE,
                    taper=False,
                    variant="wash",
                )


def spots(p: Painter) -> None:
    """Dark spots in crooked rows along the back, large and small ones by turns; some run together, some are wiped half off."""
    with p.layer("Spots"):
        for row, (off, size) in enumerate(((-6.5, 3.0), (-2.4, 3.9), (2.6, 3.6), (6.8, 2.9))):
            at = 0.13 + 0.012 * row
            while at < 0.93:
                narrow = 1.0 if at < 0.55 else max(0.25, 1.0 - 1.9 * (at - 0.55))
                across = size * narrow * p.rng.uniform(0.55, 1.3)
                x, y, z = along(at) + aside(at) * (off * narrow + p.rng.normal(0, 0.8)) + [0, 20, 0]
                bit = (x + p.rng.normal(0, 0.9 * across), y, z + p.rng.normal(0, 0.9 * across))
                p.near(str(p.rng.choice(["1d1f18", "23231a", "2a2418"])), 3)
                strength = p.rng.uniform(0.6, 0.95)
                p.stroke(
                    "paint",
                    [(x, y, z), bit],
                    across,
                    strength,
                    view=ABOVE,
                    falloff="flat",
                    taper=False,
                    variant="wash",
                )
                at += p.rng.uniform(0.024, 0.052)
        for side in (-1.0, 1.0):
            for _ in range(46):
                at, low = p.rng.uniform(0.05, 0.6), p.rng.uniform(-8, 3)
                out = aside(at) * side
                x, y, z = along(at) + out * 20 + [0, low, 0]
                p.near("1c1a16", 3)
                p.stroke(
                    "paint", [(x, y, z), (x + p.rng.normal(0, 0.7), y + p.rng.normal(0, 0.7), z)], p.rng.uniform(0.5, 1.7),
                    p.rng.uniform(0.5, 0.9), view=tuple(-out), falloff="flat", taper=False, variant="wash",
                )  # fmt: skip
        for first, last, off in ((0.2, 0.27, 3.0), (0.42, 0.5, -4.0), (0.62, 0.7, 0.0)):
            p.stroke("smudge", over(first, last, off), 4.0, 0.5, view=ABOVE)
        p.stroke("erase", over(0.32, 0.38, 5.0), 3.4, 0.6, view=ABOVE, falloff="soft")


def lamps(p: Painter) -> None:
    """What he is called after: pale spots along the flank, each with a rim, as if lit from within."""
    with p.layer("Lamps"):
        for side in (-1.0, 1.0):
            for at in np.linspace(0.245, 0.56, 9):
                at = float(at + p.rng.normal(0, 0.004))
                out = aside(at) * side
                x, y, z = along(at) + out * 20 + [0, 1.0 + p.rng.normal(0, 0.4), 0]
                for colour, wide, strength in (
                    ("241c14", 2.3, 0.8),
                    ("c98a2c", 1.75, 0.9),
                    ("f2dc96", 1.0, 0.95),
                ):
                    p.hold(colour)
                    set_ink(p.project, material=percents(24, 0, 80, 80), channels=("colour", "subsurface"))
                    p.stroke(
                        "paint",
                        [(x, y, z)],
                        wide,
                        strength,
                        view=tuple(-out),
                        falloff="dome",
                        taper=False,
                        variant="wash",
                    )


def painted_rest(p: Painter) -> None:
    """Gills, stone, eyes."""
    bake(p.project, [p.choose("Gills")])
    p.hold("gill")
    set_ink(p.project, colour=hexed("8e3640"))
    p.fill()
    middle = along(0.23)
    far = np.linalg.norm(p.part.mesh.positions - middle, axis=1)
    p.hold("c9726f", "colour")
    p.fill(0.75 * np.clip((far - 15) / 10, 0, 1))
    p.hold("5d2430", "colour")
    p.fill(0.7 * np.clip((11 - far) / 5, 0, 1))
    # Light comes through the threads, the more the farther out they are.
    set_ink(p.project, opacity=110, channels=("opacity",))
    p.fill(np.clip((far - 12) / 9, 0, 1))
    for name in ("Eye left", "Eye right"):
        bake(p.project, [p.choose(name)])
        pale = p.part.mesh.value("colour")[:, 2] > 140
        p.hold("3a3420", "colour")
        p.fill(pale)
        p.hold_material(roughness=12, wet=100, subsurface=30)
        p.fill()
    p.choose("Stone")
    p.hold("6b6a64")
    set_ink(p.project, material=percents(62, 0, 5, 0), channels=("colour", "roughness", "subsurface"))
    p.fill()
    p.wash("Grey and brown", Wash("clouds", 0.5, 1.0, 0.2, hexed("4c463c"), 0.7, 44.0, 3))
    p.wash("Lichen", Wash("clouds", 0.69, 1.0, 0.05, hexed("85866a"), 0.6, 20.0, 11))
    p.wash("Hollows", Wash("hollows", 0.4, 1.0, 0.4, hexed("2b2a27"), 0.7), "multiply")
    with p.layer("Wet"):
        p.hold("3d3c38")
        set_ink(p.project, material=percents(30, 0, 5, 95), channels=("colour", "roughness", "wet"))
        for first, last in ((0.2, 0.6), (0.6, 0.95)):
            p.stroke("paint", over(first, last), 22, 0.55, view=ABOVE, falloff="soft", variant="wash")


VARIANTS: Sequence[tuple[str, Shift, Shift]] = (
    ("Lake, as he is", Shift(), Shift()),
    ("Moor, rust red", Shift(hue=-62, light=0.04, rich=0.25), Shift(hue=-20, light=-0.15, rich=0.1)),
    ("Spring, blue", Shift(hue=118, light=0.02, rich=0.2), Shift(hue=12, light=0.2, rich=0.15)),
    ("Cave, pale", Shift(hue=-40, light=0.5, rich=-0.35), Shift(hue=-36, light=0.45, rich=-0.3)),
)
"""Name, and what becomes of the back's colours and of the belly's, each after the ones before."""


def variants(p: Painter) -> None:
    """Four kinds, kept as milestones: the base and each layer of colour made anew; at the end he is as he was."""
    project = p.project
    p.choose("Pim")
    for name, back, belly in VARIANTS:
        if back != Shift():
            named = {"Belly": belly, "Zones": back, "Mottle": back, "Spots": back}
            layers = [("", back)]
            layers += [(one.id, named[one.name]) for one in stack_of(p.part).layers if one.name in named]
            for layer_id, shift in layers:
                record(project, p.part, layer_id)
                recolour(project, p.part, shift)
                record(project, p.part, "")
        picture = encoded(render_still(project.scene, CAMERA, 320, 200, Style(look=Look(kind="sky"))))
        project.keep_milestone(name, picture)
    project.go_back(project.scene.milestones[0].id)


# -- the whole -------------------------------------------------------------------------------------


def make(progress: Progress | None = None) -> Project:
    """The whole project."""
    progress = progress or Progress()
    project = Project()
    project.title = "Pim, painted"
    project.change_settings(symmetry=(False, False, False), camera=CAMERA, look=Look(kind="sky"))
    p = Painter(project)
    recipe = body()
    add_live(project, "Pim", recipe, recipe.made().mesh(), Transform())
    bake(project, [p.choose("Pim")])
    calmed(p)
    for _ in range(LEVELS):
        exchange_level(project, p.part.id, *stack_of(p.part).added(p.part.mesh, progress), "Subdivide Pim")
    progress.report(0.2, "Form")
    sculpted(p)
    gills(p)
    eyes(p)
    seat(p)
    progress.report(0.5, "Colour")
    painted(p)
    painted_rest(p)
    progress.report(0.8, "Variants")
    variants(p)
    set_ink(project, recent=())
    project.history.clear()
    project.unsaved = False
    return project


def main(path: Path) -> None:
    """Make the project and save it."""
    project = make()
    picture = encoded(render_still(project.scene, CAMERA, 480, 300, Style(look=project.settings.look)))
    save_project(project, path, picture, small=True)
    total = sum(part.mesh.n_vertices for part in project.scene.parts)
    print(f"{path}: {len(project.scene.parts)} parts, {total:,} vertices, {path.stat().st_size / 1e6:.1f} MB")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
