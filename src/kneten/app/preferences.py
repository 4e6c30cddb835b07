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


@dataclass
class Preferences:
    """Theme, folded cards, and how each tool is held."""

    theme: str = "kiln"
    folded: list[str] = field(default_factory=list)
    recent: list[str] = field(default_factory=list)
    tools: dict[str, BrushSettings] = field(default_factory=dict)

    def settings(self, key: str) -> BrushSettings:
        """How a tool is held."""
        return self.tools.get(key, TOOLS[key].defaults)


def _file() -> Path:
    base = os.environ.get("KNETEN_CONFIG") or platformdirs.user_config_dir("kneten")
    return Path(base) / "preferences.json"


def load_preferences() -> Preferences:
    """Read the file; what is missing or makes no sense keeps its default."""
    found = Preferences()
    try:
        words = json.loads(_file().read_text())
        if words.get("theme") in ("kiln", "porcelain"):
            found.theme = words["theme"]
        found.folded = [str(name) for name in words.get("folded", [])]
        found.recent = [str(name) for name in words.get("recent", [])][:12]
        for key, values in words.get("tools", {}).items():
            if key in TOOLS:
                found.tools[key] = _settings(TOOLS[key].defaults, values)
    except (OSError, ValueError, TypeError, AttributeError, KeyError, IndexError):
        pass
    return found


def _settings(defaults: BrushSettings, values: dict[str, Any]) -> BrushSettings:
    known: dict[str, Any] = {}
    for one in fields(BrushSettings):
        if one.name in ("falloff", "pressure_curve") and one.name in values:
            known[one.name] = clean_points(values[one.name])
        elif one.name in values:
            known[one.name] = type(getattr(defaults, one.name))(values[one.name])
    return replace(defaults, **known)


def save_preferences(preferences: Preferences) -> None:
    """Write the file; a read-only home is no reason to stop anyone's work."""
    with contextlib.suppress(OSError):
        path = _file()
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(".part")
        part.write_text(json.dumps(asdict(preferences), indent=1))
        part.replace(path)
