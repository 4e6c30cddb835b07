"""One thing of a part made another of: each is one undo step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32
from kneten.core.paint.into import SOURCES, TARGETS, Into, told
from kneten.core.paint.light import DECODED
from kneten.document.painting import filled
from kneten.document.project import Project
from kneten.document.scene import Part


def become(project: Project, part: Part, into: Into) -> bool:
    """Make something else of what a part has. False when nothing changed.

    What is masked stays as it is, but for the mask itself. Raises `ValueError` where what is asked for is not there, or paint
    would go to a level below the highest.
    """
    mesh = part.mesh
    amount = told(into, mesh, part.stack)
    name = f"{SOURCES[into.source][0]} into {TARGETS[into.target][0].lower()} of {part.name}"
    if into.target == "mask":
        return project.set_values(part.id, "mask", amount if amount.any() else None, name)
    # A mask that is the source says where, and protects nothing.
    masked = into.source == "mask"
    if into.target == "height":
        free = np.ones_like(amount) if mesh.mask is None or masked else 1 - mesh.mask
        moves = (into.height / part.transform.scale * amount * free)[:, None] * mesh.normals
        if not np.abs(moves).max(initial=0.0) > 0:
            return False
        project.move_vertices(part.id, (mesh.positions + moves).astype(np.float32), name)
        return True
    ink = project.settings.ink
    if into.target == "colour":
        return filled(project, part, replace(ink, channels=("colour",)), amount, name, masked)
    only = replace(ink, channels=(into.target,))
    return filled(project, part, only, None, name, masked, light=_light(amount))


def _light(amount: F32) -> F32:
    """Light, (n, 3), that looks as light as numbers (n,) from 0 to 1 say."""
    codes = np.arange(256) / 255
    return np.repeat(np.interp(amount, codes, DECODED).astype(np.float32)[:, None], 3, axis=1)
