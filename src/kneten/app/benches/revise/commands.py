"""The commands of revising, with their words and shortcuts."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, Needs, making, needing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Fill the registry."""
    looking = Needs.KERNELS | Needs.REST | Needs.SETTLED
    desk.registry.add(*needing(looking, _comparing(desk)))
    for group in (_milestones, _carry, _trip):
        desk.registry.add(*group(desk))


def _comparing(w: Desk) -> list[Command]:
    m = w.milestones

    def about(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = m.none,
    ) -> Command:
        return Command(f"milestone.{key}", name, does, "Milestones", run, keys, blocked)

    return [
        about(
            "wipe",
            "Compare by wipe",
            "Lays the milestone over now; drag the edge",
            lambda: m.compare("wipe"),
            "F8",
        ),
        about(
            "blink",
            "Compare by blinking",
            "Shows milestone and now in turn",
            lambda: m.compare("blink"),
            "Shift+F8",
        ),
        about(
            "side",
            "Compare side by side",
            "Shows milestone and now beside each other",
            lambda: m.compare("side"),
            "Ctrl+F8",
        ),
        about(
            "distance",
            "Compare by distance",
            "Colours the clay by how far it has come since",
            m.distance,
            "Alt+F8",
        ),
        about(
            "variants",
            "Picture of the variants…",
            "Writes all milestones and now, in this view, side by side as one picture and each as its own",
            m.variants,
        ),
    ]


def _milestones(w: Desk) -> list[Command]:
    m = w.milestones

    def about(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = m.none,
    ) -> Command:
        return Command(f"milestone.{key}", name, does, "Milestones", run, keys, blocked)

    return [
        about(
            "go-back",
            "Go back to it",
            "Makes everything what it was; undo brings now back",
            m.go_back,
            "",
            m.not_all_free,
        ),
        about(
            "take-part",
            "Take back the part in hand",
            "Makes only this part what it was",
            m.take_part,
            "",
            m.no_part,
        ),
        about(
            "take-masked",
            "Take back what the mask covers",
            "Makes only masked clay what it was",
            m.take_masked,
            "",
            m.no_mask,
        ),
        about("rename", "Rename milestone…", "Gives the milestone another name", m.rename),
        about("note", "Note on milestone…", "Keeps a note with the milestone", m.note),
        about("delete", "Delete milestone", "Takes the milestone out of the project", m.delete),
    ]


def _carry(w: Desk) -> list[Command]:
    v = w.carrying
    c = making("Carry over")
    return [
        c("carry.run", "Carry over", "Lays form, layers, colour and regions of the part in the card onto the mesh of the one in hand", v.run, "Ctrl+Alt+O", v.none),
        c("carry.deviation", "Deviation from the source", "Colours the part in hand by how far it is from the one it was carried over from; again ends it", v.deviate, "", v.none),
        c("carry.gap", "Next place without a match", "Brings the next masked place, where nothing was found to carry over, into the picture", v.gap, "", v.no_gap),
    ]  # fmt: skip


def _trip(w: Desk) -> list[Command]:
    v = w.trip
    c = making("Round trip")
    return [
        c("trip.send", "Send out…", "Writes a level of the chosen parts to files in a folder, to be changed elsewhere", v.send, "Ctrl+Alt+U", v.none),
        c("trip.take", "Take back", "Reads the part in hand back from its file: moved vertices keep all detail, other faces get it carried over", v.take, "Ctrl+Alt+B", v.not_out),
        c("trip.watch", "Take back by itself", "Watches the folders that parts were sent to, and takes back what is changed there; again ends it", v.watch, "", v.none_out),
    ]  # fmt: skip
