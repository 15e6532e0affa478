"""The shelf of clips: those that ship, and the user's own in a folder of theirs.

Shipped: `assets/shelf/cards.json` says what each is, `clips.zip` holds the motion as BVH, `words.txt` the words. A clip of the
user's own is its file as it came beside a card, in `shelf` under the user's data; nothing else is read there.
"""

from __future__ import annotations

import contextlib
import io
import json
import re
import shutil
import zipfile
from dataclasses import replace
from functools import cached_property
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.shelf.card import KINDS, ClipCard
from pegloom.core.motion.shelf.measures import QUALITIES, measures_of, unlike
from pegloom.core.motion.shelf.words import Finder, Lexicon
from pegloom.files.motion import MOTION_FILES, bvh_source, read_sources
from pegloom.files.outgoing import write_bytes
from pegloom.files.plain_json import read_kind
from pegloom.files.settings import keep_json, read_json, settings_file

FORM, VERSION = "peg loom shelf", 1
NEAR = 0.9
"""How unlike a clip may be to one of ours to be called what that is."""
RECENT = 24
NAME = re.compile(r"own-[a-z0-9-]{1,80}")


class Shelf:
    """Every clip that can be taken, and where its motion lies."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = settings_file("shelf") if folder is None else folder
        self.own_cards = self._read_own()

    @cached_property
    def shipped(self) -> tuple[ClipCard, ...]:
        told = json.loads(resources.files("pegloom.assets").joinpath("shelf", "cards.json").read_text(encoding="utf-8"))
        return tuple(_card(one) for one in told["clips"])

    @cached_property
    def lexicon(self) -> Lexicon:
        return Lexicon(resources.files("pegloom.assets").joinpath("shelf", "words.txt").read_text(encoding="utf-8"))

    @property
    def cards(self) -> tuple[ClipCard, ...]:
        return (*self.shipped, *self.own_cards)

    @cached_property
    def finder(self) -> Finder:
        return Finder(self.lexicon, self.cards)

    def card(self, card_id: str) -> ClipCard:
        """Raises MeshFileError for one that is not there."""
        found = next((c for c in self.cards if c.id == card_id), None)
        if found is None:
            raise MeshFileError("the shelf", f"there is no clip {card_id[:60]}", hint="see them all with: pegloom clips list")
        return found

    def source(self, card_id: str) -> Source:
        """The motion of a clip on the body it was made on. Raises MeshFileError."""
        card = self.card(card_id)
        if card.own:
            file = next((f for f in sorted((self.folder / card.id).glob("motion.*")) if f.suffix.lower() in (".bvh", *MOTION_FILES)), None)
            if file is None:
                raise MeshFileError(card.title, "its motion is gone from the shelf", hint="put it on the shelf again")
            sources, _ = read_sources(file)
            return replace(sources[0], name=card.title)
        with zipfile.ZipFile(io.BytesIO(_archive())) as archive:
            return replace(bvh_source(f"{card.id}.bvh", archive.read(f"{card.id}.bvh")), name=card.title, origin=f"shelf: {card.id}")

    # The user's own

    def put(self, path: Path, *, title: str = "", origin: str = "captured", licence: str = "", may_deliver: bool = True) -> ClipCard:
        """Put a file's first clip on the shelf: copied, measured, called what it is like. Raises MeshFileError."""
        sources, _ = read_sources(path)
        source = sources[0]
        name = title or source.name
        stem = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "clip"
        taken = {c.id for c in self.own_cards}
        card_id = next(x for k in range(1, len(taken) + 2) if (x := f"own-{stem}" if k == 1 else f"own-{stem}-{k}") not in taken)
        measures = measures_of(source.skeleton, source.clip)
        known = [c for c in self.shipped if c.measures is not None and c.body in ("people", "four legs", "bird")]
        far = unlike(measures, np.array([c.measures for c in known]))
        nearest = known[int(np.argmin(far))]
        card = ClipCard(
            card_id, name, nearest.kinds if far.min() < NEAR else (), (), nearest.body if far.min() < NEAR else "", seconds=source.clip.length, rate=source.clip.rate,
            origin=origin, licence=licence, may_deliver=may_deliver, own=True, measures=measures,
        )  # fmt: skip
        place = self.folder / card_id
        place.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(path, place / f"motion{path.suffix.lower()}")
        write_bytes(place / "card.json", json.dumps({"format": FORM, "version": VERSION, "clips": [_plain(card)]}, ensure_ascii=False).encode())
        self._renew()
        return card

    def drop(self, card_id: str) -> None:
        """Take a clip of the user's own off the shelf."""
        card = self.card(card_id)
        if card.own and NAME.fullmatch(card.id):
            shutil.rmtree(self.folder / card.id, ignore_errors=True)
            self._renew()

    def _renew(self) -> None:
        self.own_cards = self._read_own()
        self.__dict__.pop("finder", None)

    def _read_own(self) -> tuple[ClipCard, ...]:
        found = []
        for place in sorted(self.folder.iterdir()) if self.folder.is_dir() else ():
            if not NAME.fullmatch(place.name) or place.is_symlink():
                continue
            with contextlib.suppress(MeshFileError, KeyError, TypeError, ValueError, IndexError):
                told = read_kind(place / "card.json", FORM, VERSION, "a card of the shelf")
                found.append(replace(_card(told["clips"][0]), id=place.name, own=True))
        return tuple(found)

    # Kept from one day to the next

    @property
    def favourites(self) -> tuple[str, ...]:
        return _names(read_json("shelf-favourites.json"))

    def favour(self, card_id: str, on: bool) -> None:
        kept = [c for c in self.favourites if c != card_id]
        keep_json("shelf-favourites.json", [*kept, card_id] if on else kept)

    @property
    def recent(self) -> tuple[str, ...]:
        return _names(read_json("shelf-recent.json"))

    def used(self, card_id: str) -> None:
        keep_json("shelf-recent.json", [card_id, *(c for c in self.recent if c != card_id)][:RECENT])


def _archive() -> bytes:
    return resources.files("pegloom.assets").joinpath("shelf", "clips.zip").read_bytes()


def _names(value: Any) -> tuple[str, ...]:
    return tuple(v for v in value if isinstance(v, str)) if isinstance(value, list) else ()


def _texts(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(v, str) and len(v) < 200 for v in value) or len(value) > 100:
        raise ValueError("a list of words was expected")
    return tuple(value)


def _card(told: dict[str, Any]) -> ClipCard:
    measures = told.get("measures")
    if measures is not None:
        measures = np.array([float(v) for v in measures])
        if measures.shape != (len(QUALITIES),) or not np.isfinite(measures).all():
            measures = None
    x, z, turn = (float(v) for v in told.get("beside", (0.0, 0.0, 0.0)))
    seconds, rate = float(told.get("seconds", 0.0)), float(told.get("rate", 30.0))
    if not (0.0 <= seconds < 1e6 and 0.0 < rate < 1e4):
        raise ValueError("a length and a rate were expected")
    kinds = tuple(k for k in _texts(told.get("kinds", [])) if k in KINDS)
    return ClipCard(
        str(told["id"])[:100], str(told["title"])[:200], kinds, _texts(told.get("tags", [])), str(told.get("body", ""))[:20], str(told.get("partner", ""))[:100],
        (x, z, turn), bool(told.get("loops", False)), seconds, rate, str(told.get("origin", "generated"))[:40], str(told.get("licence", "CC0-1.0"))[:100],
        bool(told.get("may_deliver", True)), measures=measures,
    )  # fmt: skip


def _plain(card: ClipCard) -> dict[str, Any]:
    return {
        "id": card.id, "title": card.title, "kinds": list(card.kinds), "tags": list(card.tags), "body": card.body, "seconds": card.seconds, "rate": card.rate,
        "loops": card.loops, "origin": card.origin, "licence": card.licence, "may_deliver": card.may_deliver,
        "measures": None if card.measures is None else [float(v) for v in card.measures],
    }  # fmt: skip
