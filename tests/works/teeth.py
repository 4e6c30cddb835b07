"""A head whose lips lie over its teeth: a tube cut in half and set in, lips, nose, ears and lids, a neck.

The head comes from one ball. Teeth are half a tube. Lips are laid over them, creased, puffed up, with corners; nose, ears
and lids are sharpened after two subdivisions; the neck's muscle and the collarbone come by mask and inflating, two levels
down, and the lids above keep what they had.
"""

from __future__ import annotations

import numpy as np

from kneten.core.solid import volume
from kneten.document.scene import Part
from tests.works.figure import head
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    project = sitting.project
    head(sitting)
    skull = sitting.part
    project.rename(skull.id, "head")
    low, high = skull.bounds()
    r = float(high[0] - low[0]) / 2
    middle = (low + high) / 2
    mouth = float(high[1]) - 1.43 * r

    def over(x: float, y: float, z: float = 1.0) -> tuple[float, float, float]:
        """A place of the face: x and y in radii about the slit of the mouth."""
        return float(middle[0]) + x * r, mouth + y * r, float(middle[2]) + z * r

    teeth(sitting, over(0.0, 0.0, 0.37), 0.46 * r)
    project.choose(skull.id)
    # Lips over them: laid on in coils, creased between, puffed up; the corners drawn in.
    sitting.look("front")
    for side in (0.07, -0.07):
        sitting.tool("coil", 0.1 * r, 0.45)
        sitting.stroke([over(x, side * (1 - (x / 0.4) ** 2)) for x in np.linspace(0.0, 0.34, 7)])
        sitting.tool("smooth", 0.08 * r, 0.5)
        for edge in (1.9, 1.2):
            sitting.stroke([over(x, edge * side * (1 - (x / 0.42) ** 2)) for x in np.linspace(0.0, 0.38, 7)])
    sitting.tool("inflate", 0.12 * r, 0.4)
    sitting.stroke([over(x, -0.08) for x in np.linspace(-0.2, 0.2, 5)])
    sitting.tool("score", 0.05 * r, 0.7)
    for _ in range(2):
        sitting.stroke([over(x, 0.0) for x in np.linspace(-0.33, 0.33, 9)])
    sitting.tool("raise", 0.08 * r, 0.6, reverse=True)
    sitting.stroke([over(0.36, 0.0), over(0.38, -0.02)])
    sitting.judge(skull_of(sitting))
    sitting.picture("lips")
    # Nose wings and ears while the mesh is coarse; all of it sharper two levels above the first.
    sitting.tool("inflate", 0.09 * r, 0.4)
    sitting.stroke([over(0.1, 0.34), over(0.12, 0.31)])
    sitting.look("right")
    side = float(high[0])
    sitting.tool("raise", 0.16 * r, 0.7)
    for _ in range(3):
        sitting.stroke(
            [
                (side, mouth + y * r, float(middle[2]) - z * r)
                for y, z in ((0.3, 0.12), (0.5, 0.16), (0.66, 0.1))
            ]
        )
    sitting.tool("raise", 0.08 * r, 0.6, reverse=True)
    sitting.stroke([(side, mouth + y * r, float(middle[2]) - 0.1 * r) for y in (0.4, 0.5, 0.58)])
    sitting.run("density.subdivide")
    sitting.look("front")
    sitting.tool("score", 0.045 * r, 0.5)
    for y in (0.66, 0.5):
        bow = 0.05 if y > 0.6 else -0.03
        sitting.stroke([over(0.37 + x, y + bow * (1 - (x / 0.16) ** 2)) for x in np.linspace(-0.15, 0.15, 7)])
    sitting.tool("pinch", 0.06 * r, 0.5)
    sitting.stroke([over(x, 0.0) for x in np.linspace(-0.3, 0.3, 9)])
    sitting.stroke([over(0.37 + x, 0.66 + 0.05 * (1 - (x / 0.16) ** 2)) for x in np.linspace(-0.15, 0.15, 7)])
    fine = sitting.part.mesh.positions.copy()
    sitting.judge(skull_of(sitting))
    sitting.picture("lids")
    neck(sitting, r, mouth, middle)
    sitting.run("level.up", "level.up")
    moved = np.linalg.norm(sitting.part.mesh.positions - fine, axis=1)
    if moved.max() < 0.02 * r or np.median(moved) > 0.01 * r:
        raise UnacceptableError("what was done below has not come up, or has moved all")
    sitting.judge(skull_of(sitting))
    sitting.look("front", perspective=True)
    sitting.picture("head")


def skull_of(sitting: Sitting) -> Part:
    return next(part for part in sitting.project.scene.parts if part.name == "head")


def teeth(sitting: Sitting, place: tuple[float, float, float], wide: float) -> None:
    """Half a tube, lying, where the teeth are; it stays a part of its own."""
    sitting.run("live.tube")
    sitting.window.place_card.even.setChecked(False)
    for axis, size in (("x", 2 * wide), ("y", 0.22 * wide), ("z", 2 * wide)):
        sitting.number(f"Size {axis}", size, "Place")
    for axis, value in zip("xyz", place, strict=True):
        sitting.number(f"Position {axis}", value)
    sitting.run("live.bake")
    whole = volume(sitting.part.mesh)
    sitting.project.rename(sitting.part.id, "teeth")
    # Seen from above, what lies behind a line goes.
    others = [part.id for part in sitting.project.scene.parts if part.name != "teeth"]
    sitting.project.choose_all(others)
    sitting.run("parts.hide")
    sitting.project.choose(next(part.id for part in sitting.project.scene.parts if part.name == "teeth"))
    sitting.look("top")
    sitting.run("cut.line")
    x, y = sitting.at(*place)
    sitting.drag([(x + 300, y), (x, y), (x - 300, y)])
    sitting.window.view.take_mode(None)
    half = next(part for part in sitting.project.scene.parts if part.name == "teeth")
    if not 0.4 < volume(half.mesh) / whole < 0.6:
        raise UnacceptableError(f"{volume(half.mesh) / whole:.2f} of the tube is left")
    low, high = half.bounds()
    if (low[2] + high[2]) / 2 < place[2]:
        raise UnacceptableError("the half that points back is left")
    # A tube so low has faces as low: made even before it is worked on.
    sitting.window.studio.remesh_active(None, 8_000)
    sitting.window.studio.wait(60)
    sitting.judge(sitting.part)
    sitting.project.choose_all(others)
    sitting.run("parts.hide")


def neck(sitting: Sitting, r: float, mouth: float, middle: np.ndarray) -> None:
    """On the lowest level: all but the neck's muscle masked, that puffed up; the same for the collarbone."""
    sitting.run("level.down", "level.down")
    before = sitting.part.mesh.positions.copy()
    for places, size in (
        ([(0.42, -0.35, 0.5), (0.3, -0.5, 0.55), (0.18, -0.62, 0.5)], 0.1),
        ([(0.1, -0.72, 0.4), (0.3, -0.68, 0.4)], 0.08),
    ):
        line = [(float(middle[0]) + x * r, mouth + y * r, float(middle[2]) + z * r) for x, y, z in places]
        sitting.tool("mask", size * r, 1.0)
        sitting.stroke(line)
        sitting.run("mask.blur", "mask.invert")
        sitting.tool("inflate", 2.2 * size * r, 0.5)
        sitting.stroke(line)
        sitting.run("mask.clear")
    if np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max() < 0.02 * r:
        raise UnacceptableError("neither muscle nor collarbone came")
    sitting.picture("neck")
