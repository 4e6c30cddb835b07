"""Wraps round an arm: a helix masked with everything else out of the way, peeled, smoothed, remeshed.

The arm is that of a slender body, baked; the rest of it is hidden. The helix is painted from four sides, grown and
blurred; the shell is smoothed where it is too crisp and remeshed evenly.
"""

from __future__ import annotations

import numpy as np

from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    sitting.run("live.capsule", "live.bake")
    arm = sitting.part
    low, high = arm.bounds()
    middle, length = (low + high) / 2, float(high[1] - low[1])
    radius = float(high[0] - low[0]) / 2
    window.studio.remesh_active(None, 30_000)
    sitting.run("form.symmetry-x") if sitting.project.settings.symmetry[0] else None
    # The round ends are out of the way.
    sitting.look("front")
    for end in (low[1], high[1]):
        sitting.run("region.rectangle-hide")
        _, y = sitting.at(middle[0], end, middle[2])
        left, right = sitting.at(low[0], end, 0)[0] - 30, sitting.at(high[0], end, 0)[0] + 30
        inner = sitting.at(middle[0], end + (1 if end < middle[1] else -1) * 0.9 * radius, 0)[1]
        sitting.drag([(left, y + (20 if y > inner else -20)), (right, inner)])
        window.view.take_mode(None)
    hidden = sitting.part.mesh.hidden
    if hidden is None or not 0.1 < hidden.mean() < 0.7:
        raise UnacceptableError("the ends are not hidden")
    sitting.picture("hidden")
    turns, pitch = 2.0, 0.55 * (length - 2 * radius) / 2
    sitting.tool("mask", 0.05 * length, 1.0, front_only=True)
    for side, way in enumerate(("front", "right", "back", "left")):
        sitting.look(way)
        for turn in range(-2, 3):
            middle_angle = turn * 2 * np.pi + side * np.pi / 2
            angles = middle_angle + np.linspace(-0.85, 0.85, 9)
            if np.abs(angles).max() > turns * np.pi + 1e-6:
                continue
            heights = middle[1] + angles / (2 * np.pi) * pitch
            sitting.stroke([
                (middle[0] + radius * np.sin(a), h, middle[2] + radius * np.cos(a)) for a, h in zip(angles, heights, strict=True)
            ])  # fmt: skip
    sitting.look("front", perspective=True)
    sitting.picture("masked")
    card = window.peel_card
    card.thickness.set_value(0.06 * radius * 2)
    card.smooth.set_value(16)
    sitting.run("mask.peel")
    wrap = sitting.part
    if wrap.id == arm.id:
        raise UnacceptableError("nothing was peeled")
    sitting.judge(wrap)
    sitting.run("density.remesh")
    sitting.picture("remeshed")
    sitting.judge(sitting.part)
