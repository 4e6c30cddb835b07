"""A bust fit for printing: one body, thick enough, hollow and drained, cut apart with pegs, on a base with its name; checked and written.

Tarn's bust of the demo is made 120 mm high. What is too thin is thickened, and only that; the set that is written is read
by an independent library.
"""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

import numpy as np
import trimesh

from tests.works.sitting import Sitting, UnacceptableError


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    window.files.open_demo("tarn-forms")
    sitting.rest()
    printing = window.printing
    window.choose_stage("Deliver")
    printing.change(
        sizing="height", height=120.0, thinnest=1.2, wall=3.0, fine=256, title="Tarn", material="resin"
    )
    sitting.run("print.body")
    body = sitting.part
    if body.name != "Print body":
        raise UnacceptableError(sitting.said())
    print(f"  one body: {sitting.said()}")
    sitting.run("print.check")
    thin = printing.found[0].walls.thin
    if thin > 0.001:
        sitting.run("print.thin")
        sitting.picture("walls")
        sitting.run("print.thin", "print.thicken")
        print(f"  {100 * thin:.2f} % too thin; {sitting.said()}")
    sitting.run("print.hollow")
    print(f"  {sitting.said()}")
    sitting.run("print.drain-lowest")
    plugs = [part for part in sitting.project.scene.parts if "plug" in part.name]
    if not plugs:
        raise UnacceptableError("there is no plug")
    sitting.project.choose(body.id)
    sitting.run("print.cut")
    print(f"  {sitting.said()}")
    halves = [part for part in sitting.project.scene.parts if part.name.startswith("Print body,")]
    if len(halves) != 2:
        raise UnacceptableError("it is not in two halves")
    sitting.run("print.base")
    sitting.look("front", perspective=True)
    sitting.picture("base")
    sitting.run("print.check")
    for one in printing.found:
        print(
            f"  {one.name}: {one.facts.weight:.1f} g, thinnest {one.walls.least:.2f} mm, {one.flaw or 'sound'}"
        )
        if one.flaw:
            raise UnacceptableError(f"{one.name} {one.flaw}")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        printing.write_to(folder)
        window.studio.wait(240)
        told = json.loads(next(folder.glob("*.json")).read_text())
        print(f"  {len(told['bodies'])} bodies, {told['weight_g']} g, {told['layers']} layers")
        for path in folder.glob("*.stl"):
            solid = trimesh.load(path)
            solid.merge_vertices()
            if not solid.is_watertight or not np.isfinite(solid.volume) or solid.volume <= 0:
                raise UnacceptableError(f"{path.name} is not tight")
