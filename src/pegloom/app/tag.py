"""The selection tag: what is selected carries a luggage tag with the handful of values that matter here."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import (
    QDoubleSpinBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayoutItem,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.actions import Actions
from pegloom.app.session import Selection, Session
from pegloom.app.theme import INK, icon
from pegloom.app.widgets import action_button, button, label
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.skeleton.joints import other_side_name
from pegloom.document import edits
from pegloom.scene.drawing import out_of_use


def _put_away(item: QLayoutItem | None) -> None:
    """A field goes later, never at once: it may be its own signal that has the tag built anew."""
    widget = item.widget() if item is not None else None
    if widget is not None:
        widget.hide()
        widget.setObjectName("")
        widget.deleteLater()


class Tag(QFrame):
    """A small panel over the stage; drag it by its head.

    holds : what a pinned tag stays with; without, the tag shows what is selected. stem : what its widgets' names begin
    with. `pin_pressed` asks to be pinned, or let go; `others` are the tags to keep clear of.
    """

    pin_pressed = pyqtSignal()

    def __init__(
        self, session: Session, actions: Actions, stage: QWidget, *, holds: Selection | None = None, stem: str = "tag"
    ) -> None:
        super().__init__(stage)
        self.setObjectName(stem)
        self.setProperty("role", "tag")
        self.session, self.actions, self.holds, self.stem = session, actions, holds, stem
        self.others: Callable[[], list[Tag]] = list
        self.setMinimumWidth(232)
        self.grabbed: QPoint | None = None
        self.moved_by_hand = False
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        column.setSpacing(6)
        column.setSizeConstraint(QVBoxLayout.SizeConstraint.SetFixedSize)
        head = QHBoxLayout()
        self.name = label("", "heading", name=f"{stem}.name")
        self.kind = label("", "caption", name=f"{stem}.kind")
        head.addWidget(self.name)
        head.addStretch(1)
        head.addWidget(self.kind)
        tip = "Keep this tag while other things are picked" if holds is None else "Let this tag go"
        self.pin = button("", f"{stem}.pin", self.pin_pressed.emit, role="plain", tip=tip)
        self.pin.setIcon(icon("pin" if holds is None else "x", INK.soft))
        self.pin.setAccessibleName(tip)
        head.addWidget(self.pin)
        self.fold = button("", f"{stem}.fold", self._toggle, role="plain", tip="Fold or unfold the tag")
        self.fold.setIcon(icon("chevron-down", INK.soft))
        self.fold.setAccessibleName("Fold or unfold the tag")
        head.addWidget(self.fold)
        column.addLayout(head)
        self.content = QWidget()
        inner = QVBoxLayout(self.content)
        inner.setContentsMargins(0, 0, 0, 0)
        self.form = QFormLayout()
        self.form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        self.form.setHorizontalSpacing(10)
        self.form.setVerticalSpacing(4)
        inner.addLayout(self.form)
        self.fields: dict[str, QDoubleSpinBox] = {}
        self.texts: dict[str, QLabel] = {}
        self.rename: QLineEdit | None = None
        self.buttons = QHBoxLayout()
        inner.addLayout(self.buttons)
        column.addWidget(self.content)
        self.built_for: tuple[str, str] = ("", "")
        self.hide()
        session.selection_changed.connect(self.refresh)
        # Bound methods, no lambdas: a tag that is let go hears no more.
        session.changed.connect(self.refresh)
        session.view_changed.connect(self.refresh)

    def _toggle(self) -> None:
        self.content.setVisible(self.content.isHidden())
        self.fold.setIcon(icon("chevron-right" if self.content.isHidden() else "chevron-down", INK.soft))
        self.refresh()

    @property
    def subject(self) -> Selection:
        """What the tag tells of."""
        return self.holds if self.holds is not None else self.session.selection

    @property
    def lead(self) -> str:
        return self.subject.lead

    def refresh(self, *_: object) -> None:
        selection, character = self.subject, self.session.character
        there = character is not None and selection.lead and not self.session.clean_view
        # The table beside the stage tells more, and leaves less room.
        there = there and not self.session.numbers_shown
        if there and selection.kind == "joint":
            there = character.skeleton is not None and selection.lead in character.skeleton.index
        if there and selection.kind == "control":
            there = character.rig is not None and selection.lead in character.rig.index
        if there and selection.kind == "part":
            there = any(p.id == selection.lead for p in character.parts)
        if there and selection.kind == "peg":
            there = character.pegs is not None and selection.lead in character.pegs.by_name
        if there and self.holds is None:
            # One tag is enough for one thing.
            there = not any(tag.holds is not None and tag.subject == selection for tag in self.others())
        if not there:
            self.hide()
            self.built_for = ("", "")
            return
        if self.built_for != (selection.kind, selection.lead):
            self._build()
            self.built_for = (selection.kind, selection.lead)
        self._show()
        self.show()
        self.layout().activate()
        self.resize(self.layout().sizeHint())
        self.place()
        self.raise_()

    def _build(self) -> None:
        while self.form.rowCount():
            row = self.form.takeRow(0)
            _put_away(row.labelItem)
            _put_away(row.fieldItem)
        while self.buttons.count():
            _put_away(self.buttons.takeAt(0))
        self.fields, self.texts, self.rename = {}, {}, None
        selection, character = self.subject, self.session.character
        if selection.kind == "control":
            control = character.rig.control(selection.lead)
            for channel in control.channels:
                if channel.shown and not channel.locked:
                    self._field(channel.key, channel.title, self._commit_channel, channel.quantity)
            self._text("state", "State")
            # These two are for what is selected; a pinned tag may be another's.
            for action in ("keys.write", "pose.rest") if self.holds is None else ():
                text = "Write key" if action == "keys.write" else "To rest"
                self.buttons.addWidget(action_button(self.actions.qactions[action], text))
        elif selection.kind == "peg":
            for axis in "xyz":
                self._field(axis, f"{axis}, cm", self._commit_peg)
            self._text("sure", "Placed")
            self._text("other", "Other side")
        elif selection.kind == "joint":
            self.rename = QLineEdit()
            self.rename.setObjectName(f"{self.stem}.rename")
            self.rename.setAccessibleName("Name of the joint")
            self.rename.editingFinished.connect(self._commit_name)
            self.form.addRow(label("Name", "soft"), self.rename)
            for axis in "xyz":
                self._field(axis, f"{axis}, cm", self._commit_joint)
            self._field("length", "length, cm", self._commit_length)
            for key, text in (("moves", "Moves"), ("hangs", "Hangs on"), ("other", "Other side")):
                self._text(key, text)
        else:
            for key, text in (("size", "Size"), ("what", "Kind"), ("bound", "Bound")):
                self._text(key, text)

    def _field(self, key: str, text: str, commit: object, quantity: Quantity = Quantity.NUMBER) -> None:
        box = QDoubleSpinBox()
        box.setObjectName(f"{self.stem}.{key}")
        box.setAccessibleName(text)
        box.setRange(-1e6, 1e6)
        box.setDecimals(2)
        box.setSingleStep(0.1 if quantity in (Quantity.SHARE, Quantity.FACTOR) else 1.0)
        box.setKeyboardTracking(False)
        box.setSuffix({Quantity.LENGTH: " cm", Quantity.ANGLE: "°"}.get(quantity, ""))
        box.valueChanged.connect(lambda value, k=key: commit(k, value))  # type: ignore[operator]
        self.form.addRow(label(text, "soft"), box)
        self.fields[key] = box

    def _text(self, key: str, text: str) -> None:
        value = label("", "figure", name=f"{self.stem}.{key}")
        self.form.addRow(label(text, "soft"), value)
        self.texts[key] = value

    def _set(self, key: str, value: float) -> None:
        box = self.fields[key]
        if box.hasFocus() and box.lineEdit().isModified():
            return
        box.blockSignals(True)
        box.setValue(value)
        box.blockSignals(False)

    def _show(self) -> None:
        selection, character = self.subject, self.session.character
        more = f" and {len(selection.ids) - 1} more" if len(selection.ids) > 1 else ""
        self.kind.setText(selection.kind + more)
        if selection.kind == "control":
            control = character.rig.control(selection.lead)
            self.name.setText(control.name)
            pose = edits.posed(character)
            for channel in control.channels:
                if channel.key in self.fields:
                    value = character.rig.value(pose, ChannelRef(control.id, channel.key))
                    self._set(channel.key, value * channel.quantity.on_screen)
            limb = character.rig.limb_of(control.id)
            state = "in use"
            if control.id in out_of_use(character.rig, character.pose) and limb is not None:
                state = "out of use: limb on " + ("IK" if control.id in limb.fk else "FK")
            self.texts["state"].setText(state)
        elif selection.kind == "peg":
            peg = character.pegs.by_name[selection.lead]
            self.name.setText(peg.name.replace("_", " "))
            for axis, value in zip("xyz", peg.position, strict=True):
                self._set(axis, value * 100)
            weak = "weak guess" if peg.weak else f"found, {peg.confidence:.0%} sure"
            self.texts["sure"].setText("by hand" if peg.by_hand else weak)
            other = other_side_name(peg.name)
            self.texts["other"].setText(other.replace("_", " ") if other else "on the middle")
        elif selection.kind == "joint":
            skeleton = character.skeleton
            joint = skeleton.joint(selection.lead)
            self.name.setText(joint.name)
            if self.rename is not None and not self.rename.hasFocus():
                self.rename.setText(joint.name)
            for axis, value in zip("xyz", joint.position, strict=True):
                self._set(axis, value * 100)
            children = skeleton.children(joint.id)
            end = np.array(children[0].position if children else (joint.tail or joint.position))
            self._set("length", 100 * float(np.linalg.norm(end - np.array(joint.position))))
            self.texts["hangs"].setText(skeleton.joint(joint.parent).name if joint.parent else "nothing")
            count = 0
            for weights in character.skin.weights.values() if character.skin else ():
                if joint.id in weights.joint_ids:
                    count += int((weights.indices == weights.joint_ids.index(joint.id)).sum())
            self.texts["moves"].setText(f"{count} vertices" if character.skin else "not bound yet")
            other = skeleton.other_side(joint.id)
            self.texts["other"].setText(skeleton.joint(other).name if other and other != joint.id else "on the middle")
        else:
            part = character.part(selection.lead)
            self.name.setText(part.name)
            self.texts["size"].setText(f"{part.mesh.vertex_count} vertices")
            self.texts["what"].setText(part.kind.value if part.included else "left out")
            bound = character.skin is not None and part.id in character.skin.weights
            self.texts["bound"].setText("yes" if bound else "not yet")

    def _commit_channel(self, channel: str, shown: float) -> None:
        session = self.session
        lead = session.selection.lead
        control = session.character.rig.control(lead)
        value = shown / control.channel(channel).quantity.on_screen
        limb = session.character.rig.limb_of(lead)
        if limb is not None and limb.amount == (lead, channel):
            pose = session.character.pose
            session.try_edit(
                f"Blend of {control.name}",
                lambda d: edits.switch_limb(edits.set_pose(d, pose), limb.id, value),
            )
            return
        pose = with_values(session.character.rig, edits.posed(session.character), lead, **{channel: value})
        session.commit_pose(f"{control.name} {channel.replace('_', ' ')}", pose, (lead,))

    def _commit_peg(self, axis: str, shown: float) -> None:
        lead = self.lead
        place = list(self.session.character.pegs.by_name[lead].position)
        place["xyz".index(axis)] = shown / 100
        both = self.session.both_sides
        x, y, z = place
        self.session.try_edit(f"Place {lead}", lambda d: edits.place_peg(d, lead, (x, y, z), both_sides=both))

    def _commit_joint(self, axis: str, shown: float) -> None:
        lead = self.lead
        joint = self.session.character.skeleton.joint(lead)
        place = list(joint.position)
        place["xyz".index(axis)] = shown / 100
        both, children = self.session.both_sides, self.session.with_children
        x, y, z = place
        self.session.try_edit(
            f"Move {joint.name}",
            lambda d: edits.move_joint(d, lead, (x, y, z), both_sides=both, with_children=children),
        )

    def _commit_length(self, _: str, shown: float) -> None:
        lead, both = self.session.selection.lead, self.session.both_sides
        name = self.session.character.skeleton.joint(lead).name
        self.session.try_edit(f"Lengthen {name}", lambda d: edits.lengthen_joint(d, lead, shown / 100, both_sides=both))

    def _commit_name(self) -> None:
        lead = self.lead
        skeleton = self.session.character.skeleton if self.session.character else None
        if self.rename is None or skeleton is None or lead not in skeleton.index:
            return
        text = self.rename.text().strip()
        if text and text != skeleton.joint(lead).name:
            self.session.try_edit(f"Rename to {text}", lambda d: edits.rename_joint(d, lead, text))

    def place(self) -> None:
        """Keep inside the stage; until dragged, in its upper right corner."""
        stage = self.parentWidget()
        if not self.moved_by_hand:
            self.move(self._free_place(stage.size()))
        x = min(max(self.x(), 4), max(stage.width() - self.width() - 4, 4))
        y = min(max(self.y(), 4), max(stage.height() - self.height() - 4, 4))
        self.move(x, y)

    def _free_place(self, stage: QSize) -> QPoint:
        """The upper right corner, or where other tags leave room: under them, else left of them."""
        taken = [tag.geometry() for tag in self.others() if tag is not self and tag.isVisible()]
        right = stage.width() - self.width() - 16
        spots = [QPoint(right, 64), *(QPoint(right, g.bottom() + 9) for g in taken)]
        spots += [QPoint(g.left() - self.width() - 8, g.top()) for g in taken]
        for spot in spots:
            mine = QRect(spot, self.size())
            inside = mine.bottom() < stage.height() - 4 and mine.left() > 4
            if inside and not any(mine.intersects(g) for g in taken):
                return spot
        return spots[0]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.grabbed = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.grabbed is not None:
            self.moved_by_hand = True
            self.move(self.mapToParent(event.position().toPoint()) - self.grabbed)
            self.place()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.grabbed = None
