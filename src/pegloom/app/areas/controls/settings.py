"""What the Controls area's cards say."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from pegloom.app.areas.controls.settings_made import MADE_SETTINGS
from pegloom.app.state.settings import Setting
from pegloom.checks import Finding
from pegloom.core.rig.constraints import Follow


class Work(Enum):
    """What the area is for now."""

    BUILD = "build"
    POSE = "pose"
    FACE = "face"


class Ik(Enum):
    """Kinds of IK that are put on picked turners."""

    CHAIN = "chain"
    CURVE = "curve"
    LIMB = "limb"
    HOCK = "hock"

    @property
    def says(self) -> str:
        return {
            Ik.CHAIN: "chain to a goal", Ik.CURVE: "along a curve", Ik.LIMB: "limb of two bones", Ik.HOCK: "limb with a hock",
        }[self]  # fmt: skip


@dataclass(frozen=True, slots=True)
class WorkSettings(Setting):
    """work : whether controls are built or posed, or the face."""

    ID = "controls.work"

    work: Work = Work.POSE


@dataclass(frozen=True, slots=True)
class KitRigSettings(Setting):
    """kit : the limb kit the card is about.
    both : what is chosen goes to the other side, too.
    """

    ID = "controls.kits"
    PASSING = frozenset({"kit"})

    kit: str = ""
    both: bool = True


@dataclass(frozen=True, slots=True)
class IkSettings(Setting):
    """kind : of IK that is added.
    points : controls of a curve.
    """

    ID = "controls.ik"

    kind: Ik = Ik.CHAIN
    points: int = 4


@dataclass(frozen=True, slots=True)
class HoldSettings(Setting):
    """target : the control that is followed, or `joint:` and a joint; "" for none yet.
    follow : what is taken from it.
    x, y, z : along and about which axes.
    keep : whether the offset between them stays.
    posed : the offset is that of the pose in hand, not that at rest.
    """

    ID = "controls.hold"
    PASSING = frozenset({"target"})

    target: str = ""
    follow: Follow = Follow.PARENT
    x: bool = True
    y: bool = True
    z: bool = True
    keep: bool = True
    posed: bool = False

    @property
    def axes(self) -> str:
        return "".join(a for a, on in zip("xyz", (self.x, self.y, self.z), strict=True) if on)


@dataclass(frozen=True, slots=True)
class EditorSettings(Setting):
    """hold, solver : id of the constraint or IK in the pane beside the view, "" for none; at most one of them.
    more : what is followed beside the others next. joint : whose limits are shown.
    """

    ID = "controls.editor"
    PASSING = frozenset({"hold", "solver", "more", "joint"})

    hold: str = ""
    solver: str = ""
    more: str = ""
    joint: str = ""


@dataclass(frozen=True, slots=True)
class ShelfSettings(Setting):
    """amount : a kept pose is put on by. picked_only : kept and put on for the picked controls alone."""

    ID = "controls.poses"

    amount: float = 1.0
    picked_only: bool = False


@dataclass(frozen=True, slots=True)
class CheckSettings(Setting):
    """What the check found last. of : which controls it was about. done : whether it was asked for."""

    ID = "controls.check"
    PASSING = frozenset({"of", "found", "done"})

    of: int = 0
    found: tuple[Finding, ...] = ()
    done: bool = False


@dataclass(frozen=True, slots=True)
class ShapeSettings(Setting):
    """reach : how far a moved point of a shape takes others along, as a share of its width."""

    ID = "controls.shape"

    reach: float = 0.0


SETTINGS = (WorkSettings, EditorSettings, CheckSettings, ShelfSettings, ShapeSettings, KitRigSettings, IkSettings, HoldSettings, *MADE_SETTINGS)
