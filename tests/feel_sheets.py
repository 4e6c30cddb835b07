"""Draws each tool's feel sheet for `docs/tools/`: `python -m tests.feel_sheets [TOOL ...]`.

A sheet shows what a tool does to a ball and to a folded form: three strengths and reversed, slow and fast, on a
coarse and a fine mesh, and below each the section across the stroke, before (thin) and after (bold).
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace
from pathlib import Path

import moderngl
import numpy as np
from PIL import Image, ImageDraw, ImageFont
from scipy.interpolate import CubicSpline

from kneten.core.brushes.tease import narrowed
from kneten.core.brushes.tool import BrushSettings, Dab, Strip, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.live_density import Density
from kneten.core.loose import LooseMesh, loosened
from kneten.core.mesh import Mesh
from kneten.core.paint.trial import trial_colours
from kneten.core.picking import pick
from kneten.core.press import Tip
from kneten.core.presses.library import library
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke
from kneten.core.strokes import stroke_of
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render.still import headless_context, render_still
from kneten.render.style import Style

FOLDER = Path(__file__).parents[1] / "docs" / "tools"
FONT = Path(__file__).parents[1] / "src" / "kneten" / "data" / "fonts" / "Lato-Regular.ttf"
CELL = 150
SECTION = 58
TITLE = 34
LABEL = 18
RADIUS = 11.0
VIEW = np.array([0.0, 0.0, -1.0])
PAPER, INK, THIN = (33, 29, 26), (236, 229, 219), (150, 140, 128)


@dataclass(frozen=True)
class Trial:
    """One picture of a sheet."""

    label: str
    folded: bool = False
    strength: float = 0.6
    fast: bool = False
    coarse: bool = False
    press: str = ""
    way: str = ""


PRESSED = (
    ("dragged", 1.0, "scales-pointed", "dragged"),
    ("spaced", 1.0, "rivet", "spaced"),
    ("strewn", 1.0, "pores-broad", "strewn"),
    ("rolled", 1.0, "rope", "rolled"),
    ("reversed", -1.0, "rope-plait", "rolled"),
    ("deep", 1.0, "deep-barnacle", "spaced"),
)
"""What the sheet of Press shows: name, strength, press, and how it is laid."""


def trials(tool: Tool) -> list[Trial]:
    """What a sheet shows: a row on the ball, a row on folds."""
    if tool.presses:
        return [
            Trial(label, folded, strength, press=press, way=way)
            for folded in (False, True)
            for label, strength, press, way in PRESSED
        ]
    rows = []
    for folded in (False, True):
        rows += [
            Trial("30 %", folded, 0.3),
            Trial("60 %", folded),
            Trial("100 %", folded, 1.0),
            Trial("reversed", folded, -0.6)
            if tool.reversed_name or tool.holds
            else Trial("twice", folded, 0.601),
            Trial("fast", folded, fast=True),
            Trial("coarse", folded, coarse=True),
        ]
    return rows


def form(trial: Trial, tool: Tool) -> Mesh:
    """The ball, or the folds."""
    key = tool.key
    if not trial.folded:
        if key in ("refine", "coarsen"):
            return Mesh.from_faces(*ball(50.0, 12 if trial.coarse else 26))
        mesh = Mesh.from_faces(
            *ball(50.0, 24 if trial.coarse else 180 if trial.press or tool.changes == "paint" else 72)
        )
        if key in ("twist", "bend", "swell"):
            # A ridge to take hold of: a bare ball looks the same turned.
            x, y = mesh.positions[:, [0]], mesh.positions[:, [1]]
            ridge = 15.0 * np.exp(-((x / 5.0) ** 2) - (y / 15.0) ** 2) * (mesh.positions[:, [2]] > 0)
            mesh = mesh.with_positions((mesh.positions + ridge * [0, 0, 1]).astype(np.float32))
        return mesh
    step = (
        2.4
        if trial.coarse
        else 0.35
        if trial.press or tool.changes == "paint"
        else 2.0
        if key in ("refine", "coarsen")
        else 0.8
    )
    at = np.arange(-46, 46 + step, step)
    x, y = np.meshgrid(at, at)
    z = 3.2 * np.sin(x / 6.0) + 2.0 * np.sin(y / 9.0)
    n = len(at)
    i = np.arange(n * n).reshape(n, n)
    quads = np.stack([i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]], -1).reshape(-1, 4)
    return Mesh.from_faces(np.stack([x, y, z], -1).reshape(-1, 3).astype(np.float32), quads.astype(np.int32))


def worked(tool: Tool, trial: Trial) -> tuple[Mesh, np.ndarray]:
    """The form after the stroke, and where its vertices were before."""
    mesh = form(trial, tool)
    if tool.needs_before:
        kept = mesh.positions.copy()
        _stroke(TOOLS["raise"], mesh, Trial("", trial.folded, 1.0), TOOLS["raise"].defaults.spacing)
    if tool.key in ("smooth", "burnish", "flatten", "shave", "span", "slide") and not trial.folded:
        # Something to work on.
        p = mesh.positions
        bump = 1.6 * np.sin(p[:, [0]] / 2.6) * np.sin(p[:, [1]] / 2.6)
        mesh.positions += (bump * mesh.normals).astype(np.float32)
        mesh.refresh_all()
    before = mesh.positions.copy()
    spacing = tool.defaults.spacing
    if tool.density:
        loose = loosened(mesh)
        _change_mesh(tool, loose, trial)
        return loose.settled(), before
    if tool.needs_before:
        _stroke(tool, mesh, trial, spacing, kept)
    else:
        _stroke(tool, mesh, trial, spacing)
        if trial.label == "twice":
            _stroke(tool, mesh, trial, spacing)
    return mesh, before


def _stroke(tool: Tool, mesh: Mesh, trial: Trial, spacing: float, kept: np.ndarray | None = None) -> None:
    settings = replace(tool.defaults, strength=abs(trial.strength))
    if trial.press:
        _lay(tool, mesh, trial, settings)
        return
    if tool.changes == "paint":
        mesh.colour = trial_colours(mesh.positions)
    stroke = stroke_of(mesh, tool, settings, number=3)
    stroke.work.before = kept
    if tool.holds:
        hit = pick(mesh, np.array([0.0, 0.0, 900.0]), VIEW)
        assert hit is not None
        stroke.grab(hit.point, RADIUS * 2.4, VIEW)
        amount = {"turn": 2.2, "scale": 0.8, "bend": -1.1}.get(tool.gesture, 0.0) * trial.strength
        way = np.array([14.0, 10.0, 8.0]) * trial.strength
        for share in (1.0,) if trial.fast else np.linspace(0.1, 1.0, 10):
            stroke.drag(way * share, RADIUS * 2.4, 1.0, amount * share)
        stroke.finish()
        return
    # A fast stroke is sampled by few events; its dabs lie as close, their places between are guessed.
    ends = np.array([[-27.0, -6.0], [-9.0, 5.0], [9.0, -5.0], [27.0, 6.0]])
    count = 4 if trial.fast else 60
    t = np.linspace(0, 3, count)
    way = np.stack([np.interp(t, range(4), ends[:, k]) for k in range(2)], -1)
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(way, axis=0), axis=1))])
    before = None
    for s in np.arange(0, length[-1], RADIUS * spacing):
        x, y = (float(np.interp(s, length, way[:, k])) for k in range(2))
        hit = pick(mesh, np.array([x, y, 900.0]), VIEW)
        if hit is None:
            continue
        along = np.zeros(3) if before is None else hit.point - before
        stroke.dab(Dab(hit.point, along, VIEW, RADIUS, trial.strength, spacing, float(s)))
        before = hit.point
    stroke.finish()


def _lay(tool: Tool, mesh: Mesh, trial: Trial, settings: BrushSettings) -> None:
    """A press along the same line, or once in the middle."""
    whole = trial.press == "rivet"
    held = replace(settings, tip=Tip(trial.press, height=0.28, whole=whole, rolled=trial.way == "rolled"))
    stroke = Stroke(mesh, tool, held, press=library()[trial.press].made())
    up = np.array([0.0, 1.0, 0.0])
    if trial.way == "dragged":
        places, radius = [(0.0, 0.0)], 24.0
    else:
        radius = 6.0 if trial.way == "spaced" else 8.0
        ends = np.array([[-27.0, -6.0], [-9.0, 5.0], [9.0, -5.0], [27.0, 6.0]])
        count = {"spaced": 8, "strewn": 60, "rolled": 70}[trial.way]
        t = np.linspace(0, 3, count)
        # Corners are rounded, as a hand's are.
        line = np.stack([CubicSpline(range(4), ends[:, k])(t) for k in range(2)], -1)
        if trial.way == "strewn":
            line = line + np.random.default_rng(3).uniform(-8, 8, line.shape)
        places = [(float(x), float(y)) for x, y in line]
    hits = [pick(mesh, np.array([x, y, 900.0]), VIEW) for x, y in places]
    points = np.array([hit.point for hit in hits if hit is not None])
    turn = np.random.default_rng(5)
    if trial.way != "rolled":
        for point in points:
            angle = float(turn.uniform(0, 6)) if trial.way == "strewn" else 0.0
            stroke.dab(Dab(point, np.zeros(3), VIEW, radius, trial.strength, 1.0, up=up, turn=angle))
        stroke.finish()
        return
    ways = np.gradient(points, axis=0)
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))]) / radius
    for k in range(1, len(points)):
        j = max(0, k - 9)
        strip = Strip(np.stack([points[j : k + 1], ways[j : k + 1]], 1), far[j : k + 1])
        middle = 0.5 * (points[j] + points[k])
        stroke.dab(Dab(middle, ways[k], VIEW, radius, trial.strength, 0.12, up=up, strip=strip))
    stroke.finish()


def _change_mesh(tool: Tool, mesh: LooseMesh, trial: Trial) -> None:
    """Along the same line: a denser or sparser mesh; or two horns drawn out, the second one thin."""
    strength = abs(trial.strength)
    settings = replace(tool.defaults, strength=strength)
    if tool.density == "grow":
        for x, y, way, size in ((0.0, -8.0, (0.0, -14.0, 20.0), 1.0), (20.0, 14.0, (18.0, 12.0, 12.0), 0.7)):
            stroke = Stroke(mesh, tool, settings)
            hit = pick(mesh, np.array([x, y, 900.0]), VIEW)
            assert hit is not None
            tip, radius = hit.point, RADIUS * 0.7 * size
            for share in np.linspace(0, 1, 12 if trial.fast else 60)[1:]:
                aim = hit.point + np.array(way) * share + np.array([0.0, 8.0, 0.0]) * share * share
                while (far := float(np.linalg.norm(aim - tip))) > radius * 0.125:
                    step = (aim - tip) * radius * 0.125 / far
                    stroke.dab(Dab(tip, step, VIEW, radius, strength, 0.125, detail=Density(radius * 0.22)))
                    tip, radius = tip + step, max(narrowed(radius, radius * 0.125, strength), 1.0)
            stroke.finish()
        return
    finer = tool.density == "refine"
    length = 2.6 * (1 - 0.75 * strength) if finer else 2.6 + 6.0 * strength
    stroke = Stroke(mesh, tool, settings)
    for x in np.arange(-27.0, 27.0, 3.0 if not trial.fast else 9.0):
        hit = pick(mesh, np.array([x, 5.0 * np.sin(x / 7), 900.0]), VIEW)
        assert hit is not None
        detail = Density(length, finer, not finer)
        stroke.dab(Dab(hit.point, VIEW, VIEW, RADIUS, strength, 0.4, detail=detail))
    stroke.finish()


def _column(points: np.ndarray) -> np.ndarray:
    """(k, 2) points near the middle, as they follow each other seen from below."""
    front = (points[:, 2] > -10) & (np.abs(points[:, 1]) < 26) & (np.abs(points[:, 0]) < 0.9)
    near = points[front][:, 1:].astype(float)
    return near[np.argsort(-np.arctan2(near[:, 1] + 30.0, near[:, 0]))]


def section(mesh: Mesh, before: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(k, 2) points across the stroke, before and after."""
    if mesh.n_vertices != len(before):
        return _column(before), _column(mesh.positions)
    front = (before[:, 2] > -10) & (np.abs(before[:, 1]) < 26)
    # One column of the mesh: all others would show as teeth.
    column = before[front, 0][np.argmin(np.abs(before[front, 0]))]
    near = front & (np.abs(before[:, 0] - column) < 0.35)
    order = np.flatnonzero(near)[np.argsort(before[near, 1])]
    return before[order][:, 1:], mesh.positions[order][:, 1:]


def sheet(key: str, context: moderngl.Context | None = None) -> Image.Image:
    """The feel sheet of a tool."""
    tool = TOOLS[key]
    cells = trials(tool)
    columns = len(cells) // 2
    high = TITLE + 2 * (CELL + SECTION + LABEL)
    image = Image.new("RGB", (columns * CELL, high), PAPER)
    draw = ImageDraw.Draw(image)
    title, small = ImageFont.truetype(str(FONT), 17), ImageFont.truetype(str(FONT), 12)
    draw.text((12, 8), f"{tool.name}: {tool.does[0].lower()}{tool.does[1:]}", INK, title)
    look = (
        Look(kind="regions")
        if tool.changes == "regions"
        else Look(wires=tool.density in ("refine", "coarsen"))
    )
    for number, trial in enumerate(cells):
        mesh, before = worked(tool, trial)
        camera = Camera(distance=230.0 if not trial.folded else 215.0, yaw=-14.0, pitch=16.0)
        x, y = number % columns * CELL, TITLE + number // columns * (CELL + SECTION + LABEL)
        scene = Scene((Part("Trial", mesh),))
        image.paste(render_still(scene, camera, CELL, CELL, Style(look=look), ctx=context), (x, y))
        words = trial.label + (" on folds" if trial.folded else "")
        draw.text((x + 8, y + CELL + 1), words, THIN, small)
        old, new = section(mesh, before)
        if len(old) > 2:
            middle = (float(old[:, 1].min()) + float(old[:, 1].max())) / 2
            scale = CELL / 56
            for points, ink, width in ((old, THIN, 1), (new, INK, 2)):
                spots = [
                    (x + CELL / 2 + p[0] * scale, y + CELL + LABEL + SECTION * 0.5 - (p[1] - middle) * scale)
                    for p in points
                ]
                spots = [(a, min(max(b, y + CELL + LABEL), y + CELL + LABEL + SECTION - 2)) for a, b in spots]
                draw.line(spots, ink, width)
    return image


def main(keys: list[str]) -> None:
    """Draw the sheets of these tools; of all when none is named."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    context = headless_context()
    for key in keys or list(TOOLS):
        sheet(key, context).quantize(96).save(FOLDER / f"{key}.png", optimize=True)


if __name__ == "__main__":
    main(sys.argv[1:])
