"""One into another: what is told of the clay, and what becomes of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.paint.into import SOURCES, TARGETS, Into, told
from kneten.core.values import CLAY, PLAIN
from kneten.document.becoming import become
from kneten.document.layering import add_layer, record
from kneten.document.painting import set_ink
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball


def project_of() -> Project:
    """A ball with a colour, a mask and a layer with a bump, a dent, and paint."""
    project = Project(Scene((Part("Ball", make_ball(50.0, 24)),)))
    project.change_settings(symmetry=(False, False, False))
    mesh = the(project).mesh
    grey = np.rint(127 + 2.5 * mesh.positions[:, 1]).astype(np.uint8)
    project.set_values(
        the(project).id, "colour", np.stack([grey, grey, grey, np.full_like(grey, 255)], 1), "Grey"
    )
    add_layer(project, the(project), "Bumps")
    for key, x, sign in (("raise", 20.0, 1.0), ("raise", -20.0, -1.0), ("paint", 0.0, 1.0)):
        made = project.begin_stroke(the(project).id, TOOLS[key], TOOLS[key].defaults)
        at = np.array([x, 0, np.sqrt(2500 - x * x)])
        for _ in range(4):
            made.dab(Dab(at, np.zeros(3), np.array([0.0, 0, -1]), 9.0, 0.8 * sign, 0.3))
        project.end_stroke(the(project).id, made, key)
    mask = np.clip(mesh.positions[:, 0] / 50, 0, 1).astype(np.float32)
    project.set_values(the(project).id, "mask", mask, "Mask")
    return project


def the(project: Project) -> Part:
    return project.scene.parts[0]


@pytest.mark.parametrize("source", list(SOURCES))
def test_everything_is_told_from_0_to_1(source: str) -> None:
    part = the(project_of())
    numbers = told(Into(source), part.mesh, part.stack)
    assert numbers.shape == (part.mesh.n_vertices,)
    assert numbers.min() >= 0
    assert numbers.max() <= 1
    x = part.mesh.positions[:, 0]
    if source == "raised":
        assert numbers.max() == 1
        assert (np.abs(x[numbers > 0.2] - 20) < 12).all()
    if source == "sunk":
        assert (np.abs(x[numbers > 0.2] + 20) < 12).all()
    if source == "cover":
        assert np.abs(x[numbers > 0.2]).max() < 12
    other = told(Into(source, inverted=True), part.mesh, part.stack)
    assert np.allclose(numbers + other, 1, atol=1e-3)
    curved = told(Into(source, curve=((0, 0), (0.5, 0), (0.6, 1), (1, 1))), part.mesh, part.stack)
    assert (curved[numbers < 0.4] < 0.02).all()


@pytest.mark.parametrize("target", list(TARGETS))
def test_it_becomes_each_thing_in_one_step(target: str) -> None:
    project = project_of()
    before = {name: the(project).mesh.value(name).copy() for name in ("colour", "material", "mask")}
    positions = the(project).mesh.positions.copy()
    set_ink(project, colour=(200, 30, 30))
    amount = told(Into("mask"), the(project).mesh, the(project).stack)
    steps = len(project.history.names()[0])
    assert become(project, the(project), Into("mask", target, inverted=target == "mask", height=2.0))
    assert len(project.history.names()[0]) == steps + 1
    mesh = the(project).mesh
    if target == "mask":
        assert np.allclose(mesh.value("mask"), 1 - before["mask"], atol=1e-3)
    elif target == "height":
        off = np.linalg.norm(mesh.positions - positions, axis=1)
        assert np.allclose(off, 2.0 * amount, atol=2e-2)
    elif target == "colour":
        assert np.abs(mesh.value("colour")[amount > 0.99, :3].astype(int) - (200, 30, 30)).max(initial=0) <= 4
        assert np.array_equal(mesh.value("colour")[amount == 0], before["colour"][amount == 0])
    elif target == "opacity":
        assert np.abs(mesh.value("colour")[:, 3] / 255 - amount).max() < 0.01
        assert np.array_equal(mesh.value("colour")[:, :3], before["colour"][:, :3])
    else:
        at = ("roughness", "metalness", "subsurface", "wet").index(target)
        assert np.abs(mesh.value("material")[:, at] / 255 - amount).max() < 0.01
        rest = np.delete(mesh.value("material"), at, axis=1).astype(int)
        assert np.abs(rest - np.delete(np.array(PLAIN), at)).max() <= 1
    project.undo()
    for name, value in before.items():
        assert np.array_equal(the(project).mesh.value(name), value)
    assert np.array_equal(the(project).mesh.positions, positions)


def test_what_is_masked_stays_unless_the_mask_is_what_becomes_another() -> None:
    project = project_of()
    free = the(project).mesh.mask == 0
    assert become(project, the(project), Into("lightness", "wet"))
    wet = the(project).mesh.value("material")[:, 3]
    assert wet[free].max() > 100
    assert wet[the(project).mesh.mask > 0.97].max(initial=0) < 12


def test_what_is_missing_is_told() -> None:
    project = Project(Scene((Part("Ball", make_ball(50.0, 12)),)))
    for source, words in (
        ("mask", "Nothing is masked"),
        ("raised", "No layer is recorded"),
        ("cover", "No layer"),
    ):
        with pytest.raises(ValueError, match=words):
            become(project, the(project), Into(source))
    add_layer(project, the(project), "Empty")
    for source, words in (("raised", "moves no clay"), ("sunk", "moves no clay"), ("cover", "has no paint")):
        with pytest.raises(ValueError, match=words):
            become(project, the(project), Into(source))
    record(project, the(project), "")
    assert not become(project, the(project), Into("metalness", "colour"))
    assert the(project).mesh.value("colour")[0, :3].tolist() == list(CLAY)
    assert not become(project, the(project), Into("wet", "height"))
    assert not replace(Into(), source="taste").usable
    assert not Into(height=1e9).usable
    assert Into().usable
