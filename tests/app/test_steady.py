"""Errors in methods that Qt calls are told; the program goes on."""

from __future__ import annotations

import subprocess
import sys

import pytest

PROGRAM = """
import kneten.app
from PySide6.QtWidgets import QApplication, QWidget
app = QApplication([])
class Faulty(QWidget):
    def paintEvent(self, event):
        self.faulty()
    def faulty(self):
        {what}
    def event(self, event):
        return super().event(event)
widget = Faulty()
widget.show()
for _ in range(5):
    app.processEvents()
print("goes on", flush=True)
"""


@pytest.mark.parametrize("what", ["int('x')", "next(iter([]))", "raise ValueError('y')", "{}['z']"])
def test_an_error_while_qt_paints_does_not_end_the_program(what: str) -> None:
    words = [sys.executable, "-c", PROGRAM.format(what=what)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=120, check=False)
    assert done.stdout.strip().endswith("goes on"), done.stderr
    assert "Error" in done.stderr or "StopIteration" in done.stderr
    assert done.returncode == 0


MANY = """
import sys
import kneten.app
from PySide6.QtCore import QCoreApplication, QObject, Signal
app = QCoreApplication([])
class Telling(QObject):
    told = Signal(float)
telling = Telling()
telling.told.connect(lambda value: None)
for _ in range({calls}):
    app.processEvents()
    telling.told.emit(1.0)
print("goes on", sys.getrefcount(None) > 1 << 30, flush=True)
"""


def test_calls_that_return_nothing_do_not_use_none_up() -> None:
    """Some hundred thousand of them, as in an hour at the desk: each takes a reference that it was not given."""
    words = [sys.executable, "-c", MANY.format(calls=150_000)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=300, check=False)
    assert done.returncode == 0, done.stderr[-500:]
    assert done.stdout.startswith("goes on")
    if sys.version_info < (3, 12):
        assert done.stdout.strip() == "goes on True"


def test_what_qt_calls_keeps_its_name_and_what_it_gives() -> None:
    from PySide6.QtCore import QSize
    from PySide6.QtWidgets import QWidget

    class Sized(QWidget):
        def sizeHint(self) -> QSize:  # noqa: N802
            """How large it likes to be."""
            return QSize(3, 4)

        def own(self) -> int:
            return 5

    assert Sized.sizeHint.__name__ == "sizeHint"
    assert Sized.sizeHint.__doc__ == "How large it likes to be."
    assert hasattr(Sized.sizeHint, "__wrapped__")
    assert not hasattr(Sized.own, "__wrapped__")
