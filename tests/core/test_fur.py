"""Fur: leads that are combed, roots, and the vertices of fibres."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.fur.fibres import (
    POINTS,
    SHARES,
    Fibres,
    Roots,
    fibre_curves,
    fibre_lines,
    rooted,
    seen_level,
    write_fibres,
)
from kneten.core.fur.leads import (
    CLUMP,
    CURL,
    ROOM,
    Leads,
    combed,
    evened,
    grown,
    lengthened,
    lifted,
    made_own,
    shares_near,
    turned_along,
)
from kneten.core.fur.numbers import MOST, FurError, FurNumbers
from kneten.core.mesh import Mesh
from kneten.core.topology import PATCH
from tests.conftest import make_ball

PLAIN = FurNumbers(count=3000, vary=0.0, loose=0.0, clump=0.0)


def ball_fur(lift: float = 30.0, mask: np.ndarray | None = None) -> tuple[Mesh, Leads]:
    mesh = make_ball(50.0, 32)
    return mesh, grown(mesh, mask, 10.0, lift, 9.0, 1, Progress())[1]


def written(
    mesh: Mesh, numbers: FurNumbers, leads: Leads, mask: np.ndarray | None = None
) -> tuple[Roots, Fibres]:
    roots = rooted(mesh, numbers, mask, leads.roots)
    out = Fibres.room(len(roots))
    write_fibres(mesh, numbers, roots, leads, out)
    return roots, out


# -- leads -------------------------------------------------------------------------------------------


def test_first_leads_lie_evenly_and_downwards() -> None:
    _, leads = ball_fur()
    assert 150 < len(leads) < 600
    np.testing.assert_allclose(leads.lengths(), 10, atol=1e-6)
    lift = np.einsum("kx,kx->k", leads.tips, leads.normals) / 10
    np.testing.assert_allclose(lift, 0.5, atol=1e-6)
    level = np.abs(leads.normals[:, 1]) < 0.8
    assert (leads.tips[level, 1] < 0).mean() > 0.9
    gaps = np.linalg.norm(leads.roots[:, None] - leads.roots[None], axis=2)
    gaps[np.diag_indices(len(gaps))] = np.inf
    assert gaps.min() > 8.5


def test_leads_turn_with_their_clay_by_the_least_turn() -> None:
    rng = np.random.default_rng(0)
    before, after = (v / np.linalg.norm(v, axis=1, keepdims=True) for v in rng.normal(size=(2, 50, 3)))
    ways = rng.normal(size=(50, 3))
    turned = turned_along(ways, before, after)
    np.testing.assert_allclose(np.linalg.norm(turned, axis=1), np.linalg.norm(ways, axis=1))
    np.testing.assert_allclose((turned * after).sum(axis=1), (ways * before).sum(axis=1), atol=1e-9)
    np.testing.assert_allclose(turned_along(before, before, after), after, atol=1e-9)
    np.testing.assert_allclose(turned_along(ways, before, before), ways, atol=1e-9)


def test_combed_leads_lie_the_way_of_the_comb_as_long_as_before() -> None:
    _, leads = ball_fur()
    place = leads.roots[np.argmax(leads.roots[:, 2])]
    shares = shares_near(leads, place, 25.0, np.array([0.0, 0.0, 1.0]))
    assert shares.max() == pytest.approx(1.0)
    assert (shares[leads.roots[:, 2] < 0] == 0).all()
    now = leads
    for _ in range(6):
        now = combed(now, shares, np.array([6.0, 0.0, 0.0]))
    np.testing.assert_allclose(now.lengths(), leads.lengths())
    near = shares > 0.8
    assert (now.tips[near, 0] > 8).all()
    assert np.array_equal(now.tips[shares == 0], leads.tips[shares == 0])
    # None is combed into the clay.
    down = combed(leads, np.ones(len(leads)), np.array([0.0, 0.0, -400.0]))
    high = np.einsum("kx,kx->k", down.tips, down.normals) / down.lengths()
    assert high.min() > 0.04


def test_leads_are_lifted_laid_lengthened_cut_and_evened() -> None:
    _, leads = ball_fur()
    every = np.ones(len(leads))
    steep = np.einsum("kx,kx->k", lifted(leads, every, 0.5).tips, leads.normals)
    flat = np.einsum("kx,kx->k", lifted(leads, every, -0.3).tips, leads.normals)
    assert steep.min() > 6.0
    assert flat.max() < 3.5
    np.testing.assert_allclose(lengthened(leads, every, 1.5, 100.0).lengths(), 15.0)
    np.testing.assert_allclose(lengthened(leads, every, 1.5, 12.0).lengths(), 12.0)
    np.testing.assert_allclose(lengthened(leads, every, 0.5, 12.0).lengths(), 5.0)
    assert lengthened(leads, every, 0.0, 12.0).lengths().min() > 0
    rng = np.random.default_rng(0)
    wild = replace(leads, tips=leads.tips * rng.uniform(0.5, 1.5, (len(leads), 1)))
    calm = wild
    for _ in range(12):
        calm = evened(calm, every * (leads.roots[:, 2] > 20))
    front = leads.roots[:, 2] > 30
    assert np.std(calm.lengths()[front]) < 0.3 * np.std(wild.lengths()[front])
    assert evened(leads, np.zeros(len(leads))) is leads


def test_leads_have_curl_clumping_and_room_of_their_own() -> None:
    mesh, leads = ball_fur(60.0)
    front = leads.roots[:, 2] > 10
    shares = front.astype(np.float64)
    plain = written(mesh, PLAIN, leads)[1].places
    here, there = plain[:, 0, 2] > 25, plain[:, 0, 2] < -5
    off = np.linalg.norm(written(mesh, PLAIN, made_own(leads, shares, CURL, 0.3))[1].places - plain, axis=2)
    assert off[here, -1].max() > 1.0
    assert off[there].max() == 0
    roots, gathered = written(mesh, PLAIN, made_own(leads, shares, CLUMP, 1.0))
    tips, base = gathered.places[:, -1], gathered.places[:, 0]
    spread = np.linalg.norm(tips - tips[roots.tufts], axis=1) / np.maximum(
        np.linalg.norm(base - base[roots.tufts], axis=1), 1e-9
    )
    assert np.median(spread[here]) < 0.4
    assert np.median(spread[there]) > 0.9
    thin = written(mesh, PLAIN, made_own(leads, shares, ROOM, -0.7))[1].places
    long = np.linalg.norm(thin[:, -1] - thin[:, 0], axis=1) > 1e-3
    assert long[here].mean() == pytest.approx(0.3, abs=0.06)
    assert long[there].all()
    # Both ways there are limits, and a way back.
    back = made_own(made_own(leads, shares, ROOM, -3.0), shares, ROOM, 9.0)
    assert np.array_equal(back.own, leads.own)
    assert made_own(leads, shares, CURL, 5.0).own.max() == 1.0
    even = made_own(leads, shares, CURL, 0.8)
    for _ in range(30):
        even = evened(even, np.ones(len(leads)))
    assert np.ptp(even.own[:, CURL]) < 1e-3


# -- fibres ------------------------------------------------------------------------------------------


def test_fibres_stand_on_the_clay_and_follow_their_leads() -> None:
    mesh, leads = ball_fur()
    _, out = written(mesh, PLAIN, leads)
    assert np.abs(np.linalg.norm(out.places[:, 0], axis=1) - 50).max() < 0.2
    long = np.linalg.norm(out.places[:, -1] - out.places[:, 0], axis=1)
    assert np.quantile(long, 0.05) > 9.0
    assert long.max() < 10.1
    # They leave the clay and do not come back into it.
    assert np.linalg.norm(out.places[:, 1:], axis=2).min() > 50.0
    ahead = np.diff(out.places, axis=1)
    ahead /= np.linalg.norm(ahead, axis=2, keepdims=True)
    told = out.ways[:, 1:-1, :3].astype(np.float64) / 127 - 1
    middle = ahead[:, 1:] + ahead[:, :-1]
    cosine = (told * middle).sum(axis=2) / np.linalg.norm(told, axis=2) / np.linalg.norm(middle, axis=2)
    assert cosine.min() > 0.98
    assert (np.diff(out.ways[:, :, 3].astype(int), axis=1) > 0).all()
    off = out.outs[:, 0, :3].astype(np.float64) / 127 - 1
    assert ((off * out.places[:, 0]).sum(axis=1) / 50).min() > 0.97


def test_the_same_numbers_give_the_same_fibres() -> None:
    mesh, leads = ball_fur()
    one, two = written(mesh, PLAIN, leads)[1], written(mesh, PLAIN, leads)[1]
    assert np.array_equal(one.places, two.places)
    assert not np.array_equal(one.places, written(mesh, replace(PLAIN, seed=2), leads)[1].places)


def test_some_of_them_can_be_written_alone() -> None:
    mesh, leads = ball_fur()
    numbers = FurNumbers(count=3000)
    roots, out = written(mesh, numbers, leads)
    part = Fibres.room(len(roots))
    part.places[:] = 7
    write_fibres(mesh, numbers, roots, leads, part, 500, 900)
    assert np.array_equal(part.places[500:900], out.places[500:900])
    assert (part.places[:500] == 7).all()
    assert (part.places[900:] == 7).all()
    rows = np.arange(0, 3000, 7)
    few = Fibres.room(len(rows))
    write_fibres(mesh, numbers, roots.taken(rows), leads, few, whole=roots)
    assert np.array_equal(few.places, out.places[rows])


def test_roots_are_sorted_by_level_and_patch() -> None:
    mesh, leads = ball_fur()
    roots = rooted(mesh, FurNumbers(count=20_000), None, leads.roots)
    starts = roots.starts
    assert starts.shape == (len(SHARES), mesh.topology.n_patches + 1)
    assert starts[0, 0] == 0
    assert starts[-1, -1] == 20_000
    assert (starts[1:, 0] == starts[:-1, -1]).all()
    np.testing.assert_allclose((starts[:, -1] - starts[:, 0]) / 20_000, SHARES, atol=0.02)
    for level in range(len(SHARES)):
        for patch in range(mesh.topology.n_patches):
            faces = roots.faces[starts[level, patch] : starts[level, patch + 1]]
            least = mesh.topology.faces[faces]
            least = np.where(least < 0, mesh.n_vertices, least).min(axis=1)
            assert (least // PATCH == patch).all()


def test_fur_keeps_to_its_mask_and_thins_out_with_it() -> None:
    mesh = make_ball(50.0, 32)
    mask = np.clip(mesh.positions[:, 1] / 50, 0, 1).astype(np.float32)
    leads = grown(mesh, mask, 10.0, 30.0, 9.0, 1, Progress())[1]
    roots, out = written(mesh, PLAIN, leads, mask)
    assert out.places[:, 0, 1].min() > -1
    long = np.linalg.norm(out.places[:, -1] - out.places[:, 0], axis=1)
    high = out.places[:, 0, 1] / 50
    assert np.corrcoef(long, high)[0, 1] > 0.9
    assert roots.lengths.max() <= 1.0
    with pytest.raises(FurError, match="no clay"):
        rooted(mesh, PLAIN, np.zeros(mesh.n_vertices, np.float32), leads.roots)
    with pytest.raises(FurError):
        grown(mesh, np.zeros(mesh.n_vertices, np.float32), 10.0, 30.0, 9.0, 1, Progress())


def test_hidden_faces_are_bald() -> None:
    mesh, leads = ball_fur()
    roots = rooted(mesh, PLAIN, None, leads.roots)
    mesh.hidden = (mesh.positions[mesh.topology.faces[:, 0], 2] > 0).astype(np.uint8)
    out = Fibres.room(len(roots))
    write_fibres(mesh, PLAIN, roots, leads, out)
    long = np.linalg.norm(out.places[:, -1] - out.places[:, 0], axis=1)
    bald = mesh.hidden[roots.faces] != 0
    assert bald.any()
    assert long[bald].max() < 1e-5
    assert np.quantile(long[~bald], 0.05) > 8


def test_fibres_clump_curl_and_go_their_own_ways() -> None:
    mesh, leads = ball_fur(60.0)
    plain = written(mesh, PLAIN, leads)[1].places
    curled = written(mesh, replace(PLAIN, curl=0.3), leads)[1].places
    off = np.linalg.norm(curled - plain, axis=2)
    assert off[:, 0].max() < 1e-4
    assert off[:, 2:].max() > 1.0
    loose = written(mesh, replace(PLAIN, loose=0.4), leads)[1].places
    assert np.linalg.norm(loose[:, -1] - plain[:, -1], axis=1).mean() > 1.0
    roots, out = written(mesh, replace(PLAIN, clump=1.0), leads)
    tips, base = out.places[:, -1], out.places[:, 0]
    own = np.linalg.norm(tips - tips[roots.tufts], axis=1)
    apart = np.linalg.norm(base - base[roots.tufts], axis=1)
    assert own.mean() < 0.35 * apart.mean()


def test_fibres_take_the_colour_of_their_clay() -> None:
    mesh, leads = ball_fur()
    mesh.colour = np.full((mesh.n_vertices, 4), 255, np.uint8)
    mesh.colour[:, :3] = [200, 100, 50]
    out = written(mesh, replace(PLAIN, from_clay=True), leads)[1]
    red, green, blue = out.colours[:, :, :3].reshape(-1, 3).astype(float).mean(axis=0)
    assert red / green == pytest.approx(2, rel=0.1)
    assert green / blue == pytest.approx(2, rel=0.1)
    assert out.colours[:, -1, 0].mean() > 1.5 * out.colours[:, 0, 0].mean()
    own = written(mesh, replace(PLAIN, root=(0.0, 0.0, 0.0), tip=(0.0, 1.0, 0.0)), leads)[1]
    assert own.colours[:, 0, :3].max() == 0
    assert own.colours[:, -1, 1].min() > 200


def test_strong_numbers_give_no_wild_numbers() -> None:
    mesh, leads = ball_fur(85.0)
    numbers = FurNumbers(count=5000, vary=1.0, loose=1.0, clump=1.0, curl=1.0)
    out = written(mesh, numbers, leads)[1]
    assert np.isfinite(out.places).all()
    assert np.abs(out.places).max() < 120


@pytest.mark.parametrize(
    "values", [{"count": 0}, {"count": MOST + 1}, {"width": 0.0}, {"clump": 1.5}, {"root": (0.0, 2.0, 0.0)}]
)
def test_numbers_that_make_no_fur_say_so(values: dict[str, object]) -> None:
    with pytest.raises(FurError):
        replace(FurNumbers(), **values).check()  # type: ignore[arg-type]


def test_fur_without_leads_says_so() -> None:
    mesh, _ = ball_fur()
    with pytest.raises(FurError, match="leads"):
        rooted(mesh, PLAIN, None, np.empty((0, 3)))
    # One lead alone is enough.
    one = rooted(mesh, PLAIN, None, np.array([[0.0, 50.0, 0.0]]))
    np.testing.assert_allclose(one.weights.sum(axis=1), 1, atol=1e-6)


def test_lines_and_levels() -> None:
    lines = fibre_lines(3)
    assert lines.shape == (3 * (POINTS - 1), 2)
    assert lines[POINTS - 1].tolist() == [POINTS, POINTS + 1]
    assert seen_level(0.01) == 1
    assert seen_level(0.15) == 2
    assert seen_level(1.0) == seen_level(9.0) == len(SHARES)


def test_courses_of_some_fibres() -> None:
    mesh, leads = ball_fur()
    roots = rooted(mesh, PLAIN, None, leads.roots)
    curves = fibre_curves(mesh, PLAIN, roots, leads, 40)
    assert curves.shape == (40, POINTS, 3)
    assert np.abs(np.linalg.norm(curves[:, 0], axis=1) - 50).max() < 0.2
