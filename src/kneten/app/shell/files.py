"""Commands around files: projects, import, export, stills."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeData, QTimer

from kneten.app.work import dialogs
from kneten.core.arrays import Progress
from kneten.document.project import Project
from kneten.document.project_file import ENDING, save_snapshot, snapshot
from kneten.document.scene import Scene
from kneten.formats.exchange import READERS
from kneten.render.still import encoded, render_still

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


PICTURES = (".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff")


class Files:
    """Asks for paths and has the studio read and write them."""

    def __init__(self, window: Frame) -> None:
        self._window = window
        self._studio = window.studio

    def new_project(self) -> None:
        """Begin again."""
        self._studio.unless_unsaved(
            lambda: (self._studio.take(Project.with_ball()), self._window.views.frame_all())
        )

    def ask_open(self) -> None:
        """Ask for files and open them."""
        self.open_paths(dialogs.ask_open(self._window, "Open", projects=True))

    def open_paths(self, paths: list[Path]) -> None:
        """Open a project, put pictures on the reference board, import the other files."""
        paths = [one for path in paths for one in _inside(path)]
        projects = [p for p in paths if p.suffix.lower() == ENDING]
        pictures = [p for p in paths if p.suffix.lower() in PICTURES]
        rest = [p for p in paths if p not in projects and p not in pictures]
        self._window.references.add_files(pictures)
        if projects:
            self._studio.open_path(projects[0])
        if len(projects) > 1:
            self._studio.say(f"One project is open at a time: {projects[0].name} it is.")
        for path in rest:
            self._studio.import_path(path, None, self._window.views.frame_all)

    def take(self, data: QMimeData) -> None:
        """What was dropped: files as they are opened, pictures for the board."""
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        if paths:
            # Not before the drag has ended: a question would hold up where it came from.
            QTimer.singleShot(0, lambda: self.open_paths(paths))
        else:
            self._window.references.take(data, "Dropped")

    def open_demo(self, name: str = "tarn-forms") -> None:
        """Open a demo project, as a new one."""
        from kneten.demo.files import demo_project

        def opened(project: Project) -> None:
            self._studio.take(project)

        self._studio.exchange("Open the demo", lambda progress: demo_project(progress, name), opened)

    def save(self, then: Callable[[], object] | None = None) -> None:
        """Save under the present name, or ask for one."""
        path = self._studio.project.path
        if path is None:
            self.save_as(then)
        else:
            self._studio.save_path(path, lambda: then() if then else None)

    def save_as(self, then: Callable[[], object] | None = None) -> None:
        """Ask for a name and save."""
        project = self._studio.project
        start = str(project.path or f"{project.title}{ENDING}")
        path = dialogs.ask_save(self._window, "Save as", start, dialogs.PROJECTS)
        if path is not None:
            self._studio.save_path(path, lambda: then() if then else None)

    def save_packed(self) -> None:
        """Ask for a name and write a packed copy of the project beside it."""
        project = self._studio.project
        start = f"{project.path.stem if project.path else project.title}, packed{ENDING}"
        path = dialogs.ask_save(self._window, "Save a packed copy", start, dialogs.PROJECTS)
        if path is None:
            return
        if path.suffix.lower() != ENDING:
            path = path.with_name(path.name + ENDING)
        if project.path is not None and path.absolute() == project.path.absolute():
            self._studio.say("That is the project itself: give the packed copy another name.", "warning")
            return
        picture, taken = self._studio.picture(480, 300), snapshot(project)

        def write(progress: Progress) -> int:
            if data := picture():
                taken.content.pictures["preview.png"] = data
            save_snapshot(path, taken, progress, small=True)
            return path.stat().st_size

        def written(size: int) -> None:
            self._studio.say(f"Packed {path.name}: {size / 1e6:.1f} MB.")

        self._studio.start("Packed copy", write, written)

    def ask_import(self) -> None:
        """Ask for files and how they measure space."""
        for path in dialogs.ask_open(self._window, "Import", projects=False):
            with dialogs.passing(dialogs.SpaceDialog(self._window, path, writing=False)) as dialog:
                if dialog.exec():
                    self._studio.import_path(path, dialog.space(), self._window.views.frame_all)

    def ask_export(self) -> None:
        """Ask for a file and export to it."""
        start = f"{self._studio.project.path.stem if self._studio.project.path else 'clay'}.glb"
        path = dialogs.ask_save(self._window, "Export", start, dialogs.MESHES)
        if path is None:
            return
        with dialogs.passing(dialogs.SpaceDialog(self._window, path, writing=True)) as dialog:
            if dialog.exec():
                every = not dialog.visible_only.isChecked()
                parts = [p for p in self._studio.project.scene.parts if p.visible or every]
                self._studio.export_path(path, parts, dialog.space(), dialog.ascii.isChecked())

    def ask_still(self) -> None:
        """Ask for a size and a file, and export the view."""
        with dialogs.passing(dialogs.StillDialog(self._window, 1920, 1080)) as dialog:
            if not dialog.exec():
                return
            kinds = "Pictures (*.png *.jpg *.jpeg)"
            path = dialogs.ask_save(self._window, "Export a still", "still.png", kinds)
            if path is not None:
                self.export_still(path, dialog.wide.value(), dialog.high.value(), dialog.clear.isChecked())

    def export_still(self, path: Path, width: int, height: int, clear: bool) -> None:
        """Write the view as a picture; drawn in a context of its own, without cursor or overlays."""
        from kneten.document.arrays_file import replacing

        kind = "JPEG" if path.suffix.lower() in (".jpg", ".jpeg") else "PNG"
        if not path.suffix:
            path = path.with_suffix(".png")
        scene, camera = self._frozen_scene(), self._window.view.camera
        style = replace(self._window.view.picture_style(), clear_ground=clear and kind == "PNG")

        def draw(progress: object) -> None:
            image = render_still(scene, camera, width, height, style)
            with replacing(path) as file:
                file.write(encoded(image, kind))

        self._studio.start("Still", draw, lambda _: self._studio.say(f"Exported {path.name}."))

    def _frozen_scene(self) -> Scene:
        """The scene with clay that later strokes do not reach."""
        scene = self._studio.project.scene
        return Scene(tuple(replace(p, mesh=p.mesh.copy()) for p in scene.parts if p.visible))

    def view_picture(self, width: int, height: int) -> Callable[[], bytes]:
        """Take the picture that is on screen; what it returns cuts a small PNG of it, on any thread."""
        renderer = self._window.view.renderer
        if renderer is None or renderer.size == (0, 0):
            return lambda: b""
        self._window.view.makeCurrent()
        pixels = renderer.read()
        self._window.view.doneCurrent()

        def cut() -> bytes:
            from PIL import Image, ImageOps

            image = Image.fromarray(pixels, "RGBA").convert("RGB")
            return encoded(ImageOps.fit(image, (width, height), Image.Resampling.LANCZOS))

        return cut


def _inside(path: Path) -> list[Path]:
    """A file itself; of a folder the files in it that Kneten knows, by name."""
    if not path.is_dir():
        return [path]
    known = (ENDING, *PICTURES, *READERS)
    return sorted(one for one in path.iterdir() if one.is_file() and one.suffix.lower() in known)
