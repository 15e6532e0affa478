"""The face: handles for morph targets set in the view, sliders, and expressions with pictures."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from pegloom.app.actions.posing import commit_pose, show_pose
from pegloom.app.areas.controls.made import drop_expression, put_expression
from pegloom.app.areas.controls.settings_made import FaceSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State, Wanted
from pegloom.app.theme import put_icon
from pegloom.app.widgets import SliderRow, action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, line, slider
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef
from pegloom.document.edits.rig.channels import channel_of
from pegloom.document.edits.rig.face import face_channels
from pegloom.document.model import Expression

PICTURE = QSize(64, 48)
MOST_SLIDERS = 40


class HandleCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Handles", "face.handles", sentence="A handle before the face moves up to four morph targets; pick where it stands."
        )
        self.field("Name", line(self, FaceSettings, "name", name="face.name", hint="mouth"))
        self.boxes = {}
        for way, word in (("up", "Up"), ("down", "Down"), ("left", "Its left"), ("right", "Its right")):
            self.boxes[way] = choice(self, FaceSettings, way, (), name=f"face.{way}")
            self.field(word, self.boxes[way])
        self.spot = label("", "caption", name="face.spot")
        pick = button("Pick on the face", "face.spot.pick", self._pick, tip="Then click the mesh where the handle is to stand")
        self.row(pick, self.spot)
        q = c.actions.qactions
        self.row(action_button(q["face.handle"], "Add the handle"), action_button(q["face.move"], "Move picked"))
        self.words = label("", "caption", wrap=True, name="face.words")
        self.body.addWidget(self.words)

    def _pick(self) -> None:
        self.c.store.put(wanted=Wanted(("point",), FaceSettings, "spot", "the handle"))

    def key(self, state: State) -> tuple[object, ...]:
        spot = state.settings.of(FaceSettings).spot
        return (state.character.parts, state.character.rig, spot) if state.character is not None else ()

    def show_state(self, state: State) -> None:
        one = state.character
        names = sorted({m.name for p in (one.parts if one is not None else ()) for m in p.morphs})
        moved = {m.morph for m in one.rig.morphs} if one is not None and one.rig is not None else set()
        told = state.settings.of(FaceSettings)
        self.spot.setText("a place is picked" if told.spot else "beside the face")
        for way, box in self.boxes.items():
            fill(box, [("none", ""), *((n, n) for n in names)])
            box.setCurrentIndex(max(box.findData(getattr(told, way)), 0))
        left = [n for n in names if n not in moved]
        if not names:
            self.words.setText("This character has no morph targets; face joints have controls of their own.")
        else:
            self.words.setText(f"Not moved by anything yet: {', '.join(left[:8])}" if left else "Every morph target is moved by a channel.")
        self.note.setText(f"{len(names)} morph targets" if names else "")


class FaceCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Face", "face.sliders", sentence="What the face can do. Handles in the view do the same.")
        self.sliders: dict[ChannelRef, SliderRow] = {}
        self.rows = QVBoxLayout()
        self.rows.setSpacing(3)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, self.c.frames.control_pose)

    def show_state(self, state: State) -> None:
        one = state.character
        rig = one.rig if one is not None else None
        refs = [r for r in face_channels(one) if self._slides(rig, r)] if one is not None and rig is not None else []
        if list(self.sliders) != refs[:MOST_SLIDERS]:
            self._fit(rig, refs[:MOST_SLIDERS])
        pose = self.c.frames.control_pose
        for ref, row in self.sliders.items():
            if rig is not None:
                row.set(rig.value(pose, ref))
        self.note.setText("" if refs else "no face yet")

    @staticmethod
    def _slides(rig: ControlRig | None, ref: ChannelRef) -> bool:
        """Whether a slider makes sense: a channel with both its ends."""
        if rig is None:
            return False
        channel = channel_of(rig, ref)
        return channel.low is not None and channel.high is not None and channel.high > channel.low and channel.shown and channel.high < 1e3

    def _fit(self, rig: ControlRig | None, refs: list[ChannelRef]) -> None:
        clear(self.rows)
        self.sliders = {}
        for ref in refs if rig is not None else []:
            assert rig is not None
            channel = channel_of(rig, ref)
            assert channel.low is not None and channel.high is not None
            # What only goes below its rest slides from there, too.
            ends = (channel.high, channel.low) if channel.high <= channel.rest else (channel.low, channel.high)
            unit = {Quantity.LENGTH: " cm", Quantity.ANGLE: "°"}.get(channel.quantity, "")
            scale = channel.quantity.on_screen
            row = SliderRow(
                f"face.{ref.owner}.{ref.key}", *ends, partial(_words, scale, unit), partial(self._preview, ref),
                partial(self._released, ref),
            )  # fmt: skip
            owner = rig.control(ref.owner).name if ref.owner in rig.index else "face"
            row.setAccessibleName(f"{owner} {channel.title}")
            caption = label(f"{owner} {channel.title.removeprefix('move ')}", "caption")
            caption.setFixedWidth(104)
            box = QHBoxLayout()
            box.addWidget(caption)
            box.addWidget(row, 1)
            self.rows.addLayout(box)
            self.sliders[ref] = row

    def _pose(self, ref: ChannelRef, value: float, base: Pose) -> Pose:
        rig = self.c.character.require_rig()
        values = dict(base.values)
        if value == float(rig.slots.rest[rig.slots.index[ref]]):
            values.pop(ref, None)
        else:
            values[ref] = value
        return Pose(values)

    def _preview(self, ref: ChannelRef, value: float) -> None:
        if self.sliders[ref].slider.isSliderDown():
            show_pose(self.c, self._pose(ref, value, self.c.frames.control_pose), (ref.owner,))

    def _released(self, ref: ChannelRef, value: float) -> None:
        commit_pose(self.c, f"Face: {ref.key.replace('_', ' ')}", self._pose(ref, value, self.c.frames.control_pose), (ref.owner,))


def _words(scale: float, unit: str, value: float) -> str:
    return f"{value * scale:.1f}{unit}" if unit else f"{value:.2f}"


class ExpressionCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Expressions", "face.expressions", sentence="Kept by name, mixed by amount, saved for other characters.")
        self.amount = slider(self, FaceSettings, "amount", 0.0, 1.0, lambda v: f"{v:.0%}", name="face.amount")
        self.field("Amount", self.amount)
        q = c.actions.qactions
        self.row(action_button(q["face.keep"], "Keep"), action_button(q["face.save"], "Save"), action_button(q["face.load"], "Load"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        self.body.addLayout(self.rows)
        self.shown: tuple[Expression, ...] = ()

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.expressions if state.character is not None else (), state.character is None or state.character.rig is None)

    def show_state(self, state: State) -> None:
        some = state.character.expressions if state.character is not None else ()
        self.note.setText(f"{len(some)} kept" if some else "none kept yet")
        clear(self.rows)
        for one in some:
            self.rows.addWidget(self._row(one))

    def _row(self, one: Expression) -> QWidget:
        holder = QWidget()
        box = QHBoxLayout(holder)
        box.setContentsMargins(0, 0, 0, 0)
        picture = QLabel()
        picture.setFixedSize(PICTURE)
        if one.picture is not None:
            pixmap = QPixmap()
            pixmap.loadFromData(one.picture.data)
            picture.setPixmap(QIcon(pixmap).pixmap(PICTURE))
            box.addWidget(picture)
        box.addWidget(label(one.name, "soft"), 1)
        for word, name, act in (
            ("Add", "add", partial(self._put, one.id, True)), ("Take", "take", partial(self._put, one.id, False)),
        ):  # fmt: skip
            tip = {"Add": "Onto what the face does already, by the amount", "Take": "In the place of what the face does, by the amount"}.get(word, "")
            box.addWidget(button(word, f"face.{name}.{one.id}", act, role="plain", tip=tip))
        forget = button("", f"face.forget.{one.id}", partial(drop_expression, self.c, one.id), role="plain", tip=f"Forget {one.name}")
        put_icon(forget, "x")
        forget.setAccessibleName(f"Forget {one.name}")
        box.addWidget(forget)
        return holder

    def _put(self, told: str, mix: bool) -> None:
        put_expression(self.c, told, self.c.state.settings.of(FaceSettings).amount, mix=mix)


