"""The two lists of a bag's tag files: ``tagmanifest-sha512.txt`` and ``dune/tags.jsonl``, which prove each other.

The tag manifest has the digest of ``dune/tags.jsonl``, and all of the tag manifest can be written again from
``dune/tags.jsonl``, byte for byte.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Any, Literal

import msgspec

from dunechest.bag.manifest import format_line, parse_manifest
from dunechest.chest import records
from dunechest.chest.layout import TAG_MANIFEST, TAGS
from dunechest.chest.records import TagRecord
from dunechest.names import why_unsafe

#: Said of ``dune/tags.jsonl`` where it, or just its own line in the tag manifest, is damaged.
NOT_RECORDED = "its digest is not the one that was recorded"


class Tag(msgspec.Struct, frozen=True):
    """A tag file as the lists have it: path in the bag, bytes, SHA-512 and BLAKE3 (hexadecimal); empty if not known."""

    path: str
    size: int
    sha512: str
    blake3: str


class RecordFault(msgspec.Struct, frozen=True):
    """A record that does not match its digests: its path in the bag, its state, and why."""

    path: str
    state: Literal["changed", "missing", "unreadable"]
    why: str


class TagLists(msgspec.Struct, frozen=True):
    """The two lists of tag files combined: tag files by path, and faults of the lists themselves."""

    tags: dict[str, Tag]
    faults: tuple[RecordFault, ...]


def manifest_of(tags: Iterable[Tag]) -> bytes:
    """Return the tag manifest, in the one way in which it is written."""
    return "".join(format_line(tag.sha512, tag.path) for tag in sorted(tags, key=lambda tag: tag.path)).encode()


def _decode_tags(content: bytes) -> list[Tag] | None:
    """Read ``dune/tags.jsonl``; None if any line is not just as it is written."""
    decoder = msgspec.json.Decoder(TagRecord)
    found = []
    try:
        for line in content.splitlines(keepends=True):
            record = decoder.decode(line)
            if records.encode_line(record) != line or why_unsafe(record.path) is not None:
                return None
            found.append(Tag(record.path, record.size, record.sha512, record.blake3))
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, ValueError):
        return None
    return found


def reconcile(manifest: bytes | None, second: bytes | None) -> TagLists:
    """Make one of the two lists of tag files, and say which of them is damaged.

    Parameters
    ----------
    manifest, second : bytes or None
        Content of ``tagmanifest-sha512.txt`` and of ``dune/tags.jsonl``; None where it cannot be read.
    """
    text = manifest.decode("utf-8", "replace") if manifest is not None else ""
    slow = parse_manifest(TAG_MANIFEST, "sha512", text, payload=False, digest_length=128)
    own = hashlib.sha512(second).hexdigest() if second is not None else ""
    lines = _decode_tags(second) if second is not None else None
    from_manifest = {path: Tag(path, -1, digest, "") for path, digest in slow.entries.items()}
    if lines is not None and second is not None:
        every = [*lines, Tag(TAGS, len(second), own, "")]
        tags = {tag.path: tag for tag in every}
        again = manifest_of(every)
        if manifest == again:
            return TagLists(tags, ())
        if slow.entries.get(TAGS) == own or manifest is None:
            return TagLists(tags, (_manifest_fault(manifest),))
        # A list of which each line but one fits: that one line, or what only the second list says, is damaged. The
        # digest of the second list is all that tells; so it is what is not proven.
        others = manifest_of(lines)
        rest = "".join(format_line(d, p) for p, d in slow.entries.items() if p != TAGS).encode()
        why = NOT_RECORDED if rest == others else f"{NOT_RECORDED}, and {TAG_MANIFEST} says other digests"
        faults = [RecordFault(TAGS, "changed", why)]
        if rest != others and (slow.problems or TAGS not in slow.entries):
            faults.append(_manifest_fault(manifest))
        # Where both can be read, a file is proven by either of them.
        for path, tag in from_manifest.items():
            if path not in tags:
                tags[path] = tag
            elif path != TAGS and rest != others and tags[path].sha512 != tag.sha512:
                tags[path] = Tag(path, -1, tag.sha512, tags[path].blake3)
        return TagLists(tags, tuple(faults))
    state: Literal["changed", "missing"] = "missing" if second is None else "changed"
    why = "it is missing or cannot be read" if second is None else "its lines are not in the form Dune Chest writes"
    faults = [RecordFault(TAGS, state, why)]
    if manifest is None:
        faults.append(_manifest_fault(None))
    elif slow.problems or format_sorted(slow.entries) != manifest:
        faults.append(_manifest_fault(manifest))
    return TagLists(from_manifest, tuple(faults))


def format_sorted(entries: Any) -> bytes:
    """Return a tag manifest of digests by path, sorted by path."""
    return "".join(format_line(entries[path], path) for path in sorted(entries)).encode()


def _manifest_fault(manifest: bytes | None) -> RecordFault:
    if manifest is None:
        return RecordFault(TAG_MANIFEST, "missing", "it is missing or cannot be read")
    return RecordFault(TAG_MANIFEST, "changed", f"it differs from {TAGS}, which is intact")
