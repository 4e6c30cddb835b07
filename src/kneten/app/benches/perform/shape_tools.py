"""What is done with the chosen shapes: corrections, sides, parts, copies."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.perform.shape_mode import BorderMode
from kneten.core.pose.shapes import Driver
from kneten.document import shape_sides, shapes
from kneten.document.driving import shapes_of
from kneten.document.rigging import is_stiff

if TYPE_CHECKING:
    from kneten.app.benches.perform.shaping import Shaping
    from kneten.app.view.desk import Desk


class ShapeTools:
    """Commands on the shapes that are chosen."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._shaping: Shaping = desk.shaping

    def correct(self) -> None:
        """A correction of the chosen shapes as they are dialled now, recorded on."""
        held = self._shaping.shapes
        some = self._shaping.some
        if len(some) < 2:
            some = [key for key, one in held.items() if one.dial and not one.shape.drivers]
        name = " + ".join(held[key].name for key in some)

        def run() -> None:
            self._shaping.add(name, drivers=shapes.drivers_now(self._studio.project.scene, some))

        self._shaping.attempt(run)

    def dial_and_correct(self, shape_ids: Collection[str]) -> None:
        """Some shapes wholly there and all others at rest, and a correction of them, recorded on: two steps."""
        held = self._shaping.shapes
        dials = {key: float(key in shape_ids) for key, one in held.items() if not one.shape.drivers}
        names = " + ".join(held[key].name for key in shape_ids)
        if self._shaping.attempt(lambda: shapes.dial(self._studio.project, dials, f"Show {names}")):
            self._shaping.chosen = list(shape_ids)
            if len(self._shaping.chosen) > 1:
                self.correct()
            else:
                self._shaping.record_on(self._shaping.chosen[0])

    def between(self) -> None:
        """An in-between of the chosen shape where it is dialled now, recorded on."""
        one = self._shaping.last
        assert one is not None
        self._shaping.attempt(
            lambda: self._shaping.add(
                f"{one.name} at {100 * one.dial:.0f} %", drivers=(shapes.between_driver(one),)
            )
        )

    def correct_joint(self) -> None:
        """A correction of the chosen joint as it is turned now, recorded on."""
        part = self._shaping.part
        assert part is not None
        name = self._desk.rigging.chosen
        self._shaping.attempt(
            lambda: self._shaping.add(f"{name} turned", drivers=shapes.joint_drivers(part, [name]))
        )

    def by_hand(self) -> None:
        """Give the chosen correction a dial of its own."""
        one = self._shaping.last
        assert one is not None
        self._shaping.attempt(lambda: shapes.set_drivers(self._studio.project, one.id, ()))

    def soften(self) -> None:
        """Have the chosen correction come and go gently, or evenly."""
        one = self._shaping.last
        assert one is not None
        soft = not all(driver.soft for driver in one.shape.drivers)
        drivers = tuple(Driver(d.source, d.points, d.rig, d.towards, soft) for d in one.shape.drivers)
        self._shaping.attempt(lambda: shapes.set_drivers(self._studio.project, one.id, drivers))

    def no_follower(self) -> str:
        """Why nothing can be done with what a shape follows."""
        if words := self._shaping.no_shape():
            return words
        one = self._shaping.last
        return "" if one is not None and one.shape.drivers else "The chosen shape follows no other."

    def of_pose(self) -> None:
        """Make a shape of what the limb in hand does."""
        layers = dict(self._desk.posing.posed_layers)
        self._desk.posing.let_go()
        offered = "Pose"
        name, fine = QInputDialog.getText(self._desk, "Pose as a shape", "Its name:", text=offered)
        if fine:
            self.make_of_pose(name, layers)

    def make_of_pose(self, name: str, layers: dict[str, str]) -> None:
        """Make a shape of what layers do that pose parts, by the parts' ids."""

        def run() -> None:
            self._shaping.chosen = [
                shape_sides.shape_of_pose(self._studio.project, name.strip() or "Pose", layers)
            ]

        self._shaping.attempt(run)

    def split(self) -> None:
        """Show the border between left and right, to split the chosen shape there; again leaves that."""
        view = self._desk.view
        view.take_mode(
            None if isinstance(view.mode, BorderMode) else BorderMode(view, self._shaping, self.split_now)
        )

    def split_now(self) -> None:
        """Make the chosen shape's halves of it."""
        one, part = self._shaping.last, self._shaping.part
        if one is None or part is None:
            return

        def run() -> None:
            ids = shape_sides.split_shape(self._studio.project, part, one.id, self._shaping.border)
            self._shaping.chosen = list(ids)

        if self._shaping.attempt(run) and isinstance(self._desk.view.mode, BorderMode):
            self._desk.view.take_mode(None)

    def mirror(self) -> None:
        """A new shape that is the chosen one's mirror image."""
        one, part = self._shaping.last, self._shaping.part
        assert one is not None
        assert part is not None

        def run() -> None:
            key, left = shape_sides.mirror_shape(self._studio.project, part, one.id)
            self._shaping.chosen = [key]
            self._left_out(left)

        self._shaping.attempt(run)

    def even(self) -> None:
        """Have the chosen shape do on the right what it does on the left."""
        one, part = self._shaping.last, self._shaping.part
        assert one is not None
        assert part is not None
        self._shaping.attempt(
            lambda: self._left_out(shape_sides.even_shape(self._studio.project, part, one.id))
        )

    def _left_out(self, names: list[str]) -> None:
        if names:
            self._studio.say(f"{', '.join(names)}: no mirror image was found, nothing of it was mirrored.")

    def off_mask(self) -> None:
        """Take the chosen shape away where the part in hand is masked."""
        one, part = self._shaping.last, self._shaping.part
        assert one is not None
        assert part is not None
        self._shaping.attempt(lambda: shape_sides.clean_shape(self._studio.project, part, one.id))

    def take_along(self) -> None:
        """Have the other chosen parts go along with what the chosen shape does to the part in hand."""
        one, part = self._shaping.last, self._shaping.part
        assert one is not None
        assert part is not None
        project = self._studio.project
        others = self._others()
        blocked = [words for key in others if (words := self._studio.move_blocked(project.scene.part(key)))]
        if blocked:
            self._studio.say(blocked[0], "warning")
            return
        project.settle(others)
        self._shaping.attempt(
            lambda: shape_sides.take_along(project, part, one.id, others, lambda other: is_stiff(other, part))
        )

    def copy(self) -> None:
        """The chosen shape once more."""
        one = self._shaping.last
        assert one is not None

        def run() -> None:
            self._shaping.chosen = [shapes.copy_shape(self._studio.project, one.id)]

        self._shaping.attempt(run)

    def merge(self) -> None:
        """One shape that does what the chosen ones do now."""
        one = self._shaping.last
        assert one is not None
        some = self._shaping.some

        def run() -> None:
            self._shaping.chosen = [shapes.merge_shapes(self._studio.project, some, one.name)]

        self._shaping.attempt(run)

    def remove(self) -> None:
        """Take the chosen shapes away, and what follows them."""
        project, some = self._studio.project, self._shaping.some
        gone: list[str] = []

        def run() -> None:
            names = [self._shaping.shapes[key].name for key in some]
            with project.at_once(f"Remove {', '.join(names)}"):
                for key in some:
                    if key in shapes_of(project.scene):
                        gone.extend(shapes.remove_shape(project, key))

        if self._shaping.attempt(run) and gone:
            self._studio.say(f"{', '.join(gone)}, which followed, went as well.")

    def no_several(self) -> str:
        """Why several shapes cannot be made one."""
        if words := self._shaping.no_shape():
            return words
        return (
            ""
            if len(self._shaping.some) > 1
            else "One shape is chosen: press on the names of others with Ctrl to choose them as well."
        )

    def no_mask(self) -> str:
        """Why a shape cannot be taken off the mask."""
        if words := self._shaping.no_shape():
            return words
        part = self._shaping.part
        assert part is not None
        masked = part.mesh.mask is not None and part.mesh.mask.any()
        return "" if masked else "Nothing is masked: mask where the shape is to go."

    def no_others(self) -> str:
        """Why no other parts can take part."""
        if words := self._shaping.no_shape():
            return words
        return "" if self._others() else "Choose the parts that are to go along, and the face last."

    def no_joint(self) -> str:
        """Why no correction can follow a joint."""
        if words := self._shaping.no_part():
            return words
        return str(self._desk.rigging.no_joint())

    def no_pose(self) -> str:
        """Why no shape can be made of a pose."""
        if self._desk.posing.posed_layers:
            return ""
        return "Nothing is posed: press on a limb with Pose, and bend it."

    def _others(self) -> list[str]:
        part = self._shaping.part
        return [one.id for one in self._studio.project.chosen if part is not None and one.id != part.id]

    def sheet(self) -> None:
        """Write all shapes on one page."""
        self._desk.registry.run("file.sheet")
