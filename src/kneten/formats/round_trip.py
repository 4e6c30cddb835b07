"""Round trip: a level of a part goes out as an open file, is changed elsewhere, and is taken back.

What comes back is told by name and by vertex order. Where only vertices have moved, they move on the level that was
sent, and all finer detail follows. Where the faces are others, it is a new base, and the detail is carried over to it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.carry import CarryWish, offered_levels, offered_reach, source_of
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.document.carried_parts import Carried, carry
from kneten.document.opening import stack_of
from kneten.document.scene import Part, Scene
from kneten.document.settings import Sent
from kneten.document.things import KeptMask, SentForm, new_id
from kneten.formats.exchange import placed_faces, read_pieces, usual_space
from kneten.formats.pieces import Piece
from kneten.formats.space import Space

ROUNDED = 2e-6
"""Share of a part's size that numbers in a file may be off by: what has moved less has not been moved."""


@dataclass(frozen=True, eq=False)
class Back:
    """What came back for one part, or as a new one.

    Attributes
    ----------
    part : str
        Id of the part it belongs to; "" for a new one.
    name : str
        Of a new part, or of a new base.
    moved, own, both : int
        Vertices that have moved there, here since, and both; 0 when all are where they were.
    form : SentForm or None
        The level as the file has it.
    mesh, stack : Mesh, Stack or None
        The part's clay with the moves; or the new part's.
    carried : Carried or None
        A new base with what was carried over to it.
    """

    part: str
    name: str
    moved: int = 0
    own: int = 0
    both: int = 0
    form: SentForm | None = None
    mesh: Mesh | None = None
    stack: Stack | None = None
    carried: Carried | None = None


def stamp_of(path: Path) -> str:
    """What tells a file from a later state of it; "" where there is none."""
    try:
        found = path.stat()
    except OSError:
        return ""
    return f"{found.st_mtime_ns} {found.st_size}"


def level_mesh(part: Part, level: int, progress: Progress) -> Mesh:
    """A level of a part, with all that was done to it. For workers: the part is not changed."""
    return stack_of(part).stepped(part.mesh, level, progress)[1]


def level_piece(part: Part, mesh: Mesh, space: Space) -> Piece:
    """A level's mesh where its part stands in the scene, in its source order."""
    positions, faces = mesh.source_arrays()
    places: F64 = part.transform.to_scene(positions.astype(np.float64))
    colour = None if mesh.colour is None else mesh.in_source_order(mesh.colour)
    return Piece(part.name, space.out_of(places), placed_faces(faces, part.transform), colour)


def sent_form(part: Part, level: int, mesh: Mesh) -> SentForm:
    """What is kept of a level that goes out."""
    return SentForm(part.id, level, part.transform, mesh.in_source_order(mesh.positions))


def _sorted_rows(faces: I32) -> AnyArray:
    """Each face's corners ascending, the faces in order of these."""
    rows = np.sort(faces, axis=1)
    return np.asarray(rows[np.lexsort(rows.T)])


def same_shape(faces: I32, count: int, piece: Piece) -> bool:
    """Whether an object has as many vertices and, in any order, the same faces (f, 4); quads may be cut into triangles."""
    if len(piece.positions) != count:
        return False
    if len(piece.faces) == len(faces):
        return bool(np.array_equal(_sorted_rows(piece.faces), _sorted_rows(faces)))
    quads = faces[faces[:, 3] >= 0]
    if len(piece.faces) != len(faces) + len(quads) or (piece.faces[:, 3] >= 0).any():
        return False
    halves = [quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], quads[:, [0, 1, 3]], quads[:, [1, 2, 3]]]
    known = np.concatenate([faces[faces[:, 3] < 0, :3], *halves])
    return bool(np.isin(_keys(piece.faces[:, :3], count), _keys(known, count)).all())


def _keys(triangles: I32, count: int) -> AnyArray:
    a, b, c = np.sort(triangles, axis=1).astype(object if count > 2_000_000 else np.int64).T
    return np.asarray((a * count + b) * count + c)


def plain_name(name: str) -> str:
    """A name as other programs may have changed it: small letters, no signs, no number for copies at its end."""
    found = re.sub(r"[^0-9a-z]+", "_", name.casefold()).strip("_")
    return re.sub(r"_\d{3}$", "", found)


def matched(pieces: Sequence[Piece], sent: Sequence[Sent]) -> list[tuple[Piece, Sent | None]]:
    """Which object is which part: by name, by the name other programs make of it, or as the only one left.

    An object whose name was taken already by one before it is new.
    """
    left = list(sent)
    found: dict[int, Sent] = {}
    for alike in (lambda name: name, plain_name):
        for i, piece in enumerate(pieces):
            if i in found:
                continue
            one = next((s for s in left if alike(s.name) == alike(piece.name)), None)
            if one is not None:
                found[i] = one
                left.remove(one)
    rest = [i for i in range(len(pieces)) if i not in found]
    if len(rest) == 1 and len(left) == 1:
        found[rest[0]] = left[0]
    return [(piece, found.get(i)) for i, piece in enumerate(pieces)]


@dataclass(frozen=True, eq=False)
class Merged:
    """Moves made elsewhere and moves made here, put together.

    Attributes
    ----------
    stack, mesh : Stack, Mesh
        The level in hand before is in hand again, with all its detail.
    moved, own, both : int
        Vertices that have moved elsewhere, that have moved here since, and that have done so both.
    form : SentForm
        The level as the file has it.
    """

    stack: Stack
    mesh: Mesh
    moved: int
    own: int
    both: int
    form: SentForm


def moved_back(
    part: Part, level: int, places: F32, progress: Progress, sent: SentForm | None = None, whose: str = ""
) -> Merged:
    """A part with the vertices of one level moved to where a file has them, (n, 3) in the scene and in source order.

    Parameters
    ----------
    sent : SentForm, optional
        The level as it was when it went out. Without it nothing tells what was done here since: the file counts.
    whose : str
        What counts for vertices that have moved here as well: "theirs" is the file, "mine" what is here, "both" adds
        the file's moves only where nothing was done here. With "" vertices that moved both ways keep all as it is.
    """
    stack, mesh = stack_of(part), part.mesh.copy()
    hand = stack.level
    stack, mesh = stack.stepped(mesh, level, progress)
    stood = part.transform if sent is None else sent.transform
    wanted = stood.to_part(places.astype(np.float64))[mesh.topology.source_vertex]
    here = mesh.positions.astype(np.float64)
    before = here if sent is None else sent.positions[mesh.topology.source_vertex].astype(np.float64)
    least = ROUNDED * max(float(np.linalg.norm(np.ptp(at, axis=0))) for at in (wanted, before))
    theirs = np.abs(wanted - before).max(axis=1) > least
    # What goes through a layer and back is rounded more often than what goes through a file.
    mine = np.abs(here - before).max(axis=1) > 4 * least
    both = theirs & mine
    rows = np.flatnonzero({"theirs": theirs | mine, "mine": theirs & False}.get(whose, theirs & ~mine))
    if not whose and both.any():
        rows = rows[:0]
    mesh = mesh.copy()
    mesh.positions[rows] = wanted[rows]
    mesh.refresh_all()
    form = SentForm(part.id, level, stood, mesh.in_source_order(wanted.astype(np.float32)))
    stack, mesh = stack.stepped(mesh, hand, progress)
    stack = stack.taken(mesh.positions) if hand == level else stack
    return Merged(stack, mesh, int(theirs.sum()), int(mine.sum()), int(both.sum()), form)


def taken_back(
    path: Path,
    sent: Sequence[Sent],
    scene: Scene,
    kept: Sequence[KeptMask],
    progress: Progress,
    whose: str = "",
) -> tuple[list[Back], list[str]]:
    """Read a file that was sent, and make of it what its parts are to be.

    Parameters
    ----------
    sent : sequence of Sent
        What was sent to this file.
    scene : Scene
        With copies of the parts: they are read by a worker.
    whose : str
        What counts where both sides have moved something: see `moved_back`.

    Returns
    -------
    found : list of Back
    notices : list of str
        What the user should know: names that clashed, new bases.

    Raises
    ------
    FormatError
    Cancelled
        Through `progress`.
    """
    space = usual_space(path)
    found = read_pieces(path, progress)
    notices = [f"{path.name}: {text}" for text in found.notices]
    known = [one for one in sent if any(part.id == one.part for part in scene.parts)]
    backs: list[Back] = []
    taken: set[str] = set()
    for piece, one in matched(found.pieces, known):
        places = space.into(piece.positions)
        if one is None:
            name = scene.free_name(piece.name or path.stem, taken)
            taken.add(name)
            if name != piece.name:
                notices.append(f"{path.name}: {piece.name or 'an object without a name'} came in as {name}.")
            backs.append(Back("", name, mesh=Mesh.from_faces(places, piece.faces, piece.colour)))
            continue
        part = scene.part(one.part)
        stack = stack_of(part)
        level = min(one.level, stack.top)
        shape = stack.levels[level].topology
        if same_shape(_source_faces(stack, level), shape.n_vertices, piece):
            known_form = next(
                (
                    form
                    for form in scene.sent_forms
                    if (form.part, form.level, len(form.positions)) == (part.id, level, shape.n_vertices)
                ),
                None,
            )
            made = moved_back(part, level, places, progress, known_form, whose)
            backs.append(
                Back(part.id, part.name, made.moved, made.own, made.both, made.form, made.mesh, made.stack)
            )
            continue
        name = scene.free_name(f"{part.name}, new base", taken)
        taken.add(name)
        backs.append(_new_base(part, name, places, piece, kept, progress))
        notices.append(
            f"{path.name}: {part.name} has other faces; it came in as {name}, with the detail carried over."
        )
    came = {back.part for back in backs}
    gone = [one.name for one in known if one.part not in came]
    if gone:
        notices.append(f"{path.name}: {', '.join(gone)} is not in it any more; nothing of that was changed.")
    return backs, notices


def _source_faces(stack: Stack, level: int) -> I32:
    shape = stack.levels[level].topology
    names = np.append(shape.source_vertex, np.int32(-1))
    return np.asarray(names[shape.faces])


def _new_base(
    part: Part, name: str, places: F32, piece: Piece, kept: Sequence[KeptMask], progress: Progress
) -> Back:
    local = part.transform.to_part(places.astype(np.float64)).astype(np.float32)
    mesh = Mesh.from_faces(local, placed_faces(piece.faces, part.transform), piece.colour)
    base = Part(name, mesh, id=new_id(), mesh_id=new_id(), transform=part.transform, group=part.group)
    finest = stack_of(part).levels[-1].topology.n_vertices
    clay = source_of(part.mesh, None, np.eye(4), progress).mesh
    wish = CarryWish(offered_reach(clay, mesh), levels=min(offered_levels(finest, mesh.n_vertices), 7))
    return Back(part.id, name, mesh=mesh, carried=carry(part, base, kept, wish, progress))
