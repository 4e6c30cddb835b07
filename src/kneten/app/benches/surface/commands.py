"""The commands of the surface, with their words and shortcuts."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING

from kneten.app.benches.surface.comb_mode import TOOLS
from kneten.app.benches.surface.furs import COMBS
from kneten.app.work.commands import Command, Needs, making, needing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Add them to the window's registry."""
    desk.registry.add(
        *needing(Needs.NOTHING, _shelf(desk)), *_taken(desk), *_grain(desk), *_laying(desk), *_fur(desk)
    )


def _shelf(w: Desk) -> list[Command]:
    p = w.presses
    c = making("Press")
    return [
        c("press.shelf", "Shelf of presses", "Shows all presses: choose one for the tip of the tool in hand, make or change your own", lambda: w.press_panel.open(), "Ctrl+Alt+P"),
        c("press.import", "Import presses…", "Makes presses of pictures: PNG, TIFF, EXR, JPEG, WebP, at their full depth", p.ask_import),
        c("press.import-deep", "Import deep presses…", "Reads deep presses from EXR files: to the right, to the top and out in R, G and B", p.ask_deep),
        c("press.text", "Press from text…", "Makes a press of letters, flat, bevelled or round", lambda: w.text_panel.open()),
        c("press.noise", "Press from unevenness…", "Mixes a press of clouds, ridges, pebbles and their kind", lambda: w.noise_panel.open()),
        c("press.none", "Take the press off", "Frees the tip of the tool in hand: it works round again", p.take_off, "", p.no_tip),
    ]  # fmt: skip


def _taken(w: Desk) -> list[Command]:
    p = w.presses
    c = making("Press")
    return [
        c("press.from-view", "Press from the clay", "Drag a frame over the clay: how high it stands there, over its own base, becomes a press", p.frame_clay, "", p.no_clay),
        c("press.deep-from-view", "Deep press from the clay", "Drag a frame about a piece of a part: it becomes a deep press, with all that hangs over", p.frame_deep, "", p.no_clay),
        c("press.from-mask", "Press from the mask", "Drag a frame over masked clay: the mask becomes a press", p.frame_mask, "", p.no_mask),
        c("press.along-guides", "Stroke along guides", "Leads the tool in hand along each guide of the part, from its one end to the other", p.along_guides, "", p.no_guide),
    ]  # fmt: skip


def _grain(w: Desk) -> list[Command]:
    g = w.grains
    c = making("Grain")
    return [
        c("grain.add", "Add grain", "Lays a pattern over all of the part, live until it is baked", g.add, "Ctrl+Alt+G", g.none),
        c("grain.add-press", "Add grain from the press", "Lays the press on the tip over all of the part as grain", g.add_press, "", g.no_press),
        c("grain.renew", "Lay the grain anew", "Works the grain out again, for the clay and the level as they are now", g.renew, "", g.no_grain),
        c("grain.mask", "Grain on the mask", "Lets the grain lie where the part is masked now", g.take_mask, "", g.no_mask),
        c("grain.bake", "Bake the grain", "Makes the grain a layer like others, to record on and to restore from", g.bake, "", g.no_grain),
        c("grain.bake-mask", "Bake the grain within the mask", "Makes what the mask covers of the grain a layer; the rest goes", lambda: g.bake(True), "", g.no_mask),
        c("grain.remove", "Take the grain off", "Takes the grain off the part", g.remove, "", g.no_grain),
    ]  # fmt: skip


def _laying(w: Desk) -> list[Command]:
    la = w.layings
    c = making("Rows and scatter")
    return [
        c("laying.scatter", "Scatter", "Lays small pieces over the part in hand, or over its mask, live until they are baked", la.scatter, "Ctrl+Alt+Y", la.none),
        c("laying.row", "Row", "Lays small pieces along the guides of the part in hand, its open rims or a region's border", la.row, "Ctrl+Alt+Shift+Y", la.no_line),
        c("laying.anew", "Lay the pieces anew", "Finds places for all pieces anew, for the clay as it is now", la.anew, "", la.no_laid),
        c("laying.mask", "Scatter on the mask", "Lets the scatter lie where its clay is masked now", la.take_mask, "", la.no_mask),
        c("laying.parts", "Lay the chosen parts", "Makes the row or scatter in hand of the other chosen parts, in turn", la.take_parts, "", la.no_others),
    ]  # fmt: skip


def _fur(w: Desk) -> list[Command]:
    f = w.furs
    c = making("Fur")
    combs = [
        c(f"fur.{tool}", TOOLS[tool][0] + " fur", TOOLS[tool][1].replace("Drag over the fur: it", "The fur under the pointer"), functools.partial(f.comb, tool), "Ctrl+Alt+K" if tool == "comb" else "", f.no_fur)
        for tool in COMBS
    ]  # fmt: skip
    return [
        c("fur.add", "Add fur", "Lays fine fibres over the part in hand, or over its mask", f.add, "Ctrl+Alt+F", f.none),
        *combs,
        c("fur.mask", "Fur on the mask", "Lets the fur grow where the part is masked now", f.take_mask, "", f.no_mask),
        c("fur.anew", "Lay the fur anew", "Lays the fur evenly, downwards, for the clay as it is now", f.anew, "", f.no_fur),
        c("fur.strands", "Strands from fur", "Lays live strands along some of the fibres, and hides the fur", f.to_strands, "", f.no_fur),
        c("fur.remove", "Take the fur off", "Takes the fur off the part", f.remove, "", f.no_fur),
    ]  # fmt: skip
