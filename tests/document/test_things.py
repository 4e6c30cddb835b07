"""A kind of thing that nothing in the project knows goes through everything, as if it knew it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kneten.core.arrays import F32, Progress
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.document.arrays_file import ProjectFileError, read_content, write_content
from kneten.document.blocking import put_together
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.kinds import THINGS, Kind
from kneten.document.marks import landmark
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from kneten.document.things import Tape
from tests.conftest import make_ball


@dataclass(frozen=True, eq=False)
class Bell:
    """Something on a part, with an array and a way of moving to other clay."""

    part: str
    tone: float
    wave: F32
    colours: tuple[str, ...] = ()
    moves: int = 0
    id: str = "bell"


@dataclass(frozen=True)
class Rope:
    """Something that hangs on two bells."""

    start: str
    end: str
    long: float = 1.0
    id: str = "rope"


def _usable(bell: Bell, part: Any) -> Bell:
    if bell.tone <= 0:
        raise ValueError("a bell without a tone")
    return bell


@pytest.fixture(autouse=True)
def unknown(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    bells = Kind(
        Bell,
        "bells",
        arrays={"wave": (np.float32, 0)},
        on="part",
        usable=_usable,
        moved=lambda bell, old, new: replace(bell, moves=bell.moves + 1),
    )
    monkeypatch.setitem(THINGS, "bells", bells)
    monkeypatch.setitem(THINGS, "ropes", Kind(Rope, "ropes", hangs_on=("bells", ("start", "end"))))
    yield
    monkeypatch.undo()


def ringing() -> Project:
    """A project of two parts, a bell on each, and a rope between them."""
    one, two = Part("One", make_ball(100.0, 12)), Part("Two", make_ball(60.0, 8))
    scene = Scene((one, two))
    bells = (
        Bell(one.id, 440.0, np.linspace(0, 1, 7, dtype=np.float32), ("red", "blue"), id="a"),
        Bell(two.id, 220.0, np.ones(3, np.float32), id="b"),
    )
    return Project(scene.with_things("bells", bells).with_things("ropes", (Rope("a", "b", 2.5),)))


def told(scene: Scene) -> list[Any]:
    """All that is unknown, without ids of parts."""
    names = {part.id: part.name for part in scene.parts}
    bells = [
        (names[one.part], one.tone, one.wave.tolist(), one.colours, one.moves)
        for one in scene.things("bells")
    ]
    return [bells, [one.long for one in scene.things("ropes")]]


def test_a_file_keeps_them(tmp_path: Path) -> None:
    project = ringing()
    save_project(project, tmp_path / "a.kneten")
    assert told(open_project(tmp_path / "a.kneten").scene) == told(project.scene)


def test_undo_brings_them_back_with_their_part() -> None:
    project = ringing()
    before = told(project.scene)
    project.delete(project.scene.parts[0].id)
    assert [one.id for one in project.scene.things("bells")] == ["b"]
    assert project.scene.things("ropes") == ()
    project.undo()
    assert told(project.scene) == before


def test_new_clay_takes_them_along() -> None:
    project = ringing()
    one = project.scene.parts[0]
    project.change("Other clay", project.with_mesh(one.id, Mesh.from_faces(*ball(99.0, 10))))
    assert [bell.moves for bell in project.scene.things("bells")] == [1, 0]


def test_joined_parts_lose_those_of_what_is_gone() -> None:
    project = ringing()
    one, two = project.scene.parts
    put_together(project, one, make_ball(120.0, 8), [one.id, two.id], ("One", "Two"), "Join")
    assert [bell.id for bell in project.scene.things("bells")] == ["a"]
    assert project.scene.things("ropes") == ()


@pytest.mark.parametrize("saved", [False, True])
def test_a_journal_keeps_them(tmp_path: Path, saved: bool) -> None:
    project = ringing()
    journal = Journal(project, tmp_path / "journals")
    if saved:
        save_project(project, tmp_path / "a.kneten")
    journal.start(tmp_path / "a.kneten" if saved else None)
    first, second = project.scene.things("bells")
    louder = replace(first, wave=first.wave * 2)
    project.change("Louder", project.scene.with_things("bells", (louder, second)))
    project.change("Longer", project.scene.with_things("ropes", (Rope("a", "b", 9.0),)))
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    assert told(recover(left).scene) == told(project.scene)


def test_parts_from_elsewhere_bring_them_along() -> None:
    source, project = ringing(), ringing()
    kept = own_scene(source.scene, source.scene.parts)
    bring_in(project, "Bring in", kept)
    assert len(project.scene.things("bells")) == 4
    assert len({bell.id for bell in project.scene.things("bells")}) == 4
    names = {part.id: part.name for part in project.scene.parts}
    assert [names[bell.part] for bell in project.scene.things("bells")][2:] == ["One 2", "Two 2"]
    rope = project.scene.things("ropes")[1]
    assert (rope.start, rope.end) == tuple(bell.id for bell in project.scene.things("bells")[2:])
    alone = own_scene(source.scene, source.scene.parts[:1])
    assert len(alone.things("bells")) == 1
    assert alone.things("ropes") == ()


def test_landmarks_and_tapes_of_a_kept_part_come_along_too() -> None:
    project = ringing()
    one = project.scene.parts[0]
    top = landmark(project.scene, "Crown", one, np.array([0.0, 100.0, 0.0]))
    low = landmark(project.scene, "Chin", one, np.array([0.0, -100.0, 0.0]))
    scene = replace(project.scene, landmarks=(top, low), tapes=(Tape(top.id, low.id),))
    other = Project(Scene((Part("Own", make_ball(50.0, 8)),)))
    bring_in(other, "Bring in", own_scene(scene, scene.parts[:1]))
    assert [mark.name for mark in other.scene.landmarks] == ["Crown", "Chin"]
    (tape,) = other.scene.tapes
    assert (tape.start, tape.end) == tuple(mark.id for mark in other.scene.landmarks)
    assert tape.start != top.id


@pytest.mark.parametrize("spoilt", ["tone", "kind", "missing", "not finite"])
def test_a_spoilt_thing_is_refused(tmp_path: Path, spoilt: str) -> None:
    project = ringing()
    path = tmp_path / "a.kneten"
    save_project(project, path)
    content = read_content(path, Progress())
    if spoilt == "tone":
        content.document["bells"][0]["tone"] = -1.0
    elif spoilt == "kind":
        content.document["bells"][0]["tone"] = "high"
    elif spoilt == "missing":
        del content.arrays["bells/a/wave.npy"]
    else:
        content.arrays["bells/a/wave.npy"] = np.array([np.nan], np.float32)
    write_content(path, content, Progress())
    with pytest.raises(ProjectFileError, match="is damaged"):
        open_project(path)


def test_a_part_that_is_not_there_takes_its_things_with_it(tmp_path: Path) -> None:
    path = tmp_path / "a.kneten"
    save_project(ringing(), path)
    content = read_content(path, Progress())
    content.document["bells"][0]["part"] = "nobody"
    write_content(path, content, Progress())
    scene = open_project(path).scene
    assert [bell.id for bell in scene.things("bells")] == ["b"]
    assert scene.things("ropes") == ()
