"""Killed in the middle of strokes and saves, many times: nothing finished is lost."""

from __future__ import annotations

import errno
import gc
import os
import random
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.subdivide import subdivide
from kneten.document.arrays_file import ProjectFileError
from kneten.document.journal import Journal
from kneten.document.look import Look
from kneten.document.project_file import open_project, save_project
from kneten.document.record import RecordReader
from kneten.document.recovery import discard, left_journals, recover
from kneten.document.settings import SavedView
from tests.conftest import FRONT
from tests.document.crash_child import digest, on_record
from tests.document.test_project import random_change, same, small_project, state, sure_stroke
from tests.long import some

ROOT = Path(__file__).parents[2]


def killed_after(root: Path, kind: str, lines: int) -> tuple[list[str], int]:
    """Let a process work, kill it a moment after some finished changes; the states it reported, the changes on record then."""
    child = subprocess.Popen(
        [sys.executable, "-m", "tests.document.crash_child", str(root), kind],
        cwd=ROOT,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert child.stdout is not None
    reported = [child.stdout.readline() for _ in range(lines)]
    # Somewhere within what comes next: strokes and saves take a few milliseconds, what changes density more.
    try:
        child.wait(random.uniform(0.0, 0.03))
    except subprocess.TimeoutExpired:
        child.send_signal(signal.SIGKILL)
    child.wait()
    reported += child.stdout.read().splitlines(keepends=True)
    child.stdout.close()
    # The last line may be cut short.
    told = [line.split() for line in reported if line.endswith("\n")]
    return [words[0] for words in told], int(told[-1][1])


@pytest.mark.parametrize("kind", ["strokes", "saves", "densities"])
@pytest.mark.parametrize("turn", some(list(range(8)), 4))
def test_killed_work_is_found_again(tmp_path: Path, kind: str, turn: int) -> None:
    reported, changes = killed_after(tmp_path, kind, 2 + 3 * turn)
    found = []
    target = tmp_path / "work.kneten"
    if kind == "saves":
        # The saved file is whole at every moment.
        found.append(digest(open_project(target)))
    left = left_journals(tmp_path / "journals")
    assert len(left) <= 1
    more = 0
    if left:
        more = on_record(left[0].folder) - changes
        found.append(digest(recover(left[0])))
    # The last reported change is there; or one more, that was finished but not reported: it may have brought back a state
    # that was there before.
    backwards = reported[::-1]
    newest = max(len(reported) - (backwards.index(f) + 1 if f in reported else 0) for f in found)
    assert newest >= len(reported) - 1 or more == 1
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
    record.write_bytes(bytes(flipped[: sizes[at]]))
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
    assert len(list(RecordReader(journal.folder / "record").entries())) >= 2
    journal.close()
    assert not journal.folder.exists()


class FullDisk:
    """Writes to records fail for a while, some of each entry written already."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.full = False
        write = os.write

        def maybe(file: int, data: memoryview) -> int:
            if not self.full:
                return write(file, data)
            if len(data) > 16:
                return write(file, bytes(data[: len(data) // 2]))
            raise OSError(errno.ENOSPC, "No space left on device")

        monkeypatch.setattr("kneten.document.record.os.write", maybe)


def test_what_could_not_be_written_is_written_once_there_is_room(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = FullDisk(monkeypatch)
    for turn in range(6):
        rng = np.random.default_rng(turn)
        project = small_project()
        root = tmp_path / f"journals-{turn}"
        journal = Journal(project, root)
        journal.start(None)
        random_change(project, rng)
        disk.full = True
        for _ in range(1 + turn):
            random_change(project, rng)
            sure_stroke(project, rng)
        project.change_settings(brief="old and tired")
        assert "Save your work" in journal.failed
        assert not journal.is_sound
        assert not journal.mend()
        disk.full = False
        if turn % 2:
            assert journal.mend()
        else:
            project.change_settings(brief="old and tired")
        assert journal.failed == ""
        assert journal.is_sound
        sure_stroke(project, rng)
        (journal.folder / "owner").write_text("1 gone")
        (left,) = left_journals(root)
        again = recover(left)
        assert same(state(again), state(project))
        assert again.settings.brief == "old and tired"


def test_loose_clay_whose_stroke_could_not_be_written_comes_back_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = FullDisk(monkeypatch)
    project = small_project()
    part = project.scene.parts[0]
    project.change("Live", project.with_mesh(part.id, loosened(part.mesh), live_density=True))
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)

    def tease() -> None:
        tool = TOOLS["refine"]
        work = project.begin_stroke(part.id, tool, tool.defaults)
        at = project.scene.part(part.id).mesh.positions[7].astype(float)
        work.dab(Dab(at, np.zeros(3), FRONT, 40.0, 0.5, 0.12, detail=Density(6.0)))
        assert project.end_stroke(part.id, work, "Refine")

    disk.full = True
    tease()
    disk.full = False
    sure_stroke(project, np.random.default_rng(1))
    wanted = project.scene.part(part.id).mesh.settled()
    (journal.folder / "owner").write_text("1 gone")
    (left,) = left_journals(tmp_path / "journals")
    again = recover(left).scene.parts[0].mesh
    assert again.n_vertices == wanted.n_vertices
    assert np.array_equal(np.sort(again.positions, axis=0), np.sort(wanted.positions, axis=0))


def test_a_reader_gets_past_damage_wherever_it_is(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    rng = np.random.default_rng(2)
    for _ in range(9):
        sure_stroke(project, rng)
    record = journal.folder / "record"
    data = record.read_bytes()
    heads = list(RecordReader(record).heads())
    (journal.folder / "owner").write_text("1 gone")
    for torn in range(len(heads)):
        # An entry that was cut short, the next ones right behind it; or one that was overwritten in its middle.
        for kind in range(2):
            head = heads[torn]
            half = (head.at + head.end) // 2
            bad = data[:half] + data[head.end :] if kind else data[:half] + b"KNTK" + data[half + 4 :]
            record.write_bytes(bad)
            reader = RecordReader(record)
            found = list(reader.entries())
            assert len(found) == len(heads) - 1
            assert reader.damaged >= 1
            (left,) = left_journals(tmp_path / "journals")
            assert journal.folder.exists()
            told: list[str] = []
            if torn == 1:
                # The clay itself stood there: nothing else has it.
                with pytest.raises(ProjectFileError):
                    recover(left, told)
                continue
            again = recover(left, told)
            assert len(again.scene.parts) == len(project.scene.parts)
            assert torn == 0 or told


def test_counting_left_changes_reads_no_contents(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    sure_stroke(project, np.random.default_rng(2))
    project.change_settings(brief="x")
    (journal.folder / "owner").write_text("1 gone")
    monkeypatch.setattr("kneten.document.record._unpacked", None)
    (left,) = left_journals(tmp_path / "journals")
    assert left.changes == 2


def test_work_that_was_restored_and_not_touched_is_offered_again(tmp_path: Path) -> None:
    project = small_project()
    root = tmp_path / "journals"
    journal = Journal(project, root)
    journal.start(None)
    rng = np.random.default_rng(2)
    wanted = state(project)
    for turn in range(3):
        if turn < 2:
            sure_stroke(project, rng)
            wanted = state(project)
        (journal.folder / "owner").write_text("1 gone")
        (left,) = left_journals(root)
        project = recover(left)
        journal = Journal(project, root)
        journal.start(None)
        discard(left)
    (journal.folder / "owner").write_text("1 gone")
    (left,) = left_journals(root)
    assert same(state(recover(left)), wanted)


def test_a_clean_journal_is_taken_away_and_an_unreadable_one_is_not(tmp_path: Path) -> None:
    root = tmp_path / "journals"
    journal = Journal(small_project(), root)
    journal.start(None)
    (journal.folder / "owner").write_text("1 gone")
    assert left_journals(root) == []
    assert not journal.folder.exists()
    journal = Journal(small_project(), root)
    journal.start(None)
    (journal.folder / "record").write_bytes(b"\0" * 500)
    (journal.folder / "owner").write_text("1 gone")
    assert left_journals(root) == []
    assert journal.folder.exists()


def test_starting_anew_on_a_full_disk_leaves_the_old_record(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = FullDisk(monkeypatch)
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    rng = np.random.default_rng(4)
    sure_stroke(project, rng)
    save_project(project, tmp_path / "a.kneten")
    disk.full = True
    with pytest.raises(OSError, match="space"):
        journal.start(tmp_path / "a.kneten")
    disk.full = False
    sure_stroke(project, rng)
    (journal.folder / "owner").write_text("1 gone")
    (left,) = left_journals(tmp_path / "journals")
    assert same(state(recover(left)), state(project))


def test_clay_that_no_scene_took_leaves_no_file(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    for _ in range(3):
        journal.stage(project.scene.parts[0].mesh.copy())
    gc.collect()
    assert list((journal.folder / "staged").iterdir()) == []


def test_clay_staged_ahead_makes_its_entry_small_and_comes_back(tmp_path: Path) -> None:
    project = small_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    new = subdivide(project.scene.parts[0].mesh.copy(), Progress())
    journal.stage(new)
    before = (journal.folder / "record").stat().st_size
    project.replace_mesh(project.scene.parts[0].id, new, "Subdivide")
    assert (journal.folder / "record").stat().st_size - before < 0.1 * new.positions.nbytes
    sure_stroke(project, np.random.default_rng(3))
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
    staged = project.scene.parts[0].mesh.copy()
    journal.stage(staged)
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
            project.change_settings(matcaps={"old": b"old picture"})
            save_project(project, path)
        journal.start(path if saved else None)
        sure_stroke(project, np.random.default_rng(1))
        project.change_settings(look=Look("sky", roughness=0.2))
        project.change_settings(views=(SavedView("Side", Camera(yaw=80.0), b"side"),))
        project.change_settings(matcaps={**project.settings.matcaps, "face": b"face picture"})
        (journal.folder / "owner").write_text("1 gone")
        (left,) = left_journals(root)
        assert left.changes == 4
        assert recover(left).settings == project.settings
