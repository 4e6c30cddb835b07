"""Rows of copies: along a line, in a circle, along a guide or a strand. Each function makes one undo step."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64
from kneten.core.guides import held
from kneten.core.live.curves import lengths_along, travelling_frames
from kneten.core.live.strand import Strands
from kneten.core.transform import from_axes
from kneten.document.blocking import add, said, twin
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import guide_places


def along_line(project: Project, parts: Sequence[Part], count: int, way: F64, linked: bool) -> list[Part]:
    """Further copies, each one step (3,) farther."""
    steps = range(1, count)
    copies = [twin(p, p.name, p.transform.moved(way * k), linked) for k in steps for p in parts]
    return add(project, f"Array of {said(parts)}", copies)


def around(
    project: Project,
    parts: Sequence[Part],
    count: int,
    degrees: float,
    axis: F64,
    pivot: F64,
    linked: bool,
) -> list[Part]:
    """Further copies turned about an axis (3,) through `pivot` (3,), spread evenly over an angle (a full turn closes)."""
    full = abs(abs(degrees) - 360) < 1e-9
    step = degrees / (count if full else max(count - 1, 1))
    copies = [
        twin(p, p.name, p.transform.turned_about(axis, step * k, pivot), linked)
        for k in range(1, count)
        for p in parts
    ]
    return add(project, f"Circle of {said(parts)}", copies)


@dataclass(frozen=True, eq=False)
class Course:
    """A line through the scene that copies follow.

    Attributes
    ----------
    name : str
    places : (k, 3) float64
    ups : (k, 3) float64 or None
        Which way is off the clay at each place; None for lines that lie on none.
    closed : bool
    """

    name: str
    places: F64
    ups: F64 | None = None
    closed: bool = False


def courses(scene: Scene, but: Iterable[str] = ()) -> list[Course]:
    """What copies can follow: the guides of visible parts, and live strands of parts that are not in `but`."""
    found = []
    left_out = set(but)
    for part in scene.parts:
        if not part.visible:
            continue
        for number, guide in enumerate((g for g in scene.guides if g.part == part.id), 1):
            places = guide_places(guide, part.mesh)
            if len(places) < 2:
                continue
            on = held(part.mesh, places)
            normals = np.einsum("kc,kcx->kx", on.shares, part.mesh.normals[on.corners]).astype(np.float64)
            name = guide.note or f"Guide {number} on {part.name}"
            ups = normals @ part.transform.axes().T
            found.append(Course(name, part.transform.to_scene(places), ups, guide.closed))
        if isinstance(part.recipe, Strands) and part.id not in left_out:
            for number, strand in enumerate(part.recipe.strands, 1):
                name = part.name if len(part.recipe.strands) == 1 else f"{part.name} {number}"
                path = part.transform.to_scene(part.recipe.path(strand)[0])
                found.append(Course(name, path, None, strand.closed))
    return found


def along_path(
    project: Project,
    parts: Sequence[Part],
    count: int,
    course: Course,
    linked: bool,
    standing: bool = False,
) -> list[Part]:
    """So many parts at even distances along a course, themselves the first ones: their pivots lie on it.

    Each part's own y goes along the course, or stands up from the clay (`standing`) with its z along it.
    """
    path, closed = course.places, course.closed
    tangent, side, up = travelling_frames(path, closed)
    if course.ups is not None:
        up = course.ups - (course.ups * tangent).sum(axis=1, keepdims=True) * tangent
        up /= np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-12)
        side = np.cross(tangent, up)
    else:
        up = -up
    frames = np.stack([np.cross(up, tangent), up, tangent] if standing else [side, tangent, up], -1)
    long = lengths_along(path, closed)
    whole = np.concatenate([path, path[:1]]) if closed else path
    found = []
    for k in range(count):
        at = long[-1] * k / (count if closed else max(count - 1, 1))
        place = np.array([np.interp(at, long, whole[:, a]) for a in range(3)])
        row = min(int(np.abs(long[: len(path)] - at).argmin()), len(path) - 1)
        for part in parts:
            axes = frames[row] * np.array([-1.0 if part.transform.mirror else 1.0, 1.0, 1.0])
            turned = from_axes(axes, np.zeros(3), part.transform.scale)
            foot = turned.to_scene(np.array(part.pivot)[None])[0]
            found.append((part, turned.moved(place - foot)))
    first, rest = found[: len(parts)], found[len(parts) :]
    with project.at_once(f"{said(parts)} along {course.name}"):
        moved = (replace(part, transform=place) for part, place in first)
        project.change(f"Move {said(parts)}", project.scene.with_part(*moved))
        return add(project, "Copies", [twin(part, part.name, place, linked) for part, place in rest])
