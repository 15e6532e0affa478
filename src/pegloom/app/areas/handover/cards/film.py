"""Film: how large, how fast, what stands behind, and what it comes to."""

from __future__ import annotations

from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QColorDialog

from pegloom.app.areas.handover.filming import FilmSettings, FilmSize, filmed, pixels_of
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, number, tick, whole
from pegloom.app.widgets.layouts import side_by_side
from pegloom.core.said import counted
from pegloom.scene.shot import LEAST, MOST, RATES, Backdrop


class FilmCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Film", "handover.film", is_open=False,
            sentence="What the strip plays, from where the view looks: an MP4, or pictures one by one.",
        )  # fmt: skip
        self.field("Size", choice(self, FilmSettings, "size", [(s.value, s) for s in FilmSize], name="film.size"))
        self.wide = whole(self, FilmSettings, "wide", LEAST, MOST, name="film.wide")
        self.high = whole(self, FilmSettings, "high", LEAST, MOST, name="film.high")
        self.wide.setAccessibleName("Pixels wide")
        self.high.setAccessibleName("Pixels high")
        self.own = label("by", "soft")
        self.body.addLayout(side_by_side(self.wide, self.own, self.high, stretch=1))
        rate = number(self, FilmSettings, "rate", 0.0, RATES[1], name="film.rate", step=1.0)
        rate.setSpecialValueText("the clip's")
        self.field("A second", rate)
        self.field("Behind", choice(self, FilmSettings, "backdrop", [(b.value, b) for b in Backdrop], name="film.backdrop"))
        self.colour = button("Colour", "film.colour", self._choose, tip="The colour behind a plain backdrop")
        self.body.addWidget(self.colour)
        self.row(
            tick(self, FilmSettings, "controls", "Controls", name="film.controls", tip="Show the controls of the character in hand"),
            tick(self, FilmSettings, "labels", "Name and frame", name="film.labels", tip="Write the clip's name and the number of the frame into it"),
        )
        self.summary = label("", "caption", wrap=True, name="film.summary")
        self.body.addWidget(self.summary)
        self.body.addWidget(action_button(c.actions.qactions["film.make"], "Film"))

    def _choose(self) -> None:
        now = self.c.state.settings.of(FilmSettings).colour
        chosen = QColorDialog.getColor(QColor(now), self)
        if chosen.isValid():
            self.c.store.put_setting(FilmSettings, colour=chosen.name())

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(FilmSettings), state.clip, state.clock.source, state.clock.part, state.document)

    def show_state(self, state: State) -> None:
        own = state.settings.of(FilmSettings)
        for widget in (self.wide, self.own, self.high):
            widget.setVisible(own.size is FilmSize.OWN)
        self.colour.setVisible(own.backdrop is Backdrop.PLAIN)
        clip = filmed(state)
        if clip is None:
            self.summary.setText("Pick a clip on the strip: it is what is filmed.")
            return
        first, last = state.played
        frames = int((last - first) * (own.rate or state.rate) + 1e-6) + 1
        wide, high = pixels_of(own)
        what = state.clip.name if state.clip is not None else "all figures"
        self.summary.setText(f"{what}: {counted(frames, 'frame')} of {wide} by {high}." + (f" Last: {own.said}." if own.said else ""))
