"""A scaled creature: proportions by head units, parts that still fit, scales scattered and placed by hand, clean quads with detail, grain, colour, light.

A body from an armature is measured against a mannequin; horns and teeth are parts of their own; scales lie all over a mask
and follow a later stroke, then all change at once; it is retopologised with its detail on levels above; a press of its own
and grain make the hide; colour is broken on layers; lamps and a finish close it.
"""

from __future__ import annotations

import time

import numpy as np

from kneten.core.live.recipes import Laid
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    sitting.run("armature.slender", "live.bake")
    body = sitting.part.id
    sitting.look("front")
    sitting.run("measure.ruler", "measure.mannequin")
    sitting.picture("measured")
    sitting.run("edit.undo")
    sitting.project.choose(body)
    window.view.take_mode(None)
    window.studio.remesh_active(None, 60_000)
    sitting.rest()
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    x, y, _ = ((low + high) / 2).tolist()
    horns(sitting, x, high, tall)
    project.choose(body)
    scales(sitting, x, y + 0.2 * tall, tall)
    project.choose(body)
    quads(sitting, body)
    hide(sitting, x, y + 0.2 * tall, tall)
    coloured(sitting)
    sitting.run("light.set-rims", "look.lit")
    window.pictures.change_finish(exposure=0.2, vignette=0.3)
    sitting.rest()
    sitting.picture("lit")
    sitting.reopen()


def horns(sitting: Sitting, x: float, high: np.ndarray, tall: float) -> None:
    """A horn on each side, as parts."""
    sitting.run("live.cone")
    sitting.number("Size x", 0.03 * tall, "Place")
    for axis, value in (("x", x + 0.03 * tall), ("y", float(high[1])), ("z", 0.0)):
        sitting.number(f"Position {axis}", value)
    sitting.run("live.bake", "copy.mirror-x")
    parts = sitting.project.scene.parts
    if len(parts) != 3:
        raise UnacceptableError(f"there are {len(parts)} parts")
    left, right = (part.bounds() for part in parts[1:])
    if abs(left[0][0] + right[1][0] - 2 * x) > 0.01 * tall:
        raise UnacceptableError("the horns are not each other's image")


def scales(sitting: Sitting, x: float, y: float, tall: float) -> None:
    """Scattered over the chest, following a stroke, changed all at once."""
    window = sitting.window
    body = sitting.part.id
    sitting.tool("mask", 0.1 * tall, 1.0)
    for down in (0.0, 0.04, 0.08):
        sitting.stroke(
            [sitting.front(x - 0.04 * tall, y - down * tall), sitting.front(x + 0.04 * tall, y - down * tall)]
        )
    sitting.run("laying.scatter")
    laid = sitting.part
    if not isinstance(laid.recipe, Laid):
        raise UnacceptableError(f"there are no scales: {sitting.said()}")
    first = laid.mesh.n_vertices
    sitting.run("laying.mask")
    window.layings.change(size=0.012 * tall)
    sitting.rest()
    smaller = sitting.part
    print(f"  {first:,} vertices of scales, {smaller.mesh.n_vertices:,} of smaller ones")
    before = np.sort(smaller.mesh.positions[:, 2])
    sitting.project.choose(body)
    # Scales lie before it: it alone is seen while it changes.
    sitting.run("mask.clear", "look.isolate")
    sitting.tool("inflate", 0.1 * tall, 0.8)
    for _ in range(3):
        sitting.stroke([sitting.front(x + 0.02 * tall, y), sitting.front(x + 0.02 * tall, y - 0.04 * tall)])
    sitting.run("look.isolate")
    # They are laid anew beside other work.
    until = time.monotonic() + 60
    while sitting.project.scene.part(smaller.id).mesh is smaller.mesh and time.monotonic() < until:
        sitting.rest()
        time.sleep(0.05)
    after = np.sort(sitting.project.scene.part(smaller.id).mesh.positions[:, 2])
    gone = np.abs(after.mean() - before.mean()) if len(after) != len(before) else np.abs(after - before).max()
    print(f"  they went along by {gone:.2f} mm")
    if gone < 0.1:
        raise UnacceptableError("the scales do not follow their ground")
    sitting.picture("scales")


def quads(sitting: Sitting, body: str) -> None:
    """Clean quads in its place, its detail on the levels above."""
    sitting.number("Quads", 4000, "Quads")
    sitting.run("net.retopologise")
    made = sitting.part
    faces = made.mesh.topology.faces
    print(f"  {sitting.said()}")
    if (faces[:, 3] < 0).mean() > 0.1:
        raise UnacceptableError("these are not quads")
    if made.id == body or made.stack is None or made.stack.top < 1:
        raise UnacceptableError("the quads have no levels with the detail")


def hide(sitting: Sitting, x: float, y: float, tall: float) -> None:
    """Grain all over, on a layer; a press of the clay itself."""
    before = sitting.part.mesh.positions.copy()
    sitting.run("grain.add")
    sitting.rest()
    if np.array_equal(before, sitting.part.mesh.positions) or not sitting.window.grains.all:
        raise UnacceptableError(f"there is no grain: {sitting.said()}")
    sitting.press("scales-round", 0.05 * tall, 0.8)
    sitting.run("layer.add")
    before = sitting.part.mesh.positions.copy()
    sitting.stroke(
        [sitting.front(x + 0.03 * tall, y - 0.1 * tall), sitting.front(x + 0.03 * tall, y - 0.2 * tall)]
    )
    if np.array_equal(before, sitting.part.mesh.positions):
        raise UnacceptableError("the press has left nothing")


def coloured(sitting: Sitting) -> None:
    """A coat on one layer, dark in the hollows on another."""
    sitting.run("look.isolate", "layer.add")
    sitting.colour(84, 108, 74)
    sitting.run("colour.fill")
    sitting.window.washes.change(kind="hollows")
    sitting.rest()
    sitting.colour(28, 36, 24)
    sitting.run("wash.layer")
    sitting.run("look.isolate")
    colour = sitting.part.mesh.colour
    print(
        f"  {len(np.unique(colour[:, 0] // 16))} shades of red, {colour[:, 0].min()} to {colour[:, 0].max()}, {sitting.said()}"
    )
    if colour is None or colour[:, 0].max() < 80 or colour[:, 0].min() > 60:
        raise UnacceptableError("the colour is not broken")
    sitting.picture("coloured")
