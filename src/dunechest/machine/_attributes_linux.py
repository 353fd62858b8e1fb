"""Extended attributes and access lists where the system has them as Linux does."""

from __future__ import annotations

import base64
import binascii
import errno
import os
import struct
import sys

from dunechest.machine import _accounts

assert sys.platform == "linux"

#: What the system keeps for itself, or what would give rights that nobody may take from a drive, is not read.
_OF_A_PERSON = "user."
_LISTS = {"access": "system.posix_acl_access", "default": "system.posix_acl_default"}
_NAMES = {name: short for short, name in _LISTS.items()}
#: Bytes of the longest value.
_LONGEST = 1 << 16
_NONE = 0xFFFFFFFF
#: Entries of an access list (POSIX 1003.1e draft 17, as Linux keeps them: version 2, then tag, rights, number).
_USER_OBJ, _USER, _GROUP_OBJ, _GROUP, _MASK, _OTHER = 1, 2, 4, 8, 16, 32
_WORDS = {
    "user": (_USER_OBJ, _USER),
    "group": (_GROUP_OBJ, _GROUP),
    "mask": (_MASK, _MASK),
    "other": (_OTHER, _OTHER),
}


def read(path: bytes) -> tuple[tuple[str, str], ...]:
    """Return the attributes of a file or folder, by name; none if it has none, or the filesystem knows of none."""
    try:
        names = os.listxattr(path, follow_symlinks=False)
    except OSError:
        return ()
    found = []
    for name in names:
        if not name.startswith(_OF_A_PERSON) and name not in _NAMES:
            continue
        try:
            value = os.getxattr(path, name, follow_symlinks=False)
        except OSError:
            continue
        if len(value) > _LONGEST or not name.isprintable():
            continue
        if name in _NAMES:
            words = _words_of(value)
            if words:
                found.append((_NAMES[name], words))
        else:
            found.append((name, base64.b64encode(value).decode()))
    return tuple(sorted(found))


def write(path: bytes, name: str, value: str) -> str:
    """Give a file or folder one attribute; return in words why that cannot be, or nothing.

    An attribute that only the system may give is refused, whatever a record says.
    """
    if name in _LISTS:
        content, missing = _list_of(value)
        if content is None:
            return missing or "it is no access list"
        real = _LISTS[name]
    elif name.startswith(_OF_A_PERSON) and name.isprintable() and "\0" not in name:
        try:
            content, missing = base64.b64decode(value, validate=True), ""
        except (binascii.Error, ValueError):
            return "its value cannot be read"
        real = name
    else:
        return "it is none of a person's"
    try:
        os.setxattr(path, real, content, follow_symlinks=False)
    except OSError as error:
        if error.errno == errno.EOPNOTSUPP:
            return "the filesystem here keeps none"
        return error.strerror or "the system refuses"
    return missing


def _words_of(content: bytes) -> str:
    """Return an access list in words with names, ``user::rw-,user:wren:r--,...``; empty if it is none."""
    if len(content) < 4 or (len(content) - 4) % 8 or struct.unpack_from("<I", content)[0] != 2:
        return ""
    words = []
    for tag, rights, number in struct.iter_unpack("<HHI", content[4:]):
        kind = next((word for word, tags in _WORDS.items() if tag in tags), None)
        if kind is None:
            return ""
        name = ""
        if tag == _USER:
            name = _accounts.user_name(number)
        elif tag == _GROUP:
            name = _accounts.group_name(number)
        letters = "".join(letter if rights & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))
        words.append(f"{kind}:{name}:{letters}")
    return ",".join(words)


def _list_of(words: str) -> tuple[bytes | None, str]:
    """Return an access list from words, and what of it cannot be so here; no list if nothing of it can."""
    entries: list[tuple[int, int, int]] = []
    missing = []
    for word in words.split(","):
        kind, _, rest = word.partition(":")
        name, _, letters = rest.rpartition(":")
        if kind not in _WORDS or len(letters) != 3 or set(letters) - set("rwx-"):
            return None, ""
        rights = sum(bit for letter, bit in (("r", 4), ("w", 2), ("x", 1)) if letter in letters)
        number: int | None = _NONE
        if name and kind in ("user", "group"):
            number = _accounts.user_number(name) if kind == "user" else _accounts.group_number(name)
            if number is None:
                missing.append(f"there is no {kind} {name} here")
                continue
        entries.append(
            (_WORDS[kind][bool(name) and kind in ("user", "group")], rights, number if number is not None else _NONE)
        )
    named = [entry for entry in entries if entry[0] in (_USER, _GROUP)]
    why = "; ".join(missing)
    if missing and not named:
        return None, why
    entries.sort()
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries), why
