"""Growths over a head: cords out of eye and nostril across each other, grooves beside them, deep pits, teeth, and the jaw distorted last.

On the head of the first figure, without symmetry: two cords are drawn on the clay and fused into it, grooves scored beside
them, warts pressed deep so that their edges hang over; teeth of their own are pulled, planed and scratched; at the end the
whole jaw is bent aside, and the cords with it.
"""

from __future__ import annotations

import numpy as np

from kneten.core.solid import volume
from tests.works.figure import head
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    project, window = sitting.project, sitting.window
    head(sitting)
    skull = sitting.part.id
    low, high = sitting.part.bounds()
    size = float(high[1] - low[1])
    middle = (low + high) / 2
    if project.settings.symmetry[0]:
        sitting.run("form.symmetry-x")
    sitting.look("front")

    def over(x: float, y: float) -> tuple[float, float, float]:
        return sitting.front(float(middle[0]) + x * size, float(middle[1]) + y * size)

    # Out of one eye and the nostril: two cords that cross on the cheek.
    lines = (
        [over(0.17, 0.09), over(0.2, 0.0), over(0.14, -0.1), over(0.06, -0.2)],
        [over(0.04, -0.04), over(0.12, -0.06), over(0.2, -0.12), over(0.26, -0.2)],
    )
    window.studio.preferences.strand_thickness = 0.035 * size
    window.studio.preferences.strand_taper = "tip"
    cords = []
    for line in lines:
        project.choose(skull)
        sitting.run("strand.surface")
        sitting.stroke(line)
        window.view.take_mode(None)
        sitting.run("live.bake")
        cords.append(sitting.part.id)
    if len(set(cords)) != 2 or len(project.scene.parts) != 3:
        raise UnacceptableError("there are not two cords")
    sitting.picture("cords")
    before = volume(project.scene.part(skull).mesh)
    project.choose_all([skull, *cords])
    sitting.run("join.unite")
    sitting.judge(sitting.part)
    body = sitting.part.id
    if not 1.0 < volume(sitting.part.mesh) / before < 1.2:
        raise UnacceptableError(f"uniting made {volume(sitting.part.mesh) / before:.2f} of it")
    window.studio.remesh_active(None, 120_000)
    sitting.rest()
    sitting.mended()
    sitting.judge(sitting.part)
    grooves(sitting, lines, size)
    warts(sitting, over, size)
    teeth(sitting, over, size)
    project.choose(body)
    distorted(sitting, over, size)


def grooves(sitting: Sitting, lines: tuple[list[tuple[float, float, float]], ...], size: float) -> None:
    """Grooves beside the cords, on both of their sides."""
    before = sitting.part.mesh.positions.copy()
    sitting.tool("score", 0.025 * size, 0.6)
    for line in lines:
        for aside in (-0.04, 0.04):
            sitting.stroke([(x + aside * size, y, z) for x, y, z in line])
    if np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max() < 0.003 * size:
        raise UnacceptableError("there are no grooves")
    sitting.judge(sitting.part)


def warts(sitting: Sitting, over, size: float) -> None:  # type: ignore[no-untyped-def]
    """Deep presses, whose edges hang over."""
    sitting.press("deep-wart", 0.07 * size, kind="dragged")
    before = sitting.part.mesh.positions.copy()
    for at in (over(-0.16, -0.06), over(-0.1, 0.22)):
        sitting.stroke([at, (at[0] + 0.02 * size, at[1], at[2])])
    moved = sitting.part.mesh.positions - before
    if np.linalg.norm(moved, axis=1).max() < 0.01 * size:
        raise UnacceptableError("there are no warts")
    # What hangs over: clay that looks back towards the head.
    sideways = np.linalg.norm(moved[:, :2], axis=1)
    print(
        f"  warts move clay by {np.linalg.norm(moved, axis=1).max():.1f} mm, aside by {sideways.max():.1f} mm"
    )
    sitting.window.studio.set_brush(kind="continuous")
    sitting.judge(sitting.part)


def teeth(sitting: Sitting, over, size: float) -> None:  # type: ignore[no-untyped-def]
    """Two teeth, one pulled longer, planed with hard edges, scratched."""
    project = sitting.project
    for x in (-0.05, 0.05):
        at = over(x, -0.22)
        sitting.run("live.cone")
        sitting.number("Size x", 0.06 * size, "Place")
        for axis, value in zip("xyz", at, strict=True):
            sitting.number(f"Position {axis}", value)
        sitting.run("live.bake")
        project.rename(sitting.part.id, "Tooth")
        sitting.window.studio.remesh_active(None, 6000)
        sitting.rest()
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    x, _, _ = ((low + high) / 2).tolist()
    tip = sitting.front(x, float(high[1]) - 0.1 * tall)
    sitting.tool("pull", 0.6 * tall, 1.0)
    sitting.stroke([tip, (tip[0], tip[1] + 0.2 * tall, tip[2])])
    longer = sitting.part.bounds()[1][1] - high[1]
    sitting.tool("shave", 0.4 * tall, 0.8)
    before = sitting.part.mesh.positions.copy()
    for _ in range(2):
        sitting.stroke(
            [
                sitting.front(x - 0.1 * tall, float(low[1]) + 0.4 * tall),
                sitting.front(x + 0.1 * tall, float(low[1]) + 0.4 * tall),
            ]
        )
    planed = np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max()
    print(f"  a tooth is {longer:.1f} mm longer, planed by {planed:.2f} mm")
    if longer < 0.05 * tall or planed <= 0:
        raise UnacceptableError("the teeth are as they were")
    sitting.tool("score", 0.05 * tall, 0.4)
    sitting.stroke(
        [sitting.front(x, float(low[1]) + 0.3 * tall), sitting.front(x, float(low[1]) + 0.6 * tall)]
    )
    sitting.judge(sitting.part)


def distorted(sitting: Sitting, over, size: float) -> None:  # type: ignore[no-untyped-def]
    """The jaw, with all that grows on it, is pulled aside."""
    before = sitting.part.mesh.positions.copy()
    at = over(0.0, -0.38)
    sitting.tool("pull", 0.5 * size, 1.0)
    sitting.stroke(
        [at, (at[0] + 0.06 * size, at[1], at[2]), (at[0] + 0.12 * size, at[1] - 0.02 * size, at[2])]
    )
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    print(f"  the jaw has gone {moved.max():.1f} mm aside, {(moved > 0.02 * size).sum():,} vertices with it")
    if moved.max() < 0.05 * size:
        raise UnacceptableError("the jaw is where it was")
    sitting.mended()
    sitting.judge(sitting.part)
    sitting.picture("distorted")
