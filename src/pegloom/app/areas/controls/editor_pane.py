"""What the panes for one constraint and for one IK share: a head, sliders that show their effect while drawn, a way out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.theme import put_icon
from pegloom.app.widgets import SliderRow, button, label
from pegloom.app.widgets.panel import Panel
from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.refs import ChannelRef
from pegloom.document import edits
from pegloom.document.edits.rig.channels import channel_of
from pegloom.document.model import Document

USUAL = {Quantity.ANGLE: np.pi, Quantity.LENGTH: 0.3, Quantity.NUMBER: 1.0, Quantity.FACTOR: 4.0}
"""How far a slider goes for a channel without limits."""
CAPTION = 78


class EditorPane(Panel):
    """Stays on its thing while others are picked."""

    def __init__(self, c: Context, name: str, close: Callable[[], None], what: str) -> None:
        super().__init__(c)
        self.setObjectName(name)
        self.setProperty("role", "pane")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 10, 8, 10)
        outer.setSpacing(8)
        head = QHBoxLayout()
        self.title = label("", "heading", name=f"{name}.title")
        head.addWidget(self.title, 1)
        shut = button("", f"{name}.close", close, role="plain", tip="Close")
        put_icon(shut, "x")
        shut.setAccessibleName(f"Close the {what}")
        head.addWidget(shut)
        outer.addLayout(head)
        inner = QWidget()
        self.body = QVBoxLayout(inner)
        self.body.setContentsMargins(0, 0, 6, 0)
        self.body.setSpacing(6)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(inner)
        outer.addWidget(area, 1)
        self.foot = QVBoxLayout()
        outer.addLayout(self.foot)
        self.sliders: dict[ChannelRef, SliderRow] = {}

    def line(self, text: str, widget: QWidget, *, at: QVBoxLayout | None = None, more: QWidget | None = None) -> None:
        """A labelled widget."""
        row = QHBoxLayout()
        row.setSpacing(6)
        caption = label(text, "soft")
        caption.setFixedWidth(CAPTION)
        caption.setToolTip(text)
        widget.setAccessibleName(text)
        row.addWidget(caption)
        row.addWidget(widget, 1)
        if more is not None:
            row.addWidget(more)
        (self.body if at is None else at).addLayout(row)

    def slider(self, rig: ControlRig, ref: ChannelRef, name: str) -> SliderRow:
        """A slider for where a channel rests, whose effect is shown while it is drawn."""
        channel = channel_of(rig, ref)
        low, high = span(channel)
        row = SliderRow(name, low, high, partial(said, channel), partial(self._preview, ref), partial(self._released, ref, channel.title))
        row.slider.setMinimumWidth(40)
        row.set(min(max(channel.rest, low), high))
        self.sliders[ref] = row
        return row

    def _edit(self, ref: ChannelRef, value: float) -> Callable[[Document], Document]:
        return lambda d: edits.rest_channel(d, ref.owner, ref.key, value)

    def _preview(self, ref: ChannelRef, value: float) -> None:
        if self.showing:
            return
        if self.sliders[ref].slider.isSliderDown():
            self.c.preview(self._edit(ref, value))
        else:
            # By the keyboard and the wheel each step is kept.
            self._released(ref, channel_of(self.c.character.require_rig(), ref).title, value)

    def _released(self, ref: ChannelRef, title: str, value: float) -> None:
        self.c.store.drop_draft()
        if not self.c.try_edit(title[:1].upper() + title[1:], self._edit(ref, value)):
            self.look_anew()


def span(channel: Channel) -> tuple[float, float]:
    """From where to where a slider goes."""
    usual = USUAL.get(channel.quantity, 1.0)
    least = 0.0 if channel.quantity in (Quantity.SHARE, Quantity.SWITCH, Quantity.FACTOR) else -usual
    low = channel.low if channel.low is not None else least
    high = channel.high if channel.high is not None else max(usual, low + usual)
    return low, high


def said(channel: Channel, value: float) -> str:
    if channel.quantity is Quantity.SHARE:
        return f"{value:.0%}"
    unit = {Quantity.LENGTH: " cm", Quantity.ANGLE: "°"}.get(channel.quantity, "")
    return f"{value * channel.quantity.on_screen:.1f}{unit}"
