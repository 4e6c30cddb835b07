"""What tests of drawing share."""

from __future__ import annotations

from collections.abc import Iterator

import moderngl
import pytest

from kneten.render.renderer import Renderer
from kneten.render.still import headless_context


@pytest.fixture(scope="module")
def context() -> Iterator[moderngl.Context]:
    """One for all tests of a module."""
    context = headless_context()
    yield context
    context.release()


@pytest.fixture
def renderer(context: moderngl.Context) -> Iterator[Renderer]:
    """One that draws small pictures in the module's context."""
    renderer = Renderer(context)
    renderer.resize(320, 240)
    yield renderer
    renderer.release()
