"""The demo projects that ship with Kneten."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

from kneten.core.arrays import Progress
from kneten.document.project import Project
from kneten.document.project_file import open_project

DEMOS = {
    "tarn-forms": "Tarn, forms",
    "tarns-head": "Tarn's head, first clay",
    "widow-sedge": "Widow Sedge, blockout",
}
"""File and title of each demo."""


def demo_path(name: str) -> Path:
    """Where a demo's file lies."""
    return Path(str(importlib.resources.files("kneten") / "data" / "demo" / f"{name}.kneten"))


def demo_project(progress: Progress | None = None, name: str = "tarn-forms") -> Project:
    """A demo as a new project without a file of its own."""
    project = open_project(demo_path(name), progress)
    project.path = None
    project.title = DEMOS[name]
    return project
