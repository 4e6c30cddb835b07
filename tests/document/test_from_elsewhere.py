"""Project files that others have made: what does not hold together is refused in words, and nothing is read beyond."""

from __future__ import annotations

import io
import json
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kneten.core.mesh import Mesh
from kneten.core.subdivide import Step
from kneten.core.topology import MeshError, finish_topology
from kneten.document.arrays_file import ProjectFileError
from kneten.document.project_file import open_project, save_project
from tests.conftest import make_ball
from tests.fuzz import rich_project, used_to_the_end

Entries = dict[str, bytes]


def changed(tmp_path: Path, change: Callable[[dict[str, Any], Entries], None]) -> Path:
    """A rich project's file with its words or arrays changed."""
    path = tmp_path / "a.kneten"
    save_project(rich_project(), path)
    with zipfile.ZipFile(path) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    words = json.loads(entries["project.json"])
    change(words, entries)
    entries["project.json"] = json.dumps(words).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return path


def array(entries: Entries, name: str, change: Callable[[np.ndarray], np.ndarray]) -> None:
    found = np.load(io.BytesIO(entries[name])).copy()
    out = io.BytesIO()
    np.lib.format.write_array(out, change(found), version=(1, 0))
    entries[name] = out.getvalue()


def refused(path: Path, words: str) -> None:
    with pytest.raises(ProjectFileError, match=words):
        open_project(path)


def test_levels_whose_faces_are_in_another_order_are_refused(tmp_path: Path) -> None:
    def turn(words: dict[str, Any], entries: Entries) -> None:
        part = next(part for part in words["parts"] if "stack" in part)
        for level in part["stack"]["levels"]:
            array(entries, f"topologies/{level['topology']}/faces.npy", lambda faces: faces[::-1].copy())

    refused(changed(tmp_path, turn), "order of their least vertices")


def test_a_level_that_is_not_the_one_below_subdivided_is_refused(tmp_path: Path) -> None:
    def turn(words: dict[str, Any], entries: Entries) -> None:
        part = next(part for part in words["parts"] if len(part.get("stack", {"levels": ()})["levels"]) > 1)
        name = f"topologies/{part['stack']['levels'][1]['topology']}/faces.npy"
        # Each face begins with another corner: still the same surface, and no longer what the kernels take it for.
        array(entries, name, lambda faces: np.roll(faces, 1, axis=1))

    refused(changed(tmp_path, turn), "another order than the level below")


def test_no_kernel_is_handed_faces_it_could_run_away_with() -> None:
    shape = make_ball(10.0, 4).topology
    with pytest.raises(MeshError, match="order"):
        finish_topology(shape.faces[::-1].copy(), shape.source_vertex, shape.source_face)
    # A face that names a vertex twice has edges without a number: they must stay within what is there.
    faces = shape.faces.copy()
    faces[3, 1] = faces[3, 0]
    step = Step.of(finish_topology(faces, shape.source_vertex, shape.source_face, ordered=False))
    assert 0 <= step.edges.min() <= step.edges.max() < len(step.of_edge)


@pytest.mark.parametrize(
    ("transform", "fine"),
    [
        ({"turn": [0, 0, 0, 0]}, False),
        ({"scale": 1e300}, False),
        ({"scale": -1}, False),
        ({"place": [1e12, 0, 0]}, False),
        ({"turn": [0, 0, 0, 2]}, True),
        ({"place": [0, 0, "x"]}, False),
    ],
)
def test_transforms_are_usable_or_refused(tmp_path: Path, transform: dict[str, Any], fine: bool) -> None:
    def turn(words: dict[str, Any], entries: Entries) -> None:
        words["parts"][0]["transform"] |= transform

    path = changed(tmp_path, turn)
    if fine:
        used_to_the_end(open_project(path), tmp_path)
    else:
        refused(path, "damaged")


@pytest.mark.parametrize(
    "change",
    [
        lambda words: words["landmarks"][0].update(corners=[0, 1, 10**8]),
        lambda words: words["landmarks"][0].update(part="nobody"),
        lambda words: words["tapes"][0].update(start="nothing"),
        lambda words: words["guides"][0].update(part="nobody"),
        lambda words: words["references"][0].update(crop=[0.9, 0, 0.1, 1]),
        lambda words: words.update(masks=[]),
    ],
)
def test_things_that_name_what_is_not_there_are_mended(
    tmp_path: Path, change: Callable[[dict[str, Any]], None]
) -> None:
    path = changed(tmp_path, lambda words, entries: change(words))
    used_to_the_end(open_project(path), tmp_path)


@pytest.mark.parametrize(
    "change",
    [
        lambda words: words["landmarks"][0].update(shares=[1e9, 0, 0]),
        lambda words: words["landmarks"][0].update(place=[1e300, 0, 0]),
        lambda words: words["landmarks"][0].update(corners="abc"),
        lambda words: words["tapes"][0].update(divisions=[7.0]),
        lambda words: words["references"][0].update(scale=0),
        lambda words: words["camera"].update(distance=1e300),
        lambda words: words.update(parts={"a": 1}),
        lambda words: words.update(milestones=[3]),
        lambda words: words.update(budget=10**400),
        lambda words: words["parts"][2]["recipe"].update(size=[1, 2]),
    ],
)
def test_words_that_make_no_sense_are_refused(
    tmp_path: Path, change: Callable[[dict[str, Any]], None]
) -> None:
    refused(changed(tmp_path, lambda words, entries: change(words)), "damaged")


def test_places_too_far_are_refused_before_they_become_infinite(tmp_path: Path) -> None:
    def turn(words: dict[str, Any], entries: Entries) -> None:
        name = f"meshes/{words['parts'][0]['mesh']}/positions.npy"

        def far(positions: np.ndarray) -> np.ndarray:
            positions[0] = 3e38
            return positions

        array(entries, name, far)

    refused(changed(tmp_path, turn), "thousand kilometres")
    with pytest.raises(MeshError, match="thousand kilometres"):
        Mesh.from_faces(np.full((3, 3), 1e38, np.float32), np.array([[0, 1, 2]], np.int32))


@pytest.mark.parametrize(
    "head", [b"{'descr': '<f4', ", b"[" * 50_000, b"{'shape': (99**99**9,)}", b"\xff" * 60]
)
def test_array_heads_that_make_no_sense_are_refused(tmp_path: Path, head: bytes) -> None:
    def turn(words: dict[str, Any], entries: Entries) -> None:
        name = next(name for name in entries if name.endswith("positions.npy"))
        entries[name] = b"\x93NUMPY\x01\x00" + min(len(head), 65_535).to_bytes(2, "little") + head

    refused(changed(tmp_path, turn), "damaged")


def test_words_nested_without_end_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "deep.kneten"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("project.json", b'{"format":' + b"[" * 200_000 + b"]" * 200_000 + b"}")
    refused(path, "damaged")


def test_what_unpacks_to_far_too_much_is_refused_unread(tmp_path: Path) -> None:
    path = tmp_path / "bomb.kneten"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("project.json", json.dumps({"format": "kneten-project", "version": 1}))
        with archive.open("references/large.png", "w", force_zip64=True) as entry:
            for _ in range(600):
                entry.write(bytes(1 << 20))
    assert path.stat().st_size < 2_000_000
    began = time.process_time()
    refused(path, "impossible size")
    assert time.process_time() - began < 1.0


def test_entries_that_lie_over_each_other_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "over.kneten"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("project.json", b"{}")
        archive.writestr("a.npy", bytes(100_000))
        first = archive.getinfo("a.npy")
        for count in range(50):
            twin = zipfile.ZipInfo(f"{count}.npy")
            twin.header_offset, twin.CRC = first.header_offset, first.CRC
            twin.compress_size = twin.file_size = first.file_size
            archive.filelist.append(twin)
            archive.NameToInfo[twin.filename] = twin
    refused(path, "lie over each other")
