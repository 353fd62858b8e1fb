"""The chest's own records, read and written here alone: ``chest.json``, ``READ-ME.txt``, ``chest-sha512.txt``.

``chest-sha512.txt`` has the SHA-512 of the other two, as ``sha512sum`` writes it. Id and label stand in both of them, so
a damaged one of the three is told from the others, and the chest can be read all the same.
"""

from __future__ import annotations

import hashlib
import re
from pathlib import Path
from typing import Literal

import msgspec

from dunechest.chest import records, texts
from dunechest.chest.layout import CHEST_RECORD, CHEST_SUMS, READ_ME
from dunechest.chest.records import FORMAT, ChestRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import ChestUnusableError
from dunechest.names import shown
from dunechest.regex import late
from dunechest.transfer import safe

_MOST = 1 << 20
_LINE = late(r"([0-9a-f]{128})  (chest\.json|READ-ME\.txt)\n")
_SAID = late(
    r"^  Label of this chest: (.{1,60})\n  Id of this chest:    ([0-9a-f]{32})\n  Made on:             (\S{10,40})$",
    re.MULTILINE,
)


def write_chest(folder: Path, record: ChestRecord) -> None:
    """Write the three records of a chest.

    Raises
    ------
    OSError
        If the drive cannot be written to.
    """
    contents = {CHEST_RECORD: records.encode_pretty(record), READ_ME: texts.read_me(record)}
    for name, content in contents.items():
        safe.write_file(folder / name, content)
    lines = "".join(f"{hashlib.sha512(content).hexdigest()}  {name}\n" for name, content in contents.items())
    safe.write_file(folder / CHEST_SUMS, lines.encode())


def replace_chest(folder: Path, record: ChestRecord) -> None:
    """Replace the three records of a chest, so that at no moment one is taken for damaged.

    First the digests of the new ones are added to those of the old ones, then the records are replaced, then only
    the new digests stay. Cut short, the chest is the one that ``chest.json`` tells, and the same can be done again.

    Raises
    ------
    OSError
        If the drive cannot be written to.
    """
    contents = {CHEST_RECORD: records.encode_pretty(record), READ_ME: texts.read_me(record)}
    before = {name: safe.read_bounded(folder / name, _MOST) for name in contents}
    new = "".join(f"{hashlib.sha512(content).hexdigest()}  {name}\n" for name, content in contents.items())
    old = "".join(f"{hashlib.sha512(content).hexdigest()}  {name}\n" for name, content in before.items())
    safe.write_file(folder / CHEST_SUMS, (old + new).encode())
    for name, content in contents.items():
        safe.write_file(folder / name, content)
    safe.write_file(folder / CHEST_SUMS, new.encode())


def label_in(text: str) -> ChestRecord | None:
    """Return what ``READ-ME.txt`` says of the chest, or None if it does not."""
    said = _SAID.search(text)
    if said is None:
        return None
    try:
        return msgspec.convert(
            {"format": FORMAT, "label": said.group(1), "id": said.group(2), "made": said.group(3)}, ChestRecord
        )
    except msgspec.ValidationError:
        return None


def read_chest(folder: Path) -> tuple[ChestRecord, tuple[RecordFault, ...]]:
    """Read the records of a chest, and say what of them is damaged.

    Raises
    ------
    ChestUnusableError
        If ``chest.json`` is of a newer format, or no record tells which chest it is.
    """
    contents: dict[str, bytes] = {}
    faults: dict[str, RecordFault] = {}
    for name in (CHEST_RECORD, READ_ME, CHEST_SUMS):
        try:
            contents[name] = safe.read_bounded(folder / name, _MOST)
        except (OSError, ValueError) as error:
            missing = isinstance(error, FileNotFoundError)
            why = "it is missing" if missing else f"it cannot be read: {getattr(error, 'strerror', None) or error}"
            state: Literal["missing", "unreadable"] = "missing" if missing else "unreadable"
            faults[name] = RecordFault(name, state, why)
    number = records.format_of(contents.get(CHEST_RECORD, b""))
    if number is not None and number > FORMAT:
        raise ChestUnusableError(records.newer_words(folder / CHEST_RECORD, number))
    text = contents.get(CHEST_SUMS, b"").decode("ascii", "replace")
    sums: dict[str, set[str]] = {}
    for digest, name in _LINE.findall(text):  # while the records are replaced, those of both are there
        sums.setdefault(name, set()).add(digest)
    proven = {
        name for name in (CHEST_RECORD, READ_ME) if name in contents and _digest(contents[name]) in sums.get(name, ())
    }
    try:
        own = msgspec.json.decode(contents.get(CHEST_RECORD, b""), type=ChestRecord)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        own = None
    said = label_in(contents.get(READ_ME, b"").decode("utf-8", "replace"))
    if own is None and CHEST_RECORD in contents:
        faults[CHEST_RECORD] = RecordFault(CHEST_RECORD, "changed", "it is damaged, or not a chest's record")
    agree = own is not None and said is not None and (own.id, own.label) == (said.id, said.label)
    if _LINE.sub("", text) or sums.keys() != {CHEST_RECORD, READ_ME} or (agree and not proven):
        faults.setdefault(
            CHEST_SUMS, RecordFault(CHEST_SUMS, "changed", "its digests differ from those in the other two records")
        )
    for name in (CHEST_RECORD, READ_ME):
        if name in contents and name not in proven and not (agree and CHEST_SUMS in faults):
            faults.setdefault(name, RecordFault(name, "changed", "its content is not what was recorded"))
    candidates = ((CHEST_RECORD in proven, own), (READ_ME in proven, said), (True, own), (True, said))
    record = next((candidate for believed, candidate in candidates if believed and candidate is not None), None)
    if record is None:
        raise ChestUnusableError(
            f"The records of the chest in {shown(str(folder))} are damaged: neither {CHEST_RECORD} nor {READ_ME} says which "
            "chest it is. Nothing was touched. To rebuild them: dunechest chest rebuild"
        )
    return record, tuple(faults[name] for name in sorted(faults))


def _digest(content: bytes) -> str:
    return hashlib.sha512(content).hexdigest()
