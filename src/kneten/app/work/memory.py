"""Memory: what the program holds, what is left, and whether long work would still find room."""

from __future__ import annotations

import os

from kneten.app.fields.quantities import count_text
from kneten.document.project import Project
from kneten.document.scene import Part

MOST_VERTICES = 20_000_000
"""Vertices of one level at most."""

PER_VERTEX = 190
"""Bytes that a vertex of a new level takes: the mesh (110), how it comes from the level below, what it was last."""

MESH_VERTEX = 110
"""Bytes that a vertex of new clay without levels takes."""

LEAST_LEFT = 0.1
"""Share of the machine's memory below which one is warned."""


def _told(name: str) -> int:
    with open("/proc/meminfo") as file:
        for line in file:
            if line.startswith(name):
                return int(line.split()[1]) * 1024
    return 1 << 40


def free_memory() -> int:
    """Bytes of main memory that programs can still have."""
    return _told("MemAvailable")


def all_memory() -> int:
    """Bytes of main memory there are."""
    return _told("MemTotal")


def own_memory() -> int:
    """Bytes of main memory that Kneten holds."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def size_text(size: float) -> str:
    """Bytes in words: 3.2 GB, 480 MB."""
    return f"{size / 1e9:.1f} GB" if size >= 1e9 else f"{size / 1e6:,.0f} MB"


def short_of_memory(what: str, size: float) -> str:
    """Why work that needs so many bytes cannot begin, or ""."""
    free = free_memory()
    if size <= free:
        return ""
    return (
        f"{what} needs about {size_text(size)} while it is done, and {size_text(free)} are left. "
        "Choose less, delete what is not needed, or close other programs."
    )


def budget_text(part: Part, project: Project, more: int = 0) -> str:
    """How much of the part's budget, or the project's, is used; with so many more vertices."""
    if part.budget:
        used, all_of, whose = part.mesh.count + more, part.budget, "Part's budget"
    else:
        used = sum(one.mesh.count for one in project.scene.parts) + more
        all_of, whose = project.settings.budget, "Budget"
    if used > all_of:
        return f"{whose}: {count_text(used - all_of)} over {count_text(all_of)}"
    return f"{whose}: {count_text(all_of - used)} of {count_text(all_of)} left"


def memory_text() -> str:
    """What is held and what is left, in words."""
    return f"Memory: {size_text(own_memory())} held, {size_text(free_memory())} left"


def is_scarce() -> bool:
    """Whether so little is left that one should know before it is too late."""
    return free_memory() < LEAST_LEFT * all_memory()
