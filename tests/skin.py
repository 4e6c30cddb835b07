"""All of fine detail in the real window, on *Tarn, skin* beside a ball of two million vertices; then undone, redone, saved,
packed, reopened, and brought back as after a crash.

    python -m tests.skin [divisions of the ball]

Prints what each step took. Ends with an error where what comes back differs in a bit, or a command said no.
"""

from __future__ import annotations

import dataclasses
import hashlib
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("KNETEN_STATE", tempfile.mkdtemp())
os.environ.setdefault("KNETEN_CONFIG", tempfile.mkdtemp())

from kneten.app.start.main import prepare_graphics

prepare_graphics()

import numpy as np  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.camera import Camera  # noqa: E402
from kneten.core.transform import Transform  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.document.kinds import THINGS, as_it_is  # noqa: E402
from kneten.document.layering import record  # noqa: E402
from kneten.document.project_file import save_snapshot, snapshot  # noqa: E402
from kneten.document.recovery import left_journals  # noqa: E402
from kneten.document.scene import Part, Scene  # noqa: E402
from tests.app.windows import drag  # noqa: E402
from tests.conftest import make_ball  # noqa: E402


def told(digest: hashlib.blake2b, thing: object) -> None:
    """Take all of a thing into a digest: arrays by their bytes."""
    if isinstance(thing, np.ndarray):
        digest.update(thing.dtype.str.encode() + np.ascontiguousarray(thing).tobytes())
    elif dataclasses.is_dataclass(thing) and not isinstance(thing, type):
        for field in dataclasses.fields(thing):
            digest.update(field.name.encode())
            told(digest, getattr(thing, field.name))
    elif isinstance(thing, (tuple, list)):
        for one in thing:
            told(digest, one)
    else:
        digest.update(repr(thing).encode())


def told_part(digest: hashlib.blake2b, part: Part) -> None:
    """The same for a part, its levels and its layers."""
    mesh = part.mesh.settled()
    told(digest, (part.name, part.transform, part.visible, part.recipe, mesh.positions, mesh.topology.faces))
    for name, value in sorted(mesh.values().items()):
        if value.any():
            told(digest, (name, value))
    if part.stack is None:
        return
    stack = part.stack.taken(mesh.positions)
    told(digest, (stack.base, stack.level, stack.groups, stack.solo))
    for level in stack.levels:
        told(digest, (level.detail.rows, level.detail.values))
    for layer in stack.layers:
        told(digest, (layer.name, layer.strength, layer.shown, layer.grain))
        told(digest, [(relief.rows, relief.values) for relief in layer.reliefs if relief])


def digests(scene: Scene) -> dict[str, str]:
    """All that must come back, part by part and kind by kind, in a few letters each."""
    found = {}
    parts = {part.id: part for part in scene.parts}
    for part in scene.parts:
        digest = hashlib.blake2b(digest_size=6)
        told_part(digest, part)
        found[part.name] = digest.hexdigest()
    for kind in THINGS:
        digest = hashlib.blake2b(digest_size=6)
        # Where they are is told by their triangles; their places are those of when they were laid, until they are written.
        told(digest, [as_it_is(THINGS[kind], thing, parts) for thing in scene.things(kind)])
        found[kind] = digest.hexdigest()
    return found


class Walk:
    """The window, and what went wrong."""

    def __init__(self, app: QApplication, divisions: int) -> None:
        self.app = app
        load_fonts()
        self.window = window = Window(Preferences(still=True, welcomed=True))
        window.resize(1280, 800)
        window.show()
        warm_here()
        window.studio.ready = True
        window.studio.ask_unsaved = lambda: "discard"
        self.problems: list[str] = []
        self.timed("Open Tarn, skin", lambda: window.files.open_demo("tarn-skin"))
        window.choose_stage("Surface")
        window.views.frame_all()
        low, high = window.studio.project.scene.bounds()
        place = Transform((float(high[0]) + 160.0, float(low[1]) + 100.0, 0.0))
        self.project.add_meshes("Add Ball", [("Ball", make_ball(100.0, divisions), place)])
        self.settle()
        print(f"{sum(part.mesh.count for part in self.project.scene.parts):,} vertices")

    @property
    def project(self):  # type: ignore[no-untyped-def]
        return self.window.studio.project

    def settle(self) -> None:
        self.window.studio.wait(300)
        end = time.monotonic() + 0.1
        while time.monotonic() < end or not self.window.view.resting:
            self.app.processEvents()
            time.sleep(0.003)

    def timed(self, name: str, do: Callable[[], object]) -> None:
        before, begin = len(self.window.studio.mishaps), time.perf_counter()
        known = {id(notice) for notice in self.window.notices.notices}
        do()
        self.settle()
        took = time.perf_counter() - begin
        said = [
            n for n in self.window.notices.notices if n.kind in ("warning", "error") and id(n) not in known
        ]
        print(f"{name:34} {took:6.1f} s  {said[-1].text[:90] if said else ''}")
        mishaps = self.window.studio.mishaps[before:]
        self.problems += [f"{name}: {one}" for one in mishaps]
        self.problems += [f"{name}: {n.text}" for n in said if n.kind == "error"]

    def run(self, key: str) -> None:
        self.timed(key, lambda: self.window.registry.run(key))

    def choose(self, name: str) -> Part:
        part = next(one for one in self.project.scene.parts if one.name == name)
        self.project.choose(part.id)
        self.settle()
        return part

    def look(self, target: tuple[float, float, float], distance: float, yaw: float = 20.0) -> None:
        self.window.view.set_camera(Camera(target=target, distance=distance, yaw=yaw, pitch=3.0))
        self.settle()

    def stroke(self, name: str, line: list[tuple[float, float]]) -> None:
        x, y = self.window.view.width() / 2, self.window.view.height() / 2
        self.timed(name, lambda: drag(self.window, [(x + a, y + b) for a, b in line]))

    def press(self, key: str, kind: str, size: float, **tip: object) -> None:
        studio = self.window.studio
        self.window.choose_tool("press")
        studio.presses.made(key)
        self.window.presses.choose(key)
        studio.set_brush(kind=kind, size=size)
        studio.set_tip(**{"rolled": False, "whole": False, **tip})

    def same(self, what: str, wanted: dict[str, str]) -> None:
        found = digests(self.project.scene)
        off = sorted(name for name in wanted.keys() | found.keys() if wanted.get(name) != found.get(name))
        print(f"{what}: {'the same to the bit' if not off else 'DIFFERENT: ' + ', '.join(off)}")
        if off:
            self.problems.append(f"{what} differs in {', '.join(off)}")


def on_the_ball(walk: Walk) -> None:
    """Presses, grain, scatter, a row, fur."""
    window = walk.window
    part = walk.choose("Ball")
    x, y, z = part.transform.place
    walk.look((x, y, z), 420.0, 0.0)
    walk.press("scales-pointed", "dragged", 70.0, height=0.2)
    walk.stroke("Press, dragged", [(-60.0, 0.0), (-56.0, 2.0)])
    walk.press("rope", "continuous", 18.0, height=0.3, rolled=True)
    walk.stroke("Press, rolled", [(-120.0, 110.0), (0.0, 80.0), (120.0, 120.0)])
    walk.press("deep-barnacle", "sized", 30.0, height=0.6)
    walk.stroke("Press, deep", [(70.0, -70.0), (110.0, -70.0)])
    walk.run("grain.add")
    for field, value in (("scale", 3.0), ("height", 0.25), ("kind", "pebbles")):
        walk.timed(f"grain: {field}", lambda f=field, v=value: window.grains.change(**{f: v}))
    walk.press("scales-pointed", "dragged", 50.0, height=0.2)
    walk.stroke("Press over grain", [(10.0, 20.0), (14.0, 20.0)])
    walk.run("grain.bake")
    mesh = walk.choose("Ball").mesh
    mask = (mesh.positions[:, 1] > 60).astype(np.float32)
    walk.project.set_values(part.id, "mask", mask, "Mask the top")
    walk.run("fur.add")
    walk.timed("fur: 60,000", lambda: window.furs.change(count=60_000, length=12.0, clump=0.5))
    walk.run("laying.scatter")
    walk.timed("scatter: size", lambda: window.layings.change(size=9.0, vary=0.2))
    walk.choose("Ball")
    walk.project.set_values(part.id, "mask", None, "Clear the mask")
    walk.settle()
    window.choose_tool("raise")
    window.studio.set_brush(size=60.0, kind="continuous")
    walk.stroke("Raise under fur and scales", [(-40.0, -110.0), (40.0, -120.0)])


def on_tarn(walk: Walk) -> None:
    """Layers dialled, hidden, restored in places; more pores; combed fur; rivets."""
    window, project = walk.window, walk.project
    part = walk.choose("Tarn")
    walk.look((34.0, 6.0, 95.0), 260.0, 30.0)
    names = {layer.name: layer.id for layer in part.stack.layers}
    for name, strength in (("Pores, broad", -1.0), ("Wrinkles", 1.5), ("Pores, broad", 1.0)):
        walk.timed(f"{name}: {strength:.0%}", lambda n=name, s=strength: window.levels.keep_dial(names[n], s))
    walk.timed("Hide the lips", lambda: window.levels.show(names["Lips"]))
    record(project, project.scene.part(part.id), names["Pores, broad"])
    window.choose_tool("restore")
    window.studio.set_brush(size=50.0, kind="continuous")
    walk.stroke("Restore pores in places", [(20.0, 40.0), (90.0, 80.0)])
    record(project, project.scene.part(part.id), "")
    walk.press("pores-two", "scattered", 40.0, height=0.06, turned="chance")
    walk.stroke("Press, strewn", [(80.0, -20.0), (140.0, 60.0), (100.0, 140.0)])
    walk.run("level.down")
    window.choose_tool("raise")
    window.studio.set_brush(size=60.0, kind="continuous")
    walk.stroke("Raise the cheek below", [(100.0, 60.0), (120.0, 120.0)])
    walk.run("level.up")
    walk.look((0.0, -60.0, 0.0), 690.0, 128.0)
    window.furs.choose(next(fur.id for fur in project.scene.things("furs") if fur.name == "Hump"))
    walk.run("fur.comb")
    walk.stroke("Comb the hump", [(-10.0, 40.0), (40.0, 130.0)])
    window.view.take_mode(None)
    walk.choose("Rivets")
    walk.timed("rivets: size", lambda: window.layings.change(size=3.2))
    walk.choose("Tarn")


def main(divisions: int = 577) -> int:
    """Walk through it."""
    walk = Walk(QApplication(sys.argv[:1]), divisions)
    window = walk.window
    first = digests(walk.project.scene)
    depth = len(walk.project.history.names()[0])
    on_the_ball(walk)
    on_tarn(walk)
    last = digests(walk.project.scene)
    count = len(walk.project.history.names()[0]) - depth
    for what, key, wanted in (("Undone", "edit.undo", first), ("Redone", "edit.redo", last)):
        walk.timed(f"{what}, {count} steps", lambda k=key: [window.registry.run(k) for _ in range(count)])
        walk.same(what, wanted)
    folder = Path(tempfile.mkdtemp())
    for small in (False, True):
        path = folder / f"small {small}.kneten"
        taken = snapshot(walk.project)
        walk.timed(
            "Save packed" if small else "Save", lambda p=path, t=taken, s=small: save_snapshot(p, t, small=s)
        )
        print(f"{path.stat().st_size / 1e6:.0f} MB")
    journal = window.studio.journal
    assert journal is not None
    (journal.folder / "owner").write_text("1 gone")
    (left, *_) = left_journals()
    walk.timed("Restore after a crash", lambda: window.studio.restore_left(left))
    walk.same("Restored", last)
    for path in sorted(folder.iterdir()):
        walk.project.unsaved = False
        walk.timed(f"Open, {path.stem}", lambda p=path: window.studio.open_path(p))
        walk.same("Reopened", last)
    walk.project.unsaved = False
    window.close()
    for problem in walk.problems:
        print("PROBLEM", problem)
    return 1 if walk.problems else 0


if __name__ == "__main__":
    raise SystemExit(main(*(int(word) for word in sys.argv[1:])))
