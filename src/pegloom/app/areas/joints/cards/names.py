"""Names of joints, found and replaced."""

from __future__ import annotations

from pegloom.app.areas.joints.actions.joints import rename_wanted, rename_which
from pegloom.app.areas.joints.settings import RenameSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, line
from pegloom.core.errors import PegLoomError
from pegloom.core.skeleton.names import SideStyle
from pegloom.document import edits

MOST = 5


class NamesCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Names", "joints.names", sentence="* stands for any text. Joints picked in the view, or all of them.",
            is_open=False,
        )  # fmt: skip
        for field, word in (("find", "Find"), ("put", "Replace with"), ("prefix", "Prefix")):
            self.field(word, line(self, RenameSettings, field, name=f"joints.rename.{field}"))
        styles = [("as they are", None), *((style.value, style) for style in SideStyle)]
        self.field("Sides", choice(self, RenameSettings, "style", styles, name="joints.rename.style"))
        self.preview = label("", "caption", wrap=True, name="joints.rename.preview")
        self.body.addWidget(self.preview)
        rename = action_button(c.actions.qactions["joints.rename"], "Rename")
        rename.setObjectName("joints.rename.apply")
        self.body.addWidget(rename)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.skeleton if one is not None else None, rename_which(state))

    def show_state(self, state: State) -> None:
        try:
            wanted = edits.rename_preview(state.stored, rename_which(state), **rename_wanted(state))
        except PegLoomError as error:
            self.preview.setText(str(error))
            return
        changed = [(a, b) for a, b in wanted.items() if a != b]
        rows = [f"{a}  →  {b}" for a, b in changed[:MOST]]
        self.preview.setText("\n".join([*rows, f"{len(changed)} of {len(wanted)} change"]))
