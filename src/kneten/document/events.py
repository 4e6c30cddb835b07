"""How the project tells its listeners what changed, without knowing who they are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, ParamSpec

P = ParamSpec("P")


class Event(Generic[P]):
    """A list of functions to call when something has happened."""

    def __init__(self) -> None:
        self._listeners: list[Callable[P, object]] = []

    def connect(self, listener: Callable[P, object]) -> None:
        """Call `listener` from now on."""
        self._listeners.append(listener)

    def disconnect(self, listener: Callable[P, object]) -> None:
        """Stop calling `listener`."""
        self._listeners.remove(listener)

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> None:
        """Tell all listeners."""
        for listener in list(self._listeners):
            listener(*args, **kwargs)
