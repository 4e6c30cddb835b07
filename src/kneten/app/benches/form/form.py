"""Commands of forming: masks, regions, hiding."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.form.deform_mode import DeformMode
from kneten.app.benches.form.gradient_mode import GradientMode
from kneten.app.benches.form.guide_mode import GuideMode
from kneten.app.fields.quantities import number_text
from kneten.core import masks
from kneten.core import regions as core_regions
from kneten.core.arrays import F32, AnyArray, Progress
from kneten.core.distance import nearest_points
from kneten.core.mesh import Mesh
from kneten.core.pieces import picked, taken_apart
from kneten.document import regions
from kneten.document.masks import keep_mask, mask_of, with_mask
from kneten.document.numbers import RegionError
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

THIN = 0.08
"""Share of a part's extent up to which thickness is told apart."""

MEASURES = {
    "cavity": ("Hollows and ridges", "0 % the deepest hollows, 50 % flat clay, 100 % the sharpest ridges"),
    "height": ("Height", "From the lowest to the highest place of the part, upwards in the scene"),
    "facing": ("Facing the view", "100 % looks straight at you, 50 % to the side, 0 % away"),
    "thickness": ("Thickness", "How thick the clay is under each place, of the part's size"),
    "colour": ("Likeness of colour", "100 % is the colour picked last"),
    "mask": ("Distance from the mask", "How far over the surface from what is masked, of the part's size"),
    "parts": (
        "Distance from other parts",
        "How far from the visible clay of other parts, of the part's size",
    ),
}
"""What a mask can be found by: name, and what the shares mean."""

START = {
    "cavity": (0, 44, 4),
    "height": (50, 100, 10),
    "facing": (60, 100, 8),
    "thickness": (0, 8, 2),
    "colour": (85, 100, 5),
    "mask": (0, 5, 2),
    "parts": (0, 3, 1),
}
"""From, to and softness in per cent that each begins with."""


class Form:
    """What is done with masks and regions of the part in hand."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.region = 0

    @property
    def _project(self) -> Project:
        return self._studio.project

    def part(self) -> Part:
        """The part in hand; commands are blocked when there is none."""
        part = self._project.active
        assert part is not None
        return part

    # -- why not --------------------------------------------------------------------------------

    def none(self) -> str:
        """Why the clay of the part in hand cannot be masked or divided."""
        part = self._project.active
        if part is None:
            return "There is no part in hand."
        return self._studio.move_blocked(part)

    def no_mask(self) -> str:
        """Why there is no mask to work with."""
        part = self._project.active
        if part is not None and (part.mesh.mask is None or not part.mesh.mask.any()):
            return "Nothing of the part in hand is masked."
        return self.none()

    def no_region(self) -> str:
        """Why there is no region to work with."""
        part = self._project.active
        if part is not None and self.region not in core_regions.numbers_of(part.mesh):
            return "No region of the part in hand is chosen; choose one in the regions card."
        return self.none()

    def none_hidden(self) -> str:
        """Why there is nothing to show again."""
        part = self._project.active
        if part is not None and part.mesh.hidden is None:
            return "Nothing of the part in hand is hidden."
        return self.none()

    def no_origin(self) -> str:
        """Why the part has no regions by what it was joined from."""
        part = self._project.active
        if part is not None and part.mesh.origin is None:
            return "The part in hand was not joined from several parts."
        return self.none()

    # -- masks ----------------------------------------------------------------------------------

    def change_mask(self, name: str, change: Callable[[Mesh, F32], F32 | None]) -> None:
        """Give the part in hand another mask, worked out aside."""
        part = self.part()
        mesh, before = part.mesh.copy(), mask_of(part.mesh).copy()

        def land(mask: F32 | None) -> None:
            with_mask(self._project, self._project.scene.part(part.id), mask, name)

        self._studio.work_on([part], name, lambda progress: change(mesh, before), land)

    def clear(self) -> None:
        """Take the mask away."""
        with_mask(self._project, self.part(), None, "Unmask")

    def invert(self) -> None:
        """Mask what is free, free what is masked; what is hidden stays as it is."""
        part = self.part()
        with_mask(self._project, part, masks.inverted(mask_of(part.mesh)), "Invert the mask of")

    def blur(self) -> None:
        self.change_mask("Blur the mask of", lambda mesh, mask: masks.blurred(mesh, mask))

    def sharpen(self) -> None:
        self.change_mask("Sharpen the mask of", lambda mesh, mask: masks.sharpened(mesh, mask))

    def grow(self, rings: int) -> None:
        name = "Grow the mask of" if rings > 0 else "Shrink the mask of"
        self.change_mask(name, lambda mesh, mask: masks.grown(mesh, mask, rings))

    def keep(self) -> None:
        """Keep the mask under a name."""
        count = len([m for m in self._project.scene.kept_masks if m.part == self.part().id])
        name, fine = QInputDialog.getText(self._desk, "Keep the mask", "Its name:", text=f"Mask {count + 1}")
        if fine:
            keep_mask(self._project, self.part(), name)

    def no_measure(self, kind: str) -> str:
        """Why the part in hand has nothing of a kind to measure."""
        if kind == "mask" and not mask_of(self.part().mesh).any():
            return "Nothing of the part is masked: mask the place that distances are to be measured from."
        if kind == "parts" and len([p for p in self._project.scene.parts if p.visible]) < 2:
            return "There is no other visible part to measure the distance from."
        return ""

    def measure(self, kind: str, part: Part, others: Sequence[Part], progress: Progress) -> F32:
        """What a mask is found by, 0..1 for each vertex; for other threads, which read copies of `others`."""
        mesh = part.mesh
        if kind == "mask":
            return masks.from_mask(mesh, mask_of(mesh))
        if kind == "parts":
            there = part.transform.to_scene(mesh.positions.astype(np.float64))
            off = np.full(mesh.n_vertices, np.inf)
            for other in others:
                local = other.transform.to_part(there)
                near = other.transform.to_scene(nearest_points(local, other.mesh, progress)[0])
                off = np.minimum(off, np.linalg.norm(near - there, axis=1))
            return np.clip(off / (masks.extent(mesh) * part.transform.scale), 0.0, 1.0).astype(np.float32)
        if kind == "cavity":
            return masks.cavity(mesh)
        if kind == "height":
            return masks.along(part.transform.to_scene(mesh.positions), np.array([0.0, 1.0, 0.0]))
        if kind == "facing":
            way = part.transform.way_to_part(self._desk.view.camera.axes()[2])
            return masks.facing(mesh.normals, way)
        if kind == "thickness":
            return masks.thickness(mesh, progress)
        return masks.likeness(mesh.value("colour"), self._studio.project.settings.ink.colour)

    # -- regions --------------------------------------------------------------------------------

    def chosen_faces(self) -> AnyArray:
        """The faces (f,) bool of the chosen region."""
        numbers = self.part().mesh.regions
        assert numbers is not None
        return np.asarray(numbers == self.region)

    def _try(self, run: Callable[[], object]) -> None:
        try:
            run()
        except RegionError as error:
            self._studio.say(str(error), "warning")

    def choose_region(self, number: int) -> None:
        """Take a region for the commands that act on one."""
        self.region = number

    def region_from_mask(self) -> None:
        """Make what is masked a region."""
        part = self.part()
        faces = core_regions.faces_of_mask(part.mesh, mask_of(part.mesh))

        def make() -> None:
            self.region = regions.make_region(self._project, part, faces)

        self._try(make)

    def regions_by(self, what: str, find: Callable[[Mesh], AnyArray], names: tuple[str, ...] = ()) -> None:
        """Divide the part in hand into regions, worked out aside."""
        part = self.part()
        mesh = part.mesh.copy()

        def land(labels: AnyArray) -> None:
            def make() -> None:
                now = self._project.scene.part(part.id)
                count = regions.make_regions(self._project, now, labels, what, names)
                self._studio.say(f"{part.name} has {count:,} region{'s' if count > 1 else ''} now.")

            self._try(make)

        self._studio.work_on([part], f"Regions by {what}", lambda progress: find(mesh), land)

    def by_angle(self) -> None:
        degrees, fine = QInputDialog.getDouble(
            self._desk,
            "Regions by angle",
            "Faces part where they meet at more degrees than:",
            40,
            1,
            179,
            0,
        )
        if fine:
            self.regions_by("angle", lambda mesh: core_regions.by_angle(mesh, degrees))

    def by_connection(self) -> None:
        self.regions_by("connection", core_regions.by_connection)

    def by_origin(self) -> None:
        self.regions_by("origin", core_regions.by_origin, self.part().origins)

    def grow_region(self, steps: int) -> None:
        part = self.part()
        faces = core_regions.grown(part.mesh, self.chosen_faces(), steps)
        if not faces.any():
            self._studio.say("The region is too narrow to shrink; nothing of it would be left.", "warning")
            return
        verb = "Grow" if steps > 0 else "Shrink"
        regions.set_extent(self._project, part, faces, self.region, verb)

    def mask_from_region(self) -> None:
        """Mask the chosen region, beside what is masked already."""
        part = self.part()
        inside = core_regions.vertices_of(part.mesh, self.chosen_faces()).astype(np.float32)
        with_mask(self._project, part, np.maximum(mask_of(part.mesh), inside), "Mask region on")

    def hide_region(self) -> None:
        self._try(lambda: regions.hide_faces(self._project, self.part(), self.chosen_faces()))

    def isolate_region(self) -> None:
        self._try(lambda: regions.isolate_faces(self._project, self.part(), self.chosen_faces()))

    def hide_masked(self) -> None:
        part = self.part()
        faces = core_regions.faces_of_mask(part.mesh, mask_of(part.mesh))
        self._try(lambda: regions.hide_faces(self._project, part, faces, "Hide masked"))

    def show_all(self) -> None:
        regions.show_all(self._project, self.part())

    def swap_hidden(self) -> None:
        self._try(lambda: regions.swap_hidden(self._project, self.part()))

    def rename_region(self) -> None:
        now = regions.region_name(self._project.scene, self.region)
        name, fine = QInputDialog.getText(self._desk, "Rename region", "Its name:", text=now)
        if fine:
            regions.rename_region(self._project, self.region, name)

    def forget_region(self) -> None:
        regions.forget_region(self._project, self.part(), self.region)

    # -- taking out -----------------------------------------------------------------------------

    def take_region_out(self, copy: bool) -> None:
        """Make a part of the chosen region: a copy as it is, or moved out and both sides closed."""
        name = regions.region_name(self._project.scene, self.region)
        self.take_out(self.chosen_faces(), name, copy)

    def take_masked_out(self) -> None:
        """Split off what is masked; both sides are closed."""
        part = self.part()
        faces = core_regions.faces_of_mask(part.mesh, mask_of(part.mesh))
        self.take_out(faces, f"{part.name} split", False)

    def take_out(self, faces: AnyArray, name: str, copy: bool) -> None:
        """Make a part of faces of the part in hand: a copy, or moved out and both sides closed."""
        part = self.part()
        if not faces.any() or faces.all():
            self._studio.say(
                "That is all of the part, or nothing of it: there is nothing to take out.", "warning"
            )
            return
        mesh = part.mesh.copy()
        project = self._project

        def work(progress: Progress) -> dict[int, Mesh]:
            if copy:
                found = {1: picked(mesh, faces)}
            else:
                found = taken_apart(mesh, faces.astype(np.uint8), progress, True)
            for piece in found.values():
                piece.hidden = None
            self._studio.journal_ahead(list(found.values()))
            return found

        def land(found: dict[int, Mesh]) -> None:
            now = project.scene.part(part.id)
            scene = project.scene if copy else project.with_mesh(part.id, found[0], recipe=None)
            new = Part(
                scene.free_name(name), found[1], mesh_id=new_id(), transform=now.transform, group=now.group,
                origins=now.origins, pivot=now.pivot,
            )  # fmt: skip
            verb = "Copy out" if copy else "Take out"
            project.change(f"{verb} {new.name}", scene.with_parts((*scene.parts, new)))
            project.choose(new.id)

        self._studio.work_on([part], "Take out", work, land, "" if copy else "drops layers")

    def show_regions(self) -> None:
        """Look at the regions, or at the clay again."""
        look = self._project.settings.look
        self._studio.set_look(kind="clay" if look.kind == "regions" else "regions")

    # -- looks ---------------------------------------------------------------------------------

    def show_thickness(self) -> None:
        """Colour the part in hand by how thick it is, the thin places warm; the same again ends it."""
        part, view = self.part(), self._desk.view
        if view.distances:
            view.stop_compare()
            return
        mesh, size = part.mesh.copy(), masks.extent(part.mesh) * part.transform.scale

        def work(progress: Progress) -> F32:
            return masks.thickness(mesh, progress) * np.float32(size)

        def land(thick: F32) -> None:
            # Thicker clay than that is thick enough: told apart is what may break, or shine through.
            far = max(min(float(np.median(thick)), size * THIN), 1e-9)
            shown = (1.0 - np.clip(thick / far, 0.0, 1.0)).astype(np.float32)
            words = [number_text(value, 3) for value in (far, far / 2)]
            view.show_distances({part.id: shown}, far, ("Thickness in mm", f"{words[0]}…", words[1], "0"))
            least, most = float(thick.min()), float(thick.max())
            self._studio.say(
                f"{part.name} is {number_text(least, 2)} mm thick where it is thinnest, {number_text(most, 3)} mm at most. "
                "The same again ends it."
            )

        self._studio.work_on([part], "Thickness", work, land)

    # -- ways of working ----------------------------------------------------------------------

    def gradient(self) -> None:
        """Mask by a gradient along the surface."""
        self._desk.view.toggle_mode(GradientMode(self._desk.view, self._desk.mask_card.way()))

    def deform(self) -> None:
        """Deform by handles in the view."""
        self._desk.view.toggle_mode(DeformMode(self._desk.view, self._desk.deform_card))

    def guide(self) -> None:
        """Draw guides."""
        self._desk.view.toggle_mode(GuideMode(self._desk.view))
