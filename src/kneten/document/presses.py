"""What is done with the presses of a project: each function is one undo step."""

from __future__ import annotations

from dataclasses import replace

from kneten.core.press_edits import Edits
from kneten.document.project import Project
from kneten.document.things import KeptPress


def presses_of(project: Project) -> tuple[KeptPress, ...]:
    """All presses kept with a project."""
    return project.scene.things("presses")


def free_press_name(project: Project, wanted: str) -> str:
    """A name that no press of the project has."""
    name = " ".join(wanted.split())[:60] or "Press"
    taken = {press.name for press in presses_of(project)}
    found, count = name, 2
    while found in taken:
        found, count = f"{name} {count}", count + 1
    return found


def keep_press(project: Project, press: KeptPress, what: str = "Keep press") -> KeptPress:
    """Keep one more press with the project, under a name that is free."""
    kept = replace(press, name=free_press_name(project, press.name))
    project.change(f"{what} {kept.name}", project.scene.with_things("presses", (*presses_of(project), kept)))
    return kept


def edit_press(project: Project, press_id: str, edits: Edits, name: str = "") -> KeptPress:
    """Change what is done to a press's picture, or its name. Raises `KeyError` when there is none such."""
    old = next((press for press in presses_of(project) if press.id == press_id), None)
    if old is None:
        raise KeyError(press_id)
    new = replace(old, edits=edits, name=name or old.name)
    others = tuple(new if press is old else press for press in presses_of(project))
    project.change(f"Edit press {new.name}", project.scene.with_things("presses", others))
    return new


def forget_press(project: Project, press_id: str) -> None:
    """Take a press out of the project; what it has left in the clay stays."""
    rest = tuple(press for press in presses_of(project) if press.id != press_id)
    gone = [press.name for press in presses_of(project) if press.id == press_id]
    if gone:
        project.change(f"Take press {gone[0]} away", project.scene.with_things("presses", rest))
