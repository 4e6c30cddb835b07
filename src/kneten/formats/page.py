"""Pages that lie beside sets of files and say what is in them: one file each, readable anywhere."""

from __future__ import annotations

import base64
import html
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.formats.pieces import FormatError

STYLE = """
body{font:16px/1.5 sans-serif;margin:2.5em auto;max-width:60em;padding:0 1.5em;color:#2b2622;background:#f7f3ec}
h1{font-size:1.7em;margin:0 0 .2em}h2{font-size:1.15em;margin:2em 0 .5em}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.35em .9em .35em 0;border-bottom:1px solid #d9cfc1;vertical-align:top}
td.n,th.n{text-align:right}.bad{color:#9c2f22;font-weight:600}.quiet{color:#776c60}img{max-width:100%;border-radius:4px}
"""


@dataclass(frozen=True)
class Table:
    """One table of a page; columns whose heads end in "#" hold numbers."""

    title: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""
    bad: frozenset[int] = field(default=frozenset())


def page(title: str, lead: str, tables: Sequence[Table], pictures: Mapping[str, bytes] | None = None) -> str:
    """A page, with PNG pictures by what stands below them."""
    out = [
        "<!doctype html><html lang=en><meta charset=utf-8>",
        f"<title>{html.escape(title)}</title><style>{STYLE}</style>",
        f"<h1>{html.escape(title)}</h1><p class=quiet>{html.escape(lead)}</p>",
    ]
    for words, data in (pictures or {}).items():
        text = base64.b64encode(data).decode()
        out.append(f'<p><img src="data:image/png;base64,{text}" alt="{html.escape(words)}"></p>')
    for table in tables:
        out.append(f"<h2>{html.escape(table.title)}</h2><table><tr>")
        for head in table.head:
            out.append(f"<th{' class=n' if head.endswith('#') else ''}>{html.escape(head.rstrip('#'))}</th>")
        out.append("</tr>")
        for number, row in enumerate(table.rows):
            out.append(f"<tr{' class=bad' if number in table.bad else ''}>")
            for head, cell in zip(table.head, row, strict=True):
                out.append(f"<td{' class=n' if head.endswith('#') else ''}>{html.escape(cell)}</td>")
            out.append("</tr>")
        out.append("</table>")
        if table.note:
            out.append(f"<p class=quiet>{html.escape(table.note)}</p>")
    return "\n".join(out) + "\n"


def write_text(path: Path, text: str) -> None:
    """Write a text file at once or not at all. Raises `FormatError`."""
    try:
        with replacing(path) as file:
            file.write(text.encode())
    except ProjectFileError as error:
        raise FormatError(str(error)) from error


def write_numbers(path: Path, told: Any) -> None:
    """The same for words and numbers, as JSON. Raises `FormatError`."""
    write_text(path, json.dumps(told, indent=2) + "\n")


def size_text(count: int) -> str:
    """A number of bytes in words."""
    return f"{count / 1e6:.2f} MB" if count >= 1e6 else f"{count / 1e3:.1f} kB"


def file_stem(name: str) -> str:
    """A name as the first part of a file's."""
    kept = "".join(c if c.isalnum() or c in "-_ " else "_" for c in name)
    return "_".join(kept.split()) or "clay"
