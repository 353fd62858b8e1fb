"""Write the tag files of a bag below ``dune/pending/tags``, prove them, and make the steps of the journal."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from blake3 import blake3

from dunechest.bag.manifest import format_line
from dunechest.bag.tags import format_declaration, format_info
from dunechest.chest import journal, records, texts
from dunechest.chest.bag_records import EditionTotals, Tag, edition_line, manifest_of, totals_of
from dunechest.chest.journal import PENDING, Rename
from dunechest.chest.records import LibraryRecord, TagRecord
from dunechest.chest.shelf import Proven, Shelf
from dunechest.errors import CutOff
from dunechest.names import shown
from dunechest.transfer import disk, safe
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import each_file

PAYLOAD = PENDING + "/payload"
TAGS = PENDING + "/tags"
PROVEN = PENDING + "/proven.jsonl"
FOR = PENDING + "/for.json"
CAPTURES = PENDING + "/captures"


def write_tags(
    bag: Path,
    name: str,
    library: LibraryRecord,
    files: Shelf,
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
    files : Shelf
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
    CutOff
        If the drive gives back other bytes than were written.
    OSError
        If it cannot be written.
    """
    odd = sum("%" in path or "\r" in path or "\n" in path for path in files)
    info = bag_info(library, name, len(files), {**(before or {}), library.edition: totals_of(library)})
    tags = [
        _write(bag, "manifest-sha512.txt", map(_manifest_line, files.by_path())),
        _write(bag, "dune/files.jsonl", map(records.encode_line, files.records())),
        _write(bag, "dune/library.json", [records.encode_pretty(library)]),
        _write(bag, "HOW-TO-RESTORE.txt", [texts.how_to_restore(library, name, odd)]),
        _write(bag, "bag-info.txt", [info]),
        _write(bag, "bagit.txt", [format_declaration()]),
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
    with (bag / TAGS / path).open("r+b") as file:
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
    fresh.append(_write(bag, "dune/tags.jsonl", second))
    top = _write(bag, "tagmanifest-sha512.txt", [manifest_of([*tags, fresh[-1]])])
    _prove(bag, [*fresh, top])
    return top.sha512


def _manifest_line(proven: Proven) -> bytes:
    return format_line(proven.sha512, "data/" + proven.record.path).encode()


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
    target = bag / TAGS / path
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
    tasks = [DigestTask(os.fsencode(bag / TAGS / tag.path), tag.size) for tag in tags]
    for tag, outcome in zip(tags, digest_files(tasks, lambda count: None), strict=True):
        if outcome.state != "ok" or outcome.digests != (bytes.fromhex(tag.blake3),):
            raise CutOff(
                f"The drive does not give back what was written to it ({tag.path} of {shown(bag.name)}"
                f"{': ' + outcome.why if outcome.why else ''}). Nothing in the chest was changed. "
                "Try another cable or drive before you trust this one."
            )


def commit_new(bag: Path) -> None:
    """Decide and carry out the change that makes a new bag of what is pending.

    The payload goes into place as one folder, then each tag file, the declaration last: a
    folder without one is not taken for a bag.
    """
    steps = tag_steps(bag)
    declaration = tuple(step for step in steps if step.new == "bagit.txt")
    others = tuple(step for step in steps if step.new != "bagit.txt")
    commit(bag, ((Rename(PAYLOAD, "data"),), others, declaration))


def commit(bag: Path, phases: tuple[journal.Phase, ...]) -> None:
    """Decide a change, and carry it out."""
    phases = tuple(phase for phase in phases if phase)
    journal.refuse_if_impossible(bag, phases)
    journal.write(bag, phases)
    journal.carry_out(bag, phases)


def tag_steps(bag: Path) -> journal.Phase:
    """Return the steps that put the tag files in place that are pending."""
    tags = bag / TAGS
    paths = sorted(file.path for file in each_file(str(tags)))
    return tuple(Rename(f"{TAGS}/{path}", path) for path in paths)


def next_edition_phases(
    bag: Path,
    *,
    leaving: Mapping[str, str],
    moved: Mapping[str, str],
    arriving: Iterable[str],
    folders: Iterable[str],
    old_folders: Iterable[str],
) -> tuple[journal.Phase, ...]:
    """Return the phases that turn a bag into its next edition, without the tag files.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    leaving : mapping
        What leaves ``data/``: path below it, and path in the bag where it goes.
    moved : mapping
        What gets another name: old and new path below ``data/``.
    arriving : iterable of str
        What comes from the pending payload: paths below ``data/``.
    folders, old_folders : iterable of str
        Folders below ``data/`` that are to be there afterwards, and those that were.
    """
    between = journal.MOVED
    out = [Rename(f"data/{old}", new) for old, new in leaving.items()]
    out += [Rename(f"data/{old}", f"{between}/{n}") for n, old in enumerate(moved)]
    wanted = set(folders)
    gone = sorted(set(old_folders) - wanted, key=lambda path: -path.count("/"))
    tidy = [Rename(f"data/{path}", "") for path in gone]
    made = [Rename("", f"data/{path}") for path in sorted(wanted - set(old_folders))]
    into = [Rename(f"{PAYLOAD}/{path}", f"data/{path}") for path in arriving]
    into += [Rename(f"{between}/{n}", f"data/{new}") for n, new in enumerate(moved.values())]
    return (tuple(out), tuple(tidy), tuple(made), tuple(into))
