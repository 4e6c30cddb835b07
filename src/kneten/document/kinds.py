"""The declaration of all kinds of things: what undo, files, journal, library and new clay need to know of them.

`tests/document/test_things.py` has a kind that nothing in the project knows. To add one: its class in `things.py`, a
line in `THINGS`, and, for convenience, a field of `Scene`.
"""

from __future__ import annotations

import functools
import struct
import typing
from collections.abc import Callable, Iterable, Mapping
from dataclasses import MISSING, Field, dataclass, field, fields, make_dataclass, replace
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from kneten.core.arrays import F64, AnyArray
from kneten.core.falloff import PRESSURE_LINEAR, clean_points
from kneten.core.fur.leads import Leads
from kneten.core.fur.numbers import MOST_LEADS, FurError
from kneten.core.guides import places
from kneten.core.light.finish import CURVES, Finish, table_size
from kneten.core.light.lamps import Lamp
from kneten.core.light.skies import SKIES, TALL
from kneten.core.light.surroundings import OWN, Surroundings
from kneten.core.loose import LooseMesh
from kneten.core.paint.held import HeldPicture
from kneten.core.press import LARGEST
from kneten.core.words import FAR, thing_from
from kneten.document.things import (
    Fur,
    Group,
    Guide,
    Held,
    KeptDeep,
    KeptMap,
    KeptMask,
    KeptMotion,
    KeptPose,
    KeptPress,
    KeptSet,
    KeptSites,
    KeptSky,
    KeptTable,
    Landmark,
    PaintSkin,
    Reference,
    RegionName,
    SentForm,
    Shot,
    Tape,
    fur_on,
    guide_places,
    laid,
    leads_of,
    marked,
    new_id,
    place_in_part,
    with_leads,
)

if TYPE_CHECKING:
    from kneten.document.scene import Part, Scene


# -- how they are written, read and moved ---------------------------------------------------------


def _mark_now(mark: Landmark, part: Part) -> Landmark:
    """On settled clay it is found again by where it is."""
    x, y, z = (float(v) for v in place_in_part(mark, part))
    return replace(mark, place=(x, y, z))


def _usable_mark(mark: Landmark, part: Part) -> Landmark:
    """A landmark whose triangle is there; else it is found again by its place."""
    if max(map(abs, mark.place)) > FAR or not all(-1 <= share <= 2 for share in mark.shares):
        raise ValueError(f"the landmark {mark.name} is not usable")
    there = min(mark.corners) >= 0 and max(mark.corners) < part.mesh.n_vertices
    return mark if there else replace(mark, corners=(0, 0, 0), topology="")


def _moved_mark(mark: Landmark, old: Part, new: Part) -> Landmark:
    return replace(marked(mark.name, new, place_in_part(mark, old)), id=mark.id)


def _held_mark(mark: Landmark, part: Part, before: F64) -> Landmark:
    mesh = part.mesh
    if isinstance(mesh, LooseMesh) and mesh.is_face(mark.corners):
        return mark
    return replace(marked(mark.name, part, before), id=mark.id)


def _held_now(thing: Held, part: Part) -> Held:
    return replace(thing, places=np.ascontiguousarray(guide_places(thing, part.mesh), np.float32))


def _usable_guide(guide: Guide, part: Part) -> Guide:
    """A guide, laid anew where its part has other clay than it was laid on."""
    if len(guide.places) == 0 or len(guide.shares) != len(guide.places) or np.abs(guide.shares).max() > 2:
        raise ValueError(f"the guide {guide.id} is not usable")
    same = guide.topology == part.mesh.topology.uid
    if same and 0 <= guide.corners.min() <= guide.corners.max() < part.mesh.n_vertices:
        at = places(part.mesh, guide.corners, guide.shares).astype(np.float32)
        return replace(guide, places=at)
    return laid(guide, guide.places.astype(np.float64), part.mesh)


def _held_elsewhere(thing: Held, old: Part, new: Part) -> Held:
    return laid(thing, guide_places(thing, old.mesh), new.mesh)


def _held_before(thing: Guide | KeptSites, part: Part) -> F64:
    return guide_places(thing, part.mesh)


def _usable_sites(held: KeptSites, part: Part | None) -> KeptSites:
    """KeptSites of pieces, found anew where their ground has other clay than they were laid on."""
    assert part is not None
    n = len(held.places)
    counted = n > 0 and all(len(rows) == n for rows in (held.corners, held.shares, held.numbers, held.which))
    if not counted or np.abs(held.shares).max() > 2 or held.which.min() < 0 or held.numbers[:, 0].min() <= 0:
        raise ValueError("the places of scattered pieces are not usable")
    shape = part.mesh.topology
    if held.topology == shape.uid and 0 <= held.corners.min() <= held.corners.max() < part.mesh.n_vertices:
        at = places(part.mesh, held.corners, held.shares).astype(np.float32)
        return replace(held, places=at)
    return laid(held, held.places.astype(np.float64), part.mesh)


PNG = b"\x89PNG\r\n\x1a\n"

MOST_TEXELS = 16_384
"""Across a kept map."""

STILL = 1e-6
"""How far a unit normal may be off and still be the same."""


def _fur_now(fur: Fur, part: Part) -> Fur:
    """As it is combed now: the clay may have turned since."""
    leads = leads_of(fur, part.mesh)
    turned = np.abs(leads.normals - fur.normals).max() > STILL
    now = with_leads(fur, leads) if turned else fur
    return replace(now, places=np.ascontiguousarray(leads.roots, np.float32))


def _usable_fur(fur: Fur, part: Part | None) -> Fur:
    """A fur whose numbers make one, found anew where its part has other clay than it was laid on."""
    assert part is not None
    try:
        fur.numbers.check()
    except FurError as error:
        raise ValueError(f"the fur {fur.name} is not usable: {error}") from error
    n = len(fur.places)
    rows = (fur.corners, fur.shares, fur.normals, fur.mids, fur.tips, fur.own)
    if not 0 < n <= MOST_LEADS or any(len(one) != n for one in rows) or np.abs(fur.shares).max() > 2:
        raise ValueError(f"the fur {fur.name} is not usable")
    shape = part.mesh.topology
    if fur.topology == shape.uid and 0 <= fur.corners.min() <= fur.corners.max() < part.mesh.n_vertices:
        return fur
    return fur_on(replace(fur, topology=""), leads_of(replace(fur, topology=""), part.mesh), part.mesh)


def _fur_elsewhere(fur: Fur, old: Part, new: Part) -> Fur:
    return fur_on(fur, leads_of(fur, old.mesh), new.mesh)


def _fur_before(fur: Fur, part: Part) -> Leads:
    return leads_of(fur, part.mesh)


def _held_fur(fur: Fur, part: Part, before: Leads) -> Fur:
    """A fur some of whose leads grew from triangles that are gone."""
    mesh = part.mesh
    assert isinstance(mesh, LooseMesh)
    gone = ~mesh.are_faces(fur.corners)
    if not gone.any():
        return fur
    now = leads_of(fur, mesh)
    both = zip(
        (now.roots, now.normals, now.mids, now.tips, now.own),
        (before.roots, before.normals, before.mids, before.tips, before.own),
        strict=True,
    )
    return fur_on(fur, Leads(*(np.where(gone[:, None], was, there) for there, was in both)), mesh)


def _held_sites(held: KeptSites, part: Part, before: F64) -> KeptSites:
    """KeptSites some of whose triangles are gone: those are found anew where they were."""
    mesh = part.mesh
    assert isinstance(mesh, LooseMesh)
    gone = ~mesh.are_faces(held.corners)
    if not gone.any():
        return held
    at = guide_places(held, mesh)
    at[gone] = before[gone]
    return laid(held, at, mesh)


def _held_guide(guide: Guide, part: Part, before: F64) -> Guide:
    """A guide some of whose triangles are gone: those points have moved as their neighbours have."""
    mesh = part.mesh
    assert isinstance(mesh, LooseMesh)
    gone = ~mesh.are_faces(guide.corners)
    if not gone.any():
        return guide
    at = guide_places(guide, mesh)
    moves = np.zeros_like(before)
    if not gone.all():
        there = np.flatnonzero(~gone)
        period = len(at) if guide.closed else None
        for k in range(3):
            known = (at - before)[there, k]
            moves[:, k] = np.interp(np.arange(len(at)), there, known, period=period)
    at[gone] = (before + moves)[gone]
    return laid(guide, at, mesh)


def _usable_mask(mask: KeptMask, _: Part | None) -> KeptMask:
    if len(mask.positions) == 0 or len(mask.values) != len(mask.positions):
        raise ValueError(f"the kept mask {mask.name} is not usable")
    return mask


def _usable_press(press: KeptPress, _: Part | None) -> KeptPress:
    """A press whose picture is one, with edits that can be made."""
    count, edits = len(press.steps), press.edits
    sized = 2 <= press.width <= LARGEST and count % press.width == 0 and 2 <= count // press.width <= LARGEST
    ranged = max(abs(press.low), abs(press.high)) <= FAR and press.low < press.high
    shares = (edits.low, edits.high, edits.zero, edits.fade)
    if not (sized and ranged and all(0 <= share <= 1 for share in shares) and 0 <= edits.blur <= 100):
        raise ValueError(f"the press {press.name} is not usable")
    curve = clean_points(edits.curve) if edits.curve != PRESSURE_LINEAR else PRESSURE_LINEAR
    return replace(press, edits=replace(edits, curve=curve, turn=edits.turn // 90 % 4 * 90))


def _usable_deep(press: KeptDeep, _: Part | None) -> KeptDeep:
    """A deep press whose picture is one, and stays within reach."""
    count = len(press.moves)
    sized = 2 <= press.width <= LARGEST and count % press.width == 0 and 2 <= count // press.width <= LARGEST
    if not sized or not float(np.abs(press.moves[:, 2]).max()) > 0 or float(np.abs(press.moves).max()) > 100:
        raise ValueError(f"the deep press {press.name} is not usable")
    return press


def _usable_form(form: SentForm, _: Part | None) -> SentForm:
    if len(form.positions) == 0 or form.level < 0:
        raise ValueError("what was sent out is not usable")
    return form


def _usable_tape(tape: Tape, _: Part | None) -> Tape:
    if not all(0 <= share <= 1 for share in tape.divisions):
        raise ValueError("a tape is divided beyond its ends")
    return tape


def _usable_reference(reference: Reference, _: Part | None) -> Reference:
    """A picture that can be drawn."""
    left, top, right, bottom = reference.crop
    placed = max(map(abs, (*reference.place, reference.depth, reference.turn))) <= FAR
    if not (placed and 1e-6 <= reference.scale <= 1e6 and 0 <= reference.opacity <= 1):
        raise ValueError(f"the picture {reference.name} is not placed usably")
    if not (0 <= left < right <= 1 and 0 <= top < bottom <= 1):
        return replace(reference, crop=(0.0, 0.0, 1.0, 1.0))
    return reference


def _usable_held(held: HeldPicture, _: Part | None) -> HeldPicture:
    """A picture held where it can be."""
    if not held.usable:
        raise ValueError("a picture is not held usably before the view")
    return held


def _usable_lamp(lamp: Lamp, _: Part | None) -> Lamp:
    lamp.check()
    return lamp


def _usable_surroundings(around: Surroundings, _: Part | None) -> Surroundings:
    """Surroundings that can be; a sky that a newer Kneten has is the one that all begin with."""
    known = (
        around
        if around.sky in SKIES or around.sky.startswith(OWN)
        else replace(around, sky=Surroundings().sky)
    )
    known.check()
    return known


def _usable_sky(sky: KeptSky, _: Part | None) -> KeptSky:
    if len(sky.light) != 2 * TALL * TALL or sky.light.min() < 0:
        raise ValueError(f"the sky {sky.name} is not usable")
    return sky


def _usable_set(held: KeptSet, _: Part | None) -> KeptSet:
    for lamp in held.lamps:
        lamp.check()
    return replace(held, around=_usable_surroundings(held.around, None))


def _usable_finish(finish: Finish, _: Part | None) -> Finish:
    """A finish that can be; a curve that a newer Kneten has is the one that all begin with."""
    known = finish if finish.curve in CURVES else replace(finish, curve=Finish().curve)
    known.check()
    return known


def _usable_shot(shot: Shot, _: Part | None) -> Shot:
    known = replace(shot, finish=_usable_finish(shot.finish, None))
    known.check()
    return known


def _usable_table(table: KeptTable, _: Part | None) -> KeptTable:
    table_size(len(table.steps))
    return table


def _usable_map(held: KeptMap, _: Part | None) -> KeptMap:
    """A map whose picture is as large as it says: what it shows is not looked at before it is wanted."""
    head = bytes(held.data[:24])
    wide, high = struct.unpack(">II", head[16:24]) if head[:8] == PNG and len(head) == 24 else (0, 0)
    if not (wide == high == held.size and 0 < held.size <= MOST_TEXELS):
        raise ValueError(f"the map {held.key} is not usable")
    return held


def _usable_skin(skin: PaintSkin, _: Part | None) -> PaintSkin:
    if not 0 < skin.size <= MOST_TEXELS:
        raise ValueError("a skin to paint on is not usable")
    return skin


def _usable_pose(pose: KeptPose, _: Part | None) -> KeptPose:
    names = [move.joint for move in pose.moves]
    numbers = [abs(value) for move in pose.moves for value in (*move.turn, *move.shift)]
    if len(set(names)) < len(names) or not max(numbers, default=0.0) <= FAR:
        raise ValueError(f"the pose {pose.name} is not usable")
    return pose


def _usable_motion(motion: KeptMotion, _: Part | None) -> KeptMotion:
    try:
        motion.keys.check()
    except ValueError as error:
        raise ValueError(f"the motion {motion.name} is not usable: {error}") from error
    return motion


# -- the declaration ------------------------------------------------------------------------------


@dataclass(frozen=True)
class Kind:
    """A kind of thing.

    Attributes
    ----------
    made_of : type
        A frozen dataclass; with an `id` where it has arrays, hangs on something or something hangs on it.
    word : str
        Its name in files.
    arrays : dict
        Fields that are arrays: kind of number, columns (0 for a plain list). All have as many rows as the first.
    later : tuple of str
        Arrays that files of before them lack; they are 0 then.
    on : str
        The field with the id of the part it is on; "" where it is on none.
    goes : bool
        Goes when its part goes.
    serves : str
        The field with the id of another part, with which it goes as well; "" where there is none.
    hangs_on : pair
        The kind and the fields with the ids of what it cannot be without.
    now : callable
        From a thing and its part to the thing as it is to be written.
    usable : callable
        From a thing that was read, and its part, to one that can be used. Raises `ValueError`.
    moved : callable
        From a thing, its part and that part with other clay to the thing on that.
    grip : pair of callables
        For strokes that tear triangles: from a thing and its part to where it is before; from the thing, its part
        and where it was to the thing as it is held now, itself where nothing was torn.
    """

    made_of: type
    word: str
    arrays: Mapping[str, tuple[type, int]] = field(default_factory=dict)
    later: tuple[str, ...] = ()
    on: str = ""
    goes: bool = True
    serves: str = ""
    hangs_on: tuple[str, tuple[str, ...]] = ("", ())
    now: Callable[[Any, Any], Any] | None = None
    usable: Callable[[Any, Any], Any] | None = None
    moved: Callable[[Any, Any, Any], Any] | None = None
    grip: tuple[Callable[[Any, Any], Any], Callable[[Any, Any, Any], Any]] | None = None


THINGS: dict[str, Kind] = {
    "groups": Kind(Group, "groups"),
    "references": Kind(Reference, "references", usable=_usable_reference),
    "held": Kind(HeldPicture, "held", hangs_on=("references", ("reference",)), usable=_usable_held),
    "landmarks": Kind(
        Landmark,
        "landmarks",
        on="part",
        now=_mark_now,
        usable=_usable_mark,
        moved=_moved_mark,
        grip=(place_in_part, _held_mark),
    ),
    "tapes": Kind(Tape, "tapes", hangs_on=("landmarks", ("start", "end")), usable=_usable_tape),
    "poses": Kind(KeptPose, "poses", on="part", usable=_usable_pose),
    "motions": Kind(
        KeptMotion,
        "motions",
        arrays={"which": (np.int32, 0), "at": (np.float32, 0), "value": (np.float32, 3)},
        on="part",
        usable=_usable_motion,
    ),
    "lamps": Kind(Lamp, "lamps", usable=_usable_lamp),
    "skies": Kind(KeptSky, "skies", arrays={"light": (np.float32, 3)}, usable=_usable_sky),
    "surroundings": Kind(Surroundings, "surroundings", usable=_usable_surroundings),
    "light_sets": Kind(KeptSet, "light_sets", usable=_usable_set),
    "finishes": Kind(Finish, "finishes", usable=_usable_finish),
    "cameras": Kind(Shot, "cameras", usable=_usable_shot),
    "colour_tables": Kind(
        KeptTable, "colour_tables", arrays={"steps": (np.float32, 3)}, usable=_usable_table
    ),
    "region_names": Kind(RegionName, "regions"),
    "kept_masks": Kind(
        KeptMask,
        "masks",
        arrays={"positions": (np.float32, 3), "values": (np.uint8, 0)},
        on="part",
        goes=False,
        usable=_usable_mask,
    ),
    "maps": Kind(KeptMap, "maps", arrays={"data": (np.uint8, 0)}, on="part", usable=_usable_map),
    "paint_skins": Kind(PaintSkin, "paint_skins", on="part", serves="of", usable=_usable_skin),
    "presses": Kind(KeptPress, "presses", arrays={"steps": (np.uint16, 0)}, usable=_usable_press),
    "deep_presses": Kind(KeptDeep, "deep_presses", arrays={"moves": (np.float32, 3)}, usable=_usable_deep),
    "sent_forms": Kind(
        SentForm, "sent_forms", arrays={"positions": (np.float32, 3)}, on="part", usable=_usable_form
    ),
    "guides": Kind(
        Guide,
        "guides",
        arrays={"corners": (np.int32, 3), "shares": (np.float32, 3), "places": (np.float32, 3)},
        on="part",
        now=_held_now,
        usable=_usable_guide,
        moved=_held_elsewhere,
        grip=(_held_before, _held_guide),
    ),
    "sites": Kind(
        KeptSites,
        "sites",
        arrays={
            "corners": (np.int32, 3),
            "shares": (np.float32, 3),
            "places": (np.float32, 3),
            "numbers": (np.float32, 3),
            "which": (np.int32, 0),
        },
        on="part",
        serves="serves",
        now=_held_now,
        usable=_usable_sites,
        moved=_held_elsewhere,
        grip=(_held_before, _held_sites),
    ),
    "furs": Kind(
        Fur,
        "furs",
        arrays={
            "corners": (np.int32, 3),
            "shares": (np.float32, 3),
            "places": (np.float32, 3),
            "normals": (np.float32, 3),
            "mids": (np.float32, 3),
            "tips": (np.float32, 3),
            "own": (np.float32, 3),
        },
        later=("own",),
        on="part",
        now=_fur_now,
        usable=_usable_fur,
        moved=_fur_elsewhere,
        grip=(_fur_before, _held_fur),
    ),
}
"""All kinds by their names in a scene. What hangs on another comes after it."""


# -- what happens to them -------------------------------------------------------------------------


def tidied(scene: Scene) -> Scene:
    """The scene without things whose part, or whatever they hang on, is gone."""
    ids = {part.id for part in scene.parts}
    for name, kind in THINGS.items():
        things = scene.things(name)
        left = things
        if kind.on and kind.goes:
            left = tuple(thing for thing in left if getattr(thing, kind.on) in ids)
        if kind.serves:
            left = tuple(thing for thing in left if getattr(thing, kind.serves) in ids)
        other, ends = kind.hangs_on
        if other:
            there = {thing.id for thing in scene.things(other)}
            left = tuple(thing for thing in left if all(getattr(thing, end) in there for end in ends))
        if len(left) != len(things):
            scene = scene.with_things(name, left)
    return scene


def on_new_clay(before: Scene, after: Scene) -> Scene:
    """The scene after some parts have got other clay, its things at the places where they were."""
    old = {part.id: part for part in before.parts}
    new = {part.id: part for part in after.parts}

    def moved(kind: Kind, thing: Any) -> Any:
        here, there = old.get(getattr(thing, kind.on)), new.get(getattr(thing, kind.on))
        if kind.moved is None or here is None or there is None or here.mesh is there.mesh:
            return thing
        return kind.moved(thing, here, there)

    for name, kind in THINGS.items():
        if kind.moved is not None and after.things(name):
            after = after.with_things(name, tuple(moved(kind, thing) for thing in after.things(name)))
    return after


def brought_along(source: Scene, parts: Iterable[tuple[Part, Part]], target: Scene) -> Scene:
    """The target scene with what lies on parts of another one that have come into it, under new ids.

    Parameters
    ----------
    parts : iterable of pairs
        A part there, and what it is here.
    """
    here = {old.id: new.id for old, new in parts}
    names: dict[str, str] = {}
    for name, kind in THINGS.items():
        new = []
        other, ends = kind.hangs_on
        for thing in source.things(name):
            changes: dict[str, Any] = {}
            if kind.serves and getattr(thing, kind.serves) not in here:
                continue
            if kind.on and getattr(thing, kind.on) in here:
                changes[kind.on] = here[getattr(thing, kind.on)]
                if kind.serves:
                    changes[kind.serves] = here[getattr(thing, kind.serves)]
            elif other and all(getattr(thing, end) in names for end in ends):
                changes = {end: names[getattr(thing, end)] for end in ends}
            if not changes:
                continue
            if hasattr(thing, "id"):
                changes["id"] = names[thing.id] = new_id()
            new.append(replace(thing, **changes))
        if new:
            target = target.with_things(name, (*target.things(name), *new))
    return target


# -- words and arrays -----------------------------------------------------------------------------


def thing_words(scene: Scene) -> dict[str, Any]:
    """All things of a scene in words, without their arrays."""
    parts = {part.id: part for part in scene.parts}
    words = {}
    for name, kind in THINGS.items():
        told = []
        for thing in scene.things(name):
            written = as_it_is(kind, thing, parts)
            told.append(
                {
                    one.name: msgspec.to_builtins(getattr(written, one.name))
                    for one in fields(written)
                    if one.name not in kind.arrays
                }
            )
        words[kind.word] = told
    return words


def as_it_is(kind: Kind, thing: Any, parts: Mapping[str, Part]) -> Any:
    """A thing as it is to be written."""
    part = parts.get(getattr(thing, kind.on)) if kind.on else None
    return thing if kind.now is None or part is None else kind.now(thing, part)


def with_arrays(scene: Scene) -> list[tuple[Kind, Any]]:
    """All things that have arrays."""
    return [(kind, thing) for name, kind in THINGS.items() if kind.arrays for thing in scene.things(name)]


def add_arrays(arrays: dict[str, AnyArray], kind: Kind, thing: Any, scene: Scene) -> None:
    """Put a thing's arrays, (n, ...) each, under their names."""
    written = as_it_is(kind, thing, {part.id: part for part in scene.parts})
    for name in kind.arrays:
        arrays[f"{kind.word}/{thing.id}/{name}.npy"] = getattr(written, name)


@functools.cache
def _told(made_of: type, left_out: tuple[str, ...]) -> type:
    """A class of what words tell of a thing: all but its arrays."""
    hints = typing.get_type_hints(made_of)

    def plain(one: Field[Any]) -> Any:
        if one.default is MISSING and one.default_factory is MISSING:
            return (one.name, hints[one.name])
        more = (
            {"default": one.default}
            if one.default is not MISSING
            else {"default_factory": one.default_factory}
        )
        return (one.name, hints[one.name], field(**more))

    told = [plain(one) for one in fields(made_of) if one.name not in left_out]
    return make_dataclass(made_of.__name__, sorted(told, key=len), frozen=True)


def with_thing_words(scene: Scene, words: Mapping[str, Any], array: Callable[..., AnyArray]) -> Scene:
    """The scene with what `thing_words` has put into words.

    Parameters
    ----------
    array : callable
        Gives the array of a name, of a kind of number and a shape, -1 for any length: (k, 3); 0 where it is not
        there and `lacks` says that it need not be. Raises `ValueError`.

    Raises
    ------
    ValueError
        When anything does not fit or is not usable. What is on a part that is not there is left out.
    """
    parts = {part.id: part for part in scene.parts}
    for name, kind in THINGS.items():
        found = []
        told = _told(kind.made_of, tuple(kind.arrays))
        for entry in words.get(kind.word, []):
            one: Any = thing_from(told, entry)
            part = parts.get(getattr(one, kind.on)) if kind.on else None
            if kind.on and kind.goes and part is None:
                continue
            given = {key.name: getattr(one, key.name) for key in fields(told)}
            rows = -1
            for key, (number, columns) in kind.arrays.items():
                shape = (rows, columns) if columns else (rows,)
                value = array(f"{kind.word}/{given['id']}/{key}.npy", number, *shape, lacks=key in kind.later)
                if value.dtype.kind == "f" and not (np.abs(value) <= FAR).all():
                    raise ValueError(f"{kind.word}/{given['id']}/{key}.npy holds numbers that are not usable")
                rows, given[key] = len(value), value
            thing = kind.made_of(**given)
            found.append(thing if kind.usable is None else kind.usable(thing, part))
        scene = scene.with_things(name, tuple(found))
    return tidied(scene)
