"""What a recipe's goals and poles may follow beside what they ride on, and a head that keeps its turn."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.rig.channels import MOVE, ROTATE, Channel, Quantity
from pegloom.core.rig.constraints import Constraint, Follow, Target
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.couplings import Coupling, Measure, Reading, What
from pegloom.core.rig.recipe.builder import Builder, level
from pegloom.core.rig.recipe.choices import USUAL_KIT, USUAL_SPACES, KitRig, has_ik
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeRef, base_node, control_node, joint_node
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.core.skeleton.kits import Kit

FOLLOW = "follow_"
KEEP = "keep_turn"


def space_nodes(skeleton: Skeleton, kits: tuple[Kit, ...], controls: set[str]) -> Mapping[str, NodeRef]:
    """The spaces a body has, by name."""
    found: dict[str, NodeRef] = {"world": WORLD}
    if "body" in controls:
        found["body"] = control_node("body")
    chest = _chest(skeleton, kits)
    if chest:
        found["chest"] = joint_node(chest)
    head = head_of(skeleton)
    if head:
        found["head"] = joint_node(head)
    return found


def _chest(skeleton: Skeleton, kits: tuple[Kit, ...]) -> str:
    """The joint both arms, wings or forelegs hang on, else the last of the spine; "" for none."""
    spine = next((k for k in kits if k.id == "spine"), None)
    present = [j for j in spine.joints if j in skeleton.index] if spine is not None else []
    if len(present) > 1:
        return present[-1]
    hang = [skeleton.joint(k.joints[0]).parent for k in kits if k.part == "arm" and k.joints and k.joints[0] in skeleton.index]
    return hang[0] if len(hang) > 1 and hang[0] and hang[0] == hang[1] else ""


def head_of(skeleton: Skeleton) -> str:
    """The joint of the head, "" for none."""
    found = next((j.id for j in skeleton.joints if j.role == "head"), "")
    if found or "spine.head" in skeleton.index:
        return found or "spine.head"
    named = [j.id for j in skeleton.joints if "head" in j.name.lower().replace("-", "_").split("_") and skeleton.children(j.id)]
    return named[0] if len(named) == 1 else ""


def add_spaces(b: Builder, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig]) -> None:
    """Spaces of goals, a pole that may follow its goal, a head that may keep its turn. All rest at 0."""
    nodes = space_nodes(b.skeleton, kits, {c.id for c in b.controls})
    for kit in kits:
        goal, pole = f"{kit.id}.goal", f"{kit.id}.pole"
        if not any(c.id == goal for c in b.controls):
            continue
        chosen = recipe.get(kit.id, USUAL_KIT).spaces
        wanted = USUAL_SPACES.get(kit.part or kit.kind, ("world", "body")) if chosen is None else chosen
        spaces = {name: nodes[name] for name in wanted if name in nodes}
        # A limb that carries what it would follow closes a loop.
        spaces = {n: r for n, r in spaces.items() if not _carried(b.skeleton, r, kit)}
        if spaces:
            _add(b, goal, spaces)
        if has_ik(kit, recipe) and any(c.id == pole for c in b.controls):
            _add(b, pole, {"goal": control_node(goal)})
    head = head_of(b.skeleton)
    if any(c.id == head for c in b.controls) and not any(head in s.fk for s in b.solvers):
        _channel(b, head, Channel(KEEP, "keep turn", Quantity.SHARE, 0.0, 0.0, 1.0))
        _channel(b, head, Channel(f"{KEEP}_weight", "keep turn: root", Quantity.SHARE, 1.0, 0.0, 1.0, locked=True, shown=False))
        target = Target(control_node("root"), ChannelRef(head, f"{KEEP}_weight"))
        b.constraints.append(
            Constraint(f"{head}.keep", base_node(head), Follow.ROTATION, (target,), ChannelRef(head, KEEP), "head keeps its turn")
        )
        # Its turn alone: a head that took places, too, would leave the neck.
        holder = next((k.id for k in kits if head in k.joints), "")
        chosen = recipe.get(holder, USUAL_KIT).spaces
        carriers = _above(b.skeleton, head)
        spaces = {n: nodes[n] for n in (("world", "body", "chest") if chosen is None else chosen) if n in nodes}
        spaces = {n: r for n, r in spaces.items() if r.id in carriers or r.id not in b.skeleton.index}
        if spaces:
            _add(b, head, spaces, Follow.ROTATION)


EYES = "eyes.goal"
LIDS = "lids_follow"


def add_eyes(b: Builder, kits: tuple[Kit, ...]) -> None:
    """One control that eyes look at; each keeps how it stands to it at rest."""
    made = {c.id for c in b.controls}
    # Lids, brows and mouth corners are kits of that kind, too; they do not look.
    looking = [k for k in kits if k.kind == "eye" and k.joints and k.joints[0].rsplit(".", 1)[-1] == "eye"]
    eyes = [k.joints[0] for k in looking if k.joints[0] in made and k.joints[0] in b.skeleton.index]
    if not eyes:
        return
    places = np.array([b.place(e) for e in eyes])
    apart = float(np.linalg.norm(places.max(axis=0) - places.min(axis=0)))
    away = max(4.0 * apart, 0.15 * b.height)
    at = level(places.mean(axis=0) + b.front @ np.array([0.0, 0.0, away]))
    head = b.skeleton.joint(eyes[0]).parent
    rides = joint_node(head) if head else control_node("inner")
    size = float(np.clip(0.5 * apart / b.height, 0.008, 0.03))
    b.add(EYES, "eyes_goal", Side.CENTRE, rides, at, Shape.CROSS, size, MOVE,
          more=(Channel("aim", "eyes look at it", Quantity.SHARE, 1.0, 0.0, 1.0),))  # fmt: skip
    for eye in eyes:
        weight = Channel("aim_weight", "aim: eyes_goal", Quantity.SHARE, 1.0, 0.0, 1.0, locked=True, shown=False)
        _channel(b, eye, weight)
        name = next(c.name for c in b.controls if c.id == eye)
        target = Target(control_node(EYES), ChannelRef(eye, "aim_weight"))
        b.constraints.append(Constraint(f"{eye}.aim", base_node(eye), Follow.AIM, (target,), ChannelRef(EYES, "aim"), f"{name} looks"))
    _lids(b, kits, eyes)
    spaces: dict[str, NodeRef] = {"world": WORLD}
    if "body" in made:
        spaces["body"] = control_node("body")
    _add(b, EYES, spaces)


def _lids(b: Builder, kits: tuple[Kit, ...], eyes: list[str]) -> None:
    """Lids go along with the eye beside them, up and down, by an amount."""
    made = {c.id for c in b.controls}
    lids = [k.joints[0] for k in kits if k.kind == "eye" and k.joints and k.joints[0].rsplit(".", 1)[-1] == "lid" and k.joints[0] in made]
    if not lids:
        return
    _channel(b, EYES, Channel(LIDS, "lids follow", Quantity.SHARE, 0.5, 0.0, 1.0))
    for lid in lids:
        side = b.skeleton.joint(lid).side
        eye = next((e for e in eyes if b.skeleton.joint(e).side is side), eyes[0])
        # About the line from side to side, told in the eye's own axes; the lid turns about what of its axes is nearest to it.
        aside = b.front @ np.array([1.0, 0.0, 0.0])
        x, y, z = (b.skeleton.joint(eye).matrix[:3, :3].T @ aside).tolist()
        own = next(c.matrix for c in b.controls if c.id == lid)[:3, :3].T @ aside
        k = int(np.argmax(np.abs(own)))
        head = b.skeleton.joint(eye).parent
        measure = Measure(What.TURN, joint_node(eye), joint_node(head) if head else WORLD, (x, y, z))
        readings = (Reading("up", measure=measure), Reading("share", ChannelRef(EYES, LIDS)))
        name = next(c.name for c in b.controls if c.id == lid)
        b.couplings.append(
            Coupling(f"{lid}.follows", ChannelRef(lid, ROTATE[k]), readings, f"{name} follows", "up * share", gain=float(np.sign(own[k])))
        )


def _carried(skeleton: Skeleton, node: NodeRef, kit: Kit) -> bool:
    joint = skeleton.joint(node.id) if node.id in skeleton.index else None
    while joint is not None:
        if joint.id in kit.joints:
            return True
        joint = skeleton.joint(joint.parent) if joint.parent else None
    return False


def _above(skeleton: Skeleton, joint: str) -> set[str]:
    """What carries a joint."""
    found, at = set(), skeleton.joint(joint).parent
    while at is not None:
        found.add(at)
        at = skeleton.joint(at).parent
    return found


def _add(b: Builder, control: str, spaces: Mapping[str, NodeRef], follow: Follow = Follow.PARENT) -> None:
    name = next(c.name for c in b.controls if c.id == control)
    targets = []
    for space, node in spaces.items():
        key = f"{FOLLOW}{space}"
        _channel(b, control, Channel(key, f"follow {space}", Quantity.SHARE, 0.0, 0.0, 1.0))
        targets.append(Target(node, ChannelRef(control, key), name=space))
    _channel(b, control, Channel("spaces", "spaces", Quantity.SHARE, 1.0, 0.0, 1.0, locked=True, shown=False))
    b.constraints.append(
        Constraint(f"{control}.spaces", base_node(control), follow, tuple(targets), ChannelRef(control, "spaces"),
                   f"spaces of {name}", spaces=True)
    )  # fmt: skip


def _channel(b: Builder, control: str, channel: Channel) -> None:
    k = next(k for k, c in enumerate(b.controls) if c.id == control)
    b.controls[k] = replace(b.controls[k], channels=(*b.controls[k].channels, channel))
