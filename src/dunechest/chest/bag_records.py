"""The records of a bag, read through this module alone, and each believed only when a digest proves it.

The digests of a bag's tag files are written down in two lists: ``tagmanifest-sha512.txt`` has their SHA-512, and
``dune/tags.jsonl`` has their size, BLAKE3 and the same SHA-512. A record is proven when the digest in either list
is its own. The lists prove each other: the tag manifest has the digest of ``dune/tags.jsonl``, and all of the tag
manifest can be written again from ``dune/tags.jsonl``, byte for byte.

The totals of each edition are written down twice too: in its `LibraryRecord`, and in a line of ``bag-info.txt``::

    Dune-Chest-Edition: 2, 120 files, 48211 bytes, 14 folders, 3 links, 2 parts, 17 references

A count is held against these, never against the list that it was counted from.
"""

from __future__ import annotations

import hashlib
import io
import os
import re
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from blake3 import blake3

from dunechest.bag import tags as tag_files
from dunechest.bag.bag import BagListing, spelled_as
from dunechest.bag.manifest import decode_path
from dunechest.chest import records
from dunechest.chest.edition_totals import EditionTotals, edition_lines, totals_of
from dunechest.chest.layout import (
    ALWAYS,
    DATA,
    EARLIER,
    EDITIONS,
    FILES,
    INFO,
    JOURNAL,
    LIBRARY,
    MANIFEST,
    TAG_MANIFEST,
    TAGS,
    changes_path,
    edition_path,
)
from dunechest.chest.pending_view import PendingView, view_of
from dunechest.chest.records import LibraryRecord
from dunechest.chest.tag_lists import RecordFault, TagLists, reconcile
from dunechest.errors import ChestUnusableError, RecordDamagedError
from dunechest.names import shown
from dunechest.paths import folded, takes_other_forms
from dunechest.regex import late
from dunechest.transfer import safe

#: Bytes; a longer list of tag files, or record, is not one of ours.
_MOST = 1 << 30
_EDITION_FOLDER = late(re.escape(EDITIONS) + r"/(\d{4,9})/library\.json\Z")


#: A line of a manifest: digest, two blanks, path (RFC 8493, section 2.1.3).
_LISTED = late(rb"^[0-9a-f]{128}[ \t]+(\S.*)$", re.MULTILINE)


class _Hashing(io.RawIOBase):
    """An open file whose bytes are digested on their way."""

    def __init__(self, fd: int) -> None:
        self._fd = fd
        self.fast = blake3()
        self.size = 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer).cast("B")
        data = os.read(self._fd, len(view))
        view[: len(data)] = data
        self.fast.update(data)
        self.size += len(data)
        return len(data)

    def close(self) -> None:
        if not self.closed:
            os.close(self._fd)
        super().close()


_Record = TypeVar("_Record", bound=msgspec.Struct)


class BagRecords:
    """The records of one bag of our own.

    Parameters
    ----------
    bag : Path
        The bag's folder.

    Attributes
    ----------
    view : PendingView
        Where its files lie, if a decided change has not been carried out yet.
    """

    def __init__(self, bag: Path) -> None:
        self.bag = bag
        self.view: PendingView = view_of(bag)
        self._lists: TagLists | None = None
        self._proven: dict[str, RecordFault | None] = {}
        self._listing: BagListing | None = None
        self._spellings: dict[str, str] | None = None

    def at(self, path: str) -> Path:
        """Return where a file of the bag lies."""
        return self.view.at(path)

    @property
    def lying(self) -> BagListing:
        """Everything in the bag's folder, listed once."""
        if self._listing is None:
            self._listing = self.view.lying()
            if takes_other_forms(self._listing.files, self.bag):
                self._listing = spelled_as(self._listing, self._named(), self.bag)
        return self._listing

    def other_spelling(self, path: str) -> str | None:
        """Return under which name a payload file lies that is missed under its own; None if there is none.

        Whoever copies a chest by a program that writes accents in its own form, or renames a folder with other capitals,
        has the same files under names that no list has. Only where one missing name and one such name belong together is
        it given; whether it is that file, its digest decides.
        """
        if self._spellings is None:
            listed = {name for name in self._named() if name.startswith(DATA)}
            missing: dict[str, list[str]] = {}
            strange: dict[str, list[str]] = {}
            for names, found in (
                (listed - self.lying.files.keys(), missing),
                ({name for name in self.lying.files if name.startswith(DATA)} - listed, strange),
            ):
                for name in names:
                    found.setdefault(folded(name), []).append(name)
            self._spellings = {
                ours: strange[form][0]
                for form, (ours, *others) in missing.items()
                if not others and len(strange.get(form, ())) == 1
            }
        return self._spellings.get(path)

    def finds(self, path: str) -> bool:
        """Whether the drive has a file under this very name, listed so or otherwise."""
        try:
            return stat.S_ISREG(os.lstat(self.at(path)).st_mode)
        except (OSError, ValueError):
            return False

    def _named(self) -> Iterator[str]:
        """Yield the names of all files that any list of the bag has, whether the list is proven or not."""
        yield from self.lists.tags
        for content, line in ((self._plain(MANIFEST), _LISTED), (self._plain(TAG_MANIFEST), _LISTED)):
            for name in line.findall(content or b""):
                yield decode_path(name.decode("utf-8", "surrogateescape"))
        try:
            yield from (
                DATA + line.path for _, line in records.read_lines(self.at(FILES), records.FileRecord) if line
            )
        except OSError:
            return

    @property
    def lists(self) -> TagLists:
        """The two lists of tag files."""
        if self._lists is None:
            self._lists = reconcile(self._plain(TAG_MANIFEST), self._plain(TAGS))
        return self._lists

    def _plain(self, path: str) -> bytes | None:
        try:
            return safe.read_bounded(self.at(path), _MOST)
        except (OSError, ValueError):
            return None

    def damaged(self, fault: RecordFault) -> RecordDamagedError:
        """Return the error that a record is not proven."""
        return RecordDamagedError(
            f"{shown(fault.path)} in {shown(self.bag.name)} is damaged: {fault.why}. Run: dunechest verify",
            bag=self.bag.name,
            path=fault.path,
            state=fault.state,
            why=fault.why,
        )

    def content(self, path: str, most: int = _MOST) -> bytes:
        """Return a record, proven.

        Raises
        ------
        RecordDamagedError
            If it is missing, cannot be read, or no list has its digest.
        """
        try:
            content = safe.read_bounded(self.at(path), most)
        except (OSError, ValueError) as error:
            raise self.damaged(self._note(path, _unread(path, error))) from error
        fault = self.judge(path, len(content), lambda: blake3(content).hexdigest(), lambda: hashlib.sha512(content))
        if self._note(path, fault) is not None and fault is not None:
            raise self.damaged(fault)
        return content

    def _note(self, path: str, fault: RecordFault | None) -> Any:
        self._proven[path] = fault
        return fault

    def judge(self, path: str, size: int, fast: Any, slow: Any) -> RecordFault | None:
        """Say why a record with such digests is not proven, or None if it is."""
        quick = self._in_manifest(path) if self._lists is None else None
        if quick is not None and slow().hexdigest() == quick:
            return None
        tag = self.lists.tags.get(path)
        if tag is None:
            return RecordFault(path, "changed", "no list has its digest")
        if tag.blake3 and fast() == tag.blake3 and tag.size in (-1, size):
            return None
        if tag.sha512 and slow().hexdigest() == tag.sha512:
            return None
        other = f"; it has {size:,} bytes instead of {tag.size:,}" if tag.size not in (-1, size) else ""
        return RecordFault(path, "changed", f"its content is not what was recorded{other}")

    def _in_manifest(self, path: str) -> str | None:
        """Look one path up in the tag manifest, without reading all of a long one into memory."""
        wanted = f"  {path}\n".encode()
        try:
            with os.fdopen(safe.open_regular(self.at(TAG_MANIFEST)), "rb") as file:
                while line := file.readline(1 << 16):
                    if line.endswith(wanted) and len(line) == 128 + len(wanted):
                        return line[:128].decode("ascii", "replace")
                    if file.tell() > _MOST:
                        return None
        except OSError:
            return None
        return None

    def fault_of(self, path: str) -> RecordFault | None:
        """Say why a record is not proven, or None if it is; it is read for that."""
        if path in (TAG_MANIFEST, TAGS):
            return next((fault for fault in self.lists.faults if fault.path == path), None)
        if path not in self._proven:
            tag = self.lists.tags.get(path)
            try:
                with os.fdopen(safe.open_regular(self.at(path)), "rb") as file:
                    if tag is not None and tag.size >= 0 and os.fstat(file.fileno()).st_size != tag.size:
                        size = os.fstat(file.fileno()).st_size
                        fault: RecordFault | None = RecordFault(
                            path,
                            "changed",
                            f"its content is not what was recorded; it has {size:,} bytes instead of {tag.size:,}",
                        )
                    else:
                        fault = self._stream(path, file)
            except OSError as error:
                fault = _unread(path, error)
            self._proven[path] = fault
        return self._proven[path]

    def _stream(self, path: str, file: io.BufferedReader) -> RecordFault | None:
        fast, size = blake3(), 0
        while piece := file.read(1 << 20):
            fast.update(piece)
            size += len(piece)
        if size > _MOST:
            return RecordFault(path, "changed", "it is far too large")

        def slow() -> Any:
            file.seek(0)
            return hashlib.file_digest(file, "sha512")

        return self.judge(path, size, fast.hexdigest, slow)

    def lines(self, path: str, kind: type[_Record]) -> Iterator[_Record]:
        """Yield the lines of a record of JSON lines. What was yielded counts only if no error follows.

        Raises
        ------
        RecordDamagedError
            If it cannot be read, a line is not of the kind, or, at the end, no list has its digest.
        """
        decoder = msgspec.json.Decoder(kind)
        try:
            raw = _Hashing(safe.open_regular(self.at(path)))
        except OSError as error:
            raise self.damaged(self._note(path, _unread(path, error))) from error
        with raw, io.BufferedReader(raw, 1 << 20) as file:
            number = 0
            try:
                while line := file.readline(records.LONGEST_LINE):
                    number += 1
                    yield decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
                fault = RecordFault(path, "changed", f"line {number} is torn")
                raise self.damaged(self._note(path, fault)) from error
            except OSError as error:
                raise self.damaged(self._note(path, _unread(path, error))) from error
            self._finish(path, raw)

    def open_lines(self, path: str) -> tuple[io.BufferedReader, Any]:
        """Open a record of lines to be read to its end; call what comes second then, which raises if it is not proven.

        Raises
        ------
        RecordDamagedError
            If it cannot be read.
        """
        try:
            raw = _Hashing(safe.open_regular(self.at(path)))
        except OSError as error:
            raise self.damaged(self._note(path, _unread(path, error))) from error
        return io.BufferedReader(raw, 1 << 20), lambda: self._finish(path, raw)

    def _finish(self, path: str, raw: _Hashing) -> None:
        """Prove what was read to its end."""

        def slow() -> Any:
            with os.fdopen(safe.open_regular(self.at(path)), "rb") as file:
                return hashlib.file_digest(file, "sha512")

        _ = self.lists  # its digest was made for the fast list
        try:
            fault = self.judge(path, raw.size, raw.fast.hexdigest, slow)
        except OSError as error:
            fault = _unread(path, error)
        if self._note(path, fault) is not None and fault is not None:
            raise self.damaged(fault)

    def library(self) -> LibraryRecord:
        """Return the record of the current edition.

        Raises
        ------
        RecordDamagedError
            If it is not proven.
        ChestUnusableError
            If it is of a newer format, or proven and yet no such record.
        """
        return self._library(LIBRARY)

    def edition(self, number: int) -> LibraryRecord:
        """Return the record of an earlier edition; raises as `library` does."""
        return self._library(edition_path(number))

    def _library(self, path: str) -> LibraryRecord:
        try:
            content = self.content(path)
        except RecordDamagedError as error:
            self._refuse_newer(path, error)
            raise
        return records.decode_library(content, self.at(path))

    def _refuse_newer(self, path: str, error: RecordDamagedError) -> None:
        """Let a newer format be told from damage: its lists may be of another form."""
        try:
            number = records.format_of(safe.read_bounded(self.at(path), _MOST))
        except (OSError, ValueError):
            return
        if number is not None and number > records.FORMAT:
            raise ChestUnusableError(records.newer_words(self.at(path), number)) from error

    def numbers(self, current: int) -> tuple[int, ...]:
        """Return the numbers of the bag's editions, the current one last.

        An edition counts that any record names: what is gone from its folder is missed by its number.
        """
        found = {number for number in self.told() if number < current}
        for path in self.lists.tags:
            if line := _EDITION_FOLDER.match(path):
                found.add(int(line.group(1)))
        try:
            names = os.listdir(self.bag / EDITIONS)
        except OSError:
            names = []
        found.update(int(name) for name in names if re.fullmatch(r"\d{4,9}", name))
        return (*sorted(number for number in found if 0 < number < current), current)

    def told(self) -> dict[int, EditionTotals]:
        """Return what ``bag-info.txt`` tells of each edition; nothing if it is not proven."""
        try:
            text = self.content(INFO, 1 << 24).decode("utf-8", "replace")
        except RecordDamagedError:
            return {}
        return edition_lines(tag_files.parse_info(text)[0])

    def told_for_certain(self) -> dict[int, EditionTotals]:
        """Return what ``bag-info.txt`` tells of each edition, for whoever writes it again: nothing of it may be lost.

        Raises
        ------
        RecordDamagedError
            If it cannot be read, or is not proven.
        """
        text = self.content(INFO, 1 << 24).decode("utf-8", "replace")
        return edition_lines(tag_files.parse_info(text)[0])

    def totals(self, number: int, library: LibraryRecord | None) -> EditionTotals | None:
        """Return the totals that were written down of an edition; None if neither place can be believed.

        Raises
        ------
        RecordDamagedError
            If the two places say different things.
        """
        told = self.told().get(number)
        own = totals_of(library) if library is not None else None
        if told is not None and own is not None and told != own:
            raise self.damaged(
                RecordFault(
                    INFO, "changed", f"its numbers for edition {number} differ from that edition's own record"
                )
            )
        return own or told

    def faults(self, *, edition: int | None = None) -> tuple[RecordFault, ...]:
        """Prove every record of the bag, and return what is not.

        What earlier editions had in files (``dune/earlier``) is as large as the payload, and not read here.

        Parameters
        ----------
        edition : int, optional
            Only what it takes to restore the current edition, which this is.
        """
        found = list(self.lists.faults)
        wanted = {*ALWAYS}
        if edition is None:
            wanted |= {path for path in self.lists.tags if not path.startswith(EARLIER + "/") and path != TAGS}
            wanted |= set(self._edition_records())
        for path in sorted(wanted):
            fault = self.fault_of(path)
            if fault is not None:
                found.append(fault)
        if not any(fault.path in (LIBRARY, INFO) for fault in found):
            try:
                library = self.library()
                self.totals(library.edition, library)
            except RecordDamagedError as error:
                found.append(RecordFault(error.path, "changed", error.why))
            except ChestUnusableError as error:
                found.append(RecordFault(LIBRARY, "changed", str(error)))
        return tuple(found)

    def _edition_records(self) -> Iterator[str]:
        for number in self.told():
            if edition_path(number) in self.lists.tags or os.path.isdir(self.bag / EDITIONS / f"{number:04d}"):
                yield edition_path(number)
                yield changes_path(number)


def stamp(bag: Path) -> tuple[object, ...]:
    """Return what changes whenever a change of the bag is decided, under way or done."""
    found: list[object] = []
    for path in (TAG_MANIFEST, JOURNAL):
        try:
            info = os.lstat(bag / path)
            found.append((info.st_ino, info.st_size, info.st_mtime_ns, info.st_ctime_ns))
        except OSError:
            found.append(None)
    if found[-1] is not None:  # every single step changes where something lies
        found.append(tuple(sorted(view_of(bag).moved.items())))
    return tuple(found)


def _unread(path: str, error: OSError | ValueError) -> RecordFault:
    if isinstance(error, FileNotFoundError | NotADirectoryError):
        return RecordFault(path, "missing", "it is missing")
    why = (error.strerror or str(error)) if isinstance(error, OSError) else str(error)
    return RecordFault(path, "unreadable", f"it cannot be read: {why}")
