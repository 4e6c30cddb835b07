"""Camera, panes, looks, saved views."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.look import commands
from kneten.app.benches.look.view_card import ViewCard
from kneten.app.benches.look.views import Views

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("views", Views(desk))
    desk.studio.pressed.connect(desk.views.stop)
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.add_card("View", "view_card", partial(ViewCard, desk.studio, desk.registry, desk.view))
