"""Light as part of a project: lamps, what is around, light sets of one's own. Each function that changes it is one undo step."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32
from kneten.core.light.day import SUN_WIDE, sun_light, sun_way
from kneten.core.light.lamps import LUMINANCE, Lamp
from kneten.core.light.rigs import LightSet
from kneten.core.light.skies import TALL, SkyTables, day_tables, fitted, own_tables, tables_of
from kneten.core.light.surroundings import OWN, Surroundings
from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.transform import Transform
from kneten.document.blocking import add_live
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


def change_group(project: Project, group: str, name: str, traits: Mapping[str, Any]) -> bool:
    """Have all lamps of a group otherwise, as one step; whether any was not so before."""
    scene = project.scene
    lamps = tuple(replace(one, **traits) if one.group == group else one for one in lamps_of(scene))
    if not group or lamps == lamps_of(scene):
        return False
    project.change(name, scene.with_things("lamps", lamps))
    return True


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
    if around(scene).by_hour:
        # A dial that is turned makes no more than a table for every two minutes.
        return day_tables(round(around(scene).hour * 30) / 30, round(around(scene).haze, 2))
    return own_tables(key)


def day_lamps(about: Surroundings) -> tuple[Lamp, ...]:
    """The sun of the hour as a lamp, turned as the sky is; none where the hour does not matter, or it is night."""
    if not about.by_hour:
        return ()
    light, (x, y, z) = sun_light(about.hour, about.haze), sun_way(about.hour)
    bright = float(LUMINANCE @ light) * about.strength
    if bright <= 1e-4:
        return ()
    c, s = np.cos(np.radians(about.turn)), np.sin(np.radians(about.turn))
    codes = np.sqrt(light / light.max()) * 255
    red, green, blue = (round(float(code)) for code in codes)
    way = (float(c * x + s * z), float(y), float(c * z - s * x))
    return (
        Lamp(
            "Sun by the hour",
            "sun",
            way,
            strength=bright,
            free=True,
            colour=(red, green, blue),
            size=SUN_WIDE,
            id="hour",
        ),
    )


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


PROFILE = (
    (0.0, 0.0, True), (0.90, 0.0, True), (0.925, -0.015, False), (0.935, -0.05, True), (0.935, -0.09, True),
    (0.985, -0.125, False), (1.0, -0.17, False), (1.0, -0.22, False), (0.985, -0.25, True), (0.0, -0.25, True),
)  # fmt: skip
"""From the middle of a pedestal's top out, down and back: radius and height as shares of its radius, and whether it is sharp there."""


def pedestal(scene: Scene) -> tuple[Lathe, Transform]:
    """A round pedestal below all visible clay: a live part's numbers and its place."""
    low, high = scene.bounds()
    x, _, z = ((low + high) / 2).tolist()
    radius = 0.62 * float(np.hypot(high[0] - low[0], high[2] - low[2]))
    points = tuple(LathePoint(r * radius, y * radius, sharp) for r, y, sharp in PROFILE)
    return Lathe(points, around=96), Transform((x, float(low[1]), z))


def add_pedestal(project: Project) -> Part:
    """Put a pedestal below all visible clay, as a live part of its own."""
    recipe, place = pedestal(project.scene)
    return add_live(project, "Pedestal", recipe, recipe.made().mesh(), place)


PICTURED = ("lamps", "surroundings", "skies", "cameras", "finishes", "colour_tables")
"""Kinds of things that have to do with the picture alone, and lie on no clay."""


def in_light_of(scene: Scene, parts: tuple[Part, ...]) -> Scene:
    """Other clay in the light of a scene, with its cameras and finish."""
    return Scene(parts, more={name: scene.things(name) for name in PICTURED})
