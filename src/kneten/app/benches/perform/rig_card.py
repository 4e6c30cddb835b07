"""The card of rigs: joints, what they turn, poses that are kept."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kneten.app.benches.perform.pose_card import HOW
from kneten.app.benches.perform.small_pictures import SIZE, SmallPictures
from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.pose.fitter import KINDS
from kneten.core.pose.motions import MOTIONS
from kneten.core.pose.rig import MOST_TURN, Rig
from kneten.document.rigging import rig_of
from kneten.document.things import KeptPose

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

NUMBERS = (
    ("bend", "Bend", "Turns the joint about the axis across its limb"),
    ("aside", "Aside", "Turns the joint to the side of its limb"),
    ("twist", "Turn", "Turns the joint about its limb"),
)


class RigCard(Card):
    """The rig of the part in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Rig", desk.studio)
        self._desk = desk
        self._rigging = desk.rigging
        self.says = Words()
        self.column.addWidget(self.says)
        making, self.buttons = command_grid(
            desk.registry,
            (
                ("rig.from-armature", "Armature"),
                ("rig.place", "Place"),
                ("rig.remove", "Remove"),
            ),
        )
        self.column.addLayout(making)
        self._fit_rows()
        self.both = QCheckBox("Both sides")
        self.both.setAccessibleName("Joints of both sides")
        self.both.setToolTip(desk.registry.tip(desk.registry.commands["rig.both"]))
        self.both.toggled.connect(lambda _: desk.registry.run("rig.both"))
        self.column.addWidget(self.both)
        self.rest = QWidget()
        rows = QVBoxLayout(self.rest)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        self.column.addWidget(self.rest)
        self._joint_rows(rows)
        self._weight_rows(rows)
        self._pose_rows(rows)
        self._along_rows(rows)
        # A face without joints has motions, too.
        self.moving = QWidget()
        rows = QVBoxLayout(self.moving)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        self.column.addWidget(self.moving)
        self._motion_rows(rows)
        self._listed: object = None
        self._rigging.changed.connect(self.fill)
        self.fill()

    def _fit_rows(self) -> None:
        fitting = self._desk.fitting
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of body")
        self.kind.setToolTip("What kind of body the part in hand is, for joints to be found in its form")
        for key, kind in KINDS.items():
            self.kind.addItem(kind.name, key)
        self.kind.activated.connect(lambda _: fitting.choose(str(self.kind.currentData())))
        self.column.addWidget(labelled("Body", self.kind))
        grid, more = command_grid(
            self._desk.registry, (("rig.fit", "Find"), ("rig.fit-take", "Take"), ("rig.fit-skip", "Has none"))
        )
        self.buttons |= more
        self.column.addLayout(grid)
        self.fits = Words()
        self.column.addWidget(self.fits)
        fitting.changed.connect(self._fill_fit)
        self._fill_fit()

    def _fill_fit(self) -> None:
        fitting = self._desk.fitting
        self.fits.setText(fitting.words())
        self.fits.setVisible(bool(fitting.words()))
        self.buttons["rig.fit-take"].setVisible(fitting.part is not None)
        self.buttons["rig.fit-skip"].setVisible(bool(fitting.asks))
        with QSignalBlocker(self.kind):
            self.kind.setCurrentIndex(self.kind.findData(fitting.kind))

    def _joint_rows(self, rows: QVBoxLayout) -> None:
        self.joint = QComboBox()
        self.joint.setAccessibleName("Joint")
        self.joint.setToolTip("The joint that the numbers below are of")
        self.joint.activated.connect(lambda _: self._rigging.choose(str(self.joint.currentData())))
        rows.addWidget(labelled("Joint", self.joint))
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the joint")
        self.name.setToolTip("What the joint is called; motions and poses find it by its name")
        self.name.editingFinished.connect(self._rename)
        rows.addWidget(labelled("Name", self.name))
        self.fields: dict[str, NumberField] = {}
        for key, name, tip in NUMBERS:
            field = NumberField(name, -MOST_TURN, MOST_TURN, suffix="°", decimals=1, tip=tip)
            field.changed.connect(lambda value, key=key: self._show(key, value))
            field.settled.connect(lambda value, key=key, name=name: self._keep(key, value, name))
            self.fields[key] = field
            rows.addWidget(labelled(name, field))
        self.limit = NumberField(
            "Limit", 1, MOST_TURN, suffix="°", tip="How far the joint turns at most, however it is pulled"
        )
        self.limit.settled.connect(self._limited)
        rows.addWidget(labelled("Limit", self.limit))
        posing, more = command_grid(
            self._desk.registry,
            (("rig.pose", "Pose"), ("rig.rest", "Rest"), ("rig.mirror", "Mirror")),
        )
        self.buttons |= more
        rows.addLayout(posing)

    def _weight_rows(self, rows: QVBoxLayout) -> None:
        title = QLabel("What goes along with the joint")
        title.setObjectName("quiet")
        rows.addWidget(title)
        grid, more = command_grid(
            self._desk.registry,
            (
                ("rig.to-mask", "To mask"),
                ("rig.from-mask", "From mask"),
                ("rig.smooth", "Smooth"),
                ("rig.mirror-weights", "Mirror"),
                ("rig.weights", "Find anew"),
            ),
        )
        self.buttons |= more
        rows.addLayout(grid)

    def _motion_rows(self, rows: QVBoxLayout) -> None:
        playing = self._desk.playing
        self.motion = QComboBox()
        self.motion.setAccessibleName("Motion")
        self.motion.setToolTip("A motion that shows what the skin does; it finds joints by their names")
        self.motion.activated.connect(lambda _: playing.choose(str(self.motion.currentData())))
        rows.addWidget(labelled("Motion", self.motion))
        self.time = NumberField(
            "Time", 0, 100, suffix="%", tip="Where in the motion's round the body is shown"
        )
        self.time.changed.connect(lambda value: playing.scrub(value / 100))
        self.time.settled.connect(lambda value: playing.scrub(value / 100))
        rows.addWidget(labelled("Time", self.time))
        grid, more = command_grid(
            self._desk.registry,
            (
                ("rig.play", "Play"),
                ("rig.keep-frame", "Keep"),
                ("rig.stop", "End"),
                ("rig.forget-motion", "Forget"),
            ),
            2,
        )
        self.buttons |= more
        rows.addLayout(grid)
        playing.changed.connect(self._fill_motion)

    def _fill_motion(self) -> None:
        playing = self._desk.playing
        self.buttons["rig.play"].setText("Pause" if playing.plays else "Play")
        self.buttons["rig.forget-motion"].setVisible(not playing.no_kept())
        self.time.set_value(playing.phase * 100)
        wanted = [(one.name, key) for key, one in MOTIONS.items()]
        wanted += [(one.name, one.id) for one in playing.kept()]
        with QSignalBlocker(self.motion):
            if wanted != [
                (self.motion.itemText(k), self.motion.itemData(k)) for k in range(self.motion.count())
            ]:
                self.motion.clear()
                for name, key in wanted:
                    self.motion.addItem(name, key)
            self.motion.setCurrentIndex(self.motion.findData(playing.key))

    def _along_rows(self, rows: QVBoxLayout) -> None:
        self.along_title = QLabel("Parts that go along")
        self.along_title.setObjectName("quiet")
        rows.addWidget(self.along_title)
        self.along = QComboBox()
        self.along.setAccessibleName("Part that goes along")
        self.along.setToolTip("The part that the choice beside it is about")
        self.along.activated.connect(lambda _: self._fill_how())
        self.how = QComboBox()
        self.how.setAccessibleName("How it goes along")
        self.how.setToolTip(
            "Whether the part goes along with the body: bending softly with it, or stiffly as one"
        )
        for key, words in HOW.items():
            self.how.addItem(words, key)
        self.how.activated.connect(
            lambda _: self._rigging.go_along(str(self.along.currentData()), str(self.how.currentData()))
        )
        self.along_row = QWidget()
        row = QHBoxLayout(self.along_row)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(self.along, 3)
        row.addWidget(self.how, 2)
        rows.addWidget(self.along_row)
        grid, more = command_grid(self._desk.registry, (("rig.along", "Take along what is chosen"),), 1)
        self.buttons |= more
        rows.addLayout(grid)

    def _pose_rows(self, rows: QVBoxLayout) -> None:
        self._pictures = SmallPictures(self._desk)
        self._pictures.arrived.connect(self._fill_pictures)
        self.head.toggled.connect(self._fill_pictures)
        self._seen: dict[str, QLabel] = {}
        self.poses_title = QLabel("Poses")
        self.poses_title.setObjectName("quiet")
        rows.addWidget(self.poses_title)
        self.poses = QVBoxLayout()
        self.poses.setSpacing(4)
        rows.addLayout(self.poses)
        grid, more = command_grid(self._desk.registry, (("rig.keep-pose", "Keep this pose"),), 1)
        self.buttons |= more
        rows.addLayout(grid)

    # -- numbers --------------------------------------------------------------------------------

    def _turned(self, key: str, value: float) -> Rig:
        now = dict(zip((key for key, _, _ in NUMBERS), self._rigging.numbers(), strict=True))
        now[key] = value
        rig: Rig = self._rigging.with_numbers(now["bend"], now["aside"], now["twist"])
        return rig

    def _show(self, key: str, value: float) -> None:
        if self._rigging.number >= 0:
            self._rigging.show(self._turned(key, value))

    def _keep(self, key: str, value: float, name: str) -> None:
        if self._rigging.number >= 0:
            self._rigging.keep(self._turned(key, value), f"{name} {self._rigging.chosen}")

    def _limited(self, value: float) -> None:
        if self._rigging.number >= 0:
            self._rigging.set_limit(value)

    def _rename(self) -> None:
        if self._rigging.number < 0:
            return
        why = self._rigging.rename(self.name.text())
        if why:
            self._studio.say(why, "warning")
        self.fill()

    # -- what is shown --------------------------------------------------------------------------

    def fill(self) -> None:
        """Show the rig in hand."""
        rigging = self._rigging
        self.says.setText(rigging.words())
        with QSignalBlocker(self.both):
            self.both.setChecked(rigging.both)
        rig = rigging.rig if rigging.body is not None else None
        self.rest.setVisible(rig is not None)
        self.moving.setVisible(rig is not None or bool(self._desk.playing.kept()))
        self._fill_motion()
        if rig is None:
            return
        at = rigging.number
        names = [joint.name for joint in rig.joints]
        with QSignalBlocker(self.joint):
            if [self.joint.itemText(k) for k in range(self.joint.count())] != names:
                self.joint.clear()
                for name in names:
                    self.joint.addItem(name, name)
            self.joint.setCurrentIndex(at)
        for field in (*self.fields.values(), self.limit):
            field.setEnabled(at >= 0)
            if at < 0:
                field.set_value(MOST_TURN if field is self.limit else 0.0)
        if at >= 0:
            for (key, _, _), value in zip(NUMBERS, rigging.numbers(), strict=True):
                self.fields[key].set_value(value)
            self.limit.set_value(rig.joints[at].limit)
        if not self.name.hasFocus():
            self.name.setText(rigging.chosen if at >= 0 else "")
        self._fill_poses()
        self._fill_along()

    def _fill_along(self) -> None:
        parts = self._rigging.along()
        self.along_title.setVisible(bool(parts))
        self.along_row.setVisible(bool(parts))
        wanted = [(part.name, part.id) for part in parts]
        if wanted != [(self.along.itemText(k), self.along.itemData(k)) for k in range(self.along.count())]:
            held = self.along.currentData()
            self.along.clear()
            for name, key in wanted:
                self.along.addItem(name, key)
            self.along.setCurrentIndex(max(self.along.findData(held), 0))
        self._fill_how()

    def _fill_how(self) -> None:
        part = next((one for one in self._rigging.along() if one.id == self.along.currentData()), None)
        rig = None if part is None else rig_of(part)
        if rig is not None:
            self.how.setCurrentIndex(self.how.findData("stiff" if rig.as_one else "soft"))

    def _fill_poses(self) -> None:
        kept = self._rigging.kept()
        if kept == self._listed:
            self._fill_pictures()
            return
        self._listed = kept
        self._seen.clear()
        while (item := self.poses.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for one in kept:
            self.poses.addWidget(self._pose_row(one))
        self._fill_pictures()

    def _fill_pictures(self) -> None:
        """Show the pictures that are there, and have the others drawn once they are seen."""
        body = self._rigging.body
        if body is None or not self.poses_title.isVisible():
            return
        scene = self._studio.project.scene
        for one in self._rigging.kept():
            picture = self._pictures.of_pose(scene, body, one)
            if picture is not None and one.id in self._seen:
                self._seen[one.id].setPixmap(picture)

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        """What is seen gets its pictures."""
        super().showEvent(event)
        self._fill_pictures()

    def _pose_row(self, kept: KeptPose) -> QWidget:
        rigging = self._rigging
        row = QWidget()
        layout = QGridLayout(row)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        seen = QLabel()
        seen.setFixedSize(SIZE)
        self._seen[kept.id] = seen
        button = QPushButton(kept.name)
        button.setAccessibleName(f"Take the pose {kept.name}")
        button.setToolTip("Poses the body, and all that goes along, as was kept")
        button.clicked.connect(lambda: rigging.take_pose(kept))
        dial = NumberField(
            f"How far towards {kept.name}",
            0,
            100,
            suffix="%",
            tip="How far on the way from the pose of now to this one: mixes the two",
        )
        dial.changed.connect(lambda value: rigging.show(rigging.towards(kept, value / 100)))
        dial.settled.connect(lambda value: rigging.keep(rigging.towards(kept, value / 100), kept.name))
        forget = QToolButton()
        forget.setText("✕")
        forget.setAccessibleName(f"Forget the pose {kept.name}")
        forget.setToolTip("Forgets this pose; the body stays as it is")
        forget.clicked.connect(lambda: rigging.forget_pose(kept))
        layout.addWidget(seen, 0, 0, 2, 1)
        layout.addWidget(button, 0, 1, 1, 2)
        layout.addWidget(dial, 1, 1)
        layout.addWidget(forget, 1, 2)
        layout.setColumnStretch(1, 1)
        return row
