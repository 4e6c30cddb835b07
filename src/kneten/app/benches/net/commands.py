"""The commands of clean topology."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    r = w.retopologising
    c = making("Net")
    w.registry.add(
        c("net.retopologise", "Retopologise", "Makes clean quads of the part in hand that follow its form and its lines, as the card Quads says", r.run, "", r.none),
        c("net.flow", "Quad flow", "Shows on the clay where the quads would point and how large they would be; the same again ends it", r.flow, "", r.none),
        c("net.poles", "Poles", "Marks the poles of the part in hand, vertices at which other than four edges meet, and counts them and faces that are no quads; the same again ends it", r.switch_poles, "", r.too_dense),
    )  # fmt: skip
