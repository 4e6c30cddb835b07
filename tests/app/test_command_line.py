"""Kneten without a window."""

from __future__ import annotations

import io
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from kneten.app.start import cli
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
    from kneten.formats.exchange import Space

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
        ("still", ["{bad}", "out.png"]),
    ],
)
def test_errors_are_one_line_and_status_2(
    project_file: Path, capsys: pytest.CaptureFixture[str], command: str, words: list[str]
) -> None:
    bad = project_file.with_name("bad.obj")
    bad.write_text("v 0 0 nan\nf 1 1 1\n")
    given = [w.format(good=project_file, bad=bad) for w in words]
    given = [str(project_file.parent / w) if w.startswith(("out", "missing")) else w for w in given]
    assert cli.run(command, given) == 2
    captured = capsys.readouterr()
    assert captured.err.startswith("kneten: ")
    assert captured.err.count("\n") == 1
    assert captured.out == ""
    assert not list(project_file.parent.glob("out*"))


def test_the_whole_program(project_file: Path) -> None:
    run = [sys.executable, "-m", "kneten"]
    done = subprocess.run([*run, "convert", "none.obj", "x.ply"], capture_output=True, text=True)
    assert done.returncode == 2
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
    assert done.returncode == 2
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
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "broken.png").exists()


@pytest.mark.parametrize("look", ["lamp", "silhouette", "density"])
def test_stills_with_another_look(tmp_path: Path, look: str) -> None:
    save_project(Project.with_ball(), tmp_path / "a.kneten")
    for name, words in (("plain", ()), ("look", ("--look", look))):
        done = run("still", "a.kneten", f"{name}.png", "--size", "160x120", *words, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    one, other = (np.asarray(Image.open(tmp_path / f"{n}.png")).astype(int) for n in ("plain", "look"))
    assert np.abs(one - other).max() > 30
