"""The commands of levels, layers and a mesh's health, with their words and shortcuts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Add them to the window's registry."""
    for group in (_density, _levels, _layers, _health):
        desk.registry.add(*group(desk))


def _levels(w: Desk) -> list[Command]:
    v = w.levels
    c = making("Levels")
    return [
        c("level.up", "Next level", "Takes the next finer level in hand", v.up, "Alt+Up", v.none_above),
        c("level.down", "Level below", "Takes the next coarser level in hand: what is done there carries all that is finer", v.down, "Alt+Down", v.none_below),
        c("level.delete-above", "Drop levels above", "Gives up the levels finer than this one", v.delete_above, "", v.none_above),
        c("level.delete-below", "Drop levels below", "Makes this level the lowest; the form and the layers stay", v.delete_below, "", v.none_below),
        c("detail.check", "Check the detail", "Tells what of the clay each level below would lose, and colours it; again ends the colours", w.details.check, "Ctrl+Alt+Shift+D", w.details.none),
        c("level.rebuild", "Rebuild levels", "Finds the lower levels of a dense mesh that came from subdividing", v.rebuild, "", v.none),
    ]  # fmt: skip


def _layers(w: Desk) -> list[Command]:
    v = w.levels
    c = making("Layers")
    return [
        c("layer.add", "Add a layer", "Adds a layer and records on it: strokes go there, and can be dialled down later", v.add_layer, "Alt+L", v.none),
        c("layer.record", "Record on the layer", "Lets strokes go to the chosen layer, or to the clay again", v.record_chosen, "Alt+Shift+L", v.no_layer),
        c("layer.show", "Hide or show the layer", "Takes the chosen layer's effect away, or brings it back", v.show_chosen, "", v.no_layer),
        c("layer.solo", "Only this layer", "Lets only the chosen layer count, or all of them again", v.solo, "", v.no_layer),
        c("layer.before", "Before and after the layers", "Hides all layers that are shown, or shows those again", v.before, "Ctrl+Alt+L", v.no_layer),
        c("layer.rename", "Rename the layer…", "Gives the chosen layer another name", v.rename, "", v.no_layer),
        c("layer.copy", "Copy the layer", "Adds the same layer once more, hidden", v.copy, "", v.no_layer),
        c("layer.merge", "Merge with the layer below", "Makes one layer of the chosen one and the one below it; the form stays", v.merge, "", v.no_layer),
        c("layer.bake", "Bake the layer", "Makes the chosen layer part of the clay; the form stays", v.bake, "", v.no_layer),
        c("layer.delete", "Delete the layer", "Takes the chosen layer out, with what it does", v.delete, "", v.no_layer),
        c("layer.higher", "Layer higher", "Moves the chosen layer up in the list", lambda: v.move(1), "", v.no_layer),
        c("layer.lower", "Layer lower", "Moves the chosen layer down in the list", lambda: v.move(-1), "", v.no_layer),
        c("layer.group", "Group with the layer below", "Puts the chosen layer and the one below it into one group, dialled and hidden as one", v.group_layers, "", v.no_layer),
        c("layer.ungroup", "Take the layer out of its group", "Lets the chosen layer stand by itself again", v.ungroup, "", v.no_group),
        c("layer.group-show", "Hide or show the group", "Takes the effect of the chosen layer's group away, or brings it back", v.show_group, "", v.no_group),
        c("layer.group-rename", "Rename the group…", "Gives the chosen layer's group another name", v.rename_group, "", v.no_group),
        c("layer.mirror", "Mirror the layer", "Makes the chosen layer's side of smaller X the mirror image of the other, on this level", v.mirror, "", v.no_layer),
        c("layer.off-mask", "Take the layer off the mask", "Takes the chosen layer away where the clay is masked, on this level", v.off_mask, "", v.no_layer),
        c("layer.mask", "Hide the layer's paint where masked", "Gives the chosen layer the clay's mask: its paint is not seen there, and is kept; a wash stays live", v.mask_paint, "", v.not_maskable),
        c("layer.mask-get", "Get the layer's mask", "Masks the clay as the chosen layer's paint is hidden, to be painted on and given back", v.take_mask, "", v.not_masked),
        c("layer.unmask", "Show all of the layer's paint", "Takes the chosen layer's mask away", v.unmask_paint, "", v.not_masked),
    ]  # fmt: skip


def _health(w: Desk) -> list[Command]:
    h = w.health
    c = making("Health")
    return [
        c("health.examine", "Examine", "Looks for holes, crossings, flipped and stretched faces and all else that may be wrong with the part", h.examine, "Ctrl+Alt+H", h.none),
        c("health.next", "Next fault", "Brings the next fault of the chosen kind into the picture", lambda: h.frame(1), "", h.no_fault),
        c("health.last", "Fault before", "Brings the fault before into the picture", lambda: h.frame(-1), "", h.no_fault),
        c("health.repair", "Repair the kind", "Repairs the fault that was framed, or all of the chosen kind; the clay far from them stays as it is", lambda: h.repair(False), "", h.no_fault),
        c("health.repair-all", "Repair all faults", "Repairs all that was found, and says what is left", lambda: h.repair(True), "", h.no_fault),
    ]  # fmt: skip


def _density(w: Desk) -> list[Command]:
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
            "Ctrl+Shift+F",
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
            "density.finer-here",
            "Finer here",
            "Refines the clay under the brush where you drew last, to the detail size",
            "Live density",
            w.view.finer_here,
            "",
            w.view.no_finer_here,
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
            lambda: w.studio.remesh_active(*w.density_card.wanted()),
            "Alt+E",
            part,
        ),
        Command(
            "density.subdivide",
            "Subdivide",
            "Adds a finer level: every face is cut into quads and rounded; the level below stays at hand",
            "Density",
            w.levels.add,
            "Alt+Shift+Up",
            w.levels.none,
        ),
    ]
