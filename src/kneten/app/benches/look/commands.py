"""The commands of looking, with their words and shortcuts."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.look.view_card import OVERLAYS
from kneten.app.work.commands import Command, Needs, always, needing
from kneten.core.camera import VIEWS
from kneten.document.look import LOOKS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(desk: Desk) -> None:
    """Fill the registry: nothing here changes clay."""
    for group in (_views, _looks):
        desk.registry.add(*needing(Needs.NOTHING, group(desk)))


def _views(w: Desk) -> list[Command]:
    v = w.views
    named = [
        Command(
            f"view.{name}",
            name.capitalize(),
            f"Looks at the clay from the {name}",
            "View",
            partial(v.look_from, name),
            f"Ctrl+{i + 1}",
        )
        for i, name in enumerate(VIEWS)
    ]
    part = lambda: "" if w.studio.project.active else "There is no part in hand."  # noqa: E731

    def view(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = always,
    ) -> Command:
        return Command(f"view.{key}", name, does, "View", run, keys, blocked)

    return [
        *named,
        view("frame", "Frame the part", "Brings the part in hand into the middle", v.frame_part, "F", part),
        view(
            "frame-all", "Frame everything", "Brings all visible parts into the picture", v.frame_all, "Home"
        ),
        view(
            "frame-cursor",
            "Frame under the cursor",
            "Brings the place under the cursor into the middle, closer",
            v.frame_cursor,
            "Shift+F",
        ),
        view(
            "frame-last",
            "Frame the last stroke",
            "Brings what the last stroke touched into the middle",
            v.frame_last,
            "Alt+Home",
            v.no_last,
        ),
        view(
            "lens", "Perspective or orthographic", "Switches the camera between the two", v.switch_lens, "O"
        ),
        view("roll-left", "Tilt left", "Tilts the camera by 15 degrees", lambda: v.roll(-15.0), "Ctrl+,"),
        view("roll-right", "Tilt right", "Tilts the camera by 15 degrees", lambda: v.roll(15.0), "Ctrl+."),
        view("level", "Level", "Takes the camera's tilt away", v.level, "Ctrl+-"),
        view("turntable", "Turntable", "Turns around the clay until you press anywhere", v.turntable, "F7"),
        view(
            "four", "Four views", "Shows top, front and right beside the picture, or not", v.switch_four, "F4"
        ),
        view(
            "mirror",
            "Mirror the picture",
            "Exchanges left and right, for fresh eyes; tools still hit what is under them",
            v.switch_mirror,
            "F6",
        ),
        view(
            "squint",
            "Half-closed eyes",
            "Blurs the picture, so that only the big masses are left",
            v.switch_squint,
            "Shift+F6",
        ),
        view("silhouette", "Silhouette", "Shows the outline alone, or all again", v.silhouette, "F3"),
        view(
            "save", "Save this view", "Keeps the camera with a picture in the view card", v.save_view, "Alt+V"
        ),
        view("next", "Next saved view", "Goes to the next saved view", v.next_view, "V", v.no_views),
        view(
            "alone",
            "Viewport alone",
            "Hides all but the viewport, and shows it again",
            w.viewport_alone,
            "F10",
        ),
        view(
            "theme",
            "Switch theme",
            "Switches between Kiln (dark) and Porcelain (light)",
            w.switch_theme,
            "Ctrl+T",
        ),
    ]


def _looks(w: Desk) -> list[Command]:
    v = w.views
    looks = [
        Command(f"look.{key}", name, does, "Look", partial(v.look, key))
        for key, (name, does) in LOOKS.items()
    ]
    overlays = [
        Command(
            f"look.{key.replace('_', '-')}",
            name,
            does,
            "Look",
            partial(v.overlay, key),
            OVERLAY_KEYS.get(key, ""),
        )
        for key, (name, does) in OVERLAYS.items()
    ]
    return [
        *looks,
        Command(
            "look.next",
            "Next look",
            "Shows the clay with the next look",
            "Look",
            lambda: v.next_look(1),
            "F5",
        ),
        Command(
            "look.last",
            "Look before",
            "Shows the clay with the look before",
            "Look",
            lambda: v.next_look(-1),
            "Shift+F5",
        ),
        Command(
            "look.next-matcap", "Next matcap", "Goes through the matcaps", "Look", v.next_matcap, "Ctrl+F5"
        ),
        Command(
            "look.own-matcap",
            "Picture as matcap…",
            "Takes a picture of a ball as material; it is kept in the project",
            "Look",
            v.ask_matcap,
        ),
        *overlays,
    ]


OVERLAY_KEYS = {"wires": "W", "xray": "X", "ghost": "G", "isolate": "I", "floor": "Shift+G"}
