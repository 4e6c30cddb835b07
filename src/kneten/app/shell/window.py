"""The main window: stages above, rack at the left, cards at the right, milestones below."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QDateTime, QProcess, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QColor, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.benches import BENCHES
from kneten.app.fields.quantities import count_text, use_comma
from kneten.app.fields.theme import THEMES, Theme, apply_theme, glyph
from kneten.app.shell import actions
from kneten.app.shell.card_column import WIDTH, CardColumn
from kneten.app.shell.files import Files
from kneten.app.shell.finder import Finder
from kneten.app.shell.frame import Frame
from kneten.app.shell.job_list import JobList
from kneten.app.shell.memory_watch import MemoryWatch
from kneten.app.shell.overview import ToolOverview
from kneten.app.shell.own_tools import OwnTools
from kneten.app.shell.quick import QuickCard
from kneten.app.shell.rack import Rack
from kneten.app.shell.scene_actions import SceneActions
from kneten.app.shell.setup_panel import PenPanel, SetupPanel
from kneten.app.shell.shortcuts import ShortcutPanel
from kneten.app.shell.stages import DRAWINGS, STAGES
from kneten.app.shell.states import StateChips
from kneten.app.shell.strip import Strip
from kneten.app.shell.tour import Tour
from kneten.app.shell.way_out import WayOut
from kneten.app.shell.welcome import WelcomePanel
from kneten.app.shell.wishes import DesktopWishes
from kneten.app.view.viewport import Viewport
from kneten.app.work import dialogs
from kneten.app.work.card import Card, Cards
from kneten.app.work.commands import Command, Needs, Registry
from kneten.app.work.jobs import Job
from kneten.app.work.notices import Action, Notice, NoticeBoard
from kneten.app.work.preferences import Preferences
from kneten.app.work.studio import Studio
from kneten.core.warm import STROKE, warm_here, warmed
from kneten.document.recovery import Left, discard, left_journals
from kneten.render.style import ALL_EFFECTS, EFFECTS

BAR = 40
"""Pixels of the bar at the top."""


class Window(Frame):
    """Everything one sees."""

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.studio = Studio(preferences)
        # What Qt holds for a signal keeps the window alive; it goes with the object that has the signal.
        self.studio.setParent(self)
        self.theme: Theme = THEMES[preferences.theme]
        self.registry = Registry(self, lambda text: self.studio.say(text), self._gate, self._guard)
        self.view = Viewport(self.studio)
        self.notices = NoticeBoard(self.view)
        self.cards = Cards()
        self._card_titles: dict[str, str] = {}
        self._offered: dict[str, Any] = {}
        self._kernels: QProcess | None = None
        self._kernel_notice: Notice | None = None
        self._when_ready: list[tuple[frozenset[str], Callable[[], None]]] = []
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(960, 620)
        self.middle = QWidget()
        self.columns = QHBoxLayout()
        self.columns.setSpacing(0)
        self.files = Files(self)
        self.scene_actions = SceneActions(self)
        self.own_tools = OwnTools(self)
        for bench in BENCHES:
            bench.install(self)
        actions.register(self)
        self.own_tools.register()
        self.studio.own_tool = self.own_tools.tool
        for bench in BENCHES:
            bench.furnish(self)
        self._build()
        self.memory = MemoryWatch(self)
        self.wishes: DesktopWishes | None = None
        self._connect()
        use_comma(preferences.comma)
        self.registry.set_shortcuts(preferences.shortcuts)
        self.view.effects = ALL_EFFECTS if preferences.effects < 0 else preferences.effects
        self._laid_down = "paint"
        self.choose_stage("Form")
        self.choose_tool("raise")

    # -- the desk -------------------------------------------------------------------------------

    def offer(self, name: str, thing: Any) -> Any:
        """Let others have something of a bench under a name; gives it back."""
        self._offered[name] = thing
        return thing

    def add_card(self, title: str, name: str, make: Callable[[], Card]) -> None:
        """Take a card in, made when it is first asked for; it is then an attribute of the desk."""
        self.cards.add(title, make)
        self._card_titles[name] = title

    def fill_card(self, name: str) -> None:
        """Have a card show what is now; one that nobody has asked for yet will when it is made."""
        card = self.cards.made.get(self._card_titles[name])
        if card is not None:
            card.fill()

    def card_open(self, name: str) -> bool:
        """Whether a card is before the user, unfolded."""
        card = self.cards.made.get(self._card_titles[name])
        return card is not None and card.body.isVisible()

    def __getattr__(self, name: str) -> Any:
        offered = self.__dict__.get("_offered", {})
        if name in offered:
            return offered[name]
        titles = self.__dict__.get("_card_titles", {})
        if name in titles:
            return self.cards[titles[name]]
        raise AttributeError(f"nothing called {name} is on the desk")

    # -- building -------------------------------------------------------------------------------

    def _build(self) -> None:
        studio = self.studio
        rows = QVBoxLayout(self.middle)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self.bar = self._build_bar()
        rows.addWidget(self.bar)
        columns = self.columns
        rows.addLayout(columns, 1)
        self.rack = Rack(self.registry)
        self.side = CardColumn(self, self.cards)
        self.registry.add(*self.side.commands())
        columns.addWidget(self.rack)
        columns.addWidget(self.view, 1)
        columns.addWidget(self.side)
        self.strip = Strip(studio, self.registry, self.middle)
        self.strip.asked.connect(self.milestones.menu)
        rows.addWidget(self.strip)
        self.setCentralWidget(self.middle)
        self.chip = QLabel(self.view)
        self.chip.setObjectName("chip")
        self.chip.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.states = StateChips(self)
        self.under = QLabel(self.view)
        self.under.setObjectName("chip")
        self.under.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.under.hide()
        self.finder = Finder(self, self.registry)
        self.overview = ToolOverview(self, self.registry, studio.aside, self.put_on_rack)
        self.quick = QuickCard(self)
        self.shortcuts = ShortcutPanel(self)
        self.setup = SetupPanel(self)
        self.pen = PenPanel(self)
        self.welcome = WelcomePanel(self)
        self.tour = Tour(self)
        WayOut(self)
        self.rack.moved.connect(self.put_on_rack)
        self.rack.removed.connect(self.take_off_rack)

    def _build_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        bar.setFixedHeight(BAR)
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
            button.setFixedHeight(BAR)
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
        self.work = JobList(self, self.studio)
        right_row.addWidget(self.work)
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
        studio.left_found.connect(self._offer)
        studio.ask_unsaved = lambda: dialogs.ask_unsaved(self)
        studio.save_first = self.files.save
        studio.at_work = lambda: self.view.at_work
        studio.job_started.connect(self._job_started)
        studio.project_changed.connect(self._project_changed)
        studio.scene_changed.connect(self._scene_changed)
        studio.clay_changed.connect(self._clay_changed)
        studio.history_changed.connect(self._history_changed)
        studio.tool_changed.connect(self._tool_changed)
        studio.picture = self.files.view_picture
        studio.advised.connect(self._advised)
        studio.look_changed.connect(self._look_changed)
        studio.wanted.connect(self._wanted)
        self.view.drawn.connect(self._fill_under)
        self.view.effects_changed.connect(self.fill_chip)
        self.view.mode_changed.connect(self._mark_rack)
        self.dress(self.theme)

    # -- theme ----------------------------------------------------------------------------------

    def dress(self, theme: Theme) -> None:
        """Put on a theme."""
        self.theme = theme
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        scale = self.studio.preferences.text_scale
        apply_theme(app, theme, scale)
        self.side.setFixedWidth(round(WIDTH * scale))
        self.rack.scale = scale
        self.view.ground = theme.ground
        self.view.ring_colour = QColor(theme.accent)
        self.view.text_colour = QColor(theme.text)
        self.view.label_colour = QColor(theme.panel)
        self.view.label_colour.setAlpha(225)
        self.menu_button.setIcon(glyph("kneten", theme, 22))
        for button, drawing in self.bar_buttons:
            button.setIcon(glyph(drawing, theme, 20))
        self.rack.fill(self.rack_entries(), theme)
        self._mark_rack()
        self.setWindowIcon(glyph("kneten", theme, 64))
        self.fill_chip()
        # Rows of cards have colours of their own.
        self.studio.scene_changed.emit()
        self.view.refresh()

    def switch_theme(self) -> None:
        """Kiln to Porcelain and back."""
        name = "porcelain" if self.studio.preferences.theme == "kiln" else "kiln"
        self.studio.preferences.theme = name
        self.studio.preferences.follow_desktop = False
        self.dress(THEMES[name])

    def follow(self, wishes: DesktopWishes) -> None:
        """Be as the desktop has all its programs, now and whenever that changes."""

        def again() -> None:
            if wishes.read().given_to(self.studio.preferences):
                self.dress(THEMES[self.studio.preferences.theme])

        self.wishes = wishes
        wishes.changed.connect(again)
        again()

    # -- kernels --------------------------------------------------------------------------------

    def prepare(self) -> None:
        """Get the compiled kernels ready in processes of their own, so that this window stays alive."""
        if warmed():
            QTimer.singleShot(0, lambda: (warm_here(), self._kernels_ready()))
            return
        self._kernel_notice = self.notices.show("First start: getting the tools ready …")
        self._kernel_notice.bar.show()
        self._kernels = QProcess(self)
        self._kernels.readyReadStandardOutput.connect(self._kernel_progress)
        self._kernels.finished.connect(self._kernels_compiled)
        self._kernels.start(sys.executable, ["-m", "kneten.core.warm"])
        self.notices.arrange()

    def _kernel_progress(self) -> None:
        """Take in what has been compiled; begin with what it is enough for."""
        assert self._kernels is not None
        warm = self.studio.warm
        for line in bytes(self._kernels.readAllStandardOutput().data()).decode().splitlines():
            done, _, name = line.partition(" ")
            if not done.replace(".", "").isdigit() or warm is None:
                continue
            # Loading what another process has compiled takes some 30 ms.
            warm_here(names=(name,))
            before = self.studio.ready
            warm.add(name)
            if self._kernel_notice is not None:
                self._kernel_notice.bar.setValue(round(float(done) * 1000))
                left = "the first tools are there, the rest follows" if self.studio.ready else name
                self._kernel_notice.set_text(f"First start: getting the tools ready … {left}")
            if self.studio.ready and not before:
                self.view.hover_again()
            self._run_what_can()

    def _kernels_compiled(self) -> None:
        if self._kernel_notice is not None:
            self._kernel_notice.leave()
        warm_here()
        self._kernels_ready()

    def _kernels_ready(self) -> None:
        self.studio.ready = True
        self._run_what_can()
        self.fill_card("density_card")
        self.studio.advisor.look(self.studio.project.active)
        self.view.hover_again()

    def when_ready(self, run: Callable[[], None], steps: Iterable[str] = STROKE) -> None:
        """Run as soon as these steps of the kernels are there."""
        self._when_ready.append((frozenset(steps), run))
        self._run_what_can()

    def _run_what_can(self) -> None:
        can = [one for one in self._when_ready if self.studio.is_warm(one[0])]
        self._when_ready = [one for one in self._when_ready if one not in can]
        for _, run in can:
            run()

    def _gate(self, command: Command) -> str:
        """See to what a command needs; why it cannot run all the same, or ""."""
        needs, studio = command.needs, self.studio
        if Needs.KERNELS in needs and not studio.all_ready:
            return "The tools are still getting ready; try again in a moment."
        if Needs.REST in needs:
            if not self.view.finish_hand():
                return "The pointer is at work on the clay; let go first."
            studio.project.end_trials()
        if Needs.FREE in needs and (rests := studio.any_at_work(p.id for p in studio.project.chosen)):
            return rests
        if Needs.SETTLED in needs:
            return studio.live.rest(lambda: self.registry.run(command.key))
        return ""

    @contextlib.contextmanager
    def _guard(self, command: Command) -> Iterator[None]:
        """Take back what a command did that failed, and tell."""
        try:
            with self.studio.project.all_or_nothing():
                yield
        except Exception as error:
            self.studio.broke(command.name.rstrip("…"), error)

    # -- reactions ------------------------------------------------------------------------------

    def _said(self, text: str, kind: str) -> None:
        self.notices.show(text, kind, seconds=0 if kind == "error" else self._while(7))

    def _advised(self, text: str, advice: list[Action]) -> None:
        self.notices.show(text, "warning", advice, seconds=self._while(20), of_project=True)

    def _while(self, seconds: float) -> float:
        return 0 if self.studio.preferences.notices_stay else seconds

    def _look_changed(self, moving: bool) -> None:
        if moving:
            self.view.moved()
        else:
            self.view.refresh()

    def _wanted(self, key: str) -> None:
        name, _, rest = key.partition(" ")
        if name == "view.saved-menu":
            self.views.saved_menu(rest)
        elif name in self.registry.commands:
            self.registry.run(name)

    def _job_started(self, job: Job) -> None:
        # Work that ends at once should not flash a notice.
        def later() -> None:
            if job in self.studio.jobs:
                self.notices.follow(job)

        QTimer.singleShot(250, job, later)

    def _project_changed(self) -> None:
        self.view.cancel_hand()
        self.view.take_mode(None)
        self.view.solid = None
        self.view.stop_compare()
        self.view.last_touched = None
        self.view.ring = None
        self.notices.leave_project()
        self.view.refresh()

    def _scene_changed(self) -> None:
        self.view.ring = None
        self.mode_hints.check()
        if self.view.distances:
            self.view.stop_compare()
        self.studio.advisor.look(self.studio.project.active)
        self.view.refresh()
        self.fill_chip()

    def _clay_changed(self) -> None:
        if not self.view.at_work:
            self.view.refresh_clay()
        self.fill_chip()

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
        mode, working = self.view.handles.mode, self.view.mode
        key = f"parts.{mode}" if mode else f"tool.{self.studio.tool.key}"
        in_hand = working.key if working is not None else key
        self.rack.mark(in_hand)
        self.side.need(in_hand)
        self.states.fill()

    def fill_chip(self) -> None:
        project = self.studio.project
        part = project.active
        total = sum(p.mesh.count for p in project.scene.parts)
        budget = project.settings.budget
        words = []
        if part is not None:
            words.append(f"{part.name}   {count_text(part.mesh.count)}")
            stack = part.stack
            if stack is not None and stack.top:
                words.append(f"level {stack.level} of {stack.top}")
        if len(project.scene.parts) > 1 or total > budget:
            words.append(f"all {count_text(total)} of {count_text(budget)}")
        mirrors = "".join(a for a, on in zip("XYZ", project.settings.symmetry, strict=True) if on)
        held = project.settings
        if held.symmetry_space == "shape":
            words.append("symmetry by shape")
        else:
            all_round = f" {held.radial[1]}× about {'XYZ'[held.radial[0]]}" if held.radial[1] > 1 else ""
            world = " of the world" if held.symmetry_space == "world" and (mirrors or all_round) else ""
            on = f"symmetry {mirrors}{all_round}{world}".replace("  ", " ")
            words.append(on if mirrors or all_round else "no symmetry")
        camera = project.settings.camera
        words.append("orthographic" if camera.orthographic else "perspective")
        if self.view.effects_rest:
            words.append("effects rest")
        elif self.view.effects < ALL_EFFECTS:
            words.append(f"effects: {EFFECTS[self.view.effects].lower()}")
        self.chip.setProperty("kind", "warning" if total > budget else "")
        self.chip.style().polish(self.chip)
        self.chip.setText("    ".join(words))
        self.chip.adjustSize()
        self.chip.move(12, 10)
        self.states.move(12, 14 + self.chip.height())
        self.states.fill()

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
            self.under.setVisible(bool(text))
        self._place_under()

    def _place_under(self) -> None:
        """At the view's foot, however high that is."""
        self.under.move(12, self.view.height() - self.under.height() - 10)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self.mode_hints.place_hint()
        self.strip.fill_pictures()
        self.strip.place()
        # The view gets its size after the window.
        QTimer.singleShot(0, self, self._place_under)

    def rack_entries(self) -> list[tuple[str, str]]:
        """Commands and drawings on the rack: the stage's, or as the user has arranged them."""
        own = self.studio.preferences.racks.get(self.studio.stage)
        if own is None:
            return STAGES[self.studio.stage]
        return [(key, DRAWINGS[key]) for key in own if key in DRAWINGS]

    def _arrange_rack(self, keys: list[str]) -> None:
        self.studio.preferences.racks[self.studio.stage] = keys
        self.rack.fill(self.rack_entries(), self.theme)
        self._mark_rack()

    def put_on_rack(self, key: str, place: int = -1) -> None:
        """Put a command at a place of the stage's rack, or at its end."""
        keys = [name for name, _ in self.rack_entries()]
        if key not in DRAWINGS:
            return
        if place < 0:
            place = len(keys)
        if key in keys:
            at = keys.index(key)
            keys.remove(key)
            place -= at < place
        keys.insert(place, key)
        self._arrange_rack(keys)

    def take_off_rack(self, key: str) -> None:
        """Take a command off the stage's rack."""
        keys = [name for name, _ in self.rack_entries() if name != key]
        self._arrange_rack(keys)
        name = self.registry.commands[key].name
        self.studio.advised.emit(
            f"{name} is off this stage's rack; it is still in the overview of all tools and in the finder.",
            [("Put it back", lambda: self.put_on_rack(key)), ("Rack as it was", self.reset_rack)],
        )

    def reset_rack(self) -> None:
        """The stage's rack as it came."""
        self.studio.preferences.racks.pop(self.studio.stage, None)
        self.rack.fill(self.rack_entries(), self.theme)
        self._mark_rack()

    def set_shortcut(self, key: str, keys: str) -> None:
        """Give a command other keys."""
        changed = self.studio.preferences.shortcuts
        if keys == self.registry.commands[key].shortcut:
            changed.pop(key, None)
        else:
            changed[key] = keys
        self.registry.set_shortcuts(changed)

    def open_quick_card(self) -> None:
        """Show the quick card at the cursor."""
        at = self.mapFromGlobal(self.cursor().pos())
        if not self.rect().contains(at):
            at = self.view.mapTo(self, self.view.rect().center())
        self.quick.open(at)

    def choose_stage(self, name: str) -> None:
        """Bring a stage's tools and cards to hand."""
        self.studio.stage = name
        self._change_hands(name == "Colour")
        self.stages[name].setChecked(True)
        self.rack.fill(self.rack_entries(), self.theme)
        self.side.choose_stage(name)
        self._mark_rack()

    def _change_hands(self, painting: bool) -> None:
        """Entering Colour, or leaving it, takes up the tool that was last in hand on that side."""
        tool = self.studio.tool
        if tool.changes in ("mask", "regions"):
            return
        if (tool.changes == "paint") != painting:
            self._laid_down, key = tool.key, self._laid_down
            self.studio.choose_tool(key)

    def viewport_alone(self) -> None:
        """Hide all but the viewport, or show it again."""
        shown = not self.bar.isVisible()
        for widget in (self.bar, self.rack, self.side, self.strip):
            widget.setVisible(shown)
        self.view.setFocus()

    def open_finder(self) -> None:
        """Show the command finder."""
        self.finder.open()

    def choose_tool(self, key: str) -> None:
        """Sculpt with a tool."""
        if self.view.mode is not None:
            self.view.take_mode(None)
        self.view.handles.mode = ""
        self.studio.choose_tool(key)
        self.view.repaint_over()

    def pick_slot(self, slot: int) -> None:
        """Take what stands in a slot of the rack, counted from 1."""
        self.registry.run(list(self.rack.buttons)[slot - 1])

    def choose_handles(self, mode: str) -> None:
        """Move, turn or scale; the same again goes back to sculpting."""
        handles = self.view.handles
        wanted = "" if handles.mode == mode else mode
        if self.view.mode is not None:
            self.view.take_mode(None)
        handles.mode = wanted
        self.view.ring = None
        self._mark_rack()
        self.view.repaint_over()

    def switch_symmetry(self, axis: int) -> None:
        """Mirror strokes across a plane, or no longer."""
        project = self.studio.project
        project.change_settings(symmetry=actions.mirrored(project.settings.symmetry, axis))
        self.fill_card("symmetry_card")
        self.fill_chip()
        self.view.hover_again()
        self.view.repaint_over()

    # -- start and end --------------------------------------------------------------------------

    def offer_left_work(self) -> None:
        """Look for what crashes have left, and offer it."""
        self.studio.aside(left_journals, self._offer)

    def _offer(self, found: list[Left]) -> None:
        for left in found:
            when = QDateTime.fromSecsSinceEpoch(round(left.time)).toString("d MMMM, hh:mm:ss")
            changes = "1 change" if left.changes == 1 else f"{left.changes} changes"
            saved = f"{changes} not saved" if left.path else f"{changes}, never saved"
            damaged = "" if left.whole else " Part of its journal is damaged; what can be read comes back."
            self.notices.show(
                f"Kneten ended unexpectedly: {left.title} of {when} can be restored ({saved}).{damaged}",
                "warning",
                [
                    ("Restore", partial(self.studio.restore_left, left)),
                    ("Discard", partial(discard, left)),
                ],
            )

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls() or event.mimeData().hasImage():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.files.take(event.mimeData())
        event.acceptProposedAction()

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        if self.studio.project.unsaved and self.isVisible():
            answer = self.studio.ask_unsaved()
            if answer == "stay":
                event.ignore()
                return
            if answer == "save":
                event.ignore()
                self.files.save(then=self.close)
                return
        if self._kernels is not None:
            # Its end must not begin to compile here what it has not compiled.
            self._kernels.finished.disconnect(self._kernels_compiled)
            self._kernels.kill()
            self._kernels.waitForFinished(2000)
        self.view.cancel_hand()
        self.studio.close()
        self.view.give_back()
        event.accept()
