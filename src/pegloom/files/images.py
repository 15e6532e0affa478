"""Pictures: told by their first bytes, checked, converted. Only these kinds are ever handed to the picture library,
and it is told which: some others start programs.
"""

from __future__ import annotations

import io
import struct
from pathlib import Path, PurePath

import numpy as np
from PIL import Image as Picture

from pegloom.core.errors import MeshFileError
from pegloom.document.model import Image
from pegloom.files.allowance import allowed, take
from pegloom.files.names import picture_name
from pegloom.files.raw import read_bytes

KINDS = {"PNG": ".png", "JPEG": ".jpg", "WEBP": ".webp", "TIFF": ".tif", "BMP": ".bmp", "TGA": ".tga"}
MOST_PIXELS = 8192 * 8192
"""More are taken for damage or malice: a small file can claim any number."""
Picture.MAX_IMAGE_PIXELS = MOST_PIXELS
WANTED = "PNG, JPEG, WebP, TIFF, BMP or TGA of at most 8192 x 8192 pixels"
KEPT = {"PNG": "image/png", "JPEG": "image/jpeg"}
FAILURES = (OSError, ValueError, SyntaxError, TypeError, IndexError, KeyError, EOFError, struct.error, MemoryError,
            OverflowError, ZeroDivisionError, Picture.DecompressionBombError, Picture.DecompressionBombWarning)  # fmt: skip
"""What the picture library raises on damaged pictures."""


def kind_of(data: bytes) -> str | None:
    """PNG, JPEG, WEBP, TIFF, BMP or TGA by the first bytes; None for anything else."""
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        return "PNG"
    if data[:3] == b"\xff\xd8\xff":
        return "JPEG"
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "WEBP"
    if data[:4] in (b"II*\0", b"MM\0*"):
        return "TIFF"
    if data[:2] == b"BM":
        return "BMP"
    return "TGA" if _is_tga(data) else None


def _is_tga(data: bytes) -> bool:
    """TGA has no magic word: its header must make sense (Truevision, "TGA file format specification 2.0", 1991)."""
    if len(data) < 18 or data[1] > 1 or data[2] not in (1, 2, 3, 9, 10, 11) or data[16] not in (8, 15, 16, 24, 32):
        return False
    width, height = struct.unpack_from("<HH", data, 12)
    return width > 0 and height > 0 and data[17] & 0xC0 == 0


def opened(data: bytes) -> Picture.Image:
    """A picture of a known kind, its size checked, nothing of it decoded. Raises ValueError for anything else."""
    kind = kind_of(data)
    if kind is None:
        raise ValueError("no picture of a known kind")
    picture = Picture.open(io.BytesIO(data), formats=[kind])
    width, height = picture.size
    if width < 1 or height < 1 or width * height > MOST_PIXELS:
        raise ValueError(f"{width} x {height} pixels are too many")
    return picture


def image_from_bytes(name: str, data: bytes) -> Image | None:
    """An image as PNG or JPEG bytes; other known kinds are converted to PNG; None where it is no sound picture."""
    try:
        with opened(data) as picture:
            take(4 * picture.size[0] * picture.size[1] // 8, "pictures", name)
            kind = picture.format or ""
            picture.load()
            if kind in KEPT:
                return Image(picture_name(name, KEPT[kind], spaces=True), KEPT[kind], data)
            out = io.BytesIO()
            picture.convert("RGBA" if "A" in picture.getbands() else "RGB").save(out, "PNG", compress_level=1)
    except FAILURES:
        return None
    return Image(picture_name(PurePath(name).stem, "image/png", spaces=True), "image/png", out.getvalue())


def read_picture(path: Path) -> Image:
    """A picture file. Raises MeshFileError."""
    data = read_bytes(path)
    with allowed(path.name, len(data)):
        image = image_from_bytes(path.name, data)
    if image is None:
        raise MeshFileError(
            path.name, "is no sound picture of a kind this program reads", hint=f"use {WANTED}"
        )
    return image


def pixels(image: Image, *, largest: int = 2048) -> np.ndarray:
    """(h, w, 4) uint8, the first row at the top, scaled down to at most `largest` a side; grey where it is damaged."""
    try:
        with opened(image.data) as picture:
            picture.thumbnail((largest, largest))
            return np.asarray(picture.convert("RGBA"))
    except FAILURES:
        return np.full((1, 1, 4), 128, dtype=np.uint8)
