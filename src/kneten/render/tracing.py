"""A ray-traced picture in the making: its process, and what it has told of so far."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kneten.core.arrays import F32
from kneten.core.camera import Camera
from kneten.document.scene import Scene
from kneten.render.filming import behind, developed, first_seen
from kneten.render.handover import Order, hand_over
from kneten.render.still import Still
from kneten.render.style import Style

GONE = "the process that traces light has ended by itself: try again, smaller if memory is short"


class TraceError(Exception):
    """A picture cannot be traced. The text says why."""


@dataclass(frozen=True)
class Refined:
    """How far a picture has come.

    Attributes
    ----------
    samples : int
        For each pixel so far.
    picture : (h, w, 4) float32 or None
        Light and cover, by which it is multiplied.
    seconds : float
        Since it was begun, those while it rested left aside.
    """

    samples: int = 0
    picture: F32 | None = None
    seconds: float = 0.0


class Tracing:
    """One ray-traced picture. `begin` hands the scene over, on any thread; what it does then is asked for, or waited for.

    Attributes
    ----------
    order : Order
    error : str
        Why it has come to nothing; "" as long as it has not.
    notices : list of str
        What else is to be said.
    """

    def __init__(self, scene: Scene, camera: Camera, style: Style, order: Order) -> None:
        order.check()
        self.scene, self.camera, self.style, self.order = scene, camera, style, order
        self.error = ""
        self.notices: list[str] = []
        self.now = Refined()
        self.done = False
        self._folder = Path(tempfile.mkdtemp(prefix="kneten-trace-"))
        self._process: subprocess.Popen[str] | None = None
        self._reader: threading.Thread | None = None
        self._ended = False
        self._paused = False
        self._behind: F32 | None = None
        self._changed = threading.Condition()
        # Whoever ends it meets either no process, or one that runs and is listened to.
        self._starting = threading.Lock()

    def begin(self) -> None:
        """Hand the scene over and start the process. Raises `TraceError` and `StillError`."""
        try:
            hand_over(self._folder, self.scene, self.camera, self.style, self.order)
        except OSError as error:
            self.end()
            raise TraceError(f"the scene cannot be handed over: {error.strerror or error}") from error
        with self._starting:
            if not self._ended:
                self._start()
        if self._ended:
            # What was written after it was taken away.
            shutil.rmtree(self._folder, ignore_errors=True)
        elif self.order.clean:
            # While the process reads the clay.
            seen = first_seen(self.scene, self.camera, self.order.size, self.style)
            with contextlib.suppress(OSError):
                np.save(self._folder / "half-seen.npy", seen)
                os.replace(self._folder / "half-seen.npy", self._folder / "helping.npy")

    def _start(self) -> None:
        words = [sys.executable, "-m", "kneten.render.tracer", str(self._folder), str(os.getpid())]
        # Whoever sculpts meanwhile comes first.
        self._process = subprocess.Popen(
            ["nice", "-n", "10", *words] if shutil.which("nice") else words,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
            start_new_session=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
        )
        self._reader = threading.Thread(target=self._read, name="tracing", daemon=True)
        self._reader.start()

    def _read(self) -> None:
        process = self._process
        assert process is not None
        assert process.stdout is not None
        with process.stdout:
            for line in process.stdout:
                try:
                    words = json.loads(line)
                except ValueError:
                    # Some library has spoken.
                    continue
                self._hear(words)
        process.wait()
        with self._changed:
            if not self._ended and not self.error and self.now.samples < self.order.samples:
                self.error = GONE
            self.done = True
            self._changed.notify_all()

    def _hear(self, words: dict[str, object]) -> None:
        with self._changed:
            if "failed" in words:
                self.error = str(words["failed"])
            if "notice" in words:
                self.notices.append(str(words["notice"]))
            if "samples" in words:
                picture = self.now.picture
                if "file" in words:
                    with contextlib.suppress(OSError, ValueError):
                        picture = np.load(self._folder / str(words["file"]))[..., :4]
                spent = self.now.seconds + float(words.get("seconds", 0.0))  # type: ignore[arg-type]
                self.now = Refined(int(words["samples"]), picture, spent)  # type: ignore[call-overload]
            self._changed.notify_all()

    # -- asking ---------------------------------------------------------------------------------

    @property
    def paused(self) -> bool:
        """Whether it rests."""
        return self._paused

    def wait(self, seconds: float | None = None) -> Refined:
        """Until it is done, or so many seconds have passed; how far it has come. Raises `TraceError`."""
        end = None if seconds is None else time.monotonic() + seconds
        with self._changed:
            while not self.done:
                left = None if end is None else end - time.monotonic()
                if left is not None and left <= 0:
                    break
                self._changed.wait(left)
            if self.error:
                raise TraceError(self.error)
            return self.now

    def pause(self, on: bool) -> None:
        """Let it rest, or go on."""
        if self._process is not None and not self.done:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self._process.pid, signal.SIGSTOP if on else signal.SIGCONT)
            self._paused = on

    def enough(self) -> None:
        """Have it end with the pass that it is at, and the noise of that taken out; then it is done."""
        process = self._process
        if process is not None and not self.done:
            self.pause(False)
            self._ended = True
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGTERM)

    def end(self) -> None:
        """Stop at once, and take away what was handed over. What was heard stays."""
        with self._starting:
            self._ended = True
            if self._process is not None and self._process.poll() is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(self._process.pid, signal.SIGKILL)
        if self._reader is not None and self._reader is not threading.current_thread():
            self._reader.join(5)
        shutil.rmtree(self._folder, ignore_errors=True)

    def still(self, now: Refined) -> Still:
        """The picture as it is then: over what lies behind it, with its finish. Raises `StillError`."""
        assert now.picture is not None
        light = now.picture.copy()
        if not self.style.clear_ground:
            if self._behind is None:
                self._behind = behind(self.scene, self.camera, self.order.size, self.style)
            through = 1 - np.clip(light[..., 3:], 0, 1)
            light = light + self._behind * through
        still = developed(light, self.camera, self.style)
        (wide, high), order = self.order.size, self.order
        noise = "without its noise" if order.clean and not self.notices else "with its noise"
        still.made_of = (
            f"Kneten, ray-traced: {wide} x {high} pixels, {now.samples} samples, seed {order.seed}, "
            f"depth {order.depth}, {noise}"
        )
        return still
