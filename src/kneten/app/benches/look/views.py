"""Commands for looking: camera, panes, looks, saved views."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPoint, QTimer
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QInputDialog, QMenu

from kneten.app.work import dialogs
from kneten.app.work.dialogs import passing
from kneten.core.arrays import AnyArray
from kneten.core.camera import Camera
from kneten.document.look import LOOKS
from kneten.document.scene import Part
from kneten.document.settings import SavedView
from kneten.render.matcaps import MATCAPS, matcap_png

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

TURNTABLE = 36.0
"""Degrees a second: ten seconds for a whole turn."""


class Views:
    """Where the camera stands, what it frames, how the clay looks."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._turning = QTimer(desk)
        self._turning.setInterval(33)
        self._turning.timeout.connect(self._turn_on)
        self._back_to = "clay"

    @property
    def _view(self):  # type: ignore[no-untyped-def]
        return self._desk.view

    @property
    def _camera(self) -> Camera:
        return self._studio.project.settings.camera

    # -- camera ---------------------------------------------------------------------------------

    def look_from(self, name: str) -> None:
        """One of the six named views, of the same place."""
        self._view.fly(self._camera.seen_from(name))
        self._desk.fill_chip()

    def frame_box(self, low: AnyArray, high: AnyArray) -> None:
        """Bring a box of the scene into the picture."""
        aspect = self._view.width() / max(self._view.height(), 1)
        self._view.fly(self._camera.framing(low, high, aspect))
        for pane in self._view.panes:
            if pane.name != "main":
                pane.camera = pane.camera.framing(low, high, pane.wide / pane.high)
                pane.refresh()

    def frame_part(self) -> None:
        """Bring the part in hand into the middle."""
        part = self._studio.project.active
        if part is not None:
            self.frame_box(*part.bounds())

    def frame_all(self) -> None:
        """Bring everything that is shown into the picture."""
        project = self._studio.project
        alone = project.active if project.settings.look.isolate else None
        self.frame_box(*(project.scene if alone is None else alone).bounds())

    def frame_last(self) -> None:
        """Bring what the last stroke touched into the middle."""
        part_id, low, high = self._view.last_touched
        for part in self._studio.project.scene.parts:
            if part.id == part_id:
                room = (high - low) * 0.25
                corners = part.transform.to_scene(_corners(low - room, high + room))
                self.frame_box(corners.min(axis=0), corners.max(axis=0))

    def no_last(self) -> str:
        """Why there is no last stroke to be framed."""
        touched = self._view.last_touched
        ids = [part.id for part in self._studio.project.scene.parts]
        return "" if touched is not None and touched[0] in ids else "There is no stroke yet."

    def frame_cursor(self) -> None:
        """Bring the place under the cursor into the middle, closer."""
        view = self._view
        x, y = view.local(view.mapFromGlobal(QCursor.pos()).toPointF())
        found = view.part_at(x, y)
        if found is None:
            self._studio.say("There is no clay under the cursor.")
            return
        x, y, z = (float(v) for v in found[1])
        view.fly(replace(self._camera, target=(x, y, z), distance=self._camera.distance * 0.5))

    def switch_lens(self) -> None:
        """Perspective to orthographic and back."""
        self._view.set_main(replace(self._camera, orthographic=not self._camera.orthographic))
        self._desk.fill_chip()

    def roll(self, degrees: float) -> None:
        """Tilt the camera."""
        self._view.fly(self._camera.rolled(degrees))

    def level(self) -> None:
        """Tilt the camera no longer."""
        self._view.fly(replace(self._camera, roll=0.0))

    def turntable(self) -> None:
        """Turn around the clay, until any pointer is pressed."""
        if self._turning.isActive():
            self.stop()
        else:
            self._turning.start()

    def stop(self) -> None:
        """End the turntable."""
        self._turning.stop()

    def _turn_on(self) -> None:
        low, high = self._studio.project.scene.bounds()
        pivot = (low + high) / 2
        self._view.set_main(self._camera.turned(TURNTABLE * self._turning.interval() / 1000, 0.0, pivot))

    # -- panes ----------------------------------------------------------------------------------

    def switch_four(self) -> None:
        """Four views at once, or one."""
        self._view.cancel_hand()
        self._view.stop_compare()
        self._view.set_four(not self._view.four)
        if self._view.four:
            low, high = self._studio.project.scene.bounds()
            for pane in self._view.panes:
                if pane.name != "main":
                    pane.camera = pane.camera.framing(low, high, self._view.width() / self._view.height())

    def switch_mirror(self) -> None:
        """Exchange left and right in the picture."""
        self._view.mirrored = not self._view.mirrored
        self._view.update()
        self._desk.fill_chip()

    def switch_squint(self) -> None:
        """See as with half-closed eyes, or sharply."""
        self._view.squint = not self._view.squint
        self._view.update()
        self._desk.fill_chip()

    # -- looks ----------------------------------------------------------------------------------

    def look(self, kind: str) -> None:
        """Show the clay with a look."""
        self._studio.set_look(kind=kind)

    def next_look(self, step: int) -> None:
        """Show the clay with the next look."""
        keys = list(LOOKS)
        self.look(keys[(keys.index(self._studio.project.settings.look.kind) + step) % len(keys)])

    def next_matcap(self) -> None:
        """Go on to the next matcap."""
        settings = self._studio.project.settings
        keys = [*MATCAPS, *(f"own:{name}" for name in settings.matcaps)]
        at = keys.index(settings.look.matcap) if settings.look.matcap in keys else -1
        step = 1 if settings.look.kind == "matcap" else 0
        self._studio.set_look(kind="matcap", matcap=keys[(at + step) % len(keys)])

    def silhouette(self) -> None:
        """The outline alone, or what was before."""
        kind = self._studio.project.settings.look.kind
        if kind == "silhouette":
            self.look(self._back_to)
        else:
            self._back_to = kind
            self.look("silhouette")

    def overlay(self, name: str) -> None:
        """Switch something that lies over the look."""
        look = self._studio.project.settings.look
        self._studio.set_look(**{name: not getattr(look, name)})
        self._desk.fill_chip()
        part = self._studio.project.active
        if name == "wires" and not look.wires and part is not None and self._pixels_apart(part) < 2.5:
            self._studio.say("The edges are closer than three pixels from here: come nearer to see them.")

    def _pixels_apart(self, part: Part) -> float:
        """About how many pixels a part's edges are long on the screen."""
        mesh = part.mesh
        faces = mesh.topology.faces[:: max(mesh.topology.n_faces // 256, 1)]
        edges = mesh.positions[faces[:, 0]] - mesh.positions[faces[:, 1]]
        length = float(np.linalg.norm(edges, axis=1).mean()) * part.transform.scale
        low, high = part.bounds()
        return length / float(self._camera.pixel_size((low + high) / 2, self._view.high))

    def ask_matcap(self) -> None:
        """Ask for a picture and use it as matcap."""
        path = dialogs.ask_picture(self._desk)
        if path is not None:
            self.add_matcap(path)

    def add_matcap(self, path: Path) -> None:
        """Keep a picture in the project and use it as matcap."""

        def read(progress: object) -> bytes:
            return matcap_png(path.read_bytes())

        def done(data: bytes) -> None:
            settings = self._studio.project.settings
            name = path.stem[:40].replace("/", "-") or "picture"
            self._studio.project.change_settings(matcaps={**settings.matcaps, name: data})
            self._studio.set_look(kind="matcap", matcap=f"own:{name}")

        self._studio.start("Matcap", read, done)

    # -- saved views ----------------------------------------------------------------------------

    def save_view(self) -> None:
        """Keep the camera with a picture."""
        camera, project = self._camera, self._studio.project
        name = f"View {len(project.settings.views) + 1}"
        picture = self._desk.files.view_picture(144, 90)

        def done(data: bytes) -> None:
            project.change_settings(views=(*project.settings.views, SavedView(name, camera, data)))
            self._desk.fill_card("view_card")

        self._studio.aside(picture, done)

    def next_view(self) -> None:
        """Go to the next saved view."""
        views = self._studio.project.settings.views
        at = next((i for i, saved in enumerate(views) if saved.camera == self._camera), -1)
        self._view.fly(views[(at + 1) % len(views)].camera)

    def no_views(self) -> str:
        """Why there is no saved view to go to."""
        return "" if self._studio.project.settings.views else "There is no saved view yet."

    def saved_menu(self, view_id: str, at: QPoint | None = None) -> None:
        """Rename or delete a saved view."""
        with passing(QMenu(self._desk)) as menu:
            rename = menu.addAction("Rename…")
            delete = menu.addAction("Delete")
            chosen = menu.exec(at or QCursor.pos())
        if chosen is delete:
            self.delete_view(view_id)
        elif chosen is rename:
            name, agreed = QInputDialog.getText(self._desk, "Rename", "Name of the view:")
            if agreed and name.strip():
                self.rename_view(view_id, name.strip())

    def delete_view(self, view_id: str) -> None:
        """Forget a saved view."""
        settings = self._studio.project.settings
        self._studio.project.change_settings(
            views=tuple(saved for saved in settings.views if saved.id != view_id)
        )
        self._desk.fill_card("view_card")

    def rename_view(self, view_id: str, name: str) -> None:
        """Call a saved view something else."""
        settings = self._studio.project.settings
        renamed = (replace(saved, name=name) if saved.id == view_id else saved for saved in settings.views)
        self._studio.project.change_settings(views=tuple(renamed))
        self._desk.fill_card("view_card")


def _corners(low: AnyArray, high: AnyArray) -> AnyArray:
    import itertools

    import numpy as np

    return np.array(list(itertools.product(*zip(low, high, strict=True))), np.float64)
