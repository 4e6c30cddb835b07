"""`./kneten bench [NAME] [--json]`: every figure with its bar."""

from __future__ import annotations

import json
import sys

from benchmarks.figures import FIGURES


def main(words: list[str]) -> int:
    """Measure all figures, or those of one name."""
    as_json = "--json" in words
    names = [word for word in words if not word.startswith("-")] or list(FIGURES)
    unknown = [name for name in names if name not in FIGURES]
    if unknown:
        print(f"kneten: there is no figure {unknown[0]}; there are {', '.join(FIGURES)}", file=sys.stderr)
        return 2
    rows = []
    for name in names:
        for figure in FIGURES[name]():
            rows.append(figure)
            if not as_json:
                sign = "<=" if figure.most else ">="
                holds = "holds" if figure.holds else "FAILS"
                bar = f"{figure.value:9.3f} {sign} {figure.bar:7.3f} {figure.unit:14}"
                print(f"{figure.name:38} {bar} {holds}   {figure.note}", flush=True)
    if as_json:
        keys = ("name", "value", "bar", "unit", "holds")
        print(json.dumps([{key: getattr(row, key) for key in keys} for row in rows], indent=1))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
