"""An animal, second session: opened, edges shown, ears hollowed, nostrils, feet added to, base coat, ears, eyes, nose, a clean picture.

The first session leaves a head with ears on a body with four feet. The second opens its project, works on it against a
reference beside the view, and paints it: a coat over all, pink ears, small dark eyes on a finer mesh, the ears' colour
picked again for the nose.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from tests.works.figure import head
from tests.works.sitting import Sitting, UnacceptableError

FUR, PINK, DARK = (150, 118, 84), (214, 150, 146), (24, 20, 22)


def ball(sitting: Sitting, name: str, wide: float, x: float, y: float, z: float) -> None:
    """A baked ball of its own."""
    sitting.run("live.sphere")
    sitting.number("Size x", wide, "Place")
    for axis, value in (("x", x), ("y", y), ("z", z)):
        sitting.number(f"Position {axis}", value)
    sitting.run("live.bake")
    sitting.project.rename(sitting.part.id, name)


def first_session(sitting: Sitting) -> tuple[float, np.ndarray]:
    """Head, ears, body and feet, fused; returns the head's size and its middle."""
    head(sitting)
    low, high = sitting.part.bounds()
    size = float(high[1] - low[1])
    middle = (low + high) / 2
    x, y, z = middle.tolist()
    ball(sitting, "Ear", 0.34 * size, x + 0.34 * size, y + 0.42 * size, z - 0.02 * size)
    sitting.run("copy.mirror-x")
    ball(sitting, "Body", 1.1 * size, x, y - 0.75 * size, z - 0.65 * size)
    for far in (-0.3, -1.0):
        ball(sitting, "Foot", 0.34 * size, x + 0.34 * size, y - 1.3 * size, z + far * size)
        sitting.run("copy.mirror-x")
    sitting.run("parts.all", "parts.fuse", "density.remesh")
    # The slit of the mouth is thinner than the new mesh.
    sitting.mended()
    sitting.judge(sitting.part)
    return size, middle


def work(sitting: Sitting) -> None:
    """Do it."""
    size, middle = first_session(sitting)
    sitting.reopen()
    window = sitting.window
    with tempfile.TemporaryDirectory() as name:
        drawing = Path(name) / "feet.png"
        sketch = Image.new("RGB", (320, 240), (236, 232, 224))
        ImageDraw.Draw(sketch).ellipse((60, 90, 260, 200), outline=(40, 40, 40), width=4)
        sketch.save(drawing)
        window.references.add_files([drawing])
        window.studio.wait(30)
        if len(sitting.project.scene.references) != 1:
            raise UnacceptableError("the reference is not on the board")
        sitting.run("board.beside", "board.show")
        sitting.look("front")
        sitting.run("look.wires")
        sitting.picture("opened")
        sitting.run("look.wires")
        carve(sitting, size, middle)
        feet(sitting, size, middle)
        sitting.run("board.show")
        paint(sitting, size, middle)
        still = Path(name) / "animal.png"
        sitting.look("front", perspective=True)
        window.files.export_still(still, 640, 480, False)
        window.studio.wait(60)
        pixels = np.asarray(Image.open(still).convert("RGB")).astype(int)
        if pixels.shape != (480, 640, 3) or pixels.std() < 10:
            raise UnacceptableError("there is no picture")
        sitting.picture("painted")


def ear_of(size: float, middle: np.ndarray) -> tuple[float, float]:
    """Where an ear is, seen from before."""
    return float(middle[0] + 0.36 * size), float(middle[1] + 0.46 * size)


def carve(sitting: Sitting, size: float, middle: np.ndarray) -> None:
    """Hollow ears and nostrils."""
    ex, ey = ear_of(size, middle)
    before = sitting.front(ex, ey)
    sitting.tool("raise", 0.1 * size, 0.8, reverse=True, front_only=True)
    for _ in range(4):
        sitting.stroke(
            [
                (ex - 0.03 * size, ey, before[2]),
                (ex, ey + 0.02 * size, before[2]),
                (ex + 0.03 * size, ey, before[2]),
            ]
        )
    if before[2] - sitting.front(ex, ey)[2] < 0.02 * size:
        raise UnacceptableError("the ears are not hollow")
    nose = sitting.front(float(middle[0]), float(middle[1]))
    sitting.tool("score", 0.035 * size, 0.8)
    for _ in range(2):
        sitting.stroke(
            [
                (nose[0] + 0.05 * size, nose[1], nose[2]),
                (nose[0] + 0.07 * size, nose[1] + 0.02 * size, nose[2]),
            ]
        )
    sitting.judge(sitting.part)


def feet(sitting: Sitting, size: float, middle: np.ndarray) -> None:
    """Toes, added to the front feet."""
    before = sitting.part.mesh.positions.copy()
    y = float(middle[1] - 1.3 * size)
    sitting.tool("raise", 0.09 * size, 0.8)
    for x in (0.26, 0.34, 0.42):
        at = sitting.front(float(middle[0] + x * size), y)
        for _ in range(3):
            sitting.stroke([at, (at[0], at[1] - 0.03 * size, at[2])])
    if np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max() < 0.01 * size:
        raise UnacceptableError("nothing was added to the feet")
    sitting.judge(sitting.part)


def paint(sitting: Sitting, size: float, middle: np.ndarray) -> None:
    """A coat, ears, eyes on a finer mesh, the nose in the ears' colour."""
    ex, ey = ear_of(size, middle)
    sitting.colour(*FUR)
    sitting.run("colour.fill")
    sitting.colour(*PINK)
    sitting.tool("paint", 0.1 * size, 1.0, front_only=True)
    ear = sitting.front(ex, ey)
    for _ in range(3):
        sitting.stroke([(ear[0] - 0.03 * size, ear[1], ear[2]), ear, (ear[0] + 0.03 * size, ear[1], ear[2])])
    sitting.run("density.subdivide")
    sitting.colour(*DARK)
    sitting.tool("paint", 0.035 * size, 1.0)
    eye = sitting.front(float(middle[0] + 0.17 * size), float(middle[1] + 0.1 * size))
    for _ in range(3):
        sitting.stroke([eye, (eye[0] + 0.003 * size, eye[1], eye[2])])
    sitting.run("colour.pick")
    sitting.click(sitting.at(*ear))
    sitting.window.view.take_mode(None)
    picked = np.array(sitting.window.colours.colour)
    print(f"  picked {picked.tolist()} for the nose")
    nose = sitting.front(float(middle[0]), float(middle[1] + 0.02 * size))
    sitting.tool("paint", 0.05 * size, 1.0)
    for _ in range(3):
        sitting.stroke([nose, (nose[0], nose[1] - 0.01 * size, nose[2])])
    for what, at, wanted in (("ear", ear, PINK), ("eye", eye, DARK), ("nose", nose, picked)):
        found = sitting.seen_colour(*at)
        print(f"  {what}: {found.tolist()}")
        if np.abs(found - wanted).max() > 40:
            raise UnacceptableError(f"the {what} is {found.tolist()} and should be {list(wanted)}")
    twin = sitting.seen_colour(2 * float(middle[0]) - eye[0], eye[1], eye[2])
    if np.abs(twin - DARK).max() > 40:
        raise UnacceptableError(f"the other eye is {twin.tolist()}")
    sitting.judge(sitting.part)
