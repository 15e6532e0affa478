"""Names that go into files: one line each, and as names of files nothing but a name."""

from __future__ import annotations

import re

from pegloom.core.errors import one_line

LONGEST_NAME = 100
"""Characters of a picture's name, so that a number and an ending fit into what file systems take."""
ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg"}


def picture_name(name: str, kind: str, *, spaces: bool = False) -> str:
    """A name of a file for a picture: no folders, drives or control characters; the ending of its kind.

    spaces : whether it may hold some, as in a document; in a file many readers would stop at one.
    """
    last = re.split(r"[/\\:]", one_line(name).strip())[-1]
    stem = re.sub(r"\.(png|jpe?g)$", "", last, flags=re.IGNORECASE)
    stem = re.sub(r'[<>"|?*#%\x00-\x1f]+', "_", stem)
    stem = (" ".join(stem.split()) if spaces else re.sub(r"\s+", "_", stem)).strip("._- ")[:LONGEST_NAME]
    return (stem or "picture") + ENDINGS.get(kind, ".png")


def is_picture_name(name: object) -> bool:
    """Whether a picture's name is a plain one: a single line, no folder, no drive."""
    return isinstance(name, str) and bool(name.strip(". ")) and not re.search(r"[/\\:]|^-", name) and name.isprintable()


def word_of(name: str, fallback: str) -> str:
    """A name for a line of OBJ or MTL: no line ends, nothing that starts a comment or carries the line on."""
    result = re.sub(r"\s+", " ", one_line(name)).strip()
    result = re.sub(r"(^| )#", r"\1_", result).rstrip("\\")
    return result or fallback


class Unique:
    """Hands out names, each once: `body`, `body 2`."""

    def __init__(self, joint: str = " ") -> None:
        self.taken: set[str] = set()
        self.next: dict[str, int] = {}
        self.joint = joint

    def __call__(self, name: str) -> str:
        result = name
        while result in self.taken:
            number = self.next.get(name, 2)
            self.next[name] = number + 1
            result = f"{name}{self.joint}{number}"
        self.taken.add(result)
        return result
