"""What the desktop wishes of all its programs: light or dark, less motion, larger text. Followed until the user chooses."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QGuiApplication

if TYPE_CHECKING:
    from kneten.app.work.preferences import Preferences

PATIENCE = 300
"""Milliseconds to wait for the desktop's answer about its text; most answer in one."""

LEAST, MOST = 1.0, 1.5
"""Text sizes for which the desk has room."""


@dataclass(frozen=True)
class Wishes:
    """What the desktop wishes.

    Attributes
    ----------
    theme : str
        kiln or porcelain; "" when it does not say.
    still : bool
        Less motion.
    text : float
        Size of text, as a multiple of the usual one.
    """

    theme: str = ""
    still: bool = False
    text: float = 1.0

    def given_to(self, preferences: Preferences) -> bool:
        """Have preferences that follow the desktop be as it wishes; whether any has changed."""
        if not preferences.follow_desktop:
            return False
        before = preferences.theme, preferences.still, preferences.text_scale
        preferences.theme = self.theme or preferences.theme
        preferences.still = self.still
        preferences.text_scale = self.text
        return before != (preferences.theme, preferences.still, preferences.text_scale)


def text_scale() -> float:
    """How much larger the desktop has its text, asked through its settings portal; 1 where there is none."""
    with contextlib.suppress(ImportError, AttributeError, TypeError, ValueError):
        from PySide6.QtDBus import QDBusConnection, QDBusInterface, QDBusMessage

        bus = QDBusConnection.sessionBus()
        if not bus.isConnected():
            return 1.0
        portal = QDBusInterface(
            "org.freedesktop.portal.Desktop",
            "/org/freedesktop/portal/desktop",
            "org.freedesktop.portal.Settings",
            bus,
        )
        portal.setTimeout(PATIENCE)
        answer = portal.call("Read", "org.gnome.desktop.interface", "text-scaling-factor")
        if answer.type() == QDBusMessage.MessageType.ReplyMessage and answer.arguments():
            value = answer.arguments()[0]
            while hasattr(value, "variant"):
                value = value.variant()
            return min(max(float(value), LEAST), MOST)
    return 1.0


class DesktopWishes(QObject):
    """Reads them, and tells when they change."""

    changed = Signal()

    def __init__(self, text: Callable[[], float] = text_scale) -> None:
        super().__init__()
        self._text = text
        hints = QGuiApplication.styleHints()
        hints.colorSchemeChanged.connect(lambda _: self.changed.emit())
        motion = getattr(hints.accessibility(), "motionPreferenceChanged", None)
        if motion is not None:
            motion.connect(lambda _: self.changed.emit())

    def read(self) -> Wishes:
        """What it wishes now."""
        hints = QGuiApplication.styleHints()
        schemes = {Qt.ColorScheme.Light: "porcelain", Qt.ColorScheme.Dark: "kiln"}
        motion = getattr(hints.accessibility(), "motionPreference", None)
        still = motion is not None and motion().name not in ("NoPreference", "FullMotion", "Unknown")
        return Wishes(schemes.get(hints.colorScheme(), ""), still, self._text())
