"""Tarn's hands on the rail of the ferry: taken from his forms, their fingers bent over it, painted and furred as he is."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.fur.numbers import FurNumbers
from kneten.core.live.armature import Armature
from kneten.core.masks import cavity
from kneten.core.mesh import Mesh
from kneten.core.pose.rig import Rig
from kneten.core.transform import Transform
from kneten.demo.ferry_set import RAIL_TOP
from kneten.demo.files import demo_project
from kneten.demo.painter import toned
from kneten.document.furs import sown
from kneten.document.posing import low_clay
from kneten.document.rigging import joints_from, made_rig
from kneten.document.scene import Part
from kneten.document.things import Fur, KeptMask

BENT = {"knuckle": 52.0, "1": 38.0, "2": 12.0}
"""Degrees that each joint of a finger bends over the rail."""

THUMB = {"thumb 1": (4.0, 0.0, -14.0), "thumb 2": (40.0, 0.0, -6.0)}
"""Degrees about three axes: it lies on the rail, its tip over the edge."""

EACH = {"index": -4.0, "middle": 3.0, "ring": 5.0, "little": -2.0}
"""Degrees more of a finger: no two lie alike."""

PLACES = {1.0: (136.0, 8.0), -1.0: (-132.0, -6.0)}
"""Where each hand lies along the rail, mm, and how far it is turned inwards, degrees."""

ABOVE, BEFORE = 17.0, 37.0
"""Mm of the middle of the palm above the rail, and of the hand's own middle before the rail's."""


def hands() -> list[tuple[Part, Fur, KeptMask]]:
    """The left and the right hand in the scene, with the fur on their backs and where it lies."""
    held = next(part for part in demo_project(name="tarn-forms").scene.parts if part.name == "Hand left")
    assert isinstance(held.was, Armature)
    rest = held.mesh.settled()
    rig = made_rig(low_clay(replace(held, mesh=rest, stack=None)), joints_from(held.was), Progress())
    found: list[tuple[Part, Fur, KeptMask]] = []
    for side, (along, turn) in PLACES.items():
        mesh = rest.with_positions(bent(rig, side).posed(rest.positions, 1.0))
        painted(mesh, rest, rig)
        place = Transform((along, RAIL_TOP + ABOVE, BEFORE), mirror=side < 0).with_degrees(
            0.0, -side * turn, 0.0
        )
        part = Part(f"Hand {'left' if side > 0 else 'right'}", mesh, transform=place)
        # Long behind, none on the fingers.
        back = np.clip((26.0 - rest.positions[:, 2]) / 30.0, 0, 1) * (rest.normals[:, 1] > -0.2)
        lies = KeptMask("Fur", part.id, mesh.positions.copy(), np.rint(255 * back).astype(np.uint8))
        fur = sown(
            part, mesh, back.astype(np.float32), replace(FUR, mask=lies.id), "Back of the hand", Progress()
        )
        found.append((part, fur, lies))
    return found


FUR = FurNumbers(
    count=9_000,
    width=0.16,
    vary=0.5,
    loose=0.2,
    clump=0.45,
    root=toned("2b211c"),
    tip=toned("7d6654"),
    seed=4,
)


def bent(rig: Rig, side: float) -> Rig:
    """Fingers bent over an edge; the thumb lies beside it."""
    for k, joint in enumerate(rig.joints):
        name = joint.name.lower()
        finger = next((one for one in EACH if one in name), "")
        link = next((one for one in BENT if re.search(rf"\b{one}\b", name)), "")
        if finger and link:
            more = EACH[finger] * (1.0 if side > 0 else -0.7)
            rig = rig.with_turn(k, np.array([BENT[link] + more, 0.0, 0.0]))
        elif name in THUMB:
            rig = rig.with_turn(k, np.array(THUMB[name]))
    return rig


def painted(mesh: Mesh, rest: Mesh, rig: Rig) -> None:
    """Skin as on his face: darker behind, rosy where it is thin, dark in creases, with horn on the tips."""
    places: F64 = rest.positions.astype(np.float64)
    n = len(places)
    deep = np.clip((0.5 - cavity(rest).astype(np.float64)) * 2.2, 0, 1)
    x, y, z = places.T
    mottle = 0.5 + 0.25 * np.sin(x / 7.0 + 1.7 * np.sin(z / 11.0)) + 0.25 * np.sin(z / 5.3 + y / 6.0 + 2.0)
    back = np.clip((30.0 - z) / 90.0, 0, 1)
    below = np.clip(-rest.normals[:, 1].astype(np.float64), 0, 1)
    tone = np.array([124.0, 92.0, 76.0]) + (mottle - 0.5)[:, None] * [26.0, 22.0, 18.0]
    tone += back[:, None] * (np.array([66.0, 49.0, 40.0]) - tone) * 0.75
    tone += below[:, None] * (np.array([146.0, 102.0, 90.0]) - tone) * 0.5
    tone += deep[:, None] * (np.array([46.0, 29.0, 25.0]) - tone) * 0.65
    made = np.tile([0.56, 0.0, 0.35, 0.12], (n, 1))
    for joint in rig.joints:
        if "tip" in joint.name.lower() and "thumb" not in joint.name.lower():
            off = places - np.add(joint.place, (0.0, 5.0, 1.0))
            nail = np.clip(2.5 * (1.4 - ((off / (5.2, 4.5, 6.5)) ** 2).sum(axis=1)), 0, 1)[:, None]
            tone += nail * (np.array([58.0, 46.0, 40.0]) - tone)
            made += nail * (np.array([0.28, 0.0, 0.0, 0.25]) - made)
    codes = np.full((n, 4), 255, np.uint8)
    codes[:, :3] = np.clip(np.rint(tone), 0, 255)
    mesh.colour = codes
    mesh.material = np.clip(np.rint(made * 255), 0, 255).astype(np.uint8)
