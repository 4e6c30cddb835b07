"""The feel sheets in `docs/tools/` are what the tools do."""

from __future__ import annotations

import moderngl
import numpy as np
import pytest
from PIL import Image

from kneten.core.brushes.toolbox import TOOLS
from tests.feel_sheets import FOLDER, sheet
from tests.long import some


@pytest.mark.parametrize("key", some(list(TOOLS), 6))
def test_tools_leave_what_their_feel_sheets_show(context: moderngl.Context, key: str) -> None:
    wanted = np.asarray(Image.open(FOLDER / f"{key}.png").convert("RGB")).astype(int)
    found = np.asarray(sheet(key, context)).astype(int)
    assert found.shape == wanted.shape
    off = np.abs(found - wanted).max(axis=2)
    # The kept sheets have few colours; drivers differ along outlines, not in a form.
    assert np.median(off) <= 5
    assert (off > 40).mean() < 0.01


def test_every_tool_has_its_sheet_in_the_list() -> None:
    text = (FOLDER / "README.md").read_text()
    assert all(f"({key}.png)" in text for key in TOOLS)
