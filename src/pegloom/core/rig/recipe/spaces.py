"""What a recipe's goals and poles may follow beside what they ride on, and a head that keeps its turn."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.constraints import Constraint, Follow, Target
from pegloom.core.rig.recipe.builder import Builder
from pegloom.core.rig.recipe.choices import USUAL_KIT, USUAL_SPACES, KitRig, has_ik
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeRef, base_node, control_node, joint_node
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skeleton.kits import Kit

FOLLOW = "follow_"
KEEP = "keep_turn"


def space_nodes(skeleton: Skeleton, kits: tuple[Kit, ...], controls: set[str]) -> Mapping[str, NodeRef]:
    """The spaces a body has, by name."""
    found: dict[str, NodeRef] = {"world": WORLD}
    if "body" in controls:
        found["body"] = control_node("body")
    spine = next((k for k in kits if k.kind in ("spine", "trunk") or (k.part == "trunk" and k.id == "spine")), None)
    if spine is not None:
        present = [j for j in spine.joints if j in skeleton.index]
        if len(present) > 1:
            found["chest"] = joint_node(present[-1])
    head = head_of(skeleton)
    if head:
        found["head"] = joint_node(head)
    return found


def head_of(skeleton: Skeleton) -> str:
    """The joint of the head, "" for none."""
    found = next((j.id for j in skeleton.joints if j.role == "head"), "")
    return found or ("spine.head" if "spine.head" in skeleton.index else "")


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


def _carried(skeleton: Skeleton, node: NodeRef, kit: Kit) -> bool:
    joint = skeleton.joint(node.id) if node.id in skeleton.index else None
    while joint is not None:
        if joint.id in kit.joints:
            return True
        joint = skeleton.joint(joint.parent) if joint.parent else None
    return False


def _add(b: Builder, control: str, spaces: Mapping[str, NodeRef]) -> None:
    name = next(c.name for c in b.controls if c.id == control)
    targets = []
    for space, node in spaces.items():
        key = f"{FOLLOW}{space}"
        _channel(b, control, Channel(key, f"follow {space}", Quantity.SHARE, 0.0, 0.0, 1.0))
        targets.append(Target(node, ChannelRef(control, key), name=space))
    _channel(b, control, Channel("spaces", "spaces", Quantity.SHARE, 1.0, 0.0, 1.0, locked=True, shown=False))
    b.constraints.append(
        Constraint(f"{control}.spaces", base_node(control), Follow.PARENT, tuple(targets), ChannelRef(control, "spaces"),
                   f"spaces of {name}", spaces=True)
    )  # fmt: skip


def _channel(b: Builder, control: str, channel: Channel) -> None:
    k = next(k for k, c in enumerate(b.controls) if c.id == control)
    b.controls[k] = replace(b.controls[k], channels=(*b.controls[k].channels, channel))
