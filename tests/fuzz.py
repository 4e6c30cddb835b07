"""Files that somebody has damaged: `python -m tests.fuzz [FORMAT...] [--count 10000] [--seed 1]`.

Each of many mutants of a small sound file is either refused with a message, or usable to the end: sculpted, saved and
opened again. They are read in processes of their own, with little memory and little time, so that a crash, a hang
or a greedy reader is seen and named. What fails is kept in a folder that is named at the end.
"""

from __future__ import annotations

import argparse
import io
import json
import random
import resource
import select
import struct
import subprocess
import sys
import tempfile
import time
import traceback
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.net.modelling import creased
from kneten.core.pose.chain import Hinge, Limb, Pose
from kneten.core.pose.keys import DIAL, TURN, Keys, Track
from kneten.core.pose.rig import Joint, Rig
from kneten.core.primitives import ball
from kneten.core.relief import packed
from kneten.core.stack import Layer
from kneten.core.transform import Transform
from kneten.core.uv.islands import Edges
from kneten.document.arrays_file import ProjectFileError
from kneten.document.blocking import add_live
from kneten.document.driving import shapes_of
from kneten.document.guides import add_guides
from kneten.document.layering import add_layer, exchange_level
from kneten.document.marks import landmark, measured, place_of
from kneten.document.masks import keep_mask
from kneten.document.motions import bring_motions, kept_motion
from kneten.document.opening import stack_of
from kneten.document.posing import add_pose, low_clay
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import add_rigs, keep_pose, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shapes import add_shape, drivers_now
from kneten.document.things import Group, Reference, RegionName, Tape, guide_places
from kneten.formats.exchange import bring, pieces_of, read_rigged, with_skins, write_file
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.conftest import FRONT, make_ball

MEMORY = 6 << 30
SECONDS = 30.0
FORMATS = ("obj", "ply", "ply-text", "stl", "stl-text", "glb", "gltf", "kneten")

WORDS = [
    b"nan", b"inf", b"-1", b"0", b"1e38", b"-1e39", b"1e400", b"99999999999", b"2147483648", b"/", b"\xff\xfe", b"",
    b"1" * 400, b"v", b"f", b"end_header", b"facet", b"\n", b"\0" * 9, b'"', b"[", b"{", b"null", b"0.5", b"65536",
]  # fmt: skip
NUMBERS = [
    0,
    -1,
    1,
    2,
    255,
    2**31 - 1,
    -(2**31),
    2**53,
    1e-300,
    1e38,
    1e300,
    -1e9,
    0.5,
    1e15,
    None,
    True,
    "x",
    [],
    {},
]


def moved(project: Project, part_id: str) -> None:
    """A motion of a joint and of a dial, kept."""
    body = rig_of(project.scene.part(part_id))
    assert body is not None
    at = np.array([0.0, 0.5, 1.0])
    turns = np.array([[0, 0, 0], [20.0, 0, 0], [0, 0, 0]])
    dials = np.array([[0, 0, 0], [1.0, 0, 0], [0.2, 0, 0]])
    keys = Keys.of(
        [
            (Track(TURN, body.joints[0].name), at, turns),
            (Track(DIAL, next(iter(shapes_of(project.scene)))), at, dials),
        ]
    )
    bring_motions(project, [kept_motion("Nod", part_id, keys)], "Nod")


def rich_project() -> Project:
    """Something of everything that a project file holds."""
    rng = np.random.default_rng(5)
    positions, faces = ball(30.0, 4)
    colour = rng.integers(0, 255, (len(positions), 4)).astype(np.uint8)
    mesh = Mesh.from_faces(positions, faces, colour, np.linspace(0, 1, len(positions), dtype=np.float32))
    mesh.regions = (np.arange(mesh.topology.n_faces) % 3).astype(np.uint16)
    project = Project(Scene((Part("Ball", mesh), Part("Levels", make_ball(20.0, 3)))))
    levels = project.scene.parts[1]
    edges = Edges.of(levels.mesh.topology)
    levels.mesh.creases = creased(levels.mesh, np.arange(len(edges.ends)) % 5 == 0, 1.5)
    exchange_level(project, levels.id, *stack_of(levels).added(levels.mesh, Progress()), "Level")
    add_layer(project, project.scene.part(levels.id))
    stroke(project)
    bend(project, levels.id)
    box = Primitive("box", divisions=(2, 2, 2))
    add_live(project, "Box", box, box.made().mesh(), Transform())
    part = project.scene.parts[0]
    add_guides(project, part, [np.array([[30.0, 0, 0], [20.0, 20, 0], [0.0, 30, 0]])], False)
    marks = tuple(
        landmark(project.scene, name, part, at)
        for name, at in (("A", np.array([0, 0, 30.0])), ("B", np.array([0, 30.0, 0])))
    )
    keep_mask(project, part, "Half")
    rig(project, part.id)
    shape(project, part.id)
    project.keep_milestone("First", b"png")
    scene = project.scene
    project.change(
        "Things",
        Scene(
            scene.parts, scene.milestones, (Group("Folder"),), (Reference("Sketch", "abc.png"),), marks,
            (Tape(marks[0].id, marks[1].id, True, (0.5,)),), (RegionName(1, "Brow"),), scene.kept_masks, scene.guides,
        ),
    )  # fmt: skip
    moved(project, part.id)
    project.change_settings(originals={"abc.png": b"not a picture"}, canons=(("Mine", (0.0, 0.5, 1.0)),))
    return project


def bend(project: Project, part_id: str) -> None:
    """Pose the upper half of a part as a limb."""
    low = low_clay(project.scene.part(part_id))
    at = low.mesh.positions
    rows = np.flatnonzero(at[:, 1] > -5).astype(np.int32)
    line = np.linspace([0.0, 0.0, 0.0], [0.0, 20.0, 0.0], 11).astype(np.float32)
    limb = Limb(rows, at[rows, 1].copy(), line, 0.0, 2.0, np.array([1.0, 0.0, 0.0]))
    hinges = (Hinge(0.0, 8.0, 4.0, (30.0, 10.0, 0.0), 20.0), Hinge(9.0, 6.0, 3.0, length=1.2, thickness=0.9))
    add_pose(project, {part_id: (low, Pose((limb,), hinges))}, "Pose")


def rig(project: Project, part_id: str) -> None:
    """Give a part a rig of two joints, turned, and keep that pose."""
    low = low_clay(project.scene.part(part_id))
    at, n = low.mesh.positions, low.mesh.n_vertices
    upper = np.clip(at[:, 1] / 20 + 0.5, 0, 1).astype(np.float32)
    share = np.stack([1 - upper, upper, 0 * upper, 0 * upper], axis=1)
    which = np.tile(np.uint8([0, 1, 0, 0]), (n, 1))
    joints = (
        Joint("Hip", -1, (0.0, -10.0, 0.0), 0, shift=(1.0, 0.0, 0.0)),
        Joint("Chest", 0, (0.0, 5.0, 0.0), 1, (0.0, 20.0, 10.0), limit=90.0),
    )
    add_rigs(project, {part_id: (low, Rig(joints, which, share, "rig"))}, "Rig")
    keep_pose(project, project.scene.part(part_id), "Turned")


def shape(project: Project, part_id: str) -> None:
    """Give a part a shape, dialled, and a correction that follows it."""
    n = stack_of(project.scene.part(part_id)).levels[0].topology.n_vertices
    moves = np.zeros((n, 3), np.float32)
    moves[: n // 3, 1] = 2.0
    held = Layer("Puff", 0.5, reliefs=(packed(moves),))
    key = add_shape(project, [part_id], "Puff", "34", on={part_id: held})
    add_shape(project, [part_id], "Puffed", drivers=drivers_now(project.scene, [key]), on={part_id: held})


def stroke(project: Project) -> None:
    """One stroke on every part that can be sculpted, taken back and made again."""
    for part in project.scene.parts:
        if part.recipe is not None:
            continue
        low, high = part.mesh.bounds()
        tool = TOOLS["raise"]
        work = project.begin_stroke(part.id, tool, tool.defaults)
        at = part.mesh.positions[len(part.mesh.positions) // 2].astype(float)
        for _ in range(3):
            work.dab(Dab(at, np.zeros(3), FRONT, max(float((high - low).max()) * 0.2, 1e-3), 0.4, 0.12))
        if project.end_stroke(part.id, work, "Raise"):
            project.undo()
            project.redo()


def used_to_the_end(project: Project, folder: Path) -> None:
    """What one would do with a project: look at its things, sculpt, save, open again."""
    scene = project.scene
    for mark in scene.landmarks:
        place_of(mark, scene)
    for tape in scene.tapes:
        measured(tape, scene)
    for guide in scene.guides:
        guide_places(guide, scene.part(guide.part).mesh)
    for part in scene.parts:
        assert np.isfinite(part.bounds()).all()
        if part.stack is not None:
            part.stack.stepped(part.mesh, 0, Progress())
    stroke(project)
    for milestone in scene.milestones:
        project.go_back(milestone.id)
        project.undo()
    save_project(project, folder / "again.kneten")
    again = open_project(folder / "again.kneten")
    assert len(again.scene.parts) == len(project.scene.parts)


def seed_file(kind: str) -> bytes:
    """A sound small file of a format."""
    with tempfile.TemporaryDirectory() as folder:
        ending = kind.split("-")[0]
        path = Path(folder) / f"seed.{ending}"
        project = rich_project()
        if kind == "kneten":
            save_project(project, path)
        else:
            some = project.scene.parts[:2]
            pieces = with_skins(path, pieces_of(some, Space()), some, project.scene, Space())
            write_file(path, pieces, kind.endswith("text"))
        return path.read_bytes()


def mutant(data: bytes, kind: str, rng: random.Random) -> bytes:
    """The file, damaged in one to four places."""
    if kind == "kneten" and rng.random() < 0.85:
        return _mutant_project(data, rng)
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(max(len(out), 1))
        choice = rng.randrange(6)
        if choice == 0 and out:
            out[at] = rng.randrange(256)
        elif choice == 1:
            del out[at : at + rng.choice((1, 2, 4, 40, 4000))]
        elif choice == 2:
            out[at:at] = rng.choice(WORDS)
        elif choice == 3:
            size = rng.choice((4, 12, 50, 1000))
            out[at:at] = out[at : at + size]
        elif choice == 4:
            out[at : at + 4] = struct.pack("<f", rng.choice((float("nan"), float("inf"), 1e38, -1.0, 0.0)))
        else:
            out[at : at + 4] = struct.pack("<i", rng.choice((0, -1, 2**31 - 1, 255, 65536, len(out))))
    return bytes(out)


def _mutant_project(data: bytes, rng: random.Random) -> bytes:
    """A sound archive of damaged words or arrays."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    for _ in range(rng.randint(1, 3)):
        if rng.random() < 0.5:
            words = json.loads(entries["project.json"])
            _spoil(words, rng)
            entries["project.json"] = json.dumps(words).encode()
            continue
        name = rng.choice([name for name in entries if name.endswith(".npy")])
        array = np.load(io.BytesIO(entries[name]), allow_pickle=False).copy()
        choice = rng.randrange(6)
        flat = array.reshape(-1)
        if choice == 0 and len(flat):
            flat[rng.randrange(len(flat))] = rng.choice(
                (0, 1, 7, 250) if array.dtype.kind in "ui" else (np.nan, 1e38, 0, -3)
            )
        elif choice == 1 and len(array) > 1:
            a, b = rng.randrange(len(array)), rng.randrange(len(array))
            array[[a, b]] = array[[b, a]]
        elif choice == 2:
            array = array[: rng.randrange(len(array) + 1)]
        elif choice == 3:
            array = array.astype(rng.choice((np.float64, np.int64, np.uint8)))
        elif choice == 4:
            del entries[name]
            continue
        else:
            array = array[::-1].copy()
        raw = io.BytesIO()
        np.lib.format.write_array(raw, array, version=(1, 0))
        entries[name] = raw.getvalue()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, entry in entries.items():
            archive.writestr(name, entry)
    return out.getvalue()


def _spoil(words: object, rng: random.Random) -> None:
    """Change one value somewhere within."""
    at = words
    for _ in range(12):
        keys = list(at) if isinstance(at, dict) else list(range(len(at))) if isinstance(at, list) else []
        if not keys:
            return
        key = rng.choice(keys)
        below = at[key]
        if isinstance(below, dict | list) and below and rng.random() < 0.8:
            at = below
            continue
        if isinstance(at, dict) and rng.random() < 0.2:
            del at[key]
        else:
            at[key] = rng.choice(NUMBERS)
        return


def tried(path: Path) -> None:
    """Read a file and use what it holds; raises what must not be raised."""
    with tempfile.TemporaryDirectory() as folder:
        try:
            if path.suffix == ".kneten":
                project = open_project(path)
            else:
                project = Project()
                bring(project, read_rigged(path)[0], "Import")
        except (FormatError, ProjectFileError) as error:
            if not str(error).strip():
                raise
            return
        used_to_the_end(project, Path(folder))


def child(sound: Path, kind: str, seed: int, first: int, last: int) -> None:
    """Try mutants of a sound file; a line before each, and one after each that failed."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    data = sound.read_bytes()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"mutant.{kind.split('-')[0]}"
        for number in range(first, last):
            path.write_bytes(mutant(data, kind, random.Random(f"{kind} {seed} {number}")))
            print("begin", number, flush=True)
            try:
                tried(path)
            except BaseException:
                print(
                    "failed", number, traceback.format_exc().strip().replace("\n", " | ")[-600:], flush=True
                )


def run(kind: str, seed: int, count: int, bad: Path, tell: Callable[[str], None]) -> int:
    """All mutants of a format; how many failed."""
    failed, first = 0, 0
    data = seed_file(kind)
    sound = bad / f"sound-{kind}"
    sound.write_bytes(data)

    def keep(number: int, why: str) -> None:
        nonlocal failed
        failed += 1
        path = bad / f"{kind}-{seed}-{number}.{kind.split('-')[0]}"
        path.write_bytes(mutant(data, kind, random.Random(f"{kind} {seed} {number}")))
        tell(f"{path}: {why}")

    while first < count:
        given = (str(sound), kind, str(seed), str(first), str(count))
        command = [sys.executable, "-m", "tests.fuzz", "--child", *given]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert process.stdout is not None
        began = time.monotonic()
        why = ""
        while True:
            ready, _, _ = select.select([process.stdout], [], [], SECONDS + (60 if first == 0 else 0))
            line = process.stdout.readline() if ready else ""
            if not line:
                why = "took too long" if not ready else ""
                process.kill()
                break
            word, number, *rest = line.split(" ", 2)
            if word == "begin":
                first = int(number)
            else:
                keep(int(number), rest[0].strip())
        code = process.wait()
        if not why and code == 0:
            break
        keep(first, why or f"ended with {code} after {time.monotonic() - began:.0f} s")
        first += 1
    return failed


def main() -> int:
    if sys.argv[1:2] == ["--child"]:
        child(Path(sys.argv[2]), sys.argv[3], *(int(word) for word in sys.argv[4:7]))
        return 0
    parser = argparse.ArgumentParser(prog="python -m tests.fuzz")
    parser.add_argument("formats", nargs="*", default=FORMATS, metavar="FORMAT")
    parser.add_argument("--count", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    bad = Path(tempfile.mkdtemp(prefix="kneten-fuzz-"))
    total = 0
    for kind in given.formats:
        failed = run(kind, given.seed, given.count, bad, lambda text: print(" ", text, flush=True))
        print(f"{kind}: {given.count} mutants, {failed} failed", flush=True)
        total += failed
    if total:
        print(f"kept in {bad}")
    return 1 if total else 0


if __name__ == "__main__":
    sys.exit(main())
