"""The tide notes: one SQLite file in a hidden folder, the latest notes still in its write-ahead log."""

from __future__ import annotations

import random
import shutil
import sqlite3
import struct
import tempfile
from pathlib import Path

_WORDS = (
    *("spring", "neap", "ebb", "flood", "wrack", "slack", "gauge", "high", "low", "water", "wind", "north", "east"),
    *("gale", "calm", "fog", "tern", "plover", "seal", "groyne", "sand", "bar", "channel", "buoy", "lamp", "rope"),
)

SCHEMA = """
CREATE TABLE notebook (id INTEGER PRIMARY KEY, title TEXT NOT NULL);
CREATE TABLE note (id INTEGER PRIMARY KEY, notebook INTEGER NOT NULL REFERENCES notebook,
                   title TEXT NOT NULL, body TEXT NOT NULL);
"""


def make(library: Path, rng: random.Random, count: int) -> None:
    """Make a notebook of so many notes, a tenth of them only in the log."""
    library.mkdir(parents=True)
    index = library / "search-index"
    index.mkdir()
    (index / "words.idx").write_bytes(rng.randbytes(90_000))
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch) / "notes.tide"
        database = sqlite3.connect(place)
        try:
            database.execute("PRAGMA journal_mode = WAL")
            database.executescript(SCHEMA)
            for number, title in enumerate(("Tides", "Birds", "House"), start=1):
                database.execute("INSERT INTO notebook VALUES (?, ?)", (number, title))
            for number in range(1, count + 1):
                if number == count - count // 10:
                    database.commit()
                    database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
                body = " ".join(rng.choices(_WORDS, k=rng.randint(40, 400)))
                row = (number, 1 + number % 3, f"note {number}", body)
                database.execute("INSERT INTO note VALUES (?, ?, ?, ?)", row)
            database.commit()
            # As an application leaves it that was ended by a power cut: the log is not yet folded in.
            shutil.copyfile(place, library / "notes.tide")
            log = place.with_name("notes.tide-wal").read_bytes()
        finally:
            database.close()
    (library / "notes.tide-wal").write_bytes(_resalted(log, rng))


def _resalted(log: bytes, rng: random.Random) -> bytes:
    """Replace the random salts of a write-ahead log by ones from the seed, and all checksums with them.

    The layout is that of SQLite's file format page, section 4.1 and 4.2: a header of
    32 bytes, then frames of 24 bytes and a page each.
    """
    salts = rng.randbytes(8)
    header = log[:16] + salts
    order = ">" if log[3] & 1 else "<"
    page = struct.unpack(">I", log[8:12])[0]
    sums = _checksum(header, (0, 0), order)
    out = [header, struct.pack(">II", *sums)]
    for start in range(32, len(log) - 23, 24 + page):
        head, body = log[start : start + 8], log[start + 24 : start + 24 + page]
        sums = _checksum(head + body, sums, order)
        out += [head, salts, struct.pack(">II", *sums), body]
    return b"".join(out)


def _checksum(data: bytes, sums: tuple[int, int], order: str) -> tuple[int, int]:
    low, high = sums
    for first, second in struct.iter_unpack(f"{order}II", data):
        low = (low + first + high) & 0xFFFFFFFF
        high = (high + second + low) & 0xFFFFFFFF
    return low, high
