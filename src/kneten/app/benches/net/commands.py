"""The commands of clean topology."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.net.seam_mode import SeamMode
from kneten.app.work.commands import Needs, making, needing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    r, u = w.retopologising, w.unwrapping
    c = making("Net")
    w.registry.add(
        c("net.retopologise", "Retopologise", "Makes clean quads of the part in hand that follow its form and its lines, as the card Quads says", r.run, "", r.none),
        c("net.flow", "Quad flow", "Shows on the clay where the quads would point and how large they would be; the same again ends it", r.flow, "", r.none),
        c("net.poles", "Poles", "Marks the poles of the part in hand, vertices at which other than four edges meet, and counts them and faces that are no quads; the same again ends it", r.switch_poles, "", r.too_dense),
        c("uv.seams", "Cut seams", "Cuts the clay along its edges, where it is to be laid flat: press an edge, Shift the shortest way, a double click a loop", lambda: w.view.take_mode(SeamMode(w.view)), "", u.none),
        c("uv.borders", "Seams at region borders", "Makes seams of all edges between two regions", u.add_borders, "", u.no_regions),
        c("uv.sharp", "Seams at sharp edges", "Makes seams of all edges that turn as far as the card UVs says", u.add_sharp, "", u.none),
        c("uv.no-seams", "No seams", "Takes all seams of the part in hand away; UVs stay as they are", u.clear_seams, "", u.no_seams),
        c("uv.unwrap", "Unwrap along seams", "Lays the part in hand flat along its seams, as true to lengths as it can, and packs the islands", u.unwrap, "", u.none),
        c("uv.unwrap-found", "Unwrap by itself", "Looks for seams in hollows and hidden places until no more is stretched than the card UVs allows, and lays the part flat", u.unwrap_found, "", u.none),
        c("uv.pack", "Pack islands", "Lays the islands side by side as full as they fit, as large beside each other as they are", u.pack, "", u.no_uv),
        c("uv.drop", "No UVs", "Takes the UVs of the part in hand away; its seams stay", u.drop, "", u.no_uv),
        c("uv.turn", "Turn islands", "Turns each chosen island by the angle of the card UVs", u.turn, "", u.no_island),
        c("uv.size", "Size islands", "Makes each chosen island larger or smaller by the share of the card UVs", u.size, "", u.no_island),
        c("uv.mirror", "Mirror islands", "Turns each chosen island over, left to right", u.mirror, "", u.no_island),
        c("uv.square-up", "Align islands", "Turns each chosen island so that its box is smallest, the longer side up", u.square_up, "", u.no_island),
        c("uv.stand", "Stand islands up", "Turns each chosen island so that what is up on the clay is up on the picture", u.stand, "", u.no_island),
        c("uv.straighten", "Straighten islands", "Lays each chosen island as a rectangle: bands, straps and tubes become straight", u.straighten, "", u.no_island),
        c("uv.even", "Even sizes of islands", "Makes all islands as large as their clay is, beside each other", u.even, "", u.no_uv),
        c("uv.next-tile", "Islands to the next tile", "Moves the chosen islands to the tile at the right", u.next_tile, "", u.no_island),
        c("uv.all", "Choose all islands", "Chooses all islands; the same again none", u.choose_all, "", u.no_uv),
    )  # fmt: skip
    w.registry.add(*needing(Needs.NOTHING, [
        c("uv.pane", "UV pane", "Shows the UVs beside the clay, or hides them", lambda: w.uv_pane.switch()),
    ]))  # fmt: skip
    m = w.mapping
    w.registry.add(
        c("maps.bake", "Bake maps", "Bakes the maps that the card Maps names for the part in hand, from its finest level or other parts", m.bake, "", m.no_uv),
        c("maps.show", "Show maps", "Shows the part in hand by its maps; the same again shows the clay", m.show, "", m.none_kept),
        c("maps.compare", "Wipe maps and fine clay", "Shows the part in hand by its maps beside the fine clay, with an edge to drag; the same again ends it", m.compare, "", m.none_kept),
        c("maps.missed", "Misses", "Marks the faces of the part in hand for which rays have met nothing; the same again ends it", m.show_missed, "", m.no_uv),
        c("maps.write", "Write maps…", "Writes what was baked last to a folder, with all its depth and a page of numbers", m.write, "", m.nothing_made),
        c("maps.paint", "Paint on pictures", "Makes a skin of the part in hand with a vertex for each texel, of the size that the card Maps says: all that paints clay paints the picture", m.paint_on, "", m.no_skin_wanted),
        c("maps.take", "Paint into maps", "Lets what was painted on the skin be the maps of the part it lies on", m.take_paint, "", m.no_skin),
        c("maps.none", "No maps", "Takes the maps of the part in hand out of the project", m.forget, "", m.none_kept),
    )  # fmt: skip
    for what, name, does in (
        ("checker", "Checker", "Shows the part in hand with squares by its UVs; the same again ends it"),
        ("stretch", "UV stretch", "Colours the part in hand by how far its UVs make it larger, smaller or skewed; the same again ends it"),
        ("overlap", "UV overlaps", "Marks the faces of the part in hand that lie over others or turned over; the same again ends it"),
        ("density", "Texels a millimetre", "Colours the part in hand by how many texels its faces get; the same again ends it"),
    ):  # fmt: skip
        w.registry.add(c(f"uv.{what}", name, does, partial(u.show, what), "", u.no_uv))
