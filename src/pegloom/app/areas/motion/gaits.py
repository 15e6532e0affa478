"""Gaits made from numbers on the character in hand."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.core.jobs import Progress
from pegloom.core.motion.gait import PRESETS
from pegloom.document import edits
from pegloom.document.edits.gait import MadeGait
from pegloom.document.model import Document


@dataclass(frozen=True, slots=True)
class GaitSettings(Setting):
    """What the card says. Lengths in percent of the leg's, angles in degrees; stride and lift of both sides."""

    ID = "gait"

    preset: str = "walk"
    strides: float = 2.0
    in_place: bool = False
    turn: float = 0.0
    stride: float = 145.0
    lift: float = 8.0
    height: float = 97.0
    lean: float = 3.0
    arm_swing: float = 24.0


def numbers_of(preset: str) -> dict[str, float]:
    """A preset's numbers as the card shows them."""
    gait = PRESETS[preset]
    return {"stride": 100.0 * gait.stride[0], "lift": 100.0 * gait.lift[1], "height": 100.0 * gait.height, "lean": gait.lean, "arm_swing": gait.arm_swing[1]}


def take_preset(c: Context, preset: str) -> None:
    c.store.put_setting(GaitSettings, preset=preset, **numbers_of(preset))


def told(own: GaitSettings) -> dict[str, Any]:
    """The numbers that differ from their preset: a limp's two sides stay as they are where nothing was changed."""
    usual = numbers_of(own.preset)
    changed = {k: getattr(own, k) for k, v in usual.items() if abs(getattr(own, k) - v) > 1e-6}
    return {"preset": own.preset, **{k: v / 100.0 if k in ("stride", "lift", "height") else v for k, v in changed.items()}}


def make(c: Context) -> None:
    """A clip of the gait, on the controls where there are some."""
    own = c.state.settings.of(GaitSettings)

    def edit(document: Document, progress: Progress) -> tuple[Document, MadeGait]:
        progress(0.1, "the feet first")
        return edits.make_gait(document, told(own), strides=own.strides, turn=float(np.radians(own.turn)), in_place=own.in_place, progress=progress)

    def then(result: MadeGait) -> None:
        c.player.play_source(result.clip)
        c.say(f"{c.character.clip(result.clip).name}: {result.made.speed:.2f} m/s, a stride in {result.made.period:.2f} s")

    c.job(f"Make a gait: {own.preset}", edit, title=f"Making a {own.preset}", then=then)


ACTIONS = (Action("gait.make", "Make a gait", "Motion", "A clip that goes by the numbers of the card Gait", make, needs=WITH_JOINTS),)
