"""Windows: a file may have further streams of bytes with names of their own (NTFS); what programs keep there is kept.

See ``FindFirstStreamW`` in <fileapi.h>. A stream is opened by the file's name, a colon, and its own name.
"""

from __future__ import annotations

import base64
import binascii
import ctypes
import os
import re
import sys
from pathlib import Path

from dunechest.regex import late

#: What is written before the name of a stream in a record.
PREFIX = "stream:"
#: Names that are kept. Where a file was downloaded from is the system's own note, and would have it ask again.
_NAME = late(r"[\w. -]{1,100}", re.ASCII)
_OF_THE_SYSTEM = frozenset({"zone.identifier", "smartscreen"})
_LONGEST = 8 << 20
_INVALID = ctypes.c_void_p(-1).value


class _Found(ctypes.Structure):
    """WIN32_FIND_STREAM_DATA."""

    _fields_ = (("size", ctypes.c_int64), ("name", ctypes.c_wchar * (260 + 36)))


def read(path: bytes) -> tuple[tuple[str, str], ...]:
    """Return the further streams of a file: their names, and their content in base64."""
    place = os.fsdecode(path)
    found = []
    for name in _streams(place):
        try:
            with Path(f"{place}:{name}").open("rb") as stream:
                found.append((PREFIX + name, base64.b64encode(stream.read(_LONGEST)).decode()))
        except OSError:
            continue
    return tuple(sorted(found))


def write(path: bytes, name: str, value: str) -> str:
    """Give a file a further stream; return in words why that cannot be, or nothing."""
    stream = stream_name(f":{name.removeprefix(PREFIX)}:$DATA") if name.startswith(PREFIX) else ""
    if not stream:
        return "this system keeps none of them"
    try:
        content = base64.b64decode(value, validate=True)
        Path(f"{os.fsdecode(path)}:{stream}").write_bytes(content)
    except (binascii.Error, ValueError):
        return "its value cannot be read"
    except OSError as error:
        return error.strerror or "the system refuses"
    return ""


def stream_name(told: str) -> str:
    """Return the name of a stream from what the system tells of it; empty for the file's own bytes and what is not kept.

    >>> stream_name(":notes:$DATA"), stream_name("::$DATA"), stream_name(":Zone.Identifier:$DATA"), stream_name(":a/b:$DATA")
    ('notes', '', '', '')
    """
    name, _, kind = told.removeprefix(":").rpartition(":")
    kept = kind == "$DATA" and _NAME.fullmatch(name) and name.casefold() not in _OF_THE_SYSTEM
    return name if kept else ""


def _streams(place: str) -> list[str]:
    if sys.platform != "win32":
        return []
    kernel = ctypes.WinDLL("kernel32")
    first, following = getattr(kernel, "FindFirstStreamW", None), getattr(kernel, "FindNextStreamW", None)
    if first is None or following is None:
        return []
    first.restype = ctypes.c_void_p
    told = _Found()
    search = first(ctypes.c_wchar_p(place), 0, ctypes.byref(told), 0)
    if search in (None, _INVALID):
        return []
    names = []
    try:
        while True:
            if name := stream_name(told.name):
                names.append(name)
            if not following(ctypes.c_void_p(search), ctypes.byref(told)):
                return names
    finally:
        kernel.FindClose(ctypes.c_void_p(search))
