"""What Twist, Swell and Bend share: clay held under the brush, moved as a whole about the place it was grabbed.

Weights say how far a vertex takes part: it is turned by that share of the angle, so that a full twist stays round
instead of shrinking towards the axis.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, inlined, kernel
from kneten.core.reach import add_push


@inlined
def _turned(
    x: float, y: float, z: float, ax: float, ay: float, az: float, angle: float
) -> tuple[float, float, float]:
    """A vector turned about a unit axis (Rodrigues), less the vector itself."""
    c = np.cos(angle) - 1.0
    s = np.sin(angle)
    on = x * ax + y * ay + z * az
    return (
        c * (x - on * ax) + s * (ay * z - az * y),
        c * (y - on * ay) + s * (az * x - ax * z),
        c * (z - on * az) + s * (ax * y - ay * x),
    )


@kernel
def twist_kernel(
    origin: F32, places: I32, weights: F32, centre: F64, axis: F64, angle: float, push: F64, push_weight: F64
) -> None:
    """Turn vertices about an axis."""
    for i in range(places.shape[0]):
        at = places[i]
        w = max(np.float64(weights[i]), 1e-9)
        x, y, z = _turned(
            origin[at, 0] - centre[0],
            origin[at, 1] - centre[1],
            origin[at, 2] - centre[2],
            axis[0],
            axis[1],
            axis[2],
            angle * w,
        )
        add_push(push, push_weight, at, weights[i], x / w, y / w, z / w)


@kernel
def swell_kernel(
    origin: F32, places: I32, weights: F32, centre: F64, factor: float, push: F64, push_weight: F64
) -> None:
    """Scale vertices about a centre."""
    for i in range(places.shape[0]):
        at = places[i]
        add_push(
            push,
            push_weight,
            at,
            weights[i],
            (origin[at, 0] - centre[0]) * factor,
            (origin[at, 1] - centre[1]) * factor,
            (origin[at, 2] - centre[2]) * factor,
        )


@kernel
def bend_kernel(
    origin: F32,
    places: I32,
    weights: F32,
    centre: F64,
    axis: F64,
    long: F64,
    radius: float,
    angle: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Each place turns the farther, the farther out along `long` it lies; both ends the same way round."""
    for i in range(places.shape[0]):
        at = places[i]
        w = max(np.float64(weights[i]), 1e-9)
        x = origin[at, 0] - centre[0]
        y = origin[at, 1] - centre[1]
        z = origin[at, 2] - centre[2]
        far = (x * long[0] + y * long[1] + z * long[2]) / radius
        dx, dy, dz = _turned(x, y, z, axis[0], axis[1], axis[2], angle * w * far)
        add_push(push, push_weight, at, weights[i], dx / w, dy / w, dz / w)
