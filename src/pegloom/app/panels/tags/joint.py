"""A joint's name, place and length."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QLineEdit

from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.app.widgets import label
from pegloom.core.rig.channels import Quantity
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Joint
from pegloom.document import edits
from pegloom.document.model import Document

SAME = 5e-5
"""Metres nearer than which lengths are shown as one."""


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
        self.tag.field("mark", "mark size", self._commit_mark, Quantity.FACTOR)
        for key, text in (("moves", "Moves"), ("hangs", "Parent"), ("other", "Other side")):
            self.tag.text(key, text)

    def show(self) -> None:
        character, skeleton = self.c.character, self.c.skeleton
        joint = skeleton.joint(self.subject)
        self.tag.name.setText(joint.name)
        if not self.rename.hasFocus():
            self.rename.setText(joint.name)
        self.rename.setEnabled(len(self.all) == 1)
        joints = [skeleton.joint(i) for i in self.all]
        for k, axis in enumerate("xyz"):
            self._put(axis, [j.position[k] for j in joints])
        self._put("length", [self._length(j) for j in joints])
        marks = [character.mark_sizes.get(i, 1.0) for i in self.all]
        self.tag.put("mark", marks[-1], several=max(marks) - min(marks) > SAME)
        texts = self.tag.texts
        texts["hangs"].setText(skeleton.joint(joint.parent).name if joint.parent else "nothing")
        count = 0
        for weights in character.skin.weights.values() if character.skin else ():
            if joint.id in weights.joint_ids:
                count += int((weights.indices == weights.joint_ids.index(joint.id)).sum())
        texts["moves"].setText(counted(count, "vertex", "vertices") if character.skin else "not bound yet")
        other = skeleton.other_side(joint.id)
        texts["other"].setText(skeleton.joint(other).name if other and other != joint.id else "on the middle")

    def _length(self, joint: Joint) -> float:
        children = self.c.skeleton.children(joint.id)
        end = np.array(children[0].position if children else (joint.tail or joint.position))
        return float(np.linalg.norm(end - np.array(joint.position)))

    def _put(self, key: str, metres: list[float]) -> None:
        """Show what the last picked has, in centimetres, and whether the others differ."""
        self.tag.put(key, 100 * metres[-1], several=max(metres) - min(metres) > SAME)

    def _each(self) -> tuple[str, ...]:
        """The picked joints; of a pair that goes together the one picked last alone."""
        skeleton, ids = self.c.skeleton, self.all
        if not self.c.state.hand.both_sides:
            return ids
        return tuple(i for k, i in enumerate(ids) if skeleton.other_side(i) not in ids[k + 1 :])

    def _said(self) -> str:
        ids = self.all
        return self.c.skeleton.joint(self.subject).name if len(ids) == 1 else counted(len(ids), "joint")

    def _commit_place(self, axis: str, shown: float) -> None:
        hand, each, k = self.c.state.hand, self._each(), "xyz".index(axis)
        both, along = hand.both_sides, hand.with_children

        def edit(document: Document) -> Document:
            for joint_id in each:
                skeleton = document.require_character().skeleton
                place = list(skeleton.joint(joint_id).position if skeleton is not None else (0.0, 0.0, 0.0))
                place[k] = shown / 100
                x, y, z = place
                document = edits.move_joint(document, joint_id, (x, y, z), both_sides=both, with_children=along)
            return document

        self.c.try_edit(f"Move {self._said()}", edit)

    def _commit_length(self, _: str, shown: float) -> None:
        both, each = self.c.state.hand.both_sides, self._each()

        def edit(document: Document) -> Document:
            for joint_id in each:
                document = edits.lengthen_joint(document, joint_id, shown / 100, both_sides=both)
            return document

        self.c.try_edit(f"Lengthen {self._said()}", edit)

    def _commit_mark(self, _: str, size: float) -> None:
        ids, both = self.all, self.c.state.hand.both_sides
        self.c.try_edit(f"Mark size of {self._said()}", lambda d: edits.set_mark_size(d, ids, size, both_sides=both))

    def _commit_name(self) -> None:
        lead, text = self.subject, self.rename.text().strip()
        if self.there(self.c.state, lead) and text and text != self.c.skeleton.joint(lead).name:
            self.c.try_edit(f"Rename to {text}", lambda d: edits.rename_joint(d, lead, text))
