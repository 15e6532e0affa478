"""What the Weights area's cards say."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.app.state.settings import Setting
from pegloom.core.skin.bind import BindMethod, Detail
from pegloom.core.skin.mirror import Way


@dataclass(frozen=True, slots=True)
class BindSettings(Setting):
    """How to bind.

    influences : joints a vertex may follow at most.
    own_branch : a vertex follows its nearest joint and those above and below it.
    in_sight : only bones a vertex sees through the inside of the body.
    some_joints : to the picked joints only.
    some_parts : only the picked vertices' parts.
    detail : of the inside that the method looks into.
    shown_after : the figure goes through the range test for a while once it is bound.
    """

    ID = "weights.bind"
    PASSING = frozenset({"some_joints", "some_parts"})

    method: BindMethod = BindMethod.SEGMENT
    influences: int = 4
    own_branch: bool = False
    in_sight: bool = True
    detail: Detail = Detail.USUAL
    shown_after: bool = True
    some_joints: bool = False
    some_parts: bool = False


@dataclass(frozen=True, slots=True)
class PaceSettings(Setting):
    """How long binds take on this machine, each method as a factor of what it took where it was measured."""

    ID = "weights.pace"

    segment: float = 1.0
    along_skin: float = 1.0
    through_body: float = 1.0
    by_reach: float = 1.0
    hard: float = 1.0

    def of(self, method: BindMethod) -> float:
        factor: float = getattr(self, method.name.lower())
        return factor


@dataclass(frozen=True, slots=True)
class StraySettings(Setting):
    """Which stray of the list is meant.

    part : its id; "" for none.
    joint : whose weight it is.
    vertex : one of its vertices.
    """

    ID = "weights.stray"
    PASSING = frozenset({"part", "joint", "vertex"})

    part: str = ""
    joint: str = ""
    vertex: int = 0


@dataclass(frozen=True, slots=True)
class InfluenceSettings(Setting):
    """find : text the list is filtered by.
    here : only what holds something of the selection.
    heir : joint that takes weight over.
    """

    ID = "weights.influences"
    PASSING = frozenset({"find", "heir"})

    find: str = ""
    here: bool = False
    heir: str = ""


@dataclass(frozen=True, slots=True)
class SelectSettings(Setting):
    """low, high : weights between which vertices are selected.
    name : of a kept selection.
    """

    ID = "weights.selection"
    PASSING = frozenset({"name"})

    low: float = 0.01
    high: float = 1.0
    name: str = ""


@dataclass(frozen=True, slots=True)
class WeaveSettings(Setting):
    """chosen : id of the weave picked in the list.
    border : centimetres its border is soft.
    """

    ID = "weights.weaves"
    PASSING = frozenset({"chosen"})

    chosen: str = ""
    border: float = 2.0


@dataclass(frozen=True, slots=True)
class MirrorSettings(Setting):
    """How weights are mirrored.

    tolerance : centimetres a vertex may stand off its mirrored place; 0 for exact pairs.
    by_place : joints are paired by place, not by name.
    only : onto the picked vertices only.
    """

    ID = "weights.mirror"
    PASSING = frozenset({"only"})

    way: Way = Way.LEFT_TO_RIGHT
    tolerance: float = 0.0
    by_place: bool = False
    only: bool = False


@dataclass(frozen=True, slots=True)
class TransferSettings(Setting):
    """source, target : ids of parts.
    fill : smoothly where nothing good is near.
    leave_out : the picked vertices of the source are not read.
    without : names of another character's parts that are not read, a comma between them.
    report : what the last one said.
    """

    ID = "weights.transfer"
    PASSING = frozenset({"source", "target", "report", "leave_out", "without"})

    source: str = ""
    target: str = ""
    fill: bool = True
    leave_out: bool = False
    without: str = ""
    report: str = ""


@dataclass(frozen=True, slots=True)
class FleshSettings(Setting):
    """influences : most joints a vertex; 0 as the parts are bound. worse : percent by which a region's figure may be. anew : whether it binds
    first. still : whether selected vertices keep what they hold. digits : whether fingers and toes get helper joints. most : corrective shapes, a pair as one. report : what the last fit brought."""

    ID = "weights.flesh"
    PASSING = frozenset({"report"})

    influences: int = 0
    worse: float = 2.0
    anew: bool = False
    still: bool = False
    digits: bool = False
    most: int = 6
    report: str = ""


@dataclass(frozen=True, slots=True)
class PullSettings(Setting):
    """radius : share of the body's height over which a pull fades out. still : whether selected vertices keep their weights. keep_width :
    whether the limb's sections there keep their girth. under_cloth : whether skin stays under cloth. shape : whether a corrective shape
    takes what weights cannot reach. report : what the last pull brought."""

    ID = "weights.pull"
    PASSING = frozenset({"report"})

    radius: float = 0.13
    still: bool = True
    keep_width: bool = False
    under_cloth: bool = True
    shape: bool = False
    report: str = ""


@dataclass(frozen=True, slots=True)
class RelaxSettings(Setting):
    """Surface relax and dual quaternions.

    part : id of the part the card is about.
    steps, strength : of the relax.
    dual : share of dual quaternions, 0 to 1.
    """

    ID = "weights.relax"
    PASSING = frozenset({"part"})

    part: str = ""
    steps: int = 12
    strength: float = 1.0
    dual: float = 0.0


@dataclass(frozen=True, slots=True)
class BakeSettings(Setting):
    """influences : joints a vertex may follow after the bake.
    clips : they are followed as well.
    report : what the last one said.
    """

    ID = "weights.bake"
    PASSING = frozenset({"report"})

    influences: int = 4
    clips: bool = False
    report: str = ""


ALL = (
    BindSettings, InfluenceSettings, SelectSettings, WeaveSettings, MirrorSettings, TransferSettings, RelaxSettings, FleshSettings,
    BakeSettings, StraySettings, PaceSettings,
)  # fmt: skip
