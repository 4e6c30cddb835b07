"""Changes of the stages after clay: colour, net, pose, shapes, motion, light and pictures, one at random."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.fur.numbers import FurNumbers
from kneten.core.grain import Grain
from kneten.core.light.finish import ColourTable, Finish
from kneten.core.light.lamps import Lamp
from kneten.core.light.rigs import rig
from kneten.core.light.surroundings import Surroundings
from kneten.core.pose.keys import TURN, Keys, Track
from kneten.core.uv.pack import PackWish
from kneten.document.blocking import copy
from kneten.document.driving import shapes_of
from kneten.document.furs import add_fur, sown
from kneten.document.grains import add_grain, bake_grain, grains_of
from kneten.document.kinds import THINGS, thing_words
from kneten.document.lighting import add_lamp, change_around, change_lamp, lamps_of, light_by, remove_lamp
from kneten.document.masks import keep_mask
from kneten.document.motions import bring_motions, kept_motion
from kneten.document.picturing import add_shot, add_table, change_finish, remove_shot, shots_of
from kneten.document.posing import change_pose
from kneten.document.presses import edit_press, keep_press, presses_of
from kneten.document.project import Project
from kneten.document.rigging import keep_pose, rig_layer, rig_of
from kneten.document.shapes import dial
from kneten.document.things import kept_press
from kneten.document.unwrapping import cage_of, laid_flat, land, put_seams, seams_of

GO = Progress()


def _plain(words: Any) -> Any:
    """Words without what a file does not tell apart: lists and tuples, whole numbers and others."""
    if isinstance(words, dict):
        return sorted((key, _plain(value)) for key, value in words.items())
    if isinstance(words, list | tuple):
        return [_plain(value) for value in words]
    return float(words) if isinstance(words, int) else words


def everything_told(project: Project) -> bytes:
    """All that a project's things say, and their arrays, as bytes: alike only where nothing is lost."""
    out = hashlib.sha256(repr(_plain(thing_words(project.scene))).encode())
    for name, kind in THINGS.items():
        for thing in project.scene.things(name):
            # What lies between corners of the clay is worked out again from them, and told as of then or of now.
            lies = ("corners", "shares", "own") if "corners" in kind.arrays else tuple(kind.arrays)
            for array in (one for one in lies if one in kind.arrays):
                out.update(np.ascontiguousarray(getattr(thing, array)).tobytes())
    for part in project.scene.parts:
        out.update(f"{part.id} {part.name} {part.visible} {part.transform}".encode())
        for what, values in sorted(part.mesh.values().items()):
            out.update(what.encode() + values.tobytes())
    return out.digest()


def _lamps(project: Project, rng: np.random.Generator) -> None:
    lamps = lamps_of(project.scene)
    if not lamps:
        light_by(project, rig("three", *project.scene.bounds()), "Light by Three")
    elif rng.random() < 0.4:
        change_lamp(project, replace(lamps[0], size=float(rng.uniform(1, 40))), "Change lamp")
    elif rng.random() < 0.5:
        add_lamp(project, Lamp("Key", "spot", free=True, cone=33.0))
    else:
        remove_lamp(project, lamps[-1].id)


def _around(project: Project, rng: np.random.Generator) -> None:
    change_around(project, Surroundings("lantern", float(rng.uniform(0, 1)), 30.0), "Change the surroundings")


def _cameras(project: Project, rng: np.random.Generator) -> None:
    shots = shots_of(project.scene)
    if len(shots) > 3:
        remove_shot(project, shots[0].id)
    else:
        add_shot(project, "Front", Camera(yaw=float(rng.uniform(0, 360))), Finish(curve="film"))


def _finish(project: Project, rng: np.random.Generator) -> None:
    if rng.random() < 0.3:
        steps = rng.uniform(0, 1, (8, 3)).astype(np.float32)
        add_table(project, ColourTable("Cold", steps))
    else:
        change_finish(project, Finish(bloom=float(rng.uniform(0, 1))), "Change the finish")


def _pose(project: Project, rng: np.random.Generator) -> None:
    part = project.scene.parts[0]
    now, layer = rig_of(part), rig_layer(part)
    if now is None or layer is None:
        return
    turned = replace(now.joints[1], turn=tuple(rng.uniform(-30, 30, 3).tolist()))
    joints = (now.joints[0], turned, *now.joints[2:])
    change_pose(project, {part.id: layer.id}, {part.id: replace(now, joints=joints)}, "Turn Chest")
    if rng.random() < 0.3:
        keep_pose(project, project.scene.parts[0], "Turned")


def _shapes(project: Project, rng: np.random.Generator) -> None:
    shapes = [key for key, one in shapes_of(project.scene).items() if not one.shape.drivers]
    if shapes:
        dial(project, {shapes[0]: float(rng.uniform(0, 1))}, "Dial")


def _motion(project: Project, rng: np.random.Generator) -> None:
    at = np.array([0.0, 1.0, 2.0])
    keys = Keys.of([(Track(TURN, "Chest"), at, rng.uniform(-20, 20, (3, 3)))])
    bring_motions(project, [kept_motion("Nod", project.scene.parts[0].id, keys)], "Nod")


def _presses(project: Project, rng: np.random.Generator) -> None:
    held = presses_of(project)
    if held and rng.random() < 0.5:
        edit_press(project, held[0].id, replace(held[0].edits, blur=float(rng.uniform(0, 3))))
    else:
        keep_press(project, kept_press("Ramp", rng.uniform(-1, 1, (24, 32)).astype(np.float32)))


def _grain(project: Project, rng: np.random.Generator) -> None:
    part = project.scene.parts[1]
    grains = grains_of(part)
    if grains and rng.random() < 0.5:
        bake_grain(project, part, grains[0].id)
    else:
        add_grain(
            project,
            part,
            Grain(kind="pebbles", scale=30.0, height=float(rng.uniform(0.1, 1))),
            None,
            "Scales",
        )


def _fur(project: Project, rng: np.random.Generator) -> None:
    part = project.scene.parts[0]
    add_fur(project, sown(part, part.mesh, None, FurNumbers(count=int(rng.integers(40, 120))), "Coat", GO))


def _flat(project: Project, rng: np.random.Generator) -> None:
    part = project.scene.parts[1]
    cage = cage_of(part)
    if rng.random() < 0.5:
        marked = seams_of(cage).copy()
        marked[rng.integers(len(marked))] ^= True
        put_seams(project, part, cage, marked, "Seams")
    else:
        land(project, part, cage, laid_flat(cage, PackWish(size=256), None, GO), "Unwrap")


def _mask(project: Project, rng: np.random.Generator) -> None:
    part = project.scene.parts[0]
    mask = rng.uniform(0, 1, part.mesh.n_vertices).astype(np.float32)
    project.set_values(part.id, "mask", mask, "Mask")
    if rng.random() < 0.3:
        keep_mask(project, project.scene.parts[0], "Kept")


def _parts(project: Project, rng: np.random.Generator) -> None:
    parts = project.scene.parts
    if len(parts) > 5:
        project.delete(parts[-1].id)
    elif rng.random() < 0.5:
        copy(project, parts[:1], linked=bool(rng.random() < 0.5), way=np.array([60.0, 0.0, 0.0]))
    else:
        project.rename(parts[-1].id, f"Part {rng.integers(100)}")


CHANGES: tuple[Callable[[Project, np.random.Generator], None], ...] = (
    _lamps, _around, _cameras, _finish, _pose, _shapes, _motion, _presses, _grain, _fur, _flat, _mask, _parts,
)  # fmt: skip


def stage(project: Project, rng: np.random.Generator) -> None:
    """One change of one of them; now and then one is undone, or made again."""
    chance = rng.random()
    if chance < 0.1 and project.undo():
        return
    if chance < 0.15 and project.redo():
        return
    CHANGES[int(rng.integers(len(CHANGES)))](project, rng)
