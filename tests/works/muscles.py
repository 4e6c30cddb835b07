"""The muscles of a torso: a photograph fitted to the clay by warping, laid on as colour, fibres stroke by stroke, carved and crisped.

A drawing of muscles stands in for the photograph: it is held before the clay, its points moved until it fits, laid as
colour on a layer that is shown, half shown, and hidden; fibres are laid along it on a finer level, grooves carved around,
filled across, swelled and pinched, one side otherwise than the other.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from tests.works.sitting import Sitting, UnacceptableError


def drawing(path: Path) -> None:
    """Red muscles with lighter fibres on a pale ground."""
    sketch = Image.new("RGB", (600, 800), (232, 210, 190))
    draw = ImageDraw.Draw(sketch)
    for side in (0, 1):
        for k in range(5):
            box = (60 + 260 * side, 60 + 140 * k, 280 + 260 * side, 180 + 140 * k)
            draw.ellipse(box, fill=(168, 54, 48))
            for step in range(8):
                y = box[1] + 15 * step
                draw.line((box[0] + 20, y, box[2] - 20, y + 10), fill=(206, 110, 98), width=3)
    sketch.save(path)


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    sitting.run("armature.heavy", "live.bake")
    window.studio.remesh_active(None, 60_000)
    sitting.rest()
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    x, y, _ = ((low + high) / 2).tolist()
    chest = y + 0.22 * tall
    sitting.run("density.subdivide")
    sitting.look("front")
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "muscles.png"
        drawing(path)
        window.references.add_files([path])
        sitting.rest()
    photographed(sitting)
    fibres(sitting, x, chest, tall)
    sitting.mended()
    sitting.judge(sitting.part)
    sitting.reopen()


def photographed(sitting: Sitting) -> None:
    """Fit the picture, lay it, show it wholly, half, and not at all."""
    window = sitting.window
    sitting.colour(214, 190, 170)
    sitting.run("colour.fill", "layer.add", "held.hold")
    held = window.held.chosen
    if held is None:
        raise UnacceptableError("no picture is held")
    # Its points are drawn in to where the torso is.
    net = np.array(held.net, float)
    centre = net.mean(axis=0)
    window.held.change(net=tuple(map(tuple, (centre + 0.55 * (net - centre)).tolist())))
    sitting.picture("held")
    sitting.run("held.lay")
    sitting.run("held.let-go")
    window.view.take_mode(None)
    reds = reddish(sitting)
    layer = sitting.part.stack.layers[-1]  # type: ignore[union-attr]
    print(f"  {reds:,} vertices took the picture's red")
    if reds < 1000:
        raise UnacceptableError("the picture is not on the clay")
    wholly = sitting.part.mesh.colour.astype(float)  # type: ignore[union-attr]
    shown = {1.0: wholly}
    for strength in (0.5, 0.0, 1.0):
        window.levels.dial(layer.id, strength)
        window.levels.keep_dial(layer.id, strength)
        sitting.rest()
        shown[strength] = sitting.part.mesh.colour.astype(float)  # type: ignore[union-attr]
    between = np.abs(shown[0.5] - (shown[0.0] + shown[1.0]) / 2)[:, :3].mean()
    print(f"  half of it is within {between:.1f} of 255 of the middle")
    if not np.array_equal(shown[1.0], wholly) or between > 12 or np.abs(shown[0.0] - wholly).max() < 60:
        raise UnacceptableError("the photograph cannot be shown half")
    sitting.run("layer.show")
    gone = reddish(sitting)
    sitting.run("layer.show")
    if gone > reds / 20 or reddish(sitting) != reds:
        raise UnacceptableError(f"the photograph cannot be switched: {reds}, {gone}, {reddish(sitting)}")


def reddish(sitting: Sitting) -> int:
    """Vertices of the muscles' red."""
    colour = sitting.part.mesh.colour
    if colour is None:
        return 0
    r, g = colour[:, 0].astype(int), colour[:, 1].astype(int)
    return int((r - g > 70).sum())


def fibres(sitting: Sitting, x: float, chest: float, tall: float) -> None:
    """Fibres over the breast, grooves, a filled hollow, crisp ends; asymmetric at the end."""
    start = sitting.part.mesh.positions.copy()
    r = 0.012 * tall

    def over(dx: float, dy: float) -> tuple[float, float, float]:
        return sitting.front(x + dx * tall, chest + dy * tall)

    sitting.tool("coil", r, 0.6)
    for k in range(6):
        sitting.stroke([over(0.02, -0.01 * k), over(0.06, 0.004 - 0.01 * k), over(0.1, 0.02 - 0.01 * k)])
    laid = np.linalg.norm(sitting.part.mesh.positions - start, axis=1)
    print(f"  fibres lie up to {laid.max():.1f} mm high on {(laid > 0.1).sum():,} vertices")
    if (laid > 0.1).sum() < 500:
        raise UnacceptableError("there are no fibres")
    for tool, size, strength in (
        ("score", r, 0.5),
        ("smooth", 2 * r, 0.4),
        ("span", 2 * r, 0.5),
        ("swell", 3 * r, 0.4),
        ("pinch", 1.5 * r, 0.5),
    ):
        sitting.tool(tool, size, strength)
        sitting.stroke([over(0.02, -0.07), over(0.06, -0.06), over(0.1, -0.05)])
    sitting.run("form.symmetry-x")
    sitting.tool("swell", 4 * r, 0.5)
    before = sitting.part.mesh.positions.copy()
    sitting.stroke([over(0.04, 0.0), over(0.08, 0.01)])
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1) > 0.05
    places = sitting.part.transform.to_scene(sitting.part.mesh.positions.astype(float))
    sitting.run("form.symmetry-x")
    if not moved.any() or (places[moved, 0] < x - 0.02 * tall).any():
        raise UnacceptableError("both sides have changed")
    sitting.picture("fibres")
