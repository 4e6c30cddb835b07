"""Commands of light, cameras and finish."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, Needs, making, needing
from kneten.core.light.lamps import KINDS, PLACED
from kneten.core.light.rigs import RIGS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    # Light asks nothing of the clay: it may be changed while that is being worked on.
    for command in needing(
        Needs.REST, (*_lamps(w), *_sets(w), *_cameras(w), *_finish(w), *_traces(w), *_output(w))
    ):
        w.registry.add(command)


def _lamps(w: Desk) -> list[Command]:
    k = w.lights
    c = making("Light")
    return [
        *(
            c(f"light.add-{kind}", f"Add a lamp: {name.lower()}", f"{tip}; it comes from the upper left until it is placed", partial(k.add, kind))
            for kind, (name, tip) in KINDS.items()
        ),
        *(
            c(f"light.{what}", name, f"{tip}; drag to see it go along", partial(k.place, what), "", k.no_lamp)
            for what, (name, tip) in PLACED.items()
        ),
        c("light.drag", "Lamps", "Lamps are dragged in the view, around the place that they light", k.drag, "L", k.no_lamp),
        c("light.colour", "Colour in hand to the lamp", "The chosen lamp shines in the colour in hand", k.take_colour, "", k.no_lamp),
        c("light.group", "Group of the lamp…", "Puts the chosen lamp into a group that is lit and put out together", k.ask_group, "", k.no_lamp),
        c("light.group-lit", "Light the group, or put it out", "All lamps of the chosen one's group are lit, or put out", partial(k.switch_group, "shown"), "", k.no_group),
        c("light.group-alone", "The group alone", "Only the group of the chosen lamp is lit; again for all", partial(k.switch_group, "solo"), "", k.no_group),
        c("light.copy", "Copy the lamp", "One more lamp like the chosen one", k.copy, "", k.no_lamp),
        c("light.remove", "Take the lamp away", "Takes the chosen lamp out of the project", k.remove, "", k.no_lamp),
    ]  # fmt: skip


def _sets(w: Desk) -> list[Command]:
    k = w.lights
    c = making("Light")
    return [
        *(
            c(f"light.set-{key}", name, f"{tip}; takes the place of all lamps and of the surroundings", partial(k.light_by, key))
            for key, (name, tip, _) in RIGS.items()
        ),
        c("light.sky-load", "Load a sky", "Takes in a picture of all that is around, as .hdr or .exr, and puts the clay under it", k.load_sky),
        c("light.sky-forget", "Take the sky away", "Takes the sky of your own that is around out of the project", k.forget_sky, "", k.no_own_sky),
        c("light.backdrop-colour", "Colour in hand to the backdrop", "The backdrop has the colour in hand", k.colour_backdrop, "", k.no_backdrop),
        c("light.pedestal", "Pedestal", "Puts a round pedestal below all visible clay, as a part of its own", k.pedestal, "", k.no_clay),
        c("light.keep", "Keep the light set", "Keeps lamps and surroundings under a name, with the project", k.keep),
        c("light.forget", "Take the light set away", "Takes the light set of your own that was last chosen out of the project", k.forget, "", k.no_own_set),
    ]  # fmt: skip


def _cameras(w: Desk) -> list[Command]:
    k = w.pictures
    c = making("Camera")
    return [
        c("camera.add", "Camera", "A camera where the view is, with the finish that there is", k.add),
        c("camera.back", "Back to the camera", "Looks through the chosen camera again", k.back, "", k.no_shot),
        c("camera.next", "Next camera", "Looks through the next camera", partial(k.step, 1), "Ctrl+Alt+N", k.no_shots),
        c("camera.set", "Set the camera here", "The chosen camera sees what the view shows", k.set_here, "", k.no_free_shot),
        c("camera.frame", "Frame all with the camera", "The chosen camera goes back or forth until all clay fits its picture", k.frame, "", k.no_free_shot),
        c("camera.lock", "Lock the camera", "Keeps the chosen camera from being moved, or lets it be moved again", k.switch_lock, "", k.no_shot),
        c("camera.copy", "Copy the camera", "One more camera like the chosen one, with its finish", k.copy, "", k.no_shot),
        c("camera.rename", "Rename the camera", "Calls the chosen camera something else", k.rename, "", k.no_shot),
        c("camera.remove", "Take the camera away", "Takes the chosen camera out of the project", k.remove, "", k.no_shot),
    ]  # fmt: skip


def _finish(w: Desk) -> list[Command]:
    k = w.pictures
    c = making("Finish")
    return [
        c("finish.focus", "Focus", "Says by a click what is sharp, and puts the rest out of focus", k.focus),
        c("finish.compare", "Without finish", "Shows the picture without its finish, or with it again", k.switch_compare, "Ctrl+Alt+E"),
        c("finish.plain", "Plain finish", "Takes balance, bloom, grade, corners, grain and sharpening back", k.plain_finish),
        c("finish.table-load", "Load a colour table", "Takes in a table from colours to colours, as .cube, and has it", k.load_table),
        c("finish.table-drop", "No colour table", "Has none; the table stays in the project", k.drop_table, "", k.no_table),
    ]  # fmt: skip


def _traces(w: Desk) -> list[Command]:
    k = w.traces
    c = making("Ray-traced still")
    return [
        c("trace.start", "Trace light", "Begins a ray-traced picture of what the camera shows, in a process of its own", k.start, "", k.no_start),
        c("trace.pause", "Let tracing rest", "Lets the ray-traced picture rest, or go on", k.pause, "", k.no_trace),
        c("trace.enough", "Enough traced", "Ends tracing with what there is, its noise taken out", k.enough, "", k.no_trace),
        c("trace.cancel", "Cancel tracing", "Stops tracing at once; the picture so far stays to be seen", k.cancel, "", k.no_trace),
        c("trace.save", "Save the ray-traced still", "Writes the ray-traced picture as it is now", k.ask_save, "", k.no_picture),
    ]  # fmt: skip


def _output(w: Desk) -> list[Command]:
    c = making("File")
    full = lambda: "" if w.studio.project.scene.parts else "There is no part to show."  # noqa: E731
    k = w.reels
    return [
        c("file.sheet", "Export a sheet…", "Writes cameras, milestones, parts, or before and after on one page, as PNG or PDF", w.sheets.ask, "", full),
        c("file.reel", "Export a reel…", "Writes a film of the work: its steps and milestones, played again", k.ask, "", k.nothing_to_play),
        c("reel.keep", "Keep my steps for the reel", "Keeps what was done beside the project when it is saved, or no more", k.switch_keeping),
        c("reel.forget", "Throw the steps away", "Throws away the steps of earlier saves that are kept for the reel", k.forget, "", k.nothing_kept),
    ]  # fmt: skip
