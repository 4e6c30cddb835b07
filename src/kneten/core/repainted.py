"""Paint on layers for clay that was made anew: each vertex gets that of the nearest place of the old surface, layer by layer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.arrays import Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import BASE, base_material, packed_in, paint_of, seen_values
from kneten.core.paint.packed import Paint, by_cover, from_cover
from kneten.core.stack import Stack


def repainted(stack: Stack | None, mesh: Mesh, made: Mesh, progress: Progress) -> Stack | None:
    """The stack, of one level, of clay made anew from a part's, which gets the colours that it gives.

    Layers without paint are gone: what they did to the form is in the clay.

    Parameters
    ----------
    stack, mesh
        What the part had, and its clay on the level in hand; not changed.
    made : Mesh
        The new clay, in the same space. Its colours and paint are set.

    Returns
    -------
    Stack or None
        None where no layer has paint: the new clay's colours are all there is, as it came.
    """
    if stack is None or stack.tint is None:
        return None
    stack = packed_in(stack, mesh)
    painted = [layer for layer in stack.layers if layer.paint]
    if not painted:
        return None
    progress.report(0.0, "Layers of paint")
    fine = mesh if stack.level == stack.top else stack.stepped(mesh, stack.top)[1]
    at = np.ascontiguousarray(made.positions, np.float32)
    found, _ = FaceTree.of(fine).nearest(at, np.full(len(at), np.inf, np.float32), progress)
    n = fine.n_vertices

    def there(paint: Paint) -> Paint:
        # What covers more counts more for the colour between.
        return Paint.of(from_cover(found.of(by_cover(paint.dense(n))))) if paint else paint

    layers = tuple(
        replace(layer, reliefs=(), grain=None, pose=None, paint=there(layer.paint), mask=there(layer.mask))
        for layer in painted
    )
    base = stack.tint
    assert base is not None
    tint = np.rint(found.of(base)).astype(np.uint8)
    ids, groups = {layer.id for layer in layers}, {layer.group for layer in layers}
    new = replace(
        Stack.of(made),
        tint=tint,
        material=None if stack.material is None else np.rint(found.of(base_material(stack))).astype(np.uint8),
        hand=BASE,
        layers=layers,
        groups=tuple(group for group in stack.groups if group.id in groups),
        solo=stack.solo if stack.solo in ids else "",
        recording=stack.recording if stack.recording in ids else "",
    )
    for name, value in seen_values(new, None, made.value("colour")).items():
        setattr(made, name, value)
    made.paint = paint_of(new, BASE)
    return new
