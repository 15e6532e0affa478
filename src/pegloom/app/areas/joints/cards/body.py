"""Parts of the body: what was recognised in a skeleton a file brought, and what a person says it is."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QListWidget, QListWidgetItem

from pegloom.app.areas.joints.actions.joints import say_part
from pegloom.app.areas.joints.settings import BodySettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import tick
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.body_words import NOTHING, chain_title, chains, choices
from pegloom.core.skeleton.joints import Origin, Skeleton

ROW, MOST_ROWS = 20, 9


class BodyCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Parts of the body", "joints.body",
            sentence="What was recognised in the skeleton of a file. Pick a joint, or click a name in the view, to say otherwise.", is_open=False,
        )  # fmt: skip
        self.body.addWidget(tick(self, BodySettings, "named", "Names in the view", name="joints.body_named"))
        self.list = QListWidget()
        self.list.setObjectName("joints.body_chains")
        self.list.setAccessibleName("Chains that were recognised")
        self.list.itemClicked.connect(self._pick)
        self.list.itemActivated.connect(self._pick)
        self.body.addWidget(self.list)
        self.part = QComboBox()
        self.part.setObjectName("joints.body_part")
        self.part.addItem("as it was found", None)
        self.part.addItem("none of these", NOTHING)
        for role, words in choices().items():
            self.part.addItem(words, role)
        self.part.activated.connect(lambda _: say_part(c, self.part.currentData()))
        self.field("This joint is", self.part)
        self.left = label("", "caption", wrap=True, name="joints.body_left")
        self.body.addWidget(self.left)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.skeleton, one.joint_overrides) if one is not None else ()
        return (*pieces, state.selection.kind, state.selection.ids)

    def show_state(self, state: State) -> None:
        one = state.character
        skeleton = one.skeleton if one is not None else None
        found = chains(body_of(skeleton).joint_of) if skeleton is not None else {}
        self.list.clear()
        for chain, joints in found.items():
            item = QListWidgetItem(f"{chain_title(chain)}    {len(joints)} joint{'s' if len(joints) != 1 else ''}")
            item.setData(Qt.ItemDataRole.UserRole, joints)
            item.setToolTip(", ".join(skeleton.joint(j).name for j in joints) if skeleton is not None else "")
            self.list.addItem(item)
            item.setSelected(state.selection.kind == "joint" and set(joints) == set(state.selection.ids))
        self.list.setFixedHeight(ROW * min(max(len(found), 1), MOST_ROWS) + 6)
        self._show_part(state, skeleton)
        foreign = [j for j in skeleton.joints if j.origin is Origin.FILE] if skeleton is not None else []
        known = {j for joints in found.values() for j in joints}
        rest = sum(j.id not in known for j in foreign)
        self.note.setText(f"{len(found)} found" if found else "")
        self.left.setText(
            "Joints built here are known; this is for a skeleton from a file." if not foreign
            else f"{rest} of {len(foreign)} joints {'is' if rest == 1 else 'are'} no part of these." if rest else "Every joint is part of one."
        )  # fmt: skip

    def _show_part(self, state: State, skeleton: Skeleton | None) -> None:
        lead = state.selection.lead if state.selection.kind == "joint" else ""
        joint = skeleton.joint(lead) if skeleton is not None and lead in skeleton.index else None
        ours = joint is not None and joint.origin is Origin.FILE
        self.part.setEnabled(ours)
        self.part.setToolTip("" if ours else "Pick a joint that a file brought")
        words = "as it was found"
        if joint is not None and skeleton is not None:
            role = body_of(skeleton).role_of.get(joint.id, "")
            words = f"found: {choices().get(role) or 'none of these'}"
        self.part.setItemText(0, words)
        said = one.joint_overrides.get(lead) if (one := state.character) is not None else None
        self.part.setCurrentIndex(max(self.part.findData(said.role), 0) if said is not None and said.role else 0)

    def _pick(self, item: QListWidgetItem) -> None:
        self.c.store.select("joint", *item.data(Qt.ItemDataRole.UserRole))
