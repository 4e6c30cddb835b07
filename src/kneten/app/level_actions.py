"""The commands of levels, layers and a mesh's health, with their words and shortcuts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.block_actions import making
from kneten.app.commands import Command

if TYPE_CHECKING:
    from kneten.app.window import Window


def register(window: Window) -> None:
    """Add them to the window's registry."""
    for group in (_levels, _layers, _carry, _trip, _health):
        window.registry.add(*group(window))


def _levels(w: Window) -> list[Command]:
    v = w.levels
    c = making("Levels")
    return [
        c("level.up", "Next level", "Takes the next finer level in hand", v.up, "PgUp", v.none_above),
        c("level.down", "Level below", "Takes the next coarser level in hand: what is done there carries all that is finer", v.down, "PgDown", v.none_below),
        c("level.delete-above", "Drop levels above", "Gives up the levels finer than this one", v.delete_above, "", v.none_above),
        c("level.delete-below", "Drop levels below", "Makes this level the lowest; the form and the layers stay", v.delete_below, "", v.none_below),
        c("level.rebuild", "Rebuild levels", "Finds the lower levels of a dense mesh that came from subdividing", v.rebuild, "", v.none),
    ]  # fmt: skip


def _layers(w: Window) -> list[Command]:
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
    ]  # fmt: skip


def _carry(w: Window) -> list[Command]:
    v = w.carrying
    c = making("Carry over")
    return [
        c("carry.run", "Carry over", "Lays form, layers, colour and regions of the part in the card onto the mesh of the one in hand", v.run, "Ctrl+Alt+O", v.none),
        c("carry.deviation", "Deviation from the source", "Colours the part in hand by how far it is from the one it was carried over from; again ends it", v.deviate, "", v.none),
        c("carry.gap", "Next place without a match", "Brings the next masked place, where nothing was found to carry over, into the picture", v.gap, "", v.no_gap),
    ]  # fmt: skip


def _trip(w: Window) -> list[Command]:
    v = w.trip
    c = making("Round trip")
    return [
        c("trip.send", "Send out…", "Writes a level of the chosen parts to files in a folder, to be changed elsewhere", v.send, "Ctrl+Alt+U", v.none),
        c("trip.take", "Take back", "Reads the part in hand back from its file: moved vertices keep all detail, other faces get it carried over", v.take, "Ctrl+Alt+B", v.not_out),
        c("trip.watch", "Take back by itself", "Watches the folders that parts were sent to, and takes back what is changed there; again ends it", v.watch, "", v.none_out),
    ]  # fmt: skip


def _health(w: Window) -> list[Command]:
    h = w.health
    c = making("Health")
    return [
        c("health.examine", "Examine", "Looks for holes, crossings, flipped and stretched faces and all else that may be wrong with the part", h.examine, "Ctrl+Alt+H", h.none),
        c("health.next", "Next fault", "Brings the next fault of the chosen kind into the picture", lambda: h.frame(1), "", h.no_fault),
        c("health.last", "Fault before", "Brings the fault before into the picture", lambda: h.frame(-1), "", h.no_fault),
        c("health.repair", "Repair the kind", "Repairs the fault that was framed, or all of the chosen kind; the clay far from them stays as it is", lambda: h.repair(False), "", h.no_fault),
        c("health.repair-all", "Repair all faults", "Repairs all that was found, and says what is left", lambda: h.repair(True), "", h.no_fault),
    ]  # fmt: skip
