"""Plain text: lines that take another file in, and files each line of which is a path."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from dunechest.library.formats.base import Raw, lines_of
from dunechest.library.kinds.schema import References
from dunechest.regex import late

_INCLUDE = late(
    r"""\s*[!#@.]?(?:include|include_relative|import|source)\s+(?:"([^"]+)"|'([^']+)'|<([^>]+)>|(\S(?:.*\S)?))\s*;?\s*""",
    re.IGNORECASE,
)
#: Before the path on a line of a file that holds one.
_WORD = late(r"(?:[A-Za-z][\w-]*:\s+)?(.*\S)")


def read_includes(path: Path, spec: References) -> Iterator[Raw]:
    """Read the lines that take another file in: ``include 2024.journal``, ``#include "names.txt"``."""
    for number, line in lines_of(path):
        found = _INCLUDE.fullmatch(line)
        if found:
            text = next(group for group in found.groups() if group)
            if re.search(r"[./\\]", text) and not re.search(r"[*?{}$()<>|]", text):
                yield Raw(f"line {number}", text)


def read_lines(path: Path, spec: References) -> Iterator[Raw]:
    """Read a file of paths, one a line, each after a word with a colon if there is one: ``gitdir: ../.git``."""
    for number, line in lines_of(path):
        found = _WORD.fullmatch(line.strip())
        if found and not line.startswith("#"):
            yield Raw(f"line {number}", found.group(1))
