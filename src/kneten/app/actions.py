"""Every command of the program, with its words and its shortcut."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from kneten.app.commands import Command, Needs, always, needing
from kneten.app.view_card import OVERLAYS
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import VIEWS
from kneten.document.look import LOOKS

if TYPE_CHECKING:
    from kneten.app.window import Window


def register(window: Window) -> None:
    """Fill the window's registry."""
    clay = Needs.KERNELS | Needs.REST
    for group, needs in (
        (_files, clay | Needs.SETTLED),
        (_edits, clay),
        (_desk, Needs.NOTHING),
        (_comparing, clay | Needs.SETTLED),
        (_milestones, Needs.ALL),
        (_stages, Needs.NOTHING),
        (_views, Needs.NOTHING),
        (_looks, Needs.NOTHING),
        (_parts, clay | Needs.FREE),
        (_density, Needs.ALL),
        (_tools, Needs.NOTHING),
    ):
        window.registry.add(*needing(needs, group(window)))
    window.registry.add(*needing(Needs.NOTHING, _always(window)))
    window.registry.add(*needing(Needs.KERNELS, _history(window)))


def _files(w: Window) -> list[Command]:
    saved = lambda: "" if w.studio.project.scene.parts else "There is nothing to save yet."  # noqa: E731
    full = lambda: "" if w.studio.project.scene.parts else "There is no part to export."  # noqa: E731
    return [
        Command(
            "file.new",
            "New project",
            "Begins again with a ball of clay",
            "File",
            w.files.new_project,
            "Ctrl+N",
        ),
        Command(
            "file.open",
            "Open…",
            "Opens a project, or imports other files",
            "File",
            w.files.ask_open,
            "Ctrl+O",
        ),
        Command(
            "file.save",
            "Save",
            "Saves the project, whole or not at all",
            "File",
            w.files.save,
            "Ctrl+S",
            saved,
        ),
        Command(
            "file.save-as",
            "Save as…",
            "Saves the project under another name",
            "File",
            w.files.save_as,
            "Ctrl+Shift+S",
            saved,
        ),
        Command(
            "file.import",
            "Import…",
            "Adds the objects of a file as parts",
            "File",
            w.files.ask_import,
            "Ctrl+I",
        ),
        Command(
            "file.export",
            "Export…",
            "Writes parts as OBJ, PLY, STL or glTF",
            "File",
            w.files.ask_export,
            "Ctrl+E",
            full,
        ),
        Command(
            "file.still",
            "Export a still…",
            "Writes a clean picture of the view, at any size",
            "File",
            w.files.ask_still,
            "Ctrl+Shift+E",
            full,
        ),
        Command(
            "file.demo",
            "Open the demo",
            "Opens Tarn, forms: a bust with its anatomy",
            "File",
            w.files.open_demo,
        ),
        Command(
            "file.demo-head",
            "Open the first demo",
            "Opens Tarn's head, first clay",
            "File",
            lambda: w.files.open_demo("tarns-head"),
        ),
        Command(
            "file.demo-sedge",
            "Open the blockout demo",
            "Opens Widow Sedge, blocked out from an armature",
            "File",
            lambda: w.files.open_demo("widow-sedge"),
        ),
    ]


def _always(w: Window) -> list[Command]:
    return [
        Command("file.quit", "Quit", "Ends Kneten", "File", w.close, "Ctrl+Q"),
        Command(
            "edit.find",
            "Find a command…",
            "Lists every command; type to find one",
            "Edit",
            w.open_finder,
            "Ctrl+K",
        ),
    ]


def _history(w: Window) -> list[Command]:
    def history(which: int) -> Callable[[], str]:
        words = ("There is nothing to undo.", "There is nothing to redo.")
        touches = ("undo_touches", "redo_touches")

        def blocked() -> str:
            project = w.studio.project
            if not project.history.names()[which] and not w.view.at_work:
                return words[which]
            return w.studio.any_at_work(getattr(project, touches[which])())

        return blocked

    return [
        Command(
            "edit.undo", "Undo", "Takes the last change back", "Edit", w.works.undo, "Ctrl+Z", history(0)
        ),
        Command(
            "edit.redo",
            "Redo",
            "Makes the last undone change again",
            "Edit",
            w.works.redo,
            "Ctrl+Shift+Z",
            history(1),
        ),
    ]


def _edits(w: Window) -> list[Command]:
    return [
        Command(
            "edit.milestone",
            "Keep a milestone",
            "Keeps this state with a picture, to come back to",
            "Edit",
            w.works.keep_milestone,
            "Ctrl+M",
        ),
    ]


def _desk(w: Window) -> list[Command]:
    def desk(key: str, name: str, does: str, run: Callable[[], object], keys: str = "") -> Command:
        return Command(key, name, does, "Desk", run, keys)

    return [
        desk(
            "edit.tools",
            "All tools",
            "Shows every tool with what it does to a cross-section",
            lambda: w.overview.show_tools(w.theme),
            "Ctrl+Shift+K",
        ),
        desk(
            "view.quick-card",
            "Quick card",
            "Shows last tools, size, strength, look and undo at the cursor",
            w.open_quick_card,
            "Q",
        ),
        desk(
            "edit.shortcuts",
            "Shortcuts",
            "Shows, changes and exports all shortcuts",
            lambda: w.shortcuts.open(),
        ),
        desk(
            "edit.preferences",
            "Preferences",
            "Theme, numbers, motion, effects, pen",
            lambda: w.setup.open(),
            "Ctrl+P",
        ),
        desk("edit.pen", "Try your pen", "Draw, see your pressures, shape the curve", lambda: w.pen.open()),
        desk(
            "edit.welcome",
            "Welcome card",
            "Where to begin, and your last projects",
            lambda: w.welcome.open(),
            "F1",
        ),
        desk(
            "edit.tour",
            "Two-minute tour",
            "Shows the first steps; each waits until you do it",
            lambda: w.tour.start(),
        ),
        desk("edit.rack", "Rack as it was", "Puts back the tools this stage came with", w.reset_rack),
    ]


def _comparing(w: Window) -> list[Command]:
    m = w.milestones

    def about(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = m.none,
    ) -> Command:
        return Command(f"milestone.{key}", name, does, "Milestones", run, keys, blocked)

    return [
        about(
            "wipe",
            "Compare by wipe",
            "Lays the milestone over now; drag the edge",
            lambda: m.compare("wipe"),
            "F8",
        ),
        about(
            "blink",
            "Compare by blinking",
            "Shows milestone and now in turn",
            lambda: m.compare("blink"),
            "Shift+F8",
        ),
        about(
            "side",
            "Compare side by side",
            "Shows milestone and now beside each other",
            lambda: m.compare("side"),
            "Ctrl+F8",
        ),
        about(
            "distance",
            "Compare by distance",
            "Colours the clay by how far it has come since",
            m.distance,
            "Alt+F8",
        ),
    ]


def _milestones(w: Window) -> list[Command]:
    m = w.milestones

    def about(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = m.none,
    ) -> Command:
        return Command(f"milestone.{key}", name, does, "Milestones", run, keys, blocked)

    return [
        about(
            "go-back",
            "Go back to it",
            "Makes everything what it was; undo brings now back",
            m.go_back,
            "",
            m.not_all_free,
        ),
        about(
            "take-part",
            "Take back the part in hand",
            "Makes only this part what it was",
            m.take_part,
            "",
            m.no_part,
        ),
        about(
            "take-masked",
            "Take back what the mask covers",
            "Makes only masked clay what it was",
            m.take_masked,
            "",
            m.no_mask,
        ),
        about("rename", "Rename milestone…", "Gives the milestone another name", m.rename),
        about("note", "Note on milestone…", "Keeps a note with the milestone", m.note),
        about("delete", "Delete milestone", "Takes the milestone out of the project", m.delete),
    ]


def _stages(w: Window) -> list[Command]:
    does = {
        "Gather": "References, proportion, measures",
        "Block": "Big shapes: live parts, armatures, strands, cuts, joining",
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
    v = w.views
    named = [
        Command(
            f"view.{name}",
            name.capitalize(),
            f"Looks at the clay from the {name}",
            "View",
            lambda name=name: v.look_from(name),
            f"Ctrl+{i + 1}",
        )
        for i, name in enumerate(VIEWS)
    ]
    part = lambda: "" if w.studio.project.active else "There is no part in hand."  # noqa: E731

    def view(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = always,
    ) -> Command:
        return Command(f"view.{key}", name, does, "View", run, keys, blocked)

    return [
        *named,
        view("frame", "Frame the part", "Brings the part in hand into the middle", v.frame_part, "F", part),
        view(
            "frame-all", "Frame everything", "Brings all visible parts into the picture", v.frame_all, "Home"
        ),
        view(
            "frame-cursor",
            "Frame under the cursor",
            "Brings the place under the cursor into the middle, closer",
            v.frame_cursor,
            "Shift+F",
        ),
        view(
            "frame-last",
            "Frame the last stroke",
            "Brings what the last stroke touched into the middle",
            v.frame_last,
            "Alt+Home",
            v.no_last,
        ),
        view(
            "lens", "Perspective or orthographic", "Switches the camera between the two", v.switch_lens, "P"
        ),
        view("roll-left", "Tilt left", "Tilts the camera by 15 degrees", lambda: v.roll(-15.0), "Ctrl+,"),
        view("roll-right", "Tilt right", "Tilts the camera by 15 degrees", lambda: v.roll(15.0), "Ctrl+."),
        view("level", "Level", "Takes the camera's tilt away", v.level, "Ctrl+-"),
        view("turntable", "Turntable", "Turns around the clay until you press anywhere", v.turntable, "F7"),
        view(
            "four", "Four views", "Shows top, front and right beside the picture, or not", v.switch_four, "F4"
        ),
        view(
            "mirror",
            "Mirror the picture",
            "Exchanges left and right, for fresh eyes; tools still hit what is under them",
            v.switch_mirror,
            "F6",
        ),
        view(
            "squint",
            "Half-closed eyes",
            "Blurs the picture, so that only the big masses are left",
            v.switch_squint,
            "Shift+F6",
        ),
        view("silhouette", "Silhouette", "Shows the outline alone, or all again", v.silhouette, "F3"),
        view(
            "save", "Save this view", "Keeps the camera with a picture in the view card", v.save_view, "Alt+V"
        ),
        view("next", "Next saved view", "Goes to the next saved view", v.next_view, "V", v.no_views),
        view(
            "alone",
            "Viewport alone",
            "Hides all but the viewport, and shows it again",
            w.viewport_alone,
            "F10",
        ),
        view(
            "theme",
            "Switch theme",
            "Switches between Kiln (dark) and Porcelain (light)",
            w.switch_theme,
            "Ctrl+T",
        ),
    ]


def _looks(w: Window) -> list[Command]:
    v = w.views
    looks = [
        Command(f"look.{key}", name, does, "Look", lambda key=key: v.look(key))
        for key, (name, does) in LOOKS.items()
    ]
    overlays = [
        Command(
            f"look.{key.replace('_', '-')}",
            name,
            does,
            "Look",
            lambda key=key: v.overlay(key),
            OVERLAY_KEYS.get(key, ""),
        )
        for key, (name, does) in OVERLAYS.items()
    ]
    return [
        *looks,
        Command(
            "look.next",
            "Next look",
            "Shows the clay with the next look",
            "Look",
            lambda: v.next_look(1),
            "F5",
        ),
        Command(
            "look.last",
            "Look before",
            "Shows the clay with the look before",
            "Look",
            lambda: v.next_look(-1),
            "Shift+F5",
        ),
        Command(
            "look.next-matcap", "Next matcap", "Goes through the matcaps", "Look", v.next_matcap, "Ctrl+F5"
        ),
        Command(
            "look.own-matcap",
            "Picture as matcap…",
            "Takes a picture of a ball as material; it is kept in the project",
            "Look",
            v.ask_matcap,
        ),
        *overlays,
    ]


OVERLAY_KEYS = {"wires": "W", "xray": "X", "ghost": "G", "isolate": "I", "floor": "Shift+G"}


def _parts(w: Window) -> list[Command]:
    def part() -> str:
        active = w.studio.project.active
        if active is None:
            return "There is no part in hand."
        return w.studio.move_blocked(active)

    return [
        Command(
            "parts.ball",
            "Add a ball",
            "Adds a ball of clay beside the part in hand",
            "Parts",
            w.works.add_ball,
            "Ctrl+B",
        ),
        Command(
            "parts.rename",
            "Rename…",
            "Gives the part in hand another name",
            "Parts",
            w.works.rename_part,
            "F2",
            part,
        ),
        Command(
            "parts.hide",
            "Hide or show",
            "Hides the chosen parts, or shows them again",
            "Parts",
            w.works.hide_or_show,
            "Ctrl+H",
            part,
        ),
        Command(
            "parts.delete",
            "Delete",
            "Takes the chosen parts out of the project",
            "Parts",
            w.works.delete,
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
    ]


def _density(w: Window) -> list[Command]:
    def part() -> str:
        active = w.studio.project.active
        if active is None:
            return "There is no part in hand."
        return w.studio.move_blocked(active)

    return [
        Command(
            "parts.fuse",
            "Fuse",
            "Joins the chosen parts, or all visible ones, by volume into one even body",
            "Join",
            w.joining.fuse,
            "Ctrl+J",
            w.joining.no_others,
        ),
        Command(
            "density.decimate-run",
            "Decimate",
            "Fewer triangles, where they are needed least, as far as the Density card says",
            "Density",
            w.decimating.run,
            "Ctrl+Alt+D",
            w.decimating.blocked,
        ),
        Command(
            "density.decimate-preview",
            "Preview decimating",
            "Shows what decimating would give, until the next press",
            "Density",
            w.decimating.preview,
            "",
            w.decimating.blocked,
        ),
        Command(
            "density.decimate-error",
            "Error map of decimating",
            "Colours the clay by how far decimating would move it",
            "Density",
            w.decimating.error_map,
            "",
            w.decimating.blocked,
        ),
        Command(
            "density.live",
            "Live density",
            "Lets strokes split and join the mesh of the part in hand to the detail size, or no more",
            "Live density",
            w.studio.live.switch,
            "N",
            w.studio.live.blocked,
        ),
        Command(
            "density.remesh",
            "Remesh evenly",
            "New, even quads at the density set in the card",
            "Density",
            w.works.remesh,
            "Ctrl+R",
            part,
        ),
        Command(
            "density.subdivide",
            "Subdivide",
            "Adds a finer level: every face is cut into quads and rounded; the level below stays at hand",
            "Density",
            w.levels.add,
            "Ctrl+D",
            w.levels.none,
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


def mirrored(symmetry: tuple[bool, bool, bool], axis: int) -> tuple[bool, bool, bool]:
    """The same planes with one switched."""
    x, y, z = (on != (i == axis) for i, on in enumerate(symmetry))
    return x, y, z
