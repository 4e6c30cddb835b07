"""Starts the program: with a window, or one of the commands that need none."""

from __future__ import annotations

import ctypes
import os
import socket
import sys
from pathlib import Path

USAGE = """usage: kneten [FILE...]            open a project, import files
       kneten demo                 open the demo project
       kneten COMMAND --help       what a command takes; all of these need no window:

  files      convert IN OUT, check IN
  clay       remesh IN OUT --edge MM, decimate IN OUT --triangles N, retopologise IN OUT --faces N
  maps       unwrap IN OUT, bake HIGH LOW FOLDER --maps normal,occlusion
  pictures   still PROJECT OUT, turntable PROJECT OUT, render PROJECT OUT
  sets       print-set IN FOLDER, game-set IN FOLDER
  desktop    install-desktop

       IN may be a pattern in quotes, 'heads/*.obj'; OUT is then a folder, or has {name} in it. --jobs N works on so
       many at once, --farm tcp://HOST:8786 on the machines of a Dask scheduler. --json says what was done as one
       object. Status: 0 done, 1 not done or faults found, 2 words that make no sense.
       kneten --version            which version this is
"""

WINDOWLESS = (
    "convert", "check", "remesh", "decimate", "retopologise", "unwrap", "bake", "still", "turntable", "render", "print-set",
    "game-set", "install-desktop", "thumbnail",
)  # fmt: skip
"""The commands that need no window: the start must not load what they need to know their names."""

DESKTOP = ("install-desktop", "thumbnail")
"""Those of them that need nothing of the clay."""


def run() -> int:
    """The `kneten` command of an installed package."""
    return main(sys.argv[1:])


def main(words: list[str]) -> int:
    """Run with the words of the command line; returns the exit status."""
    if words and words[0] in WINDOWLESS:
        if words[0] in DESKTOP:
            from kneten.app.start import cli_desktop

            return cli_desktop.run(words[0], words[1:])
        from kneten.app.start import cli

        return cli.run(words[0], words[1:])
    if words and words[0] in ("-h", "--help"):
        print(USAGE, end="")
        return 0
    if words and words[0] in ("-V", "--version"):
        from kneten import __version__

        print(f"Kneten {__version__}")
        return 0
    if words and words[0].startswith("-"):
        print(f"kneten: there is no option {words[0]}; see kneten --help", file=sys.stderr)
        return 2
    for word in words if words != ["demo"] else ():
        if not Path(word).exists():
            print(f"kneten: there is no file or command {word}; see kneten --help", file=sys.stderr)
            return 2
    if missing := no_display():
        print(f"kneten: {missing}", file=sys.stderr)
        return 2
    return open_window(words)


def no_display() -> str:
    """Why no window can be shown, or "": Qt would end the process with no more than a core file."""
    wanted = os.environ.get("QT_QPA_PLATFORM", "").split(":")[0]
    if wanted not in ("", "xcb", "wayland"):
        return ""
    x, wayland = os.environ.get("DISPLAY"), os.environ.get("WAYLAND_DISPLAY")
    help_text = "Start it from a desktop; kneten convert and kneten still need none."
    if wanted != "xcb" and wayland and _wayland_answers(wayland):
        return ""
    if wanted != "wayland" and x:
        return "" if _x_answers(x) else f"the display {x} does not answer. {help_text}"
    if wanted != "xcb" and wayland:
        return f"the display {wayland} does not answer. {help_text}"
    return f"there is no display to show a window on. {help_text}"


def _x_answers(name: str) -> bool:
    try:
        xcb = ctypes.CDLL("libxcb.so.1")
    except OSError:
        return True  # Qt will say what is missing.
    xcb.xcb_connect.restype = ctypes.c_void_p
    xcb.xcb_connect.argtypes = [ctypes.c_char_p, ctypes.c_void_p]
    xcb.xcb_connection_has_error.argtypes = [ctypes.c_void_p]
    xcb.xcb_disconnect.argtypes = [ctypes.c_void_p]
    connection = xcb.xcb_connect(name.encode(), None)
    failed = xcb.xcb_connection_has_error(connection)
    xcb.xcb_disconnect(connection)
    return bool(failed == 0)


def _wayland_answers(name: str) -> bool:
    path = Path(os.environ.get("XDG_RUNTIME_DIR", "")) / name
    with socket.socket(socket.AF_UNIX) as line:
        try:
            line.connect(str(path))
        except OSError:
            return False
    return True


def prepare_graphics() -> None:
    """Get interpreter and OpenGL ready for windows; must run before there is a QApplication."""
    from PySide6.QtCore import QCoreApplication, Qt
    from PySide6.QtGui import QSurfaceFormat

    from kneten.app.start.immortal import make_immortal

    make_immortal()
    surface = QSurfaceFormat()
    surface.setVersion(3, 3)
    surface.setProfile(QSurfaceFormat.OpenGLContextProfile.CoreProfile)
    surface.setSwapInterval(0)
    QSurfaceFormat.setDefaultFormat(surface)
    QCoreApplication.setAttribute(Qt.ApplicationAttribute.AA_ShareOpenGLContexts)


def open_window(words: list[str]) -> int:
    """Show the window and run until it is closed."""
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    prepare_graphics()
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Kneten")
    from kneten.app.fields.theme import load_fonts
    from kneten.app.shell.window import Window
    from kneten.app.shell.wishes import DesktopWishes
    from kneten.app.work.preferences import load_preferences
    from kneten.core.warm import OPENING, STROKE

    load_fonts()
    app.setDesktopFileName("kneten")
    window = Window(load_preferences())
    # What goes wrong in a slot or an event is told, not only printed where nobody looks.
    sys.excepthook = lambda kind, error, trace: window.studio.broke("Something", error)
    window.follow(DesktopWishes())
    window.show()

    def begin() -> None:
        if window.view.failed:
            window.studio.say(window.view.failed, "error")
        window.prepare()
        # A ball of clay can be begun with before everything is there; opening needs more.
        window.when_ready(lambda: start_work(window, words), OPENING if words else STROKE)

    QTimer.singleShot(0, begin)
    return app.exec()


def start_work(window, words: list[str]) -> None:  # type: ignore[no-untyped-def]
    """Open what the command line names, or a ball of clay; offer what a crash left."""
    from kneten.document.project import Project
    from kneten.document.project_file import ENDING

    paths = [Path(word) for word in words if word != "demo"]
    if words == ["demo"]:
        window.files.open_demo()
    elif not any(path.suffix.lower() == ENDING for path in paths):
        window.studio.take(Project.with_ball() if not paths else Project())
        window.views.frame_all()
    if paths:
        window.files.open_paths(paths)
    window.offer_left_work()
    if not words and not window.studio.preferences.welcomed:
        window.welcome.open()
