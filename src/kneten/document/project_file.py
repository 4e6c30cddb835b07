"""Projects to and from their file. The format is described in `docs/file-format.md`."""

from __future__ import annotations

import math
import re
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.core.camera import Camera
from kneten.core.live.recipes import recipe_from, recipe_words
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import Ink
from kneten.core.paint.materials import Preset
from kneten.core.stack import Stack
from kneten.core.topology import Topology, check_distinct, check_faces, finish_topology
from kneten.core.transform import Transform
from kneten.core.values import VALUES, rows_of
from kneten.core.words import FAR, thing_from, words_of
from kneten.document.arrays_file import (
    Content,
    ProjectFileError,
    read_content,
    write_content,
)
from kneten.document.game_wish import GameWish
from kneten.document.kinds import add_arrays, thing_words, with_arrays, with_thing_words
from kneten.document.look import look_from_words
from kneten.document.print_wish import PrintWish
from kneten.document.project import Project
from kneten.document.scene import KeptPart, Milestone, Part, Scene
from kneten.document.settings import Palette, SavedView, Sent, Settings
from kneten.document.stack_words import ArrayNames, stack_from, stack_words

FORMAT = "kneten-project"
VERSION = 1
ENDING = ".kneten"

T = TypeVar("T")


@dataclass(frozen=True)
class Snapshot:
    """A project's contents copied at one moment, ready to be written by another thread."""

    content: Content
    token: str


def snapshot(project: Project, picture: bytes = b"") -> Snapshot:
    """Copy what strokes may change, refer to the rest.

    Parameters
    ----------
    picture : bytes
        PNG shown for the file as a whole; left out when empty.
    """
    arrays: dict[str, AnyArray] = {}
    names = ArrayNames()
    pictures = {"preview.png": picture} if picture else {}
    parts = []
    for part in project.scene.parts:
        mesh = part.mesh.settled()
        words = {**part_words(part), "topology": mesh.topology.uid}
        add_stack(words, part, arrays, names)
        parts.append(words)
        add_topology(arrays, mesh.topology)
        values = mesh.own_values()
        add_values(arrays, part.mesh_id, mesh.positions.copy(), values)
    for kind, thing in with_arrays(project.scene):
        add_arrays(arrays, kind, thing, project.scene)
    milestones = []
    for milestone in project.scene.milestones:
        pictures[f"milestones/{milestone.id}.png"] = milestone.picture
        kept = []
        for part_kept in milestone.parts:
            words = part_words(part_kept)
            add_stack(words, part_kept, arrays, names)
            kept.append(words)
            add_topology(arrays, part_kept.topology)
            add_kept(arrays, part_kept)
        told = {"id": milestone.id, "name": milestone.name, "note": milestone.note}
        milestones.append({**told, "time": milestone.time, "parts": kept})
    token = uuid.uuid4().hex
    settings = project.settings
    pictures |= used_pictures(settings, project.scene)
    document = {
        "format": FORMAT,
        "version": VERSION,
        "token": token,
        **settings_words(settings),
        "active": project.active_id,
        "parts": parts,
        "milestones": milestones,
        **thing_words(project.scene),
    }
    return Snapshot(Content(document, arrays, pictures), token)


def settings_words(settings: Settings) -> dict[str, Any]:
    """The settings but their pictures."""
    return {
        "unit": settings.unit,
        "symmetry": list(settings.symmetry),
        "radial": list(settings.radial),
        "symmetry_space": settings.symmetry_space,
        "budget": settings.budget,
        "camera": words_of(settings.camera),
        "look": words_of(settings.look),
        "brief": settings.brief,
        "sent": [words_of(one) for one in settings.sent],
        "show_guides": settings.show_guides,
        "ink": words_of(settings.ink),
        "palettes": [words_of(one) for one in settings.palettes],
        "materials": [words_of(one) for one in settings.materials],
        "through": settings.through,
        "keeps_steps": settings.keeps_steps,
        "reel": settings.reel,
        "printing": words_of(settings.printing),
        "game": words_of(settings.game),
        "canons": [[name, list(marks)] for name, marks in settings.canons],
        "views": [{"id": v.id, "name": v.name, "camera": words_of(v.camera)} for v in settings.views],
    }


def settings_pictures(settings: Settings) -> dict[str, bytes]:
    """The pictures of matcaps and saved views, by their names in the file."""
    pictures = {f"matcaps/{name}.png": data for name, data in settings.matcaps.items()}
    pictures |= {f"references/{key}": data for key, data in settings.originals.items()}
    return pictures | {f"views/{view.id}.png": view.picture for view in settings.views}


def used_pictures(settings: Settings, scene: Scene) -> dict[str, bytes]:
    """The same without references that were taken off the board: those are kept for undo alone."""
    used = {f"references/{one.picture}" for one in scene.references}
    return {
        name: data
        for name, data in settings_pictures(settings).items()
        if name in used or not name.startswith("references/")
    }


def settings_from(words: dict[str, Any], pictures: dict[str, bytes]) -> Settings:
    """Settings from a file. Raises `KeyError`, `ValueError` and the like when they make no sense."""
    x, y, z = (bool(on) for on in words["symmetry"])
    views = tuple(
        SavedView(
            str(view["name"]),
            camera_from(view["camera"]),
            pictures.get(f"views/{view['id']}.png", b""),
            str(view["id"]),
        )
        for view in words.get("views", [])
    )
    axis, count = (int(v) for v in words.get("radial", (1, 1)))
    if axis not in (0, 1, 2) or not 1 <= count <= 64:
        raise ValueError("the radial symmetry is not usable")
    space = str(words.get("symmetry_space", "part"))
    if space not in ("part", "world", "shape"):
        raise ValueError("the space of the symmetry is not known")
    ink = thing_from(Ink, words.get("ink", {}))
    ink.check()
    palettes = tuple(thing_from(Palette, one) for one in words.get("palettes", []))
    for palette in palettes:
        Ink(recent=palette.colours).check()
    materials = tuple(thing_from(Preset, one) for one in words.get("materials", []))
    for preset in materials:
        preset.check()
    printing = thing_from(PrintWish, words.get("printing", {}))
    printing.check()
    game = thing_from(GameWish, words.get("game", {}))
    game.check()
    return Settings(
        (x, y, z),
        (axis, count),
        space,
        str(words["unit"]),
        _budget(words["budget"]),
        camera_from(words["camera"]),
        look_from_words(words.get("look", {})),
        _named(pictures, "matcaps/", ".png"),
        views,
        _named(pictures, "references/", ""),
        tuple((str(n), tuple(float(v) for v in rest)) for n, rest in words.get("canons", [])),
        str(words.get("brief", "")),
        tuple(thing_from(Sent, one) for one in words.get("sent", [])),
        bool(words.get("show_guides", True)),
        ink,
        palettes,
        materials,
        str(words.get("through", "")),
        bool(words.get("keeps_steps", True)),
        # It names a folder: nothing else may.
        reel if re.fullmatch("[0-9a-f]{32}", reel := str(words.get("reel", ""))) else "",
        printing,
        game,
    )


def _budget(value: Any) -> int:
    """A number of vertices. Raises `ValueError` when there are no so many."""
    if not 0 <= int(value) <= 10**12:
        raise ValueError("a budget is not usable")
    return int(value)


def part_words(part: Part | KeptPart) -> dict[str, Any]:
    """Everything about a part but its arrays."""
    topology = part.mesh.topology if isinstance(part, Part) else part.topology
    words: dict[str, Any] = {
        "id": part.id,
        "name": part.name,
        "visible": part.visible,
        "mesh": part.mesh_id,
        "topology": topology.uid,
        "transform": words_of(part.transform),
    }
    for name, plain in PLAIN.items():
        value = getattr(part, name)
        if value != plain:
            words[name] = list(value) if isinstance(value, tuple) else value
    for name in ("recipe", "was"):
        recipe = getattr(part, name)
        if recipe is not None:
            words[name] = recipe_words(recipe)
    return words


PLAIN: dict[str, Any] = {
    "group": "",
    "locked": False,
    "budget": 0,
    "origins": (),
    "pivot": (0.0, 0.0, 0.0),
    "note": "",
    "live_density": False,
    "net": False,
}
"""Traits that are written only where they differ from this."""


def traits_from(words: dict[str, Any]) -> dict[str, Any]:
    """The traits of a part from its words. Raises `KeyError` or `ValueError`."""
    x, y, z = (float(v) for v in words.get("pivot", (0, 0, 0)))
    if not all(abs(v) <= FAR for v in (x, y, z)):
        raise ValueError("a part's pivot is not usable")
    return {
        "name": str(words["name"]),
        "id": str(words["id"]),
        "mesh_id": str(words["mesh"]),
        "transform": transform_from(words["transform"]),
        "visible": bool(words["visible"]),
        "recipe": recipe_from(words["recipe"]) if "recipe" in words else None,
        "was": recipe_from(words["was"]) if "was" in words else None,
        "group": str(words.get("group", "")),
        "locked": bool(words.get("locked", False)),
        "budget": _budget(words.get("budget", 0)),
        "origins": tuple(str(name) for name in words.get("origins", [])),
        "pivot": (x, y, z),
        "note": str(words.get("note", "")),
        "live_density": bool(words.get("live_density", False)),
        "net": bool(words.get("net", False)),
    }


def add_topology(arrays: dict[str, AnyArray], topology: Topology) -> None:
    """Put a topology's arrays, (f, 4) faces and the orders (n,) and (f,) they came in, under their names, once."""
    base = f"topologies/{topology.uid}"
    arrays[f"{base}/faces.npy"] = topology.faces
    if topology.face_bits:
        return  # Loose clay is in no order of its own.
    arrays[f"{base}/source_vertex.npy"] = topology.source_vertex
    arrays[f"{base}/source_face.npy"] = topology.source_face


def add_stack(
    words: dict[str, Any], part: Part | KeptPart, arrays: dict[str, AnyArray], names: ArrayNames
) -> None:
    """Put a part's levels and layers among its words, their arrays, (n, 3) for each level, under their names."""
    if part.stack is not None:
        words["stack"] = stack_words(part.stack, arrays, names, lambda shape: add_topology(arrays, shape))


def add_values(
    arrays: dict[str, AnyArray],
    mesh_id: str,
    positions: AnyArray,
    values: dict[str, AnyArray],
) -> None:
    """Put positions (n, 3) and values (`Mesh.values`) under their names."""
    arrays[f"meshes/{mesh_id}/positions.npy"] = positions
    for name, value in values.items():
        arrays[f"meshes/{mesh_id}/{name}.npy"] = value


def add_kept(arrays: dict[str, AnyArray], part: KeptPart) -> None:
    """Put the values, (n, ...) each, of a milestone's part under their names."""
    add_values(arrays, part.mesh_id, part.positions, part.values)


def _check_positions(positions: AnyArray, name: str) -> None:
    """Raise `ValueError` where places are none, not finite or too far."""
    if len(positions) == 0 or not np.isfinite(positions).all():
        raise ValueError(f"{name} is empty or holds numbers that are not finite")
    if max(float(positions.max()), -float(positions.min())) > FAR:
        raise ValueError(f"{name} holds places further than a thousand kilometres from the middle")


def checked_value(name: str, value: AnyArray) -> AnyArray:
    """A mesh's values, (n, ...), as they may be. Raises `ValueError`."""
    # Strokes round: what they leave may be beyond by as little as that.
    if name == "mask" and not (value.min() >= -1e-4 and value.max() <= 1 + 1e-4):
        if not np.isfinite(value).all():
            raise ValueError("a mask holds numbers that are not finite")
        return np.clip(value, 0, 1)
    if value.dtype.kind == "f" and not np.isfinite(value).all():
        raise ValueError(f"{name} holds numbers that are not finite")
    return value


class Rebuilder:
    """Parts from words and arrays, everything checked, topologies shared; clay that is `living` by its name is taken as it is."""

    def __init__(self, arrays: dict[str, AnyArray], living: Mapping[str, Mesh] | None = None) -> None:
        self.arrays = arrays
        self._living = living or {}
        self._topologies: dict[str, Topology] = {}
        self._meshes: dict[tuple[str, str], Mesh] = {}
        self._stacks: dict[tuple[str, str], Stack] = {}

    def array(self, name: str, kind: type, *shape: int, lacks: bool = False) -> AnyArray:
        """The array of a name; (k, 3) and the like, -1 in the shape for any length. Raises `ValueError` when it does not fit.

        With `lacks` it is of zeros where the file has none.
        """
        array = self.arrays.get(name)
        if array is None and lacks:
            return np.zeros(shape, kind)
        if array is None:
            raise ValueError(f"{name} is missing")
        fits = array.ndim == len(shape) and all(
            s in (-1, t) for s, t in zip(shape, array.shape, strict=False)
        )
        if array.dtype != np.dtype(kind) or not fits:
            raise ValueError(f"{name} has the wrong shape or kind")
        return array

    def _permutation(self, name: str, n: int) -> AnyArray:
        array = self.array(name, np.int32, n)
        seen = np.zeros(n, bool)
        if n and (array.min() < 0 or array.max() >= n):
            raise ValueError(f"{name} is not an order")
        seen[array] = True
        if not seen.all():
            raise ValueError(f"{name} is not an order")
        return array

    def topology(self, uid: str, n_vertices: int) -> Topology:
        """The topology of that name, built at the first call. Raises `ValueError`."""
        if uid not in self._topologies:
            base = f"topologies/{uid}"
            faces = self.array(f"{base}/faces.npy", np.int32, -1, 4)
            check_faces(faces, n_vertices)
            check_distinct(faces)
            vertices = self._permutation(f"{base}/source_vertex.npy", n_vertices)
            order = self._permutation(f"{base}/source_face.npy", len(faces))
            self._topologies[uid] = finish_topology(faces, vertices, order, uid)
        topology = self._topologies[uid]
        if topology.n_vertices != n_vertices:
            raise ValueError(f"positions do not fit topology {uid}")
        return topology

    def values(self, mesh_id: str, shape: str) -> tuple[Topology, AnyArray, dict[str, Any]]:
        """Topology, positions (n, 3) and values of those names."""
        base = f"meshes/{mesh_id}"
        positions = self.array(f"{base}/positions.npy", np.float32, -1, 3)
        _check_positions(positions, f"{base}/positions.npy")
        topology = self.topology(shape, len(positions))
        values: dict[str, Any] = {}
        for name, kind in VALUES.items():
            if f"{base}/{name}.npy" in self.arrays:
                wanted = kind.shape(topology.n_faces if kind.by_face else len(positions))
                value = checked_value(name, self.array(f"{base}/{name}.npy", kind.kind, *wanted))
                # Nothing masked, hidden, painted, ... is the same as having no such values.
                if (value != kind.blank).any():
                    values[name] = value
        return topology, positions, values

    def kept(self, words: dict[str, Any]) -> KeptPart:
        """A part as a milestone keeps it."""
        topology, positions, values = self.values(str(words["mesh"]), str(words["topology"]))
        stack = self._stack(words, topology)
        return KeptPart(
            topology=topology, positions=positions, values=values, **{**traits_from(words), "stack": stack}
        )

    def _stack(self, words: dict[str, Any], shape: Topology) -> Stack | None:
        """A part's levels and layers; linked copies share theirs."""
        if "stack" not in words:
            return None
        key = (str(words["mesh"]), shape.uid)
        if key not in self._stacks:
            self._stacks[key] = stack_from(words["stack"], shape, self.array, self.topology)
        return self._stacks[key]

    def part(self, words: dict[str, Any]) -> Part:
        """A living part; linked copies share their clay."""
        key = (str(words["mesh"]), str(words["topology"]))
        if key not in self._meshes:
            if key[0] in self._living:
                self._meshes[key] = self._living[key[0]]
            elif f"meshes/{key[0]}/loose.npy" in self.arrays:
                self._meshes[key] = self._settled(*key)
            else:
                topology, positions, values = self.values(*key)
                self._meshes[key] = Mesh(topology, positions, **values)
        mesh = self._meshes[key]
        return Part(mesh=mesh, **{**traits_from(words), "stack": self._stack(words, mesh.topology)})

    def _settled(self, mesh_id: str, shape: str) -> Mesh:
        """Clay that a journal has in places, empty ones among them."""
        faces = self.array(f"topologies/{shape}/faces.npy", np.int32, -1, 4)
        positions = self.array(f"meshes/{mesh_id}/positions.npy", np.float32, -1, 3)
        live = faces[:, 0] != faces[:, 1]
        rows = faces[live]
        if not len(rows) or rows[:, :3].min() < 0 or rows.max() >= len(positions):
            raise ValueError(f"topologies/{shape}/faces.npy does not fit")
        used = np.zeros(len(positions) + 1, bool)
        used[rows.reshape(-1)] = True
        names = np.append((np.cumsum(used[:-1]) - 1).astype(np.int32), np.int32(-1))
        values = {}
        for name, kind in VALUES.items():
            if f"meshes/{mesh_id}/{name}.npy" in self.arrays:
                wanted = kind.shape(len(faces) if kind.by_face else len(positions))
                values[name] = checked_value(
                    name, self.array(f"meshes/{mesh_id}/{name}.npy", kind.kind, *wanted)
                )
        return Mesh.from_faces(positions[used[:-1]], names[rows], **rows_of(values, used[:-1], live))


def transform_from(words: dict[str, Any]) -> Transform:
    """A part's place, its turn made a unit quaternion again. Raises `ValueError`."""
    found = thing_from(Transform, words)
    length = math.sqrt(sum(v * v for v in found.turn))
    if not (1e-3 < length < 1e3 and found.usable):
        raise ValueError("a part's transform is not usable")
    if abs(length - 1.0) > 1e-6:
        a, b, c, d = (v / length for v in found.turn)
        found = replace(found, turn=(a, b, c, d))
    if found.typed is not None:
        meant = replace(found, typed=None)
        if max(map(abs, found.typed)) <= 1e6:
            meant = meant.with_degrees(*found.typed)
        # Both signs of a quaternion are the same turn.
        near = abs(sum(p * q for p, q in zip(found.turn, meant.turn, strict=True)))
        found = replace(found, typed=meant.typed if abs(near - 1.0) < 1e-6 else None)
    return found


def camera_from(words: dict[str, Any]) -> Camera:
    """A camera from a file. Raises `ValueError`."""
    found = thing_from(Camera, words)
    if not (0 < found.distance <= FAR and 1 <= found.angle <= 170 and max(map(abs, found.target)) <= FAR):
        raise ValueError("the camera is not usable")
    if max(abs(found.yaw), abs(found.pitch), abs(found.roll)) > 1e6:
        raise ValueError("the camera is not usable")
    return found


def _named(pictures: dict[str, bytes], folder: str, ending: str) -> dict[str, bytes]:
    return {
        name.removeprefix(folder).removesuffix(ending): data
        for name, data in pictures.items()
        if name.startswith(folder)
    }


def restore(content: Content, name: str) -> Project:
    """A project from what a file holds. Raises `ProjectFileError` when it does not fit together."""
    document = content.document
    if document.get("format") != FORMAT:
        raise ProjectFileError(f"{name} is not a Kneten project.")
    version = document.get("version")
    if not isinstance(version, int) or version > VERSION:
        raise ProjectFileError(
            f"{name} was written by a newer Kneten (file version {version}). Update Kneten to open it."
        )
    build = Rebuilder(content.arrays)
    try:
        parts = tuple(build.part(words) for words in document["parts"])
        milestones = tuple(
            Milestone(
                str(words["name"]),
                tuple(build.kept(kept) for kept in words["parts"]),
                content.pictures.get(f"milestones/{words['id']}.png", b""),
                str(words["id"]),
                str(words["time"]),
                str(words.get("note", "")),
            )
            for words in document["milestones"]
        )
        project = Project(with_thing_words(Scene(parts, milestones), document, build.array))
        project.settings = settings_from(document, content.pictures)
        if any(part.id == document["active"] for part in parts):
            project.active_id = document["active"]
    except Exception as error:
        raise ProjectFileError(f"{name} is damaged: {error or type(error).__name__}") from error
    return project


def save_snapshot(path: Path, taken: Snapshot, progress: Progress | None = None, small: bool = False) -> None:
    """Write a snapshot atomically, on demand packed. Raises `ProjectFileError`; the old file stays whole."""
    write_content(path, taken.content, progress or Progress(), small)


def save_project(project: Project, path: Path, picture: bytes = b"", small: bool = False) -> Snapshot:
    """Save at once, on this thread; on demand packed."""
    taken = snapshot(project, picture)
    save_snapshot(path, taken, small=small)
    project.path = Path(path)
    project.unsaved = False
    return taken


def open_project(path: Path, progress: Progress | None = None) -> Project:
    """Read a project. Raises `ProjectFileError` with a message for the user."""
    content = read_content(Path(path), progress or Progress())
    project = restore(content, Path(path).name)
    project.path = Path(path)
    return project
