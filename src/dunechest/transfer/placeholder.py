"""Placeholders: the name is here, the bytes are not. Nothing is fetched by asking."""

from __future__ import annotations

import os
import sys

if sys.platform == "win32":
    from dunechest.transfer._placeholder_windows import LEAST, is_placeholder
elif sys.platform == "darwin":
    from dunechest.transfer._placeholder_macos import LEAST, is_placeholder
else:
    from dunechest.transfer._placeholder_linux import LEAST, is_placeholder

__all__ = ["LEAST", "is_placeholder", "stands_for_another"]

#: How a binary property list begins, and bytes that one with little more than a name has at most.
_BINARY_LIST, _SMALL = b"bplist00", 4096


def stands_for_another(path: str, size: int) -> bool:
    """Whether a hidden file stands for another one of that folder, whose bytes a service keeps elsewhere.

    On macOS ``NAME`` is then not there, and ``.NAME.ENDING`` is: a property list that has the name (NSURLNameKey).
    """
    name = os.path.basename(path)
    wanted = name[1:].rpartition(".")[0]
    if not name.startswith(".") or not wanted or not 40 < size < _SMALL:
        return False
    try:
        with open(path, "rb") as file:  # noqa: PTH123 - many paths are asked about
            content = file.read(_SMALL)
    except OSError:
        return False
    if not content.startswith(_BINARY_LIST):
        return False
    import plistlib
    from xml.parsers.expat import ExpatError

    try:
        told = plistlib.loads(content)
    except (ValueError, OverflowError, RecursionError, plistlib.InvalidFileException, ExpatError):
        return False
    return isinstance(told, dict) and told.get("NSURLNameKey") == wanted
