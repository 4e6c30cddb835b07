"""Shader programs, made when first needed: each choice of effects is a program of its own.

Software OpenGL runs both sides of a branch, so what is not drawn must not be in the program.
"""

from __future__ import annotations

import importlib.resources
import re
from typing import Any

import moderngl
import numpy as np

VERSION = "#version 330\n"


def source(name: str, **switches: int) -> str:
    """A shader's text with its switches set."""
    folder = importlib.resources.files("kneten.render") / "shaders"
    text = (folder / name).read_text()
    if switches.get("GRAINS") and name.endswith(".frag"):
        text = (folder / "grain.glsl").read_text() + text
    # What lamps, sky and curves do is said once, after what the program itself is given.
    for shared in ("lamps", "curve"):
        text = text.replace(f"#include {shared}\n", (folder / f"{shared}.glsl").read_text())
    return VERSION + "".join(f"#define {key} {value}\n" for key, value in switches.items()) + text


LINED = {"wire": "wire", "fur-wide": "fur", "laid": "laid"}
"""Programs with a stage between vertices and pixels, and whose pixels they are."""

BEHIND = ("ground",)
"""Programs whose pixels lie behind all that there is: those that clay covers need not be worked out."""

MOST = 32
"""Programs for pixels that are kept: every look has one for each choice of effects, some hundreds in all, each with memory of its own."""


class Programs:
    """The programs of one context."""

    def __init__(self, ctx: moderngl.Context) -> None:
        self.ctx = ctx
        self._meshes: dict[tuple[Any, ...], moderngl.Program] = {}
        self._screens: dict[tuple[Any, ...], moderngl.Program] = {}
        self._arrays: dict[int, moderngl.VertexArray] = {}

    def mesh(self, name: str, vertex: str = "", **switches: int) -> moderngl.Program:
        """A program that draws meshes."""
        key = (name, *sorted(switches.items()))
        if key not in self._meshes:
            lines = source(f"{name}.geom", **switches) if name in LINED else None
            pixels = source(f"{LINED.get(name, name)}.frag", **switches)
            if name == "fur-wide":
                # What the pixels read has other names behind a stage between.
                for word in ("along", "normal", "tint"):
                    pixels = re.sub(rf"\b{word}\b", f"{word}_", pixels)
            self._meshes[key] = self.ctx.program(
                source(f"{vertex or name}.vert", **switches), pixels, geometry_shader=lines
            )
        return self._meshes[key]

    def screen(self, name: str, **switches: int) -> moderngl.Program:
        """A program that runs for each pixel."""
        key = (name, *sorted(switches.items()))
        program = self._screens.pop(key, None)
        if program is None:
            program = self.ctx.program(
                source("screen.vert", FAR=int(name in BEHIND)), source(f"{name}.frag", **switches)
            )
        # The last one used comes last: what has not been for longest makes room.
        self._screens[key] = program
        while len(self._screens) > MOST:
            self._give_back(self._screens.pop(next(iter(self._screens))))
        return program

    def _give_back(self, program: moderngl.Program) -> None:
        array = self._arrays.pop(program.glo, None)
        if array is not None:
            array.release()
        program.release()

    def run(self, program: moderngl.Program) -> None:
        """Run a screen program over what the framebuffer's scissor leaves."""
        if program.glo not in self._arrays:
            self._arrays[program.glo] = self.ctx.vertex_array(program, [])
        self._arrays[program.glo].render(moderngl.TRIANGLES, 3)

    def release(self) -> None:
        """Give them back."""
        for program in (*self._meshes.values(), *self._screens.values()):
            self._give_back(program)
        self._meshes.clear()
        self._screens.clear()


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
