"""A first figure from one ball: pulled, smoothed, sockets, a mouth, eyes, neck and body, hands, joined; out as files.

All in the window: the head from a ball with strokes on both sides, deeper sockets and a slit of a mouth on a finer mesh,
two eyes mirrored into the sockets, a neck and a body of further balls, arms, fused to one body with the head, exported.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import trimesh

from kneten.core.solid import volume
from kneten.formats.space import Space
from tests.works.sitting import Sitting, UnacceptableError


def head(sitting: Sitting) -> None:
    """The head: brows, sockets, nose and mouth."""
    sitting.run("live.sphere", "live.bake")
    low, high = sitting.part.bounds()
    r = float(high[1] - low[1]) / 2
    x0, y0, z0 = (low + high) / 2
    sitting.window.studio.remesh_active(None, 40_000)
    sitting.window.studio.wait(60)
    sitting.look("front")
    before = volume(sitting.part.mesh)

    def over(x: float, y: float) -> tuple[float, float, float]:
        return x0 + x * r, y0 + y * r, z0 + r

    # The jaw is pulled down and forward, the nose out of the face.
    sitting.tool("pull", 0.7 * r, 1.0)
    sitting.stroke([over(0.0, -0.7), over(0.0, -0.85), over(0.0, -1.0)])
    sitting.tool("raise", 0.22 * r, 0.7)
    for _ in range(3):
        sitting.stroke([over(-0.02, 0.12), over(0.0, -0.02), over(0.02, -0.18)])
    sitting.tool("smooth", 0.4 * r, 0.5)
    sitting.stroke([over(-0.3, -0.75), over(0.0, -0.8), over(0.3, -0.75)])
    # Sockets, one stroke for both sides.
    sitting.tool("raise", 0.26 * r, 0.8, reverse=True)
    for _ in range(4):
        sitting.stroke([over(0.3, 0.18), over(0.36, 0.2), over(0.42, 0.18)])
    sitting.tool("raise", 0.16 * r, 0.6)
    sitting.stroke([over(0.12, 0.38), over(0.35, 0.46), over(0.6, 0.36)])
    sitting.picture("head")
    # On a finer mesh a mouth is cut, deepened and softened.
    sitting.run("density.subdivide")
    sitting.tool("score", 0.07 * r, 0.8)
    for _ in range(3):
        sitting.stroke([over(-0.3, -0.45), over(0.0, -0.48), over(0.3, -0.45)])
    sitting.tool("smooth", 0.1 * r, 0.35)
    sitting.stroke([over(-0.35, -0.44), over(0.0, -0.46), over(0.35, -0.44)])
    sitting.judge(sitting.part)
    if not 0.8 < volume(sitting.part.mesh) / before < 1.3:
        raise UnacceptableError("the head has lost its mass")


def work(sitting: Sitting) -> None:
    """Do it."""
    project = sitting.project
    head(sitting)
    skull = sitting.part
    low, high = skull.bounds()
    size = float(high[1] - low[1])
    # Eyes: one placed into its socket, squashed, mirrored to the other side.
    sitting.run("live.sphere")
    middle = (low + high) / 2
    sitting.number("Size x", 0.2 * size, "Place")
    sitting.number("Position x", float(middle[0]) + 0.16 * size)
    sitting.number("Position y", float(high[1]) - 0.38 * size)
    sitting.number("Position z", float(middle[2]) + 0.29 * size)
    sitting.run("live.bake", "copy.mirror-x")
    eyes = [part for part in project.scene.parts if part is not skull]
    if len(eyes) != 2:
        raise UnacceptableError(f"there are {len(eyes)} eyes")
    sitting.look("front", perspective=True)
    sitting.picture("eyes")
    # Neck, chest and belly of their own, an arm drawn and mirrored, all fused with the head; the eyes stay parts.
    for name, y, wide in (("neck", 0.98, 0.36), ("chest", 1.4, 0.78), ("belly", 1.85, 0.62)):
        sitting.run("live.sphere")
        sitting.number("Size x", wide * size, "Place")
        for axis, value in (("x", middle[0]), ("y", high[1] - y * size), ("z", middle[2] - 0.05 * size)):
            sitting.number(f"Position {axis}", float(value))
        sitting.run("live.bake")
        project.rename(sitting.part.id, name)
    sitting.look("front")
    window = sitting.window
    window.studio.preferences.strand_thickness = 0.1 * size
    window.studio.preferences.strand_taper = "none"
    sitting.run("strand.free")
    shoulder = np.array([middle[0] + 0.3 * size, high[1] - 1.25 * size, middle[2]])
    sitting.stroke(
        [
            tuple(shoulder + size * np.array(step))
            for step in ((0, 0, 0), (0.22, -0.12, 0), (0.32, -0.42, 0), (0.28, -0.75, 0))
        ]
    )
    window.view.take_mode(None)
    sitting.run("live.bake", "copy.mirror-x")
    sitting.picture("blocked")
    kept = {eye.id for eye in eyes}
    project.choose_all([part.id for part in project.scene.parts if part.id not in kept])
    sitting.run("parts.fuse")
    sitting.judge(sitting.part)
    sitting.run("density.remesh")
    sitting.judge(sitting.part)
    hands(sitting, size)
    sitting.look("front", perspective=True)
    sitting.picture("figure")
    with tempfile.TemporaryDirectory() as folder:
        export(sitting, Path(folder))


def hands(sitting: Sitting, size: float) -> None:
    """A palm and three fingers at the end of each arm, drawn out one by one: symmetry off, straight from before."""
    project = sitting.project
    if project.settings.symmetry[0]:
        sitting.run("form.symmetry-x")
    sitting.look("front")
    before = sitting.part.mesh.positions.copy()
    for side in (1.0, -1.0):
        at = sitting.part.transform.to_scene(sitting.part.mesh.positions.astype(np.float64))
        middle = float(np.median(at[:, 0]))
        low = float(at[:, 1].max()) - 2.15 * size
        # The end of an arm: the lowest of what lies far aside.
        aside = np.flatnonzero(((at[:, 0] - middle) * side > 0.5 * size) & (at[:, 1] > low))
        end = at[aside[np.argmin(at[aside, 1])]] + np.array([0.0, 0.03 * size, 0.0])
        sitting.tool("inflate", 0.1 * size, 0.6)
        sitting.stroke([tuple(end), tuple(end + np.array([0.0, 0.02 * size, 0.0]))])
        for finger in (-0.045, 0.0, 0.045):
            sitting.tool("pull", 0.035 * size, 1.0)
            tip = end + np.array([finger * size, -0.015 * size, 0.0])
            goal = tip + np.array([0.6 * finger * size, -0.07 * size, 0.0])
            sitting.stroke([tuple(tip * (1 - t) + goal * t) for t in (0.0, 0.5, 1.0)])
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    if (moved > 0.03 * size).sum() < 40:
        raise UnacceptableError(f"there are no hands: {(moved > 0.03 * size).sum()} vertices have moved")
    sitting.judge(sitting.part)
    sitting.run("form.symmetry-x", "density.remesh")
    sitting.judge(sitting.part)


def export(sitting: Sitting, folder: Path) -> None:
    """Out as files that others read."""
    for ending in ("obj", "stl"):
        path = folder / f"figure.{ending}"
        sitting.window.studio.export_path(path, list(sitting.project.scene.parts), Space(), False)
        sitting.window.studio.wait(60)
        loaded = trimesh.load(path, force="mesh")
        if len(loaded.faces) < 1000:
            raise UnacceptableError(f"{path.name} holds next to nothing")
