"""What mends Tarn's shapes, each by itself and in pairs: found by the check, too slowly for each opening, so it is kept.

Written anew by `python -m kneten.demo.tarn_mended`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kneten.core.arrays import F32, F64, I32, Progress
from kneten.demo.files import demo_path
from kneten.document.driving import shape_layer, shapes_of
from kneten.document.mending import mend_all, mend_pairs
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.shape_checks import Mended, PairMended, Trial, face_of
from kneten.document.shapes import neutral

PATH = demo_path("tarn-moods").with_name("tarn-mended.npz")


@dataclass(frozen=True, eq=False)
class Kept:
    """How one or two shapes, by their names, move some vertices of a part.

    Attributes
    ----------
    rows : (k,) int32
    wanted : (k, 3) float64
    """

    shapes: tuple[str, ...]
    part: str
    rows: I32
    wanted: F64 | F32


def write(some: list[Kept], path: Path) -> None:
    """Keep what was found."""
    np.savez_compressed(
        path,
        shapes=np.array([" + ".join(one.shapes) for one in some]),
        parts=np.array([one.part for one in some]),
        ends=np.cumsum([0, *(len(one.rows) for one in some)]),
        rows=np.concatenate([one.rows for one in some]),
        wanted=np.concatenate([one.wanted for one in some]).astype(np.float32),
    )


def read(path: Path) -> Iterator[Kept]:
    """What was kept."""
    with np.load(path) as kept:
        held = {key: kept[key] for key in kept.files}
    for k, (names, part) in enumerate(zip(held["shapes"].tolist(), held["parts"].tolist(), strict=True)):
        some = slice(held["ends"][k], held["ends"][k + 1])
        yield Kept(
            tuple(names.split(" + ")), part, held["rows"][some], held["wanted"][some].astype(np.float64)
        )


def _named(project: Project) -> tuple[Mapping[str, Part], Mapping[str, str]]:
    parts = {part.name: part for part in project.scene.parts}
    return parts, {one.name: key for key, one in shapes_of(project.scene).items()}


def mend_singly(project: Project) -> None:
    """Mend what is wrong with each shape by itself."""
    parts, ids = _named(project)
    mended: dict[str, list[Mended]] = {}
    for one in read(PATH):
        if len(one.shapes) == 1:
            layer = shape_layer(parts[one.part], ids[one.shapes[0]])
            assert layer is not None
            wanted = one.wanted.astype(np.float64)
            mended.setdefault(parts[one.part].id, []).append(Mended(layer.id, one.rows, wanted))
    mend_all(project, mended)


def mend_in_pairs(project: Project) -> None:
    """Add the corrections of what goes wrong only in pairs."""
    parts, ids = _named(project)
    found = []
    for one in read(PATH):
        if len(one.shapes) == 2:
            known = ids.get(" + ".join(one.shapes), "")
            keys = tuple(ids[name] for name in one.shapes)
            wanted = one.wanted.astype(np.float64)
            found.append(PairMended(keys, known, parts[one.part].id, one.rows, wanted))
    mend_pairs(project, found)


def found_singly(project: Project, body: Part) -> list[Kept]:
    """What mends each shape of Tarn by itself."""
    names = {key: one.name for key, one in shapes_of(project.scene).items()}
    parts = {part.id: part for part in project.scene.parts}
    found = []
    for part_id, some in Trial(project.scene, face_of(project.scene, body)).mended(Progress()).items():
        stack = parts[part_id].stack
        assert stack is not None
        for one in some:
            shape = stack.layer(one.layer_id).shape
            assert shape is not None
            found.append(Kept((names[shape.id],), parts[part_id].name, one.rows, one.wanted))
    return found


def found_in_pairs(project: Project, body: Part) -> list[Kept]:
    """What mends pairs of Tarn's shapes, once each is mended by itself."""
    names = {key: one.name for key, one in shapes_of(project.scene).items()}
    names |= {part.id: part.name for part in project.scene.parts}
    trial = Trial(project.scene, face_of(project.scene, body))
    trial.singly(Progress())
    return [
        Kept(tuple(names[key] for key in one.shapes), names[one.part_id], one.rows, one.wanted)
        for one in trial.pairs_mended(Progress())
    ]


if __name__ == "__main__":
    from kneten.demo.tarn_moods import corrected, sculpted

    tarn, face = sculpted(Progress())
    body = tarn.scene.part(face)
    singly = found_singly(tarn, body)
    write(singly, PATH)
    corrected(tarn, face)
    neutral(tarn, [face])
    write(singly + found_in_pairs(tarn, tarn.scene.part(face)), PATH)
