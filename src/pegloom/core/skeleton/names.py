"""Names of joints: the side they tell in any common style, translation between styles, renaming by pattern."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import Enum

from pegloom.core.errors import ShapeError


class Side(Enum):
    LEFT = "left"
    RIGHT = "right"
    CENTRE = "centre"

    @property
    def other(self) -> Side:
        return {Side.LEFT: Side.RIGHT, Side.RIGHT: Side.LEFT, Side.CENTRE: Side.CENTRE}[self]


class SideStyle(Enum):
    """How a name tells its side. The member's value shows it on an arm."""

    BEFORE = "l_arm"
    BEFORE_CAPITAL = "L_arm"
    AFTER = "arm_l"
    AFTER_CAPITAL = "arm_L"
    DOT = "arm.l"
    DOT_CAPITAL = "arm.L"
    WORD = "LeftArm"
    WORD_BEFORE = "left_arm"
    WORD_AFTER = "arm_left"


@dataclass(frozen=True, slots=True)
class SidedName:
    """A name taken apart: namespace with its colon, what stands before, the side's token, what stands after."""

    space: str
    before: str
    token: str
    after: str

    @property
    def side(self) -> Side:
        return Side.LEFT if self.token.lower() in LEFT else Side.RIGHT

    @property
    def stem(self) -> str:
        """The name without side and without the joints left by taking it out."""
        return re.sub(r"([_.\-])[_.\-]+", r"\1", self.before + self.after).strip("_.- ")


LEFT = ("l", "left", "lft", "lf", "lt", "lr")
PAIRS = {"l": "r", "left": "right", "lft": "rgt", "lf": "rf", "lr": "rr", "lt": "rt"}
MAY_BE = {"lf": ("rf", "rt"), "lt": ("rt",), "rt": ("lt", "lf"), "lr": ("rr",)}
"""Tokens that mean more than one thing: a left front and a left; what they may be across, the likeliest first."""
# A side stands alone between separators or capitals: `l_arm`, `arm.L`, `LeftArm`, `ArmLeft`, `arm_left_01`, `lArm`.
TOKENS = (
    re.compile(r"(?:(?<=^)|(?<=[_.\- ]))(left|right|lft|rgt|lf|rf|lr|rr|rt|lt|l|r)(?=$|[_.\- ]|\d*$)", re.IGNORECASE),
    re.compile(r"(?:(?<=^)|(?<=[_.\- a-z0-9]))(Left|Right)(?=$|[A-Z_.\- 0-9])"),
    re.compile(r"(?<=^)(left|right)(?=[A-Z])"),
    re.compile(r"(?<=^)(l|r)(?=[A-Z][a-z])"),
    re.compile(r"(?<=[a-z0-9])(L|R)(?=$|_)"),
    re.compile(r"(left|right)", re.IGNORECASE),
)


def taken_apart(name: str) -> SidedName | None:
    """The side token of a name, or None where it tells no side."""
    space, colon, base = name.rpartition(":")
    for pattern in TOKENS:
        found = pattern.search(base)
        if found is not None:
            return SidedName(space + colon, base[: found.start()], found.group(1), base[found.end() :])
    return None


def other_side_name(name: str) -> str | None:
    """The same name for the other side, in its own style: `l_upper_arm` <-> `r_upper_arm`. None without a side."""
    names = other_side_names(name)
    return names[0] if names else None


def other_side_names(name: str) -> tuple[str, ...]:
    """What a name may be called on the other side, the likeliest first: `lf_leg` is `rf_leg` there, or `rt_leg`."""
    apart = taken_apart(name)
    if apart is None:
        return ()
    low = apart.token.lower()
    options = MAY_BE.get(low) or (PAIRS.get(low) or {v: k for k, v in reversed(PAIRS.items())}[low],)

    def cased(swapped: str) -> str:
        if apart.token.isupper():
            return swapped.upper()
        return swapped.capitalize() if apart.token[0].isupper() else swapped

    return tuple(apart.space + apart.before + cased(option) + apart.after for option in options)


def with_ending(name: str, ending: str) -> str:
    """The name with an ending put to its stem: before the side, where that is told at the end (`hand.L` -> `hand_fk.L`)."""
    apart = taken_apart(name)
    if apart is None or apart.after or not apart.before:
        return name + ending
    stem = apart.before.rstrip("._- ")
    return f"{apart.space}{stem}{ending}{apart.before[len(stem):]}{apart.token}"


def side_of_name(name: str) -> Side:
    """Side a joint's name tells, CENTRE where it tells none."""
    apart = taken_apart(name)
    return Side.CENTRE if apart is None else apart.side


def in_style(name: str, style: SideStyle) -> str:
    """The name with its side told in another style; one without a side stays, less its `c_`."""
    apart = taken_apart(name)
    if apart is None:
        return name[2:] if name.startswith("c_") and style is not SideStyle.BEFORE else name
    left = apart.side is Side.LEFT
    stem = apart.stem
    letter, word = ("l", "left") if left else ("r", "right")
    result = {
        SideStyle.BEFORE: f"{letter}_{stem}",
        SideStyle.BEFORE_CAPITAL: f"{letter.upper()}_{stem}",
        SideStyle.AFTER: f"{stem}_{letter}",
        SideStyle.AFTER_CAPITAL: f"{stem}_{letter.upper()}",
        SideStyle.DOT: f"{stem}.{letter}",
        SideStyle.DOT_CAPITAL: f"{stem}.{letter.upper()}",
        SideStyle.WORD: word.capitalize() + "".join(p[:1].upper() + p[1:] for p in re.split(r"[_.\- ]", stem)),
        SideStyle.WORD_BEFORE: f"{word}_{stem}",
        SideStyle.WORD_AFTER: f"{stem}_{word}",
    }
    return apart.space + result[style]


def renamed(
    names: Iterable[str], *, find: str = "", put: str = "", prefix: str = "", style: SideStyle | None = None
) -> Mapping[str, str]:
    """What each name would become: text found and replaced, then the side's style, then a prefix.

    In `find`, `*` stands for any text, and `*` in `put` for what it stood for. Raises ShapeError where two names
    would become the same, or one would become empty.
    """
    pattern = re.compile("(.*)".join(re.escape(piece) for piece in find.split("*"))) if find else None
    result: dict[str, str] = {}
    for name in names:
        new = name
        if pattern is not None:
            new = pattern.sub(lambda m: _filled(put, m.groups()), name, count=1 if "*" in find else 0)
        if style is not None:
            new = in_style(new, style)
        new = prefix + new.strip()
        if not new:
            raise ShapeError(f"{name} would be left without a name")
        result[name] = new
    double = [n for n in result.values() if list(result.values()).count(n) > 1]
    if double:
        raise ShapeError(f"several joints would be called {double[0]}; put the missing part into the new name")
    return result


def _filled(put: str, groups: tuple[str, ...]) -> str:
    pieces = put.split("*")
    text = pieces[0]
    for i, piece in enumerate(pieces[1:]):
        text += (groups[i] if i < len(groups) else "") + piece
    return text


WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")


def words_of(name: str) -> str:
    """A joint's name as plain words: `post:LeftHandIndex1` -> `left hand index 1`."""
    return " ".join(WORDS.findall(name.rsplit(":", 1)[-1].replace("_", " ").replace(".", " "))).lower()
