"""The pane of one constraint: what it takes, from what, by which shares, along which axes; each change shown at once."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from pegloom.app.areas.controls.actions import drop_constraint
from pegloom.app.areas.controls.editing import add_to_hold, open_hold, opened_hold
from pegloom.app.areas.controls.editor_pane import EditorPane
from pegloom.app.areas.controls.settings import EditorSettings
from pegloom.app.context import Context
from pegloom.app.state.state import JOINT, State
from pegloom.app.theme import put_icon
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, narrow
from pegloom.core.rig.constraints import Follow
from pegloom.core.rig.controls import ControlRig
from pegloom.document import edits
from pegloom.document.edits.rig.changing import name_of

TAKES = {
    Follow.POSITION: "its place", Follow.ROTATION: "its turn", Follow.AIM: "points at it", Follow.PARENT: "rides on it",
    Follow.SCALE: "its size",
}  # fmt: skip


class HoldPane(EditorPane):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "hold", lambda: open_hold(c, ""), "constraint")
        self.words = label("", "caption", wrap=True, name="hold.words")
        self.body.addWidget(self.words)
        self.follow = QComboBox()
        narrow(self.follow)
        self.follow.setObjectName("hold.follow")
        for kind in Follow:
            self.follow.addItem(f"{kind.value}: {TAKES[kind]}", kind)
        self.follow.activated.connect(lambda _: self._change("kind", follow=self.follow.currentData()))
        self.line("Takes", self.follow)
        axes = QWidget()
        row = QHBoxLayout(axes)
        row.setContentsMargins(0, 0, 0, 0)
        self.axes: dict[str, QCheckBox] = {}
        for axis in "xyz":
            box = QCheckBox(axis)
            box.setObjectName(f"hold.axis.{axis}")
            box.setToolTip(f"Along and about {axis} of what it rides on")
            box.clicked.connect(lambda _: self._axes())
            self.axes[axis] = box
            row.addWidget(box)
        row.addStretch(1)
        self.line("Axes", axes)
        self.shares = QVBoxLayout()
        self.shares.setSpacing(4)
        self.body.addLayout(self.shares)
        self.more = choice(self, EditorSettings, "more", (), name="hold.more")
        add = button("Add", "hold.add", lambda: c.attempt(lambda: add_to_hold(c)), role="plain", tip="It is followed, too, by a share you draw")
        self.line("And", filled_by_pick(self, self.more, EditorSettings, "more", ("control", "joint"), "what is followed, too"), more=add)
        self.body.addWidget(label("Offset kept between them", "soft"))
        row = QHBoxLayout()
        row.setSpacing(4)
        for key, word, tip in (
            ("rest", "as at rest", "Nothing moves while nothing is posed"), ("posed", "as posed", "As they stand in the pose that is shown"),
            ("none", "none", "It goes onto what it follows"),
        ):  # fmt: skip
            row.addWidget(button(word, f"hold.offset.{key}", partial(self._change, "offset", offset=key), tip=tip), 1)
        self.body.addLayout(row)
        self.up = QComboBox()
        narrow(self.up)
        self.up.setObjectName("hold.up")
        self.up.activated.connect(lambda _: self._change("up", up=self.up.currentData()))
        self.up_line = QWidget()
        holder = QVBoxLayout(self.up_line)
        holder.setContentsMargins(0, 0, 0, 0)
        self.line("Up by", self.up, at=holder)
        self.body.addWidget(self.up_line)
        row = QHBoxLayout()
        self.order = label("", "caption", name="hold.order")
        row.addWidget(self.order, 1)
        self.earlier = button("Earlier", "hold.earlier", self._earlier, tip="Let it work before the one ahead of it")
        row.addWidget(self.earlier)
        self.body.addLayout(row)
        self.body.addStretch(1)
        self.foot.addWidget(label("Drag a control to try it: it springs back.", "caption", wrap=True))
        self.foot.addWidget(button("Drop", "hold.drop", self._drop))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(EditorSettings).hold, state.character.rig if state.character is not None else None)

    def show_state(self, state: State) -> None:
        one, character = opened_hold(state), state.character
        if one is None or character is None or character.rig is None or character.skeleton is None:
            return
        rig, skeleton = character.rig, character.skeleton
        held = name_of(skeleton, rig, one.held)
        self.title.setText(f"{held} follows")
        self.words.setText("It may follow these; which one is chosen while posing." if one.spaces else "It follows the things below. The dashed threads in the view lead to them.")
        self.follow.setCurrentIndex(self.follow.findData(one.follow))
        for axis, box in self.axes.items():
            box.setChecked(axis in one.axes)
        drawn = any(row.slider.isSliderDown() for row in self.sliders.values())
        if not drawn:
            self._shares(rig, state)
        joints = [(f"{j.name} (joint)", f"{JOINT}{j.id}") for j in skeleton.joints]
        things = [(c.name, c.id) for c in rig.handles]
        taken = {t.node.id for t in one.targets} | {one.held.id}
        told = state.settings.of(EditorSettings).more
        fill(self.more, [("pick one", ""), *(t for t in (*things, *joints) if t[1].removeprefix(JOINT) not in taken)])
        self.more.setCurrentIndex(max(self.more.findData(told), 0))
        self.up_line.setVisible(one.follow is Follow.AIM)
        fill(self.up, [("as it would be", "none"), ("world", "world"), *things, *joints])
        up = one.up_node
        self.up.setCurrentIndex(max(self.up.findData("none" if up is None else up.id or "world"), 0))
        there = sorted((k for k in rig.constraints if k.held == one.held), key=lambda k: k.order)
        place = [k.id for k in there].index(one.id)
        self.order.setText(f"{place + 1} of {len(there)} on it" if len(there) > 1 else "the only one on it")
        self.earlier.setVisible(place > 0)

    def _shares(self, rig: ControlRig, state: State) -> None:
        one = opened_hold(state)
        assert one is not None
        clear(self.shares)
        self.sliders = {}
        skeleton = self.c.skeleton
        if not one.spaces:
            room = QWidget()
            room.setFixedWidth(30)
            self.line("In all", self.slider(rig, one.amount, "hold.amount"), at=self.shares, more=room)
        for k, target in enumerate(one.targets):
            name = target.name or name_of(skeleton, rig, target.node)
            drop = button("", f"hold.less.{k + 1}", partial(self._less, k), role="plain", tip=f"Follow {name} no more")
            put_icon(drop, "x")
            drop.setAccessibleName(f"Follow {name} no more")
            self.line(name, self.slider(rig, target.weight, f"hold.share.{k + 1}"), at=self.shares, more=drop)

    def _change(self, what: str, **values: object) -> None:
        one = opened_hold(self.c.state)
        if self.showing or one is None:
            return
        if not self.c.try_edit(f"{one.name}: {what}", lambda d: edits.change_constraint(d, one.id, **values)):  # type: ignore[arg-type]
            self.look_anew()

    def _axes(self) -> None:
        some = "".join(axis for axis, box in self.axes.items() if box.isChecked())
        if not some:
            self.c.say("At least one axis stays; or draw its share to nothing", error=True)
            self.look_anew()
            return
        self._change("axes", axes=some)

    def _less(self, k: int) -> None:
        one = opened_hold(self.c.state)
        if one is not None:
            ref = one.targets[k].node
            self.c.try_edit(f"{one.name} follows one less", lambda d: edits.drop_target(d, one.id, ref))

    def _earlier(self) -> None:
        one = opened_hold(self.c.state)
        if one is None:
            return
        there = sorted((k for k in self.c.character.require_rig().constraints if k.held == one.held), key=lambda k: k.order)
        at = [k.id for k in there].index(one.id)
        ids = [k.id for k in there]
        ids[at - 1], ids[at] = ids[at], ids[at - 1]

        def edit(document):  # type: ignore[no-untyped-def]
            for order, told in enumerate(ids):
                document = edits.change_constraint(document, told, order=order)
            return document

        self.c.try_edit(f"{one.name} earlier", edit)

    def _drop(self) -> None:
        one = opened_hold(self.c.state)
        if one is not None:
            open_hold(self.c, "")
            drop_constraint(self.c, one.id)
