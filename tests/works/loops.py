"""The loops of a head, drawn on the sculpt: lids, mouth, nose fold, joined by rows and patches, mirrored, and made a base.

Kneten's own rather than one of the pieces of work that are asked for: it says how many moves the loops of a head take.
"""

from __future__ import annotations

import time

import numpy as np

from kneten.core.mesh import Mesh
from kneten.core.net.drawing import Ground, open_rims
from kneten.core.uv.islands import Edges
from kneten.demo.tarn import EYE, EYE_RADIUS
from tests.works.sitting import Sitting, UnacceptableError

MOUTH = (-40.0, 30.0, 8.0)
"""Of Tarn's head: how high its mouth lies, half its width, and how far up and down its first loop goes, in millimetres."""


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    window.files.open_demo("tarn-forms")
    sitting.rest()
    project = sitting.project
    head = max(project.scene.parts, key=lambda part: part.mesh.n_vertices)
    at, wide = np.array(EYE), 2 * EYE_RADIUS
    # The net is to lie on the head alone.
    project.choose_all([part.id for part in project.scene.parts if part.id != head.id])
    sitting.run("parts.hide")
    project.choose(head.id)
    window.choose_stage("Net")
    sitting.look("front")
    clay = head.mesh
    places = head.transform.to_scene(clay.positions.astype(np.float64))
    began = time.monotonic()
    moves = 0

    def front(x: float, y: float) -> tuple[float, float, float]:
        off = np.linalg.norm(places[:, :2] - (x, y), axis=1)
        near = places[off <= np.partition(off, 20)[20]]
        best = near[np.argmax(near[:, 2])]
        return float(best[0]), float(best[1]), float(best[2])

    def loop(x: float, y: float, across: float, up: float) -> None:
        nonlocal moves
        turn = np.linspace(0, 2 * np.pi, 28)
        sitting.stroke([front(x + across * np.cos(a), y + up * np.sin(a)) for a in turn])
        moves += 1

    side = abs(float(at[0]))
    sitting.run("net.strip")
    step = 0.22 * wide
    sitting.number("Width of strips", step, "Net")
    # A loop around each eye, and one around the mouth.
    loop(side, float(at[1]), 0.6 * wide, 0.5 * wide)
    loop(0.0, *MOUTH)
    # The fold from the nose to beside the mouth.
    down = np.linspace(0, 1, 12)
    sitting.stroke([front(36 + 26 * t, 8 - 50 * t) for t in down])
    moves += 1
    net = sitting.part
    if not net.net:
        raise UnacceptableError(f"there is no net: {sitting.said()}")
    window.view.take_mode(None)
    mesh: Mesh = net.mesh
    print(
        f"  {mesh.topology.n_faces} quads of {moves} strokes in {time.monotonic() - began:.0f} s, {len(open_rims(mesh))} open rims"
    )
    if (mesh.topology.faces[:, 3] < 0).any():
        raise UnacceptableError("the strips are not all quads")
    # Both sides are alike.
    x = mesh.positions[:, 0]
    if abs(int((x > 0.1).sum()) - int((x < -0.1).sum())) > 0.05 * len(x):
        raise UnacceptableError("the sides are not alike")
    # Rows grow in and out of all rims, on the clay, and are drawn even.
    window.net_card.laid.setChecked(True)
    sitting.run("net.model")
    sitting.number("Distance", step, "Net")
    window.modelling.take_kind("vertices")
    sitting.run("net.choose-all", "net.grow", "net.choose-all", "net.relax", "net.snap")
    print(
        f"  {sitting.part.mesh.topology.n_faces} quads with rows, {len(open_rims(sitting.part.mesh))} open rims"
    )
    if len(open_rims(sitting.part.mesh)) > 8:
        raise UnacceptableError("the rows do not hang together")
    ground = Ground([clay])
    laid, _ = ground.laid(sitting.part.mesh.positions)
    off = np.linalg.norm(laid - sitting.part.mesh.positions, axis=1)
    print(f"  on the clay within {off.max():.3f} mm")
    if off.max() > 0.05:
        raise UnacceptableError("the net does not lie on the clay")
    # A patch closes each eye's opening.
    mesh = sitting.part.mesh
    rims = sorted(
        open_rims(mesh), key=lambda way: np.linalg.norm(mesh.positions[way].mean(axis=0)[:2] - (side, at[1]))
    )
    inner = min(rims[:2], key=len)
    edges = Edges.of(mesh.topology)
    chosen = np.zeros(mesh.n_vertices, bool)
    chosen[inner] = True
    window.modelling.take_kind("vertices")
    window.modelling.choose(mesh, chosen)
    print(f"  {window.modelling.words()} ({len(edges.ends)} edges)")
    before = mesh.topology.n_faces
    sitting.run("net.fill")
    if sitting.part.mesh.topology.n_faces <= before:
        raise UnacceptableError(f"no patch was made: {sitting.said()}")
    sitting.picture("loops")
    sitting.run("net.finish")
    print(f"  {sitting.said()}")
    if sitting.part.stack is None or sitting.part.stack.top < 1:
        raise UnacceptableError("the net is no base")
    sitting.reopen()
