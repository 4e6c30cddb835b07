"""Taking in hand what the next stroke paints."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from kneten.core.paint.layers import BASE, begun, packed_in, paint_of, wanted_hand
from kneten.core.stack import Stack
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.document.project import Project


class StackError(ValueError):
    """A change to levels or layers that cannot be made. The text says why and what to do."""


def stack_of(part: Part) -> Stack:
    """A part's levels and layers; one level and no layer where it has none."""
    return part.stack if part.stack is not None else Stack.of(part.mesh)


def check_highest(stack: Stack) -> None:
    """Raise `StackError` where a level below the highest is in hand."""
    if stack.level < stack.top:
        raise StackError(
            f"Paint lies on the highest level, {stack.top}: go up to it, and paint there. Lower levels show it too."
        )


def open_layer(project: Project, part: Part) -> None:
    """Take in hand what the next stroke paints, where that is not so yet: no step of its own.

    Raises
    ------
    StackError
        When paint would go to a layer and the part stands on a lower level.
    """
    stack = part.stack
    if stack is None:
        return
    wanted = wanted_hand(stack)
    if stack.tint is None and wanted == BASE:
        return
    check_highest(stack)
    if stack.tint is not None and stack.hand == wanted:
        return
    taken = begun(packed_in(stack, part.mesh), part.mesh)
    taken = replace(taken, hand=wanted)
    project.note_values(part.id, "paint", paint_of(taken, wanted))
    same = [part, *project.scene.linked(part)]
    project.note("Take in hand", project.scene.with_part(*(replace(p, stack=taken) for p in same)))
