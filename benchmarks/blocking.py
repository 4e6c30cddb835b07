"""The figures of blocking: exact operations and cuts against manifold3d on the same input, previews."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import manifold3d
import numpy as np

from benchmarks.measure import Figure, median_time, paired
from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.live.bodies import biped_slender
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import forecast, remesh, soup_of, triangulate
from kneten.core.solid import Outline, combine, cut, prism
from kneten.core.transform import Transform
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context
from kneten.render.style import Style


def moved(mesh: Mesh, x: float, y: float, z: float) -> Mesh:
    """The clay elsewhere."""
    return mesh.with_positions(mesh.positions + np.float32([x, y, z]))


def solid_of(mesh: Mesh) -> manifold3d.Manifold:
    """The same clay as manifold3d takes it."""
    triangles = triangulate(mesh.topology.faces).astype(np.uint32)
    return manifold3d.Manifold(manifold3d.Mesh(mesh.positions, triangles))


def boolean() -> Iterator[Figure]:
    """Subtracting a part of 500,000 triangles from another."""
    one = Mesh.from_faces(*ball(100.0, 204))
    other = moved(Mesh.from_faces(*ball(100.0, 204)), 60.0, 13.0, 7.0)

    def ours(i: int) -> None:
        combine("subtract", [one, other], Progress())

    def theirs(i: int) -> None:
        found = (solid_of(one) - solid_of(other)).to_mesh()
        assert len(found.tri_verts)

    a, b = paired(ours, theirs, 5)
    note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms, {one.topology.n_triangles:,} triangles each"
    yield Figure("subtract / manifold3d alone", a / b, 1.3, "ratio", True, note)


def cutting() -> Iterator[Figure]:
    """A lasso cut of 1,000,000 triangles."""
    clay = Mesh.from_faces(*ball(100.0, 290))
    t = np.linspace(0, 2 * np.pi, 160, endpoint=False)
    flat = np.stack([40 + 30 * np.cos(t), 20 + 30 * np.sin(t)], -1)
    near, far = (np.concatenate([flat, np.full((160, 1), z)], 1) for z in (200.0, -200.0))
    tool = prism(Outline(near, far), 1.0)

    def ours(i: int) -> None:
        cut(clay, [tool], False, None, Progress())

    def theirs(i: int) -> None:
        found = (solid_of(clay) - solid_of(tool)).to_mesh()
        assert len(found.tri_verts)

    a, b = paired(ours, theirs, 3)
    note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms, {clay.topology.n_triangles:,} triangles"
    yield Figure("lasso cut / manifold3d alone", a / b, 2.0, "ratio", True, note)


def fusing() -> Iterator[Figure]:
    """Ten balls fused into 1,000,000 vertices, beside manifold3d's exact union of balls as dense."""
    balls = [moved(Mesh.from_faces(*ball(50.0, 130)), 45.0 * k, 20.0 * np.sin(k), 9.0 * k) for k in range(10)]
    soup = soup_of(balls)
    # What lies inside of other balls goes: twice the count wanted is asked for.
    edge = forecast(soup.positions, soup.triangles, vertices=1_920_000).edge
    made = []

    def ours(i: int) -> None:
        made.append(remesh(soup, edge, Progress()).n_vertices)

    def theirs(i: int) -> None:
        union = manifold3d.Manifold.batch_boolean([solid_of(b) for b in balls], manifold3d.OpType.Add)
        assert union.num_tri()

    a, b = paired(ours, theirs, 2)
    note = f"{a * 1e3:.0f} ms for {made[-1]:,} vertices / {b * 1e3:.0f} ms for {soup.triangles.shape[0]:,} triangles"
    yield Figure("fuse ten balls / exact union", a / b, 4.0, "ratio", True, note)


def previews() -> Iterator[Figure]:
    """Pictures a second while a ball of an armature is dragged beside sixty other parts."""
    parts = []
    rng = np.random.default_rng(1)
    for k in range(60):
        mesh = Primitive("sphere", (24.0, 24.0, 24.0), (24, 24, 24)).made().mesh()
        x, y, z = (float(v) for v in rng.uniform(-120, 120, 3))
        parts.append(Part(f"Part {k}", mesh, transform=Transform((x, y, z))))
    # While a hand drags, the skin is shown as coarse as a thirtieth of a second allows.
    armature = replace(biped_slender(), edge=2.5)
    body = Part("Body", armature.made().mesh(), recipe=armature)
    context = headless_context()
    renderer = Renderer(context)
    # The viewport of a window of 1280x800.
    renderer.resize(912, 640)
    key = next(j.key for j in armature.joints if j.name == "elbow left")
    renderer.draw(Scene((*parts, body)), Camera(distance=700.0), Style(), moving=True)

    def frame(i: int) -> None:
        bent = armature.moved(key, (30.0 + 0.3 * i, 104.0, -4.0), True)
        shown = replace(body, mesh=bent.made(rough=True).mesh(), mesh_id=new_id())
        renderer.draw(Scene((*parts, shown)), Camera(distance=700.0), Style(), moving=True)
        context.finish()

    once = median_time(frame, 20)
    renderer.release()
    renderer.shelf.release()
    context.release()
    note = f"{once * 1e3:.0f} ms a picture, skin and drawing, {body.mesh.n_vertices:,} vertices of skin"
    yield Figure("armature preview beside 60 parts", 1 / once, 15, "pictures/s", False, note)
