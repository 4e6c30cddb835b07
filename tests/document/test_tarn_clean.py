"""*Tarn, made clean*: what ships is what it says it is."""

from __future__ import annotations

import numpy as np
import trimesh
from scipy.spatial import cKDTree

from kneten.core.arrays import Progress
from kneten.core.face_tree import FaceTree
from kneten.core.quads.finish import irregular, quality
from kneten.core.remesh import triangulate
from kneten.core.symmetry import measure_symmetry
from kneten.demo.files import demo_project
from kneten.demo.tarn_clean import head_of, loops
from kneten.document.opening import stack_of


def test_his_head_is_clean_with_loops_and_carries_his_forms() -> None:
    project = demo_project(name="tarn-clean")
    part = next(one for one in project.scene.parts if one.name == "Tarn, clean")
    stack = stack_of(part)
    assert (stack.level, stack.top) == (0, 2)
    faces, points = part.mesh.topology.faces, part.mesh.positions.astype(np.float64)
    found = quality(points, faces)
    assert abs(found.faces / 9000 - 1) < 0.1
    assert found.quads == 1.0
    assert found.irregular < 0.045
    assert found.shape > 0.85
    judge = trimesh.Trimesh(points, triangulate(faces), process=False)
    assert judge.is_watertight
    assert judge.is_winding_consistent
    assert judge.euler_number == 2
    # On the seam, where both sides are alike, hardly a vertex is irregular.
    seam = np.abs(points[:, 0]) < 1e-3
    assert seam.sum() > 100
    assert irregular(points, faces)[seam].mean() < 0.1
    # What he was before lies within half a hundredth of his size of the level above.
    before = head_of(demo_project(name="tarn-forms")).mesh
    _, fine = stack.stepped(part.mesh, 2)
    reach = np.full(before.n_vertices, np.inf, np.float32)
    _, off = FaceTree.of(fine).nearest(before.positions, reach, Progress())
    size = float(np.linalg.norm(np.ptp(before.positions, axis=0)))
    assert off.max() < 0.01 * size
    assert np.quantile(off, 0.999) < 0.002 * size
    assert measure_symmetry(part.mesh.positions, 0, 1e-4 * size).worst < 0.01 * size
    # The loops are guides, too.
    assert len(project.scene.guides) == 6
    assert all(guide.closed for guide in project.scene.guides)


def test_edges_of_his_cage_follow_the_loops() -> None:
    project = demo_project(name="tarn-forms")
    head = head_of(project)
    rings = loops(head.mesh)
    assert len(rings) == 6
    assert all(len(ring) == 64 for ring in rings)
    clean = next(one for one in demo_project(name="tarn-clean").scene.parts if one.name == "Tarn, clean")
    tree = cKDTree(clean.mesh.positions)
    edge = 5.0
    for ring in rings:
        assert float(np.median(tree.query(ring)[0])) < 0.6 * edge
