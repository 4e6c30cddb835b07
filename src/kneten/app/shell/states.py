"""What the pointer does now, other than sculpting as ever: a chip for each such state, with the way out in it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QToolButton, QWidget

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

HANDLES = {"move": "Moving parts", "turn": "Turning parts", "scale": "Scaling parts"}


@dataclass(frozen=True)
class State:
    """Something that changes what the pointer does or what is seen.

    Attributes
    ----------
    text : str
    tip : str
        What it means, and how it ends.
    leave : callable
        Ends it.
    """

    text: str
    tip: str
    leave: Callable[[], object]


def states_of(window: Frame) -> list[State]:
    """All states there are now."""
    view, project, registry = window.view, window.studio.project, window.registry
    part = project.active
    found = []
    if view.mode is not None:
        name = (
            registry.commands[view.mode.key].name.rstrip("…")
            if view.mode.key in registry.commands
            else "Mode"
        )
        found.append(
            State(
                name,
                "The pointer works in this way; press here, or Escape, to sculpt",
                lambda: view.take_mode(None),
            )
        )
    if view.handles.mode:
        mode = view.handles.mode
        found.append(
            State(HANDLES[mode], "Handles are on; press here to sculpt", lambda: window.choose_handles(mode))
        )
    if part is not None and part.stack is not None and part.stack.recorded is not None:
        layer = part.stack.recorded
        found.append(
            State(
                f"Recording {layer.name}",
                "Strokes go to this layer; press here to let them go to the clay",
                lambda: window.levels.record(layer.id),
            )
        )
    if (by := window.studio.brush_by) is not None and (words := by.brush_words())[0]:
        found.append(State(*words, lambda: stop_brushing(window)))
    if window.smooth_view.shows:
        found.append(
            State(
                "Smooth preview",
                "The net is seen as the smooth surface it stands for; press here to see it as it is",
                window.smooth_view.switch,
            )
        )
    if part is not None and part.live_density:
        found.append(
            State(
                "Live density",
                "Strokes change the mesh; press here to end that",
                lambda: registry.run("density.live"),
            )
        )
    if part is not None and part.mesh.hidden is not None:
        found.append(
            State(
                "Clay hidden",
                "Some of this part is hidden and not touched; press here to show all",
                lambda: registry.run("region.show-all"),
            )
        )
    if project.settings.look.isolate:
        found.append(
            State(
                "Alone",
                "Only this part is shown; press here to show all",
                lambda: registry.run("look.isolate"),
            )
        )
    if view.mirrored:
        found.append(
            State(
                "Mirrored picture",
                "Left and right are exchanged; press here to end that",
                lambda: registry.run("view.mirror"),
            )
        )
    if view.squint:
        found.append(
            State(
                "Half-closed eyes",
                "The picture is blurred; press here to end that",
                lambda: registry.run("view.squint"),
            )
        )
    return found


def stop_brushing(window: Frame) -> None:
    """Let Paint lay the colour in hand again, everywhere."""
    window.studio.brush_by = None
    window.studio.scene_changed.emit()


class StateChips(QWidget):
    """A row of chips below the readout; empty, and gone, while one simply sculpts."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window.view)
        self._window = window
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self.buttons: list[QToolButton] = []
        self._shown: list[str] = []
        self.hide()

    def fill(self) -> None:
        """Show what there is now."""
        states = states_of(self._window)
        texts = [state.text for state in states]
        if texts == self._shown:
            return
        self._shown = texts
        for old in self.buttons:
            old.hide()
            old.deleteLater()
        self.buttons = []
        for place, state in enumerate(states):
            button = QToolButton()
            button.setObjectName("state")
            button.setText(f"{state.text}   ✕")
            button.setAccessibleName(f"{state.text}: end it")
            button.setToolTip(state.tip)
            button.clicked.connect(lambda _=False, place=place: self._leave(place))
            self._row.addWidget(button)
            button.show()
            self.buttons.append(button)
        self._row.activate()
        self.resize(self._row.sizeHint())
        self.setVisible(bool(states))
        self.raise_()

    def _leave(self, place: int) -> None:
        states = states_of(self._window)
        if place < len(states):
            states[place].leave()
        self.fill()
