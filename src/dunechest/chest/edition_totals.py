"""The totals of each edition, as they stand in its record and in a line of ``bag-info.txt``.

Grammar of the line::

    Dune-Chest-Edition: 2, 120 files, 48211 bytes, 14 folders, 3 links, 2 parts, 17 references

A count is held against these, never against the list that it was counted from.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from dunechest.chest.records import LibraryRecord
from dunechest.regex import late

_LABEL = "Dune-Chest-Edition"


class EditionTotals(msgspec.Struct, frozen=True):
    """The totals of an edition, as recorded when it was archived."""

    files: int
    bytes: int
    folders: int
    links: int
    parts: int
    references: int


_TOTALS = late(
    r"(\d{1,9}), (\d{1,15}) files, (\d{1,18}) bytes, (\d{1,15}) folders, (\d{1,15}) links, (\d{1,15}) parts, "
    r"(\d{1,15}) references\Z"
)


def totals_of(library: LibraryRecord) -> EditionTotals:
    """Return the totals of an edition from its record."""
    counts = library.references
    references = counts.inside + counts.outside_files + counts.missing + counts.away
    return EditionTotals(
        library.totals.files_stored,
        library.totals.bytes_stored,
        len(library.folders),
        len(library.links),
        len(library.parts),
        references,
    )


def edition_line(number: int, totals: EditionTotals) -> tuple[str, str]:
    """Return label and value of the line of ``bag-info.txt`` about an edition."""
    return _LABEL, (
        f"{number}, {totals.files} files, {totals.bytes} bytes, {totals.folders} folders, {totals.links} links, "
        f"{totals.parts} parts, {totals.references} references"
    )


def edition_lines(info: Iterable[tuple[str, str]]) -> dict[int, EditionTotals]:
    """Return what ``bag-info.txt`` says of each edition."""
    found = {}
    for label, value in info:
        if label == _LABEL and (line := _TOTALS.match(value)):
            number, *rest = map(int, line.groups())
            found[number] = EditionTotals(*rest)
    return found
