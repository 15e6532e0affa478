"""Pictures: recognise, check, convert."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from PIL import Image as Picture

from pegloom.document.model import Image

MOST_PIXELS = 16384 * 16384
Picture.MAX_IMAGE_PIXELS = MOST_PIXELS


def image_from_bytes(name: str, data: bytes) -> Image | None:
    """An image as PNG or JPEG bytes; other kinds are converted to PNG; None where it is no picture."""
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        kind = "image/png"
    elif data[:2] == b"\xff\xd8":
        kind = "image/jpeg"
    else:
        try:
            with Picture.open(io.BytesIO(data)) as picture:
                out = io.BytesIO()
                picture.convert("RGBA" if "A" in picture.getbands() else "RGB").save(out, "PNG")
        except (OSError, ValueError, Picture.DecompressionBombError):
            return None
        return Image(Path(name).stem + ".png", "image/png", out.getvalue())
    try:
        with Picture.open(io.BytesIO(data)) as picture:
            picture.verify()
    except (OSError, ValueError, SyntaxError, Picture.DecompressionBombError):
        return None
    return Image(Path(name).name, kind, data)


def pixels(image: Image, *, largest: int = 2048) -> np.ndarray:
    """(h, w, 4) uint8, the first row at the top, scaled down to at most `largest` a side."""
    with Picture.open(io.BytesIO(image.data)) as picture:
        picture.thumbnail((largest, largest))
        return np.asarray(picture.convert("RGBA"))
