"""Panels that make presses: from text, and from unevenness of several kinds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QFont, QFontMetricsF, QImage, QPainter, QPainterPath, QPixmap, QRawFont
from PySide6.QtWidgets import (
    QCheckBox,
    QFontComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)
from scipy.ndimage import distance_transform_edt

from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.work.panel import Panel
from kneten.app.work.press_shelf import shaded
from kneten.core.arrays import F32
from kneten.core.press import PressError, press_of
from kneten.core.presses.mixed import KINDS, Mix, mixed
from kneten.document.things import KeptPress, kept_press

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHOWN = 220
"""Pixels of the picture that shows what is being made."""

TALL = 512
"""Pixels of a line of text, with what is above and below it."""

WIDEST = 4096

FORMS: dict[str, tuple[str, str]] = {
    "flat": ("Flat", "Even letters with steep sides"),
    "bevelled": ("Bevelled", "Slopes to a ridge or an even top"),
    "round": ("Round", "Round as cords, or as cushions"),
}
"""Forms of letters: name and what they look like."""


class MakingPanel(Panel):
    """A panel with a picture of what it would make, and a button that makes it."""

    def __init__(self, desk: Desk, title: str, high: int) -> None:
        super().__init__(desk, title, 460, high)
        self._desk = desk
        self._trying = False
        self._again = False
        self.picture = QLabel()
        self.picture.setFixedHeight(SHOWN)
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.picture.setAccessibleName("What it would look like in clay")
        self.column.addWidget(self.picture)
        self.fields = QVBoxLayout()
        self.fields.setSpacing(6)
        self.column.addLayout(self.fields)
        self.told = Words()
        self.column.addWidget(self.told)
        self.column.addStretch(1)
        row = QHBoxLayout()
        row.addStretch(1)
        self.button = QPushButton("Keep this press")
        self.button.setObjectName("primary")
        self.button.setToolTip("Keeps it with the project and in your folder, and shows it on the shelf")
        self.button.clicked.connect(self.make)
        row.addWidget(self.button)
        self.column.addLayout(row)

    def maker(self) -> Callable[[], KeptPress]:
        """What makes the press, for another thread. Raises `PressError` when it cannot be."""
        raise NotImplementedError

    def open(self) -> None:
        """Show it, with what it would make."""
        super().open()
        self.show_made()

    def show_made(self) -> None:
        """Show what would be made now; it is worked out aside."""
        if not self.isVisible():
            return
        if self._trying:
            self._again = True
            return
        try:
            work = self.maker()
        except PressError as error:
            self.picture.clear()
            self.told.setText(str(error))
            self.button.setEnabled(False)
            return
        self._trying = True

        def drawn() -> Any:
            try:
                press = work()
                return shaded(press_of(press.picture - np.float32(press.edits.zero)), SHOWN)
            except PressError as error:
                return str(error)

        def done(result: Any) -> None:
            self._trying = False
            ready = not isinstance(result, str)
            self.button.setEnabled(ready)
            self.told.setText("" if ready else result)
            if ready:
                high, wide = result.shape[:2]
                image = QImage(result.tobytes(), wide, high, 3 * wide, QImage.Format.Format_RGB888)
                self.picture.setPixmap(QPixmap.fromImage(image.copy()))
            if self._again:
                self._again = False
                self.show_made()

        self._desk.studio.aside(drawn, done)

    def make(self) -> None:
        """Keep what is shown."""
        try:
            work = self.maker()
        except PressError as error:
            self.told.setText(str(error))
            return

        def made(press: KeptPress) -> None:
            kept = self._desk.presses.keep(press, "Make press")
            self.leave()
            self._desk.press_panel.show_press(f"own:{kept.id}")
            if not self._desk.press_panel.isVisible():
                self._desk.press_panel.open()

        self._desk.studio.start("Make press", lambda progress: work(), made)


def letters(text: str, font: QFont, form: str, wide: float) -> F32:
    """A line of text as heights (h, w): flat, bevelled or round over so much of the letters' height.

    Raises
    ------
    PressError
        When there is nothing to draw, or the typeface has no drawing for a letter.
    """
    words = " ".join(text.split())
    if not words:
        raise PressError("Type what the press is to say.")
    raw = QRawFont.fromFont(font)
    missing = sorted(
        {letter for letter in words if not letter.isspace() and not raw.supportsCharacter(ord(letter))}
    )
    if missing:
        raise PressError(
            f"{font.family()} has no drawing for {' '.join(missing[:8])}: choose another typeface."
        )
    font = QFont(font)
    font.setPixelSize(int(TALL * 0.62))
    metrics = QFontMetricsF(font)
    path = QPainterPath()
    path.addText(0, 0, font, words)
    box = path.boundingRect()
    if box.isEmpty():
        raise PressError("There is nothing to be seen of that text: choose other letters.")
    margin = TALL * 0.14
    high = max(box.height(), metrics.ascent()) + 2 * margin
    share = min(TALL / high, WIDEST / (box.width() + 2 * margin))
    image = QImage(
        max(int((box.width() + 2 * margin) * share), 8),
        max(int(high * share), 8),
        QImage.Format.Format_Grayscale8,
    )
    image.fill(0)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(share, share)
    painter.translate(margin - box.left(), 0.5 * high - box.center().y())
    painter.fillPath(path, Qt.GlobalColor.white)
    painter.end()
    buffer = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    cover = buffer[:, : image.width()].astype(np.float32) / 255
    # Pixels that are covered in part lie that far within the edge.
    inside = np.maximum(distance_transform_edt(cover > 0.5) - 0.5 + (cover - 0.5) * (cover < 1), 0.0)
    rise = max(wide * TALL * 0.62, 1.5)
    t = np.clip(inside / rise, 0.0, 1.0)
    if form == "bevelled":
        return t.astype(np.float32)
    if form == "round":
        return np.sqrt(np.clip(1.0 - (1.0 - t) ** 2, 0.0, 1.0)).astype(np.float32)
    return np.clip(inside / 2.5, 0.0, 1.0).astype(np.float32)


class TextPanel(MakingPanel):
    """A press from text."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Press from text", 520)
        self.text = QLineEdit("Hallen")
        self.text.setMaxLength(60)
        self.text.setAccessibleName("Text of the press")
        self.text.setToolTip("What the press is to say")
        self.text.textChanged.connect(lambda _: self.show_made())
        self.typeface = QFontComboBox()
        self.typeface.setAccessibleName("Typeface")
        typed = self.typeface.lineEdit()
        if typed is not None:
            typed.setAccessibleName("Name of the typeface")
        self.typeface.setToolTip("Kneten's typeface, and all that this machine has")
        self.typeface.setCurrentFont(QFont("Lato"))
        self.typeface.currentFontChanged.connect(lambda _: self.show_made())
        self.bold = QCheckBox("Bold")
        self.bold.setAccessibleName("Bold letters")
        self.bold.setToolTip("Thicker letters, where the typeface has them")
        self.bold.toggled.connect(lambda _: self.show_made())
        self.form = choice("Form of the letters", "How the letters stand out", FORMS)
        self.form.currentIndexChanged.connect(lambda _: self.show_made())
        self.wide = NumberField(
            "Width of the slope",
            1,
            50,
            suffix="%",
            tip="How far in a bevel or a rounding goes, of the letters' height",
        )
        self.wide.set_value(8)
        self.wide.changed.connect(lambda _: self.show_made())
        for row in (
            labelled("Text", self.text),
            labelled("Typeface", self.typeface),
            labelled("Form", self.form, self.wide),
            labelled("", self.bold),
        ):
            self.fields.addWidget(row)

    def maker(self) -> Callable[[], KeptPress]:
        """What draws the letters: outlines are taken here, where typefaces may be asked."""
        font = self.typeface.currentFont()
        font.setBold(self.bold.isChecked())
        heights = letters(self.text.text(), font, str(self.form.currentData()), self.wide.value() / 100)
        name = " ".join(self.text.text().split())[:24]
        return lambda: replace(kept_press(name, heights), family="letters")


class NoisePanel(MakingPanel):
    """A press mixed of unevenness."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Press from unevenness", 640)
        self._mix = Mix()
        self._seeds = np.random.default_rng()
        self.first = self._choice("First kind", "first")
        self.second = self._choice("Second kind", "second")
        self.rows: dict[str, tuple[NumberField, float]] = {}
        self.fields.addWidget(labelled("Kind", self.first))
        self.fields.addWidget(
            labelled(
                "With",
                self.second,
                self._number("share", "Share", 0, 100, "%", 100, "How much there is of the second"),
            )
        )
        for field, name, low, high, suffix, share, tip in (
            ("across", "Size", 1, 60, "across", 1, "How many of the largest stand across the picture"),
            ("finer", "Finer", 0.5, 12, "times", 1, "How many times as many there are of the second"),
            ("roughness", "Roughness", 0, 100, "%", 100, "How much smaller unevenness lies on the larger"),
            ("swirl", "Swirl", 0, 100, "%", 100, "How far all is drawn about"),
            ("sharpness", "Sharpness", 0, 100, "%", 100, "From round hills to plates with steep sides"),
        ):
            self.fields.addWidget(labelled(name, self._number(field, name, low, high, suffix, share, tip)))
        self.another = QPushButton("Another one of this kind")
        self.another.setToolTip("The same mix, fallen otherwise")
        self.another.clicked.connect(lambda: self._set(seed=int(self._seeds.integers(1, 1_000_000))))
        self.fields.addWidget(self.another)
        self._show()

    def _choice(self, name: str, field: str) -> Any:
        box = choice(name, "A kind of unevenness", KINDS)
        box.activated.connect(lambda _: self._set(**{field: box.currentData()}))
        return box

    def _number(
        self, field: str, name: str, low: float, high: float, suffix: str, share: float, tip: str
    ) -> QWidget:
        box = NumberField(name, low, high, suffix=suffix, decimals=1 if field == "finer" else 0, tip=tip)
        whole = field == "across"
        box.changed.connect(lambda v: self._set(**{field: round(v) if whole else v / share}))
        self.rows[field] = (box, share)
        return box

    def _set(self, **values: Any) -> None:
        self._mix = replace(self._mix, **values)
        self.show_made()

    def _show(self) -> None:
        self.first.setCurrentIndex(self.first.findData(self._mix.first))
        self.second.setCurrentIndex(self.second.findData(self._mix.second))
        for field, (box, share) in self.rows.items():
            box.set_value(float(getattr(self._mix, field)) * share)

    def maker(self) -> Callable[[], KeptPress]:
        """What mixes it."""
        mix = self._mix

        def work() -> KeptPress:
            picture = mixed(mix)
            kept = kept_press(KINDS[mix.first][0], picture, True)
            zero = float(np.clip(-kept.low / (kept.high - kept.low), 0.0, 1.0))
            return replace(kept, edits=replace(kept.edits, zero=zero))

        return work
