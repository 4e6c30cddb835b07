"""The main window: stages above, rack at the left, cards at the right, milestones below."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QProcess, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QColor, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMainWindow,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app import actions, dialogs
from kneten.app.cards import DensityCard, PartsCard, PlaceCard, ToolCard
from kneten.app.commands import Command, Registry
from kneten.app.finder import Finder
from kneten.app.jobs import Job
from kneten.app.notices import Notice, NoticeBoard
from kneten.app.preferences import Preferences
from kneten.app.quantities import count_text
from kneten.app.rack import Rack
from kneten.app.strip import Strip
from kneten.app.studio import Studio
from kneten.app.theme import THEMES, Theme, apply_theme, glyph
from kneten.app.viewport import Viewport
from kneten.core.arrays import AnyArray
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.remesh import Soup, forecast, remesh, soup_of
from kneten.core.transform import Transform
from kneten.document.journal import discard, left_journals
from kneten.document.project import Project
from kneten.document.project_file import ENDING
from kneten.document.scene import Part, Scene, new_id
from kneten.render.still import encoded, render_still

STAGES: dict[str, list[tuple[str, str]]] = {
    "Block": [
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
        ("parts.ball", "ball"),
        ("tool.pull", "pull"),
        ("tool.raise", "raise"),
        ("tool.smooth", "smooth"),
    ],
    "Form": [(f"tool.{key}", key) for key in TOOLS],
    "Deliver": [
        ("file.export", "export"),
        ("file.still", "picture"),
        ("density.remesh", "even"),
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
        ("tool.smooth", "smooth"),
        ("tool.flatten", "flatten"),
    ],
}
"""Which commands each stage puts on the rack."""

CARDS = {
    "Block": ("Parts", "Place", "Density", "Tool"),
    "Form": ("Parts", "Tool", "Density", "Place"),
    "Deliver": ("Parts", "Density", "Place", "Tool"),
}

CARDS_WIDTH = 276


class Window(QMainWindow):
    """Everything one sees."""

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.studio = Studio(preferences)
        self.theme: Theme = THEMES[preferences.theme]
        self.registry = Registry(self, lambda text: self.studio.say(text), self._gate)
        self._kernels: QProcess | None = None
        self._kernel_notice: Notice | None = None
        self._when_ready: list[Callable[[], None]] = []
        actions.register(self)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(960, 620)
        self._build()
        self.notices = NoticeBoard(self.view)
        self._connect()
        self.choose_stage("Form")
        self.choose_tool("raise")

    # -- building -------------------------------------------------------------------------------

    def _build(self) -> None:
        studio = self.studio
        middle = QWidget()
        rows = QVBoxLayout(middle)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self.bar = self._build_bar()
        rows.addWidget(self.bar)
        columns = QHBoxLayout()
        columns.setSpacing(0)
        rows.addLayout(columns, 1)
        self.rack = Rack(self.registry)
        self.view = Viewport(studio)
        self.parts_card = PartsCard(studio, self.registry, self.theme)
        self.tool_card = ToolCard(studio)
        self.place_card = PlaceCard(studio, self.registry)
        self.density_card = DensityCard(studio, self.registry)
        self.cards = {
            "Parts": self.parts_card,
            "Tool": self.tool_card,
            "Place": self.place_card,
            "Density": self.density_card,
        }
        body = QWidget()
        body.setObjectName("cards")
        self._cards_column = QVBoxLayout(body)
        self._cards_column.setContentsMargins(0, 0, 0, 0)
        self._cards_column.setSpacing(0)
        self.side = QScrollArea()
        self.side.setObjectName("cards")
        self.side.setWidget(body)
        self.side.setWidgetResizable(True)
        self.side.setFixedWidth(CARDS_WIDTH)
        self.side.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.side.setAccessibleName("Cards")
        columns.addWidget(self.rack)
        columns.addWidget(self.view, 1)
        columns.addWidget(self.side)
        self.strip = Strip(studio, self.registry)
        rows.addWidget(self.strip)
        self.setCentralWidget(middle)
        self.chip = QLabel(self.view)
        self.chip.setObjectName("chip")
        self.chip.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.under = QLabel(self.view)
        self.under.setObjectName("chip")
        self.under.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.under.hide()
        self.finder = Finder(self, self.registry)

    def _build_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        bar.setFixedHeight(44)
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 0, 8, 0)
        row.setSpacing(4)
        self.menu_button = QToolButton()
        self.menu_button.setText("Kneten")
        self.menu_button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setAccessibleName("All commands")
        self.menu_button.setToolTip("All commands, by what they are about")
        self.menu_button.setMenu(self.registry.menu(self.menu_button))
        self.title = QLabel()
        self.title.setObjectName("quiet")
        left = QWidget()
        left_row = QHBoxLayout(left)
        left_row.setContentsMargins(0, 0, 0, 0)
        left_row.addWidget(self.menu_button)
        left_row.addWidget(self.title, 1)
        left.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        row.addWidget(left, 1)
        group = QButtonGroup(self)
        self.stages: dict[str, QToolButton] = {}
        for name in STAGES:
            button = QToolButton()
            button.setObjectName("stage")
            button.setText(name)
            button.setCheckable(True)
            button.setFixedHeight(44)
            button.setAccessibleName(f"Stage {name}")
            key = f"stage.{name.lower()}"
            button.setToolTip(self.registry.tip(self.registry.commands[key]))
            button.clicked.connect(lambda _=False, key=key: self.registry.run(key))
            group.addButton(button)
            row.addWidget(button)
            self.stages[name] = button
        right = QWidget()
        right_row = QHBoxLayout(right)
        right_row.setContentsMargins(0, 0, 0, 0)
        right_row.addStretch(1)
        self.bar_buttons: list[tuple[QToolButton, str]] = []
        for key, drawing in (("edit.undo", "undo"), ("edit.redo", "redo"), ("edit.find", "find")):
            button = QToolButton()
            button.setIconSize(QSize(20, 20))
            command = self.registry.commands[key]
            button.setAccessibleName(command.name)
            button.setToolTip(self.registry.tip(command))
            button.clicked.connect(lambda _=False, key=key: self.registry.run(key))
            right_row.addWidget(button)
            self.bar_buttons.append((button, drawing))
        row.addWidget(right, 1)
        return bar

    def _connect(self) -> None:
        studio = self.studio
        studio.said.connect(self._said)
        studio.job_started.connect(self._job_started)
        studio.project_changed.connect(self._project_changed)
        studio.scene_changed.connect(self._scene_changed)
        studio.clay_changed.connect(self._clay_changed)
        studio.history_changed.connect(self._history_changed)
        studio.tool_changed.connect(self._tool_changed)
        studio.picture = self.view_picture
        self.view.drawn.connect(self._fill_under)
        self.dress(self.theme)

    # -- theme ----------------------------------------------------------------------------------

    def dress(self, theme: Theme) -> None:
        """Put on a theme."""
        self.theme = theme
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, theme)
        self.view.ground = theme.ground
        self.view.ring_colour = QColor(theme.accent)
        self.parts_card.theme = theme
        self.menu_button.setIcon(glyph("kneten", theme, 22))
        for button, drawing in self.bar_buttons:
            button.setIcon(glyph(drawing, theme, 20))
        self.rack.fill(STAGES[self.studio.stage], theme)
        self._mark_rack()
        self.parts_card.fill()
        self.setWindowIcon(glyph("kneten", theme, 64))
        self.view.refresh()

    def switch_theme(self) -> None:
        """Kiln to Porcelain and back."""
        name = "porcelain" if self.studio.preferences.theme == "kiln" else "kiln"
        self.studio.preferences.theme = name
        self.dress(THEMES[name])

    # -- kernels --------------------------------------------------------------------------------

    def prepare(self) -> None:
        """Get the compiled kernels ready in a process of its own, so that this window stays alive."""
        from kneten.core.warm import warm_here, warmed

        if warmed():
            QTimer.singleShot(0, lambda: (warm_here(), self._kernels_ready()))
            return
        from kneten.app.main import python_command

        self._kernel_notice = self.notices.show("First start: getting the tools ready …")
        self._kernel_notice.bar.show()
        self._kernels = QProcess(self)
        self._kernels.readyReadStandardOutput.connect(self._kernel_progress)
        self._kernels.finished.connect(self._kernels_compiled)
        command = python_command()
        self._kernels.start(command[0], [*command[1:], "-m", "kneten.core.warm"])
        self.notices.arrange()

    def _kernel_progress(self) -> None:
        assert self._kernels is not None
        for line in bytes(self._kernels.readAllStandardOutput().data()).decode().splitlines():
            done, _, name = line.partition(" ")
            if self._kernel_notice is not None and done.replace(".", "").isdigit():
                self._kernel_notice.bar.setValue(round(float(done) * 1000))
                self._kernel_notice.set_text(f"First start: getting the tools ready … {name}")

    def _kernels_compiled(self) -> None:
        from kneten.core.warm import warm_here

        if self._kernel_notice is not None:
            self._kernel_notice.leave()
        warm_here()
        self._kernels_ready()

    def _gate(self, command: Command) -> str:
        """Before the kernels are there, what needs them would freeze the window while compiling."""
        waits = command.place in ("File", "Edit", "Parts", "Density") and command.key != "file.quit"
        if waits and command.key != "edit.find" and not self.studio.ready:
            return "The tools are still getting ready; try again in a moment."
        return ""

    def _kernels_ready(self) -> None:
        self.studio.ready = True
        for run in self._when_ready:
            run()
        self._when_ready.clear()
        self.density_card.foretell()
        self.view.hover_again()

    def when_ready(self, run: Callable[[], None]) -> None:
        """Run once the kernels are there."""
        if self.studio.ready:
            run()
        else:
            self._when_ready.append(run)

    # -- reactions ------------------------------------------------------------------------------

    def _said(self, text: str, kind: str) -> None:
        self.notices.show(text, kind, seconds=0 if kind == "error" else 7)

    def _job_started(self, job: Job) -> None:
        # Work that ends at once should not flash a notice.
        def later() -> None:
            if job in self.studio.jobs:
                self.notices.follow(job)

        QTimer.singleShot(250, job, later)

    def _project_changed(self) -> None:
        self.view.cancel_hand()
        self.view.ring = None
        self.view.refresh()

    def _scene_changed(self) -> None:
        self.view.ring = None
        self.view.refresh()
        self._fill_chip()

    def _clay_changed(self) -> None:
        if not self.view.at_work:
            self.view.refresh_clay()
        self._fill_chip()

    def _history_changed(self) -> None:
        project = self.studio.project
        name = project.path.stem if project.path else project.title
        self.title.setText(f"{name}{' •' if project.unsaved else ''}")
        self.title.setToolTip(str(project.path or "Not saved yet"))
        self.setWindowTitle(f"{name}{'*' if project.unsaved else ''} - Kneten")
        for button, which in ((self.bar_buttons[0][0], 0), (self.bar_buttons[1][0], 1)):
            names = project.history.names()[which]
            command = self.registry.commands["edit.undo" if which == 0 else "edit.redo"]
            tip = self.registry.tip(command)
            button.setToolTip(f"{tip}: {names[-1]}" if names else tip)

    def _tool_changed(self) -> None:
        self._mark_rack()
        self.view.hover_again()

    def _mark_rack(self) -> None:
        mode = self.view.handles.mode
        self.rack.mark(f"parts.{mode}" if mode else f"tool.{self.studio.tool.key}")

    def _fill_chip(self) -> None:
        project = self.studio.project
        part = project.active
        total = sum(p.mesh.n_vertices for p in project.scene.parts)
        budget = project.settings.budget
        words = []
        if part is not None:
            words.append(f"{part.name}   {count_text(part.mesh.n_vertices)}")
        if len(project.scene.parts) > 1 or total > budget:
            words.append(f"all {count_text(total)} of {count_text(budget)}")
        mirrors = "".join(a for a, on in zip("XYZ", project.settings.symmetry, strict=True) if on)
        words.append(f"symmetry {mirrors}" if mirrors else "no symmetry")
        camera = project.settings.camera
        words.append("orthographic" if camera.orthographic else "perspective")
        self.chip.setProperty("kind", "warning" if total > budget else "")
        self.chip.style().polish(self.chip)
        self.chip.setText("    ".join(words))
        self.chip.adjustSize()
        self.chip.move(12, 10)

    def _fill_under(self) -> None:
        """How many edges fit across the brush, where it hovers."""
        ring = self.view.ring
        text = ""
        if ring is not None and not self.view.handles.mode:
            count = round(np.pi * (ring.radius / max(ring.edge, 1e-9)) ** 2)
            text = f"about {count_text(count)} vertices under the brush"
        if text != self.under.text():
            self.under.setText(text)
            self.under.adjustSize()
            self.under.move(12, self.view.height() - self.under.height() - 10)
            self.under.setVisible(bool(text))

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self.strip.fill_pictures()

    # -- commands: project ----------------------------------------------------------------------

    def new_project(self) -> None:
        """Begin again."""
        self._unless_unsaved(lambda: (self.studio.take(Project.with_ball()), self.frame_all()))

    def _unless_unsaved(self, go_on: Callable[[], object]) -> None:
        if not self.studio.project.unsaved:
            go_on()
            return
        answer = dialogs.ask_unsaved(self)
        if answer == "save":
            self.save(then=go_on)
        elif answer == "discard":
            go_on()

    def ask_open(self) -> None:
        """Ask for files and open them."""
        self.open_paths(dialogs.ask_open(self, "Open", projects=True))

    def open_paths(self, paths: list[Path]) -> None:
        """Open a project and import the other files."""
        projects = [p for p in paths if p.suffix.lower() == ENDING]
        rest = [p for p in paths if p.suffix.lower() != ENDING]
        if projects:
            self._unless_unsaved(lambda: self.studio.open_path(projects[0]))
        for path in rest:
            self.studio.import_path(path, None, self.frame_all)

    def open_demo(self) -> None:
        """Open the demo project, as a new one."""
        from kneten.demo.files import demo_project

        def opened(project: Project) -> None:
            self.studio.take(project)

        self._unless_unsaved(
            lambda: self.studio.start("Open the demo", lambda progress: demo_project(progress), opened)
        )

    def save(self, then: Callable[[], object] | None = None) -> None:
        """Save under the present name, or ask for one."""
        path = self.studio.project.path
        if path is None:
            self.save_as(then)
        else:
            self.studio.save_path(path, lambda: then() if then else None)

    def save_as(self, then: Callable[[], object] | None = None) -> None:
        """Ask for a name and save."""
        project = self.studio.project
        start = str(project.path or f"{project.title}{ENDING}")
        path = dialogs.ask_save(self, "Save as", start, dialogs.PROJECTS)
        if path is not None:
            self.studio.save_path(path, lambda: then() if then else None)

    def ask_import(self) -> None:
        """Ask for files and how they measure space."""
        for path in dialogs.ask_open(self, "Import", projects=False):
            dialog = dialogs.SpaceDialog(self, path, writing=False)
            if dialog.exec():
                self.studio.import_path(path, dialog.space(), self.frame_all)

    def ask_export(self) -> None:
        """Ask for a file and export to it."""
        start = f"{self.studio.project.path.stem if self.studio.project.path else 'clay'}.glb"
        path = dialogs.ask_save(self, "Export", start, dialogs.MESHES)
        if path is None:
            return
        dialog = dialogs.SpaceDialog(self, path, writing=True)
        if dialog.exec():
            parts = [
                p for p in self.studio.project.scene.parts if p.visible or not dialog.visible_only.isChecked()
            ]
            self.studio.export_path(path, parts, dialog.space(), dialog.ascii.isChecked())

    def ask_still(self) -> None:
        """Ask for a size and a file, and export the view."""
        dialog = dialogs.StillDialog(self, 1920, 1080)
        if not dialog.exec():
            return
        path = dialogs.ask_save(self, "Export a still", "still.png", "Pictures (*.png *.jpg *.jpeg)")
        if path is not None:
            self.export_still(path, dialog.wide.value(), dialog.high.value(), dialog.clear.isChecked())

    def export_still(self, path: Path, width: int, height: int, clear: bool) -> None:
        """Write the view as a picture; drawn in a context of its own, without cursor or overlays."""
        from kneten.document.arrays_file import replacing

        kind = "JPEG" if path.suffix.lower() in (".jpg", ".jpeg") else "PNG"
        if not path.suffix:
            path = path.with_suffix(".png")
        scene, camera = self._frozen_scene(), self.view.camera
        ground = self.theme.ground

        def draw(progress: object) -> None:
            image = render_still(scene, camera, width, height, ground, clear and kind == "PNG")
            with replacing(path) as file:
                file.write(encoded(image, kind))

        self.studio.start("Still", draw, lambda _: self.studio.say(f"Exported {path.name}."))

    def _frozen_scene(self) -> Scene:
        """The scene with clay that later strokes do not reach."""
        scene = self.studio.project.scene
        parts = []
        for part in scene.parts:
            if part.visible:
                mesh = part.mesh
                copy = Mesh(mesh.topology, mesh.positions.copy(), mesh.colour, mesh.mask, mesh.normals.copy())
                parts.append(replace(part, mesh=copy))
        return Scene(tuple(parts))

    def view_picture(self, width: int, height: int) -> bytes:
        """A small PNG of the view, cut from the picture that is on screen."""
        renderer = self.view.renderer
        if renderer is None or renderer.size == (0, 0):
            return b""
        from PIL import Image, ImageOps

        self.view.makeCurrent()
        self.view.finish_picture()
        pixels = renderer.read()
        self.view.doneCurrent()
        image = Image.fromarray(pixels, "RGBA").convert("RGB")
        return encoded(ImageOps.fit(image, (width, height), Image.Resampling.LANCZOS))

    # -- commands: edit -------------------------------------------------------------------------

    def undo(self) -> None:
        """Take the last change back."""
        if not self.view.at_work:
            self.studio.project.undo()

    def redo(self) -> None:
        """Make it again."""
        if not self.view.at_work:
            self.studio.project.redo()

    def keep_milestone(self) -> None:
        """Keep this state with a picture."""
        count = len(self.studio.project.scene.milestones) + 1
        self.studio.project.keep_milestone(f"Milestone {count}", self.view_picture(208, 130))

    def open_finder(self) -> None:
        """Show the command finder."""
        self.finder.open()

    def choose_stage(self, name: str) -> None:
        """Bring a stage's tools and cards to hand."""
        self.studio.stage = name
        self.stages[name].setChecked(True)
        self.rack.fill(STAGES[name], self.theme)
        while self._cards_column.takeAt(0):
            pass
        for card in CARDS[name]:
            self._cards_column.addWidget(self.cards[card])
        self._cards_column.addStretch(1)
        self._mark_rack()

    # -- commands: view -------------------------------------------------------------------------

    def look_from(self, name: str) -> None:
        """One of the six named views, of the same place."""
        self.view.set_camera(self.view.camera.seen_from(name))
        self._fill_chip()

    def _frame(self, low: AnyArray, high: AnyArray) -> None:
        aspect = self.view.width() / max(self.view.height(), 1)
        self.view.set_camera(self.view.camera.framing(low, high, aspect))

    def frame_part(self) -> None:
        """Bring the part in hand into the middle."""
        part = self.studio.project.active
        if part is not None:
            self._frame(*part.bounds())

    def frame_all(self) -> None:
        """Bring everything into the picture."""
        self._frame(*self.studio.project.scene.bounds())

    def frame_cursor(self) -> None:
        """Bring the place under the cursor into the middle, closer."""
        at = self.view.mapFromGlobal(self.cursor().pos())
        found = self.view.part_at(at.x(), at.y())
        if found is None:
            self.studio.say("There is no clay under the cursor.")
            return
        camera = self.view.camera
        x, y, z = found[1]
        near = replace(camera, target=(float(x), float(y), float(z)), distance=camera.distance * 0.5)
        self.view.set_camera(near)

    def switch_lens(self) -> None:
        """Perspective to orthographic and back."""
        camera = self.view.camera
        self.view.set_camera(replace(camera, orthographic=not camera.orthographic))
        self._fill_chip()

    def viewport_alone(self) -> None:
        """Hide all but the viewport, or show it again."""
        shown = not self.bar.isVisible()
        for widget in (self.bar, self.rack, self.side, self.strip):
            widget.setVisible(shown)
        self.view.setFocus()

    # -- commands: parts and tools --------------------------------------------------------------

    def rename_part(self) -> None:
        """Ask for a name."""
        part = self.studio.project.active
        if part is None:
            return
        name, agreed = QInputDialog.getText(self, "Rename", "Name of the part:", text=part.name)
        if agreed:
            self.studio.project.rename(part.id, name)

    def choose_tool(self, key: str) -> None:
        """Sculpt with a tool."""
        self.view.handles.mode = ""
        self.studio.choose_tool(key)
        self.view.update()

    def pick_slot(self, slot: int) -> None:
        """Take what stands in a slot of the rack, counted from 1."""
        self.registry.run(list(self.rack.buttons)[slot - 1])

    def choose_handles(self, mode: str) -> None:
        """Move, turn or scale; the same again goes back to sculpting."""
        handles = self.view.handles
        handles.mode = "" if handles.mode == mode else mode
        self.view.ring = None
        self._mark_rack()
        self.view.update()

    def switch_symmetry(self, axis: int) -> None:
        """Mirror strokes across a plane, or no longer."""
        settings = self.studio.project.settings
        settings.symmetry = actions.mirrored(settings.symmetry, axis)
        self.place_card.fill()
        self._fill_chip()
        self.view.hover_again()
        self.view.update()

    def remesh(self) -> None:
        """Remesh the part in hand to the density set in the card."""
        part = self.studio.project.active
        if part is None:
            return
        self.density_card.foretell()
        count = round(self.density_card.count.value())
        edge = self.density_card.edge.value()
        if not self.density_card.body.isVisible():
            edge = self.studio.forecast(part, None, count).edge
        self.studio.remesh_active(edge)

    def fuse(self) -> None:
        """Join all visible parts by volume, at the finest mean edge among them."""
        project = self.studio.project
        chosen = [p for p in project.scene.parts if p.visible]
        soup, edge = fused_soup(chosen)
        ids = {p.id for p in chosen}
        self.studio.locked |= ids

        def land(mesh: Mesh) -> None:
            rest = tuple(p for p in project.scene.parts if p.id not in ids)
            body = Part(chosen[0].name, mesh, new_id())
            project.change(f"Fuse {len(chosen)} parts", Scene((*rest, body), project.scene.milestones))
            project.choose(body.id)

        job = self.studio.start("Fuse", lambda progress: remesh(soup, edge, progress), land)
        job.ended.connect(
            self.studio.receiver(lambda _=None: self.studio.locked.difference_update(ids)),
            Qt.ConnectionType.QueuedConnection,
        )

    # -- start and end --------------------------------------------------------------------------

    def offer_left_work(self) -> None:
        """Offer what a crash left."""
        for left in left_journals():
            name = Path(left.path).stem if left.path else "an unsaved project"
            self.notices.show(
                f"Kneten ended unexpectedly. {left.changes} changes to {name} can be restored.",
                "warning",
                [
                    ("Restore", lambda left=left: self.studio.restore_left(left)),
                    ("Discard", lambda left=left: discard(left)),
                ],
            )

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.open_paths([Path(url.toLocalFile()) for url in event.mimeData().urls()])

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        if self.studio.project.unsaved and self.isVisible():
            answer = dialogs.ask_unsaved(self)
            if answer == "stay":
                event.ignore()
                return
            if answer == "save":
                event.ignore()
                self.save(then=self.close)
                return
        if self._kernels is not None:
            self._kernels.kill()
            self._kernels.waitForFinished(2000)
        self.view.cancel_hand()
        self.studio.close()
        event.accept()


def fused_soup(parts: list[Part]) -> tuple[Soup, float]:
    """Triangles of parts where they stand in the scene, and the finest mean edge among them."""
    placed = []
    edges = []
    for part in parts:
        mesh = part.mesh
        if part.transform != Transform():
            points = part.transform.to_scene(mesh.positions.astype(np.float64)).astype(np.float32)
            mesh = Mesh(mesh.topology, points, mesh.colour, mesh.mask)
        placed.append(mesh)
        edges.append(forecast(mesh.positions, mesh.topology.faces, vertices=mesh.n_vertices).edge)
    return soup_of(placed), min(edges)
