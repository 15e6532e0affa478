"""What the shelf says of a clip."""

from __future__ import annotations

from dataclasses import dataclass, field

from pegloom.core.arrays import FloatArray

KINDS = (
    "walk", "run", "sneak", "limp", "start", "stop", "turn", "jump", "sit", "stand up", "lift", "throw", "push", "pull", "climb", "row", "carry", "wave", "point",
    "bow", "clap", "nod", "shrug", "look", "talk", "listen", "fall", "get up", "dance", "idle", "hand over", "shake hands", "amble", "trot", "canter", "graze",
    "sniff", "shake", "lie down", "peck", "take off", "flap", "glide", "land",
)  # fmt: skip
"""The simplest words for what a clip is."""
BODIES = ("people", "four legs", "bird", "prop", "cut-out")


@dataclass(frozen=True, eq=False)
class ClipCard:
    """id : on its shelf. kinds : of KINDS, the first one leading. tags : how, with what, to which side, in English.
    body : of BODIES, the kind it was made on; "" not known. partner : id of the clip that belongs to it, another's at the same time;
    beside : where that other stands, x and z in metres of a body of 1.7 m, and degrees it is turned. loops : whether its end
    joins its beginning. seconds, rate : its length and frames a second. origin : captured, keyed or generated. licence : under
    which it may be given on; may_deliver : whether it may. own : whether the user put it there. measures : see measures.py.
    """

    id: str
    title: str
    kinds: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    body: str = "people"
    partner: str = ""
    beside: tuple[float, float, float] = (0.0, 0.0, 0.0)
    loops: bool = False
    seconds: float = 0.0
    rate: float = 30.0
    origin: str = "generated"
    licence: str = "CC0-1.0"
    may_deliver: bool = True
    own: bool = False
    measures: FloatArray | None = field(default=None)
