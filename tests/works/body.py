"""A body from an armature: from the library, balls moved and pulled out, chains moved, densities compared, baked.

A slender body gets longer arms and a tail of its own in the view, both sides together; its skin is made at two densities,
baked to clay and taken up a level; the armature is kept in the library.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from kneten.core.live.armature import Armature
from tests.works.sitting import Sitting, UnacceptableError

SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def armature(sitting: Sitting) -> Armature:
    """The armature in hand."""
    recipe = sitting.part.recipe
    if not isinstance(recipe, Armature):
        raise UnacceptableError("the part in hand is no armature")
    return recipe


def balls(sitting: Sitting) -> np.ndarray:
    """Where its balls are in the scene."""
    return sitting.part.transform.to_scene(armature(sitting).arrays()[0].astype(np.float64))


def work(sitting: Sitting) -> None:
    """Do it."""
    sitting.run("armature.slender")
    sitting.look("front")
    first = armature(sitting)
    # The outermost ball is a hand's: dragged out with all that hangs on it, the other side goes along.
    there = balls(sitting)
    x, y = sitting.at(*there[np.argmax(there[:, 0])])
    sitting.drag([(x, y), (x + 20, y + 10), (x + 40, y + 20)], keys=CTRL)
    wide = np.ptp(balls(sitting)[:, 0]) - np.ptp(there[:, 0])
    if armature(sitting) == first or wide < 10:
        raise UnacceptableError(f"the arms are no longer: {wide:.1f} mm")
    # Toes of one drag each: pulled out of the lowest balls.
    there = balls(sitting)
    low = int(np.argmin(there[:, 1] + 1e-3 * (there[:, 0] < 0)))
    x, y = sitting.at(*there[low])
    before = len(armature(sitting).joints)
    sitting.drag([(x, y), (x + 8, y + 12), (x + 14, y + 26)], keys=SHIFT)
    if len(armature(sitting).joints) != before + 2:
        raise UnacceptableError("no ball was pulled out on both sides")
    sitting.picture("balls")
    counts = []
    edge = armature(sitting).edge
    for times in (1.5, 1.0):
        sitting.number("Edge length of the skin", round(edge * times, 3))
        counts.append(sitting.part.mesh.n_vertices)
    if not 1.6 < counts[1] / counts[0] < 3.2:
        raise UnacceptableError(f"densities do not follow the edge: {counts}")
    sitting.run("armature.keep")
    sitting.window.view.take_mode(None)
    sitting.run("live.bake")
    if sitting.part.recipe is not None:
        raise UnacceptableError("the body is not baked")
    sitting.judge(sitting.part)
    sitting.run("density.subdivide")
    sitting.judge(sitting.part)
    sitting.look("front", perspective=True)
    sitting.picture("body")
