"""Corrections of a talking mouth: shapes out and in by name and vertex order, one put right by a mesh from elsewhere, one for two dials together.

All shapes of Tarn's moods go out as files and come back the same. At the moment where two of them are wholly there a
correction is sculpted that comes only with both; one more is taken from a file whose points were moved. All is tried
moment by moment, saved, and opened again.
"""

from __future__ import annotations

import itertools
import tempfile
from pathlib import Path

import numpy as np

from kneten.document.driving import FoundShape, shapes_of
from kneten.document.scene import Part
from tests.works.sitting import Sitting, UnacceptableError


def shapes(sitting: Sitting) -> dict[str, FoundShape]:
    return {one.name: one for one in shapes_of(sitting.project.scene).values()}


def face(sitting: Sitting) -> Part:
    """The part that most shapes move."""
    counts: dict[str, int] = {}
    for one in shapes(sitting).values():
        for key in one.layers:
            counts[key] = counts.get(key, 0) + 1
    return sitting.project.scene.part(max(counts, key=lambda key: counts[key]))


def at(sitting: Sitting, **dials: float) -> np.ndarray:
    """Where the clay is with some shapes dialled, all others at rest."""
    sitting.run("shape.neutral")
    for name, value in dials.items():
        sitting.window.shaping.keep(shapes(sitting)[name].id, value)
    sitting.rest()
    return face(sitting).mesh.positions.copy()


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    window.files.open_demo("tarn-moods")
    sitting.rest()
    sitting.project.choose(face(sitting).id)
    own = [name for name, one in shapes(sitting).items() if not one.shape.drivers]
    print(f"  {len(shapes(sitting))} shapes, {len(own)} with dials of their own: {', '.join(own)}")
    rest = at(sitting)
    with tempfile.TemporaryDirectory() as name:
        out_and_in(sitting, Path(name), own)
    jaw = next((one for one in own if "jaw" in one.lower() or "open" in one.lower()), own[-1])
    lip = next(
        one
        for one in own
        if one != jaw and ("lip" in one.lower() or "smile" in one.lower() or "grin" in one.lower())
    )
    together(sitting, rest, jaw, lip)
    sitting.reopen()
    sitting.project.choose(face(sitting).id)
    if np.abs(at(sitting) - rest).max() > 1e-3:
        raise UnacceptableError("the face does not rest as it did")


def out_and_in(sitting: Sitting, folder: Path, own: list[str]) -> None:
    """All out as files; what comes in again is the same, by name and by the order of vertices; undone again."""
    files = sitting.window.shape_files
    files.export(folder)
    sitting.rest()
    written = sorted(folder.glob("*.obj"))
    print(f"  {sitting.said()}")
    if len(written) < len(own):
        raise UnacceptableError(f"{len(written)} files for {len(own)} shapes")
    some = [path for path in written if path.stem in own][:3]
    steps = len(sitting.project.history.names()[0])
    files.bring(some)
    sitting.rest()
    for path in some:
        first, again = at(sitting, **{path.stem: 1.0}), at(sitting, **{f"{path.stem} 2": 1.0})
        off = float(np.abs(first - again).max())
        print(f"  {path.stem}: {off:.4f} mm off, moved by {np.abs(first - at(sitting)).max():.1f} mm")
        if off > 0.02:
            raise UnacceptableError(f"{path.stem} came back otherwise")
    while len(sitting.project.history.names()[0]) > steps:
        sitting.run("edit.undo")


def together(sitting: Sitting, rest: np.ndarray, jaw: str, lip: str) -> None:
    """A correction for two dials, sculpted where they meet, tried moment by moment."""
    window = sitting.window
    only_jaw, only_lip = at(sitting, **{jaw: 1.0}), at(sitting, **{lip: 1.0})
    both = at(sitting, **{jaw: 1.0, lip: 1.0})
    window.shaping.choose(shapes(sitting)[jaw].id)
    window.shaping.choose(shapes(sitting)[lip].id, more=True)
    before = set(shapes(sitting))
    sitting.run("shape.correct")
    new = set(shapes(sitting)) - before
    if len(new) != 1:
        raise UnacceptableError(f"the correction was not made: {sitting.said()}")
    sitting.look("front")
    sitting.tool("pull", 18.0, 1.0)
    x, y, z = sitting.front(20.0, -28.0)
    sitting.stroke([(x, y, z), (x + 2.0, y - 2.0, z), (x + 4.0, y - 4.0, z)])
    corrected = face(sitting).mesh.positions.copy()
    sitting.run("shape.record")
    print(f"  {new}: moves the clay by {np.abs(corrected - both).max():.1f} mm where both are there")
    if np.abs(corrected - both).max() < 0.5:
        raise UnacceptableError("the correction does nothing")
    for words, wanted, dials in (
        ("the jaw alone", only_jaw, {jaw: 1.0}),
        ("the lip alone", only_lip, {lip: 1.0}),
        ("both", corrected, {jaw: 1.0, lip: 1.0}),
        ("rest", rest, {}),
    ):
        off = float(np.abs(at(sitting, **dials) - wanted).max())
        if off > 1e-2:
            raise UnacceptableError(f"{words} is {off:.3f} mm off")
    # Moment by moment: it never jumps.
    moments = [at(sitting, **{jaw: t, lip: 1.0}) for t in np.linspace(0, 1, 9)]
    jumps = [float(np.abs(b - a).max()) for a, b in itertools.pairwise(moments)]
    print(f"  steps between moments: {min(jumps):.2f} to {max(jumps):.2f} mm")
    if max(jumps) > 6 * max(min(jumps), 0.2):
        raise UnacceptableError("the mouth jumps")
    sitting.picture("both")
