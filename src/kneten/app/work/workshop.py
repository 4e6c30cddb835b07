"""What the studio's own helpers know of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject

from kneten.app.work.losses import Reshapes
from kneten.app.work.preferences import Preferences
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.document.project import Project
from kneten.document.scene import Part


class Workshop(QObject):
    """The studio, as far as advisor and live density need it; `Studio` does all this."""

    project: Project
    preferences: Preferences

    @property
    def all_ready(self) -> bool:
        """Whether everything is compiled."""
        raise NotImplementedError

    def say(self, text: str, kind: str = "info") -> None:
        """Tell the user something."""
        raise NotImplementedError

    def aside(self, work: Callable[[], Any], done: Callable[[Any], object]) -> None:
        """Do something on another thread, and then something with what came of it."""
        raise NotImplementedError

    def after(self, then: Callable[[], object]) -> None:
        """Go on with what waited for clay to come to rest."""
        raise NotImplementedError

    def journal_ahead(self, meshes: list[Mesh]) -> None:
        """Write clay to the journal before it lands."""
        raise NotImplementedError

    def stroke_blocked(self, part: Part) -> str:
        """Why a stroke on a part cannot begin, or nothing."""
        raise NotImplementedError

    def is_at_work(self, part: Part) -> bool:
        """Whether something is worked out for a part."""
        raise NotImplementedError

    def work_on(
        self,
        parts: Sequence[Part],
        name: str,
        work: Callable[[Progress], Any],
        land: Callable[[Any], object],
        reshapes: Reshapes = "",
    ) -> Any:
        """Work something out for parts, which are locked meanwhile."""
        raise NotImplementedError

    if TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            """Signals."""
