"""Many parts as one closed body: exact where all are sound, by volume where not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.remesh import mean_edge, remesh, soup_of
from kneten.core.solid import combine, flaw
from kneten.core.solid_work import SolidError
from kneten.core.topology import MeshError


@dataclass(frozen=True, eq=False)
class OneBody:
    """What came of it.

    Attributes
    ----------
    mesh : Mesh
        Closed, oriented, no shell crossing another.
    exact : bool
        Nothing but where parts meet was changed.
    why : tuple of str
        What stood against that, part by part.
    """

    mesh: Mesh
    exact: bool
    why: tuple[str, ...]


def one_body(meshes: Sequence[Mesh], names: Sequence[str], edge: float, progress: Progress) -> OneBody:
    """Parts in one space as one closed body.

    Parameters
    ----------
    edge : float
        Mean edge length where it has to be made by volume; that of the densest part where it is 0.

    Raises
    ------
    MeshError
        When nothing encloses anything.
    Cancelled
        Through `progress`.
    """
    if not meshes:
        raise MeshError("there is no part to make a body of")
    why = [f"{name} {words}" for name, mesh in zip(names, meshes, strict=True) if (words := flaw(mesh))]
    if not why:
        if len(meshes) == 1:
            return OneBody(meshes[0], True, ())
        try:
            return OneBody(combine("join", meshes, progress), True, ())
        except SolidError as error:
            why.append(str(error))
    fine = edge or min(mean_edge(mesh) for mesh in meshes)
    return OneBody(remesh(soup_of(list(meshes)), fine, progress), False, tuple(why))
