"""A window for each test, its graphics set up before the first one."""

from __future__ import annotations

import gc
from collections.abc import Iterator

import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from kneten.app.start.main import prepare_graphics

prepare_graphics()

from kneten.app.benches.net import quads_card  # noqa: E402
from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.document.project import Project  # noqa: E402
from kneten.document.scene import Part, Scene  # noqa: E402
from tests.app.windows import nobody_there, settle  # noqa: E402
from tests.conftest import make_ball  # noqa: E402


@pytest.fixture(scope="session")
def kernels() -> None:
    """All compiled code, so that no test waits for it."""
    warm_here()
    gc.collect()
    # What is there now stays: no later collection need look at it again.
    gc.freeze()


@pytest.fixture(autouse=True)
def unattended(monkeypatch: pytest.MonkeyPatch) -> None:
    """No test waits for a person, nor for thousands of quads where every command is run."""
    nobody_there(monkeypatch)
    monkeypatch.setattr(quads_card, "USUAL", 100)


@pytest.fixture
def window(qtbot: QtBot, kernels: None) -> Iterator[Window]:
    """The real window with a ball of clay, nothing moving."""
    load_fonts()
    # However slow the machine is at a moment: pictures that are compared are drawn with the same effects.
    # What it said can be read.
    window = Window(Preferences(still=True, effects=3, notices_stay=True))
    # Every picture is drawn in software: those who look at larger ones ask for them.
    window.resize(window.minimumSize())
    window.show()
    qtbot.waitExposed(window)
    window.studio.ready = True
    # Nobody is there to answer: the tests about that question answer it themselves.
    window.studio.ask_unsaved = lambda: "discard"
    window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 48)),))))
    window.views.frame_all()
    settle(window)
    yield window
    mishaps = window.studio.mishaps
    window.studio.project.unsaved = False
    window.close()
    window.deleteLater()
    # Nothing but a running event loop would delete it: windows would pile up, and each slow down the next.
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()
    del window
    gc.collect()
    # Else each widget of the next window would be dressed as it is made, and again wherever it is put.
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    app.setStyleSheet("")
    assert not mishaps, mishaps
