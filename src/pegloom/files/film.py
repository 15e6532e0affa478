"""Films written: MP4 (H.264, through PyAV), or a sequence of PNG pictures.

An MP4 is written whole or not at all. Of a sequence that is stopped nothing stays.
"""

from __future__ import annotations

import contextlib
import io
from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import IO, Any, Protocol

import numpy as np
from PIL import Image

from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import outgoing, write_bytes

ENDINGS = (".mp4", ".png")
CODECS: tuple[tuple[str, dict[str, str]], ...] = (("libx264", {"crf": "18", "preset": "medium", "bf": "0"}), ("libopenh264", {}), ("mpeg4", {"qscale": "3"}))
"""The first there is of them encodes."""
DIGITS = 4


class FilmWriter(Protocol):
    """Takes frames one after the other: (h, w, 4) uint8, first row at the top."""

    def add(self, pixels: np.ndarray) -> None: ...


@contextmanager
def film_writer(path: Path, *, rate: float, size: tuple[int, int], over: bool = False) -> Iterator[FilmWriter]:
    """Where the frames of a film go: NAME.mp4, or NAME.png for NAME.0001.png and so on.

    rate : frames a second. size : (width, height). over : write over pictures of the same names.

    Raises MeshFileError for another ending, and where the place cannot be written.
    """
    kind = path.suffix.lower()
    if kind == ".mp4":
        with outgoing() as out:
            yield from _mp4(out.stream(path), path, rate, size)
    elif kind == ".png":
        yield from _sequence(path, over)
    else:
        raise MeshFileError(path.name, "this ending holds no film", hint=f"use {' or '.join(ENDINGS)}; .png makes a sequence of pictures")


def frame_name(path: Path, number: int) -> Path:
    """Where a picture of a sequence goes, the first one 1."""
    return path.with_name(f"{path.stem}.{number:0{DIGITS}d}{path.suffix}")


def first_of(path: Path) -> Path | None:
    """The first picture that would be written over, None for none."""
    found = sorted(path.parent.glob(f"{_plain(path.stem)}.{'[0-9]' * DIGITS}*{path.suffix}")) if path.parent.is_dir() else []
    return found[0] if found else None


def _plain(stem: str) -> str:
    """A name in which no letter stands for others when files are looked for."""
    return "".join(f"[{c}]" if c in "*?[" else c for c in stem)


class _Mp4:
    def __init__(self, container: Any, stream: Any, rate: Fraction) -> None:
        self.container, self.stream, self.rate = container, stream, rate
        self.count = 0

    def add(self, pixels: np.ndarray) -> None:
        import av

        even = pixels[: self.stream.height, : self.stream.width, :3]
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(even), format="rgb24")
        frame.pts, frame.time_base = self.count, 1 / self.rate
        self.count += 1
        for packet in self.stream.encode(frame):
            self.container.mux(packet)


def _mp4(stream: IO[bytes], path: Path, rate: float, size: tuple[int, int]) -> Iterator[FilmWriter]:
    import av

    # A device is written to at its end alone, and takes no seeking.
    seekable = stream if stream.seekable() else io.BytesIO()
    codec, options = next((c, o) for c, o in CODECS if c in av.codecs_available)
    with av.open(seekable, mode="w", format="mp4") as container:
        step = Fraction(rate).limit_denominator(1001 * 240)
        made: Any = container.add_stream(codec, rate=step, options=dict(options))
        # Colours are told for two pixels at once: sides are even.
        made.width, made.height = size[0] // 2 * 2, size[1] // 2 * 2
        made.pix_fmt = "yuv420p"
        try:
            yield _Mp4(container, made, step)
            for packet in made.encode():
                container.mux(packet)
        except av.error.FFmpegError as error:
            raise MeshFileError(path.name, f"the film cannot be encoded ({error})", hint="try a sequence of pictures, NAME.png") from error
    if seekable is not stream:
        stream.write(seekable.getvalue())  # type: ignore[attr-defined]


class _Pictures:
    def __init__(self, path: Path) -> None:
        self.path = path
        self.written: list[Path] = []

    def add(self, pixels: np.ndarray) -> None:
        data = io.BytesIO()
        Image.fromarray(pixels).save(data, "PNG", compress_level=4)
        place = frame_name(self.path, len(self.written) + 1)
        write_bytes(place, data.getvalue())
        self.written.append(place)


def _sequence(path: Path, over: bool) -> Iterator[FilmWriter]:
    there = first_of(path)
    if there is not None and not over:
        raise MeshFileError(path.name, f"{there.name} is there already", hint="choose another name, or say that it may be written over")
    pictures = _Pictures(path)
    try:
        yield pictures
    except BaseException:
        for one in pictures.written:
            with contextlib.suppress(OSError):
                one.unlink()
        raise
