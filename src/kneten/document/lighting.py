"""Light as part of a project: lamps, what is around, light sets of one's own. Each function that changes it is one undo step."""

from __future__ import annotations

import functools
from dataclasses import replace

from kneten.core.arrays import F32
from kneten.core.light.lamps import Lamp
from kneten.core.light.rigs import LightSet
from kneten.core.light.skies import TALL, SkyTables, fitted, own_tables, tables_of
from kneten.core.light.surroundings import OWN, Surroundings
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptSet, KeptSky, new_id

MOST_LAMPS = 64
"""Lamps that a project may have."""


def lamps_of(scene: Scene) -> tuple[Lamp, ...]:
    """All lamps of a scene, lit or not."""
    return scene.things("lamps")


def around(scene: Scene) -> Surroundings:
    """What is around the clay of a scene."""
    held = scene.things("surroundings")
    return held[0] if held else Surroundings()


def lamp_named(scene: Scene, lamp_id: str) -> Lamp | None:
    """The lamp with an id, or None."""
    return next((lamp for lamp in lamps_of(scene) if lamp.id == lamp_id), None)


def free_lamp_name(scene: Scene, wanted: str) -> str:
    """`wanted`, numbered where a lamp is called so already."""
    taken = {lamp.name for lamp in lamps_of(scene)}
    if wanted not in taken:
        return wanted
    return next(name for k in range(2, 1000) if (name := f"{wanted} {k}") not in taken)


def add_lamp(project: Project, lamp: Lamp) -> Lamp:
    """One more lamp, under a name that is free. Raises `ValueError` where there are as many as may be."""
    scene = project.scene
    if len(lamps_of(scene)) >= MOST_LAMPS:
        raise ValueError(f"A project has room for {MOST_LAMPS} lamps: take some away first.")
    made = replace(lamp, name=free_lamp_name(scene, lamp.name), id=new_id())
    made.check()
    project.change(f"Add {made.name}", scene.with_things("lamps", (*lamps_of(scene), made)))
    return made


def with_lamp(scene: Scene, lamp: Lamp) -> Scene:
    """The scene with another lamp in the place of that with its id."""
    return scene.with_things("lamps", tuple(lamp if one.id == lamp.id else one for one in lamps_of(scene)))


def change_lamp(project: Project, lamp: Lamp, name: str) -> bool:
    """Put a changed lamp in the place of itself. False when it is as it was. Raises `ValueError` where it is not usable."""
    lamp.check()
    if lamp_named(project.scene, lamp.id) in (None, lamp):
        return False
    project.change(name, with_lamp(project.scene, lamp))
    return True


def remove_lamp(project: Project, lamp_id: str) -> None:
    """Take a lamp away."""
    lamp = lamp_named(project.scene, lamp_id)
    if lamp is not None:
        rest = tuple(one for one in lamps_of(project.scene) if one.id != lamp_id)
        project.change(f"Take away {lamp.name}", project.scene.with_things("lamps", rest))


def change_around(project: Project, changed: Surroundings, name: str) -> bool:
    """Have other surroundings. False when they are as they were. Raises `ValueError` where they are not usable."""
    changed.check()
    if changed == around(project.scene):
        return False
    project.change(name, project.scene.with_things("surroundings", (changed,)))
    return True


def sky_tables(scene: Scene) -> SkyTables:
    """The tables of the sky that is around; those of the usual one where it has been taken away."""
    key = around(scene).sky
    if key.startswith(OWN):
        kept = next((one for one in scene.things("skies") if OWN + one.id == key), None)
        return own_tables(Surroundings().sky) if kept is None else _kept_tables(kept)
    return own_tables(key)


@functools.lru_cache(maxsize=8)
def _kept_tables(sky: KeptSky) -> SkyTables:
    return tables_of(sky.light.reshape(TALL, 2 * TALL, 3))


def add_sky(project: Project, name: str, light: F32) -> KeptSky:
    """Have one more sky, given as a picture (h, w, 3), and be under it."""
    scene = project.scene
    kept = KeptSky(name, fitted(light).reshape(-1, 3))
    scene = scene.with_things("skies", (*scene.things("skies"), kept))
    scene = scene.with_things("surroundings", (replace(around(scene), sky=OWN + kept.id),))
    project.change(f"Under {name}", scene)
    return kept


def remove_sky(project: Project, sky_id: str) -> None:
    """Take a sky of the user's own away; who was under it is under the usual one."""
    scene = project.scene
    rest = tuple(one for one in scene.things("skies") if one.id != sky_id)
    scene = scene.with_things("skies", rest)
    if around(scene).sky == OWN + sky_id:
        scene = scene.with_things("surroundings", (replace(around(scene), sky=Surroundings().sky),))
    project.change("Take a sky away", scene)


def light_by(project: Project, light: LightSet, name: str) -> None:
    """Light the clay by a set instead of what lights it now."""
    lamps, about = light
    made = tuple(replace(lamp, id=new_id()) for lamp in lamps)
    scene = project.scene.with_things("lamps", made).with_things("surroundings", (about,))
    project.change(name, scene)


def keep_set(project: Project, name: str) -> KeptSet:
    """Keep what lights the clay as a set of one's own; one that is called so gives way to it."""
    scene = project.scene
    kept = KeptSet(name, lamps_of(scene), around(scene))
    rest = tuple(one for one in scene.things("light_sets") if one.name != name)
    project.change(f"Keep the light as {name}", scene.with_things("light_sets", (*rest, kept)))
    return kept


def remove_set(project: Project, set_id: str) -> None:
    """Take a set of one's own away."""
    rest = tuple(one for one in project.scene.things("light_sets") if one.id != set_id)
    project.change("Take a light set away", project.scene.with_things("light_sets", rest))


PICTURED = ("lamps", "surroundings", "skies", "cameras", "finishes", "colour_tables")
"""Kinds of things that have to do with the picture alone, and lie on no clay."""


def in_light_of(scene: Scene, parts: tuple[Part, ...]) -> Scene:
    """Other clay in the light of a scene, with its cameras and finish."""
    return Scene(parts, more={name: scene.things(name) for name in PICTURED})
