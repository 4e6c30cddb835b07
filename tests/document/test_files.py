"""The project file: bit-exact, readable by others, atomic, and clear about what is wrong."""

from __future__ import annotations

import contextlib
import errno
import io
import json
import os
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Cancelled, Progress
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.transform import Transform
from kneten.document import arrays_file
from kneten.document.arrays_file import ProjectFileError
from kneten.document.look import Look
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project, save_snapshot, snapshot
from kneten.document.scene import Part, Scene
from kneten.document.settings import SavedView
from tests.document.test_project import random_change, same, small_project, state


def rich_project() -> Project:
    """Parts, colours, masks, transforms, milestones."""
    positions, faces = ball(30.0, 8)
    colour = np.random.default_rng(0).integers(0, 255, (len(positions), 4)).astype(np.uint8)
    mask = np.linspace(0, 1, len(positions), dtype=np.float32)
    painted = Mesh.from_faces(positions, faces, colour, mask)
    place = Transform((1.0, 2.0, 3.0), scale=1.5).with_degrees(10, 20, 30)
    project = Project(Scene((Part("Ball", painted, transform=place),)))
    rng = np.random.default_rng(5)
    for _ in range(40):
        random_change(project, rng)
    project.change_settings(symmetry=(True, False, True))
    project.change_settings(unit="cm")
    project.change_settings(camera=Camera((1.0, 2.0, 3.0), 123.4, 5.0, 6.0, 30.0, True, 12.0))
    project.change_settings(look=Look("contours", band=2.5, wires=True))
    project.change_settings(matcaps={"my ball": b"\x89PNG picture"})
    project.change_settings(views=(SavedView("Side", Camera(yaw=80.0, roll=3.0), b"\x89PNG view"),))
    if project.scene.milestones:
        first = project.scene.milestones[0]
        project.edit_milestone(first.id, "Named", "with a note")
    return project


def test_saved_and_reopened_is_the_same_to_the_bit(tmp_path: Path) -> None:
    project = rich_project()
    save_project(project, tmp_path / "a.kneten", b"picture")
    again = open_project(tmp_path / "a.kneten")
    assert same(state(project), state(again))
    assert again.settings == project.settings
    assert again.active_id == project.active_id
    for one, other in zip(project.scene.parts, again.scene.parts, strict=True):
        assert np.array_equal(one.mesh.normals, other.mesh.normals) or np.allclose(
            one.mesh.normals, other.mesh.normals, atol=1e-6
        )
        assert np.array_equal(*(np.array(m.source_arrays()[0]) for m in (one.mesh, other.mesh)))
        if one.mesh.mask is not None:
            assert np.array_equal(one.mesh.mask, other.mesh.mask)
    save_project(again, tmp_path / "b.kneten", b"picture")
    third = open_project(tmp_path / "b.kneten")
    assert same(state(third), state(again))


def test_standard_library_and_numpy_alone_can_read_it(tmp_path: Path) -> None:
    project = rich_project()
    save_project(project, tmp_path / "a.kneten")
    with zipfile.ZipFile(tmp_path / "a.kneten") as archive:
        words = json.loads(archive.read("project.json"))
        assert (words["format"], words["version"]) == ("kneten-project", 1)
        for part, known in zip(words["parts"], project.scene.parts, strict=True):

            def load(name: str) -> np.ndarray:
                return np.load(io.BytesIO(archive.read(name)))

            positions = load(f"meshes/{part['mesh']}/positions.npy")
            faces = load(f"topologies/{part['topology']}/faces.npy")
            order = load(f"topologies/{part['topology']}/source_vertex.npy")
            in_order = np.empty_like(positions)
            in_order[order] = positions
            assert np.array_equal(in_order, known.mesh.source_arrays()[0])
            assert faces.shape == known.mesh.topology.faces.shape
            assert part["name"] == known.name


@pytest.mark.parametrize("number", [errno.ENOSPC, errno.EACCES, errno.EROFS])
def test_a_failed_save_leaves_the_old_file_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    project = small_project()
    target = tmp_path / "a.kneten"
    save_project(project, target)
    before = target.read_bytes()

    def full(_: int) -> None:
        raise OSError(number, os.strerror(number))

    monkeypatch.setattr(arrays_file.os, "fsync", full)
    with pytest.raises(ProjectFileError, match=r"disk is full|No permission"):
        save_project(project, target)
    assert target.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.kneten"]


def test_a_really_full_file_system(tmp_path: Path) -> None:
    import resource
    import signal

    project = small_project()
    target = tmp_path / "a.kneten"
    save_project(project, target)
    before = target.read_bytes()
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    old = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    try:
        resource.setrlimit(resource.RLIMIT_FSIZE, (len(before) // 2, hard))
        with pytest.raises(ProjectFileError, match=r"a\.kneten"):
            save_project(project, target)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
        signal.signal(signal.SIGXFSZ, old)
    assert target.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.kneten"]


def test_a_cancelled_save_leaves_no_trace(tmp_path: Path) -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    with pytest.raises(Cancelled):
        save_snapshot(tmp_path / "a.kneten", snapshot(small_project()), Stop())
    assert list(tmp_path.iterdir()) == []


def test_places_that_cannot_be_written_are_named(tmp_path: Path) -> None:
    with pytest.raises(ProjectFileError, match="is not there"):
        save_project(small_project(), tmp_path / "missing" / "a.kneten")
    (tmp_path / "folder.kneten").mkdir()
    with pytest.raises(ProjectFileError, match="folder"):
        save_project(small_project(), tmp_path / "folder.kneten")


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "not a Kneten project"),
        (b"hello, clay", "not a Kneten project"),
        (None, "There is no"),
    ],
)
def test_other_files_are_refused(tmp_path: Path, data: bytes | None, words: str) -> None:
    path = tmp_path / "a.kneten"
    if data is not None:
        path.write_bytes(data)
    with pytest.raises(ProjectFileError, match=words):
        open_project(path)


def rewritten(path: Path, **changes: object) -> Path:
    """The file with parts of its list of contents changed, or entries left out (None)."""
    out = path.with_name("changed.kneten")
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(out, "w") as target:
        for name in source.namelist():
            data = source.read(name)
            if name == "project.json":
                words = json.loads(data)
                words.update({k: v for k, v in changes.items() if k != "without"})
                data = json.dumps(words).encode()
            if changes.get("without") and str(changes["without"]) in name:
                continue
            target.writestr(name, data)
    return out


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"version": 99}, "newer Kneten"),
        ({"format": "other"}, "not a Kneten project"),
        ({"parts": 3}, "damaged"),
        ({"camera": {"distance": "far"}}, "damaged"),
        ({"parts": [{"name": "x"}]}, "damaged"),
        ({"without": "faces"}, "missing"),
        ({"without": "positions"}, "missing"),
    ],
)
def test_damage_is_described(tmp_path: Path, changes: dict[str, object], words: str) -> None:
    save_project(small_project(), tmp_path / "a.kneten")
    with pytest.raises(ProjectFileError, match=words):
        open_project(rewritten(tmp_path / "a.kneten", **changes))


@given(st.data())
def test_cut_or_flipped_files_never_crash(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("files")
    project = Project(Scene((Part("Ball", Mesh.from_faces(*ball(5.0, 4))),)))
    path = folder / "a.kneten"
    save_project(project, path)
    raw = bytearray(path.read_bytes())
    if data.draw(st.booleans()):
        raw = raw[: data.draw(st.integers(0, len(raw) - 1))]
    else:
        for _ in range(data.draw(st.integers(1, 8))):
            raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    path.write_bytes(bytes(raw))
    with contextlib.suppress(ProjectFileError):
        assert len(open_project(path).scene.parts) <= 1
