"""Pairings the user mended, kept from one document to the next: found again by both skeletons."""

from __future__ import annotations

import contextlib
from pathlib import Path

from pegloom.core.errors import PegLoomError
from pegloom.core.motion.retarget import Pairing, sign_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.files.pairings import read_pairing, write_pairing
from pegloom.files.settings import settings_file


def _place(source: str, target: str) -> Path:
    return settings_file("pairings") / f"{source}-{target}.json"


def keep_own(pairing: Pairing, source: Skeleton, target: Skeleton) -> None:
    """Keep one; where it cannot be written, it is not."""
    place = _place(pairing.source, pairing.target)
    with contextlib.suppress(OSError, PegLoomError):
        place.parent.mkdir(parents=True, exist_ok=True)
        write_pairing(place, pairing, source, target)


def own_for(source: Skeleton, target: Skeleton) -> tuple[Pairing, ...]:
    """The one kept for these two; none where there is none, or where its file is damaged."""
    place = _place(sign_of(source), sign_of(target))
    if not place.is_file():
        return ()
    with contextlib.suppress(OSError, PegLoomError):
        return (read_pairing(place, source, target),)
    return ()
