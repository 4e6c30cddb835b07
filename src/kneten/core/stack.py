"""A part's levels and layers: what its clay is made of, from the coarsest level up.

    level 0:  base + sum of strength x difference                           (in the part's own axes)
    level l:  smooth(level l - 1) + own details + sum of strength x difference  (in frames of the smooth surface)

Everything here is immutable but the clay itself: strokes change the mesh of the level in hand, and what they changed is
taken over (`Stack.taken`) when it is needed, by comparing the mesh with what the stack last made of it. So a stroke costs
the same with levels and layers as without, and undoing one needs nothing from here.

A layer may be a pose: limbs of level 0 turned about hinges, after all else on that level and in the order of the layers. The
levels above go along in their frames. Moves made on posed clay are told from before the pose.

Broad changes made on a level reach those below it when one steps down: each lower vertex moves by the mean of what the
vertices around its place have moved (the restriction of multigrid methods), and the level above keeps its exact form by
its details. What a layer records stays on the level where it was recorded.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray, Progress
from kneten.core.grain import Grain
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import coarser, finer, into_base, merged_paint, packed_in, paint_of, seen_values
from kneten.core.paint.packed import Paint
from kneten.core.paint.wash import Wash
from kneten.core.pose.bending import Bending
from kneten.core.pose.shapes import Shape
from kneten.core.relief import EVERY, Ground, Relief, packed
from kneten.core.restriction import handed_down, other_rows, restricted_some, touched, with_frames
from kneten.core.subdivide import Step
from kneten.core.topology import Topology
from kneten.core.values import VALUES, existing

LEAST, MOST = -1.0, 2.0
"""Strengths of a layer."""


@dataclass(frozen=True)
class Layer:
    """Differences with a strength.

    Attributes
    ----------
    reliefs : tuple of Relief
        For each level from 0; those that are missing are nothing.
    group : str
        Id of the group it is in; "" for none.
    grain : Grain or None
        What its differences are worked out from, as long as it is live.
    paint : Paint
        Its colours, on the highest level.
    blend : str
        How they are laid over what is below: of `paint.mixing.BLENDS`.
    wash : Wash or None
        What its paint is worked out from, as long as it is live.
    leaves : tuple of str
        Channels, of `paint.ink.OF_LAYERS`, that its paint leaves as they are below it.
    mask : Paint
        Where its paint is hidden: as much as this covers; its colours mean nothing.
    pose : Bending or None
        Limbs of level 0 that it turns, by as much of their angles as its strength.
    shape : Shape or None
        What makes it one of the layers of a shape: its strength is that one's dial.
    """

    name: str
    strength: float = 1.0
    shown: bool = True
    reliefs: tuple[Relief, ...] = ()
    id: str = field(default_factory=lambda: uuid.uuid4().hex)
    group: str = ""
    grain: Grain | None = None
    paint: Paint = field(default_factory=Paint.none)
    blend: str = "normal"
    wash: Wash | None = None
    leaves: tuple[str, ...] = ()
    mask: Paint = field(default_factory=Paint.none)
    pose: Bending | None = None
    shape: Shape | None = None

    @property
    def has_form(self) -> bool:
        """Whether it does anything to the form."""
        return any(self.reliefs) or self.pose is not None

    def relief(self, level: int) -> Relief:
        """Its differences on a level."""
        return self.reliefs[level] if level < len(self.reliefs) else Relief.none()

    def with_relief(self, level: int, relief: Relief) -> Layer:
        """The layer with other differences on a level."""
        held = [*self.reliefs, *(Relief.none() for _ in range(level + 1 - len(self.reliefs)))]
        held[level] = relief
        return replace(self, reliefs=tuple(held))

    def repainted(self, n: int, change: Callable[[U8], U8]) -> Layer:
        """The layer with its paint and its mask, (n, 9) each, on other vertices."""
        if not self.paint and not self.mask:
            return self
        paint, mask = (Paint.of(change(one.dense(n))) if one else one for one in (self.paint, self.mask))
        return replace(self, paint=paint, mask=mask)


@dataclass(frozen=True)
class LayerGroup:
    """Layers that are dialled and hidden as one: what each of them does is multiplied by its strength."""

    name: str
    strength: float = 1.0
    shown: bool = True
    folded: bool = False
    id: str = field(default_factory=lambda: uuid.uuid4().hex)


@dataclass(frozen=True, eq=False)
class Level:
    """One level: its shape, how it comes from the level below, its own details.

    Attributes
    ----------
    step : Step or None
        None on level 0.
    values : dict
        Mask, colour, regions, ... as they were when the level was last left; `handed` is what the level below was
        given of them then. As long as that has them still, they are as they were.
    owed : Relief
        Moves of the clay made on this level, in the part's axes, that the levels below have not seen yet.
    """

    topology: Topology
    step: Step | None = None
    detail: Relief = field(default_factory=Relief.none)
    values: Mapping[str, AnyArray] = field(default_factory=dict)
    handed: Mapping[str, AnyArray] | None = None
    owed: Relief = field(default_factory=Relief.none)


@dataclass(frozen=True, eq=False)
class Stack:
    """The levels and layers of a piece of clay.

    Attributes
    ----------
    base : (n, 3) float32
        Positions on level 0 without layers.
    level : int
        The one in hand: the part's mesh is that level's.
    recording : str
        Id of the layer that strokes go to; "" for the clay itself.
    solo : str
        Id of the only layer that counts; "" for all that are shown.
    synced : (n, 3) float32
        Positions of the mesh in hand as this stack knows them.
    tint : (m, 4) uint8 or None
        Colours of the highest level without the paint of layers; None where no layer has any.
    hand : str
        Id of the layer whose paint lies open in the mesh, or "" for the base: see `paint.layers`.
    material : (m, 4) uint8 or None
        Like `tint`, of roughness, metalness, subsurface and wet; None where that is everywhere as it is by itself.
    """

    base: F32
    levels: tuple[Level, ...]
    synced: F32
    layers: tuple[Layer, ...] = ()
    level: int = 0
    recording: str = ""
    solo: str = ""
    groups: tuple[LayerGroup, ...] = ()
    tint: U8 | None = None
    hand: str = ""
    material: U8 | None = None

    @classmethod
    def of(cls, mesh: Mesh) -> Stack:
        """A stack of one level and no layer."""
        base = mesh.positions.copy()
        return cls(base, (Level(mesh.topology),), base)

    def fits(self, mesh: Mesh) -> bool:
        """Whether a mesh is that of the level in hand."""
        return mesh.topology is self.levels[self.level].topology

    @property
    def plain(self) -> bool:
        """Whether it says nothing that the mesh alone does not say."""
        return len(self.levels) == 1 and not self.layers

    @property
    def top(self) -> int:
        """The number of the highest level."""
        return len(self.levels) - 1

    def pieces(self) -> dict[int, int]:
        """Bytes by the identity of each array and topology it holds: stacks share most of theirs."""
        held: dict[int, int] = {id(self.base): self.base.nbytes, id(self.synced): self.synced.nbytes}
        for level in self.levels:
            held[id(level.topology)] = level.topology.nbytes
            if level.step is not None:
                held[id(level.step)] = level.step.nbytes
            arrays = [*level.values.values(), *(level.handed or {}).values()]
            held.update({id(array): array.nbytes for array in arrays})
            held[id(level.detail)] = level.detail.nbytes
            held[id(level.owed)] = level.owed.nbytes
        held.update({id(relief): relief.nbytes for layer in self.layers for relief in layer.reliefs})
        held.update({id(one): one.nbytes for layer in self.layers for one in (layer.paint, layer.mask)})
        held.update({id(layer.pose): layer.pose.nbytes for layer in self.layers if layer.pose is not None})
        for base in (self.tint, self.material):
            if base is not None:
                held[id(base)] = base.nbytes
        return held

    def nbytes(self) -> int:
        """Bytes of it all, the topology of the level in hand left out: the mesh has that."""
        return sum(self.pieces().values()) - self.levels[self.level].topology.nbytes

    # -- layers -----------------------------------------------------------------------------------

    def layer(self, layer_id: str) -> Layer:
        """The layer with this id. Raises `KeyError`."""
        for layer in self.layers:
            if layer.id == layer_id:
                return layer
        raise KeyError(layer_id)

    @property
    def listed(self) -> tuple[Layer, ...]:
        """The layers that have a strength of their own: those of shapes, which come before them, have dials."""
        return tuple(layer for layer in self.layers if layer.shape is None)

    def with_shapes(self, *made: Layer) -> Stack:
        """The stack with more layers of shapes."""
        held = tuple(layer for layer in self.layers if layer.shape is not None)
        return replace(self, layers=(*held, *made, *self.listed))

    def group(self, group_id: str) -> LayerGroup | None:
        """The group with this id, or None."""
        return next((group for group in self.groups if group.id == group_id), None)

    def strength(self, layer: Layer) -> float:
        """How much of a layer there is now."""
        group = self.group(layer.group)
        whole = layer.strength * (1.0 if group is None else group.strength)
        if self.solo:
            return whole if layer.id == self.solo else 0.0
        return whole if layer.shown and (group is None or group.shown) else 0.0

    def with_group(self, group: LayerGroup) -> Stack:
        """The stack with a group exchanged for its changed self."""
        return replace(self, groups=tuple(group if one.id == group.id else one for one in self.groups))

    def tidied(self) -> Stack:
        """Without groups that have no layer, and with the layers of each group one after the other."""
        held = {layer.group for layer in self.layers}
        groups = tuple(group for group in self.groups if group.id in held)
        ids = {group.id for group in groups}
        order: list[Layer] = []
        for layer in self.layers:
            if layer in order:
                continue
            own = layer.group if layer.group in ids else ""
            order += [layer] if not own else [one for one in self.layers if one.group == own]
        layers = tuple(one if one.group in ids else replace(one, group="") for one in order)
        return replace(self, layers=layers, groups=groups)

    def bare(self) -> Stack:
        """The same without any effect of layers."""
        layers = tuple(replace(layer, strength=0.0) for layer in self.layers)
        return replace(self, layers=layers, groups=(), solo="")

    @property
    def recorded(self) -> Layer | None:
        """The layer that strokes go to; None for the clay, also while that layer does nothing."""
        return next((one for one in self.layers if one.id == self.recording and self.strength(one)), None)

    def with_layer(self, layer: Layer) -> Stack:
        """The stack with a layer exchanged for its changed self."""
        return replace(self, layers=tuple(layer if one.id == layer.id else one for one in self.layers))

    def free_name(self, wanted: str) -> str:
        """A name that no layer has."""
        taken = {layer.name for layer in self.layers}
        number, name = 2, wanted
        while name in taken:
            name, number = f"{wanted} {number}", number + 1
        return name

    # -- the form ---------------------------------------------------------------------------------

    def ground(self, level: int, below: F32 | None = None, rows: I32 | None = None) -> Ground:
        """What differences on a level are told from.

        Parameters
        ----------
        below : (m, 3) float32, optional
            The form of the level below, where it is known.
        rows : (k,) int32, optional
            The only vertices that differences will be told of.
        """
        shape = self.levels[level].topology
        step = self.levels[level].step
        if step is None:
            return Ground(shape, self.base, False)
        under = self.levels[level - 1].topology
        below = self.form(level - 1) if below is None else below
        if rows is None or 3 * len(rows) > shape.n_vertices:
            # Placing single vertices takes three times as long for each.
            return Ground(shape, step.refine(under, below, True, np.float32), True)
        surface = np.empty((shape.n_vertices, 3), np.float32)
        step.refine_some(under, below, with_frames(shape, rows), surface)
        return Ground(shape, surface, True)

    def on(self, ground: Ground, level: int, without: str = "") -> F32:
        """The form of a level, (n, 3), over its ground; without one layer's part of it if wanted."""
        out = ground.surface.copy()
        ground.add(self.levels[level].detail, 1.0, out)
        for layer in self.layers:
            if layer.id != without:
                ground.add(layer.relief(level), self.strength(layer), out)
        return self.posed(out) if level == 0 else out

    def poses(self) -> list[tuple[Bending, float]]:
        """The poses that count now, in order, and how much of each."""
        some = [(layer.pose, self.strength(layer)) for layer in self.layers]
        return [(pose, share) for pose, share in some if pose is not None and share]

    def posed(self, places: F32) -> F32:
        """Places (n, 3) of level 0 as its poses bring them."""
        for pose, share in self.poses():
            places = pose.posed(places, share)
        return places

    def told_before(self, moves: Relief, n: int) -> Relief:
        """Moves of `n` posed vertices of level 0, in the part's axes, as they were before its poses."""
        values = self.turned(moves, n, True)
        return moves if values is moves.values else Relief(moves.rows, values)

    def turned(self, moves: Relief, n: int, back: bool = False) -> F32:
        """Moves (k, 3) of `n` vertices of level 0 as its poses turn them, or with `back` as they were before these."""
        values, poses = moves.values, self.poses()
        if not poses:
            return values
        rows = moves.rows if len(moves.rows) else np.arange(n, dtype=np.int32)
        for pose, share in reversed(poses) if back else poses:
            values = pose.turned(rows, values, share, back)
        return values

    def form(self, level: int, progress: Progress | None = None) -> F32:
        """Positions (n, 3) on a level, from what the stack holds."""
        form: F32 | None = None
        for k in range(level + 1):
            if progress is not None:
                progress.report(k / (level + 1), f"Level {k}")
            form = self.on(self.ground(k, form), k)
        assert form is not None
        return form

    def taken(self, positions: F32, below: F32 | None = None) -> Stack:
        """The stack with what was done to the mesh in hand, now at positions (n, 3), since it was made: in the clay, or the layer recorded on."""
        rows = other_rows(positions, self.synced)
        if not len(rows):
            return self
        level, n = self.level, len(positions)
        moves = positions[rows] - self.synced[rows]
        new = replace(self, synced=positions.copy())
        layer = self.recorded
        if layer is None:
            return new._moved(level, Relief(rows, moves), below)
        told = Relief(rows, self.ground(level, below, rows).told(rows, moves))
        if level == 0:
            told = self.told_before(told, n)
        share = 1.0 / self.strength(layer)
        return new.with_layer(layer.with_relief(level, layer.relief(level).plus(told, share, n)))

    def without_recorded(self, positions: F32) -> F32:
        """Positions (n, 3) of the mesh in hand as they would be without the layer that strokes go to."""
        stack = self.taken(positions)
        layer = stack.recorded
        out = positions.copy()
        if layer is not None:
            relief = layer.relief(stack.level)
            if stack.level == 0 and stack.poses():
                return stack.on(stack.ground(0), 0, without=layer.id)
            ground = stack.ground(stack.level, rows=relief.rows if len(relief.rows) else None)
            ground.add(relief, -stack.strength(layer), out)
        return out

    def _moved(self, level: int, moves: Relief, below: F32 | None = None) -> Stack:
        """The clay of a level moved, in the part's axes; what is below it has not seen that yet."""
        if level == 0:
            base = self.base.copy()
            base[moves.rows] += self.told_before(moves, len(base)).values
            return replace(self, base=base)
        held = self.levels[level]
        n = held.topology.n_vertices
        told = Relief(moves.rows, self.ground(level, below, moves.rows).told(moves.rows, moves.values))
        return self._with_level(
            level, detail=held.detail.plus(told, 1.0, n), owed=held.owed.plus(moves, 1.0, n)
        )

    def with_detail(self, level: int, detail: Relief) -> Stack:
        """The stack with other details of its own on a level."""
        return self._with_level(level, detail=detail)

    def _with_level(self, level: int, **changes: Any) -> Stack:
        levels = list(self.levels)
        levels[level] = replace(levels[level], **changes)
        return replace(self, levels=tuple(levels))

    # -- from level to level -----------------------------------------------------------------------

    def mesh_of(self, level: int, positions: F32, values: Mapping[str, AnyArray]) -> Mesh:
        """A mesh of a level, at positions (n, 3)."""
        own: dict[str, Any] = {name: value.copy() for name, value in values.items()}
        return Mesh(self.levels[level].topology, positions, **own)

    def added(self, mesh: Mesh, progress: Progress) -> tuple[Stack, Mesh]:
        """One level more above the highest, which must be the one in hand; that is then in hand."""
        assert self.level == self.top
        progress.report(0.1, "Taking over")
        stack = packed_in(self, mesh).taken(mesh.positions)
        progress.report(0.3, "Numbering edges")
        step = Step.of(mesh.topology, mesh.creases)
        stack = finer(stack, step, mesh.topology)
        progress.report(0.5, "Placing vertices")
        positions = step.refine(mesh.topology, mesh.positions, True, np.float32)
        progress.report(0.7, "Making faces")
        topology = step.topology(mesh.topology)
        values = step.values(mesh, topology)
        if stack.tint is not None:
            values |= {"paint": paint_of(stack, stack.hand)} | existing(
                seen_values(stack, None, values["colour"])
            )
        level = Level(topology, step, values=values, handed=_copies(mesh.values()))
        new = replace(stack, levels=(*stack.levels, level), level=stack.level + 1, synced=positions.copy())
        return new, new.mesh_of(new.level, positions, values)

    def stepped(self, mesh: Mesh, to: int, progress: Progress | None = None) -> tuple[Stack, Mesh]:
        """Another level in hand, with all that was done to the present one taken over."""
        stack = self
        progress = progress or Progress()
        steps = abs(to - self.level)
        for done in range(steps):
            progress.report(done / steps, f"Level {stack.level}")
            stack, mesh = stack._down(mesh) if to < stack.level else stack._up(mesh)
        return stack, mesh

    def _up(self, mesh: Mesh) -> tuple[Stack, Mesh]:
        stack = self.taken(mesh.positions)
        level = stack.level + 1
        above = stack.levels[level]
        ground = stack.ground(level, mesh.positions)
        positions = stack.on(ground, level)
        assert above.step is not None
        now, handed = mesh.values(), above.handed or {}
        # What the level below has still as it was given it is as fine as it was; the rest comes from there.
        other = [name for name in now if name not in handed or not np.array_equal(handed[name], now[name])]
        values = {name: value for name, value in above.values.items() if name in now and name not in other}
        values |= above.step.values(mesh, above.topology, other)
        new = replace(stack, level=level, synced=positions.copy())
        return new, new.mesh_of(level, positions, values)

    def _down(self, mesh: Mesh) -> tuple[Stack, Mesh]:
        level = self.level
        step, under = self.levels[level].step, self.levels[level - 1].topology
        assert step is not None
        below = self.form(level - 1)
        stack = self.taken(mesh.positions, below)
        stack, below = stack._lowered(level, mesh.positions, below)
        handed = handed_down(step, under, mesh)
        # Creases that had blunted on the way up are as they were, unless they have changed up here.
        old = self.levels[level]
        for name, before in (old.handed or {}).items():
            had, now = old.values.get(name), getattr(mesh, name)
            same = had is not None and now is not None and np.array_equal(had, now)
            if VALUES[name].around == "edges" and same:
                handed[name] = before.copy()
        stack = stack._with_level(level, values=_copies(mesh.values()), handed=_copies(handed))
        new = replace(stack, level=level - 1, synced=below)
        return new, new.mesh_of(level - 1, below.copy(), handed)

    def shared(self, positions: F32, progress: Progress) -> Stack:
        """What was done to the highest level, which is in hand, taken over and brought down as far as it reaches.

        The same as stepping down to the lowest level and up again, without a mesh of each.

        Parameters
        ----------
        positions : (n, 3) float32
            Of the mesh in hand. No layer must be recorded on.
        """
        assert self.level == self.top > 0
        assert self.recorded is None
        rows = other_rows(positions, self.synced)
        owed = self.levels[self.top].owed.plus(
            Relief(rows, positions[rows] - self.synced[rows]), 1.0, len(positions)
        )
        # Its own details are told anew over what lies below in the end: not before as well.
        stack = self._with_level(self.top, owed=owed)
        forms = [stack.on(stack.ground(0), 0)]
        for level in range(1, stack.top):
            forms.append(stack.on(stack.ground(level, forms[-1]), level))
        at = positions
        for level in range(stack.top, 0, -1):
            progress.report(0.95 - 0.05 * level / stack.top, f"Level {level}")
            stack, at = stack._lowered(level, at, forms[level - 1], rows if level == stack.top else EVERY)
        return replace(stack, synced=positions.copy())

    def _lowered(self, level: int, positions: F32, below: F32, also: I32 = EVERY) -> tuple[Stack, F32]:
        """What was moved on a level reaches the one below it; both as they are now, and the latter's form then."""
        step, under = self.levels[level].step, self.levels[level - 1].topology
        owed = self.levels[level].owed
        if not owed:
            return self, below
        assert step is not None
        rows, moves = restricted_some(step, under, owed)
        stack = self._moved(level - 1, Relief(rows, moves))
        below = below.copy()
        below[rows] += moves
        return stack._kept_form(level, positions, below, rows, also), below

    def _kept_form(self, level: int, positions: F32, below: F32, moved: I32, also: I32 = EVERY) -> Stack:
        """A level keeps these positions over a level below where some vertices have moved; `also` where it has itself."""
        held = self.levels[level]
        assert held.step is not None
        rows = touched(held.step, self.levels[level - 1].topology, held.topology, moved)
        n = len(positions)
        if 3 * (len(rows) + len(also)) > n:
            ground = self.ground(level, below)
            every = ground.told(np.arange(n, dtype=np.int32), positions - ground.surface)
            for layer in self.layers:
                share = self.strength(layer)
                if share and layer.relief(level):
                    every -= layer.relief(level).dense(n) * np.float32(share)
            return self._with_level(level, detail=packed(every), owed=Relief.none())
        if len(also):
            rows = np.union1d(rows, also).astype(np.int32)
        ground = self.ground(level, below, rows)
        wanted = ground.told(rows, positions[rows] - ground.surface[rows])
        for layer in self.layers:
            share = self.strength(layer)
            if share and layer.relief(level):
                wanted -= layer.relief(level).at(rows) * np.float32(share)
        more = Relief(rows, wanted - held.detail.at(rows))
        return self._with_level(level, detail=held.detail.plus(more, 1.0, n), owed=Relief.none())

    def without_above(self) -> Stack:
        """Only the levels up to the one in hand."""
        if self.level == self.top:
            return self
        stack = coarser(packed_in(self, None), self.top - self.level)
        layers = tuple(replace(layer, reliefs=layer.reliefs[: self.level + 1]) for layer in stack.layers)
        return replace(stack, levels=self.levels[: self.level + 1], layers=layers)

    def without_below(self, mesh: Mesh, progress: Progress) -> Stack:
        """The level in hand becomes level 0; what layers did below it they do on it, in the part's own axes."""
        stack = self.taken(mesh.positions)
        level = stack.level
        bare = stack.bare()
        plain = bare.form(level)
        layers, base = [], mesh.positions.copy()
        for k, layer in enumerate(stack.layers):
            progress.report((k + 1) / (len(stack.layers) + 1), layer.name)
            alone = bare.with_layer(replace(layer, strength=1.0, shown=True))
            difference = Relief.none()
            if any(layer.reliefs[: level + 1]) or layer.pose is not None:
                difference = Relief(np.empty(0, np.int32), alone.form(level) - plain)
            # A pose knows only the vertices of level 0: it stays as what it does now.
            layers.append(replace(layer, reliefs=(difference, *layer.reliefs[level + 1 :]), pose=None))
            if difference:
                base -= difference.values * np.float32(stack.strength(layer))
        lowest = replace(
            stack.levels[level], step=None, detail=Relief.none(), owed=Relief.none(), handed=None
        )
        levels = (lowest, *stack.levels[level + 1 :])
        return replace(stack, base=base, levels=levels, layers=tuple(layers), level=0)

    # -- changes to layers ---------------------------------------------------------------------------

    def changed(self, mesh: Mesh, change: Callable[[Stack], Stack]) -> tuple[Stack, F32]:
        """The stack after a change to its layers, and where the mesh's vertices belong then, (n, 3)."""
        return change(packed_in(self, mesh).taken(mesh.positions)).formed()

    def formed(self) -> tuple[Stack, F32]:
        """The stack with its clay, (n, 3), where its layers bring it."""
        form = self.form(self.level)
        return replace(self, synced=form.copy()), form

    def merged(self, layer_ids: Iterable[str], name: str) -> Stack:
        """Several layers as one of strength 1, that does what they do together now."""
        ids = set(layer_ids)
        some = [layer for layer in self.layers if layer.id in ids]
        groups = {layer.group for layer in some}
        together = self.group(next(iter(groups))) if len(groups) == 1 else None
        made = Layer(name, group=together.id if together is not None else "")
        for level in range(len(self.levels)):
            total = Relief.none()
            n = self.levels[level].topology.n_vertices
            for layer in some:
                share = layer.strength if layer.shown else 0.0
                own = self.group(layer.group)
                if own is not None and together is None:
                    share *= own.strength if own.shown else 0.0
                total = total.plus(layer.relief(level), share, n)
            made = made.with_relief(level, total)
        if self.tint is not None:
            # Layers that leave different channels cannot be one: whoever asks has seen to that.
            made = replace(made, paint=merged_paint(self, some, together is None), leaves=some[0].leaves)
        at = self.layers.index(some[0])
        rest = [layer for layer in self.layers if layer.id not in ids]
        recording = made.id if self.recording in ids else self.recording
        solo = "" if self.solo in ids else self.solo
        layers = (*rest[:at], made, *rest[at:])
        return replace(self, layers=layers, recording=recording, solo=solo).tidied()

    def without(self, layer_id: str) -> Stack:
        """Without a layer and what it does."""
        rest = tuple(layer for layer in self.layers if layer.id != layer_id)
        recording = "" if self.recording == layer_id else self.recording
        solo = "" if self.solo == layer_id else self.solo
        return replace(self, layers=rest, recording=recording, solo=solo).tidied()

    def no_bake(self, layer: Layer) -> str:
        """Why a layer cannot be made part of the clay: other poses lie between that and its own; "" where it can."""
        before = self.layers[: self.layers.index(layer)]
        first = next((one for one in before if one.pose is not None and self.strength(one)), None)
        if layer.pose is None or first is None:
            return ""
        return f"{layer.name} is posed over {first.name}: bake {first.name} first."

    def _with_pose_baked(self, layer: Layer) -> Stack:
        """A layer's pose made part of what it turns: the clay of level 0, and what all layers do there."""
        pose, share = layer.pose, self.strength(layer)
        if pose is None:
            return self
        stack = self.with_layer(replace(layer, pose=None))
        if not share:
            return stack
        why = self.no_bake(layer)
        if why:
            raise ValueError(why)
        n = len(self.base)
        layers = tuple(
            one.with_relief(0, _some_turned(one.relief(0), pose, share, n)) if one.relief(0) else one
            for one in stack.layers
        )
        return replace(stack, base=pose.posed(self.base, share), layers=layers)

    def baked(self, layer_id: str) -> Stack:
        """A layer made part of the clay; the form stays as it is."""
        layer = self.layer(layer_id)
        share = self.strength(layer)
        stack = self._with_pose_baked(layer)
        for level, relief in enumerate(layer.reliefs[: len(self.levels)]):
            if level == 0:
                base = stack.base.copy()
                Ground(self.levels[0].topology, base, False).add(stack.layer(layer_id).relief(0), share, base)
                stack = replace(stack, base=base)
            else:
                n = self.levels[level].topology.n_vertices
                stack = stack._with_level(level, detail=stack.levels[level].detail.plus(relief, share, n))
        return into_base(stack, layer).without(layer_id)


def _some_turned(relief: Relief, pose: Bending, share: float, n: int) -> Relief:
    if not relief:
        return relief
    rows = relief.rows if len(relief.rows) else np.arange(n, dtype=np.int32)
    return Relief(relief.rows, pose.turned(rows, relief.values, share))


def _copies(values: Mapping[str, AnyArray]) -> dict[str, AnyArray]:
    return {name: value.copy() for name, value in values.items()}
