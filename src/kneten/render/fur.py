"""Fur on the graphics side: fibres written anew where the clay under them, or their leads, have changed."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Protocol

import moderngl
import numpy as np

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.fur.fibres import POINTS, SHARES, Fibres, Roots, fibre_lines, seen_level, write_fibres
from kneten.core.fur.leads import Leads
from kneten.core.fur.numbers import FurError
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.document.furs import furs_on, roots_of
from kneten.document.scene import Part, Scene
from kneten.document.things import Fur, leads_of
from kneten.render.programs import Programs, put
from kneten.render.style import Style

MOVING = 9_000
"""Fibres that stand for all of them while the camera or the comb moves."""

WIDEST = 9.0
"""Pixels that such a fibre is wide at most."""

KEY = (-0.52, 0.62, 0.58)
KEY_COLOUR, FILL_COLOUR = (1.45, 1.38, 1.27), (0.30, 0.32, 0.36)

NONE = np.empty(0, np.int32)

STEP_FIBRES = 14_000
"""Fibres drawn in one step: 10 to 20 ms of software OpenGL."""


@dataclass(frozen=True)
class Want:
    """What the roots of a fur follow from: while it is the same, so are they."""

    topology: str
    hidden: int
    key: tuple[object, ...]
    leads: int
    loose: int = -1
    """How often loose clay has changed; -1 for clay whose shape stays."""

    def suits(self, other: Want) -> bool:
        """Whether fibres from these roots can stand on that clay and follow those leads, until new ones are found."""
        if other.loose >= 0:
            # It stands on what stands in for that clay, and finds its leads there by where they are.
            return self.leads == other.leads
        return self.topology == other.topology and self.key[1:] == other.key[1:]


def _want(fur: Fur, part: Part) -> Want:
    sown = replace(
        fur.numbers,
        width=1.0,
        loose=0.0,
        clump=0.0,
        curl=0.0,
        from_clay=False,
        root=(0, 0, 0),
        tip=(0, 0, 0),
        shown=True,
    )
    mesh = part.mesh
    loose = mesh.shape_version if isinstance(mesh, LooseMesh) else -1
    hidden = 0 if loose >= 0 else mesh.faces_version
    return Want(mesh.topology.uid, hidden, (sown, fur.topology, id(fur.corners)), len(fur.corners), loose)


class _Buffers:
    """Fibres of some roots, and where the graphics side has them."""

    def __init__(self, ctx: moderngl.Context, roots: Roots, lines: AnyArray, whole: Roots) -> None:
        self.roots, self._whole = roots, whole
        self._ctx = ctx
        self._fibres = Fibres.room(len(roots))
        fibres = self._fibres
        self._values: tuple[AnyArray, ...] = (fibres.places, fibres.ways, fibres.outs, fibres.colours)
        self._buffers = [ctx.buffer(reserve=values.nbytes) for values in self._values]
        self._lines = ctx.buffer(lines)
        self._arrays: dict[int, moderngl.VertexArray] = {}

    def write(self, part: Part, fur: Fur, leads: Leads, first: int, last: int) -> None:
        """Write a run of fibres for clay and leads as they are now."""
        write_fibres(
            part.mesh,
            fur.numbers,
            self.roots,
            leads,
            self._fibres,
            first,
            last,
            self._whole,
        )
        for buffer, values in zip(self._buffers, self._values, strict=True):
            buffer.write(values[first:last], offset=first * values.strides[0])

    def array(self, program: moderngl.Program) -> moderngl.VertexArray:
        """The fibres as a program reads them."""
        if program.glo not in self._arrays:
            names = (("3f4", "position"), ("4f1", "way"), ("4f1", "off"), ("4f1", "colour"))
            content = [(buffer, *name) for buffer, name in zip(self._buffers, names, strict=True)]
            self._arrays[program.glo] = self._ctx.vertex_array(program, content, self._lines)
        return self._arrays[program.glo]

    def release(self) -> None:
        for array in self._arrays.values():
            array.release()
        for buffer in (*self._buffers, self._lines):
            buffer.release()


class DrawnFur:
    """One fur: all its fibres, and the few that stand for them while something moves. Written when they are drawn.

    Attributes
    ----------
    spread : float
        How many fibres each of the few stands for.
    mesh : Mesh or None
        The clay that the roots are on, as far as it is known: what stands in for loose clay, whose shape changes.
    """

    def __init__(self, ctx: moderngl.Context, roots: Roots, mesh: Mesh | None = None) -> None:
        self.roots = roots
        self.mesh = mesh
        rows = np.arange(0, len(roots), max(len(roots) // MOVING, 1))
        steps = np.array([[0, 2], [2, POINTS - 1]], np.uint32)
        few = np.arange(len(rows), dtype=np.uint32)[:, None, None] * np.uint32(POINTS) + steps
        self._all = _Buffers(ctx, roots, fibre_lines(len(roots)), roots)
        self._few = _Buffers(ctx, roots.taken(rows), few.reshape(-1), roots)
        self.spread = len(roots) / max(len(rows), 1)
        self._states: dict[bool, tuple[object, ...]] = {}
        self._dirty = NONE
        self._whole = self._rested = True

    def note(self, dirty: I32) -> None:
        """A picture begins; patches (p,) of the clay under it have changed since the last one."""
        self._rested = not len(dirty)
        if len(dirty):
            self._dirty = np.union1d(self._dirty, dirty).astype(np.int32)

    def array(self, program: moderngl.Program, part: Part, fur: Fur, few: bool) -> moderngl.VertexArray:
        """The fibres, where clay and leads are now, as a program reads them."""
        if isinstance(part.mesh, LooseMesh):
            assert self.mesh is not None
            part = replace(part, mesh=self.mesh)
        else:
            self.mesh = part.mesh
        mesh = part.mesh
        looks = (id(mesh), id(fur), mesh.values_version if fur.numbers.from_clay else 0)
        state = (*looks, mesh.shape_version)
        before = self._states.get(few, ())
        if state == before and (few or self._whole or not self._rested):
            return (self._few if few else self._all).array(program)
        self._states[few] = state
        if few:
            self._few.write(part, fur, leads_of(fur, mesh), 0, len(self._few.roots))
            return self._few.array(program)
        dirty, self._dirty = self._dirty, NONE
        if before[:3] == looks and 0 < len(dirty) < mesh.topology.n_patches // 4:
            self._write_some(part, fur, dirty)
        else:
            self._all.write(part, fur, leads_of(fur, mesh), 0, len(self.roots))
            self._whole = True
        return self._all.array(program)

    def runs(self, part: Part, level: int, seen: I32) -> I32:
        """First and last + 1 of the fibres of a level, (k, 2), on runs of patches (k, 2) of the part that are seen."""
        if isinstance(part.mesh, LooseMesh):
            # Its patches are not those of what stands in for it.
            seen = np.array([[0, self.roots.starts.shape[1] - 1]], np.int32)
        return self.roots.starts[level][seen]

    def _write_some(self, part: Part, fur: Fur, dirty: I32) -> None:
        """Write what grows on some patches; what hangs on their seams comes once the stroke has ended."""
        self._whole = False
        leads = leads_of(fur, part.mesh)
        for run in np.split(dirty, np.flatnonzero(np.diff(dirty) > 1) + 1):
            for starts in self.roots.starts:
                first, last = int(starts[run[0]]), int(starts[run[-1] + 1])
                if last > first:
                    self._all.write(part, fur, leads, first, last)

    def release(self) -> None:
        """Give the graphics memory back."""
        self._all.release()
        self._few.release()


class _Rooting:
    """Roots that are being found by a thread, on clay that is made there as well where that is loose."""

    def __init__(self, find: Callable[[], tuple[Roots, Mesh]]) -> None:
        self.found: tuple[Roots, Mesh] | None = None
        self.failed: Exception | None = None
        self._find = find
        self.thread = threading.Thread(target=self._run, daemon=True)

    def _run(self) -> None:
        try:
            self.found = self._find()
        except Exception as error:
            self.failed = error


class FurShelf:
    """All furs of the visible parts of a scene.

    Parameters
    ----------
    patient : bool
        Roots are found by threads while the caller does other things; otherwise `sync` waits.

    Attributes
    ----------
    bald : dict
        Furs that cannot be drawn, by id, and why.
    """

    def __init__(self, ctx: moderngl.Context, patient: bool = False) -> None:
        self._ctx = ctx
        self._patient = patient
        self._drawn: dict[str, tuple[Want, DrawnFur]] = {}
        self._rooting: dict[str, tuple[Want, _Rooting]] = {}
        self.bald: dict[str, tuple[Want, str]] = {}

    def sync(self, scene: Scene, dirty: Mapping[str, I32]) -> bool:
        """Have fibres for exactly the furs that are seen; whether all are there.

        Parameters
        ----------
        dirty : dict
            By mesh id, the patches (p,) that have changed since the last call.
        """
        wanted = {}
        for part in scene.parts:
            if part.visible:
                for fur in furs_on(scene, part.id):
                    if fur.numbers.shown:
                        wanted[fur.id] = (part, fur, _want(fur, part))
        for gone in [key for key in self._drawn if key not in wanted]:
            self._drawn.pop(gone)[1].release()
        for kept in (self._rooting, self.bald):
            for gone in [key for key in kept if key not in wanted]:
                del kept[gone]
        for key, (part, fur, want) in wanted.items():
            drawn = key in self._drawn and self._drawn[key][0] == want
            if drawn or self.bald.get(key, (None, ""))[0] == want:
                # Others that are being found, until an undo brought these back, would be waited for for good.
                self._rooting.pop(key, None)
                continue
            if want.loose >= 0 and len(dirty.get(part.mesh_id, NONE)):
                # Its shape changes with each dab: the fur stands where it was until the hand rests.
                continue
            if key not in self._rooting or self._rooting[key][0] != want:
                try:
                    rooting = _Rooting(self._finding(scene, part, fur))
                except FurError as error:
                    self._no_fibres(key, want, error)
                    continue
                self._rooting[key] = (want, rooting)
                rooting.thread.start()
            if not self._patient:
                self._rooting[key][1].thread.join()
            self._take(key)
        for key, (part, _, want) in wanted.items():
            if key in self._drawn and self._drawn[key][0] == want:
                self._drawn[key][1].note(NONE if want.loose >= 0 else dirty.get(part.mesh_id, NONE))
        return not self._rooting

    def _finding(self, scene: Scene, part: Part, fur: Fur) -> Callable[[], tuple[Roots, Mesh]]:
        """What finds roots on any thread, and the clay they are on. Raises `FurError`."""
        mesh = part.mesh
        if isinstance(mesh, LooseMesh):
            settle = mesh.settling()

            def on_loose() -> tuple[Roots, Mesh]:
                made = settle()
                return roots_of(scene, fur, made)(), made

            return on_loose
        # Strokes go on meanwhile: what roots follow from is its own by then.
        find = roots_of(scene, fur, mesh.copy() if self._patient else mesh)
        return lambda: (find(), mesh)

    def _take(self, key: str) -> None:
        """Take in roots that have been found."""
        want, rooting = self._rooting[key]
        if rooting.thread.is_alive():
            return
        del self._rooting[key]
        if rooting.found is None:
            self._no_fibres(key, want, rooting.failed)
            return
        if key in self._drawn:
            self._drawn.pop(key)[1].release()
        self._drawn[key] = (want, DrawnFur(self._ctx, *rooting.found))

    def _no_fibres(self, key: str, want: Want, error: Exception | None) -> None:
        self.bald[key] = (want, str(error))
        if key in self._drawn:
            self._drawn.pop(key)[1].release()

    def on(self, scene: Scene, part: Part) -> Iterator[tuple[Fur, DrawnFur]]:
        """The furs of a part that can be drawn."""
        for fur in furs_on(scene, part.id):
            known = self._drawn.get(fur.id)
            # Roots of other clay, or of other leads, would point beyond these.
            if known is None or not fur.numbers.shown or not known[0].suits(_want(fur, part)):
                continue
            if known[1].mesh is not None or not isinstance(part.mesh, LooseMesh):
                yield fur, known[1]

    def arrive(self) -> bool:
        """Wait a moment for roots; whether all are there."""
        for _, rooting in self._rooting.values():
            rooting.thread.join(0.004)
        return not self._rooting

    @property
    def any(self) -> bool:
        """Whether there is any fur to draw."""
        return bool(self._drawn)

    def release(self) -> None:
        """Give all graphics memory back."""
        for _, drawn in self._drawn.values():
            drawn.release()
        self._drawn.clear()
        self._rooting.clear()


class KeyLight(Protocol):
    """What lights a picture, as far as fibres ask."""

    def key(self) -> tuple[F64, F64, F64]:
        """The way to the lamp that lights most, in the eye's space, its light, and that from all around, (3,) each."""


def light_of(style: Style, lamp: F64, light: KeyLight | None = None) -> dict[str, object]:
    """What a fibre is lit by, as its program wants it: the light of the project or, where there is none, of the look, whose lamp's way (3,) is in the eye's space."""
    if light is not None:
        way, bright, sky = light.key()
        return {
            "lamp": tuple(way.tolist()),
            "lamp_colour": tuple(bright.tolist()),
            "fill_colour": tuple(sky.tolist()),
            "plain": 0.0,
        }
    kind = style.look.kind
    lamped = kind in ("lamp", "sky")
    way = np.asarray(lamp if lamped else KEY) / np.linalg.norm(lamp if lamped else KEY)
    return {
        "lamp": tuple(way.tolist()),
        "lamp_colour": (1.75, 1.68, 1.56) if lamped else KEY_COLOUR,
        "fill_colour": (0.09, 0.095, 0.11) if kind == "lamp" else FILL_COLOUR,
        "plain": 1.0 if kind == "flat" else 0.0,
    }


def draw_fur(
    programs: Programs,
    part: Part,
    fur: Fur,
    drawn: DrawnFur,
    pixels: float,
    runs: I32,
    half_size: tuple[float, float],
    light: Mapping[str, object],
    matrices: Mapping[str, object],
    moving: bool,
) -> None:
    """Draw one fur into the framebuffer in use.

    Parameters
    ----------
    pixels : float
        How thick a fibre is in the picture.
    runs : (k, 2) int32
        First and last + 1 of the runs of patches that are seen.
    """
    wide = min(max(pixels, 1.0) * drawn.spread**0.62, WIDEST) if moving else pixels
    program = programs.mesh("fur-wide", "fur") if wide > 1.4 else programs.mesh("fur")
    put(program, half_size=half_size, wide=float(wide), **light, **matrices)
    if moving:
        drawn.array(program, part, fur, True).render(moderngl.LINES)
        return
    array = drawn.array(program, part, fur, False)
    pieces = 2 * (POINTS - 1)
    for level in range(min(seen_level(pixels), len(SHARES))):
        for first, last in drawn.runs(part, level, runs).tolist():
            if last > first:
                array.render(moderngl.LINES, vertices=pieces * (last - first), first=pieces * first)
