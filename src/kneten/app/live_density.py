"""Live density in the window: which clay has it, and to what detail size strokes bring the mesh."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel

from kneten.app.fields import NumberField, labelled
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Tool
from kneten.core.live_density import Density
from kneten.core.loose import LooseMesh, loosened
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.document.scene import Part

if TYPE_CHECKING:
    from PySide6.QtWidgets import QVBoxLayout

    from kneten.app.commands import Registry
    from kneten.app.studio import Studio

AT_ONCE = 150_000
"""Vertices up to which clay is loosened at the press: 0.1 s. Larger clay is made ready on another thread."""

STACKED = (
    "{} has levels or layers, which need a mesh that stays: drop the levels below and bake the layers first."
)

FINEST = 220.0
"""Edges to a brush's radius at most: a dab of 160,000 vertices."""

SIZES = {
    "brush": ("Brush", "Edges as long as a share of the brush's radius: a smaller brush is finer", "%", 2, 100),
    "screen": ("Screen", "Edges of so many pixels on the screen: nearer is finer", "px", 2, 60),
    "model": ("Model", "Edges of a length on the model", "mm", 0.02, 200),
}  # fmt: skip
"""How the detail size is told: name, what it means, unit, least and greatest value."""


class LiveDensity:
    """Turns live density on and off, and says what strokes make of the mesh."""

    def __init__(self, studio: Studio) -> None:
        self._studio = studio

    def length(self, pixel: float, radius: float) -> float:
        """The detail size in the scene, where a pixel is `pixel` and the brush's radius is `radius` large."""
        held = self._studio.preferences
        wanted = {
            "brush": held.detail_brush / 100 * radius,
            "screen": held.detail_screen * pixel,
            "model": held.detail_model,
        }[held.detail_by]
        return max(wanted, radius / FINEST)

    def density(self, part: Part, tool: Tool) -> Callable[[float, float], Density] | None:
        """From a pixel's size and the brush's radius in the scene to what a dab makes of the mesh; None for nothing."""
        if not isinstance(part.mesh, LooseMesh):
            return None
        scale = part.transform.scale
        held = self._studio.preferences
        both = tool.density in ("", "grow")
        refine = tool.density == "refine" or (both and held.detail_refine)
        coarsen = tool.density == "coarsen" or (both and held.detail_coarsen)
        if tool.density == "grow":
            refine = True
        if not refine and not coarsen:
            return None
        return lambda pixel, radius: Density(self.length(pixel, radius) / scale, refine, coarsen)

    def ready(self, part: Part, tool: Tool) -> bool:
        """Whether a stroke may begin; clay that is to be loose and is not yet is made so."""
        if isinstance(part.mesh, LooseMesh) or not (part.live_density or tool.density):
            return True
        project = self._studio.project
        if part.stack is not None:
            self._studio.say(STACKED.format(part.name), "warning")
            return False
        turn_on = not part.live_density

        def take(mesh: LooseMesh) -> None:
            now = project.scene.part(part.id)
            if turn_on:
                name = f"Live density on {now.name}"
                project.change(name, project.with_mesh(part.id, mesh, live_density=True))
            else:
                project.exchange(part.id, mesh)

        if part.mesh.n_vertices <= AT_ONCE:
            try:
                take(loosened(part.mesh))
            except MeshError as error:
                self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
                return False
            return True
        mesh = part.mesh.copy()

        def work(progress: Progress) -> LooseMesh:
            progress.report(0.2, "Making room in the mesh")
            made = loosened(mesh)
            self._studio.journal_ahead([made])
            return made

        self._studio.say(f"{part.name} is made ready for live density; draw in a moment.")
        self._studio.work_on([part], "Loosen", work, take)
        return False

    def rest(self, then: Callable[[], None]) -> str:
        """Settle all loose clay; large clay on another thread, and then go on. Returns what to say while that lasts."""
        project = self._studio.project
        loose = [
            part
            for part in project.scene.parts
            if isinstance(part.mesh, LooseMesh) and part.id not in self._studio.locked
        ]
        large = [part for part in loose if part.mesh.count > AT_ONCE]
        if not large:
            project.settle([part.id for part in loose])
            return ""
        part = large[0]
        mesh = part.mesh

        def work(progress: Progress) -> Mesh:
            progress.report(0.2, "Taking the room out of the mesh")
            made = mesh.settled()
            self._studio.journal_ahead([made])
            return made

        def land(made: Mesh) -> None:
            if project.scene.part(part.id).mesh is mesh:
                project.exchange(part.id, made)
            # The part is free once this has landed; the command comes after that.
            QTimer.singleShot(0, self._studio, lambda: self._studio.after(then))

        self._studio.work_on([part], "Settle", work, land)
        return f"{part.name} is brought to rest first, then it goes on."

    def blocked(self) -> str:
        """Why live density cannot be switched."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        return STACKED.format(part.name) if part.stack is not None else self._studio.stroke_blocked(part)

    def switch(self) -> None:
        """Turn live density of the part in hand on or off."""
        project = self._studio.project
        part = project.active
        assert part is not None
        same = [part, *project.scene.linked(part)]
        on = not part.live_density
        verb = "on" if on else "off"
        with project.at_once(f"Live density {verb} for {part.name}"):
            if not on:
                project.settle([part.id])
            now = [replace(project.scene.part(p.id), live_density=on) for p in same]
            project.change("Live density", project.scene.with_part(*now))


class LiveDensityRows:
    """The part of the Density card that is about live density."""

    def __init__(self, studio: Studio, registry: Registry, column: QVBoxLayout) -> None:
        self._studio = studio
        self._showing = False
        held = studio.preferences
        self.on = QCheckBox("Live density")
        self.on.setAccessibleName("Live density of the part in hand")
        self.on.setToolTip(registry.tip(registry.commands["density.live"]))
        self.on.clicked.connect(lambda _: (registry.run("density.live"), self.show()))
        column.addWidget(self.on)
        self.by = QComboBox()
        self.by.setAccessibleName("What the detail size is told in")
        self.by.setToolTip("What the detail size is told in")
        self.by.setMinimumContentsLength(4)
        for key, (name, does, *_) in SIZES.items():
            self.by.addItem(name, key)
            self.by.setItemData(self.by.count() - 1, does, 3)
        self.by.setCurrentIndex(self.by.findData(held.detail_by))
        self.by.activated.connect(lambda _: self._choose(str(self.by.currentData())))
        self.size = NumberField(
            "Detail size", 0.02, 200, decimals=1, tip="How long edges become under the brush"
        )
        self.size.changed.connect(self._size)
        self.size.setMinimumWidth(72)
        column.addWidget(labelled("Detail", self.by, self.size))
        self.refine = QCheckBox("Split long edges")
        self.coarsen = QCheckBox("Join short edges")
        for box, name, tip in (
            (self.refine, "detail_refine", "Strokes add vertices where edges are longer than the detail size"),
            (self.coarsen, "detail_coarsen", "Strokes take vertices away where edges are shorter than the detail size"),
        ):  # fmt: skip
            box.setAccessibleName(box.text())
            box.setToolTip(tip)
            box.setChecked(bool(getattr(held, name)))
            box.toggled.connect(lambda on, name=name: setattr(held, name, on))
            column.addWidget(box)
        self.words = QLabel()
        self.words.setObjectName("quiet")
        self.words.setWordWrap(True)
        column.addWidget(self.words)
        self._choose(held.detail_by)
        studio.scene_changed.connect(self.show)
        self.show()

    def _choose(self, by: str) -> None:
        held = self._studio.preferences
        held.detail_by = by
        _, _, unit, low, high = SIZES[by]
        self._showing = True
        self.size.low, self.size.high = low, high
        self.size.unit = unit if unit == "mm" else ""
        self.size.suffix = "" if unit == "mm" else unit
        self.size.decimals = 2 if unit == "mm" else 0
        self.size.set_value(getattr(held, f"detail_{by}"))
        self._showing = False

    def _size(self, value: float) -> None:
        if not self._showing:
            setattr(self._studio.preferences, f"detail_{self._studio.preferences.detail_by}", value)

    def show(self) -> None:
        """Show the part in hand."""
        part = self._studio.project.active
        self.on.setEnabled(part is not None and part.recipe is None)
        self.on.setChecked(part is not None and part.live_density)
        self.words.setText(
            "Strokes split and join edges; each undoes exactly. Levels and vertex order end with it."
            if part is not None and part.live_density
            else ""
        )
        self.words.setVisible(bool(self.words.text()))
