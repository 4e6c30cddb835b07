"""Leads: the strands that one combs, and that fur follows."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.fur.numbers import MOST_LEADS, FurError
from kneten.core.live.clay import RecipeError
from kneten.core.mesh import Mesh
from kneten.core.scatter.numbers import Scatter
from kneten.core.scatter.pieces import own_piece
from kneten.core.scatter.sites import Ground, placed, turned
from kneten.core.scatter.walk import Spots

LEAST_LENGTH = 0.02
"""Share of its former length below which no pass of a tool shortens a lead."""

CURL, CLUMP, ROOM = range(3)
"""Columns of what leads have of their own."""

OWN = ((-1.0, 1.0), (-1.0, 1.0), (-1.0, 0.0))
"""Limits of these: fur can grow thinner than its number of fibres, not denser."""

LOW = 0.06
"""Sine of the angle to the clay that leads keep: none is combed into it."""


@dataclass(frozen=True, eq=False)
class Leads:
    """Combed strands.

    Attributes
    ----------
    roots : (k, 3) float64
        Where they grow from.
    normals : (k, 3) float64
        Which way is off the clay there.
    mids, tips : (k, 3) float64
        From the root to what draws the strand's middle, and to its tip: a curve of second degree.
    own : (k, 3) float64
        What is added round each to the fur's curl, its clumping, and to the share of fibres that grow.
    """

    roots: F64
    normals: F64
    mids: F64
    tips: F64
    own: F64

    def __len__(self) -> int:
        """How many there are."""
        return len(self.roots)

    def lengths(self) -> F64:
        """How long each is from root to tip, (k,)."""
        return np.asarray(np.linalg.norm(self.tips, axis=1))


def turned_along(ways: F64, before: F64, after: F64) -> F64:
    """Directions (k, 3) turned as normals (k, 3) have turned since: by the least turn."""
    dots = np.einsum("kx,kx->k", before, after)
    both = before + after
    share = np.einsum("kx,kx->k", both, ways) / np.maximum(1 + dots, 1e-6)
    return np.asarray(ways - both * share[:, None] + 2 * after * np.einsum("kx,kx->k", before, ways)[:, None])


def grown(
    mesh: Mesh,
    mask: AnyArray | None,
    length: float,
    lift: float,
    spacing: float,
    seed: int,
    progress: Progress,
) -> tuple[Spots, Leads]:
    """First leads: spread evenly, lying downwards, lifted off the clay by an angle.

    Parameters
    ----------
    mask : (n,) float32 or None
        Where there is fur.
    length, spacing : float
        In the mesh's space.
    lift : float
        Degrees.

    Raises
    ------
    FurError
        Where there is no clay for them.
    """
    scatter = Scatter(
        sources=("rivet",),
        size=spacing,
        over="all" if mask is None else "mask",
        even=0.6,
        seed=seed,
        most=MOST_LEADS,
    )
    try:
        sites = placed(Ground(mesh, mask), scatter, [own_piece("rivet")], progress)
    except RecipeError as error:
        raise FurError(str(error)) from error
    roots, normals = sites.spots.places(mesh), sites.spots.normals(mesh)
    down = np.tile([0.0, -1.0, 0.0], (len(roots), 1))
    along = turned(down, normals, np.zeros(len(roots)))
    angle = np.radians(lift)
    tips = length * (np.cos(angle) * along + np.sin(angle) * normals)
    mids = length * (0.35 * np.cos(angle) * along + 0.25 * normals + 0.3 * np.sin(angle) * normals)
    return sites.spots, Leads(roots, normals, mids, tips, np.zeros((len(roots), len(OWN))))


def shares_near(leads: Leads, place: F64, radius: float, way: F64 | None = None) -> F64:
    """How much a tool at a place (3,) has to say of each lead, (k,): 1 in its middle, 0 from its radius on.

    With a direction (3,) towards the eye only leads on the side that is seen.
    """
    far = np.linalg.norm(leads.roots - place, axis=1) / max(radius, 1e-12)
    near = 1 - np.minimum(far, 1.0)
    share = np.asarray(near * near * (3 - 2 * near))
    if way is not None:
        share = np.where(leads.normals @ way > -0.1, share, 0.0)
    return share


def _kept_long(leads: Leads, shares: F64, tips: F64, mids: F64) -> Leads:
    """Leads turned elsewhere, where the tool reaches them: as long as they were, and none within the clay."""
    out = []
    for ways, was in ((tips, leads.tips), (mids, leads.mids)):
        high = np.einsum("kx,kx->k", ways, leads.normals)
        along = ways - high[:, None] * leads.normals
        flat = np.linalg.norm(along, axis=1)
        up = np.maximum(high, LOW * flat / np.sqrt(1 - LOW * LOW))
        ways = along + up[:, None] * leads.normals
        now = np.maximum(np.linalg.norm(ways, axis=1), 1e-12)
        ways = ways * (np.linalg.norm(was, axis=1) / now)[:, None]
        out.append(np.where(shares[:, None] > 0, ways, was))
    return replace(leads, tips=out[0], mids=out[1])


def combed(leads: Leads, shares: F64, way: F64) -> Leads:
    """Leads drawn along a way (3,), by their shares (k,): their tips most."""
    pull = way - np.einsum("x,kx->k", way, leads.normals)[:, None] * leads.normals
    tips = leads.tips + shares[:, None] * pull
    mids = leads.mids + 0.4 * shares[:, None] * pull
    return _kept_long(leads, shares, tips, mids)


def lifted(leads: Leads, shares: F64, amount: float) -> Leads:
    """Leads raised off the clay by their shares (k,), or laid down on it where the amount is below 0."""
    up = (shares * amount * leads.lengths())[:, None] * leads.normals
    return _kept_long(leads, shares, leads.tips + up, leads.mids + 0.6 * up)


def lengthened(leads: Leads, shares: F64, factor: float, most: float) -> Leads:
    """Leads made longer, or cut shorter, by their shares (k,), up to a length."""
    grow = 1 + shares * (factor - 1)
    long = leads.lengths()
    grow = np.where(long * grow > most, np.maximum(most / np.maximum(long, 1e-12), 1.0), grow)
    grow = np.maximum(grow, LEAST_LENGTH)
    return replace(leads, tips=leads.tips * grow[:, None], mids=leads.mids * grow[:, None])


def made_own(leads: Leads, shares: F64, which: int, amount: float) -> Leads:
    """Leads whose fur is more, or less, of one thing, `CURL`, `CLUMP` or `ROOM`, by their shares (k,)."""
    own = leads.own.copy()
    own[:, which] = np.clip(own[:, which] + shares * amount, *OWN[which])
    return replace(leads, own=own)


def evened(leads: Leads, shares: F64) -> Leads:
    """Leads brought nearer to the mean of those that the tool reaches by shares (k,): ways, lengths and what is their own."""
    total = float(shares.sum())
    if total <= 1e-9:
        return leads
    out = []
    for ways in (leads.tips, leads.mids):
        # Means are taken of how ways lie to the clay, not in space: round a body they turn with it.
        along = ways - np.einsum("kx,kx->k", ways, leads.normals)[:, None] * leads.normals
        mean = (along * shares[:, None]).sum(axis=0) / total
        high = float((np.einsum("kx,kx->k", ways, leads.normals) * shares).sum() / total)
        flat = mean - np.einsum("x,kx->k", mean, leads.normals)[:, None] * leads.normals
        there = flat + high * leads.normals
        out.append(ways + 0.5 * shares[:, None] * (there - ways))
    own = leads.own + 0.5 * shares[:, None] * ((leads.own * shares[:, None]).sum(axis=0) / total - leads.own)
    return replace(leads, tips=out[0], mids=out[1], own=own)
