"""From rough head to painted head: wrinkles pressed together, a crest, lashes moved along softly, brows, pores on layers, stubble into colour.

On Tarn's forms: eyes stay fixed neighbours; a brow is pulled against a mask; two masses make a wrinkle; a crest is raised
and sharpened; a foreign lash goes along with the lid; brows lie on a layer and are taken away in part; two sizes of pores
are layers that can be seen alone; the crest is darker at its base; stubble is made as bump, becomes colour, and is tinted.
"""

from __future__ import annotations

import numpy as np

from kneten.document.scene import Part
from tests.works.sitting import Sitting, UnacceptableError


def face(sitting: Sitting) -> Part:
    return next(part for part in sitting.project.scene.parts if part.name == "Tarn")


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    window.files.open_demo("tarn-forms")
    sitting.rest()
    project = sitting.project
    eyes = next(part for part in project.scene.parts if part.name == "Eyes")
    fixed = eyes.mesh.positions.copy()
    project.choose(face(sitting).id)
    sitting.look("front")
    frozen(sitting)
    wrinkle(sitting)
    crest(sitting)
    brows(sitting)
    pores(sitting)
    coloured(sitting)
    stubble(sitting)
    if not np.array_equal(project.scene.part(eyes.id).mesh.positions, fixed):
        raise UnacceptableError("the eyes have moved")
    lashes(sitting)
    sitting.picture("painted")


def frozen(sitting: Sitting) -> None:
    """Mask the nose, pull beside it."""
    sitting.tool("mask", 24.0, 1.0)
    nose = sitting.front(4.0, 10.0)
    for _ in range(2):
        sitting.stroke([nose, (nose[0], nose[1] + 12.0, nose[2])])
    kept = face(sitting).mesh.mask > 0.999
    if kept.sum() < 20:
        raise UnacceptableError("nothing is frozen")
    before = face(sitting).mesh.positions.copy()
    sitting.tool("pull", 40.0, 1.0)
    cheek = sitting.front(32.0, 0.0)
    sitting.stroke([cheek, (cheek[0] + 4.0, cheek[1] + 4.0, cheek[2])])
    moved = np.linalg.norm(face(sitting).mesh.positions - before, axis=1)
    if moved.max() < 1.0 or moved[kept].max() > 1e-3 * moved.max():
        raise UnacceptableError(f"moved {moved.max():.2f}, frozen {moved[kept].max():.4f}")
    sitting.run("mask.clear")


def wrinkle(sitting: Sitting) -> None:
    """Two masses, pressed together, their ends softened; smoothed from a level below."""
    before = face(sitting).mesh.positions.copy()
    sitting.tool("raise", 7.0, 0.6)
    for height in (86.0, 76.0):
        sitting.stroke([sitting.front(10.0, height), sitting.front(26.0, height + 2.0)])
    sitting.tool("pinch", 10.0, 0.6)
    sitting.stroke([sitting.front(8.0, 81.0), sitting.front(28.0, 83.0)])
    sitting.tool("smooth", 8.0, 0.4)
    sitting.stroke([sitting.front(26.0, 82.0), sitting.front(32.0, 83.0)])
    if np.linalg.norm(face(sitting).mesh.positions - before, axis=1).max() < 0.4:
        raise UnacceptableError("there is no wrinkle")
    sitting.run("level.down")
    sitting.tool("smooth", 26.0, 0.2)
    sitting.stroke([sitting.front(12.0, 60.0), sitting.front(24.0, 64.0)])
    sitting.run("level.up")


def crest(sitting: Sitting) -> None:
    """A crest over the middle, raised, sharpened."""
    sitting.tool("coil", 10.0, 0.8)
    line = [sitting.front(0.0, height) for height in (70.0, 82.0, 92.0)]
    before = face(sitting).mesh.positions.copy()
    for _ in range(3):
        sitting.stroke(line)
    sitting.tool("pinch", 12.0, 0.7)
    sitting.stroke(line)
    if np.linalg.norm(face(sitting).mesh.positions - before, axis=1).max() < 1.0:
        raise UnacceptableError("there is no crest")
    sitting.picture("crest")


def brows(sitting: Sitting) -> None:
    """On a layer of their own; half of it is taken away where a mask lies."""
    rest = face(sitting).mesh.positions.copy()
    sitting.run("layer.add")
    sitting.tool("raise", 8.0, 0.8)
    sitting.stroke([sitting.front(22.0, 62.0), sitting.front(36.0, 66.0), sitting.front(50.0, 60.0)])
    whole = np.linalg.norm(face(sitting).mesh.positions - rest, axis=1)
    sitting.tool("mask", 12.0, 1.0)
    at = sitting.front(24.0, 62.0)
    for _ in range(3):
        sitting.stroke([at, (at[0] + 2.0, at[1], at[2])])
    sitting.run("layer.off-mask", "mask.clear")
    left = np.linalg.norm(face(sitting).mesh.positions - rest, axis=1)
    print(
        f"  brows up to {whole.max():.1f} mm, {(left < 0.5 * whole - 1e-6).sum():,} vertices of them gone again"
    )
    if left.max() < 0.5 * whole.max() or not ((whole > 0.3) & (left < 0.3 * whole)).any():
        raise UnacceptableError("the brows are not taken away in part")


def pores(sitting: Sitting) -> None:
    """Two sizes, each a layer; one seen alone."""
    places = {}
    for key, size in (("pores-broad", 22.0), ("pores-fine", 16.0)):
        sitting.run("layer.add")
        sitting.press(key, size, 0.9)
        before = face(sitting).mesh.positions.copy()
        sitting.stroke([sitting.front(44.0, 6.0), sitting.front(52.0, -2.0)])
        places[key] = np.linalg.norm(face(sitting).mesh.positions - before, axis=1).max()
    print(f"  pores: {places}")
    if min(places.values()) <= 0.02:
        raise UnacceptableError("there are no pores")
    with_all = face(sitting).mesh.positions.copy()
    sitting.run("layer.solo")
    alone = face(sitting).mesh.positions.copy()
    sitting.run("layer.solo")
    if np.array_equal(alone, with_all) or np.abs(face(sitting).mesh.positions - with_all).max() > 1e-4:
        raise UnacceptableError("a layer cannot be seen alone")


def coloured(sitting: Sitting) -> None:
    """A base, the crest lighter at its tips, blood-near zones, blurred, weak veins."""
    window = sitting.window
    sitting.run("layer.add")
    sitting.colour(150, 112, 88)
    sitting.run("colour.fill")
    window.washes.change(kind="peaks")
    sitting.rest()
    sitting.colour(210, 180, 150)
    sitting.run("wash.layer", "layer.add")
    sitting.colour(180, 60, 56)
    sitting.tool("paint", 12.0, 0.5)
    tip = sitting.front(6.0, 12.0)
    sitting.stroke([tip, (tip[0] + 4.0, tip[1], tip[2])])
    reds = sitting.seen_colour(*tip)
    sitting.tool("blend", 16.0, 0.6)
    sitting.stroke([tip, (tip[0] + 8.0, tip[1], tip[2])])
    sitting.colour(90, 80, 130)
    sitting.tool("paint", 1.5, 0.25)
    sitting.stroke([sitting.front(60.0, 40.0), sitting.front(64.0, 30.0), sitting.front(62.0, 20.0)])
    print(f"  blood-near {reds.tolist()}")
    if reds[0] - reds[2] < 40:
        raise UnacceptableError("nothing is near to the blood")


def stubble(sitting: Sitting) -> None:
    """Bumps become colour, and that is tinted."""
    window = sitting.window
    sitting.run("layer.add")
    sitting.press("goose-bumps", 20.0, 0.9)
    sitting.stroke([sitting.front(20.0, -50.0), sitting.front(30.0, -46.0)])
    before = face(sitting).mesh.colour.copy()
    window.into_card.change(source="raised", target="colour")
    sitting.colour(60, 66, 80)
    sitting.run("into.make")
    changed = int((np.abs(face(sitting).mesh.colour.astype(int) - before).max(axis=1) > 4).sum())
    print(f"  stubble coloured {changed:,} vertices: {sitting.said()}")
    if changed < 10:
        raise UnacceptableError(f"bumps did not become colour: {sitting.said()}")


def lashes(sitting: Sitting) -> None:
    """A lash of its own goes along when lid and lash are moved together, softly."""
    project = sitting.project
    window = sitting.window
    window.studio.preferences.strand_thickness = 1.2
    project.choose(face(sitting).id)
    sitting.run("strand.surface")
    sitting.stroke([sitting.front(36.0, 46.0), sitting.front(42.0, 48.0), sitting.front(48.0, 46.0)])
    window.view.take_mode(None)
    sitting.run("live.bake")
    lash, head = sitting.part, face(sitting)
    before = {part.id: part.transform.to_scene(part.mesh.positions.astype(float)) for part in (lash, head)}
    project.choose_all([head.id, lash.id])
    window.studio.soft_reach = 30.0
    sitting.number("Position y", float(project.scene.part(lash.id).transform.place[1]) + 4.0, "Place")
    moved = {
        key: np.linalg.norm(
            project.scene.part(key).transform.to_scene(project.scene.part(key).mesh.positions.astype(float))
            - old,
            axis=1,
        )
        for key, old in before.items()
    }
    window.studio.soft_reach = 0.0
    print(
        f"  lash by {moved[lash.id].max():.1f} mm, lid by {moved[head.id].max():.1f} mm, {(moved[head.id] > 0.01).mean() * 100:.0f} % of the head"
    )
    if moved[lash.id].max() < 1.0:
        raise UnacceptableError("the lash has not moved")
