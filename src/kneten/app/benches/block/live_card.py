"""The numbers of the live part in hand, and the boards its curves are drawn on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any, cast

from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kneten.app.benches.block.armature_mode import ArmatureMode
from kneten.app.benches.block.strand_mode import KnotMode
from kneten.app.fields.fields import CurveField, NumberField, labelled
from kneten.app.fields.quantities import count_text
from kneten.app.fields.shape_fields import LatheField, ProfileField
from kneten.app.work.card import Card
from kneten.app.work.commands import Registry
from kneten.app.work.studio import Studio
from kneten.core.live.armature import Armature
from kneten.core.live.eye import IRISES, PUPILS
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import KINDS, Primitive
from kneten.core.live.recipes import Laid, OnItsOwn
from kneten.core.live.strand import PROFILES, TAPERS, Strands
from kneten.document.placing import laid_on
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

INNER = {"tube": "Hole", "torus": "Hole", "cone": "Tip", "eye": "Iris"}
"""What the inner share is of, for the shapes that have one."""


NONE = "The part in hand is clay. Add a live\npart, and its numbers stand here."
LAID = "Rows and scatter have their numbers\nin Surface, on a card of their own."


def _with_gaze(i: int, recipe: OnItsOwn, value: float) -> OnItsOwn:
    assert isinstance(recipe, Primitive)
    side, up = (value if k == i else g for k, g in enumerate(recipe.gaze))
    return replace(recipe, gaze=(side, up))


def _with(recipe: OnItsOwn, **values: Any) -> OnItsOwn:
    """The recipe with other values; which it has is the panel's affair, which is there for its kind alone."""
    made: OnItsOwn = replace(cast("Any", recipe), **values)
    return made


class LiveCard(Card):
    """Changes the live part in hand; every change shows at once and is one undo step."""

    def __init__(self, studio: Studio, registry: Registry, view: Canvas) -> None:
        super().__init__("Live part", studio)
        self._registry = registry
        self._view = view
        self._filling = False
        self._fields: dict[str, QWidget] = {}
        # Lines are broken by hand: Qt keeps the height of wrapped lines from before a panel was shown.
        self.none = QLabel(NONE)
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.panels: dict[str, QWidget] = {}
        for kind, build in (
            ("primitive", self._build_primitive),
            ("strand", self._build_strand),
            ("lathe", self._build_lathe),
            ("armature", self._build_armature),
        ):
            panel = QWidget()
            rows = QVBoxLayout(panel)
            rows.setContentsMargins(0, 0, 0, 0)
            rows.setSpacing(6)
            self._rows = rows
            build()
            self.panels[kind] = panel
            self.column.addWidget(panel)
        self.bake = self._button("live.bake", "Bake to clay", primary=True)
        self.column.addWidget(self.bake)
        studio.scene_changed.connect(self.fill)
        view.mode_changed.connect(self.fill)
        studio.hand_released.connect(self.fill)
        self.fill()

    # -- building -------------------------------------------------------------------------------

    def _button(self, key: str, text: str, primary: bool = False) -> QPushButton:
        button = QPushButton(text)
        if primary:
            button.setObjectName("primary")
        button.setAccessibleName(self._registry.commands[key].name)
        button.setToolTip(self._registry.tip(self._registry.commands[key]))
        button.clicked.connect(lambda: self._registry.run(key))
        return button

    def _number(
        self,
        name: str,
        low: float,
        high: float,
        change: Callable[[OnItsOwn, float], OnItsOwn],
        **how: Any,
    ) -> NumberField:
        field = NumberField(name, low, high, **how)
        field.changed.connect(lambda v: self._change(lambda r: change(r, v), False))
        field.settled.connect(lambda v: self._change(lambda r: change(r, v), True, name))
        return field

    def _plain(self, name: str, key: str, low: float, high: float, **how: Any) -> NumberField:
        """A field for one number of the recipe."""
        whole = how.get("decimals", 0) == 0 and not how.get("share")
        scale = 100.0 if how.pop("share", False) else 1.0
        cast: Callable[[float], object] = round if whole and scale == 1 else float
        field = self._number(
            name,
            low,
            high,
            lambda r, v: _with(r, **{key: cast(v / scale)}),
            **how,
        )
        self._fields[key] = field
        field.setProperty("scale", scale)
        return field

    def _triple(self, name: str, key: str, low: float, high: float, **how: Any) -> None:
        fields = []
        for i, axis in enumerate("xyz"):

            def change(recipe: OnItsOwn, value: float, i: int = i) -> OnItsOwn:
                values = list(getattr(recipe, key))
                values[i] = round(value) if how.get("decimals", 0) == 0 else value
                return _with(recipe, **{key: tuple(values)})

            field = self._number(f"{name} {axis}", low, high, change, **how)
            self._fields[f"{key} {i}"] = field
            fields.append(field)
        label = QLabel(f"{name}  x  y  z")
        label.setObjectName("quiet")
        self._rows.addWidget(label)
        line = QHBoxLayout()
        line.setSpacing(4)
        for field in fields:
            line.addWidget(field)
        self._rows.addLayout(line)

    def _check(self, name: str, key: str, tip: str) -> QCheckBox:
        box = QCheckBox(name)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.toggled.connect(lambda on: self._change(lambda r: _with(r, **{key: on}), True, name))
        self._fields[key] = box
        return box

    def _choice(self, name: str, key: str, values: tuple[str, ...], tip: str) -> QComboBox:
        box = QComboBox()
        for value in values:
            box.addItem(value.capitalize(), value)
        box.setAccessibleName(name)
        box.setToolTip(tip)
        box.activated.connect(
            lambda _: self._change(lambda r: _with(r, **{key: box.currentData()}), True, name)
        )
        self._fields[key] = box
        return box

    def _build_primitive(self) -> None:
        shape = self._choice("Shape", "shape", KINDS, "Another body of the same size")
        self._rows.addWidget(labelled("Shape", shape))
        self._triple("Size", "size", 0.01, 1e5, unit="mm", decimals=1)
        self._triple("Divisions", "divisions", 1, 512)
        self.inner = self._plain("Inner share", "inner", 0, 100, share=True, suffix="%")
        self.inner_row = labelled("Inner", self.inner)
        self._rows.addWidget(self.inner_row)
        self.gaze = [
            self._number(
                f"Gaze {name}",
                -60,
                60,
                partial(_with_gaze, i),
                suffix="°",
            )
            for i, name in enumerate(("left", "up"))
        ]
        self.gaze_row = labelled("Gaze", *self.gaze)
        self._rows.addWidget(self.gaze_row)
        apart = self._plain("Between the eyes", "apart", 0, 1e4, unit="mm", decimals=1)
        self.apart_row = labelled("Pair, apart", apart)
        self._rows.addWidget(self.apart_row)
        iris = self._choice("Iris", "iris", tuple(IRISES), "The colour of the iris")
        pupil = self._choice("Pupil", "pupil", PUPILS, "The form of the pupil")
        self.look_row = labelled("Iris, pupil", iris, pupil)
        self._rows.addWidget(self.look_row)
        self.clear = self._check(
            "Clear cornea",
            "clear",
            "Lay the iris flat behind a cornea that is seen through, and bends what is seen",
        )
        self._rows.addWidget(self.clear)
        self._rows.addWidget(self._button("live.edit", "Handles in the view"))

    def _build_strand(self) -> None:
        self._build_profile()
        self._build_taper()
        self._build_ends()
        self._build_copies()
        self._build_knot()
        self.strand_count = QLabel()
        self.strand_count.setObjectName("quiet")
        self._rows.addWidget(self.strand_count)
        self._rows.addWidget(self._button("strand.edit", "Work on points"))
        more = QHBoxLayout()
        more.setSpacing(4)
        for key, text in (
            ("strand.free", "Draw"),
            ("strand.surface", "On clay"),
            ("strand.points", "Points"),
        ):
            more.addWidget(self._button(key, text))
        self._rows.addLayout(more)

    def _build_profile(self) -> None:
        rows = self._rows
        box = self._choice("Profile", "profile", PROFILES, "The tube's cross-section")
        rows.addWidget(labelled("Profile", box))
        self.profile = ProfileField(
            "Drawn profile", "Drag points; click the line to add one; Delete takes one out", 132
        )
        self.profile.changed.connect(lambda p: self._change(lambda r: _with(r, drawn=tuple(p)), False))
        self.profile.settled.connect(
            lambda p: self._change(lambda r: _with(r, drawn=tuple(p)), True, "Profile")
        )
        rows.addWidget(self.profile)
        rows.addWidget(
            labelled("Flatness", self._plain("Height of the profile", "flat", 2, 300, share=True, suffix="%"))
        )

    def _build_taper(self) -> None:
        rows = self._rows
        self.taper = QComboBox()
        self.taper.addItems([name.capitalize() for name in TAPERS])
        self.taper.setAccessibleName("Taper")
        self.taper.setToolTip("How thickness changes from root to tip; new strands get it too")
        self.taper.activated.connect(self._taper_chosen)
        rows.addWidget(labelled("Taper", self.taper))
        self.taper_curve = CurveField(
            "Taper curve", "Thickness from root (left) to tip: drag the points", False
        )
        self.taper_curve.changed.connect(
            lambda p: self._change(lambda r: _with(r, taper=tuple(p)), True, "Taper")
        )
        rows.addWidget(self.taper_curve)
        rows.addWidget(labelled("Twist", self._plain("Twist", "twist", -3600, 3600, decimals=1, suffix="°")))

    def _build_ends(self) -> None:
        rows = self._rows
        sides = self._plain("Sides", "sides", 3, 96)
        spans = self._plain("Rings between points", "spans", 1, 64)
        rows.addWidget(labelled("Sides, rings", sides, spans))
        pair = QHBoxLayout()
        pair.addWidget(self._check("Capped", "capped", "Closes open ends"))
        pair.addWidget(self._check("Round ends", "round_caps", "Half balls at the ends instead of flat caps"))
        rows.addLayout(pair)
        self.closed = QCheckBox("Closed loop")
        self.closed.setAccessibleName("Closed loop")
        self.closed.setToolTip("The strand's end meets its beginning")
        self.closed.toggled.connect(self._close)
        self.laid = QCheckBox("On the clay")
        self.laid.setAccessibleName("On the clay")
        self.laid.setToolTip("The strand lies on the clay around it, between its points as well")
        self.laid.toggled.connect(self._lay)
        pair = QHBoxLayout()
        pair.addWidget(self.closed)
        pair.addWidget(self.laid)
        rows.addLayout(pair)

    def _build_copies(self) -> None:
        rows = self._rows
        rows.addWidget(labelled("Copies each", self._plain("Copies of each strand", "copies", 0, 200)))
        rows.addWidget(labelled("Spread", self._plain("Spread", "spread", 0, 60, decimals=1, suffix="×")))
        vary = [
            self._plain("Vary length", "vary_length", 0, 100, share=True, suffix="%"),
            self._plain("Vary thickness", "vary_thickness", 0, 100, share=True, suffix="%"),
        ]
        rows.addWidget(labelled("Vary", *vary))
        lean = self._plain("Lean", "vary_turn", 0, 90, decimals=1, suffix="°")
        rows.addWidget(labelled("Lean, chance", lean, self._plain("Chance", "seed", 1, 9999)))

    def _build_knot(self) -> None:
        rows = self._rows
        self.knot_label = QLabel("Point in hand: thickness, roll, offset")
        self.knot_label.setObjectName("quiet")
        rows.addWidget(self.knot_label)
        self.knot = [
            NumberField("Thickness of the point", 0.01, 1e4, unit="mm", decimals=2),
            NumberField("Roll of the point", -3600, 3600, suffix="°", decimals=1),
            NumberField("Offset sideways", -1e4, 1e4, unit="mm", decimals=1),
            NumberField("Offset up", -1e4, 1e4, unit="mm", decimals=1),
        ]
        for field in self.knot:
            field.settled.connect(lambda _: self._knot_changed())
        first, second = QHBoxLayout(), QHBoxLayout()
        for line, pair_of in ((first, self.knot[:2]), (second, self.knot[2:])):
            line.setSpacing(4)
            for field in pair_of:
                line.addWidget(field)
            rows.addLayout(line)

    def _build_lathe(self) -> None:
        self.lathe = LatheField(
            "Lathe curve",
            "Drag points; click the line to add one; a double click makes one sharp or smooth; Delete takes one out",
            200,
        )
        self.lathe.changed.connect(lambda _: self._change(self._with_lathe, False))
        self.lathe.settled.connect(lambda _: self._change(self._with_lathe, True, "Curve"))
        self._rows.addWidget(self.lathe)
        around = self._plain("Quads around", "around", 3, 512)
        self._fields["lathe spans"] = self._number(
            "Rings between points",
            1,
            64,
            lambda r, v: _with(r, spans=round(v)),
        )
        self._rows.addWidget(labelled("Around, rings", around, self._fields["lathe spans"]))
        self._rows.addWidget(
            labelled(
                "Wall",
                self._plain("Thickness of the wall; 0: full", "thickness", 0, 1e4, unit="mm", decimals=1),
            )
        )

    def _build_armature(self) -> None:
        rows = self._rows
        rows.addWidget(
            labelled(
                "Skin edge", self._plain("Edge length of the skin", "edge", 0.05, 1e3, unit="mm", decimals=2)
            )
        )
        rows.addWidget(
            labelled(
                "Softness",
                self._plain("How softly limbs run together", "blend", 3, 60, share=True, suffix="%"),
            )
        )
        self.ball = NumberField("Radius of the ball in hand", 0.01, 1e4, unit="mm", decimals=2)
        self.ball.settled.connect(self._ball_sized)
        rows.addWidget(labelled("Ball radius", self.ball))
        self.balls = QLabel()
        self.balls.setObjectName("quiet")
        rows.addWidget(self.balls)
        rows.addWidget(self._button("armature.edit", "Work on balls"))
        rows.addWidget(self._button("armature.keep", "Keep in the library"))

    # -- changing -------------------------------------------------------------------------------

    def _part(self) -> Part | None:
        part = self._studio.project.active
        return part if part is not None and isinstance(part.recipe, OnItsOwn) else None

    def _change(self, change: Callable[[OnItsOwn], OnItsOwn], settled: bool, what: str = "") -> None:
        part = self._part()
        if self._filling or part is None or not isinstance(part.recipe, OnItsOwn):
            return
        blocked = self._studio.move_blocked(part)
        if blocked:
            self._studio.say(blocked, "warning")
            self.fill()
            return
        recipe = change(part.recipe)
        if settled:
            self._view.recasting.land(part, recipe, f"{what} of" if what else "Change")
        else:
            self._view.recasting.preview(part, recipe)

    def _with_lathe(self, recipe: OnItsOwn) -> OnItsOwn:
        assert isinstance(recipe, Lathe)
        return replace(recipe, points=self.lathe.lathe_points())

    def _taper_chosen(self) -> None:
        name = list(TAPERS)[self.taper.currentIndex()]
        self._studio.preferences.strand_taper = name
        self._change(lambda r: _with(r, taper=TAPERS[name]), True, "Taper")

    def _close(self, on: bool) -> None:
        def change(recipe: OnItsOwn) -> OnItsOwn:
            assert isinstance(recipe, Strands)
            return replace(
                recipe, strands=tuple(replace(s, closed=on and len(s.knots) > 2) for s in recipe.strands)
            )

        self._change(change, True, "Loop")

    def _lay(self, on: bool) -> None:
        """Lay all strands of the part onto the clay around, or let them run free."""
        part = self._studio.project.active
        if part is None or self._filling:
            return
        others = [other for other in self._studio.project.scene.parts if other.id != part.id]

        def change(recipe: OnItsOwn) -> OnItsOwn:
            assert isinstance(recipe, Strands)
            assert part is not None
            return replace(
                recipe,
                strands=tuple(
                    laid_on(others, strand, part.transform) if on else replace(strand, laid=())
                    for strand in recipe.strands
                ),
            )

        self._change(change, True, "On the clay")

    def _knot_changed(self) -> None:
        mode = self._view.mode
        if not self._filling and isinstance(mode, KnotMode):
            thick, roll, side, up = (field.value() for field in self.knot)
            mode.change(thickness=thick, roll=roll, offset=(side, up))

    def _ball_sized(self, value: float) -> None:
        mode = self._view.mode
        part = self._part()
        if self._filling or part is None or not isinstance(mode, ArmatureMode) or mode.held < 0:
            return
        armature = part.recipe
        assert isinstance(armature, Armature)
        mode.size_by(value / armature.joint(mode.held).radius)

    # -- filling --------------------------------------------------------------------------------

    def fill(self) -> None:
        """Show the live part in hand."""
        part = self._part()
        self._filling = True
        recipe = part.recipe if part is not None else None
        active = self._studio.project.active
        laid = active is not None and isinstance(active.recipe, Laid)
        self.none.setVisible(recipe is None)
        self.none.setText(LAID if laid else NONE)
        self.bake.setVisible(recipe is not None or laid)
        for kind, panel in self.panels.items():
            panel.setVisible(recipe is not None and recipe.kind == kind)
        self.set_title("Live part" if recipe is None else f"Live part: {recipe.kind}")
        if recipe is not None:
            for key, field in self._fields.items():
                name, _, index = key.partition(" ")
                if name == "lathe":
                    if isinstance(recipe, Lathe):
                        field.set_value(recipe.spans)  # type: ignore[attr-defined]
                    continue
                if not hasattr(recipe, name):
                    continue
                value = getattr(recipe, name)
                if index:
                    value = value[int(index)]
                if isinstance(field, QCheckBox):
                    field.setChecked(bool(value))
                elif isinstance(field, QComboBox):
                    field.setCurrentIndex(field.findData(value))
                elif isinstance(field, NumberField):
                    field.set_value(float(value) * float(field.property("scale") or 1.0))
            if isinstance(recipe, Primitive):
                self._fill_primitive(recipe)
            elif isinstance(recipe, Strands):
                self._fill_strand(recipe)
            elif isinstance(recipe, Lathe):
                self.lathe.set_lathe(recipe)
            elif isinstance(recipe, Armature) and part is not None:
                self._fill_armature(recipe, part)
        self._filling = False

    def _fill_primitive(self, recipe: Primitive) -> None:
        name = INNER.get(recipe.shape, "")
        self.inner_row.setVisible(bool(name))
        label = self.inner_row.findChild(QLabel)
        if label is not None:
            label.setText(name)
        eye = recipe.shape == "eye"
        self.gaze_row.setVisible(eye)
        self.apart_row.setVisible(eye)
        self.look_row.setVisible(eye)
        self.clear.setVisible(eye)
        for field, value in zip(self.gaze, recipe.gaze, strict=True):
            field.set_value(value)

    def _fill_strand(self, recipe: Strands) -> None:
        self.profile.setVisible(recipe.profile == "drawn")
        self.profile.set_points(recipe.drawn)
        self.taper_curve.set_points(recipe.taper)
        names = [name for name, curve in TAPERS.items() if curve == recipe.taper]
        self.taper.setCurrentIndex(list(TAPERS).index(names[0]) if names else -1)
        self.closed.setChecked(all(s.closed for s in recipe.strands) and bool(recipe.strands))
        self.laid.setChecked(all(s.laid for s in recipe.strands) and bool(recipe.strands))
        mode = self._view.mode
        held = isinstance(mode, KnotMode) and 0 <= mode.held[0] < len(recipe.strands)
        for widget in (self.knot_label, *self.knot):
            widget.setVisible(held)
        if held:
            assert isinstance(mode, KnotMode)
            knots = recipe.strands[mode.held[0]].knots
            knot = knots[min(mode.held[1], len(knots) - 1)]
            for field, value in zip(self.knot, (knot.thickness, knot.roll, *knot.offset), strict=True):
                field.set_value(value)
        count = len(recipe.strands) * (recipe.copies + 1)
        knots_all = sum(len(s.knots) for s in recipe.strands)
        self.strand_count.setText(f"{count_text(count)} strands, {count_text(knots_all)} points")

    def _fill_armature(self, recipe: Armature, part: Part) -> None:
        mode = self._view.mode
        held = mode.held if isinstance(mode, ArmatureMode) else -1
        known = any(j.key == held for j in recipe.joints)
        self.ball.setEnabled(known)
        if known:
            self.ball.set_value(recipe.joint(held).radius)
        thin = sum(j.radius < recipe.edge * 0.75 for j in recipe.joints)
        text = f"{len(recipe.joints)} balls, {count_text(part.mesh.count)} vertices."
        if thin:
            text += f"\n{thin} balls are thinner than the skin's edge;\na shorter one shows them."
        self.balls.setText(text)
        self.balls.setObjectName("warning" if thin else "quiet")
        self.balls.style().polish(self.balls)
