"""What clay may have besides places: each kind of value declared once, here, and carried by all that makes clay.

To add one is a line in `VALUES` and an attribute of `Mesh`. Whoever makes clay from clay takes its values through the
functions below, whatever they are; `tests/core/test_values.py` has one that nothing in the project knows.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kneten.core.arrays import AnyArray

if TYPE_CHECKING:
    from kneten.core.mesh import Mesh


@dataclass(frozen=True)
class Value:
    """A kind of value.

    Attributes
    ----------
    kind : type
        Of number.
    by_face : bool
        One for each face; otherwise one for each vertex.
    columns : int
        Numbers in a row; 0 for a plain number.
    blank : int or tuple of ints
        What clay has that has none; of each column, where they differ.
    label : bool
        A name, not an amount: between several, what most of them have; otherwise their mean.
    stays : bool
        Goes along to clay that is made anew, joined or taken apart; not so what only says how clay is shown.
    guards : bool
        Says what tools may not touch.
    around : str
        What a face's row goes around: "corners", with equal shares of the columns for each, or "edges", with a bit
        for each, from its corner to the next, or a number for each where there are four columns. Clay made anew of
        other faces has none of it.
    """

    kind: type[np.generic]
    by_face: bool = False
    columns: int = 0
    blank: int | tuple[int, ...] = 0
    label: bool = False
    stays: bool = True
    guards: bool = False
    around: str = ""

    def shape(self, rows: int) -> tuple[int, ...]:
        """The shape of an array of so many rows."""
        return (rows, self.columns) if self.columns else (rows,)

    def none(self, rows: int) -> AnyArray:
        """What clay has that has none, (rows, ...)."""
        return np.full(self.shape(rows), self.blank, self.kind)

    def cast(self, table: AnyArray) -> AnyArray:
        """Numbers (n, ...) worked out in double precision as this kind has them, rounded and held in its range."""
        if np.issubdtype(self.kind, np.integer):
            limits = np.iinfo(self.kind)  # type: ignore[type-var]
            table = np.rint(np.clip(table, limits.min, limits.max))
        return np.ascontiguousarray(table.reshape(self.shape(len(table))).astype(self.kind))


CLAY = (187, 176, 161)
"""The colour of clay that has not been painted, in sRGB: grey-buff stoneware."""

PLAIN = (115, 0, 0, 0)
"""Roughness, metalness, subsurface and wet, of 255, of clay that has no material of its own: dull, and nothing else."""

VALUES: dict[str, Value] = {
    "colour": Value(np.uint8, columns=4, blank=(*CLAY, 255)),
    "material": Value(np.uint8, columns=4, blank=PLAIN),
    "mask": Value(np.float32, guards=True),
    "origin": Value(np.uint8, label=True),
    "seat": Value(np.float32, columns=3),
    "paint": Value(np.uint8, columns=9, stays=False),
    "regions": Value(np.uint16, by_face=True, label=True),
    "hidden": Value(np.uint8, by_face=True, label=True, stays=False, guards=True),
    "uv": Value(np.float32, by_face=True, columns=8, around="corners"),
    "seams": Value(np.uint8, by_face=True, label=True, around="edges"),
    "creases": Value(np.uint8, by_face=True, columns=4, label=True, around="edges"),
}
"""All kinds, by the names of the attributes of `Mesh` and of the arrays in files."""


def checked(values: Mapping[str, AnyArray | None]) -> dict[str, Any]:
    """Those that there are, (n, ...) each. Raises `TypeError` where a name is not declared."""
    strange = values.keys() - VALUES.keys()
    if strange:
        raise TypeError(f"no such values: {', '.join(sorted(strange))}")
    return existing(values)


def existing(values: Mapping[str, AnyArray | None]) -> dict[str, Any]:
    """Those values, (n, ...) each, that there are."""
    return {name: value for name, value in values.items() if value is not None}


def of_vertices() -> list[str]:
    """The names of values that vertices have."""
    return [name for name, value in VALUES.items() if not value.by_face]


def of_faces() -> list[str]:
    """The names of values that faces have."""
    return [name for name, value in VALUES.items() if value.by_face]


def staying(values: Mapping[str, AnyArray]) -> dict[str, Any]:
    """Those, (n, ...) each, that go along to clay made anew."""
    return {name: value for name, value in values.items() if VALUES[name].stays}


def of_any_faces(values: Mapping[str, AnyArray]) -> dict[str, Any]:
    """Those, (n, ...) each, that mean something on other faces, too: what goes around a face is only that face's."""
    return {name: value for name, value in values.items() if not VALUES[name].around}


def of_round_faces(values: Mapping[str, AnyArray]) -> dict[str, Any]:
    """Those, (n, ...) each, that go around faces."""
    return {name: value for name, value in values.items() if VALUES[name].around}


def taken_round(values: Mapping[str, AnyArray], corners: AnyArray, sizes: AnyArray) -> dict[str, Any]:
    """Values, (n, ...) each, of faces that go round their corners in another order, or leave some out.

    Parameters
    ----------
    corners : (n, 4) int
        Which corner each one was; -1 where a triangle has none.
    sizes : (n,) int
        How many corners each face had.
    """
    made = dict(values)
    known = np.maximum(corners, 0)
    for name, value in values.items():
        if VALUES[name].around == "corners":
            table = np.take_along_axis(value.reshape(len(value), 4, -1), known[:, :, None], axis=1)
            made[name] = np.where(corners[:, :, None] >= 0, table, 0).astype(value.dtype).reshape(value.shape)
        elif VALUES[name].around == "edges":
            new = np.where(corners[:, 3] >= 0, 4, 3)
            turned = np.zeros_like(value)
            for c in range(4):
                here, there = known[:, c], known[np.arange(len(known)), (c + 1) % new]
                forth, back = (here + 1) % sizes == there, (there + 1) % sizes == here
                edge = np.where(forth, here, there)
                has = (forth | back) & (corners[:, c] >= 0)
                if value.ndim > 1:
                    turned[:, c] = np.where(has, value[np.arange(len(value)), edge], 0)
                else:
                    turned |= np.where(has, ((value >> edge) & 1) << c, 0).astype(value.dtype)
            made[name] = turned
    return made


def turned_over(values: Mapping[str, AnyArray], faces: AnyArray) -> dict[str, Any]:
    """Values, (n, ...) each, of faces (f, 4) that are turned to run round the other way, as `placing.turned_out` does."""
    around = of_round_faces(values)
    if not around:
        return dict(values)
    quads = faces[:, 3] >= 0
    corners = np.where(quads[:, None], [0, 3, 2, 1], [0, 2, 1, -1])
    return {**values, **taken_round(around, corners, np.where(quads, 4, 3))}


def rows_of(values: Mapping[str, AnyArray], vertices: Any, faces: Any) -> dict[str, Any]:
    """The rows of some vertices (k,) and some faces (m,)."""
    return {
        name: np.ascontiguousarray(value[faces if VALUES[name].by_face else vertices])
        for name, value in values.items()
    }


def put_together(meshes: Sequence[Mesh], names: Iterable[str]) -> dict[str, Any]:
    """Values of several meshes one after the other; what some of them have, the others have blank."""
    found = {}
    for name in names:
        if VALUES[name].stays and any(getattr(mesh, name) is not None for mesh in meshes):
            found[name] = np.concatenate([mesh.value(name) for mesh in meshes])
    return found


def between(name: str, value: AnyArray, corners: AnyArray, shares: AnyArray) -> AnyArray:
    """Values between others.

    Parameters
    ----------
    corners : (n, k) int
        Rows of `value`.
    shares : (n, k) float
        How much each counts; they add up to one.
    """
    if VALUES[name].label:
        nearest = corners[np.arange(len(corners)), np.argmax(shares, axis=1)]
        return np.ascontiguousarray(value[nearest])
    table = value.reshape(len(value), -1).astype(np.float64)
    return VALUES[name].cast(np.einsum("nkc,nk->nc", table[corners], shares.astype(np.float64)))


def met_most(value: AnyArray, rows: AnyArray) -> AnyArray:
    """What most of some rows have, the first of them where several are met as often.

    Parameters
    ----------
    rows : (n, k) int
        Rows of `value`; -1 where there are fewer.
    """
    found = value[np.maximum(rows, 0)]
    same = found[:, :, None] == found[:, None, :]
    if same.ndim > 3:
        same = same.all(axis=3)
    votes = (same & (rows >= 0)[:, None, :]).sum(axis=2) * (rows >= 0)
    return np.ascontiguousarray(found[np.arange(len(found)), np.argmax(votes, axis=1)])
