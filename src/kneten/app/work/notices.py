"""Notices over the viewport: what happened, with the action that solves it. Never modal."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
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

Action = tuple[str, Callable[[], object]]

MOST = 3
"""Notices that are up at a time."""


class Notice(QFrame):
    """One message with its actions.

    Attributes
    ----------
    of_project : bool
        Its actions are about what is in the project that is open: they mean nothing in another.
    stays : bool
        It does not leave by itself.
    """

    def __init__(self, text: str, kind: str, actions: list[Action]) -> None:
        super().__init__()
        self.setObjectName("notice")
        self.setProperty("kind", kind)
        self.text = text
        self.kind = kind
        self.of_project = False
        self.stays = True
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 8, 8, 8)
        outer.setSpacing(6)
        row = QHBoxLayout()
        row.setSpacing(8)
        outer.addLayout(row)
        self._label = QLabel(text)
        self._label.setWordWrap(True)
        self._label.setMinimumWidth(200)
        self._label.setAccessibleName(text)
        row.addWidget(self._label, 1)
        # Beside more than two buttons there is no room for words.
        beside = row
        if len(actions) > 2:
            beside = QHBoxLayout()
            beside.setSpacing(8)
            outer.addLayout(beside)
        for name, run in actions:
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.clicked.connect(lambda _=False, run=run: (run(), self.leave()))
            beside.addWidget(button)
        if beside is not row:
            beside.addStretch(1)
        close = QToolButton()
        close.setText("✕")
        close.setAccessibleName("Dismiss notice")
        close.setToolTip("Dismiss this notice")
        close.clicked.connect(self.leave)
        row.addWidget(close)
        self.close_button = close
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setRange(0, 1000)
        self.bar.setAccessibleName("Progress")
        self.bar.hide()
        outer.addWidget(self.bar)

    def fit(self, wide: int) -> None:
        """Be so wide, and only as high as its words need there: the clay is behind it."""
        layout = self.layout()
        assert layout is not None
        layout.invalidate()
        layout.activate()
        high = (
            layout.totalHeightForWidth(wide)
            if layout.hasHeightForWidth()
            else layout.totalSizeHint().height()
        )
        self.setFixedSize(wide, high)

    def set_text(self, text: str) -> None:
        """Say something else."""
        self.text = text
        self._label.setText(text)
        self._label.setAccessibleName(text)

    def leave(self) -> None:
        """Take the notice away."""
        self.hide()
        self.setParent(None)
        self.deleteLater()


class NoticeBoard(QObject):
    """Stacks notices at the top of a widget."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over)
        self._over = over
        self.notices: list[Notice] = []
        over.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.Resize:
            self.arrange()
        return False

    def show(
        self,
        text: str,
        kind: str = "info",
        actions: list[Action] | None = None,
        seconds: float = 0,
        of_project: bool = False,
    ) -> Notice:
        """Put up a notice; with `seconds` it leaves by itself. The same text is shown only once."""
        for old in self.notices:
            if old.text == text:
                return old
        notice = Notice(text, kind, actions or [])
        notice.of_project = of_project
        notice.setParent(self._over)
        notice.destroyed.connect(lambda: self._gone(notice))
        self.notices.append(notice)
        # The clay is to be seen: what was said first goes when more comes, but for errors and work under way.
        others = [old for old in self.notices[:-1] if old.kind != "error" and old.bar.isHidden()]
        for old in others[: max(len(others) + 1 - MOST, 0)]:
            old.leave()
            self.notices.remove(old)
        notice.show()
        self.arrange()
        if seconds:
            notice.stays = False
            QTimer.singleShot(round(seconds * 1000), notice, notice.leave)
        return notice

    def leave_project(self) -> None:
        """Another project is open: take away what could be done in the old one, which would be held in memory by it."""
        for notice in [notice for notice in self.notices if notice.of_project]:
            notice.leave()

    def follow(self, job: Job) -> Notice:
        """A notice with a job's progress and a button that cancels it."""
        notice = self.show(f"{job.name} …", actions=[("Cancel", job.cancel)])
        notice.bar.show()
        notice.close_button.hide()
        self.arrange()

        def progressed(fraction: float, text: str) -> None:
            notice.bar.setValue(round(fraction * 1000))
            if text:
                notice.set_text(f"{job.name}: {text.lower()} …")

        job.progressed.connect(progressed, Qt.ConnectionType.QueuedConnection)
        job.ended.connect(notice.leave, Qt.ConnectionType.QueuedConnection)
        if job.over.is_set():
            # It ended before anyone listened: nobody would take the notice away.
            notice.leave()
        return notice

    def _gone(self, notice: Notice) -> None:
        self.notices = [n for n in self.notices if n is not notice]
        self.arrange()

    def arrange(self) -> None:
        """Place the notices below each other."""
        try:
            width = min(self._over.width() - 32, 560)
        except RuntimeError:
            return
        y = 44
        for notice in self.notices:
            if notice.parent() is None:
                continue
            notice.fit(max(width, 120))
            notice.move((self._over.width() - notice.width()) // 2, y)
            notice.raise_()
            y += notice.height() + 8
