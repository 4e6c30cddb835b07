"""*Tarn's moods*: shapes of his face with corrections, left and right apart, his eyes, teeth and whiskers going along; moods as milestones.

He is put together from *Tarn, painted* each time he is opened: what the moves below do is what strokes on a recorded shape would.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.shapes import Driver
from kneten.core.primitives import ball
from kneten.core.transform import Transform
from kneten.demo.files import demo_project
from kneten.demo.sculptor import Line, smooth_line
from kneten.demo.tarn import EYE
from kneten.demo.tarn_mended import mend_in_pairs, mend_singly
from kneten.document.driving import shapes_of
from kneten.document.layering import exchange_level
from kneten.document.look import Look
from kneten.document.mending import mean_kind, moving_layer
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.shape_sides import split_shape, take_along
from kneten.document.shapes import add_shape, dial, drivers_now, neutral, record_shape
from kneten.render.still import encoded, render_still
from kneten.render.style import Style

TITLE = "Tarn's moods"

LEVEL = 1
"""The level that the shapes are sculpted on: it has 104,000 vertices."""

CAMERA = Camera(target=(0.0, -8.0, 60.0), distance=560.0, yaw=24.0, pitch=2.0)

Place = tuple[float, float, float]

JAW = 9.5
"""Degrees that the jaw drops."""


class Face:
    """The clay of a face, from which moves are told.

    Attributes
    ----------
    places, normals : (n, 3) float64
        At rest.
    """

    def __init__(self, mesh: Mesh) -> None:
        self.places: F64 = mesh.positions.astype(np.float64)
        self.normals: F64 = mesh.normals.astype(np.float64)

    def near(self, at: Place, radii: Place) -> F64:
        """How near places are to one, (n,), 1 there and fading over three lengths, mm; the same on the other side."""
        found = np.zeros(len(self.places))
        for side in (1.0, -1.0) if at[0] else (1.0,):
            off = (self.places - np.multiply(at, (side, 1, 1))) / radii
            found = np.maximum(found, np.exp(-(off * off).sum(axis=1)))
        return np.where(found > 0.004, found, 0.0)

    def pull(self, at: Place, radii: Place, way: Place) -> F64:
        """What is near a place, and its twin, drawn along."""
        ways = np.where(self.places[:, :1] < 0, np.multiply(way, (-1, 1, 1)), way)
        # In the middle both sides meet.
        soft = np.clip(np.abs(self.places[:, :1]) / 4.0, 0, 1) if at[0] and way[0] else 1.0
        ways = ways * np.concatenate([np.ones((len(ways), 1)) * soft, np.ones((len(ways), 2))], axis=1)
        return self.near(at, radii)[:, None] * ways

    def swell(self, at: Place, radii: Place, high: float) -> F64:
        """What is near a place swollen, mm."""
        return self.near(at, radii)[:, None] * high * self.normals

    def folds(self, lines: Sequence[Line], width: float, deep: float) -> F64:
        """Skin gathered along lines and their twins: a crease in each, and a swelling beside it."""
        gone = np.zeros(len(self.places))
        for given in lines:
            points = smooth_line(given, 1.0)
            for side in (1.0, -1.0) if max(abs(x) for x, _, _ in given) > 1e-6 else (1.0,):
                way = points * (side, 1, 1)
                near = np.flatnonzero(
                    (self.places > way.min(axis=0) - 5 * width).all(axis=1)
                    & (self.places < way.max(axis=0) + 5 * width).all(axis=1)
                )
                off = np.full(len(near), np.inf)
                at = np.zeros(len(near))
                for k, point in enumerate(way):
                    far = np.linalg.norm(self.places[near] - point, axis=1)
                    at = np.where(far < off, k / max(len(way) - 1, 1), at)
                    off = np.minimum(off, far)
                # It begins and ends softly.
                ends = np.clip(4 * at, 0, 1) * np.clip(4 * (1 - at), 0, 1)
                share = off / width
                gone[near] += deep * ends * (0.7 * np.exp(-((share - 2.1) ** 2)) - np.exp(-share * share))
        return gone[:, None] * self.normals

    def lids(self, upper: float, lower: float) -> F64:
        """The lids turned about the eyes, the upper one down and the lower one up, in degrees."""
        gone = np.zeros_like(self.places)
        for side in (1.0, -1.0):
            off = self.places - np.multiply(EYE, (side, 1, 1))
            far = np.hypot(off[:, 1], off[:, 2])
            rise = np.degrees(np.arctan2(off[:, 1], off[:, 2]))
            aside = np.abs(off[:, 0]) / 17.0
            # Most over the middle of the eye; skin slides over the ball, and what is deep stays.
            share = _faded(aside, 0.6, 1.3) * _faded(-far, -14.0, -11.5) * _faded(far, 20.0, 32.0)
            above = np.where(rise > -8.0, _faded(rise, 16.0, 78.0), 0.0)
            below = np.where(rise <= -8.0, _faded(-rise, 30.0, 70.0), 0.0)
            turn = np.radians(share * (lower * below - upper * above))
            y = off[:, 1] * np.cos(turn) + off[:, 2] * np.sin(turn)
            z = off[:, 2] * np.cos(turn) - off[:, 1] * np.sin(turn)
            gone[:, 1] += y - off[:, 1]
            gone[:, 2] += z - off[:, 2]
        return gone

    def jaw(self, degrees: float, deep: float) -> F64:
        """The jaw turned down about its joint, and the lips parted: what lies between them goes in, mm."""
        x, y, z = np.abs(self.places[:, 0]), self.places[:, 1], self.places[:, 2]
        line = _lips(x)
        soft = 0.8 + 0.5 * np.clip(x - 24.0, 0, None)
        share = np.clip((line - y) / soft + 0.5, 0, 1)
        share = share * share * (3 - 2 * share)
        share *= _faded(-z, -62.0, -6.0) * _faded(-y, 74.0, 104.0) * _faded(x, 60.0, 96.0)
        gone = hung(self.places, degrees * share)
        # The lips' edges roll in, the lower one's more.
        gap = np.abs(y - line) / 3.4
        inside = np.clip(1 - gap * gap, 0, 1) * _faded(x, 18.0, 34.0) * (z > 100.0)
        gone[:, 2] -= deep * inside
        return gone


def hung(places: F64, degrees: AnyArray) -> F64:
    """Moves (n, 3) of what is turned down about the joint of the jaw, by degrees (n,)."""
    turn = np.radians(degrees)
    up, out = places[:, 1] + 22.0, places[:, 2] - 2.0
    gone = np.zeros_like(places)
    gone[:, 1] = up * np.cos(turn) - out * np.sin(turn) - up
    gone[:, 2] = up * np.sin(turn) + out * np.cos(turn) - out
    return gone


def _faded(values: AnyArray, first: float, last: float) -> AnyArray:
    """1 up to a value, 0 from another on, softly between."""
    share = np.clip((np.asarray(values) - last) / (first - last), 0, 1)
    return share * share * (3 - 2 * share)


def _lips(x: AnyArray) -> AnyArray:
    """How high the lips meet, so far from the middle."""
    return np.interp(x, [0, 8, 16, 24, 32, 44, 60], [-40.6, -41.5, -42.2, -43.8, -45.3, -45.6, -44.0])


def _scowl(f: Face) -> F64:
    return (
        f.pull((18, 44, 108), (20, 13, 30), (-4.5, -7.0, 2.0))
        + f.pull((46, 42, 102), (18, 12, 30), (-3.0, -5.5, 1.0))
        + f.swell((0, 42, 112), (6, 12, 16), 2.0)
        + f.folds([[(6, 58, 98), (5.5, 46, 108), (4, 36, 118)], [(12, 56, 97), (12, 46, 105)]], 1.7, 2.4)
    )


def _brows_in(f: Face) -> F64:
    lines: list[Line] = [
        [(-30, 70, 84), (0, 73, 80), (30, 70, 84)],
        [(-26, 61, 92), (0, 63, 88), (26, 61, 92)],
    ]
    return f.pull((13, 46, 108), (17, 16, 30), (1.0, 9.0, 0.0)) + f.folds(lines, 2.0, 1.8)


def _brows_out(f: Face) -> F64:
    return f.pull((60, 44, 94), (19, 16, 34), (1.5, 9.0, -1.0)) + f.folds(
        [[(44, 66, 90), (62, 66, 82), (76, 58, 72)]], 2.0, 1.6
    )


def _cheeks(f: Face) -> F64:
    rays: list[Line] = [
        [(62, 25, 84), (72, 27, 72)],
        [(61, 20, 86), (72, 17, 74)],
        [(60, 15, 88), (70, 8, 80)],
    ]
    return (
        f.pull((52, 0, 98), (22, 13, 26), (1.0, 7.5, 2.0))
        + f.swell((50, 6, 98), (17, 9, 22), 2.5)
        + f.lids(0.0, 9.0)
        + f.folds(rays, 1.4, 1.5)
    )


def _nose(f: Face) -> F64:
    lines: list[Line] = [
        [(0, 36, 118), (9, 33, 117), (17, 25, 116)],
        [(0, 29, 122), (10, 26, 121), (18, 18, 119)],
        [(24, 10, 116), (33, -2, 118), (42, -12, 114)],
    ]
    return (
        f.pull((15, 12, 128), (14, 15, 24), (0.5, 6.5, -1.0))
        + f.pull((22, -20, 130), (16, 12, 22), (1.5, 5.0, 0.5))
        + f.folds(lines, 1.6, 2.2)
    )


def _smile(f: Face) -> F64:
    return (
        f.pull((29, -45, 113), (13, 8, 20), (7.0, 8.5, -5.0))
        + f.pull((44, -45, 92), (14, 11, 24), (5.0, 7.0, -3.0))
        + f.pull((34, -32, 124), (17, 12, 22), (4.0, 6.0, -0.5))
        + f.pull((12, -46, 121), (9, 7, 16), (2.5, 0.5, -1.0))
        + f.swell((56, -10, 96), (15, 13, 22), 7.0)
        + f.folds([[(38, -6, 110), (50, -22, 102), (56, -42, 90)]], 2.4, 3.0)
    )


def _sad(f: Face) -> F64:
    return (
        f.pull((29, -46, 113), (12, 9, 20), (1.0, -9.0, -1.5))
        + f.pull((44, -48, 90), (14, 12, 24), (1.0, -8.0, -1.0))
        + f.pull((32, -34, 124), (17, 10, 20), (0.5, -5.0, 0.0))
        + f.pull((0, -47, 121), (15, 7, 16), (0.0, 3.0, 1.5))
        + f.swell((38, -60, 96), (12, 9, 18), 3.0)
        + f.folds([[(36, -48, 108), (38, -58, 100), (34, -66, 96)]], 1.8, 2.2)
    )


def _lip_up(f: Face) -> F64:
    return f.pull((20, -32, 130), (14, 10, 20), (1.0, 7.0, 1.5)) + f.folds(
        [[(28, 2, 116), (42, -14, 112), (48, -28, 104)]], 2.0, 2.0
    )


def _pucker(f: Face) -> F64:
    return (
        f.pull((32, -46, 108), (15, 11, 26), (-9.0, 0.0, 5.0))
        + f.pull((0, -47, 121), (14, 9, 16), (0.0, 0.0, 7.0))
        + f.folds([[(10, -50, 122), (11, -58, 118)], [(20, -50, 120), (22, -57, 114)]], 1.5, 1.4)
    )


def _chin(f: Face) -> F64:
    return f.pull((0, -60, 118), (24, 12, 24), (0.0, 5.5, 3.5)) + f.pull(
        (0, -48, 121), (24, 7, 18), (0, 3.0, 2.0)
    )


SHAPES: dict[str, tuple[str, Callable[[Face], F64]]] = {
    "4": ("", _scowl),
    "1": ("", _brows_in),
    "2": ("sides", _brows_out),
    "43": ("sides", lambda f: f.lids(37.0, 9.0)),
    "5": ("", lambda f: f.lids(-11.0, -5.0) + f.pull((40, 44, 102), (20, 10, 26), (0.0, 2.5, 0.0))),
    "6": ("sides", _cheeks),
    "9": ("", _nose),
    "10": ("", _lip_up),
    "12": ("sides", _smile),
    "15": ("", _sad),
    "17": ("", _chin),
    "18": ("", _pucker),
    "26": ("", lambda f: f.jaw(JAW, 15.0)),
    "34": (
        "",
        lambda f: f.swell((60, -34, 86), (20, 22, 32), 9.0) + f.swell((0, -55, 119), (24, 9, 18), 3.0),
    ),
}
"""By the numbers of the coding: whether each side has a dial, and what moves."""

BORDER = 16.0
"""Mm between what only the left side has and what only the right."""

Correct = Callable[[Face], F64]

CORRECTIONS: tuple[tuple[tuple[str, ...], Correct], ...] = (
    # With the jaw down the corners have further to go, and less skin to bunch.
    (
        ("Jaw drop", "Lip corner puller left"),
        lambda f: _left(f, f.pull((44, -42, 92), (15, 12, 24), (-4.0, -2.5, 3.0)) + f.swell((60, -14, 90), (16, 14, 22), -2.0)),
    ),
    (
        ("Jaw drop", "Lip corner puller right"),
        lambda f: _right(f, f.pull((44, -42, 92), (15, 12, 24), (-4.0, -2.5, 3.0)) + f.swell((60, -14, 90), (16, 14, 22), -2.0)),
    ),
    # Drawn down and up at once the brows gather more than they move.
    (
        ("Brow lowerer", "Inner brow raiser"),
        lambda f: f.swell((11, 50, 104), (8, 9, 18), 2.6) + f.folds([[(0, 60, 92), (10, 57, 98), (20, 52, 103)]], 1.8, 2.0),
    ),
)  # fmt: skip
"""Names of what each follows, and what it adds."""

MOODS: dict[str, dict[str, float]] = {
    "Content": {
        "Lip corner puller left": 0.9, "Lip corner puller right": 0.9, "Cheek raiser left": 0.6, "Cheek raiser right": 0.6,
        "Eye closure left": 0.25, "Eye closure right": 0.25,
    },
    "Grim": {"Brow lowerer": 1.0, "Nose wrinkler": 0.5, "Lip corner depressor": 0.9, "Chin raiser": 0.8},
    "Startled": {
        "Inner brow raiser": 1.0, "Outer brow raiser left": 1.0, "Outer brow raiser right": 1.0, "Upper lid raiser": 1.0,
        "Jaw drop": 0.7, "Lip pucker": 0.4,
    },
    "Winks": {
        "Eye closure left": 1.0, "Cheek raiser left": 0.9, "Lip corner puller left": 1.0, "Outer brow raiser right": 0.9,
        "Lip corner puller right": 0.2,
    },
    "Grieves": {"Inner brow raiser": 0.9, "Brow lowerer": 0.5, "Lip corner depressor": 1.0, "Eye closure left": 0.4, "Eye closure right": 0.4},
    "Laughs": {
        "Jaw drop": 1.0, "Lip corner puller left": 1.0, "Lip corner puller right": 1.0, "Cheek raiser left": 1.0,
        "Cheek raiser right": 1.0, "Upper lip raiser": 0.5, "Brow lowerer": 0.3,
    },
}  # fmt: skip
"""Dials by the names of the shapes; the last is how he looks at one."""


def _left(face: Face, moves: F64) -> F64:
    return moves * _faded(-face.places[:, :1], -4.0, 4.0)


def _right(face: Face, moves: F64) -> F64:
    return moves * _faded(face.places[:, :1], -4.0, 4.0)


def teeth() -> dict[str, Mesh]:
    """Two rows of blunt teeth behind the lips, each tooth a piece of its own."""
    rows = {}
    for name, high, step in (("Teeth above", -37.5, 1.0), ("Teeth below", -44.0, -1.0)):
        places, faces, count = [], [], 0
        for k in range(-4, 5):
            long = 11.0 if abs(k) == 2 else 7.5
            positions, corners = ball(1.0, 6)
            x = 5.4 * k
            at = np.array([x, high - 0.25 * step * long, 111.5 - 0.022 * x * x - (1.0 if step < 0 else 0.0)])
            places.append(positions * (2.6, long / 2, 2.5) + at)
            faces.append(np.where(corners >= 0, corners + count, -1))
            count += len(positions)
        table = np.concatenate(faces).astype(np.int32)
        colour = np.tile(np.array([[206, 190, 150, 255]], np.uint8), (count, 1))
        rows[name] = Mesh.from_faces(np.concatenate(places).astype(np.float32), table, colour)
    return rows


def sculpt(project: Project, body_id: str, name: str, moves: Mapping[str, AnyArray], action: str = "") -> str:
    """A new shape, sculpted and at rest; moves (n, 3) of each part's clay at rest, by its id. Its id."""
    key = add_shape(project, list(moves), name, action)
    for part_id, some in moves.items():
        part = project.scene.part(part_id)
        project.move_vertices(part_id, (part.mesh.positions + some).astype(np.float32), name)
    record_shape(project, "")
    neutral(project, [body_id])
    return key


def _eyes(part: Part, degrees: float, axis: int) -> F32:
    """Moves of both eyes turned about an upright axis, 1, or one across, 0."""
    gone = np.zeros((part.mesh.n_vertices, 3))
    places = part.transform.to_scene(part.mesh.positions.astype(np.float64))
    turn = np.radians(degrees)
    for side in (1.0, -1.0):
        rows = places[:, 0] * side > 0
        off = places[rows] - np.multiply(EYE, (side, 1, 1))
        a, b = (off[:, 0], off[:, 2]) if axis == 1 else (off[:, 1], off[:, 2])
        moved = off.copy()
        moved[:, 0 if axis == 1 else 1] = a * np.cos(turn) + b * np.sin(turn)
        moved[:, 2] = b * np.cos(turn) - a * np.sin(turn)
        gone[rows] = moved - off
    return gone.astype(np.float32)


STILL = 1e-4
"""Mm below which nothing moves."""

LOOKS = {"61": (22.0, 1), "62": (-22.0, 1), "63": (14.0, 0), "64": (-14.0, 0)}
"""Degrees that the eyes turn, about an upright axis, 1, or one across, 0."""


def _look_both_ways(project: Project, eyes: Part, ids: Mapping[str, str]) -> None:
    """Corrections that keep an eye round that looks aside and up, or down, at once: one turn after the other."""
    for aside, level in itertools.product(("61", "62"), ("63", "64")):
        across, up = (_eyes(eyes, *LOOKS[key]) for key in (aside, level))
        raised = replace(eyes, mesh=Mesh(eyes.mesh.topology, eyes.mesh.positions + up))
        both = up + _eyes(raised, *LOOKS[aside])
        names = [ACTIONS[key].name for key in (aside, level)]
        more = (both - across - up).astype(np.float64)
        rows = np.flatnonzero(np.abs(more).max(axis=1) > STILL).astype(np.int32)
        layer = moving_layer(eyes, rows, more[rows])
        drivers = tuple(Driver(ids[name]) for name in names)
        add_shape(project, [eyes.id], " + ".join(names), drivers=drivers, on={eyes.id: layer})


def _ids(project: Project) -> dict[str, str]:
    return {one.name: key for key, one in shapes_of(project.scene).items()}


def moods(project: Project, body_id: str, pictures: bool, progress: Progress) -> None:
    """Dial each mood and keep it as a milestone, with a picture if wanted."""
    for k, (name, dials) in enumerate(MOODS.items()):
        progress.report(0.7 + 0.3 * k / len(MOODS), name)
        neutral(project, [body_id])
        ids = _ids(project)
        dial(project, {ids[one]: value for one, value in dials.items()}, name)
        picture = (
            encoded(render_still(project.scene, CAMERA, 208, 130, Style(look=Look(kind="sky"))))
            if pictures
            else b""
        )
        project.keep_milestone(name, picture)


def sculpted(progress: Progress) -> tuple[Project, str]:
    """Tarn with his shapes as they were sculpted, and the body's id."""
    project = demo_project(progress, "tarn-painted", finest=False)
    project.title = TITLE
    body = next(part for part in project.scene.parts if part.name == "Tarn")
    assert body.stack is not None
    stack, mesh = body.stack.stepped(body.mesh, LEVEL, progress)
    exchange_level(project, body.id, stack, mesh, "Level")
    project.choose(body.id)
    named = {part.name: part for part in project.scene.parts}
    rows = project.add_meshes("Teeth", [(name, one, Transform()) for name, one in teeth().items()])
    project.choose(body.id)
    face = Face(project.scene.part(body.id).mesh)
    for k, (action, (sides, moves)) in enumerate(SHAPES.items()):
        progress.report(0.7 * k / len(SHAPES), ACTIONS[action].name)
        gone: dict[str, AnyArray] = {body.id: moves(face)}
        if action == "26":
            places = rows[1].mesh.positions.astype(np.float64)
            gone[rows[1].id] = hung(places, np.full(len(places), JAW))
        key = sculpt(project, body.id, ACTIONS[action].name, gone, action)
        along = [named["Whiskers"].id] if action in ("9", "10", "12", "15", "34") else []
        if along:
            take_along(project, project.scene.part(body.id), key, along, lambda _: True)
        if sides:
            split_shape(project, project.scene.part(body.id), key, BORDER)
    eyes = named["Eyes"]
    for action, (degrees, axis) in LOOKS.items():
        lids = np.zeros_like(face.places) if axis else face.lids(-0.45 * degrees, 0.3 * degrees)
        moves_of: dict[str, AnyArray] = {eyes.id: _eyes(eyes, degrees, axis), body.id: lids}
        sculpt(project, body.id, ACTIONS[action].name, moves_of, action)
    return project, body.id


def corrected(project: Project, body_id: str) -> None:
    """Mend each of his shapes, and add what corrects some of them together."""
    mend_singly(project)
    # Nothing lies between his closed lips: where the mouth opens, what closes it is stretched.
    mean_kind(project, _ids(project)["Jaw drop"], "stretched")
    neutral(project, [body_id])
    face = Face(project.scene.part(body_id).mesh)
    for names, correct in CORRECTIONS:
        ids = _ids(project)
        neutral(project, [body_id])
        dial(project, {ids[one]: 1.0 for one in names}, "Together")
        drivers = drivers_now(project.scene, [ids[one] for one in names])
        add_shape(project, [body_id], " + ".join(names), drivers=drivers)
        part = project.scene.part(body_id)
        project.move_vertices(body_id, (part.mesh.positions + correct(face)).astype(np.float32), "Correct")
        record_shape(project, "")
    neutral(project, [body_id])
    eyes = next(part for part in project.scene.parts if part.name == "Eyes")
    _look_both_ways(project, eyes, _ids(project))


def made(progress: Progress | None = None, pictures: bool = True) -> Project:
    """Tarn with his shapes, corrections and moods: a new project without steps."""
    progress = progress or Progress()
    project, body_id = sculpted(progress)
    progress.report(0.75, "Mending")
    corrected(project, body_id)
    mend_in_pairs(project)
    moods(project, body_id, pictures, progress)
    project.history.clear()
    project.unsaved = False
    return project
