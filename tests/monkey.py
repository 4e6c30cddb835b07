"""A monkey at the desk: `python -m tests.monkey [--events 20000] [--seed 1] [--same]` on a screen.

Random presses, strokes, wheels, pens, undo and every command there is, over a project with everything in it: linked
copies, live parts, levels, layers, loose clay, masks, guides, a reference board. Nothing may be raised or printed, undo
must lead back through all of it, what is saved must open the same, and memory must not grow beyond what undo holds.
"""

from __future__ import annotations

import argparse
import ctypes
import faulthandler
import gc
import importlib
import os
import pkgutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from numba.core.dispatcher import Dispatcher

import kneten.core
import kneten.document
import kneten.formats
import kneten.render
from kneten.app.start.main import prepare_graphics
from kneten.core.values import VALUES

LEFT_OUT = {
    "file.quit",  # ends the window
    "file.new",
    "trip.watch",
}

LARGE = 40_000
"""Vertices from which on a part is taken away again: how large clay grows is not what this is about."""

BUDGET = 64 << 20
"""Bytes of undo: little, so that it is full most of the time."""

ROUND = 1000
"""Actions after which all is checked and begun anew, in a window of its own."""

GROWTH = 1_000_000
"""Bytes that a round may lose for good, in the mean of those that brought no kernel and no module."""


class Heap(ctypes.Structure):
    """What glibc tells of its heap: `struct mallinfo2`."""

    _fields_ = [
        (name, ctypes.c_size_t)
        for name in (
            "arena", "ordblks", "smblks", "hblks", "hblkhd", "usmblks", "fsmblks", "uordblks", "fordblks", "keepcost"
        )
    ]  # fmt: skip


TELLING = 20_000_000
"""Bytes more than a round before from which on it is told what holds them."""


def in_use() -> int:
    """Bytes that the process has asked for and not given back; what lies free between them does not count."""
    ask = ctypes.CDLL("libc.so.6").mallinfo2
    ask.restype = Heap
    told = ask()
    return int(told.uordblks + told.hblkhd)


def held_arrays(most: int = 6) -> tuple[int, list[str]]:
    """Bytes in NumPy's arrays that anything holds, and the largest of them with who holds them."""
    import numpy as np

    found: dict[int, tuple[int, object]] = {}
    for holder in gc.get_objects():
        for thing in gc.get_referents(holder):
            if isinstance(thing, np.ndarray) and thing.base is None and id(thing) not in found:
                found[id(thing)] = thing.nbytes, holder
    told = []
    # Who holds the holders is looked for through everything there is: of the largest only.
    for size, holder in sorted(found.values(), key=lambda one: one[0], reverse=True)[:most]:
        owners = [type(owner).__name__ for owner in gc.get_referrers(holder)[:3]]
        told.append(f"{size / 1e6:.1f} MB: {type(holder).__name__} of {', '.join(owners)}")
    return sum(size for size, _ in found.values()), told


def kernels() -> list[Dispatcher]:
    """Every kernel there is."""
    found = []
    for room in (kneten.core, kneten.formats, kneten.document, kneten.render):
        for module in pkgutil.walk_packages(room.__path__, f"{room.__name__}."):
            own = vars(importlib.import_module(module.name)).values()
            found += [one for one in own if isinstance(one, Dispatcher) and one.__module__ == module.name]
    return found


def kernels_loaded() -> int:
    """Loads every kernel that has ever been compiled here. Returns how many there are."""
    loaded = 0
    for kernel in kernels():
        if hasattr(kernel._cache, "_cache_file"):
            for kinds in kernel._cache._cache_file._load_index():
                kernel.compile(kinds[0])
                loaded += 1
    return loaded


def come_to_stay() -> tuple[int, int]:
    """How many kernels and modules there are: the compiler keeps megabytes of each kernel for good, once, as imports do."""
    return sum(len(kernel.signatures) for kernel in kernels()), len(sys.modules)


def unnamed(everything: list[Any]) -> list[Any]:
    """A project's state without what files do not tell: the names of meshes' shapes, as loose clay gets a new one each time it comes to rest, and values that say nothing of any place."""
    told = []
    for thing in everything:
        if isinstance(thing, tuple) and len(thing) == 5:
            told.append(thing[:-1])
        elif not (isinstance(thing, tuple) and thing[0] in VALUES and says_nothing(*thing)):
            told.append(thing)
    return told


def says_nothing(name: str, held: bytes) -> bool:
    """Whether an array of values is blank all over."""
    kind = VALUES[name]
    rows = len(held) // kind.none(1).nbytes
    return kind.none(rows).tobytes() == held


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.monkey")
    parser.add_argument("--events", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument(
        "--same",
        action="store_true",
        help="the same actions in each round: what is used for the first time is no leak",
    )
    given = parser.parse_args()
    faulthandler.enable()
    os.environ["KNETEN_STATE"] = os.environ["KNETEN_CONFIG"] = tempfile.mkdtemp(prefix="kneten-monkey-")
    prepare_graphics()
    import numpy as np
    import pytest
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QPixmapCache
    from PySide6.QtWidgets import QApplication

    from kneten.app.fields.theme import load_fonts
    from kneten.app.shell.window import Window
    from kneten.app.work.preferences import Preferences
    from kneten.core.warm import warm_here
    from kneten.document import history
    from kneten.document.blocking import copy
    from kneten.document.project import Project
    from kneten.document.project_file import open_project, save_project
    from tests.app.test_soak import Hands
    from tests.app.windows import DEMOS, answer_dialogs, settle
    from tests.document.test_project import same, state
    from tests.fuzz import rich_project

    app = QApplication(sys.argv[:1])
    load_fonts()
    warm_here()
    print(f"{kernels_loaded()} kernels", flush=True)
    history.BUDGET = BUDGET
    patch = pytest.MonkeyPatch()
    answer_dialogs(patch)

    def everything() -> Project:
        project = rich_project()
        copy(project, project.scene.parts[:1], linked=True, way=np.array([60.0, 0.0, 0.0]))
        return project

    def opened(seed: int) -> tuple[Window, Hands]:
        """A window with everything in it, and the hands at it."""
        window = Window(Preferences(still=True))
        window.studio.ready = True
        window.studio.ask_unsaved = lambda: "discard"
        window.resize(window.minimumSize())
        window.show()
        window.studio.take(everything())
        window.views.frame_all()
        window.view.set_effects(1)
        settle(window)
        hands = Hands(window, seed)
        hands.commands = [
            key for key in window.registry.commands if key not in LEFT_OUT and not key.startswith(DEMOS)
        ]
        return window, hands

    def closed(window: Window) -> None:
        window.studio.project.unsaved = False
        window.close()
        window.deleteLater()
        for _ in range(5):
            QApplication.processEvents()
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)

    sizes: list[int] = []
    left: list[int] = []
    ready: list[tuple[int, int]] = []

    def tidy(window: Window, hands: Hands) -> None:
        now = window.studio.project
        for part in now.scene.parts:
            if part.mesh.n_vertices > LARGE and not window.studio.is_at_work(part):
                now.delete(part.id)
        hands.tidy()
        if not now.scene.parts:
            window.studio.take(everything())

    began, before, wrong = time.monotonic(), 0, 0
    for count in range(given.events):
        if count % ROUND == 0:
            window, hands = opened(given.seed if given.same else given.seed + count)
        hands.act()
        if count % 25 == 0:
            window.studio.wait(20.0)
            tidy(window, hands)
        if count % ROUND < ROUND - 1 and count < given.events - 1:
            continue
        hands.escape()
        settle(window)
        if window.studio.mishaps:
            wrong += len(window.studio.mishaps)
            window.studio.mishaps.clear()
        path = Path(os.environ["KNETEN_STATE"]) / "monkey.kneten"
        now = window.studio.project
        now.end_trials()
        save_project(now, path)
        now.settle([part.id for part in now.scene.parts])
        if not same(unnamed(state(open_project(path))), unnamed(state(now))):
            wrong += 1
            kept = path.with_name(f"opens-otherwise-{count}.kneten")
            path.rename(kept)
            print(f"what was saved opens as something else: {kept}", flush=True)
            for one, other in zip(unnamed(state(open_project(kept))), unnamed(state(now)), strict=False):
                if type(one) is not type(other) or not same([one], [other]):
                    print(str(one)[:300], "\n", str(other)[:300], flush=True)
        undone = [now.undo() for _ in range(len(now.history.names()[0]))]
        redone = [now.redo() for _ in undone]
        if undone != redone[::-1] or not all(undone):
            wrong += 1
            print(
                "undone and made again differ:",
                set(undone) ^ set(redone),
                undone.count(None),
                redone.count(None),
            )
        # With the same clay in hand on the same desk as a thousand actions ago, what is more now was lost.
        window.studio.take(everything())
        window.view.stop_compare()
        window.view.set_four(False)
        window.view.set_effects(1)
        window.showNormal()
        window.resize(window.minimumSize())
        settle(window)
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        QPixmapCache.clear()  # glyphs of themes: 10 MB at most, filled bit by bit
        gc.collect()
        size = in_use()
        took = time.monotonic() - began
        print(
            f"{count + 1} actions, {took:.0f} s, {size / 1e6:.0f} MB, {(size - before) / 1e6:+.1f} MB",
            flush=True,
        )
        if size - before > TELLING and sizes:
            bytes_held, large = held_arrays()
            print(f"  {bytes_held / 1e6:.0f} MB in arrays; the largest: {'; '.join(large)}", flush=True)
        sizes.append(size)
        before = size
        # What stays when the window has gone is lost for good; the rest is the window's: caches of styles, of pictures.
        closed(window)
        del window, hands, now
        gc.collect()
        left.append(in_use())
        ready.append(come_to_stay())
        kept, loaded = ready[-1]
        print(f"  without the window {left[-1] / 1e6:.1f} MB, {kept} kernels, {loaded} modules", flush=True)
    lost, off = growth(left, ready)
    print(
        f"{given.events} actions, {wrong} wrong, {lost / 1e6:+.2f} MB a round without the window, "
        f"give or take {off / 1e6:.2f}, over the last two thirds of {len(left)} rounds"
    )
    wrong += lost - off > GROWTH
    patch.undo()
    del app
    return 1 if wrong else 0


def growth(left: list[int], ready: list[tuple[int, int]]) -> tuple[float, float]:
    """What a round loses, bytes, and how far that may be off: memory as a line of rounds and of kernels, by least squares.

    Kernels come to stay. What else is held differs by ten megabytes from round to round: a mean of the few rounds that
    bring no kernel says nothing. The first third is left out: caches fill.
    """
    first = len(left) // 3
    if len(left) - first < 5:
        return 0.0, float("inf")
    kernels = np.array([one for one, _ in ready[first:]], np.float64)
    rounds = np.arange(len(kernels), dtype=np.float64)
    table = np.stack([np.ones_like(rounds), rounds, kernels - kernels.mean()], axis=1)
    held = np.array(left[first:], np.float64)
    found, *_ = np.linalg.lstsq(table, held, rcond=None)
    rest = held - table @ found
    spread = np.linalg.pinv(table.T @ table) * (rest @ rest) / max(len(rounds) - 3, 1)
    return float(found[1]), float(np.sqrt(spread[1, 1]))


if __name__ == "__main__":
    sys.exit(main())
