"""The round trip in the window: sent out, watched, taken back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QFileSystemWatcher, QTimer
from PySide6.QtWidgets import QCheckBox, QLabel

from kneten.app.benches.revise.carry_card import worker_copy
from kneten.app.fields.fields import choice, labelled
from kneten.app.fields.quantities import count_text
from kneten.app.work import dialogs
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.arrays import Progress
from kneten.document.carried_parts import give
from kneten.document.layering import exchange_level
from kneten.document.opening import stack_of
from kneten.document.scene import Part, Scene
from kneten.document.settings import Sent
from kneten.document.things import SentForm, new_id
from kneten.formats.exchange import usual_space, write_file
from kneten.formats.round_trip import Back, level_mesh, level_piece, sent_form, stamp_of, taken_back

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

QUIET = 400
"""Milliseconds that a watched file has to stay as it is before it is read: it may still be being written."""

EVERY = 3000
"""Milliseconds between two looks at watched files that nothing was told of."""

LEVELS = {
    "lowest": ("Lowest level", "The coarsest level: quick to change elsewhere, all detail follows"),
    "hand": ("Level in hand", "The level that is seen now"),
}
OWN = {
    "": " What was done here since ({} vertices) stays.",
    "both": " What was done here since ({} vertices) stays, also where both have moved.",
    "theirs": " What was done here since ({} vertices) is given up; undo brings it back.",
}
"""What is said about own moves, by whose count."""

FORMATS = {
    ".obj": ("OBJ", "Quads stay quads; vertices keep their order"),
    ".glb": ("GLB", "Quads are cut into triangles; vertices keep their order"),
}


class RoundTrip:
    """Commands that send parts out and take them back."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._soon = QTimer(desk)
        self._soon.setSingleShot(True)
        self._soon.setInterval(QUIET)
        self._soon.timeout.connect(self._look)
        self._watcher = QFileSystemWatcher(desk)
        self._watcher.directoryChanged.connect(lambda _: self._soon.start())
        self._watcher.fileChanged.connect(lambda _: self._soon.start())
        # Folders of other machines tell nothing: they are looked at every now and then besides.
        self._again = QTimer(desk)
        self._again.setInterval(EVERY)
        self._again.timeout.connect(self._look)
        self._seen: dict[str, str] = {}
        self.watching = False
        self._studio.project_changed.connect(self._other_project)

    # -- what is out ------------------------------------------------------------------------------

    @property
    def sent(self) -> tuple[Sent, ...]:
        """What is out in files."""
        return self._studio.project.settings.sent

    def _note(self, sent: Sequence[Sent]) -> None:
        project = self._studio.project
        project.change_settings(sent=tuple(sent))
        self._watch()
        self._desk.fill_card("trip_card")

    def of(self, part: Part) -> Sent | None:
        """Where a part is out."""
        return next((one for one in self.sent if one.part == part.id), None)

    def none(self) -> str:
        """Why nothing can be sent."""
        return self._desk.levels.none()

    def not_out(self) -> str:
        """Why the part in hand cannot be taken back."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if self.of(part) is None:
            return f"{part.name} was not sent out: send it first."
        return self._studio.move_blocked(part)

    def none_out(self) -> str:
        """Why nothing can be watched."""
        return "" if self.sent or self.watching else "Nothing was sent out: send a part first."

    # -- out --------------------------------------------------------------------------------------

    def send(self) -> None:
        """Write the chosen parts to files of their own in a folder, a level of each."""
        parts = [p for p in self._studio.project.chosen if not self._studio.move_blocked(p)]
        folder = dialogs.ask_folder(self._desk, "Send to a folder", self._folder())
        if folder is not None and parts:
            card = self._desk.trip_card
            self.send_to(folder, parts, str(card.level.currentData()), str(card.kind.currentData()))

    def _folder(self) -> str:
        return str(Path(self.sent[-1].path).parent) if self.sent else ""

    def send_to(self, folder: Path, parts: Sequence[Part], which: str, ending: str) -> None:
        """Write parts to a folder."""
        studio = self._studio
        taken = {one.path for one in self.sent if one.part not in {part.id for part in parts}}
        jobs: list[tuple[Part, int, Path]] = []
        for part in parts:
            level = 0 if which == "lowest" else stack_of(part).level
            own = self.of(part)
            path = free_path(folder, part.name, ending, taken, own.path if own is not None else "")
            taken.add(str(path))
            jobs.append((worker_copy(part), level, path))

        def work(progress: Progress) -> tuple[list[Sent], list[SentForm]]:
            made, forms = [], []
            for part, level, path in jobs:
                mesh = level_mesh(part, level, progress)
                write_file(path, [level_piece(part, mesh, usual_space(path))], False, progress)
                made.append(Sent(part.id, part.name, level, str(path), stamp_of(path)))
                forms.append(sent_form(part, level, mesh))
            return made, forms

        def land(found: tuple[list[Sent], list[SentForm]]) -> None:
            made, forms = found
            self._remember("Send", forms)
            new = {one.part for one in made}
            self._note([*(one for one in self.sent if one.part not in new), *made])
            for one, (part, _, path) in zip(made, jobs, strict=True):
                clash = "" if path.stem == file_name(part.name) else ", a file of its name was there already"
                studio.say(f"Sent {part.name}, level {one.level}, to {path.name}{clash}.")

        studio.start("Send", work, land)

    # -- back -------------------------------------------------------------------------------------

    def take(self) -> None:
        """Take the part in hand back from its file."""
        part = self._studio.project.active
        assert part is not None
        one = self.of(part)
        assert one is not None
        self.take_file(Path(one.path))

    def _remember(self, name: str, forms: Sequence[SentForm]) -> None:
        """Keep how levels are in their files now."""
        scene = self._studio.project.scene
        ids = {form.part for form in forms}
        left = [form for form in scene.sent_forms if form.part not in ids]
        self._studio.project.note(name, replace(scene, sent_forms=(*left, *forms)))

    def take_file(self, path: Path, whose: str = "") -> None:
        """Take everything back that a file has: one step. `whose` moves count where both sides have some: "" asks."""
        studio, project = self._studio, self._studio.project
        sent = [one for one in self.sent if one.path == str(path)]
        ids = {one.part for one in sent}
        parts = [part for part in project.scene.parts if part.id in ids]
        for part in parts:
            if blocked := studio.move_blocked(part):
                studio.say(blocked, "warning")
                return
        copies = (worker_copy(part) if part.id in ids else part for part in project.scene.parts)
        scene = Scene(tuple(copies), sent_forms=project.scene.sent_forms)
        kept = project.scene.kept_masks
        stamp = stamp_of(path)

        def work(progress: Progress) -> tuple[list[Back], list[str]]:
            found, notices = taken_back(path, sent, scene, kept, progress, whose)
            if studio.journal is not None:
                for back in found:
                    made = back.carried.made if back.carried is not None else back
                    if made.mesh is not None:
                        studio.journal.stage(made.mesh, made.stack)
            return found, notices

        def land(found: tuple[list[Back], list[str]]) -> None:
            backs, notices = found
            self._note([replace(one, stamp=stamp) if one.path == str(path) else one for one in self.sent])
            for text in notices:
                studio.say(text)
            if not whose and any(back.both for back in backs):
                self._ask(path, backs)
                return
            self._land(path, backs, whose)

        studio.work_on(parts, f"Take back {path.name}", work, land)

    def _ask(self, path: Path, backs: Sequence[Back]) -> None:
        """What to do where clay was moved here and there; nothing is changed before it is said."""
        names = ", ".join(back.name for back in backs if back.both)
        count = count_text(sum(back.both for back in backs))
        self._studio.advised.emit(
            f"{path.name} was changed, and {names} was worked on here since: {count} vertices have moved both "
            "there and here. Which moves count? Mine leaves all as it is here; theirs is all as the file has it; both "
            "keeps mine and adds theirs where nothing was done here.",
            [
                ("Mine", lambda: self.take_file(path, "mine")),
                ("Theirs", lambda: self.take_file(path, "theirs")),
                ("Both", lambda: self.take_file(path, "both")),
            ],
        )

    def _land(self, path: Path, backs: Sequence[Back], whose: str) -> None:
        project, studio = self._studio.project, self._studio
        changed = [back for back in backs if back.carried is not None or not back.part or back.moved]
        name = f"Take back {path.name}"
        if whose == "mine":
            changed = [back for back in changed if back.carried is not None or not back.part]
        forms = [back.form for back in backs if back.form is not None]
        if not changed:
            self._remember(name, forms)
            mine = "what is here counts; nothing was changed" if whose == "mine" else "nothing has moved"
            studio.say(f"{path.name}: {mine}.")
            return
        bases: list[tuple[Part, Back]] = []
        with project.at_once(name):
            for back in changed:
                if back.part and back.carried is None:
                    assert back.stack is not None
                    assert back.mesh is not None
                    exchange_level(project, back.part, back.stack, back.mesh, name)
                    continue
                assert back.mesh is not None
                new = Part(project.scene.free_name(back.name), back.mesh, id=new_id(), mesh_id=new_id())
                if back.part:
                    old = project.scene.part(back.part)
                    new = replace(new, transform=old.transform, group=old.group, pivot=old.pivot)
                    project.show(old.id, False)
                    bases.append((new, back))
                project.change(name, project.scene.with_parts((*project.scene.parts, new)))
                if back.carried is not None:
                    masks = tuple(replace(mask, part=new.id) for mask in back.carried.kept_masks)
                    give(project, new.id, replace(back.carried, kept_masks=masks), name)
            if forms:
                self._remember(name, forms)
        moved = [back for back in changed if back.part and back.carried is None]
        for back in moved:
            studio.say(
                f"{back.name} is back: {count_text(back.moved)} vertices have moved, the detail followed."
                + OWN[whose].format(count_text(back.own)) * bool(back.own)
            )
        for new, back in bases:
            assert back.carried is not None
            project.choose(new.id)
            old = project.scene.part(back.part)
            self._desk.carry_card.name_source(old.id)
            self._desk.carrying.told(project.scene.part(new.id), old.name, back.carried)

    # -- watching ---------------------------------------------------------------------------------

    def watch(self) -> None:
        """Take back by itself whatever is changed in the folders that parts were sent to; again ends it."""
        self.watching = not self.watching
        self._watch()
        self._desk.fill_card("trip_card")
        if self.watching:
            self._again.start()
            folders = sorted({str(Path(one.path).parent) for one in self.sent})
            self._studio.say(f"Watching {', '.join(Path(one).name or one for one in folders)}.")
            self._soon.start()
        else:
            self._again.stop()

    def _other_project(self) -> None:
        self.watching = False
        self._again.stop()
        self._seen.clear()
        self._watch()
        self._desk.fill_card("trip_card")

    def _watch(self) -> None:
        # A file that another program replaces is another file: the folder tells of that, the file of the rest.
        held = [*self._watcher.directories(), *self._watcher.files()]
        if held:
            self._watcher.removePaths(held)
        if self.watching and self.sent:
            paths = {str(Path(one.path).parent) for one in self.sent} | {one.path for one in self.sent}
            there = sorted(path for path in paths if Path(path).exists())
            if there:
                self._watcher.addPaths(there)

    def _look(self) -> None:
        """Take back what has changed and is quiet now."""
        if not self.watching or self._studio.closed:
            return
        self._watch()
        for path in sorted({one.path for one in self.sent}):
            stamp = stamp_of(Path(path))
            known = {one.stamp for one in self.sent if one.path == path}
            if not stamp or stamp in known:
                continue
            busy = self._desk.view.at_work or any(
                one.part in self._studio.locked for one in self.sent if one.path == path
            )
            if self._seen.get(path) != stamp or busy:
                # Seen for the first time, or in the middle of a stroke: look again in a moment.
                self._seen[path] = stamp
                self._soon.start()
                continue
            self._seen.pop(path)
            # What cannot be read now is not tried again until the file is another one.
            again = (replace(one, stamp=stamp) if one.path == path else one for one in self.sent)
            self._studio.project.try_settings(sent=tuple(again))
            self.take_file(Path(path))


def file_name(name: str) -> str:
    """A part's name as a file may be called."""
    return "".join(c if c.isalnum() or c in " -_.,()" else "-" for c in name).strip(" .") or "part"


def free_path(folder: Path, name: str, ending: str, taken: set[str], own: str) -> Path:
    """Where a part goes: its own file again, or one that is neither there nor another part's."""
    stem, number = file_name(name), 2
    path = folder / f"{stem}{ending}"
    while str(path) != own and (path.exists() or str(path) in taken):
        path = folder / f"{stem} {number}{ending}"
        number += 1
    return path


class TripCard(Card):
    """What is out, and how it goes there and back."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Round trip", desk.studio)
        self._desk = desk
        self.level = choice("Level to send", "Which level goes out", LEVELS)
        self.column.addWidget(labelled("Send", self.level))
        self.kind = choice("Format to send", "The format of the file", FORMATS)
        self.column.addWidget(labelled("As", self.kind))
        self.state = QLabel()
        self.state.setObjectName("quiet")
        self.column.addWidget(self.state)
        grid, _ = command_grid(desk.registry, (("trip.send", "Send…"), ("trip.take", "Take back")), columns=2)
        self.column.addLayout(grid)
        self.watch = QCheckBox("Take back by itself")
        command = desk.registry.commands["trip.watch"]
        self.watch.setAccessibleName(command.name)
        self.watch.setToolTip(desk.registry.tip(command))
        self.watch.clicked.connect(lambda _: (desk.registry.run("trip.watch"), self.fill()))
        self.column.addWidget(self.watch)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)

    def fill(self) -> None:
        """Show where the part in hand is out."""
        trip, part = self._desk.trip, self._studio.project.active
        one = trip.of(part) if part is not None else None
        self.watch.setChecked(trip.watching)
        if one is None:
            self.state.setText("Not sent out.")
            return
        name = Path(one.path).name
        short = name if len(name) < 26 else f"{name[:14]}…{name[-10:]}"
        self.state.setText(f"Level {one.level} is out as {short}")
        self.state.setToolTip(one.path)
