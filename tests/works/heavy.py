"""A heavy model: a file of more than a million vertices opened, subdivided once and changed; painted, lit, built around, halved.

Eyes are painted on a layer of their own, both sides at once, scratches pressed on another; gold and its surroundings, a
finish; floor, edges, a straight view; boxes fused beside it, a lathe and a tube; halved twice without a visible loss; the
viewport alone.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import trimesh
from scipy.spatial import KDTree

from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.formats.space import Space
from tests.works.sitting import Sitting, UnacceptableError

DIVISIONS = 430
"""Of the ball that the file holds: 1.1 million vertices."""

ALLOWED = 0.35
"""Millimetres that halving twice may be off, on a body of 200."""


def written(folder: Path) -> Path:
    """A file that another program may have written: triangles, more than a million vertices."""
    places, faces = ball(100.0, DIVISIONS)
    angle = np.arctan2(places[:, 0], places[:, 2])
    places = places * (1 + 0.02 * np.sin(9 * angle) * np.cos(places[:, 1] / 20.0))[:, None]
    path = folder / "scan.ply"
    trimesh.Trimesh(places, triangulate(faces), process=False).export(path)
    return path


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    with tempfile.TemporaryDirectory() as name:
        window.studio.import_path(written(Path(name)), Space("mm", "y"), window.views.frame_all)
        sitting.rest()
    count = sitting.part.mesh.n_vertices
    print(f"  {count:,} vertices opened")
    if count < 1_000_000:
        raise UnacceptableError("it is not heavy")
    sitting.look("front")
    sitting.run("density.subdivide")
    print(f"  {sitting.part.mesh.n_vertices:,} after subdividing: {sitting.said()}")
    if sitting.part.mesh.n_vertices < 3 * count:
        raise UnacceptableError(f"it was not subdivided: {sitting.said()}")
    changed(sitting)
    painted(sitting)
    shown(sitting)
    built(sitting)
    heavy = project.scene.parts[0]
    project.choose(heavy.id)
    halved(sitting)
    sitting.run("view.alone")
    if window.rack.isVisible():
        raise UnacceptableError("the viewport is not alone")
    sitting.run("view.alone")


def changed(sitting: Sitting) -> None:
    """A brow on the finest level."""
    before = sitting.part.mesh.positions.copy()
    sitting.tool("raise", 22.0, 0.8)
    sitting.stroke([sitting.front(10.0, 34.0), sitting.front(30.0, 40.0), sitting.front(50.0, 34.0)])
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    print(f"  a stroke has moved {(moved > 0.01).sum():,} vertices by up to {moved.max():.1f} mm")
    if moved.max() < 1.0:
        raise UnacceptableError("nothing was raised")


def painted(sitting: Sitting) -> None:
    """Eyes on a layer, both sides; scratches on another."""
    sitting.run("layer.add")
    sitting.colour(20, 40, 160)
    sitting.tool("paint", 12.0, 1.0)
    eye = sitting.front(34.0, 18.0)
    for _ in range(3):
        sitting.stroke([eye, (eye[0] + 2.0, eye[1], eye[2])])
    for at in (eye, (-eye[0], eye[1], eye[2])):
        if sitting.seen_colour(*at)[2] < 110:
            raise UnacceptableError(f"an eye is {sitting.seen_colour(*at)}")
    sitting.run("layer.add")
    before = sitting.part.mesh.positions.copy()
    sitting.press("scratches", 26.0)
    sitting.stroke([sitting.front(0.0, -40.0), sitting.front(20.0, -44.0)])
    if np.array_equal(before, sitting.part.mesh.positions):
        raise UnacceptableError("there are no scratches")
    stack = sitting.part.stack
    if stack is None or len(stack.layers) != 2:
        raise UnacceptableError("there are not two layers")
    sitting.run("layer.solo")
    sitting.run("layer.solo")
    sitting.picture("painted")


def shown(sitting: Sitting) -> None:
    """Gold, its surroundings, a finish; floor, edges, straight."""
    sitting.run("light.set-three")
    sitting.window.pictures.change_finish(exposure=0.4, bloom=0.2, vignette=0.3)
    sitting.rest()
    for key in ("look.floor", "look.wires", "look.sky", "look.lit"):
        sitting.run(key)
    sitting.picture("lit")
    sitting.run("look.wires", "look.floor", "look.clay")


def built(sitting: Sitting) -> None:
    """Boxes fused, a lathe, a tube, all closed."""
    project = sitting.project
    boxes = []
    for x in (150.0, 175.0):
        sitting.run("live.box")
        sitting.number("Size x", 40.0, "Place")
        sitting.number("Position x", x)
        sitting.run("live.bake")
        boxes.append(sitting.part.id)
    project.choose_all(boxes)
    sitting.run("parts.fuse")
    sitting.judge(sitting.part)
    for key in ("live.lathe", "live.tube"):
        sitting.run(key, "live.bake")
        sitting.judge(sitting.part)


def halved(sitting: Sitting) -> None:
    """Half the triangles, and half of that: nowhere visibly off."""
    fine, began = KDTree(sitting.part.mesh.positions), sitting.part.mesh.topology.n_triangles
    for _ in range(2):
        before = sitting.part.mesh.topology.n_triangles
        sitting.number("Decimate to", 50, "Density")
        sitting.run("density.decimate-run")
        print(f"  {sitting.said()}")
        if sitting.part.mesh.topology.n_triangles > 0.55 * before:
            raise UnacceptableError("it was not halved")
    left = sitting.part.mesh.topology.n_triangles
    some = sitting.part.mesh.positions[:: max(sitting.part.mesh.n_vertices // 3000, 1)].astype(float)
    # To the nearest vertex of what it was: these lie close together.
    off = float(fine.query(some)[0].max())
    print(f"  {began:,} triangles became {left:,}, {off:.3f} mm off")
    if left > 0.27 * began or off > ALLOWED:
        raise UnacceptableError("halving has cost too much")
