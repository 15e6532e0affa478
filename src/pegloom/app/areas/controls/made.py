"""What can be done with channels, couplings, follow-through, faces and what is held."""

from __future__ import annotations

import numpy as np

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import CLIP, CONTROL_PICKED, WITH_RIG
from pegloom.app.actions.posing import layer_in_hand, pose_edit, posed_over
from pegloom.app.areas.controls.settings import EditorSettings
from pegloom.app.areas.controls.settings_made import ChannelSettings, CouplingSettings, FaceSettings, SpringSettings
from pegloom.app.context import Context
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.recipe.spaces import head_of
from pegloom.core.skeleton.joints import Vector
from pegloom.document import edits
from pegloom.document.edits import Read
from pegloom.document.edits.rig.changing import name_of, node
from pegloom.document.edits.rig.channels import said_channel
from pegloom.document.edits.rig.couplings import coupling_of
from pegloom.document.edits.rig.face import told_expressions, unmatched_controls
from pegloom.document.edits.rig.solvers import turners_of
from pegloom.files.expressions import read_expressions, write_expressions

AXES: dict[str, Vector] = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


# Channels


def add_channel(c: Context, owner: str) -> None:
    """One more channel of a control, as the card says."""
    told = c.state.settings.of(ChannelSettings)
    if not owner:
        raise EditError("Pick the control that gets the channel first")
    if not told.title.strip():
        raise EditError("Give the channel a title first")
    plain = told.quantity in (Quantity.SWITCH, Quantity.CHOICE)
    factor = told.quantity.on_screen
    low, high = (None, None) if plain or told.low >= told.high else (told.low / factor, told.high / factor)
    soft = 0.0 if plain else max(told.soft, 0.0) / factor
    options = [o.strip() for o in told.options.split(",") if o.strip()]
    c.try_edit(
        f"Add channel {told.title.strip()}",
        lambda d: edits.add_channel(d, owner, told.title, quantity=told.quantity, low=low, high=high, soft=soft, options=options),
        lambda _: c.store.put_setting(ChannelSettings, title="", options=""),
    )


def drop_channel(c: Context, owner: str, key: str) -> None:
    c.try_edit("Drop a channel", lambda d: edits.drop_channel(d, owner, key))


def switch_channels(c: Context, owners: tuple[str, ...], keys: tuple[str, ...], *, locked: bool | None = None, shown: bool | None = None) -> None:
    """Lock or free, show or hide channels of all these controls."""
    what = ("Lock" if locked else "Free") if locked is not None else "Show" if shown else "Hide"
    some = ", ".join(k.replace("_", " ") for k in keys[:2]) or "all channels"
    c.try_edit(f"{what} {some}", lambda d: edits.switch_channels(d, owners, keys, locked=locked, shown=shown))


def show_by(c: Context, owner: str, key: str, when: int) -> None:
    """A channel says whether the thing the card names is seen."""
    thing = c.state.settings.of(ChannelSettings).shown_thing
    if not thing or not key:
        raise EditError("Choose a channel in the list, and what it shows: press the mark, then click it in the view")
    c.try_edit("Show by a channel", lambda d: edits.show_by(d, thing, owner, key, when=when))


def move_morph(c: Context, owner: str, key: str) -> None:
    """A channel is the weight of the morph target the card names."""
    morph = c.state.settings.of(ChannelSettings).morph
    if not morph or not key:
        raise EditError("Choose a channel in the list, and a morph target")
    c.try_edit(f"Move {morph}", lambda d: edits.drive_morph(d, morph, owner, key))


def drop_output(c: Context, output: str) -> None:
    c.try_edit("Let a channel go", lambda d: edits.drop_output(d, output))


def add_width(c: Context) -> None:
    """Widths for the joints of the picked controls."""
    joints = {control: joint for joint, control in turners_of(c.character.require_rig()).items()}
    some = [joints[i] for i in c.state.selection.ids if i in joints]
    if not some:
        raise EditError("Pick a control that turns a joint first")

    def edit(document):  # type: ignore[no-untyped-def]
        for joint in some:
            document, _ = edits.add_width(document, joint)
        return document

    c.try_edit("Widths", edit, lambda _: c.say("It has a width and a thickness now, in its tag"))


# Couplings


def couple(c: Context, owner: str) -> None:
    """Let the channel the card names be driven by what it names; its pane opens."""
    told = c.state.settings.of(CouplingSettings)
    rig, skeleton = c.character.require_rig(), c.skeleton
    if not owner or not told.drives:
        raise EditError("Pick the control that is to be driven, and choose its channel")
    reading = _reading(told)
    said = name_of(skeleton, rig, node(skeleton, rig, told.source))

    def then(made: object) -> None:
        open_coupling(c, str(made))
        c.say("Coupled; nothing moved. Gain, formula and curve are in the pane below")

    c.try_edit(f"Couple to {said}", lambda d: edits.couple(d, owner, told.drives, [reading]), then)


def _reading(told: CouplingSettings) -> Read:
    """What the card says is to be read."""
    if not told.source:
        raise EditError("Fill in what is read: press the mark beside the field, then click it in the view")
    if told.what is None:
        if told.source.startswith("joint:"):
            raise EditError("A joint has no channels; choose what is measured of it")
        return Read("x", control=told.source, channel=told.source_channel)
    return Read("x", what=told.what, node=told.source, axis=AXES.get(told.source_channel, AXES["y"]))


def add_reading(c: Context) -> None:
    """What the card names is read by the coupling in the pane, too."""
    told = c.state.settings.of(CouplingSettings)
    reading = _reading(told)
    c.try_edit("One more reading", lambda d: edits.add_reading(d, told.open, reading), lambda _: c.say("It reads that, too; use its name in the formula"))


def drop_reading(c: Context, coupling: str, name: str) -> None:
    c.try_edit(f"Read {name} no more", lambda d: edits.drop_reading(d, coupling, name))


def open_coupling(c: Context, coupling: str) -> None:
    """Show a coupling in the pane; "" closes it."""
    c.store.put_setting(EditorSettings, hold="", solver="")
    c.store.put_setting(CouplingSettings, open=coupling)


def drop_coupling(c: Context, coupling: str) -> None:
    name = coupling_of(c.character.require_rig(), coupling).name
    c.try_edit(f"Drop {name}", lambda d: edits.drop_coupling(d, coupling))


def across(c: Context) -> None:
    """The coupling in the pane on the other side, too."""
    told = c.state.settings.of(CouplingSettings).open
    if not told:
        raise EditError("Open a coupling first")
    c.try_edit("Coupling to the other side", lambda d: edits.couple_across(d, told), lambda _: c.say("The other side is coupled alike"))


def copy_to(c: Context) -> None:
    """The coupling in the pane on the picked control's channel of the same key, too."""
    rig, told, lead = c.character.require_rig(), c.state.settings.of(CouplingSettings).open, c.state.selection.lead
    if not told or c.state.selection.kind != "control":
        raise EditError("Open a coupling, then pick the control it is to drive as well")
    one = coupling_of(rig, told)
    if one.drives.owner == lead:
        raise EditError("Pick another control: this one is driven by it already")
    c.try_edit(
        "Copy a coupling", lambda d: edits.copy_coupling(d, told, lead, one.drives.key),
        lambda made: c.say(f"{said_channel(c.character.require_rig(), coupling_of(c.character.require_rig(), str(made)).drives)} is coupled alike"),
    )  # fmt: skip


# Follow-through


def add_springs(c: Context) -> None:
    """The chain between the first and the last picked turner follows through; of one, down to its end."""
    told, rig = c.state.settings.of(SpringSettings), c.character.require_rig()
    joints = {control: joint for joint, control in turners_of(rig).items()}
    picked = [joints[i] for i in c.state.selection.ids if i in joints]
    if not picked:
        raise EditError("Pick the first turner of a chain: a ring on a joint")
    skeleton = c.skeleton
    depth = {j: len(_above(skeleton, j)) for j in picked}
    first, last = min(picked, key=lambda j: depth[j]), max(picked, key=lambda j: depth[j])
    c.try_edit(
        "Follow-through", lambda d: edits.add_springs(d, first, last if last != first else "", group=told.group, swing=told.swing, drift=told.drift),
        lambda _: c.say("It follows through now; nothing moved. Drag what carries it, or play a clip"),
    )  # fmt: skip


def _above(skeleton, joint: str) -> list[str]:  # type: ignore[no-untyped-def]
    found, at = [], skeleton.joint(joint).parent
    while at is not None:
        found.append(at)
        at = skeleton.joint(at).parent
    return found


def drop_springs(c: Context, spring: str) -> None:
    c.try_edit("Off its springs", lambda d: edits.drop_springs(d, spring))


def bake_springs(c: Context) -> None:
    """What follows through in the clip on the strip becomes a layer of keys."""
    clip = c.state.clip
    assert clip is not None
    c.try_edit(
        f"Bake follow-through of {clip.name}", lambda d: edits.bake_springs(d, clip.id),
        lambda _: c.say("Baked: a layer of keys; Motion lists it, and switches it off"),
    )


# Face


def add_handle(c: Context) -> None:
    """A handle for the morph targets the card names."""
    told = c.state.settings.of(FaceSettings)
    name = told.name.strip() or next((m for m in (told.up, told.down, told.left, told.right) if m), "handle")
    place = _spot(c)

    def then(made: object) -> None:
        c.store.put_setting(FaceSettings, spot="")
        c.store.select("control", str(made))

    c.try_edit(
        f"Handle {name}", lambda d: edits.add_handle(d, name, place=place, up=told.up, down=told.down, left=told.left, right=told.right),
        then,
    )


def _spot(c: Context) -> Vector | None:
    """The place picked on the face, before it by a little, as it is at rest; None where none was picked."""
    told, frame, skeleton = c.state.settings.of(FaceSettings).spot, c.frames.frame(), c.skeleton
    head = head_of(skeleton)
    if not told or frame is None or head not in skeleton.index:
        return None
    i = skeleton.index[head]
    point = np.array([float(v) for v in told.split()] + [1.0])
    out = rotation_matrix(c.character.front) @ np.array([0.0, 0.0, 0.02 * c.character.height])
    x, y, z = ((skeleton.world[i] @ np.linalg.inv(frame.joints[i]) @ point)[:3] + out).tolist()
    return (x, y, z)


def move_handle(c: Context) -> None:
    """The picked handle to the place picked on the face."""
    place, lead = _spot(c), c.state.selection.lead
    if place is None:
        raise EditError("Pick a place first: press the mark beside Place, then click the face")
    c.try_edit("Move a handle", lambda d: edits.place_handle(d, lead, place), lambda _: c.store.put_setting(FaceSettings, spot=""))


def keep_expression(c: Context, name: str = "") -> None:
    """What the face does, kept by name with a picture."""
    taken = {e.name for e in c.character.expressions}
    wanted = name or c.ask.name("Keep the expression", next(f"expression {k}" for k in range(1, 999) if f"expression {k}" not in taken))
    if not wanted:
        return
    picture = c.view.small_picture()
    pose = c.frames.control_pose
    stored = edits.posed(c.character)
    c.try_edit(
        f"Keep {wanted}",
        lambda d: edits.set_pose(edits.keep_expression(edits.set_pose(d, pose), wanted, picture=picture)[0], stored),
        lambda _: c.say(f"{wanted} is kept, with its picture"),
    )


def put_expression(c: Context, expression: str, amount: float, *, mix: bool) -> None:
    """An expression onto the pose in the view."""
    name = next((e.name for e in c.character.expressions if e.id == expression), expression)
    pose_edit(c, f"{name} by {amount:.0%}", lambda d: edits.apply_expression(d, expression, amount, mix=mix))


def drop_expression(c: Context, expression: str) -> None:
    c.try_edit("Forget an expression", lambda d: edits.drop_expression(d, expression))


def save_expressions(c: Context) -> None:
    """All expressions to a file."""
    some = told_expressions(c.character)
    if not some:
        raise EditError("no expressions are kept yet")
    path = c.ask.save_file("Save expressions", f"{c.character.name} expressions.json", "Expressions (*.json)")
    if path:
        write_expressions(path, some)
        c.say(f"{len(some)} expressions saved")


def load_expressions(c: Context) -> None:
    """Expressions from a file; controls that are called otherwise here are matched by hand, once."""
    path = c.ask.open_expressions()
    if not path:
        return
    told = read_expressions(path)
    rig = c.character.require_rig()
    names = [h.name for h in rig.handles]
    pairs: dict[str, str] = {}
    for name in unmatched_controls(c.character, told)[:40]:
        chosen = c.ask.one_of(f"{name} is not here. Which control does its part?", ["none", *names])
        if chosen < 0:
            return
        if chosen > 0:
            pairs[name] = names[chosen - 1]
    c.try_edit("Load expressions", lambda d: edits.take_expressions(d, told, pairs=pairs), lambda said: c.say(str(said)))


# What is held


def take_hold(c: Context) -> None:
    """The last picked control is held by the one picked before it, from now on; over a clip with the keys it needs."""
    ids = c.state.selection.ids
    if len(ids) != 2 or c.state.selection.kind != "control":
        raise EditError("Pick what holds (a hand), then with Shift what is held (a prop, or a hand that follows one)")
    by, held = ids
    rig = c.character.require_rig()
    joint = next((j for j, control in turners_of(rig).items() if control == by), "")
    # A hand holds by its joint: in FK and in IK alike.
    limb = next((s for s in rig.limbs if s.goal.id == by), None)
    target = f"joint:{limb.joints[-1]}" if limb is not None else f"joint:{joint}" if joint else by
    name = f"{rig.control(held).name} is held by {rig.control(by).name}"
    _holding(c, name, held, target)


def let_go(c: Context) -> None:
    """What is picked follows what it rides on again, from now on."""
    _holding(c, f"Let {c.character.require_rig().control(c.state.selection.lead).name} go", c.state.selection.lead, "")


def _holding(c: Context, name: str, held: str, by: str) -> None:
    clip, time = posed_over(c), c.state.snapped_time
    told, at = (clip.id, time) if clip is not None else ("", 0.0)
    layer = layer_in_hand(c) if told else ""
    ok = c.try_edit(name, lambda d: edits.take_hold(d, held, by, clip=told, time=at, layer=layer) if by else edits.let_go(d, held, clip=told, time=at, layer=layer))
    if ok:
        c.say(f"{name}{f', from frame {round(time * clip.rate)}' if clip is not None else ''}; nothing jumped")


MADE = (
    Action("controls.across", "Coupling to the other side", "Controls", "The one in the pane", across, needs=WITH_RIG),
    Action("controls.copy_coupling", "Copy the coupling to the picked control", "Controls", "The one in the pane, on the same channel there", copy_to, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.width", "Width and thickness", "Controls", "Channels that thicken and thin the picked controls' own skin", add_width, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.springs", "Follow through", "Controls", "The picked chain lags and settles", add_springs, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.bake_springs", "Bake follow-through", "Motion", "Into a layer of keys", bake_springs, needs=(*WITH_RIG, CLIP)),
    Action("face.handle", "Add a handle", "Face", "For morph targets, before the face", add_handle, needs=WITH_RIG),
    Action("face.move", "Move the handle there", "Face", "The picked one, to the place picked on the face", move_handle, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("face.keep", "Keep the expression", "Face", "By name, with a picture", keep_expression, needs=WITH_RIG),
    Action("face.save", "Save expressions", "Face", "To a file", save_expressions, needs=WITH_RIG),
    Action("face.load", "Load expressions", "Face", "From a file, of any character", load_expressions, needs=WITH_RIG),
    Action("hold.take", "Take hold", "Controls", "Pick what holds, then what is held", take_hold, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("hold.let_go", "Let go", "Controls", "What is picked follows its own parent again", let_go, needs=(*WITH_RIG, CONTROL_PICKED)),
)  # fmt: skip

