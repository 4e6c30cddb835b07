"""Works on a project until it is killed: `python -m tests.document.crash_child ROOT KIND`.

Prints a line after each finished change: a digest of the clay as it must be found again, and how many changes there are.
"""

from __future__ import annotations

import hashlib
import sys
from pathlib import Path

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.carry import CarryWish
from kneten.core.decimate import Wanted, decimated
from kneten.core.remesh import remesh, soup_of
from kneten.document.carried_parts import carry, land
from kneten.document.journal import Journal
from kneten.document.layering import add_layer, change_layer, exchange_level
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.record import FIRST, RecordReader
from kneten.document.recovery import claim, discard, left_journals, recover
from kneten.document.scene import Part, Scene
from tests.conftest import FRONT, make_ball
from tests.document.crash_stages import everything_told, stage
from tests.fuzz import rich_project

GO = Progress()


def digest(project: Project) -> str:
    """A short name for the state of all clay, and of all things."""
    out = hashlib.sha256()
    out.update(everything_told(project))
    for part in project.scene.parts:
        mesh = part.mesh
        out.update(part.name.encode() + mesh.positions.tobytes())
        out.update(mesh.value("colour").tobytes() + mesh.value("paint").tobytes())
        stack = part.stack
        if stack is not None:
            out.update(f"{stack.level} {[(one.name, one.strength) for one in stack.layers]}".encode())
            out.update(b"".join(one.paint.values.tobytes() for one in stack.layers) + stack.hand.encode())
            out.update(stack.base.tobytes() + b"".join(one.detail.values.tobytes() for one in stack.levels))
    return out.hexdigest()[:16]


def tell(project: Project, journal: Journal) -> None:
    """Report a finished change: what the clay is now, and how many changes the journal holds."""
    print(digest(project), on_record(journal.folder), flush=True)


def on_record(folder: Path) -> int:
    """How many changes a journal's record holds."""
    return sum(not head.flags & FIRST for head in RecordReader(folder / "record").heads())


def density(project: Project, journal: Journal, rng: np.random.Generator) -> None:
    """One change of the kinds that give clay other meshes, levels or layers, written ahead as workers do."""
    part = project.scene.parts[0]
    mesh, stack = part.mesh.copy(), stack_of(part)
    choice = int(rng.integers(8))
    if mesh.n_vertices > 30_000 or choice == 0:
        made = remesh(soup_of([mesh]), 6.0, GO)
        journal.stage(made)
        project.replace_mesh(part.id, made, "Remesh")
    elif choice == 1:
        new, made = stack.stepped(mesh, stack.top, GO)
        new, made = new.added(made, GO)
        journal.stage(made, new)
        exchange_level(project, part.id, new, made, "Subdivide")
    elif choice == 2 and stack.top:
        new, made = stack.stepped(mesh, int(rng.integers(stack.top + 1)), GO)
        journal.stage(made, new)
        exchange_level(project, part.id, new, made, "Level")
    elif choice == 3:
        add_layer(project, part)
        part = project.scene.parts[0]
        lift = rng.normal(0, 0.3, (part.mesh.n_vertices, 1)).astype(np.float32)
        project.move_vertices(part.id, part.mesh.positions + part.mesh.normals * lift, "Pores")
    elif choice == 4 and stack.layers:
        change_layer(project, part, stack.layers[0].id, "Dial", strength=float(rng.uniform(-1, 2)))
    elif choice == 5:
        made = decimated(mesh, Wanted(mesh.topology.n_triangles // 2), GO).mesh
        journal.stage(made)
        project.replace_mesh(part.id, made, "Decimate")
    elif choice == 6:
        target = Part(part.name, make_ball(103.0, 12), id=part.id)
        carried = carry(part, target, (), CarryWish(20.0, levels=1), GO)
        journal.stage(carried.made.mesh, carried.made.stack)
        land(project, part.id, carried, "Carry over")
    elif not project.undo():
        add_layer(project, part)


def restored(root: Path) -> tuple[Project, Journal] | None:
    """What another process left, taken over as the window does: the old journal goes once the new one stands."""
    for left in left_journals(root / "journals"):
        claim(left)
        project = recover(left)
        journal = Journal(project, root / "journals")
        journal.start(None)
        discard(left)
        return project, journal
    return None


def main(root: Path, kind: str) -> None:
    if kind == "restores":
        again = restored(root)
        if again is None:
            return
        tell(*again)
        work(root, "strokes", *again)
    if kind == "stages":
        project = rich_project()
    else:
        project = Project(Scene((Part("Ball", make_ball(100.0, 12 if kind == "densities" else 40)),)))
    journal = Journal(project, root / "journals")
    journal.start(None)
    target = root / "work.kneten"
    if kind == "saves":
        save_project(project, target)
        journal.start(target)
    tell(project, journal)
    work(root, kind, project, journal)


def work(root: Path, kind: str, project: Project, journal: Journal) -> None:
    """Change the project until one is killed; a line after each finished change."""
    target = root / "work.kneten"
    rng = np.random.default_rng(1)
    while True:
        if kind == "stages":
            stage(project, rng)
            tell(project, journal)
            continue
        if kind == "densities":
            density(project, journal, rng)
            tell(project, journal)
            continue
        part = project.scene.parts[0]
        if rng.random() < 0.1:
            add_layer(project, part)
        # Form and paint in turn, on the clay and on layers.
        tool = TOOLS["raise" if rng.random() < 0.5 else "paint"]
        stroke = project.begin_stroke(part.id, tool, tool.defaults)
        centre = part.mesh.positions[rng.integers(part.mesh.n_vertices)].astype(float)
        for _ in range(6):
            stroke.dab(Dab(centre, np.zeros(3), FRONT, 30.0, 0.4, 0.12))
        project.end_stroke(part.id, stroke, tool.name)
        if rng.random() < 0.15:
            project.undo()
        if rng.random() < 0.1:
            project.keep_milestone("Kept", b"png")
        tell(project, journal)
        if kind == "saves":
            save_project(project, target)
            journal.start(target)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2])
