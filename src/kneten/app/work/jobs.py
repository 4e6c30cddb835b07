"""Long work on a thread of its own: progress, cancel, and a landing on the window's thread."""

from __future__ import annotations

import threading
import time
import traceback
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from kneten.core.arrays import Cancelled, Progress


class _Watched(Progress):
    """Passes reports on, a few a second, and raises `Cancelled` once asked to."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._last = 0.0

    def report(self, fraction: float, text: str = "") -> None:
        if self._job.cancelled.is_set():
            raise Cancelled
        now = time.monotonic()
        if now - self._last > 0.05:
            self._last = now
            self._job.progressed.emit(fraction, text)


class Job(QObject):
    """One piece of long work.

    Attributes
    ----------
    part_ids : frozenset of str
        The parts that rest until it has landed.

    Signals
    -------
    progressed(float, str)
    done(object)
        With the work's result, unless it failed or was cancelled.
    failed(str)
    ended()
        In every case, last.
    """

    progressed = Signal(float, str)
    done = Signal(object)
    failed = Signal(str)
    ended = Signal()

    def __init__(self, name: str, work: Callable[[Progress], Any], part_ids: frozenset[str]) -> None:
        super().__init__()
        self.name = name
        self.part_ids = part_ids
        self.cancelled = threading.Event()
        self.over = threading.Event()
        self._work: Callable[[Progress], Any] | None = work
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def cancel(self) -> None:
        """Ask the work to stop; nothing will have changed."""
        self.cancelled.set()

    def join(self, seconds: float = 10.0) -> None:
        """Wait for the thread."""
        self._thread.join(seconds)

    def let_go(self) -> None:
        """Nobody waits for it any more. Whoever listens to it is held by it, and holds it: that must be ended by hand."""
        self.deleteLater()

    def _run(self) -> None:
        work, self._work = self._work, None
        assert work is not None
        try:
            result = work(_Watched(self))
            if self.cancelled.is_set():
                raise Cancelled
            self.done.emit(result)
            del result
        except Cancelled:
            pass
        except MemoryError:
            self.failed.emit(f"{self.name}: there is not enough memory. Nothing was changed.")
        except Exception as error:
            known = type(error).__module__.startswith("kneten.")
            if not known:
                traceback.print_exc()
            self.failed.emit(str(error) if known else f"{self.name} failed: {error}. Nothing was changed.")
        # What it worked on is not kept any longer than it takes.
        del work
        self.over.set()
        self.ended.emit()
