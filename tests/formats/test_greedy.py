"""Files that ask for too much: limits with words, and time that grows with the file."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from kneten.core.repeated import repeated_faces
from kneten.formats.exchange import read_file
from kneten.formats.pieces import MOST_OBJECTS, FormatError

TRIANGLE = b"v 0 0 0\nv 1 0 0\nv 0 1 0\n"
LONG = b"1" * 1_000_000
PLY = (
    b"ply\nformat ascii 1.0\nelement vertex 3000\nproperty float x\nproperty float y\nproperty float z\n"
    b"element face 1\nproperty list uchar int vertex_indices\nend_header\n"
)
STL = b"solid a\nfacet normal 0 0 1\nouter loop\nvertex %s 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\nendsolid a\n"


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("vertex.obj", b"v " + LONG + b" 0 0\n" + TRIANGLE * 2000 + b"f 1 2 3\n"),
        ("face.obj", TRIANGLE + b"f 1 2 " + LONG + b"\n"),
        ("word.ply", PLY + LONG + b" 0 0\n" + b"1 0 0\n" * 2999 + b"3 0 1 2\n"),
        ("word.stl", STL % LONG),
    ],
)
def test_one_long_word_is_refused_without_room_for_all_others(tmp_path: Path, name: str, data: bytes) -> None:
    path = tmp_path / name
    path.write_bytes(data)
    code = (
        "import resource, sys; resource.setrlimit(resource.RLIMIT_AS, (3 << 30, 3 << 30));"
        "from kneten.formats.exchange import read_file; from pathlib import Path\n"
        "try: read_file(Path(sys.argv[1]))\n"
        "except Exception as error: print(type(error).__name__, error)"
    )
    done = subprocess.run([sys.executable, "-c", code, str(path)], capture_output=True, text=True, check=True)
    assert "FormatError" in done.stdout
    assert "characters where a number should stand" in done.stdout


def test_more_objects_than_make_sense_are_refused_in_words(tmp_path: Path) -> None:
    path = tmp_path / "many.obj"
    path.write_bytes(TRIANGLE + b"".join(b"o a%d\nf 1 2 3\n" % k for k in range(MOST_OBJECTS + 1)))
    with pytest.raises(FormatError, match="5,001 objects; 5,000 is the most"):
        read_file(path)


def test_objects_take_time_by_their_own_size(tmp_path: Path) -> None:
    def seconds(count: int) -> float:
        path = tmp_path / f"{count}.obj"
        # Many vertices that most objects have nothing to do with.
        path.write_bytes(
            b"v 0 0 0\n" * 50_000
            + b"".join(b"o a%d\n" % k + TRIANGLE + b"f -3 -2 -1\n" for k in range(count))
        )
        began = time.process_time()
        meshes, _ = read_file(path)
        assert len(meshes) == count
        assert all(mesh.n_vertices == 3 for _, mesh, _ in meshes)
        return time.process_time() - began

    seconds(2)
    few, many = seconds(150), seconds(1200)
    assert many < 16 * few + 0.5


def test_faces_that_are_there_already_are_left_out(tmp_path: Path) -> None:
    path = tmp_path / "same.obj"
    path.write_bytes(TRIANGLE + b"f 1 2 3\nf 2 3 1\nf 3 2 1\nf 1 3 2\n" * 20_000)
    ((_, mesh, _),), notices = read_file(path)
    # Both sides of a flat body stay.
    assert mesh.topology.n_faces == 2
    assert any("79,998 faces that were there already" in text for text in notices)


@pytest.mark.parametrize("vertices", [9, 40, 2000])
def test_repeated_faces_are_those_that_a_set_finds(vertices: int) -> None:
    """Where many faces have a corner in common, and where few have."""
    rng = np.random.default_rng(3)
    faces = rng.integers(0, vertices, (3000, 4)).astype(np.int32)
    faces[1500:2000] = np.roll(faces[:500], 1, axis=1)
    faces[rng.random(3000) < 0.4, 3] = -1
    seen: set[tuple[int, ...]] = set()
    wanted = []
    for row in faces.tolist():
        corners = row if row[3] >= 0 else row[:3]
        at = corners.index(min(corners))
        key = tuple(corners[at:] + corners[:at])
        wanted.append(key in seen)
        seen.add(key)
    assert repeated_faces(faces).astype(bool).tolist() == wanted


def test_a_fan_of_too_many_faces_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "fan.obj"
    rim = b"".join(b"v %d 1 0\n" % k for k in range(30_000))
    path.write_bytes(b"v 0 0 0\n" + rim + b"".join(b"f 1 %d %d\n" % (k, k + 1) for k in range(2, 30_000)))
    with pytest.raises(FormatError, match="more than 20,000 faces around it"):
        read_file(path)


def test_nodes_that_double_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "doubling.gltf"
    nodes = [{"children": [k + 1, k + 1]} for k in range(40)] + [{}]
    path.write_text(json.dumps({"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": nodes}))
    with pytest.raises(FormatError, match="several places"):
        read_file(path)


def test_blank_lines_and_deep_nests_take_no_time(tmp_path: Path) -> None:
    blank, deep = tmp_path / "blank.stl", tmp_path / "deep.gltf"
    blank.write_bytes(b"solid a\nfacet\n" + b"\n" * 400_000 + b"endsolid a\n")
    deep.write_bytes(b'{"asset":{},"x":' + b"[" * 100_000 + b"]" * 100_000 + b"}")
    began = time.process_time()
    for path in (blank, deep):
        with pytest.raises(FormatError):
            read_file(path)
    assert time.process_time() - began < 5.0


def test_places_beyond_a_thousand_kilometres_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "far.obj"
    path.write_bytes(b"v 1e38 0 0\nv 0 1e38 0\nv 0 0 1\nf 1 2 3\n")
    with pytest.raises(FormatError, match="check the unit"):
        read_file(path)
