"""The journal of a change in a bag: what is to be renamed where, so that a cut-off change can be finished.

Everything an edition brings is first written and proven below ``dune/pending/``.
Then ``journal.json`` is written there, which is the moment the edition exists: from
now on whoever opens the chest carries the renames out, from the first to the last,
each of which either has been done or has not. Before that moment the bag is as it was.

The journal holds its own digest, so a torn one is told from a whole one.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.errors import ChestUnusable
from dunechest.names import shown, why_unsafe
from dunechest.transfer import medium, safe

PENDING = "dune/pending"
JOURNAL = PENDING + "/journal.json"
_MOST = 1 << 30


class Rename(msgspec.Struct, frozen=True, array_like=True):
    """One step: a file or folder, both names relative to the bag."""

    old: str
    new: str


class _Journal(msgspec.Struct, frozen=True):
    format: int
    digest: str
    steps: tuple[Rename, ...]


def _digest(steps: tuple[Rename, ...]) -> str:
    return blake3(msgspec.json.encode(steps)).hexdigest()


def write(bag: Path, steps: tuple[Rename, ...]) -> None:
    """Write the journal; when this returns, the change is decided."""
    journal = _Journal(1, _digest(steps), steps)
    safe.write_file(bag / JOURNAL, msgspec.json.encode(journal))


def read(bag: Path) -> tuple[Rename, ...] | None:
    """Return the steps of a whole journal; None if there is none, or only a torn one.

    Raises
    ------
    ChestUnusable
        If a step would lead out of the bag, or the journal is of a newer format.
    """
    try:
        journal = msgspec.json.decode(safe.read_bounded(bag / JOURNAL, _MOST), type=_Journal)
    except (OSError, ValueError, msgspec.MsgspecError, RecursionError):
        return None
    if journal.format > 1:
        raise ChestUnusable(f"The journal in {shown(str(bag))} is of a newer format. Nothing was touched.")
    if journal.digest != _digest(journal.steps):
        return None
    for step in journal.steps:
        why = why_unsafe(step.old) or why_unsafe(step.new)
        if why is None and not step.old.startswith(PENDING + "/") and not step.new.startswith("dune/earlier/"):
            why = "it neither brings something from dune/pending nor keeps something in dune/earlier"
        if why is not None:
            raise ChestUnusable(
                f"The journal in {shown(str(bag))} would rename {shown(step.old)!r} to {shown(step.new)!r}: {why}. "
                "It was not written by Dune Chest, and nothing was touched."
            )
    return journal.steps


def carry_out(bag: Path, steps: tuple[Rename, ...]) -> None:
    """Do the steps that are not done yet, then remove what is pending.

    Safe to be cut off anywhere and to be called again.
    """
    parents: set[Path] = set()
    for step in steps:
        old, new = bag / step.old, bag / step.new
        _inside(bag, old.parent)
        _inside(bag, new.parent)
        if not os.path.lexists(old):
            continue  # done before the cut
        new.parent.mkdir(parents=True, exist_ok=True)
        os.replace(old, new)
        parents.update((old.parent, new.parent))
    for parent in sorted(parents):
        if parent.exists():
            medium.flush_folder(parent)
    clear(bag)


def _inside(bag: Path, folder: Path) -> None:
    """Refuse to go through a link: a chest is foreign input."""
    while folder != bag:
        if folder.is_symlink():
            raise ChestUnusable(f"{shown(str(folder))} is a link. Nothing was changed through it.")
        folder = folder.parent


def clear(bag: Path) -> None:
    """Remove what is pending, the journal first."""
    pending = bag / PENDING
    if pending.is_symlink() or not pending.exists():
        return
    (bag / JOURNAL).unlink(missing_ok=True)
    shutil.rmtree(pending)
    medium.flush_folder(pending.parent)
