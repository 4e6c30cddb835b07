"""The card of quick poses: the numbers of the limb in hand, what goes along, the poses there are."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.pose.chain import MOST_BEND, MOST_TWIST, Hinge

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

HOW = {"no": "Stays", "soft": "Softly", "stiff": "Stiffly"}
"""How a part that sits on a limb goes along."""


class PoseCard(Card):
    """Numbers of the limb in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Pose", desk.studio)
        self._desk = desk
        self._posing = desk.posing
        self.says = Words()
        self.column.addWidget(self.says)
        grid, _ = command_grid(
            desk.registry,
            (("pose.limb", "Pose"), ("pose.flip", "Other side"), ("pose.straighten", "Straighten")),
            3,
        )
        self.column.addLayout(grid)
        self.both = QCheckBox("Both sides")
        self.both.setAccessibleName("Pose both sides")
        self.both.setToolTip(desk.registry.tip(desk.registry.commands["pose.mirror"]))
        self.both.toggled.connect(lambda _: desk.registry.run("pose.mirror"))
        self.column.addWidget(self.both)
        self._build_numbers()
        self.along_title, self.along = self._section("What sits on it")
        self.poses_title, self.poses = self._section("Poses of the chosen parts")
        self._listed: object = None
        for signal in (
            self._posing.changed,
            desk.studio.scene_changed,
            desk.studio.history_changed,
            desk.studio.project_changed,
        ):
            signal.connect(self.fill)
        self.fill()

    def _section(self, title: str) -> tuple[QLabel, QVBoxLayout]:
        """A title, and rows under it."""
        label = QLabel(title)
        label.setObjectName("quiet")
        self.column.addWidget(label)
        rows = QVBoxLayout()
        rows.setSpacing(4)
        self.column.addLayout(rows)
        return label, rows

    def _build_numbers(self) -> None:
        """The numbers of a limb's hinges."""
        self.numbers = QWidget()
        rows = QVBoxLayout(self.numbers)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        self.count = NumberField(
            "Hinges", 1, 12, tip="How many hinges the limb has: a finger three, a tail ten"
        )
        self.count.settled.connect(lambda value: self._posing.set_count(round(value)))
        self.hinge = QComboBox()
        self.hinge.setAccessibleName("Hinge")
        self.hinge.setToolTip("The hinge that the numbers below are of")
        self.hinge.activated.connect(self._posing.choose)
        rows.addWidget(labelled("Hinges", self.count, self.hinge))
        self.curl = self._field("Curl", -MOST_BEND, MOST_BEND, "°", "Bends all hinges alike", self._curled)
        self.fields: dict[str, NumberField] = {}
        for key, name, low, high, unit, tip in (
            ("bend", "Bend", -MOST_BEND, MOST_BEND, "°", "Bends the limb about the axis across it"),
            ("aside", "Aside", -MOST_BEND, MOST_BEND, "°", "Bends the limb to its side"),
            (
                "twist",
                "Turn",
                -MOST_TWIST,
                MOST_TWIST,
                "°",
                "Turns the limb about itself, spread up to the next hinge",
            ),
            ("length", "Length", 25, 400, "%", "How long the limb becomes up to the next hinge"),
            ("thickness", "Thickness", 25, 400, "%", "How thick the limb becomes up to the next hinge"),
            ("limit", "Limit", 1, MOST_BEND, "°", "How far the hinge bends at most when the limb is pulled"),
        ):
            self.fields[key] = self._field(name, low, high, unit, tip, partial(self._changed, key))
        self.fields["band"] = self._field(
            "Band",
            0.1,
            5000,
            "mm",
            "How far along the limb the bend spreads",
            partial(self._changed, "band"),
            True,
        )
        order = ("bend", "aside", "twist", "length", "thickness", "band", "limit")
        self.curl_row = labelled("Curl", self.curl)
        rows.addWidget(self.curl_row)
        for key in order:
            field = self.fields[key]
            rows.addWidget(labelled(field.accessibleName(), field))
        self.column.addWidget(self.numbers)

    def _field(
        self,
        name: str,
        low: float,
        high: float,
        unit: str,
        tip: str,
        change: Callable[[float], tuple[Hinge, ...]],
        length: bool = False,
    ) -> NumberField:
        field = (
            NumberField(name, low, high, unit=unit, decimals=1, curve=2, tip=tip)
            if length
            else NumberField(name, low, high, suffix=unit, tip=tip)
        )

        def shown(value: float) -> None:
            if self._posing.has_limb:
                self._posing.show(change(value))

        def kept(value: float) -> None:
            if self._posing.has_limb:
                self._posing.keep(change(value), name)

        field.changed.connect(shown)
        field.settled.connect(kept)
        return field

    def _curled(self, value: float) -> tuple[Hinge, ...]:
        hinges: tuple[Hinge, ...] = self._posing.curled(value)
        return hinges

    def _changed(self, key: str, value: float) -> tuple[Hinge, ...]:
        posing = self._posing
        hinge = posing.now[min(posing.chosen, len(posing.now) - 1)]
        body = posing.body
        scale = 1.0 if body is None else body.transform.scale
        others: dict[str, dict[str, object]] = {
            "bend": {"bend": (value, hinge.bend[1], 0.0)},
            "aside": {"bend": (hinge.bend[0], value, 0.0)},
            "length": {"length": value / 100},
            "thickness": {"thickness": value / 100},
            "band": {"band": value / scale},
        }
        hinges: tuple[Hinge, ...] = posing.with_numbers(**others.get(key, {key: value}))
        return hinges

    def fill(self) -> None:
        """Show the limb in hand."""
        posing = self._posing
        self.says.setText(posing.words())
        with QSignalBlocker(self.both):
            self.both.setChecked(posing.mirrored)
        self.numbers.setVisible(posing.has_limb)
        if posing.has_limb:
            self._fill_numbers()
        self._fill_lists()

    def _fill_numbers(self) -> None:
        posing = self._posing
        body = posing.body
        assert body is not None
        hinges = posing.now
        at = min(posing.chosen, len(hinges) - 1)
        hinge, scale = hinges[at], body.transform.scale
        self.count.set_value(len(hinges))
        with QSignalBlocker(self.hinge):
            self.hinge.clear()
            self.hinge.addItems([f"Hinge {k + 1}" for k in range(len(hinges))])
            self.hinge.setCurrentIndex(at)
        self.curl_row.setVisible(len(hinges) > 1)
        alike = {one.bend[0] for one in hinges}
        self.curl.set_value(alike.pop() if len(alike) == 1 else 0.0)
        values = {
            "bend": hinge.bend[0],
            "aside": hinge.bend[1],
            "twist": hinge.twist,
            "length": hinge.length * 100,
            "thickness": hinge.thickness * 100,
            "limit": hinge.limit,
            "band": hinge.band * scale,
        }
        for key, value in values.items():
            self.fields[key].set_value(value)

    def _fill_lists(self) -> None:
        posing = self._posing
        near = [(part.id, part.name, posing.others[part.id]) for part in posing.near_parts()]
        poses = [(part.id, part.name, key, name, strength) for part, key, name, strength in posing.poses()]
        self.along_title.setVisible(bool(near))
        self.poses_title.setVisible(bool(poses))
        if (near, poses) == self._listed:
            return
        self._listed = (near, poses)
        for layout in (self.along, self.poses):
            while (item := layout.takeAt(0)) is not None:
                widget = item.widget()
                if widget is not None:
                    widget.hide()
                    widget.deleteLater()
        for part_id, name, how in near:
            self.along.addWidget(self._along_row(part_id, name, how))
        for part_id, part, layer_id, name, strength in poses:
            self.poses.addWidget(self._pose_row(part_id, part, layer_id, name, strength))

    def _along_row(self, part_id: str, name: str, how: str) -> QWidget:
        box = QComboBox()
        box.setAccessibleName(f"How {name} goes along")
        box.setToolTip(f"Whether {name} goes along with the limb: bending softly with it, or stiffly as one")
        for key, words in HOW.items():
            box.addItem(words, key)
        box.setCurrentIndex(box.findData(how))
        box.activated.connect(lambda _: self._posing.go_along(part_id, str(box.currentData())))
        return labelled(name, box)

    def _pose_row(self, part_id: str, part: str, layer_id: str, name: str, strength: float) -> QWidget:
        row = QWidget()
        layout = QHBoxLayout(row)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        button = QPushButton(name)
        button.setAccessibleName(f"Take {name} of {part} in hand")
        button.setToolTip(f"Takes {name} of {part} in hand again, to bend it further")
        button.clicked.connect(lambda: self._resume(part_id, layer_id))
        dial = NumberField(
            f"How much of {name} of {part}",
            -100,
            200,
            suffix="%",
            tip="How far the limb is posed, of what it was bent by",
        )
        dial.set_value(strength * 100)
        levels = self._desk.levels
        dial.changed.connect(lambda value: self._dial(part_id, lambda: levels.dial(layer_id, value / 100)))
        dial.settled.connect(
            lambda value: self._dial(part_id, lambda: levels.keep_dial(layer_id, value / 100))
        )
        layout.addWidget(button, 1)
        layout.addWidget(dial, 1)
        return row

    def _dial(self, part_id: str, change: Callable[[], object]) -> None:
        if self._posing.has_limb:
            # It is posed in full while it is in hand.
            self._posing.let_go()
        part = self._studio.project.active
        if part is None or part.id != part_id:
            self._studio.project.choose(part_id)
        change()

    def _resume(self, part_id: str, layer_id: str) -> None:
        part = self._studio.project.scene.part(part_id)
        blocked = self._studio.stroke_blocked(part)
        if blocked:
            self._studio.say(blocked, "warning")
            return
        self._posing.resume(part, layer_id)
