"""The symmetry of the part in hand: measured and made again, across the planes that are on and all round."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import F32, I32, AnyArray, Progress
from kneten.core.distance import signed_distances
from kneten.core.mesh import Mesh
from kneten.core.placing import kneaded
from kneten.core.remesh import mean_edge
from kneten.core.solid import mirrored_whole
from kneten.core.twins import (
    Pairs,
    asymmetry,
    pairs_of,
    repeated_round,
    resymmetrised,
    turn_about,
    turned_twins,
)  # fmt: skip
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

NO_PAIRS = (
    "has no two sides of the same shape, so no vertex has a twin. Use New mesh instead: it mirrors one side and merges "
    "it at the seam."
)


@dataclass(frozen=True)
class Sense:
    """Across which plane, or about which axis how often.

    Attributes
    ----------
    axis : int
    count : int
        Repeats all round; 1 for a plane.
    """

    axis: int
    count: int = 1

    def __str__(self) -> str:
        letter = "XYZ"[self.axis]
        return f"across {letter}" if self.count == 1 else f"all round {letter}"


@dataclass(frozen=True)
class Twins:
    """What was found of a sense: the twins across a plane, or where vertices come by one turn; None for no twins."""

    sense: Sense
    found: Pairs | I32 | None


class SymmetryWork:
    """Measures and makes symmetry."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    def senses(self) -> list[Sense]:
        """What is meant: the planes that are on, and all round where strokes are repeated; X when nothing is on."""
        held = self._studio.project.settings
        if held.symmetry_space == "shape":
            return [Sense(0)]
        senses = [Sense(axis) for axis in range(3) if held.symmetry[axis]]
        if held.radial[1] > 1:
            senses.append(Sense(*held.radial))
        return senses or [Sense(0)]

    def _space(self, part: Part) -> AnyArray:
        """The matrix (4, 4) from the part's space to that whose planes and axes are meant."""
        world = self._studio.project.settings.symmetry_space == "world"
        return part.transform.matrix() if world else np.eye(4)

    def by(self, space: str) -> None:
        """Have strokes find their twins by the part's planes, the world's, or the mesh's shape."""
        studio, project = self._studio, self._studio.project

        def take() -> None:
            project.change_settings(symmetry_space=space)
            self._desk.fill_card("symmetry_card")
            self._desk.fill_chip()
            self._desk.view.hover_again()

        part = project.active
        if space != "shape" or self._desk.form.none():
            take()
            return
        assert part is not None
        if part.mesh.topology.uid in project.pairs:
            take()
            return
        mesh = part.mesh.copy()

        def land(found: Pairs | None) -> None:
            if found is None:
                studio.say(
                    f"{part.name} has no two sides of the same shape, so its mesh has no twins. Remesh it while it is "
                    "symmetric.", "warning",
                )  # fmt: skip
                return
            project.pairs[mesh.topology.uid] = found
            take()

        studio.work_on([part], "Find twins", lambda progress: pairs_of(mesh, 0), land)
        self._desk.fill_card("symmetry_card")

    def check(self) -> None:
        """Measure how far the part in hand is from symmetric, and show it as colours."""
        part, view = self._desk.form.part(), self._desk.view
        if view.distances:
            view.stop_compare()
            return
        mesh, scale = part.mesh.copy(), part.transform.scale
        senses, space = self.senses(), self._space(part)

        def work(progress: Progress) -> tuple[F32, bool]:
            placed = kneaded(mesh, space)
            off, by_shape = np.zeros(mesh.n_vertices, np.float32), True
            for sense in senses:
                twins = _twins(placed, sense)
                by_shape = by_shape and twins.found is not None
                off = np.maximum(off, _off(placed, twins, progress))
            return off * np.float32(1.0 if _is_world(space) else scale), by_shape

        def land(found: tuple[F32, bool]) -> None:
            off, by_shape = found
            worst, edge = float(off.max()), mean_edge(mesh) * scale
            what = " and ".join(str(sense) for sense in senses)
            if worst < edge * 1e-3:
                self._studio.say(f"{part.name} is symmetric {what}.")
                return
            count = int(np.count_nonzero(off > edge * 0.1))
            how = "" if by_shape else " (its mesh has no twins: measured to the surface)"
            self._studio.say(
                f"{part.name} is off its likes {what} by up to {worst:.3g} mm; "
                f"{count:,} vertices are off by more than a tenth of an edge{how}."
            )
            view.show_distances({part.id: (0.5 + 0.5 * off / worst).astype(np.float32)}, worst)

        self._studio.work_on([part], "Check symmetry", work, land)

    def resymmetrise(self, side: int) -> None:
        """Make one side the like of the other; 0 brings both to their mean."""
        part, project = self._desk.form.part(), self._studio.project
        mesh, senses, space = part.mesh.copy(), self.senses(), self._space(part)
        soft = self._desk.symmetry_card.soft.value() / (1.0 if _is_world(space) else part.transform.scale)
        free = None if mesh.mask is None else 1 - mesh.mask

        def work(progress: Progress) -> F32 | Sense:
            placed = kneaded(mesh, space)
            for count, sense in enumerate(senses):
                progress.report(count / len(senses), "Finding twins")
                twins = _twins(placed, sense)
                if twins.found is None:
                    return sense
                placed = placed.with_positions(_evened(placed, twins, side, soft, free))
            if not _is_world(space):
                return placed.positions
            return part.transform.to_part(placed.positions.astype(np.float64)).astype(np.float32)

        def land(found: F32 | Sense) -> None:
            if isinstance(found, Sense):
                why = (
                    NO_PAIRS
                    if found.count == 1
                    else f"does not repeat {found.count} times, vertex by vertex."
                )
                self._studio.say(f"{part.name} {why}", "warning")
                return
            what = " and ".join(str(sense) for sense in senses)
            if not project.move_vertices(part.id, found, f"Resymmetrise {part.name}"):
                self._studio.say(f"{part.name} is symmetric {what} already.")
            self._studio.advisor.look(project.scene.part(part.id))

        self._studio.work_on([part], "Resymmetrise", work, land)

    def no_plane(self) -> str:
        """Why no side can be made anew."""
        if all(sense.count > 1 for sense in self.senses()):
            return "A new mesh is made across a plane: switch one on."
        return self._desk.form.none()

    def remake(self, side: int) -> None:
        """Cut the part at its middle and mirror one side, merged at the seam; across each plane that is on."""
        part = self._desk.form.part()
        mesh, space = part.mesh.copy(), self._space(part)
        planes = [sense.axis for sense in self.senses() if sense.count == 1]

        def work(progress: Progress) -> Mesh:
            made = kneaded(mesh, space)
            for axis in planes:
                made = mirrored_whole(made, axis, side, progress)
            return kneaded(made, np.linalg.inv(space))

        self._studio.rework(part, "Mirror", work)


def _is_world(space: AnyArray) -> bool:
    return not np.array_equal(space, np.eye(4))


def _twins(mesh: Mesh, sense: Sense) -> Twins:
    if sense.count == 1:
        return Twins(sense, pairs_of(mesh, sense.axis))
    return Twins(sense, turned_twins(mesh, sense.axis, sense.count))


def _off(mesh: Mesh, twins: Twins, progress: Progress) -> F32:
    """How far each vertex is from where its like would have it, or from the surface's like."""
    sense, found = twins.sense, twins.found
    if isinstance(found, Pairs):
        return asymmetry(mesh, found, sense.axis)
    likes = mesh.positions.astype(np.float64)
    if sense.count == 1:
        likes *= np.where(np.arange(3) == sense.axis, -1.0, 1.0)
    else:
        likes = likes @ turn_about(sense.axis, 2 * np.pi / sense.count).T
    if found is not None:
        return np.linalg.norm(mesh.positions[found] - likes, axis=1).astype(np.float32)
    return np.abs(signed_distances(likes, mesh, progress))


def _evened(mesh: Mesh, twins: Twins, side: int, soft: float, free: F32 | None) -> F32:
    sense, found = twins.sense, twins.found
    if isinstance(found, Pairs):
        return resymmetrised(mesh, found, sense.axis, side, soft, free)
    assert found is not None
    sector = None if side == 0 else 0 if side > 0 else sense.count - 1
    return repeated_round(mesh, found, sense.axis, sense.count, sector, free)
