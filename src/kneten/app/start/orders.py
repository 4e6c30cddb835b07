"""What all commands without a window share: how they are told things, and how they say things."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Callable
from typing import Any

from kneten.core.arrays import Progress

PAUSE = 2.0
"""Seconds between two words about how far work is; shorter work says none."""


class UsageError(Exception):
    """The words of a command line make no sense."""


class Parser(argparse.ArgumentParser):
    """Reads the words of a command."""

    def __init__(self, **how: Any) -> None:
        super().__init__(**how)
        self.add_argument("--json", action="store_true", help="say what was done as one object, for programs")

    def error(self, message: str) -> None:  # type: ignore[override]
        """Raise `UsageError` instead of ending the program."""
        raise UsageError(message)


class _Told:
    """What a command has said."""

    as_json = False
    result: dict[str, Any] = {}  # noqa: RUF012


def begin(as_json: bool) -> None:
    """A command begins; it speaks to people, or to a program."""
    _Told.as_json, _Told.result = as_json, {}


def tell(text: str = "", **facts: Any) -> None:
    """Say what was done: words for people, facts for programs; a fact that is told again becomes a list."""
    if not _Told.as_json and text:
        print(text)
    for key, value in facts.items():
        if isinstance(_Told.result.get(key), list):
            _Told.result[key].append(value)
        elif key in _Told.result:
            _Told.result[key] = [_Told.result[key], value]
        else:
            _Told.result[key] = value


def warn(text: str) -> None:
    """Say something beside the result."""
    words = " ".join(text.split())
    print(f"kneten: {words}", file=sys.stderr)
    _Told.result.setdefault("notices", []).append(words)


def failed(text: str) -> None:
    """Say why nothing came of it."""
    words = " ".join(text.split())
    print(f"kneten: {words}", file=sys.stderr)
    _Told.result["error"] = words


def end(status: int) -> None:
    """A command has ended."""
    if _Told.as_json:
        print(json.dumps({"status": status, **_Told.result}))


class Saying(Progress):
    """Says on stderr how far work is, now and then."""

    def __init__(self) -> None:
        self._begun = self._last = time.monotonic()

    def report(self, fraction: float, text: str = "") -> None:
        now = time.monotonic()
        if now - self._last >= PAUSE:
            self._last = now
            print(f"kneten: {100 * fraction:3.0f} % {text}".rstrip(), file=sys.stderr, flush=True)


def finished(run: Callable[[list[str]], object], words: list[str], told: tuple[type[Exception], ...]) -> int:
    """Run a command: 0 for done, 1 for what cannot be done (or faults that were looked for and found), 2 for words that make no sense.

    Errors of the kinds that are told are one line on stderr. With `--json` what it has to say is one object on stdout.
    """
    begin(as_json="--json" in words)
    status = 0
    try:
        done = run([word for word in words if word != "--json"])
        status = done if isinstance(done, int) else 0
    except UsageError as error:
        failed(str(error))
        status = 2
    except told as error:
        failed(str(error))
        status = 1
    except MemoryError:
        failed("there is not enough memory for this file")
        status = 1
    end(status)
    return status
