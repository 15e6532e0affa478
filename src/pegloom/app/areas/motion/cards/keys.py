"""Keys: written, removed; what was posed over the clip and is no key yet."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import tick


class KeysCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Keys", "motion.keys", sentence="Pose controls, then set keys. Keys hold all free channels of a control."
        )
        q = c.actions.qactions
        self.row(
            action_button(q["keys.write"], "Set key", role="main"), action_button(q["keys.write_all"], "Set all")
        )
        self.row(action_button(q["keys.remove"], "Remove key"), action_button(q["pose.rest"], "To rest"))
        self.body.addWidget(tick(self, HandSettings, "auto_key", "Auto-key: every change sets a key", name="motion.auto"))
        self.posed = label("", "caption", wrap=True, name="motion.posed")
        self.body.addWidget(self.posed)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip, state.draft_pose)

    def show_state(self, state: State) -> None:
        clip = state.clip
        self.note.setText(f"{len(clip.key_times)} key times" if clip is not None else "no clip shown")
        posed = state.draft_pose is not None
        self.posed.setText("Something is posed over the clip and not keyed: the bar in the view says what may become of it.")
        self.posed.setVisible(posed)
