"""What is drawn over the lit clay: forms that are only outlined, and the mesh's edges."""

from __future__ import annotations

import moderngl
import numpy as np

from kneten.core.arrays import F64
from kneten.document.scene import Part
from kneten.render.frame import Frame
from kneten.render.parts import DrawnMesh, Shelf
from kneten.render.programs import Programs, put
from kneten.render.rects import Rect

WIRE_FADE = (2.0, 7.0)
"""Pixels that an edge is long on the screen from which on it is seen, and from which on it is fully there."""


def blend(ctx: moderngl.Context) -> None:
    """Lay colours over those that are there, by their alpha."""
    ctx.blend_func = (  # type: ignore[assignment]
        moderngl.SRC_ALPHA,
        moderngl.ONE_MINUS_SRC_ALPHA,
        moderngl.ONE,
        moderngl.ONE_MINUS_SRC_ALPHA,
    )


def draw_ghosts(programs: Programs, shelf: Shelf, parts: list[Part], frame: Frame, moving: bool) -> None:
    """Draw the outlines of parts to the framebuffer in use."""
    program = programs.mesh("ghost")
    programs.ctx.enable_only(moderngl.BLEND)
    blend(programs.ctx)
    for part in parts:
        frame.place(program, part)
        held = part.id == frame.style.active
        ground = frame.style.behind
        ink = ground.accent if held or frame.style.look.xray else ground.line
        put(program, ink=ink, strength=0.85 if held else 0.55)
        drawn = shelf[part]
        if moving and drawn.is_large:
            drawn.array(program, "stand-in").render()
            continue
        # As it was sent: loose clay may have grown since.
        drawn.array(program).render(vertices=3 * drawn.n_triangles)


def draw_wires(
    programs: Programs, shelf: Shelf, parts: list[Part], rect: Rect, frame: Frame, scale: float
) -> None:
    """Draw the edges of parts to the framebuffer in use; `scale` is how many pixels make one of an ordinary screen."""
    program = programs.mesh("wire")
    programs.ctx.enable_only(moderngl.DEPTH_TEST | moderngl.BLEND)
    blend(programs.ctx)
    width, height = frame.window.size
    for part in parts:
        drawn = shelf[part]
        drawn.need_edges()
        frame.place(program, part)
        array = drawn.array(program, "edges")
        half = (width / 2 / scale, height / 2 / scale)
        put(program, ink=(0.05, 0.06, 0.055, 0.55), half_size=half, fade=WIRE_FADE)
        apart = _edges_apart(part, drawn, frame, scale)
        for run_first, run_last in frame.seen(part, drawn, rect).tolist():
            # Patches whose edges are all too close are not even begun with.
            seen = np.flatnonzero(apart[run_first:run_last] > WIRE_FADE[0] / 2)
            for group in np.split(seen, np.flatnonzero(np.diff(seen) > 1) + 1):
                if len(group):
                    ends = [run_first + int(group[0]), run_first + int(group[-1]) + 1]
                    first, last = drawn.edge_starts[ends].tolist()
                    array.render(moderngl.LINES, vertices=2 * (last - first), first=2 * first)


def _edges_apart(part: Part, drawn: DrawnMesh, frame: Frame, scale: float) -> F64:
    """Pixels that each patch's edges are long on average, at scale 1, seen from the front."""
    count = len(drawn.edge_lengths)
    boxes = part.mesh.boxes[:count]
    middles = part.transform.to_scene((boxes[:, :3] + boxes[:, 3:]).astype(np.float64) / 2)
    camera = frame.camera
    depth = np.full(count, camera.distance)
    if not camera.orthographic:
        depth = np.maximum((camera.eye() - middles) @ camera.axes()[2], 1e-6)
    pixel = 2 * depth * np.tan(np.radians(camera.angle) / 2) / (frame.window.whole[1] / scale)
    return np.asarray(drawn.edge_lengths * part.transform.scale / pixel)
