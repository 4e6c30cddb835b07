"""What Tarn wears: a rope of three strands with its knot, a tin lantern pierced by holes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, Progress
from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.live.strand import TAPERS, Knot, Strand, Strands
from kneten.core.scatter.numbers import Row
from kneten.core.solid import combine
from kneten.core.transform import Transform
from kneten.demo.sculptor import Sculptor
from kneten.document.blocking import add_live, bake, in_space_of, put_together
from kneten.document.guides import add_guides
from kneten.document.laying import add_laid, gathered
from kneten.document.project import Project
from kneten.document.scene import Part

GO = Progress()


def ring_of(s: Sculptor) -> F64:
    """Where a rope lies around the neck, (k, 3): over the breast in front, behind it over the hump."""
    places = []
    for angle in np.linspace(0, 2 * np.pi, 48, endpoint=False):
        out = np.array([np.sin(angle), 0.0, np.cos(angle)])
        front = 0.5 + 0.5 * np.cos(angle)
        y = -84.0 - 58.0 * front**1.5
        hit = s.at((out[0] * 200, y, out[2] * 200 - 20), (-out[0], 0.0, -out[2]))
        if hit is not None:
            # Over the fur behind, not under it.
            places.append(hit + out * (6.0 + 4.5 * (1 - front)))
    loop = np.array(places)
    # A rope has weight and is stiff: no dents of the clay show in it.
    for _ in range(5):
        loop = 0.5 * loop + 0.25 * (np.roll(loop, 1, 0) + np.roll(loop, -1, 0))
    return loop


def helices(
    path: F64, closed: bool, aside: float, turns: float, thick: float, ease: float = 0.0
) -> tuple[Strand, ...]:
    """Three strands laid around each other along a path (k, 3); towards the end they come apart by `ease`."""
    n = 12 * round(turns)
    rows = np.vstack([path, path[:1]]) if closed else path
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(rows, axis=0), axis=1))])
    shares = np.linspace(0, 1, n, endpoint=not closed)
    curve = CubicSpline(run, rows, bc_type="periodic" if closed else "not-a-knot")
    at, along = curve(shares * run[-1]), curve(shares * run[-1], 1)
    along /= np.linalg.norm(along, axis=1)[:, None]
    side = np.cross(along, [0.0, 1.0, 0.0])
    side /= np.linalg.norm(side, axis=1)[:, None]
    up = np.cross(side, along)
    made = []
    for k in range(3):
        angle = 2 * np.pi * (turns * shares + k / 3)
        far = aside * (1 + ease * shares**6)
        spots = at + far[:, None] * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * up)
        made.append(Strand(tuple(Knot(tuple(spot), thick) for spot in spots.tolist()), closed))
    return tuple(made)


def rope(s: Sculptor) -> F64:
    """A rope of three strands around the neck, its ends tied in front and frayed; gives where the knot is."""
    project = s.project
    loop = ring_of(s)
    add_recipe(project, "Rope", Strands(helices(loop, True, 2.5, 46, 2.7), sides=10, spans=2))
    knot = loop[0] + [0.0, -2.0, 3.0]
    ends: list[Strand] = []
    fringes: list[Strand] = []
    rng = np.random.default_rng(5)
    for way, long in ((-1.0, 42.0), (1.0, 31.0)):
        line = knot + np.array([[0.0, 4, 0], [way * 4, -2, 3.5], [way * 8, -16, 4.5], [way * 9, -long, 3.0]])
        held = [seated(s, place, 3.0) for place in line]
        ends += helices(np.array(held), False, 2.2, 4, 2.4, 0.6)
        for _ in range(16):
            begin = held[-1] + rng.normal(0, 1.6, 3) + np.array([0.0, 2.0, 0.0])
            tip = begin + np.array([rng.normal(way * 2, 4.5), -rng.uniform(9, 18), rng.normal(0.5, 2.5)])
            middle = 0.5 * (begin + tip) + rng.normal(0, 1.4, 3)
            fringes.append(
                Strand(
                    tuple(
                        Knot(tuple(place.tolist()), thick)
                        for place, thick in zip((begin, middle, tip), (0.8, 0.6, 0.2), strict=True)
                    )
                )
            )
    add_recipe(project, "Rope ends", Strands(tuple(ends), sides=10, spans=3))
    add_recipe(project, "Frayed ends", Strands(tuple(fringes), sides=6, spans=5, taper=TAPERS["tip"]))
    turns: list[Strand] = []
    for off in (-3.2, 0.6, 4.4):
        angles = np.linspace(0, 2 * np.pi, 9, endpoint=False)
        coil = knot + np.stack([8.4 * np.cos(angles), off + 1.5 * np.sin(angles), 6.4 * np.sin(angles)], 1)
        turns += helices(coil, True, 1.6, 6, 1.9)
    add_recipe(project, "Knot", Strands(tuple(turns), sides=10, spans=2))
    return np.asarray(knot)


def seated(s: Sculptor, place: F64, off: float) -> F64:
    """A place, brought in front of the clay where it is behind."""
    hit = s.at((float(place[0]), float(place[1]), 300.0))
    if hit is None:
        return place
    return np.array([place[0], place[1], max(place[2], hit[2] + off)])


def add_recipe(project: Project, name: str, recipe: OnItsOwn, place: Transform | None = None) -> Part:
    """A live part; the bust stays in hand."""
    held = project.active
    part = add_live(project, name, recipe, recipe.made().mesh(), place or Transform())
    if held is not None:
        project.choose(held.id)
    return part


def lantern(s: Sculptor, knot: F64) -> None:
    """A tin lantern that hangs from the rope: a thin body pierced by holes, a hat, a ring, rivets around its rims."""
    project, bust = s.project, s.part.id
    x, y, z = knot + np.array([0.0, -70.0, 16.0])
    place = Transform((float(x), float(y), float(z))).with_degrees(0.0, 14.0, 3.0)
    body = Lathe(
        (
            LathePoint(15.0, -26.0, True), LathePoint(18.6, -26.0, True), LathePoint(18.6, -22.5, True), LathePoint(17.0, -22.0, True),
            LathePoint(17.2, 0.0), LathePoint(17.0, 20.0, True), LathePoint(18.6, 20.5, True), LathePoint(18.6, 24.0, True), LathePoint(15.0, 24.0, True),
        ),
        96, 6, 1.2,
    )  # fmt: skip
    shell = baked(project, add_recipe(project, "Lantern", body, place))
    holes = []
    for row in range(7):
        for column in range(16):
            # Rhombs, each of a large hole with small ones around it.
            across, up = (column % 4) - 1.5, row - 3
            far = abs(across) + 0.5 * abs(up)
            if far < 2.1:
                angle = 2 * np.pi * (column + 0.5) / 16
                size = 3.6 if far < 1.1 else 2.4
                hole = Primitive("cylinder", (size, 12.0, size), (14, 2, 2))
                spot = np.array([17.0 * np.sin(angle), -15.5 + 5.2 * row, 17.0 * np.cos(angle)])
                turned = Transform(tuple(spot.tolist())).with_degrees(90.0, float(np.degrees(angle)), 0.0)
                holes.append((hole, turned))
    pins = [
        baked(project, add_recipe(project, "Hole", hole, inside(place, turned))) for hole, turned in holes
    ]
    parts = [project.scene.part(shell.id), *pins]
    mesh = combine("subtract", in_space_of(parts, parts[0]), GO)
    put_together(project, parts[0], mesh, [pin.id for pin in pins], ("Lantern",), "Subtract from Lantern")
    hat = Lathe(
        (LathePoint(20.5, 23.0, True), LathePoint(20.5, 25.0, True), LathePoint(11.0, 35.0), LathePoint(6.0, 38.0, True), LathePoint(6.0, 43.0, True), LathePoint(7.6, 43.5, True), LathePoint(3.0, 48.0)),
        72, 8, 1.2,
    )  # fmt: skip
    add_recipe(project, "Lantern hat", hat, place)
    angles = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    ring = tuple(Knot((8.0 * float(np.cos(a)), 55.0 + 8.0 * float(np.sin(a)), 0.0), 1.3) for a in angles)
    add_recipe(project, "Ring", Strands((Strand(ring, True),), sides=12, spans=4), place)
    riveted(project, "Lantern", ((-24.2, 18.6), (22.2, 18.6)))
    project.choose(bust)


def inside(outer: Transform, inner: Transform) -> Transform:
    """A place given in another's space."""
    at = outer.to_scene(np.array([inner.place]))[0]
    turn = Rotation.from_quat(outer.turn) * Rotation.from_quat(inner.turn)
    return replace(inner, place=tuple(at.tolist()), turn=tuple(turn.as_quat().tolist()))


def baked(project: Project, part: Part) -> Part:
    """Clay of a live part."""
    bake(project, [part])
    return project.scene.part(part.id)


def riveted(project: Project, name: str, rims: tuple[tuple[float, float], ...]) -> None:
    """Rivets along guides that go around a part at some heights and radii."""
    ground = next(part for part in project.scene.parts if part.name == name)
    lines = []
    for height, radius in rims:
        angles = np.linspace(0, 2 * np.pi, 73)
        lines.append(np.stack([radius * np.cos(angles), np.full(73, height), radius * np.sin(angles)], 1))
    add_guides(project, ground, lines, False, "rivets")
    recipe = Row(ground=ground.id, sources=("rivet",), size=2.6, gap=1.2)
    add_laid(project, "Rivets", recipe, gathered(project.scene, "", recipe).worked_out(GO))
