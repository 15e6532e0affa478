"""What of a character's skinning a file of plain weights cannot hold."""

from __future__ import annotations

from pegloom.core.rig.outputs import FIGURE, PART
from pegloom.document.model import Character


def not_exported(character: Character, *, baked: bool = False, switches: bool = False) -> list[str]:
    """One line for each part that looks otherwise in the program than a file can tell. baked : relax and dual quaternions are.
    switches : the file tells when parts are seen."""
    found = _channels(character, switches)
    skin = character.skin
    if skin is None or baked:
        return found
    for part in character.included:
        asked = [
            w for w, on in (("surface relax", skin.relax), ("dual quaternion blending", skin.dual)) if part.id in on
        ]
        if asked:
            found.append(f"{part.name}: {' and '.join(asked)} is not in the file; bake it in Weights to keep its look")
    return found


def _channels(character: Character, switches: bool) -> list[str]:
    """What channels do that no file of plain weights tells."""
    rig, skeleton = character.rig, character.skeleton
    if rig is None or skeleton is None:
        return []
    parts = {f"{PART}{p.id}": p.name for p in character.parts}
    shown = sorted({parts[s.thing] for s in rig.shows if s.thing in parts}) if not switches or not character.clips else []
    found = [f"{name}: a channel that shows and hides it is not in the file; it is always seen there" for name in shown]
    if any(s.thing.startswith(FIGURE) for s in rig.shows):
        found.append("another character is shown by a channel; that is not in the file, each is always seen there")
    wide = [w.joint for w in rig.widths if w.joint in skeleton.index and skeleton.children(w.joint)]
    return found + [f"{skeleton.joint(j).name}: its width is not in the file, as other joints hang on it" for j in wide]
