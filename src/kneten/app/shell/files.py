"""Commands around files: projects, import, export, stills."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeData, QTimer

from kneten.app.work import dialogs
from kneten.app.work.picture_files import draw_and_write
from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.light.turntable import Turntable
from kneten.document.picturing import shot_with
from kneten.document.project import Project
from kneten.document.project_file import ENDING, save_snapshot, snapshot
from kneten.document.scene import Scene
from kneten.formats.exchange import READERS
from kneten.formats.pictures import PICTURES as PICTURE_FILES
from kneten.formats.pictures import write_film
from kneten.formats.pieces import FormatError
from kneten.render.filming import finished, turntable_frames
from kneten.render.still import StillError, encoded
from kneten.render.style import Style

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

    def open_demo(self, name: str = "ferry-light") -> None:
        """Open a demo project, as a new one."""
        from kneten.demo import ferry, sedge_steps, tarn_moods
        from kneten.demo.files import demo_project

        put_together: dict[str, Callable[[Progress], Project]] = {
            "ferry-light": ferry.light,
            "ferry": ferry.made,
            "sedge-steps": sedge_steps.made,
            "tarn-moods": tarn_moods.made,
        }

        def opened(project: Project) -> None:
            self._studio.take(project)

        def make(progress: Progress) -> Project:
            together = put_together.get(name)
            return together(progress) if together is not None else demo_project(progress, name)

        self._studio.exchange("Open the demo", make, opened)

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
        """Ask for a size and a file, and export what the view or the camera that is looked through shows."""
        shot = shot_with(self._studio.project.scene, self._studio.project.settings.through)
        wide = 1920
        high = 1080 if shot is None else max(round(wide / shot.aspect), 1)
        with dialogs.passing(dialogs.StillDialog(self._window, wide, high)) as dialog:
            if not dialog.exec():
                return
            kinds = f"Pictures ({' '.join(f'*{ending}' for ending in PICTURE_FILES)})"
            path = dialogs.ask_save(self._window, "Export a still", "still.png", kinds)
            if path is not None:
                passes = [key for key, box in dialog.passes.items() if box.isChecked()]
                size = (dialog.wide.value(), dialog.high.value())
                self.export_still(path, *size, dialog.clear.isChecked(), passes, dialog.fine.isChecked())

    def export_still(
        self, path: Path, width: int, height: int, clear: bool, passes: Sequence[str] = (), fine: bool = False
    ) -> None:
        """Write a picture; drawn in a context of its own, without cursor or overlays."""
        if not path.suffix:
            path = path.with_suffix(".png")
        scene, camera, style = self.asked()
        style = replace(style, clear_ground=clear and path.suffix.lower() not in (".jpg", ".jpeg"))

        def draw(progress: Progress) -> list[Path] | str:
            try:
                return draw_and_write(path, scene, camera, (width, height), style, passes, fine, progress)
            except (FormatError, StillError) as error:
                return str(error)

        def written(found: list[Path] | str) -> None:
            if isinstance(found, str):
                self._studio.say(f"{found[0].upper()}{found[1:].rstrip('.')}.", "warning")
            else:
                more = f" and {len(found) - 1} passes" if len(found) > 1 else ""
                self._studio.say(f"Exported {path.name}{more}.")

        self._studio.start("Still", draw, written)

    def ask_turntable(self) -> None:
        """Ask how it is to go round and for a file, and film that."""
        with dialogs.passing(dialogs.TurntableDialog(self._window)) as dialog:
            if not dialog.exec():
                return
            path = dialogs.ask_film(self._window, "Export a turntable", "turntable.webm")
            if path is not None:
                self.export_turntable(path, dialog.table(), dialog.wide.value(), dialog.high.value())

    def export_turntable(self, path: Path, table: Turntable, width: int, height: int) -> None:
        """Write a film of the clay going round, as the view or the camera that is looked through shows it."""
        if not path.suffix:
            path = path.with_suffix(".webm")
        try:
            table.check()
        except ValueError as error:
            self._studio.say(str(error), "warning")
            return
        scene, camera, style = self.asked()

        def film(progress: Progress) -> int | str:
            try:
                return write_film(
                    path, turntable_frames(scene, camera, table, (width, height), style, progress), table.pace
                )
            except (FormatError, StillError) as error:
                return str(error)

        def written(found: int | str) -> None:
            if isinstance(found, str):
                self._studio.say(f"{found[0].upper()}{found[1:].rstrip('.')}.", "warning")
            else:
                self._studio.say(f"Exported {path.name}: {found} pictures.")

        self._studio.start("Turntable", film, written)

    def asked(self) -> tuple[Scene, Camera, Style]:
        """What a picture shows: the camera that is looked through, or the view."""
        view, project = self._window.view, self._studio.project
        shot = shot_with(project.scene, project.settings.through)
        camera = view.camera if shot is None else shot.camera
        return (
            self._frozen_scene(),
            camera,
            finished(view.picture_style(), project.scene, project.settings.through),
        )

    def _frozen_scene(self) -> Scene:
        """The scene with clay that later strokes do not reach."""
        scene = self._studio.project.scene
        parts = tuple(replace(p, mesh=p.mesh.copy()) for p in scene.parts if p.visible)
        return replace(scene, parts=parts, milestones=())

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
