"""Packed copies: the same to the bit, much smaller, and nothing impossible is read from one."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

from kneten.core.arrays import AnyArray, Cancelled, Progress
from kneten.core.stack import Stack
from kneten.core.transform import Transform
from kneten.document.arrays_file import Content, ProjectFileError, read_content, write_content
from kneten.document.layering import add_layer, exchange_level, record
from kneten.document.opening import stack_of
from kneten.document.packing import packable, packed, unpacked
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project, save_snapshot, snapshot
from tests.document.test_files import rich_project
from tests.document.test_project import same, small_project, state

WORDS = st.sampled_from([np.dtype(np.int32), np.dtype(np.uint32), np.dtype(np.float32)])


@given(WORDS.flatmap(lambda kind: arrays(kind, array_shapes(min_dims=1, max_dims=2, max_side=40))))
def test_any_words_come_back_to_the_bit(array: AnyArray) -> None:
    back = unpacked(np.frombuffer(packed(array), np.uint8), array.shape, array.dtype)
    assert back.dtype == array.dtype
    assert back.tobytes() == array.tobytes()


def test_only_words_of_four_bytes_are_packed() -> None:
    assert packable(np.zeros((30, 3), np.float32))
    for array in (np.zeros((30, 3), np.uint8), np.zeros((30, 3)), np.zeros(3, np.int32), np.float32(1.0)):
        assert not packable(np.asarray(array))


def layered() -> Project:
    """A part on three levels, with a layer on the highest."""
    project = small_project()
    part = project.scene.parts[0]
    project.choose(part.id)
    for _ in range(2):
        part = project.scene.part(part.id)
        exchange_level(project, part.id, *stack_of(part).added(part.mesh, Progress()), "Subdivide")
    part = project.scene.part(part.id)
    add_layer(project, part, "Pores")
    rough = part.mesh.positions + 0.1 * np.sin(part.mesh.positions * 3)
    project.move_vertices(part.id, rough.astype(np.float32), "Roughen")
    record(project, project.scene.part(part.id), "")
    return project


def test_a_packed_copy_is_the_same_project(tmp_path: Path) -> None:
    for number, project in enumerate((rich_project(), layered())):
        path = tmp_path / f"{number}.kneten"
        save_project(project, path, b"picture", small=True)
        again = open_project(path)
        assert same(state(project), state(again))
        save_project(again, tmp_path / "plain.kneten", b"picture")
        third = open_project(tmp_path / "plain.kneten")
        assert same(state(third), state(again))


def test_it_is_much_smaller_and_holds_nothing_twice(tmp_path: Path) -> None:
    project = layered()
    taken = snapshot(project)
    save_snapshot(tmp_path / "plain.kneten", taken)
    save_snapshot(tmp_path / "small.kneten", taken, small=True)
    plain, small = (tmp_path / f"{name}.kneten" for name in ("plain", "small"))
    assert small.stat().st_size < 0.55 * plain.stat().st_size
    words = json.loads(zipfile.ZipFile(small).read("project.json"))
    # Where the clay is, and where it was when its layers were last looked at.
    synced = words["parts"][0]["stack"]["synced"]
    assert (f"meshes/{words['parts'][0]['mesh']}/positions.npy", synced) in words["same"].items()
    save_snapshot(tmp_path / "again.kneten", taken, small=True)
    assert (tmp_path / "again.kneten").read_bytes() == small.read_bytes()


def test_arrays_that_were_one_in_the_file_are_two_in_the_project(tmp_path: Path) -> None:
    save_project(layered(), tmp_path / "a.kneten", small=True)
    again = open_project(tmp_path / "a.kneten")
    part = again.scene.parts[0]
    stack = part.stack
    assert isinstance(stack, Stack)
    assert not np.shares_memory(stack.synced, part.mesh.positions)
    again.place(part.id, Transform((5.0, 0.0, 0.0)))
    part.mesh.positions[0] += 1.0
    assert not np.array_equal(stack.synced[0], part.mesh.positions[0])


def changed(path: Path, change: dict[str, bytes], words: dict[str, object] | None = None) -> Path:
    """The file with some entries exchanged, by the end of their names."""
    with zipfile.ZipFile(path) as source:
        entries = {info.filename: source.read(info) for info in source.infolist()}
    document = json.loads(entries["project.json"])
    entries["project.json"] = json.dumps({**document, **(words or {})}).encode()
    for ending, data in change.items():
        name = next(name for name in entries if name.endswith(ending))
        entries[name] = data
    target = path.with_name("changed.kneten")
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return target


def test_impossible_packed_files_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.kneten"
    save_project(layered(), path, small=True)
    bytes_of = io.BytesIO()
    np.save(bytes_of, np.zeros((40, 3), np.float64))
    largest = "faces.npyd"
    for change, words in (
        ({largest: b""}, {}),
        ({largest: bytes_of.getvalue()}, {}),
        ({}, {"same": {"a.npy": "nowhere.npy"}}),
        ({}, {"same": [1, 2]}),
        ({}, {"same": {f"{k}.npy": "x" for k in range(3)}}),
    ):
        with pytest.raises(ProjectFileError, match="damaged"):
            open_project(changed(path, change, words))
    with zipfile.ZipFile(path) as archive:
        some = next(name for name in archive.namelist() if name.endswith(largest))[:-1]
    with pytest.raises(ProjectFileError, match="stand for each other"):
        open_project(changed(path, {}, {"same": {f"{k}.npy": some for k in range(9000)}}))


def test_packing_can_be_cancelled_and_leaves_the_old_file(tmp_path: Path) -> None:
    project = layered()
    path = tmp_path / "a.kneten"
    save_project(project, path)
    before = path.read_bytes()

    class Stopped(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    with pytest.raises(Cancelled):
        save_snapshot(path, snapshot(project), Stopped(), small=True)
    assert path.read_bytes() == before
    assert [one.name for one in tmp_path.iterdir()] == ["a.kneten"]


@pytest.mark.parametrize("of", [np.uint8, np.float32])
def test_even_values_pack_as_small_as_can_be_and_open_again(tmp_path: Path, of: type) -> None:
    """Nothing painted, or one colour, on millions of vertices shrinks a thousand times and more."""
    path = tmp_path / "even.kneten"
    content = Content({"format": "x"}, {"even.npy": np.zeros((1_700_000, 9), of)}, {})
    write_content(path, content, Progress(), small=True)
    with zipfile.ZipFile(path) as archive:
        (entry,) = (info for info in archive.infolist() if "even" in info.filename)
        assert entry.file_size > 1000 * entry.compress_size
    back = read_content(path, Progress()).arrays["even.npy"]
    assert back.dtype == of
    assert not back.any()
