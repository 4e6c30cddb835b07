"""Errors in what Qt calls are told, and never end the program.

An error that comes straight from compiled code has no exception object until some Python code catches it. Where such an
error leaves a method that Qt calls (`paintEvent`, `event`, `paintGL`), the bindings take it for one that has, and the
process ends with a segmentation fault. So each such method of our classes catches what it raises, and raises it again.
"""

from __future__ import annotations

import functools
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
    super(QObject, cls).__init_subclass__(**options)
    bases = [base for base in cls.__mro__ if base.__module__.startswith("PySide6.")]
    for name, held in list(vars(cls).items()):
        if isinstance(held, types.FunctionType) and any(name in vars(base) for base in bases):
            setattr(cls, name, steady(held))


def install() -> None:
    """Have all classes steady that are made of Qt's from now on."""
    QObject.__init_subclass__ = classmethod(_made)  # type: ignore[assignment, arg-type]
