"""Notes: what happened, a small file of JSON lines each time.

A job only ever adds a note. It goes into the database when the ledger is next
asked something, so that a ten-file check does not wait for a database library to
load, and two programs that write at once never meet.
"""

from __future__ import annotations

import os
import time
import uuid
from pathlib import Path
from typing import Any

import msgspec

from dunechest.errors import DuneChestError
from dunechest.names import shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

#: The folder of notes that are not yet in the book.
NOTES = "notes"


def state_folder() -> Path:
    """Return the folder of the ledger, settings and own kind files.

    ``DUNECHEST_HOME`` names another place; otherwise it is the system's usual one
    for an application's data.
    """
    named = os.environ.get("DUNECHEST_HOME")
    if named:
        return Path(named)
    import platformdirs

    return Path(platformdirs.user_data_dir("dunechest", appauthor=False))


class Note(msgspec.Struct, frozen=True):
    """One thing that happened: what (``chest``, ``archive``, ``check``, ``restore``, ``seen``), when, and facts."""

    what: str
    when: float
    facts: dict[str, Any]


def append(what: str, **facts: Any) -> None:
    """Write one note.

    Parameters
    ----------
    what : str
        Sort of note.
    **facts
        JSON values.

    Raises
    ------
    DuneChestError
        If the ledger cannot be written; the job itself is done all the same.
    """
    append_many([(what, facts)])


def append_many(items: list[tuple[str, dict[str, Any]]]) -> None:
    """Write several notes with one flush."""
    folder = state_folder() / NOTES
    now = time.time()
    lines = b"".join(msgspec.json.encode(Note(what, now, facts)) + b"\n" for what, facts in items)
    try:
        make_own(folder)
        safe.write_file(folder / f"{time.time_ns()}-{uuid.uuid4().hex[:8]}.jsonl", lines, mode=0o600)
        hand_over(folder)
    except OSError as error:
        raise DuneChestError(
            f"The ledger in {shown(str(folder))} cannot be written: {error.strerror}. The job itself is done."
        ) from error
