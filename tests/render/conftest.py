"""What tests of drawing share."""

from __future__ import annotations

from collections.abc import Iterator

import moderngl
import pytest

from kneten.render.programs import Programs
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context


@pytest.fixture(scope="module")
def context() -> Iterator[moderngl.Context]:
    """One for all tests of a module."""
    context = headless_context()
    yield context
    context.release()


@pytest.fixture(scope="module")
def programs(context: moderngl.Context) -> Iterator[Programs]:
    """Programs for all tests of a module: each takes longer to make than to draw with."""
    programs = Programs(context)
    yield programs
    programs.release()


@pytest.fixture
def renderer(context: moderngl.Context, programs: Programs) -> Iterator[Renderer]:
    """One that draws small pictures in the module's context."""
    renderer = Renderer(context, programs=programs)
    renderer.resize(320, 240)
    yield renderer
    renderer.release()
