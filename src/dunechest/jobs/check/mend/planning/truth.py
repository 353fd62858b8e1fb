"""What the records of a damaged bag held: from the bag itself, from what follows, or from another copy.

Content counts only if a list of the bag that is proven has its digest. Where both lists of tag files are damaged, those
of another copy count if records of the bag that are still there have the digests that they say.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.bag.manifest import parse_manifest
from dunechest.chest import records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.edition_totals import totals_of
from dunechest.chest.layout import (
    ALWAYS,
    EARLIER,
    EDITIONS,
    FILES,
    LIBRARY,
    MANIFEST,
    TAG_MANIFEST,
    TAGS,
    changes_path,
    edition_path,
)
from dunechest.chest.records import FileRecord, LibraryRecord, TagRecord
from dunechest.chest.tag_lists import Tag, manifest_of, reconcile
from dunechest.errors import ChestUnusableError, DuneChestError
from dunechest.jobs.check.mend.planning import derived
from dunechest.jobs.copy.image import Held
from dunechest.machine.drives import Limits
from dunechest.transfer import safe

_MOST = 1 << 30
_NO_PROOF = "no list with its digest is intact, and no other copy proves one"
_NOBODY = "no other copy has it, and it does not follow from other records"


class Truth:
    """The records of a bag as they were archived, as far as that can be proven.

    Parameters
    ----------
    own : BagRecords
        The bag.
    helpers : sequence of Held
        Other copies of the library that are intact.
    limits : Limits
        What the names of the bag's drive can be.

    Attributes
    ----------
    tags : dict
        The tag files by path, believed.
    mended : dict
        Content of the records that are damaged, by path.
    hopeless : dict
        Records that cannot be mended, and why.
    """

    def __init__(self, own: BagRecords, helpers: Sequence[Held], limits: Limits) -> None:
        self._own, self._helpers, self._limits = own, helpers, limits
        self.tags: dict[str, Tag] = {}
        self.mended: dict[str, bytes] = {}
        self.hopeless: dict[str, str] = {}
        self._told: list[dict[str, bytes]] | None = None
        self._settle_lists()
        self._settle_records()

    # The lists of tag files.

    def _settle_lists(self) -> None:
        faulty = {fault.path: fault.why for fault in self._own.lists.faults}
        if not faulty:
            self.tags = dict(self._own.lists.tags)
            return
        manifest, second = (self._plain(path) for path in (TAG_MANIFEST, TAGS))
        for found in self._lists(manifest, second):
            told = reconcile(found[TAG_MANIFEST], found[TAGS])
            if not told.faults:
                self.tags = dict(told.tags)
                self._take({path: c for path, c in found.items() if self._plain(path) != c})
                return
        self.hopeless |= dict.fromkeys(faulty, _NO_PROOF)
        self.tags = dict(self._own.lists.tags) if len(faulty) < 2 else {}

    def _lists(self, manifest: bytes | None, second: bytes | None) -> Iterator[dict[str, bytes]]:
        """Yield pairs of lists that the bag itself, or its records together with another copy, prove."""
        if manifest is not None and (again := self._second_from(manifest)) is not None:
            yield {TAG_MANIFEST: manifest, TAGS: again}
        if second is not None:
            # The tag manifest has the digest of the other list; where it is gone, the records that are there tell.
            first = manifest_of([*_tags_in(second), derived.tag_of(TAGS, second)])
            found = {TAG_MANIFEST: first, TAGS: second}
            proven = manifest is not None and f"{hashlib.sha512(second).hexdigest()}  {TAGS}\n".encode() in manifest
            if proven or self._fits(found):
                yield found
        for told in (*self._of_helpers(), *self._beside()):
            found = {path: told[path] for path in (TAG_MANIFEST, TAGS) if path in told}
            if len(found) == 2 and self._fits(found):
                yield found

    def _second_from(self, manifest: bytes) -> bytes | None:
        """Return the second list as the tag manifest has its digest, put together from the files themselves."""
        parsed = parse_manifest(
            TAG_MANIFEST, "sha512", manifest.decode("utf-8", "replace"), payload=False, digest_length=128
        )
        digest = parsed.entries.get(TAGS)
        if parsed.problems or digest is None:
            return None
        others = self._second_of_others(dict(parsed.entries))
        lines = []
        for path in sorted(parsed.entries):
            if path == TAGS:
                continue
            tag = self._read_tag(path)
            if tag is None or tag.sha512 != parsed.entries[path]:
                tag = others.get(path)
            if tag is None or tag.sha512 != parsed.entries[path]:
                return None
            lines.append(records.encode_line(TagRecord(tag.path, tag.size, tag.blake3, tag.sha512)))
        content = b"".join(lines)
        return content if hashlib.sha512(content).hexdigest() == digest else None

    def _second_of_others(self, wanted: dict[str, str]) -> dict[str, Tag]:
        """Return what other copies know of tag files, and what the damaged second list still says of them."""
        found: dict[str, Tag] = {}
        for tag in _tags_in(self._plain(TAGS) or b""):
            if wanted.get(tag.path) == tag.sha512:
                found[tag.path] = tag
        for told in self._of_helpers():
            for tag in _tags_in(told.get(TAGS, b"")):
                if wanted.get(tag.path) == tag.sha512:
                    found.setdefault(tag.path, tag)
        return found

    def _fits(self, found: dict[str, bytes]) -> bool:
        """Whether records that are in the bag have the digests that lists of elsewhere say."""
        tags = {tag.path: tag for tag in _tags_in(found[TAGS])}

        def same(path: str) -> bool:
            return path in tags and self._read_tag(path) == tags[path]

        return same(LIBRARY) and (same(FILES) or same(MANIFEST))

    def _read_tag(self, path: str) -> Tag | None:
        """Digest a tag file as it is in the bag."""
        slow, fast, size = hashlib.sha512(), blake3(), 0
        try:
            with os.fdopen(safe.open_regular(self._own.at(path)), "rb") as file:
                while block := file.read(1 << 20):
                    slow.update(block)
                    fast.update(block)
                    size += len(block)
        except OSError:
            return None
        return Tag(path, size, slow.hexdigest(), fast.hexdigest())

    def _plain(self, path: str) -> bytes | None:
        try:
            return safe.read_bounded(self._own.at(path), _MOST)
        except (OSError, ValueError):
            return None

    # What other copies tell.

    def _of_helpers(self) -> list[dict[str, bytes]]:
        """Return the records that other copies would have here, of the edition that is the current one here."""
        if self._told is None:
            self._told = []
            for helper in self._helpers:
                for number in self._numbers(helper):
                    kept = tuple(n for n in self._kept(number) if n in helper.numbers)
                    try:
                        found = derived.records_at(helper, self._own.bag.name, self._limits, number, kept)
                    except (DuneChestError, OSError):
                        continue
                    if found:
                        self._told.append(found)
        return self._told

    def _beside(self) -> Iterator[dict[str, bytes]]:
        """Yield the records of other copies just as they are there."""
        for helper in self._helpers:
            found = {}
            for path in (*helper.tags, TAGS, TAG_MANIFEST):
                if not path.startswith(EARLIER + "/"):
                    try:
                        found[path] = safe.read_bounded(helper.own.at(path), _MOST)
                    except (OSError, ValueError):
                        continue
            yield found

    def _numbers(self, helper: Held) -> list[int]:
        """Return which edition is the current one here: for certain, or every one that the other copy has."""
        try:
            return [self._own.library().edition]
        except DuneChestError:
            pass
        told = self._own.told()
        if told:
            return [max(told)]
        content = self._plain(LIBRARY)
        try:
            told_by = msgspec.json.decode(content or b"", type=LibraryRecord).edition
        except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError):
            return sorted(helper.numbers, reverse=True)
        return [told_by, *(n for n in sorted(helper.numbers, reverse=True) if n != told_by)]

    def _kept(self, number: int) -> tuple[int, ...]:
        found = {n for n in self._own.told() if n < number}
        try:
            names = os.listdir(self._own.bag / EDITIONS)
        except OSError:
            names = []
        found |= {int(name) for name in names if re.fullmatch(r"\d{4,9}", name) and int(name) < number}
        found |= {n for n in self._own.numbers(number) if n < number}
        return tuple(sorted(found))

    # The other records.

    def _settle_records(self) -> None:
        """Find the content of each record that is not proven."""
        for path in self._expected():
            if self._intact(path) or path in self.mended:
                continue
            content = next((c for c in self._candidates(path) if self._has_digest(path, c)), None)
            if content is not None:
                self._take({path: content})
            else:
                self.hopeless[path] = _NOBODY if path in self.tags else _NO_PROOF

    def _take(self, found: dict[str, bytes]) -> None:
        self.mended |= found
        for path in found:
            self.hopeless.pop(path, None)

    def _expected(self) -> list[str]:
        """Return the paths of all records but the two lists, those first that others follow from."""
        found = [LIBRARY, FILES, MANIFEST, *ALWAYS]
        found += [path for path in self.tags if not path.startswith(EARLIER + "/") and path != TAGS]
        try:
            current = self._library()
            numbers = self._own.numbers(current.edition if current is not None else max(self._own.told(), default=1))
        except DuneChestError:
            numbers = (1,)
        found += [path for n in numbers[:-1] for path in (edition_path(n), changes_path(n))]
        return list(dict.fromkeys(found))

    def _intact(self, path: str) -> bool:
        tag = self.tags.get(path)
        read = self._read_tag(path)
        return tag is not None and read is not None and _same(read, tag)

    def _has_digest(self, path: str, content: bytes) -> bool:
        tag = self.tags.get(path)
        return tag is not None and _same(derived.tag_of(path, content), tag)

    def _candidates(self, path: str) -> Iterator[bytes]:
        """Yield what a record may have held; only what has the recorded digest is used."""
        record = self._library()
        if record is not None and (files := self.files()) is not None:
            totals = {n: t for n, t in self._own.told().items() if n != record.edition}
            for n in self._kept(record.edition):
                if n not in totals and (earlier := self._edition(n)) is not None:
                    totals[n] = totals_of(earlier)
            found = derived.of_the_current(record, self._own.bag.name, [file.path for file in files], totals)
            if path in found:
                yield found[path]
        if path == MANIFEST:
            yield from self._manifests()
        for told in (*self._of_helpers(), *self._beside()):
            if path in told:
                yield told[path]

    def _manifests(self) -> Iterator[bytes]:
        """Yield the payload manifest as it follows from the list of files and the files themselves."""
        files = self.files()
        if files is None:
            return
        known: dict[str, str] = {}
        for helper in self._helpers:
            known |= derived.digests_of(helper)
        for file in files:
            if file.blake3 not in known:
                tag = self._read_tag("data/" + file.path)
                if tag is not None and tag.blake3 == file.blake3:
                    known[file.blake3] = tag.sha512
        content = derived.manifest_from(files, known)
        if content is not None:
            yield content

    def content(self, path: str) -> bytes | None:
        """Return a record as it was archived; None if that is not known."""
        if path in self.mended:
            return self.mended[path]
        content = self._plain(path)
        return content if content is not None and self._has_digest(path, content) else None

    def _library(self) -> LibraryRecord | None:
        return self._decoded(LIBRARY)

    def _edition(self, number: int) -> LibraryRecord | None:
        return self._decoded(edition_path(number))

    def _decoded(self, path: str) -> LibraryRecord | None:
        content = self.content(path)
        if content is None:
            return None
        try:
            return records.decode_library(content, Path(path))
        except ChestUnusableError:
            return None

    def library(self) -> LibraryRecord | None:
        """Return the record of the current edition; None if it is not known."""
        return self._library()

    def files(self) -> list[FileRecord] | None:
        """Return the files of the current edition, sorted by path; None if they are not known."""
        content = self.content(FILES)
        if content is None:
            return None
        decoder = msgspec.json.Decoder(FileRecord)
        try:
            return [decoder.decode(line) for line in content.splitlines()]
        except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError):
            return None


def _same(found: Tag, wanted: Tag) -> bool:
    """Whether a file has all digests that are recorded of it."""
    known = [(wanted.sha512, found.sha512), (wanted.blake3, found.blake3)]
    return any(a for a, _ in known) and all(a in ("", b) for a, b in known) and wanted.size in (-1, found.size)


def _tags_in(content: bytes) -> list[Tag]:
    """Return what can be read of a second list."""
    decoder = msgspec.json.Decoder(TagRecord)
    found = []
    for line in content.splitlines():
        try:
            record = decoder.decode(line)
        except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError):
            continue
        found.append(Tag(record.path, record.size, record.sha512, record.blake3))
    return found
