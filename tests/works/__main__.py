"""Does the pieces of work one after the other, and says what came out."""

from __future__ import annotations

import argparse
import importlib
import os
import pkgutil
import sys
import tempfile
import traceback
from pathlib import Path

from kneten.app.start.main import prepare_graphics


def main() -> int:
    """Run those that are named, or all."""
    own = [found.name for found in pkgutil.iter_modules([str(Path(__file__).parent)])]
    names = [name for name in own if name not in ("__main__", "sitting")]
    parser = argparse.ArgumentParser(prog="python -m tests.works")
    parser.add_argument("names", nargs="*", help=", ".join(names))
    parser.add_argument("--pictures", type=Path)
    given = parser.parse_args()
    os.environ["KNETEN_STATE"] = os.environ["KNETEN_CONFIG"] = tempfile.mkdtemp(prefix="kneten-works-")
    prepare_graphics()
    import pytest
    from PySide6.QtWidgets import QApplication

    from kneten.app.fields.theme import load_fonts
    from kneten.core.warm import warm_here
    from tests.app.windows import answer_dialogs
    from tests.works.sitting import Sitting

    app = QApplication(sys.argv[:1])
    load_fonts()
    warm_here()
    failed = []
    for name in given.names or names:
        module = importlib.import_module(f"tests.works.{name}")
        print(f"{name}: {(module.__doc__ or '').splitlines()[0]}", flush=True)
        patch = pytest.MonkeyPatch()
        answer_dialogs(patch)
        sitting = Sitting(name, given.pictures)
        try:
            module.work(sitting)
            sitting.end()
        except Exception:
            traceback.print_exc()
            failed.append(name)
        patch.undo()
    print("all done" if not failed else f"not done: {', '.join(failed)}")
    del app
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
