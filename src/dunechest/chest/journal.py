"""The journal of a change in a bag: what is to be renamed where, so that an interrupted change can be finished.

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

The journal holds its own digest, so a torn one is told from a whole one. It keeps the phases that are done, too, so that
a change that turns out to be impossible (something else has a name that it needs) is rolled back, as long as no
record was replaced.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.chest.layout import DATA, DATA_FOLDER, DUNE, EARLIER, EDITIONS, GONE, JOURNAL, MOVED, PENDING
from dunechest.errors import ChestUnusableError
from dunechest.names import shown, why_unsafe
from dunechest.paths import is_folder, is_link, leads_elsewhere, slashed
from dunechest.transfer import disk, safe
from dunechest.transfer.below import folders_in

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
    done: tuple[Phase, ...] = ()


def _digest(phases: tuple[Phase, ...], done: tuple[Phase, ...]) -> str:
    return blake3(msgspec.json.encode((phases, done))).hexdigest()


def write(bag: Path, phases: tuple[Phase, ...], done: tuple[Phase, ...] = ()) -> None:
    """Write the journal; when this returns, the change is decided."""
    journal = _Journal(1, _digest(phases, done), phases, done)
    safe.write_file(bag / JOURNAL, msgspec.json.encode(journal))


def read(bag: Path) -> tuple[Phase, ...] | None:
    """Return the phases that remain of a whole journal; None if there is none, or only a torn one.

    Raises
    ------
    ChestUnusableError
        If a step would lead out of the bag, or the journal is of a newer format.
    """
    journal = _read(bag)
    return journal.phases if journal is not None else None


def _read(bag: Path) -> _Journal | None:
    if is_link(bag / DUNE) or is_link(bag / PENDING):
        return None
    try:
        journal = msgspec.json.decode(safe.read_bounded(bag / JOURNAL, _MOST), type=_Journal)
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        # It may be whole: what it decided must not be taken for undecided, and cleared away.
        raise ChestUnusableError(
            f"The journal in {shown(str(bag))} cannot be read: {error.strerror}. Nothing was touched. Run the command again; "
            "if that does not help, another port or cable may."
        ) from error
    except (ValueError, msgspec.MsgspecError, RecursionError):
        return None
    if journal.format > 1:
        raise ChestUnusableError(f"The journal in {shown(str(bag))} is of a newer format. Nothing was touched.")
    if journal.digest != _digest(journal.phases, journal.done):
        return None
    for step in (step for phase in (*journal.phases, *journal.done) for step in phase):
        why = _why_not(step)
        if why is not None:
            raise ChestUnusableError(
                f"The journal in {shown(str(bag))} would rename {shown(step.old)!r} to {shown(step.new)!r}: {why}. "
                "It was not written by Dune Chest, and nothing was touched."
            )
    return journal


def _why_not(step: Rename) -> str | None:
    """Say why a step of a journal must not be done, or None if it may."""
    for name in (step.old, step.new):
        if name and (why := why_unsafe(name)) is not None:
            return why
    if not step.old or not step.new:
        folder = step.old or step.new
        return (
            None
            if (folder + "/").startswith((DATA, EARLIER + "/", EDITIONS + "/"))
            else "that folder is not its concern"
        )
    if step.old.startswith(PENDING + "/") or step.new.startswith((PENDING + "/", EARLIER + "/", GONE + "/")):
        return None
    if step.old.startswith(EARLIER + "/") and step.new.startswith(DATA):  # a change that is rolled back
        return None
    return "it neither brings something from dune/pending nor keeps something in dune/earlier"


def refuse_if_impossible(bag: Path, phases: tuple[Phase, ...]) -> None:
    """Look at all that a change needs, before it is decided.

    Raises
    ------
    ChestUnusableError
        If something else has a name that the change needs, a folder of the bag is a link, or a path is too long.
    """
    left = {step.old for phase in phases for step in phase if step.old}
    longest = _longest_path(bag)
    real: set[str] = {""}
    for step in (step for phase in phases for step in phase if step.new):
        if len(os.fsencode(bag / step.new)) > longest:
            raise _impossible(bag, step.new, "its path is longer than this system allows")
        missing = False
        above = step.new.rpartition("/")[0]
        pieces = above.split("/") if above else []
        for count in range(1, len(pieces) + 1):
            folder = "/".join(pieces[:count])
            if folder in real or missing:
                continue
            mode = _mode(bag / folder)
            if mode is None or folder in left:
                missing = True  # it will be made
            elif not stat.S_ISDIR(mode):
                raise _impossible(bag, folder, "it should be a folder and is something else")
            else:
                real.add(folder)
        if step.old and not missing:
            _free_or_file(bag, step, left)


def _free_or_file(bag: Path, step: Rename, left: set[str]) -> None:
    """Refuse if a folder has the name that a file gets, and will not be gone by then."""
    mode = _mode(bag / step.new)
    if mode is None or not stat.S_ISDIR(mode):
        return
    for folder in folders_in(bag / step.new):
        with os.scandir(folder) as entries:
            others = [entry.path for entry in entries if not is_folder(entry)]
        for other in others:
            path = slashed(os.path.relpath(other, bag))
            if path not in left:
                raise _impossible(bag, path, "it is not part of the archive and is in the way of one of its files")
    if step.new not in left and step.new != DATA_FOLDER:
        raise _impossible(bag, step.new, "it should be a file and is a folder")


def _mode(path: Path) -> int | None:
    try:
        info = path.lstat()
    except (FileNotFoundError, NotADirectoryError):
        return None
    return stat.S_IFLNK if leads_elsewhere(info) else info.st_mode


def _longest_path(bag: Path) -> int:
    """Bytes that a path may have on this system."""
    if sys.platform == "win32":
        return 32_000
    try:
        return os.pathconf(bag, "PC_PATH_MAX") - 1
    except (ValueError, OSError):
        return 32_000


def _impossible(bag: Path, path: str, why: str) -> ChestUnusableError:
    return ChestUnusableError(
        f"{shown(path)} in {shown(bag.name)} is in the way: {why}. Nothing was changed. Move it away from the chest, "
        "or archive the library under another name (--as)."
    )


#: What the system says where something else has a name that a step needs: trying again would not help.
_IN_THE_WAY = frozenset({errno.ENOTDIR, errno.EISDIR, errno.ENOTEMPTY, errno.EEXIST, errno.ENAMETOOLONG, errno.ELOOP})


def finish(bag: Path) -> bool:
    """Carry out a decided change of a bag; False if there is none.

    Raises
    ------
    ChestUnusableError
        If something is in the way of it: then it was rolled back, where no record was replaced yet.
    OSError
        If the drive does not let it be done now.
    """
    journal = _read(bag)
    if journal is None:
        return False
    try:
        carry_out(bag, journal.phases, journal.done)
    except (OSError, ChestUnusableError) as error:
        if isinstance(error, OSError) and not _is_in_the_way(error):
            raise
        journal = _read(bag) or journal
        why = (
            str(error) if isinstance(error, ChestUnusableError) else f"{error.strerror}: {shown(str(error.filename))}"
        )
        if not _can_roll_back(bag, journal):
            raise ChestUnusableError(
                f"A decided change of {shown(bag.name)} cannot be finished: {why} Every file is on the drive."
            ) from error
        _roll_back(bag, journal)
        raise ChestUnusableError(
            f"A change of {shown(bag.name)} was interrupted and could not be finished ({why}), so it was rolled back; the "
            "archive is unchanged."
        ) from error
    return True


def _is_in_the_way(error: OSError) -> bool:
    """Whether something else has a name that a step needs. Windows only denies access to a file where a folder is."""
    denied = sys.platform == "win32" and error.errno == errno.EACCES
    return error.errno in _IN_THE_WAY or (denied and error.filename2 is not None and os.path.isdir(error.filename2))


def _can_roll_back(bag: Path, journal: _Journal) -> bool:
    """Whether no record was replaced yet: then the bag can be what it was."""
    records = [step for phase in (*journal.phases, *journal.done) for step in phase if step.old.startswith(_TAGS)]
    return bool(records) and all(os.path.lexists(bag / step.old) for step in records)


_TAGS = PENDING + "/tags/"


def _roll_back(bag: Path, journal: _Journal) -> None:
    """Undo what was done; if interrupted, this is finished as any decided change is."""
    back = []
    moved: dict[str, bool] = {}  # what is there, and what is not, once the later phases are undone

    def there(path: str) -> bool:
        return moved[path] if path in moved else os.path.lexists(bag / path)

    for phase in reversed((*journal.done, *journal.phases[:1])):
        steps = []
        for step in reversed(phase):
            if not step.old:
                steps.append(Rename(step.new, ""))
            elif not step.new:
                steps.append(Rename("", step.old))
            elif there(step.new) and not there(step.old):
                steps.append(Rename(step.new, step.old))
                moved[step.new], moved[step.old] = False, True
        if steps:
            back.append(tuple(steps))
    write(bag, tuple(back))
    carry_out(bag, tuple(back))


def carry_out(bag: Path, phases: tuple[Phase, ...], done: tuple[Phase, ...] = ()) -> None:
    """Do the steps that are not done yet, then remove what is pending.

    Safe to be interrupted anywhere and to be called again with what `read` returns.
    """
    for number, phase in enumerate(phases):
        parents: set[Path] = set()
        for step in phase:
            _do(bag, step, parents)
        for parent in sorted(parents):
            if parent.exists():
                disk.flush_folder(parent)
        if number + 1 < len(phases):
            write(bag, phases[number + 1 :], (*done, *phases[: number + 1]))
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
    for item in reversed(missing):
        disk.make_folder(item)
        parents.update((item, item.parent))


def _inside(bag: Path, folder: Path) -> None:
    """Refuse to go through a link: a chest is foreign input."""
    while folder != bag:
        if is_link(folder):
            raise ChestUnusableError(f"{shown(str(folder))} is a link. Nothing was changed through it.")
        folder = folder.parent


def refuse_if_decided(bag: Path) -> None:
    """Make sure that nothing is pending that was in the chest before, now that no whole journal speaks of it.

    Raises
    ------
    ChestUnusableError
        If there is: then a change was decided, and its journal is damaged.
    """
    if any((bag / place).is_dir() and any((bag / place).iterdir()) for place in (MOVED, GONE)):
        raise ChestUnusableError(
            f"A change in {shown(bag.name)} was interrupted after it had been decided, and its journal is damaged. "
            f"Nothing was touched: archived files lie in {PENDING} of that bag. Archive the library under another "
            "name (--as)."
        )


def clear(bag: Path) -> None:
    """Remove what is pending and was never decided; raises as `refuse_if_decided` does."""
    refuse_if_decided(bag)
    _remove(bag)


def _remove(bag: Path) -> None:
    """Remove what is pending, the journal first."""
    pending = bag / PENDING
    if is_link(pending) or not pending.exists():
        return
    disk.remove(bag / JOURNAL, missing_ok=True)
    try:
        disk.remove_tree(pending)
    except OSError as error:
        # The change is done by now; what cannot be removed (a folder that may not be written to) does no harm.
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST, errno.EACCES, errno.EPERM):
            raise
    disk.flush_folder(pending.parent)
