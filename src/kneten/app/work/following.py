"""Chosen parts that follow a motion, by handles or by numbers alike."""

from __future__ import annotations

from collections.abc import Sequence

from kneten.app.work.studio import Studio
from kneten.core.motion import Motion
from kneten.document.blocking import said
from kneten.document.laying import sits_on
from kneten.document.placing import Hold, beyond, move
from kneten.document.scene import Part


def hold_of(studio: Studio) -> Hold:
    """What of the chosen parts follows, as it is set."""
    return Hold(studio.unmasked, studio.soft_reach)


def follow(studio: Studio, parts: Sequence[Part], motion: Motion, name: str) -> bool:
    """Have parts follow a motion, as one step; False, with the reason told, when they cannot."""
    sitting = {part.id: sits_on(studio.project.scene, part) for part in parts}
    if all(sitting.values()):
        part = parts[0]
        studio.say(
            f"{part.name} sits on {sitting[part.id]}: move that, or bake it to clay (Ctrl+Return).", "warning"
        )
        return False
    parts = [part for part in parts if not sitting[part.id]]
    blocked = next((why for part in parts if (why := studio.move_blocked(part))), "")
    blocked = blocked or beyond(parts, motion)
    if blocked:
        studio.say(blocked, "warning")
        return False
    live = {part.id for part in parts if part.recipe is not None}
    move(studio.project, parts, motion, name, hold_of(studio))
    baked = [part for part in studio.project.scene.parts if part.id in live and part.recipe is None]
    if baked:
        are = "is" if len(baked) == 1 else "are"
        studio.say(f"{said(baked)} {are} clay now: numbers cannot say this form. Undo brings it back live.")
    return True
