"""A creature with a shell: big shapes on a floor, a wrong anatomy changed late, spikes, own patterns on layers, paint in valleys, a lit picture.

References and a sketch lie beside. Body and shell are low-poly balls that stand on the floor; the neck is lengthened on
the lowest level when layers above have their patterns already; spikes are drawn out; a press is made of a picture; paint
lies in the valleys only, is washed, smudged, and changes roughness and metal with it; all of it in lamplight.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from tests.works.animal import ball
from tests.works.sitting import Sitting, UnacceptableError


def pattern(path: Path) -> None:
    """Rings, as a picture of heights."""
    y, x = np.mgrid[0:256, 0:256] / 128.0 - 1.0
    rings = 0.5 + 0.5 * np.cos(9 * np.hypot(x, y))
    Image.fromarray((255 * rings).astype(np.uint8)).save(path)


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        pattern(folder / "rings.png")
        window.references.add_files([folder / "rings.png"])
        sitting.rest()
        sitting.run("look.floor")
        ball(sitting, "Shell", 160.0, 0.0, 90.0, 0.0)
        ball(sitting, "Head", 60.0, 0.0, 60.0, 95.0)
        ball(sitting, "Leg", 50.0, 60.0, 25.0, 50.0)
        sitting.run("copy.mirror-x")
        sitting.run("parts.all", "parts.fuse")
        window.studio.remesh_active(None, 12_000)
        sitting.rest()
        sitting.run("parts.floor")
        low = sitting.part.bounds()[0]
        if abs(low[1]) > 0.5:
            raise UnacceptableError(f"it stands {low[1]:.1f} mm above the floor")
        sitting.judge(sitting.part)
        sitting.run("density.subdivide", "density.subdivide")
        sitting.look("front")
        patterns(sitting, folder)
        anatomy(sitting)
        spikes(sitting)
        painted(sitting)
        lit(sitting, folder)
    sitting.reopen()


def patterns(sitting: Sitting, folder: Path) -> None:
    """Two patterns on layers of their own, one after the other seen alone."""
    window = sitting.window
    window.presses.import_files([folder / "rings.png"])
    sitting.rest()
    own = sitting.project.scene.things("presses")
    if len(own) != 1:
        raise UnacceptableError("the picture is no press")
    at = sitting.front(30.0, 110.0)
    for key in (f"own:{own[0].id}", "scales-round"):
        sitting.run("layer.add")
        sitting.press(key, 26.0)
        before = sitting.part.mesh.positions.copy()
        sitting.stroke([at, (at[0] + 20.0, at[1] + 4.0, at[2])])
        if np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max() < 0.2:
            raise UnacceptableError(f"{key} has left nothing")
        at = sitting.front(20.0, 135.0)
    both = sitting.part.mesh.positions.copy()
    sitting.run("layer.solo")
    alone = sitting.part.mesh.positions.copy()
    sitting.run("layer.solo")
    again = np.abs(both - sitting.part.mesh.positions).max()
    if np.abs(both - alone).max() < 0.1 or again > 1e-3:
        raise UnacceptableError(
            f"a layer cannot be seen alone: {np.abs(both - alone).max():.3f}, {again:.1e} mm"
        )


def anatomy(sitting: Sitting) -> None:
    """The head is too near: on the lowest level it is pulled out, and all patterns stay."""
    detail = sitting.part.mesh.n_vertices
    sitting.run("level.down", "level.down")
    sitting.run("view.right")
    sitting.window.views.frame_all()
    sitting.rest()
    before = sitting.part.bounds()[1][2]
    sitting.tool("pull", 45.0, 1.0, front_only=False)
    sitting.stroke([(30.0, 60.0, 118.0), (30.0, 62.0, 130.0), (30.0, 64.0, 145.0)])
    sitting.run("level.up", "level.up")
    grown = sitting.part.bounds()[1][2] - before
    print(f"  the neck is {grown:.1f} mm longer, {sitting.part.mesh.n_vertices:,} vertices")
    if grown < 5.0 or sitting.part.mesh.n_vertices != detail:
        raise UnacceptableError("the anatomy was not changed")
    sitting.look("front")


def spikes(sitting: Sitting) -> None:
    """Spikes, drawn out of the back."""
    high = sitting.part.bounds()[1][1]
    sitting.run("layer.add")
    sitting.tool("pull", 9.0, 1.0)
    for x in (0.0, 22.0, 44.0):
        at = sitting.front(x, high - 3.0 - x * x / 130.0)
        sitting.stroke([at, (at[0] + 0.2 * x, at[1] + 10.0, at[2]), (at[0] + 0.3 * x, at[1] + 20.0, at[2])])
    if sitting.part.bounds()[1][1] - high < 6.0:
        raise UnacceptableError("there are no spikes")
    sitting.picture("spikes")


def painted(sitting: Sitting) -> None:
    """A coat; paint in the valleys; washes; smudged; rough and metal along with it."""
    window = sitting.window
    sitting.colour(120, 110, 80)
    sitting.run("colour.fill")
    window.washes.change(kind="hollows")
    sitting.rest()
    sitting.colour(30, 40, 36)
    sitting.run("wash.layer")
    layer = window.levels.chosen
    if layer is None or layer.wash is None:
        raise UnacceptableError(f"there is no layer by form: {sitting.said()}")
    dark = sitting.part.mesh.colour[:, 0].astype(int)
    print(f"  {(dark < 90).mean() * 100:.0f} % lie in valleys")
    if not 0.005 < (dark < 90).mean() < 0.8:
        raise UnacceptableError("paint does not keep to the valleys")
    sitting.run("layer.add")
    sitting.colour(170, 60, 40)
    sitting.tool("paint", 30.0, 0.3, variant="wash")
    window.colours.paint_with("metalness", True)
    window.materials.dial("metalness", 0.9)
    at = sitting.front(40.0, 80.0)
    for _ in range(3):
        sitting.stroke([at, (at[0] - 20.0, at[1] + 8.0, at[2])])
    once = sitting.seen_colour(*at)
    sitting.tool("smudge", 24.0, 0.8)
    sitting.stroke([at, (at[0] + 14.0, at[1] - 10.0, at[2])])
    mesh = sitting.part.mesh
    if mesh.material is None or np.ptp(mesh.material[:, 1]) < 30:
        raise UnacceptableError("nothing became metal")
    print(f"  washed to {once.tolist()}")


def lit(sitting: Sitting, folder: Path) -> None:
    """Lamps, a mirroring floor, a picture."""
    window = sitting.window
    sitting.run("light.set-lantern", "look.lit")
    window.lights.change_around(mirror=0.4)
    sitting.rest()
    sitting.look("front", perspective=True)
    window.files.export_still(folder / "still.png", 320, 240, False)
    sitting.rest()
    pixels = np.asarray(Image.open(folder / "still.png").convert("RGB")).astype(int)
    if pixels.std() < 8:
        raise UnacceptableError("the picture is empty")
    sitting.picture("lit")
