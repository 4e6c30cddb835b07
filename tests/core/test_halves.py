"""Triangles as half-edges: whatever is done to them, they stay a surface."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.primitives import ball
from kneten.core.quads.halves import (
    ROUND,
    Halves,
    after,
    before,
    collapse,
    edge_keys,
    flip,
    may_collapse,
    may_flip,
    split,
)
from kneten.core.remesh import triangulate


def ball_of(divisions: int) -> Halves:
    positions, faces = ball(10.0, divisions)
    return Halves.of(positions.astype(np.float64), triangulate(faces))


def sound(work: Halves) -> None:
    """What holds of any surface told by half-edges."""
    live = np.flatnonzero(work.at >= 0)
    ends = work.ends
    assert (work.at[live] != ends[live]).all()
    inner = live[work.opp[live] >= 0]
    there = work.opp[inner]
    assert (work.opp[there] == inner).all()
    assert (work.at[there] == ends[inner]).all()
    assert (ends[there] == work.at[inner]).all()
    assert (work.mark[there] == work.mark[inner]).all()
    left = np.flatnonzero(work.out >= 0)
    assert (work.at[work.out[left]] == left).all()
    assert set(left.tolist()) == set(np.unique(work.at[live]).tolist())
    keys = np.sort(np.stack([work.at[live], ends[live]], axis=-1), axis=1)
    _, counts = np.unique(keys, axis=0, return_counts=True)
    assert counts.max() <= 2
    # Each vertex has one fan: what is met going round is all that there is.
    for v in left.tolist():
        mine = live[work.at[live] == v]
        h, met = int(mine[0]), {int(mine[0])}
        while (o := int(work.opp[before(h)])) >= 0 and o not in met:
            met.add(o)
            h = o
        h = int(mine[0])
        while (o := int(work.opp[h])) >= 0 and (o := int(after(o))) not in met:
            met.add(o)
            h = o
        assert met == set(mine.tolist())


@given(st.lists(st.tuples(st.sampled_from("csf"), st.integers(0, 10_000)), max_size=60), st.booleans())
def test_any_steps_leave_a_surface(steps: list[tuple[str, int]], open_: bool) -> None:
    work = ball_of(4)
    if open_:
        work = Halves.of(work.points, work.triangles[30:])
    holes = trimesh.Trimesh(work.points, work.triangles, process=False).euler_number
    ring, other = np.empty(ROUND, np.int32), np.empty(ROUND, np.int32)
    for what, which in steps:
        h = np.flatnonzero(work.at >= 0)[which % int((work.at >= 0).sum())]
        if what == "c":
            args = (work.points, work.at, work.opp, work.out, work.mark, work.line_counts())
            if may_collapse(h, *args, ring, other, np.inf, -2.0):
                collapse(h, work.at, work.opp, work.out, work.mark, ring)
        elif what == "f":
            if may_flip(h, work.points, work.at, work.opp, work.out, work.mark, ring, -2.0):
                flip(h, work.at, work.opp, work.out, work.mark)
        else:
            n, f = len(work.out), len(work.at) // 3
            work.room(1, 2)
            work.points[n] = (work.points[work.at[h]] + work.points[work.ends[h]]) / 2
            assert split(h, n, f, work.at, work.opp, work.out, work.mark) == (2 if work.opp[h] >= 0 else 1)
    sound(work)
    work.packed()
    sound(work)
    made = trimesh.Trimesh(work.points, work.triangles, process=False)
    assert made.euler_number == holes
    assert made.is_watertight is not open_


def test_lines_and_their_corners_stay() -> None:
    positions, faces = ball(10.0, 4)
    t = triangulate(faces)
    points = positions.astype(np.float64)
    n = len(points)
    ends = np.roll(t, -1, axis=1)
    level = np.abs(points[:, 2]) < 1e-6
    on = level[t] & level[ends]
    marked = np.unique(edge_keys(t[on], ends[on], n))
    assert len(marked) > 8
    work = Halves.of(points, t, marked)
    ring, other = np.empty(ROUND, np.int32), np.empty(ROUND, np.int32)
    for _ in range(3):
        for h in range(len(work.at)):
            if work.at[h] < 0:
                continue
            args = (work.points, work.at, work.opp, work.out, work.mark, work.line_counts())
            if may_collapse(h, *args, ring, other, np.inf, -2.0):
                collapse(h, work.at, work.opp, work.out, work.mark, ring)
    work.packed()
    sound(work)
    counts = work.line_counts()
    # The line is still closed, and lies where it lay.
    assert set(counts.tolist()) <= {0, 2}
    assert (counts == 2).sum() >= 3
    assert np.abs(work.points[counts == 2, 2]).max() < 1e-6


def test_what_is_no_surface_is_taken_apart() -> None:
    points = np.array([[0, 0, 0], [0, 0, 1], [1, 0, 0], [-1, 0, 0.2], [0, 1, 0], [0, -1, 0], [0, 0, -1.0]])
    three = np.array([[0, 1, 2], [0, 1, 3], [0, 1, 4]], np.int32)
    work = Halves.of(points, three)
    sound(work)
    assert len(work.points) == 7 + 4
    # Two fans that touch at a point; a face with a corner twice is left out.
    tips = np.array([[0, 2, 4], [0, 3, 5], [0, 0, 2]], np.int32)
    work = Halves.of(points, tips)
    sound(work)
    assert len(work.triangles) == 2
    assert len(work.points) == 8


@pytest.mark.parametrize("divisions", [2, 9])
def test_a_ball_is_what_it_was(divisions: int) -> None:
    work = ball_of(divisions)
    sound(work)
    assert (work.opp >= 0).all()
    assert not work.line_counts().any()
    assert len(work.edges()[0]) * 2 == len(work.at)
