"""Where a clip comes from, and whether it may be given on."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ClipOrigin:
    """made : captured, keyed or generated. licence : under which; "" not known. may_deliver : whether it may go to others.
    shelf : the id it has on the shelf; partner : of the clip there that belongs to it."""

    made: str = "captured"
    licence: str = ""
    may_deliver: bool = True
    shelf: str = ""
    partner: str = ""
