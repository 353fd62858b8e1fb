"""The journal of a change in a bag: what is to be renamed where, so that a cut-off change can be finished.

Everything an edition brings is first written and proven below ``dune/pending/``.
Then ``journal.json`` is written there, which is the moment the edition exists: from
now on whoever opens the chest carries the steps out, from the first to the last,
each of which either has been done or has not. Before that moment the bag is as it was.

The steps come in phases, because a name may be left by one file and taken by another:
first all that leaves goes, then what comes is put in place, then the records. When a phase
is done and on the medium, the journal is replaced by one of the phases that remain, so
no step is ever done again on what a later phase has brought.

A step is a pair of names relative to the bag. An empty old name makes the folder of the
new one; an empty new name removes the old one's folder if nothing is in it.

The journal holds its own digest, so a torn one is told from a whole one.
"""

from __future__ import annotations

import errno
import os
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.errors import ChestUnusable
from dunechest.names import shown, why_unsafe
from dunechest.transfer import disk, safe

PENDING = "dune/pending"
EARLIER = "dune/earlier"
EDITIONS = "dune/editions"
#: Where what thinning removes waits until the records no longer speak of it.
GONE = PENDING + "/gone"
#: Where what only gets another name waits between two phases.
MOVED = PENDING + "/moved"
JOURNAL = PENDING + "/journal.json"
_MOST = 1 << 30


class Rename(msgspec.Struct, frozen=True, array_like=True):
    """One step: a file or folder, both names relative to the bag; see the module for empty ones."""

    old: str
    new: str


#: Steps that may be done in any order.
Phase = tuple[Rename, ...]


class _Journal(msgspec.Struct, frozen=True):
    format: int
    digest: str
    phases: tuple[Phase, ...]


def _digest(phases: tuple[Phase, ...]) -> str:
    return blake3(msgspec.json.encode(phases)).hexdigest()


def write(bag: Path, phases: tuple[Phase, ...]) -> None:
    """Write the journal; when this returns, the change is decided."""
    journal = _Journal(1, _digest(phases), phases)
    safe.write_file(bag / JOURNAL, msgspec.json.encode(journal))


def read(bag: Path) -> tuple[Phase, ...] | None:
    """Return the phases of a whole journal; None if there is none, or only a torn one.

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
    if journal.digest != _digest(journal.phases):
        return None
    for step in (step for phase in journal.phases for step in phase):
        why = _why_not(step)
        if why is not None:
            raise ChestUnusable(
                f"The journal in {shown(str(bag))} would rename {shown(step.old)!r} to {shown(step.new)!r}: {why}. "
                "It was not written by Dune Chest, and nothing was touched."
            )
    return journal.phases


def _why_not(step: Rename) -> str | None:
    """Say why a step of a journal must not be done, or None if it may."""
    for name in (step.old, step.new):
        if name and (why := why_unsafe(name)) is not None:
            return why
    if not step.old or not step.new:
        folder = step.old or step.new
        return (
            None
            if (folder + "/").startswith(("data/", EARLIER + "/", EDITIONS + "/"))
            else "no folder there is its concern"
        )
    if step.old.startswith(PENDING + "/") or step.new.startswith((PENDING + "/", EARLIER + "/", GONE + "/")):
        return None
    return "it neither brings something from dune/pending nor keeps something in dune/earlier"


def carry_out(bag: Path, phases: tuple[Phase, ...]) -> None:
    """Do the steps that are not done yet, then remove what is pending.

    Safe to be cut off anywhere and to be called again with what `read` returns.
    """
    for number, phase in enumerate(phases):
        parents: set[Path] = set()
        for step in phase:
            _do(bag, step, parents)
        for parent in sorted(parents):
            if parent.exists():
                disk.flush_folder(parent)
        if number + 1 < len(phases):
            write(bag, phases[number + 1 :])
    _remove(bag)


def _do(bag: Path, step: Rename, parents: set[Path]) -> None:
    old, new = bag / step.old, bag / step.new
    _inside(bag, old.parent if step.old else new.parent)
    _inside(bag, new.parent if step.new else old.parent)
    if not step.old:
        _make_folders(new, parents)
    elif not step.new:
        try:
            disk.remove_folder(old)
        except OSError as error:
            # Gone before the cut, or something else is in it; Windows and some drives say so in other words.
            if error.errno not in (errno.ENOENT, errno.ENOTEMPTY, errno.EEXIST, errno.EACCES, errno.EPERM):
                raise
            return
        parents.add(old.parent)
    elif os.path.lexists(old):  # otherwise it was done before the cut
        _make_folders(new.parent, parents)
        disk.rename(old, new)
        parents.update((old.parent, new.parent))


def _make_folders(folder: Path, parents: set[Path]) -> None:
    """Make a folder and those above it, and remember whose names are to be flushed."""
    missing = []
    while not folder.exists():
        missing.append(folder)
        folder = folder.parent
    for one in reversed(missing):
        disk.make_folder(one)
        parents.update((one, one.parent))


def _inside(bag: Path, folder: Path) -> None:
    """Refuse to go through a link: a chest is foreign input."""
    while folder != bag:
        if folder.is_symlink():
            raise ChestUnusable(f"{shown(str(folder))} is a link. Nothing was changed through it.")
        folder = folder.parent


def refuse_if_decided(bag: Path) -> None:
    """Make sure that nothing is pending that was in the chest before, now that no whole journal speaks of it.

    Raises
    ------
    ChestUnusable
        If there is: then a change was decided, and its journal is damaged.
    """
    if any((bag / place).is_dir() and any((bag / place).iterdir()) for place in (MOVED, GONE)):
        raise ChestUnusable(
            f"A change in {shown(bag.name)} was cut off after it had been decided, and its journal is damaged. "
            f"Nothing was touched: archived files lie in {PENDING} of that bag. Archive the library under another "
            "name (--name)."
        )


def clear(bag: Path) -> None:
    """Remove what is pending and was never decided; raises as `refuse_if_decided` does."""
    refuse_if_decided(bag)
    _remove(bag)


def _remove(bag: Path) -> None:
    """Remove what is pending, the journal first."""
    pending = bag / PENDING
    if pending.is_symlink() or not pending.exists():
        return
    disk.remove(bag / JOURNAL, missing_ok=True)
    disk.remove_tree(pending)
    disk.flush_folder(pending.parent)
