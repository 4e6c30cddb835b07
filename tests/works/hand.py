"""A hand: from its armature, knuckles and muscles raised, a finger bent, folds scored, nails peeled.

The armature's hand is baked and remeshed; knuckles are raised where its balls lie, folds scored across the fingers on a
level up, the nails are peeled from spots of mask.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.live.armature import Armature
from tests.judge import judged
from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    sitting.run("armature.hand")
    recipe = sitting.part.recipe
    assert isinstance(recipe, Armature)
    window.view.take_mode(None)
    balls = {
        joint.name: sitting.part.transform.to_scene(np.array(joint.place)[None])[0] for joint in recipe.joints
    }
    radii = {joint.name: joint.radius * sitting.part.transform.scale for joint in recipe.joints}
    fingers = [name.removesuffix(" 1") for name in balls if name.endswith(" 1")]
    if len(fingers) < 5:
        raise UnacceptableError(f"the armature has {fingers}")
    sitting.run("live.bake")
    hand = sitting.part
    window.studio.remesh_active(None, 40_000)
    window.studio.wait(120)
    project.change_settings(symmetry=(False, False, False))
    sitting.look("top")
    # Knuckles where the balls are, a muscle between thumb and palm.
    for finger in fingers:
        place, size = balls[f"{finger} 1"], radii[f"{finger} 1"]
        sitting.tool("raise", 0.9 * size, 0.4)
        sitting.stroke([tuple(place + np.array([dx, 0.0, 0.0])) for dx in (-0.2 * size, 0.0, 0.2 * size)])
    thumb = next(finger for finger in fingers if "thumb" in finger)
    sitting.tool("inflate", 1.6 * radii[f"{thumb} 1"], 0.35)
    sitting.stroke(
        [tuple(balls[f"{thumb} 1"] * (1 - t) + balls[f"{thumb} 2"] * t) for t in np.linspace(0, 1, 5)]
    )
    sitting.judge(sitting.part)
    bend(sitting, balls, radii, next(finger for finger in fingers if "thumb" not in finger))
    # Folds across the fingers, on a finer level.
    sitting.run("density.subdivide")
    for finger in fingers:
        a, b, size = balls[f"{finger} 1"], balls[f"{finger} 2"], radii[f"{finger} 2"]
        along = (b - a) / np.linalg.norm(b - a)
        across = np.cross(along, [0.0, 1.0, 0.0])
        sitting.tool("score", 0.22 * size, 0.5)
        middle = a + along * 0.3 * size
        sitting.stroke([tuple(middle + across * s * 0.6 * size) for s in (-1, 0, 1)])
    sitting.judge(sitting.part)
    sitting.picture("folds")
    # Nails: a spot of mask at each tip, all peeled at once, thin.
    for finger in fingers:
        a, b = balls[f"{finger} 2"], balls[f"{finger} tip"]
        sitting.tool("mask", 0.5 * radii[f"{finger} tip"], 1.0, front_only=True)
        sitting.stroke([tuple(a * (0.35 - t) + b * (0.65 + t)) for t in (0.0, 0.15, 0.3)])
    card = window.peel_card
    card.thickness.set_value(0.18 * min(radii.values()))
    card.smooth.set_value(10)
    sitting.run("mask.peel")
    nails = sitting.part
    if nails.id == hand.id:
        raise UnacceptableError(f"no nails: {sitting.said()}")
    found = len(judged(nails.mesh).split(only_watertight=False))
    if found != len(fingers):
        raise UnacceptableError(f"{found} nails for {len(fingers)} fingers")
    sitting.judge(nails, pieces=found)
    sitting.look("top", perspective=True)
    sitting.picture("hand")


def bend(sitting: Sitting, balls: dict[str, np.ndarray], radii: dict[str, float], finger: str) -> None:
    """One finger bent at its knuckle: masked, the mask softened and turned round, its clay turned about the joint."""
    joint, tip, size = balls[f"{finger} 1"], balls[f"{finger} tip"], radii[f"{finger} 1"]
    # The hand lies flat: a finger bends about the axis across it.
    along = (tip - joint) / np.linalg.norm(tip - joint)
    axis = int(np.argmax(np.abs(np.cross(along, [0.0, 1.0, 0.0]))))
    before = sitting.part.mesh.positions.copy()
    across = np.cross(along, [0.0, 1.0, 0.0])
    long = float(np.linalg.norm(tip - joint))
    corners = [(0.4, 1.0), (0.8, 1.05), (1.3, 1.05), (1.3, -1.05), (0.8, -1.05), (0.4, -1.0), (0.4, 1.0)]
    sitting.run("mask.lasso")
    sitting.drag([sitting.at(*(joint + along * far * long + across * wide * size)) for far, wide in corners])
    sitting.window.view.take_mode(None)
    sitting.run(*["mask.blur"] * 6, "mask.invert", "parts.pivot")
    sitting.click(sitting.at(*joint))
    sitting.window.view.take_mode(None)
    sitting.run("parts.unmasked")
    card = sitting.window.place_card
    card.turn[axis].setText("25")
    card.turn[axis].editingFinished.emit()
    sitting.window.studio.wait(60)
    sitting.run("parts.unmasked", "mask.clear")
    turn = Rotation.from_euler("xyz"[axis], 25.0, degrees=True)
    for name in (f"{finger} 2", f"{finger} tip"):
        balls[name] = joint + turn.apply(balls[name] - joint)
    moved = np.linalg.norm(sitting.part.mesh.positions - before, axis=1)
    if moved.max() < 0.2 * np.linalg.norm(tip - joint) / sitting.part.transform.scale:
        raise UnacceptableError(f"{finger} is not bent: {moved.max():.1f} mm; {sitting.said()}")
    if np.median(moved) > 0.0:
        raise UnacceptableError("the palm has come along")
    sitting.look("top", perspective=True)
    sitting.picture("bent")
    sitting.judge(sitting.part)
