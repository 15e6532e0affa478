"""What is the user's own from one session to the next: keys, the ladder, recent files, usual settings."""

from __future__ import annotations

import hashlib
from pathlib import Path
from types import MappingProxyType

from pegloom.app.state.settings import Setting, Settings, as_plain, from_plain
from pegloom.files.settings import keep_json, keep_picture, read_json, read_picture_kept

KEYS = "keys.json"
LADDER = "ladder.json"
RECENT = "recent.json"
FOLDERS = "folders.json"
WATCHED, MASTERS = "watched.json", "masters.json"
USUAL = "usual.json"
LAYOUT = "layout.json"
LOOK = "look.json"
MOST_RECENT = 10
MOST_WATCHED = 200
USUAL_LADDER = (0.1, 0.3, 0.55, 0.8, 1.0)
MOST_RUNGS = 8
"""Values on the ladder at most: more do not fit a card."""


def read_keys() -> dict[str, str]:
    """Action id to key ("" for none); empty where nothing is kept, or where the file is damaged."""
    kept = read_json(KEYS)
    return {str(a): k for a, k in kept.items() if isinstance(k, str)} if isinstance(kept, dict) else {}


def keep_keys(own: dict[str, str]) -> None:
    """Keep what differs from the declared keys."""
    keep_json(KEYS, own)


def read_ladder() -> tuple[float, ...]:
    """The ladder's values; the usual ones where none are kept, or where the file is damaged."""
    values = read_json(LADDER)
    if not isinstance(values, list) or not 1 <= len(values) <= MOST_RUNGS:
        return USUAL_LADDER
    if not all(type(v) in (int, float) and 0.0 <= v <= 1.0 for v in values):
        return USUAL_LADDER
    return tuple(sorted({float(v) for v in values}))


def keep_ladder(values: tuple[float, ...]) -> None:
    keep_json(LADDER, list(values))


def read_layout() -> dict[str, list[int]]:
    """Sizes in pixels of what is dragged to size, by the splitter's name; empty where none are kept or the file is damaged."""
    kept = read_json(LAYOUT)
    rows = kept.items() if isinstance(kept, dict) else ()
    return {str(k): v for k, v in rows if isinstance(v, list) and all(type(n) is int and 0 <= n < 20_000 for n in v)}


def keep_layout(name: str, sizes: list[int]) -> None:
    """Keep the sizes of one splitter."""
    keep_json(LAYOUT, {**read_layout(), name: sizes})


def recent() -> list[Path]:
    """Files opened lately that are still there, the newest first."""
    names = read_json(RECENT)
    found = [Path(n) for n in names if isinstance(n, str)] if isinstance(names, list) else []
    return [p for p in found[: 5 * MOST_RECENT] if "\0" not in str(p) and p.is_file()][:MOST_RECENT]


def picture_of(path: Path) -> bytes:
    """The small PNG kept of a recent file; b"" for none."""
    return read_picture_kept(_picture_name(path))


def _picture_name(path: Path) -> str:
    return f"recent/{hashlib.sha256(str(path.resolve()).encode(errors='surrogateescape')).hexdigest()[:24]}.png"


def remember(path: Path, picture: bytes = b"") -> None:
    """Put a file first in the list, with a small PNG of it; shipped demo files are left out."""
    if "assets" in path.parts and "demo" in path.parts:
        return
    rows = [str(path.resolve()), *(str(p) for p in recent() if p.resolve() != path.resolve())]
    keep_json(RECENT, rows[:MOST_RECENT])
    if picture:
        keep_picture(_picture_name(path), picture, keep={_picture_name(Path(p)) for p in rows[:MOST_RECENT]})


def folder_of(kind: str) -> str:
    """The folder the last file of a kind came from or went to; "" where none is kept, or it is gone."""
    kept = read_json(FOLDERS)
    name = kept.get(kind, "") if isinstance(kept, dict) else ""
    return name if isinstance(name, str) and "\0" not in name and Path(name).is_dir() else ""


def keep_folder(kind: str, file: str) -> str:
    """Keep a file's folder for the next time it is asked for one of its kind; gives the file."""
    if file:
        kept = read_json(FOLDERS)
        rows = {k: v for k, v in kept.items() if isinstance(v, str)} if isinstance(kept, dict) else {}
        keep_json(FOLDERS, rows | {kind: str(Path(file).resolve().parent)})
    return file


def watched_of(project: Path, kind: str = WATCHED) -> Path | None:
    """The file a project's meshes were last taken from, as it was kept here: a project does not say what is read.

    kind : MASTERS for the master it wears.
    """
    kept = read_json(kind)
    name = kept.get(str(project.resolve())) if isinstance(kept, dict) else None
    return Path(name) if isinstance(name, str) and "\0" not in name and Path(name).is_file() else None


def keep_watched(project: Path, file: Path | None, kind: str = WATCHED) -> None:
    """Keep which file a project's meshes, or its master, come from, for the latest projects."""
    kept = read_json(kind)
    rows = {k: v for k, v in kept.items() if isinstance(v, str)} if isinstance(kept, dict) else {}
    rows.pop(str(project.resolve()), None)
    if file is not None:
        rows[str(project.resolve())] = str(file.resolve())
    keep_json(kind, dict(list(rows.items())[-MOST_WATCHED:]))


def read_usual(kinds: tuple[type[Setting], ...]) -> Settings:
    """The settings with what the user keeps as usual of each kind; a damaged file or field counts as none."""
    kept = read_json(USUAL)
    plain = kept if isinstance(kept, dict) else {}
    usual = {kind: from_plain(kind, plain[kind.ID]) for kind in kinds if kind.ID in plain}
    return Settings(MappingProxyType({}), MappingProxyType(usual))


def keep_usual(settings: Settings) -> None:
    """Keep what is usual for the next time."""
    keep_json(USUAL, {kind.ID: as_plain(record) for kind, record in settings.usual.items()})


def read_theme() -> str:
    """Name of the theme that was chosen; "" where the desktop's is followed."""
    kept = read_json(LOOK)
    name = kept.get("theme") if isinstance(kept, dict) else ""
    return name if name in ("ink", "linen") else ""


def keep_theme(name: str) -> None:
    """Keep a theme by name; "" follows the desktop again."""
    keep_json(LOOK, {"theme": name})
