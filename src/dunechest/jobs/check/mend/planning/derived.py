"""The records of a bag as another copy of it would have them: of any edition, with the names of any drive."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping

import msgspec
from blake3 import blake3

from dunechest.bag.manifest import format_line
from dunechest.bag.tags import format_declaration
from dunechest.chest import editions, pieces, records, texts
from dunechest.chest.edition_totals import EditionTotals, totals_of
from dunechest.chest.fitted_names import Fitted, FittedEarlier, fit_edition
from dunechest.chest.layout import (
    DATA,
    DECLARATION,
    FILES,
    HOW_TO_RESTORE,
    INFO,
    LIBRARY,
    MANIFEST,
    TAG_MANIFEST,
    TAGS,
    changes_path,
    edition_path,
)
from dunechest.chest.records import FileRecord, LibraryRecord, TagRecord
from dunechest.chest.tag_lists import Tag, manifest_of
from dunechest.chest.write_tags import bag_info
from dunechest.jobs.copy.image import Held
from dunechest.machine.drives import Limits


def of_the_current(
    record: LibraryRecord, name: str, paths: list[str], totals: Mapping[int, EditionTotals]
) -> dict[str, bytes]:
    """Return the records that follow from the others: the texts, and what is about the bag."""
    odd = sum("%" in path or "\r" in path or "\n" in path for path in paths)
    every = {**totals, record.edition: totals_of(record)}
    return {
        HOW_TO_RESTORE: texts.how_to_restore(record, name, odd),
        INFO: bag_info(record, name, len(paths), every),
        DECLARATION: format_declaration(),
    }


def manifest_from(files: list[FileRecord], sha512: Mapping[str, str]) -> bytes | None:
    """Return the payload manifest of files by path, given the SHA-512 of each BLAKE3; None if one is not known."""
    if not all(file.blake3 in sha512 for file in files):
        return None
    return "".join(format_line(sha512[file.blake3], DATA + file.path) for file in files).encode()


def records_at(source: Held, name: str, limits: Limits, number: int, kept: tuple[int, ...]) -> dict[str, bytes]:
    """Return all records that a bag has with an edition as its current one.

    Parameters
    ----------
    source : Held
        An intact copy that has this edition, be it an earlier one there.
    name : str
        The bag's name.
    limits : Limits
        What the names of the drive can be.
    number : int
        The current edition.
    kept : tuple of int
        Earlier editions that it has; only those that the source has too are told.
    """
    found: dict[str, bytes] = {}
    fits: dict[int, Fitted] = {}
    later: dict[str, FileRecord] | None = None
    files = {path: proven.record for path, proven in source.files.items()}
    told = source.own.told()
    for edition in reversed(source.numbers):
        if edition != source.record.edition:
            editions.step_back(files, editions.changes_of(source.own, edition))
        if edition > number or (edition != number and edition not in kept):
            continue
        record = source.record if edition == source.record.edition else source.own.edition(edition)
        fitted = fit_edition(record, files, limits)
        fits[edition] = fitted
        new = (msgspec.structs.replace(file, path=fitted.name(path)) for path, file in files.items())
        mine = {file.path: file for file in sorted(new, key=lambda file: file.path)}
        if edition == number:
            totals = {n: told[n] for n in kept if n in told and n != number}
            found |= _current(source, fitted.record, name, list(mine.values()), totals)
        elif later is not None:
            lines = editions.differences(mine.values(), later.values())
            found[edition_path(edition)] = records.encode_line(fitted.record)
            found[changes_path(edition)] = b"".join(map(records.encode_line, lines))
        later = mine
    if LIBRARY in found:
        found |= _lists(found, source, fits, limits, number)
    return found


def _current(
    source: Held, record: LibraryRecord, name: str, files: list[FileRecord], totals: Mapping[int, EditionTotals]
) -> dict[str, bytes]:
    found = {
        LIBRARY: records.encode_pretty(record),
        FILES: b"".join(map(records.encode_line, files)),
        **of_the_current(record, name, [file.path for file in files], totals),
    }
    manifest = manifest_from(files, digests_of(source))
    return found if manifest is None else found | {MANIFEST: manifest}


def digests_of(source: Held) -> dict[str, str]:
    """Return the SHA-512 of all files that a bag knows, by BLAKE3."""
    found = {proven.record.blake3: proven.sha512 for proven in source.files.values()}
    found |= {tag.blake3: tag.sha512 for tag in source.earlier.values() if tag.blake3}
    for kept in pieces.kept_in(source.own.at, source.earlier).values():
        found.setdefault(kept.about.blake3, kept.about.sha512)
    return found


def tag_of(path: str, content: bytes) -> Tag:
    """Return the entry of a record for the lists of tag files."""
    return Tag(path, len(content), hashlib.sha512(content).hexdigest(), blake3(content).hexdigest())


def lists_of(tags: list[Tag]) -> dict[str, bytes]:
    """Return the two lists of tag files."""
    every = sorted(tags, key=lambda tag: tag.path)
    second = b"".join(records.encode_line(TagRecord(t.path, t.size, t.blake3, t.sha512)) for t in every)
    return {TAGS: second, TAG_MANIFEST: manifest_of([*every, tag_of(TAGS, second)])}


def _lists(
    found: Mapping[str, bytes], source: Held, fits: Mapping[int, Fitted], limits: Limits, number: int
) -> dict[str, bytes]:
    tags = [tag_of(path, content) for path, content in found.items()]
    below = {path: tag for path, tag in source.earlier.items() if int(path.split("/")[2]) < number}
    names = FittedEarlier(fits, limits).paths(below)
    for path, tag in below.items():
        tags.append(Tag(names.get(path, path), tag.size, tag.sha512, tag.blake3))
    return lists_of(tags)


def candidates(found: Iterator[dict[str, bytes]], path: str) -> Iterator[bytes]:
    """Yield what a record may have held, of several sets of records."""
    for told in found:
        if path in told:
            yield told[path]
