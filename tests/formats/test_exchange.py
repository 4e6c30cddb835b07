"""Files out and in again, read by an independent library, and broken in every way."""

from __future__ import annotations

import contextlib
import json
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Cancelled, Progress
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.transform import Transform
from kneten.document.arrays_file import ProjectFileError
from kneten.document.layering import add_layer
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.formats.exchange import pieces_of, read_file, usual_space, write_file
from kneten.formats.light_codes import to_linear, to_srgb
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.conftest import make_ball
from tests.judge import well_formed

MM = Space("mm")
KINDS = [(".obj", False), (".ply", False), (".ply", True), (".stl", False), (".stl", True)]
KINDS += [(".glb", False), (".gltf", False)]


def shuffled_part(name: str = "Näse", colour: bool = True, triangles: bool = False) -> Part:
    """A ball whose vertices come in no order at all."""
    rng = np.random.default_rng(2)
    positions, faces = ball(30.0, 8)
    if triangles:
        faces = np.concatenate([faces[:, :3], faces[:, [0, 2, 3]]])
    order = rng.permutation(len(positions))
    place = np.argsort(order).astype(np.int32)
    paint = rng.integers(0, 256, (len(positions), 4)).astype(np.uint8)
    paint[:, 3] = 255
    mesh = Mesh.from_faces(positions[order], place[faces], paint if colour else None)
    return Part(name, mesh)


def arrays(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    return mesh.source_arrays()


@pytest.mark.parametrize(("ending", "text"), KINDS)
def test_one_part_there_and_back(tmp_path: Path, ending: str, text: bool) -> None:
    part = shuffled_part(triangles=ending in (".stl", ".glb", ".gltf"))
    path = tmp_path / f"a{ending}"
    write_file(path, pieces_of([part], MM), text)
    ((name, mesh, _),), _ = read_file(path, MM)
    before, faces_before = arrays(part.mesh)
    after, faces_after = arrays(mesh)
    if ending == ".stl":
        # STL has loose corners: order is that of the triangles, but the surface is the same.
        assert after[faces_after[:, :3]] == pytest.approx(before[faces_before[:, :3]])
        assert len(after) == len(before)
        return
    assert np.array_equal(after, before)
    assert np.array_equal(faces_after, faces_before)
    assert mesh.colour is not None
    assert np.array_equal(mesh.in_source_order(mesh.colour), part.mesh.in_source_order(part.mesh.colour))
    if ending != ".ply":
        assert name == "Näse"


@pytest.mark.parametrize(("ending", "text"), KINDS)
def test_an_independent_reader_sees_the_same(tmp_path: Path, ending: str, text: bool) -> None:
    part = shuffled_part()
    path = tmp_path / f"a{ending}"
    write_file(path, pieces_of([part], MM), text)
    if ending in (".glb", ".gltf"):
        well_formed(path)
    seen = trimesh.load(path, process=False, force="mesh")
    positions, faces = arrays(part.mesh)
    theirs = seen.vertices[seen.faces]
    area = 0.0
    for corners in (faces[:, :3], faces[:, [0, 2, 3]]):
        a, b, c = (positions[corners[:, k]].astype(float) for k in range(3))
        area += np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2
    assert seen.area == pytest.approx(area, rel=1e-5)
    assert len(theirs) == 2 * len(faces)
    assert seen.volume > 0


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl", ".glb"])
def test_files_of_an_independent_writer_are_read(tmp_path: Path, ending: str) -> None:
    thing = trimesh.creation.torus(10.0, 3.0)
    path = tmp_path / f"a{ending}"
    thing.export(path)
    ((_, mesh, _),), _ = read_file(path, MM)
    assert mesh.topology.n_faces == len(thing.faces)
    low, high = mesh.bounds()
    assert (high - low) == pytest.approx(thing.extents, rel=1e-5)
    assert not mesh.topology.border.any()


@pytest.mark.parametrize("ending", [".obj", ".glb", ".gltf"])
def test_several_objects_keep_names_and_order(tmp_path: Path, ending: str) -> None:
    parts = [shuffled_part("One"), shuffled_part("Two", colour=False), shuffled_part("Three")]
    path = tmp_path / f"a{ending}"
    write_file(path, pieces_of(parts, MM))
    pieces, _ = read_file(path, MM)
    assert [name for name, _, _ in pieces] == ["One", "Two", "Three"]
    for (_, mesh, _), part in zip(pieces, parts, strict=True):
        assert np.array_equal(arrays(mesh)[0], arrays(part.mesh)[0])


def test_what_a_format_cannot_hold_is_said(tmp_path: Path) -> None:
    parts = [shuffled_part("One"), shuffled_part("Two")]
    notices = write_file(tmp_path / "a.stl", pieces_of(parts, MM))
    assert any("no quads" in n for n in notices)
    assert any("no colours" in n for n in notices)
    assert any("one object" in n for n in write_file(tmp_path / "a.ply", pieces_of(parts, MM)))


@pytest.mark.parametrize(("unit", "factor"), [("mm", 1), ("cm", 10), ("m", 1000), ("in", 25.4)])
@pytest.mark.parametrize("up", ["y", "z"])
def test_units_and_up_axis(tmp_path: Path, unit: str, factor: float, up: str) -> None:
    space = Space(unit, up)
    path = tmp_path / "a.obj"
    path.write_text("v 1 2 3\nv 2 2 3\nv 1 3 3\nf 1 2 3\n")
    ((_, mesh, _),), _ = read_file(path, space)
    first = arrays(mesh)[0][0]
    expected = np.array([1, 2, 3] if up == "y" else [1, 3, -2]) * factor
    assert first == pytest.approx(expected)
    write_file(tmp_path / "b.obj", pieces_of([Part("A", mesh)], space))
    line = (tmp_path / "b.obj").read_text().splitlines()[2]
    assert [float(v) for v in line.split()[1:]] == pytest.approx([1, 2, 3])
    assert usual_space(Path("x.GLB")).unit == "m"


def test_parts_are_written_where_they_stand(tmp_path: Path) -> None:
    part = Part("A", make_ball(10.0, 4), transform=Transform((100.0, 0, 0), scale=2.0))
    write_file(tmp_path / "a.ply", pieces_of([part], MM))
    ((_, mesh, _),), _ = read_file(tmp_path / "a.ply", MM)
    low, high = mesh.bounds()
    assert (low[0], high[0]) == pytest.approx((80, 120))


def test_obj_dialects(tmp_path: Path) -> None:
    path = tmp_path / "a.obj"
    path.write_bytes(
        b"# note\r\nmtllib x.mtl\r\nv 0 0 0 1\r\nv 1 0 0 1\r\nv 1 1 0 1\r\nv 0 1 0 1\r\nv 0 2 0 1\r\n"
        b"vt 0 0\r\nvn 0 0 1\r\ng first\r\nf 1/1/1 2/1/1 \\\r\n3/1/1\r\nf -5//1 -3//1 -2//1\r\n"
        b"g second\r\nf 1 2 3 4 5\r\nf 1 1 2\r\n"
    )
    pieces, notices = read_file(path)
    assert [name for name, _, _ in pieces] == ["first", "second"]
    assert [m.topology.n_faces for _, m, _ in pieces] == [2, 3]
    assert any("cut into triangles" in n for n in notices)
    assert any("without surface" in n for n in notices)


def test_ply_dialects(tmp_path: Path) -> None:
    head = "ply\nformat binary_big_endian 1.0\nelement vertex 3\nproperty double x\nproperty double y\n"
    head += "property double z\nproperty float quality\nelement face 1\n"
    head += "property list ushort uint vertex_index\nproperty uchar flags\nend_header\n"
    rows = b"".join(struct.pack(">dddf", *p, 0.5) for p in ((0, 0, 0), (1, 0, 0), (0, 1, 0)))
    path = tmp_path / "a.ply"
    path.write_bytes(head.encode() + rows + struct.pack(">HIIIB", 3, 0, 1, 2, 7))
    ((_, mesh, _),), _ = read_file(path)
    assert arrays(mesh)[1].tolist() == [[0, 1, 2, -1]]


@pytest.mark.parametrize("order", ["little", "big"])
@pytest.mark.parametrize("count", ["uchar", "ushort", "int"])
@pytest.mark.parametrize("sizes", [(3, 3, 3), (4, 4), (3, 4, 3), (4, 5)])
def test_ply_faces_of_one_size_and_of_many_are_read_alike(
    tmp_path: Path, order: str, count: str, sizes: tuple[int, ...]
) -> None:
    rng = np.random.default_rng(len(sizes))
    points = rng.normal(size=(12, 3)).astype(np.float32)
    faces = [list(range(k, k + size)) for k, size in enumerate(sizes)]
    head = f"ply\nformat binary_{order}_endian 1.0\nelement vertex 12\n" + "".join(
        f"property float {a}\n" for a in "xyz"
    )
    head += f"element face {len(faces)}\nproperty uchar kind\nproperty list {count} int vertex_indices\nproperty float area\nend_header\n"
    way = {"little": "<", "big": ">"}[order]
    letter = {"uchar": "B", "ushort": "H", "int": "i"}[count]
    rows = b"".join(struct.pack(f"{way}B{letter}{len(f)}if", 9, len(f), *f, 0.5) for f in faces)
    path = tmp_path / "a.ply"
    path.write_bytes(head.encode() + points.astype(f"{way}f4").tobytes() + rows)
    ((_, mesh, _),), _ = read_file(path)
    found = [[int(v) for v in row if v >= 0] for row in arrays(mesh)[1]]
    assert sum(len(face) - 2 for face in found) == sum(size - 2 for size in sizes)
    if max(sizes) <= 4:
        assert found == faces
    path.write_bytes(path.read_bytes()[:-6])
    with pytest.raises(FormatError, match="cut short"):
        read_file(path)


def test_gltf_nodes_and_kinds(tmp_path: Path) -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], "<f4")
    index = np.array([0, 1, 2, 3], "<u2")
    blob = points.tobytes() + index.tobytes()
    words = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [0]}],
        "nodes": [{"children": [1], "translation": [5, 0, 0]}, {"mesh": 0, "scale": [-2, 2, 2]}],
        "meshes": [
            {"name": "Strip", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "mode": 5}]}
        ],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 4, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteLength": 48},
            {"buffer": 0, "byteOffset": 48, "byteLength": 8},
        ],
        "buffers": [{"byteLength": len(blob), "uri": "points%20here.bin"}],
    }
    (tmp_path / "a.gltf").write_text(json.dumps(words))
    (tmp_path / "points here.bin").write_bytes(blob)
    ((name, mesh, _),), _ = read_file(tmp_path / "a.gltf", MM)
    assert name == "Strip"
    positions, faces = arrays(mesh)
    assert positions[1].tolist() == [3, 0, 0]
    # Mirrored by its scale: the faces are turned so that they still face +z.
    a, b, c = positions[faces[0, :3]]
    assert np.cross(b - a, c - a)[2] > 0


def test_colours_survive_linear_light_exactly() -> None:
    every = np.arange(256, dtype=np.uint8)
    assert np.array_equal(to_srgb(to_linear(every).astype(np.float32).astype(np.float64)), every)


GOOD_PLY = (
    "ply\nformat ascii 1.0\nelement vertex {v}\nproperty float x\nproperty float y\nproperty float z\n"
    "element face {f}\nproperty list uchar int vertex_indices\nend_header\n{body}"
)
STL_HEAD = b"x".ljust(80)
BROKEN: list[tuple[str, bytes, str]] = [
    ("empty.obj", b"", "it is empty"),
    ("nothing.obj", b"# only a note\n", "no vertices"),
    ("points.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\n", "no faces"),
    ("range.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "names vertex 9, but there are 3"),
    ("zero.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n", "counts from 1"),
    ("back.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf -9 1 2\n", "counts back"),
    ("nan.obj", b"v 0 nan 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "not a finite number"),
    ("huge.obj", b"v 0 1e300 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "not a finite number"),
    ("words.obj", b"v a b c\nf 1 2 3\n", "not a number"),
    ("short.obj", b"v 0 0\nv 1 0\nv 0 1\nf 1 2 3\n", "fewer than three numbers"),
    ("line.obj", b"v 0 0 0\nv 1 0 0\nf 1 2\n", "fewer than three corners"),
    ("flat.obj", b"v 0 0 0\nv 1 0 0\nf 1 1 2\n", "no faces"),
    ("wrong.obj", b"ply\nformat ascii 1.0\n", "wrong ending"),
    ("wrong.stl", b"glTF" + b"\0" * 200, "wrong ending"),
    ("zip.glb", b"PK\x03\x04" + b"\0" * 40, "wrong ending"),
    ("head.ply", b"ply\nformat ascii 1.0\n", "header"),
    ("kind.ply", b"ply\nformat odd 1.0\nend_header\n", "PLY kind"),
    ("junk.ply", b"ply\nformat ascii 1.0\nelement vertex many\nend_header\n", "makes no sense"),
    ("count.ply", GOOD_PLY.format(v=4000000000, f=1, body="0 0 0\n").encode(), "4,000,000,000 rows"),
    ("cut.ply", GOOD_PLY.format(v=3, f=1, body="0 0 0\n1 0 0\n").encode(), "cut short"),
    ("cutf.ply", GOOD_PLY.format(v=3, f=2, body="0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n").encode(), "cut short"),
    ("nan.ply", GOOD_PLY.format(v=3, f=1, body="0 0 nan\n1 0 0\n0 1 0\n3 0 1 2\n").encode(), "finite"),
    (
        "range.ply",
        GOOD_PLY.format(v=3, f=1, body="0 0 0\n1 0 0\n0 1 0\n3 0 1 7\n").encode(),
        "names vertex 8",
    ),
    ("neg.ply", GOOD_PLY.format(v=3, f=1, body="0 0 0\n1 0 0\n0 1 0\n3 0 1 -2\n").encode(), "names vertex"),
    ("cloud.ply", GOOD_PLY.format(v=3, f=0, body="0 0 0\n1 0 0\n0 1 0\n").encode(), "no faces"),
    ("few.stl", b"abc", "too short"),
    ("none.stl", STL_HEAD + struct.pack("<I", 0), "no faces"),
    ("count.stl", STL_HEAD + struct.pack("<I", 4_000_000_000), "cut short"),
    ("cut.stl", STL_HEAD + struct.pack("<I", 2) + b"\0" * 60, "cut short"),
    ("nan.stl", STL_HEAD + struct.pack("<I", 1) + struct.pack("<12fH", *[np.nan] * 12, 0), "finite"),
    ("open.stl", b"solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\n", "cut short"),
    ("two.stl", b"solid a\nfacet\nvertex 0 0 0\nvertex 1 0 0\nendfacet\nendsolid a\n", "three corners"),
    ("bad.gltf", b"{", "not JSON"),
    ("other.gltf", b"[1, 2]", "not a glTF"),
    ("none.gltf", b'{"asset": {"version": "2.0"}}', "no meshes"),
    ("fit.gltf", b'{"asset": {}, "scenes": [{"nodes": [7]}]}', "fit together"),
    (
        "ring.gltf",
        b'{"asset": {}, "scenes": [{"nodes": [0]}], "nodes": [{"children": [0]}]}',
        "circle",
    ),
    ("packed.gltf", b'{"asset": {}, "extensionsRequired": ["X_packed"]}', "X_packed"),
    ("short.glb", b"glTF\x02\0\0\0", "cut short"),
    ("long.glb", struct.pack("<4sII", b"glTF", 2, 999999) + b"\0" * 20, "cut short"),
    ("old.glb", struct.pack("<4sII", b"glTF", 1, 20) + b"\0" * 20, "version 1"),
    ("picture.xyz", b"1 2 3", "cannot read"),
]


@pytest.mark.parametrize(("name", "data", "words"), BROKEN, ids=[b[0] for b in BROKEN])
def test_bad_files_are_described(tmp_path: Path, name: str, data: bytes, words: str) -> None:
    path = tmp_path / name
    path.write_bytes(data)
    with pytest.raises(FormatError) as caught:
        read_file(path)
    assert words in str(caught.value)
    assert name in str(caught.value)


def test_missing_files_and_folders(tmp_path: Path) -> None:
    with pytest.raises(FormatError, match="There is no"):
        read_file(tmp_path / "a.obj")
    (tmp_path / "b.obj").mkdir()
    with pytest.raises(FormatError, match="folder"):
        read_file(tmp_path / "b.obj")


def test_gltf_buffers_outside_the_folder_are_not_read(tmp_path: Path) -> None:
    part = shuffled_part()
    write_file(tmp_path / "a.gltf", pieces_of([part], MM))
    words = json.loads((tmp_path / "a.gltf").read_text())
    for uri, text in (("../secret.bin", "outside"), ("gone.bin", "missing")):
        words["buffers"][0]["uri"] = uri
        (tmp_path / "b.gltf").write_text(json.dumps(words))
        with pytest.raises(FormatError, match=text):
            read_file(tmp_path / "b.gltf")


def test_names_that_are_not_utf8_are_read_and_told(tmp_path: Path) -> None:
    path = tmp_path / "a.obj"
    path.write_bytes(b"o N\xe4se\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    ((name, _, _),), notices = read_file(path)
    assert name == "Näse"
    assert any("UTF-8" in n for n in notices)


@pytest.mark.parametrize(("ending", "text"), KINDS)
@given(data=st.data())
def test_cut_or_flipped_files_never_crash_or_hang(
    tmp_path_factory: pytest.TempPathFactory, ending: str, text: bool, data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("broken")
    path = folder / f"a{ending}"
    write_file(path, pieces_of([Part("A", make_ball(5.0, 2))], MM), text)
    raw = bytearray(path.read_bytes())
    if data.draw(st.booleans()):
        raw = raw[: data.draw(st.integers(0, len(raw) - 1))]
    for _ in range(data.draw(st.integers(0, 6))):
        if raw:
            raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    path.write_bytes(bytes(raw))
    with contextlib.suppress(FormatError):
        for _, mesh, _ in read_file(path)[0]:
            assert np.isfinite(mesh.positions).all()
            assert mesh.topology.faces.max() < mesh.n_vertices


def test_failed_and_cancelled_exports_leave_the_old_file(tmp_path: Path) -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    path = tmp_path / "a.obj"
    path.write_text("old")
    with pytest.raises(Cancelled):
        write_file(path, pieces_of([shuffled_part()], MM), progress=Stop())
    assert path.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["a.obj"]
    with pytest.raises(FormatError, match="no part is visible"):
        write_file(path, [])
    with pytest.raises(FormatError, match="cannot write"):
        write_file(tmp_path / "a.abc", pieces_of([shuffled_part()], MM))


def test_exports_name_what_they_lose(tmp_path: Path) -> None:
    mesh = make_ball(10.0, 4)
    mesh.colour = np.full((mesh.n_vertices, 4), 200, np.uint8)
    mesh.mask = np.ones(mesh.n_vertices, np.float32)
    part = Part("A", mesh)
    project = Project(Scene((part, Part("B", make_ball(5.0, 4)))))
    add_layer(project, part)
    told = {}
    for ending in (".obj", ".ply", ".stl", ".glb"):
        told[ending] = " ".join(write_file(tmp_path / f"a{ending}", pieces_of(project.scene.parts, MM)))
        assert "masks and layers stay in the project" in told[ending]
    assert "no opacity" in told[".obj"]
    assert "no colours" in told[".stl"]
    assert "one object" in told[".ply"]
    assert "opacity" not in told[".ply"] + told[".glb"]
    assert write_file(tmp_path / "b.obj", pieces_of(project.scene.parts[1:], MM)) == []


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n".encode("utf-16"), "UTF-16"),
        ("a.gltf", b'{"asset":{"version":"1.0"},"meshes":{}}', "glTF 1.0"),
        ("a.gltf", b'{"asset":', "line 1, column 10"),
        (
            "a.gltf",
            b'{"asset":{"version":"2.0"},"meshes":[{"primitives":[{"attributes":{"POSITION":7}}]}],'
            b'"nodes":[{"mesh":0}],"scenes":[{"nodes":[0]}]}',
            "'accessors' is missing",
        ),
        ("a.obj", b"# nothing", "is this an OBJ file\\?$"),
    ],
)
def test_what_is_wrong_is_said_in_plain_words(tmp_path: Path, name: str, data: bytes, words: str) -> None:
    path = tmp_path / name
    path.write_bytes(data)
    with pytest.raises(FormatError, match=words) as told:
        read_file(path)
    assert "Error(" not in str(told.value)


def test_a_mark_of_the_encoding_is_no_vertex(tmp_path: Path) -> None:
    path = tmp_path / "marked.obj"
    path.write_bytes(b"\xef\xbb\xbfv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    ((_, mesh, _),), _ = read_file(path)
    assert mesh.n_vertices == 3


@pytest.mark.parametrize("ending", [".obj", ".stl"])
def test_folders_that_are_not_there_are_named(tmp_path: Path, ending: str) -> None:
    pieces = pieces_of([Part("A", make_ball(10.0, 4))], MM)
    with pytest.raises((FormatError, ProjectFileError), match=r"The folder .*nowhere is not there"):
        write_file(tmp_path / "nowhere" / f"a{ending}", pieces)
    (tmp_path / "file").write_text("")
    with pytest.raises((FormatError, ProjectFileError), match="is a file, not a folder"):
        write_file(tmp_path / "file" / f"a{ending}", pieces)


# -- what clay is made of -----------------------------------------------------------------------------


@pytest.mark.parametrize("ending", [".glb", ".gltf"])
def test_material_goes_out_and_in_by_vertex_and_is_told_to_others(tmp_path: Path, ending: str) -> None:
    part = shuffled_part(triangles=True)
    rng = np.random.default_rng(5)
    part.mesh.material = rng.integers(0, 256, (part.mesh.n_vertices, 4)).astype(np.uint8)
    path = tmp_path / f"a{ending}"
    assert write_file(path, pieces_of([part, shuffled_part("Plain", triangles=True)], MM)) == []
    ((_, mesh, _), (_, plain, _)), notices = read_file(path)
    assert not notices
    assert mesh.material is not None
    assert plain.material is None
    assert np.array_equal(mesh.in_source_order(mesh.material), part.mesh.in_source_order(part.mesh.material))
    # Another program reads the mean of it.
    found = next(iter(trimesh.load(path).geometry.values())).visual.material
    rough, metal = part.mesh.material[:, :2].mean(axis=0) / 255
    assert found.roughnessFactor == pytest.approx(rough, abs=1e-3)
    assert found.metallicFactor == pytest.approx(metal, abs=1e-3)


@pytest.mark.parametrize("made", [False, True])
def test_clear_clay_is_written_as_such(tmp_path: Path, made: bool) -> None:
    part = Part("Ball", make_ball(50.0, 12))
    part.mesh.colour = np.full((part.mesh.n_vertices, 4), 200, np.uint8)
    part.mesh.material = np.full((part.mesh.n_vertices, 4), 90, np.uint8) if made else None
    path = tmp_path / "clear.gltf"
    write_file(path, pieces_of([part], MM))
    words = json.loads(path.read_text())
    assert words["materials"][0]["alphaMode"] == "BLEND"
    ((_, mesh, _),), _ = read_file(path)
    assert (mesh.value("colour")[:, 3] == 200).all()
    assert (mesh.material is not None) == made


def foreign(tmp_path: Path, material: dict[str, object]) -> Mesh:
    """A file whose one object is of a material that another program wrote."""
    path = tmp_path / "foreign.gltf"
    write_file(path, pieces_of([shuffled_part(colour=False, triangles=True)], MM))
    words = json.loads(path.read_text())
    words["materials"] = [material]
    words["meshes"][0]["primitives"][0]["material"] = 0
    path.write_text(json.dumps(words))
    ((_, mesh, _),), _ = read_file(path)
    return mesh


def test_materials_of_others_are_kept(tmp_path: Path) -> None:
    mesh = foreign(
        tmp_path,
        {
            "pbrMetallicRoughness": {
                "baseColorFactor": [1.0, 0.2, 0.0, 1.0],
                "roughnessFactor": 0.2,
                "metallicFactor": 1.0,
            },
            "extensions": {"KHR_materials_clearcoat": {"clearcoatFactor": 0.5}},
        },
    )
    assert mesh.material is not None
    assert mesh.colour is not None
    assert (mesh.material == (51, 255, 0, 128)).all()
    assert (mesh.colour == [*to_srgb(np.array([[1.0, 0.2, 0.0]]))[0], 255]).all()
    bare = foreign(tmp_path, {"name": "Nothing said"})
    assert bare.material is None
    assert bare.colour is None
    odd = foreign(tmp_path, {"pbrMetallicRoughness": {"roughnessFactor": 7.0}})
    assert odd.material is not None
    assert (odd.material[:, 0] == 255).all()
    with pytest.raises(FormatError, match="no colour"):
        foreign(tmp_path, {"pbrMetallicRoughness": {"baseColorFactor": [1, 2]}})


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl"])
def test_what_cannot_hold_material_says_so(tmp_path: Path, ending: str) -> None:
    part = shuffled_part(colour=False, triangles=True)
    part.mesh.need("material")
    told = " ".join(write_file(tmp_path / f"a{ending}", pieces_of([part], MM)))
    assert "roughness" in told
    assert "GLB and USD keep them" in told
