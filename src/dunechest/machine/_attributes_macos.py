"""macOS: what the Finder and programs keep beside a file's bytes: tags, comments, icons, and the resource fork.

Python has no way to them there, so the calls of <sys/xattr.h> are made directly.
"""

from __future__ import annotations

import base64
import binascii
import ctypes
import errno
import functools
import os
from typing import Any

#: What a person sees or a program needs; the rest is the system's own (quarantine, provenance, last used ...).
_OF_A_PERSON = (
    "com.apple.FinderInfo",
    "com.apple.ResourceFork",
    "com.apple.metadata:_kMDItemUserTags",
    "com.apple.metadata:kMDItemFinderComment",
    "com.apple.metadata:kMDItemWhereFroms",
    "com.apple.TextEncoding",
)
#: Attributes of a person on Linux, which a Mac can hold too.
_LINUX = "user."
#: Bytes of the longest list of names, and of the longest value that is read.
_NAMES, _LONGEST = 1 << 16, 8 << 20
#: XATTR_NOFOLLOW
_NOFOLLOW = 0x0001


@functools.cache
def _libc() -> Any:
    return ctypes.CDLL(None, use_errno=True)


def read(path: bytes) -> tuple[tuple[str, str], ...]:
    """Return the attributes of a file or folder, by name; none if it has none."""
    libc = _libc()
    names = ctypes.create_string_buffer(_NAMES)
    length = libc.listxattr(path, names, ctypes.c_size_t(_NAMES), ctypes.c_int(_NOFOLLOW))
    if length <= 0:
        return ()
    found = []
    for name in names.raw[:length].split(b"\0"):
        text = name.decode("utf-8", "replace")
        if not is_of_a_person(text):
            continue
        size = libc.getxattr(path, name, None, ctypes.c_size_t(0), ctypes.c_uint32(0), ctypes.c_int(_NOFOLLOW))
        if size < 0:
            continue
        value = ctypes.create_string_buffer(min(size, _LONGEST) + 1)
        got = libc.getxattr(path, name, value, ctypes.c_size_t(size), ctypes.c_uint32(0), ctypes.c_int(_NOFOLLOW))
        if got >= 0 and got <= _LONGEST:
            found.append((text, base64.b64encode(value.raw[:got]).decode()))
    return tuple(sorted(found))


def write(path: bytes, name: str, value: str) -> str:
    """Give a file or folder one attribute; return in words why that cannot be, or nothing."""
    if not is_of_a_person(name):
        return "it is none of a person's"
    try:
        content = base64.b64decode(value, validate=True)
    except (binascii.Error, ValueError):
        return "its value cannot be read"
    length, options = ctypes.c_size_t(len(content)), ctypes.c_int(_NOFOLLOW)
    if _libc().setxattr(path, name.encode(), content, length, ctypes.c_uint32(0), options):
        number = ctypes.get_errno()
        return "the filesystem here keeps none" if number == errno.ENOTSUP else os.strerror(number)
    return ""


def is_of_a_person(name: str) -> bool:
    """Whether an attribute is kept and given back.

    >>> is_of_a_person("com.apple.FinderInfo"), is_of_a_person("com.apple.quarantine"), is_of_a_person("user.note")
    (True, False, True)
    """
    return name in _OF_A_PERSON or (name.startswith(_LINUX) and name.isprintable())
