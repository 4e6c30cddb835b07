"""The commands of delivering."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.benches.deliver.drain_mode import DrainMode
from kneten.app.work.commands import Needs, making, needing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    p, g, e = w.printing, w.gaming, w.exports
    c = making("Deliver")
    w.registry.add(
        c("deliver.export", "Write as…", "Writes a file of the kind, unit and axes that the card Files says", e.export, "", e.none),
        c("deliver.keep", "Keep export settings…", "Keeps what the card Files says under a name of your own", e.keep),
        c("deliver.forget", "Forget export settings", "Takes the chosen settings of your own out of the list", e.forget, "", e.none_own),
        c("print.check", "Check print", "Looks through all visible parts: closed, crossing, walls, overhangs, standing, weight and price", p.check, "", p.none),
        c("print.thin", "Show walls", "Colours the part in hand by how thick its walls are; again ends it", p.show_walls, "", p.no_hand),
        c("print.overhang", "Show overhangs", "Colours the part in hand where it hangs over and needs supports; again ends it", p.show_overhangs, "", p.no_hand),
        c("print.body", "One body", "Makes one closed body of all visible parts, exactly where they are sound, by volume where not", p.one_body, "", p.none),
        c("print.thicken", "Thicken", "Moves walls of the part in hand apart where they are thinner than the card Print says, and nowhere else", p.thicken, "", p.no_hand),
        c("print.hollow", "Hollow out", "Makes the part in hand hollow, with walls as thick as the card Print parts says", p.hollow, "", p.no_solid),
        c("print.drain", "Drains", "A press on a hollow part drills a hole into it, and puts the plug beside", lambda: w.view.take_mode(DrainMode(w.view, p)), "", p.no_solid),
        c("print.drain-lowest", "Drains at the lowest places", "Drills a hole under each hollow of the part in hand, and puts the plugs beside", p.drain_lowest, "", p.no_solid),
        c("print.cut", "Cut apart", "Cuts the part in hand in two by the plane that the card Print parts says, with pegs on one half and holes in the other", p.cut, "", p.no_solid),
        c("print.base", "Base", "Puts a base under all visible parts, with what the card Print parts says written on it", p.base, "", p.none),
        c("print.set", "Print set…", "Checks all visible parts, and writes 3MF, STL and a page about them to a folder", p.write_set, "", p.none),
        c("game.set", "Game set…", "Writes levels of detail, maps, skeleton, shapes, clips and variants, and a page about them, to a folder", g.write_set, "", g.none),
        c("game.level", "Level of detail as parts", "Puts the chosen level of detail into the scene as parts of their own; the visible ones are hidden", g.level_as_parts, "", g.none),
    )  # fmt: skip
    w.registry.add(*needing(Needs.NOTHING, [
        c("print.layer-up", "Layer above", "Shows the next layer of the print on the card Print", p.layer_up, "", p.no_layers),
        c("print.layer-down", "Layer below", "Shows the layer beneath on the card Print", p.layer_down, "", p.no_layers),
    ]))  # fmt: skip
