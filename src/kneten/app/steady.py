"""What the bindings to Qt get wrong on this Python, so that nothing of it ends the program.

They are built for a Python whose `None`, `True` and `False` live for ever, and give them back once too often: each call
of a method that returns nothing takes a reference to `None` away. On older ones `None` would be freed after some hundred
thousand calls, and the process ends. So the few objects that everyone shares are given references that nobody uses up.

An error that comes straight from compiled code has no exception object until some Python code catches it. Where such an
error leaves a method that Qt calls (`paintEvent`, `event`, `paintGL`), the bindings take it for one that has, and the
process ends with a segmentation fault. So each such method of our classes catches what it raises, and raises it again.
"""

from __future__ import annotations

import ctypes
import functools
import sys
import types
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject


def steady(method: Callable[..., Any]) -> Callable[..., Any]:
    """The method, whose errors have an exception object."""

    @functools.wraps(method)
    def run(*args: Any, **options: Any) -> Any:
        try:
            return method(*args, **options)
        except BaseException:
            raise

    return run


def _made(cls: type, **options: Any) -> None:
    """A class of ours has been made of one of Qt's: have all steady that Qt may call."""
    super(QObject, cls).__init_subclass__(**options)  # type: ignore[misc]
    bases = [base for base in cls.__mro__ if base.__module__.startswith("PySide6.")]
    for name, held in list(vars(cls).items()):
        if isinstance(held, types.FunctionType) and any(name in vars(base) for base in bases):
            setattr(cls, name, steady(held))


SHARED = (None, True, False, NotImplemented, Ellipsis, (), "", b"", *range(-5, 257))
"""What one object stands for wherever it is used."""

SPARE = 1 << 40


def keep_shared() -> None:
    """Give what is shared so many references that they do not run out, where it may be freed."""
    if sys.version_info < (3, 12):
        for one in SHARED:
            # A reference count is the first word of an object.
            ctypes.c_ssize_t.from_address(id(one)).value += SPARE


def install() -> None:
    """Have what is shared kept, and all classes steady that are made of Qt's from now on."""
    keep_shared()
    QObject.__init_subclass__ = classmethod(_made)  # type: ignore[assignment, arg-type]
