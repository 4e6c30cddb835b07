"""Values that nothing in the project knows go through every operation, as if it knew them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.carry import CarryWish, carried_over, source_of
from kneten.core.changes import Change, change_to
from kneten.core.decimate import Wanted, decimated
from kneten.core.health import examined, repaired
from kneten.core.live_density import Density, densify
from kneten.core.loose import loosened
from kneten.core.loose_change import LooseLog
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, filled, picked
from kneten.core.placing import kneaded
from kneten.core.primitives import ball
from kneten.core.rebuild import rebuilt
from kneten.core.regions import middles, with_face_values
from kneten.core.remesh import remesh, soup_of
from kneten.core.solid import combine, cut, made_solid, mirrored_whole
from kneten.core.stack import Stack
from kneten.core.stroke import Stroke
from kneten.core.subdivide import subdivide
from kneten.core.values import VALUES, Value, between, met_most
from kneten.core.workspace import Workspace
from kneten.document.blocking import copy
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene

DONE = Progress()
UNKNOWN = {
    "glow": Value(np.float32, columns=2),
    "wear": Value(np.uint8, blank=7),
    "guild": Value(np.uint8, label=True),
    "grain": Value(np.uint16, by_face=True, label=True),
}
"""Amounts of vertices in two kinds of number, a label of vertices, a label of faces."""


@pytest.fixture(autouse=True)
def unknown(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    for name, value in UNKNOWN.items():
        monkeypatch.setitem(VALUES, name, value)
    yield
    monkeypatch.undo()


def glow_at(places: Any) -> Any:
    return np.stack([places[:, 0] / 100, places[:, 1] / 100 + 3], axis=1)


def wear_at(places: Any) -> Any:
    return 120 + places[:, 2]


def guild_at(places: Any) -> Any:
    return np.where(places[:, 1] > 0, 5, 9)


def grain_at(places: Any) -> Any:
    return np.where(places[:, 2] > 0, 300, 11)


def dressed(mesh: Mesh) -> Mesh:
    """The clay with what is unknown, all of it told by where it is."""
    p, f = mesh.positions, middles(mesh)
    for name, wanted in (
        ("glow", glow_at(p)),
        ("wear", wear_at(p)),
        ("guild", guild_at(p)),
        ("grain", grain_at(f)),
    ):
        mesh.need(name)[:] = np.rint(wanted) if UNKNOWN[name].kind != np.float32 else wanted
    return mesh


def clay(divisions: int = 16, x: float = 0.0) -> Mesh:
    positions, faces = ball(100.0, divisions)
    return dressed(Mesh.from_faces(positions + np.array([x, 0, 0], np.float32), faces))


def assert_kept(mesh: Mesh, near: float = 12.0, where: Any = None) -> None:
    """What is unknown still is what its place tells, as closely as `near` millimetres."""
    mesh = mesh.settled()
    p, f = mesh.positions.astype(float), middles(mesh)
    at = np.ones(len(p), bool) if where is None else where(p)
    on = np.ones(len(f), bool) if where is None else where(f)
    assert at.any()
    assert on.any()
    glow, wear, guild, grain = (getattr(mesh, name) for name in UNKNOWN)
    assert [glow.dtype, wear.dtype, guild.dtype, grain.dtype] == [np.float32, np.uint8, np.uint8, np.uint16]
    assert np.abs(glow - glow_at(p))[at].max() < near / 100
    assert np.abs(wear - wear_at(p))[at].max() < near
    clear = at & (np.abs(p[:, 1]) > near)
    assert (guild == guild_at(p))[clear].all()
    clear = on & (np.abs(f[:, 2]) > near)
    assert (grain == grain_at(f))[clear].all()


def of_carrying() -> Mesh:
    target = Mesh.from_faces(*ball(98.0, 20))
    source = source_of(clay(24), None, np.eye(4), DONE)
    return carried_over(source, target, Stack.of(target), CarryWish(reach=20.0), DONE).mesh


def of_live_density() -> Mesh:
    mesh = loosened(clay())
    log, work, top = LooseLog(mesh), Workspace(mesh), np.array([0.0, 0.0, 100.0])
    densify(mesh, work, log, top, 60.0, Density(3.0))
    densify(mesh, work, log, -top, 60.0, Density(14.0, refine=False))
    densify(mesh, work, log, top, 40.0, Density(1.2))
    return mesh


def of_a_cut() -> Mesh:
    (left,) = cut(
        clay(), [Mesh.from_faces(ball(40.0, 8)[0] + np.float32(80), ball(40.0, 8)[1])], False, None, DONE
    )
    return left


def of_levels() -> Mesh:
    stack, fine = Stack.of(clay()).added(clay(), DONE)
    assert_kept(fine)
    stack, low = stack.stepped(fine, 0)
    assert_kept(low)
    low.positions[:50] *= 1.01
    return stack.stepped(low, 1)[1]


def of_rebuilding() -> Mesh:
    fine = dressed(subdivide(Mesh.from_faces(*ball(100.0, 8)), DONE))
    stack, mesh = rebuilt(fine, DONE)
    assert stack.top >= 1
    assert_kept(mesh)
    return stack.stepped(mesh, stack.top - 1)[1]


def of_repairing() -> Mesh:
    mesh = clay()
    away = np.ones(mesh.topology.n_faces, bool)
    away[:6] = False
    sick = picked(mesh, away)
    holes = [fault for fault in examined(sick, DONE) if fault.kind == "holes"]
    return repaired(sick, holes, DONE)


MAKERS: dict[str, Callable[[], Mesh]] = {
    "copy": lambda: clay().copy(),
    "other places": lambda: clay().with_positions(clay().positions),
    "subdividing": lambda: subdivide(clay(), DONE),
    "remeshing": lambda: with_face_values([clay()], remesh(soup_of([clay()]), 9.0, DONE)),
    "decimating": lambda: decimated(clay(24), Wanted(triangles=2000), DONE).mesh,
    "picking faces": lambda: picked(clay(), middles(clay())[:, 0] > 10),
    "filling": lambda: filled(picked(clay(), middles(clay())[:, 0] > 10)),
    "one after the other": lambda: concatenated([clay(), clay(12, 150.0)]),
    "joining": lambda: combine("join", [clay(), clay(12, 120.0)], DONE),
    "subtracting": lambda: combine("subtract", [clay(), clay(12, 150.0)], DONE),
    "cutting": of_a_cut,
    "making solid": lambda: made_solid(clay(), DONE),
    "kneading": lambda: kneaded(clay(), np.diag([1.0, 1.0, 1.0, 1.0])),
    "live density": of_live_density,
    "carrying over": of_carrying,
    "levels": of_levels,
    "rebuilding": of_rebuilding,
    "repairing": of_repairing,
}


@pytest.mark.parametrize("how", MAKERS)
def test_clay_made_from_clay_has_what_that_had(how: str) -> None:
    new = {
        "filling": lambda p: p[:, 0] > 25,
        "subtracting": lambda p: np.linalg.norm(p - [150, 0, 0], axis=1) > 125,
    }
    hole = middles(clay())[:6].mean(axis=0)
    new["repairing"] = lambda p: np.linalg.norm(p - hole, axis=1) > 60
    new["cutting"] = lambda p: np.linalg.norm(p - 80, axis=1) > 60
    assert_kept(MAKERS[how](), where=new.get(how))


def test_a_mirror_image_has_what_its_side_had() -> None:
    made = mirrored_whole(clay(), 0, 1, DONE)
    right = made.positions[:, 0] > 1
    assert np.abs(made.value("glow") - glow_at(made.positions))[right].max() < 0.15
    other = made.positions[~right] * np.array([-1, 1, 1])
    assert np.abs(made.value("glow")[~right] - glow_at(other)).max() < 0.15
    sides = middles(made)
    assert (made.value("grain") == grain_at(sides))[np.abs(sides[:, 2]) > 12].all()


def test_undo_of_a_loose_stroke_brings_it_back() -> None:
    mesh = loosened(clay())
    before = {name: value.copy() for name, value in mesh.values().items()}
    stroke = Stroke(mesh, TOOLS["raise"], TOOLS["raise"].defaults)
    stroke.densify_all(np.array([0.0, 0.0, 100.0]), 50.0, Density(2.0))
    stroke.cancel()
    live, faces = mesh.topology.live_vertices(), mesh.topology.live_faces()
    for name, value in before.items():
        rows = (faces if VALUES[name].by_face else live)[: len(value)]
        assert np.array_equal(mesh.value(name)[: len(value)][rows], value[rows]), name


def dressed_project() -> Project:
    return Project(Scene((Part("One", clay()), Part("Two", clay(12, 260.0)))))


def same_values(one: Mesh, other: Mesh) -> bool:
    a, b = one.settled(), other.settled()
    return all(np.array_equal(a.value(name), b.value(name)) for name in UNKNOWN)


def test_a_file_and_a_milestone_keep_it(tmp_path: Path) -> None:
    project = dressed_project()
    part = project.scene.parts[0]
    kept = project.keep_milestone("Before", b"")
    project.set_values(part.id, "glow", None, "Glow off")
    assert part.mesh.glow is None  # type: ignore[attr-defined]
    save_project(project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten", DONE)
    assert same_values(again.scene.parts[1].mesh, project.scene.parts[1].mesh)
    (milestone,) = again.scene.milestones
    assert np.array_equal(milestone.parts[0].values["glow"], kept.parts[0].values["glow"])
    assert_kept(milestone.parts[0].restored().mesh)
    project.undo()
    assert_kept(project.scene.parts[0].mesh)


def test_a_journal_keeps_it(tmp_path: Path) -> None:
    project = dressed_project()
    part = project.scene.parts[0]
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    wear = np.full(part.mesh.n_vertices, 3, np.uint8)
    project.set_values(part.id, "wear", wear, "Wear")
    project.set_values(part.id, "grain", None, "No grain")
    copy(project, [part])
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert [p.name for p in back.scene.parts] == [p.name for p in project.scene.parts]
    for one, other in zip(back.scene.parts, project.scene.parts, strict=True):
        assert same_values(one.mesh, other.mesh)
    journal.close()


def test_parts_of_another_project_bring_it_along() -> None:
    source, project = dressed_project(), Project(Scene((Part("Own", Mesh.from_faces(*ball(50.0, 8))),)))
    (part,) = bring_in(project, "Bring in", own_scene(source.scene, source.scene.parts[:1]))
    assert_kept(part.mesh)


def test_a_change_is_taken_back_to_the_bit() -> None:
    mesh = clay()
    before = mesh.copy()
    change = change_to(mesh, "glow", np.zeros((mesh.n_vertices, 2), np.float32))
    assert isinstance(change, Change)
    change.swap(mesh).swap(mesh)
    assert same_values(mesh, before)


def test_an_unknown_name_is_refused() -> None:
    with pytest.raises(TypeError, match="no such values: sparkle"):
        Mesh.from_faces(*ball(1.0, 4), sparkle=np.zeros(98, np.float32))


def test_labels_are_never_mixed() -> None:
    value = np.array([3, 200, 7], np.uint8)
    rows, shares = np.array([[0, 1], [1, 2]]), np.array([[0.4, 0.6], [0.7, 0.3]])
    assert between("guild", value, rows, shares).tolist() == [200, 200]
    assert between("wear", value, rows, shares).tolist() == [121, 142]
    assert met_most(value, np.array([[0, 1, 1, -1], [2, 0, -1, -1]])).tolist() == [200, 7]
