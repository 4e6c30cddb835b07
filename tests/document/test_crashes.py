"""Killed in the middle of strokes and saves, many times: nothing finished is lost."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.subdivide import subdivide
from kneten.document.arrays_file import ProjectFileError
from kneten.document.journal import Journal, discard, entries, left_journals, recover
from kneten.document.look import Look
from kneten.document.project import SavedView
from kneten.document.project_file import open_project, save_project
from tests.document.crash_child import digest
from tests.document.test_project import random_change, same, small_project, state, stroke

ROOT = Path(__file__).parents[2]


def killed_after(root: Path, kind: str, lines: int) -> list[str]:
    """Let a process work, kill it a moment after some finished changes; what it reported."""
    child = subprocess.Popen(
        [sys.executable, "-m", "tests.document.crash_child", str(root), kind],
        cwd=ROOT,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert child.stdout is not None
    reported = [child.stdout.readline().strip() for _ in range(lines)]
    # Somewhere within what comes next: strokes and saves take a few milliseconds, what changes density more.
    try:
        child.wait(random.uniform(0.0, 0.03))
    except subprocess.TimeoutExpired:
        child.send_signal(signal.SIGKILL)
    child.wait()
    reported += [line.strip() for line in child.stdout.read().splitlines()]
    child.stdout.close()
    return reported


@pytest.mark.parametrize("kind", ["strokes", "saves", "densities"])
@pytest.mark.parametrize("turn", range(8))
def test_killed_work_is_found_again(tmp_path: Path, kind: str, turn: int) -> None:
    reported = killed_after(tmp_path, kind, 2 + 3 * turn)
    found = []
    target = tmp_path / "work.kneten"
    if kind == "saves":
        # The saved file is whole at every moment.
        found.append(digest(open_project(target)))
    left = left_journals(tmp_path / "journals")
    assert len(left) <= 1
    if left:
        found.append(digest(recover(left[0])))
    # The last reported change is there; a change may have been finished but not reported any more.
    # (The same state may have been there before, for strokes are undone as well.)
    backwards = reported[::-1]
    newest = max(len(reported) - (backwards.index(f) + 1 if f in reported else 0) for f in found)
    assert newest >= len(reported) - 1
    # No half-written file stays beside the saved one but the killed process's own.
    assert len(list(tmp_path.glob(".*.part"))) <= 1


def test_recovery_brings_back_every_kind_of_change(tmp_path: Path) -> None:
    for saved_after in (0, 25):
        rng = np.random.default_rng(saved_after)
        project = small_project()
        journal = Journal(project, tmp_path / "journals")
        journal.start(None)
        for count in range(60):
            if count == saved_after and count:
                save_project(project, tmp_path / "a.kneten")
                journal.start(tmp_path / "a.kneten")
            random_change(project, rng)
            if rng.random() < 0.2:
                project.undo()
            if rng.random() < 0.1:
                project.redo()
        (journal.folder / "owner").write_text("1 0")
        (left,) = left_journals(tmp_path / "journals")
        again = recover(left)
        assert same(state(again), state(project))
        assert again.unsaved
        discard(left)
        assert left_journals(tmp_path / "journals") == []


def test_a_record_cut_short_anywhere_gives_the_changes_before(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    rng = np.random.default_rng(0)
    sizes, states = [], []
    record = journal.folder / "record"
    for _ in range(12):
        random_change(project, rng)
        sizes.append(record.stat().st_size)
        states.append(state(project))
    data = record.read_bytes()
    (journal.folder / "owner").write_text("1 0")
    for at in range(3, 12):
        cut = (sizes[at - 1] + sizes[at]) // 2
        if cut in sizes:
            continue
        record.write_bytes(data[:cut])
        (left,) = left_journals(tmp_path / "journals")
        assert same(state(recover(left)), states[at - 1])
    # A change that changed nothing has no entry: take the last that has.
    at = next(at for at in range(8, 3, -1) if sizes[at] > sizes[at - 1])
    flipped = bytearray(data)
    flipped[sizes[at] - 9] ^= 255
    record.write_bytes(bytes(flipped))
    (left,) = left_journals(tmp_path / "journals")
    assert same(state(recover(left)), states[at - 1])


def test_the_base_survives_whatever_happens_to_the_saved_file(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    target = tmp_path / "a.kneten"
    save_project(project, target)
    journal.start(target)
    random_change(project, np.random.default_rng(3))
    target.unlink()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    assert same(state(recover(left)), state(project))


def test_a_living_processs_journal_is_left_alone_and_closing_takes_it_away(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    random_change(project, np.random.default_rng(3))
    assert left_journals(tmp_path / "journals") == []
    assert len(list(entries(journal.folder / "record"))) >= 2
    journal.close()
    assert not journal.folder.exists()


def test_a_journal_that_cannot_be_written_says_so(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    os.close(journal._record)
    journal._record = os.open("/dev/full", os.O_WRONLY)
    random_change(project, np.random.default_rng(8))
    assert "Save your work" in journal.failed
    journal.close()


def test_clay_staged_ahead_makes_its_entry_small_and_comes_back(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    new = subdivide(project.scene.parts[0].mesh.copy(), Progress())
    journal.stage(new)
    before = (journal.folder / "record").stat().st_size
    project.replace_mesh(project.scene.parts[0].id, new, "Subdivide")
    assert (journal.folder / "record").stat().st_size - before < 0.1 * new.positions.nbytes
    stroke(project, np.random.default_rng(3))
    wanted = state(project)
    (journal.folder / "owner").write_text("1 gone")
    (left,) = left_journals(tmp_path / "journals")
    assert same(state(recover(left)), wanted)


def test_staged_clay_that_is_cut_short_is_told(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    new = subdivide(project.scene.parts[0].mesh.copy(), Progress())
    journal.stage(new)
    project.replace_mesh(project.scene.parts[0].id, new, "Subdivide")
    (file,) = (journal.folder / "staged").iterdir()
    os.truncate(file, file.stat().st_size // 2)
    (journal.folder / "owner").write_text("1 gone")
    (left,) = left_journals(tmp_path / "journals")
    with pytest.raises(ProjectFileError, match="damaged"):
        recover(left)


def test_a_saved_journal_keeps_no_staged_clay(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    journal.stage(project.scene.parts[0].mesh.copy())
    save_project(project, tmp_path / "a.kneten")
    journal.start(tmp_path / "a.kneten")
    assert list((journal.folder / "staged").iterdir()) == []


def test_looks_views_and_matcaps_survive_a_crash(tmp_path: Path) -> None:
    for saved in (False, True):
        project = small_project()
        root = tmp_path / f"journals-{saved}"
        journal = Journal(project, root)
        path = tmp_path / "a.kneten"
        if saved:
            project.settings.matcaps = {"old": b"old picture"}
            save_project(project, path)
        journal.start(path if saved else None)
        stroke(project, np.random.default_rng(1))
        project.settings.look = Look("sky", roughness=0.2)
        project.settings.views = (SavedView("Side", Camera(yaw=80.0), b"side"),)
        project.touch()
        project.settings.matcaps = {**project.settings.matcaps, "face": b"face picture"}
        project.touch()
        (journal.folder / "owner").write_text("1 gone")
        (left,) = left_journals(root)
        assert left.changes == 1
        assert recover(left).settings == project.settings
