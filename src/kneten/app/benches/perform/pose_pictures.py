"""Small pictures of kept poses, drawn beside other work when they are first seen."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QSize, Signal
from PySide6.QtGui import QImage, QPixmap

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
"""Vertices of a part in such a picture."""

KEPT = 200
"""Pictures that are kept."""

EYE = replace(Camera(), yaw=32.0, pitch=8.0)


class PosePictures(QObject):
    """Pictures of poses, each drawn once for a body as it is rigged."""

    arrived = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._studio = desk.studio
        self._known: dict[tuple[object, ...], QPixmap | None] = {}
        desk.studio.project_changed.connect(self._known.clear)

    def picture(self, body: Part, kept: KeptPose) -> QPixmap | None:
        """A pose's picture; None as long as it is not drawn."""
        rig = rig_of(body)
        if rig is None:
            return None
        key = _key(body, rig, kept)
        if key not in self._known:
            while len(self._known) >= KEPT:
                self._known.pop(next(iter(self._known)))
            self._known[key] = None
            scene = self._studio.project.scene
            self._studio.aside(partial(drawn, scene, body, kept), partial(self._take, key))
        return self._known[key]

    def _take(self, key: tuple[object, ...], data: bytes) -> None:
        image = QImage.fromData(data)
        if not image.isNull() and key in self._known:
            picture = QPixmap.fromImage(image)
            picture.setDevicePixelRatio(FINE)
            self._known[key] = picture
            self.arrived.emit()


def _key(body: Part, rig: Rig, kept: KeptPose) -> tuple[object, ...]:
    """What a picture shows: it is drawn anew for other joints or other parts along, not after each stroke."""
    places = tuple((joint.name, joint.place) for joint in rig.joints)
    return body.id, rig.id, places, kept.moves, body.mesh.topology.uid


def drawn(scene: Scene, body: Part, kept: KeptPose) -> bytes:
    """A pose's picture as PNG; nothing where there is nothing to draw with."""
    there = posed_roughly(scene, body, kept, MOST)
    low, high = there.bounds()
    try:
        image = render_still(
            there,
            EYE.framing(low, high, 1.0, 0.85),
            FINE * SIZE.width(),
            FINE * SIZE.height(),
            Style(clear_ground=True),
        )
    except StillError:
        return b""
    return encoded(image)
