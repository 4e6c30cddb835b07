"""`./kneten bench [NAME] [--json]`: every figure with its bar."""

from __future__ import annotations

import argparse
import json
import sys

from benchmarks.figures import FIGURES


def main(words: list[str]) -> int:
    """Measure all figures, or those of one name."""
    parser = argparse.ArgumentParser(prog="kneten bench", description="Measures figures, each with its bar.")
    parser.add_argument(
        "names", nargs="*", metavar="NAME", help=f"one of {', '.join(FIGURES)}; all, if none is named"
    )
    parser.add_argument("--json", action="store_true", help="figures as JSON, when all are measured")
    given = parser.parse_args(words)
    names = given.names or list(FIGURES)
    if unknown := [name for name in names if name not in FIGURES]:
        parser.error(f"there is no figure {unknown[0]}; there are {', '.join(FIGURES)}")
    rows = []
    for name in names:
        for figure in FIGURES[name]():
            rows.append(figure)
            if not given.json:
                sign = "<=" if figure.most else ">="
                holds = "holds" if figure.holds else "FAILS"
                bar = f"{figure.value:9.3f} {sign} {figure.bar:7.3f} {figure.unit:14}"
                print(f"{figure.name:38} {bar} {holds}   {figure.note}", flush=True)
    if given.json:
        keys = ("name", "value", "bar", "unit", "holds")
        print(json.dumps([{key: getattr(row, key) for key in keys} for row in rows], indent=1))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
