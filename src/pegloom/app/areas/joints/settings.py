"""What the Joints area's cards say."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.app.state.settings import Setting
from pegloom.core.skeleton.names import SideStyle

AS_SEEN = -1
"""Number of fingers that says: as many as the hands show."""
AUTO = "auto"
"""The pattern that says: as the shape says."""


@dataclass(frozen=True, slots=True)
class PatternSettings(Setting):
    """Which body is looked for.

    pattern : its name, or AUTO.
    fingers : of a hand; AS_SEEN for as many as it shows.
    pairs : of legs in a many-legged body; 0 for as many as it shows.
    body : name of one of the user's own bodies, "" for none.
    """

    ID = "joints.pattern"

    pattern: str = AUTO
    fingers: int = AS_SEEN
    pairs: int = 0
    body: str = ""


@dataclass(frozen=True, slots=True)
class KitSettings(Setting):
    """kit : id of the kit the card is about.
    kind : of the kit that is added.
    """

    ID = "joints.kits"
    PASSING = frozenset({"kit"})

    kit: str = ""
    kind: str = ""


@dataclass(frozen=True, slots=True)
class ChangeSettings(Setting):
    """pieces : a bone is split in."""

    ID = "joints.change"

    pieces: int = 2


@dataclass(frozen=True, slots=True)
class BodySettings(Setting):
    """named : the chains of a file's skeleton are named in the view."""

    ID = "joints.body"

    named: bool = True


@dataclass(frozen=True, slots=True)
class RenameSettings(Setting):
    """What is renamed, and how.

    find, put : * stands for any text.
    prefix : put before every name.
    style : how sides are written; None as they are.
    """

    ID = "joints.rename"
    PASSING = frozenset({"find", "put"})

    find: str = ""
    put: str = ""
    prefix: str = ""
    style: SideStyle | None = None
