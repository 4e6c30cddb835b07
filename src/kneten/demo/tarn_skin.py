"""Tarn, skin: the bust on levels, with layers of fine detail, fur, whiskers, a rope belt and a tin lantern.

Run `python -m kneten.demo.tarn_skin OUT.kneten` to make the project that ships with Kneten. It begins with *Tarn,
forms*; all of it is what the tools and commands do.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.carry import CarryWish, offered_reach, source_of
from kneten.core.fur.leads import combed, lengthened
from kneten.core.fur.numbers import FurNumbers
from kneten.core.grain import Grain
from kneten.core.live.strand import TAPERS, Knot, Strand, Strands
from kneten.core.presses.library import library
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.demo.files import demo_project
from kneten.demo.sculptor import FRONT, Line, Sculptor
from kneten.demo.tarn import EYE
from kneten.demo.tarn_forms import SIDE, shifted
from kneten.demo.tarn_worn import add_recipe, lantern, rope
from kneten.document.carried_parts import carry, land
from kneten.document.furs import add_fur, sown
from kneten.document.grains import add_grain, bake_grain
from kneten.document.layering import add_layer, exchange_level, record
from kneten.document.masks import keep_mask, recalled, with_mask
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.things import leads_of, with_leads
from kneten.render.still import encoded, render_still
from kneten.render.style import Style

CAMERA = Camera(target=(0.0, -78.0, 30.0), distance=830.0, yaw=24.0, pitch=4.0)

GO = Progress()
BASE = 26_000
"""Vertices of the lowest level; there are three more, of four times as many each."""

TOP, KEPT_LEVEL = 3, 1
"""The highest level, and the one in hand in the file: places of a million and a half vertices need not be written."""

BACK = (0.0, -0.35, 1.0)


def levelled(project: Project) -> None:
    """A base of few vertices in place of the clay, with all of its form on levels."""
    old = project.active
    assert old is not None
    edge = forecast(old.mesh.positions, old.mesh.topology.faces, vertices=BASE).edge
    base = remesh(soup_of([old.mesh]), edge, GO)
    new = project.add_meshes("New base", [(f"{old.name}, skin", base, old.transform)])[0]
    clay = source_of(old.mesh, old.stack, np.eye(4), GO)
    wish = CarryWish(offered_reach(clay.mesh, new.mesh), levels=2, lines=False)
    land(project, new.id, carry(old, new, (), wish, GO), f"Carry {old.name} over")
    part = project.scene.part(new.id)
    exchange_level(project, part.id, *stack_of(part).added(part.mesh, GO), "Subdivide")
    project.delete(old.id)
    project.choose(new.id)
    project.rename(new.id, old.name)


def step(s: Sculptor, level: int) -> None:
    """Take a level in hand."""
    part = s.part
    stack = stack_of(part)
    if level != stack.level:
        exchange_level(s.project, part.id, *stack.stepped(part.mesh, level), f"Level {level} of {part.name}")


def masked(s: Sculptor, name: str, strokes: list[tuple[Line, float, tuple[float, float, float]]]) -> str:
    """Paint a mask on the lowest level, soften it, and keep it under a name; gives its id."""
    level = stack_of(s.part).level
    step(s, 0)
    for line, radius, view in strokes:
        s.stroke("mask", line, radius, 0.8, view=view, taper=False, times=3)
    kept = keep_mask(s.project, s.part, name)
    with_mask(s.project, s.part, None, "Clear the mask")
    step(s, level)
    return kept.id


def wandering(line: Line, rng: np.random.Generator, by: float) -> Line:
    """A line that no hand has drawn twice: its places a little to the sides."""
    off = rng.normal(0.0, by, (len(line), 2))
    return [(x + a, y + b, z) for (x, y, z), (a, b) in zip(line, off, strict=True)]


def between(one: Line, other: Line, share: float) -> Line:
    """A line on the way from one to another of as many places."""
    return [tuple(np.array(a) + (np.array(b) - a) * share) for a, b in zip(one, other, strict=True)]


def piece(line: Line, first: float, last: float) -> Line:
    """Four places of a line between two shares of its length."""
    at = np.array(line)
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(at, axis=0), axis=1))])
    wanted = np.linspace(first, last, 4) * run[-1]
    found = np.stack([np.interp(wanted, run, at[:, k]) for k in range(3)], 1)
    return [tuple(place) for place in found.tolist()]


def crease(
    s: Sculptor, line: Line, radius: float, depth: float, view: tuple[float, float, float] = FRONT
) -> None:
    """A crease with soft ends, its sides risen a little."""
    s.stroke("score", line, radius, depth, view=view)


def wrinkles(s: Sculptor) -> None:
    """What skin does where it moves: around the eyes, over the nose, on forehead, cheeks and neck."""
    rng = np.random.default_rng(7)
    ex, ey, _ = EYE
    # Crow's feet: they leave the corner of the eye, deepest there, and run down over the cheekbone.
    for rise, long in ((9, 12), (5, 16), (1, 19), (-4, 18), (-9, 15), (-14, 11)):
        bend = rng.uniform(1.0, 2.5)
        feet: Line = [
            (ex + 20, ey - 4 + rise * 0.35, 100),
            (ex + 20 + long * 0.5, ey - 4 + rise * 0.8 + bend, 90),
            (ex + 20 + long, ey - 6 + rise * 1.4, 74),
        ]
        crease(s, wandering(feet, rng, 0.6), rng.uniform(1.8, 2.6), rng.uniform(0.3, 0.42))
        crease(s, wandering(piece(shifted(feet, 1, -2.2), 0.2, 0.8), rng, 0.7), 1.6, 0.3)
    # Bags: lines that follow the lower lid, ever wider.
    lid: Line = [
        (ex - 17, ey - 10, 118),
        (ex - 7, ey - 15, 116),
        (ex + 5, ey - 15, 110),
        (ex + 18, ey - 9, 100),
    ]
    bag: Line = [
        (ex - 16, ey - 19, 118),
        (ex - 6, ey - 26, 114),
        (ex + 10, ey - 25, 108),
        (ex + 27, ey - 15, 92),
    ]
    for k in range(9):
        first, last = sorted(rng.uniform(0, 1, 2))
        if last - first > 0.3:
            part = piece(between(lid, bag, k / 8), first, last)
            crease(s, wandering(part, rng, 0.5), rng.uniform(1.3, 1.9), rng.uniform(0.2, 0.35))
    # The upper lid: folds along it.
    for off in (9.0, 11.5, 14.0):
        crease(
            s,
            wandering(
                [(ex - 12, ey + off - 3, 118), (ex, ey + off, 114), (ex + 13, ey + off - 5, 106)], rng, 0.4
            ),
            1.5,
            0.3,
        )
    # The root of the nose, crosswise, and the frown over it.
    for y in np.arange(16.0, 46.0, 3.6):
        half = 5 + 7 * rng.random()
        crease(
            s,
            wandering([(0.3, y, 140), (half * 0.6, y + 1.2, 136), (half, y - 1, 130)], rng, 0.5),
            rng.uniform(1.3, 2.0),
            rng.uniform(0.2, 0.4),
        )
    for x in (4.0, 9.0):
        crease(s, wandering([(x, 44, 124), (x + 1.5, 52, 120), (x - 0.5, 61, 112)], rng, 0.6), 2.2, 0.4)
    # Forehead: broken lines between the folds.
    low: Line = [(2, 60, 120), (20, 64, 116), (42, 62, 106), (66, 50, 90)]
    high: Line = [(2, 92, 100), (18, 96, 96), (40, 92, 84), (62, 80, 66)]
    for _ in range(34):
        first = rng.uniform(0, 0.8)
        part = piece(between(low, high, rng.uniform(0, 1)), first, min(1.0, first + rng.uniform(0.14, 0.4)))
        crease(s, wandering(part, rng, 0.9), rng.uniform(1.5, 2.4), rng.uniform(0.2, 0.42))
    for y in (66.0, 75.0, 85.0):
        fold: Line = [(1, y, 110), (16, y + 4.5, 106), (36, y + 3, 96), (57, y - 6, 80)]
        s.stroke("pellet", shifted(fold, 0, 4), 5.0, 0.12)
        crease(s, wandering(fold, rng, 0.8), 3.4, 0.5)
    # From the wing of the nose over the cheek, and down beside the muzzle.
    inner: Line = [(36, 4, 124), (47, -8, 116), (57, -26, 104), (62, -46, 92)]
    outer: Line = [(58, 0, 104), (72, -8, 88), (80, -26, 70), (78, -48, 60)]
    for _ in range(26):
        first = rng.uniform(0, 0.7)
        part = piece(
            between(inner, outer, rng.uniform(0.02, 1)), first, min(1.0, first + rng.uniform(0.2, 0.5))
        )
        crease(s, wandering(part, rng, 0.8), rng.uniform(1.3, 2.2), rng.uniform(0.14, 0.3))
    # The neck: rings, and what crosses them.
    top: Line = [(0, -78, 110), (24, -77, 106), (48, -70, 92), (68, -58, 76)]
    foot: Line = [(0, -118, 110), (28, -116, 104), (58, -106, 84), (88, -90, 60)]
    for _ in range(38):
        first = rng.uniform(0, 0.75)
        part = piece(between(top, foot, rng.uniform(0, 1)), first, min(1.0, first + rng.uniform(0.2, 0.5)))
        crease(s, wandering(part, rng, 1.0), rng.uniform(1.5, 2.6), rng.uniform(0.16, 0.34))
    for _ in range(16):
        x, y = rng.uniform(4, 60), rng.uniform(-114, -82)
        crease(s, wandering([(x, y, 110), (x + 3, y - 4, 106), (x + 5, y - 10, 104)], rng, 0.8), 1.6, 0.2)


def lips(s: Sculptor) -> None:
    """Creases across both lips, close together, none as long as the next."""
    rng = np.random.default_rng(11)
    seam: Line = [(0, -40, 145), (16, -43, 140), (34, -47, 126), (50, -53, 104)]
    for side, far in ((1.0, 6.5), (-1.0, 9.0)):
        for at in np.arange(0.01, 0.97, 0.021):
            (x, y, z), (u, v, _) = (
                piece(seam, at, min(at + 0.03, 1.0))[0],
                piece(seam, at, min(at + 0.03, 1.0))[3],
            )
            along = np.array([u - x, v - y]) / max(np.hypot(u - x, v - y), 1e-6)
            across = np.array([-along[1], along[0]]) * side
            begin, end = rng.uniform(0.0, 1.5), far * rng.uniform(0.5, 1.0)
            line = [
                (x + across[0] * d + rng.normal(0, 0.25), y + across[1] * d, z)
                for d in (begin, 0.5 * (begin + end), end)
            ]
            crease(s, line, rng.uniform(1.0, 1.7), rng.uniform(0.22, 0.45))


def pads(s: Sculptor) -> None:
    """Where whiskers grow: rows of bulbs, each with its pit."""
    for (x, y, z), (a, b, _) in whisker_roots(s):
        s.stroke("raise", [(x, y, z + 20)], 3.6, 0.9, taper=False)
        s.stroke("raise", [(x, y, z + 20)], 1.9, 1.0, reverse=True, taper=False, times=3)
        crease(
            s,
            [
                (x - a * 2.0, y - b * 2.0, z + 20),
                (x + a * 2, y + b * 2, z + 20),
                (x + a * 5, y + b * 5, z + 20),
            ],
            1.5,
            0.22,
        )


def whisker_roots(s: Sculptor) -> list[tuple[tuple[float, float, float], tuple[float, float, float]]]:
    """Where whiskers grow on the left pad, and which way they go."""
    found = []
    for row in range(4):
        for column in range(5):
            x = 12.0 + 7.0 * column + 1.6 * (row % 2)
            y = -13.0 - 5.6 * row - 0.9 * column
            hit = s.at((x, y, 160.0))
            if hit is not None:
                out = np.array([0.55 + 0.09 * column, 0.05 - 0.16 * row, 0.5 - 0.1 * column])
                found.append((tuple(hit.tolist()), tuple((out / np.linalg.norm(out)).tolist())))
    return found


def scar(s: Sculptor) -> None:
    """An old cut through the brow, on one side alone."""
    s.project.change_settings(symmetry=(False, False, False))
    line: Line = [(-57, 66, 112), (-50, 52, 112), (-46, 40, 110), (-47, 33, 104)]
    s.stroke("coil", line, 2.6, 0.4)
    s.stroke("score", shifted(line, 0.4), 1.8, 0.6)
    for at in (0.2, 0.38, 0.56, 0.74):
        (x, y, z) = piece(line, at, at + 0.1)[0]
        crease(s, [(x - 3.4, y - 0.6, z + 10), (x, y, z + 10), (x + 3.2, y + 0.9, z + 10)], 1.2, 0.4)
    s.project.change_settings(symmetry=(True, False, False))


def grained(s: Sculptor, name: str, grain: Grain) -> None:
    """Lay a grain, and keep it as a layer."""
    press = library()[grain.press].made() if grain.press else None
    layer = add_grain(s.project, s.part, grain, press, name)
    bake_grain(s.project, s.part, layer.id)


def pores(s: Sculptor) -> None:
    """Broad pores on nose, cheeks and brow pass into fine ones; leather on the nose."""
    broad = masked(
        s,
        "Broad pores",
        [
            ([(0, 18, 140), (14, 10, 130)], 16, FRONT),
            ([(46, -2, 110), (60, -10, 100), (66, -30, 90)], 17, FRONT),
            ([(14, -20, 140), (40, -26, 124)], 15, FRONT),
            ([(4, 62, 116), (40, 62, 106)], 15, FRONT),
            ([(0, -66, 130), (18, -68, 126)], 12, FRONT),
        ],
    )
    leather = masked(s, "Nose", [([(0, 4, 150), (14, 5, 148), (22, 6, 140)], 15, FRONT)])
    grained(s, "Pores, fine", Grain("press", "skin-fields", 11.0, 0.16, mirrored=False, seed=3))
    grained(
        s,
        "Pores, broad",
        Grain("press", "pores-two", 17.0, 0.42, where="mask", of=broad, low=0.0, high=1.0, soft=0.6, seed=5),
    )
    grained(
        s,
        "Nose leather",
        Grain(
            "press", "skin-nose", 11.0, 0.45, where="mask", of=leather, low=0.0, high=1.0, soft=0.6, seed=8
        ),
    )


def skin(s: Sculptor) -> None:
    """All of the skin, each kind on a layer of its own."""
    for name, level, work in (
        ("Wrinkles", 2, wrinkles),
        ("Whisker pads", 3, pads),
        ("Lips", 3, lips),
        ("Scar", 3, scar),
    ):
        step(s, level)
        add_layer(s.project, s.part, name)
        work(s)
        record(s.project, s.part, "")
    step(s, 3)
    pores(s)


# -- hair ------------------------------------------------------------------------------------------


def whiskers(s: Sculptor) -> None:
    """Stiff hairs out of the pads, longer to the outside, each bent by its weight."""
    rng = np.random.default_rng(3)
    made = []
    for k, (root, way) in enumerate(whisker_roots(s)):
        out, at = np.array(way), np.array(root)
        long = (26.0 + 6.5 * (k % 5)) * rng.uniform(0.8, 1.15)
        sag = np.array([0.0, -1.0, 0.0]) * long * rng.uniform(0.1, 0.3)
        bow = np.array([0.0, 0.0, -1.0]) * long * rng.uniform(0.1, 0.25)
        spots = [
            at - out * 1.5,
            at + out * long * 0.33,
            at + out * long * 0.68 + 0.35 * (sag + bow),
            at + out * long + sag + bow,
        ]
        for flip in (1.0, -1.0):
            bent = [
                tuple((np.array([flip, 1, 1]) * spot + (0 if j == 0 else 1) * rng.normal(0, 0.4, 3)).tolist())
                for j, spot in enumerate(spots)
            ]
            made.append(Strand(tuple(Knot(place, 0.34) for place in bent)))
    add_recipe(s.project, "Whiskers", Strands(tuple(made), sides=6, spans=6, taper=TAPERS["tip"]))


def furred(
    s: Sculptor,
    name: str,
    strokes: list[tuple[Line, float, tuple[float, float, float]]],
    numbers: FurNumbers,
    length: float,
    way: tuple[float, float, float],
) -> None:
    """Fur where strokes go, combed one way."""
    project = s.project
    held = masked(s, f"{name}, where", strokes)
    numbers = replace(numbers, mask=held)
    mesh = s.part.mesh
    kept = next(one for one in project.scene.kept_masks if one.id == held)
    fur = sown(s.part, mesh, recalled(kept, mesh), numbers, name, GO)
    leads = leads_of(fur, mesh)
    everywhere = np.ones(len(leads))
    leads = lengthened(leads, everywhere, length / float(leads.lengths().mean()), 1e9)
    for _ in range(4):
        leads = combed(leads, everywhere, np.array(way) * length * 0.6)
    add_fur(project, with_leads(fur, leads))


def fur(s: Sculptor) -> None:
    """The hump of wet fur, whiskers at the cheeks, brows."""
    back: list[tuple[Line, float, tuple[float, float, float]]] = [
        ([(0, 66, -100), (0, 0, -100), (0, -60, -120), (0, -120, -120)], 54, BACK),
        ([(50, 30, -90), (64, -40, -100), (76, -110, -100)], 50, BACK),
        ([(130, -60, -50), (130, -100, -50), (130, -134, -40)], 44, SIDE),
    ]
    wet = FurNumbers(
        count=160_000,
        width=0.34,
        vary=0.45,
        loose=0.1,
        clump=0.62,
        curl=0.06,
        root=(0.3, 0.26, 0.22),
        tip=(0.72, 0.66, 0.58),
    )
    furred(s, "Hump", back, wet, 25.0, (0.0, -1.0, -0.35))
    sides: list[tuple[Line, float, tuple[float, float, float]]] = [
        ([(100, 10, -6), (100, -20, 2), (98, -52, 14)], 22, SIDE),
    ]
    furred(
        s, "Cheeks", sides, replace(wet, count=40_000, width=0.26, clump=0.5, seed=2), 14.0, (0.3, -0.8, -0.6)
    )
    tufts: list[tuple[Line, float, tuple[float, float, float]]] = [
        ([(82, 84, 40), (96, 88, 40), (110, 78, 40)], 8, FRONT),
        ([(84, 56, 40), (90, 60, 40)], 7, FRONT),
    ]
    furred(s, "Ears", tufts, replace(wet, count=8_000, width=0.26, clump=0.7, seed=3), 9.0, (0.45, 0.8, 0.2))
    chest: list[tuple[Line, float, tuple[float, float, float]]] = [
        ([(0, -150, 100), (50, -148, 90), (96, -140, 50)], 22, FRONT),
        ([(0, -174, 100), (50, -170, 90), (100, -160, 40)], 24, FRONT),
        ([(130, -140, 40), (130, -150, 0), (130, -150, -40)], 26, SIDE),
        ([(0, -300, 0), (50, -300, -10), (84, -300, -30)], 44, (0.0, 1.0, 0.0)),
    ]
    furred(s, "Chest", chest, replace(wet, count=80_000, width=0.32, seed=6), 20.0, (0.0, -1.0, 0.1))
    brows: list[tuple[Line, float, tuple[float, float, float]]] = [
        ([(20, 45, 120), (36, 47, 116), (54, 42, 106), (66, 36, 98)], 6.0, FRONT),
    ]
    furred(
        s, "Brows", brows, replace(wet, count=5_000, width=0.28, clump=0.55, seed=4), 10.0, (0.8, -0.3, 0.1)
    )


# -- the whole -------------------------------------------------------------------------------------


def make(progress: Progress | None = None) -> Project:
    """The whole project; on its second level, as it is kept."""
    progress = progress or Progress()
    project = demo_project(progress, "tarn-forms")
    for part in project.scene.parts:
        if part.name.startswith("Hand"):
            project.delete(part.id)
    project.choose(next(part.id for part in project.scene.parts if part.name == "Tarn"))
    project.change_settings(symmetry=(True, False, False))
    project.change_settings(camera=CAMERA)
    for milestone in project.scene.milestones:
        project.delete_milestone(milestone.id)
    progress.report(0.05, "Levels")
    levelled(project)
    s = Sculptor(project)
    progress.report(0.1, "Skin")
    skin(s)
    progress.report(0.9, "What he wears")
    lantern(s, rope(s))
    whiskers(s)
    fur(s)
    step(s, KEPT_LEVEL)
    project.history.clear()
    project.unsaved = False
    return project


def ship(made: Project, path: Path) -> None:
    """Write a demo as it is kept, with a picture of its highest level."""
    whole = Sculptor(made)
    step(whole, TOP)
    seen = encoded(render_still(made.scene, CAMERA, 480, 300, Style(look=made.settings.look)))
    step(whole, KEPT_LEVEL)
    save_project(made, path, seen, small=True)


if __name__ == "__main__":
    ship(make(), Path(sys.argv[1]))
