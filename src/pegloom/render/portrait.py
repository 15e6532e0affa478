"""Small pictures of a document for pages and tables, drawn off the screen."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Sequence
from dataclasses import replace

from PIL import Image

from pegloom.document.model import Document
from pegloom.render.studio import Studio
from pegloom.scene.camera import Camera
from pegloom.scene.display import Display
from pegloom.scene.shot import Backdrop, Shot, looking_at, span_of

SIZE = (420, 420)
YAW, PITCH = math.radians(25.0), math.radians(8.0)


def portraits(document: Document, some: Sequence[tuple[str, str, float]], *, size: tuple[int, int] = SIZE) -> list[tuple[str, bytes]]:
    """Pictures as PNG with their titles. some : title, clip id of the character in hand ("" for the pose in hand), seconds.

    Raises NoScreenError where the machine cannot draw.
    """
    found = []
    with Studio() as studio:
        for title, clip, time in some:
            shown = document if clip else document.with_character(replace(document.require_character(), clips=()))
            shot = Shot(Camera(), size, time, time, 30.0, clip, Display.TEXTURED, backdrop=Backdrop.PLAIN, colour=(0.93, 0.91, 0.87), tone=None)
            shot = replace(shot, camera=looking_at(shown, shot, yaw=YAW, pitch=PITCH))
            out = io.BytesIO()
            Image.fromarray(studio.picture(shown, shot, time)).convert("RGB").save(out, "PNG")
            found.append((title, out.getvalue()))
    return found


def pictures_of(document: Document, where: str = "") -> list[tuple[str, bytes]]:
    """The character as it stands, in the middle of each clip, and at the place a proof names ("part, clip, frame 12.5")."""
    character = document.require_character()
    some = [(character.name, "", 0.0)]
    some += [(clip.name, clip.id, 0.5 * span_of(document, clip.id)[0]) for clip in character.clips[:5]]
    clip = next((c for c in character.clips if f", {c.name}, frame " in where), None)
    found = re.search(r"frame ([\d.]+)$", where)
    if clip is not None and found is not None:
        some.append((f"largest difference: {where}", clip.id, min(float(found[1]) / clip.rate, clip.length)))
    return portraits(replace(document, characters=(character,), active=0), some)
