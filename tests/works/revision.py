"""A late revision: a meaner posture as a layer, a new base with claws and horns, all detail carried over to it.

The body has two finer levels with detail on a layer. On its lowest level a second layer takes the posture, seen before
and after. The base goes out as a file, is changed elsewhere (points moved, horns joined), comes back in, and takes levels,
layers and guides over; what found no match is shown. Old detail on the hands is taken away there, and laid anew from level
to level.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import trimesh

from kneten.document.scene import Part
from kneten.formats.space import Space
from tests.app.windows import settle
from tests.works.sitting import Sitting, UnacceptableError

Placing = Callable[[float, float], tuple[float, float, float]]


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    sitting.run("armature.heavy")
    window.view.take_mode(None)
    sitting.run("live.bake")
    window.studio.remesh_active(None, 12_000)
    window.studio.wait(60)
    project.rename(sitting.part.id, "beast")
    low, high = sitting.part.bounds()
    tall, middle = float(high[1] - low[1]), (low + high) / 2

    def at(x: float, y: float) -> tuple[float, float, float]:
        """A place in heights: x off the middle, y above the ground."""
        return float(middle[0]) + x * tall, float(low[1]) + y * tall, float(high[2])

    sitting.look("front")
    detail(sitting, at, tall)
    posture(sitting, at, tall)
    base = rebased(sitting, tall)
    carried(sitting, base)
    hands(sitting, at, tall)
    sitting.judge(sitting.part)
    sitting.look("front", perspective=True)
    sitting.picture("beast")


def named(sitting: Sitting, name: str) -> Part:
    """The part that is called so."""
    return next(part for part in sitting.project.scene.parts if part.name == name)


def detail(sitting: Sitting, at: Placing, tall: float) -> None:
    """Two finer levels, and folds over chest and hands on a layer of their own."""
    sitting.run("density.subdivide", "density.subdivide", "layer.add")
    for y in (0.62, 0.66, 0.7):
        sitting.tool("score", 0.012 * tall, 0.6)
        sitting.stroke([at(x, y + 0.01 * np.cos(30 * x)) for x in np.linspace(0.01, 0.08, 6)])
    places = sitting.part.transform.to_scene(sitting.part.mesh.positions.astype(np.float64))
    hand = places[np.argmax(places[:, 0])]
    sitting.tool("raise", 0.01 * tall, 0.6)
    for step in (0.01, 0.03):
        sitting.stroke([(hand[0] - step * tall, hand[1] + y * tall, hand[2]) for y in (-0.02, 0.0, 0.02)])


def posture(sitting: Sitting, at: Placing, tall: float) -> None:
    """On the lowest level, on a layer: head down and forward, shoulders up; before and after."""
    sitting.run("level.down", "level.down", "layer.add")
    upright = sitting.part.mesh.positions.copy()
    sitting.look("right")
    sitting.tool("pull", 0.14 * tall, 1.0)
    x, y = sitting.at(*at(0.0, 0.93))
    sitting.drag([(x, y), (x - 15, y + 8), (x - 30, y + 18)])
    sitting.look("front")
    sitting.tool("pull", 0.09 * tall, 1.0)
    x, y = sitting.at(*at(0.13, 0.82))
    sitting.drag([(x, y), (x, y - 10), (x + 2, y - 20)])
    stooped = sitting.part.mesh.positions.copy()
    if np.linalg.norm(stooped - upright, axis=1).max() < 0.02 * tall:
        raise UnacceptableError("the posture has not changed")
    sitting.run("layer.before")
    off = np.abs(sitting.part.mesh.positions - upright).max()
    if off > 1e-3 * tall:
        raise UnacceptableError(f"before is {off:.3f} mm off")
    sitting.picture("before")
    sitting.run("layer.before")
    if not np.array_equal(sitting.part.mesh.positions, stooped):
        raise UnacceptableError("after is not what it was")
    sitting.picture("after")
    sitting.run("level.up", "level.up")
    sitting.judge(sitting.part)


def rebased(sitting: Sitting, tall: float) -> Part:
    """The lowest level goes out, gets longer claws and two horns there, and comes back as another part."""
    window, project = sitting.window, sitting.project
    sitting.run("level.down", "level.down")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "base.obj"
        window.studio.export_path(path, [sitting.part], Space(), False)
        window.studio.wait(60)
        mesh = trimesh.load(path, force="mesh", process=False)
        # Elsewhere, by moving points: what lies farthest out on either side is drawn out.
        points = np.array(mesh.vertices)
        size = float(np.ptp(points[:, 1]))
        for side in (1.0, -1.0):
            out = points[:, 0] * side
            tip = points[np.argmax(out)]
            near = np.clip(1.0 - np.linalg.norm(points - tip, axis=1) / (0.05 * size), 0.0, 1.0)[:, None]
            points += near**2 * np.array([side * 0.03, -0.03, 0.0]) * size
        horns = []
        top = points[np.argmax(points[:, 1])]
        for side in (1.0, -1.0):
            horn = trimesh.creation.capsule(0.07 * size, 0.015 * size, count=[24, 24])
            way = trimesh.geometry.align_vectors([0, 0, 1], [0.35 * side, 1.0, 0.15])
            horn.apply_transform(way)
            horn.apply_translation(top + np.array([side * 0.03, -0.03, 0.0]) * size)
            horns.append(horn)
        body = trimesh.Trimesh(points, mesh.faces, process=False)
        joined = trimesh.boolean.union([body, *horns])
        joined.export(path)
        sitting.run("level.up", "level.up")
        before = {part.id for part in project.scene.parts}
        window.studio.import_path(path, Space())
        window.studio.wait(60)
        settle(window)
    (base,) = [part for part in project.scene.parts if part.id not in before]
    project.rename(base.id, "base")
    project.choose(base.id)
    # Made even: points were moved by hand, horns joined.
    window.studio.remesh_active(None, 14_000)
    window.studio.wait(60)
    if sitting.part.mesh_id == base.mesh_id:
        # The notice names what is too thin (the claws' tips): taken as it is.
        sitting.answer("Remesh all the same")
    if sitting.part.mesh_id == base.mesh_id:
        raise UnacceptableError(f"the base was not made even: {sitting.said()}")
    sitting.judge(sitting.part)
    return sitting.part


def carried(sitting: Sitting, base: Part) -> None:
    """Levels and layers of the old body over to the new base; misses are shown."""
    window = sitting.window
    window.choose_stage("Form")
    window.side.bring("Carry over")
    card = window.carry_card
    card.fill()
    for _ in range(200):
        settle(window)
        if card._offer is not None and card._offer.pair[3] == base.mesh_id:
            break
    source = card.source()
    if source is None or source.name != "beast":
        raise UnacceptableError("the old body is not offered as the source")
    sitting.run("carry.run")
    made = named(sitting, "base")
    if made.stack is None or len(made.stack.levels) != 3 or len(made.stack.layers) != 2:
        raise UnacceptableError(f"levels or layers did not come: {sitting.said()}")
    if made.mesh.mask is None or not float(made.mesh.mask.max()) > 0.0:
        raise UnacceptableError("the horns should have found no match")
    sitting.judge(made)
    sitting.run("carry.deviation")
    sitting.picture("deviation")
    sitting.run("carry.deviation", "mask.clear")
    project = sitting.project
    project.choose(named(sitting, "beast").id)
    sitting.run("parts.hide")
    project.choose(made.id)


def hands(sitting: Sitting, at: Placing, tall: float) -> None:
    """The hand's old detail taken off its layer, the hand shaped anew from the lowest level up."""
    part = sitting.part
    assert part.stack is not None
    places = part.transform.to_scene(part.mesh.positions.astype(np.float64))
    wide = np.abs(places[:, 0] - at(0.0, 0.0)[0])
    hand = places[np.argmax(places[:, 0])]
    layer = part.stack.layers[0]

    def told(on: Part) -> float:
        assert on.stack is not None
        relief = on.stack.layer(layer.id).relief(2).dense(on.mesh.n_vertices)
        return float(np.linalg.norm(relief, axis=1)[wide > wide.max() - 0.05 * tall].max())

    if told(part) == 0.0:
        raise UnacceptableError("there is no old detail on the hands")
    sitting.tool("mask", 0.07 * tall, 1.0)
    for _ in range(3):
        sitting.stroke([(hand[0] - step * tall, hand[1], hand[2]) for step in (0.0, 0.02, 0.04)])
    before = told(part)
    # Taken off where the mask is: off the layer that is chosen in its card.
    sitting.window.levels.choose(layer.id)
    sitting.run("layer.off-mask", "mask.clear")
    if told(sitting.part) > 0.3 * before:
        raise UnacceptableError(f"old detail is still there: {told(sitting.part):.3f} of {before:.3f}")
    for level in range(3):
        while sitting.part.stack is not None and sitting.part.stack.level > level:
            sitting.run("level.down")
        while sitting.part.stack is not None and sitting.part.stack.level < level:
            sitting.run("level.up")
        sitting.tool("inflate" if level == 0 else "raise", (0.03, 0.015, 0.006)[level] * tall, 0.35)
        sitting.stroke([(hand[0] - step * tall, hand[1], hand[2]) for step in (0.01, 0.02, 0.03)])
