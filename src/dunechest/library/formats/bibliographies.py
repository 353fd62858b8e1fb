"""Bibliographies: the attachments that BibTeX, RIS and CSL-JSON entries name."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from dunechest.library.formats.base import Raw, UnreadableError, lines_of, text_of
from dunechest.library.kinds.schema import References
from dunechest.regex import late

_BIBTEX_FIELDS = ("file", "pdf", "localfile")
RIS_FIELDS = ("L1", "L2", "L3", "L4", "LK")
_CSL_FIELDS = ("file", "files", "attachment", "attachments", "path", "localPath")


#: So many blocks without an end, and it is no bibliography.
_TORN = 10


class Entry(NamedTuple):
    """One BibTeX entry: its key, and its fields by name in small letters."""

    key: str
    fields: dict[str, str]


_START = late(r"@\s*(\w+)\s*([{(])\s*")
_FIELD = late(r"\s*([A-Za-z][\w.:-]*)\s*=\s*")


def bibtex_entries(text: str) -> Iterator[Entry]:
    """Yield the entries of a BibTeX text; what is no entry is passed over.

    A value is in braces, in quotes, or plain; pieces joined by ``#`` become one.
    """
    return (entry for entry, _, _ in bibtex_spans(text))


def bibtex_spans(text: str) -> Iterator[tuple[Entry, int, int]]:
    """Yield the entries of a BibTeX text, and from where to where each is written."""
    place = torn = 0
    while torn < _TORN and (found := _START.search(text, place)):
        place = found.end()
        if found.group(1).lower() in ("comment", "preamble", "string"):
            closed = _closing(text, place)
            torn += closed is None  # each costs a look at all the rest
            place = closed or place
            continue
        comma = re.compile(r"([^,{}\s]*)\s*,").match(text, place)
        if comma is None:
            continue
        fields: dict[str, str] = {}
        place = comma.end()
        while field := _FIELD.match(text, place):
            value, place = _value(text, field.end())
            fields.setdefault(field.group(1).lower(), value)
            while place < len(text) and text[place] in ", \t\r\n":
                place += 1
        end = place
        while end < len(text) and text[end] in " \t\r\n":
            end += 1
        if end < len(text) and text[end] in "})":
            place = end + 1
        yield Entry(comma.group(1), fields), found.start(), place


def bibtex_fields(text: str, spec: References) -> Iterator[tuple[int, int]]:
    """Yield from where to where the values of attachment fields are written."""
    wanted = {field.lower() for field in spec.fields or _BIBTEX_FIELDS}
    for _, start, end in bibtex_spans(text):
        place = text.find(",", start, end)
        while 0 <= place < end and (field := _FIELD.match(text, place + 1 if text[place] == "," else place)):
            first = field.end()
            _, place = _value(text, first)
            if field.group(1).lower() in wanted:
                yield first, place
            while place < end and text[place] in " \t\r\n":
                place += 1


def _closing(text: str, place: int) -> int | None:
    """Return the place after the brace that closes the one before `place`."""
    depth = 1
    for found in re.compile(r"[{}]").finditer(text, place):
        depth += 1 if found.group() == "{" else -1
        if not depth:
            return found.end()
    return None


def _value(text: str, place: int) -> tuple[str, int]:
    pieces: list[str] = []
    while place < len(text):
        if text[place] == "{":
            end = _closing(text, place + 1)
            if end is None:
                return "".join(pieces), len(text)
            pieces.append(text[place + 1 : end - 1])
            place = end
        elif text[place] == '"':
            end = place + 1
            depth = 0
            while end < len(text) and (text[end] != '"' or depth):
                depth += {"{": 1, "}": -1}.get(text[end], 0)
                end += 1
            pieces.append(text[place + 1 : end])
            place = end + 1
        else:
            plain = re.compile(r"[^,\s{}#]*").match(text, place)
            assert plain is not None
            pieces.append(plain.group())
            place = plain.end()
        joined = re.compile(r"\s*#\s*").match(text, place)
        if joined is None:
            break
        place = joined.end()
    return "".join(pieces), place


def read_bibtex(path: Path, spec: References) -> Iterator[Raw]:
    """Read the attachments of a BibTeX file: plain paths, or ``description:path:type`` with ``;`` between."""
    wanted = spec.fields or _BIBTEX_FIELDS
    for entry in bibtex_entries(text_of(path)):
        for field in wanted:
            if value := entry.fields.get(field.lower(), "").strip():
                for attachment in attachments(value):
                    yield Raw(f"entry {entry.key}", attachment)


def attachments(value: str) -> list[str]:
    r"""Return the paths in the value of an attachment field.

    >>> attachments("a.pdf"), attachments(r"Scan:b\:2.pdf:PDF;:c.pdf:PDF"), attachments("C:\\x\\d.pdf")
    (['a.pdf'], ['b:2.pdf', 'c.pdf'], ['C:\\x\\d.pdf'])
    """
    found = []
    for piece in re.split(r"(?<!\\);", value):
        parts = re.split(r"(?<!\\):", piece)
        if len(parts) == 3 and not re.fullmatch(r"\s*[A-Za-z]\s*", parts[0]):
            path = re.sub(r"\\([:;\\])", r"\1", parts[1])
        elif len(parts) == 4 and re.fullmatch(r"[A-Za-z]", parts[1]):  # a path with a drive letter
            path = f"{parts[1]}:{parts[2]}"
        else:
            path = piece
        if path.strip():
            found.append(path.strip())
    return found


def read_ris(path: Path, spec: References) -> Iterator[Raw]:
    """Read the attachments of a RIS file: two-letter tags, two blanks, a hyphen."""
    wanted = spec.fields or RIS_FIELDS
    for number, line in lines_of(path):
        found = re.fullmatch(r"([A-Z][A-Z0-9])  ?-\s?(.*)", line.strip())
        if found and found.group(1) in wanted:
            for piece in found.group(2).split(";"):
                if piece.strip():
                    yield Raw(f"line {number}", piece.strip(), "://" in piece)


def read_csl(path: Path, spec: References) -> Iterator[Raw]:
    """Read the attachments of a CSL-JSON file: an array of items; the standard names no field for them."""
    try:
        items = json.loads(text_of(path))
    except (ValueError, RecursionError) as error:
        raise UnreadableError(f"it is not JSON: {error}") from error
    wanted = frozenset(spec.fields or _CSL_FIELDS)
    for index, item in enumerate(items if isinstance(items, list) else [], start=1):
        if isinstance(item, dict):
            name = str(item.get("id", index))
            for field in sorted(wanted & item.keys()):
                for text in _paths(item[field], wanted):
                    yield Raw(f"item {name}", text, "://" in text)


def _paths(value: Any, wanted: frozenset[str]) -> Iterator[str]:
    if isinstance(value, str) and value.strip():
        yield value.strip()
    elif isinstance(value, list):
        for inner in value:
            yield from _paths(inner, wanted)
    elif isinstance(value, dict):
        for key, inner in value.items():
            if key in wanted:
                yield from _paths(inner, wanted)
