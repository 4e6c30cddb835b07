"""What is done to whole parts while blocking: copies, mirrors, arrays, groups, names, order, baking.

Each function makes one undo step.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
from scipy.spatial import KDTree

from kneten.core.arrays import F64, Progress
from kneten.core.live.recipes import Laid, Recipe
from kneten.core.mesh import Mesh
from kneten.core.pieces import connected, taken_apart
from kneten.core.placing import kneaded
from kneten.core.seam import made_whole
from kneten.core.transform import Transform
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import Group, new_id


def said(parts: Sequence[Part]) -> str:
    """The parts' name, or how many they are."""
    return parts[0].name if len(parts) == 1 else f"{len(parts)} parts"


# -- copies -------------------------------------------------------------------------------------


def twin(part: Part, name: str, transform: Transform, linked: bool) -> Part:
    """One more part like another; a linked one shares its clay. Of laid pieces it is clay: they sit where they are."""
    if isinstance(part.recipe, Laid):
        part = replace(part, recipe=None)
    if linked:
        return replace(part, id=new_id(), name=name, transform=transform)
    return replace(part, id=new_id(), name=name, transform=transform, mesh=part.mesh.copy(), mesh_id=new_id())


def add(project: Project, name: str, parts: Iterable[Part], choose: bool = True) -> list[Part]:
    """Put parts into the scene under free names, in one step."""
    taken: list[str] = []
    added = []
    for part in parts:
        free = project.scene.free_name(part.name, taken)
        taken.append(free)
        added.append(replace(part, name=free))
    project.change(name, project.scene.with_parts((*project.scene.parts, *added)))
    if choose and added:
        project.choose_all(part.id for part in added)
    return added


def copy(project: Project, parts: Sequence[Part], linked: bool = False, way: F64 | None = None) -> list[Part]:
    """Copies in the same place, or moved by a way (3,)."""
    move = np.zeros(3) if way is None else way
    kind = "Link" if linked else "Copy"
    return add(
        project,
        f"{kind} {said(parts)}",
        [twin(p, p.name, p.transform.moved(move), linked) for p in parts],
    )


def mirror(
    project: Project, parts: Sequence[Part], point: F64, normal: F64, linked: bool = False
) -> list[Part]:
    """Mirrored copies across a plane of the scene, through a point (3,) and square to `normal` (3,); names change sides with them."""
    return add(
        project,
        f"Mirror {said(parts)}",
        [twin(p, other_side(p.name), p.transform.mirrored(point, normal), linked) for p in parts],
    )


def flip(project: Project, parts: Sequence[Part], point: F64, normal: F64) -> None:
    """The parts themselves, mirrored across a plane of the scene: through a point (3,), square to `normal` (3,)."""
    new = (replace(p, transform=p.transform.mirrored(point, normal)) for p in parts)
    project.change(f"Flip {said(parts)}", project.scene.with_part(*new))


SIDES = (("left", "right"), ("Left", "Right"), (" L", " R"))


def other_side(name: str) -> str:
    """A name with left and right exchanged."""
    for one, other in SIDES:
        for a, b in ((one, other), (other, one)):
            if name.endswith(a) or f"{a} " in name:
                head, _, tail = name.rpartition(a)
                return head + b + tail
    return name


def unlink(project: Project, parts: Sequence[Part]) -> None:
    """Give linked copies clay of their own."""
    new = [replace(p, mesh=p.mesh.copy(), mesh_id=new_id()) for p in parts]
    project.change(f"Unlink {said(parts)}", project.scene.with_part(*new))


def make_whole(project: Project, part: Part, point: F64, normal: F64) -> None:
    """A half made whole across a plane of the scene through a point (3,), square to `normal` (3,), welded along it.

    Raises `SeamError`.
    """
    axes = part.transform.axes()
    mesh = made_whole(part.mesh.settled(), part.transform.to_part(point[None])[0], normal @ axes)
    project.replace_mesh(part.id, mesh, f"Mirror and weld {part.name}", recipe=None)


# -- live parts ---------------------------------------------------------------------------------


def add_live(project: Project, wanted: str, recipe: Recipe, mesh: Mesh, transform: Transform) -> Part:
    """A new live part, in hand."""
    part = Part(project.scene.free_name(wanted), mesh, transform=transform, recipe=recipe)
    project.change(f"Add {part.name}", project.scene.with_parts((*project.scene.parts, part)))
    project.choose(part.id)
    return part


def bake(project: Project, parts: Sequence[Part]) -> None:
    """End being live: the clay stays, and remembers its recipe."""
    live = [p for p in parts if p.recipe is not None]
    if live:
        new = (replace(p, recipe=None, was=p.recipe) for p in live)
        project.change(f"Bake {said(live)}", project.scene.with_part(*new))


def begin_again(project: Project, part: Part, mesh: Mesh) -> Part:
    """A live part from what clay was baked from, beside it; the clay stays, hidden."""
    assert part.was is not None
    live = Part(
        project.scene.free_name(part.name), mesh, transform=part.transform, recipe=part.was, group=part.group
    )
    scene = project.scene.with_part(replace(part, visible=False))
    project.change(f"Begin {part.name} again", scene.with_parts((*scene.parts, live)))
    project.choose(live.id)
    return live


# -- taking apart -------------------------------------------------------------------------------


def split_by_origin(project: Project, part: Part, pieces: dict[int, Mesh]) -> list[Part]:
    """Make a joined part several again, one for each that it was joined from."""
    return _exchange(
        project,
        part,
        [(part.origins[k] if k < len(part.origins) else part.name, m) for k, m in pieces.items()],
        f"Split {part.name} by origin",
    )


def pieces_by_origin(mesh: Mesh, progress: Progress) -> dict[int, Mesh]:
    """Closed pieces of a joined mesh by label; their own labels are spent."""
    labels = np.zeros(mesh.n_vertices, np.uint8) if mesh.origin is None else mesh.origin
    found = taken_apart(mesh, labels, progress)
    for piece in found.values():
        piece.origin = None
    return found


def pieces_by_connection(mesh: Mesh, progress: Progress) -> dict[int, Mesh]:
    """What hangs together, each as a mesh of its own, the largest first."""
    return taken_apart(mesh, connected(mesh), progress)


def split_connected(project: Project, part: Part, pieces: dict[int, Mesh]) -> list[Part]:
    """Make what does not hang together parts of their own."""
    named = [(part.name if k == 0 else f"{part.name} piece", m) for k, m in sorted(pieces.items())]
    return _exchange(project, part, named, f"Split {part.name} into pieces")


def _exchange(project: Project, part: Part, pieces: Sequence[tuple[str, Mesh]], name: str) -> list[Part]:
    rest = project.scene.with_parts(p for p in project.scene.parts if p.id != part.id)
    scene = rest
    new = []
    for wanted, mesh in pieces:
        piece = Part(
            scene.free_name(wanted), mesh, transform=part.transform, group=part.group, pivot=part.pivot
        )
        scene = scene.with_parts((*scene.parts, piece))
        new.append(piece)
    project.change(name, scene)
    project.choose_all(p.id for p in new)
    return new


# -- joining ------------------------------------------------------------------------------------


SAMPLES = 3000
"""Vertices of all parts that tell how symmetric they are together."""

CLEARLY = 0.5
"""Another space is taken for the whole where it is off by less than this share of what that of the part in hand is."""

ALIKE = 0.01
"""Off by less than this, against its size, what is in a space is symmetric there, as far as samples tell."""


def common_space(parts: Sequence[Part]) -> Transform:
    """The space in which several parts together are most symmetric across x: that of the first, unless another is clearly better.

    Body and limbs that were mirrored across the world's middle would else be one part whose own middle is that of a foot,
    and whose symmetry is about that foot.
    """
    every = max(sum(part.mesh.n_vertices for part in parts) // SAMPLES, 1)
    places = np.concatenate(
        [part.transform.to_scene(part.mesh.positions[::every].astype(np.float64)) for part in parts]
    )
    low, high = places.min(axis=0), places.max(axis=0)
    size = float(np.linalg.norm(high - low))
    tree = KDTree(places)

    def off(space: Transform) -> float:
        own = space.to_part(places)
        apart = tree.query(space.to_scene(own * (-1.0, 1.0, 1.0)))[0]
        return float(np.mean(apart)) / max(size, 1e-9)

    first = parts[0].transform
    here = off(first)
    if here < ALIKE:
        return first
    _, y, z = ((low + high) / 2).tolist()
    world = Transform((0.0, y, z))
    best = min((*(part.transform for part in parts[1:]), world), key=off)
    return best if off(best) < CLEARLY * here else first


def in_space_of(parts: Sequence[Part], first: Part) -> list[Mesh]:
    """Meshes of parts in the space of one of them, each vertex labelled with its part's number."""
    back = np.linalg.inv(first.transform.matrix())
    found = []
    labels = origin_labels(parts)
    for part, label in zip(parts, labels, strict=True):
        mesh = part.mesh.settled()
        if part.transform != first.transform:
            mesh = kneaded(mesh, back @ part.transform.matrix())
        origin = np.full(mesh.n_vertices, label[0], np.uint8)
        if part.mesh.origin is not None and len(label) > 1:
            origin = np.array(label, np.uint8)[np.minimum(part.mesh.origin, len(label) - 1)]
        values = {**mesh.own_values(), "origin": origin}
        found.append(Mesh(mesh.topology, mesh.positions, normals=mesh.normals, **values))
    return found


def origin_labels(parts: Sequence[Part]) -> list[list[int]]:
    """For each part the new labels of what it was joined from, or of itself."""
    labels = []
    at = 0
    for part in parts:
        count = max(len(part.origins), 1)
        labels.append([min(at + k, 255) for k in range(count)])
        at += count
    return labels


def origin_names(parts: Sequence[Part]) -> tuple[str, ...]:
    """The names that go with these labels."""
    return tuple(itertools.chain.from_iterable(p.origins or (p.name,) for p in parts))[:256]


def put_together(
    project: Project,
    first: Part,
    mesh: Mesh,
    gone: Iterable[str],
    origins: tuple[str, ...],
    name: str,
    keep: bool = False,
    space: Transform | None = None,
) -> Part:
    """Exchange several parts for the one made of them, in the first one's place.

    With `keep` the others stay, hidden, and the first one's own clay changes. `space` is that of the mesh, if it is not the
    first one's; there is no beginning again from a recipe then.
    """
    ids = set(gone) - {first.id}
    was = first.recipe or first.was if space in (None, first.transform) else None
    body = replace(first, mesh=mesh, mesh_id=new_id(), recipe=None, was=was, origins=origins)
    if space is not None:
        body = replace(body, transform=space)
    scene: Scene = project.with_mesh(first.id, mesh) if not project.scene.linked(first) else project.scene
    parts = []
    for part in scene.parts:
        if part.id == first.id:
            parts.append(body)
        elif part.id in ids:
            if keep:
                parts.append(replace(part, visible=False))
        else:
            parts.append(part)
    project.change(name, scene.with_parts(parts))
    project.choose(body.id)
    return body


# -- the list -----------------------------------------------------------------------------------


def group(project: Project, parts: Sequence[Part], wanted: str = "Group") -> Group:
    """Put parts into a new group."""
    taken = {g.name for g in project.scene.groups}
    name, count = wanted, 2
    while name in taken:
        name, count = f"{wanted} {count}", count + 1
    new = Group(name)
    scene = project.scene.with_part(*(replace(p, group=new.id) for p in parts))
    project.change(f"Group {said(parts)}", _tidied(replace(scene, groups=(*scene.groups, new))))
    return new


def into_group(project: Project, parts: Sequence[Part], group_id: str) -> None:
    """Move parts into a group, or out of all with ""."""
    scene = project.scene.with_part(*(replace(p, group=group_id) for p in parts))
    project.change(f"{'Group' if group_id else 'Ungroup'} {said(parts)}", _tidied(scene))


def change_group(project: Project, group_id: str, what: str, new: Group) -> None:
    """Give a group another name, budget, ..."""
    groups = tuple(new if g.id == group_id else g for g in project.scene.groups)
    project.change(f"{what} {new.name}", replace(project.scene, groups=groups))


def _tidied(scene: Scene) -> Scene:
    """Without empty groups; the parts of a group stand together."""
    used = {part.group for part in scene.parts}
    groups = tuple(g for g in scene.groups if g.id in used)
    first = {g: i for i, g in reversed(list(enumerate(p.group for p in scene.parts)))}
    order = sorted(range(len(scene.parts)), key=lambda i: (first[g] if (g := scene.parts[i].group) else i, i))
    return replace(scene, groups=groups, parts=tuple(scene.parts[i] for i in order))


def show_all(project: Project, parts: Sequence[Part], visible: bool) -> None:
    """Show or hide several."""
    changed = [p for p in parts if p.visible != visible]
    if changed:
        new = (replace(p, visible=visible) for p in changed)
        project.change(f"{'Show' if visible else 'Hide'} {said(changed)}", project.scene.with_part(*new))


def lock(project: Project, parts: Sequence[Part], locked: bool) -> None:
    """Keep parts from being changed, or let them."""
    new = (replace(p, locked=locked) for p in parts)
    project.change(f"{'Lock' if locked else 'Unlock'} {said(parts)}", project.scene.with_part(*new))


def reorder(project: Project, part_id: str, before: str | None) -> None:
    """Move a part before another in the list, or to its end."""
    part = project.scene.part(part_id)
    rest = [p for p in project.scene.parts if p.id != part_id]
    at = len(rest) if before is None else next(i for i, p in enumerate(rest) if p.id == before)
    rest.insert(at, part)
    if [p.id for p in rest] != [p.id for p in project.scene.parts]:
        project.change(f"Order of {part.name}", project.scene.with_parts(rest))


def sort_by_name(project: Project) -> None:
    """Order all parts by name, numbers by their value; groups stay together."""

    def key(part: Part) -> list[tuple[int, str]]:
        words = re.split(r"(\d+)", part.name.lower())
        return [(int(w), "") if w.isdigit() else (0, w) for w in words]

    project.change(
        "Sort parts by name", _tidied(project.scene.with_parts(sorted(project.scene.parts, key=key)))
    )


def rename_by_pattern(project: Project, parts: Sequence[Part], pattern: str) -> None:
    """Name parts by a pattern.

    `*` stands for the name a part has, `#` for its number (as many digits as there are), `@` for its side.
    Raises `ValueError` when the pattern is empty.
    """
    pattern = " ".join(pattern.split())
    if not pattern:
        raise ValueError("the pattern is empty; * stands for the old name, # for a number")
    others = {p.name for p in project.scene.parts} - {p.name for p in parts}
    new = []
    for number, part in enumerate(parts, 1):
        x = float(sum(b[0] for b in part.bounds())) / 2
        side = "left" if x > 1e-3 else "right" if x < -1e-3 else "middle"
        name = re.sub("#+", lambda m, n=number: str(n).zfill(len(m[0])), pattern)  # type: ignore[misc]
        name = name.replace("*", part.name).replace("@", side)
        stem, count = name, 2
        while name in others:
            name, count = f"{stem} {count}", count + 1
        others.add(name)
        new.append(replace(part, name=name))
    project.change(f"Rename {said(parts)}", project.scene.with_part(*new))


def set_budget(project: Project, part: Part, budget: int) -> None:
    """The number of vertices a part should stay under; 0 for none."""
    new = replace(part, budget=max(budget, 0))
    project.change(f"Budget of {part.name}", project.scene.with_part(new))


def set_note(project: Project, part: Part, note: str) -> None:
    """Keep a note with a part."""
    if note != part.note:
        project.change(f"Note on {part.name}", project.scene.with_part(replace(part, note=note)))


# -- meeting ------------------------------------------------------------------------------------


def meeting_pairs(parts: Sequence[Part]) -> list[tuple[Part, Part]]:
    """Pairs of parts whose boxes overlap: the only ones that can run into each other."""
    boxes = [part.bounds() for part in parts]
    found = []
    for i, j in itertools.combinations(range(len(parts)), 2):
        (a_low, a_high), (b_low, b_high) = boxes[i], boxes[j]
        if (a_low < b_high).all() and (b_low < a_high).all():
            found.append((parts[i], parts[j]))
    return found


def depth_between(one: Part, other: Part, progress: Progress) -> float:
    """How deep two parts run into each other, in the scene's millimetres; 0 when they do not.

    The greatest depth of a vertex of either inside the other.
    """
    from kneten.core.distance import signed_distances

    deepest = 0.0
    for a, b in ((one, other), (other, one)):
        points = a.transform.to_scene(a.mesh.positions)
        low, high = b.bounds()
        near = points[((points > low) & (points < high)).all(axis=1)]
        if len(near):
            off = signed_distances(b.transform.to_part(near), b.mesh, progress)
            deepest = max(deepest, float(-off.min()) * b.transform.scale)
    return deepest if deepest > 1e-6 else 0.0


def placed(parts: Sequence[Part]) -> list[Mesh]:
    """Meshes of parts where they stand in the scene."""
    out = []
    for part in parts:
        points = part.transform.to_scene(part.mesh.positions.astype(np.float64))
        out.append(Mesh(part.mesh.topology, points.astype(np.float32)))
    return out
