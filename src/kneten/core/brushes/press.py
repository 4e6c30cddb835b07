"""Press: lays the press on its tip into the clay; reversed it sinks what stands out."""

from __future__ import annotations

from kneten.core.arrays import F64, in_parts
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.press import Press, Tip
from kneten.core.pressing import PRESS_PART, SEAM, frame_of, shares_of, stamp, stamp_deep, strip
from kneten.core.reach import Reach
from kneten.core.workspace import Workspace

FRONT = 0.6
"""Radii over which what is unrolled begins, and fades where it has got to: else it would end in a wall, dab by dab."""


def height_of(work: Workspace, dab: Dab) -> float:
    """How high a dab's highest is, in the part's lengths."""
    tip = work.tip
    return dab.strength * (tip.height * work.unit if tip.height_mm else tip.height * dab.radius)


def length_of(press: Press, tip: Tip) -> float:
    """How long one picture is when it is unrolled, in radii."""
    whole = 2.0 * press.aspect
    return whole / tip.repeats if press.tiles else whole * (1.0 - SEAM)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Ask for the heights of the press on the tip."""
    press, tip, lean = work.press, work.tip, work.lean
    if press is None or lean is None or work.found is None or len(reach.vertices) == 0:
        return
    frame = frame_of(work.origin, work.found, reach, dab, tip)
    if frame is None:
        return
    if press.aside is not None:
        _deep(work, reach, dab, frame)
        return
    repeats = tip.repeats if press.tiles else 1.0
    # Vertices are so many of the picture's pixels apart.
    edge = dab.radius * (3.14 / len(reach.vertices)) ** 0.5
    picture = press.level(edge * repeats * max(press.heights.shape) / (2.0 * dab.radius))
    amount = height_of(work, dab)
    if dab.strip is not None:
        assert work.trace is not None
        length, hand = length_of(press, tip), -1.0 if dab.flipped else 1.0
        held, trace = dab.strip, work.trace
        in_parts(
            len(reach.places),
            lambda a, b: strip(
                work.origin, reach.places[a:b], reach.weights[a:b], held.way, held.travel, frame, hand, dab.radius,
                picture, length, press.tiles, repeats, work.falloff, work.fade, FRONT, amount,
                work.push, work.push_weight, lean, trace,
            ),
            PRESS_PART,
        )  # fmt: skip
        return
    wide, tall = shares_of(press, tip)
    in_parts(
        len(reach.places),
        lambda a, b: stamp(
            work.origin, reach.places[a:b], reach.weights[a:b], frame, dab.radius, picture, wide, tall, press.tiles,
            tip.whole, work.falloff, amount, work.push, work.push_weight, lean,
        ),
        PRESS_PART,
    )  # fmt: skip


def _deep(work: Workspace, reach: Reach, dab: Dab, frame: F64) -> None:
    """Ask for the moves of a deep press."""
    press, tip, lean = work.press, work.tip, work.lean
    assert press is not None
    assert lean is not None
    wide, tall = shares_of(press, tip)
    edge = dab.radius * (3.14 / len(reach.vertices)) ** 0.5
    moves = press.moves(edge * max(press.heights.shape) / (2.0 * dab.radius))
    in_parts(
        len(reach.places),
        lambda a, b: stamp_deep(
            work.origin, reach.places[a:b], reach.weights[a:b], frame, dab.radius, moves, wide, tall, tip.whole,
            work.falloff, height_of(work, dab), work.push_weight, lean,
        ),
        PRESS_PART,
    )  # fmt: skip


TOOL = Tool(
    key="press",
    name="Press",
    does="Lays the press on its tip into the clay: pores, scales, weave, letters",
    displace=displace,
    needs=400,
    presses=True,
    defaults=BrushSettings(
        size=70, strength=1.0, falloff=PRESETS["flat"], spacing=0.12, kind="dragged", pressure_strength=True,
        tip=Tip(press="pores-fine"),
    ),
    reversed_name="presses in what stands out",
)  # fmt: skip
