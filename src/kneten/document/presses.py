"""What is done with the presses of a project: each function is one undo step."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from kneten.core.press_edits import Edits
from kneten.document.project import Project
from kneten.document.scene import Scene
from kneten.document.things import KeptDeep, KeptPress

AnyPress = KeptPress | KeptDeep


def presses_of(project: Project) -> tuple[KeptPress, ...]:
    """All presses kept with a project, but for the deep ones."""
    return project.scene.things("presses")


def all_presses(project: Project) -> tuple[AnyPress, ...]:
    """All presses kept with a project."""
    return (*presses_of(project), *project.scene.things("deep_presses"))


def _kind(press: AnyPress) -> str:
    return "presses" if isinstance(press, KeptPress) else "deep_presses"


def _with(project: Project, kind: str, presses: Iterable[AnyPress]) -> Scene:
    return project.scene.with_things(kind, tuple(presses))


def free_press_name(project: Project, wanted: str) -> str:
    """A name that no press of the project has."""
    name = " ".join(wanted.split())[:60] or "Press"
    taken = {press.name for press in all_presses(project)}
    found, count = name, 2
    while found in taken:
        found, count = f"{name} {count}", count + 1
    return found


def keep_press(project: Project, press: AnyPress, what: str = "Keep press") -> AnyPress:
    """Keep one more press with the project, under a name that is free."""
    kept: AnyPress = replace(press, name=free_press_name(project, press.name))
    kind = _kind(kept)
    project.change(f"{what} {kept.name}", _with(project, kind, (*project.scene.things(kind), kept)))
    return kept


def rename_press(project: Project, press_id: str, name: str) -> AnyPress:
    """Call a press something else. Raises `KeyError` when there is none such."""
    old = next((press for press in all_presses(project) if press.id == press_id), None)
    if old is None:
        raise KeyError(press_id)
    new: AnyPress = replace(old, name=name)
    kind = _kind(old)
    presses = (new if press is old else press for press in project.scene.things(kind))
    project.change(f"Rename press {old.name} to {name}", _with(project, kind, presses))
    return new


def edit_press(project: Project, press_id: str, edits: Edits) -> KeptPress:
    """Change what is done to a press's picture. Raises `KeyError` when there is none such."""
    old = next((press for press in presses_of(project) if press.id == press_id), None)
    if old is None:
        raise KeyError(press_id)
    new = replace(old, edits=edits)
    others = tuple(new if press is old else press for press in presses_of(project))
    project.change(f"Edit press {new.name}", project.scene.with_things("presses", others))
    return new


def forget_press(project: Project, press_id: str) -> None:
    """Take a press out of the project; what it has left in the clay stays."""
    gone = next((press for press in all_presses(project) if press.id == press_id), None)
    if gone is not None:
        kind = _kind(gone)
        rest = (press for press in project.scene.things(kind) if press is not gone)
        project.change(f"Take press {gone.name} away", _with(project, kind, rest))
