"""Which files of an edition are meant, where only single ones are to be restored."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.errors import UsageError
from dunechest.jobs.restore.planning.source import Source
from dunechest.jobs.study.path_patterns import chosen
from dunechest.model.restore import NotDone, RestoreFile, RestoreOptions
from dunechest.names import from_wire, quoted, shown


class SingleFiles(msgspec.Struct, frozen=True):
    """The files that were asked for, those outside the library that they refer to, and what of them the chest has lost."""

    files: tuple[RestoreFile, ...]
    outside: tuple[RestoreFile, ...]
    not_done: tuple[NotDone, ...]


def choose(
    name: str,
    source: Source,
    options: RestoreOptions,
    files: Sequence[RestoreFile],
    outside: Sequence[RestoreFile],
    refused: Sequence[NotDone],
) -> SingleFiles:
    """Return what the patterns of a restore mean.

    Parameters
    ----------
    name : str
        Name of the bag, for the message.
    source : Source
        The edition.
    options : RestoreOptions
        With the patterns.
    files, outside : sequence of RestoreFile
        All files of the library, and those from outside it.
    refused : sequence of NotDone
        What cannot be restored because of its name.

    Raises
    ------
    UsageError
        If a pattern means nothing.
    """
    record = source.record
    origins = {item.stored: from_wire(item.path) for item in record.outside_files}
    called = {file.stored: [file.own] for file in files}
    called |= {file.stored: [origins.get(file.stored, file.stored), file.stored] for file in outside}
    lost = [item for item in (*source.not_done, *refused) if item.fault]
    called |= {f"\0{number}": [item.path.removeprefix(LIBRARY_FILES)] for number, item in enumerate(lost)}
    wanted, missed = chosen(options.files, called)
    if missed:  # a name with a line break, or that is no text, is shown, searched for and pasted in a readable form
        readable = {key: [shown(name) for name in names] for key, names in called.items()}
        more, missed = chosen([shown(name) for name in missed], readable)
        wanted |= more
    if missed:
        edition = f" in edition {record.edition}" if options.edition is not None else ""
        last = missed[0].rstrip("/").rpartition("/")[2]
        raise UsageError(
            f"{shown(name)} has no file {shown(missed[0])!r}{edition}. To find it: dunechest search {quoted(last or missed[0])}"
        )
    kept = tuple(file for file in files if file.stored in wanted)
    own = {file.own for file in kept}
    led_to = wanted | {
        item.stored
        for item in record.outside_files
        if any(from_wire(reference.source) in own for reference in item.references)
    }
    return SingleFiles(
        kept,
        tuple(file for file in outside if file.stored in led_to),
        tuple(item for number, item in enumerate(lost) if f"\0{number}" in wanted),
    )
