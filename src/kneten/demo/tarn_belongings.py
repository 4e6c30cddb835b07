"""What belongs to Tarn, painted: his eyes, tin with rust, rope, a neckcloth with a woven check."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.paint.held import HeldPicture, flat_net
from kneten.core.paint.tiled import Tiled
from kneten.core.paint.wash import Wash, share_of
from kneten.core.peel import PeelSettings, peeled
from kneten.demo.painter import OTHER, Painter, percents, pinned
from kneten.demo.sculptor import FRONT
from kneten.demo.tarn_forms import SIDE
from kneten.demo.tarn_skin import step
from kneten.demo.weaves import as_png, checked_cloth
from kneten.document.blocking import bake
from kneten.document.holding import lay_picture
from kneten.document.layering import exchange_level
from kneten.document.masks import with_mask
from kneten.document.opening import stack_of
from kneten.document.painting import measured_on, set_ink


def clay_of(p: Painter, name: str) -> None:
    """Take a part in hand as clay, whatever it was made from."""
    bake(p.project, [p.choose(name)])


def finer(p: Painter, levels: int) -> None:
    """Make the part in hand of more vertices, by levels of which only the highest is kept."""
    for _ in range(levels):
        part = p.part
        exchange_level(
            p.project, part.id, *stack_of(part).added(part.mesh, Progress()), f"Subdivide {part.name}"
        )
    p.project.replace_mesh(
        p.part.id, p.part.mesh.copy(), f"Only the highest level of {p.part.name}", stack=None
    )


def eyes(p: Painter) -> None:
    """Iris with its ring and streaks, a white that is none, veins from the corners, all of it wet."""
    clay_of(p, "Eyes")
    finer(p, 2)
    part = p.part
    at = part.transform.to_scene(part.mesh.positions.astype(np.float64))
    # Each eye looks the way its cornea stands out.
    for side in (-1.0, 1.0):
        own = at[:, 0] * side > 0
        middle = np.array([side * 39.0, 24.0, 86.0])
        share = np.zeros(len(at), np.float32)
        share[own] = 1
        p.hold("eye_white")
        p.fill(share)
        off = at - middle
        far = np.linalg.norm(off[:, :2], axis=1)
        front = off[:, 2] > 0
        for colour, begin, end in (
            ("a98070", 7.0, 9.0), ("2b2416", 0.0, 4.9), ("6f6a2e", 0.0, 4.45), ("93833a", 2.3, 3.8), ("5b4a22", 1.4, 2.7),
        ):  # fmt: skip
            ring = np.clip((far - begin + 0.25) / 0.5, 0, 1) if begin else np.ones(len(far))
            ring = ring * np.clip((end - far + 0.25) / 0.5, 0, 1) * (own & front)
            p.hold(colour)
            p.fill(0.9 * ring)
        streaks(p, off, far, own & front)
        p.hold("0b0908")
        p.fill(np.clip((2.15 - far) / 0.3, 0, 1) * (own & front))
    p.hold_material(roughness=12, wet=100, subsurface=40)
    p.fill()


def streaks(p: Painter, off: F64, far: F64, where: F64) -> None:
    """Light and dark threads from the pupil to the ring."""
    turn = np.arctan2(off[:, 1], off[:, 0])
    for colour, strength in (("c9b45c", 0.6), ("3a3216", 0.55), ("a8742f", 0.5)):
        share = np.zeros(len(far))
        for _ in range(26):
            angle, wide = p.rng.uniform(-np.pi, np.pi), p.rng.uniform(0.02, 0.07)
            near = np.abs(np.angle(np.exp(1j * (turn - angle - p.rng.normal(0, 0.03) * far))))
            share = np.maximum(share, np.exp(-((near / wide) ** 2)))
        share *= strength * where * np.clip((far - 2.0) / 0.5, 0, 1) * np.clip((4.6 - far) / 0.4, 0, 1)
        p.hold(colour)
        p.fill(share)


def tin(p: Painter) -> None:
    """Tin gone dull, with rust where water stands: in hollows, on edges, running down from the rivets."""
    for name in ("Lantern", "Lantern hat", "Ring", "Rivets"):
        if name != "Lantern":
            clay_of(p, name)
        p.choose(name)
        p.hold("tin")
        p.fill()
        part = p.part
        rough = Wash("clouds", 0.45, 1.0, 0.3, (0, 0, 0), 1.0, 9.0, 2)
        dull = measure(p, rough)
        p.hold("6f6d64", "colour", "roughness", "metalness")
        set_ink(p.project, material=percents(62, 90, 0, 0))
        p.fill(0.8 * dull)
        # Rust grows where both say so: the form that holds water, and chance.
        edge = np.maximum(
            measure(p, Wash("hollows", 0.25, 1.0, 0.3, (0, 0, 0), 1.0)),
            0.8 * measure(p, Wash("peaks", 0.45, 1.0, 0.3, (0, 0, 0), 1.0)),
        )
        low = measure(p, Wash("height", 0.0, 0.16 if name == "Lantern" else 0.1, 0.3, (0, 0, 0), 1.0))
        chance = measure(p, Wash("clouds", 0.42, 1.0, 0.16, (0, 0, 0), 1.0, 6.5, 9))
        runs = drips(p, part.mesh.positions.astype(np.float64))
        rust = np.clip((0.85 * np.maximum(edge, low) + 0.7 * runs) * (0.1 + 1.3 * chance) - 0.08, 0, 1)
        p.hold("rust")
        p.fill(rust)
        p.hold("96592f", "colour")
        p.fill(
            (
                0.7
                * np.clip(2.2 * rust - 1.2, 0, 1)
                * measure(p, Wash("speckles", 0.2, 1.0, 0.2, (0, 0, 0), 1.0, 1.6, 4))
            ).astype(np.float32)
        )
        p.hold("4a2a1a", "colour")
        p.fill(
            (0.8 * rust * measure(p, Wash("clouds", 0.5, 1.0, 0.2, (0, 0, 0), 1.0, 3.2, 21))).astype(
                np.float32
            )
        )
        p.hold("2c1a12", "colour")
        p.fill(0.55 * rust * measure(p, Wash("covered", 0.5, 1.0, 0.3, (0, 0, 0), 1.0)))


def measure(p: Painter, wash: Wash) -> F64:
    """How much of a wash each vertex of the part in hand would get, (n,)."""
    return share_of(wash, measured_on(p.part, wash, Progress())).astype(np.float64)


def drips(p: Painter, at: F64) -> F64:
    """Streaks that run down a turned body, (n,), each of its own length."""
    turn = np.arctan2(at[:, 0], at[:, 2])
    high = (at[:, 1] - at[:, 1].min()) / max(float(np.ptp(at[:, 1])), 1e-9)
    share = np.zeros(len(at))
    for _ in range(15):
        angle, wide, long = p.rng.uniform(-np.pi, np.pi), p.rng.uniform(0.04, 0.11), p.rng.uniform(0.2, 0.75)
        near = np.abs(np.angle(np.exp(1j * (turn - angle - 0.05 * np.sin(9 * high)))))
        top = p.rng.uniform(0.82, 0.97)
        run = np.clip((high - top + long) / long, 0, 1) * (high < top)
        share = np.maximum(share, np.exp(-((near / wide) ** 2)) * run)
    return share


def rope(p: Painter) -> None:
    """Hemp, dark with wet and tar between its strands, bleached where it rubs."""
    for name in ("Rope", "Rope ends", "Knot", "Frayed ends"):
        clay_of(p, name)
        p.choose(name)
        p.hold("rope")
        p.fill()
        p.hold("6f5a38")
        p.fill(0.7 * measure(p, Wash("clouds", 0.5, 1.0, 0.2, (0, 0, 0), 1.0, 16.0, 3)))
        p.hold("2f2517")
        set_ink(p.project, material=percents(60, 0, 5, 25), channels=("colour", "roughness", "wet"))
        under = measure(p, Wash("up", 0.0, 0.3, 0.25, (0, 0, 0), 1.0))
        tar = measure(p, Wash("clouds", 0.62, 1.0, 0.14, (0, 0, 0), 1.0, 22.0, 12))
        p.fill(np.maximum(0.75 * under, 0.8 * tar))
        if name != "Frayed ends":
            p.hold("c9b487")
            p.fill(0.55 * measure(p, Wash("peaks", 0.3, 1.0, 0.35, (0, 0, 0), 1.0)))
    p.choose("Whiskers")
    bake(p.project, [p.part])
    p.hold("d8cbb4")
    set_ink(
        p.project, material=percents(34, 0, 30, 10), channels=("colour", "roughness", "subsurface", "wet")
    )
    p.fill()


def neckcloth(p: Painter) -> None:
    """A cloth around the neck under the rope: peeled off the clay, folded, with a woven check that has seen water."""
    project = p.project
    p.choose("Tarn")
    step(p, 1)
    for line, view in (
        ([(-62, -106, 90), (-30, -114, 108), (0, -118, 112), (30, -114, 108), (62, -106, 90)], FRONT),
        ([(70, -102, 70), (84, -98, 20), (84, -94, -20)], SIDE),
    ):
        p.stroke("mask", line, 15, 0.9, view=view, taper=False, times=4)
    part = p.part
    assert part.mesh.mask is not None
    shell = peeled(part.mesh, part.mesh.mask, PeelSettings(2.2, offset=1.4, smooth=20), Progress()).mesh
    with_mask(project, part, None, "Clear the mask")
    made = project.add_meshes("Peel Neckcloth", [("Neckcloth", shell, part.transform)])[0]
    project.choose(made.id)
    finer(p, 1)
    # Folds run around, as the rope and the chin press them.
    for line, view in (
        ([(-70, -100, 90), (-36, -108, 108), (4, -106, 112), (40, -104, 106), (72, -96, 84)], FRONT),
        ([(-64, -116, 90), (-24, -121, 110), (14, -119, 112)], FRONT),
        ([(10, -113, 112), (44, -117, 104), (70, -107, 84)], FRONT),
        ([(76, -104, 70), (86, -98, 10)], SIDE),
        ([(-76, -96, 70), (-86, -102, 10)], OTHER),
    ):
        p.stroke("coil", line, 5.0, 0.5, view=view)
        p.stroke("score", [(x, y - 4.5, z) for x, y, z in line], 3.4, 0.5, view=view)
    weave = checked_cloth()
    picture = pinned(project, "Weave", as_png(weave), ".png", "Woven check, tiled over the neckcloth")
    held = HeldPicture(picture.id, flat_net(0.6, 0.6), tiled=True, size=44.0, turn=14.0)
    light, share = Tiled(p.part.mesh, 1.0, held, weave).seen(Progress())
    set_ink(project, material=percents(88, 0, 15, 0), channels=("colour",))
    lay_picture(project, p.part, project.settings.ink, light, share, "Lay the weave on Neckcloth")
    p.hold_material(roughness=88, subsurface=15)
    p.fill()
    p.hold("3a3a30")
    set_ink(project, material=percents(58, 0, 8, 45), channels=("colour", "roughness", "wet"))
    p.fill(0.45 * measure(p, Wash("clouds", 0.6, 1.0, 0.16, (0, 0, 0), 1.0, 30.0, 6)))
    p.fill(0.5 * measure(p, Wash("hollows", 0.5, 1.0, 0.4, (0, 0, 0), 1.0)))
    p.hold("d0c6ae")
    p.fill(0.2 * measure(p, Wash("peaks", 0.5, 1.0, 0.4, (0, 0, 0), 1.0)))
