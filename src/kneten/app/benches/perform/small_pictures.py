"""Small pictures of kept poses and of finds, drawn beside other work when they are first seen."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QSize, Signal
from PySide6.QtGui import QImage, QPixmap

from kneten.core.arrays import F64
from kneten.core.camera import Camera
from kneten.core.pose.rig import Rig
from kneten.document.rigging import posed_roughly, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptPose
from kneten.render.still import StillError, encoded, render_still
from kneten.render.style import Style

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIZE = QSize(60, 60)

FINE = 2
"""Pixels of a picture for each of a screen without scaling."""

MOST = 60_000
"""Vertices of a part in a pose's picture."""

KEPT = 200
"""Pictures that are kept."""

EYE = replace(Camera(), yaw=32.0, pitch=8.0)


class SmallPictures(QObject):
    """Pictures that are drawn once, each on another thread, and told of when they are there."""

    arrived = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._studio = desk.studio
        self._known: dict[Hashable, QPixmap | None] = {}
        desk.studio.project_changed.connect(self._known.clear)

    def picture(self, key: Hashable, draw: Callable[[], bytes]) -> QPixmap | None:
        """What is known under a key; None as long as it is not drawn."""
        if key not in self._known:
            while len(self._known) >= KEPT:
                self._known.pop(next(iter(self._known)))
            self._known[key] = None
            self._studio.aside(draw, partial(self._take, key))
        return self._known[key]

    def of_pose(self, scene: Scene, body: Part, kept: KeptPose) -> QPixmap | None:
        """A pose's picture."""
        rig = rig_of(body)
        if rig is None:
            return None
        return self.picture(_key(body, rig, kept), partial(pose_drawn, scene, body, kept))

    def _take(self, key: Hashable, data: bytes) -> None:
        image = QImage.fromData(data)
        if not image.isNull() and key in self._known:
            picture = QPixmap.fromImage(image)
            picture.setDevicePixelRatio(FINE)
            self._known[key] = picture
            self.arrived.emit()


def _key(body: Part, rig: Rig, kept: KeptPose) -> Hashable:
    """What a picture shows: it is drawn anew for other joints or other parts along, not after each stroke."""
    places = tuple((joint.name, joint.place) for joint in rig.joints)
    return body.id, rig.id, places, kept.moves, body.mesh.topology.uid


def pose_drawn(scene: Scene, body: Part, kept: KeptPose) -> bytes:
    """A pose's picture as PNG; nothing where there is nothing to draw with."""
    there = posed_roughly(scene, body, kept, MOST)
    return _drawn(there, EYE.framing(*there.bounds(), 1.0, 0.85))


def place_drawn(scene: Scene, camera: Camera, place: F64, reach: float) -> bytes:
    """What is around a place (3,) of a scene, so many mm far, seen from where a camera looks from, as PNG."""
    return _drawn(scene, camera.framing(place - reach, place + reach, 1.0, 1.0))


def _drawn(scene: Scene, camera: Camera) -> bytes:
    try:
        image = render_still(
            scene, camera, FINE * SIZE.width(), FINE * SIZE.height(), Style(clear_ground=True)
        )
    except StillError:
        return b""
    return encoded(image)
