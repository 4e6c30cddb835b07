"""*Widow Sedge steps off the ferry*: rigged from her armature, coat, hat and basket going along, five poses kept.

It is put together from her blockout each time it is opened.
"""

from __future__ import annotations

from kneten.core.arrays import Progress
from kneten.core.live.armature import Armature
from kneten.core.pose.rig import NOWHERE, Rig, Vector
from kneten.demo.files import demo_project
from kneten.document.project import Project
from kneten.document.rigging import (
    found_rigs,
    give_rigs,
    joints_from,
    keep_pose,
    pose_rigs,
    posed_alike,
    rig_of,
)

TITLE = "Widow Sedge steps off the ferry"

Turns = dict[str, Vector]

POSES: dict[str, Turns] = {
    "Points the way": {
        "Wing shoulder right": (-40.0, 30.0, -38.0),
        "Wing elbow right": (0.0, 50.0, -10.0),
        "Neck 1": (0.0, -14.0, 0.0),
        "Neck 3": (4.0, -16.0, 0.0),
        "Skull": (-4.0, -12.0, 4.0),
        "Breast": (4.0, -8.0, 0.0),
    },
    "Bows": {
        "Breast": (26.0, 0.0, 0.0),
        "Neck 1": (22.0, 0.0, 0.0),
        "Neck 2": (18.0, 0.0, 0.0),
        "Skull": (16.0, 0.0, 6.0),
        "Wing shoulder right": (0.0, 26.0, 20.0),
        "Wing elbow right": (0.0, 24.0, 0.0),
        "Knee left": (8.0, 0.0, 0.0),
        "Hock left": (-10.0, 0.0, 0.0),
        "Tail": (-16.0, 0.0, 0.0),
    },
    "Looks back": {
        "Breast": (0.0, 14.0, 0.0),
        "Neck 1": (-6.0, 34.0, 0.0),
        "Neck 2": (-4.0, 34.0, 0.0),
        "Neck 3": (2.0, 30.0, 0.0),
        "Skull": (0.0, 22.0, -8.0),
        "Hip left": (-8.0, 0.0, 0.0),
        "Foot left": (8.0, 0.0, 0.0),
    },
    "Shakes the rain off": {
        "Wing shoulder left": (0.0, -8.0, 34.0),
        "Wing shoulder right": (0.0, 8.0, -34.0),
        "Wing elbow left": (0.0, -16.0, 14.0),
        "Wing elbow right": (0.0, 16.0, -14.0),
        "Neck 1": (-10.0, 0.0, 12.0),
        "Neck 3": (6.0, 0.0, -18.0),
        "Skull": (8.0, 0.0, 20.0),
        "Tail root": (0.0, 12.0, 0.0),
        "Tail": (-10.0, 14.0, 0.0),
    },
    "Steps off": {
        "Hip left": (-64.0, 0.0, 0.0),
        "Knee left": (44.0, 0.0, 0.0),
        "Hock left": (-46.0, 0.0, 0.0),
        "Foot left": (44.0, 0.0, 0.0),
        "Hip right": (10.0, 0.0, 0.0),
        "Knee right": (10.0, 0.0, 0.0),
        "Hock right": (-16.0, 0.0, 0.0),
        "Foot right": (-4.0, 0.0, 0.0),
        "Breast": (7.0, -4.0, -3.0),
        "Wing shoulder left": (0.0, 6.0, 10.0),
        "Wing shoulder right": (0.0, 14.0, -16.0),
        "Neck 1": (4.0, 4.0, 0.0),
        "Neck 3": (4.0, 4.0, 0.0),
        "Skull": (2.0, 6.0, 5.0),
        "Tail": (-8.0, 0.0, 0.0),
    },
}
"""Turns of joints, degrees, by the names of her armature; the last is how she stands."""


def posed(rig: Rig, turns: Turns) -> Rig:
    """Her rig in a pose."""
    return rig.with_moves({name: (turn, NOWHERE) for name, turn in turns.items()})


def made(progress: Progress | None = None) -> Project:
    """Widow Sedge, rigged and posed: a new project without steps."""
    project = demo_project(progress, "widow-sedge")
    project.title = TITLE
    body = next(part for part in project.scene.parts if part.name == "Widow's body")
    assert isinstance(body.was, Armature)
    give_rigs(project, found_rigs(project.scene.parts, body, joints_from(body.was), progress=progress), "Rig")
    project.choose(body.id)
    for name, turns in POSES.items():
        body = project.scene.part(body.id)
        rig = rig_of(body)
        assert rig is not None
        pose_rigs(project, posed_alike(project.scene, body, posed(rig, turns)), name)
        keep_pose(project, project.scene.part(body.id), name)
    project.history.clear()
    project.unsaved = False
    return project
