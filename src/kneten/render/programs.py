"""Shader programs, made when first needed: each choice of effects is a program of its own.

Software OpenGL runs both sides of a branch, so what is not drawn must not be in the program.
"""

from __future__ import annotations

import importlib.resources
from typing import Any

import moderngl
import numpy as np

VERSION = "#version 330\n"


def source(name: str, **switches: int) -> str:
    """A shader's text with its switches set."""
    text = (importlib.resources.files("kneten.render") / "shaders" / name).read_text()
    return VERSION + "".join(f"#define {key} {value}\n" for key, value in switches.items()) + text


class Programs:
    """All programs of one context."""

    def __init__(self, ctx: moderngl.Context) -> None:
        self.ctx = ctx
        self._made: dict[tuple[Any, ...], moderngl.Program] = {}
        self._arrays: dict[int, moderngl.VertexArray] = {}

    def mesh(self, name: str, vertex: str = "") -> moderngl.Program:
        """A program that draws meshes."""
        key = (name,)
        if key not in self._made:
            lines = source(f"{name}.geom") if name == "wire" else None
            self._made[key] = self.ctx.program(
                source(f"{vertex or name}.vert"), source(f"{name}.frag"), geometry_shader=lines
            )
        return self._made[key]

    def screen(self, name: str, **switches: int) -> moderngl.Program:
        """A program that runs for each pixel."""
        key = (name, *sorted(switches.items()))
        if key not in self._made:
            self._made[key] = self.ctx.program(source("screen.vert"), source(f"{name}.frag", **switches))
        return self._made[key]

    def run(self, program: moderngl.Program) -> None:
        """Run a screen program over what the framebuffer's scissor leaves."""
        if program.glo not in self._arrays:
            self._arrays[program.glo] = self.ctx.vertex_array(program, [])
        self._arrays[program.glo].render(moderngl.TRIANGLES, 3)

    def release(self) -> None:
        """Give them back."""
        for array in self._arrays.values():
            array.release()
        for program in self._made.values():
            program.release()
        self._arrays.clear()
        self._made.clear()


def put(program: moderngl.Program, **values: Any) -> None:
    """Set those of the uniforms that the program really has."""
    for name, value in values.items():
        if name not in program:
            continue
        if isinstance(value, np.ndarray):
            uniform = program[name]
            assert isinstance(uniform, moderngl.Uniform)
            uniform.write(value.T.astype("f4").tobytes())
        else:
            program[name] = value
