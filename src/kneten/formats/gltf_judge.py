"""What the open validator of glTF says of a file, where it is installed: it needs Node.

`./kneten test` and `./kneten game-set` say where it lies by an environment variable; nothing else needs it.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

PLACE = "KNETEN_GLTF_JUDGE"
"""The variable that names the folder it is installed in."""

LONGEST = 120.0
"""Seconds it may take."""

SCRIPT = """
const fs = require('fs');
const judge = require(process.argv[1] + '/node_modules/gltf-validator');
judge.validateBytes(new Uint8Array(fs.readFileSync(process.argv[2])), { maxIssues: 100 })
  .then(found => console.log(JSON.stringify(found)))
  .catch(error => { console.error(String(error)); process.exit(1); });
"""


@dataclass(frozen=True)
class Verdict:
    """What it said.

    Attributes
    ----------
    errors, warnings : int
    words : tuple of str
        Each thing that it found.
    triangles, draws : int
        What the file has, as it counts them.
    """

    errors: int
    warnings: int
    words: tuple[str, ...]
    triangles: int
    draws: int

    @property
    def text(self) -> str:
        """In one line."""
        if not self.errors and not self.warnings:
            return "nothing found"
        return f"{self.errors} errors, {self.warnings} warnings: {'; '.join(self.words[:3])}"


def there() -> bool:
    """Whether it can be asked."""
    folder = os.environ.get(PLACE, "")
    return bool(folder) and shutil.which("node") is not None and Path(folder, "node_modules").is_dir()


def judged(path: Path) -> Verdict | None:
    """What it says of a file; None where it cannot be asked."""
    if not there():
        return None
    try:
        done = subprocess.run(
            ["node", "-e", SCRIPT, os.environ[PLACE], str(path)],
            capture_output=True, text=True, timeout=LONGEST, check=False,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return None
    if done.returncode:
        return Verdict(1, 0, (done.stderr.strip() or "it could not be read",), 0, 0)
    told = json.loads(done.stdout)
    issues, info = told["issues"], told.get("info", {})
    words = tuple(
        f"{one['code']} {one['message']} ({one.get('pointer', '')})"
        for one in issues["messages"]
        if one["severity"] < 2
    )
    return Verdict(
        issues["numErrors"], issues["numWarnings"], words,
        int(info.get("totalTriangleCount", 0)), int(info.get("drawCallCount", 0)),
    )  # fmt: skip
