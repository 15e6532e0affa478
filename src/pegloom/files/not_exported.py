"""What of a character's skinning a file of plain weights cannot hold."""

from __future__ import annotations

from pegloom.document.model import Character


def not_exported(character: Character) -> list[str]:
    """One line for each part that looks otherwise in the program than a file can tell."""
    skin = character.skin
    if skin is None:
        return []
    found = []
    for part in character.included:
        asked = [
            w for w, on in (("surface relax", skin.relax), ("dual quaternion blending", skin.dual)) if part.id in on
        ]
        if asked:
            found.append(f"{part.name}: {' and '.join(asked)} is not in the file; bake it in Weights to keep its look")
    return found
