"""A window to drag from, in a program of its own: what a file manager and a browser hand over. Started by `test_drops.py`."""

from __future__ import annotations

import sys

from PySide6.QtCore import QMimeData, QPoint, Qt, QUrl
from PySide6.QtGui import QColor, QDrag, QImage, QMouseEvent
from PySide6.QtWidgets import QApplication, QWidget


class Source(QWidget):
    """Offers what the command line says, from wherever it is pressed.

    `files PATH ...` as a file manager does; `picture` as a browser does with a picture, beside the link to it; `link` as
    it does with a link alone.
    """

    def __init__(self, kind: str, paths: list[str]) -> None:
        super().__init__(None, Qt.WindowType.FramelessWindowHint | Qt.WindowType.WindowStaysOnTopHint)
        self._kind, self._paths = kind, paths

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        data = QMimeData()
        if self._kind == "files":
            data.setUrls([QUrl.fromLocalFile(path) for path in self._paths])
        else:
            data.setUrls([QUrl("https://pictures.example/sedge.png")])
        if self._kind == "picture":
            image = QImage(60, 40, QImage.Format.Format_RGB32)
            image.fill(QColor(180, 90, 40))
            data.setImageData(image)
            data.setHtml('<img src="https://pictures.example/sedge.png">')
        drag = QDrag(self)
        drag.setMimeData(data)
        print(drag.exec(Qt.DropAction.CopyAction).name, flush=True)


def main() -> None:
    app = QApplication(sys.argv[:1])
    source = Source(sys.argv[1], sys.argv[2:])
    source.resize(60, 60)
    source.move(QPoint(0, 0))
    source.show()
    app.processEvents()
    print("ready", flush=True)
    app.exec()


if __name__ == "__main__":
    main()
