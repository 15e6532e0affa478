"""The list of what is made: a script and what is said of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pegloom.core.motion.clips import Clip


@dataclass(frozen=True)
class Made:
    """make : gives the clip, of a body's joints. who : that body. kinds : what it is, in the simplest words; tags : how it is done,
    with what, to which side. partner : the clip that belongs to it, played by another. loops : whether its end joins its beginning."""

    id: str
    title: str
    kinds: tuple[str, ...]
    tags: tuple[str, ...]
    make: Callable[[], Clip]
    who: str = "wick"
    loops: bool = False
    partner: str = ""
    beside: tuple[float, float, float] = (0.0, 0.0, 0.0)
    """Where the partner stands: x, z in metres of a body of 1.7 m, and degrees it is turned."""


MADE: dict[str, Made] = {}


def made(
    title: str, kinds: str, tags: str = "", *, who: str = "wick", loops: bool = False, partner: str = "", beside: tuple[float, float, float] = (0.0, 0.0, 0.0),
) -> Callable[[Callable[[], Clip]], Callable[[], Clip]]:
    """Put a script on the list, under its own name. kinds, tags : separated by commas."""

    def put(make: Callable[[], Clip]) -> Callable[[], Clip]:
        name = make.__name__.strip("_")
        MADE[name] = Made(name, title, _words(kinds), _words(tags), make, who, loops, partner, beside)
        return make

    return put


def _words(text: str) -> tuple[str, ...]:
    return tuple(w.strip() for w in text.split(",") if w.strip())
