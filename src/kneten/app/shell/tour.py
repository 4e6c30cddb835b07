"""Two tours: the first steps, and a small creature from a ball to a file. Each thing is really done before the next is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout

from kneten.document.driving import shapes_of

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


@dataclass(frozen=True)
class Step:
    """What is told, and how one sees that it was done."""

    text: str
    begin: Callable[[Frame], object]
    done: Callable[[Frame, Any], bool]


def _strokes(w: Frame) -> int:
    return len(w.studio.project.history.names()[0])


STEPS = (
    Step(
        "Turn the clay: drag beside it, or anywhere with the right mouse button.",
        lambda w: w.studio.project.settings.camera,
        lambda w, before: bool(
            (w.studio.project.settings.camera.yaw, w.studio.project.settings.camera.pitch)
            != (before.yaw, before.pitch)
        ),
    ),
    Step(
        "Go nearer: turn the wheel over the place you want to see.",
        lambda w: w.studio.project.settings.camera.distance,
        lambda w, before: w.studio.project.settings.camera.distance != before,
    ),
    Step(
        "Raise is in your hand. Drag on the clay.",
        lambda w: (w.registry.run("tool.raise"), _strokes(w))[1],
        lambda w, before: _strokes(w) > before,
    ),
    Step(
        "Now hold Ctrl while you drag: the tool does the opposite.",
        lambda w: _strokes(w),
        lambda w, before: _strokes(w) > before and "reversed" in w.studio.project.history.names()[0][-1],
    ),
    Step(
        "Hold E and drag on the canvas: sideways changes the size, upwards the strength.",
        lambda w: (w.studio.settings().size, w.studio.settings().strength),
        lambda w, before: (w.studio.settings().size, w.studio.settings().strength) != before,
    ),
    Step(
        "Hold Shift and drag: it smooths, whatever tool you hold.",
        lambda w: _strokes(w),
        lambda w, before: (
            _strokes(w) > before and w.studio.project.history.names()[0][-1].startswith("Smooth")
        ),
    ),
    Step(
        "Keep this state: press Ctrl+M. It is kept as a picture in the bar below, to compare with and to go back to.",
        lambda w: len(w.studio.project.scene.milestones),
        lambda w, before: len(w.studio.project.scene.milestones) > before,
    ),
    Step(
        "Anything else: press Ctrl+K and type what you want to do. Then press Enter or Esc.",
        lambda w: False,
        lambda w, before: w.finder.isVisible(),
    ),
)


def _counts(w: Frame) -> dict[str, int]:
    """How many there are of what a step may add."""
    scene = w.studio.project.scene
    return {
        "steps": _strokes(w),
        "parts": len(scene.parts),
        "shapes": len(shapes_of(scene)),
        "lamps": len(scene.things("lamps")),
        "cameras": len(scene.things("cameras")),
    }


def _begin(stage: str, *keys: str) -> Callable[[Frame], object]:
    """Go to a stage, take what is wanted in hand; remember what is there."""

    def begin(w: Frame) -> object:
        if w.studio.stage != stage:
            w.registry.run(f"stage.{stage.lower()}")
        for key in keys:
            w.registry.run(key)
        return _counts(w)

    return begin


def _made(name: str) -> Callable[[Frame, Any], bool]:
    """Whether a step of such a name is the last one, and new."""
    return lambda w, before: (
        _strokes(w) > before["steps"] and w.studio.project.history.names()[0][-1].startswith(name)
    )


def _more(kind: str) -> Callable[[Frame, Any], bool]:
    """Whether there are more of a kind of thing than before."""
    return lambda w, before: _counts(w)[kind] > before[kind]


def _heard(word: str) -> Callable[[Frame, Any], bool]:
    """Whether the window has said so since the step began."""
    return lambda w, before: any(text.startswith(word) for text in w.tour.heard)


CREATURE = (
    Step(
        "A creature for the shore of Lake Hallen. Begin with a ball of clay: press Ctrl+N.",
        lambda w: None,
        lambda w, before: _strokes(w) == 0 and len(w.studio.project.scene.parts) == 1,
    ),
    Step(
        "Pull is in your hand, and both sides go alike. Press ] until the brush is large, then drag a snout out of the ball.",
        _begin("Form", "tool.pull"),
        _made("Pull"),
    ),
    Step(
        "Long pulls stretch the mesh. Press Alt+E: it becomes even again, as dense as the card Density says.",
        _begin("Form"),
        _made("Remesh"),
    ),
    Step(
        "Score cuts lines. Draw a mouth along the snout; Pinch, beside it, makes it crisp.",
        _begin("Form", "tool.score"),
        _made("Score"),
    ),
    Step(
        "An eye is a part of its own. Press Eye in the rack, or type eye after Ctrl+K.",
        _begin("Block"),
        _more("parts"),
    ),
    Step(
        "Press Shift+M and click on the head where the eye is to sit. M and S bring handles to move and size it.",
        _begin("Block"),
        lambda w, before: _strokes(w) > before["steps"],
    ),
    Step("The other eye: press Ctrl+Shift+M.", _begin("Block"), _more("parts")),
    Step(
        "Press Shift+D and draw on the head: a strand lies on the clay, a horn, a feeler or a crest. Press Esc when it is as you like it.",
        _begin("Block"),
        _more("parts"),
    ),
    Step(
        "Click on the head to take it in hand and press Alt+Shift+Up: a finer level, over which all of the coarse one stays.",
        _begin("Surface"),
        lambda w, before: _strokes(w) > before["steps"] and _finer(w),
    ),
    Step(
        "Press lays pictures of heights. Double-click one on the shelf (Ctrl+Alt+P), then drag over the back of the head.",
        _begin("Surface", "tool.press"),
        _made("Press"),
    ),
    Step(
        "Take a colour in hand on the card Colour and press Ctrl+Alt+C: it covers the whole part.",
        _begin("Colour"),
        _made("Fill"),
    ),
    Step(
        "Another colour, and Paint: lips, lids, a pale throat. Ctrl takes paint off, Shift blends.",
        _begin("Colour", "tool.paint"),
        _made("Paint"),
    ),
    Step(
        "Faces act by shapes. Press New… on the card Shapes and give it a name: what you sculpt from now on gets a dial.",
        _begin("Perform"),
        _more("shapes"),
    ),
    Step(
        "Raise the brows, draw the mouth wide. Then press Neutral on the card: the face rests, and the dial brings it back.",
        _begin("Perform", "tool.pull"),
        lambda w, before: _strokes(w) > before["steps"],
    ),
    Step(
        "Choose a light set on the card Light. Its lamps can be dragged (L), and placed by where the highlight is to be.",
        _begin("Show"),
        _more("lamps"),
    ),
    Step(
        "Turn the view until you like it and press Add on the card Cameras: the picture is kept, with a finish of its own.",
        _begin("Show"),
        _more("cameras"),
    ),
    Step(
        "Press Ctrl+Shift+E: a picture for the wall, of any size.",
        _begin("Show"),
        _heard("Exported"),
    ),
    Step(
        "Others wait for it. Choose game, film, print or web on the card Files and press Write as…",
        _begin("Deliver"),
        _heard("Exported"),
    ),
    Step(
        "Press Ctrl+S: the creature is yours.",
        _begin("Deliver"),
        lambda w, before: w.studio.project.path is not None and not w.studio.project.unsaved,
    ),
)
"""From a ball of clay through all stages to files."""


def _finer(w: Frame) -> bool:
    """Whether the part in hand has finer levels."""
    part = w.studio.project.active
    return part is not None and part.stack is not None and part.stack.top > 0


class Tour(QObject):
    """Runs through the steps; it may be left at any time.

    Attributes
    ----------
    at : int
        The present step; -1 while there is no tour.
    heard : list of str
        What the window has said since the step began.
    """

    def __init__(self, window: Frame) -> None:
        super().__init__(window)
        self._window = window
        self.at = -1
        self.heard: list[str] = []
        self._steps: tuple[Step, ...] = STEPS
        self._before: object = None
        window.studio.said.connect(self._hear)
        self.card = QFrame(window)
        self.card.setObjectName("notice")
        self.card.setAccessibleName("Tour")
        column = QVBoxLayout(self.card)
        column.setContentsMargins(16, 12, 16, 12)
        self.label = QLabel()
        self.label.setWordWrap(True)
        column.addWidget(self.label)
        row = QHBoxLayout()
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Steps done")
        row.addWidget(self.bar, 1)
        for name, tip, run in (
            ("Skip", "Goes on to the next step", self.next),
            ("End tour", "Ends the tour", self.end),
        ):
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.setToolTip(tip)
            button.clicked.connect(run)
            row.addWidget(button)
        column.addLayout(row)
        self.card.hide()
        self._watch = QTimer(self)
        self._watch.setInterval(150)
        self._watch.timeout.connect(self.look)

    def start(self, steps: tuple[Step, ...] = STEPS) -> None:
        """Begin."""
        self._steps = steps
        self.bar.setRange(0, len(steps))
        self.at = -1
        self._watch.start()
        self.next()

    def next(self) -> None:
        """Tell the next step."""
        self.at += 1
        if self.at >= len(self._steps):
            self.end()
            self._window.studio.say(
                "That was the tour. Every control tells what it does when you rest on it."
            )
            return
        self.heard.clear()
        step = self._steps[self.at]
        self._before = step.begin(self._window)
        self.label.setText(f"{self.at + 1} of {len(self._steps)}   {step.text}")
        self.bar.setValue(self.at)
        window = self._window
        self.card.setFixedWidth(min(460, window.view.width() - 40))
        self.card.adjustSize()
        place = window.view.mapTo(window, window.view.rect().center())
        bottom = window.view.mapTo(window, window.view.rect().bottomLeft()).y()
        self.card.move(place.x() - self.card.width() // 2, bottom - self.card.height() - 24)
        self.card.show()
        self.card.raise_()

    def look(self) -> None:
        """Go on when the step was done and the hand is free."""
        if self.at < 0 or self._window.view.at_work:
            return
        if self._steps[self.at].done(self._window, self._before):
            self.next()

    def _hear(self, text: str, _kind: str = "") -> None:
        if self.at >= 0:
            self.heard.append(text)

    def end(self) -> None:
        """Leave the tour."""
        self.at = -1
        self._watch.stop()
        self.card.hide()
        self._window.studio.preferences.welcomed = True
