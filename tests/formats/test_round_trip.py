"""What goes out and comes back changed: by vertex order, by name, with other faces."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Progress
from kneten.core.carry import deviation
from kneten.core.mesh import Mesh
from kneten.core.stack import Layer, Stack
from kneten.core.transform import Transform
from kneten.document.scene import Part, Scene
from kneten.document.settings import Sent
from kneten.document.things import SentForm
from kneten.formats.exchange import pieces_of, usual_space, write_file
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.round_trip import (
    Back,
    level_mesh,
    level_piece,
    matched,
    plain_name,
    same_shape,
    sent_form,
    taken_back,
)
from tests.conftest import make_ball
from tests.core.test_stack import built, rough

GO = Progress()
TURNED = Transform((10, 20, -5), (0.0, 0.3826834, 0.0, 0.9238795), 1.5, True)


def figure(transform: Transform = Transform()) -> Part:  # noqa: B008
    """A part of three levels with fine detail and a layer, the finest in hand."""
    stack, mesh = built(2)
    rough(mesh, 0.4)
    layer = Layer("Pores")
    stack = replace(stack.taken(mesh.positions), layers=(layer,), recording=layer.id)
    rough(mesh, 0.2, 2)
    mesh.refresh_all()
    return Part("Tarn, bust", mesh, transform=transform, stack=stack.taken(mesh.positions))


def send(part: Part, path: Path, level: int = 0) -> Sent:
    write_file(path, [level_piece(part, level_mesh(part, level, GO), usual_space(path))])
    return Sent(part.id, part.name, level, str(path))


def take(part: Part, sent: Sent, *others: Part) -> tuple[list[Back], list[str]]:
    return taken_back(Path(sent.path), [sent], Scene((part, *others)), (), GO)


def moved_text(path: Path, change) -> None:  # type: ignore[no-untyped-def]
    """Move the vertices of a text file, as a program that knows nothing of Kneten would."""
    lines = path.read_text().splitlines()
    rows = [i for i, line in enumerate(lines) if line.startswith("v ")]
    places = change(np.array([[float(word) for word in lines[i].split()[1:4]] for i in rows]))
    for i, place in zip(rows, places, strict=True):
        lines[i] = "v " + " ".join(f"{x:.7f}" for x in place)
    path.write_text("\n".join(lines))


@pytest.mark.parametrize("ending", [".obj", ".glb"])
@pytest.mark.parametrize("transform", [Transform(), TURNED])
def test_what_was_not_touched_comes_back_to_the_bit(
    ending: str, transform: Transform, tmp_path: Path
) -> None:
    part = figure(transform)
    (back,), notices = take(part, send(part, tmp_path / f"a{ending}"))
    assert back.moved == 0
    assert back.mesh is not None
    assert back.stack is not None
    assert np.abs(back.mesh.positions - part.mesh.positions).max() < 5e-5
    assert np.array_equal(back.stack.base, part.stack.stepped(part.mesh, 0)[0].base)
    assert not [text for text in notices if "other faces" in text]


@pytest.mark.parametrize("transform", [Transform(), TURNED])
def test_moved_points_carry_all_detail(transform: Transform, tmp_path: Path) -> None:
    part = figure(transform)
    sent = send(part, tmp_path / "a.obj")
    turn = np.array([[0.8, -0.6, 0.0], [0.6, 0.8, 0.0], [0.0, 0.0, 1.0]])
    moved_text(tmp_path / "a.obj", lambda at: at @ turn.T + [3, 0, 0])
    (back,), _ = take(part, sent)
    assert back.moved == 218
    assert back.mesh is not None
    wanted = transform.to_scene(part.mesh.positions) @ turn.T + [3, 0, 0]
    # Turned as a whole, all levels are as they were, turned: pores and all.
    assert np.abs(transform.to_scene(back.mesh.positions) - wanted).max() < 1e-3
    assert back.stack is not None
    assert [layer.name for layer in back.stack.layers] == ["Pores"]
    assert np.array_equal(back.stack.layers[0].reliefs[2].values, part.stack.layers[0].reliefs[2].values)


def test_some_moved_points_move_only_what_hangs_on_them(tmp_path: Path) -> None:
    part = figure()
    sent = send(part, tmp_path / "a.obj")
    moved_text(tmp_path / "a.obj", lambda at: at + np.where(at[:, :1] > 85, [[10.0, 0, 0]], 0.0))
    (back,), _ = take(part, sent)
    assert back.mesh is not None
    off = np.linalg.norm(back.mesh.positions - part.mesh.positions, axis=1)
    assert 0 < back.moved < 60
    assert off.max() > 8
    assert (off[part.mesh.positions[:, 0] < 30] < 1e-4).all()


def test_another_library_may_move_it(tmp_path: Path) -> None:
    part = figure()
    path = tmp_path / "a.glb"
    sent = send(part, path, 1)
    scene = trimesh.load(path, process=False)
    (mesh,) = scene.geometry.values()
    mesh.vertices = mesh.vertices * [1.0, 1.1, 1.0]
    scene.export(path)
    (back,), _ = take(part, sent)
    assert back.carried is None
    assert back.mesh is not None
    assert np.ptp(back.mesh.positions[:, 1]) == pytest.approx(
        1.1 * np.ptp(part.mesh.positions[:, 1]), rel=5e-3
    )


def test_other_faces_start_a_carry_over(tmp_path: Path) -> None:
    part = figure(TURNED)
    sent = send(part, tmp_path / "a.obj")
    base = make_ball(101.0, 10)
    positions, faces = base.source_arrays()
    # Outwards where it stands; in its own space, which is mirrored, they go round the other way.
    placed = TURNED.to_scene(positions).astype(np.float32)
    write_file(tmp_path / "a.obj", [Piece("Tarn, bust", placed, faces[:, [0, 3, 2, 1]])])
    (back,), notices = take(part, sent, Part("Tarn, bust, new base", make_ball()))
    assert back.name == "Tarn, bust, new base 2"
    assert "other faces" in notices[0]
    assert back.carried is not None
    made = back.carried.made
    assert [layer.name for layer in made.stack.layers] == ["Pores"]
    # Its vertices are thrown about by 0.45 mm each, and the new ones lie between them.
    assert deviation(part.mesh, made.mesh, GO).mean() < 0.7


def test_names_are_matched_and_clashes_told(tmp_path: Path) -> None:
    part, other = figure(), Part("Hat", make_ball(30.0, 6))
    sent = [send(part, tmp_path / "a.obj"), Sent(other.id, "Hat", 0, str(tmp_path / "a.obj"))]
    pieces = [
        level_piece(part, level_mesh(part, 0, GO), usual_space(Path("a.obj"))),
        level_piece(other, level_mesh(other, 0, GO), usual_space(Path("a.obj"))),
    ]
    names = ["tarn__bust.001", "hat", "Hat"]
    pieces = [replace(p, name=n) for p, n in zip([*pieces, pieces[1]], names, strict=True)]
    found = [one.name if one else None for _, one in matched(pieces, sent)]
    assert found == ["Tarn, bust", None, "Hat"]
    write_file(tmp_path / "a.obj", pieces)
    backs, notices = taken_back(
        tmp_path / "a.obj", sent, Scene((part, other, Part("hat", make_ball()))), (), GO
    )
    assert [back.part for back in backs] == [part.id, "", other.id]
    assert backs[1].name == "hat 2"
    assert any("came in as hat 2" in text for text in notices)


def test_what_is_missing_is_told(tmp_path: Path) -> None:
    part, other = figure(), Part("Hat", make_ball(30.0, 6))
    path = tmp_path / "a.obj"
    sent = [send(part, path), Sent(other.id, "Hat", 0, str(path))]
    backs, notices = taken_back(path, sent, Scene((part, other)), (), GO)
    assert [back.part for back in backs] == [part.id]
    assert any("Hat is not in it any more" in text for text in notices)
    path.write_text("v 1 2 3\n")
    with pytest.raises(FormatError, match="no faces"):
        taken_back(path, sent, Scene((part, other)), (), GO)
    path.unlink()
    with pytest.raises(FormatError):
        taken_back(path, sent, Scene((part, other)), (), GO)


@given(st.integers(0, 500))
def test_the_same_shape_is_known_in_any_order(seed: int) -> None:
    random = np.random.default_rng(seed)
    mesh = make_ball(10.0, 4, triangles=bool(seed % 2))
    positions, faces = mesh.source_arrays()
    turned = faces.copy()
    quads = turned[:, 3] >= 0
    turned[quads] = np.roll(turned[quads], seed % 4, axis=1)
    mixed = turned[random.permutation(len(turned))]
    assert same_shape(faces, len(positions), Piece("a", positions, mixed))
    cut = np.concatenate([mixed[:, [0, 1, 2, 3]], mixed[quads][:, [0, 2, 3, 3]]]) if quads.all() else mixed
    cut = cut.copy()
    cut[:, 3] = -1
    assert same_shape(faces, len(positions), Piece("a", positions, cut))
    other = mixed.copy()
    other[0, 1] = (other[0, 1] + 1 + seed % 50) % len(positions)
    different = len(np.unique(other[0][other[0] >= 0])) == (4 if quads.all() else 3)
    if different:
        assert not same_shape(faces, len(positions), Piece("a", positions, other))
    assert not same_shape(faces, len(positions), Piece("a", positions[:-1], mixed))


def test_mirrored_parts_go_out_looking_outwards(tmp_path: Path) -> None:
    part = figure(TURNED)
    for name, pieces in (
        ("a.obj", [level_piece(part, level_mesh(part, 0, GO), usual_space(Path("a.obj")))]),
        ("b.stl", pieces_of([part], usual_space(Path("b.stl")))),
    ):
        write_file(tmp_path / name, pieces)
        assert trimesh.load(tmp_path / name).volume > 0


def test_names_of_other_programs() -> None:
    assert plain_name("Tarn, bust") == plain_name("tarn_bust.001") == plain_name("Tarn__Bust")
    assert plain_name("Hat 2") != plain_name("Hat")


def test_a_mesh_without_levels_goes_there_and_back(tmp_path: Path) -> None:
    part = Part("Ball", make_ball(20.0, 6))
    sent = send(part, tmp_path / "b.obj")
    moved_text(tmp_path / "b.obj", lambda at: at * 2)
    (back,), _ = take(part, sent)
    assert back.stack is not None
    assert back.stack.plain
    assert isinstance(back.mesh, Mesh)
    np.testing.assert_allclose(back.mesh.positions, part.mesh.positions * 2, atol=1e-5)
    assert Stack.of(part.mesh).fits(part.mesh)


def merge(part: Part, form: SentForm, path: Path, whose: str) -> Back:
    sent = Sent(part.id, part.name, 0, str(path))
    (back,), _ = taken_back(path, [sent], Scene((part,), sent_forms=(form,)), (), GO, whose)
    return back


def sent_and_worked_on(tmp_path: Path) -> tuple[Part, SentForm, Path]:
    """A part that went out, then had its front (z > 60) pushed here and its top (y > 60) lifted there."""
    stack, mesh = built(2)
    stack, mesh = stack.stepped(mesh, 0)
    part = Part("Tarn, bust", mesh, stack=stack)
    path = tmp_path / "a.obj"
    send(part, path)
    form = sent_form(part, 0, level_mesh(part, 0, GO))
    moved_text(path, lambda at: at + np.where(at[:, 1:2] > 60, [[0, 10.0, 0]], 0.0))
    mine = mesh.copy()
    mine.positions[mine.positions[:, 2] > 60] += np.float32([0, 0, 7])
    mine.refresh_all()
    return replace(part, mesh=mine), form, path


@pytest.mark.parametrize("whose", ["", "mine", "theirs", "both"])
def test_moves_made_there_and_here_are_told_apart(whose: str, tmp_path: Path) -> None:
    part, form, path = sent_and_worked_on(tmp_path)
    start = form.positions[part.mesh.topology.source_vertex]
    front, top = start[:, 2] > 60, start[:, 1] > 60
    back = merge(part, form, path, whose)
    assert (back.moved, back.own, back.both) == (top.sum(), front.sum(), (top & front).sum())
    assert back.both > 0
    assert back.mesh is not None
    off = back.mesh.positions - start
    lifted, pushed = off[:, 1] > 5, off[:, 2] > 5
    assert np.array_equal(lifted, {"theirs": top, "both": top & ~front}.get(whose, top & False))
    assert np.array_equal(pushed, front & (whose != "theirs"))
    # Whatever counted, the file is known as it is now: the same once more finds nothing new there.
    assert back.form is not None
    assert merge(part, back.form, path, "").moved == 0


def test_moves_that_do_not_meet_are_both_kept(tmp_path: Path) -> None:
    part, form, path = sent_and_worked_on(tmp_path)
    start = form.positions[part.mesh.topology.source_vertex]
    mesh = part.mesh.copy()
    mesh.positions[:] = start
    mesh.positions[start[:, 2] < -60] += np.float32([0, 0, -7])
    mesh.positions[start[:, 1] > 60] = start[start[:, 1] > 60]
    mesh.refresh_all()
    back = merge(replace(part, mesh=mesh), form, path, "")
    assert back.mesh is not None
    assert back.both == 0
    off = back.mesh.positions - start
    assert np.array_equal(off[:, 1] > 5, start[:, 1] > 60)
    assert (off[:, 2] < -5).any()


def test_a_part_that_was_turned_meanwhile_stays_where_it_is(tmp_path: Path) -> None:
    part, form, path = sent_and_worked_on(tmp_path)
    start = form.positions[part.mesh.topology.source_vertex]
    plain = part.mesh.with_positions(start.copy())
    back = merge(replace(part, mesh=plain, transform=TURNED), form, path, "")
    assert back.own == 0
    assert back.mesh is not None
    assert np.array_equal(np.abs(back.mesh.positions - start).max(axis=1) > 1, start[:, 1] > 60)
