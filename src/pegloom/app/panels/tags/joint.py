"""A joint's name, place and length."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QLineEdit

from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.app.widgets import label
from pegloom.document import edits


class JointForm(Form):
    @staticmethod
    def there(state: State, subject: str) -> bool:
        one = state.character
        return one is not None and one.skeleton is not None and subject in one.skeleton.index

    def build(self) -> None:
        self.rename = QLineEdit()
        self.rename.setObjectName(f"{self.tag.stem}.rename")
        self.rename.setAccessibleName("Name of the joint")
        self.rename.editingFinished.connect(self._commit_name)
        self.tag.form.addRow(label("Name", "soft"), self.rename)
        for axis in "xyz":
            self.tag.field(axis, f"{axis}, cm", self._commit_place)
        self.tag.field("length", "length, cm", self._commit_length)
        for key, text in (("moves", "Moves"), ("hangs", "Parent"), ("other", "Other side")):
            self.tag.text(key, text)

    def show(self) -> None:
        character, skeleton = self.c.character, self.c.skeleton
        joint = skeleton.joint(self.subject)
        self.tag.name.setText(joint.name)
        if not self.rename.hasFocus():
            self.rename.setText(joint.name)
        for axis, value in zip("xyz", joint.position, strict=True):
            self.tag.put(axis, value * 100)
        children = skeleton.children(joint.id)
        end = np.array(children[0].position if children else (joint.tail or joint.position))
        self.tag.put("length", 100 * float(np.linalg.norm(end - np.array(joint.position))))
        texts = self.tag.texts
        texts["hangs"].setText(skeleton.joint(joint.parent).name if joint.parent else "nothing")
        count = 0
        for weights in character.skin.weights.values() if character.skin else ():
            if joint.id in weights.joint_ids:
                count += int((weights.indices == weights.joint_ids.index(joint.id)).sum())
        texts["moves"].setText(f"{count} vertices" if character.skin else "not bound yet")
        other = skeleton.other_side(joint.id)
        texts["other"].setText(skeleton.joint(other).name if other and other != joint.id else "on the middle")

    def _commit_place(self, axis: str, shown: float) -> None:
        lead, hand = self.subject, self.c.state.hand
        joint = self.c.skeleton.joint(lead)
        place = list(joint.position)
        place["xyz".index(axis)] = shown / 100
        x, y, z = place
        both, along = hand.both_sides, hand.with_children
        self.c.try_edit(
            f"Move {joint.name}", lambda d: edits.move_joint(d, lead, (x, y, z), both_sides=both, with_children=along)
        )

    def _commit_length(self, _: str, shown: float) -> None:
        lead, both = self.subject, self.c.state.hand.both_sides
        name = self.c.skeleton.joint(lead).name
        self.c.try_edit(f"Lengthen {name}", lambda d: edits.lengthen_joint(d, lead, shown / 100, both_sides=both))

    def _commit_name(self) -> None:
        lead, text = self.subject, self.rename.text().strip()
        if self.there(self.c.state, lead) and text and text != self.c.skeleton.joint(lead).name:
            self.c.try_edit(f"Rename to {text}", lambda d: edits.rename_joint(d, lead, text))
