"""Messages and bundles of Open Sound Control 1.0, as far as a capture desk uses them.

Specification: Matt Wright, "The Open Sound Control 1.0 Specification", 2002. Big-endian, everything padded to four bytes.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass

from pegloom.core.errors import PegLoomError

BUNDLE = b"#bundle\0"
AT_ONCE = struct.pack(">Q", 1)
"""The time tag for "now"."""
MOST_MESSAGES = 600
"""Messages of one packet."""
Argument = int | float | str | bytes


class PacketError(PegLoomError):
    """A packet that makes no sense."""


@dataclass(frozen=True, slots=True)
class Double:
    """A number that is sent with eight bytes."""

    value: float


@dataclass(frozen=True, slots=True)
class Message:
    address: str
    arguments: tuple[Argument, ...]


def message(address: str, *arguments: Argument | Double) -> bytes:
    """A message: int32, float32, float64 (`Double`), string, blob."""
    tags, data = ",", b""
    for one in arguments:
        if isinstance(one, Double):
            tags, data = tags + "d", data + struct.pack(">d", one.value)
        elif isinstance(one, bytes):
            tags, data = tags + "b", data + struct.pack(">i", len(one)) + _padded(one)
        elif isinstance(one, str):
            tags, data = tags + "s", data + _text(one)
        elif isinstance(one, int):
            tags, data = tags + "i", data + struct.pack(">i", one)
        else:
            tags, data = tags + "f", data + struct.pack(">f", one)
    return _text(address) + _text(tags) + data


def bundle(messages: Iterable[bytes]) -> bytes:
    """Several messages in one packet."""
    return BUNDLE + AT_ONCE + b"".join(struct.pack(">i", len(m)) + m for m in messages)


def read(packet: bytes) -> list[Message]:
    """The messages of a packet, alone or in a bundle. Raises PacketError for what is neither."""
    if not packet.startswith(BUNDLE):
        return [_message(packet)]
    at = 16
    found: list[Message] = []
    if len(packet) < 16:
        raise PacketError("a bundle ends before its time")
    while at < len(packet):
        if len(found) >= MOST_MESSAGES:
            raise PacketError("a bundle of too many messages")
        size = _int(packet, at)
        at += 4
        if size < 8 or size % 4 or at + size > len(packet):
            raise PacketError("a message's size is not what it claims")
        found.append(_message(packet[at : at + size]))
        at += size
    return found


def _message(data: bytes) -> Message:
    address, at = _read_text(data, 0)
    if not address.startswith("/"):
        raise PacketError("no message of Open Sound Control")
    tags, at = _read_text(data, at)
    if not tags.startswith(","):
        raise PacketError("a message without types")
    arguments: list[Argument] = []
    for tag in tags[1:]:
        if tag == "i":
            arguments.append(_int(data, at))
            at += 4
        elif tag in "fd":
            size = 4 if tag == "f" else 8
            if at + size > len(data):
                raise PacketError("a number is cut off")
            arguments.append(float(struct.unpack_from(f">{tag}", data, at)[0]))
            at += size
        elif tag == "s":
            text, at = _read_text(data, at)
            arguments.append(text)
        elif tag == "b":
            size = _int(data, at)
            at += 4
            if size < 0 or at + size > len(data):
                raise PacketError("a blob's size is not what it claims")
            arguments.append(data[at : at + size])
            at += -(-size // 4) * 4
        else:
            raise PacketError("an argument of a type that is not known here")
    if at != len(data):
        raise PacketError("a message's size is not what it claims")
    return Message(address, tuple(arguments))


def _padded(data: bytes) -> bytes:
    return data + b"\0" * (-len(data) % 4)


def _text(text: str) -> bytes:
    return _padded(text.encode("utf-8") + b"\0")


def _int(data: bytes, at: int) -> int:
    if at + 4 > len(data):
        raise PacketError("a number is cut off")
    return int(struct.unpack_from(">i", data, at)[0])


def _read_text(data: bytes, at: int) -> tuple[str, int]:
    end = data.find(b"\0", at)
    if end < 0:
        raise PacketError("a text does not end")
    try:
        text = data[at:end].decode("utf-8")
    except UnicodeDecodeError:
        raise PacketError("a text is no UTF-8") from None
    after = at + -(-(end + 1 - at) // 4) * 4
    if after > len(data):
        raise PacketError("a text is cut off")
    return text, after
