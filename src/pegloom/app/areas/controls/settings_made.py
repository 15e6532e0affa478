"""What the cards for channels, couplings, follow-through and the face say."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.app.state.settings import Setting
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.couplings import What


@dataclass(frozen=True, slots=True)
class ChannelSettings(Setting):
    """title, quantity, low, high, soft : of the channel that is added; the numbers as on the screen. soft : over how much it
        eases into its limits.
    options : of a choice, apart by commas.
    shown_thing : the part or control a channel shows; "" for none yet.
    morph : the morph target a channel moves.
    """

    ID = "controls.channel"
    PASSING = frozenset({"title", "options", "shown_thing", "morph"})

    title: str = ""
    quantity: Quantity = Quantity.SHARE
    low: float = 0.0
    high: float = 1.0
    soft: float = 0.0
    options: str = ""
    shown_thing: str = ""
    morph: str = ""


@dataclass(frozen=True, slots=True)
class CouplingSettings(Setting):
    """source : what a new coupling reads: a control, or `joint:` and a joint; "" for none yet.
    source_channel, drives : keys of channels. what : a measure in place of a channel, "" for none.
    open : id of the coupling in the pane, "" for none.
    """

    ID = "controls.coupling"
    PASSING = frozenset({"source", "source_channel", "drives", "what", "open"})

    source: str = ""
    source_channel: str = ""
    drives: str = ""
    what: What | None = None
    open: str = ""


@dataclass(frozen=True, slots=True)
class SpringSettings(Setting):
    """group : name of the settings in the card. swing, drift : of a chain that is put on springs."""

    ID = "controls.springs"
    PASSING = frozenset({"group"})

    group: str = "soft"
    swing: float = 1.0
    drift: float = 0.0


@dataclass(frozen=True, slots=True)
class FaceSettings(Setting):
    """name : of the handle or expression that is made. up, down, left, right : morph targets of a handle.
    amount : an expression is put on by.
    spot : a place picked on the mesh as it is shown, three numbers in metres; "" for none.
    """

    ID = "controls.face"
    PASSING = frozenset({"name", "up", "down", "left", "right", "spot"})

    name: str = ""
    up: str = ""
    down: str = ""
    left: str = ""
    right: str = ""
    amount: float = 1.0
    spot: str = ""


MADE_SETTINGS = (ChannelSettings, CouplingSettings, SpringSettings, FaceSettings)
