"""One facial action: the nose is wrinkled as the muscle does it, on changing levels, and comes back to rest to the bit.

A gradient mask keeps the upper face; lip and nostril are pulled up, the brow down without the lids, which a mask holds;
folds are scored by short broken strokes a level up; the shape is dialled to and fro under a lamp that is moved, and the
check looks for what was left behind.
"""

from __future__ import annotations

import numpy as np

from kneten.core.light.lamps import Lamp
from kneten.document.driving import shapes_of
from kneten.document.scene import Part
from tests.works.sitting import Sitting, UnacceptableError

TOP = 85.0
"""What lies above is masked, mm."""

NOSE, LIP, BROW, LID = (0.0, 10.0, 130.0), (22.0, -22.0, 122.0), (34.0, 60.0, 98.0), (40.0, 34.0, 104.0)


def face(sitting: Sitting) -> Part:
    return next(part for part in sitting.project.scene.parts if part.name == "Tarn")


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    window.files.open_demo("tarn-forms")
    sitting.rest()
    sitting.project.choose(face(sitting).id)
    sitting.look("front")
    rest = face(sitting).mesh.positions.copy()
    window.shaping.add("Nose wrinkled")
    sitting.rest()
    # What lies above the brows stays.
    sitting.run("mask.gradient")
    way = [sitting.front(8.0, height) for height in (TOP, TOP - 15.0, TOP - 30.0)]
    sitting.drag([sitting.at(*place) for place in way])
    window.view.take_mode(None)
    if face(sitting).mesh.mask is None:
        raise UnacceptableError(f"nothing is masked: {sitting.said()}")
    print(
        f"  masked: {face(sitting).mesh.mask[sitting.spot(*sitting.front(8.0, TOP + 20))]:.2f} above, {face(sitting).mesh.mask[sitting.spot(*sitting.front(8.0, 0))]:.2f} below"
    )
    high = face(sitting).mesh.mask > 0.999
    pulled(sitting, NOSE, (0.0, 8.0), 36.0)
    pulled(sitting, LIP, (-2.0, 9.0), 24.0)
    lids(sitting)
    pulled(sitting, BROW, (-5.0, -7.0), 26.0)
    folds(sitting)
    sitting.run("mask.clear")
    moved = (
        np.linalg.norm(face(sitting).mesh.positions - rest, axis=1)
        if len(rest) == face(sitting).mesh.n_vertices
        else None
    )
    if moved is None or moved.max() < 2.0:
        raise UnacceptableError("the nose is not wrinkled")
    print(f"  moved by {moved.max():.1f} mm, above the brows by {moved[high].max():.3f} mm")
    if moved[high].max() > 1e-3:
        raise UnacceptableError("what was masked has moved")
    sitting.picture("wrinkled")
    dialled(sitting, rest)
    checked(sitting)


def pulled(
    sitting: Sitting, place: tuple[float, float, float], way: tuple[float, float], size: float
) -> None:
    """Pull the clay at a place, on both sides."""
    sitting.tool("pull", size, 1.0)
    x, y, z = sitting.front(place[0], place[1])
    sitting.stroke([(x + way[0] * t, y + way[1] * t, z) for t in (0.0, 0.5, 1.0)])


def lids(sitting: Sitting) -> None:
    """A mask around the eyes."""
    sitting.tool("mask", 30.0, 1.0)
    at = sitting.front(LID[0], LID[1])
    for _ in range(3):
        sitting.stroke([at, (at[0] + 2.0, at[1], at[2])])
    near = sitting.spot(*at)
    if face(sitting).mesh.mask[near] < 0.8:
        raise UnacceptableError("the lids are not masked")


def folds(sitting: Sitting) -> None:
    """Short broken strokes across the bridge of the nose, finer ones on the level above."""
    before = face(sitting).mesh.positions.copy()
    for height, size in ((30.0, 5.0), (38.0, 4.0), (46.0, 4.0)):
        sitting.tool("score", size, 0.5)
        for x0, x1 in ((2.0, 9.0), (11.0, 18.0)):
            sitting.stroke(
                [
                    sitting.front(x0, height),
                    sitting.front((x0 + x1) / 2, height + 1.0),
                    sitting.front(x1, height),
                ]
            )
    if np.array_equal(before, face(sitting).mesh.positions):
        raise UnacceptableError("there are no folds")
    level = face(sitting).stack.level  # type: ignore[union-attr]
    sitting.run("level.down")
    sitting.tool("smooth", 30.0, 0.3)
    sitting.stroke([sitting.front(14.0, 20.0), sitting.front(22.0, 10.0)])
    sitting.run("level.up")
    if face(sitting).stack.level != level:  # type: ignore[union-attr]
        raise UnacceptableError("it is on another level than before")


def dialled(sitting: Sitting, rest: np.ndarray) -> None:
    """To and fro, under a lamp that is moved."""
    window = sitting.window
    key = next(iter(shapes_of(sitting.project.scene)))
    window.lights.add("panel")
    sitting.rest()
    lamp = window.lights.chosen
    assert isinstance(lamp, Lamp)
    window.lights.change(warmth=3200)
    sitting.run("look.lit")
    whole = face(sitting).mesh.positions.copy()
    window.shaping.keep(key, 0.5)
    sitting.rest()
    half = face(sitting).mesh.positions
    if np.abs(half - (rest + whole) / 2).max() > 0.05:
        raise UnacceptableError("half of the shape is not half way")
    sitting.run("shape.neutral")
    off = float(np.abs(face(sitting).mesh.positions - rest).max())
    print(f"  at rest again within {off:.1e} mm")
    if off > 1e-3:
        raise UnacceptableError("the face does not come back to rest")
    window.shaping.keep(key, 1.0)
    sitting.rest()
    again = float(np.abs(face(sitting).mesh.positions - whole).max())
    if again > 1e-2:
        raise UnacceptableError(f"it does not come back: {again:.3f} mm off")
    sitting.picture("lit")


def checked(sitting: Sitting) -> None:
    """What the check finds is told and mended."""
    sitting.run("shape.check")
    finds = sitting.window.shape_checking.finds
    print(f"  {len(finds)} finds")
    if finds:
        sitting.run("shape.mend-all")
        print(f"  {sitting.said()}")
