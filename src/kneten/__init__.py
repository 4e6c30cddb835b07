"""Kneten: a clay studio for high-detail characters and creatures.

`import kneten` gives the library: `kneten.open`, `kneten.new`, `Project`, `Part`, `KnetenError`. It is loaded when it is first
asked for, so that the program starts without it.
"""

from typing import Any

__version__ = "0.1.0"

__all__ = ["KnetenError", "Part", "Project", "__version__", "new", "open"]


def __getattr__(name: str) -> Any:
    if name in ("KnetenError", "Part", "Project", "new", "open"):
        from kneten import library

        return getattr(library, name)
    raise AttributeError(f"module {__name__} has no attribute {name}")
