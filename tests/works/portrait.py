"""From a drawing to a lit portrait: planes, shoulders from a box in cloth, clean quads, brow and hat peeled, hair, badge, UVs, materials, a tilt, a wink, light.

A drawing is held over the view while the head is shaped; shoulders grow out of a low-poly box; the head is remade as quads
with its form on levels; brows and hat are peeled from its own faces; hair is strands of two profiles; a ring with a jewel;
a picture of cloth lies on the shoulders, their stripes stand out with soft edges; a badge has a seam round it and letters;
UVs whose face is large; gloss and subsurface are painted, the neck fades out; the head is tilted by a rig and an eye closed
as a shape; sky, key and two rims light it, and passes are written.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image, ImageDraw
from PySide6.QtWidgets import QInputDialog

from tests.works.figure import head
from tests.works.sitting import Sitting, UnacceptableError

CLOTH = (66, 82, 96)
"""The dark of the cloth, sRGB."""


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        drawing = Image.new("RGB", (400, 500), (240, 236, 228))
        ImageDraw.Draw(drawing).ellipse((90, 60, 310, 400), outline=(30, 30, 30), width=5)
        drawing.save(folder / "face.png")
        window.references.add_files([folder / "face.png"])
        sitting.rest()
        head(sitting)
        sculpt = sitting.part
        low, high = sculpt.bounds()
        size = float(high[1] - low[1])
        middle = (low + high) / 2
        sitting.run("held.hold")
        sitting.picture("drawing")
        sitting.run("held.show", "held.let-go", "look.planes", "look.clay")
        window.view.take_mode(None)
        shoulders(sitting, middle, size)
        cloth(sitting, folder, size)
        striped(sitting, size)
        badge(sitting, middle, size)
        project.choose(sculpt.id)
        clean = quads(sitting)
        peeled(sitting, clean, middle, size)
        hair(sitting, clean, middle, size)
        jewel(sitting, middle, size)
        project.choose(clean)
        flat(sitting)
        painted(sitting, middle, size)
        wink(sitting, middle, size)
        lit(sitting, folder)
    sitting.reopen()


def shoulders(sitting: Sitting, middle: np.ndarray, size: float) -> None:
    """A box, smoothed by subdivision."""
    sitting.run("live.box")
    sitting.number("Size x", 1.5 * size, "Place")
    sitting.number("Position y", float(middle[1]) - 1.3 * size)
    sitting.run("live.bake", "density.subdivide")
    sitting.project.rename(sitting.part.id, "Shoulders")
    sitting.judge(sitting.part)


def cloth(sitting: Sitting, folder: Path, size: float) -> None:
    """A picture of checked cloth, laid all over the shoulders as colour."""
    window = sitting.window
    rows, columns = np.indices((512, 512))
    checks = np.where(((rows // 32 + columns // 32) % 2)[..., None] == 0, CLOTH, (214, 206, 190))
    Image.fromarray(checks.astype(np.uint8)).save(folder / "cloth.png")
    window.references.add_files([folder / "cloth.png"])
    sitting.rest()
    window.studio.remesh_active(None, 120_000)
    sitting.rest()
    sitting.run("look.isolate", "layer.add")
    sitting.look("front")
    with mock.patch.object(QInputDialog, "getItem", staticmethod(lambda *asked, **_: (asked[3][-1], True))):
        sitting.run("held.hold")
    window.held.change(tiled=True, size=0.5 * size)
    sitting.run("held.lay")
    sitting.picture("cloth")
    sitting.run("held.let-go")
    window.view.take_mode(None)
    colour = sitting.part.mesh.colour
    if colour is None:
        raise UnacceptableError(f"there is no cloth on the shoulders: {sitting.said()}")
    share = float((np.abs(colour[:, :3].astype(int) - CLOTH).max(axis=1) < 24).mean())
    print(f"  {share:.0%} of the shoulders has the dark of the cloth")
    if not 0.25 < share < 0.6:
        raise UnacceptableError("the cloth is not on the shoulders")


def striped(sitting: Sitting, size: float) -> None:
    """Two stripes across the shoulders stand out, with soft edges."""
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    for share in (0.3, 0.6):
        sitting.run("mask.rectangle")
        at = float(low[1]) + share * tall
        sitting.drag(
            [
                sitting.at(float(low[0]) - 0.01 * size, at, float(high[2])),
                sitting.at(float(high[0]) + 0.01 * size, at + 0.1 * tall, float(high[2])),
            ]
        )
        sitting.window.view.take_mode(None)
    sitting.run("mask.blur", "mask.blur", "mask.invert")
    before = places(sitting)
    card = sitting.window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("inflate"))
    card.kind.activated.emit(card.kind.currentIndex())
    sitting.number("Amount of the deformer", 0.01 * size, "Deform")
    sitting.run("mask.clear")
    moved = np.linalg.norm(places(sitting) - before, axis=1)
    wholly, between = (
        (moved > 0.9 * moved.max()).mean(),
        ((moved > 0.1 * moved.max()) & (moved < 0.9 * moved.max())).mean(),
    )
    print(f"  stripes {moved.max():.1f} mm high: {wholly:.0%} of the clay, {between:.0%} in their edges")
    if moved.max() < 0.005 * size or not 0.05 < wholly < 0.4 or between < 0.01:
        raise UnacceptableError(f"there are no stripes: {sitting.said()}")
    sitting.judge(sitting.part)


def badge(sitting: Sitting, middle: np.ndarray, size: float) -> None:
    """A plate with a rolled seam along its rim, and letters that stand out."""
    window = sitting.window
    sitting.run("look.isolate", "live.box")
    window.place_card.even.setChecked(False)
    for name, value in (("Size x", 0.3), ("Size y", 0.2), ("Size z", 0.05)):
        sitting.number(name, value * size, "Place")
    sitting.number("Position x", float(middle[0]))
    sitting.number("Position y", float(middle[1]) - size)
    sitting.number("Position z", float(middle[2]) + 1.2 * size)
    sitting.run("live.bake")
    sitting.project.rename(sitting.part.id, "Badge")
    window.place_card.even.setChecked(True)
    # Letters are no mirror images.
    sitting.run("form.symmetry-x")
    window.studio.remesh_active(None, 400_000)
    sitting.rest()
    sitting.run("look.isolate")
    sitting.look("front")
    low, high = sitting.part.bounds()
    face = float(high[2])
    left, down = float(low[0]), float(low[1])
    wide, tall = (high - low)[:2].tolist()
    flat = places(sitting)
    sitting.press("stitch-running", 0.012 * size)
    inside = 0.1 * tall
    sitting.stroke(
        [(left + inside + share * (wide - 2 * inside), down + inside, face) for share in (0.0, 0.5, 1.0)]
    )
    seam = raised(sitting, flat)
    stitched = places(sitting)
    sitting.run("press.text")
    window.text_panel.text.setText("KELP")
    window.text_panel.form.setCurrentIndex(window.text_panel.form.findData("round"))
    window.text_panel.button.click()
    sitting.rest()
    window.press_panel.use()
    sitting.rest()
    sitting.tool("press", 0.06 * size, 1.0, kind="sized")
    centre = (left + wide / 2, down + 0.55 * tall, face)
    sitting.stroke([centre, (centre[0] + 0.11 * size, centre[1], face)])
    letters = raised(sitting, stitched)
    sitting.picture("badge")
    print(f"  the seam stands out by {seam:.2f} mm, the letters by {letters:.2f} mm")
    if min(seam, letters) < 0.001 * size:
        raise UnacceptableError(f"the badge is bare: {sitting.said()}")
    sitting.judge(sitting.part)
    sitting.run("look.isolate", "form.symmetry-x")


def raised(sitting: Sitting, before: np.ndarray) -> float:
    """How far (mm) what was pressed onto the front stands out or in."""
    return float(np.abs((places(sitting) - before)[:, 2]).max())


def places(sitting: Sitting) -> np.ndarray:
    """Where the vertices (n, 3) of the part in hand are, in the scene."""
    return sitting.part.transform.to_scene(sitting.part.mesh.positions.astype(np.float64))


def quads(sitting: Sitting) -> str:
    """Clean quads with the sculpt's form above them; returns the id."""
    sitting.number("Quads", 3000, "Quads")
    sitting.window.quads_card.symmetric.setChecked(True)
    sitting.run("net.retopologise")
    made = sitting.part
    print(f"  {sitting.said()}")
    if made.stack is None or made.stack.top < 1:
        raise UnacceptableError("the quads have no form above them")
    for part in sitting.project.scene.parts:
        if part.id != made.id and part.name == "Sphere" and part.visible:
            sitting.project.choose(part.id)
            sitting.run("parts.hide")
    sitting.project.choose(made.id)
    return made.id


def peeled(sitting: Sitting, clean: str, middle: np.ndarray, size: float) -> None:
    """A hat from the upper head, a brow from the face: copies of its own faces."""
    project = sitting.project
    for name, spots, wide in (
        ("Hat", ((0.0, 0.4), (0.2, 0.38), (0.3, 0.3)), 0.3),
        ("Brow", ((0.12, 0.16), (0.2, 0.18)), 0.06),
    ):
        project.choose(clean)
        sitting.look("front")
        sitting.tool("mask", wide * size, 1.0)
        line = [sitting.front(float(middle[0]) + x * size, float(middle[1]) + y * size) for x, y in spots]
        for _ in range(2):
            sitting.stroke(line)
        count = len(project.scene.parts)
        sitting.run("mask.peel")
        if len(project.scene.parts) != count + 1:
            raise UnacceptableError(f"no {name} was peeled: {sitting.said()}")
        project.rename(sitting.part.id, name)
        sitting.judge(sitting.part, drawn=40.0, pieces=1 if name == "Hat" else 2)
        project.choose(clean)
        sitting.run("mask.clear")


def hair(sitting: Sitting, clean: str, middle: np.ndarray, size: float) -> None:
    """Strands of two profiles on the clay."""
    window = sitting.window
    window.studio.preferences.strand_thickness = 0.03 * size
    before = len(sitting.project.scene.parts)
    for x in (0.3, 0.36):
        sitting.project.choose(clean)
        sitting.run("strand.surface")
        sitting.stroke(
            [
                sitting.front(float(middle[0]) + x * size, float(middle[1]) + y * size)
                for y in (0.2, 0.1, 0.0, -0.1)
            ]
        )
        window.view.take_mode(None)
    if len(sitting.project.scene.parts) <= before:
        raise UnacceptableError("there is no hair")


def jewel(sitting: Sitting, middle: np.ndarray, size: float) -> None:
    """A ring, and a stone on it."""
    for key, name, wide in (("live.torus", "Ring", 0.12), ("live.cone", "Stone", 0.05)):
        sitting.run(key)
        sitting.number("Size x", wide * size, "Place")
        sitting.number("Position x", float(middle[0]) + 0.5 * size)
        sitting.run("live.bake")
        sitting.project.rename(sitting.part.id, name)
        sitting.judge(sitting.part, drawn=30.0)


def flat(sitting: Sitting) -> None:
    """Laid flat, its first island twice as large."""
    sitting.run("uv.unwrap-found")
    print(f"  {sitting.said()}")
    shown = sitting.window.unwrapping.shown
    if shown is None:
        raise UnacceptableError("there are no UVs")
    sitting.window.unwrapping.choose([0])
    sitting.number("Size", 150, "UVs")
    sitting.run("uv.size", "uv.pack")


def painted(sitting: Sitting, middle: np.ndarray, size: float) -> None:
    """Skin; gloss on the lips; light in the ears; the neck fades out."""
    window = sitting.window
    # Hat, brows and hair lie before it: presses would take them in hand.
    sitting.run("look.isolate", "layer.add")
    sitting.colour(206, 160, 136)
    sitting.run("colour.fill")
    for channel, share, place in (
        ("roughness", 0.12, (0.05, -0.22)),
        ("subsurface", 0.9, (0.3, 0.0)),
        ("opacity", 0.1, (0.04, -0.46)),
    ):
        window.materials.dial(channel, share)
        sitting.tool("paint", 0.08 * size, 1.0)
        at = sitting.front(float(middle[0]) + place[0] * size, float(middle[1]) + place[1] * size)
        for _ in range(2):
            sitting.stroke([at, (at[0] + 0.02 * size, at[1], at[2])])
        window.materials.dial(channel, 1.0 if channel == "opacity" else 0.5)
    mesh = sitting.part.mesh
    if mesh.material is None or np.ptp(mesh.material[:, 0]) < 20:
        raise UnacceptableError("the lips shine no more than the rest")


def wink(sitting: Sitting, middle: np.ndarray, size: float) -> None:
    """The head tilted by two joints; an eye closed as a shape, dialled."""
    window = sitting.window
    low = float(sitting.part.bounds()[0][1])
    sitting.run("rig.place")
    for height in (low + 0.1 * size, float(middle[1])):
        sitting.click(sitting.at(*sitting.front(float(middle[0]), height)))
    window.view.take_mode(None)
    rig = window.rigging.rig
    print(f"  joints: {0 if rig is None else len(rig.joints)}")
    if rig is None:
        raise UnacceptableError(f"no joint was placed: {sitting.said()}")
    print(f"  {[(one.name, one.parent) for one in rig.joints]} weights {sitting.said()}")
    window.rigging.choose(rig.joints[0].name)
    before = sitting.part.mesh.positions.copy()
    window.rigging.keep(window.rigging.with_numbers(0.0, 12.0, 0.0), "Tilt")
    sitting.rest()
    tilted = np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max()
    print(f"  tilted by {tilted:.1f} mm of {size:.0f}")
    if tilted < 0.02 * size:
        raise UnacceptableError("the head is not tilted")
    sitting.run("rig.rest")
    rest = sitting.part.mesh.positions.copy()
    window.shaping.add("Eye closure left")
    sitting.rest()
    sitting.look("front")
    sitting.tool("pull", 0.08 * size, 1.0)
    lid = sitting.front(float(middle[0]) + 0.18 * size, float(middle[1]) + 0.14 * size)
    sitting.stroke([lid, (lid[0], lid[1] - 0.04 * size, lid[2])])
    closed = sitting.part.mesh.positions.copy()
    sitting.run("shape.record", "shape.neutral")
    if np.abs(sitting.part.mesh.positions - rest).max() > 1e-3:
        raise UnacceptableError("the eye does not open again")
    key = next(iter(window.shaping.shapes))
    window.shaping.keep(key, 1.0)
    sitting.rest()
    if np.abs(sitting.part.mesh.positions - closed).max() > 1e-2:
        raise UnacceptableError("the eye does not close again")
    sitting.picture("wink")
    sitting.run("look.isolate")


def lit(sitting: Sitting, folder: Path) -> None:
    """Sky, key, two rims; a grade; a still with passes."""
    window = sitting.window
    sitting.run("light.set-three", "light.add-rim", "light.add-rim", "look.lit")
    window.lights.change_around(sky="overcast")
    window.pictures.change_finish(exposure=0.2, bloom=0.1, vignette=0.3, gamma=(1.0, 0.98, 1.02))
    sitting.rest()
    sitting.look("front", perspective=True)
    sitting.picture("lit")
    window.files.export_still(folder / "portrait.exr", 240, 300, False, ["depth", "normal"])
    sitting.rest()
    print(f"  {sitting.said()}")
    if not list(folder.glob("portrait*")):
        raise UnacceptableError(f"there is no picture: {sitting.said()}")
