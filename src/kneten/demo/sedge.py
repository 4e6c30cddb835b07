"""Widow Sedge, a heron-like passenger in a reed coat: her blockout, from an armature.

Run `python -m kneten.demo.sedge OUT.kneten` to make the project that ships with Kneten.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.camera import Camera
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import bird
from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.live.starter import button
from kneten.core.live.strand import TAPERS, Knot, Strand, Strands
from kneten.core.solid import Outline, combine, cut, prism
from kneten.core.transform import Transform
from kneten.demo.sketches import SKETCHES
from kneten.document import blocking, rows
from kneten.document.look import Look
from kneten.document.marks import landmark
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part
from kneten.document.things import Reference, Tape
from kneten.render.still import encoded, render_still

CAMERA = Camera(target=(2.0, 92.0, 2.0), distance=520.0, yaw=32.0, pitch=7.0)

ORIGIN = (0.0, 0.0, 0.0)


def at(x: float, y: float, z: float, turn: tuple[float, float, float] = ORIGIN) -> Transform:
    """A place, turned by degrees about x, y, z."""
    return Transform((x, y, z)).with_degrees(*turn)


class Blocker:
    """Adds parts to a project by the operations a user has."""

    def __init__(self, project: Project) -> None:
        self.project = project

    def add(self, name: str, recipe: OnItsOwn, place: Transform | None = None) -> Part:
        """A live part."""
        return blocking.add_live(self.project, name, recipe, recipe.made().mesh(), place or Transform())

    def mirror(self, part: Part, linked: bool = True) -> Part:
        """Its twin across x = 0."""
        return blocking.mirror(self.project, [part], np.zeros(3), np.array([1.0, 0, 0]), linked)[0]

    def bake(self, part: Part) -> Part:
        """Clay of a live part."""
        blocking.bake(self.project, [part])
        return self.project.scene.part(part.id)

    def group(self, name: str, parts: list[Part]) -> None:
        """A group of these parts."""
        here = [self.project.scene.part(p.id) for p in parts]
        blocking.group(self.project, here, name)

    def subtract(self, part: Part, others: list[Part]) -> Part:
        """A part without others."""
        parts = [part, *others]
        mesh = combine("subtract", blocking.in_space_of(parts, part), Progress())
        ids = [p.id for p in others]
        return blocking.put_together(
            self.project, part, mesh, ids, blocking.origin_names(parts), f"Subtract from {part.name}"
        )

    def cut_plane(self, part: Part, point: F64, normal: F64) -> Part:
        """Cut away what lies before a plane of the scene, as a line drawn in the view does."""
        n = normal / np.linalg.norm(normal)
        side = np.cross(n, np.eye(3)[int(np.argmin(np.abs(n)))])
        side /= np.linalg.norm(side)
        up = np.cross(n, side)
        reach = 200.0
        flat = [point + side * a * reach + n * b * reach for a, b in ((-1, 0), (1, 0), (1, 1), (-1, 1))]
        near = np.array([part.transform.to_part((p + up * reach)[None])[0] for p in flat])
        far = np.array([part.transform.to_part((p - up * reach)[None])[0] for p in flat])
        mesh = cut(part.mesh, [prism(Outline(near, far), 4.0)], False, None, Progress())[0]
        self.project.replace_mesh(part.id, mesh, f"Cut {part.name}", recipe=None, was=part.recipe)
        return self.project.scene.part(part.id)


def widow() -> Armature:
    """The wading bird, taller in the neck and bowed by her years."""
    body = bird()
    keys = {joint.name: joint.key for joint in body.joints}
    body = body.turned(keys["shoulders"], np.array([1.0, 0, 0]), 10.0)
    body = body.turned(keys["neck 3"], np.array([1.0, 0, 0]), -6.0)
    body = body.scaled(keys["body"], 1.12, subtree=False)
    # Necks curve: each of its limbs gets a ball more, pushed out to where the curve runs.
    for name, way in (("neck 2", 2.4), ("neck 3", 0.6), ("neck 4", -2.2)):
        body, new = body.inserted(keys[name])
        x, y, z = body.joint(new).place
        body = body.moved(new, (x, y, z + way), subtree=False)
    body = body.turned(keys["wing shoulder left"], np.array([0, 0, 1.0]), 14.0)
    return replace(body, edge=1.0, blend=0.2)


def strand(points: list[tuple[float, float, float]], thick: list[float] | float, roll: float = 0.0) -> Strand:
    """A strand through points."""
    sizes = thick if isinstance(thick, list) else [thick] * len(points)
    return Strand(
        tuple(
            Knot((float(x), float(y), float(z)), s, roll) for (x, y, z), s in zip(points, sizes, strict=True)
        )
    )


def reeds(
    count: int, top: float, length: float, inner: float, outer: float, middle: float, seed: int
) -> Strands:
    """Reeds hanging around the body like the tiers of a coat, open in front."""
    random = np.random.default_rng(seed)
    strands = []
    for k in range(count):
        # From a little right of the front all the way round to a little left of it.
        angle = np.radians(22 + (316 * (k + random.uniform(-0.25, 0.25))) / (count - 1)) + np.pi / 2
        drop = length * random.uniform(0.88, 1.08)
        way = np.array([np.cos(angle), 0, np.sin(angle)])
        sway = np.array([-way[2], 0, way[0]]) * random.uniform(-2.0, 2.0)
        knots = []
        for t in (0.0, 0.3, 0.65, 1.0):
            wide = inner + (outer - inner) * t**0.7
            place = way * [wide, 0, wide * 1.12] + sway * t + np.array([0, top - drop * t, middle - 5.0 * t])
            x, y, z = (float(v) for v in place)
            knots.append(Knot((x, y, z), 2.1, roll=float(np.degrees(-angle))))
        strands.append(Strand(tuple(knots)))
    return Strands(tuple(strands), flat=0.42, sides=8, spans=3, taper=TAPERS["leaf"])


def plumes(seed: int) -> Strands:
    """Long feathers down the front of the neck."""
    random = np.random.default_rng(seed)
    strands = []
    for _ in range(46):
        side = random.uniform(-1, 1)
        high = random.uniform(0, 1)
        root = np.array(
            [side * (2.4 + 5.5 * (1 - high)), 112 + 30 * high, 22 + 7 * (1 - high) - 3 * abs(side)]
        )
        drop = random.uniform(16, 26)
        out = np.array([side * 2.2, 0, 5.0])
        points = [root + out * t * (1.2 - 0.6 * t) + np.array([0, -drop * t, 0]) for t in (0, 0.35, 0.7, 1.0)]
        strands.append(strand([tuple(p) for p in points], random.uniform(0.9, 1.5)))
    return Strands(tuple(strands), flat=0.5, sides=8, spans=3, taper=TAPERS["leaf"])


def hat() -> Lathe:
    """A ferry hat: low crown, brim that droops."""
    points = (
        (0.0, 12.0, False), (6.5, 11.2, False), (9.2, 8.0, False), (9.6, 1.5, True), (17.0, 0.4, False),
        (25.0, -3.4, False), (27.5, -5.6, True),
    )  # fmt: skip
    return Lathe(tuple(LathePoint(*p) for p in points), around=64, spans=5, thickness=0.9)


def head(b: Blocker) -> list[Part]:
    """Bill, eyes, crest, hat, spectacles."""
    lifted = 170.0
    upper = b.add(
        "Bill, upper",
        Strands((strand([(0, lifted, 30), (0, lifted - 1, 42), (0, lifted - 4, 56), (0, lifted - 8, 70)], [3.6, 3.0, 2.2, 1.2]),), flat=0.72, sides=20, taper=TAPERS["none"]),
    )  # fmt: skip
    lower = b.add(
        "Bill, lower",
        Strands((strand([(0, lifted - 3.2, 29), (0, lifted - 4.5, 42), (0, lifted - 7.2, 55), (0, lifted - 10, 66)], [2.9, 2.3, 1.7, 0.8]),), flat=0.6, sides=20, taper=TAPERS["none"]),
    )  # fmt: skip
    eyes = b.add(
        "Eyes", Primitive("eye", (4.6, 4.6, 4.6), (40, 32, 1), 0.55, (0.0, -4.0), 9.6), at(0, 172.5, 26.5)
    )
    lid = b.add(
        "Lid left",
        Strands((strand([(2.6, 174.4, 29.4), (4.8, 175.6, 28.8), (7.2, 174.6, 26.6), (7.8, 172.6, 24.6)], 0.8),), sides=10, taper=TAPERS["both ends"]),
    )  # fmt: skip
    lids = [lid, b.mirror(lid)]
    crest = b.add(
        "Crest",
        Strands(
            (
                strand([(1.4, 176, 15), (2.0, 178, 2), (2.6, 172, -14), (3.4, 160, -26)], 1.3),
                strand([(-1.4, 176, 15), (-2.2, 177, 1), (-3.0, 169, -15), (-3.8, 154, -24)], 1.3),
                strand([(0, 177, 15), (0, 181, 1), (0.2, 178, -15), (0.4, 167, -31)], 1.5),
            ),
            flat=0.5,
            taper=TAPERS["leaf"],
        ),
    )
    shade = b.add("Ferry hat", hat(), at(0, 177.0, 18.0, (-14.0, 0.0, 4.0)))
    band = b.add(
        "Hat band",
        Primitive("torus", (20.6, 2.6, 20.6), (64, 16, 1), 0.88),
        at(-0.2, 179.4, 17.5, (-14.0, 0.0, 4.0)),
    )
    # The crest passes through a hole in the brim: what a knife does.
    hole = b.add(
        "Hole", Primitive("cylinder", (9.0, 14.0, 9.0), (24, 6, 8)), at(0, 176.0, 4.0, (-14.0, 0.0, 0.0))
    )
    shade = b.subtract(b.bake(shade), [b.bake(hole)])
    ring = b.add(
        "Glass left",
        Primitive("torus", (8.4, 1.1, 8.4), (48, 12, 1), 0.86),
        at(5.4, 172.4, 30.6, (76.0, 24.0, 0.0)),
    )
    other = b.mirror(ring)
    bridge = b.add(
        "Glass bridge",
        Strands((strand([(-2.2, 173.0, 32.6), (0, 174.2, 33.6), (2.2, 173.0, 32.6)], 0.45),), sides=8),
    )
    return [upper, lower, eyes, *lids, crest, shade, band, ring, other, bridge]


def coat(b: Blocker) -> list[Part]:
    """Tiers of reeds, a collar that is open in front, a rope belt, buttons."""
    tiers = [
        b.add("Reeds, lower", reeds(64, 82, 46, 17, 33, -1.0, 1)),
        b.add("Reeds, middle", reeds(56, 97, 38, 15, 27, 4.0, 2)),
        b.add("Reeds, upper", reeds(46, 112, 32, 8.5, 22, 12.0, 3)),
    ]
    wall = ((9.5, -4.0, True), (8.6, 1.0, False), (10.0, 6.0, False), (14.0, 10.0, True))
    collar = b.add(
        "Collar",
        Lathe(tuple(LathePoint(*p) for p in wall), around=64, thickness=1.4),
        at(0, 112.0, 15.0, (24.0, 0.0, 0.0)),
    )
    slot = b.add(
        "Slot", Primitive("box", (9.0, 40.0, 30.0), (6, 12, 10)), at(0, 114.0, 31.0, (24.0, 0.0, 0.0))
    )
    collar = b.subtract(b.bake(collar), [b.bake(slot)])
    turns = np.linspace(0, 2 * np.pi, 20, endpoint=False)
    loop = tuple(
        Knot((float(20.5 * np.cos(t)), float(82 + 1.4 * np.sin(2 * t)), float(23.0 * np.sin(t) - 4)), 1.7)
        for t in turns
    )
    lobes = tuple(
        (float(np.cos(t) * r), float(np.sin(t) * r))
        for t, r in zip(
            np.linspace(0, 2 * np.pi, 12, endpoint=False), [1.0, 0.92, 0.62, 0.92] * 3, strict=True
        )
    )
    belt = b.add(
        "Rope belt",
        Strands((Strand(loop, True),), "drawn", lobes, sides=24, spans=8, twist=2160.0, taper=TAPERS["none"]),
    )
    first = b.add("Button", button(), replace(at(0, 104.0, 27.0, (70.0, 0.0, 0.0)), scale=0.28))
    more = rows.along_line(b.project, [first], 4, np.array([0.0, -7.0, 1.0]), linked=True)
    return [*tiers, collar, belt, first, *more]


def basket(b: Blocker) -> list[Part]:
    """What she carries: a basket of eggs on her wing."""
    x, y, z = 40.0, 60.0, -6.0
    wall = ((0.0, 0.0, True), (9.0, 0.0, True), (12.5, 7.0, False), (13.5, 13.0, True))
    bowl = b.add("Basket", Lathe(tuple(LathePoint(*p) for p in wall), around=48, thickness=1.2), at(x, y, z))
    handle = b.add(
        "Basket handle",
        Strands((strand([(x - 12.4, y + 12, z), (x - 9, y + 24, z), (x, y + 29, z), (x + 9, y + 24, z), (x + 12.4, y + 12, z)], 1.0),), sides=10, taper=TAPERS["none"]),
    )  # fmt: skip
    egg = b.add(
        "Egg",
        Primitive("sphere", (7.4, 9.6, 7.4), (20, 20, 20)),
        at(x - 4, y + 9.5, z - 2, (14.0, 0.0, 20.0)),
    )
    others = rows.around(b.project, [egg], 3, 360.0, np.array([0, 1.0, 0]), np.array([x, y, z]), linked=True)
    return [bowl, handle, egg, *others]


def post(b: Blocker) -> list[Part]:
    """A mooring post beside her: cut aslant, with a rope around it."""
    x, z = -52.0, 6.0
    wood = b.add(
        "Mooring post",
        Primitive("cylinder", (17.0, 92.0, 17.0), (40, 40, 16)),
        at(x, 44.0, z, (2.0, 0.0, 3.0)),
    )
    wood = b.cut_plane(b.bake(wood), np.array([x, 82.0, z]), np.array([-0.5, 1.0, 0.35]))
    turns = np.linspace(0, 6 * np.pi, 37)
    coil = [(x + 9.8 * np.cos(t), 55 + 1.35 * t / 1.9, z + 9.8 * np.sin(t)) for t in turns]
    rope = b.add(
        "Mooring rope",
        Strands(
            (strand([(float(p), float(q), float(r)) for p, q, r in coil], 1.5),),
            sides=12,
            spans=3,
            taper=TAPERS["none"],
        ),
    )
    return [wood, rope]


def make(project: Project) -> None:
    """The whole blockout."""
    b = Blocker(project)
    first = b.add("Widow's body", widow())
    body = b.bake(first)
    feathers = b.add("Neck feathers", plumes(5))
    headed = head(b)
    coated = coat(b)
    carried = basket(b)
    moored = post(b)
    b.group("Widow", [body, feathers])
    b.group("Head", headed)
    b.group("Reed coat", coated)
    b.group("Basket", carried)
    b.group("Mooring", moored)
    measures(project, project.scene.part(body.id))
    references(project)
    project.choose(body.id)


def measures(project: Project, body: Part) -> None:
    """Landmarks on crown and sole, and a tape between them."""
    top = np.array([0.0, 176.0, 20.0])
    sole = np.array([9.0, 2.0, 0.0])
    scene = project.scene
    for name, place in (("Crown", top), ("Sole", sole)):
        scene = replace(scene, landmarks=(*scene.landmarks, landmark(scene, name, body, place)))
    tape = Tape(scene.landmarks[-2].id, scene.landmarks[-1].id, divisions=(1 / 3, 2 / 3))
    project.change("Measure her", replace(scene, tapes=(tape,)))


def references(project: Project) -> None:
    """Sketches on the board."""
    import hashlib

    originals = dict(project.settings.originals)
    new: list[Reference] = []
    x = 0.0
    for name, note, draw in SKETCHES:
        image = draw()
        data = encoded(image, "JPEG")
        key = hashlib.sha256(data).hexdigest()[:24] + ".jpg"
        originals[key] = data
        scale = 240.0 / image.height
        wide = image.width * scale
        row = len(new) // 3
        if len(new) % 3 == 0:
            x = 0.0
        new.append(Reference(name, key, place=(x + wide / 2, 120.0 + row * 256.0), scale=scale, note=note))
        x += wide + 14
    project.change_settings(originals=originals)
    project.change("Lay out sketches", replace(project.scene, references=tuple(new)))


def main(path: Path) -> None:
    """Make the project and save it."""
    project = Project()
    project.title = "Widow Sedge, blockout"
    make(project)
    project.change_settings(camera=CAMERA)
    project.change_settings(look=Look(floor=True))
    picture = encoded(render_still(project.scene, CAMERA, 480, 300))
    save_project(project, path, picture)
    total = sum(part.mesh.n_vertices for part in project.scene.parts)
    print(f"{path}: {len(project.scene.parts)} parts, {total:,} vertices, {path.stat().st_size / 1e6:.1f} MB")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
