"""Files that operating systems leave in every folder that a person looks into.

They belong to nobody's library, and the system makes them again. In a chest they are no damage, and in a library no
change. A name alone decides nothing: a person's file may be called so too, so the beginning of a file is looked at.
"""

from __future__ import annotations

import os
import re
import stat
import struct
from pathlib import Path

from dunechest.regex import late

#: Folders at the top of a drive, with what a system keeps of that drive: indexes, logs, and what was thrown away.
_FOLDERS = frozenset(
    {
        ".spotlight-v100",
        ".fseventsd",
        ".trashes",
        ".temporaryitems",
        ".documentrevisions-v100",
        "system volume information",
        "$recycle.bin",
    }
)
_TRASH = late(r"\.trash-\d+")
#: What is kept beside a file ``NAME`` on a drive that has no room for it in the file: ``._NAME`` (AppleDouble, RFC 1740).
_BESIDE, _BESIDE_BEGINS = "._", late(rb"\x00\x05\x16\x07\x00[\x01\x02]\x00\x00")
_RESOURCES, _EMPTY_RESOURCES = 2, 286
_MOST_ENTRIES, _MOST_KIND, _SLACK = 16, 15, 4096
#: File names and how their content begins; of text, what one of its lines is.
_BINARY = {".ds_store": b"\x00\x00\x00\x01Bud1", "thumbs.db": b"\xd0\xcf\x11\xe0", "ehthumbs.db": b"\xd0\xcf\x11\xe0"}
_TEXT = {
    "desktop.ini": late(rb"^\[(\.ShellClassInfo|LocalizedFileNames|ViewState|\{)", re.MULTILINE),
    ".directory": late(rb"^(\[Desktop Entry\]|Timestamp=\d{4},|ViewMode=\d|SortRole=\w)", re.MULTILINE),
}
_FIRST = frozenset(first for name in (_BESIDE, *_BINARY, *_TEXT) for first in (name[0], name[0].upper()))
_LOOKED_AT = 4096
_READING = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
#: What is said of them.
WHY = "an operating system's own file, which it makes again"


def may_be(name: str) -> bool:
    """Whether a file of that name may be one of a system's own; its content is to be asked then.

    >>> may_be(".DS_Store"), may_be("._tern.jpg"), may_be("tern.jpg")
    (True, True, False)
    """
    if name[:1] not in _FIRST:  # of half a million names, all but a few
        return False
    folded = name.lower()
    return name.startswith(_BESIDE) or folded in _BINARY or folded in _TEXT


def is_system_folder(name: str) -> bool:
    """Whether a folder of that name holds what a system keeps of a drive."""
    folded = name.lower()
    return folded in _FOLDERS or _TRASH.fullmatch(folded) is not None


def is_system_file(path: str | os.PathLike[str]) -> bool:
    """Whether a file is one of a system's own, by its name and by how it begins. False if it cannot be read."""
    name = os.path.basename(os.fspath(path))
    if not may_be(name):
        return False
    try:
        if not stat.S_ISREG(os.lstat(path).st_mode):
            return False
        fd = os.open(path, _READING)
        try:
            info = os.fstat(fd)
            content = os.read(fd, _LOOKED_AT) if stat.S_ISREG(info.st_mode) else b""
        finally:
            os.close(fd)
    except (OSError, ValueError):
        return False
    folded = name.lower()
    if folded in _TEXT:
        plain = content.replace(b"\x00", b"").removeprefix(b"\xff\xfe").removeprefix(b"\xef\xbb\xbf")
        return _TEXT[folded].search(plain.replace(b"\r", b"\n")) is not None
    if folded in _BINARY:
        return content.startswith(_BINARY[folded])
    return _keeps_marks_alone(content, info.st_size)


def _keeps_marks_alone(beside: bytes, size: int) -> bool:
    """Whether a file is what a Mac keeps beside another one, in good order, and has no content of its own.

    RFC 1740, section 4 (and AppleSingle/AppleDouble formats, 1990): the magic number and the version, 16 bytes without a
    meaning, the number of entries, and of each its kind, place and length. Kind 2 is the resource fork: some old programs
    have all their content there; the system itself writes one of 286 bytes with nothing in it. What names no such entries,
    or goes on behind them, is something else, and somebody's.
    """
    if not _BESIDE_BEGINS.match(beside):
        return False
    count = int.from_bytes(beside[24:26])
    end = 26 + 12 * count
    if count > _MOST_ENTRIES or len(beside) < end:
        return False
    for kind, place, length in struct.iter_unpack(">III", beside[26:end]):
        if not 1 <= kind <= _MOST_KIND or place + length > size:
            return False
        if kind == _RESOURCES and length > _EMPTY_RESOURCES:
            return False
        end = max(end, place + length)
    return size - end <= _SLACK


def is_rebuildable(name: str) -> bool:
    """Whether a system makes a file of its own again with all that was in it: not so what belongs to another file."""
    return not name.startswith(_BESIDE)


def is_of_system(folder: Path, path: str) -> bool:
    """Whether something below a folder is a system's own, or lies in one of its folders."""
    return any(is_system_folder(piece) for piece in path.split("/")) or is_system_file(folder / path)
