"""Parts moved, turned and sized: one step, one pivot, the chosen axes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.live.primitive import Primitive
from kneten.core.loose import LooseMesh, loosened
from kneten.core.motion import Motion, soft_shares
from kneten.core.placing import reach_along
from kneten.core.transform import Transform
from kneten.document import blocking, placing
from kneten.document.placing import Hold, beyond, copied, move, previews, resize
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project, transform_from
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

LEANING = Transform((30.0, -10.0, 5.0), scale=1.5).with_degrees(20.0, 35.0, -50.0)


@pytest.fixture
def project() -> Project:
    recipe = Primitive("box", (100.0, 100.0, 100.0), (8, 8, 8))
    return Project(
        Scene(
            (
                Part("Ball", make_ball(40.0, 12)),
                Part("Box", recipe.made().mesh(), transform=Transform((200.0, 0.0, 0.0)), recipe=recipe),
            )
        )
    )


def places(part: Part) -> np.ndarray:
    return part.transform.to_scene(part.mesh.positions.astype(np.float64))


def by_hand(
    points: np.ndarray, axes: np.ndarray, factors: tuple[float, ...], pivot: np.ndarray
) -> np.ndarray:
    """Points scaled along axes (rows) about a pivot, spelled out."""
    out = np.tile(pivot, (len(points), 1))
    for axis, factor in zip(axes, factors, strict=True):
        out += np.outer((points - pivot) @ axis * factor, axis)
    return out


# -- motions ------------------------------------------------------------------------------------


def test_a_motion_is_the_same_for_points_and_places() -> None:
    motion = Motion(
        way=np.array([3.0, -2.0, 9.0]),
        turn=np.radians(70) * np.array([0.6, 0.0, 0.8]),
        factors=(1.7, 1.7, 1.7),
        pivot=np.array([12.0, 7.0, -4.0]),
    )
    points = np.random.default_rng(1).normal(0, 30, (50, 3))
    for place in (LEANING, LEANING.mirrored(np.zeros(3), np.array([1.0, 2.0, 2.0]))):
        assert motion.placed(place).to_scene(points) == pytest.approx(
            motion.moved(place.to_scene(points)), abs=1e-9
        )
    assert motion.shared(points, np.ones(50)) == pytest.approx(motion.moved(points), abs=1e-9)
    assert motion.shared(points, np.zeros(50)) == pytest.approx(points, abs=1e-12)


def test_half_of_a_turn_is_a_turn_by_half() -> None:
    motion = Motion(turn=np.array([0.0, 0.0, np.pi / 2]))
    half = motion.shared(np.array([[10.0, 0.0, 0.0]]), np.array([0.5]))
    assert half[0] == pytest.approx([10 * np.sqrt(0.5), 10 * np.sqrt(0.5), 0])


def test_uneven_motions_have_no_place_and_no_size_is_nothing() -> None:
    with pytest.raises(ValueError, match="clay"):
        Motion(factors=(1.0, 2.0, 1.0)).placed(Transform())
    for bad in ((0.0, 1.0, 1.0), (1.0, -1.0, 1.0), (1.0, np.inf, 1.0), (np.nan, 1.0, 1.0)):
        with pytest.raises(ValueError, match="greater than zero"):
            Motion(factors=bad)


def test_soft_shares_fall_from_the_pivot() -> None:
    points = np.array([[0.0, 0, 0], [5, 0, 0], [10, 0, 0], [20, 0, 0]])
    assert soft_shares(points, np.zeros(3), 10.0) == pytest.approx([1, 0.5, 0, 0])
    assert soft_shares(points, np.zeros(3), 0.0) == pytest.approx([1, 1, 1, 1])


def test_reach_along_any_way_is_that_of_the_points() -> None:
    mesh = make_ball(40.0, 24)
    mesh.positions *= np.float32([1.0, 0.3, 2.0])
    mesh.refresh_all()
    ways = np.vstack([np.eye(3), LEANING.axes()])
    along = mesh.positions.astype(np.float64) @ ways.T
    assert reach_along(mesh, ways) == pytest.approx(along.max(0) - along.min(0), rel=1e-12)


# -- angles -------------------------------------------------------------------------------------


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize(
    "typed", [(90.0, 30.0, 20.0), (-90.0, 10.0, 0.0), (720.0, 0.0, 5.0), (10.0, 200.0, 3.0)]
)
def test_angles_stay_as_typed(typed: tuple[float, float, float], tmp_path: Path) -> None:
    turned = Transform().with_degrees(*typed)
    assert turned.degrees() == typed
    # What is worked out from the turn alone turns the same way.
    known = replace(turned, typed=None).degrees()
    assert Transform().with_degrees(*known).rotation() == pytest.approx(turned.rotation(), abs=1e-6)
    project = Project(Scene((Part("Ball", make_ball(10.0, 4), transform=turned),)))
    save_project(project, tmp_path / "turned.kneten")
    assert open_project(tmp_path / "turned.kneten").scene.parts[0].transform.degrees() == typed
    # Turned on by hand they are worked out anew.
    assert turned.turned_about(np.array([0.0, 1, 0]), 10, np.zeros(3)).typed is None


def test_angles_of_a_file_that_mean_another_turn_are_dropped() -> None:
    words = {
        "place": [0, 0, 0],
        "turn": [0, 0, 0, 1],
        "scale": 1.0,
        "mirror": False,
        "typed": [90.0, 0.0, 0.0],
    }
    assert transform_from(words).typed is None
    assert transform_from({**words, "typed": [360.0, 0.0, 0.0]}).typed == (360.0, 0.0, 0.0)
    assert transform_from({**words, "typed": [2e6, 0.0, 0.0]}).typed is None


# -- parts --------------------------------------------------------------------------------------


@pytest.mark.parametrize("lean", [Transform(), LEANING])
@pytest.mark.parametrize("space", ["world", "own"])
def test_several_parts_scale_unevenly_about_one_pivot(project: Project, lean: Transform, space: str) -> None:
    ball, box = project.scene.parts
    placing.put_all(project, {ball.id: lean}, "Turn")
    blocking.bake(project, [box])
    placing.set_pivot(project, [box], np.array([170.0, 40.0, 0.0]))
    ball, box = project.scene.parts
    axes = ball.transform.axes().T if space == "own" else np.eye(3)
    motion = Motion(factors=(1.0, 2.0, 0.5), axes=axes, pivot=ball.pivot_place())
    steps = len(project.history.names()[0])
    wanted = {p.id: by_hand(places(p), axes, motion.factors, motion.pivot) for p in (ball, box)}
    shown = previews([ball, box], motion, Hold(), 10**6)
    move(project, [ball, box], motion, "Scale")
    assert len(project.history.names()[0]) == steps + 1
    for part in project.scene.parts:
        assert places(part) == pytest.approx(wanted[part.id], abs=2e-4)
        assert places(shown[part.id]) == pytest.approx(wanted[part.id], abs=2e-4)
    # A pivot goes where its place in the clay goes.
    assert project.scene.part(box.id).pivot_place() == pytest.approx(
        motion.moved(box.pivot_place()[None])[0], abs=1e-6
    )
    project.undo()
    assert project.scene.part(box.id).transform == box.transform
    assert np.array_equal(places(project.scene.part(ball.id)), places(ball))


def test_linked_copies_take_a_size_once_and_spread(project: Project) -> None:
    ball = project.scene.parts[0]
    (twin,) = blocking.copy(project, [ball], linked=True, way=np.array([100.0, 0.0, 0.0]))
    placing.set_pivot(project, [twin], np.array([100.0, 40.0, 0.0]))
    ball, twin = project.scene.part(ball.id), project.scene.part(twin.id)
    motion = Motion(factors=(2.0, 0.5, 1.0), pivot=np.array([-10.0, 0.0, 0.0]))
    wanted = [by_hand(places(p), np.eye(3), motion.factors, motion.pivot) for p in (ball, twin)]
    move(project, [ball, twin], motion, "Scale")
    now = [project.scene.part(p.id) for p in (ball, twin)]
    assert now[0].mesh is now[1].mesh
    for part, places_wanted in zip(now, wanted, strict=True):
        assert places(part) == pytest.approx(places_wanted, abs=1e-4)


def test_even_sizes_and_turns_leave_the_clay_alone(project: Project) -> None:
    parts = project.scene.parts
    meshes = [p.mesh for p in parts]
    motion = Motion(
        turn=np.array([0.0, 0.0, np.pi / 2]), factors=(2.0, 2.0, 2.0), pivot=np.array([100.0, 0, 0])
    )
    move(project, parts, motion, "Turn")
    assert [p.mesh for p in project.scene.parts] == meshes
    assert project.scene.parts[0].transform.place == pytest.approx((100, -200, 0))
    assert project.scene.parts[1].transform.place == pytest.approx((100, 200, 0))
    assert isinstance(project.scene.parts[1].recipe, Primitive)


def test_a_motion_that_does_nothing_is_no_step(project: Project) -> None:
    move(project, project.scene.parts, Motion(), "Move")
    assert placing.copied(project, project.scene.parts, Motion()) == []
    assert not project.history.names()[0]


def test_a_live_body_with_a_pivot_elsewhere_stays_live_and_stays_put(project: Project) -> None:
    box = project.scene.parts[1]
    placing.set_pivot(project, [box], np.array([150.0, -50.0, 0.0]))
    resize(project, [project.scene.part(box.id)], (1.0, 2.0, 1.0))
    now = project.scene.part(box.id)
    assert isinstance(now.recipe, Primitive)
    low, high = now.bounds()
    assert (low[1], high[1]) == pytest.approx((-50.0, 150.0), abs=1e-4)
    assert now.pivot_place() == pytest.approx([150.0, -50.0, 0.0])


def test_a_live_body_that_numbers_cannot_say_is_baked(project: Project) -> None:
    box = project.scene.parts[1]
    placing.put_all(project, {box.id: box.transform.with_degrees(0, 0, 30)}, "Turn")
    box = project.scene.part(box.id)
    motion = Motion(factors=(2.0, 1.0, 1.0), pivot=box.pivot_place())
    wanted = by_hand(places(box), np.eye(3), motion.factors, motion.pivot)
    move(project, [box], motion, "Scale")
    now = project.scene.part(box.id)
    assert now.recipe is None
    assert now.was == box.recipe
    assert places(now) == pytest.approx(wanted, abs=1e-4)
    project.undo()
    assert project.scene.part(box.id).recipe == box.recipe


def masked(project: Project) -> Part:
    ball = project.scene.parts[0]
    ball.mesh.mask = (ball.mesh.positions[:, 1] < 0).astype(np.float32)
    return ball


@pytest.mark.parametrize(
    "motion",
    [
        Motion(way=np.array([0.0, 7.0, 0.0])),
        Motion(turn=np.array([0.0, 1.0, 0.0])),
        Motion(factors=(1.0, 1.5, 1.0)),
        Motion(factors=(1.2, 1.2, 1.2)),
    ],
)
def test_only_unmasked_clay_follows(project: Project, motion: Motion) -> None:
    ball, box = masked(project), project.scene.parts[1]
    start, held = places(ball), ball.mesh.mask == 1
    move(project, [ball, box], motion, "Move", Hold(unmasked=True))
    now = project.scene.part(ball.id)
    assert np.array_equal(places(now)[held], start[held])
    assert places(now)[~held] == pytest.approx(motion.moved(start)[~held], abs=1e-4)
    # What has no mask follows as a whole.
    assert project.scene.part(box.id).pivot_place() == pytest.approx(motion.moved(box.pivot_place()[None])[0])
    project.undo()
    assert np.array_equal(places(project.scene.part(ball.id)), start)


def test_a_soft_range_takes_clay_of_all_chosen_parts_along(project: Project) -> None:
    ball = project.scene.parts[0]
    lash = replace(Part("Lash", make_ball(3.0, 6)), transform=Transform((0.0, 42.0, 0.0)))
    far = replace(Part("Far", make_ball(3.0, 6)), transform=Transform((0.0, 142.0, 0.0)))
    project.change("Add", project.scene.with_parts((ball, lash, far)))
    motion = Motion(way=np.array([0.0, 0.0, 10.0]), pivot=np.array([0.0, 40.0, 0.0]))
    starts = [places(p) for p in project.scene.parts]
    move(project, project.scene.parts, motion, "Move", Hold(soft=30.0))
    for part, start in zip(project.scene.parts, starts, strict=True):
        share = soft_shares(start, motion.pivot, 30.0)
        assert places(part) == pytest.approx(start + share[:, None] * motion.way, abs=1e-4)
    assert (places(project.scene.parts[1]) - starts[1])[:, 2].min() > 8.0
    assert np.array_equal(places(project.scene.parts[2]), starts[2])
    assert len(project.history.names()[0]) == 2


def test_copies_come_along_and_the_parts_stay(project: Project) -> None:
    ball = project.scene.parts[0]
    for motion in (Motion(way=np.array([9.0, 0, 0])), Motion(factors=(1.0, 2.0, 1.0))):
        (new,) = placing.copied(project, [ball], motion)
        now = project.scene.part(new.id)
        assert places(now) == pytest.approx(motion.moved(places(ball)), abs=1e-4)
        assert project.scene.part(ball.id).transform == ball.transform
        project.undo()
        assert len(project.scene.parts) == 2


def test_levels_and_layers_survive_a_size(project: Project) -> None:
    from kneten.document.layering import add_layer

    ball = project.scene.parts[0]
    add_layer(project, ball)
    resize(project, [project.scene.part(ball.id)], (1.0, 1.0, 1.5))
    stack = project.scene.part(ball.id).stack
    assert stack is not None
    assert len(stack.layers) == 1


def test_each_drops_by_itself(project: Project) -> None:
    box = project.scene.parts[1]
    placing.put_all(project, {box.id: Transform((200.0, 80.0, 0.0))}, "Move")
    placing.to_floor(project, project.scene.parts, each=True)
    assert [p.bounds()[0][1] for p in project.scene.parts] == pytest.approx([0, 0], abs=1e-4)


def test_floor_and_surface(project: Project) -> None:
    ball = project.scene.parts[0]
    placing.to_floor(project, project.scene.parts)
    assert min(p.bounds()[0][1] for p in project.scene.parts) == pytest.approx(0, abs=1e-4)
    normal = np.array([0.6, 0.8, 0])
    placing.onto(project, project.scene.part(ball.id), np.array([10.0, 20, 30]), normal)
    stood = project.scene.part(ball.id)
    heights = (stood.transform.to_scene(stood.mesh.positions) - [10, 20, 30]) @ normal
    assert heights.min() == pytest.approx(0, abs=1e-3)
    assert stood.transform.axes()[:, 1] == pytest.approx(normal, abs=1e-9)


def test_pivots_turn_what_they_should(project: Project) -> None:
    ball = project.scene.parts[0]
    placing.set_pivot(project, [ball], np.array([50.0, 20.0, 0]))
    part = project.scene.part(ball.id)
    assert part.pivot_place() == pytest.approx([50, 20, 0])
    assert np.array_equal(
        part.transform.to_scene(part.mesh.positions), ball.transform.to_scene(ball.mesh.positions)
    )
    resize(project, [ball], (1.0, 2.0, 1.0))
    assert project.scene.part(ball.id).bounds()[1][1] == pytest.approx(60, abs=1e-3)
    assert project.scene.part(ball.id).bounds()[0][1] == pytest.approx(-100, abs=1e-3)


def test_scaling_a_live_body_keeps_it_live(project: Project) -> None:
    box = project.scene.parts[1]
    resize(project, [box], (1.0, 2.0, 0.5))
    now = project.scene.part(box.id)
    assert isinstance(now.recipe, Primitive)
    assert now.recipe.size == (100.0, 200.0, 50.0)


def test_pivots_go_to_tips_axes_and_bases(project: Project) -> None:
    """A cone that lies on its side: its tip is found, then its other end, then the line between them."""
    recipe = Primitive("cone", (20.0, 60.0, 20.0), (32, 12, 1), 0.2)
    cone = Part("Cone", recipe.made().mesh(), transform=Transform((5.0, 7.0, 9.0)).with_degrees(0, 0, 90))
    project.change("Add", project.scene.with_parts((cone,)))

    def pivot(where: str) -> np.ndarray:
        placing.pivot_to(project, [cone], where)
        return project.scene.part(cone.id).pivot_place()

    assert pivot("tip") == pytest.approx([-25.0, 7.0, 9.0], abs=0.1)
    assert pivot("tip") == pytest.approx([35.0, 7.0, 9.0], abs=0.1)
    placing.set_pivot(project, [cone], np.array([-4.0, 30.0, 9.0]))
    assert pivot("axis") == pytest.approx([-4.0, 7.0, 9.0], abs=0.1)
    assert pivot("middle") == pytest.approx([5.0, 7.0, 9.0], abs=0.1)
    assert pivot("base") == pytest.approx([5.0, -3.0, 9.0], abs=0.1)
    assert pivot("world") == pytest.approx([0.0, 0.0, 0.0], abs=1e-9)
    assert len(project.history.names()[0]) == 8


@pytest.mark.parametrize("hold", [Hold(), Hold(soft=30.0), Hold(unmasked=True)])
def test_loose_clay_follows_as_any(project: Project, hold: Hold) -> None:
    ball = masked(project)
    project.exchange(ball.id, loosened(ball.mesh))
    part = project.scene.part(ball.id)
    motion = Motion(factors=(1.0, 1.5, 1.0), pivot=part.pivot_place())
    assert part.id not in previews([part], motion, hold, 10**6)
    move(project, [part], motion, "Scale", hold)
    now = project.scene.part(ball.id)
    assert not isinstance(now.mesh, LooseMesh)
    assert now.bounds()[1][1] > 40.0 if hold.soft == 0 else now.bounds()[1][1] >= 40.0
    assert project.undo() is not None
    assert project.scene.part(ball.id).mesh.settled().bounds()[1][1] == pytest.approx(40.0, abs=1e-4)


def test_mirrored_loose_clay_is_joined_with_others(project: Project) -> None:
    ball, box = project.scene.parts
    (twin,) = blocking.mirror(project, [ball], np.zeros(3), np.array([1.0, 0, 0]))
    project.exchange(twin.id, loosened(twin.mesh))
    meshes = blocking.in_space_of([box, project.scene.part(twin.id)], box)
    assert meshes[1].n_vertices == ball.mesh.n_vertices


@pytest.mark.parametrize(
    "factors", [(0.02, 0.02, 0.02), (50.0, 50.0, 50.0), (0.02, 0.021, 0.02), (50.0, 49.0, 50.0)]
)
@pytest.mark.filterwarnings("error")
def test_sizes_end_before_numbers_do(
    project: Project, tmp_path: Path, factors: tuple[float, float, float]
) -> None:
    """However often parts are sized, the last one that can be worked on stays, and its file opens."""
    for _ in range(100):
        parts = project.scene.parts
        motion = Motion(factors=factors, pivot=parts[0].pivot_place())
        if beyond(parts, motion):
            assert previews(parts, motion, Hold(), 10**6) == {}
            break
        previews(parts, motion, Hold(), 10**6)
        move(project, parts, motion, "Scale")
    else:
        raise AssertionError("it never ends")
    before = project.scene
    with pytest.raises(ValueError, match="can be worked on"):
        move(project, parts, motion, "Scale")
    with pytest.raises(ValueError, match="can be worked on"):
        copied(project, parts, motion)
    assert project.scene is before
    save_project(project, tmp_path / "sized.kneten")
    opened = open_project(tmp_path / "sized.kneten")
    for part, again in zip(project.scene.parts, opened.scene.parts, strict=True):
        assert np.array_equal(part.mesh.positions, again.mesh.positions)
        assert part.transform == again.transform
        there = again.transform.to_part(places(again))
        assert np.abs(there - again.mesh.positions).max() < 1e-3 * np.ptp(again.mesh.positions, axis=0).max()


def test_nothing_goes_where_no_file_can_say_it(project: Project) -> None:
    ball = project.scene.parts[0]
    away = Motion(way=np.array([2e9, 0.0, 0.0]))
    assert "farther off" in beyond([ball], away)
    with pytest.raises(ValueError, match="farther off"):
        move(project, [ball], away, "Move")
    with pytest.raises(ValueError, match="too far off"):
        project.place(ball.id, Transform(scale=0.0), "Place")
    assert project.scene.parts[0] is ball
