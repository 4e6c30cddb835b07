"""Cameras and finish as part of a project. Each function that changes them is one undo step."""

from __future__ import annotations

from dataclasses import replace

from kneten.core.camera import Camera
from kneten.core.light.finish import ColourTable, Finish
from kneten.document.project import Project
from kneten.document.scene import Scene
from kneten.document.things import KeptTable, Shot, new_id

MOST_SHOTS = 200
"""Cameras that a project may have."""


def shots_of(scene: Scene) -> tuple[Shot, ...]:
    """All cameras of a scene."""
    return scene.things("cameras")


def shot_with(scene: Scene, shot_id: str) -> Shot | None:
    """The camera with an id, or None."""
    return next((one for one in shots_of(scene) if one.id == shot_id), None)


def shot_named(scene: Scene, name: str) -> Shot | None:
    """The camera with a name, or None."""
    return next((one for one in shots_of(scene) if one.name == name), None)


def free_shot_name(scene: Scene, wanted: str) -> str:
    """`wanted`, numbered where a camera is called so already."""
    taken = {one.name for one in shots_of(scene)}
    return (
        wanted
        if wanted not in taken
        else next(n for k in range(2, 1000) if (n := f"{wanted} {k}") not in taken)
    )


def finish_of(scene: Scene, shot_id: str = "") -> Finish:
    """The finish of pictures through a camera; of those through none where there is no such camera."""
    shot = shot_with(scene, shot_id)
    if shot is not None:
        return shot.finish
    held = scene.things("finishes")
    return held[0] if held else Finish()


def with_finish(scene: Scene, finish: Finish, shot_id: str = "") -> Scene:
    """The scene with another finish of pictures through a camera, or through none."""
    shot = shot_with(scene, shot_id)
    if shot is not None:
        return with_shot(scene, replace(shot, finish=finish))
    return scene.with_things("finishes", (finish,))


def change_finish(project: Project, finish: Finish, name: str, shot_id: str = "") -> bool:
    """Have another finish. False when it is as it was. Raises `ValueError` where it is not usable."""
    finish.check()
    if finish == finish_of(project.scene, shot_id):
        return False
    project.change(name, with_finish(project.scene, finish, shot_id))
    return True


def table_of(scene: Scene, finish: Finish) -> ColourTable | None:
    """The colour table of a finish; None where it has none, or that is gone."""
    return next((one.table for one in scene.things("colour_tables") if one.id == finish.table), None)


def add_table(project: Project, table: ColourTable, shot_id: str = "") -> KeptTable:
    """Keep a colour table and give it to the finish."""
    kept = KeptTable(table.name, table.steps)
    scene = project.scene
    scene = scene.with_things("colour_tables", (*scene.things("colour_tables"), kept))
    finish = replace(finish_of(scene, shot_id), table=kept.id, table_share=1.0)
    project.change(f"Colours by {table.name}", with_finish(scene, finish, shot_id))
    return kept


def with_shot(scene: Scene, shot: Shot) -> Scene:
    """The scene with another camera in the place of that with its id."""
    return scene.with_things("cameras", tuple(shot if one.id == shot.id else one for one in shots_of(scene)))


def add_shot(project: Project, name: str, camera: Camera, finish: Finish, aspect: float = 16 / 9) -> Shot:
    """One more camera, under a name that is free. Raises `ValueError` where there are as many as may be."""
    scene = project.scene
    if len(shots_of(scene)) >= MOST_SHOTS:
        raise ValueError(f"A project has room for {MOST_SHOTS} cameras: take some away first.")
    made = Shot(free_shot_name(scene, name), camera, aspect, finish=finish)
    project.change(f"Add {made.name}", scene.with_things("cameras", (*shots_of(scene), made)))
    return made


def copy_shot(project: Project, shot: Shot) -> Shot:
    """One more camera like another, not locked. Raises `ValueError` where there are as many as may be."""
    if len(shots_of(project.scene)) >= MOST_SHOTS:
        raise ValueError(f"A project has room for {MOST_SHOTS} cameras: take some away first.")
    made = replace(shot, name=free_shot_name(project.scene, shot.name), locked=False, id=new_id())
    project.change(
        f"Copy {shot.name}", project.scene.with_things("cameras", (*shots_of(project.scene), made))
    )
    return made


def change_shot(project: Project, shot: Shot, name: str) -> bool:
    """Put a changed camera in the place of itself. False when it is as it was. Raises `ValueError` where it may not be."""
    shot.check()
    now = shot_with(project.scene, shot.id)
    if now is None or now == shot:
        return False
    if now.locked and shot.locked and now.camera != shot.camera:
        raise ValueError(f"{now.name} is locked: unlock it to move it.")
    if any(one.name == shot.name and one.id != shot.id for one in shots_of(project.scene)):
        raise ValueError(f"There is a camera called {shot.name} already.")
    project.change(name, with_shot(project.scene, shot))
    return True


def remove_shot(project: Project, shot_id: str) -> None:
    """Take a camera away."""
    shot = shot_with(project.scene, shot_id)
    if shot is not None:
        rest = tuple(one for one in shots_of(project.scene) if one.id != shot_id)
        project.change(f"Take away {shot.name}", project.scene.with_things("cameras", rest))
