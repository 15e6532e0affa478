"""Borrow: motion of another body on this one."""

from __future__ import annotations

from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto, settings, source_in_hand
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, narrow, tick, whole
from pegloom.core.motion.retarget import moments_of, part_title


class BorrowCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Borrow", "motion.borrow", sentence="Motion of any other body, from BVH, GLB or USD, on this one.", is_open=False)
        q = c.actions.qactions
        self.row(action_button(q["borrow.bring"], "Bring motion", role="main"), action_button(q["borrow.lend"], "From a figure"))
        self.source = choice(self, BorrowSettings, "source", [], name="borrow.source")
        narrow(self.source)
        self.source_field = label("", "caption", wrap=True, name="borrow.told")
        self.field("Source", self.source)
        self.onto = choice(self, BorrowSettings, "onto", [(o.value, o) for o in Onto], name="borrow.onto")
        self.field("Onto", self.onto)
        self.row(tick(self, BorrowSettings, "in_place", "In place", tip="Take the path out of the root"), tick(self, BorrowSettings, "mirror", "Mirror", tip="Its other side"))
        self.body.addWidget(tick(self, BorrowSettings, "plant", "Plant feet", tip="What stands in the source stands here, on the floor"))
        self.body.addWidget(tick(self, BorrowSettings, "touch", "Hold what hands touch", tip="The own body, the other hand, a thing held in both, a thing that stands"))
        self.part = tick(self, BorrowSettings, "part", "A range of frames")
        self.body.addWidget(self.part)
        self.first = whole(self, BorrowSettings, "first", 0, 200_000, name="borrow.first")
        self.last = whole(self, BorrowSettings, "last", 0, 200_000, name="borrow.last")
        self.field("From", self.first)
        self.field("To", self.last)
        self.row(action_button(q["borrow.carry"], "Carry over"), action_button(q["borrow.again"], "Anew"))
        self.row(action_button(q["borrow.pairing"], "Pairing"), action_button(q["borrow.over"], "Source over it"))
        self.body.addWidget(self.source_field)
        self.row(action_button(q["borrow.worst"], "Go to the worst place"))
        self.row(action_button(q["borrow.stand"], "Stand it beside"), action_button(q["borrow.drop"], "Take away"))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.sources if one is not None else (), settings(state), state.clip.borrowed if state.clip is not None else None)

    def show_state(self, state: State) -> None:
        sources = state.character.sources if state.character is not None else ()
        fill(self.source, [(s.name, s.id) for s in sources] or [("none yet", "")])
        hand = source_in_hand(state)
        if hand is not None:
            self.source.blockSignals(True)
            self.source.setCurrentIndex(self.source.findData(hand.id))
            self.source.blockSignals(False)
        for box in (self.first, self.last):
            box.setEnabled(settings(state).part)
        self.note.setText(f"{len(sources)}" if sources else "none")
        self.source_field.setText(self._told(state))
        self.source_field.setVisible(bool(self.source_field.text()))

    def _told(self, state: State) -> str:
        clip, hand = state.clip, source_in_hand(state)
        lines = []
        if hand is not None:
            times = moments_of(hand.clip)
            lines.append(f"{hand.name}: {len(times)} frames at {hand.clip.rate:g} a second, {len(hand.skeleton.joints)} joints")
        if clip is not None and clip.borrowed is not None and clip.borrowed.measured is not None:
            m = clip.borrowed.measured
            lines.append(f"{clip.name}: feet slide {m.slide_mm:.1f} mm, floor within {m.floor_mm:.1f} mm, arms {m.arms_deg:.1f}°, legs {m.legs_deg:.1f}° off, limits {m.limit_deg:.1f}°")
            if m.worst:
                lines.append(f"Worst at frame {round(m.worst_at * clip.rate)}: {part_title(m.worst_part)} {m.worst}")
        return "\n".join(lines)
