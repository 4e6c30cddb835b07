"""Every command of the program, with its words and its shortcut."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from kneten.app.commands import Command
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import VIEWS
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.transform import Transform

if TYPE_CHECKING:
    from kneten.app.window import Window


def register(window: Window) -> None:
    """Fill the window's registry."""
    for group in (_files, _edits, _stages, _views, _parts, _tools):
        window.registry.add(*group(window))


def _files(w: Window) -> list[Command]:
    saved = lambda: "" if w.studio.project.scene.parts else "There is nothing to save yet."  # noqa: E731
    full = lambda: "" if w.studio.project.scene.parts else "There is no part to export."  # noqa: E731
    return [
        Command(
            "file.new", "New project", "Begins again with a ball of clay", "File", w.new_project, "Ctrl+N"
        ),
        Command(
            "file.open", "Open…", "Opens a project, or imports other files", "File", w.ask_open, "Ctrl+O"
        ),
        Command(
            "file.save", "Save", "Saves the project, whole or not at all", "File", w.save, "Ctrl+S", saved
        ),
        Command(
            "file.save-as",
            "Save as…",
            "Saves the project under another name",
            "File",
            w.save_as,
            "Ctrl+Shift+S",
            saved,
        ),
        Command(
            "file.import", "Import…", "Adds the objects of a file as parts", "File", w.ask_import, "Ctrl+I"
        ),
        Command(
            "file.export",
            "Export…",
            "Writes parts as OBJ, PLY, STL or glTF",
            "File",
            w.ask_export,
            "Ctrl+E",
            full,
        ),
        Command(
            "file.still",
            "Export a still…",
            "Writes a clean picture of the view, at any size",
            "File",
            w.ask_still,
            "Ctrl+Shift+E",
            full,
        ),
        Command("file.demo", "Open the demo", "Opens Tarn's head, first clay", "File", w.open_demo),
        Command("file.quit", "Quit", "Ends Kneten", "File", w.close, "Ctrl+Q"),
    ]


def _edits(w: Window) -> list[Command]:
    def history(which: int) -> Callable[[], str]:
        words = ("There is nothing to undo.", "There is nothing to redo.")
        return lambda: "" if w.studio.project.history.names()[which] else words[which]

    return [
        Command("edit.undo", "Undo", "Takes the last change back", "Edit", w.undo, "Ctrl+Z", history(0)),
        Command(
            "edit.redo",
            "Redo",
            "Makes the last undone change again",
            "Edit",
            w.redo,
            "Ctrl+Shift+Z",
            history(1),
        ),
        Command(
            "edit.milestone",
            "Keep a milestone",
            "Keeps this state with a picture, to come back to",
            "Edit",
            w.keep_milestone,
            "Ctrl+M",
        ),
        Command(
            "edit.find",
            "Find a command…",
            "Lists every command; type to find one",
            "Edit",
            w.open_finder,
            "Ctrl+K",
        ),
    ]


def _stages(w: Window) -> list[Command]:
    does = {
        "Block": "Big shapes: parts, their place and size",
        "Form": "The sculptor's hands: all tools",
        "Deliver": "Hand over: density, files, stills",
    }
    return [
        Command(
            f"stage.{name.lower()}",
            name,
            text,
            "Stage",
            lambda name=name: w.choose_stage(name),
            f"Alt+{i + 1}",
        )
        for i, (name, text) in enumerate(does.items())
    ]


def _views(w: Window) -> list[Command]:
    named = [
        Command(
            f"view.{name}",
            name.capitalize(),
            f"Looks at the clay from the {name}",
            "View",
            lambda name=name: w.look_from(name),
            f"Ctrl+{i + 1}",
        )
        for i, name in enumerate(VIEWS)
    ]
    part = lambda: "" if w.studio.project.active else "There is no part in hand."  # noqa: E731
    return [
        *named,
        Command(
            "view.frame",
            "Frame the part",
            "Brings the part in hand into the middle",
            "View",
            w.frame_part,
            "F",
            part,
        ),
        Command(
            "view.frame-all",
            "Frame everything",
            "Brings all visible parts into the picture",
            "View",
            w.frame_all,
            "Home",
        ),
        Command(
            "view.frame-cursor",
            "Frame under the cursor",
            "Brings the place under the cursor into the middle, closer",
            "View",
            w.frame_cursor,
            "Shift+F",
        ),
        Command(
            "view.lens",
            "Perspective or orthographic",
            "Switches the camera between the two",
            "View",
            w.switch_lens,
            "P",
        ),
        Command(
            "view.alone",
            "Viewport alone",
            "Hides all but the viewport, and shows it again",
            "View",
            w.viewport_alone,
            "F10",
        ),
        Command(
            "view.theme",
            "Switch theme",
            "Switches between Kiln (dark) and Porcelain (light)",
            "View",
            w.switch_theme,
            "Ctrl+T",
        ),
    ]


def _parts(w: Window) -> list[Command]:
    def part() -> str:
        active = w.studio.project.active
        if active is None:
            return "There is no part in hand."
        return w.studio.stroke_blocked(active)

    several = lambda: (  # noqa: E731
        ""
        if sum(p.visible for p in w.studio.project.scene.parts) > 1
        else "Fusing needs at least two visible parts."
    )
    return [
        Command(
            "parts.ball",
            "Add a ball",
            "Adds a ball of clay beside the part in hand",
            "Parts",
            lambda: add_ball(w),
            "Ctrl+B",
        ),
        Command(
            "parts.rename",
            "Rename…",
            "Gives the part in hand another name",
            "Parts",
            w.rename_part,
            "F2",
            part,
        ),
        Command(
            "parts.hide",
            "Hide or show",
            "Hides the part in hand, or shows it again",
            "Parts",
            lambda: _toggle(w),
            "Ctrl+H",
            part,
        ),
        Command(
            "parts.delete",
            "Delete",
            "Takes the part in hand out of the project",
            "Parts",
            lambda: _delete(w),
            "Del",
            part,
        ),
        Command(
            "parts.move",
            "Move",
            "Handles to move the part",
            "Parts",
            lambda: w.choose_handles("move"),
            "M",
            part,
        ),
        Command(
            "parts.turn",
            "Turn",
            "Handles to turn the part",
            "Parts",
            lambda: w.choose_handles("turn"),
            "T",
            part,
        ),
        Command(
            "parts.scale",
            "Scale",
            "Handles to scale the part",
            "Parts",
            lambda: w.choose_handles("scale"),
            "S",
            part,
        ),
        Command(
            "parts.fuse",
            "Fuse visible parts",
            "Joins all visible parts by volume into one even body",
            "Parts",
            w.fuse,
            "Ctrl+J",
            several,
        ),
        Command(
            "density.remesh",
            "Remesh evenly",
            "New, even quads at the density set in the card",
            "Density",
            w.remesh,
            "Ctrl+R",
            part,
        ),
        Command(
            "density.subdivide",
            "Subdivide",
            "Cuts every face into quads and rounds them",
            "Density",
            w.studio.subdivide_active,
            "Ctrl+D",
            part,
        ),
    ]


def _tools(w: Window) -> list[Command]:
    tools = [
        Command(f"tool.{key}", tool.name, tool.does, "Tools", lambda key=key: w.choose_tool(key))
        for key, tool in TOOLS.items()
    ]
    slots = [
        Command(
            f"rack.slot-{slot}",
            f"Rack slot {slot}",
            f"Takes what stands in slot {slot} of the stage's rack",
            "Tools",
            lambda slot=slot: w.pick_slot(slot),
            str(slot),
            lambda slot=slot: "" if slot <= len(w.rack.buttons) else f"The rack has no slot {slot}.",
        )
        for slot in range(1, 10)
    ]

    def scale(factor: float) -> Callable[[], None]:
        def run() -> None:
            size = w.studio.settings().size
            w.studio.set_brush(size=min(max(size * factor, 2.0), 400.0))

        return run

    def press(step: float) -> Callable[[], None]:
        def run() -> None:
            strength = w.studio.settings().strength
            w.studio.set_brush(strength=min(max(strength + step, 0.0), 1.0))

        return run

    def flip(name: str) -> Callable[[], None]:
        return lambda: w.studio.set_brush(**{name: not getattr(w.studio.settings(), name)})

    mirrors = [
        Command(
            f"form.symmetry-{name.lower()}",
            f"Symmetry across {name}",
            f"Mirrors strokes across the part's own middle, left and right along {name}",
            "Tools",
            lambda axis=axis: w.switch_symmetry(axis),
            f"Alt+{name}",
        )
        for axis, name in enumerate("XYZ")
    ]
    return [
        *tools,
        *slots,
        Command("brush.larger", "Larger brush", "Makes the brush larger", "Tools", scale(1.12), "]"),
        Command("brush.smaller", "Smaller brush", "Makes the brush smaller", "Tools", scale(1 / 1.12), "["),
        Command("brush.stronger", "Stronger", "Makes each dab do more", "Tools", press(0.05), "."),
        Command("brush.weaker", "Weaker", "Makes each dab do less", "Tools", press(-0.05), ","),
        Command(
            "brush.front", "Front only", "Leaves alone what faces away", "Tools", flip("front_only"), "Alt+F"
        ),
        Command(
            "brush.connected",
            "Connected only",
            "Leaves alone what is not connected under the brush",
            "Tools",
            flip("connected_only"),
            "Alt+C",
        ),
        Command(
            "brush.reverse", "Reverse", "Does the opposite of the tool", "Tools", flip("reverse"), "Alt+R"
        ),
        *mirrors,
    ]


def add_ball(w: Window) -> None:
    """Put a ball beside the part in hand, half its size."""
    project = w.studio.project
    part = project.active
    radius, place = 50.0, (0.0, 0.0, 0.0)
    if part is not None:
        low, high = part.bounds()
        radius = max(float((high - low).max()) / 4, 1.0)
        place = (float(high[0]) + radius * 1.1, float((low[1] + high[1]) / 2), float((low[2] + high[2]) / 2))
    mesh = Mesh.from_faces(*ball(radius, 64))
    project.add_meshes("Add a ball", [("Ball", mesh, Transform(place))])


def _toggle(w: Window) -> None:
    part = w.studio.project.active
    if part is not None:
        w.studio.project.show(part.id, not part.visible)


def _delete(w: Window) -> None:
    part = w.studio.project.active
    if part is not None:
        w.studio.project.delete(part.id)


def mirrored(symmetry: tuple[bool, bool, bool], axis: int) -> tuple[bool, bool, bool]:
    """The same planes with one switched."""
    x, y, z = (on != (i == axis) for i, on in enumerate(symmetry))
    return x, y, z
