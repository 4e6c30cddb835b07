"""Maps in the window: baked beside the work, shown on the low mesh, kept, written."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.benches.net.cage_layer import MOST_FACES
from kneten.app.fields.quantities import count_text
from kneten.app.work import dialogs
from kneten.app.work.memory import short_of_memory
from kneten.core.arrays import U8, Progress
from kneten.core.loose import LooseMesh
from kneten.core.maps.bake import BakeWish, bytes_for, packed_together
from kneten.core.maps.surfaces import Cage, Low
from kneten.core.maps.tiles import in_one
from kneten.core.mesh import Mesh
from kneten.core.uv.measure import tiles_of
from kneten.document.mapping import (
    Made,
    baked_part,
    drop,
    fine_clay,
    has_finer,
    keep,
    maps_of,
    put_on,
    skin_made,
    skin_on,
    take_in,
    taken_in,
)
from kneten.document.opening import stack_of
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMap
from kneten.document.unwrapping import is_laid
from kneten.formats.maps import as_png, decoded, write_maps
from kneten.render.laid import Sheets

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PER_TEXEL = 260
"""Bytes that each texel of a picture to paint on takes while it is made."""

FINE = "The fine clay"
"""What the other side of the wipe is called."""


class Mapping(QObject):
    """Commands of maps.

    Attributes
    ----------
    made : Made or None
        What was baked last, with all its depth: it can be written as long as the project is open.
    showing : bool
        Whether the part in hand is shown by its maps.
    cage_on : bool
        Whether the cage is drawn.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.made: Made | None = None
        self.showing = False
        self.cage_on = False
        self._sheets: tuple[object, dict[str, Sheets]] = ((), {})
        for signal in (self._studio.history_changed, self._studio.scene_changed):
            signal.connect(self._follow)
        self._studio.project_changed.connect(self._forget)

    def _forget(self) -> None:
        self.made, self.showing = None, False
        self.changed.emit()

    def _follow(self, *_: object) -> None:
        if self.showing:
            self._show()
        self.changed.emit()

    def _hand(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    # -- why not ---------------------------------------------------------------------------------------

    def no_uv(self) -> str:
        """Why nothing can be baked."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if blocked := self._studio.move_blocked(part):
            return blocked
        if isinstance(part.mesh, LooseMesh) or not is_laid(part):
            return f"{part.name} has no UVs yet: unwrap it first."
        return ""

    def none_kept(self) -> str:
        """Why no maps can be shown."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if not maps_of(self._studio.project.scene, part.id):
            return f"{part.name} has no maps yet: bake them first."
        return "" if is_laid(part) else f"{part.name} has no UVs any more: unwrap it and bake anew."

    def nothing_made(self) -> str:
        """Why there is nothing to write."""
        return "" if self.made is not None else "Nothing was baked since the project was opened."

    def no_cage(self) -> str:
        """Why no cage can be drawn."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if isinstance(part.mesh, LooseMesh) or part.mesh.topology.n_faces > MOST_FACES:
            return f"{part.name} has too many faces for its cage to be seen."
        return ""

    def switch_cage(self) -> None:
        """Draw where rays begin; again no longer."""
        self.cage_on = not self.cage_on
        if self.cage_on and self.cage_shown() is None:
            self._studio.say(
                "Rays begin as far out as the fine clay needs: say on the card Maps how far outwards to see the cage."
            )
        self._desk.view.update()

    def cage_shown(self) -> Cage | None:
        """The cage that is drawn; None where there is none."""
        if not self.cage_on or self._studio.stage != "Net":
            return None
        found: Cage | None = self._desk.maps_card.cage()
        return found

    # -- baked ------------------------------------------------------------------------------------------

    def sources(self, part: Part) -> list[Part]:
        """The other parts that have the detail, as the card says; none for the part itself."""
        if self._desk.maps_card.source() == "own":
            return []
        return [one for one in self._studio.project.chosen if one.id != part.id]

    def bake(self) -> None:
        """Bake the maps of the part in hand as the card says."""
        card = self._desk.maps_card
        self.make(card.wish(), card.cage())

    def make(self, wish: BakeWish, cage: Cage | None) -> None:
        """Bake maps of the part in hand."""
        part, studio = self._hand(), self._studio
        sources = self.sources(part)
        if self._desk.maps_card.source() != "own" and not sources:
            studio.say(
                "Choose the parts that have the detail first, then add this one: the last one added is in hand.",
                "warning",
            )
            return
        if not wish.maps:
            studio.say("No map is chosen on the card Maps.", "warning")
            return
        assert part.mesh.uv is not None
        fine = sum(stack_of(one).levels[-1].topology.n_faces for one in sources or [part])
        size = bytes_for(wish, part.mesh.topology.n_faces, fine, len(tiles_of(part.mesh.uv)))
        if short := short_of_memory("Baking", size):
            studio.say(short, "warning")
            return
        copy = replace(part, mesh=part.mesh.copy())
        held = [replace(one, mesh=one.mesh.copy()) for one in sources]

        def work(progress: Progress) -> Made:
            return baked_part(copy, held, wish, cage, progress)

        def arrived(made: Made) -> None:
            self.made, self.showing = made, True
            self._desk.unwrapping.showing = ""
            keep(studio.project, made, as_png)
            self._show()
            words = f"{len(wish.maps)} maps of {wish.size} texels baked for {part.name}"
            if made.missed > 0.002:
                studio.say(f"{words}; for {100 * made.missed:.1f} % of its faces rays met nothing in some places: look farther, or see Misses.", "warning")  # fmt: skip
            else:
                studio.say(f"{words}.")

        studio.work_on([part, *sources], "Bake", work, arrived)

    def forget(self) -> None:
        """Take the maps of the part in hand away."""
        drop(self._studio.project, self._hand())
        self.showing = False
        self._show()

    def write(self) -> None:
        """Write what was baked last to a folder."""
        made = self.made
        assert made is not None
        folder = dialogs.ask_folder(self._desk, "Write maps into", str(Path.home()))
        if folder is None:
            return
        names = [part.name for part in self._studio.project.scene.parts if part.id == made.part_id]
        name = names[0] if names else "part"

        def written(files: list[Path]) -> None:
            self._studio.say(f"{count_text(len(files))} files written to {folder}.")

        self._studio.start(
            "Write maps", lambda progress: write_maps(Path(folder), name, made, progress), written
        )

    # -- painted on -------------------------------------------------------------------------------------

    def no_skin_wanted(self) -> str:
        """Why no skin can be made."""
        if blocked := self.no_uv():
            return blocked
        part = self._hand()
        known = skin_on(self._studio.project.scene, part.id)
        if known is not None:
            return (
                f"{part.name} has its picture beside it already."
                if known.of == part.id
                else f"{part.name} is a picture to paint on."
            )
        return ""

    def no_skin(self) -> str:
        """Why there is no paint to take."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if skin_on(self._studio.project.scene, part.id) is None:
            return f"{part.name} has no picture that was painted on."
        return self._studio.move_blocked(part)

    def paint_on(self) -> None:
        """Let the picture of the part in hand be painted on: a vertex for each texel."""
        part, studio = self._hand(), self._studio
        size = self._desk.maps_card.wish().size
        tiles = len(tiles_of(part.mesh.uv)) if part.mesh.uv is not None else 0
        if short := short_of_memory("A picture to paint on", tiles * size * size * PER_TEXEL):
            studio.say(short, "warning")
            return
        copy = replace(part, mesh=part.mesh.copy())

        def arrived(skin: Mesh) -> None:
            made = put_on(studio.project, studio.project.scene.part(part.id), skin, size)
            studio.say(
                f"{made.name}: {count_text(skin.n_vertices)} texels to paint on. Paint into maps takes them back."
            )

        studio.work_on([part], "Paint on", lambda progress: skin_made(copy, size, progress), arrived)

    def take_paint(self) -> None:
        """Let the paint of a skin be the maps of the part it lies on."""
        studio, part = self._studio, self._hand()
        skin = skin_on(studio.project.scene, part.id)
        assert skin is not None
        scene, padding = studio.project.scene, self._desk.maps_card.wish().padding
        held = scene.part(skin.part)
        scene = replace(scene, parts=tuple(replace(one, mesh=one.mesh.copy()) if one.id == held.id else one for one in scene.parts))  # fmt: skip

        def work(progress: Progress) -> list[KeptMap]:
            progress.report(0.1, "Reading texels")
            return taken_in(scene, skin, padding, as_png)

        def arrived(fresh: list[KeptMap]) -> None:
            self.showing = True
            now = take_in(studio.project, skin, fresh)
            self._show()
            studio.say(
                f"{now.name} has the paint as its {' and '.join(dict.fromkeys(one.key for one in fresh))} of {skin.size} texels."
            )

        studio.work_on([held], "Paint into maps", work, arrived)

    # -- shown ------------------------------------------------------------------------------------------

    def show(self) -> None:
        """Show the part in hand by its maps; the same again shows the clay."""
        self.showing = not self.showing
        self._desk.unwrapping.showing = ""
        self._show()

    def show_missed(self) -> None:
        """Mark the faces for which rays have found nothing; the same again ends it."""
        made, part = self.made, self._hand()
        if made is None or made.part_id != part.id or len(made.tiles[0].missed) != part.mesh.topology.n_faces:
            self._studio.say("Bake the part in hand first.")
            return
        view = self._desk.view
        known = view.laid.get(part.id)
        if known is not None and known.tints is not None:
            view.show_laid({})
            return
        share = np.max([one.missed for one in made.tiles], axis=0)
        tints = np.zeros((len(share), 4), np.uint8)
        tints[:, :3] = (200, 40, 60)
        tints[:, 3] = np.where(share > 0, 90 + np.rint(165 * share), 0).astype(np.uint8)
        self.showing = False
        view.show_laid({part.id: Sheets(tints=tints)})
        self._studio.say(f"{count_text(int((share > 0).sum()))} faces have places for which rays met nothing. The same again ends it.")  # fmt: skip

    def _show(self) -> None:
        part = self._studio.project.active
        if not self.showing or part is None or self.none_kept():
            if not self._desk.unwrapping.showing:
                self._desk.view.show_laid({})
            return
        mesh = part.mesh
        kept = maps_of(self._studio.project.scene, part.id)
        ids = tuple(one.id for maps in kept.values() for one in maps.values())
        key = (part.mesh_id, id(mesh), mesh.shape_version, mesh.values_version, ids)
        if self._sheets[0] != key:
            self._sheets = (key, {part.id: sheets_of(mesh, decoded(kept))})
        self._desk.view.show_laid(self._sheets[1])

    def compare(self) -> None:
        """Wipe between the part by its maps and the fine clay they were told by; the same again ends it."""
        view, part = self._desk.view, self._hand()
        if view.compare_mode == "wipe":
            view.stop_compare()
            return
        if not self.showing:
            self.show()
        copy = replace(part, mesh=part.mesh.copy())

        def built(progress: Progress) -> Scene:
            mesh = fine_clay(copy, progress)
            others = tuple(
                one for one in self._studio.project.scene.parts if one.id != part.id and one.visible
            )
            return Scene((Part(part.name, mesh, transform=part.transform), *others))

        self._studio.start("Compare", built, lambda scene: view.start_compare(scene, FINE, "wipe"))

    def words(self) -> str:
        """What maps the part in hand has, in a line."""
        part = self._studio.project.active
        if part is None:
            return ""
        kept = maps_of(self._studio.project.scene, part.id)
        if kept:
            every = [one for maps in kept.values() for one in maps.values()]
            tiles = f" on {len(kept)} tiles" if len(kept) > 1 else ""
            return f"Kept at {every[0].size}{tiles}: {', '.join(dict.fromkeys(one.key for one in every))}"
        if not is_laid(part):
            return "No UVs yet."
        return (
            "From its finer levels."
            if has_finer(part)
            else "There is no finer level: maps tell what this one has."
        )


def sheets_of(mesh: Mesh, tiles: dict[tuple[int, int], dict[str, U8]]) -> Sheets:
    """How a mesh looks with its maps: occlusion darkens its colour."""
    assert mesh.uv is not None
    pictures, uv = in_one(tiles, mesh.uv)
    size = next(iter(pictures.values())).shape[0]
    colour = pictures.get("colour")
    if "occlusion" in pictures:
        ground = colour if colour is not None else np.full((size, size, 3), (187, 176, 161), np.uint8)
        # As light, not as codes.
        share = (pictures["occlusion"].astype(np.float32) / 255) ** (1 / 2.2)
        colour = np.rint(ground * share).astype(np.uint8)
    material = None
    if "roughness" in pictures or "metalness" in pictures:
        metal = pictures.get("metalness")
        nothing = np.zeros((size, size, 1), np.uint8)
        material = packed_together(
            [None, pictures.get("roughness"), nothing if metal is None else metal], size
        )
    normal = pictures.get("normal")
    tangents = Low.of(mesh).of_faces() if normal is not None else None
    return Sheets(colour=colour, normal=normal, material=material, tangents=tangents, uv=uv)
