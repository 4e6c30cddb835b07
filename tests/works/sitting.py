"""A window and a pair of hands: commands, strokes over the clay, cards; and the judge of what comes out."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QApplication

from kneten.app.fields.fields import NumberField
from kneten.app.shell.window import Window
from kneten.app.work.preferences import Preferences
from kneten.core.crossings import crossing
from kneten.core.mesh import Mesh
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import NONE, drag, pixel, settle
from tests.judge import drawn_out, judged


class UnacceptableError(AssertionError):
    """What came out is not what an artist would take."""


class Sitting:
    """One piece of work at the window.

    Attributes
    ----------
    pictures : Path or None
        Where pictures of the steps go.
    """

    def __init__(self, name: str, pictures: Path | None) -> None:
        self.name, self.pictures = name, pictures
        self.window = Window(Preferences(still=True, welcomed=True, effects=3))
        self.window.studio.ready = True
        self.window.studio.ask_unsaved = lambda: "discard"
        self.window.resize(1280, 800)
        self.window.show()
        self.window.studio.take(Project(Scene(())))
        settle(self.window)
        self._began = time.monotonic()

    @property
    def project(self) -> Project:
        return self.window.studio.project

    @property
    def part(self) -> Part:
        """The part in hand."""
        part = self.project.active
        assert part is not None
        return part

    def run(self, *keys: str) -> None:
        """Run commands, each to its end."""
        for key in keys:
            self.window.registry.run(key)
            self.rest()

    def rest(self) -> None:
        """Until all work has landed and the picture is whole."""
        self.window.studio.wait(240)
        settle(self.window)

    def said(self) -> str:
        notices = self.window.notices.notices
        return notices[-1].text if notices else ""

    def answer(self, words: str) -> None:
        """Press the button of the last notice that says so."""
        notice = self.window.notices.notices[-1]
        buttons = [one for one in notice.findChildren(QAbstractButton) if one.text() == words]
        if len(buttons) != 1:
            raise UnacceptableError(f"{notice.text}: there is no {words}")
        buttons[0].click()
        self.window.studio.wait(120)
        settle(self.window)

    def look(self, way: str, perspective: bool = False) -> None:
        """Look straight at all there is from a side."""
        self.run(f"view.{way}")
        if self.window.view.camera.orthographic == perspective:
            self.run("view.lens")
        self.window.views.frame_all()
        settle(self.window)

    def at(self, *place: float) -> tuple[float, float]:
        """Where a place of the scene is in the view."""
        return pixel(self.window, np.array(place))

    def tool(self, key: str, size: float, strength: float, **held: object) -> None:
        """Take a tool with its size in millimetres."""
        self.run(f"tool.{key}")
        self.window.studio.set_brush(size=size, strength=strength, size_on_model=True, **held)

    def press(self, key: str, size: float, strength: float = 1.0, **held: object) -> None:
        """Take a press on the tip of the tool that presses, and wait until it is drawn."""
        self.tool("press", size, strength, **{"kind": "continuous", **held})
        self.window.presses.choose(key)
        until = time.monotonic() + 60
        while time.monotonic() < until:
            self.rest()
            if self.window.studio.presses.found(key) is not None:
                return
        raise UnacceptableError(f"{key} is not to be had")

    def stroke(self, places: Iterable[tuple[float, ...]], keys: Qt.KeyboardModifier = NONE) -> None:
        """A stroke over places of the scene, as they are seen."""
        drag(self.window, [self.at(*place) for place in places], keys=keys)
        settle(self.window)

    def drag(self, points: list[tuple[float, float]], keys: Qt.KeyboardModifier = NONE) -> None:
        """A drag over pixels."""
        drag(self.window, points, keys=keys)
        settle(self.window)

    def click(self, at: tuple[float, float]) -> None:
        """A click at a pixel."""
        drag(self.window, [at, at])
        settle(self.window)

    def number(self, name: str, value: float, card: str = "") -> None:
        """Type a number into the field that is called so, of a card if need be."""
        within = self.window.cards[card] if card else self.window
        if not card:
            # A card is made when it is first asked for.
            for title in self.window.cards:
                self.window.cards[title]
        fields = [one for one in within.findChildren(NumberField) if one.accessibleName() == name]
        if len(fields) != 1:
            raise UnacceptableError(f"{len(fields)} fields are called {name}")
        fields[0].setText(str(value))
        fields[0].editingFinished.emit()
        self.window.studio.wait(120)
        settle(self.window)

    def colour(self, *colour: int) -> None:
        """Take a colour in hand, sRGB."""
        self.window.colours.take(tuple(colour))

    def spot(self, *place: float) -> int:
        """The vertex of the part in hand that is nearest to a place of the scene."""
        part = self.part
        at = part.transform.to_part(np.array([place], float))[0]
        return int(np.argmin(((part.mesh.positions - at) ** 2).sum(axis=1)))

    def seen_colour(self, *place: float) -> np.ndarray:
        """The colour (3,) of the clay of the part in hand at a place of the scene."""
        mesh = self.part.mesh
        if mesh.colour is None:
            raise UnacceptableError(f"{self.part.name} has no colour")
        return mesh.colour[self.spot(*place), :3].astype(int)

    def front(self, x: float, y: float) -> tuple[float, float, float]:
        """The place of the part in hand that is seen first from before, near a line straight to it."""
        part = self.part
        places = part.transform.to_scene(part.mesh.positions.astype(np.float64))
        off = np.linalg.norm(places[:, :2] - (x, y), axis=1)
        near = places[off <= np.partition(off, 60)[60]]
        best = near[np.argmax(near[:, 2])]
        return float(best[0]), float(best[1]), float(best[2])

    def reopen(self) -> None:
        """Save the project, leave it, open it again: everything must be as it was."""
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / f"{self.name}.kneten"
            before = [(part.name, part.mesh.n_vertices) for part in self.project.scene.parts]
            self.window.studio.save_path(path)
            self.window.studio.wait(120)
            self.window.studio.take(Project(Scene(())))
            self.window.studio.open_path(path)
            self.window.studio.wait(120)
            settle(self.window)
            after = [(part.name, part.mesh.n_vertices) for part in self.project.scene.parts]
        if before != after:
            raise UnacceptableError(f"{before} came back as {after}")

    def picture(self, step: str) -> None:
        """Keep a picture of the window."""
        if self.pictures is not None:
            self.pictures.mkdir(parents=True, exist_ok=True)
            settle(self.window)
            self.window.grab().save(str(self.pictures / f"{self.name}-{step}.png"))

    def mended(self) -> None:
        """Have the part in hand looked over, and what is wrong with it repaired."""
        self.run("health.examine")
        if crossing(self.part.mesh).any():
            print(f"  {self.said()}")
            self.run("health.repair-all")

    def judge(self, part: Part, drawn: float = 10.0, pieces: int = 1) -> None:
        """Closed, of so many pieces, without crossings, its faces not drawn out. Raises `UnacceptableError`."""
        mesh: Mesh = part.mesh
        solid = judged(mesh)
        worst = float(np.percentile(drawn_out(mesh), 99))
        crossed = int(crossing(mesh).sum())
        found = len(solid.split(only_watertight=False))
        print(
            f"  {part.name}: {mesh.n_vertices:,} vertices, {found} pieces, closed {solid.is_watertight}, {crossed} crossings, "
            f"99 % of the faces below {worst:.1f}"
        )
        if not solid.is_watertight or crossed or worst > drawn or found != pieces or solid.volume <= 0:
            raise UnacceptableError(f"{part.name} is not sound")

    def end(self) -> None:
        """Close the window, and say how long it took."""
        if self.window.studio.mishaps:
            raise UnacceptableError(f"something went wrong: {self.window.studio.mishaps}")
        print(f"  {time.monotonic() - self._began:.0f} s, {len(self.project.history.names()[0])} steps")
        self.project.unsaved = False
        self.window.close()
        self.window.deleteLater()
        QApplication.processEvents()
