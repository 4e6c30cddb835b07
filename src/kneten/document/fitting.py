"""Joints found for a part from its form, as it stands in the scene."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.placing import kneaded
from kneten.core.pose.fitter import Fit, fit
from kneten.core.pose.middles import Inside, filled
from kneten.core.pose.rig import Vector, as_vector
from kneten.document.posing import low_clay
from kneten.document.rigging import rig_layer, with_twins
from kneten.document.scene import Part


def standing(part: Part) -> Mesh:
    """A part's lowest level at rest, in the scene."""
    layer = rig_layer(part)
    low = low_clay(part, without="" if layer is None else layer.id).mesh
    return kneaded(low, part.transform.matrix())


def inside_of(clay: Mesh, progress: Progress | None = None) -> Inside:
    """What a body is filled with, in the scene. Raises `HollowError`."""
    return filled([clay], progress)


def fitted(part: Part, inside: Inside, kind: str, pins: Mapping[str, Vector]) -> Fit:
    """Joints of a part in its own axes, found from what it is filled with; pins are places in the scene. Raises `RigError`."""
    found = fit(inside, kind, pins)
    places = part.transform.to_part(np.array([joint.place for joint in found.joints]))
    joints = [
        replace(joint, place=as_vector(place)) for joint, place in zip(found.joints, places, strict=True)
    ]
    return replace(
        found, joints=with_twins(joints, float(np.linalg.norm(np.ptp(part.mesh.positions, axis=0))))
    )
