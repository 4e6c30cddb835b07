"""Grain that a mesh is too coarse for: its pattern is worked out for each pixel, and shown as shading."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F32, U8, Progress
from kneten.core.falloff import SAMPLES, Points, curve_table
from kneten.core.grain import KINDS, SHADED, Grain, coarse, octaves_held, share_held
from kneten.core.grain_work import GrainWork
from kneten.core.mesh import Mesh
from kneten.core.press import Press
from kneten.core.press_edits import edited
from kneten.core.presses.library import library
from kneten.core.stack import Layer, Stack
from kneten.document.masks import recalled
from kneten.document.scene import Part, Scene
from kneten.render.programs import put

MOST = 4
"""Grains of a part that are shown by shading at most, the uppermost: each takes its time at every pixel."""

CURVES, FIRST_PRESS = 6, 7
"""Texture units."""

NUMBERS = {name: number for number, name in enumerate(KINDS)}


@dataclass(frozen=True, eq=False)
class Worked:
    """What is worked out for a part.

    Attributes
    ----------
    columns : tuple of str
        The layers whose covers these are.
    seats, normals : (n, 3) float32
        Where its vertices were when grain was first laid, and which way they faced.
    covers : (n, 4) uint8
        How much of each grain lies on each vertex.
    edge : float
        How far its vertices lie apart.
    presses : dict
        Those that can be laid, by key.
    """

    columns: tuple[str, ...]
    seats: F32
    normals: F32
    covers: U8
    edge: float
    presses: dict[str, Press]


@dataclass(frozen=True)
class Shown:
    """A grain as pixels show it: where its cover stands, and how strong its layer is."""

    column: int
    grain: Grain
    strength: float


Place = tuple[str, str, str, float, float, float, str]
Want = tuple[Mesh, tuple[Place, ...]]


def _place(layer: Layer) -> Place:
    """All of a grain that has to be worked out for each vertex; its other numbers are given to pixels as they are."""
    grain = layer.grain
    assert grain is not None
    press = grain.press if grain.kind == "press" else ""
    return layer.id, grain.where, grain.of, grain.low, grain.high, grain.soft, press


def edge_of(mesh: Mesh) -> float:
    """How far vertices lie apart, from some of them."""
    faces = mesh.topology.faces
    some = faces[:: max(mesh.topology.n_faces // 5000, 1)]
    return float(np.linalg.norm(mesh.positions[some[:, 0]] - mesh.positions[some[:, 1]], axis=1).mean())


def seen_grains(part: Part) -> list[Layer]:
    """The layers of grain that count on a part as it is."""
    stack = part.stack
    if stack is None or stack.level != stack.top:
        return []
    return [layer for layer in stack.layers if layer.grain is not None and stack.strength(layer) != 0.0]


def _press(scene: Scene, key: str) -> Press | None:
    """A press by its key; None where it is not with the project."""
    entry = library().get(key)
    if entry is not None:
        return entry.made()
    own = next((one for one in scene.things("presses") if f"own:{one.id}" == key), None)
    return None if own is None else edited(own.picture, own.edits, own.tiles)


def worked(scene: Scene, stack: Stack, mesh: Mesh, layers: list[Layer]) -> Worked:
    """Work out what pixels need of a part's grains."""
    covers = np.full((mesh.n_vertices, MOST), 255, np.uint8)
    work = GrainWork(stack, mesh, layers[0])
    presses: dict[str, Press] = {}
    for column, layer in enumerate(layers):
        grain = layer.grain
        assert grain is not None
        if grain.kind == "press" and (press := _press(scene, grain.press)) is not None:
            presses[grain.press] = press
        mask = None
        if grain.where == "mask":
            kept = next((one for one in scene.kept_masks if one.id == grain.of), None)
            mask = None if kept is None else recalled(kept, mesh)
        cover = work.cover(grain, work.measure(grain, mask, Progress()))
        if cover is not None:
            covers[:, column] = np.rint(255 * np.clip(cover, 0, 1))
    return Worked(tuple(layer.id for layer in layers), work.seats, work.normals, covers, work.edge, presses)


class _Working:
    """Grain that is being worked out by a thread."""

    def __init__(self, work: Callable[[], Worked]) -> None:
        self.found: Worked | None = None
        self._work = work
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def _run(self) -> None:
        try:
            self.found = self._work()
        except ValueError:
            # A press that cannot be made: the card says so, and the clay is shown without it.
            self.found = None


def _put_rows(program: moderngl.Program, name: str, rows: Sequence[object]) -> None:
    """Set an array of uniforms; a program has it no longer than it reads it."""
    if name not in program:
        return
    uniform = program[name]
    assert isinstance(uniform, moderngl.Uniform)
    kind = np.int32 if name in ("grain_seed", "presses") else np.float32
    given = np.array(rows, kind)
    values = np.zeros((MOST, *given.shape[1:]), kind)
    values[: len(rows)] = given
    uniform.write(values[: uniform.array_length].tobytes())


class DrawnGrain:
    """What pixels need of a part's grains, on the graphics side."""

    def __init__(self, ctx: moderngl.Context, made: Worked) -> None:
        self._ctx = ctx
        self._made = made
        self.buffers = {
            "seated": (ctx.buffer(np.ascontiguousarray(made.seats, np.float32)), "3f4"),
            "seated_normal": (ctx.buffer(np.ascontiguousarray(made.normals, np.float32)), "3f4"),
            "covered": (ctx.buffer(made.covers), "4f1"),
        }
        self._curves = ctx.texture((SAMPLES, MOST), 1, dtype="f4")
        self._curves.repeat_x = self._curves.repeat_y = False
        self._bent: tuple[Points, ...] = ()
        self._presses = {key: self._picture(press) for key, press in made.presses.items()}

    def _picture(self, press: Press) -> moderngl.Texture:
        heights = np.ascontiguousarray(press.heights, np.float32)
        picture = self._ctx.texture(heights.shape[::-1], 1, heights.tobytes(), dtype="f4")
        picture.build_mipmaps()
        picture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        return picture

    def shown(self, part: Part) -> list[Shown]:
        """The grains of a part, as they are now, that its mesh is too coarse for."""
        found = []
        for layer in seen_grains(part):
            grain = layer.grain
            if grain is None or layer.id not in self._made.columns:
                continue
            if grain.kind == "press" and grain.press not in self._presses:
                continue
            if coarse(grain, self._made.edge) > SHADED:
                assert part.stack is not None
                found.append(Shown(self._made.columns.index(layer.id), grain, part.stack.strength(layer)))
        return found

    def use(self, program: moderngl.Program, shown: list[Shown]) -> None:
        """Give a program all of it."""
        self._use_curves(tuple(one.grain.curve for one in shown))
        edge = self._made.edge
        lies, highs, pictures, edges = [], [], [], []
        for k, one in enumerate(shown):
            grain = one.grain
            turn = np.radians(grain.turn)
            limits, wide, lod = (1.0, 0.0, -1.0, 1.0), 0.0, 0.0
            if grain.kind == "press":
                press = self._made.presses[grain.press]
                self._presses[grain.press].use(FIRST_PRESS + k)
                heights = press.heights
                limits = (press.aspect, float(heights.mean()), float(heights.min()), float(heights.max()))
                wide = float(heights.shape[1])
                lod = float(np.floor(np.log2(max(edge / grain.scale * wide, 1.0))))
            lies.append((grain.scale, float(np.cos(turn)), float(np.sin(turn)), grain.roughness))
            highs.append(
                (
                    grain.height * one.strength,
                    share_held(grain, edge),
                    float(octaves_held(grain, edge)),
                    wide,
                )
            )
            pictures.append(limits)
            edges.append((lod, float(grain.strewn), float(grain.mirrored), 0.0))
        for name, rows in (
            ("grain_lie", lies),
            ("grain_high", highs),
            ("grain_picture", pictures),
            ("grain_edge", edges),
            ("grain_seed", [one.grain.seed for one in shown]),
            ("presses", [FIRST_PRESS + k for k in range(MOST)]),
        ):
            _put_rows(program, name, rows)
        put(program, curves=CURVES)

    def _use_curves(self, curves: tuple[Points, ...]) -> None:
        if curves != self._bent:
            values = np.zeros((MOST, SAMPLES), np.float32)
            for k, curve in enumerate(curves):
                values[k] = curve_table(curve)
            self._curves.write(values.tobytes())
            self._bent = curves
        self._curves.use(CURVES)

    def release(self) -> None:
        """Give the graphics memory back."""
        for buffer, _ in self.buffers.values():
            buffer.release()
        self._curves.release()
        for picture in self._presses.values():
            picture.release()


def switches(shown: list[Shown]) -> dict[str, int]:
    """What a program must be made for to show these."""
    found = {"GRAINS": len(shown)}
    for k, one in enumerate(shown):
        found |= {f"KIND{k}": NUMBERS[one.grain.kind], f"COLUMN{k}": one.column}
    return found


class GrainShelf:
    """The grain of all visible parts that is shown by shading.

    Parameters
    ----------
    patient : bool
        It is worked out by threads while the caller does other things; otherwise `sync` waits.
    """

    def __init__(self, ctx: moderngl.Context, patient: bool = False) -> None:
        self._ctx = ctx
        self._patient = patient
        self._known: dict[str, tuple[Want, DrawnGrain | None]] = {}
        self._working: dict[str, tuple[Want, _Working]] = {}
        self._edges: dict[str, tuple[Mesh, float]] = {}

    def sync(self, scene: Scene) -> bool:
        """Have what is needed for exactly the parts that are seen; whether all of it is there."""
        wanted: dict[str, tuple[Part, Want, list[Layer]]] = {}
        for part in scene.parts:
            if part.visible and (layers := self._coarse(part)):
                wanted[part.id] = (part, (part.mesh, tuple(map(_place, layers))), layers)
        for gone in [key for key in self._known if key not in wanted]:
            self._drop(gone)
        for gone in [key for key in self._working if key not in wanted]:
            del self._working[gone]
        for key, (part, want, layers) in wanted.items():
            if key in self._known and self._known[key][0] == want:
                # Another that is being worked out, until an undo brought this back, would be waited for for good.
                self._working.pop(key, None)
                continue
            if key not in self._working or self._working[key][0] != want:
                stack, mesh = part.stack, part.mesh.copy() if self._patient else part.mesh
                assert stack is not None
                self._working[key] = (
                    want,
                    _Working(lambda s=stack, m=mesh, ls=layers: worked(scene, s, m, ls)),  # type: ignore[misc]
                )
            if not self._patient:
                self._working[key][1].thread.join()
            self._take(key)
        return not self._working

    def _take(self, key: str) -> None:
        want, working = self._working[key]
        if working.thread.is_alive():
            return
        del self._working[key]
        self._drop(key)
        made = working.found
        self._known[key] = (want, None if made is None else DrawnGrain(self._ctx, made))

    def _drop(self, key: str) -> None:
        known = self._known.pop(key, None)
        if known is not None and known[1] is not None:
            known[1].release()

    def _coarse(self, part: Part) -> list[Layer]:
        """The grains of a part, where its mesh is too coarse for one: not more than pixels can show."""
        layers = seen_grains(part)
        if not layers:
            self._edges.pop(part.id, None)
            return []
        known = self._edges.get(part.id)
        if known is None or known[0] is not part.mesh:
            known = self._edges[part.id] = (part.mesh, edge_of(part.mesh))
        too = [
            layer for layer in layers if layer.grain is not None and coarse(layer.grain, known[1]) > SHADED
        ]
        drawn = self._known.get(part.id)
        if not too and (drawn is None or drawn[0][0] is not part.mesh):
            return []
        # Those the mesh is fine enough for come along where there is room: a dragged number may change that.
        return layers if len(layers) <= MOST else too[-MOST:]

    def on(self, part: Part) -> tuple[DrawnGrain, list[Shown]] | None:
        """What is shown by shading on a part, where that is known for its mesh."""
        known = self._known.get(part.id)
        if known is None or known[0][0] is not part.mesh or known[1] is None:
            return None
        shown = known[1].shown(part)
        return (known[1], shown) if shown else None

    def arrive(self) -> bool:
        """Wait a moment for what is being worked out; whether all is there."""
        for _, working in self._working.values():
            working.thread.join(0.004)
        return not self._working

    def release(self) -> None:
        """Give all graphics memory back."""
        for key in list(self._known):
            self._drop(key)
        self._working.clear()
