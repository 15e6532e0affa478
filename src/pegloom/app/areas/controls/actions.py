"""What can be done in Controls: build the rig, pose it, switch limbs, shape controls."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import CONTROL_PICKED, WITH_CHARACTER, WITH_JOINTS, WITH_RIG
from pegloom.app.actions.posing import blend_limb, pose_edit
from pegloom.app.areas.controls.editing import edit_hold, edit_solver, open_hold, open_solver
from pegloom.app.areas.controls.settings import HoldSettings, Ik, IkSettings, KitRigSettings, Work, WorkSettings
from pegloom.app.context import Context
from pegloom.app.state.state import JOINT
from pegloom.core.errors import EditError
from pegloom.core.rig.across import swapped_id
from pegloom.core.rig.recipe import KitRig
from pegloom.core.rig.refs import BOARD, NodeRef
from pegloom.core.rig.use import controls_of, idle
from pegloom.core.skeleton.joints import Vector
from pegloom.document import edits
from pegloom.document.edits.rebuild import kits_of
from pegloom.document.edits.rig.changing import name_of, node
from pegloom.document.edits.rig.constraints import spaces_of
from pegloom.document.edits.rig.solvers import ROOT_HELD, turners_of
from pegloom.document.model import Document


def build(c: Context) -> None:
    def then(_: object) -> None:
        if c.state.clock.source and c.state.clip is None:
            c.player.stop()
            c.player.play_source("")
        c.store.put_setting(WorkSettings, work=Work.POSE)
        c.say("Controls built, nothing moved. This is the current pose: drag a control")

    c.try_edit("Build controls", edits.build_controls, then)


def arms(blend: float, c: Context) -> None:
    """Both arms to IK (1) or FK (0), matched."""
    limbs = [limb for limb in c.character.require_rig().limbs if limb.id.startswith("arm.")]

    def edit(document: Document) -> Document:
        for limb in limbs:
            document = edits.switch_limb(document, limb.id, blend)
        return document

    pose_edit(c, "Arms to IK" if blend else "Arms to FK", edit)


def use(c: Context) -> None:
    """Bring the picked control into use: its limb goes to the side it is of, matched."""
    rig, lead = c.character.require_rig(), c.state.selection.lead
    solver = idle(rig, c.frames.control_pose).get(lead)
    if solver is None:
        c.say(f"{rig.control(lead).name} is in use already")
        return
    value = 0.0 if lead in solver.fk else 1.0
    blend_limb(c, f"{rig.control(lead).name} into use", solver.id, value)


def add_ik(c: Context) -> None:
    """IK on the chain from the first picked turner to the last."""
    chosen, rig = c.state.settings.of(IkSettings), c.character.require_rig()
    joints = {control: joint for joint, control in turners_of(rig).items()}
    picked = [joints[i] for i in c.state.selection.ids if i in joints]
    if len(picked) < 2:
        raise EditError("Pick the first and the last turner of a chain first: click one, then the other with Shift")
    first, last = (picked[0], picked[-1]) if _above(c, picked[0], picked[-1]) else (picked[-1], picked[0])

    def then(made: object) -> None:
        solver = c.character.require_rig().solver(str(made))
        goal = next(iter(sorted(controls_of(solver))))
        blend_limb(c, f"{solver.name} to IK", solver.id, 1.0)
        c.store.select("control", goal)
        open_solver(c, solver.id)
        c.say(f"{solver.name}: nothing moved. Drag its {'curve' if chosen.kind is Ik.CURVE else 'goal'}")

    c.try_edit("Add IK", lambda d: edits.add_ik(d, first, last, chosen.kind.value, points=chosen.points), then)


def _above(c: Context, upper: str, lower: str) -> bool:
    skeleton, at = c.character.require_skeleton(), lower
    while at != upper:
        parent = skeleton.joint(at).parent
        if parent is None:
            return False
        at = parent
    return True


def add_body(c: Context) -> None:
    """The whole body answers to the goals of its limbs."""

    def then(_: object) -> None:
        pose_edit(c, "Use the whole body", lambda d: edits.use_whole_body(d, 1.0))
        c.say("The whole body answers to goals of limbs on IK: drag a hand far. Its amount is in the card IK and FK")

    c.try_edit("Add the whole body", edits.add_body, then)


def drop_solver(c: Context, solver: str) -> None:
    name = c.character.require_rig().solver(solver).name or solver
    c.try_edit(f"Drop {name}", lambda d: edits.drop_solver(d, solver))


def bend_kit(c: Context, kit: str, how: KitRig) -> None:
    """What bends a limb kit, on the other side too where that is wished."""
    both = c.state.settings.of(KitRigSettings).both
    known = {k.id for k in kits_of(c.character)}
    kits = [k for k in dict.fromkeys([kit, swapped_id(kit)] if both else [kit]) if k in known]

    def edit(document: Document) -> Document:
        for one in kits:
            document = edits.set_kit_rig(document, one, how)
        return document

    c.try_edit(f"{kit}: {how.solver.value}", edit)


def constrain(c: Context) -> None:
    """The last picked control follows the ones picked before it."""
    chosen, picked = c.state.settings.of(HoldSettings), c.state.selection
    ids = tuple(f"{JOINT}{i}" for i in picked.ids) if picked.kind == "joint" else picked.ids
    if len(ids) < 2:
        raise EditError("Pick what is to be followed, then with Shift what follows it")
    _hold(c, ids[-1], ids[:-1], chosen)


def hold(c: Context, held: str) -> None:
    """A control follows the one the card names."""
    chosen = c.state.settings.of(HoldSettings)
    if not held:
        c.say("Pick the control or joint that is to follow first", error=True)
    elif not chosen.target:
        c.say("Fill in what it follows: press the mark beside the field, then click it in the view", error=True)
    else:
        _hold(c, held, (chosen.target,), chosen)


def _hold(c: Context, held: str, targets: tuple[str, ...], chosen: HoldSettings) -> None:
    if not chosen.axes:
        c.say("Tick at least one axis to follow along", error=True)
        return
    name = name_of(c.skeleton, c.character.require_rig(), node(c.skeleton, c.character.require_rig(), held))

    def then(made: object) -> None:
        open_hold(c, str(made))
        c.say(f"{name} follows now; nothing moved. The dashed thread leads to what it follows, the pane says how")

    c.try_edit(
        f"{name} follows",
        lambda d: edits.constrain(
            d, held, targets, chosen.follow, axes=chosen.axes, keep=chosen.keep, as_posed=chosen.keep and chosen.posed
        ),
        then,
    )


def add_space(c: Context, held: str) -> None:
    """What the card names becomes one more space of a control."""
    rig, chosen = c.character.require_rig(), c.state.settings.of(HoldSettings)
    target = chosen.target
    if not held or not target or not chosen.axes:
        c.say("Pick a control, fill in what it may follow, and tick along which axes", error=True)
        return
    there = spaces_of(rig, held, chosen.axes)
    spaces: dict[str, str | NodeRef] = {} if there is None else {t.name: t.node for t in there.targets}
    if held.startswith(JOINT):
        c.say("Spaces are for controls; let a joint follow by a constraint", error=True)
        return
    said = name_of(c.skeleton, rig, node(c.skeleton, rig, target))
    spaces[said] = target
    c.try_edit(
        f"Space of {rig.control(held).name}", lambda d: edits.set_spaces(d, held, spaces, axes=chosen.axes),
        lambda _: c.say(f"{rig.control(held).name} may follow {said} now; switch it in the card Follows"),
    )  # fmt: skip


def drop_constraint(c: Context, constraint: str) -> None:
    name = c.character.require_rig().constraint(constraint).name
    c.try_edit(f"Drop {name}", lambda d: edits.drop_constraint(d, constraint))


def mirror(source: str, c: Context) -> None:
    """Everything of one side to the other."""
    c.try_edit(
        f"Mirror the rig, {source} to {'right' if source == 'left' else 'left'}", lambda d: edits.mirror_rig(d, source),
        lambda said: c.say(f"Mirrored {said}; nothing moved"),
    )  # fmt: skip


def duplicate(c: Context) -> None:
    """The character once more, to try another way."""
    c.try_edit(
        "Duplicate the character", edits.duplicate_character,
        lambda _: c.say(f"This is {c.character.name}, beside the other; “Next character” leads back to it"),
    )  # fmt: skip


def hold_root(c: Context, value: float) -> None:
    """How much a whole body's root keeps its place."""
    pose_edit(c, f"Hold the root {value:.0%}", lambda d: edits.set_pose_channel(d, BOARD, ROOT_HELD, value))


def limit(c: Context, joint: str, **bounds: Vector) -> None:
    """Limits or stiffness of a joint, where chains and bodies ask."""
    name = c.skeleton.joint(joint).name
    c.try_edit(f"Limits of {name}", lambda d: edits.set_limit(d, joint, **bounds))


def free_limit(c: Context, joint: str) -> None:
    name = c.skeleton.joint(joint).name
    c.try_edit(f"No limits on {name}", lambda d: edits.forget_limit(d, joint))


def work(c: Context, what: Work) -> None:
    """Build controls, or pose them."""
    c.store.put_setting(WorkSettings, work=what)


ACTIONS = (
    Action("controls.build", "Build controls", "Controls", "All controls from the limb kits", build, needs=WITH_JOINTS),
    Action("controls.use", "Use this control", "Controls", "The picked control's limb goes to its side, IK or FK, matched", use, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.add_ik", "Add IK", "Controls", "IK from the first picked turner to the last", add_ik, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.add_body", "Add whole body", "Controls", "The whole body answers to its limbs' goals", add_body, needs=WITH_RIG),
    Action("controls.constrain", "Constrain", "Controls", "The last picked control follows the others", constrain, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.edit_hold", "Open what holds it", "Controls", "The constraint on what is picked, in a pane that stays on it", edit_hold, needs=WITH_RIG),
    Action("controls.edit_ik", "Open its IK", "Controls", "The IK the picked control is of, in a pane that stays on it", edit_solver, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("controls.mirror_left", "Mirror the rig, left to right", "Controls", "Shapes, IK, constraints, spaces, limits", partial(mirror, "left"), needs=WITH_RIG),
    Action("controls.mirror_right", "Mirror the rig, right to left", "Controls", "Shapes, IK, constraints, spaces, limits", partial(mirror, "right"), needs=WITH_RIG),
    Action("character.duplicate", "Duplicate the character", "Edit", "Try another way on a copy", duplicate, needs=WITH_CHARACTER),
    Action("controls.arms_ik", "Arms to IK", "Controls", "Both arms to IK, matched", partial(arms, 1.0), needs=WITH_RIG),
    Action("controls.arms_fk", "Arms to FK", "Controls", "Both arms to FK, matched", partial(arms, 0.0), needs=WITH_RIG),
)  # fmt: skip
