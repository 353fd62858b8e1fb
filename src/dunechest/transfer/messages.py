"""Messages between a process and its helpers: a length (four bytes, little-endian) and that much MessagePack.

MessagePack has no numbers beyond 64 bits, and filesystems have times that are, in nanoseconds: a message with such a one is
JSON. Both begin alike for nobody: a message is an array, which begins with ``[`` (0x5b) in JSON and from 0x90 on in the
other.
"""

from __future__ import annotations

import struct
from typing import IO, Any, Generic, TypeVar

import msgspec

from dunechest.transfer.tasks import Done, Numbered, Told

_M = TypeVar("_M")
_LENGTH = struct.Struct("<I")


def send(pipe: IO[bytes], message: Told | Done | Numbered) -> None:
    """Write one message."""
    try:
        body = msgspec.msgpack.encode(message)
    except OverflowError:
        body = msgspec.json.encode(message)
    pipe.write(_LENGTH.pack(len(body)) + body)
    pipe.flush()


class Decoder(Generic[_M]):
    """Decodes the bodies of messages.

    Parameters
    ----------
    kind : type
        What they are.
    """

    def __init__(self, kind: Any) -> None:
        self._kind = kind
        self._usual: msgspec.msgpack.Decoder[_M] = msgspec.msgpack.Decoder(kind)

    def decode(self, body: bytes) -> _M:
        """Return a message.

        Raises
        ------
        msgspec.MsgspecError
            If it is none.
        """
        if body.startswith(b"["):
            found: _M = msgspec.json.decode(body, type=self._kind)
            return found
        return self._usual.decode(body)


def receive(pipe: IO[bytes]) -> bytes | None:
    """Read the body of one message; None at the end of the pipe."""
    head = pipe.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        return None
    (length,) = _LENGTH.unpack(head)
    body = pipe.read(length)
    return body if len(body) == length else None
