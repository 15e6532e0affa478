"""Pairings as open JSON: parts, and joints of both skeletons by name. Format: docs/motion.md."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.retarget import ChainPair, Pairing, sign_of
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.files.outgoing import write_bytes
from pegloom.files.plain_json import HINT, read_kind

FORMAT, VERSION = "peg loom pairing", 1
MOST = 2000


def write_pairing(path: str | Path, pairing: Pairing, source: Skeleton, target: Skeleton) -> None:
    """Write a pairing with the joints' names."""
    rows = []
    for c in pairing.chains:
        row: dict[str, Any] = {
            "part": c.part, "source": [source.joint(j).name for j in c.source if j in source.index],
            "target": [target.joint(j).name for j in c.target if j in target.index], "confidence": round(c.confidence, 3),
        }  # fmt: skip
        if c.why:
            row["why"] = c.why
        if c.by_hand:
            row["by_hand"] = True
        if (c.amount, c.turn, c.reach, c.planted) != (1.0, (0.0, 0.0, 0.0), 1.0, True):
            row |= {"amount": c.amount, "turn": list(c.turn), "reach": c.reach, "planted": c.planted}
        rows.append(row)
    tree = {
        "format": FORMAT, "version": VERSION, "name": pairing.name, "source": pairing.source, "target": pairing.target,
        "rest": pairing.rest, "chains": rows,
    }  # fmt: skip
    write_bytes(Path(path), json.dumps(tree, indent=1).encode())


def read_pairing(path: str | Path, source: Skeleton, target: Skeleton) -> Pairing:
    """A pairing of a file for these two skeletons: joints are found by name; what is not there is left out.

    Raises MeshFileError: which file, what is wrong and where, what to do; also where no chain fits.
    """
    path = Path(path)
    tree = _tree(path)
    theirs, ours = {j.name: j.id for j in source.joints}, {j.name: j.id for j in target.joints}
    chains: list[ChainPair] = []
    some = tree.get("chains")
    if not isinstance(some, list) or len(some) > MOST:
        raise _fail(path, f"a list of up to {MOST} chains was expected", "chains")
    seen: set[str] = set()
    for k, row in enumerate(some):
        where = f"chains[{k}]"
        if not isinstance(row, dict) or not _word(row.get("part")) or row["part"] in seen:
            raise _fail(path, "a chain with a part of its own was expected", where)
        seen.add(row["part"])
        named = {}
        for key, known in (("source", theirs), ("target", ours)):
            listed = row.get(key)
            if not isinstance(listed, list) or len(listed) > MOST or not all(_word(n) for n in listed):
                raise _fail(path, "a list of joints' names was expected", f"{where}.{key}")
            named[key] = tuple(known[n] for n in listed if n in known)
        if not named["target"]:
            continue
        turn = row.get("turn", [0.0, 0.0, 0.0])
        if not isinstance(turn, list) or len(turn) != 3:
            raise _fail(path, "three degrees were expected", f"{where}.turn")
        vector: Vector = (_number(path, turn[0], where, 180.0), _number(path, turn[1], where, 180.0), _number(path, turn[2], where, 180.0))
        why = row.get("why", "")
        chains.append(
            ChainPair(
                row["part"], named["source"], named["target"], abs(_number(path, row.get("confidence", 1.0), where, 1.0)), why if isinstance(why, str) else "",
                row.get("by_hand") is True, abs(_number(path, row.get("amount", 1.0), where, 3.0)), vector,
                max(abs(_number(path, row.get("reach", 1.0), where, 1.5)), 0.3), row.get("planted", True) is True,
            )
        )  # fmt: skip
    if not any(c.source for c in chains):
        raise _fail(path, "no chain of it fits these two skeletons", "chains", "leave --pairing out; they are paired by themselves")
    rest = tree.get("rest")
    name = tree.get("name")
    return Pairing(
        "", str(name) if _word(name) else path.stem, sign_of(source), sign_of(target), tuple(chains), None if rest is None else abs(_number(path, rest, "rest", 86400.0))
    )


def signs_of(path: str | Path) -> tuple[str, str]:
    """Which two skeletons a pairing is of. Raises MeshFileError."""
    tree = _tree(Path(path))
    return str(tree.get("source")), str(tree.get("target"))


def _tree(path: Path) -> dict[str, Any]:
    return read_kind(path, FORMAT, VERSION, "a pairing")


def _fail(path: Path, what: str, where: str, hint: str = HINT) -> MeshFileError:
    return MeshFileError(path.name, what, where=where, hint=hint)


def _word(value: Any) -> bool:
    return isinstance(value, str) and 0 < len(value) <= 200


def _number(path: Path, value: Any, where: str, most: float) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value) or abs(value) > most:
        raise _fail(path, f"a number up to {most:g} was expected", where)
    return float(value)
