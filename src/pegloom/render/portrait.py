"""Small pictures of a document for pages and tables, drawn off the screen."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Sequence
from dataclasses import replace

from PIL import Image

from pegloom.core.errors import EditError
from pegloom.core.rig.pose import Pose, Shown
from pegloom.document.model import Document
from pegloom.document.told.approved import Change
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


def before_and_after(before: Document, after: Document, moved: Sequence[Change], *, most: int = 6) -> list[tuple[str, bytes]]:
    """For each pose and clip that went, the farthest first, one picture: left as it was, right as it is, at the moment it is worst.

    Raises NoScreenError where the machine cannot draw.
    """
    found = []
    for change in [c for c in moved if math.isfinite(c.metres)][:most]:
        try:
            sides = [portraits(*_moment(document, change), size=(SIZE[0] // 2 + 60, SIZE[1]))[0][1] for document in (before, after)]
        except EditError:
            continue
        images = [Image.open(io.BytesIO(one)) for one in sides]
        both = Image.new("RGB", (sum(i.width for i in images), images[0].height))
        for k, image in enumerate(images):
            both.paste(image, (k * images[0].width, 0))
        out = io.BytesIO()
        both.save(out, "PNG")
        found.append((f"{change.name}: {1000 * change.metres:.1f} mm at {change.where}", out.getvalue()))
    return found


def _moment(document: Document, change: Change) -> tuple[Document, list[tuple[str, str, float]]]:
    """The document as it shows a kept pose, or the clip and time of it. Raises EditError where it has it not."""
    character = document.require_character()
    alone = replace(document, characters=(character,), active=0)
    kind, _, name = change.name.partition(" ")
    if kind == "clip":
        clip = next((c for c in character.clips if c.name == name), None)
        if clip is None:
            raise EditError(f"there is no clip {name}")
        frame = re.search(r"frame (\d+)$", change.where)
        return alone, [(change.name, clip.id, min(float(frame[1]) / clip.rate if frame else 0.0, clip.length))]
    pose: Shown = Pose()
    if kind == "pose":
        pose = Pose(dict(next(p.values for p in character.poses if p.name == name)))
    elif kind == "trial":
        pose = next(t.pose for t in character.trials if t.name == name)
    return alone.with_character(replace(character, pose=pose)), [(change.name, "", 0.0)]
