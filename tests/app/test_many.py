"""Commands without a window that go over many files, in processes and on a farm; what they say to programs."""

from __future__ import annotations

import io
import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import av
import numpy as np
import pytest
import trimesh

from kneten.app.start import cli
from kneten.app.start.many import Done, Piece, done, spread, spread_pictures
from kneten.app.start.orders import Saying, UsageError
from kneten.library import KnetenError


@pytest.fixture
def heads(tmp_path: Path) -> Path:
    """Three small files in a folder."""
    folder = tmp_path / "heads"
    folder.mkdir()
    for k in range(3):
        trimesh.creation.icosphere(3, 20.0 + k).export(folder / f"head{k}.obj")
    return folder


def said(capsys: pytest.CaptureFixture[str]) -> dict:
    return json.loads(capsys.readouterr().out.strip().splitlines()[-1])


def test_remesh_and_decimate(heads: Path, capsys: pytest.CaptureFixture[str]) -> None:
    one = str(heads / "head0.obj")
    assert cli.run("remesh", [one, str(heads / "even.glb"), "--edge", "2", "--json"]) == 0
    told = said(capsys)
    assert told["status"] == 0
    assert told["parts"]["vertices"] > 1000
    assert cli.run("decimate", [one, str(heads / "few.ply"), "--share", "50", "--json"]) == 0
    assert said(capsys)["parts"]["triangles"] == pytest.approx(640, rel=0.05)
    assert len(trimesh.load(heads / "few.ply").faces) == pytest.approx(640, rel=0.05)
    assert cli.run("decimate", [one, str(heads / "near.obj"), "--error", "0.5"]) == 0
    assert "triangles" in capsys.readouterr().out


def test_check_tells_by_its_status(heads: Path, capsys: pytest.CaptureFixture[str]) -> None:
    top = trimesh.creation.cone(15, 30)
    top.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    top.export(heads / "top.obj")
    assert cli.run("check", [str(heads / "top.obj"), "--json", "--material", "bronze"]) == 1
    told = said(capsys)
    # It stands on its tip.
    assert told["bodies"]["flaw"] == ""
    assert told["bodies"]["stands"] is False
    assert any("does not stand" in text for text in told["notices"])
    assert told["bodies"]["weight_g"] == pytest.approx(8.8 * told["bodies"]["volume_cm3"], rel=1e-6)
    trimesh.creation.box((30, 30, 30)).export(heads / "block.stl")
    assert cli.run("check", [str(heads / "block.stl"), "--height", "15", "--json"]) == 0
    assert said(capsys)["bodies"]["size_mm"] == pytest.approx([15, 15, 15], abs=0.01)


def test_sets_from_the_command_line(heads: Path, capsys: pytest.CaptureFixture[str]) -> None:
    trimesh.creation.box((30, 30, 30)).export(heads / "block.stl")
    assert cli.run("print-set", [str(heads / "block.stl"), str(heads / "out"), "--json"]) == 0
    told = said(capsys)
    assert told["numbers"]["bodies"][0]["closed"]
    assert any(name.endswith(".3mf") for name in told["files"])
    words = [str(heads / "head0.obj"), str(heads / "game"), "--levels", "900,300", "--packed", "--json"]
    assert cli.run("game-set", words) == 0
    assert [one["triangles"] for one in said(capsys)["numbers"]["files"]] == pytest.approx(
        [900, 300], rel=0.05
    )
    assert cli.run("game-set", [*words, "--most-triangles", "100"]) == 1


@pytest.mark.parametrize(
    ("command", "words"),
    [
        ("remesh", ["a.obj", "b.obj"]),
        ("remesh", ["a.obj", "b.obj", "--edge", "-1"]),
        ("remesh", ["a.obj", "b.odd", "--edge", "1"]),
        ("decimate", ["a.obj", "b.obj", "--triangles", "0"]),
        ("decimate", ["a.obj", "b.obj", "--triangles", "5", "--share", "5"]),
        ("check", ["a.obj", "--material", "cheese"]),
        ("check", ["a.obj", "--height", "-5"]),
        ("game-set", ["a.obj", "b", "--levels", "1,2"]),
        ("game-set", ["a.obj", "b", "--levels", "many"]),
        ("print-set", ["a.obj"]),
        ("turntable", ["a.obj"]),
    ],
)
def test_words_that_make_no_sense_are_status_2(
    command: str, words: list[str], capsys: pytest.CaptureFixture[str]
) -> None:
    assert cli.run(command, words) == 2
    assert capsys.readouterr().err.startswith("kneten: ")


@pytest.mark.parametrize(
    "command", ["remesh", "decimate", "check", "print-set", "game-set", "convert", "turntable"]
)
def test_every_command_has_help(command: str, capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as ended:
        cli.run(command, ["--help"])
    assert ended.value.code == 0
    assert "--json" in capsys.readouterr().out


def test_what_is_missing_is_status_1(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert (
        cli.run("remesh", [str(tmp_path / "none.obj"), str(tmp_path / "b.obj"), "--edge", "1", "--json"]) == 1
    )
    told = said(capsys)
    assert told["status"] == 1
    assert "There is no" in told["error"]


def test_many_files_by_a_pattern(heads: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (heads / "head9.obj").write_text("v 0 0 nan\nf 1 1 1\n")
    out = heads / "small"
    out.mkdir()
    words = [f"{heads}/head*.obj", str(out / "{name}.glb"), "--triangles", "300", "--jobs", "2", "--json"]
    assert cli.run("decimate", words) == 1
    told = said(capsys)
    assert [one["status"] for one in told["results"]] == [0, 0, 0, 1]
    assert sorted(one.name for one in out.iterdir()) == ["head0.glb", "head1.glb", "head2.glb"]
    assert any("head9" in text for text in told["notices"])
    assert cli.run("convert", [f"{heads}/none*.obj", str(out)]) == 1
    assert cli.run("convert", [f"{heads}/head*.obj", "one.glb"]) == 2
    assert cli.run("convert", [f"{heads}/head*.obj"]) == 2


@pytest.mark.long
def test_a_turntable_in_pieces_is_the_same_film(heads: Path) -> None:
    project = heads / "head0.obj"
    words = [str(project), "turn.webm", "--size", "64x48", "--frames", "6"]
    pictures = np.stack(list(spread_pictures([*words, "--jobs", "2"], project, 6, 2, "")))
    whole = done(
        Piece(
            ("turntable", "{in}/head0.obj", "{out}/p.npy", *words[2:], "--only", "0:6"),
            {project.name: project.read_bytes()},
        )
    )
    assert np.array_equal(pictures, np.load(io.BytesIO(whole.files["p.npy"])))
    assert cli.run("turntable", [str(project), str(heads / "turn.webm"), *words[2:], "--jobs", "2"]) == 0
    with av.open(str(heads / "turn.webm")) as film:
        assert sum(1 for _ in film.decode(video=0)) == 6


def test_a_piece_says_what_went_wrong(heads: Path) -> None:
    found: Done = done(Piece(("check", "{in}/none.obj")))
    assert found.status == 1
    assert "none.obj" in found.result["error"]


def test_far_work_is_told_now_and_then(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    now = [0.0]
    monkeypatch.setattr(time, "monotonic", lambda: now[0])
    going = Saying()
    for k in range(10):
        now[0] = k
        going.report(k / 10, "Filling")
    assert capsys.readouterr().err.splitlines() == [f"kneten: {n:3.0f} % Filling" for n in (20, 40, 60, 80)]


@pytest.fixture
def farm(tmp_path: Path):  # type: ignore[no-untyped-def]
    """A scheduler with two workers, each a process of its own; gives its address and the workers."""
    pytest.importorskip("distributed")
    env = {**os.environ, "DASK_DISTRIBUTED__WORKER__DAEMON": "False"}
    note = tmp_path / "scheduler.json"
    run = [
        sys.executable,
        "-m",
        "distributed.cli.dask_scheduler",
        "--port",
        "0",
        "--no-dashboard",
        "--scheduler-file",
        str(note),
    ]
    scheduler = subprocess.Popen(run, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    end = time.monotonic() + 60
    while not note.exists() and time.monotonic() < end:
        time.sleep(0.1)
    address = json.loads(note.read_text())["address"]
    run = [
        sys.executable,
        "-m",
        "distributed.cli.dask_worker",
        address,
        "--nthreads",
        "1",
        "--no-nanny",
        "--no-dashboard",
    ]
    workers = [
        subprocess.Popen(
            [*run, "--local-directory", str(tmp_path / f"w{k}")],
            env=env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for k in range(2)
    ]
    yield address, workers
    for one in (*workers, scheduler):
        one.kill()
        one.wait()


def test_a_farm_does_the_work_though_a_machine_is_lost(farm, heads: Path) -> None:  # type: ignore[no-untyped-def]
    address, workers = farm
    data = {path.name: path.read_bytes() for path in heads.iterdir()}
    pieces = [
        Piece(("decimate", f"{{in}}/{name}", f"{{out}}/{k}_{name}", "--triangles", "400"), {name: one})
        for k in range(2)
        for name, one in data.items()
    ]
    # One of them is killed while it has work.
    threading.Timer(4.0, lambda: workers[0].send_signal(signal.SIGKILL)).start()
    found = list(spread(pieces, 1, address))
    assert [one.status for one in found] == [0] * 6
    assert all(len(one.files) == 1 for one in found)
    assert workers[0].poll() is not None or workers[0].wait(timeout=10) is not None


def test_a_farm_that_is_not_there_is_said() -> None:
    with pytest.raises(KnetenError, match="cannot be reached"):
        list(spread([Piece(("check", "x"))], 1, "tcp://127.0.0.1:9"))


def test_bad_words_about_jobs() -> None:
    from kneten.app.start.many import many

    with pytest.raises(UsageError, match="--jobs"):
        many("convert", ["a*.obj", "b", "--jobs", "two"])
