"""What showing a new document asks for, worked out before it lands."""

from __future__ import annotations

from typing import Any

from pegloom.core.motion.trials import trials_of
from pegloom.core.skin.quality import folding_pairs
from pegloom.document.model import Document
from pegloom.render.renderer import get_ready


def prepare(result: Any) -> None:
    """The meshes and joints of the documents in a job's result got ready, on its thread."""
    for piece in result if isinstance(result, tuple) else (result,):
        if isinstance(piece, Document):
            for character in piece.characters:
                for part in character.included:
                    get_ready(part.mesh)
                if character.skeleton is not None:
                    for part in character.included:
                        folding_pairs(part.mesh)
                    trials_of(character.skeleton)
