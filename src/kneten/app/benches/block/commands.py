"""The commands of gathering and blocking, with their words and shortcuts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.benches.block.block import NAMES
from kneten.app.work.commands import Command, Needs, making, needing
from kneten.core.live.armature import Armature
from kneten.core.live.bodies import BODIES
from kneten.core.live.strand import Strands

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

DOES = {
    "sphere": "a ball without poles",
    "box": "a box",
    "cylinder": "a cylinder with caps of quads",
    "tube": "a tube with a wall",
    "cone": "a cone, pointed or cut off",
    "capsule": "a cylinder with round ends",
    "torus": "a ring",
    "disc": "a flat disc, open",
    "plane": "a flat sheet, open",
    "eye": "an eye with cornea, iris and pupil, alone or as a pair",
}


def register(desk: Desk) -> None:
    """Add them to the window's registry."""
    for group in (_live, _strands, _cuts, _copies, _place, _joins):
        desk.registry.add(*group(desk))
    desk.registry.add(*needing(Needs.KERNELS | Needs.REST | Needs.FREE, _list(desk)))


def _live(w: Desk) -> list[Command]:
    b = w.block
    c = making("Live parts")
    shapes = [
        c(f"live.{key}", f"Add {name.lower()}", f"Adds {DOES[key]}: live, its numbers in the card",
          lambda key=key: b.add_primitive(key))
        for key, name in NAMES.items()
    ]  # fmt: skip
    bodies = [
        c(f"armature.{key}", f"Armature: {name.lower()}", "Begins with a body of balls to pull into shape",
          lambda key=key: b.add_armature(key))
        for key, (name, _) in BODIES.items()
    ]  # fmt: skip
    no_armature = b.unless(Armature, "The part in hand is no armature; add one first.")
    return [
        *shapes,
        c(
            "live.lathe",
            "Add lathe",
            "Adds a body turned from a curve that is drawn in the card",
            b.add_lathe,
        ),
        c(
            "armature.new",
            "Add armature",
            "Adds one ball; pull more balls out of it and a skin grows over them",
            b.add_armature,
            "Alt+Shift+B",
        ),
        *bodies,
        c(
            "armature.edit",
            "Work on balls",
            "Moves, pulls out, turns and sizes the balls of the armature in hand; without one, begins one",
            b.edit_armature,
            "Alt+B",
        ),
        c(
            "armature.keep",
            "Keep armature in the library",
            "Keeps the armature in hand for other projects",
            w.library.keep_armature,
            "",
            no_armature,
        ),
        c(
            "library.open",
            "Part library…",
            "Puts a kept part or armature into the project",
            w.library.open,
            "Ctrl+L",
        ),
        c(
            "library.keep",
            "Keep in the library…",
            "Keeps the chosen parts with a picture, to use in any project",
            w.library.keep,
            "",
            b.none,
        ),
        c(
            "live.edit",
            "Work on handles",
            "Drags the size and inner share of the live body in hand, or the points of its lathe curve",
            b.edit_shape,
            "Shift+S",
            b.not_shaped,
        ),
        c(
            "live.bake",
            "Bake to clay",
            "Ends being live: the part can be sculpted",
            b.bake,
            "Ctrl+Return",
            b.not_live,
        ),
        c(
            "live.again",
            "Begin again from its recipe",
            "Makes a live part of what this clay was baked from; the clay is hidden, not lost",
            b.begin_again,
            "",
            b.no_recipe,
        ),
    ]


def _strands(w: Desk) -> list[Command]:
    b = w.block
    c = making("Strands")
    return [
        c(
            "strand.free",
            "Draw a strand",
            "Draws a tube freely: hair, horn, rope, vein",
            lambda: b.draw_strand("free"),
            "D",
        ),
        c(
            "strand.surface",
            "Draw a strand on clay",
            "Draws a tube that lies on the surface",
            lambda: b.draw_strand("surface"),
            "Shift+D",
        ),
        c(
            "strand.points",
            "Strand by points",
            "Sets a tube's points one by one; it may be closed",
            lambda: b.draw_strand("points"),
            "Alt+D",
        ),
        c(
            "strand.edit",
            "Work on points",
            "Moves, thickens, rolls, adds points of the strand in hand",
            b.edit_strand,
            "Shift+P",
            b.unless(Strands, "The part in hand is no strand; draw one first."),
        ),
    ]


def _cuts(w: Desk) -> list[Command]:
    b = w.block
    c = making("Cut")
    keys = {"lasso": "K", "line": "Shift+K", "rectangle": "Alt+K"}
    return [
        *b.outline_commands(c, "cut", keys, b.none),
        c("cut.square", "Cut square to the picture",
          "Cuts run straight into the picture, whatever the perspective; otherwise from the eye, as they are seen", b.cut_square),
    ]  # fmt: skip


def _copies(w: Desk) -> list[Command]:
    b = w.block
    c = making("Copies")
    mirrors = [
        c(f"copy.mirror-{axis}", f"Mirror across {axis.upper()}",
          f"Adds mirrored copies on the other side of the world's {axis} = 0",
          lambda axis=axis: b.mirror(axis), "Ctrl+Shift+M" if axis == "x" else "", b.none)
        for axis in "xyz"
    ]  # fmt: skip
    flips = [
        c(f"copy.flip-{axis}", f"Flip across {axis.upper()}",
          f"Exchanges the two sides of the chosen parts along {axis}, where they stand",
          lambda axis=axis: b.flip(axis), "", b.none)
        for axis in "xyz"
    ]  # fmt: skip
    return [
        c("copy.copy", "Copy", "Adds copies of the chosen parts beside them", b.copy, "Ctrl+Shift+D", b.none),
        c("copy.link", "Linked copy", "Adds copies that follow each other's strokes", lambda: b.copy(True), "Alt+Shift+D", b.none),
        *mirrors,
        c(
            "copy.mirror-own",
            "Mirror across its own middle",
            "Adds mirrored copies across the plane through the pivot of the part in hand",
            lambda: b.mirror("own"),
            "",
            b.none,
        ),
        c(
            "copy.mirror-linked",
            "Linked mirror across X",
            "Adds mirrored copies that follow the strokes of the other side",
            lambda: b.mirror("x", True),
            "",
            b.none,
        ),
        c("copy.mirror-weld", "Mirror and weld across X", "Makes a half whole: adds its mirror image and welds both along their open edge", lambda: b.make_whole("x"), "", b.none),
        c("copy.mirror-weld-own", "Mirror and weld across its own middle", "The same across the plane through the pivot of the part in hand", lambda: b.make_whole("own"), "", b.none),
        c("copy.mirror-line", "Mirror across a line", "Mirrors the chosen parts across a plane that is drawn as a line in the picture", b.mirror_line, "Ctrl+Alt+M", b.none),
        *flips,
        c("copy.flip-own", "Flip across its own middle", "Exchanges the part's two sides", lambda: b.flip("own"), "", b.none),
        c("copy.unlink", "Unlink", "Gives linked copies clay of their own", b.unlink, "", b.not_linked),
        c("copy.array", "Array…", "Adds copies along a line, in a circle, along a guide or a strand", b.array, "Ctrl+Shift+A", b.none),
    ]  # fmt: skip


def _place(w: Desk) -> list[Command]:
    b = w.block
    c = making("Place")
    return [
        c("parts.pivot", "Set pivot", "Puts the pivot where one clicks: on clay, landmarks, other pivots, the grid", b.pivot, "Shift+T", b.none),
        c("parts.pivot-middle", "Pivot to the middle", "Puts each pivot into its part's middle", lambda: b.pivot_to("middle"), "", b.none),
        c("parts.pivot-base", "Pivot to the base", "Puts each pivot below its part's middle", lambda: b.pivot_to("base"), "", b.none),
        c("parts.pivot-tip", "Pivot to the tip", "Puts each pivot to its part's narrower end; again, to the other end", lambda: b.pivot_to("tip"), "", b.none),
        c("parts.pivot-axis", "Pivot to the axis", "Puts each pivot onto the line along its part's length", lambda: b.pivot_to("axis"), "", b.none),
        c("parts.pivot-world", "Pivot to the world's middle", "Puts the pivots to the origin", lambda: b.pivot_to("world"), "", b.none),
        c("parts.onto", "Place on surface", "Stands the part in hand on another where one clicks", b.settle_onto, "Shift+M", b.none),
        c("parts.floor", "Drop to the floor", "Stands the chosen parts on y = 0", b.to_floor, "End", b.none),
        c("parts.floor-each", "Drop each to the floor", "Stands each of the chosen parts on y = 0 by itself", lambda: b.to_floor(True), "", b.none),
        c("parts.unmasked", "Move unmasked clay only", "Handles and numbers move only what the mask leaves free, or whole parts", b.switch_unmasked, "", b.no_mask),
    ]  # fmt: skip


def _joins(w: Desk) -> list[Command]:
    b = w.joining
    c = making("Join")
    return [
        c("join.join", "Join", "Makes one part of several; their surfaces stay as they are", b.join, "Ctrl+Alt+J", b.no_others),
        c("join.unite", "Unite", "Joins the chosen parts exactly where they cross", lambda: b.combine("join"), "Alt+U", b.no_others),
        c("join.subtract", "Subtract", "Takes the other chosen parts out of the part in hand", lambda: b.combine("subtract"), "Alt+S", b.no_others),
        c("join.subtract-keep", "Subtract and keep the others", "The same; the others stay, hidden", lambda: b.combine("subtract", True), "", b.no_others),
        c("join.intersect", "Intersect", "Leaves what the chosen parts share", lambda: b.combine("intersect"), "Alt+I", b.no_others),
        c("join.preview-subtract", "Preview subtracting", "Shows what subtracting would leave, while parts are moved; again hides it", lambda: b.preview("subtract"), "", b.no_others),
        c("join.preview-intersect", "Preview intersecting", "Shows what intersecting would leave; again hides it", lambda: b.preview("intersect"), "", b.no_others),
        c("join.preview-unite", "Preview uniting", "Shows what uniting would give; again hides it", lambda: b.preview("join"), "", b.no_others),
        c("join.split-origin", "Split by origin", "Makes a joined part the parts again that it came from", b.split_origin, "", b.no_origin),
        c("join.split-pieces", "Split into pieces", "Makes parts of what does not hang together", b.split_connected, "", w.block.none),
    ]  # fmt: skip


def _list(w: Desk) -> list[Command]:
    b = w.block
    c = making("Parts")
    return [
        c("parts.all", "Choose all parts", "Chooses every visible part", b.choose_everything, "Ctrl+A"),
        c("parts.group", "Group", "Puts the chosen parts into a group", b.group, "Ctrl+G", b.none),
        c("parts.ungroup", "Ungroup", "Takes the chosen parts out of their group", b.ungroup, "Ctrl+Shift+G", b.not_grouped),
        c("parts.lock", "Lock or unlock", "Keeps the chosen parts from being changed or picked", b.lock, "", lambda: "" if w.studio.project.chosen else "There is no part in hand."),
        c("parts.rename-many", "Name by pattern…", "Names the chosen parts in one go", b.rename_many, "Shift+F2", b.none),
        c("parts.sort", "Sort by name", "Orders the list by name", b.sort),
        c("parts.find", "Find the part", "Frames the part in hand and lets it shine through others", b.find, "Ctrl+F", b.none),
        c("parts.meeting", "Where parts meet", "Lists which parts run into each other, and how deep", b.check_meeting),
        c("parts.note", "Note…", "Keeps a note with the part in hand; it shows in the list", b.note, "", b.none),
        c("parts.budget", "Budget…", "Sets how many vertices the part in hand should stay under", b.set_budget, "", b.none),
    ]  # fmt: skip
