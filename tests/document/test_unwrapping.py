"""UVs, seams and maps of a part: steps that can be undone, kept by files, levels, milestones, recovery."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.maps.bake import BakeWish
from kneten.core.maps.surfaces import Low, spots_in
from kneten.core.regions import middles
from kneten.core.stack import Stack
from kneten.core.topology import MeshError
from kneten.core.uv.measure import measured, overlapping
from kneten.core.uv.pack import PackWish
from kneten.document.blocking import copy
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.layering import exchange_level
from kneten.document.mapping import (
    PRESETS,
    baked_part,
    drop,
    fine_clay,
    has_finer,
    keep,
    maps_of,
    put_on,
    skin_made,
    skin_on,
    take_in,
    taken_in,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMap
from kneten.document.unwrapping import (
    Cage,
    cage_of,
    is_laid,
    laid_flat,
    land,
    packed_anew,
    put_seams,
    put_uv,
    seams_of,
)
from kneten.formats.maps import as_png, from_png
from tests.conftest import make_ball

DONE = Progress()


def project_of(levels: int = 1, divisions: int = 6) -> Project:
    """A ball with levels, the highest in hand."""
    mesh = make_ball(50.0, divisions)
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, DONE)
    return Project(Scene((Part("Ball", mesh, stack=None if stack.plain else stack),)))


def hand(project: Project) -> Part:
    return project.scene.parts[0]


def unwrap(project: Project, allowed: float | None = None) -> Cage:
    part = hand(project)
    cage = cage_of(part)
    land(project, part, cage, laid_flat(cage, PackWish(size=256), allowed, DONE), "Unwrap")
    return cage_of(hand(project))


def test_the_lowest_level_is_laid_and_the_one_in_hand_follows() -> None:
    project = project_of(2)
    part = hand(project)
    low = part.stack.levels[0].topology.n_faces  # type: ignore[union-attr]
    cage = unwrap(project)
    assert cage.mesh.topology.n_faces == low
    assert len(cage.owners()) == 16 * low
    assert (np.bincount(cage.owners()) == 16).all()
    assert is_laid(hand(project))
    assert not overlapping(hand(project).mesh).any()
    # Each face of the cage covers as much of the picture as its sixteen.
    fine, coarse = measured(hand(project).mesh), measured(cage.mesh)
    assert np.allclose(np.bincount(cage.owners(), fine.flat), coarse.flat, atol=1e-6)
    # Stepping down and up changes nothing.
    before = hand(project).mesh.uv.copy()  # type: ignore[union-attr]
    for to in (0, 2):
        stack, mesh = hand(project).stack.stepped(hand(project).mesh, to)  # type: ignore[union-attr]
        exchange_level(project, part.id, stack, mesh, "Level")
    assert np.array_equal(hand(project).mesh.uv, before)
    assert np.array_equal(cage_of(hand(project)).mesh.uv, cage.mesh.uv)


def test_seams_run_along_edges_of_the_lowest_level_and_lines_lie_on_the_one_in_hand() -> None:
    project = project_of(2)
    part = hand(project)
    cage = cage_of(part)
    marked = np.zeros(len(cage.edges.ends), bool)
    marked[[3, 17]] = True
    assert put_seams(project, part, cage, marked, "Seam")
    again = cage_of(hand(project))
    assert np.array_equal(seams_of(again), marked)
    rows = again.lines(marked)
    p = hand(project).mesh.positions
    assert np.allclose(np.linalg.norm(p[rows], axis=2), 50, atol=1.5)
    assert np.array_equal(p[rows[:, 0]], again.mesh.positions[again.edges.ends[marked][:, 0]])
    assert not put_seams(project, part, again, marked, "Seam")
    project.undo()
    assert hand(project).mesh.seams is None
    assert np.array_equal(seams_of(cage_of(hand(project))), np.zeros(len(marked), bool))


def test_undo_redo_save_reopen_milestone_and_library_keep_them(tmp_path: Path) -> None:
    project = project_of()
    unwrap(project)
    laid = hand(project).mesh.uv.copy()  # type: ignore[union-attr]
    seams = hand(project).mesh.seams.copy()  # type: ignore[union-attr]
    assert project.history.names()[0][-1] == "Unwrap"
    project.undo()
    assert hand(project).mesh.uv is None
    project.redo()
    assert np.array_equal(hand(project).mesh.uv, laid)
    kept = project.keep_milestone("Laid", b"")
    project.set_values(hand(project).id, "uv", None, "No UVs")
    save_project(project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten", DONE)
    assert hand(again).mesh.uv is None
    assert np.array_equal(hand(again).mesh.seams, seams)
    assert np.array_equal(again.scene.milestones[0].parts[0].restored().mesh.uv, laid)
    again.go_back(kept.id)
    assert np.array_equal(hand(again).mesh.uv, laid)
    other = Project()
    (part,) = bring_in(other, "Bring in", own_scene(again.scene, again.scene.parts[:1]))
    assert np.array_equal(part.mesh.uv, laid)


def test_a_crash_loses_nothing(tmp_path: Path) -> None:
    project = project_of()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    unwrap(project)
    cage = cage_of(hand(project))
    put_uv(project, hand(project), cage, cage.mesh.uv * 0.5, "Smaller")  # type: ignore[operator]
    keep(project, baked_part(hand(project), (), BakeWish(("normal",), 64), None, DONE), as_png)
    copy(project, [hand(project)])
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert np.array_equal(hand(back).mesh.uv, hand(project).mesh.uv)
    assert [bytes(one.data) for one in back.scene.maps] == [bytes(one.data) for one in project.scene.maps]
    journal.close()


def test_packing_anew_keeps_sizes_beside_each_other() -> None:
    project = project_of(0, 10)
    cage = unwrap(project, 1.2)
    before = measured(cage.mesh)
    uv = packed_anew(cage, PackWish(size=256, margin=4), DONE)
    after = measured(cage.with_uv(uv))
    assert np.allclose(before.size, after.size, rtol=1e-3)
    assert not overlapping(cage.with_uv(uv)).any()


# -- maps -----------------------------------------------------------------------------------------------


def test_a_part_is_baked_from_its_own_levels_and_keeps_what_can_be_shown(tmp_path: Path) -> None:
    project = project_of(2)
    part = hand(project)
    unwrap(project)
    stack, mesh = hand(project).stack.stepped(hand(project).mesh, 0)  # type: ignore[union-attr]
    exchange_level(project, part.id, stack, mesh, "Level")
    assert has_finer(hand(project))
    assert fine_clay(hand(project), DONE).topology.n_faces == 16 * mesh.topology.n_faces
    made = baked_part(hand(project), (), BakeWish(("normal", "vector", "colour"), 64), None, DONE)
    assert made.wish.own
    assert made.missed == 0
    keep(project, made, as_png)
    kept = maps_of(project.scene, part.id)[0, 0]
    assert sorted(kept) == ["colour", "normal"]
    assert from_png(kept["normal"].data).shape == (64, 64, 3)
    save_project(project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten", DONE)
    assert bytes(maps_of(again.scene, hand(again).id)[0, 0]["normal"].data) == bytes(kept["normal"].data)
    # Baked anew they take the place of those before; undone, those are back.
    keep(project, baked_part(hand(project), (), BakeWish(("occlusion",), 64, rays=4), None, DONE), as_png)
    assert sorted(maps_of(project.scene, part.id)[0, 0]) == ["occlusion"]
    project.undo()
    assert sorted(maps_of(project.scene, part.id)[0, 0]) == ["colour", "normal"]
    drop(project, hand(project))
    assert not project.scene.maps
    project.undo()
    project.delete(part.id)
    assert not project.scene.maps


def test_other_parts_tell_a_part_its_maps_where_they_stand() -> None:
    project = project_of(0, 8)
    unwrap(project)
    fine = Part("Fine", make_ball(25.0, 24))
    fine = replace(fine, transform=replace(fine.transform, scale=2.1))
    made = baked_part(hand(project), [fine], BakeWish(("displacement",), 64), None, DONE)
    assert not made.wish.own
    tile = made.tiles[0]
    told = tile.pictures["displacement"][tile.covered]
    # A ball of 52.5 mm around one of 50 whose faces lie deeper between its vertices.
    assert told.min() > 2.0
    assert told.max() < 5.0


def test_without_uvs_it_is_refused_in_words() -> None:
    with pytest.raises(MeshError, match="unwrap it first"):
        baked_part(hand(project_of(0)), (), BakeWish(("normal",), 64), None, DONE)


def test_presets_name_maps_that_there_are() -> None:
    for name, does, wish in PRESETS.values():
        assert name
        assert does
        assert wish.maps


def test_a_broken_map_in_a_file_is_left_out_with_words(tmp_path: Path) -> None:
    project = project_of(0)
    part = hand(project)
    project.change(
        "Maps", replace(project.scene, maps=(KeptMap("normal", part.id, 0, 0, 64, np.zeros(9, np.uint8)),))
    )
    save_project(project, tmp_path / "a.kneten")
    try:
        again = open_project(tmp_path / "a.kneten", DONE)
    except Exception as error:
        assert "map" in str(error)  # noqa: PT017
    else:
        assert not again.scene.maps


def test_what_is_painted_on_a_skin_becomes_the_parts_maps(tmp_path: Path) -> None:
    project = project_of(1)
    part = hand(project)
    unwrap(project)
    skin = skin_made(hand(project), 128, DONE)
    made = put_on(project, hand(project), skin, 128)
    assert project.active_id == made.id
    assert not project.scene.part(part.id).visible
    told = skin_on(project.scene, made.id)
    assert told is not None
    assert told == skin_on(project.scene, part.id)
    colour = made.mesh.value("colour").copy()
    colour[made.mesh.positions[:, 0] > 0] = (200, 10, 10, 255)
    project.set_values(made.id, "colour", colour, "Paint")
    save_project(project, tmp_path / "a.kneten")
    project = open_project(tmp_path / "a.kneten", DONE)
    told = skin_on(project.scene, part.id)
    assert told is not None
    fresh = taken_in(project.scene, told, 8, as_png)
    take_in(project, told, fresh)
    assert [one.name for one in project.scene.parts] == ["Ball"]
    assert project.scene.parts[0].visible
    assert not project.scene.paint_skins
    picture = from_png(maps_of(project.scene, part.id)[0, 0]["colour"].data)
    cage = Low.of(hand(project).mesh)
    spots = spots_in(cage, 128, 0, 128, (0, 0))
    red = picture[spots.y, spots.x, 0] == 200
    clear = np.abs(spots.place[:, 0]) > 2
    assert (red == (spots.place[:, 0] > 0))[clear].all()
    project.undo()
    assert len(project.scene.parts) == 2
    project.delete(told.part)
    assert not project.scene.paint_skins


def test_what_is_painted_on_several_tiles_becomes_maps_of_each(tmp_path: Path) -> None:
    project = project_of(1)
    unwrap(project)
    part = hand(project)
    cage = cage_of(part)
    assert cage.mesh.uv is not None
    moved = cage.mesh.uv.reshape(-1, 4, 2).copy()
    moved[middles(cage.mesh)[:, 1] < 0] += (1, 0)
    put_uv(project, part, cage, moved.reshape(-1, 8), "Next tile")
    skin = skin_made(hand(project), 128, DONE)
    made = put_on(project, hand(project), skin, 128)
    colour = made.mesh.value("colour").copy()
    colour[made.mesh.positions[:, 0] > 0] = (200, 10, 10, 255)
    project.set_values(made.id, "colour", colour, "Paint")
    told = skin_on(project.scene, part.id)
    assert told is not None
    take_in(project, told, taken_in(project.scene, told, 8, as_png))
    save_project(project, tmp_path / "a.kneten")
    project = open_project(tmp_path / "a.kneten", DONE)
    kept = maps_of(project.scene, part.id)
    assert sorted(kept) == [(0, 0), (1, 0)]
    low = Low.of(hand(project).mesh)
    for tile, maps in kept.items():
        picture = from_png(maps["colour"].data)
        spots = spots_in(low, 128, 0, 128, tile)
        red = picture[spots.y, spots.x, 0] == 200
        clear = np.abs(spots.place[:, 0]) > 2
        assert clear.sum() > 500
        assert (red == (spots.place[:, 0] > 0))[clear].mean() > 0.999
