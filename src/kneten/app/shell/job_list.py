"""What runs at the moment: a button that counts, a list with progress and cancel."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.work.jobs import Job
from kneten.app.work.studio import Studio


class JobList(QToolButton):
    """Stands in the bar while anything runs."""

    def __init__(self, window: QWidget, studio: Studio) -> None:
        super().__init__()
        self._window = window
        self._studio = studio
        self.setAccessibleName("Running work")
        self.setToolTip("What runs at the moment; click to see it and to cancel")
        self.clicked.connect(self.open)
        self.list = QFrame(window)
        self.list.setObjectName("notice")
        self.list.setAccessibleName("Running work")
        self._column = QVBoxLayout(self.list)
        self._column.setContentsMargins(12, 12, 12, 12)
        self.rows: dict[Job, QWidget] = {}
        self.list.hide()
        self.hide()
        studio.job_started.connect(self._started)

    def _started(self, job: Job) -> None:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        name = QLabel(job.name)
        name.setMinimumWidth(80)
        bar = QProgressBar()
        bar.setTextVisible(False)
        bar.setRange(0, 1000)
        bar.setAccessibleName(f"Progress of {job.name}")
        cancel = QPushButton("Cancel")
        cancel.setAccessibleName(f"Cancel {job.name}")
        cancel.setToolTip("Stops it; nothing will have changed")
        cancel.clicked.connect(job.cancel)
        for widget in (name, bar, cancel):
            line.addWidget(widget)
        self._column.addWidget(row)
        self.rows[job] = row
        job.progressed.connect(
            lambda fraction, _: bar.setValue(round(fraction * 1000)), Qt.ConnectionType.QueuedConnection
        )
        job.ended.connect(self._ended, Qt.ConnectionType.QueuedConnection)
        self._count()

    def _ended(self) -> None:
        for job in [job for job in self.rows if job is self.sender()]:
            row = self.rows.pop(job)
            row.hide()
            row.deleteLater()
        self._count()

    def _count(self) -> None:
        count = len(self.rows)
        self.setText(f"{count} at work")
        self.setVisible(count > 0)
        if not count:
            self.list.hide()
        elif self.list.isVisible():
            self._arrange()

    def open(self) -> None:
        """Show the list; the same again closes it."""
        if self.list.isVisible():
            self.list.hide()
            return
        self._arrange()
        self.list.show()
        self.list.raise_()

    def _arrange(self) -> None:
        self.list.setFixedWidth(340)
        self.list.adjustSize()
        below = self.mapTo(self._window, self.rect().bottomRight())
        self.list.move(min(below.x(), self._window.width() - 8) - 340, below.y() + 6)
