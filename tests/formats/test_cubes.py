"""Colour tables from .cube files, good and bad."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest

from kneten.core.light.finish import table_size
from kneten.formats.cubes import read_cube
from kneten.formats.pieces import FormatError


def written(path: Path, head: str, rows: object) -> Path:
    path.write_text(head + "\n" + "\n".join(" ".join(f"{v:.6f}" for v in row) for row in rows) + "\n")  # type: ignore[attr-defined]
    return path


def corners(n: int) -> list[tuple[float, float, float]]:
    return [(r, g, b) for b, g, r in itertools.product(np.linspace(0, 1, n), repeat=3)]


def test_a_table_is_read_with_its_title_and_order(tmp_path: Path) -> None:
    head = '# a note\nTITLE "Cold night"\nLUT_3D_SIZE 3'
    table = read_cube(written(tmp_path / "a.cube", head, corners(3)))
    assert (table.name, table.size) == ("Cold night", 3)
    # Red changes the fastest.
    assert table.steps[1].tolist() == [0.5, 0, 0]
    assert table.steps[9].tolist() == [0, 0, 0.5]


def test_three_curves_become_a_table(tmp_path: Path) -> None:
    rows = [(0.0, 0.0, 1.0), (1.0, 0.5, 0.0)]
    table = read_cube(written(tmp_path / "a.cube", "LUT_1D_SIZE 2", rows))
    assert table.size == 33
    steps = table.steps.reshape(33, 33, 33, 3)
    assert steps[0, 0, 32].tolist() == pytest.approx([1.0, 0.0, 1.0])
    assert steps[16, 32, 0].tolist() == pytest.approx([0.0, 0.5, 0.5])


def test_another_range_is_brought_to_that_of_screens(tmp_path: Path) -> None:
    head = "LUT_3D_SIZE 5\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 2 2 2"
    steps = read_cube(written(tmp_path / "a.cube", head, corners(5))).steps
    # The table says what it does at twice white: at white it has come half the way.
    assert steps[-1].tolist() == pytest.approx([0.5, 0.5, 0.5])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no table"),
        ("LUT_3D_SIZE 3\n0 0 0\n", "promises 27"),
        ("LUT_3D_SIZE 400\n", "no table"),
        ("LUT_3D_SIZE x\n", "line 1"),
        ("LUT_3D_SIZE 2\n" + "0 0 nan\n" * 8, "no colours"),
        ("LUT_3D_SIZE 2\n" + "0 0\n" * 8, "line 2"),
        ("LUT_3D_SIZE 2\nDOMAIN_MAX 0 0 0\n" + "0 0 0\n" * 8, "range"),
    ],
)
def test_what_is_no_table_is_refused_with_words(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "bad.cube"
    path.write_text(text)
    with pytest.raises(FormatError, match=words):
        read_cube(path)


def test_a_file_that_is_not_there_is_said(tmp_path: Path) -> None:
    with pytest.raises(FormatError, match="cannot be read"):
        read_cube(tmp_path / "none.cube")


def test_tables_have_a_size() -> None:
    assert table_size(27) == 3
    for count in (26, 1, 66**3):
        with pytest.raises(ValueError, match="not usable"):
            table_size(count)
