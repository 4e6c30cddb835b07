"""*Tarn at the ferry*: the portfolio still. Tarn by night on the lake, Pim on the shoulder, the lantern as key, a cold rim.

Run `python -m kneten.demo.ferry OUT.png` to trace it, `--day` for the one by daylight, `OUT.kneten` to keep the project.
"""

from __future__ import annotations

import argparse
import math
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, U8, Progress
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import Lamp
from kneten.core.light.rigs import rig
from kneten.core.light.surroundings import Surroundings
from kneten.core.light.turntable import Turntable
from kneten.core.picking import pick
from kneten.core.transform import Transform
from kneten.demo.ferry_hands import hands
from kneten.demo.ferry_set import ferry_set
from kneten.demo.files import demo_project
from kneten.document.incoming import bring_in, own_scene
from kneten.document.look import Look
from kneten.document.picturing import add_shot
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part
from kneten.formats.pictures import write_picture
from kneten.render.filming import finished
from kneten.render.handover import Order
from kneten.render.still import draw_stills
from kneten.render.style import Style
from kneten.render.tracing import Tracing

NIGHT, DAY = "Night", "Day"

SHOULDER = (-95.0, 14.0)
"""Where Pim sits: x and z."""

LONG = 150.0
"""Millimetres of Pim from nose to tail."""

TURN = 215.0
"""Degrees that Pim is turned about the vertical."""


LIGHTER = 3
"""So many fibres are one in the light ferry, as much thicker as keeps the coat closed."""


def light(progress: Progress | None = None) -> Project:
    """The same, to be opened at once on any machine: Tarn two levels below his highest, with fewer and thicker fibres."""
    project = made(progress, finest=False)
    scene = project.scene
    furs = tuple(
        replace(
            fur,
            numbers=replace(
                fur.numbers,
                count=fur.numbers.count // LIGHTER,
                width=fur.numbers.width * math.sqrt(LIGHTER),
            ),
        )
        for fur in scene.things("furs")
    )
    project.change("Fewer fibres", scene.with_things("furs", furs))
    project.history.clear()
    project.unsaved = False
    return project


def made(progress: Progress | None = None, finest: bool = True) -> Project:
    """Tarn with Pim on the shoulder, both lights as cameras: that of the night is looked through. A new project without steps."""
    project = demo_project(progress, "tarn-painted", finest)
    project.title = "Tarn at the ferry"
    project.choose(next(part.id for part in project.scene.parts if part.name == "Tarn"))
    _seat_pim(project)
    parts = (replace(part, locked=True) for part in ferry_set())
    held = hands()
    scene = project.scene.with_parts((*project.scene.parts, *(part for part, _, _ in held), *parts))
    scene = scene.with_things("furs", (*scene.things("furs"), *(fur for _, fur, _ in held)))
    scene = scene.with_things("kept_masks", (*scene.things("kept_masks"), *(lies for _, _, lies in held)))
    project.change("Build the ferry", scene)
    scene = project.scene.with_things("lamps", NIGHT_LAMPS).with_things("surroundings", (NIGHT_AROUND,))
    project.change("Light the night", scene)
    night = add_shot(project, NIGHT, CAMERA, NIGHT_FINISH)
    add_shot(project, DAY, CAMERA, DAY_FINISH)
    project.change_settings(look=Look("lit"), camera=CAMERA, through=night.id)
    project.choose(next(part.id for part in project.scene.parts if part.name == "Tarn"))
    project.history.clear()
    project.unsaved = False
    return project


def by_day(project: Project) -> None:
    """Light it by day instead."""
    scene = project.scene.with_things("lamps", DAY_LAMPS).with_things("surroundings", (DAY_AROUND,))
    project.change("Light the day", scene)


def _seat_pim(project: Project) -> None:
    """Put the newt on the shoulder, the stone left aside."""
    other = demo_project(name="pim")
    parts = [part for part in other.scene.parts if part.visible and part.name != "Stone"]
    low = np.min([part.bounds()[0] for part in parts], axis=0)
    high = np.max([part.bounds()[1] for part in parts], axis=0)
    scale = LONG / float(np.linalg.norm(high - low))
    turn = Rotation.from_euler("y", TURN, degrees=True)
    shoulder = _shoulder(project.active)
    foot = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    added = bring_in(project, "Pim comes along", own_scene(other.scene, parts))
    scene = project.scene
    for part in added:
        place = shoulder + scale * turn.apply(np.array(part.transform.place) - foot)
        x, y, z = place.tolist()
        quaternion = (turn * Rotation.from_quat(part.transform.turn)).as_quat()
        moved = Transform(
            (x, y, z), tuple(quaternion.tolist()), part.transform.scale * scale, part.transform.mirror
        )
        scene = scene.with_part(replace(part, transform=moved))
    project.change("Pim on the shoulder", scene)


def _shoulder(bust: Part | None) -> F64:
    """The place (3,) on the bust under the one that Pim sits at."""
    assert bust is not None
    x, z = SHOULDER
    # From below the cheek, which hangs over it.
    origin, down = np.array([x, -60.0, z]), np.array([0.0, -1.0, 0.0])
    hit = pick(bust.mesh, bust.transform.to_part(origin[None])[0], bust.transform.way_to_part(down))
    if hit is None:
        raise ValueError("there is no shoulder where Pim is to sit")
    return np.asarray(bust.transform.to_scene(hit.point[None])[0])


def lamp_at(
    name: str, kind: str, at: tuple[float, float, float], aim: tuple[float, float, float], **more: float
) -> Lamp:
    """A lamp that stands at a place and lights another."""
    way = np.subtract(at, aim)
    far = float(np.linalg.norm(way))
    x, y, z = (way / far).tolist()
    return Lamp(name, kind, (x, y, z), aim, far, **more)  # type: ignore[arg-type]


CAMERA = Camera(target=(46.0, -70.0, 30.0), distance=1090.0, yaw=-14.0, pitch=1.5, angle=20.0)

FACE = (0.0, 0.0, 90.0)

NIGHT_LAMPS = (
    lamp_at("Lantern", "point", (-330.0, -70.0, 520.0), FACE, strength=1.0, warmth=2300, size=90.0),
    lamp_at(
        "In the tin",
        "point",
        (0.0, -214.0, 78.0),
        (0.0, -214.0, 104.0),
        strength=11.0,
        warmth=2100,
        size=14.0,
    ),
    lamp_at(
        "Spill", "point", (6.0, -196.0, 146.0), (6.0, -170.0, 60.0), strength=0.8, warmth=2000, size=26.0
    ),
    Lamp("Moon behind", "sun", (0.88, 0.30, -0.36), FACE, strength=3.4, warmth=13000, size=3.0),
    Lamp("Sky before", "sun", (0.85, 0.35, 0.6), FACE, strength=0.10, warmth=14000, size=60.0),
)
NIGHT_AROUND = Surroundings("hour", 1.15, turn=40.0, shown=True, blur=0.1, catches=False, hour=19.4, haze=0.3)
NIGHT_FINISH = Finish(
    exposure=0.2,
    curve="film",
    white=5000,
    blurs=True,
    focus=(-22.0, 20.0, 98.0),
    stop=2.0,
    bloom=0.16,
    vignette=0.5,
    grain=0.06,
)
DAY_LAMPS = (Lamp("From behind", "sun", (0.7, 0.35, -0.65), FACE, strength=0.5, warmth=7500, size=8.0),)
DAY_AROUND = Surroundings("hour", 0.8, turn=-20.0, shown=True, blur=0.05, catches=False, hour=9.6, haze=0.3)
DAY_FINISH = replace(NIGHT_FINISH, exposure=0.55, white=6000, bloom=0.06, vignette=0.3, grain=0.04, stop=2.8)


STRIP = (8, 96)
"""Pictures of the strip, and of the turntable that they are of."""


def strip(project: Project, width: int) -> U8:
    """Eight pictures of a turntable of Tarn and Pim on a mirroring floor, side by side, (h, width, 3)."""
    # Hands without the rail would hang in the air.
    around_it = {*(part.name for part in ferry_set()), "Hand left", "Hand right"}
    parts = tuple(part for part in project.scene.parts if part.name not in around_it)
    scene = replace(project.scene, parts=parts)
    lamps, about = rig("three", *scene.bounds())
    about = replace(about, backdrop="sweep", mirror=0.35, tone=(112, 120, 124))
    scene = scene.with_things("lamps", lamps).with_things("surroundings", (about,))
    count, pictures = STRIP
    wide = width // count
    high = round(wide * 1.2)
    low, top = scene.bounds()
    camera = Camera(yaw=-20.0, pitch=4.0, angle=24.0).framing(low, top, wide / high, 1.08)
    cameras = Turntable(pictures).cameras(camera, (low + top) / 2)[:: pictures // count]
    style = finished(Style(look=Look("lit")), scene)
    drawn = [np.asarray(one.image()) for one in draw_stills(scene, cameras, (wide, high), style)]
    side = np.concatenate(drawn, axis=1)
    return np.pad(side, ((0, 0), (0, width - side.shape[1]), (0, 0)), mode="edge")


def main(words: list[str]) -> int:
    """Make the still or the project; 0 when it is done."""
    parser = argparse.ArgumentParser(prog="python -m kneten.demo.ferry", description=__doc__)
    parser.add_argument("target", type=Path)
    parser.add_argument("--day", action="store_true")
    parser.add_argument("--strip", action="store_true", help="eight pictures of a turntable below it")
    parser.add_argument("--size", default="1920x1080")
    parser.add_argument("--samples", type=int, default=96)
    given = parser.parse_args(words)
    project = made()
    if given.day:
        by_day(project)
    if given.target.suffix == ".kneten":
        save_project(project, given.target, small=True)
        return 0
    width, height = (int(n) for n in given.size.split("x"))
    shot = next(one for one in project.scene.things("cameras") if one.name == (DAY if given.day else NIGHT))
    style = finished(Style(look=Look("lit")), project.scene, shot.id)
    tracing = Tracing(project.scene, shot.camera, style, Order((width, height), given.samples))
    try:
        tracing.begin()
        still = tracing.still(tracing.wait())
        colours = still.colours
        if given.strip:
            below = strip(project, width).astype(np.float32) / 255
            colours = np.concatenate([colours[..., :3], below], axis=0)
        write_picture(given.target, colours, still.light)
    finally:
        tracing.end()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
