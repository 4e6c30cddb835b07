"""Joints found on the characters of the demos, and on parts that stand elsewhere than they lie."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import BODIES
from kneten.core.mesh import Mesh
from kneten.core.pose.fitter import Fit
from kneten.core.pose.rig import Joint, wrong_joints
from kneten.core.transform import Transform
from kneten.demo.files import demo_project
from kneten.demo.sedge_steps import made
from kneten.document.fitting import fitted, inside_of, standing
from kneten.document.rigging import joints_from, rig_of
from kneten.document.scene import Part

NEAR = 0.075


def found_on(part: Part, kind: str) -> tuple[Fit, float]:
    """What is found on a part, and its size."""
    inside = inside_of(standing(part), Progress())
    return fitted(part, inside, kind, {}), inside.size


def worst(found: Fit, known: tuple[Joint, ...], size: float) -> tuple[int, float]:
    """How many joints have names that are known, and how far the farthest is from where it is, of a size."""
    places = {joint.name: joint.place for joint in known}
    gaps = [
        float(np.linalg.norm(np.subtract(joint.place, places[joint.name])))
        for joint in found.joints
        if joint.name in places
    ]
    return len(gaps), max(gaps) / size


def test_widow_sedge_gets_the_joints_of_her_armature_though_she_is_posed() -> None:
    body = made().active
    assert body is not None
    rig = rig_of(body)
    assert rig is not None
    assert not rig.still
    found, size = found_on(body, "bird")
    assert found.asks == ()
    assert wrong_joints(found.joints) == ""
    count, far = worst(found, rig.joints, size)
    assert count >= 30
    assert far < NEAR
    # Both sides know each other.
    names = [joint.name for joint in found.joints]
    assert found.joints[names.index("Hock left")].twin == names.index("Hock right")
    assert found.joints[names.index("Skull")].twin == names.index("Skull")


def test_tarn_has_a_neck_and_his_hands_their_fingers() -> None:
    parts = {part.name: part for part in demo_project(name="tarn-forms").scene.parts}
    bust, _ = found_on(parts["Tarn"], "biped")
    places = {joint.name: joint.place for joint in bust.joints}
    assert [*places] == ["Chest", "Collar", "Neck", "Skull", "Crown"]
    # The chin is at -50, the shoulders begin at -90, the eyes lie at 24 mm.
    assert -90 < places["Collar"][1] < places["Neck"][1] < places["Skull"][1] < 30
    assert places["Chest"][1] < -90
    assert len(bust.asks) == 4
    for name in ("Hand left", "Hand right"):
        hand = parts[name]
        assert isinstance(hand.was, Armature)
        found, _ = found_on(hand, "hand")
        assert found.asks == ()
        size = float(np.linalg.norm(np.ptp(hand.mesh.positions, axis=0)))
        count, far = worst(found, joints_from(hand.was), size)
        assert count == 23
        assert far < NEAR


def test_a_part_that_lies_is_fitted_as_it_stands_in_the_scene() -> None:
    clay = BODIES["four-legged"][1]().made()
    mesh = Mesh.from_faces(clay.positions, clay.faces)
    # Its own axes have it on its back, half as large, elsewhere.
    place = Transform((300.0, 40.0, -20.0), (0.0, 0.0, 1.0, 0.0), 2.0)
    there = place.to_part(mesh.positions.astype(np.float64)).astype(np.float32)
    lying = Part("Beast", Mesh(mesh.topology, there), transform=place)
    upright, size = found_on(Part("Beast", mesh), "beast")
    found, again = found_on(lying, "beast")
    assert abs(again - size) < 0.01 * size
    assert [joint.name for joint in found.joints] == [joint.name for joint in upright.joints]
    back = place.to_scene(np.array([joint.place for joint in found.joints]))
    gaps = np.linalg.norm(back - [joint.place for joint in upright.joints], axis=1)
    assert gaps.max() < 0.02 * size
