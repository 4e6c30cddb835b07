"""The commands of forming, with their words and shortcuts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Add them to the window's registry."""
    for group in (_masks, _regions, _symmetry, _guides):
        desk.registry.add(*group(desk))


def _masks(w: Desk) -> list[Command]:
    f = w.form
    c = making("Mask")
    return [
        *w.block.outline_commands(c, "mask", {"lasso": "Shift+Q"}, f.none),
        c("mask.gradient", "Mask with gradient", "Drag over the clay: masked where the drag begins, free where it ends, along the surface", lambda: w.form.gradient(), "Alt+Q", f.none),
        c("mask.clear", "Unmask", "Takes the mask away", f.clear, "Ctrl+Alt+Q", f.no_mask),
        c("mask.invert", "Invert the mask", "Masks what is free, frees what is masked", f.invert, "Ctrl+Shift+I", f.none),
        c("mask.blur", "Blur the mask", "Softens the mask's edge", f.blur, "", f.no_mask),
        c("mask.sharpen", "Sharpen the mask", "Draws the mask's edge together", f.sharpen, "", f.no_mask),
        c("mask.grow", "Grow the mask", "Widens the mask by two rings of vertices", lambda: f.grow(2), "", f.no_mask),
        c("mask.shrink", "Shrink the mask", "Narrows the mask by two rings of vertices", lambda: f.grow(-2), "", f.no_mask),
        c("mask.keep", "Keep the mask…", "Keeps the mask under a name, to recall and combine it later", f.keep, "", f.no_mask),
        c("mask.peel", "Peel", "Adds a shell of the masked clay as a part of its own, as the peel card says", lambda: w.peel_card.peel(), "Ctrl+Shift+P", f.no_mask),
        c("mask.hide", "Hide what is masked", "Hides the masked clay: it cannot be seen or touched until it is shown again", f.hide_masked, "", f.no_mask),
        c("mask.take-out", "Split off what is masked", "Makes a part of its own of the masked clay; both sides are closed", f.take_masked_out, "", f.no_mask),
    ]  # fmt: skip


def _regions(w: Desk) -> list[Command]:
    f = w.form
    c = making("Regions")
    return [
        *w.block.outline_commands(c, "region", {"lasso": "Ctrl+Alt+R"}, f.none),
        *w.block.outline_commands(c, "hide", {"lasso": "Shift+H"}, f.none),
        c("region.look", "Look at regions", "Shows each region in a glaze of its own, or the clay again", f.show_regions, "Alt+G"),
        c("region.from-mask", "Region from mask", "Makes what is masked a region", f.region_from_mask, "", f.no_mask),
        c("region.by-angle", "Regions by angle…", "Divides the part where its faces meet sharply", f.by_angle, "", f.none),
        c("region.by-connection", "Regions by connection", "Makes each piece that hangs together a region", f.by_connection, "", f.none),
        c("region.by-origin", "Regions by origin", "Makes a region of each part that this one was joined from", f.by_origin, "", f.no_origin),
        c("region.mask", "Mask the region", "Masks the chosen region beside what is masked already", f.mask_from_region, "", f.no_region),
        c("region.hide", "Hide the region", "Hides the chosen region: it cannot be seen or touched", f.hide_region, "", f.no_region),
        c("region.isolate", "Only the region", "Hides all of the part but the chosen region", f.isolate_region, "", f.no_region),
        c("region.show-all", "Show all of the part", "Shows what was hidden of the part", f.show_all, "Ctrl+Shift+H", f.none_hidden),
        c("region.swap", "Exchange hidden and shown", "Shows what is hidden of the part and hides the rest", f.swap_hidden, "", f.none_hidden),
        c("region.grow", "Grow the region", "Widens the chosen region by one ring of faces", lambda: f.grow_region(1), "", f.no_region),
        c("region.shrink", "Shrink the region", "Narrows the chosen region by one ring of faces", lambda: f.grow_region(-1), "", f.no_region),
        c("region.rename", "Rename the region…", "Gives the chosen region another name", f.rename_region, "", f.no_region),
        c("region.take-out", "Take the region out", "Moves the chosen region into a part of its own; both sides are closed", lambda: f.take_region_out(False), "", f.no_region),
        c("region.copy-out", "Copy the region out", "Copies the chosen region into an open part of its own", lambda: f.take_region_out(True), "", f.no_region),
        c("region.forget", "Take the region away", "Its faces belong to no region any more; the clay stays", f.forget_region, "", f.no_region),
    ]  # fmt: skip


def _symmetry(w: Desk) -> list[Command]:
    f, y = w.form, w.symmetry_work
    c = making("Symmetry")
    return [
        c("look.thickness", "Thickness", "Colours the part in hand by how thick it is, thin places warm; again ends it", f.show_thickness, "", f.none),
        c("symmetry.check", "Check symmetry", "Measures how far the part is from symmetric across the planes that are on, and all round, and shows where", y.check, "Alt+A", f.none),
        c("symmetry.right", "Resymmetrise, + to −", "Makes the side of smaller numbers the mirror image of the other; all round, the first sector is repeated. What is masked stays", lambda: y.resymmetrise(1), "", f.none),
        c("symmetry.left", "Resymmetrise, − to +", "Makes the side of greater numbers the mirror image of the other; all round, the last sector is repeated. What is masked stays", lambda: y.resymmetrise(-1), "", f.none),
        c("symmetry.mean", "Resymmetrise, mean of both", "Brings both sides, or all sectors, to their mean; what is masked stays", lambda: y.resymmetrise(0), "", f.none),
        c("symmetry.cut-right", "New mesh from the + side", "Cuts the part at its middle and mirrors the side of greater numbers, merged at the seam, across the planes that are on", lambda: y.remake(1), "", y.no_plane),
        c("symmetry.cut-left", "New mesh from the − side", "Cuts the part at its middle and mirrors the side of smaller numbers, merged at the seam, across the planes that are on", lambda: y.remake(-1), "", y.no_plane),
    ]  # fmt: skip


def _guides(w: Desk) -> list[Command]:
    g = w.guides
    c = making("Guides")
    return [
        c("form.deform", "Deform by handles", "Drags the deformer of the Deform card in the view: range, amount, lattice", w.form.deform, "Shift+W", w.form.none),
        c("guide.draw", "Guide pen", "Draws lines on the clay that are neither form nor paint, to plan by; Shift erases", w.form.guide, "J", w.form.none),
        c("guide.show", "Show guides", "Shows or hides all guides", g.show, "Shift+J"),
        c("guide.close", "Close guides round the clay", "Leads each open guide on round the other side of the clay, back to where it began: a ring round a limb", g.close, "", g.none_open),
        c("guide.mask", "Mask inside guides", "Masks what lies inside closed guides, beside what is masked already", g.mask, "", g.none_closed),
        c("guide.region", "Region inside guides", "Makes what lies inside closed guides a region", g.region, "", g.none_closed),
        c("guide.cut", "Cut along guides", "Makes a part of what lies inside closed guides; both sides are closed", g.cut, "", g.none_closed),
        c("guide.peel", "Peel inside guides", "Makes a shell of what lies inside closed guides, as the peel card says", g.peel, "", g.none_closed),
        c("guide.strand", "Strand along guides", "Lays a live strand along each guide of the part in hand", g.strand, "", g.none),
        c("guide.landmarks", "Landmarks on guides", "Sets landmarks at the ends of open guides and in quarters of closed ones, named by their notes", g.landmarks, "", g.none),
        c("guide.clear", "Erase all guides", "Takes all guides of the part in hand away", g.clear, "", g.none),
    ]  # fmt: skip
