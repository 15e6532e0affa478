"""Gait: a walk from numbers, both sides in one row."""

from __future__ import annotations

from functools import partial
from typing import Any, NamedTuple

import numpy as np
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QWidget

from pegloom.app.areas.motion.gaits import (
    BOTH,
    GaitSettings,
    begin_with,
    change,
    gait_in_hand,
    kind_of_body,
    rate_words,
    rolls_here,
    set_slope,
    set_turn,
    settings,
    take_rate,
    told_in_hand,
)
from pegloom.app.context import Context
from pegloom.app.jobs import Order
from pegloom.app.state.state import State
from pegloom.app.theme import put_icon
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import fill, narrow, number, tick
from pegloom.app.widgets.numbers import NumberBox, ScrubLabel
from pegloom.core.motion.gait.numbers import FEET, LIMITS, PRESETS, SIDES, Gait
from pegloom.core.motion.gait.told import RATES, STRIDES, GaitTold
from pegloom.core.motion.retarget.chains import kind_of, parts_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document import edits


class Number(NamedTuple):
    """title, name of the number, what it is shown times, unit, step, decimals, and which bodies have it."""

    title: str
    name: str
    times: float
    unit: str
    step: float
    tip: str
    bodies: tuple[str, ...] = ("two", "bird", "four", "many")


OF_LEG = "percent of the leg's length"
GROUPS = (
    ("Steps", (
        Number("Stride", "stride", 100.0, " %", 5.0, f"From a footfall to the next of the same foot, {OF_LEG}"),
        Number("Steps a minute", "cadence", 1.0, "", 2.0, "0: what suits the body's size and the stride"),
        Number("Stands", "duty", 100.0, " %", 2.0, "Share of the stride a foot is on the ground"),
        Number("Lift", "lift", 100.0, " %", 1.0, f"How high a foot goes, {OF_LEG}"),
        Number("Foot roll", "roll", 100.0, " %", 5.0, "Over heel and ball; 100 as people do", ("two", "bird")),
        Number("Toes out", "toe_out", 1.0, "°", 1.0, "How far the feet point outward"),
        Number("Feet apart", "width", 100.0, " %", 5.0, "100: as far as the hips are wide"),
        Number("Second foot", "offset", 100.0, " %", 2.0, "When in the stride it falls; 50 even, else it limps", ("two", "bird")),
    )),
    ("Body", (
        Number("Hips", "height", 100.0, " %", 1.0, f"How high, {OF_LEG}: less crouches, more goes on tiptoe"),
        Number("Bob", "bob", 100.0, " %", 0.5, f"Up and down, {OF_LEG}"),
        Number("Sway", "sway", 100.0, " %", 0.5, f"To the side of the foot that stands, {OF_LEG}"),
        Number("Lean", "lean", 1.0, "°", 1.0, "Of the trunk, ahead"),
        Number("Hip twist", "hip_twist", 1.0, "°", 1.0, "With the legs"),
        Number("Shoulder twist", "shoulder_twist", 1.0, "°", 1.0, "Against the hips", ("two", "bird")),
    )),
    ("Arms and head", (
        Number("Arm swing", "arm_swing", 1.0, "°", 2.0, "Against the legs, in their time", ("two",)),
        Number("Elbows", "elbow", 1.0, "°", 5.0, "How far they are bent", ("two",)),
        Number("Level head", "steady", 100.0, " %", 5.0, "How much the head stays level"),
        Number("Nod", "nod", 100.0, " %", 5.0, "How much the head holds its place through a step", ("bird",)),
        Number("Wings folded", "fold", 100.0, " %", 5.0, "0 spread, as they may be at rest", ("bird",)),
    )),
)  # fmt: skip
FEET_WORDS = {"walk": "walk, 4 beats", "amble": "amble, 4 beats", "pace": "pace, by sides", "trot": "trot, 2 beats", "canter": "canter, 3 beats",
              "threes": "by threes", "wave": "in a wave"}  # fmt: skip
LATER = 250
"""Milliseconds after a change that what frame rates cost is asked."""


def _grid() -> tuple[QWidget, QGridLayout]:
    """A table of captions and fields."""
    holder = QWidget()
    grid = QGridLayout(holder)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(6)
    grid.setVerticalSpacing(3)
    grid.setColumnMinimumWidth(0, 88)
    grid.setColumnStretch(1, 1)
    return holder, grid


class GaitCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Gait", "motion.gait", sentence="A walk from numbers, for any body with legs. Change them while it plays.", is_open=False)
        self.preset = QComboBox()
        narrow(self.preset)
        self.preset.setObjectName("gait.preset")
        self.preset.activated.connect(lambda _: begin_with(c, self.preset.currentData()))
        self.field("Begin with", self.preset)
        self.kind = ""
        self.boxes: dict[tuple[str, int], NumberBox] = {}
        self.links: dict[str, QWidget] = {}
        self.rows: dict[str, tuple[Number, list[QWidget]]] = {}
        self.steps_before: dict[str, tuple[float, float]] = {}
        self._new()
        self._table()
        self._way()
        self.cost = label("", "caption", wrap=True)
        self.cost.setObjectName("gait.cost")
        self.better = button("", "gait.better", lambda: take_rate(c, self.wanted_rate), role="plain")
        self.better.setAccessibleName("Take the better frame rate")
        self.body.addWidget(self.cost)
        self.body.addWidget(self.better)
        self.wanted_rate = 0.0
        self.cost_of: tuple[Gait, float] | None = None
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(LATER)
        self.timer.timeout.connect(self._ask_cost)
        self.by_hand = label("Its keys were changed by hand: it follows its numbers no more.", "caption", wrap=True)
        self.by_hand.setObjectName("gait.by_hand")
        self.anew = action_button(c.actions.qactions["gait.anew"], "Make it anew")
        self.body.addWidget(self.by_hand)
        self.body.addWidget(self.anew)
        self.make = action_button(c.actions.qactions["gait.make"], "Make the clip", role="main")
        self.row(self.make)

    def _new(self) -> None:
        """What a new clip begins with."""
        self.new, grid = _grid()
        grid.addWidget(label("Strides", "soft"), 0, 0)
        grid.addWidget(number(self, GaitSettings, "strides", *STRIDES, name="gait.new_strides", decimals=1), 0, 1)
        for k, (name, text, tip) in enumerate((("start", "From standing", "Begins with a stand"), ("stop", "To a stand", "Ends with one"), ("in_place", "In place", "The ground goes under it"))):
            grid.addWidget(tick(self, GaitSettings, name, text, name=f"gait.new_{name}", tip=tip), 1 + k // 2, k % 2)
        self.body.addWidget(self.new)

    def _table(self) -> None:
        self.table, grid = _grid()
        grid.setColumnStretch(2, 1)
        self.sides = [label(side, "caption") for side in SIDES]
        for column, side in enumerate(self.sides, 1):
            grid.addWidget(side, 0, column)
        at = 1
        self.feet = QComboBox()
        self.feet.setObjectName("gait.feet")
        narrow(self.feet)
        self.feet.activated.connect(lambda _: change(self.c, "Footfalls", {"feet": self.feet.currentData(), "falls": {}}))
        self.lead = QComboBox()
        self.lead.setObjectName("gait.lead")
        narrow(self.lead)
        fill(self.lead, [(side, side) for side in SIDES])
        self.lead.activated.connect(lambda _: change(self.c, "Lead", {"lead": self.lead.currentData()}))
        self.feet_row: list[QWidget] = []
        for title, box in (("Footfalls", self.feet), ("Lead", self.lead)):
            caption = label(title, "soft")
            box.setAccessibleName(title)
            grid.addWidget(caption, at, 0)
            grid.addWidget(box, at, 1, 1, 2)
            self.feet_row += [caption, box]
            at += 1
        for title, some in GROUPS:
            head = label(title, "heading")
            grid.addWidget(head, at, 0, 1, 4)
            at += 1
            for one in some:
                self._row(grid, at, one)
                at += 1
        grid.addWidget(label("Strides", "soft"), at, 0)
        self.strides = self._plain("strides", *STRIDES, "", 1.0)
        grid.addWidget(self.strides, at, 1)
        grid.addWidget(label("Frames a second", "soft"), at + 1, 0)
        self.rate = self._plain("rate", *RATES, "", 1.0)
        grid.addWidget(self.rate, at + 1, 1)
        self.body.addWidget(self.table)
        ticks = QWidget()
        line = QGridLayout(ticks)
        line.setContentsMargins(0, 0, 0, 0)
        self.ticks: dict[str, QCheckBox] = {}
        for k, (name, text) in enumerate((("start", "From standing"), ("stop", "To a stand"), ("in_place", "In place"))):
            box_ = QCheckBox(text)
            box_.setObjectName(f"gait.{name}")
            box_.setAccessibleName(text)
            box_.toggled.connect(partial(self._ticked, name, text))
            self.ticks[name] = box_
            line.addWidget(box_, k // 2, k % 2)
        self.body.addWidget(ticks)
        self.ticks_row = ticks

    def _row(self, grid: QGridLayout, at: int, one: Number) -> None:
        caption = ScrubLabel(one.title)
        caption.setToolTip(f"{one.tip}. Drag sideways to change it; Ctrl finer, Shift coarser")
        caption.scrubbed.connect(partial(self._scrubbed, one))
        caption.ended.connect(lambda: self.steps_before.pop(one.name, None))
        grid.addWidget(caption, at, 0)
        widgets: list[QWidget] = [caption]
        for side in range(2 if one.name in BOTH else 1):
            box = NumberBox()
            box.setObjectName(f"gait.{one.name}" if side == 0 else f"gait.{one.name}.right")
            box.setAccessibleName(f"{one.title}{f' {SIDES[side]}' if one.name in BOTH else ''}")
            box.setToolTip(one.tip)
            low, high = LIMITS[one.name]
            box.setRange(low * one.times, high * one.times)
            box.setSingleStep(one.step)
            box.setDecimals(1 if one.step < 1.0 else 0)
            box.setSuffix(one.unit)
            box.setProperty("role", "narrow")
            box.setKeyboardTracking(False)
            if one.name == "cadence":
                box.setSpecialValueText("by size")
            box.valueChanged.connect(partial(self._changed, one, side))
            self.boxes[one.name, side] = box
            grid.addWidget(box, at, 1 + side)
            widgets.append(box)
        if one.name in BOTH:
            link = button("", f"gait.{one.name}.part", partial(self._part, one), role="plain", tip="Let the two sides have numbers of their own, or one for both")
            link.setCheckable(True)
            link.setFixedWidth(26)
            link.setAccessibleName(f"{one.title}: sides apart")
            grid.addWidget(link, at, 3)
            self.links[one.name] = link
            widgets.append(link)
        self.rows[one.name] = (one, widgets)

    def _way(self) -> None:
        c = self.c
        self.way, grid = _grid()
        self.turn = self._plain("turn", -360.0, 360.0, "° a metre", 5.0)
        self.slope = self._plain("slope", -60.0, 60.0, " %", 2.0)
        for at, (title, box) in enumerate((("Turn", self.turn), ("Slope", self.slope))):
            grid.addWidget(label(title, "soft"), at, 0)
            grid.addWidget(box, at, 1)
        self.body.addWidget(self.way)
        q = c.actions.qactions
        for at, (action, text) in enumerate((("gait.way", "Points in the view"), ("gait.straight", "Straight again")), 2):
            grid.addWidget(action_button(q[action], text), 2, at - 2)
        grid.addWidget(action_button(q["gait.across"], "Swap sides"), 3, 0)

    def _plain(self, name: str, low: float, high: float, unit: str, step: float) -> NumberBox:
        box = NumberBox()
        box.setObjectName(f"gait.{name}")
        box.setAccessibleName(name.capitalize())
        box.setRange(low, high)
        box.setSuffix(unit)
        box.setSingleStep(step)
        box.setDecimals(1)
        box.setProperty("role", "narrow")
        box.setKeyboardTracking(False)
        box.valueChanged.connect(partial(self._plainly, name))
        return box

    # What the user does

    def _plainly(self, name: str, value: float) -> None:
        if self.showing:
            return
        if name == "turn":
            set_turn(self.c, value)
        elif name == "slope":
            set_slope(self.c, value)
        elif name == "strides":
            change(self.c, "Strides", strides=value)
        else:
            change(self.c, "Frame rate", rate=value)

    def _ticked(self, name: str, text: str, on: bool) -> None:
        if not self.showing:
            options: dict[str, Any] = {name: on}
            change(self.c, text, **options)

    def _changed(self, one: Number, side: int, value: float) -> None:
        told = told_in_hand(self.c)
        if self.showing or told is None:
            return
        value /= one.times
        if one.name in BOTH:
            pair = list(getattr(told.gait, one.name))
            pair[side] = value
            self._put(one, pair if self._apart(told, one.name) else [value, value])
        else:
            self._put(one, [value])

    def _put(self, one: Number, values: list[float]) -> None:
        numbers: dict[str, object] = {one.name: values if one.name in BOTH else values[0]}
        if one.name in ("duty", "offset"):
            # What feet were given on the lane gives way to the number.
            numbers["falls"] = {}
        change(self.c, one.title, numbers)

    def _scrubbed(self, one: Number, steps: float) -> None:
        told = told_in_hand(self.c)
        if told is None:
            return
        held = getattr(told.gait, one.name)
        before = self.steps_before.setdefault(one.name, held if isinstance(held, tuple) else (held, held))
        low, high = LIMITS[one.name]
        by = 0.25 * one.step * steps / one.times
        self._put(one, [float(np.clip(v + by, low, high)) for v in before[: 2 if one.name in BOTH else 1]])

    def _part(self, one: Number) -> None:
        told = told_in_hand(self.c)
        if told is None:
            return
        parted = set(filter(None, settings(self.c.state).parted.split()))
        if self._apart(told, one.name):
            parted.discard(one.name)
            left, _ = getattr(told.gait, one.name)
            self.c.store.put_setting(GaitSettings, parted=" ".join(sorted(parted)))
            self._put(one, [left, left])
        else:
            self.c.store.put_setting(GaitSettings, parted=" ".join(sorted(parted | {one.name})))
        self.look_anew()

    def _apart(self, told: GaitTold, name: str) -> bool:
        left, right = getattr(told.gait, name)
        return abs(left - right) > 1e-9 or name in settings(self.c.state).parted.split()

    # What is shown

    def key(self, state: State) -> tuple[object, ...]:
        skeleton = state.character.skeleton if state.character is not None else None
        return (settings(state), gait_in_hand(state), self.c.live.about is not None, skeleton)

    def show_state(self, state: State) -> None:
        skeleton = state.character.skeleton if state.character is not None else None
        kind, told, clip = kind_of_body(skeleton), told_in_hand(self.c), gait_in_hand(state)
        if kind != self.kind:
            self.kind = kind
            fill(self.preset, [(name, name) for name in PRESETS[kind]])
            four = kind == "four"
            fill(self.feet, [(FEET_WORDS[name], name) for name in FEET if bool(FEET[name]) is four])
        named = told.preset if told is not None else settings(state).preset
        self.preset.setCurrentIndex(max(self.preset.findData(named), 0))
        by_hand = clip is not None and not self.c.live.busy and edits.changed_by_hand(clip)
        shown = told is not None
        for widget in (self.table, self.way, self.ticks_row):
            widget.setVisible(shown)
            widget.setEnabled(not by_hand)
        self.new.setVisible(not shown)
        self.by_hand.setVisible(by_hand)
        self.anew.setVisible(by_hand)
        self.make.setText("Make the clip" if not shown else "Make another")
        self.note.setText(clip.name if clip is not None else "")
        if told is None or skeleton is None:
            for quiet in (self.cost, self.better):
                quiet.hide()
            return
        self._show_numbers(told, kind, skeleton)
        if self.cost_of != (told.gait, told.rate):
            self.timer.start()

    def _show_numbers(self, told: GaitTold, kind: str, skeleton: Skeleton) -> None:
        arms = any(kind_of(part) == "arm" for part in parts_of(skeleton))
        for name, (one, widgets) in self.rows.items():
            there = kind in one.bodies and (arms or name not in ("arm_swing", "elbow"))
            apart = name in BOTH and self._apart(told, name)
            held = getattr(told.gait, name)
            for side, value in enumerate(held if isinstance(held, tuple) else (held,)):
                self.boxes[name, side].show_number(value * one.times)
            for widget in widgets:
                widget.setVisible(there)
            if name in BOTH:
                self.boxes[name, 1].setVisible(there and apart)
                link = self.links[name]
                put_icon(link, "sides-apart" if apart else "sides-joined")  # type: ignore[arg-type]
                link.setChecked(apart)  # type: ignore[attr-defined]
        for side_head in self.sides:
            side_head.setVisible(any(self._apart(told, name) for name in BOTH))
        for widget in self.feet_row:
            widget.setVisible(kind in ("four", "many"))
        self.feet.setCurrentIndex(max(self.feet.findData(told.gait.feet), 0))
        self.lead.setCurrentIndex(self.lead.findData(told.gait.lead))
        self.strides.show_number(told.strides)
        self.strides.setEnabled(not (told.way.points and told.to_the_end))
        self.strides.setToolTip("As many as the way through its points is long" if told.way.points else "How many")
        self.rate.show_number(told.rate)
        self.turn.show_number(float(np.degrees(told.way.turn)))
        self.slope.show_number(100.0 * told.way.slope[0])
        for name, box in self.ticks.items():
            box.setChecked(getattr(told, name))

    def _ask_cost(self) -> None:
        told, skeleton = told_in_hand(self.c), self.c.state.character
        if told is None or skeleton is None:
            return
        character = skeleton

        def done(result: object) -> None:
            if not isinstance(result, dict) or character.skeleton is None:
                return
            self.cost_of = (told.gait, told.rate)
            words, better = rate_words(result, told.rate, character.skeleton)
            self.cost.setText(words)
            self.cost.show()
            self.wanted_rate = better
            self.better.setText(f"Take {better:g} frames a second")
            self.better.setVisible(better > 0.0)

        self.c.background.put(Order.FIGURES, lambda: rolls_here(self.c, told), done)
