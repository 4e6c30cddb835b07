"""Whole parts: copies, mirrors, arrays, groups, names, baking, joining, marks; all undone exactly, all saved."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.live.bodies import bird
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, picked
from kneten.core.remesh import remesh, soup_of
from kneten.core.seam import SeamError, made_whole
from kneten.core.solid import combine, flaw
from kneten.core.transform import Transform
from kneten.document import blocking, placing, rows
from kneten.document.guides import add_guides
from kneten.document.journal import Journal
from kneten.document.marks import landmark, measured, place_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.rows import Course
from kneten.document.scene import Part, Scene, bring_back, keep
from kneten.document.things import Reference, Tape
from tests.conftest import FRONT, make_ball

X = np.array([1.0, 0, 0])
ZERO = np.zeros(3)


@pytest.fixture
def project() -> Project:
    parts = (
        Part("Ball left", make_ball(20.0, 10), transform=Transform((50.0, 0, 0))),
        Part("Box", Primitive("box").made().mesh(), recipe=Primitive("box")),
    )
    return Project(Scene(parts))


def places(project: Project) -> dict[str, np.ndarray]:
    return {p.name: p.transform.to_scene(p.mesh.positions) for p in project.scene.parts}


def stroke_on(project: Project, part: Part, point: tuple[float, float, float]) -> None:
    stroke = project.begin_stroke(part.id, TOOLS["inflate"], TOOLS["inflate"].defaults)
    stroke.dab(Dab(np.array(point), np.zeros(3), FRONT, 12.0, 0.9, 0.2))
    assert project.end_stroke(part.id, stroke, "Inflate")


def undone(project: Project, before: dict[str, np.ndarray]) -> None:
    """One undo brings back exactly what was."""
    project.undo()
    now = places(project)
    assert list(now) == list(before)
    for name, points in before.items():
        assert np.array_equal(now[name], points)


def test_copies_are_their_own_and_linked_ones_follow(project: Project) -> None:
    before = places(project)
    ball = project.scene.parts[0]
    (copied,) = blocking.copy(project, [ball], way=np.array([0, 60.0, 0]))
    assert copied.name == "Ball left 2"
    (linked,) = blocking.copy(project, [ball], linked=True)
    assert project.scene.linked(ball) == [linked]
    start = copied.mesh.positions.copy()
    stroke_on(project, ball, (0, 0, 20))
    assert np.array_equal(copied.mesh.positions, start)
    assert linked.mesh is ball.mesh
    project.replace_mesh(ball.id, make_ball(9.0, 6), "Remesh")
    both = [p for p in project.scene.parts if p.mesh.n_vertices == make_ball(9.0, 6).n_vertices]
    assert {p.id for p in both} == {ball.id, linked.id}
    project.undo()
    blocking.unlink(project, [project.scene.part(linked.id)])
    assert project.scene.linked(project.scene.part(ball.id)) == []
    for _ in range(3):
        project.undo()
    undone(project, before)


def test_mirrored_copies_change_sides_and_names(project: Project) -> None:
    ball = project.scene.parts[0]
    (other,) = blocking.mirror(project, [ball], ZERO, X, linked=True)
    assert other.name == "Ball right"
    assert other.transform.mirror
    mirrored = ball.transform.to_scene(ball.mesh.positions) * [-1, 1, 1]
    assert other.transform.to_scene(other.mesh.positions) == pytest.approx(mirrored, abs=1e-5)
    # A stroke on one side is seen on the other at once, mirrored.
    stroke_on(project, ball, (0, 0, 20))
    mirrored = ball.transform.to_scene(ball.mesh.positions) * [-1, 1, 1]
    assert other.transform.to_scene(other.mesh.positions) == pytest.approx(mirrored, abs=1e-5)


@pytest.mark.parametrize(
    ("name", "other"),
    [
        ("Ear left", "Ear right"),
        ("Left ear", "Right ear"),
        ("Ear L", "Ear R"),
        ("Ear", "Ear"),
        ("Leftover", "Leftover"),
    ],
)
def test_names_change_sides(name: str, other: str) -> None:
    assert blocking.other_side(name) == other
    assert blocking.other_side(other) == name


def test_flip_keeps_the_outline_where_it_was(project: Project) -> None:
    ball = project.scene.parts[0]
    low, high = ball.bounds()
    blocking.flip(project, [ball], (low + high) / 2, X)
    now = project.scene.part(ball.id)
    assert now.bounds()[0] == pytest.approx(low, abs=1e-5)
    assert now.transform.mirror


def test_arrays(project: Project) -> None:
    ball = project.scene.parts[0]
    line = rows.along_line(project, [ball], 4, np.array([0, 0, 30.0]), linked=True)
    assert [round(p.transform.place[2]) for p in line] == [30, 60, 90]
    ring = rows.around(project, [ball], 6, 360.0, np.array([0, 1.0, 0]), ZERO, linked=False)
    assert len(ring) == 5
    spots = np.array([p.transform.place for p in [ball, *ring]])
    assert np.linalg.norm(spots, axis=1) == pytest.approx(np.full(6, 50.0))
    assert np.linalg.norm(spots - np.roll(spots, 1, axis=0), axis=1) == pytest.approx(np.full(6, 50.0))


def test_copies_along_a_course_count_the_part_itself(project: Project) -> None:
    ball = project.scene.parts[0]
    placing.set_pivot(project, [ball], np.array([0.0, -20.0, 0.0]))
    ball = project.scene.part(ball.id)
    path = np.stack([np.zeros(9), np.linspace(0, 80, 9), np.zeros(9)], -1)
    steps = len(project.history.names()[0])
    new = rows.along_path(project, [ball], 5, Course("a line", path), linked=True)
    assert len(new) == 4
    assert len(project.history.names()[0]) == steps + 1
    row = [project.scene.part(ball.id), *new]
    assert [p.pivot_place()[1] for p in row] == pytest.approx([0, 20, 40, 60, 80])
    assert all(p.mesh is ball.mesh for p in row)
    assert all(abs(p.transform.axes()[1, 1] - 1) < 1e-9 for p in row)
    project.undo()
    assert project.scene.part(ball.id).transform == ball.transform
    assert len(project.scene.parts) == 2


@pytest.mark.parametrize("closed", [False, True])
def test_copies_stand_up_from_the_clay_along_a_guide(project: Project, closed: bool) -> None:
    """Spines over a back: their own y is off the clay, their z along the guide, right-handed."""
    box = project.scene.parts[1]
    ball = project.scene.parts[0]
    t = np.linspace(0.2, 1.2, 20) if not closed else np.arange(40) * (2 * np.pi / 40)
    ring = 20.0 * np.stack([np.zeros_like(t), np.cos(t), np.sin(t)], -1)
    add_guides(project, ball, [ring], closed, "back")
    (course,) = rows.courses(project.scene, [box.id])
    assert course.name == "back"
    assert course.closed is closed
    blocking.bake(project, [box])
    new = rows.along_path(project, [box], 6, course, linked=False, standing=True)
    row = [project.scene.part(box.id), *new]
    spots = np.array([p.pivot_place() for p in row]) - [50.0, 0.0, 0.0]
    assert np.linalg.norm(spots, axis=1) == pytest.approx(np.full(6, 20.0), rel=0.02)
    gaps = np.linalg.norm(np.diff(spots, axis=0), axis=1)
    assert np.ptp(gaps) < 0.1 * gaps.mean()
    for part, spot in zip(row, spots, strict=True):
        axes = part.transform.axes()
        assert axes[:, 1] @ spot / np.linalg.norm(spot) > 0.99
        assert abs(axes[:, 2] @ spot) / np.linalg.norm(spot) < 0.15
        assert np.linalg.det(axes) == pytest.approx(1.0)
    along = rows.along_path(project, [box], 6, course, linked=False)
    assert all(abs(p.transform.axes()[:, 1] @ (p.pivot_place() - [50.0, 0, 0])) < 4 for p in along)


def half_ball(cut: float = 0.0) -> Mesh:
    """What lies right of a plane, open there; its open edge on the plane or a little off."""
    whole = make_ball(30.0, 16)
    return picked(whole, whole.positions[whole.topology.faces].mean(axis=1)[:, 0] > cut)


def test_a_half_and_its_image_are_welded_at_the_seam() -> None:
    half = half_ball()
    half.mask = np.linspace(0, 1, half.n_vertices, dtype=np.float32)
    half.regions = np.full(half.topology.n_faces, 7, np.uint16)
    place = Transform((40.0, 0.0, 0.0), scale=2.0).with_degrees(10.0, 50.0, 0.0)
    project = Project(Scene((Part("Half", half, transform=place),)))
    part = project.scene.parts[0]
    point, normal = part.pivot_place(), place.axes()[:, 0]
    blocking.make_whole(project, part, point, normal)
    whole = project.scene.parts[0].mesh
    seam = int((np.abs(half.positions[:, 0]) < 1e-4).sum())
    assert seam > 20
    assert whole.n_vertices == 2 * half.n_vertices - seam
    assert flaw(whole) == ""
    assert whole.mask is not None
    assert whole.regions is not None
    assert (whole.regions == 7).all()
    points = {tuple(p) for p in np.round(whole.positions, 3).tolist()}
    assert all((-x if x else x, y, z) in points for x, y, z in points)
    project.undo()
    assert project.scene.parts[0].mesh.n_vertices == half.n_vertices


def test_what_cannot_be_welded_is_refused_in_words() -> None:
    for mesh, why in ((make_ball(30.0, 8), "no open edge"), (half_ball(12.0), "no open edge")):
        with pytest.raises(SeamError, match=why):
            made_whole(mesh, np.zeros(3), np.array([1.0, 0, 0]))
    # Open on the plane, but on both sides of it.
    hole = make_ball(30.0, 16)
    near = hole.positions[hole.topology.faces].mean(axis=1)
    with pytest.raises(SeamError, match="both sides"):
        made_whole(picked(hole, near[:, 2] > 0), np.zeros(3), np.array([1.0, 0, 0]))


def test_baking_ends_being_live_and_remembers(project: Project) -> None:
    box = project.scene.parts[1]
    blocking.bake(project, project.scene.parts)
    clay = project.scene.part(box.id)
    assert clay.recipe is None
    assert clay.was == box.recipe
    assert clay.mesh is box.mesh
    again = blocking.begin_again(project, clay, clay.was.made().mesh())
    assert again.recipe == box.recipe
    assert not project.scene.part(box.id).visible


def test_groups_stay_together_and_empty_ones_go(project: Project) -> None:
    blocking.copy(project, [project.scene.parts[0]])
    first, middle, last = project.scene.parts
    group = blocking.group(project, [first, last], "Pair")
    assert [p.id for p in project.scene.parts] == [first.id, last.id, middle.id]
    blocking.into_group(project, [project.scene.part(first.id)], "")
    assert project.scene.groups == (group,)
    blocking.into_group(project, [project.scene.part(last.id)], "")
    assert project.scene.groups == ()
    project.undo()
    assert project.scene.groups == (group,)


@pytest.mark.parametrize(
    ("pattern", "names"),
    [
        ("Tooth ##", ["Tooth 01", "Tooth 02"]),
        ("* #", ["Ball left 1", "Box 2"]),
        ("Horn @", ["Horn left", "Horn middle"]),
        ("Same", ["Same", "Same 2"]),
    ],
)
def test_names_by_pattern(project: Project, pattern: str, names: list[str]) -> None:
    blocking.rename_by_pattern(project, project.scene.parts, pattern)
    assert [p.name for p in project.scene.parts] == names
    with pytest.raises(ValueError, match="empty"):
        blocking.rename_by_pattern(project, project.scene.parts, "  ")


def test_order_and_sorting(project: Project) -> None:
    copies = rows.along_line(project, [project.scene.parts[1]], 11, X, linked=True)
    blocking.reorder(project, copies[-1].id, project.scene.parts[0].id)
    assert project.scene.parts[0].id == copies[-1].id
    blocking.sort_by_name(project)
    names = [p.name for p in project.scene.parts]
    assert names[:4] == ["Ball left", "Box", "Box 2", "Box 3"]
    assert names[-1] == "Box 11"


def test_joined_parts_split_again_by_origin(project: Project) -> None:
    box, ball = project.scene.parts[1], project.scene.parts[0]
    parts = [box, ball]
    mesh = combine("join", blocking.in_space_of(parts, box), Progress())
    body = blocking.put_together(project, box, mesh, [ball.id], blocking.origin_names(parts), "Unite")
    assert [p.name for p in project.scene.parts] == ["Box"]
    assert body.origins == ("Box", "Ball left")
    # Sculpted, remeshed, joined again: what it came from is still known.
    fine = remesh(soup_of([body.mesh]), 5.0, Progress())
    project.replace_mesh(body.id, fine, "Remesh")
    third = blocking.add(
        project, "Add", [Part("Egg", make_ball(15.0, 8), transform=Transform((0, 60.0, 0)))]
    )[0]
    parts = [project.scene.part(body.id), third]
    mesh = combine("join", blocking.in_space_of(parts, parts[0]), Progress())
    body = blocking.put_together(project, parts[0], mesh, [third.id], blocking.origin_names(parts), "Unite")
    assert body.origins == ("Box", "Ball left", "Egg")
    pieces = blocking.pieces_by_origin(body.mesh, Progress())
    new = blocking.split_by_origin(project, body, pieces)
    assert [p.name for p in new] == ["Box", "Ball left", "Egg"]
    for part in new:
        assert not part.mesh.topology.has_border
    project.undo()
    assert len(project.scene.parts) == 1


def test_subtracting_may_keep_the_others(project: Project) -> None:
    box, ball = project.scene.parts[1], project.scene.parts[0]
    mesh = combine("subtract", blocking.in_space_of([box, ball], box), Progress())
    blocking.put_together(project, box, mesh, [ball.id], (), "Subtract", keep=True)
    assert [p.visible for p in project.scene.parts] == [False, True]


def test_parts_that_meet_and_how_deep() -> None:
    one = Part("One", make_ball(50.0, 24))
    other = Part("Other", make_ball(50.0, 24), transform=Transform((90.0, 0, 0)))
    far = Part("Far", make_ball(50.0, 24), transform=Transform((300.0, 0, 0)))
    pairs = blocking.meeting_pairs([one, other, far])
    assert [(a.name, b.name) for a, b in pairs] == [("One", "Other")]
    assert blocking.depth_between(one, other, Progress()) == pytest.approx(10, abs=0.6)
    assert blocking.depth_between(one, far, Progress()) == 0


# -- marks --------------------------------------------------------------------------------------


def with_marks(project: Project) -> tuple[Part, Tape]:
    ball = project.scene.parts[0]
    scene = project.scene
    for name, place in (("Top", (0.0, 20, 0)), ("Side", (20.0, 0, 0))):
        mark = landmark(scene, name, ball, np.array(place))
        scene = replace(scene, landmarks=(*scene.landmarks, mark))
    tape = Tape(scene.landmarks[0].id, scene.landmarks[1].id, True, (0.5,))
    project.change("Measure", replace(scene, tapes=(tape,)))
    return ball, tape


def test_landmarks_follow_strokes_remeshing_and_the_part(project: Project) -> None:
    ball, tape = with_marks(project)
    top = project.scene.landmarks[0]
    assert place_of(top, project.scene) == pytest.approx([50, 20, 0], abs=0.1)
    lying = measured(tape, project.scene)
    assert lying.length == pytest.approx(20 * np.pi / 2, rel=0.01)
    assert np.linalg.norm(lying.marks[0] - [50, 0, 0]) == pytest.approx(20, abs=0.3)
    stroke_on(project, ball, (0, 20, 0))
    raised = place_of(top, project.scene)
    assert raised[1] > 20.3
    project.replace_mesh(ball.id, remesh(soup_of([ball.mesh]), 2.0, Progress()), "Remesh")
    again = project.scene.landmarks[0]
    assert again.id == top.id
    assert again.topology != top.topology
    assert place_of(again, project.scene) == pytest.approx(raised, abs=0.8)
    project.place(ball.id, Transform((0, 0, 100.0)))
    assert place_of(project.scene.landmarks[0], project.scene)[2] == pytest.approx(100, abs=0.8)
    straight = replace(tape, surface=False)
    assert measured(straight, project.scene).length < lying.length * 1.1
    project.delete(ball.id)
    assert project.scene.landmarks == ()
    assert project.scene.tapes == ()


def test_choosing_several(project: Project) -> None:
    ball, box = project.scene.parts
    project.choose(ball.id)
    project.choose_also(box.id)
    assert project.chosen == (ball, box)
    assert project.active_id == box.id
    project.choose_also(box.id)
    assert project.chosen == (ball,)
    project.choose_all([ball.id, box.id])
    project.delete_all([box.id])
    assert project.chosen == (ball,)
    assert project.history.names()[0] == ["Delete Box"]


# -- saving -------------------------------------------------------------------------------------


def rich_project() -> Project:
    """Something of everything this issue of the file format holds."""
    strands = Strands((Strand((Knot((0, 0, 0), 2.0, 5.0, (1.0, 2.0)), Knot((0, 30, 0), 3.0))),), copies=2)
    armature = replace(bird(), edge=6.0)
    parts = (
        Part("Strand", strands.made().mesh(), recipe=strands, transform=Transform((1.0, 2, 3), mirror=True)),
        Part("Bird", armature.made().mesh(), recipe=armature),
        Part(
            "Cup",
            Lathe().made().mesh(),
            was=Lathe(),
            locked=True,
            budget=900,
            pivot=(1.0, 2.0, 3.0),
            note="A cup",
        ),
    )
    project = Project(Scene(parts))
    blocking.copy(project, [project.scene.parts[2]], linked=True)
    blocking.group(project, project.scene.parts[1:3], "Things")
    ball = blocking.add(project, "Add", [Part("Ball left", make_ball(20.0, 10))])[0]
    mesh = ball.mesh.copy()
    mesh.origin = (mesh.positions[:, 0] > 0).astype(np.uint8)
    project.replace_mesh(ball.id, mesh, "Join", origins=("A", "B"))
    project.choose(ball.id)
    scene = project.scene
    mark = landmark(scene, "Top", project.scene.part(ball.id), np.array([0, 20.0, 0]))
    other = landmark(scene, "Side", project.scene.part(ball.id), np.array([20.0, 0, 0]))
    project.change_settings(originals={"0123456789abcdef.jpg": b"not really a picture"})
    project.change_settings(canons=(("Mine", (0.0, 0.4, 1.0)),))
    reference = Reference(
        "Sketch", "0123456789abcdef.jpg", place=(3.0, 4.0), crop=(0.1, 0.2, 0.9, 0.8), note="Look"
    )
    project.change(
        "Marks",
        replace(
            scene,
            landmarks=(mark, other),
            tapes=(Tape(mark.id, other.id, True, (0.5,)),),
            references=(reference,),
        ),
    )
    project.keep_milestone("Kept", b"png")
    return project


def same(one: Project, other: Project) -> None:
    a, b = one.scene, other.scene
    assert (a.groups, a.references, a.landmarks, a.tapes) == (b.groups, b.references, b.landmarks, b.tapes)
    assert one.settings.originals == other.settings.originals
    assert one.settings.canons == other.settings.canons
    for p, q in zip(a.parts, b.parts, strict=True):
        traits, others = p.traits(), q.traits()
        assert {k: v for k, v in traits.items() if k != "mesh_id"} == {
            k: v for k, v in others.items() if k != "mesh_id"
        }
        assert np.array_equal(p.mesh.positions, q.mesh.positions)
        assert (p.mesh.origin is None) == (q.mesh.origin is None)
        if p.mesh.origin is not None:
            assert np.array_equal(p.mesh.origin, q.mesh.origin)
    assert [len(a.linked(p)) for p in a.parts] == [len(b.linked(p)) for p in b.parts]


def test_everything_is_saved_and_reopened(tmp_path: Path) -> None:
    project = rich_project()
    path = tmp_path / "rich.kneten"
    save_project(project, path)
    again = open_project(path)
    same(project, again)
    linked = [p for p in again.scene.parts if again.scene.linked(p)]
    assert linked[0].mesh is linked[1].mesh


def test_everything_comes_back_after_a_crash(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KNETEN_STATE", str(tmp_path))
    project = rich_project()
    journal = Journal(project)
    journal.start(None)
    linked = next(p for p in project.scene.parts if project.scene.linked(p))
    blocking.mirror(project, [linked], ZERO, X, linked=True)
    project.change_settings(canons=(*project.settings.canons, ("Other", (0.0, 1.0))))
    (journal.folder / "owner").write_text("1 0")
    recovered = recover(left_journals()[0])
    same(project, recovered)


def test_linked_copies_stay_linked_through_milestones() -> None:
    ball = Part("Ball", make_ball(10.0, 4))
    twin = blocking.twin(ball, "Twin", Transform((30.0, 0, 0)), linked=True)
    back = bring_back(keep((ball, twin)))
    assert back[0].mesh is back[1].mesh
    assert back[0].mesh is not ball.mesh
    assert back[0].mesh_id == back[1].mesh_id != ball.mesh_id


def test_hundreds_of_parts_are_quick_to_change() -> None:
    clay = make_ball(5.0, 4)
    parts = tuple(Part(f"Part {k}", Mesh(clay.topology, clay.positions)) for k in range(400))
    project = Project(Scene(parts))
    blocking.rename_by_pattern(project, parts, "Scale ###")
    blocking.group(project, project.scene.parts[:200])
    assert project.scene.parts[199].name == "Scale 200"
    assert len({p.name for p in project.scene.parts}) == 400


def test_what_is_symmetric_together_has_its_middle_there() -> None:
    body = Part("Body", make_ball(100.0, 12))
    foot = Part("Foot", make_ball(20.0, 8), transform=Transform((60.0, -90.0, 10.0), scale=1.5))
    other = Part(
        "Foot 2", foot.mesh.copy(), transform=Transform((-60.0, -90.0, 10.0), scale=1.5, mirror=True)
    )
    assert blocking.common_space([foot, body, other]) == body.transform
    assert blocking.common_space([foot, other]).place == pytest.approx((0.0, -90.0, 10.0))
    # Where the first one's own is as good, it stays as it is.
    assert blocking.common_space([body, foot, other]) == body.transform
    assert blocking.common_space([foot]) == foot.transform
    # A head that is turned stays the middle of what is mirrored about it.
    turned = Transform((30.0, 0.0, 0.0), (0.0, 0.3826834, 0.0, 0.9238795))
    ears = [
        Part(
            "Ear",
            make_ball(15.0, 8),
            transform=Transform(tuple(turned.to_scene(np.array([[x, 90.0, 0.0]]))[0])),
        )
        for x in (50.0, -50.0)
    ]
    assert (
        blocking.common_space([ears[0], Part("Head", make_ball(100.0, 12), transform=turned), ears[1]])
        == turned
    )


def test_parts_put_together_in_another_space_lie_where_they_were() -> None:
    project = Project(
        Scene(
            tuple(
                Part(f"Foot {x}", make_ball(20.0, 8), transform=Transform((x, -90.0, 10.0), mirror=x > 0))
                for x in (60.0, -60.0)
            )
        )
    )
    parts = list(project.scene.parts)
    before = np.sort(
        np.concatenate([p.transform.to_scene(p.mesh.positions.astype(float)) for p in parts]), axis=0
    )
    space = blocking.common_space(parts)
    assert space.place[0] == 0.0
    meshes = blocking.in_space_of(parts, replace(parts[0], transform=space))
    mesh = concatenated(meshes)
    body = blocking.put_together(
        project, parts[0], mesh, [p.id for p in parts], blocking.origin_names(parts), "Join", space=space
    )
    assert body.transform == space
    after = np.sort(space.to_scene(body.mesh.positions.astype(float)), axis=0)
    assert after == pytest.approx(before, abs=1e-4)
    project.undo()
    assert [p.name for p in project.scene.parts] == ["Foot 60.0", "Foot -60.0"]
