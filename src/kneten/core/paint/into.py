"""One into another: what clay has of one thing as numbers from 0 to 1, to be made another thing of."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32
from kneten.core.falloff import PRESSURE_LINEAR, Points, clean_points, curve_table
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import OF_MATERIAL
from kneten.core.paint.layers import open_paint
from kneten.core.paint.light import DECODED, lightness_colour_hue
from kneten.core.paint.packed import COVER, MATERIAL_COVER
from kneten.core.paint.reading import greys
from kneten.core.stack import Layer, Stack

OF_LAYER = ("raised", "sunk", "cover")

SOURCES: dict[str, tuple[str, str]] = {
    "mask": ("Mask", "How far clay is masked"),
    "raised": (
        "Raised by the layer",
        "How far the layer that is recorded on raises the clay, its highest place 100 %",
    ),
    "sunk": ("Sunk by the layer", "How far that layer sinks the clay, its deepest place 100 %"),
    "cover": ("Paint of the layer", "How much that layer's paint covers"),
    "lightness": ("Lightness", "How light the colour is"),
    "colourfulness": ("Colourfulness", "How far the colour is from grey"),
    "red": ("Red", "How much red is in the colour"),
    "green": ("Green", "How much green is in it"),
    "blue": ("Blue", "How much blue is in it"),
    "roughness": ("Roughness", "How dull the clay is"),
    "metalness": ("Metalness", "Where it is metal"),
    "subsurface": ("Subsurface", "How deep light gets into it"),
    "wet": ("Wet", "How wet it is"),
    "opacity": ("Opacity", "How far it hides what is behind"),
}
"""What may become something else: names, and what they are."""

TARGETS: dict[str, tuple[str, str]] = {
    "mask": ("Mask", "Masks as far"),
    "colour": ("Colour in hand", "Lays the colour in hand as far, on what paint goes to"),
    "height": ("Height", "Raises the clay as far; below 0 mm it sinks"),
    "roughness": ("Roughness", "Makes the clay as dull"),
    "metalness": ("Metalness", "Makes it as much metal"),
    "subsurface": ("Subsurface", "Lets light as deep into it"),
    "wet": ("Wet", "Makes it as wet"),
    "opacity": ("Opacity", "Makes it hide what is behind as far"),
}
"""What it may become."""

MOST_COLOURFUL = 0.32
"""Colourfulness that counts as all there is: that of the strongest red on a screen and more."""


@dataclass(frozen=True)
class Into:
    """What becomes what.

    Attributes
    ----------
    source, target : str
        Keys of `SOURCES` and `TARGETS`.
    inverted : bool
    curve : tuple of points
        What becomes of a number between 0 and 1.
    height : float
        Millimetres that 1 raises.
    """

    source: str = "raised"
    target: str = "colour"
    inverted: bool = False
    curve: Points = PRESSURE_LINEAR
    height: float = 1.0

    @property
    def usable(self) -> bool:
        """Whether its words and numbers make sense."""
        known = self.source in SOURCES and self.target in TARGETS
        return known and abs(self.height) < 1e4 and len(clean_points(self.curve)) >= 2


def told(into: Into, mesh: Mesh, stack: Stack | None) -> F32:
    """The numbers, (n,) from 0 to 1, that what is to become something else gives, curved and inverted.

    Raises `ValueError`, whose text says what is missing.
    """
    numbers = np.clip(_source(into.source, mesh, stack), 0, 1)
    if into.inverted:
        numbers = 1 - numbers
    table = curve_table(into.curve)
    return np.interp(numbers, np.linspace(0, 1, len(table)), table).astype(np.float32)


def _source(source: str, mesh: Mesh, stack: Stack | None) -> F32:
    if source == "mask":
        if mesh.mask is None:
            raise ValueError("Nothing is masked: mask first what is to become something else.")
        return mesh.mask
    if source in OF_LAYER:
        if stack is None or stack.recorded is None:
            raise ValueError("No layer is recorded on: choose the layer that is to become something else.")
        if source == "cover":
            return _cover(stack, stack.recorded, mesh)
        return _height(stack, stack.recorded, mesh, source == "sunk")
    if source in OF_MATERIAL:
        return np.asarray(mesh.value("material")[:, OF_MATERIAL.index(source)] / np.float32(255), np.float32)
    colour = mesh.value("colour")
    if source == "lightness":
        return greys(DECODED[colour[:, :3]])
    if source == "colourfulness":
        return np.asarray(lightness_colour_hue(colour[:, :3])[:, 1] / MOST_COLOURFUL, np.float32)
    at = ("red", "green", "blue", "opacity").index(source)
    return np.asarray(colour[:, at] / np.float32(255), np.float32)


def _cover(stack: Stack, layer: Layer, mesh: Mesh) -> F32:
    n = mesh.n_vertices
    held = open_paint(stack, mesh) if layer.id == stack.hand else None
    dense = layer.paint.dense(n) if held is None and stack.level == stack.top else held
    if dense is None or not dense[:, [COVER, MATERIAL_COVER]].any():
        raise ValueError(
            f"{layer.name} has no paint here: go to the highest level, or choose a layer that has."
        )
    return np.asarray(dense[:, [COVER, MATERIAL_COVER]].max(axis=1) / np.float32(255), np.float32)


def _height(stack: Stack, layer: Layer, mesh: Mesh, sunk: bool) -> F32:
    taken = stack.taken(mesh.positions)
    relief = taken.layer(layer.id).relief(taken.level)
    if not relief:
        raise ValueError(
            f"{layer.name} moves no clay on this level: choose a layer or a level where it does."
        )
    ground = taken.ground(taken.level)
    moves = np.zeros_like(ground.surface)
    ground.add(relief, 1.0, moves)
    height = np.einsum("ij,ij->i", moves, mesh.normals) * (-1 if sunk else 1)
    most = float(height.max(initial=0.0))
    if most <= 0:
        raise ValueError(f"{layer.name} {'sinks' if sunk else 'raises'} no clay on this level.")
    return np.asarray(np.maximum(height, 0) / most, np.float32)
