"""The commands of gathering, with their words and shortcuts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, Needs, making, needing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Fill the registry."""
    desk.registry.add(*_measures(desk))
    desk.registry.add(*needing(Needs.NOTHING, _board(desk)))


def _measures(w: Desk) -> list[Command]:
    b = w.measures
    c = making("Measure")
    parts = [
        c(f"measure.divide-{k}", f"Divide into {words}", f"Marks the newest tape at {words}", lambda k=k: b.divide(k), "", b.no_tape)
        for k, words in ((2, "halves"), (3, "thirds"), (4, "quarters"), (5, "fifths"))
    ]  # fmt: skip
    return [
        c("measure.brief", "Character brief…", "Who the character is, why, and made of what", b.brief),
        c("measure.skull", "Skull", "Lays a human skull of the same height over the chosen parts, locked", b.skull),
        c("measure.skeleton", "Skeleton", "Lays a skeleton over the part in hand, locked: fitted to the armature it was made from, else of its height", b.skeleton),
        c("measure.mannequin", "Mannequin", "Lays a neutral body of the same height over the chosen parts, locked", b.mannequin),
        c("measure.landmark", "Set landmarks", "Names places of the clay that stay on it", b.mark, "Shift+L"),
        c("measure.tape", "Tape measure", "Measures between two places, through space or over the surface", b.tape, "Shift+R"),
        c("measure.ruler", "Head-unit ruler", "Shows a ruler of head units beside the chosen parts, or hides it", w.proportion.switch_ruler, "Shift+U"),
        *parts,
        c("measure.golden", "Divide by the golden ratio", "Marks the newest tape at 0.618", lambda: b.divide_at((0.6180339887,)), "", b.no_tape),
        c("measure.marks", "Divisions onto the clay", "Makes landmarks of the newest tape's divisions", b.marks_on_clay, "", b.no_tape),
        c("measure.clear", "Clear tapes", "Takes all tapes away", b.clear_tapes, "", b.no_tape),
    ]  # fmt: skip


def _board(w: Desk) -> list[Command]:
    r = w.references
    c = making("References")
    return [
        c("board.show", "Reference board", "Shows the board of pictures, or hides it", r.switch_board, "B"),
        c("board.add", "Add pictures…", "Puts pictures on the reference board", r.ask, "Ctrl+Shift+B"),
        c("board.paste", "Paste a picture", "Puts the picture of the clipboard on the board", r.paste, "Ctrl+V", r.nothing_to_paste),
        c("board.arrange", "Arrange the board", "Lays the pictures out in rows", r.arrange, "", r.empty),
        c("board.beside", "Board beside the view", "Puts the board between view and cards", lambda: r.set_place("beside")),
        c("board.over", "Board over the view", "Lays the board over a corner of the view", lambda: r.set_place("over")),
        c("board.window", "Board in a window", "Gives the board a window of its own", lambda: r.set_place("window")),
        c("board.planes", "Pictures in space", "Shows or hides all reference planes", r.switch_planes, "", r.no_planes),
        c("board.place-plane", "Place pictures in space", "Drags reference planes: move, Shift turns, Ctrl sets the depth, both size", r.place_planes, "", r.no_shown_planes),
        c("board.align-plane", "Align a picture to the clay", "Brings two places of a reference plane onto two places of the clay", r.align_plane, "", r.no_shown_planes),
        c("board.blink", "Blink the view's picture", "Shows and hides the picture bound to the view, in turn", r.blink, "", r.no_bound),
    ]  # fmt: skip
