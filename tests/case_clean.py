"""Tarn, made clean, through the real window: quads with guides, UVs, maps, a model that looks like the sculpt; a lantern modelled.

`python -m tests.case_clean` (on a screen, some minutes); prints what was measured.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import trimesh

from kneten.app.start.main import prepare_graphics

prepare_graphics()

from PySide6.QtWidgets import QApplication  # noqa: E402

from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.maps.bake import BakeWish  # noqa: E402
from kneten.core.mesh import Mesh  # noqa: E402
from kneten.core.primitives import lattice  # noqa: E402
from kneten.core.quads.finish import quality  # noqa: E402
from kneten.core.uv.measure import measured, overlapping  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.demo.files import demo_project  # noqa: E402
from kneten.demo.tarn_clean import guided  # noqa: E402
from kneten.document.project import Project  # noqa: E402
from kneten.document.scene import Part, Scene  # noqa: E402
from kneten.document.unwrapping import cage_of  # noqa: E402
from kneten.formats.space import Space  # noqa: E402
from tests.app.windows import run, said, settle  # noqa: E402

LARGEST = 8_000_000
"""Bytes of the model."""


def told(what: str, value: object, bar: object = "") -> None:
    """A line of the report."""
    print(f"{what:46} {value} {f'(bar {bar})' if bar else ''}", flush=True)


def waited(window: Window, key: str) -> float:
    """Run a command and wait for what it began; the seconds it took."""
    began = time.perf_counter()
    run(window, key)
    window.studio.wait(600)
    settle(window)
    assert not window.studio.mishaps
    return time.perf_counter() - began


def clean_head(window: Window, folder: Path) -> None:
    """His head as quads, laid flat, with maps, in a file others can use."""
    project = demo_project(name="tarn-forms")
    head = guided(project)
    window.studio.take(project)
    project.choose(head.id)
    window.choose_stage("Net")
    settle(window)
    window.quads_card.count.set_value(9_000)
    window.quads_card.symmetric.setChecked(True)
    told("retopologised in", f"{waited(window, 'net.retopologise'):.0f} s")
    part = window.studio.project.active
    assert part is not None
    while part.stack is not None and part.stack.level > 0:
        waited(window, "level.down")
        part = window.studio.project.active
        assert part is not None
    found = quality(part.mesh.positions.astype(np.float64), part.mesh.topology.faces)
    told("quads, irregular, shape", f"{found.faces:,}, {100 * found.irregular:.1f} %, {found.shape:.2f}")
    told("unwrapped in", f"{waited(window, 'uv.unwrap-found'):.0f} s")
    cage = cage_of(window.studio.project.active)  # type: ignore[arg-type]
    size, skew = measured(cage.mesh).stretch()
    told("lengths, angles off", f"{100 * (size - 1):.0f} %, {100 * (skew - 1):.0f} %")
    told("faces over others", int(overlapping(cage.mesh).sum()))
    began = time.perf_counter()
    window.mapping.make(BakeWish(("normal", "occlusion", "colour"), 4096), None)
    window.studio.wait(900)
    settle(window)
    told("4k maps in", f"{time.perf_counter() - began:.0f} s")
    told("said", said(window).split("|")[-1])
    (part,) = [one for one in window.studio.project.scene.parts if one.id == window.studio.project.active_id]
    window.studio.export_path(folder / "tarn.glb", [part], Space("m"), False)
    window.studio.wait(120)
    bytes_ = (folder / "tarn.glb").stat().st_size
    told("the model", f"{bytes_ / 1e6:.1f} MB", "8 MB, for maps of 2k")
    judge = trimesh.load(folder / "tarn.glb", force="mesh", process=False)
    assert judge.visual.material.normalTexture is not None


def lantern(window: Window) -> None:
    """A tin lantern of few faces: a box, inset panes, a roof drawn to a point, bevelled edges."""
    points, faces = lattice(1, 1, 1)
    mesh = Mesh.from_faces(((points - 0.5) * [60.0, 90.0, 60.0]).astype(np.float32), faces)
    part = Part("Lantern", mesh)
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    settle(window)
    of, card = window.modelling, window.net_card

    def facing(axis: int, sign: float) -> np.ndarray:
        now = window.studio.project.active.mesh  # type: ignore[union-attr]
        at = of.places(now, "faces") * sign
        return np.asarray(at[:, axis] > at[:, axis].max() - 1e-3)

    def hand() -> Mesh:
        return window.studio.project.active.mesh  # type: ignore[union-attr]

    for axis, sign in ((0, 1.0), (0, -1.0), (2, 1.0), (2, -1.0)):
        of.kind = "faces"
        of.choose(hand(), facing(axis, sign))
        card.share.set_value(25)
        run(window, "net.inset")
        card.distance.set_value(-6)
        run(window, "net.extrude")
    of.choose(hand(), facing(1, 1.0))
    card.distance.set_value(25)
    run(window, "net.extrude")
    card.share.set_value(70)
    run(window, "net.inset")
    run(window, "uv.sharp")
    waited(window, "uv.unwrap")
    judge = trimesh.Trimesh(hand().positions, hand().topology.faces[:, :3], process=False)
    assert judge.is_winding_consistent
    told("the lantern", f"{hand().topology.n_faces} faces; {said(window).split('|')[-1].strip()}")


def main() -> None:
    """Do it."""
    app = QApplication(sys.argv)
    load_fonts()
    warm_here()
    window = Window(Preferences(still=True, effects=3))
    window.resize(1280, 800)
    window.show()
    app.processEvents()
    window.studio.ready = True
    window.studio.ask_unsaved = lambda: "discard"
    with tempfile.TemporaryDirectory() as folder:
        clean_head(window, Path(folder))
        lantern(window)
    window.studio.project.unsaved = False
    window.close()


if __name__ == "__main__":
    main()
