"""Every command of the program, with its words and its shortcut."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from kneten.app.shell.tour import CREATURE
from kneten.app.work.commands import Command, Needs, making, needing
from kneten.core.brushes.toolbox import TOOLS

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


def register(window: Frame) -> None:
    """Fill the window's registry."""
    clay = Needs.KERNELS | Needs.REST
    for group, needs in (
        (_files, clay | Needs.SETTLED),
        (_edits, clay),
        (_desk, Needs.NOTHING),
        (_stages, Needs.NOTHING),
        (_parts, clay | Needs.FREE),
        (_tools, Needs.NOTHING),
        (_own, Needs.NOTHING),
    ):
        window.registry.add(*needing(needs, group(window)))
    window.registry.add(*needing(Needs.NOTHING, _always(window)))
    window.registry.add(*needing(Needs.KERNELS, _history(window)))


def _files(w: Frame) -> list[Command]:
    saved = lambda: "" if w.studio.project.scene.parts else "There is nothing to save yet."  # noqa: E731
    full = lambda: "" if w.studio.project.scene.parts else "There is no part to export."  # noqa: E731
    f, c = w.files, making("File")
    return [
        c("file.new", "New project", "Begins again with a ball of clay", f.new_project, "Ctrl+N"),
        c("file.open", "Open…", "Opens a project, or imports other files", f.ask_open, "Ctrl+O"),
        c("file.save", "Save", "Saves the project, whole or not at all", f.save, "Ctrl+S", saved),
        c("file.save-as", "Save as…", "Saves the project under another name", f.save_as, "Ctrl+Shift+S", saved),
        c("file.save-packed", "Save a packed copy…", "Writes the project once more, much smaller and more slowly: to send, or to keep", f.save_packed, "", saved),
        c("file.import", "Import…", "Adds the objects of a file as parts", f.ask_import, "Ctrl+I"),
        c("file.export", "Export…", "Writes parts as OBJ, PLY, STL or glTF", f.ask_export, "Ctrl+E", full),
        c("file.still", "Export a still…", "Writes a clean picture of the view, at any size", f.ask_still, "Ctrl+Shift+E", full),
        c("file.turntable", "Export a turntable…", "Writes a film of the clay going round, as WebM or MP4", f.ask_turntable, "", full),
        c("file.demo", "Open the demo", "Opens Tarn at the ferry: Tarn and Pim by night on the lake, painted, lit and composed, on a low level", f.open_demo),
        c("file.demo-forms", "Open the forms demo", "Opens Tarn, forms: a bust with its anatomy", lambda: f.open_demo("tarn-forms")),
        c("file.demo-skin", "Open the skin demo", "Opens Tarn, skin: layers of fine detail on four levels, fur, whiskers, rope and lantern", lambda: f.open_demo("tarn-skin")),
        c("file.demo-painted", "Open the painted demo", "Opens Tarn, painted: hide, eyes, tin and cloth in colours and materials, on layers", lambda: f.open_demo("tarn-painted")),
        c("file.demo-pim", "Open the newt", "Opens Pim, painted: a spotted newt with gills, in four kinds of colours kept as milestones", lambda: f.open_demo("pim")),
        c("file.demo-ferry", "Open the whole ferry", "Opens Tarn at the ferry on his highest level: 2,400,000 vertices, 300,000 fibres", lambda: f.open_demo("ferry")),
        c("file.demo-head", "Open the first demo", "Opens Tarn's head, first clay", lambda: f.open_demo("tarns-head")),
        c("file.demo-clean", "Open the clean demo", "Opens Tarn, made clean: his head as quads with loops round lids and mouth, his forms on levels above", lambda: f.open_demo("tarn-clean")),
        c("file.demo-steps", "Open the rigged demo", "Opens Widow Sedge steps off the ferry: a body with joints, coat and basket going along, five poses", lambda: f.open_demo("sedge-steps")),
        c("file.demo-moods", "Open the moods", "Opens Tarn's moods: a face with shapes for brows, lids, lips and jaw, left and right, with corrections, and six moods as milestones", lambda: f.open_demo("tarn-moods")),
        c("file.demo-sedge", "Open the blockout demo", "Opens Widow Sedge, blocked out from an armature", lambda: f.open_demo("widow-sedge")),
    ]  # fmt: skip


def _always(w: Frame) -> list[Command]:
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


def _history(w: Frame) -> list[Command]:
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
            "edit.undo",
            "Undo",
            "Takes the last change back",
            "Edit",
            w.scene_actions.undo,
            "Ctrl+Z",
            history(0),
        ),
        Command(
            "edit.redo",
            "Redo",
            "Makes the last undone change again",
            "Edit",
            w.scene_actions.redo,
            "Ctrl+Shift+Z",
            history(1),
        ),
    ]


def _edits(w: Frame) -> list[Command]:
    return [
        Command(
            "edit.milestone",
            "Keep a milestone",
            "Keeps this state with a picture, to come back to",
            "Edit",
            w.scene_actions.keep_milestone,
            "Ctrl+M",
        ),
    ]


def _desk(w: Frame) -> list[Command]:
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
        desk(
            "edit.creature",
            "A small creature, step by step",
            "Leads from a ball of clay through all stages to a file; each step waits until you do it",
            lambda: w.tour.start(CREATURE),
        ),
        desk("edit.rack", "Rack as it was", "Puts back the tools this stage came with", w.reset_rack),
    ]


def _stages(w: Frame) -> list[Command]:
    does = {
        "Gather": "References, proportion, measures",
        "Block": "Big shapes: live parts, armatures, strands, cuts, joining",
        "Form": "The sculptor's hands: all tools",
        "Surface": "Fine detail: presses, pores, scales, cloth",
        "Colour": "Paint on the clay and on layers, by hand and by the form",
        "Net": "Clean topology: quads that follow the form",
        "Perform": "Pose: limbs bent, turned and pulled, with all that sits on them",
        "Show": "Light and the picture: lamps, sky, floor",
        "Deliver": "Hand over: density, files, stills",
    }
    return [
        Command(
            f"stage.{name.lower()}",
            name,
            text,
            "Stage",
            partial(w.choose_stage, name),
            f"Alt+{i + 1}",
        )
        for i, (name, text) in enumerate(does.items())
    ]


def _parts(w: Frame) -> list[Command]:
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
            w.scene_actions.add_ball,
            "Ctrl+B",
        ),
        Command(
            "parts.rename",
            "Rename…",
            "Gives the part in hand another name",
            "Parts",
            w.scene_actions.rename_part,
            "F2",
            part,
        ),
        Command(
            "parts.hide",
            "Hide or show",
            "Hides the chosen parts, or shows them again",
            "Parts",
            w.scene_actions.hide_or_show,
            "Ctrl+H",
            part,
        ),
        Command(
            "parts.delete",
            "Delete",
            "Takes the chosen parts out of the project",
            "Parts",
            w.scene_actions.delete,
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


def _tools(w: Frame) -> list[Command]:
    tools = [
        Command(f"tool.{key}", tool.name, tool.does, "Tools", partial(w.choose_tool, key))
        for key, tool in TOOLS.items()
    ]

    def no_slot(slot: int) -> str:
        return "" if slot <= len(w.rack.buttons) else f"The rack has no slot {slot}."

    slots = [
        Command(
            f"rack.slot-{slot}",
            f"Rack slot {slot}",
            f"Takes what stands in slot {slot} of the stage's rack",
            "Tools",
            partial(w.pick_slot, slot),
            str(slot),
            partial(no_slot, slot),
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
            partial(w.switch_symmetry, axis),
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
            "brush.through",
            "Through the clay",
            "Reaches the far side and what lies beside it, too",
            "Tools",
            flip("through"),
            "Alt+C",
        ),
        Command(
            "brush.reverse", "Reverse", "Does the opposite of the tool", "Tools", flip("reverse"), "Alt+R"
        ),
        *mirrors,
    ]


def _own(w: Frame) -> list[Command]:
    o = w.own_tools
    c = making("Own tools")
    return [
        c("own.keep", "Keep as own tool…", "Keeps the tool in hand, as it is held, under a name on the rack", o.keep),
        c("own.save", "Save own tool…", "Writes the own tool in hand to a file that others can load", o.save, "", o.not_own),
        c("own.load", "Load own tools…", "Takes own tools from files", o.load),
        c("own.forget", "Forget own tool", "Takes the own tool in hand away", o.forget, "", o.not_own),
    ]  # fmt: skip


def mirrored(symmetry: tuple[bool, bool, bool], axis: int) -> tuple[bool, bool, bool]:
    """The same planes with one switched."""
    x, y, z = (on != (i == axis) for i, on in enumerate(symmetry))
    return x, y, z
