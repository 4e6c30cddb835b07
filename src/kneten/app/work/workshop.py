"""What the studio's own helpers know of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol

from kneten.app.work.preferences import Preferences
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.document.project import Project
from kneten.document.scene import Part


class Workshop(Protocol):
    """The studio, as far as advisor and live density need it."""

    project: Project
    preferences: Preferences
    all_ready: bool

    def say(self, text: str, kind: str = "info") -> None: ...
    def aside(self, work: Callable[[], Any], done: Callable[[Any], None]) -> None: ...
    def after(self, then: Callable[[], None]) -> None: ...
    def journal_ahead(self, meshes: list[Mesh]) -> None: ...
    def stroke_blocked(self, part: Part) -> str: ...
    def is_at_work(self, part: Part) -> bool: ...
    def work_on(
        self,
        parts: Sequence[Part],
        name: str,
        work: Callable[[Progress], Any],
        land: Callable[[Any], None],
    ) -> Any: ...

    def __getattr__(self, name: str) -> Any:
        """Signals, and whatever else a QObject has."""
