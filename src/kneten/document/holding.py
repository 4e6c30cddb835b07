"""Pictures held before the view, and what is laid through them: each function that changes the project is one undo step."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32
from kneten.core.paint.held import HeldPicture, flat_net
from kneten.core.paint.ink import Ink
from kneten.core.paint.reading import greys
from kneten.document.painting import filled
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import Reference

LARGE = 0.7
"""How much of the view a picture takes up when it is held."""


def held_in(project: Project) -> tuple[HeldPicture, ...]:
    """All pictures that are held."""
    return project.scene.things("held")


def hold(project: Project, reference: Reference, shape: float, aspect: float) -> HeldPicture:
    """Hold a picture of the board before the view, in its middle.

    Parameters
    ----------
    shape, aspect : float
        Width over height of the picture and of the view.
    """
    high = min(LARGE, LARGE * aspect / shape)
    made = HeldPicture(reference.id, flat_net(high * shape, high))
    _keep(project, (*held_in(project), made), f"Hold {reference.name}")
    return made


def change_held(project: Project, held_id: str, name: str, **traits: Any) -> None:
    """Give a held picture other traits."""
    now = held_in(project)
    new = tuple(replace(one, **traits) if one.id == held_id else one for one in now)
    if new != now:
        _keep(project, new, name)


def let_go(project: Project, held_id: str, name: str) -> None:
    """Hold a picture no longer; it stays on the board."""
    _keep(project, tuple(one for one in held_in(project) if one.id != held_id), name)


def _keep(project: Project, held: tuple[HeldPicture, ...], name: str) -> None:
    project.change(name, project.scene.with_things("held", held))


def lay_picture(project: Project, part: Part, ink: Ink, light: F32, share: F32, name: str) -> bool:
    """Lay a picture's light (n, 3), as far as `share` (n,) says, on what the ink paints. False when nothing changed.

    Its colours become the colour, its lightness what the clay is made of. Raises `StackError` as `Project.begin_stroke` does.
    """
    return filled(project, part, ink, share, name, light=light)


def lay_relief(project: Project, part: Part, light: F32, share: F32, height: float, name: str) -> bool:
    """Raise the clay along its normals by what is light (n, 3) in a picture, as far as `share` (n,) says.

    White stands `height` of the part's own lengths over black. What is masked stays as it is. False when nothing changed.
    """
    mesh = part.mesh
    free = share if mesh.mask is None else share * (1 - mesh.mask)
    moves = (height * greys(light) * free)[:, None] * mesh.normals
    if not np.abs(moves).max(initial=0.0) > 0:
        return False
    project.move_vertices(part.id, (mesh.positions + moves).astype(np.float32), name)
    return True
