"""A window under a Wayland compositor, used: started by `test_wayland.py`. Prints what came of it as JSON."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from kneten.app.start.main import no_display, prepare_graphics

told = {"display": no_display()}
prepare_graphics()

from PySide6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl  # noqa: E402
from PySide6.QtGui import QDropEvent, QImage  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.document.project import Project  # noqa: E402
from kneten.document.scene import Part, Scene  # noqa: E402
from kneten.formats.exchange import pieces_of, write_file  # noqa: E402
from kneten.formats.space import Space  # noqa: E402
from tests.app.windows import drag, middle, run, settle, steps, tablet  # noqa: E402
from tests.conftest import make_ball  # noqa: E402


def main(folder: Path) -> None:
    app = QApplication(sys.argv[:1])
    load_fonts()
    warm_here()
    window = Window(Preferences(still=True))
    window.studio.ready = True
    window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 24)),))))
    window.show()
    window.views.frame_all()
    settle(window)
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)])
    settle(window)
    tablet(window, QEvent.Type.TabletPress, x, y + 60, 0.4)
    tablet(window, QEvent.Type.TabletMove, x + 20, y + 60, 0.8)
    tablet(window, QEvent.Type.TabletRelease, x + 20, y + 60, 0.1)
    settle(window)
    image = QImage(40, 30, QImage.Format.Format_RGB32)
    image.fill(0x336699)
    app.clipboard().setImage(image)
    run(window, "board.paste")
    settle(window)
    path = folder / "dropped.obj"
    write_file(path, pieces_of([Part("Dropped", make_ball(20.0, 6))], Space()))
    words = QMimeData()
    words.setUrls([QUrl.fromLocalFile(str(path))])
    at, none = QPointF(x, y), Qt.KeyboardModifier.NoModifier
    # Qt hands a drop on only after a drag of the compositor's own: the window takes it as it then would.
    window.dropEvent(QDropEvent(at, Qt.DropAction.CopyAction, words, Qt.MouseButton.LeftButton, none))
    # It is read once the drag has ended.
    app.processEvents()
    settle(window)
    told.update(
        platform=app.platformName(),
        failed=window.view.failed,
        steps=steps(window),
        pictures=len(window.studio.project.scene.references),
        parts=[part.name for part in window.studio.project.scene.parts],
        mishaps=[str(error) for error in window.studio.mishaps],
    )
    window.studio.project.unsaved = False
    window.close()
    print(json.dumps(told))


main(Path(sys.argv[1]))
