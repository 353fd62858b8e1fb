"""Write the tag files of a bag below ``dune/pending/tags``, and prove them."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from blake3 import blake3

from dunechest.bag.manifest import format_line
from dunechest.bag.tags import format_declaration, format_info
from dunechest.chest import records, texts
from dunechest.chest.edition_totals import EditionTotals, edition_line, totals_of
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import (
    DATA,
    DECLARATION,
    FILES,
    HOW_TO_RESTORE,
    INFO,
    LIBRARY,
    MANIFEST,
    PENDING_TAGS,
    TAG_MANIFEST,
    TAGS,
)
from dunechest.chest.records import LibraryRecord, TagRecord
from dunechest.chest.tag_lists import Tag, manifest_of
from dunechest.errors import CutOffError
from dunechest.names import shown
from dunechest.transfer import disk, safe
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask


def write_tags(
    bag: Path,
    name: str,
    library: LibraryRecord,
    files: FileTable,
    *,
    earlier: Mapping[str, Iterable[bytes]] | None = None,
    carried: Iterable[Tag] = (),
    archives: Iterable[str] = (),
    before: Mapping[int, EditionTotals] | None = None,
) -> str:
    """Write and prove all tag files of a new edition.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    name : str
        The bag's name, for the text.
    library : LibraryRecord
        What becomes ``dune/library.json``.
    files : FileTable
        The payload.
    earlier : mapping
        Records of earlier editions to write: by path in the bag, their lines.
    carried : iterable of Tag
        Tag files that are there already, or get there by a rename.
    archives : iterable of str
        Paths in the bag of archives of pieces that are pending already.
    before : mapping
        The totals of earlier editions, by number.

    Returns
    -------
    str
        SHA-512 (hexadecimal) of the tag manifest, which stands for the whole bag.

    Raises
    ------
    CutOffError
        If the drive gives back other bytes than were written.
    OSError
        If it cannot be written.
    """
    odd = sum("%" in path or "\r" in path or "\n" in path for path in files)
    info = bag_info(library, name, len(files), {**(before or {}), library.edition: totals_of(library)})
    tags = [
        _write(bag, MANIFEST, (format_line(digest, DATA + path).encode() for path, digest in files.sha512_each())),
        _write(bag, FILES, map(records.encode_line, files.records())),
        _write(bag, LIBRARY, [records.encode_pretty(library)]),
        _write(bag, HOW_TO_RESTORE, [texts.how_to_restore(library, name, odd)]),
        _write(bag, INFO, [info]),
        _write(bag, DECLARATION, [format_declaration()]),
    ]
    tags += [flushed_tag(bag, path) for path in archives]
    return write_lists(bag, earlier or {}, carried, tags)


def bag_info(library: LibraryRecord, name: str, files: int, totals: Mapping[int, EditionTotals]) -> bytes:
    """Return ``bag-info.txt``: about the bag (RFC 8493, section 2.2.2), and the totals of each edition."""
    return format_info(
        [
            ("Source-Organization", library.origin.machine),
            ("External-Description", f"{library.kind_title}: {library.name}"),
            ("External-Identifier", name),
            ("Bagging-Date", library.archived[:10]),
            ("Bag-Software-Agent", library.archived_with),
            ("Payload-Oxum", f"{library.totals.bytes_stored}.{files}"),
            *(edition_line(number, totals[number]) for number in sorted(totals)),
        ]
    )


def flushed_tag(bag: Path, path: str) -> Tag:
    """Flush a pending tag file that something else has written, and return its entry for the lists."""
    slow, fast, size = hashlib.sha512(), blake3(), 0
    with (bag / PENDING_TAGS / path).open("r+b") as file:
        disk.flush_file(file.fileno())
        while piece := file.read(1 << 20):
            slow.update(piece)
            fast.update(piece)
            size += len(piece)
    return Tag(path, size, slow.hexdigest(), fast.hexdigest())


def write_lists(
    bag: Path, earlier: Mapping[str, Iterable[bytes]], carried: Iterable[Tag], written: Iterable[Tag] = ()
) -> str:
    """Write the records of earlier editions and the two lists of tag files, and prove what was written.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    earlier : mapping
        By path in the bag, the lines of a record.
    carried : iterable of Tag
        Tag files that are there already.
    written : iterable of Tag
        Tag files that are pending already, and not proven.

    Returns
    -------
    str
        SHA-512 (hexadecimal) of the tag manifest.
    """
    fresh = [*written, *(_write(bag, path, lines) for path, lines in earlier.items())]
    tags = sorted((*fresh, *carried), key=lambda tag: tag.path)
    second = [records.encode_line(TagRecord(tag.path, tag.size, tag.blake3, tag.sha512)) for tag in tags]
    fresh.append(_write(bag, TAGS, second))
    top = _write(bag, TAG_MANIFEST, [manifest_of([*tags, fresh[-1]])])
    _prove(bag, [*fresh, top])
    return top.sha512


def _gather(lines: Iterable[bytes]) -> Iterator[bytes]:
    """Join short lines into pieces worth a call each."""
    gathered: list[bytes] = []
    size = 0
    for line in lines:
        gathered.append(line)
        size += len(line)
        if size >= 1 << 20:
            yield b"".join(gathered)
            gathered, size = [], 0
    yield b"".join(gathered)


def _write(bag: Path, path: str, lines: Iterable[bytes]) -> Tag:
    """Write one tag file in the pending folder, whose names nothing reads yet."""
    target = bag / PENDING_TAGS / path
    disk.make_folder(target.parent)
    slow, fast, size = hashlib.sha512(), blake3(), 0
    fd = disk.create(target, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0), 0o644)
    try:
        for piece in _gather(lines):
            slow.update(piece)
            fast.update(piece)
            size += len(piece)
            safe.write_all(fd, piece)
        disk.flush_file(fd)
    finally:
        os.close(fd)
    return Tag(path, size, slow.hexdigest(), fast.hexdigest())


def _prove(bag: Path, tags: list[Tag]) -> None:
    tasks = [DigestTask(os.fsencode(bag / PENDING_TAGS / tag.path), tag.size) for tag in tags]
    for tag, outcome in zip(tags, digest_files(tasks, lambda count: None), strict=True):
        if outcome.state != "ok" or outcome.digests != (bytes.fromhex(tag.blake3),):
            raise CutOffError(
                f"The drive returns other data than was written to it ({tag.path} of {shown(bag.name)}"
                f"{': ' + outcome.why if outcome.why else ''}). Nothing in the chest was changed. "
                "Try another cable or another drive before you trust this one."
            )
