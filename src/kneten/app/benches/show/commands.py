"""Commands of light."""

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
    for command in needing(Needs.REST, (*_lamps(w), *_sets(w))):
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
        c("light.keep", "Keep the light set", "Keeps lamps and surroundings under a name, with the project", k.keep),
        c("light.forget", "Take the light set away", "Takes the light set of your own that was last chosen out of the project", k.forget, "", k.no_own_set),
    ]  # fmt: skip
