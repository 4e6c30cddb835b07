"""Fur as part of a project: undone, kept as leads and numbers, carried by what makes clay anew."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.fur.leads import CURL, combed, lengthened, made_own
from kneten.core.fur.numbers import FurError, FurNumbers
from kneten.core.live.strand import Strands
from kneten.core.loose import loosened
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.document.arrays_file import read_content, write_content
from kneten.document.furs import (
    add_fur,
    comb_fur,
    exchange_fur,
    free_fur_name,
    fur_of,
    fur_to_strands,
    furs_on,
    mask_under,
    remove_fur,
    roots_of,
    sown,
)
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.kinds import THINGS
from kneten.document.masks import keep_mask, with_mask
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from kneten.document.things import Fur, leads_of
from tests.conftest import make_ball

GO = Progress()


def furry(count: int = 500) -> tuple[Project, Fur]:
    project = Project(Scene((Part("Ball", make_ball(100.0, 24)),)))
    part = project.scene.parts[0]
    fur = sown(part, part.mesh, None, FurNumbers(count=count), "Coat", GO)
    add_fur(project, fur)
    return project, fur


def only(project: Project) -> Fur:
    (fur,) = project.scene.things("furs")
    return fur  # type: ignore[no-any-return]


def combed_once(project: Project) -> Fur:
    part, fur = project.scene.parts[0], only(project)
    leads = leads_of(fur, part.mesh)
    every = np.ones(len(leads))
    curled = made_own(combed(leads, every, np.array([20.0, 0, 0])), every, CURL, 0.25)
    comb_fur(project, fur, curled, "Comb")
    return only(project)


def same(a: Fur, b: Fur) -> bool:
    names = ("corners", "shares", "normals", "mids", "tips", "own")
    return all(np.array_equal(getattr(a, name), getattr(b, name)) for name in names)


def test_each_step_is_undone_and_made_again() -> None:
    project, first = furry()
    assert furs_on(project.scene, project.scene.parts[0].id) == (first,)
    second = combed_once(project)
    assert not np.array_equal(second.tips, first.tips)
    exchange_fur(project, replace(second, numbers=replace(second.numbers, curl=0.4)), "Change")
    assert fur_of(project.scene, first.id).numbers.curl == 0.4
    remove_fur(project, only(project))
    assert not project.scene.things("furs")
    for wanted in (0.4, 0.0):
        project.undo()
        assert only(project).numbers.curl == wanted
    assert only(project) is second
    project.undo()
    assert only(project) is first
    project.undo()
    assert not project.scene.things("furs")
    project.redo()
    project.redo()
    assert only(project) is second


def test_fur_is_leads_and_numbers_in_the_file_and_never_fibres(tmp_path: Path) -> None:
    project, _ = furry(100_000)
    combed_once(project)
    bare = Project(Scene((project.scene.parts[0],)))
    save_project(bare, tmp_path / "bare.kneten")
    save_project(project, tmp_path / "fur.kneten")
    more = (tmp_path / "fur.kneten").stat().st_size - (tmp_path / "bare.kneten").stat().st_size
    assert more < 100 * len(only(project).places) + 4000
    back = only(open_project(tmp_path / "fur.kneten"))
    assert back.numbers == only(project).numbers
    assert same(back, only(project))
    mesh = project.scene.parts[0].mesh
    one, two = (roots_of(project.scene, fur, mesh)() for fur in (only(project), back))
    assert np.array_equal(one.shares, two.shares)


def test_fur_of_files_that_lack_what_leads_have_of_their_own_is_as_it_was(tmp_path: Path) -> None:
    project, fur = furry()
    path = tmp_path / "fur.kneten"
    save_project(project, path)
    content = read_content(path, GO)
    del content.arrays[f"furs/{fur.id}/own.npy"]
    write_content(tmp_path / "older.kneten", content, GO)
    back = only(open_project(tmp_path / "older.kneten"))
    assert same(back, fur)
    assert not back.own.any()


def test_a_crash_loses_nothing(tmp_path: Path) -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 24)),)))
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    part = project.scene.parts[0]
    add_fur(project, sown(part, part.mesh, None, FurNumbers(count=500), "Coat", GO))
    wanted = combed_once(project)
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    assert same(only(recover(left)), wanted)


def test_leads_go_along_with_their_clay() -> None:
    project, fur = furry()
    part = project.scene.parts[0]
    # The ball turned a quarter about z, as a stroke would move its clay.
    turned = part.mesh.positions @ np.array([[0, 1, 0], [-1, 0, 0], [0, 0, 1]], np.float32)
    before = leads_of(fur, part.mesh)
    project.move_vertices(part.id, turned, "Turn")
    after = leads_of(fur, part.mesh)
    np.testing.assert_allclose(after.roots, before.roots @ [[0, 1, 0], [-1, 0, 0], [0, 0, 1]], atol=1e-3)
    np.testing.assert_allclose(after.lengths(), before.lengths(), atol=1e-4)
    up = [np.einsum("kx,kx->k", leads.tips, leads.normals) for leads in (before, after)]
    np.testing.assert_allclose(up[0], up[1], atol=1e-3)
    project.undo()
    np.testing.assert_allclose(leads_of(fur, part.mesh).tips, before.tips, atol=1e-5)


def test_fur_is_found_again_on_clay_made_anew_and_on_loose_clay() -> None:
    project, fur = furry()
    combed_once(project)
    part = project.scene.parts[0]
    before = leads_of(only(project), part.mesh)
    edge = forecast(part.mesh.positions, part.mesh.topology.faces, 6.0, None).edge
    project.replace_mesh(part.id, remesh(soup_of([part.mesh]), edge, GO), "Remesh")
    mesh = project.scene.parts[0].mesh
    assert only(project).topology == mesh.topology.uid
    after = leads_of(only(project), mesh)
    assert np.linalg.norm(after.roots - before.roots, axis=1).max() < 1.5
    assert np.linalg.norm(after.tips - before.tips, axis=1).max() < 2.5
    project.exchange(part.id, loosened(mesh))
    loose = project.scene.parts[0].mesh
    np.testing.assert_allclose(leads_of(only(project), loose).tips, after.tips, atol=0.5)
    del fur


def test_fur_lies_where_the_clay_was_masked() -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 24)),)))
    part = project.scene.parts[0]
    with_mask(project, part, (part.mesh.positions[:, 1] > 0).astype(np.float32), "Mask")
    kept = keep_mask(project, part, "Crown")
    fur = sown(part, part.mesh, part.mesh.mask, FurNumbers(count=500, mask=kept.id), "Coat", GO)
    add_fur(project, fur)
    with_mask(project, part, None, "Clear")
    mask = mask_under(project.scene, fur, part.mesh)
    assert mask is not None
    assert mask.max() == 1.0
    roots = roots_of(project.scene, fur, part.mesh)()
    assert part.mesh.positions[roots.corners[:, 0], 1].min() > -20
    project.change("Forget", replace(project.scene, kept_masks=()))
    with pytest.raises(FurError, match="mask"):
        roots_of(project.scene, fur, part.mesh)


def test_fur_goes_with_its_part_and_comes_along_to_others() -> None:
    project, fur = furry()
    part = project.scene.parts[0]
    other = Project()
    (there,) = bring_in(other, "Bring in", own_scene(project.scene, [part]))
    came = only(other)
    assert came.part == there.id
    assert came.id != fur.id
    assert same(came, fur)
    project.delete(part.id)
    assert not project.scene.things("furs")
    project.undo()
    assert only(project).id == fur.id


def test_strands_are_made_of_fibres() -> None:
    project, fur = furry()
    part = project.scene.parts[0]
    strands = fur_to_strands(project, part, fur, 30)
    assert isinstance(strands.recipe, Strands)
    assert len(strands.recipe.strands) == 30
    roots = np.array([strand.knots[0].place for strand in strands.recipe.strands])
    assert np.abs(np.linalg.norm(roots, axis=1) - 100).max() < 1.0
    assert project.undo()
    assert len(project.scene.parts) == 1


@pytest.mark.parametrize(
    "change",
    [
        lambda fur: replace(fur, numbers=replace(fur.numbers, count=0)),
        lambda fur: replace(fur, tips=fur.tips[:4]),
        lambda fur: replace(fur, shares=fur.shares * 50),
    ],
)
def test_damaged_fur_is_refused(change) -> None:  # type: ignore[no-untyped-def]
    project, fur = furry()
    with pytest.raises(ValueError, match="Coat is not usable"):
        THINGS["furs"].usable(change(fur), project.scene.parts[0])


def test_fur_with_wild_numbers_is_told_when_it_is_opened(tmp_path: Path) -> None:
    project, fur = furry()
    project.derive(project.scene.with_things("furs", (replace(fur, shares=fur.shares * 50),)))
    save_project(project, tmp_path / "a.kneten")
    with pytest.raises(ProjectFileError, match="Coat"):
        open_project(tmp_path / "a.kneten")


def test_a_milestone_leaves_fur_alone() -> None:
    project, fur = furry()
    milestone = project.keep_milestone("Bare", b"")
    part = project.scene.parts[0]
    leads = leads_of(fur, part.mesh)
    comb_fur(project, fur, lengthened(leads, np.ones(len(leads)), 2.0, 1e3), "Lengthen")
    project.go_back(milestone.id)
    assert only(project).part == project.scene.parts[0].id


def test_names_are_free() -> None:
    project, _ = furry()
    assert free_fur_name(project.scene) == "Fur"
    assert free_fur_name(project.scene, "Coat") == "Coat 2"
