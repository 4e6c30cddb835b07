"""A cartoon figure, second session: a glove joined, fused and mirrored, trousers of a split body, straps, buttons, a crisp border, lids, eyes.

Palm and fingers are parts that become one glove, mirrored across a moved pivot; the body is cut in two and the lower half
pulled over the upper; straps are strands of rectangular profile with a thickness for each point; a painted border is ragged
on the coarse mesh and crisp on a finer one, and stays when the mesh is decimated; lids are shells cut from copies of the
eyeballs; a nose that was lost is found again.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from tests.works.animal import ball
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    glove(sitting)
    trousers(sitting)
    straps(sitting)
    border(sitting)
    lids(sitting)
    nose(sitting)
    sitting.run("look.outline", "look.cover")
    sitting.look("front")
    sitting.picture("figure")
    sitting.run("look.outline", "look.cover")
    sitting.reopen()


def glove(sitting: Sitting) -> None:
    """Palm and three fingers, named, fused, mirrored across a pivot that was moved."""
    project = sitting.project
    ids = []
    ball(sitting, "Palm", 44.0, 120.0, 0.0, 0.0)
    ids.append(sitting.part.id)
    for k, x in enumerate((106.0, 120.0, 134.0)):
        ball(sitting, f"Finger {k + 1}", 20.0, x, -26.0, 0.0)
        ids.append(sitting.part.id)
    project.choose_all(ids)
    sitting.run("parts.fuse")
    project.rename(sitting.part.id, "Glove")
    sitting.judge(sitting.part)
    low, high = sitting.part.bounds()
    sitting.run("copy.mirror-x")
    other = sitting.part.bounds()
    if np.abs(other[0][0] + high[0]) > 0.5 or np.abs(other[1][0] + low[0]) > 0.5:
        raise UnacceptableError("the other glove is not on the other side")
    sitting.look("front")
    sitting.picture("gloves")


def trousers(sitting: Sitting) -> None:
    """One body, cut in two; the lower half made wider than the upper."""
    project = sitting.project
    ball(sitting, "Body", 120.0, 0.0, 20.0, 0.0)
    body = sitting.part.id
    sitting.window.studio.remesh_active(None, 20_000)
    sitting.rest()
    count = len(project.scene.parts)
    sitting.look("front")
    sitting.run("cut.line")
    sitting.drag(
        [sitting.at(-110.0, 15.0, 0.0), sitting.at(110.0, 15.0, 0.0)],
        keys=Qt.KeyboardModifier.ControlModifier,
    )
    sitting.window.view.take_mode(None)
    halves = [part for part in project.scene.parts if part.id == body or part.name.startswith("Body")]
    if len(project.scene.parts) != count + 1 or len(halves) != 2:
        raise UnacceptableError(f"the body is in {len(halves)} parts: {sitting.said()}")
    lower = min(halves, key=lambda part: part.bounds()[0][1])
    for half in halves:
        project.choose(half.id)
        sitting.judge(half, drawn=30.0)
    project.choose(lower.id)
    project.rename(lower.id, "Trousers")
    top = float(lower.bounds()[1][1])
    sitting.window.studio.remesh_active(None, 20_000)
    sitting.rest()
    sitting.tool("pull", 40.0, 1.0)
    at = sitting.front(0.0, top - 8.0)
    sitting.stroke([at, (at[0], at[1] + 10.0, at[2]), (at[0], at[1] + 18.0, at[2])])
    rise = float(sitting.part.bounds()[1][1]) - top
    print(f"  trousers pulled {rise:.1f} mm over the body")
    if rise < 2.0:
        raise UnacceptableError("the trousers do not go over the body")


def straps(sitting: Sitting) -> None:
    """Strands of rectangular profile by points, each with a thickness of its own; buttons."""
    window = sitting.window
    window.studio.preferences.strand_thickness = 7.0
    window.studio.preferences.strand_taper = "none"
    sitting.run("strand.surface")
    sitting.stroke([sitting.front(30.0, y) for y in (20.0, 40.0, 60.0, 72.0)])
    strand = sitting.part
    if strand.recipe is None:
        raise UnacceptableError("there is no strap")
    sitting.run("live.bake", "copy.mirror-x")
    ball(sitting, "Button", 8.0, 30.0, 24.0, 58.0)
    sitting.run("copy.mirror-x")


def border(sitting: Sitting) -> None:
    """A painted border: ragged, then crisp on a finer mesh; kept by decimating."""
    trousers = next(part for part in sitting.project.scene.parts if part.name == "Trousers")
    sitting.project.choose(trousers.id)
    sitting.colour(70, 90, 150)
    sitting.run("colour.fill")
    sitting.run("density.subdivide")
    sitting.colour(230, 200, 80)
    sitting.tool("paint", 5.0, 1.0, front_only=True)
    y = float(sitting.part.bounds()[1][1]) - 26.0
    line = [sitting.front(x, y) for x in (0.0, 20.0, 40.0)]
    for _ in range(2):
        sitting.stroke(line)
    yellow = sitting.seen_colour(*line[1])
    sitting.number("Decimate to", 40, "Density")
    sitting.run("density.decimate-run")
    kept = sitting.seen_colour(*line[1])
    print(f"  border {yellow.tolist()}, decimated {kept.tolist()}")
    if np.abs(yellow - (230, 200, 80)).max() > 40 or np.abs(kept - yellow).max() > 60:
        raise UnacceptableError("the border is lost")


def lids(sitting: Sitting) -> None:
    """Eyes; a copy of one, larger, cut to a lid; the iris a round press by dragging."""
    project = sitting.project
    ball(sitting, "Eye", 26.0, 18.0, 95.0, 50.0)
    eye = sitting.part
    sitting.run("copy.copy")
    sitting.number("Size x", 29.0, "Place")
    lid = sitting.part.id
    project.rename(lid, "Lid")
    sitting.look("front")
    sitting.run("cut.line")
    # From right to left: what lies below goes.
    sitting.drag([sitting.at(-10.0, 98.0, 50.0), sitting.at(45.0, 98.0, 50.0)])
    sitting.window.view.take_mode(None)
    low, high = project.scene.part(lid).bounds()
    print(f"  the lid is {high[1] - low[1]:.1f} mm high over an eye of {np.ptp(eye.bounds(), axis=0)[1]:.1f}")
    if not 3.0 < high[1] - low[1] < 25.0:
        raise UnacceptableError("the lid covers all of the eye, or nothing")
    sitting.judge(project.scene.part(lid), drawn=30.0)
    project.choose(eye.id)
    sitting.run("density.subdivide", "density.subdivide")
    sitting.colour(40, 90, 60)
    sitting.tool("paint", 6.0, 1.0, kind="sized")
    at = sitting.front(18.0, 92.0)
    sitting.stroke([at, (at[0] + 4.0, at[1], at[2])])
    sitting.window.studio.set_brush(kind="continuous")
    if sitting.seen_colour(*at)[0] > 120:
        raise UnacceptableError(f"there is no iris: {sitting.seen_colour(*at)}")
    project.choose_all([eye.id, lid])
    sitting.run("copy.mirror-x")


def nose(sitting: Sitting) -> None:
    """A nose that was lost, hidden behind other clay, is found again by its name."""
    ball(sitting, "Nose", 14.0, 0.0, 84.0, -120.0)
    lost = sitting.part.id
    others = [part.id for part in sitting.project.scene.parts if part.id != lost]
    sitting.project.choose(others[0])
    sitting.project.choose(lost)
    sitting.run("parts.find", "view.frame")
    sitting.number("Position z", 62.0, "Place")
    low, high = sitting.project.scene.part(lost).bounds()
    if not 50.0 < (low + high)[2] / 2 < 75.0:
        raise UnacceptableError("the nose is still lost")
