"""A running stroke: dabs and their mirrored twins, from the press to the difference they leave."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.arrays import DAB_PART, F32, F64, I32, U8, U32, at_once, parts_of
from kneten.core.brushes.press import FRONT
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.changes import Change, box_around, patches_of, renew_normals
from kneten.core.coats import ADD, COATS, EVEN, apply_deep, apply_press, ask_alike, even_heights
from kneten.core.falloff import curve_table
from kneten.core.folds import ASIDE
from kneten.core.geodesic import along_surface
from kneten.core.live_density import FINEST, Density, densify
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseChange, LooseLog
from kneten.core.mesh import Mesh
from kneten.core.patches import fit_clusters, loosen_boxes, patches_near
from kneten.core.press import DOME, Press
from kneten.core.pressing import weigh_by_tip
from kneten.core.reach import (
    STEEP,
    Reach,
    apply_push,
    fresh,
    keep_connected,
    limit_weights,
    mark_trace,
    side_of,
    weigh,
)
from kneten.core.topology import PATCH, PATCH_BITS
from kneten.core.twin_places import Axes, Twin, mirrored, twins_of
from kneten.core.twins import mirror_between, mirror_push
from kneten.core.uncross import uncross
from kneten.core.unfold import Moved, unfold
from kneten.core.workspace import Workspace

MOST = 20_000_000
"""Vertices of a part at most, if nobody says less."""

NO_REGIONS = np.empty(0, np.uint16)

MIDDLE = 0.12
"""Share of the radius about the middle that says which way the clay there faces."""

TOLD = 0.2
"""Share of a stroke's dabs that were held back from which on it is worth a word."""

LOOSE = 0.1
"""How loose boxes may become before they are fitted again, as a share of the brush's radius."""


WIDER = 1.05
"""By how much farther dabs look for what a piece of the way is unrolled over: it may bend."""

UPWARDS, BACKWARDS = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, -1.0])
"""Where the top of a press is, if nothing else says so."""

EVERYWHERE = ((0.0, 1.0), (1.0, 1.0))
"""A falloff that does not fall."""

CORNERS = 1.4143
"""How far the corners of a press are away that is laid whole, in radii."""

SOFT_START = 0.15
"""Strength that a tapered stroke begins and ends with; a mere touch leaves a little mark."""


def _listed(reaches: list[Reach]) -> tuple[I32, I32, I32, list[I32]]:
    """Vertices, places, where each reach ends in them, and the patches near each."""
    ends = np.cumsum([0, *(len(reach.vertices) for reach in reaches)]).astype(np.int32)
    return (
        np.concatenate([reach.vertices for reach in reaches]),
        np.concatenate([reach.places for reach in reaches]),
        ends,
        [reach.near for reach in reaches],
    )


def _eased(share: Any) -> Any:
    """0 to 1 without a corner at either end."""
    t = np.clip(share, 0.0, 1.0)
    return t * t * (3.0 - 2.0 * t)


class Stroke:
    """One stroke of one tool on one mesh.

    Parameters
    ----------
    symmetry : three bools
        Mirror across the part's x = 0, y = 0, z = 0 planes.
    twins : list of Twin, optional
        Other places where the same is done, the stroke's own first; instead of `symmetry`.
    press : Press, optional
        The one on the tool's tip.
    unit : float
        The part's lengths in a millimetre.

    Attributes
    ----------
    boxes : list of (6,) float32
        Where the picture is out of date, in the part's space; the view empties it.
    n_reached : int
        Vertices under the last dab, without its twins.
    most : int
        Vertices that live density may bring the clay to.
    full : bool
        Whether it has as many.
    n_dabs, n_held : int
        Dabs and drags so far, and those after which some clay moved less than was asked for, so that it does not fold.
    went_back : bool
        Whether clay went back at the end, because it had gone through other clay.
    """

    def __init__(
        self,
        mesh: Mesh,
        tool: Tool,
        settings: BrushSettings,
        symmetry: Axes = (False,) * 3,
        twins: list[Twin] | None = None,
        press: Press | None = None,
        unit: float = 1.0,
    ) -> None:
        self.mesh = mesh
        self.tool = tool
        self.settings = settings
        self.work = Workspace(mesh)
        self.log = LooseLog(mesh) if isinstance(mesh, LooseMesh) else None
        self.protection = mesh.protection()
        self.falloff = curve_table(settings.falloff)
        self.press = press = DOME if press is None and tool.presses else press
        if press is not None:
            self._take_press(press)
        self.twins = twins or twins_of(symmetry)
        self.region = -1
        self.pairs: I32 | None = None
        self._mirror: F64 | None = None
        self.work.unit = unit
        self._taper_length = settings.taper
        self._unrolled = 0.0
        if press is not None and tool.presses and settings.tip.rolled:
            # What is unrolled fades by itself, place by place.
            self.work.fade = max(settings.taper, FRONT)
        self._tapers = self._taper_length > 0 and not tool.holds
        self._end = (0.0, 1.0)
        self.boxes: list[F32] = []
        self.n_reached = 0
        self.most = MOST
        self.full = False
        self.n_dabs = 0
        self.n_held = 0
        self.went_back = False
        self._first: Dab | None = None
        self._sides: list[F32] = []
        self._least = 1.0
        self._radius = 0.0
        self._crowded = False
        self._beyond: list[I32] = []
        self._loose = 0.0
        self._grabbed: list[Reach] = []
        self._gain = 1.0
        self._deep = press is not None and tool.presses and press.aside is not None
        self._overlap = COATS[settings.tip.overlap]
        self._vertices = np.empty(0, np.int32)
        self._places = np.empty(0, np.int32)
        self._weights = np.empty(0, np.float32)

    def _take_press(self, press: Press) -> None:
        """Have the press lie as its tip says; it has the falloff, so that dabs reach all of it."""
        work = self.work
        work.press, work.tip, work.falloff = press, self.settings.tip, self.falloff
        self.falloff = curve_table(EVERYWHERE)
        if self.tool.presses:
            work.need_coat()

    def _room(self, n: int) -> None:
        if n > len(self._vertices):
            old = (self._vertices, self._places, self._weights)
            room = max(n, 2 * len(self._vertices))
            self._vertices = np.empty(room, np.int32)
            self._places = np.empty(room, np.int32)
            self._weights = np.empty(room, np.float32)
            for new, kept in zip((self._vertices, self._places, self._weights), old, strict=True):
                new[: len(kept)] = kept

    def _reach(self, centre: F64, radius: float, view: F64, n: int) -> tuple[int, I32]:
        """Append what one dab reaches to the lists; returns their new length and the patches near."""
        mesh, work = self.mesh, self.work
        x, y, z = centre
        near = self._near(centre, radius).copy()
        count = len(near)
        if self.log is not None:
            self.log.note(near)
        work.open(near)
        self._room(n + count * PATCH)
        first = n
        through = self.settings.through
        side = np.zeros(3, np.float32)
        if not through:
            side = side_of(mesh, self._near(centre, MIDDLE * radius), centre, MIDDLE * radius)
            if not side.any():
                side = side_of(mesh, near, centre, radius)
        n, least = self._weigh(near, centre, radius, view, side, n)
        self._sides.append(side)
        self._least = min(self._least, least)
        if not through and least < STEEP:
            shape = mesh.topology
            n = keep_connected(
                mesh.positions,
                mesh.normals,
                shape.faces,
                shape.ring,
                shape.ring_faces,
                mesh.stamp,
                mesh.next_stamp(),
                mesh.next_stamp(),
                mesh.next_stamp(),
                x,
                y,
                z,
                side,
                self.tool.whole,
                self._vertices,
                self._places,
                self._weights,
                first,
                n,
            )
        held = self.settings
        if held.auto_edge or held.auto_cavity or held.auto_peak or held.auto_region:
            shape = mesh.topology
            n = limit_weights(
                mesh.positions,
                mesh.normals,
                shape.faces,
                shape.ring,
                shape.ring_faces,
                shape.border,
                NO_REGIONS if mesh.regions is None else mesh.regions,
                held.auto_edge,
                held.auto_cavity,
                held.auto_peak,
                self.region if held.auto_region and mesh.regions is not None else -1,
                self._vertices,
                self._places,
                self._weights,
                first,
                n,
            )
        return n, near

    def _near(self, centre: F64, radius: float) -> I32:
        """The patches that a ball touches, (p,), until this is asked again."""
        x, y, z = centre
        found = self.work.near_buffer
        return found[: patches_near(self.mesh.boxes, self.mesh.clusters, x, y, z, radius, found)]

    def _weigh(
        self, near: I32, centre: F64, radius: float, view: F64, side: F32, n: int
    ) -> tuple[int, float]:
        """Append what lies within the radius, in these patches (p,), to the lists.

        Returns their new length and the least that any of it faces `side` (3,).
        """
        mesh = self.mesh
        x, y, z = centre
        one_sided = not (self.settings.through or self.tool.whole)
        cuts = parts_of(len(near), DAB_PART // PATCH)
        found = [0] * (len(cuts) - 1)
        least = np.empty((len(found), 1), np.float32)

        def weigh_some(part: int) -> None:
            found[part] = weigh(
                mesh.positions,
                mesh.normals,
                self.protection,
                near[cuts[part] : cuts[part + 1]],
                self.work.patch_slot,
                x,
                y,
                z,
                radius,
                self.falloff,
                view,
                self.settings.front_only,
                side,
                one_sided,
                self._vertices,
                self._places,
                self._weights,
                n + cuts[part] * PATCH,
                least[part],
            )

        at_once(len(found), weigh_some)
        end = found[0]
        # Each part began where it has room for all of its patches; there are gaps between them.
        for first, last in zip(cuts[1:-1], found[1:], strict=True):
            begin = n + first * PATCH
            for values in (self._vertices, self._places, self._weights):
                values[end : end + last - begin] = values[begin:last]
            end += last - begin
        return end, float(least.min())

    def _reaches(self, centre: F64, radius: float, view: F64) -> tuple[list[Reach], I32]:
        ends = [0]
        nears = []
        self._sides.clear()
        self._least = 1.0
        for twin in self.twins:
            end, near = self._reach(twin.linear @ centre + twin.shift, radius, twin.linear @ view, ends[-1])
            ends.append(end)
            nears.append(near)
        reaches = [
            Reach(self._vertices[a:b], self._places[a:b], self._weights[a:b], near)
            for (a, b), near in zip(itertools.pairwise(ends), nears, strict=True)
        ]
        self.n_reached = ends[1]
        return reaches, np.array(ends, np.int32)

    def _span(self, dab: Dab) -> float:
        """The radius of the ball around a dab's middle that holds all it may touch."""
        if self.press is None:
            return dab.radius
        if dab.strip is not None:
            way = dab.strip.way[:, 0] - dab.centre
            return WIDER * float(np.sqrt(dab.radius**2 + (way * way).sum(axis=1).max()))
        return dab.radius * CORNERS if self.settings.tip.whole else dab.radius

    def _under(self, dab: Dab) -> tuple[list[Reach], I32, list[Dab]]:
        """What a dab and its twins reach, where each ends in the lists, and the twins' own dabs."""
        reaches, ends = self._reaches(dab.centre, self._span(dab), dab.view)
        if self.press is not None and not dab.up.any():
            # Twins turn it over, as they do with all else that has a direction.
            dab = replace(
                dab, up=UPWARDS if abs(dab.view[1]) < 0.9 * float(np.sqrt(dab.view @ dab.view)) else BACKWARDS
            )
        likes = [mirrored(dab, twin) for twin in self.twins]
        if self.press is not None and not self.tool.presses:
            for reach, here in zip(reaches, likes, strict=True):
                weigh_by_tip(self.mesh, self.work, reach, here)
        return reaches, ends, likes

    def dab(self, dab: Dab) -> None:
        """Touch the clay once, and at every mirrored place at the same time."""
        self._first = dab if self.n_dabs == 0 and dab.strip is None else None
        if dab.detail is not None:
            self.densify_all(dab.centre, dab.radius, dab.detail)
        strength = dab.strength
        if dab.strip is not None:
            self._unrolled = float(dab.strip.travel[-1])
        if self._tapers:
            length = self._taper_length * dab.radius
            # What is unrolled counts its way in radii.
            self._end = (
                (dab.travel, length)
                if dab.strip is None
                else (float(dab.strip.travel[-1]), self._taper_length)
            )
            if dab.strip is None:
                strength *= _eased(SOFT_START + dab.travel / length)
        reaches, ends, likes = self._under(replace(dab, strength=strength, variant=self.settings.variant))
        for here, reach in zip(likes, reaches, strict=True):
            self.tool.displace(self.mesh, self.work, reach, here)
            if self._tapers and dab.strip is None:
                # Asked for now: the lists may have grown while it was looked for what is reached.
                mark_trace(self.work.need_trace(), reach.places, dab.travel + 1e-3)
        if self.tool.presses:
            # Dabs that run together add up to one; single ones are one each.
            run = dab.strip is None and dab.spacing < 1.0
            self._gain = dab.spacing / max(2.0 * float(self.work.falloff.mean()), 1e-6) if run else 1.0
            # The way is unrolled anew over its last piece, dab by dab: no place gets it twice.
            self._overlap = EVEN if dab.strip is not None and self._overlap == ADD else self._overlap
        if self.pairs is not None:
            both = [reaches[0], self._paired(reaches[0])]
            self._apply(*_listed(both), dab.radius)
            return
        self._apply(self._vertices, self._places, ends, [reach.near for reach in reaches], dab.radius)

    def _paired(self, reach: Reach) -> Reach:
        """The twins by the mesh's shape of what a dab reaches, with the mirror image of its moves asked for."""
        assert self.pairs is not None
        mesh, work = self.mesh, self.work
        twins = self.pairs[reach.vertices]
        there = twins >= 0
        if not there.any():
            return Reach(twins[:0], twins[:0], reach.weights[:0], reach.near[:0])
        found = np.ascontiguousarray(twins[there])
        holding, owners = patches_of(mesh, found)
        work.open(holding)
        places = np.full(len(twins), -1, np.int32)
        places[there] = (work.patch_slot[found >> PATCH_BITS] << PATCH_BITS) + (found & (PATCH - 1))
        mirror = self._mirror
        if mirror is None or not self.tool.holds:
            mirror = self._mirror = mirror_between(
                mesh.positions[reach.vertices[there]].astype(np.float64),
                mesh.positions[found].astype(np.float64),
                reach.weights[there].astype(np.float64),
            )
        if self.tool.presses and work.lean is not None:
            ask_alike(work.push, work.push_weight, work.lean, reach.places[there], places[there], mirror)
            return Reach(found, places[there], reach.weights[there], owners)
        mirror_push(work.push[reach.places], reach.weights, places, mirror, work.push, work.push_weight)
        if self._tapers and work.trace is not None:
            mark_trace(work.trace, places[there], self._end[0] + 1e-3)
        return Reach(found, places[there], reach.weights[there], owners)

    def densify_all(self, centre: F64, radius: float, density: Density) -> None:
        """Bring the mesh around a place (3,) and its twins to a wanted density, where it can change.

        Nothing is split any more once the clay has as many vertices as it may (`most`).
        """
        if self.log is None:
            return
        assert isinstance(self.mesh, LooseMesh)
        if density.refine and self.mesh.count >= self.most:
            self.full = True
            if not density.coarsen:
                return
            density = replace(density, refine=False)
        finest = radius * np.sqrt(len(self.twins)) / FINEST
        density = replace(density, length=max(density.length, float(finest)))
        for twin in self.twins:
            self.densify(twin.linear @ centre + twin.shift, radius, density)

    def densify(self, centre: F64, radius: float, density: Density) -> None:
        """Bring the mesh within a ball around `centre` (3,) to a wanted density, where it can change."""
        mesh, log = self.mesh, self.log
        if log is None:
            return
        assert isinstance(mesh, LooseMesh)
        fresh = densify(mesh, self.work, log, centre, radius, density)
        self.protection = mesh.protection()
        if len(fresh):
            reach = radius + 2 * density.length
            self.boxes.append(np.concatenate([centre - reach, centre + reach]).astype(np.float32))

    def grab(self, centre: F64, radius: float, view: F64, dab: Dab | None = None) -> None:
        """Take hold of what is under the brush at `centre` (3,), seen along `view` (3,); it stays held until the stroke ends.

        `dab` tells how a press on the tip lies, where that matters.
        """
        if dab is None:
            dab = Dab(centre, np.zeros(3), view, radius, 1.0, 1.0)
        reaches, ends, likes = self._under(dab)
        if self.settings.variant == "surface":
            reaches = [
                along_surface(self.mesh, reach, twin.linear @ centre + twin.shift, radius, self.falloff)
                for twin, reach in zip(self.twins, reaches, strict=True)
            ]
            ends = np.cumsum([0, *(len(reach.vertices) for reach in reaches)]).astype(np.int32)
            if self.press is not None:
                for reach, here in zip(reaches, likes, strict=True):
                    weigh_by_tip(self.mesh, self.work, reach, here)
        self._grabbed = [Reach(r.vertices.copy(), r.places.copy(), r.weights.copy(), r.near) for r in reaches]
        self._grip = (centre, view)
        self._held = (
            np.concatenate([r.vertices for r in self._grabbed]),
            np.concatenate([r.places for r in self._grabbed]),
            ends,
            [r.near for r in self._grabbed],
        )

    def drag(self, way: F64, radius: float, strength: float = 1.0, amount: float = 0.0) -> None:
        """Bring what is held to `way` (3,) from where it was grabbed.

        Parameters
        ----------
        amount : float
            For tools whose gesture is not "pull": radians to turn or bend by, growth to scale by.
        """
        centre, view = self._grip
        self._beyond.clear()
        turning = self.tool.gesture == "turn"
        for twin, reach in zip(self.twins, self._grabbed, strict=True):
            much = strength if self.tool.gesture == "pull" else amount * strength
            along = twin.linear @ way * (strength if self.tool.gesture == "pull" else 1.0)
            dab = Dab(
                twin.linear @ centre + twin.shift,
                along,
                twin.linear @ view,
                radius,
                -much if turning and twin.turns_over else much,
                1.0,
            )
            self.tool.displace(self.mesh, self.work, reach, dab)
            self._beyond.append(self._near(dab.centre + along, radius).copy())
        if self.pairs is not None:
            self._apply(*_listed([self._grabbed[0], self._paired(self._grabbed[0])]), radius)
            return
        self._apply(*self._held, radius)

    def _apply(self, vertices: I32, places: I32, ends: I32, nears: list[I32], radius: float) -> None:
        mesh = self.mesh
        share = self.settings.build_up_limit
        limit = share * radius if share > 0 else np.inf
        room = 2 * int(ends[-1]) + 4096
        base = mesh.next_stamps(room)
        listed = mesh.scratch("listed", room, np.uint32)
        was = mesh.scratch("was", 3 * room, np.float32).reshape(-1, 3)
        segments = []
        owners = []
        moves = []
        n = 0
        for near, (first, last) in zip(nears, itertools.pairwise(ends.tolist()), strict=True):
            begin = n
            n, move = self._apply_twin(vertices[first:last], places[first:last], limit, base, listed, was, n)
            if n > begin:
                segments.append((begin, n))
                owners.append(near)
                moves.append(move)
        if not segments:
            return
        bounds, steep = renew_normals(mesh, base, listed, segments, owners)
        self._radius = max(self._radius, radius)
        self.n_dabs += 1
        longest = max(moves)
        if steep or self.tool.holds or self._least < ASIDE:
            self._crowded = True
            moved = Moved(base, listed, was[:n], segments, owners, longest, radius)
            farthest = self._unfold(moved, steep or self.tool.holds)
            moves = [move + farthest - longest for move in moves]
            longest = farthest
        for box, move in zip(bounds, moves, strict=True):
            # The box holds where the clay was led; by this much it may be, or have been, outside.
            box[:3] -= move
            box[3:] += move
            self.boxes.append(box)
        self._keep_boxes(nears, longest, radius)

    def _unfold(self, moved: Moved, steep: bool) -> float:
        """Let clay that the dab would fold, or lead through other clay, move less. Returns how far any has gone."""
        near = np.unique(np.concatenate(moved.owners))
        # Where clay faces aside, and where what is held has got to, there may be clay to meet.
        others = near if self._least < ASIDE else near[:0]
        others = np.union1d(others, np.setdiff1d(np.concatenate([near[:0], *self._beyond]), near))
        even = self._even if self.tool.presses else None
        held, longest = unfold(self.mesh, moved, steep, others, np.array(self._sides), self.tool.holds, even)
        self.n_held += held
        return longest

    def _even(self, listed: U32, bad: U8) -> None:
        """Even the heights of a press where they would fold: walls become slopes, spikes hills."""
        work, shape = self.work, self.mesh.topology
        even_heights(
            self.mesh.positions, work.origin, work.patch_slot, shape.faces, shape.ring, shape.ring_faces,
            listed[: len(bad)], bad, np.empty((len(bad), 3)),
        )  # fmt: skip

    def _apply_twin(
        self, vertices: I32, places: I32, limit: float, base: int, listed: U32, was: F32, n: int
    ) -> tuple[int, float]:
        """Move what one twin reaches, and append it to `listed`; its new length and the longest move."""
        mesh, work = self.mesh, self.work
        which, rows = vertices.view(np.uint32), places.view(np.uint32)
        cuts = parts_of(len(which), DAB_PART)
        # What an earlier twin has moved is not moved again.
        starts = cuts[:-1] if n == 0 else [n]
        for first, last in itertools.pairwise(cuts[:-1] if n else []):
            starts.append(starts[-1] + fresh(mesh.stamp, base, which, first, last))
        ends = [0] * len(starts)
        longest = np.zeros((len(starts), 1))

        def apply_some(part: int) -> None:
            rest = (
                limit,
                mesh.stamp,
                base,
                which,
                rows,
                cuts[part],
                cuts[part + 1],
                listed,
                was,
                starts[part],
                longest[part],
            )
            if self._deep and work.coat is not None and work.lean is not None:
                ends[part] = apply_deep(
                    mesh.positions,
                    work.origin,
                    work.coat,
                    work.push_weight,
                    work.lean,
                    self._overlap,
                    *rest[1:],
                )
                return
            if work.found is not None and work.coat is not None and work.lean is not None:
                ends[part] = apply_press(
                    mesh.positions,
                    work.origin,
                    work.coat,
                    work.push,
                    work.push_weight,
                    work.lean,
                    self._overlap,
                    self._gain,
                    *rest,
                )
                return
            ends[part] = apply_push(
                mesh.positions, work.origin, work.push, work.push_weight, self.tool.holds, *rest
            )

        at_once(len(starts), apply_some)
        return ends[-1], float(longest.max())

    def _keep_boxes(self, nears: list[I32], move: float, radius: float) -> None:
        """Loosen the boxes near the dab by its longest move, and fit them anew now and then.

        A patch that owns a face of a moved vertex had that vertex in its box, so the dab was near it.
        """
        mesh, work = self.mesh, self.work
        move *= 1.0 + 1e-6
        self._loose += move
        if self._loose > LOOSE * radius:
            self._loose = 0.0
            mesh.refit(work.touched_patches())
            return
        for near in nears:
            loosen_boxes(mesh.boxes, near, move)
            fit_clusters(mesh.boxes, near, mesh.clusters)

    def found_at(self, point: F64, face: int) -> F64:
        """Where the clay at a point (3,) of a face was before this stroke, (3,)."""
        corners = self.mesh.topology.faces[face]
        return point - self.work.lift_at(point, corners[corners >= 0])

    @property
    def did_less(self) -> bool:
        """Whether the stroke left clearly less than was asked for, lest it break the clay."""
        return self.went_back or self.n_held > TOLD * self.n_dabs

    @property
    def needs_way(self) -> float:
        """Radii of way that a press which is unrolled takes to begin and to run out, where the stroke was shorter; else 0."""
        way = self.work.fade + FRONT
        return way if self.tool.presses and self.settings.tip.rolled and 0.0 < self._unrolled < way else 0.0

    def finish(self) -> Change | LooseChange | None:
        """End the stroke. Returns what undoes it, or None when nothing moved."""
        if self._tapers and self._first is not None:
            # A click has no length to begin and run out over.
            self.take_back()
            self._tapers = False
            self.dab(self._first)
        if self._tapers and self.work.trace is not None:
            self._taper()
        self.mesh.refit(self.work.touched_patches())
        vertices, before = self.work.moved()
        if self._crowded and len(vertices):
            box = uncross(self.mesh, vertices, before, self._radius)
            if box is not None:
                self.went_back = True
                self.boxes.append(box)
                self.mesh.refit(self.work.touched_patches())
        if self.log is not None:
            return self.log.change()
        if len(vertices) == 0:
            return None
        return Change("positions", vertices, before)

    def changes(self) -> list[Change | LooseChange]:
        """End the stroke. Returns what undoes it, in the order to be put in; nothing when nothing changed."""
        change = self.finish()
        return [] if change is None else [change]

    def take_back(self) -> None:
        """Put everything back as the stroke found it, and go on: for a dab that is still being placed."""
        if self.log is not None:
            whole = self.log.change()
            if whole is not None:
                before = box_around(self.mesh, whole.vertices, 2)
                whole.swap(self.mesh)
                self.work.restart()
                self.boxes += [before, box_around(self.mesh, whole.vertices, 2)]
            return
        vertices, before = self.work.moved()
        if len(vertices):
            self.boxes.append(box_around(self.mesh, vertices, 2))
            Change("positions", vertices, before).swap(self.mesh)
            self.boxes.append(box_around(self.mesh, vertices, 2))
        self.work.forget()

    def _taper(self) -> None:
        """Let the stroke run out: what it did last is taken back in part."""
        work, mesh = self.work, self.mesh
        end, length = self._end
        assert work.trace is not None
        vertices, before = work.moved()
        slots = work.patch_slot[vertices >> PATCH_BITS].astype(np.int64)
        when = work.trace[(slots << PATCH_BITS) + (vertices & (PATCH - 1)), 0]
        share = _eased(SOFT_START + (end - when) / length)
        late = (share < 1.0) & (when > 0)
        if not late.any():
            return
        moved = mesh.positions[vertices[late]] - before[late]
        places = before[late] + moved * share[late, None].astype(np.float32)
        self.boxes.append(box_around(mesh, vertices[late], 2))
        Change("positions", vertices[late], places.astype(np.float32)).swap(mesh)
        self.boxes.append(box_around(mesh, vertices[late], 2))

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        change = self.finish()
        if change is not None:
            change.swap(self.mesh)
