"""Names for the array types that travel through the core, and the kernel decorator."""

from __future__ import annotations

import hashlib
import os
import pathlib
import platform
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from functools import cache
from typing import Any, TypeVar, cast

import numba
import numpy as np
import platformdirs
from numpy.typing import NDArray

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
I32 = NDArray[np.int32]
U32 = NDArray[np.uint32]
I64 = NDArray[np.int64]
U8 = NDArray[np.uint8]
U16 = NDArray[np.uint16]
AnyArray = np.ndarray[Any, np.dtype[Any]]

F = TypeVar("F", bound=Callable[..., Any])

PART = 150_000
"""Least number of vertices or faces that a thread of its own is worth."""

DAB_PART = 50_000
"""The same for what a dab reaches, where more is done to each."""


def kernel_folder() -> pathlib.Path:
    """Where compiled kernels are kept: a folder for this exact state of the core's code.

    Numba notices a change in a kernel's own file, but not in the kernels it calls from other files;
    a new folder for each state of the code rules out stale machine code.
    """
    digest = hashlib.sha256(f"{numba.__version__} {platform.machine()}".encode())
    for path in sorted(pathlib.Path(__file__).parent.rglob("*.py")):
        digest.update(path.read_bytes())
    base = os.environ.get("KNETEN_CACHE") or platformdirs.user_cache_dir("kneten")
    return pathlib.Path(base) / "kernels" / digest.hexdigest()[:16]


numba.config.CACHE_DIR = str(kernel_folder())  # type: ignore[attr-defined]


def kernel(function: F) -> F:
    """Mark a loop over arrays for compilation at its first call.

    The compiled code is kept on disk, releases the interpreter lock, and divides as NumPy does.
    Nothing is compiled when the module is imported.
    """
    compiled: Any = numba.njit(cache=True, nogil=True, error_model="numpy")(function)
    return cast("F", compiled)


def inlined(function: F) -> F:
    """Mark a small helper to be written out where a kernel calls it.

    A call proper counts references to every array it passes, with locked instructions: five arrays
    cost 70 ns, more than most helpers' own work. A helper must end in its only `return`.
    """
    compiled: Any = numba.njit(inline="always")(function)
    return cast("F", compiled)


PROCESSORS = os.cpu_count() or 1
"""How many threads work at once."""


class Cancelled(Exception):  # noqa: N818
    """Long work was cancelled; nothing was changed."""


class Progress:
    """What long work reports to, and asks whether to go on. This one is silent and never cancels."""

    def report(self, fraction: float, text: str = "") -> None:
        """Tell how far the work is (0..1). Raises `Cancelled` when the user wants to stop."""


def parts_of(n: int, least: int = PART) -> list[int]:
    """Where the parts of `0..n` end, the first number 0; none is smaller than `least`.

    They are up to twice as many as there are processors, so that one which is busy elsewhere does fewer.
    """
    parts = min(2 * PROCESSORS, max(n // least, 1)) if PROCESSORS > 1 else 1
    return [n * k // parts for k in range(parts + 1)]


def in_parts(n: int, run: Callable[[int, int], object], least: int = PART) -> None:
    """Run a kernel over `0..n` in parts, `run(first, last)`, on as many threads as there are processors.

    Parts must not write to the same places. Kernels release the interpreter lock; the first part runs here. What a
    part raises is raised here, once all have ended.
    """
    ends = parts_of(n, least)
    at_once(len(ends) - 1, lambda part: run(ends[part], ends[part + 1]))


def at_once(parts: int, run: Callable[[int], object]) -> None:
    """Call `run` with 0, 1, ... up to `parts`, each in a thread of its own but the first, as `in_parts` does."""
    if parts == 1:
        run(0)
        return
    raised: list[BaseException] = []

    def one(part: int) -> None:
        try:
            run(part)
        except BaseException as error:
            raised.append(error)

    waiting = [(_helpers().submit(one, part), part) for part in range(1, parts)]
    one(0)
    # What no helper has begun is done here: so parts may be parted again, and nobody waits for a busy helper.
    for future, part in reversed(waiting):
        if future.cancel():
            one(part)
    wait([future for future, _ in waiting if not future.cancelled()])
    if raised:
        raise raised[0]


@cache
def _helpers() -> ThreadPoolExecutor:
    """The threads that take part; begun when first wanted."""
    return ThreadPoolExecutor(max(PROCESSORS - 1, 1), thread_name_prefix="part")
