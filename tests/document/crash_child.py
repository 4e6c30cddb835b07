"""Works on a project until it is killed: `python -m tests.document.crash_child ROOT KIND`.

Prints a line after each finished change: a digest of the clay as it must be found again.
"""

from __future__ import annotations

import hashlib
import sys
from pathlib import Path

import numpy as np

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.document.journal import Journal
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part, Scene
from tests.conftest import FRONT, make_ball


def digest(project: Project) -> str:
    """A short name for the state of all clay."""
    out = hashlib.sha256()
    for part in project.scene.parts:
        out.update(part.name.encode() + part.mesh.positions.tobytes())
    return out.hexdigest()[:16]


def main(root: Path, kind: str) -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 40)),)))
    journal = Journal(project, root / "journals")
    journal.start(None)
    target = root / "work.kneten"
    if kind == "saves":
        save_project(project, target)
        journal.start(target)
    print(digest(project), flush=True)
    rng = np.random.default_rng(1)
    tool = TOOLS["raise"]
    while True:
        part = project.scene.parts[0]
        stroke = project.begin_stroke(part.id, tool, tool.defaults)
        centre = part.mesh.positions[rng.integers(part.mesh.n_vertices)].astype(float)
        for _ in range(6):
            stroke.dab(Dab(centre, np.zeros(3), FRONT, 30.0, 0.4, 0.12))
        project.end_stroke(part.id, stroke, "Raise")
        if rng.random() < 0.15:
            project.undo()
        if rng.random() < 0.1:
            project.keep_milestone("Kept", b"png")
        print(digest(project), flush=True)
        if kind == "saves":
            save_project(project, target)
            journal.start(target)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2])
