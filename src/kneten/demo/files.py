"""The demo projects that ship with Kneten."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

from kneten.core.arrays import Progress
from kneten.document.layering import exchange_level
from kneten.document.preview import preview_of
from kneten.document.project import Project
from kneten.document.project_file import open_project

DEMOS = {
    "tarn-painted": "Tarn, painted",
    "pim": "Pim, painted",
    "tarn-clean": "Tarn, made clean",
    "tarn-skin": "Tarn, skin",
    "tarn-forms": "Tarn, forms",
    "tarns-head": "Tarn's head, first clay",
    "widow-sedge": "Widow Sedge, blockout",
}
"""File and title of each demo."""

FINEST = ("tarn-skin", "tarn-painted")
"""Demos that are shown on their highest level, and kept on a lower one."""


def demo_path(name: str) -> Path:
    """Where a demo's file lies."""
    return Path(str(importlib.resources.files("kneten") / "data" / "demo" / f"{name}.kneten"))


def demo_picture(name: str) -> bytes:
    """What a demo looks like, as PNG: its file's picture, or one of its own beside the files."""
    own = demo_path(name).with_suffix(".png")
    return own.read_bytes() if own.exists() else preview_of(demo_path(name))


def demo_project(progress: Progress | None = None, name: str = "tarn-forms", finest: bool = True) -> Project:
    """A demo as a new project without a file of its own; on its highest level, where it is to be shown on that."""
    project = open_project(demo_path(name), progress)
    project.path = None
    project.title = DEMOS[name]
    if finest and name in FINEST:
        for part in project.scene.parts:
            if part.stack is not None:
                stack, mesh = part.stack.stepped(part.mesh, part.stack.top, progress)
                exchange_level(project, part.id, stack, mesh, "Highest level")
        project.history.clear()
        project.unsaved = False
    return project
