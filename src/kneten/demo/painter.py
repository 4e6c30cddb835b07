"""A painter's hands for scripts: strokes of paint, washes by form, spots, on layers with names."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.core.paint.ink import Colour, Material
from kneten.core.paint.materials import PRESETS
from kneten.core.paint.packed import COVER, Paint
from kneten.core.paint.wash import Wash
from kneten.core.stack import Stack
from kneten.demo.sculptor import FRONT, Line, Sculptor
from kneten.document.layering import add_layer, change_layer, change_layers, record
from kneten.document.opening import stack_of
from kneten.document.painting import bake_wash, filled, lay_wash, measured_on, set_blend, set_ink
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import Reference

Way = tuple[float, float, float]

OTHER = (1.0, 0.0, 0.0)
"""The way one looks at the right side."""

SHEER, PACE = 46, 23
"""Paint of washes that covers less than the one, of 255, is wiped off, and the rest is told in steps of the other: nobody sees
it, and files grow by it."""


def hexed(code: str) -> Colour:
    """A colour of six hexadecimal digits."""
    r, g, b = (int(code[k : k + 2], 16) for k in (0, 2, 4))
    return (r, g, b)


def toned(code: str) -> tuple[float, float, float]:
    """The same as shares."""
    r, g, b = hexed(code)
    return (r / 255, g / 255, b / 255)


def percents(*shares: int) -> Material:
    """A material of roughness, metalness, subsurface and wet in percents."""
    rough, metal, deep, wet = (round(2.55 * share) for share in shares)
    return (rough, metal, deep, wet)


def pinned(project: Project, name: str, data: bytes, ending: str, note: str) -> Reference:
    """Put a picture's file on the board."""
    key = hashlib.sha256(data).hexdigest()[:24] + ending
    project.change_settings(originals={**project.settings.originals, key: data})
    picture = Reference(name, key, place=(150.0, 120.0 + 270.0 * len(project.scene.references)), note=note)
    project.change(
        f"Lay out {name}", project.scene.with_things("references", (*project.scene.references, picture))
    )
    return picture


class Painter(Sculptor):
    """Paints the part in hand of a project."""

    rng = np.random.default_rng(17)

    def hold(self, colour: str, *channels: str) -> None:
        """Take a colour in hand, by its digits or as a material of ours with all that it is."""
        if colour in PRESETS:
            preset = PRESETS[colour]
            wanted = channels or ("colour", "roughness", "metalness", "subsurface", "wet")
            set_ink(self.project, colour=preset.colour, material=preset.material, channels=wanted)
        else:
            set_ink(self.project, colour=hexed(colour), channels=channels or ("colour",))

    def hold_material(self, *channels: str, **percent: int) -> None:
        """Take in hand what clay is made of alone, without a colour."""
        now = dict(zip(("roughness", "metalness", "subsurface", "wet"), (0, 0, 0, 0), strict=True))
        now.update({name: round(2.55 * share) for name, share in percent.items()})
        rough, metal, deep, wet = now.values()
        set_ink(self.project, material=(rough, metal, deep, wet), channels=channels or tuple(percent))

    def fill(self, share: AnyArray | None = None) -> None:
        """Lay what is in hand on all of the part, or on each vertex as much as a share (n,) says."""
        amount = None if share is None else np.asarray(share, np.float32)
        filled(self.project, self.part, self.project.settings.ink, amount, f"Fill {self.part.name}")

    @contextmanager
    def layer(self, name: str, blend: str = "normal", strength: float = 1.0) -> Iterator[None]:
        """What is painted within goes to a new layer."""
        made = add_layer(self.project, self.part, name)
        if blend != "normal":
            set_blend(self.project, self.part, made.id, blend)
        yield
        record(self.project, self.part, "")
        if strength < 1:
            change_layer(self.project, self.part, made.id, f"Strength of {name}", strength=strength)

    def wash(self, name: str, wash: Wash, blend: str = "normal", live: bool = True) -> str:
        """Paint that follows the form, on a layer of its own; gives its id. Baked it can be painted on."""
        measure = measured_on(self.part, wash, Progress())
        made = lay_wash(self.project, self.part, wash, measure)
        layer_id = made.id
        if blend != "normal":
            set_blend(self.project, self.part, layer_id, blend)
        held = self.part
        sheer = stack_of(held).layer(layer_id).paint.dense(held.mesh.n_vertices)
        sheer[:, COVER] -= sheer[:, COVER] % PACE
        sheer[sheer[:, COVER] < SHEER] = 0

        def named(stack: Stack) -> Stack:
            return stack.with_layer(replace(stack.layer(layer_id), name=name, paint=Paint.of(sheer)))

        change_layers(self.project, held, named, f"Name {name}")
        if not live:
            bake_wash(self.project, self.part, layer_id)
        return layer_id

    @contextmanager
    def on(self, layer_id: str) -> Iterator[None]:
        """What is painted within goes to a layer that there is."""
        record(self.project, self.part, layer_id)
        yield
        record(self.project, self.part, "")

    @contextmanager
    def one_side(self) -> Iterator[None]:
        """What is painted within is not mirrored."""
        held = self.project.settings.symmetry
        self.project.change_settings(symmetry=(False, False, False))
        yield
        self.project.change_settings(symmetry=held)

    def near(self, colour: str, by: float = 7.0) -> None:
        """Take in hand a colour a little off the one named: no two strokes are of the same."""
        off = self.rng.normal(0, by, 3) * 0.5 + self.rng.normal(0, by)
        r, g, b = (int(np.clip(code + d, 0, 255)) for code, d in zip(hexed(colour), off, strict=True))
        set_ink(self.project, colour=(r, g, b), channels=("colour",))

    def zone(
        self,
        colour: str,
        line: Line,
        radius: float,
        strength: float = 0.3,
        view: Way = FRONT,
        times: int = 3,
        stray: float = 0.25,
    ) -> None:
        """Several soft strokes over each other along a line, none where the other was."""
        for k in range(times):
            self.near(colour)
            moved = [
                (float(x), float(y), float(z))
                for x, y, z in np.array(line) + self.rng.normal(0, stray * radius, (len(line), 3))
            ]
            self.stroke(
                "paint", moved, radius * self.rng.uniform(0.75, 1.15), strength / (1 + 0.3 * k),
                view=view, falloff="dome" if k else "soft", variant="wash",
            )  # fmt: skip

    def spots(
        self,
        colours: Sequence[str],
        where: Sequence[tuple[Way, float, int]],
        sizes: tuple[float, float],
        strength: float,
        view: Way = FRONT,
    ) -> None:
        """Spots in crowds: about places, as far around and so many as these say; most of them small."""
        for (x, y, z), spread, count in where:
            for _ in range(count):
                dx, dy = self.rng.normal(0, spread, 2)
                across = sizes[0] + (sizes[1] - sizes[0]) * self.rng.random() ** 3
                self.near(str(self.rng.choice(list(colours))), 4)
                at = np.array([x + dx, y + dy, z])
                bit = at + self.rng.normal(0, 0.45 * across, 3)
                self.stroke(
                    "paint", [tuple(at.tolist()), tuple(bit.tolist())], across,
                    strength * self.rng.uniform(0.5, 1.0), view=view, taper=False, variant="wash",
                )  # fmt: skip

    def thread(self, colour: str, line: Line, radius: float, strength: float, view: Way = FRONT) -> None:
        """A thin line that trembles and fades: a vein, a scratch."""
        self.near(colour, 4)
        moved = np.array(line) + self.rng.normal(0, 0.8 * radius, (len(line), 3))
        self.stroke(
            "paint", [tuple(at) for at in moved.tolist()], radius, strength, view=view, variant="wash"
        )

    def choose(self, name: str) -> Part:
        """Take a part in hand by its name."""
        part = next(one for one in self.project.scene.parts if one.name == name)
        self.project.choose(part.id)
        return part
