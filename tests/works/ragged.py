"""A ragged figure: posed hands first, a finger gone and a bone out, tendons, cloth with tears, skin pressed outwards, grime, the arm changed once more.

A slender body gets joints from its armature; each finger is bent, the arms hang; one fingertip is cut off and a bone set
in; tendons are raised and the skin between them sunk; a shirt is peeled, woven in millimetres, scored and torn; the eyes
are all black; grime creeps up from below; after all of that one elbow is bent otherwise, and nothing is lost; two stills.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from tests.works.animal import ball
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    sitting.run("armature.slender", "live.bake")
    body = sitting.part.id
    sitting.run("density.subdivide", "rig.from-armature")
    rig = sitting.window.rigging.rig
    if rig is None:
        raise UnacceptableError(f"it has no joints: {sitting.said()}")
    sitting.look("front")
    limp(sitting)
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    x, y, _ = ((low + high) / 2).tolist()
    tendons(sitting, x, y, tall)
    grime(sitting)
    before = detail(sitting)
    bend(sitting, "Elbow left", 35.0)
    kept = detail(sitting)
    print(f"  the arm again: detail differs by {abs(kept - before) / before * 100:.1f} %")
    if abs(kept - before) > 0.1 * before:
        raise UnacceptableError("posing again has cost detail")
    bone(sitting, tall)
    shirt(sitting, body, x, y, tall)
    eyes(sitting, x, float(high[1]), tall)
    with tempfile.TemporaryDirectory() as name:
        for way in ("front", "right"):
            sitting.look(way, perspective=True)
            still = Path(name) / f"{way}.png"
            sitting.window.files.export_still(still, 480, 640, True)
            sitting.rest()
            if np.asarray(Image.open(still)).std() < 5:
                raise UnacceptableError(f"{way} is empty")
    sitting.picture("ragged")
    sitting.reopen()


def bend(sitting: Sitting, joint: str, degrees: float) -> None:
    """Bend a joint that is called so, or begins so."""
    rigging = sitting.window.rigging
    names = [one.name for one in rigging.rig.joints]
    found = next((name for name in names if name.startswith(joint)), None)
    if found is None:
        raise UnacceptableError(f"there is no {joint}: {', '.join(names[:30])}")
    rigging.choose(found)
    rigging.keep(rigging.with_numbers(degrees, 0.0, 0.0), f"Bend {found}")
    sitting.rest()


def limp(sitting: Sitting) -> None:
    """Hands first, each finger; then the arms."""
    names = [one.name for one in sitting.window.rigging.rig.joints]
    fingers = [name for name in names if "inger" in name or "humb" in name]
    print(f"  {len(names)} joints, {len(fingers)} of fingers")
    before = sitting.part.mesh.positions.copy()
    for k, name in enumerate(fingers[:10]):
        bend(sitting, name, 25.0 + 4.0 * k)
    for name in ("Shoulder left", "Elbow left"):
        bend(sitting, name, 20.0)
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    if moved.max() < 5.0:
        raise UnacceptableError("it hangs as it stood")
    sitting.judge(sitting.part, drawn=14.0)
    sitting.picture("limp")


def tendons(sitting: Sitting, x: float, y: float, tall: float) -> None:
    """Tendons along the neck, raised; the skin beside them sunk; a skin press that raises instead of sinking."""
    window = sitting.window
    sitting.run("layer.add")
    neck = y + 0.33 * tall
    before = sitting.part.mesh.positions.copy()
    sitting.tool("coil", 0.008 * tall, 0.8)
    line = [sitting.front(x + 0.01 * tall, neck - 0.02 * tall * k) for k in range(4)]
    for _ in range(2):
        sitting.stroke(line)
    sitting.tool("raise", 0.008 * tall, 0.6, reverse=True)
    sitting.stroke([(px + 0.012 * tall, py, pz) for px, py, pz in line])
    sitting.press("pores-broad", 0.03 * tall, 0.8, reverse=True)
    sitting.stroke(
        [sitting.front(x + 0.02 * tall, y + 0.2 * tall), sitting.front(x + 0.04 * tall, y + 0.16 * tall)]
    )
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    print(f"  tendons of {moved.max():.1f} mm on {(moved > 0.05).sum():,} vertices")
    if (moved > 0.05).sum() < 50:
        raise UnacceptableError("there are no tendons")
    window.studio.set_brush(reverse=False)


def grime(sitting: Sitting) -> None:
    """Pale skin, dark from below."""
    sitting.colour(176, 170, 150)
    sitting.run("colour.fill")
    sitting.window.washes.change(kind="height", low=0.0, high=0.35)
    sitting.rest()
    sitting.colour(52, 44, 34)
    sitting.run("wash.layer")
    print(
        f"  {[(layer.name, layer.wash is not None) for layer in sitting.part.stack.layers]} {sitting.said()}"
    )
    colour = sitting.part.mesh.colour[:, 0].astype(int)
    height = sitting.part.transform.to_scene(sitting.part.mesh.positions.astype(float))[:, 1]
    low, high = np.percentile(height, (10, 90))
    below, above = colour[height < low].mean(), colour[height > high].mean()
    print(f"  {below:.0f} below, {above:.0f} above")
    if abs(above - below) < 40:
        raise UnacceptableError("the grime does not creep")


def detail(sitting: Sitting) -> float:
    """How rough the clay is in the mean: what a smooth body would not have, mm."""
    mesh = sitting.part.mesh
    shape = mesh.topology
    faces = shape.faces
    quads = faces[:, 3] >= 0
    across = (mesh.positions[faces[quads, 0]] + mesh.positions[faces[quads, 2]]) - (
        mesh.positions[faces[quads, 1]] + mesh.positions[faces[quads, 3]]
    )
    return float(np.linalg.norm(across, axis=1).mean())


def bone(sitting: Sitting, tall: float) -> None:
    """A fingertip is cut off, and a bone set in its place."""
    hand = sitting.part
    places = hand.transform.to_scene(hand.mesh.positions.astype(float))
    aside = places[:, 0] - places[:, 0].mean() > 0.1 * tall
    tip = places[aside][np.argmin(places[aside, 1])]
    sitting.run("live.capsule")
    sitting.number("Size x", 0.008 * tall, "Place")
    for axis, value in zip("xyz", tip, strict=True):
        sitting.number(f"Position {axis}", float(value))
    sitting.run("live.bake")
    sitting.project.rename(sitting.part.id, "Bone")
    sitting.colour(220, 210, 190)
    sitting.run("colour.fill")
    sitting.judge(sitting.part)
    sitting.project.choose(hand.id)


def shirt(sitting: Sitting, body: str, x: float, y: float, tall: float) -> None:
    """Peeled from a mask, woven in millimetres, with seams and a tear."""
    project, window = sitting.project, sitting.window
    project.choose(body)
    sitting.look("front")
    sitting.tool("mask", 0.16 * tall, 1.0, front_only=False)
    for down in (0.0, 0.05, 0.1, 0.15):
        sitting.stroke(
            [
                sitting.front(x - 0.06 * tall, y + 0.2 * tall - down * tall),
                sitting.front(x + 0.06 * tall, y + 0.2 * tall - down * tall),
            ]
        )
    count = len(project.scene.parts)
    sitting.run("mask.peel")
    if len(project.scene.parts) != count + 1:
        raise UnacceptableError(f"no shirt was peeled: {sitting.said()}")
    cloth = sitting.part
    project.rename(cloth.id, "Shirt")
    sitting.run("density.subdivide", "grain.add")
    sitting.rest()
    before = sitting.part.mesh.positions.copy()
    sitting.tool("score", 0.006 * tall, 0.6)
    sitting.stroke([sitting.front(x + 0.02 * tall, y + 0.18 * tall - k * 0.02 * tall) for k in range(4)])
    if np.array_equal(before, sitting.part.mesh.positions):
        raise UnacceptableError("there is no seam")
    sitting.colour(110, 96, 70)
    sitting.run("colour.fill", "region.lasso-hide")
    tear = sitting.at(*sitting.front(x - 0.03 * tall, y + 0.08 * tall))
    angles = np.linspace(0, 2 * np.pi, 14)
    sitting.drag([(tear[0] + 9 * np.cos(a), tear[1] + 16 * np.sin(a)) for a in angles])
    window.view.take_mode(None)
    hidden = sitting.part.mesh.hidden
    print(f"  torn: {0 if hidden is None else int(hidden.sum())} faces hidden")
    if hidden is None or not hidden.any():
        raise UnacceptableError("there is no tear")
    project.choose(body)
    sitting.run("mask.clear")


def eyes(sitting: Sitting, x: float, top: float, tall: float) -> None:
    """All black."""
    ball(sitting, "Eye", 0.02 * tall, x + 0.02 * tall, top - 0.06 * tall, 0.05 * tall)
    sitting.colour(4, 4, 6)
    sitting.run("colour.fill", "copy.mirror-x")
    if sitting.part.mesh.colour is None or sitting.part.mesh.colour[:, :3].max() > 20:
        raise UnacceptableError("the eyes are not black")
