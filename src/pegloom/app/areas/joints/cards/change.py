"""Draw and change: joints one by one."""

from __future__ import annotations

from pegloom.app.areas.joints.settings import ChangeSettings
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import tick, whole


class ChangeCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Draw and change", "joints.change",
            sentence="J draws joints: click inside the mesh. M drags picked ones.", is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.body.addWidget(tick(self, HandSettings, "with_children", "Children come along", name="joints.children"))
        self.row(
            action_button(q["joints.draw"], "Draw"), action_button(q["joints.extend"], "Extend"),
            action_button(q["joints.insert"], "Put in"),
        )  # fmt: skip
        pieces = whole(self, ChangeSettings, "pieces", 2, 32, name="joints.pieces", suffix=" pieces")
        pieces.setAccessibleName("Pieces a bone is split in")
        self.row(action_button(q["joints.split"], "Split bone in"), pieces)
        self.row(
            action_button(q["joints.duplicate"], "Duplicate"), action_button(q["joints.mirror"], "Mirror"),
            action_button(q["joints.float"], "Float"),
        )  # fmt: skip
        self.row(
            action_button(q["joints.delete"], "Delete"), action_button(q["joints.delete_branch"], "With all below")
        )
        self.body.addWidget(
            label("Drag a joint onto another in the parts drawer to hang it there.", "caption", wrap=True)
        )
