"""Parts that come in from another project."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.live.primitive import Primitive
from kneten.core.regions import EYE_IRIS, OWN, numbers_of
from kneten.core.transform import Transform
from kneten.document import numbers
from kneten.document.blocking import add_live, copy
from kneten.document.incoming import bring_in, own_scene
from kneten.document.layering import exchange_level
from kneten.document.numbers import RegionError
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.regions import make_region, region_name, rename_region
from kneten.document.scene import Part, Scene
from kneten.document.things import RegionName
from tests.conftest import make_ball


def with_regions(name: str, labels: list[tuple[int, str]]) -> Project:
    """A ball cut into as many regions."""
    mesh = make_ball(20.0, 6)
    mesh.regions = np.resize(np.array([n for n, _ in labels], np.uint16), mesh.topology.n_faces)
    return Project(Scene((Part(name, mesh),), region_names=tuple(RegionName(n, text) for n, text in labels)))


def test_regions_that_come_in_get_numbers_of_their_own_and_keep_their_names() -> None:
    here = with_regions("Head", [(1, "Brow"), (2, "Nose")])
    there = with_regions("Hand", [(1, "Thumb"), (2, "Palm"), (9, "Nail")])
    before = there.scene.parts[0].mesh.regions
    (part,) = bring_in(here, "Put Hand", there.scene)
    names = {known.number: known.name for known in here.scene.region_names}
    assert sorted(names.values()) == ["Brow", "Nail", "Nose", "Palm", "Thumb"]
    assert len(names) == 5
    assert part.mesh.regions is not None
    assert before is not None
    told = {1: "Thumb", 2: "Palm", 9: "Nail"}
    assert [names[n] for n in part.mesh.regions.tolist()] == [told[n] for n in before.tolist()]
    assert here.undo() == "Put Hand"
    assert len(here.scene.region_names) == 2


def test_the_numbers_of_all_levels_change_together() -> None:
    there = with_regions("Hand", [(1, "Thumb"), (2, "Palm")])
    part = there.scene.parts[0]
    exchange_level(there, part.id, *stack_of(part).added(part.mesh, Progress()), "Subdivide")
    here = with_regions("Head", [(1, "Brow"), (2, "Nose")])
    (new,) = bring_in(here, "Put", there.scene)
    assert new.stack is not None
    assert new.mesh.regions is not None
    assert set(np.unique(new.mesh.regions)) == {3, 4}
    down, mesh = new.stack.stepped(new.mesh, 0, Progress())
    assert mesh.regions is not None
    assert set(np.unique(mesh.regions)) == {3, 4}
    assert down.level == 0


def test_linked_copies_stay_linked_and_are_not_linked_to_what_they_came_from() -> None:
    there = with_regions("Hand", [(1, "Thumb")])
    copy(there, there.scene.parts, linked=True)
    here = Project()
    for _ in range(2):
        bring_in(here, "Put", there.scene)
    ids = [part.mesh_id for part in here.scene.parts]
    assert ids[0] == ids[1] != ids[2] == ids[3]
    assert here.scene.parts[0].mesh is here.scene.parts[1].mesh
    assert not set(ids) & {part.mesh_id for part in there.scene.parts}
    assert [part.name for part in here.scene.parts] == ["Hand", "Hand 2", "Hand 3", "Hand 4"]


def test_too_many_regions_are_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("kneten.document.incoming.MOST", 3)
    assert numbers.MOST > 3
    here = with_regions("Head", [(1, "Brow"), (2, "Nose")])
    with pytest.raises(RegionError, match="regions at most"):
        bring_in(here, "Put", with_regions("Hand", [(1, "Thumb")]).scene)
    assert len(here.scene.parts) == 1


def test_what_is_kept_apart_takes_only_its_own_names_along() -> None:
    project = with_regions("Head", [(1, "Brow"), (2, "Nose")])
    bring_in(project, "Put", with_regions("Hand", [(1, "Thumb")]).scene)
    apart = own_scene(project.scene, project.scene.parts[1:])
    assert [known.name for known in apart.region_names] == ["Thumb"]


def test_regions_of_a_recipe_have_one_number_in_every_project_and_leave_the_rest_to_us(
    tmp_path: Path,
) -> None:
    project = Project()
    eye = add_live(project, "Eye", Primitive("eye"), Primitive("eye").made().mesh(), Transform())
    assert region_name(project.scene, EYE_IRIS) == "Iris"
    faces = np.zeros(eye.mesh.topology.n_faces, bool)
    faces[:10] = True
    assert make_region(project, eye, faces) == 1
    rename_region(project, EYE_IRIS, "Moor green")
    path = tmp_path / "eye.kneten"
    save_project(project, path)
    other = Project()
    add_live(other, "Eye", Primitive("eye"), Primitive("eye").made().mesh(), Transform())
    bring_in(other, "Bring in", open_project(path).scene)
    first, second = (set(numbers_of(part.mesh)) for part in other.scene.parts)
    assert first == set(OWN)
    assert second - first == {1}
    # Another form makes the same regions anew.
    wider = replace(Primitive("eye"), inner=0.7)
    project.reshape(eye.id, wider, wider.made().mesh(), "Wider")
    assert set(numbers_of(project.scene.part(eye.id).mesh)) == set(OWN)
    project.undo()
    assert set(numbers_of(project.scene.part(eye.id).mesh)) == {*OWN, 1}
