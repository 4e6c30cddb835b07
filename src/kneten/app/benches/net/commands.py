"""The commands of clean topology."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.net.net_mode import NetMode, StripMode
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
    n = w.modelling
    w.registry.add(
        c("net.model", "Model", "Chooses vertices, edges and faces of the part in hand by presses, and moves them: for parts with few faces", lambda: w.view.take_mode(NetMode(w.view, n)), "", n.none),
        c("net.smooth", "Smooth preview", "Shows the part in hand as smooth as its faces stand for, its own edges over it, while it is modelled; the same again shows it as it is", w.smooth_view.switch, "", w.smooth_view.blocked),
        c("net.strip", "Draw strips", "Draws strips of quads on the clay, and rings round limbs: a net, laid on it", lambda: w.view.take_mode(StripMode(w.view, n)), "", n.no_clay),
        c("net.finish", "Net becomes a base", "Lets the net in hand be a base with levels that have the form, layers and paint of the clay it lies on", n.finish, "", n.not_finished),
        c("net.extrude", "Extrude faces", "Moves the chosen faces out by the distance of the card Net, with walls behind them", n.extrude, "", n.nothing),
        c("net.inset", "Inset faces", "Draws the chosen faces in by the share of the card Net, with a rim around them", n.inset, "", n.nothing),
        c("net.bevel", "Bevel edges", "Lets bands as wide as the card Net says take the place of the chosen edges", n.bevel, "", n.nothing),
        c("net.loop", "Cut a loop", "Cuts a loop across the row of quads that the chosen edge lies across, by the share of the card Net", n.cut_loop, "", n.nothing),
        c("net.crease", "Crease edges", "Lets the chosen edges stay sharp when the part is subdivided, as often as the card Net says; 0 takes it off them", n.crease, "", n.nothing),
        c("net.choose-creases", "Choose creases", "Chooses all edges that stay sharp when the part is subdivided", n.choose_creases, "", n.no_crease),
        c("net.bridge", "Bridge", "Joins two groups of chosen faces, or two chosen rims, by a tube", n.bridge, "", n.nothing),
        c("net.fill", "Fill rims", "Closes the chosen open rims with grids of quads, their corners where the rim turns, on the clay where the card Net says so", n.fill, "", n.nothing),
        c("net.face", "Face between vertices", "Makes a face between three or four chosen vertices", n.face, "", n.nothing),
        c("net.grow", "Grow a row", "Grows the chosen open rims outwards by a row of quads", n.grow, "", n.nothing),
        c("net.weld", "Weld vertices", "Makes chosen vertices one that are nearer to each other than the distance of the card Net", n.weld, "", n.nothing),
        c("net.collapse", "Collapse vertices", "Makes all chosen vertices one, in their middle", n.collapse, "", n.nothing),
        c("net.dissolve", "Dissolve edges", "Takes the chosen edges away: the faces on both sides become one", n.dissolve, "", n.nothing),
        c("net.split", "Split quads", "Cuts the chosen quads along their shorter diagonals", n.split, "", n.nothing),
        c("net.spin", "Spin an edge", "Turns the chosen edge within the two faces beside it", n.spin, "", n.nothing),
        c("net.slide", "Slide edges", "Moves the chosen edges along the edges beside them by the share of the card Net", n.slide, "", n.nothing),
        c("net.flip", "Flip faces", "Turns the chosen faces inside out", n.flip, "", n.nothing),
        c("net.relax", "Relax the net", "Draws the chosen vertices, or all, to the middles of their neighbours", n.relax, "", n.none),
        c("net.snap", "Lay on the clay", "Puts the chosen vertices, or all, onto the other parts that are seen", n.snap, "", n.none),
        c("net.delete", "Delete faces", "Takes the chosen faces away", n.delete, "", n.nothing),
        c("net.choose-all", "Choose all of the net", "Chooses all vertices, edges or faces; the same again none", n.choose_all, "", n.none),
        c("net.choose-loop", "Choose loops", "Chooses the loops of the chosen edges", n.choose_loop, "", n.nothing),
        c("net.choose-ring", "Choose rings", "Chooses the edges that lie across the same rows as the chosen ones", n.choose_ring, "", n.nothing),
        c("net.choose-more", "Choose more", "Chooses what lies beside what is chosen as well", n.choose_more, "", n.nothing),
    )  # fmt: skip
    m = w.mapping
    w.registry.add(
        c("maps.bake", "Bake maps", "Bakes the maps that the card Maps names for the part in hand, from its finest level or other parts", m.bake, "", m.no_uv),
        c("maps.show", "Show maps", "Shows the part in hand by its maps; the same again shows the clay", m.show, "", m.none_kept),
        c("maps.compare", "Wipe maps and fine clay", "Shows the part in hand by its maps beside the fine clay, with an edge to drag; the same again ends it", m.compare, "", m.none_kept),
        c("maps.cage", "Cage", "Draws where rays of a bake begin, outside of the part in hand, as the card Maps and the mask say; again no longer", m.switch_cage, "", m.no_cage),
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
