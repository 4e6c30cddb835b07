"""Panels laid over the window: never modal, closed by Esc."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget


class Panel(QFrame):
    """A titled panel over its window.

    Parameters
    ----------
    wide, high : int
        Size in pixels where the window has room for it.
    """

    def __init__(self, parent: QWidget, title: str, wide: int, high: int) -> None:
        super().__init__(parent)
        self.setObjectName("notice")
        self.setAccessibleName(title)
        self._wanted = (wide, high)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(20, 12, 12, 16)
        outer.setSpacing(8)
        row = QHBoxLayout()
        self.heading = QLabel(title)
        self.heading.setObjectName("heading")
        row.addWidget(self.heading, 1)
        self.close_button = QToolButton()
        self.close_button.setText("✕")
        self.close_button.setAccessibleName(f"Close {title.lower()}")
        self.close_button.setToolTip("Close (Esc)")
        self.close_button.clicked.connect(self.leave)
        row.addWidget(self.close_button)
        outer.addLayout(row)
        self.column = QVBoxLayout()
        self.column.setContentsMargins(0, 0, 8, 0)
        self.column.setSpacing(8)
        outer.addLayout(self.column, 1)
        parent.installEventFilter(self)
        self.hide()

    def open(self) -> None:
        """Show it in the middle of the window; the same again closes it."""
        if self.isVisible():
            self.leave()
            return
        self.arrange()
        self.show()
        self.raise_()
        self.setFocus()

    def leave(self) -> None:
        """Take it away."""
        self.hide()
        window = self.parentWidget()
        view = getattr(window, "view", None)
        if view is not None:
            view.setFocus()

    def arrange(self) -> None:
        """Find a place in the window."""
        window = self.window()
        wide = min(self._wanted[0], window.width() - 40)
        high = min(self._wanted[1], window.height() - 80)
        self.setGeometry((window.width() - wide) // 2, max((window.height() - high) // 2, 52), wide, high)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.Resize and self.isVisible():
            self.arrange()
        return False

    def focusNextPrevChild(self, forward: bool) -> bool:  # noqa: N802
        """Tab goes round within the panel: what lies under it is not meant."""
        order: list[QWidget] = []
        widget = self.nextInFocusChain()
        while widget is not None and widget is not self:
            tabbed = bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus)
            if tabbed and self.isAncestorOf(widget) and widget.isVisible() and widget.isEnabled():
                order.append(widget)
            widget = widget.nextInFocusChain()
        if order:
            now = self.focusWidget()
            at = order.index(now) if now in order else (-1 if forward else 0)
            reason = Qt.FocusReason.TabFocusReason if forward else Qt.FocusReason.BacktabFocusReason
            order[(at + (1 if forward else -1)) % len(order)].setFocus(reason)
        return True

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
