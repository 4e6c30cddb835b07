"""Detail check in the window: what the brush and the press need, what the levels below lose."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtWidgets import QApplication

from kneten.app.shell.window import Window
from kneten.core.arrays import Progress
from kneten.document.layering import exchange_level
from kneten.document.opening import stack_of
from kneten.document.scene import Part
from tests.app.windows import run, said, settle


def part_of(window: Window) -> Part:
    part = window.studio.project.active
    assert part is not None
    return part


@pytest.fixture
def card(window: Window) -> Window:
    """The window with the card at hand."""
    window.side.bring("Detail")
    window.detail_card.head.setChecked(True)
    QApplication.processEvents()
    assert window.detail_card.isVisible()
    return window


def shown(window: Window) -> list[str]:
    return [row.text() for row in window.detail_card.rows if row.isVisible()]


def test_vertices_under_the_brush_follow_size_view_and_mesh(card: Window) -> None:
    def count() -> int:
        return int("".join(c for c in card.detail_card.brush.text().splitlines()[0] if c.isdigit()))

    before = count()
    card.studio.set_brush(size=2 * card.studio.settings().size)
    QApplication.processEvents()
    assert count() == pytest.approx(4 * before, rel=0.05)
    run(card, "density.subdivide")
    assert count() == pytest.approx(16 * before, rel=0.05)


def test_a_press_says_which_level_it_needs(card: Window) -> None:
    assert not card.detail_card.press.isVisible()
    run(card, "tool.press")
    card.studio.presses.made("pores-fine")
    card.presses.choose("pores-fine")
    settle(card)
    words = card.detail_card.press.text()
    assert "Fine pores" in words
    assert "level" in words
    assert "vertices" in words


def test_what_lower_levels_lose_is_told_and_coloured(card: Window) -> None:
    assert "no level below" in card.registry.commands["detail.check"].blocked()
    project = card.studio.project
    for _ in range(2):
        part = part_of(card)
        exchange_level(project, part.id, *stack_of(part).added(part.mesh, Progress()), "Subdivide")
    part = part_of(card)
    rough = (
        part.mesh.positions
        + part.mesh.normals * np.where(np.arange(part.mesh.n_vertices) % 2, 0.5, 0)[:, None]
    )
    project.move_vertices(part.id, rough.astype(np.float32), "Roughen")
    settle(card)
    assert shown(card) == []
    run(card, "detail.check")
    assert len(shown(card)) == 2
    assert shown(card)[0].startswith("Level 1,")
    assert "Level 1" in said(card)
    assert part.id in card.view.distances
    # One deep place does not hide what is usual: that is coloured half as far as the most.
    assert float(np.percentile(card.view.distances[part.id], 95)) >= 0.74
    first = card.view.distances[part.id].copy()
    card.detail_card.rows[1].click()
    settle(card)
    assert not np.array_equal(card.view.distances[part.id], first)
    assert [row.isChecked() for row in card.detail_card.rows[:2]] == [False, True]
    run(card, "detail.check")
    assert not card.view.distances
    # What was found is of that clay alone.
    again = part_of(card).mesh.positions + np.float32(0.1)
    project.move_vertices(part.id, again.astype(np.float32), "Shift")
    settle(card)
    assert shown(card) == []
    assert "Not looked at" in card.detail_card.state.text()
