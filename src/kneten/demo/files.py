"""The demo projects that ship with Kneten."""

from __future__ import annotations

import importlib.resources

from kneten.core.arrays import Progress
from kneten.document.project import Project
from kneten.document.project_file import open_project

DEMOS = {
    "tarn-forms": "Tarn, forms",
    "tarns-head": "Tarn's head, first clay",
    "widow-sedge": "Widow Sedge, blockout",
}
"""File and title of each demo."""


def demo_project(progress: Progress | None = None, name: str = "tarn-forms") -> Project:
    """A demo as a new project without a file of its own."""
    source = importlib.resources.files("kneten") / "data" / "demo" / f"{name}.kneten"
    with importlib.resources.as_file(source) as path:
        project = open_project(path, progress)
    project.path = None
    project.title = DEMOS[name]
    return project
