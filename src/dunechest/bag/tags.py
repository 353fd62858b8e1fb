"""The bag declaration ``bagit.txt`` (RFC 8493, section 2.1.1) and ``bag-info.txt`` (section 2.2.2).

Both are lines of ``Label: value``. In ``bag-info.txt`` a line that begins with
white space continues the value before it, and a label may stand several times.
"""

from __future__ import annotations

import codecs
from collections.abc import Iterable

import msgspec

from dunechest.bag.manifest import Problem, split_lines
from dunechest.errors import BagUnusableError
from dunechest.names import shown
from dunechest.regex import late

#: Just as section 2.1.1 has it: two lines, in this order, and nothing else.
_EXACT = late(rb"BagIt-Version: \d+\.\d+(?:\r\n|\n|\r)Tag-File-Character-Encoding: [A-Za-z0-9_.:-]+(?:\r\n|\n|\r)?\Z")
_DECLARATION = late(r"BagIt-Version: ?(\d+)\.(\d+)\s*\n+Tag-File-Character-Encoding: ?([A-Za-z0-9_.:-]+)\s*\Z")
_OXUM = late(r"(\d{1,18})\.(\d{1,18})\Z")


class Declaration(msgspec.Struct, frozen=True):
    """What ``bagit.txt`` declares: version as two numbers, and the encoding of the tag files.

    `odd` says in what it differs from the form that RFC 8493 asks for, though it can be understood.
    """

    version: tuple[int, int] = (1, 0)
    encoding: str = "UTF-8"
    odd: str = ""

    @property
    def strict(self) -> bool:
        """Whether it claims to keep RFC 8493 itself, and not one of the drafts before it."""
        return self.version >= (1, 0)


def format_declaration() -> bytes:
    """Return ``bagit.txt`` of a bag of version 1.0 in UTF-8."""
    return b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"


def parse_declaration(content: bytes) -> Declaration:
    """Read ``bagit.txt``.

    Raises
    ------
    BagUnusableError
        If it is not a declaration, or names a version or encoding not known here.
    """
    text = content.decode("utf-8", "replace").removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")
    found = _DECLARATION.match(text)
    if found is None:
        raise BagUnusableError("bagit.txt is not a bag declaration: it is torn, or something else has that name.")
    version = (int(found.group(1)[:6]), int(found.group(2)[:6]))
    if version > (1, 0):
        raise BagUnusableError(
            f"The bag declares BagIt version {version[0]}.{version[1]}; versions up to 1.0 are known here."
        )
    try:
        codec = codecs.lookup(found.group(3))
    except LookupError:
        codec = None
    if codec is None or not codec._is_text_encoding:
        raise BagUnusableError(f"The bag's tag files are in the unknown encoding {shown(found.group(3))!r}.")
    odd = ""
    if content.startswith(codecs.BOM_UTF8):
        odd = "it begins with a byte order mark, which RFC 8493 forbids"
    elif _EXACT.match(content) is None:
        odd = "it has more or other lines than the two that RFC 8493 asks for"
    return Declaration(version, found.group(3), odd)


def format_info(pairs: Iterable[tuple[str, str]]) -> bytes:
    """Return ``bag-info.txt``: one line a pair; line breaks in a value become spaces."""
    lines = []
    for label, value in pairs:
        flat = " ".join(value.split())
        lines.append(f"{label}: {flat}\n")
    return "".join(lines).encode()


def parse_info(text: str, *, strict: bool = False) -> tuple[list[tuple[str, str]], list[Problem]]:
    """Read ``bag-info.txt`` into pairs, in order, labels as written.

    With `strict` all that RFC 8493 asks for (section 2.2.2) is a problem where it is not kept.
    """
    pairs: list[tuple[str, str]] = []
    problems: list[Problem] = []
    for number, line in enumerate(split_lines(text.removeprefix("\ufeff")), start=1):
        if not line.strip():
            continue
        if line[0] in " \t" and pairs:
            label, value = pairs[-1]
            pairs[-1] = (label, f"{value} {line.strip()}")
            continue
        label, colon, value = line.partition(":")
        if not colon or not label.strip():
            problems.append(Problem("bag-info.txt", number, "it is not a label and a value"))
            continue
        if strict and label != label.strip():
            problems.append(Problem("bag-info.txt", number, "the label begins or ends with white space"))
        if strict and value[:1] not in (" ", "\t"):
            problems.append(
                Problem("bag-info.txt", number, "there is no white space between the colon and the value")
            )
        name = label.strip().lower()
        if name == "payload-oxum":
            if strict and any(known.lower() == name for known, _ in pairs):
                problems.append(Problem("bag-info.txt", number, "Payload-Oxum is there more than once"))
            if _OXUM.match(value.strip()) is None:
                problems.append(
                    Problem("bag-info.txt", number, "Payload-Oxum is not a number of bytes and one of files")
                )
        pairs.append((label.strip(), value.strip()))
    return pairs, problems


def oxum(pairs: Iterable[tuple[str, str]]) -> tuple[int, int] | None:
    """Return Payload-Oxum as bytes and number of files, or None where it is missing or torn."""
    for label, value in pairs:
        if label.lower() == "payload-oxum" and (found := _OXUM.match(value)):
            return int(found.group(1)), int(found.group(2))
    return None
