"""Every command at every wrong moment: refused with a reason, or done right."""

from __future__ import annotations

import threading
from collections.abc import Callable

import numpy as np
import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication, QDialog, QMenu

from kneten.app.shell.window import Window
from kneten.app.work.commands import Needs
from kneten.core.arrays import Progress
from kneten.core.loose import LooseMesh
from kneten.document.layering import add_layer
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import DEMOS, LEFT, NONE, answer_dialogs, drag, middle, send, settle, small_view
from tests.conftest import make_ball
from tests.document.test_project import same, state
from tests.long import few

LEFT_OUT = {
    "file.quit",  # ends the window
    "trip.watch",  # waits for files
}

MANY = 6_000
"""Vertices from which on the project is begun anew: how large clay grows is not what this is about."""


class Moment:
    """A window that is brought to a certain moment again and again."""

    def __init__(self, window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
        self.window = window
        self.reasons: list[str] = []
        answer_dialogs(monkeypatch)
        monkeypatch.setattr(window.registry, "_report", self.reasons.append)
        small_view(window)
        window.view.set_effects(0)
        self.gate = threading.Event()
        self.begin_anew()

    def begin_anew(self) -> None:
        self.window.studio.take(
            Project(Scene((Part("One", make_ball(100.0, 12)), Part("Two", make_ball(60.0, 8)))))
        )
        self.window.views.frame_all()
        settle(self.window)

    def grown(self) -> bool:
        parts = self.window.studio.project.scene.parts
        return not 0 < len(parts) < 5 or sum(part.mesh.n_vertices for part in parts) > MANY

    def press(self) -> None:
        """A stroke that is not over yet."""
        window = self.window
        window.registry.run("tool.raise")
        x, y = middle(window)
        send(window, QEvent.Type.MouseButtonPress, x, y, LEFT, NONE)
        send(window, QEvent.Type.MouseMove, x + 12, y, LEFT, NONE)
        # What a slow machine has not worked off yet would come while a command is looked at.
        window.view.finish_hand()
        assert window.view.at_work

    def release(self) -> None:
        x, y = middle(self.window)
        send(self.window, QEvent.Type.MouseButtonRelease, x + 12, y, LEFT, NONE)
        settle(self.window)

    def begin_work(self) -> None:
        """Long work on the part in hand that does not end before `end_work`."""
        if self.window.studio.locked:
            return
        self.gate.clear()
        part = self.window.studio.project.scene.parts[0]
        self.window.studio.project.choose(part.id)

        def work(progress: Progress) -> None:
            self.gate.wait(60)

        self.window.studio.work_on([part], "Wait", work, lambda _: None)

    def end_work(self) -> None:
        self.gate.set()
        settle(self.window)

    def loosen(self) -> None:
        part = self.window.studio.project.active
        assert part is not None
        if isinstance(part.mesh, LooseMesh) and part.visible and not part.locked:
            # The command before was refused, or has left it as it was.
            return
        if part.stack is not None or part.recipe is not None or not part.visible or part.locked:
            self.begin_anew()
        if not self.window.studio.project.active.live_density:  # type: ignore[union-attr]
            self.window.registry.run("density.live")
        self.window.registry.run("tool.raise")
        x, y = middle(self.window)
        drag(self.window, [(x, y), (x + 15, y)], events=2)

    def dial(self) -> None:
        """A layer's strength is dragged."""
        window = self.window
        part = window.studio.project.active
        if part is None or not part.visible or part.locked or part.stack is None or not part.stack.layers:
            self.begin_anew()
            part = window.studio.project.active
            assert part is not None
            add_layer(window.studio.project, part)
            window.registry.run("tool.raise")
            x, y = middle(window)
            drag(window, [(x, y), (x + 15, y)], events=2)
        stack = window.studio.project.active.stack  # type: ignore[union-attr]
        assert stack is not None
        window.levels.dial(stack.layers[-1].id, 0.4)

    def enter_mode(self) -> None:
        if self.window.view.mode is None:
            self.window.registry.run("guide.draw")

    def each(
        self,
        begin: Callable[[], None],
        end: Callable[[], None],
        refused: Needs,
        empty: bool = False,
        every: int = 1,
    ) -> None:
        """Every command at this moment; those that need what is not there must say why and change nothing."""
        window = self.window
        asked = self.asked()
        for key, command in few(list(window.registry.commands.items()), every):
            if key in LEFT_OUT or key.startswith(DEMOS) or key not in window.registry.commands:
                continue
            # What needs nothing may come at any time: the soak does that.
            if not command.needs & (refused or Needs.ALL):
                continue
            if self.grown() and not empty:
                self.begin_anew()
            begin()
            before = state(window.studio.project) if refused & command.needs else None
            self.reasons.clear()
            window.registry.run(key)
            for _ in range(2):
                QApplication.processEvents()
            assert window.studio.mishaps == [], key
            if before is not None:
                assert self.reasons, f"{key} was not refused"
                assert len(self.reasons[0]) > 10
                assert same(state(window.studio.project), before), key
                # What was refused has changed nothing: the moment lasts.
                continue
            end()
            window.views.stop()
            for job in list(window.studio.jobs):
                job.cancel()
            for panel in (
                window.shortcuts,
                window.setup,
                window.pen,
                window.welcome,
                window.overview,
                window.quick,
            ):
                panel.leave()
            window.finder.hide()
            assert window.studio.mishaps == [], key
        end()
        settle(window)
        project = window.studio.project
        while project.history.names()[0]:
            project.undo()
        while project.history.names()[1]:
            project.redo()
        for part in project.scene.parts:
            assert np.isfinite(part.mesh.positions).all()
        settle(window)
        assert window.studio.mishaps == []
        assert self.asked() == asked

    def asked(self) -> int:
        """Dialogs and menus that the window keeps; one that was answered would keep the clay it was about."""
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # type: ignore[call-overload]
        return sum(len(self.window.findChildren(kind)) for kind in (QDialog, QMenu))


@pytest.fixture
def moment(window: Window, monkeypatch: pytest.MonkeyPatch) -> Moment:
    return Moment(window, monkeypatch)


def nothing() -> None:
    """Nothing to be done."""


@pytest.mark.timeout(600)
def test_while_kernels_are_not_ready(moment: Moment) -> None:
    def begin() -> None:
        moment.window.studio.warm = set()

    def end() -> None:
        moment.window.studio.warm = None

    moment.each(begin, end, Needs.KERNELS)


@pytest.mark.timeout(600)
def test_while_a_stroke_is_drawn(moment: Moment) -> None:
    def begin() -> None:
        if moment.window.view.at_work:
            return
        part = moment.window.studio.project.active
        if part is None or not part.visible or part.locked or part.recipe is not None:
            moment.begin_anew()
        moment.window.view.take_mode(None)
        moment.window.registry.run("view.frame-all")
        moment.window.view.handles.mode = ""
        moment.press()

    moment.each(begin, moment.release, Needs.REST)


@pytest.mark.timeout(600)
def test_while_a_part_is_worked_on(moment: Moment) -> None:
    def begin() -> None:
        moment.begin_work()

    moment.each(begin, moment.end_work, Needs.FREE)


@pytest.mark.long
@pytest.mark.timeout(600)
def test_on_loose_clay(moment: Moment) -> None:
    moment.each(moment.loosen, nothing, Needs.NOTHING)
    assert not any(
        isinstance(part.mesh, LooseMesh) and part.stack for part in moment.window.studio.project.scene.parts
    )


@pytest.mark.some
@pytest.mark.timeout(600)
def test_while_a_layer_is_dialled(moment: Moment) -> None:
    moment.each(moment.dial, nothing, Needs.NOTHING, every=4)


@pytest.mark.long
@pytest.mark.timeout(600)
def test_while_a_mode_is_on(moment: Moment) -> None:
    moment.each(moment.enter_mode, nothing, Needs.NOTHING)


@pytest.mark.some
@pytest.mark.timeout(600)
def test_without_any_part(moment: Moment) -> None:
    def begin() -> None:
        if moment.window.studio.project.scene.parts:
            moment.window.studio.take(Project())

    moment.each(begin, nothing, Needs.NOTHING, empty=True, every=2)
