"""Work in parts, on several processors: the same as all at once, to the bit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from kneten.core import arrays
from kneten.core.arrays import DAB_PART, at_once, in_parts, parts_of
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.normals import compute_normals
from kneten.core.patches import halves
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke
from kneten.core.topology import PATCH_BITS
from tests.long import some

FRONT = np.array([0.0, 0.0, -1.0])
BROAD = [
    key for key, tool in TOOLS.items() if not tool.changes and not tool.density and not tool.needs_before
]


@pytest.fixture(scope="module")
def large() -> Mesh:
    """200,000 vertices: enough for four parts under one dab."""
    return Mesh.from_faces(*ball(100.0, 184))


@pytest.fixture
def processors(monkeypatch: pytest.MonkeyPatch) -> Callable[[int], None]:
    def use(count: int) -> None:
        monkeypatch.setattr(arrays, "PROCESSORS", count)

    return use


def strokes(mesh: Mesh, key: str, **how: object) -> tuple[np.ndarray, np.ndarray]:
    """Where clay is, and its normals, after two broad touches of a tool, which are taken back."""
    tool = TOOLS[key]
    symmetry = (bool(how.pop("mirrored", False)), False, False)
    stroke = Stroke(mesh, tool, replace(tool.defaults, **how), symmetry)  # type: ignore[arg-type]
    # A place without symmetry of its own: what differs in order differs in bits.
    centre = np.array([13.0, 7.0, 98.9])
    if tool.holds:
        stroke.grab(centre, 170.0, FRONT)
        stroke.drag(np.array([3.0, 2.0, 5.0]), 170.0, 0.7, 0.2)
    else:
        for step in range(2):
            way = np.array([2.0 * step, 0.0, 0.0])
            stroke.dab(Dab(centre + way, np.array([1.0, 0.2, 0.0]), FRONT, 170.0, 0.5, 0.12, 3.0 * step))
    assert stroke.n_reached > 2 * DAB_PART
    found = mesh.positions.copy(), mesh.normals.copy()
    stroke.cancel()
    return found


@pytest.mark.parametrize("key", some(list(BROAD), 5))
def test_a_broad_dab_is_the_same_on_any_number_of_processors(
    key: str, large: Mesh, processors: Callable[[int], None]
) -> None:
    processors(1)
    places, normals = strokes(large, key)
    assert not np.array_equal(places, large.positions)
    for count in (2, 3):
        processors(count)
        others, turned = strokes(large, key)
        np.testing.assert_array_equal(others, places)
        np.testing.assert_array_equal(turned, normals)


@pytest.mark.parametrize(
    "how",
    [
        {"mirrored": True},
        {"through": True},
        {"front_only": True},
        {"taper": 0.5},
        {"auto_cavity": True},
    ],
)
def test_twins_and_limits_as_well(
    how: dict[str, object], large: Mesh, processors: Callable[[int], None]
) -> None:
    processors(1)
    places, normals = strokes(large, "raise", **how)
    processors(4)
    others, turned = strokes(large, "raise", **how)
    np.testing.assert_array_equal(others, places)
    np.testing.assert_array_equal(turned, normals)


def test_normals_after_a_broad_dab_are_those_of_the_whole(
    large: Mesh, processors: Callable[[int], None]
) -> None:
    processors(4)
    places, normals = strokes(large, "pull")
    np.testing.assert_allclose(normals, compute_normals(places, large.topology), atol=1e-6)


def test_parts_hold_everything_once_and_none_is_small(processors: Callable[[int], None]) -> None:
    processors(1)
    assert parts_of(10_000, 50) == [0, 10_000]
    processors(3)
    assert parts_of(99, 50) == [0, 99]
    assert parts_of(100, 50) == [0, 50, 100]
    assert parts_of(10_000, 50) == [0, 1666, 3333, 5000, 6666, 8333, 10_000]
    seen: list[int] = []
    in_parts(1000, lambda first, last: seen.extend(range(first, last)), 50)
    assert sorted(seen) == list(range(1000))


def test_what_a_part_raises_comes_after_the_others_have_ended() -> None:
    done = []

    def part(number: int) -> None:
        if number == 1:
            raise ValueError("in a thread")
        done.append(number)

    with pytest.raises(ValueError, match="in a thread"):
        at_once(4, part)
    assert sorted(done) == [0, 2, 3]


def test_patches_are_parted_where_the_vertices_are() -> None:
    near = np.array([2, 5, 7, 9], np.int32)
    vertices = np.concatenate([np.arange(5) + (p << PATCH_BITS) for p in near]).astype(np.int32)
    assert halves(near, vertices, [0, 10, 20]) == [0, 2, 4]
    # Vertices in another order cost time, nothing else: a cut never lies before the one before it.
    assert halves(near, vertices[::-1].copy(), [0, 5, 10, 20]) == [0, 2, 2, 4]
