"""Which places of a part nothing of it hides, found anew when the camera or the clay has moved."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import F64, AnyArray
from kneten.core.picking import pick
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

MOST = 6000
"""Places that are looked through the clay for: each takes some 10 us."""


class Seen:
    """Keeps what it has found."""

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self._known: dict[str, tuple[object, AnyArray]] = {}

    def of(self, what: str, part: Part, places: F64, slack: float = 2.0) -> AnyArray:
        """Which places (k, 3) of the scene nothing of their part hides, (k,) bool; `what` names them.

        They may lie so many edges behind what is met first.
        """
        view = self._view
        place = part.transform
        key = (view.camera, view.wide, view.high, part.mesh_id, part.mesh.shape_version, place, len(places))
        had = self._known.get(what)
        if had is not None and had[0] == key:
            return had[1]
        at = view.camera.project(places, view.wide, view.high)
        inside = (at[:, 0] >= 0) & (at[:, 0] < view.wide) & (at[:, 1] >= 0) & (at[:, 1] < view.high)
        out = np.zeros(len(places), bool)
        for i in np.flatnonzero(inside)[:MOST].tolist():
            origin, way = view.camera.ray(float(at[i, 0]), float(at[i, 1]), view.wide, view.high)
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            far = float((places[i] - origin) @ way)
            out[i] = hit is None or hit.distance * place.scale > far - slack * hit.edge * place.scale
        self._known[what] = (key, out)
        return out
