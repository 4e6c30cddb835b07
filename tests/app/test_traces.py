"""Ray-traced stills through the real window: begun, sculpted meanwhile, paused, ended, saved."""

from __future__ import annotations

import gc
import weakref
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtWidgets import QFileDialog

from kneten.app.shell.window import Window
from tests.app.windows import drag, middle, run, settle, small_view, steps, until


@pytest.fixture
def traces(window: Window) -> Window:
    """The stage Show, a small picture to be traced."""
    run(window, "stage.show")
    small_view(window)
    run(window, "light.set-three")
    window.traces.width, window.traces.samples = 96, 8
    settle(window)
    return window


def test_a_picture_grows_while_one_sculpts_and_is_saved(
    traces: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "no ray-traced picture" in traces.registry.commands["trace.save"].blocked()
    run(traces, "trace.start")
    assert traces.traces.at_work
    assert "end it first" in traces.registry.commands["trace.start"].blocked()
    traces.choose_tool("raise")
    x, y = middle(traces)
    drag(traces, [(x - 20, y), (x + 20, y)])
    until(lambda: not traces.traces.at_work and traces.traces.still is not None, 90)
    assert steps(traces)[-1] == "Raise on Ball"
    assert "8 samples" in traces.trace_card.words.text()
    assert not traces.trace_card.picture.pixmap().isNull()
    path = tmp_path / "traced.png"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *a, **k: (str(path), "")))
    run(traces, "trace.save")
    traces.studio.wait()
    found = np.asarray(Image.open(path).convert("RGB")).astype(int)
    assert found.shape[1] == 96
    assert found.max() > 120


def test_it_rests_goes_on_and_is_cancelled(traces: Window) -> None:
    traces.traces.samples = 4096
    for key in ("trace.pause", "trace.enough", "trace.cancel"):
        assert "Nothing is being traced" in traces.registry.commands[key].blocked()
    run(traces, "trace.start")
    until(lambda: traces.traces.now.samples > 0, 60)
    run(traces, "trace.pause")
    assert "resting" in traces.trace_card.words.text()
    run(traces, "trace.pause")
    run(traces, "trace.cancel")
    assert not traces.traces.at_work
    assert "samples" in traces.trace_card.words.text()
    # Another one may begin at once, and is ended when there is enough.
    run(traces, "trace.start")
    until(lambda: traces.traces.now.samples > 0, 60)
    run(traces, "trace.enough")
    until(lambda: not traces.traces.at_work, 60)
    assert traces.traces.still is not None


def test_what_cannot_be_traced_is_said(traces: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    traces.traces.samples = 0
    run(traces, "trace.start")
    assert not traces.traces.at_work
    part = traces.studio.project.active
    assert part is not None
    traces.studio.project.change(
        "Hide",
        traces.studio.project.scene.with_part(
            part.__class__(part.name, part.mesh, id=part.id, visible=False)
        ),
    )
    assert "no visible clay" in traces.registry.commands["trace.start"].blocked()


def test_a_window_that_closes_leaves_no_process_and_no_picture(traces: Window) -> None:
    traces.traces.samples = 4096
    run(traces, "trace.start")
    until(lambda: traces.traces.now.samples > 0, 60)
    tracing = traces.traces.tracing
    assert tracing is not None
    until(lambda: traces.traces.still is not None, 60)
    traces.studio.close()
    assert tracing._process is not None
    assert tracing._process.poll() is not None
    assert not tracing._folder.exists()
    # What would still be wanted is not asked for any more, and nobody holds what there was.
    traces.studio.aside(lambda: 1, lambda _: None)
    assert traces.traces.still is None
    assert not traces.traces.at_work
    held = weakref.ref(tracing)
    del tracing
    settle(traces)
    gc.collect()
    assert held() is None
