"""What the pieces of the shell know of the window they belong to."""

from __future__ import annotations

from kneten.app.fields.theme import Theme
from kneten.app.view.desk import Desk


class Frame(Desk):
    """The window, as far as its own pieces need it."""

    def open_finder(self) -> None:
        """Find a command by its words."""
        raise NotImplementedError

    def open_quick_card(self) -> None:
        """The brush and the last tools, at the pointer."""
        raise NotImplementedError

    def choose_stage(self, name: str) -> None:
        """Go to a stage."""
        raise NotImplementedError

    def pick_slot(self, slot: int) -> None:
        """Take the tool in a slot of the rack."""
        raise NotImplementedError

    def put_on_rack(self, key: str, place: int = -1) -> None:
        """Put a tool on the rack, at its end or at a place."""
        raise NotImplementedError

    def reset_rack(self) -> None:
        """The rack as it comes."""
        raise NotImplementedError

    def set_shortcut(self, key: str, keys: str) -> None:
        """Give a command other keys."""
        raise NotImplementedError

    def switch_symmetry(self, axis: int) -> None:
        """Turn symmetry across an axis on or off."""
        raise NotImplementedError

    def switch_theme(self) -> None:
        """Light to dark, dark to light."""
        raise NotImplementedError

    def viewport_alone(self) -> None:
        """Hide all but the viewport, or show it again."""
        raise NotImplementedError

    def dress(self, theme: Theme) -> None:
        """Wear a theme."""
        raise NotImplementedError
