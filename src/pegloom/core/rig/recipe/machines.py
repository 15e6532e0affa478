"""What parts of machines have of their own: wheels that turn with the way they go, pins that turn about one axis alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.rig.channels import SCALE, TRANSFORM, Channel, Quantity
from pegloom.core.rig.couplings import Coupling, Measure, Reading, What
from pegloom.core.rig.recipe.builder import Builder
from pegloom.core.rig.recipe.choices import USUAL_KIT, KitRig
from pegloom.core.rig.refs import ChannelRef, joint_node
from pegloom.core.skeleton.kits import Kit

PINNED = ("hinge", "wheel")
"""Kits that turn about one axis."""
ROLLS = "rolls"
LEAST_RADIUS = 1e-4
"""Of the height: a wheel smaller than that has no ground to roll on."""


def add_machines(b: Builder, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig]) -> None:
    """What was chosen for wheels and hinges."""
    for kit in kits:
        how = recipe.get(kit.id, USUAL_KIT)
        if kit.kind not in PINNED or not kit.joints:
            continue
        k = next((k for k, c in enumerate(b.controls) if c.id == kit.joints[0]), None)
        if k is None:
            continue
        if how.one_axis:
            kept = tuple(c for c in b.controls[k].channels if c.key not in TRANSFORM or c.key == "rotate_x")
            b.controls[k] = replace(b.controls[k], channels=kept)
        if how.rolls and kit.kind == "wheel":
            _roll(b, kit, k)


def _roll(b: Builder, kit: Kit, k: int) -> None:
    """A wheel turns by the way its hub goes over its radius, along the ground square to its axle at rest.

    A frame knows nothing of those before it, so that the way is measured straight: a wheel that was steered is keyed.
    """
    control, joint = b.controls[k], b.skeleton.joint(kit.joints[0])
    # To its rim; what hangs on a wheel, a crank, may be nearer.
    radius = b.length(joint) if joint.tail is None else float(np.linalg.norm(np.array(joint.tail) - b.place(joint.id)))
    up = b.front @ np.array([0.0, 1.0, 0.0])
    ahead = np.cross(control.matrix[:3, 0], up)
    if joint.parent is None or radius < LEAST_RADIUS * b.height or np.linalg.norm(ahead) < 1e-3:
        return
    ahead = ahead / np.linalg.norm(ahead)
    b.controls[k] = replace(control, channels=(*control.channels, Channel(ROLLS, "rolls with its way", Quantity.SHARE, 1.0, 0.0, 1.0)))
    x, y, z = ahead.tolist()
    carrier = joint_node(joint.parent)
    readings = (
        Reading("way", measure=Measure(What.ALONG, carrier, axis=(x, y, z))), Reading("rolls", ChannelRef(control.id, ROLLS)),
        Reading("size", ChannelRef("root", SCALE)),
    )  # fmt: skip
    began = float(b.place(joint.parent) @ ahead)
    formula = f"rolls * (way - {began!r} * size) / ({radius!r} * size)"
    b.couplings.append(
        Coupling(f"{control.id}.rolls", ChannelRef(control.id, "rotate_x"), readings, f"{joint.name} rolls", formula)
    )
