"""Press and presses on tips: heights, pictures, rolling, twins, what is left alone."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import map_coordinates
from scipy.spatial import cKDTree

from kneten.core.brushes.tool import BrushSettings, Dab, Strip
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.crossings import crossing
from kneten.core.deep_capture import deep_moves
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.press import OVERLAPS, Press, PressError, Tip, deep_press
from kneten.core.presses.library import library
from kneten.core.stroke import Stroke
from kneten.core.symmetry import exactly_symmetric
from kneten.core.value_stroke import ValueStroke
from tests.conftest import FRONT, make_ball, make_sheet

EVEN = ((0.0, 1.0), (1.0, 1.0))
UP = np.array([0.0, 1.0, 0.0])


def held(falloff: tuple[tuple[float, float], ...] = EVEN, **tip: object) -> BrushSettings:
    """Press with a height of 0.8 mm."""
    plain = Tip(height=0.8, height_mm=True)
    return replace(TOOLS["press"].defaults, falloff=falloff, taper=0.0, tip=replace(plain, **tip))  # type: ignore[arg-type]


def wavy(side: int = 256) -> Press:
    y, x = np.mgrid[0:side, 0:side] / side
    return Press((np.sin(x * 12) * np.cos(y * 9)).astype(np.float32))


def even(value: float = 1.0) -> Press:
    return Press(np.full((8, 8), value, np.float32), True)


def laid(mesh: Mesh, press: Press, settings: BrushSettings, dabs: list[Dab], **more: object) -> Stroke:
    stroke = Stroke(mesh, TOOLS["press"], settings, press=press, **more)  # type: ignore[arg-type]
    for dab in dabs:
        stroke.dab(dab)
    return stroke


def at(x: float = 0.0, y: float = 0.0, radius: float = 20.0, **more: object) -> Dab:
    return Dab(np.array([x, y, 0.0]), np.zeros(3), FRONT, radius, 1.0, 1.0, up=UP, **more)  # type: ignore[arg-type]


def rolled(line: np.ndarray, radius: float, window: int = 12) -> list[Dab]:
    """Dabs that unroll along places (k, 3)."""
    ways = np.gradient(line, axis=0)
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]) / radius
    out = []
    for k in range(1, len(line)):
        j = max(0, k - window)
        strip = Strip(np.stack([line[j : k + 1], ways[j : k + 1]], 1), far[j : k + 1])
        middle = 0.5 * (line[j] + line[k])
        out.append(Dab(middle, ways[k], FRONT, radius, 1.0, 0.12, far[k], up=UP, strip=strip))
    return out


def test_a_press_is_sampled_and_as_high_as_the_card_says() -> None:
    mesh, press = make_sheet(240, 100.0 / 240), wavy()
    before = mesh.positions.copy()
    laid(mesh, press, held(whole=True), [at()]).finish()
    inside = np.abs(before[:, :2]).max(axis=1) < 19.9
    x, y = (before[:, 0] / 40 + 0.5) * 256 - 0.5, (0.5 - before[:, 1] / 40) * 256 - 0.5
    wanted = 0.8 * map_coordinates(press.heights, [y[inside], x[inside]], order=1, mode="nearest")
    got = (mesh.positions - before)[inside, 2]
    assert np.abs(got - wanted).max() < 0.01 * 0.8
    assert got.max() == pytest.approx(0.8, rel=0.02)
    outside = np.abs(before[:, :2]).max(axis=1) > 20.0
    assert np.array_equal(mesh.positions[outside], before[outside])


@pytest.mark.parametrize("density", [60, 160])
@pytest.mark.parametrize("spacing", [0.05, 0.3])
def test_an_even_coat_has_its_height_whatever_spacing_and_density(density: int, spacing: float) -> None:
    mesh = make_sheet(density, 100.0 / density)
    dabs = [replace(at(x, radius=12.0), spacing=spacing) for x in np.arange(-30, 30, 12.0 * spacing)]
    stroke = laid(mesh, even(), held(), dabs)
    for dab in dabs[::-1]:
        stroke.dab(dab)
    stroke.finish()
    on = (np.abs(mesh.positions[:, 1]) < 6) & (np.abs(mesh.positions[:, 0]) < 25)
    assert mesh.positions[on, 2] == pytest.approx(0.8, rel=0.02)


@pytest.mark.parametrize(("overlap", "wanted"), [("even", 0.8), ("highest", 0.8), ("add", 2.4)])
def test_overlaps_are_by_choice(overlap: str, wanted: float) -> None:
    assert set(OVERLAPS) == {"even", "highest", "add"}
    mesh = make_sheet(80, 100.0 / 80)
    laid(mesh, even(), held(overlap=overlap), [at(), at(), at()]).finish()
    assert mesh.positions[:, 2].max() == pytest.approx(wanted, rel=0.02)


def test_dabs_that_run_together_add_up_to_one() -> None:
    for spacing in (0.06, 0.2):
        mesh = make_sheet(120, 100.0 / 120)
        dabs = [replace(at(x, radius=15.0), spacing=spacing) for x in np.arange(-40, 40, 15.0 * spacing)]
        laid(mesh, even(), held(overlap="add"), dabs).finish()
        line = (np.abs(mesh.positions[:, 1]) < 1) & (np.abs(mesh.positions[:, 0]) < 20)
        assert mesh.positions[line, 2].mean() == pytest.approx(0.8, rel=0.05)


def test_on_a_ball_heights_stand_along_its_normals() -> None:
    mesh = make_ball(100.0, 60)
    dab = Dab(np.array([0.0, 0.0, 100.0]), np.zeros(3), FRONT, 40.0, 1.0, 1.0, up=UP)
    laid(mesh, even(), held(height=3.0), [dab]).finish()
    far = np.linalg.norm(mesh.positions, axis=1)
    on = np.hypot(mesh.positions[:, 0], mesh.positions[:, 1]) < 30
    on &= mesh.positions[:, 2] > 0
    assert far[on] == pytest.approx(103.0, abs=0.06)


def test_a_press_is_as_long_over_the_clay_as_on_its_picture() -> None:
    """A ring of the picture comes to lie as far from the middle along a ball as on a plane."""
    t = np.linspace(-1, 1, 256)
    ring = np.exp(-(((np.hypot(t[:, None], t[None]) - 0.7) / 0.06) ** 2)).astype(np.float32)
    mesh = make_ball(50.0, 90)
    dab = Dab(np.array([0.0, 0.0, 50.0]), np.zeros(3), FRONT, 40.0, 1.0, 1.0, up=UP)
    laid(mesh, Press(ring), held(), [dab]).finish()
    lift = np.linalg.norm(mesh.positions, axis=1) - 50
    on = lift > 0.6
    chord = np.linalg.norm(mesh.positions[on] - [0, 0, 50.0], axis=1)
    assert chord.mean() == pytest.approx(28.0, rel=0.03)


def test_rolling_has_no_beat_and_no_seam() -> None:
    """A ramp that rises and falls once per picture: what comes out has that wave and nothing else."""
    wave = np.tile(np.sin(np.arange(256) / 256 * 2 * np.pi).astype(np.float32), (64, 1))
    mesh = make_sheet(320, 100.0 / 320)
    line = np.stack([np.linspace(-40, 40, 90), np.zeros(90), np.zeros(90)], -1)
    stroke = laid(mesh, Press(wave, True), held(rolled=True), rolled(line, 8.0))
    stroke.finish()
    assert not stroke.did_less
    on = (np.abs(mesh.positions[:, 1]) < 0.1) & (np.abs(mesh.positions[:, 0]) < 32)
    order = np.argsort(mesh.positions[on, 0])
    x, z = mesh.positions[on, 0][order], mesh.positions[on, 2][order]
    # One picture is four times as long as it is wide: 64 mm.
    wanted = 0.8 * np.sin((x + 40) / 64 * 2 * np.pi)
    assert np.abs(z - wanted).max() < 0.02 * 0.8
    spectrum = np.abs(np.fft.rfft((z - wanted) * np.hanning(len(z))))
    # The slow part is what sampling leaves; a beat would come with the dabs, some sixty times.
    assert spectrum[3:].max() / len(z) < 2e-5


def test_a_rolled_stroke_goes_round_bends_and_fades_at_its_ends() -> None:
    mesh = make_sheet(260, 100.0 / 260)
    t = np.linspace(0, np.pi, 120)
    line = np.stack([25 * np.cos(t), 25 * np.sin(t) - 12, 0 * t], -1)
    stroke = laid(mesh, even(), held(rolled=True), rolled(line, 8.0))
    stroke.finish()
    p = mesh.positions
    far, angle = np.hypot(p[:, 0], p[:, 1] + 12), np.arctan2(p[:, 1] + 12, p[:, 0])
    body = (np.abs(far - 25) < 6.5) & (angle > 0.45) & (angle < np.pi - 0.45)
    assert p[body, 2] == pytest.approx(0.8, rel=0.02)
    ends = (np.abs(far - 25) < 6) & ((np.abs(angle) < 0.02) | (np.abs(angle - np.pi) < 0.02))
    assert p[ends, 2].max() < 0.1
    assert p[np.abs(far - 25) > 8.1, 2].max() == 0


@pytest.mark.parametrize(("length", "short"), [(6.0, True), (30.0, False)])
def test_a_rolled_stroke_knows_when_it_was_too_short_to_begin(length: float, short: bool) -> None:
    mesh = make_sheet(120, 100.0 / 120)
    line = np.stack([np.linspace(0, length, 30), np.zeros(30), np.zeros(30)], -1)
    stroke = laid(mesh, even(), held(rolled=True), rolled(line, 8.0))
    stroke.finish()
    assert (stroke.needs_way > 0.0) == short
    assert (mesh.positions[:, 2].max() < 0.5) == short


def test_what_does_not_tile_passes_into_its_beginning() -> None:
    ramp = np.tile(np.linspace(0, 1, 128, dtype=np.float32), (64, 1))
    mesh = make_sheet(320, 100.0 / 320)
    line = np.stack([np.linspace(-40, 40, 90), np.zeros(90), np.zeros(90)], -1)
    laid(mesh, Press(ramp), held(rolled=True), rolled(line, 8.0)).finish()
    on = (np.abs(mesh.positions[:, 1]) < 0.1) & (np.abs(mesh.positions[:, 0]) < 32)
    z = mesh.positions[on, 2][np.argsort(mesh.positions[on, 0])]
    # Nowhere a wall: the fall from its end to its beginning takes a fifth of the picture.
    assert np.abs(np.diff(z)).max() < 0.1
    assert z.max() > 0.5


@pytest.mark.parametrize("way", ["stamped", "rolled", "tip"])
def test_twins_mirror_the_picture_to_the_bit(way: str) -> None:
    mesh = make_ball(100.0, 48)
    y, x = np.mgrid[0:64, 0:64] / 64
    press = Press((x * (1 - y) + 0.3 * np.sin(20 * x + 7 * y)).astype(np.float32))
    turned = held(whole=True, turn=20.0, rolled=way == "rolled")
    if way == "tip":
        tool, settings = TOOLS["raise"], replace(TOOLS["raise"].defaults, tip=turned.tip)
        stroke = Stroke(mesh, tool, settings, (True, True, False), press=press)
    else:
        stroke = Stroke(mesh, TOOLS["press"], turned, (True, True, False), press=press)
    if way == "rolled":
        t = np.linspace(-0.2, 0.6, 30)
        line = 100 * np.stack([np.sin(t), 0.3 + 0 * t, np.cos(t)], -1)
        line *= 100 / np.linalg.norm(line, axis=1)[:, None]
        for dab in rolled(line, 18.0):
            stroke.dab(dab)
    else:
        centre = np.array([16.0, 20.0, 96.0])
        for angle in (0.0, 0.4):
            stroke.dab(Dab(centre, np.zeros(3), FRONT, 40.0, 1.0, 1.0, 9.0, up=UP, turn=angle))
    stroke.finish()
    assert exactly_symmetric(mesh.positions, 0)
    assert exactly_symmetric(mesh.positions, 1)
    right = mesh.positions[:, 0] > 5
    assert np.ptp(np.linalg.norm(mesh.positions[right], axis=1)) > 0.3


def test_what_would_fold_is_evened_and_comes_out_clean() -> None:
    spikes = np.zeros((64, 64), np.float32)
    spikes[::5, ::7] = 1.0
    mesh = make_sheet(60, 60.0 / 60)
    laid(mesh, Press(spikes), held(height=15.0, whole=True), [at(radius=25.0)]).finish()
    assert np.isfinite(mesh.positions).all()
    faces = mesh.topology.faces
    corners = mesh.positions[faces].astype(float)
    normals = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    assert (normals[:, 2] > 0).all()


def test_masks_peaks_and_hollows_are_left_alone() -> None:
    mesh = make_sheet(100, 100.0 / 100)
    mesh.positions[:, 2] = 2 * np.sin(mesh.positions[:, 0] / 3)
    mesh.mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    mesh.refresh_all()
    before = mesh.positions.copy()
    settings = replace(held(), auto_peak=True)
    laid(mesh, even(), settings, [at(y=-2.0, radius=30.0)]).finish()
    moved = np.linalg.norm(mesh.positions - before, axis=1)
    assert moved[before[:, 1] > 0.5].max() == 0
    inside = np.hypot(before[:, 0], before[:, 1] + 2) < 25
    inside &= before[:, 1] < -1
    assert moved[inside & (before[:, 2] > 1.9)].mean() < 0.75 * moved[inside & (before[:, 2] < -1.9)].mean()


def test_a_press_on_a_tip_shapes_other_tools_and_masks() -> None:
    half = np.zeros((32, 32), np.float32)
    half[:, 16:] = 1.0
    tip = Tip("half", whole=True)
    mesh = make_sheet(100, 100.0 / 100)
    tool = TOOLS["inflate"]
    stroke = Stroke(mesh, tool, replace(tool.defaults, tip=tip), press=Press(half))
    stroke.dab(replace(at(radius=20.0), strength=1.0))
    stroke.finish()
    lifted = mesh.positions[:, 2] > 1e-4
    assert lifted.any()
    assert mesh.positions[lifted, 0].min() > -1.5
    tool = TOOLS["mask"]
    paint = ValueStroke(mesh, tool, replace(tool.defaults, tip=tip), press=Press(half))
    paint.dab(at(radius=20.0))
    paint.finish()
    assert mesh.mask is not None
    assert mesh.positions[mesh.mask > 0.01, 0].min() > -1.5
    assert mesh.mask.max() > 0.5


def test_a_tip_shapes_what_is_pulled() -> None:
    ring = np.zeros((32, 32), np.float32)
    ring[10:22, 10:22] = 1.0
    mesh = make_sheet(100, 100.0 / 100)
    tool = TOOLS["pull"]
    stroke = Stroke(mesh, tool, replace(tool.defaults, tip=Tip("ring")), press=Press(ring))
    stroke.grab(np.zeros(3), 20.0, FRONT)
    stroke.drag(np.array([0.0, 0.0, 5.0]), 20.0)
    stroke.finish()
    up = mesh.positions[:, 2] > 0.1
    assert np.abs(mesh.positions[up, :2]).max() < 10.0


def test_taking_back_and_cancelling_leave_no_trace() -> None:
    mesh = make_ball(100.0, 40)
    before = mesh.positions.copy()
    stroke = Stroke(mesh, TOOLS["press"], held(), (True, False, False), press=wavy())
    for x in (10.0, 14.0, 20.0):
        stroke.take_back()
        assert np.array_equal(mesh.positions, before)
        stroke.dab(Dab(np.array([x, 0.0, 99.0]), np.zeros(3), FRONT, 30.0, 1.0, 1.0, up=UP))
    change = stroke.finish()
    assert change is not None
    change.swap(mesh)
    assert np.array_equal(mesh.positions, before)


def test_on_clay_whose_mesh_changes_a_coat_stays_as_high() -> None:
    mesh = loosened(make_ball(100.0, 30))
    stroke = Stroke(mesh, TOOLS["press"], held(height=2.0), press=even())
    for k in range(8):
        place = np.array([-20.0 + 5 * k, 0.0, 0.0])
        place[2] = np.sqrt(100.0**2 - place[0] ** 2)
        stroke.dab(Dab(place, np.zeros(3), FRONT, 25.0, 1.0, 0.2, up=UP, detail=Density(2.5)))
    stroke.finish()
    live = mesh.ring[:, 0] != mesh.ring[:, 1]
    p = mesh.positions[: len(live)][live[: len(mesh.positions)]]
    on = (np.abs(p[:, 1]) < 12) & (np.abs(p[:, 0]) < 18) & (p[:, 2] > 0)
    assert np.linalg.norm(p[on], axis=1) == pytest.approx(102.0, abs=0.3)


def test_coarse_clay_gets_the_even_of_what_is_too_fine_for_it() -> None:
    checks = (np.indices((512, 512)).sum(axis=0) % 2).astype(np.float32)
    press = Press(checks)
    assert press.level(0.5).shape == (512, 512)
    assert press.level(6.0).shape == (128, 128)
    mesh = make_sheet(40, 100.0 / 40)
    laid(mesh, press, held(), [at(radius=30.0)]).finish()
    inside = np.hypot(mesh.positions[:, 0], mesh.positions[:, 1]) < 25
    assert mesh.positions[inside, 2] == pytest.approx(0.4, abs=0.01)


def test_on_folds_a_coat_goes_the_way_the_clay_faces_and_needs_no_help() -> None:
    """Ways that each dab guesses far from its middle are outvoted by the dabs that come by nearer."""
    mesh = make_sheet(115, 0.8)
    mesh.positions[:, 2] = 3.2 * np.sin(mesh.positions[:, 0] / 6) + 2 * np.sin(mesh.positions[:, 1] / 9)
    mesh.refresh_all()
    before, normals = mesh.positions.copy(), mesh.normals.copy()
    soft = TOOLS["press"].defaults.falloff
    stroke = Stroke(mesh, TOOLS["press"], held(soft, height=1.5), press=even())
    for x in np.arange(-27, 27, 1.3):
        place = np.array([x, 0.2 * x, 3.2 * np.sin(x / 6) + 2 * np.sin(0.2 * x / 9)])
        stroke.dab(Dab(place, np.zeros(3), FRONT, 11.0, 1.0, 0.12, up=UP))
    stroke.finish()
    assert stroke.n_held == 0
    moves = (mesh.positions - before).astype(float)
    far = np.linalg.norm(moves, axis=1)
    on = far > 0.3
    assert far.max() == pytest.approx(1.5, rel=0.01)
    assert (far > 1.45).sum() > 0.4 * on.sum()
    facing = (moves[on] * normals[on]).sum(axis=1) / far[on]
    assert np.degrees(np.arccos(np.clip(facing, -1, 1))).max() < 30


DEEP = [key for key, entry in library().items() if entry.deep]


def deeply(key: str, mesh: Mesh, radius: float = 20.0, press: Press | None = None, **more: object) -> Stroke:
    """A deep press at the origin, as it is."""
    press = press or library()[key].made()
    settings = held(whole=True, height=press.natural, height_mm=False)
    return laid(mesh, press, settings, [at(radius=radius)], **more)


@pytest.mark.long
@pytest.mark.parametrize("key", DEEP)
def test_deep_presses_hang_over_without_a_flipped_or_folded_face(key: str) -> None:
    mesh = make_sheet(200, 0.25)
    stroke = deeply(key, mesh)
    stroke.finish()
    assert not stroke.went_back
    faces = mesh.topology.faces
    corners = mesh.positions[faces].astype(float)
    normals = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    # Something of it looks down, and every face looks the way its corners do.
    assert (normals[:, 2] < -0.05).sum() > 50
    assert np.einsum("fk,fck->fc", normals, mesh.normals[faces]).min() > 0.5
    assert not crossing(mesh).any()


def test_a_deep_press_lies_on_a_ball_as_on_a_sheet_and_mirrors_to_the_bit() -> None:
    mesh = make_ball(100.0, 60)
    press = library()["deep-horn"].made()
    settings = held(whole=True, height=press.natural, height_mm=False)
    stroke = Stroke(mesh, TOOLS["press"], settings, (True, False, False), press=press)
    centre = np.array([40.0, 10.0, 90.0])
    stroke.dab(Dab(100 * centre / np.linalg.norm(centre), np.zeros(3), FRONT, 25.0, 1.0, 1.0, up=UP))
    change = stroke.finish()
    assert exactly_symmetric(mesh.positions, 0)
    far = np.linalg.norm(mesh.positions, axis=1)
    # It leans: its tip stands up less than it is long.
    assert 100 + 0.6 * 25 * press.natural < far.max() < 100 + 1.05 * 25 * press.natural
    assert change is not None
    change.swap(mesh)
    assert np.linalg.norm(mesh.positions, axis=1).max() < 100.001


@pytest.mark.parametrize("key", ["deep-wart", "deep-curl", "deep-sucker"])
def test_a_piece_of_clay_becomes_a_deep_press_that_makes_it_again(key: str) -> None:
    mesh = make_sheet(200, 0.25)
    deeply(key, mesh).finish()
    moves = deep_moves(mesh, np.eye(4), np.zeros(3), np.eye(3), (44.0, 44.0))
    again = make_sheet(200, 0.25)
    stroke = deeply(key, again, 22.0, deep_press(moves))
    stroke.finish()
    assert stroke.n_held == 0
    off, _ = cKDTree(mesh.positions).query(again.positions)
    # Half an edge is as near as vertices come that lie elsewhere on the same form.
    assert np.quantile(off, 0.95) < 0.1
    assert again.positions[:, 2].max() == pytest.approx(mesh.positions[:, 2].max(), rel=0.02)


def test_what_cannot_be_a_deep_press_is_told() -> None:
    frame = (np.zeros(3), np.eye(3), (40.0, 40.0))
    with pytest.raises(PressError, match="no clay in the frame"):
        deep_moves(make_sheet(20, 1.0), np.eye(4), np.array([500.0, 0, 0]), *frame[1:])
    with pytest.raises(PressError, match="no rim"):
        deep_moves(make_ball(10.0, 8), np.eye(4), *frame)
    with pytest.raises(PressError, match="three channels"):
        deep_press(np.zeros((8, 8)))
    with pytest.raises(PressError, match="same value"):
        deep_press(np.zeros((8, 8, 3)))


def test_deep_presses_side_by_side_leave_each_other_alone() -> None:
    mesh, press = make_sheet(240, 0.25), library()["deep-sucker"].made()
    settings = held(whole=True, height=press.natural, height_mm=False)
    stroke = laid(mesh, press, settings, [at(x, radius=9.0) for x in (-24.0, -8.5, 7.0, 22.5)])
    stroke.dab(at(22.5, radius=9.0))
    stroke.finish()
    assert not stroke.went_back
    for x in (-24.0, -8.5, 7.0, 22.5):
        near = np.hypot(mesh.positions[:, 0] - x, mesh.positions[:, 1]) < 7
        assert mesh.positions[near, 2].max() == pytest.approx(9 * press.natural, rel=0.1), x
    assert not crossing(mesh).any()


def test_a_click_is_a_whole_press_however_long_a_stroke_tapers() -> None:
    mesh = make_sheet(80, 100.0 / 80)
    laid(mesh, even(), replace(held(), taper=3.0), [at()]).finish()
    assert mesh.positions[:, 2].max() == pytest.approx(0.8, rel=0.02)


@pytest.mark.parametrize("press", [wavy(), library()["deep-wart"].made()])
def test_a_dab_that_was_dragged_is_as_one_that_was_set_there(press: Press) -> None:
    """Nothing of where it has been on the way is left in it."""
    dragged, there = make_sheet(120, 100.0 / 120), make_sheet(120, 100.0 / 120)
    stroke = Stroke(dragged, TOOLS["press"], held(whole=True), press=press)
    for x in (-9.0, -4.0, 0.0, 3.0):
        stroke.take_back()
        stroke.dab(at(x))
    stroke.finish()
    laid(there, press, held(whole=True), [at(3.0)]).finish()
    assert np.abs(dragged.positions - there.positions).max() < 1e-6
