"""The user's own tools: a tool and how it is held, under a name; on the rack, and as files to share."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QInputDialog

from kneten.app.shell.stages import DRAWINGS
from kneten.app.work import dialogs
from kneten.app.work.commands import Command
from kneten.app.work.preferences import OwnTool, save_preferences, settings_from
from kneten.core.brushes.tool import Tool
from kneten.core.brushes.toolbox import TOOLS

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

ENDING = ".kneten-tool"
FORMAT = "kneten-tool"
OWN = "own:"
"""What the keys of own tools begin with."""


class OwnToolError(ValueError):
    """A file holds no tool; the message says why."""


def written(name: str, own: OwnTool) -> str:
    """An own tool as the text of a file."""
    words = {"format": FORMAT, "version": 1, "name": name, "tool": own.tool, "settings": asdict(own.settings)}
    return json.dumps(words, indent=1)


def read(text: str, file: str) -> tuple[str, OwnTool]:
    """Name and tool from the text of a file. Raises `OwnToolError`."""
    try:
        words: dict[str, Any] = json.loads(text)
        if words.get("format") != FORMAT:
            raise ValueError
        key = str(words["tool"])
        if key not in TOOLS:
            raise OwnToolError(
                f"{file} is for a tool called {key}, which this Kneten does not have. Update Kneten."
            )
        name = " ".join(str(words["name"]).split())[:40]
        if not name:
            raise ValueError
        return name, OwnTool(key, settings_from(TOOLS[key].defaults, words["settings"]))
    except OwnToolError:
        raise
    except (ValueError, TypeError, KeyError, AttributeError, IndexError):
        raise OwnToolError(f"{file} holds no Kneten tool; nothing was loaded.") from None


class OwnTools:
    """Keeps, loads, shares and forgets own tools."""

    def __init__(self, window: Frame) -> None:
        self._window = window
        self._studio = window.studio

    @property
    def _known(self) -> dict[str, OwnTool]:
        return self._studio.preferences.own_tools

    def register(self) -> None:
        """Add a command for each own tool."""
        for name in self._known:
            self._add_command(name)

    def _add_command(self, name: str) -> None:
        key = f"tool.{OWN}{name}"
        own = self._known[name]
        DRAWINGS[key] = own.tool
        if key not in self._window.registry.commands:
            does = f"{TOOLS[own.tool].does}, held as {name}"
            self._window.registry.add(
                Command(key, name, does, "Own tools", lambda: self._window.choose_tool(f"{OWN}{name}"))
            )

    def tool(self, key: str) -> Tool:
        """The tool of a key that begins with `OWN`. Raises `KeyError`."""
        name = key.removeprefix(OWN)
        own = self._known[name]
        return replace(TOOLS[own.tool], key=key, name=name, defaults=own.settings)

    def not_own(self) -> str:
        """Why the tool in hand cannot be forgotten or saved."""
        return "" if self._studio.tool.key.startswith(OWN) else "The tool in hand is none of your own."

    def keep(self) -> None:
        """Keep the tool in hand, as it is held, under a name, on the stage's rack."""
        tool = self._studio.tool
        base = tool.key if tool.key in TOOLS else self._known[tool.key.removeprefix(OWN)].tool
        wanted, fine = QInputDialog.getText(
            self._window, "Keep as own tool", "Its name:", text=f"My {tool.name}"
        )
        name = " ".join(wanted.split())[:40]
        if fine and name:
            self._take(name, OwnTool(base, self._studio.settings()))

    def _take(self, name: str, own: OwnTool) -> None:
        fresh = name not in self._known
        self._known[name] = own
        self._studio.preferences.tools.pop(f"{OWN}{name}", None)
        self._add_command(name)
        save_preferences(self._studio.preferences)
        if fresh:
            self._window.put_on_rack(f"tool.{OWN}{name}")
        self._window.choose_tool(f"{OWN}{name}")
        self._studio.say(f"{name} is on the rack of {self._studio.stage}, and in the finder.")

    def forget(self) -> None:
        """Take the own tool in hand away; the tool it was made from is in hand then."""
        name = self._studio.tool.key.removeprefix(OWN)
        own = self._known.pop(name)
        self._window.choose_tool(own.tool)
        key = f"tool.{OWN}{name}"
        for keys in self._studio.preferences.racks.values():
            if key in keys:
                keys.remove(key)
        self._window.registry.remove(key)
        DRAWINGS.pop(key, None)
        save_preferences(self._studio.preferences)
        self._window.dress(self._window.theme)
        self._studio.advised.emit(f"{name} is gone.", [("Bring it back", lambda: self._take(name, own))])

    def save(self) -> None:
        """Write the own tool in hand to a file."""
        name = self._studio.tool.key.removeprefix(OWN)
        path = dialogs.ask_save(self._window, "Save own tool", f"{name}{ENDING}", f"Kneten tool (*{ENDING})")
        if path is not None:
            self.save_to(path)

    def save_to(self, path: Path) -> None:
        """Write the own tool in hand to this file."""
        name = self._studio.tool.key.removeprefix(OWN)
        own = replace(self._known[name], settings=self._studio.settings())
        try:
            part = path.with_name(path.name + ".part")
            part.write_text(written(name, own))
            part.replace(path)
        except OSError as error:
            self._studio.say(f"{path.name} could not be written: {error.strerror}.", "error")
            return
        self._studio.say(f"Saved {path.name}.")

    def load(self) -> None:
        """Take own tools from files."""
        for path in dialogs.ask_tools(self._window):
            self.load_from(path)

    def load_from(self, path: Path) -> None:
        """Take the own tool of this file; a taken name gets a number."""
        try:
            name, own = read(path.read_text(), path.name)
        except (OSError, UnicodeDecodeError):
            self._studio.say(f"{path.name} could not be read.", "error")
            return
        except OwnToolError as error:
            self._studio.say(str(error), "error")
            return
        free, number = name, 2
        while free in self._known and self._known[free] != own:
            free, number = f"{name} {number}", number + 1
        self._take(free, own)
