"""A cartoon figure in a suit: fused balls, an own sharp tool, cuts, lids, ears, creased cloth, whiskers, fur, lamps, a turntable, a traced still.

Head and body are mirrored balls that are fused; a pocket is a box cut out, the back a straight cut; an own tool scores crisp
folds; lids come from splitting eyes; a mask is drawn for the pupils; ears are flattened, hollowed and twisted;
lid and eye that were joined by mistake are parted again; whiskers are strands, tufts drawn out by a tool of its own; three lamps, a grade, a film, a still.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import av
import numpy as np
from PIL import Image
from PySide6.QtCore import Qt

from kneten.app.shell.own_tools import OWN, OwnTool
from kneten.core.light.turntable import Turntable
from kneten.core.solid import volume
from tests.works.animal import ball
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    head = body(sitting)
    cuts(sitting)
    folds(sitting)
    ears(sitting)
    eyes(sitting)
    project.choose(head)
    coats(sitting)
    whiskers(sitting)
    tufts(sitting, head)
    fur(sitting, head)
    for kind in ("panel", "rim", "point"):
        sitting.run(f"light.add-{kind}")
    window.pictures.change_finish(exposure=0.3, lift=(0.02, 0.0, 0.04), vignette=0.4)
    sitting.run("look.lit")
    sitting.look("front", perspective=True)
    sitting.picture("lit")
    with tempfile.TemporaryDirectory() as name:
        pictures(sitting, Path(name))


def body(sitting: Sitting) -> str:
    """Balls, mirrored, fused; returns the id."""
    ids = []
    for name, wide, x, y in (
        ("Head", 90.0, 0.0, 120.0),
        ("Chest", 100.0, 0.0, 30.0),
        ("Arm", 40.0, 60.0, 40.0),
    ):
        ball(sitting, name, wide, x, y, 0.0)
        ids.append(sitting.part.id)
    sitting.run("copy.mirror-x")
    ids.append(sitting.part.id)
    sitting.project.choose_all(ids)
    sitting.run("parts.fuse")
    sitting.window.studio.remesh_active(None, 60_000)
    sitting.rest()
    if abs(sitting.part.transform.place[0]) > 1e-6:
        raise UnacceptableError("its middle is not in the middle")
    sitting.judge(sitting.part)
    sitting.project.rename(sitting.part.id, "Figure")
    return sitting.part.id


def cuts(sitting: Sitting) -> None:
    """A pocket by a box, the back by a straight cut."""
    project, figure = sitting.project, sitting.part
    whole = volume(figure.mesh)
    sitting.run("live.box")
    sitting.number("Size x", 14.0, "Place")
    for axis, value in (("x", 24.0), ("y", 30.0), ("z", 46.0)):
        sitting.number(f"Position {axis}", value)
    sitting.run("live.bake")
    box = sitting.part.id
    project.choose(figure.id)
    project.choose_all([box, figure.id])
    sitting.run("join.subtract")
    sitting.judge(sitting.part, drawn=60.0)
    less = volume(project.scene.part(figure.id).mesh)
    if not 0 < whole - less < 0.05 * whole:
        raise UnacceptableError("the pocket is not cut out")
    sitting.run("view.right")
    sitting.window.views.frame_all()
    sitting.rest()
    sitting.run("cut.rectangle")
    sitting.drag([sitting.at(0.0, 80.0, -70.0), sitting.at(0.0, -30.0, -42.0)])
    sitting.window.view.take_mode(None)
    if volume(project.scene.part(figure.id).mesh) >= less:
        raise UnacceptableError("nothing was cut off the back")
    sitting.window.studio.remesh_active(None, 80_000)
    sitting.rest()
    sitting.mended()
    sitting.judge(sitting.part)
    sitting.look("front")


def folds(sitting: Sitting) -> None:
    """An own tool with a sharp falloff: pleats, and creases around a button."""
    window = sitting.window
    sitting.run("tool.score")
    window.studio.set_brush(size=6.0, size_on_model=True, strength=0.7)
    window.own_tools._take("Pleat", OwnTool("score", window.studio.settings()))
    sitting.run("density.subdivide")
    before = sitting.part.mesh.positions.copy()
    for x in (10.0, 18.0, 26.0):
        sitting.stroke([sitting.front(x, y) for y in (14.0, 0.0, -10.0)])
    sitting.tool("pinch", 8.0, 0.6)
    sitting.stroke([sitting.front(6.0, 44.0), sitting.front(14.0, 40.0)])
    # One fold on one side only, on purpose.
    sitting.run("form.symmetry-x")
    sitting.tool("raise", 8.0, 0.7)
    sitting.stroke([sitting.front(-20.0, 46.0), sitting.front(-30.0, 40.0)])
    sitting.run("form.symmetry-x")
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    if moved.max() < 0.3:
        raise UnacceptableError("there are no folds")
    sitting.judge(sitting.part)


def ears(sitting: Sitting) -> None:
    """Flattened, hollowed, mirrored."""
    ball(sitting, "Ear", 40.0, 44.0, 165.0, 0.0)
    sitting.window.studio.remesh_active(None, 12_000)
    sitting.rest()
    sitting.run("look.isolate")
    sitting.look("front")
    sitting.tool("flatten", 40.0, 0.8)
    for _ in range(3):
        sitting.stroke([sitting.front(36.0, 165.0), sitting.front(52.0, 165.0)])
    sitting.tool("raise", 16.0, 0.8, reverse=True)
    for _ in range(2):
        sitting.stroke([sitting.front(42.0, 162.0), sitting.front(46.0, 168.0)])
    # Flattened as far as its faces let it be: new ones leave room for the next move.
    sitting.window.studio.remesh_active(None, 12_000)
    sitting.rest()
    before = sitting.part.mesh.positions.copy()
    sitting.tool("twist", 60.0, 1.0)
    at = sitting.front(44.0, 160.0)
    sitting.stroke([at, (at[0] + 12.0, at[1], at[2])])
    turned = np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max()
    print(f"  ears twisted by {turned:.1f} mm in one move")
    if turned < 1.0:
        raise UnacceptableError("the ear is not twisted")
    sitting.judge(sitting.part)
    sitting.run("look.isolate", "copy.mirror-x")


def eyes(sitting: Sitting) -> None:
    """An eye split into lid and ball, wrongly joined with another, parted again; its pupil drawn as a mask."""
    project = sitting.project
    ball(sitting, "Eyeball", 24.0, 18.0, 128.0, 44.0)
    sitting.look("front")
    sitting.run("cut.line")
    sitting.drag(
        [sitting.at(-4.0, 132.0, 44.0), sitting.at(40.0, 132.0, 44.0)],
        keys=Qt.KeyboardModifier.ControlModifier,
    )
    sitting.window.view.take_mode(None)
    halves = [part.id for part in project.scene.parts if part.name.startswith("Eyeball")]
    if len(halves) != 2:
        raise UnacceptableError(f"the eye is in {len(halves)} parts")
    project.choose_all(halves)
    sitting.run("join.join")
    joined = sitting.part
    if len(joined.origins) != 2:
        raise UnacceptableError("lid and eye are not joined")
    sitting.run("join.split-origin")
    if len([part for part in project.scene.parts if part.name.startswith("Eyeball")]) != 2:
        raise UnacceptableError("lid and eye cannot be parted")
    lower = min(
        (part for part in project.scene.parts if part.name.startswith("Eyeball")),
        key=lambda part: part.bounds()[0][1],
    )
    project.choose(lower.id)
    sitting.window.studio.remesh_active(None, 10_000)
    sitting.rest()
    sitting.tool("mask", 7.0, 1.0)
    at = sitting.front(18.0, 124.0)
    for _ in range(2):
        sitting.stroke([at, (at[0] + 1.0, at[1], at[2])])
    sitting.colour(10, 10, 12)
    sitting.run("colour.fill-mask", "mask.clear")
    if sitting.seen_colour(*at).max() > 60:
        raise UnacceptableError("there is no pupil")


def coats(sitting: Sitting) -> None:
    """Skin and cloth, dull and shining."""
    window = sitting.window
    sitting.colour(200, 150, 120)
    sitting.run("colour.fill")
    sitting.colour(40, 46, 70)
    window.materials.dial("roughness", 0.9)
    sitting.tool("paint", 40.0, 1.0)
    for y in (50.0, 25.0, 0.0):
        sitting.stroke([sitting.front(-30.0, y), sitting.front(0.0, y), sitting.front(30.0, y)])
    mesh = sitting.part.mesh
    if mesh.material is None or np.ptp(mesh.material[:, 0]) < 20:
        raise UnacceptableError("cloth and skin shine alike")


def whiskers(sitting: Sitting) -> None:
    """Strands of their own on both sides."""
    window = sitting.window
    window.studio.preferences.strand_thickness = 1.0
    window.studio.preferences.strand_taper = "tip"
    count = len(sitting.project.scene.parts)
    sitting.run("strand.free")
    for k in range(4):
        at = sitting.front(14.0, 112.0 - 3 * k)
        sitting.stroke(
            [at, (at[0] + 25.0, at[1] + 4.0 - 4 * k, at[2]), (at[0] + 48.0, at[1] - 6.0 * k, at[2])]
        )
    window.view.take_mode(None)
    sitting.run("copy.mirror-x")
    added = len(sitting.project.scene.parts) - count
    print(f"  whiskers in {added} parts")
    if added < 2:
        raise UnacceptableError("there are no whiskers")


def tufts(sitting: Sitting, head: str) -> None:
    """Tufts drawn out of the head by an own tool whose falloff is a peak."""
    window = sitting.window
    sitting.project.choose(head)
    sitting.run("look.isolate", "tool.pull")
    sitting.look("front")
    peak = ((0.0, 1.0), (0.35, 0.25), (1.0, 0.0))
    window.studio.set_brush(size=12.0, size_on_model=True, strength=1.0, falloff=peak)
    window.own_tools._take("Tuft", OwnTool("pull", window.studio.settings()))
    window.studio.choose_tool(f"{OWN}Tuft")
    high = sitting.part.bounds()[1]
    before = sitting.part.mesh.positions.copy()
    for x in (4.0, 14.0, 24.0):
        at = sitting.front(x, float(high[1]) - 8.0)
        sitting.stroke([at, (at[0] + 3.0, at[1] + 16.0, at[2])])
    drawn = np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max()
    print(f"  tufts drawn out by {drawn:.1f} mm")
    if drawn < 3.0:
        raise UnacceptableError("no tuft is drawn out")
    sitting.run("look.isolate")
    sitting.tool("pull", 20.0, 1.0)


def fur(sitting: Sitting, head: str) -> None:
    """A tuft on a mask on the head."""
    sitting.project.choose(head)
    sitting.tool("mask", 20.0, 1.0)
    at = sitting.front(4.0, 158.0)
    for _ in range(2):
        sitting.stroke([at, (at[0] + 6.0, at[1] - 2.0, at[2])])
    sitting.run("fur.add")
    sitting.window.furs.change(count=4000)
    sitting.rest()
    if not sitting.project.scene.things("furs"):
        raise UnacceptableError(f"there is no tuft: {sitting.said()}")
    sitting.run("mask.clear")


def pictures(sitting: Sitting, folder: Path) -> None:
    """A film going round; a still by traced light."""
    window = sitting.window
    window.files.export_turntable(folder / "round.webm", Turntable(12), 160, 200)
    sitting.rest()
    with av.open(str(folder / "round.webm")) as film:
        count = sum(1 for _ in film.decode(video=0))
    if count != 12:
        raise UnacceptableError(f"the film has {count} pictures")
    window.traces.width, window.traces.samples = 160, 4
    sitting.run("trace.start")
    tracing = window.traces.tracing
    if tracing is None:
        raise UnacceptableError(f"no light is traced: {sitting.said()}")
    tracing.wait()
    sitting.rest()
    window.files.export_still(folder / "still.png", 320, 400, True)
    sitting.rest()
    print(f"  {count} pictures going round; {tracing.now.samples} samples traced")
    if np.asarray(Image.open(folder / "still.png")).std() < 8 or tracing.now.samples < 4:
        raise UnacceptableError("there is no still")
    sitting.run("trace.cancel")
