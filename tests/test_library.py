"""The library: its examples as they stand in the docs, its refusals, its surface."""

from __future__ import annotations

import inspect
import re
from pathlib import Path

import numpy as np
import pytest
import trimesh

import kneten
from kneten import library
from kneten.document.project_file import open_project

DOCS = Path(__file__).parents[1] / "docs" / "library.md"


@pytest.fixture
def bust(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A file to begin with, in a folder of its own."""
    mesh = trimesh.creation.icosphere(4, 40.0)
    mesh.vertices[:, 1] *= 1.3
    mesh.export(tmp_path / "bust.obj")
    monkeypatch.chdir(tmp_path)
    return tmp_path / "bust.obj"


def test_the_examples_of_the_docs_run(bust: Path, capsys: pytest.CaptureFixture[str]) -> None:
    blocks = re.findall(r"```python\n(.*?)```", DOCS.read_text(encoding="utf-8"), re.S)
    assert len(blocks) >= 6
    names: dict[str, object] = {}
    for block in blocks:
        exec(compile(block, str(DOCS), "exec"), names)
    told = capsys.readouterr().out
    assert "bust" in told
    for name in ("bust.kneten", "bust.glb", "bust.png", "maps", "print", "game"):
        assert (bust.parent / name).exists(), name
    assert open_project(bust.parent / "bust.kneten").scene.parts[0].mesh.topology.n_triangles <= 8_000


def test_what_is_offered_is_documented_and_typed() -> None:
    for kind in (library.Project, library.Part):
        for name, member in inspect.getmembers(kind):
            if name.startswith("_"):
                continue
            assert inspect.getdoc(member), f"{kind.__name__}.{name}"
            if callable(member):
                told = inspect.signature(member)
                assert told.return_annotation is not inspect.Signature.empty
    assert set(kneten.__all__) <= {*dir(library), "__version__"}
    with pytest.raises(AttributeError, match="sculptor"):
        kneten.sculptor  # noqa: B018


def test_arrays_there_and_back() -> None:
    project = kneten.new()
    ball = trimesh.creation.icosphere(2, 10.0)
    colours = np.random.default_rng(1).integers(0, 255, (len(ball.vertices), 4)).astype(np.uint8)
    part = project.add("Ball", ball.vertices, ball.faces, colours)
    assert part.positions == pytest.approx(ball.vertices, abs=1e-5)
    assert np.array_equal(part.faces[:, :3], ball.faces)
    assert np.array_equal(part.colours, colours)
    assert part.uv is None
    assert part.triangles == len(ball.faces)
    part.visible = False
    assert not part.visible


def test_form_is_carried_over_and_bodies_joined() -> None:
    project = kneten.new()
    fine = trimesh.creation.icosphere(4, 30.0)
    fine.vertices *= 1 + 0.05 * np.sin(fine.vertices[:, :1] / 3)
    coarse = trimesh.creation.icosphere(2, 30.0)
    one = project.add("Fine", fine.vertices, fine.faces)
    two = project.add("Coarse", coarse.vertices, coarse.faces)
    two.carry_over(one, levels=1)
    off = np.abs(np.linalg.norm(two.positions, axis=1) - 30)
    assert off.max() > 0.8
    body = project.one_body()
    assert body.name == "Print body"
    assert [part.visible for part in project.parts] == [False, False, True]


@pytest.mark.parametrize(
    ("ask", "words"),
    [
        (lambda p: p.remesh(), "edge length or a number"),
        (lambda p: p.remesh(edge=1.0, vertices=9), "edge length or a number"),
        (lambda p: p.decimate(), "number of triangles"),
        (lambda p: p.decimate(triangles=10**7), "already"),
        (lambda p: p.bake(), "UV"),
        (lambda p: p.bake(("nothing",)), "."),
        (lambda p: p.retopologise(0), "."),
    ],
)
def test_what_cannot_be_done_is_said(ask, words: str) -> None:  # type: ignore[no-untyped-def]
    project = kneten.new()
    ball = trimesh.creation.icosphere(2, 10.0)
    with pytest.raises(kneten.KnetenError, match=words):
        ask(project.add("Ball", ball.vertices, ball.faces))


def test_files_and_wishes_that_make_no_sense(tmp_path: Path) -> None:
    with pytest.raises(kneten.KnetenError, match="There is no"):
        kneten.open(tmp_path / "none.obj")
    (tmp_path / "bad.kneten").write_bytes(b"nothing")
    with pytest.raises(kneten.KnetenError, match="bad"):
        kneten.open(tmp_path / "bad.kneten")
    project = kneten.new()
    with pytest.raises(kneten.KnetenError, match="no part Nose"):
        project.part("Nose")
    with pytest.raises(kneten.KnetenError, match="nothing to export"):
        project.export(tmp_path / "a.glb")
    with pytest.raises(kneten.KnetenError, match="colour_of"):
        project.check(colour_of="red")
    with pytest.raises(kneten.KnetenError, match="fewer triangles"):
        project.game_set(tmp_path, counts=(10_000, 20_000))
    project.add("Ball", *_ball())
    with pytest.raises(kneten.KnetenError, match="no camera"):
        project.still(tmp_path / "a.png", camera="Nobody's")


def _ball() -> tuple[np.ndarray, np.ndarray]:
    ball = trimesh.creation.icosphere(1, 10.0)
    return ball.vertices, ball.faces


def test_long_work_can_be_ended_by_whoever_watches() -> None:
    project = kneten.new()
    part = project.add("Ball", *_ball())

    class EnoughError(Exception):
        pass

    def report(share: float, what: str) -> None:
        raise EnoughError

    with pytest.raises(EnoughError):
        part.remesh(vertices=50_000, report=report)
    assert part.vertices == len(_ball()[0])
