"""Messages between a process and its helpers: a length (four bytes, little-endian) and that much MessagePack."""

from __future__ import annotations

import struct
from typing import IO

import msgspec

from dunechest.transfer.tasks import Done, Numbered, Told

_LENGTH = struct.Struct("<I")


def send(pipe: IO[bytes], message: Told | Done | Numbered) -> None:
    """Write one message."""
    body = msgspec.msgpack.encode(message)
    pipe.write(_LENGTH.pack(len(body)) + body)
    pipe.flush()


def receive(pipe: IO[bytes]) -> bytes | None:
    """Read the body of one message; None at the end of the pipe."""
    head = pipe.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        return None
    (length,) = _LENGTH.unpack(head)
    body = pipe.read(length)
    return body if len(body) == length else None
