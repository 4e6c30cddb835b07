"""Kneten without a window."""

from __future__ import annotations

import io
import subprocess
import sys
from pathlib import Path

import av
import numpy as np
import OpenEXR
import pytest
from PIL import Image

from kneten.app.start import cli
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.document.picturing import add_shot
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part, Scene
from kneten.formats.exchange import pieces_of, read_file, write_file
from tests.conftest import make_ball


def run(*words: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """Kneten in a process of its own."""
    return subprocess.run(
        [sys.executable, "-m", "kneten", *words], cwd=cwd, capture_output=True, text=True, timeout=120
    )


@pytest.fixture
def project_file(tmp_path: Path) -> Path:
    project = Project(Scene((Part("Ball", make_ball(50.0, 12)),)))
    save_project(project, tmp_path / "clay.kneten")
    return tmp_path / "clay.kneten"


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl", ".glb", ".gltf", ".kneten"])
def test_convert_by_ending(project_file: Path, ending: str) -> None:
    target = project_file.with_name(f"out{ending}")
    assert cli.run("convert", [str(project_file), str(target)]) == 0
    back = project_file.with_name("back.ply")
    assert cli.run("convert", [str(target), str(back)]) == 0
    ((_, mesh, _),), _ = read_file(back)
    assert mesh.n_vertices == make_ball(50.0, 12).n_vertices
    assert float(mesh.bounds()[1][0]) == pytest.approx(50.0, rel=1e-5)


def test_convert_with_units(tmp_path: Path) -> None:
    from kneten.formats.space import Space

    write_file(tmp_path / "a.obj", pieces_of([Part("A", make_ball(2.0, 4))], Space()))
    words = [str(tmp_path / "a.obj"), str(tmp_path / "b.ply"), "--unit", "cm", "--ascii"]
    assert cli.run("convert", words) == 0
    ((_, mesh, _),), _ = read_file(tmp_path / "b.ply")
    assert float(mesh.bounds()[1][0]) == pytest.approx(20.0)
    assert (tmp_path / "b.ply").read_bytes().startswith(b"ply\nformat ascii")


@pytest.mark.parametrize("ending", ["png", "jpg"])
def test_still(project_file: Path, ending: str) -> None:
    target = project_file.with_name(f"out.{ending}")
    words = [str(project_file), str(target), "--size", "320x200", "--view", "front"]
    assert cli.run("still", words) == 0
    with Image.open(target) as image:
        assert image.size == (320, 200)
        pixels = np.asarray(image.convert("L")).astype(int)
    assert pixels[100, 160] > pixels[3, 3] + 60


@pytest.mark.parametrize(
    ("command", "words"),
    [
        ("convert", ["missing.obj", "out.ply"]),
        ("convert", ["{bad}", "out.ply"]),
        ("convert", ["{good}", "out.xyz"]),
        ("convert", ["{good}", "/no/such/folder/out.ply"]),
        ("convert", ["{good}"]),
        ("convert", ["{good}", "out.ply", "--unit", "miles"]),
        ("still", ["{good}", "out.png", "--size", "big"]),
        ("still", ["{good}", "out.png", "--size", "0x10"]),
        ("still", ["{good}", "out.png", "--view", "inside"]),
        ("still", ["{good}", "out.gif"]),
        ("still", ["{good}", "out.png", "--camera", "Nobody's"]),
        ("still", ["{good}", "out.png", "--passes", "depth,taste"]),
        ("turntable", ["{good}", "out.avi"]),
        ("turntable", ["{good}", "out.webm", "--frames", "1"]),
        ("turntable", ["{good}", "out.webm", "--turns", "0"]),
        ("turntable", ["{good}", "/no/such/folder/out.webm", "--frames", "2", "--size", "32x32"]),
        ("render", ["{good}", "out.gif"]),
        ("render", ["{good}", "out.png", "--samples", "0"]),
        ("render", ["{good}", "out.png", "--samples", "4", "--seconds", "4"]),
        ("render", ["{good}", "out.png", "--seconds", "-1"]),
        ("render", ["{good}", "out.png", "--seed", "-1"]),
        ("still", ["{bad}", "out.png"]),
    ],
)
def test_errors_are_one_line_and_their_status_tells_words_from_work(
    project_file: Path, capsys: pytest.CaptureFixture[str], command: str, words: list[str]
) -> None:
    bad = project_file.with_name("bad.obj")
    bad.write_text("v 0 0 nan\nf 1 1 1\n")
    given = [w.format(good=project_file, bad=bad) for w in words]
    given = [str(project_file.parent / w) if w.startswith(("out", "missing")) else w for w in given]
    assert cli.run(command, given) in (1, 2)
    captured = capsys.readouterr()
    assert captured.err.startswith("kneten: ")
    assert captured.err.count("\n") == 1
    assert captured.out == ""
    assert not list(project_file.parent.glob("out*"))


def test_the_whole_program(project_file: Path) -> None:
    run = [sys.executable, "-m", "kneten"]
    done = subprocess.run([*run, "convert", "none.obj", "x.ply"], capture_output=True, text=True)
    assert done.returncode == 1
    assert done.stderr == "kneten: There is no none.obj. Check the name and the folder.\n"
    done = subprocess.run([*run, "--sideways"], capture_output=True, text=True)
    assert done.returncode == 2
    assert done.stderr.startswith("kneten: ")
    done = subprocess.run([*run, "--help"], capture_output=True, text=True)
    assert done.returncode == 0
    assert "convert" in done.stdout


def test_install_desktop_writes_entry_icons_and_file_type(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "share"))
    monkeypatch.setenv("KNETEN_LAUNCHER", "/opt/my tools/kneten")
    done = run("install-desktop", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    share = tmp_path / "share"
    entry = (share / "applications" / "kneten.desktop").read_text()
    assert "Exec='/opt/my tools/kneten' %F" in entry
    assert "application/x-kneten-project" in entry
    assert "*.kneten" in (share / "mime" / "packages" / "kneten.xml").read_text()
    assert "thumbnail %i %o %s" in (share / "thumbnailers" / "kneten.thumbnailer").read_text()
    for size in (16, 48, 256, 512):
        with Image.open(share / "icons" / "hicolor" / f"{size}x{size}" / "apps" / "kneten.png") as icon:
            assert icon.size == (size, size)
            pixels = np.asarray(icon.convert("RGBA"))
        assert pixels[0, 0, 3] == 0
        assert len(np.unique(pixels[..., :3].reshape(-1, 3), axis=0)) > 4


def test_install_desktop_says_when_it_cannot(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "share").write_text("a file in the way")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "share"))
    done = run("install-desktop", cwd=tmp_path)
    assert done.returncode == 1
    assert done.stderr.startswith("kneten: ")


def test_thumbnails_for_file_managers(tmp_path: Path) -> None:
    project = Project.with_ball()
    save_project(project, tmp_path / "plain.kneten")
    picture = io.BytesIO()
    Image.new("RGB", (480, 300), (10, 200, 30)).save(picture, "PNG")
    save_project(project, tmp_path / "with.kneten", picture.getvalue())
    for name in ("plain", "with"):
        done = run("thumbnail", f"{name}.kneten", f"{name}.png", "128", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        with Image.open(tmp_path / f"{name}.png") as image:
            assert image.size == (128, 80)
    (tmp_path / "broken.kneten").write_bytes(b"PK nothing")
    done = run("thumbnail", "broken.kneten", "broken.png", cwd=tmp_path)
    assert done.returncode == 1
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "broken.png").exists()


def test_stills_with_another_look(tmp_path: Path) -> None:
    save_project(Project.with_ball(), tmp_path / "a.kneten")
    done = run("still", "a.kneten", "plain.png", "--size", "160x120", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    plain = np.asarray(Image.open(tmp_path / "plain.png")).astype(int)
    for look in ("lamp", "silhouette", "density"):
        words = [
            str(tmp_path / "a.kneten"),
            str(tmp_path / f"{look}.png"),
            "--size",
            "160x120",
            "--look",
            look,
        ]
        assert cli.run("still", words) == 0
        other = np.asarray(Image.open(tmp_path / f"{look}.png")).astype(int)
        assert np.abs(plain - other).max() > 30, look


def test_pictures_through_a_camera_of_the_project(tmp_path: Path) -> None:
    project = Project.with_ball()
    add_shot(project, "Side", Camera(yaw=90.0, distance=500.0), Finish(exposure=-3.0), 2.0)
    save_project(project, tmp_path / "a.kneten")
    path = str(tmp_path / "a.kneten")
    assert cli.run("still", [path, str(tmp_path / "a.png"), "--camera", "Side", "--look", "lit"]) == 0
    with Image.open(tmp_path / "a.png") as image:
        # Without a size it is as wide as a screen, in the camera's shape.
        assert image.size == (1920, 960)
        dark = np.asarray(image.convert("L")).astype(int)[480, 960]
    words = [path, str(tmp_path / "b.exr"), "--size", "96x64", "--look", "lit", "--passes", "depth,id"]
    assert cli.run("still", words) == 0
    with OpenEXR.File(str(tmp_path / "b.exr"), separate_channels=True) as file:
        assert {"R", "G", "B", "depth", "id"} == set(file.channels())
    assert (
        cli.run("still", [path, str(tmp_path / "c.png"), "--size", "96x64", "--look", "lit", "--fine"]) == 0
    )
    with Image.open(tmp_path / "c.png") as image:
        assert np.asarray(image.convert("L")).astype(int)[32, 48] > dark + 40


def test_a_film_from_the_command_line_closes(tmp_path: Path) -> None:
    save_project(Project.with_ball(), tmp_path / "a.kneten")
    words = [
        str(tmp_path / "a.kneten"),
        str(tmp_path / "a.webm"),
        "--frames",
        "6",
        "--size",
        "64x48",
        "--fps",
        "12",
    ]
    assert cli.run("turntable", words) == 0
    with av.open(str(tmp_path / "a.webm")) as film:
        frames = [frame.to_ndarray(format="rgb24").astype(int) for frame in film.decode(video=0)]
    assert len(frames) == 6
    # The last is no further from the first than any from its next.
    steps = [np.abs(a - b).mean() for a, b in zip(frames, [*frames[1:], frames[0]], strict=True)]
    assert steps[-1] <= max(steps[:-1]) + 1


def test_a_traced_picture_from_the_command_line_is_the_same_again(tmp_path: Path) -> None:
    save_project(Project.with_ball(), tmp_path / "a.kneten")
    for name in ("a", "b"):
        words = [
            str(tmp_path / "a.kneten"),
            str(tmp_path / f"{name}.png"),
            "--size",
            "96x64",
            "--samples",
            "4",
            "--seed",
            "5",
        ]
        assert cli.run("render", words) == 0
    one, other = (
        np.asarray(Image.open(tmp_path / f"{name}.png").convert("RGB")).astype(int) for name in "ab"
    )
    assert np.array_equal(one, other)
    assert one[32, 48].max() > one[2, 2].max() + 20
    words = [
        str(tmp_path / "a.kneten"),
        str(tmp_path / "c.exr"),
        "--size",
        "96x64",
        "--seconds",
        "0.5",
        "--no-denoise",
    ]
    assert cli.run("render", words) == 0
    assert (tmp_path / "c.exr").exists()
