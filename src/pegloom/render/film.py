"""A film of a document: every frame drawn off the screen, written into a file."""

from __future__ import annotations

from functools import lru_cache
from importlib import resources
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from pegloom.core.errors import MeshFileError
from pegloom.core.jobs import Progress, silent
from pegloom.document.model import Document
from pegloom.files.film import film_writer
from pegloom.render.studio import Studio
from pegloom.scene.shot import Backdrop, Shot, check

LINEN, INK = (242, 236, 224, 255), (20, 23, 31, 150)
LETTERS = 1 / 36
"""How high letters are, in heights of the picture."""


def make_film(path: Path, document: Document, shot: Shot, *, over: bool = False, progress: Progress = silent) -> int:
    """Write a film, `.mp4` or a sequence of `.png`. Returns how many frames it has. A stop leaves what was there.

    over : write over pictures of a sequence. Call it on one thread; it needs no display where the machine can draw off-screen.

    Raises EditError for what no film can be, NoScreenError where the machine cannot draw, MeshFileError where the place
    cannot be written.
    """
    check(shot)
    if shot.backdrop is Backdrop.SEE_THROUGH and path.suffix.lower() == ".mp4":
        raise MeshFileError(path.name, "an MP4 cannot be seen through", hint="name it .png for a sequence of pictures, or choose another backdrop")
    with film_writer(path, rate=shot.rate, size=shot.size, over=over) as film, Studio() as studio:
        for frame in range(shot.count):
            progress(0.98 * frame / shot.count, f"frame {frame + 1} of {shot.count}")
            film.add(labelled(studio.picture(document, shot, shot.time(frame)), _words(document, shot, frame)))
    progress(1.0, "written")
    return shot.count


def _words(document: Document, shot: Shot, frame: int) -> str:
    """What is written into a frame."""
    said = []
    if shot.named:
        said.append(document.require_character().clip(shot.clip).name if shot.clip else document.name)
    if shot.counted:
        said.append(f"{round(shot.first * shot.rate) + frame}")
    return "   ".join(said)


def labelled(pixels: np.ndarray, words: str) -> np.ndarray:
    """A picture (h, w, 4) with words at its lower left, as many as find room."""
    if not words:
        return pixels
    picture = Image.fromarray(pixels)
    high = max(round(picture.height * LETTERS), 9)
    font, edge = _font(high), round(high * 0.9)
    over = Image.new("RGBA", picture.size, (0, 0, 0, 0))
    pen = ImageDraw.Draw(over)
    while len(words) > 1 and pen.textlength(words, font=font) > picture.width - 3 * edge:
        words = words[:-1]
    box = pen.textbbox((edge, picture.height - edge), words, font=font, anchor="ls")
    pen.rounded_rectangle((box[0] - edge / 2, box[1] - edge / 3, box[2] + edge / 2, box[3] + edge / 3), radius=edge / 3, fill=INK)
    pen.text((edge, picture.height - edge), words, font=font, fill=LINEN, anchor="ls")
    return np.asarray(Image.alpha_composite(picture.convert("RGBA"), over))


@lru_cache(maxsize=4)
def _font(high: int) -> ImageFont.FreeTypeFont:
    with resources.as_file(resources.files("pegloom.assets") / "fonts" / "Figtree-500.ttf") as path:
        return ImageFont.truetype(str(path), high)
