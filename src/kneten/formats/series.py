"""Shapes as a series of files, each the whole face in one of them, told apart by their names; vertices are known by their order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.stack import Layer
from kneten.document.driving import shapes_of
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.shapes import add_shape, recorded_shape, where_seen, with_dials
from kneten.formats.exchange import pieces_of, read_pieces, usual_space, write_file
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.space import Space
from kneten.formats.targets import told_in_hand

NEUTRAL = "Neutral"

STILL = 1e-5
"""Mm: a vertex that a file has no further away than this has not moved."""


def file_name(name: str) -> str:
    """A shape's name as a file can have it."""
    kept = "".join(c if c.isalnum() or c in " -_+()." else "-" for c in name).strip(" .")
    return kept or "Shape"


def write_series(
    folder: Path, scene: Scene, part_ids: Sequence[str], space: Space, ending: str, progress: Progress
) -> int:
    """Write some parts with all dials at rest, and with each of their shapes wholly there: a file for each. How many.

    Raises
    ------
    FormatError
        With a message for the user.
    Cancelled
        Through `progress`.
    """
    held = {key: one for key, one in shapes_of(scene).items() if any(part in one.layers for part in part_ids)}
    if not held:
        raise FormatError("there is no shape to write.")
    rest = {key: 0.0 for key, one in held.items() if not one.shape.drivers}
    taken: set[str] = set()
    states: list[tuple[str, Mapping[str, float]]] = [(NEUTRAL, rest)]
    states += [(one.name, rest | where_seen(scene, key)) for key, one in held.items()]
    for k, (name, dials) in enumerate(states):
        progress.report(k / len(states), name)
        stem = file_name(name)
        stem = (
            stem
            if stem not in taken
            else next(n for j in range(2, 9999) if (n := f"{stem} {j}") not in taken)
        )
        taken.add(stem)
        there = with_dials(scene, dials)
        write_file(folder / f"{stem}{ending}", pieces_of([there.part(key) for key in part_ids], space))
    return len(states)


@dataclass(frozen=True, eq=False)
class ReadShape:
    """A shape that was read.

    Attributes
    ----------
    places : dict
        Where the vertices (n, 3) of parts are in it, by the parts' ids, in their own axes and order.
    """

    name: str
    places: Mapping[str, F32]


def read_series(
    paths: Sequence[Path], parts: Sequence[Part], space: Space | None, progress: Progress
) -> list[ReadShape]:
    """The shapes that files have of parts; a file called as the neutral face is left out.

    Raises
    ------
    FormatError
        When a file cannot be read, or none of its objects has as many vertices as a part.
    Cancelled
        Through `progress`.
    """
    found = []
    for k, path in enumerate(paths):
        progress.report(k / len(paths), path.stem)
        measure = space or usual_space(path)
        if path.stem.lower() == NEUTRAL.lower():
            continue
        places = places_in(read_pieces(path, Progress()).pieces, parts, measure)
        if not places:
            counts = ", ".join(f"{part.name} {part.mesh.n_vertices:,}" for part in parts)
            raise FormatError(
                f"{path.name}: no object in it has as many vertices, in as many faces, as {counts}: "
                "a shape must have the vertices of what it is a shape of, in their order."
            )
        found.append(ReadShape(path.stem, places))
    return found


def places_in(pieces: Sequence[Piece], parts: Sequence[Part], space: Space) -> dict[str, F32]:
    """Where the vertices (n, 3) of parts are in what was read, by the parts' ids: objects are known by their names, or by how many vertices they have."""
    places: dict[str, F32] = {}
    left = list(pieces)
    for by_name in (True, False):
        for part in parts:
            if part.id in places:
                continue
            positions, faces = part.mesh.source_arrays()
            for piece in left:
                if (by_name and piece.name != part.name) or len(piece.positions) != len(positions):
                    continue
                if len(piece.faces) not in (len(faces), int((faces[:, 3] >= 0).sum()) + len(faces)):
                    continue
                into = space.into(piece.positions).astype(np.float64)
                own = part.transform.to_part(into).astype(np.float32)
                places[part.id] = np.ascontiguousarray(own[part.mesh.topology.source_vertex])
                left.remove(piece)
                break
    return places


def bring_series(project: Project, shapes: Sequence[ReadShape]) -> list[str]:
    """Make shapes of what was read, at rest, told from the face as it is with its dials at rest: one step. Their ids."""
    made = []
    with project.at_once(f"Import {len(shapes)} shapes"):
        for one in shapes:
            layers = {}
            for key, places in one.places.items():
                part = project.scene.part(key)
                layers[key] = Layer("", 0.0, reliefs=told_in_hand(part, places, STILL))
            made.append(add_shape(project, list(one.places), one.name, on=layers, step=f"Import {one.name}"))
    return made


def take_form(project: Project, places: Mapping[str, F32], name: str) -> None:
    """Have the shapes that strokes go to bring parts, by their ids, to places (n, 3): one step. What poses and other dials do is undone before.

    Raises
    ------
    FormatError
        When strokes go to no shape.
    """
    free = [project.scene.part(key).name for key in places if not recorded_shape(project.scene.part(key))]
    if free:
        raise FormatError(f"record a shape on {free[0]} first: it is what the difference is kept in.")
    with project.at_once(name):
        for key, there in places.items():
            part = project.scene.part(key)
            moved = np.abs(there - part.mesh.positions).max(axis=1) > STILL
            project.move_vertices(key, np.where(moved[:, None], there, part.mesh.positions), name)
