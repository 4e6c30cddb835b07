"""Things of a project besides parts and milestones. `kinds.py` declares what is done with them."""

from __future__ import annotations

import functools
import uuid
from dataclasses import dataclass, field, replace
from typing import Protocol, TypeVar

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U16
from kneten.core.camera import Camera
from kneten.core.fur.leads import Leads, turned_along
from kneten.core.fur.numbers import FurNumbers
from kneten.core.guides import held, places
from kneten.core.light.finish import ColourTable, Finish, table_size
from kneten.core.light.lamps import Lamp
from kneten.core.light.surroundings import Surroundings
from kneten.core.measure import Anchor, anchored
from kneten.core.mesh import Mesh
from kneten.core.pose.keys import Keys, Track
from kneten.core.press_edits import Edits
from kneten.core.transform import Transform
from kneten.core.words import FAR


class Sculpted(Protocol):
    """A part, as far as what lies on it needs it."""

    @property
    def id(self) -> str:
        """Its name that no other has."""

    @property
    def mesh(self) -> Mesh:
        """Its clay."""


def new_id() -> str:
    """A name that no other thing has."""
    return uuid.uuid4().hex


@dataclass(frozen=True)
class Group:
    """A folder of parts.

    Attributes
    ----------
    budget : int
        Vertices its parts together should stay under; 0 for none.
    folded : bool
        Its parts are not listed.
    """

    name: str
    id: str = field(default_factory=new_id)
    budget: int = 0
    folded: bool = False


@dataclass(frozen=True)
class RegionName:
    """What a region is called; those without are called by their number."""

    number: int
    name: str


@dataclass(frozen=True)
class KeptSet:
    """Lamps and surroundings kept under a name."""

    name: str
    lamps: tuple[Lamp, ...]
    around: Surroundings = Surroundings()
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class KeptSky:
    """A sky of the user's own.

    Attributes
    ----------
    light : (TALL * 2 * TALL, 3) float32
        Its table of directions, row by row, as `core/light/skies.py` has them.
    """

    name: str
    light: F32
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class JointMove:
    """How a joint is turned and shifted, as `core/pose/rig.py` has it."""

    joint: str
    turn: tuple[float, float, float]
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class KeptPose:
    """A pose of a body's rig, kept under a name; joints that are not in it rest.

    Attributes
    ----------
    part : str
        Id of the body.
    """

    name: str
    part: str
    moves: tuple[JointMove, ...]
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class KeptMotion:
    """A motion of a body's rig and of shapes, by keys.

    Attributes
    ----------
    part : str
        Id of the body, or of a part that takes part in the shapes.
    tracks : tuple of Track
    which, at, value : (n,) int32, (n,) float32, (n, 3) float32
        As `Keys` has them.
    """

    name: str
    part: str
    tracks: tuple[Track, ...]
    which: I32
    at: F32
    value: F32
    id: str = field(default_factory=new_id)

    @functools.cached_property
    def keys(self) -> Keys:
        """Its keys."""
        return Keys(self.tracks, self.which, self.at, self.value)


ASPECTS = (0.1, 10.0)
"""Widths by heights that a picture may have."""


@dataclass(frozen=True)
class Shot:
    """A camera of a project: what a picture shows, and its finish.

    Attributes
    ----------
    aspect : float
        Width of the picture by its height.
    locked : bool
        It cannot be moved.
    """

    name: str
    camera: Camera
    aspect: float = 16 / 9
    locked: bool = False
    finish: Finish = Finish()
    id: str = field(default_factory=new_id)

    def check(self) -> None:
        """Raise `ValueError` where it is not usable."""
        camera = self.camera
        placed = max(map(abs, camera.target)) <= FAR and 1e-3 <= camera.distance <= FAR
        if not (placed and 1 <= camera.angle <= 130 and ASPECTS[0] <= self.aspect <= ASPECTS[1]):
            raise ValueError(f"the camera {self.name} is not usable")
        self.finish.check()


@dataclass(frozen=True, eq=False)
class KeptTable:
    """A colour table that came from a file.

    Attributes
    ----------
    steps : (n * n * n, 3) float32
        As `ColourTable` has them.
    """

    name: str
    steps: F32
    id: str = field(default_factory=new_id)

    @functools.cached_property
    def table(self) -> ColourTable:
        """The table itself. Raises `ValueError` where its steps make none."""
        table_size(len(self.steps))
        return ColourTable(self.name, self.steps)


@dataclass(frozen=True, eq=False)
class KeptMask:
    """A mask kept under a name, with the places of its vertices: so it fits any later mesh.

    Attributes
    ----------
    part : str
        The part it was kept from.
    positions : (n, 3) float32
    values : (n,) uint8
        255 is fully masked.
    """

    name: str
    part: str
    positions: F32
    values: U8
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class KeptMap:
    """A map that was baked for a part.

    Attributes
    ----------
    key : str
        Of `core.maps.bake.MAPS`.
    part : str
    u, v : int
        Its tile.
    size : int
        Texels across.
    data : (k,) uint8
        A PNG of eight bits.
    """

    key: str
    part: str
    u: int
    v: int
    size: int
    data: U8
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class PaintSkin:
    """That a part is another's picture to be painted on: a vertex for each texel.

    Attributes
    ----------
    part : str
        The skin.
    of : str
        The part whose picture it is.
    size : int
        Texels across.
    """

    part: str
    of: str
    size: int
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class KeptPress:
    """A press of the user's own, with its picture as it came.

    Attributes
    ----------
    family : str
        What it is shown under.
    width : int
        Pixels across.
    low, high : float
        The values that the least and the greatest step stand for.
    tiles : bool
        Whether the picture goes on at its edges as it is.
    edits : Edits
        What is done to it before it is laid.
    steps : (h * width,) uint16
        The picture, row by row.
    """

    name: str
    width: int
    steps: U16
    family: str = "own"
    low: float = 0.0
    high: float = 1.0
    tiles: bool = False
    edits: Edits = Edits()
    id: str = field(default_factory=new_id)

    @property
    def picture(self) -> F32:
        """The values, (h, width)."""
        share = self.steps.reshape(-1, self.width).astype(np.float32) / np.float32(65535)
        return np.float32(self.low) + np.float32(self.high - self.low) * share


@dataclass(frozen=True, eq=False)
class KeptDeep:
    """A deep press of the user's own.

    Attributes
    ----------
    width : int
        Pixels across.
    moves : (h * width, 3) float32
        To its right, to its top and out, in half-widths, row by row.
    """

    name: str
    width: int
    moves: F32
    family: str = "own"
    id: str = field(default_factory=new_id)

    @property
    def picture(self) -> F32:
        """The moves, (h, width, 3)."""
        return self.moves.reshape(-1, self.width, 3)


def kept_deep(name: str, moves: F32) -> KeptDeep:
    """Keep the moves (h, w, 3) of a deep press."""
    return KeptDeep(name, moves.shape[1], np.ascontiguousarray(moves.reshape(-1, 3), np.float32))


def kept_press(name: str, picture: F32, tiles: bool = False, edits: Edits = Edits()) -> KeptPress:  # noqa: B008
    """Keep a picture of values (h, w) as a press, in 65,536 steps."""
    low, high = float(picture.min()), float(picture.max())
    share = (picture.astype(np.float64) - low) / max(high - low, 1e-30)
    steps = np.rint(share * 65535).astype(np.uint16).reshape(-1)
    return KeptPress(name, picture.shape[1], steps, low=low, high=high, tiles=tiles, edits=edits)


@dataclass(frozen=True, eq=False)
class SentForm:
    """A level of a part as it was when it went out, or as it last came back: what tells moves made elsewhere from those made here.

    Attributes
    ----------
    part : str
        The part's id.
    level : int
    transform : Transform
        Where the part stood: the file knows no other place.
    positions : (n, 3) float32
        In the part's space, in source order.
    """

    part: str
    level: int
    transform: Transform
    positions: F32
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Landmark:
    """A named place on a part, held by a face of it so that it moves along with strokes.

    Attributes
    ----------
    part : str
        The part's id.
    shares : three floats
        Weights of the corners of the triangle it lies in.
    corners : three ints
        Vertices of that triangle.
    topology : str
        Which shape of the mesh the numbers are of.
    place : three floats
        Where it was last, in the part's space: what it is found again by on a new mesh.
    """

    name: str
    part: str
    corners: tuple[int, int, int]
    shares: tuple[float, float, float]
    topology: str
    place: tuple[float, float, float]
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class Guide:
    """A line on a part, held by its triangles so that it moves along with strokes.

    Attributes
    ----------
    part : str
        The part's id.
    corners, shares : (k, 3) int32 and float32
        The triangle each point lies in, and the weights of its corners.
    topology : str
        Which shape of the mesh the numbers are of.
    places : (k, 3) float32
        Where it was when it was laid, in the part's space: what it is found again by on other clay.
    closed : bool
    note : str
    """

    part: str
    corners: I32
    shares: F32
    topology: str
    places: F32
    closed: bool = False
    note: str = ""
    id: str = field(default_factory=new_id)


def guide_of(part: Sculpted, line: F64, closed: bool, note: str = "") -> Guide:
    """Lay a line (k, 3), in the part's space, on its clay."""
    empty = Guide(
        part.id,
        np.empty((0, 3), np.int32),
        np.empty((0, 3), np.float32),
        "",
        np.empty((0, 3), np.float32),
        closed,
        note,
    )
    return laid(empty, line, part.mesh)


@dataclass(frozen=True, eq=False)
class KeptSites:
    """Where the pieces of a scatter sit on their ground, held by its triangles so that they move along with strokes.

    Attributes
    ----------
    part : str
        Id of the ground.
    serves : str
        Id of the scatter.
    corners, shares : (k, 3) int32 and float32
        The triangle each piece sits in, and the weights of its corners.
    topology : str
        Which shape of the mesh the numbers are of.
    places : (k, 3) float32
        Where they were when they were laid, in the ground's space: what they are found again by on other clay.
    numbers : (k, 3) float32
        Of each piece its size, how chance turns it, and -1 for a mirror image.
    which : (k,) int32
        Which of the sources each is.
    """

    part: str
    serves: str
    corners: I32
    shares: F32
    topology: str
    places: F32
    numbers: F32
    which: I32
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class Fur:
    """Fine fibres on a part: numbers, and the leads that they follow; the fibres themselves are worked out from these.

    Attributes
    ----------
    part : str
        The part's id.
    corners, shares : (k, 3) int32 and float32
        The triangle that each lead grows from, and the weights of its corners.
    topology : str
        Which shape of the mesh the numbers are of.
    places : (k, 3) float32
        Where they were when they were laid, in the part's space: what they are found again by on other clay.
    normals : (k, 3) float32
        Which way was off the clay there when they were combed.
    mids, tips : (k, 3) float32
        From each root to what draws its strand's middle, and to its tip, as it was combed.
    own : (k, 3) float32
        What each adds to curl, clumping and room, as `core.fur.leads.Leads` has it.
    """

    name: str
    part: str
    corners: I32
    shares: F32
    topology: str
    places: F32
    normals: F32
    mids: F32
    tips: F32
    own: F32
    numbers: FurNumbers = FurNumbers()
    id: str = field(default_factory=new_id)


Held = TypeVar("Held", Guide, KeptSites, Fur)
"""What triangles hold: it has corners, shares, topology and places."""


@dataclass(frozen=True)
class Tape:
    """A measure between two landmarks.

    Attributes
    ----------
    surface : bool
        Over the surface instead of through space.
    divisions : tuple of floats
        Shares at which it is marked, between 0 and 1.
    """

    start: str
    end: str
    surface: bool = False
    divisions: tuple[float, ...] = ()
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Reference:
    """A picture to look at while working.

    Attributes
    ----------
    picture : str
        Key of the original among the project's pictures.
    way : str
        board; front, side or top: a plane in space; view: bound to a saved camera.
    place : two floats
        Of its middle: pixels of the board, or millimetres along the plane.
    scale : float
        Board pixels or millimetres to one pixel of the picture.
    turn : float
        Degrees.
    mirror, grey : bool
    opacity : float
    crop : four floats
        Left, top, right, bottom as shares of the picture.
    note : str
    view : str
        Id of the saved view it is bound to.
    over : bool
        Drawn over the clay instead of under it.
    depth : float
        Millimetres of a plane from the origin.
    shown : bool
    """

    name: str
    picture: str
    way: str = "board"
    place: tuple[float, float] = (0.0, 0.0)
    scale: float = 1.0
    turn: float = 0.0
    mirror: bool = False
    grey: bool = False
    opacity: float = 1.0
    crop: tuple[float, float, float, float] = (0.0, 0.0, 1.0, 1.0)
    note: str = ""
    view: str = ""
    over: bool = False
    depth: float = 0.0
    shown: bool = True
    id: str = field(default_factory=new_id)


# -- landmarks, guides and sites on their clay ----------------------------------------------------


def laid(thing: Held, line: F64, mesh: Mesh) -> Held:
    """A guide, or sites, on the places of a mesh nearest to points (k, 3)."""
    found = held(mesh, line)
    at = found.places(mesh).astype(np.float32)
    return replace(thing, corners=found.corners, shares=found.shares, topology=mesh.topology.uid, places=at)


def guide_places(thing: Guide | KeptSites | Fur, mesh: Mesh) -> F64:
    """Where a guide, or sites, are in their part's space, (k, 3), on the clay as it is now."""
    if thing.topology == mesh.topology.uid:
        return places(mesh, thing.corners, thing.shares)
    return thing.places.astype(np.float64)


def place_in_part(mark: Landmark, part: Sculpted) -> F64:
    """Where a landmark is in its part's space, (3,), on the clay as it is now."""
    if part.mesh.topology.uid == mark.topology:
        return Anchor(mark.corners, mark.shares).place(part.mesh)
    return np.array(mark.place)


def marked(name: str, part: Sculpted, place: F64) -> Landmark:
    """A landmark at the place of a part nearest to a place (3,) of its own space."""
    found = anchored(part.mesh, place)
    x, y, z = (float(v) for v in found.place(part.mesh))
    return Landmark(name, part.id, found.corners, found.shares, part.mesh.topology.uid, (x, y, z))


# -- fur on its clay --------------------------------------------------------------------------------


def _normals_at(mesh: Mesh, corners: I32, shares: F32) -> F64:
    ways = np.einsum("kc,kcx->kx", shares.astype(np.float64), mesh.normals[corners].astype(np.float64))
    return np.asarray(ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-12))


def leads_of(fur: Fur, mesh: Mesh) -> Leads:
    """The leads of a fur on the clay as it is now: turned as that has turned since they were combed."""
    before = fur.normals.astype(np.float64)
    if fur.topology != mesh.topology.uid:
        return Leads(*(one.astype(np.float64) for one in (fur.places, before, fur.mids, fur.tips, fur.own)))
    now = _normals_at(mesh, fur.corners, fur.shares)
    mids, tips = (turned_along(ways.astype(np.float64), before, now) for ways in (fur.mids, fur.tips))
    return Leads(places(mesh, fur.corners, fur.shares), now, mids, tips, fur.own.astype(np.float64))


def with_leads(fur: Fur, leads: Leads) -> Fur:
    """A fur combed otherwise: leads that grow where its own do."""
    kept = (leads.normals, leads.mids, leads.tips, leads.own)
    normals, mids, tips, own = (np.asarray(one, np.float32) for one in kept)
    return replace(fur, normals=normals, mids=mids, tips=tips, own=own)


def fur_on(fur: Fur, leads: Leads, mesh: Mesh) -> Fur:
    """A fur whose leads grow from the places of a mesh nearest to where they were."""
    there = laid(fur, leads.roots, mesh)
    now = _normals_at(mesh, there.corners, there.shares)
    mids, tips = (turned_along(ways, leads.normals, now) for ways in (leads.mids, leads.tips))
    return with_leads(there, Leads(leads.roots, now, mids, tips, leads.own))
