"""Detail check: what the mesh can hold under the brush, what the press needs, what lower levels lose."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.fields.quantities import count_text
from kneten.core.arrays import Progress
from kneten.core.detail import EDGES, Lost, finest_wave, levels_more, lost_below, under_the_brush
from kneten.core.loose import LooseMesh
from kneten.core.remesh import mean_edge
from kneten.core.stack import Stack
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


@dataclass(frozen=True, eq=False)
class Checked:
    """What was found out about a part's levels, and about which clay: it holds until that is changed."""

    part_id: str
    stack: Stack
    serial: int
    lost: Sequence[Lost]


class Details:
    """Answers whether the clay is fine enough, and what going down would cost."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._checked: Checked | None = None
        self._waves: dict[str, float] = {}
        self._edge: tuple[object, float] = (None, 0.0)
        self.shown = 0
        """Which of the levels below is shown in colours."""

    # -- at hand ----------------------------------------------------------------------------------

    def edge(self, part: Part) -> float:
        """How long the part's edges are in the mean, in the part's own lengths."""
        key = (part.mesh_id, part.mesh.topology.uid)
        if self._edge[0] != key:
            self._edge = (key, mean_edge(part.mesh))
        return self._edge[1]

    def radius(self, part: Part) -> float:
        """The brush's radius where the view looks, in the part's own lengths."""
        settings, view = self._studio.settings(), self._desk.view
        size = settings.size
        if not settings.size_on_model:
            size *= view.camera.pixel_size(np.array(view.camera.target), view.high)
        return size / part.transform.scale

    def brush_words(self, part: Part) -> str:
        """How many vertices lie under the brush."""
        edge, scale = self.edge(part), part.transform.scale
        under = under_the_brush(edge, self.radius(part))
        return f"{count_text(under)} vertices under the brush\nEdges of {edge * scale:.2g} mm"

    def press_words(self, part: Part) -> str:
        """What the press on the tip needs; "" without one."""
        tip = self._studio.settings().tip
        press = self._studio.presses.found(tip.press) if tip.press else None
        if press is None:
            return ""
        if tip.press not in self._waves:
            self._waves[tip.press] = finest_wave(press)
        repeats = tip.repeats if press.tiles else 1.0
        wave = self._waves[tip.press] * 2.0 * self.radius(part) / repeats
        scale = part.transform.scale
        words = f"{self._studio.presses.name_of(tip.press)}: waves of {wave * scale:.2g} mm"
        more = levels_more(self.edge(part), wave)
        if not more:
            return f"{words}\ncome out here."
        level = 0 if part.stack is None else part.stack.level
        count = part.mesh.count * 4**more
        return (
            f"{words}\nneed edges of {wave * scale / EDGES:.2g} mm: level {level + more},\n"
            f"{count_text(count)} vertices; or a larger brush."
        )

    # -- what lower levels lose -------------------------------------------------------------------

    @property
    def checked(self) -> Sequence[Lost]:
        """What was found about the part in hand, as long as its clay is the same."""
        project, held = self._studio.project, self._checked
        part = project.active
        if held is None or part is None or part.id != held.part_id:
            return ()
        return held.lost if part.stack is held.stack and project.serial == held.serial else ()

    def none(self) -> str:
        """Why there is nothing to check, or ""."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if isinstance(part.mesh, LooseMesh):
            return "Clay with live density has no levels."
        if part.stack is None or part.stack.level == 0:
            return "There is no level below the one in hand: subdivide, or take a finer one in hand."
        return ""

    def check(self) -> None:
        """Tell what each level below loses, and colour what the next lower one does; again ends that."""
        view = self._desk.view
        if view.distances:
            view.stop_compare()
            self._desk.fill_card("detail_card")
            return
        part = self._studio.project.active
        assert part is not None
        stack, mesh, serial = part.stack, part.mesh.copy(), self._studio.project.serial
        assert stack is not None

        def work(progress: Progress) -> list[Lost]:
            return lost_below(stack, mesh, progress)

        def land(lost: list[Lost]) -> None:
            self._checked = Checked(part.id, stack, serial, lost)
            self.show(0)

        self._studio.work_on([part], "Check the detail", work, land)

    def show(self, which: int) -> None:
        """Colour the clay by what one of the levels below loses."""
        part, lost = self._studio.project.active, self.checked
        if part is None or not 0 <= which < len(lost):
            return
        self.shown = which
        one, scale = lost[which], part.transform.scale
        # A single deep scar would leave all else grey: what lies beyond twice the usual is as red as that.
        full = max(min(one.most, 2.0 * one.usual), 1e-12)
        shown = (0.5 + 0.5 * np.minimum(one.off / full, 1.0)).astype(np.float32)
        legend = ("Lost, in mm", "", "0", f"{full * scale:.2g} and more")
        self._desk.view.show_distances({part.id: shown}, full * scale, legend)
        self._studio.say(
            f"Level {one.level} ({count_text(one.count)} vertices) loses up to {one.most * scale:.2g} mm, and less than "
            f"{one.usual * scale:.2g} mm on 95 % of the clay. Check again to end the colours."
        )
        self._desk.fill_card("detail_card")
