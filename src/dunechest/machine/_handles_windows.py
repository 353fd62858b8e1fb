"""Windows: the system's own list of who uses which files (the Restart Manager's), without opening any of them.

See ``RmStartSession``, ``RmRegisterResources`` and ``RmGetList`` in <restartmanager.h>.
"""

from __future__ import annotations

import ctypes
import itertools
import sys
from collections.abc import Iterable, Iterator

_KEY_LENGTH = 32 + 1
_NAME_LENGTH = 255 + 1
_SERVICE_LENGTH = 63 + 1
#: Files that are asked about at once.
_BATCH = 500
_MORE = 234  # ERROR_MORE_DATA


class _Process(ctypes.Structure):
    """RM_PROCESS_INFO."""

    _fields_ = (
        ("pid", ctypes.c_uint32),
        ("started_low", ctypes.c_uint32),
        ("started_high", ctypes.c_uint32),
        ("name", ctypes.c_wchar * _NAME_LENGTH),
        ("service", ctypes.c_wchar * _SERVICE_LENGTH),
        ("kind", ctypes.c_int),
        ("status", ctypes.c_uint32),
        ("session", ctypes.c_uint32),
        ("restartable", ctypes.c_int),
    )


def users_of(files: Iterable[str]) -> Iterator[tuple[int, str]]:
    """Yield the numbers of processes that have one of some files open, each with a file of the batch in which it was found."""
    pending = iter(files)
    while batch := list(itertools.islice(pending, _BATCH)):
        found = _users(batch)
        if found and len(batch) > 1:
            # Which file it is, is told only by asking for each; a process keeps few open.
            for pid in found:
                yield pid, next((file for file in batch if pid in _users([file])), batch[0])
        else:
            yield from ((pid, batch[0]) for pid in found)


def _users(files: list[str]) -> list[int]:
    if sys.platform != "win32":
        return []
    try:
        library = ctypes.WinDLL("rstrtmgr")
        start, register, ask, end = (
            library.RmStartSession, library.RmRegisterResources, library.RmGetList, library.RmEndSession,
        )  # fmt: skip
    except (OSError, AttributeError):
        return []
    session = ctypes.c_uint32()
    if start(ctypes.byref(session), 0, ctypes.create_unicode_buffer(_KEY_LENGTH)):
        return []
    try:
        names = (ctypes.c_wchar_p * len(files))(*files)
        if register(session, len(files), names, 0, None, 0, None):
            return []
        room = 16
        for _ in range(4):
            needed, count, reasons = ctypes.c_uint32(), ctypes.c_uint32(room), ctypes.c_uint32()
            told = (_Process * room)()
            status = ask(session, ctypes.byref(needed), ctypes.byref(count), told, ctypes.byref(reasons))
            if status == _MORE:
                room = needed.value + 8
                continue
            return [] if status else [told[number].pid for number in range(min(count.value, room))]
        return []
    finally:
        end(session)
