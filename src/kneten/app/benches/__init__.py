"""The benches: one folder for each domain. A new domain is a new folder and a line here."""

from types import ModuleType

from kneten.app.benches import (
    block,
    colour,
    deliver,
    density,
    form,
    gather,
    look,
    net,
    perform,
    revise,
    show,
    surface,
)

BENCHES: tuple[ModuleType, ...] = (
    look,
    gather,
    block,
    form,
    density,
    surface,
    colour,
    net,
    perform,
    show,
    revise,
    deliver,
)
"""Each has `install(desk)`, which offers what it does and its commands, and `furnish(desk)`, which puts up its cards."""
