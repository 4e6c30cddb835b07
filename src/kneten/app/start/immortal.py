"""Keeps Python 3.11 alive under Qt bindings that were built for later Pythons.

From Python 3.12 on `None`, `True` and `False` are immortal, and PySide6 6.12 counts on that: each call
that returns nothing takes a reference to `None` that it never added. On 3.11 the count runs down, by
130 a painted frame, and at zero the interpreter aborts in the middle of the work.
"""

from __future__ import annotations

import ctypes
import sys

LIVES = 1 << 60
"""More references than calls can take: at a million a second, 36,000 years."""


def make_immortal() -> None:
    """Give the constants so many references that they cannot run out."""
    if sys.version_info >= (3, 12):
        return
    for constant in (None, True, False, Ellipsis, NotImplemented):
        # An object begins with its reference count.
        count = ctypes.c_ssize_t.from_address(id(constant))
        if count.value < LIVES // 2:
            count.value += LIVES
