"""What the user set up, kept from start to start in one JSON file."""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import asdict, dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import platformdirs

from kneten.core.brushes.tool import BrushSettings
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.falloff import clean_points
from kneten.core.live.strand import TAPERS
from kneten.core.press import OVERLAPS, TURNS, Tip
from kneten.core.words import thing_from
from kneten.formats.exchange import ENDINGS
from kneten.formats.space import UNITS

HELD_KEYS = {"pan": "Space", "feel": "E", "lamp": "L"}
"""What single keys do while they are held: move the picture, feel size and strength, drag the lamp."""

PEN_ACTIONS = {
    "turn": "Turn the view",
    "pan": "Move the picture",
    "zoom": "Zoom",
    "reverse": "Reverse while held",
    "smooth": "Smooth while held",
    "view.quick-card": "Quick card",
    "edit.undo": "Undo",
    "brush.reverse": "Switch reverse",
}
"""What a button on the pen's side can do."""


CHOICES = {
    "handle_space": ("world", "own", "view"),
    "strand_taper": tuple(TAPERS),
    "board": ("beside", "over", "window"),
    "detail_by": ("brush", "screen", "model"),
}
"""What may stand where a preference is one of a few words."""


@dataclass(frozen=True)
class OwnTool:
    """A tool of the user's own: which of Kneten's it is, and how it is held."""

    tool: str
    settings: BrushSettings


SHARED: dict[str, tuple[str, tuple[str, ...]]] = {
    "size": ("Size", ("size", "size_on_model")),
    "strength": ("Strength", ("strength",)),
    "stroke": (
        "Stroke",
        ("spacing", "steadying", "jitter", "taper", "pressure_size", "pressure_strength", "tilt_size", "speed_size",
         "pressure_curve", "pressure_curve_strength"),
    ),
}  # fmt: skip
"""What tools can share: its name, and the settings in it."""


@dataclass(frozen=True)
class ExportWish:
    """How a file for others is written.

    Attributes
    ----------
    ending : str
    unit, up : str
    visible : bool
        Only visible parts.
    packed : bool
        Small numbers, in glTF.
    text : bool
        Readable, in PLY and STL.
    """

    ending: str = ".glb"
    unit: str = "m"
    up: str = "y"
    visible: bool = True
    packed: bool = False
    text: bool = False

    @property
    def known(self) -> bool:
        """Whether it can be written."""
        return self.ending in ENDINGS and self.unit in UNITS and self.up in ("y", "z")


@dataclass
class Preferences:
    """All that is set once and stays.

    Attributes
    ----------
    shared : list
        Groups of settings that all tools share: keys of `SHARED`.
    common : BrushSettings
        What they are in these.
    tools : dict
        How each tool is held.
    own_tools : dict
        The user's own tools by name.
    racks : dict
        For each stage the commands on its rack, where the user has changed it.
    shortcuts : dict
        Shortcuts by command, where the user has changed them; empty for none.
    held_keys, pen_buttons : dict
    effects : int
        0 to 3, or -1 for what the machine can do.
    renew_washes : bool
        Layers that follow the form are worked out anew by themselves.
    still : bool
        No motion: the camera jumps, compared states do not blink by themselves.
    notices_stay : bool
        Notices do not leave by themselves.
    comma : bool
        Numbers are shown with a comma.
    last_tools : list
        Tools used lately, newest first.
    welcomed : bool
        Whether the welcome card has been seen.
    snap_length, snap_angle : float
        Steps in millimetres and degrees that handles move in; 0 for none.
    handle_space : str
        world, own or view: along which axes handles stand.
    strand_thickness : float
        Radius of new strands in millimetres.
    strand_taper : str
        Taper of new strands.
    cuts_square : bool
        Cuts run square to the picture, not from the eye.
    strand_adds : bool
        Further strands go to the strand part in hand.
    board : str
        Where the reference board is: beside, over or window.
    follow_desktop : bool
        Theme, motion and size of text are as the desktop has them.
    text_scale : float
        Size of text, as a multiple of the usual one.
    cards : dict
        For each stage whose cards the user has changed, the titles that stay at hand.
    strip_pinned : bool
        Milestones and undo steps stay open.
    favourite_presses : list
        Keys of presses that are shown first.
    detail_by : str
        What the detail size of live density is told in: brush, screen or model.
    detail_brush, detail_screen, detail_model : float
        Percent of the brush's radius, pixels, millimetres.
    detail_refine, detail_coarsen : bool
        Whether strokes split long edges and join short ones.
    visited : list
        Stages that have been gone to.
    exports : dict
        How files are written, by names of the user's own.
    """

    theme: str = "kiln"
    folded: list[str] = field(default_factory=lambda: ["Place", "Density", "View", "Proportion"])
    recent: list[str] = field(default_factory=list)
    shared: list[str] = field(default_factory=list)
    common: BrushSettings = BrushSettings()
    tools: dict[str, BrushSettings] = field(default_factory=dict)
    own_tools: dict[str, OwnTool] = field(default_factory=dict)
    racks: dict[str, list[str]] = field(default_factory=dict)
    shortcuts: dict[str, str] = field(default_factory=dict)
    held_keys: dict[str, str] = field(default_factory=lambda: dict(HELD_KEYS))
    pen_buttons: dict[str, str] = field(default_factory=lambda: {"lower": "turn", "upper": "view.quick-card"})
    effects: int = -1
    still: bool = False
    notices_stay: bool = False
    renew_washes: bool = True
    comma: bool = False
    last_tools: list[str] = field(default_factory=list)
    welcomed: bool = False
    snap_length: float = 0.0
    snap_angle: float = 0.0
    handle_space: str = "world"
    strand_thickness: float = 4.0
    strand_taper: str = "tip"
    cuts_square: bool = False
    strand_adds: bool = True
    board: str = "beside"
    follow_desktop: bool = True
    text_scale: float = 1.0
    cards: dict[str, list[str]] = field(default_factory=dict)
    strip_pinned: bool = False
    favourite_presses: list[str] = field(default_factory=list)
    detail_by: str = "brush"
    detail_brush: float = 10.0
    detail_screen: float = 6.0
    detail_model: float = 1.0
    detail_refine: bool = True
    detail_coarsen: bool = False
    visited: list[str] = field(default_factory=list)
    exports: dict[str, ExportWish] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._merged: dict[
            str, tuple[tuple[BrushSettings, BrushSettings, tuple[str, ...]], BrushSettings]
        ] = {}

    def settings(self, key: str) -> BrushSettings:
        """How a tool is held: by itself, and what all tools share."""
        if key in self.tools:
            held = self.tools[key]
        else:
            own = self.own_tools.get(key.removeprefix("own:"))
            held = own.settings if own is not None and key not in TOOLS else TOOLS[key].defaults
        # Asked for with every event of a stroke: what it was made of is the same as long as nobody holds a tool anew.
        made_of = (held, self.common, tuple(self.shared))
        known = self._merged.get(key)
        if (
            known is None
            or known[0][2] != made_of[2]
            or known[0][0] is not held
            or known[0][1] is not self.common
        ):
            merged = replace(held, **{name: getattr(self.common, name) for name in self.shared_names()})
            self._merged[key] = known = (made_of, merged)
        return known[1]

    def shared_names(self) -> list[str]:
        """What of the settings all tools share."""
        return [name for group in self.shared for name in SHARED.get(group, ("", ()))[1]]

    def hold(self, key: str, held: BrushSettings) -> None:
        """Hold a tool so; what all tools share changes for all of them, and leaves what each has by itself."""
        shared = self.shared_names()
        own = self.tools.get(key)
        if own is None:
            made = self.own_tools.get(key.removeprefix("own:"))
            own = made.settings if made is not None and key not in TOOLS else TOOLS[key].defaults
        self.common = replace(self.common, **{name: getattr(held, name) for name in shared})
        self.tools[key] = replace(held, **{name: getattr(own, name) for name in shared})

    def share(self, group: str, on: bool, held: BrushSettings) -> None:
        """Have all tools share a group of settings, those of the tool in hand at first; or each its own again."""
        self.shared = [one for one in self.shared if one != group]
        if on:
            self.shared.append(group)
            self.common = replace(self.common, **{name: getattr(held, name) for name in SHARED[group][1]})


def _file() -> Path:
    base = os.environ.get("KNETEN_CONFIG") or platformdirs.user_config_dir("kneten")
    return Path(base) / "preferences.json"


def load_preferences() -> Preferences:
    """Read the file; what is missing or makes no sense keeps its default."""
    found = Preferences()
    try:
        words = json.loads(_file().read_text())
    except (OSError, ValueError):
        return found
    if not isinstance(words, dict):
        return found
    for name in (one.name for one in fields(Preferences)):
        if name in words:
            with contextlib.suppress(ValueError, TypeError, AttributeError, KeyError, IndexError):
                setattr(found, name, _checked(name, words[name], getattr(found, name)))
    return found


def _checked(name: str, value: Any, default: Any) -> Any:
    """A value as it may be used. Raises `ValueError` and the like when it makes no sense."""
    if name == "theme":
        if value not in ("kiln", "porcelain"):
            raise ValueError(value)
        return value
    if name in CHOICES:
        if value not in CHOICES[name]:
            raise ValueError(value)
        return value
    if isinstance(default, float):
        if not 0 <= float(value) < 1e6:
            raise ValueError(value)
        return float(value)
    if name == "effects":
        return min(max(int(value), -1), 3)
    if isinstance(default, bool):
        return bool(value)
    if name == "common":
        return settings_from(BrushSettings(), value)
    if name == "shared":
        return [str(group) for group in value if group in SHARED]
    if name == "tools":
        known = {key: v for key, v in value.items() if key in TOOLS}
        return {key: settings_from(TOOLS[key].defaults, v) for key, v in known.items()}
    if name == "own_tools":
        known = {key: v for key, v in value.items() if v["tool"] in TOOLS}
        return {
            str(key): OwnTool(v["tool"], settings_from(TOOLS[v["tool"]].defaults, v["settings"]))
            for key, v in known.items()
        }
    if name == "exports":
        read = {str(key): thing_from(ExportWish, v) for key, v in value.items()}
        return {key: one for key, one in list(read.items())[:64] if one.known}
    if name in ("racks", "cards"):
        return {str(stage): [str(key) for key in keys] for stage, keys in value.items()}
    if name == "held_keys":
        return default | {key: str(v) for key, v in value.items() if key in default}
    if name == "pen_buttons":
        return default | {k: v for k, v in value.items() if k in default and v in PEN_ACTIONS}
    if isinstance(default, list):
        return [str(one) for one in value][:64]
    return {str(key): str(one) for key, one in value.items()}


CURVES = ("falloff", "pressure_curve", "pressure_curve_strength")


def settings_from(defaults: BrushSettings, values: dict[str, Any]) -> BrushSettings:
    """How a tool is held, from a file. Raises `ValueError` and the like when it makes no sense."""
    known: dict[str, Any] = {}
    for one in fields(BrushSettings):
        if one.name in CURVES and one.name in values:
            known[one.name] = clean_points(values[one.name]) if values[one.name] else ()
        elif one.name == "tip" and one.name in values:
            known["tip"] = tip_from(defaults.tip, values["tip"])
        elif one.name in values:
            known[one.name] = type(getattr(defaults, one.name))(values[one.name])
    return replace(defaults, **known)


def tip_from(defaults: Tip, values: dict[str, Any]) -> Tip:
    """How a press is held, from a file. Raises `ValueError` and the like when it makes no sense."""
    known = {one.name: values[one.name] for one in fields(Tip) if one.name in values}
    tip = thing_from(Tip, asdict(defaults) | known)
    shares = (tip.turn_chance, tip.size_chance, tip.strength_chance)
    if tip.turned not in TURNS or tip.overlap not in OVERLAPS or not all(0 <= one <= 1 for one in shares):
        raise ValueError(values)
    if not (0 <= tip.height <= 1000 and 0 < tip.repeats <= 100 and abs(tip.turn) <= 360):
        raise ValueError(values)
    return tip


def save_preferences(preferences: Preferences) -> None:
    """Write the file; a read-only home is no reason to stop anyone's work."""
    with contextlib.suppress(OSError):
        path = _file()
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(".part")
        part.write_text(json.dumps(asdict(preferences), indent=1))
        part.replace(path)
