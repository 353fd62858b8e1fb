"""Take back what was done to this machine: exactly, or not at all."""

from __future__ import annotations

import itertools
import os
import stat
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from dunechest.errors import CutOff, DuneChestError, Refused, WordsOff
from dunechest.ledger import deeds
from dunechest.ledger.deeds import Aside, Deed, Made, MadeFolder, MadeLink, Rewritten, Step, Tree, WasEmpty, Working
from dunechest.machine.processes import lives
from dunechest.names import from_wire, shown, to_wire
from dunechest.transfer import disk, safe
from dunechest.transfer.below import folders_in
from dunechest.transfer.digest_files import digest_of
from dunechest.transfer.owner import give, owner_above
from dunechest.transfer.walk import walk
from dunechest.words import number


@dataclass(frozen=True, slots=True)
class Back:
    """One thing that taking back does: to what, and what (``removed``, ``as before``, ``name given back``)."""

    path: Path
    what: str


@dataclass(frozen=True, slots=True)
class UndoPlan:
    """What taking back a command means; `changed` says what somebody changed since, which forbids it.

    `deeds` are all deeds of the command, the latest first; `deed` is the latest.
    """

    deeds: tuple[Deed, ...]
    backs: tuple[Back, ...]
    changed: tuple[str, ...]
    only_references: bool = False

    @property
    def deed(self) -> Deed:
        """The latest deed of the command."""
        return self.deeds[0]


@dataclass(frozen=True, slots=True)
class UndoResult:
    """What was taken back."""

    deed: Deed
    backs: tuple[Back, ...]


def last_command() -> tuple[Deed, ...]:
    """Return the deeds of the last command that stands, the latest first.

    Raises
    ------
    WordsOff
        If there is none.
    """
    standing = (
        deed
        for deed in deeds.deeds()
        if deed.how != "taken back" and any(not isinstance(step, Working) for step in deed.steps)
    )
    found = list(itertools.islice(standing, 1))
    if not found:
        raise WordsOff("Nothing to undo.")
    command = found[0].head.command
    found += itertools.takewhile(lambda deed: command and deed.head.command == command, standing)
    return tuple(found)


def plan_undo(deed: Deed | None = None, *, only_references: bool = False) -> UndoPlan:
    """Plan to take back the last command. Changes nothing.

    Parameters
    ----------
    deed : Deed, optional
        Only this deed.
    only_references : bool
        Only what was written anew: references and settings.

    Raises
    ------
    WordsOff
        If there is nothing to take back.
    """
    every = (deed,) if deed is not None else last_command()
    if only_references and not any(_steps(one, True) for one in every):
        raise WordsOff("The last change on this computer updated no references or settings.")
    changed: list[str] = []
    backs: list[Back] = []
    later = _Later()
    for one in every:
        rewritten = _rewritten(one)
        for step in reversed(_steps(one, only_references)):
            back = _look(one, step, rewritten, changed, later)
            if back is not None:
                backs.append(back)
            later.note(one, step)
    return UndoPlan(every, tuple(backs), tuple(changed), only_references)


class _Later:
    """What later deeds of the same command have done by the time an earlier one is looked at: it goes first."""

    def __init__(self) -> None:
        self.made: set[str] = set()
        self.digests: dict[str, str] = {}

    def note(self, deed: Deed, step: Step) -> None:
        """Take note of a step that is taken back before."""
        if isinstance(step, Made | MadeLink | MadeFolder | Tree):
            self.made.add(from_wire(step.path))
        elif isinstance(step, Rewritten):
            self.digests[from_wire(step.path)] = _digest(deeds.kept_folder(deed.number) / step.kept)

    def digest(self, path: Path) -> str:
        """Return the digest a file will have by then."""
        return self.digests.get(str(path)) or _digest(path)


def _steps(deed: Deed, only_references: bool) -> list[Step]:
    """Return the steps to take back; what was written in a tree goes with the tree."""
    if only_references:
        return [s for s in deed.steps if isinstance(s, Rewritten) and s.why in ("references", "setting")]
    trees = [from_wire(step.path) + os.sep for step in deed.steps if isinstance(step, Tree)]
    return [
        step
        for step in deed.steps
        if not (isinstance(step, Rewritten) and from_wire(step.path).startswith(tuple(trees) or ("\0",)))
    ]


def undo(plan: UndoPlan) -> UndoResult:
    """Take a deed back.

    Raises
    ------
    Refused
        If somebody changed something since; nothing was changed then.
    CutOff
        If the system refuses in the middle; the same command goes on from there.
    """
    if plan.changed:
        some = "; ".join(shown(one) for one in plan.changed[:5])
        more = f"; and {len(plan.changed) - 5:,} more" if len(plan.changed) > 5 else ""
        raise Refused(
            f"It cannot be taken back exactly, since {number(len(plan.changed), 'thing')} changed meanwhile: {some}{more}. "
            "Nothing was changed. Look at them; what you want to be rid of can be removed by hand."
        )
    try:
        for deed in plan.deeds:
            take_back(deed, only_references=plan.only_references)
    except OSError as error:
        raise CutOff(
            f"Undo was interrupted: {error.strerror or error}. Run the same command again to continue."
        ) from error
    return UndoResult(plan.deed, plan.backs)


def cut_off() -> tuple[Deed, ...]:
    """Return the deeds that a process had begun and not finished which is no more, the latest first."""
    return tuple(
        deed
        for deed in deeds.deeds()
        if not deed.finished and deed.head.pid != os.getpid() and not lives(deed.head.pid)
    )


def recover() -> tuple[Deed, ...]:
    """Take back what a process that is no more had begun and not finished; return those deeds.

    Raises
    ------
    DuneChestError
        If something of it was changed since, so that a person has to look.
    """
    found = []
    for deed in cut_off():
        plan = plan_undo(deed)
        if plan.changed:
            some = "; ".join(shown(one) for one in plan.changed[:3])
            raise DuneChestError(
                f"A restore of {shown(deed.head.about)} was cut off, and what it had begun was changed since: {some}. "
                f"Nothing was changed now. What was renamed or written is listed in {_file(deed)}; put it in order, then "
                "remove that file."
            )
        take_back(deed)
        found.append(deed)
    return tuple(found)


def _file(deed: Deed) -> str:
    return shown(str(deeds.kept_folder(deed.number).with_suffix(".jsonl")))


def take_back(deed: Deed, *, only_references: bool = False) -> None:
    """Take a deed back without asking; each step whether it was taken or not.

    Raises
    ------
    OSError
        If the system refuses.
    """
    rewritten = _rewritten(deed)
    for step in reversed(_steps(deed, only_references)):
        _back(deed, step, rewritten)
    if not only_references:
        deeds.close(deed.number, "taken back")
        deeds.forget(deed.number)


def _rewritten(deed: Deed) -> dict[str, Rewritten]:
    return {from_wire(step.path): step for step in deed.steps if isinstance(step, Rewritten)}


def _back(deed: Deed, step: Step, rewritten: dict[str, Rewritten]) -> None:
    if isinstance(step, Aside):
        old, new = Path(from_wire(step.old)), Path(from_wire(step.new))
        if os.path.lexists(new) and (not os.path.lexists(old) or _empty(old)):
            if os.path.lexists(old):
                old.rmdir()
            disk.make_folder(old.parent)
            os.rename(new, old)
            disk.flush_folder(old.parent)
        return
    path = Path(from_wire(step.path))
    if isinstance(step, Rewritten):
        kept = deeds.kept_folder(deed.number) / step.kept
        now = _digest(path)
        if now == step.after:
            owner = owner_above(path)
            safe.write_file(path, kept.read_bytes(), mode=step.mode)
            give(owner, [path])
            now = _digest(kept)
        # Also where the content is as before already: cut off, it may lack its mode and time.
        if now and now == _digest(kept):
            os.chmod(path, step.mode)
            os.utime(path, ns=(step.mtime_ns, step.mtime_ns))
    elif isinstance(step, WasEmpty):
        if not os.path.lexists(path):
            path.mkdir()
            path.chmod(step.mode)
    elif not os.path.lexists(path):
        return
    elif isinstance(step, Working):
        _clear(path)
    elif isinstance(step, Tree):
        # Whatever somebody put there in the very moment in which it failed is not ours to remove.
        if _ours(deed, step, path) and not list(_tree_changes(deed, step, path, rewritten)):
            # Gone from its place in one step: cut off while it is removed, it can be told from a changed one.
            aside = path.with_name(f"{deeds.WORKING[0]}undo-{deed.number:06d}-{path.name[:100]}")
            deeds.add(deed.number, Working(to_wire(str(aside))))
            os.rename(path, aside)
            disk.flush_folder(path.parent)
            _clear(aside)
    elif isinstance(step, Made | MadeLink):
        if _ours(deed, step, path) and _as_made(deed, step, path, rewritten):
            disk.remove(path)
    elif isinstance(step, MadeFolder) and _empty(path):
        path.rmdir()


def _clear(path: Path) -> None:
    """Remove what a restore worked in, by its name; nothing else."""
    if not (path.name.startswith(deeds.WORKING[0]) or path.name.endswith(deeds.WORKING[1])):
        return
    if path.is_dir() and not path.is_symlink():
        _writable(path)
        disk.remove_tree(path)
    else:
        disk.remove(path)


def _writable(folder: Path) -> None:
    """Let a tree be removed whose folders may not be written to."""
    folders_in(folder, before=lambda one: os.chmod(one, stat.S_IMODE(os.lstat(one).st_mode) | 0o700))


def _empty(path: Path) -> bool:
    return path.is_dir() and not path.is_symlink() and not os.listdir(path)


def _digest(path: Path) -> str:
    try:
        return digest_of(path)
    except OSError:
        return ""


def _ours(deed: Deed, step: Tree | Made | MadeLink, path: Path) -> bool:
    """Whether what is in a place can be what the deed put there.

    A deed that was cut off may not have come to it, and then something else is there. It is told by device and inode,
    which a rename keeps.
    """
    try:
        info = path.lstat()
    except OSError:
        return False
    if isinstance(step, Tree) and not stat.S_ISDIR(info.st_mode):
        return False
    if isinstance(step, MadeLink) or deed.finished or not step.inode:
        return True
    return (info.st_dev, info.st_ino) == (step.device, step.inode)


def _look(deed: Deed, step: Step, rewritten: dict[str, Rewritten], changed: list[str], later: _Later) -> Back | None:
    """Say what taking a step back does; note what forbids it."""
    if isinstance(step, Aside):
        old, new = Path(from_wire(step.old)), Path(from_wire(step.new))
        if not os.path.lexists(new):
            if not os.path.lexists(old):
                changed.append(f"{new} is gone")
            return None
        return Back(old, "name given back")
    path = Path(from_wire(step.path))
    if isinstance(step, Rewritten):
        return _look_rewritten(deed, step, path, changed, later)
    if not os.path.lexists(path) or isinstance(step, WasEmpty):
        return None
    if isinstance(step, Tree | Made | MadeLink) and not deed.finished and not _ours(deed, step, path):
        return None  # it did not come to that; what is there is somebody else's
    if isinstance(step, Tree):
        changed += _tree_changes(deed, step, path, rewritten, later)
        return Back(path, "removed")
    if isinstance(step, Made | MadeLink):
        if not _as_made(deed, step, path, rewritten):
            changed.append(f"{path} was changed")
        return Back(path, "removed")
    return None


def _as_made(deed: Deed, step: Made | MadeLink, path: Path, rewritten: dict[str, Rewritten]) -> bool:
    """Whether a file or link is as it was made."""
    if isinstance(step, MadeLink):
        return path.is_symlink() and os.readlink(path) == from_wire(step.target)
    info = path.lstat()
    if not stat.S_ISREG(info.st_mode):
        return False
    own = rewritten.get(str(path))
    if own is not None:
        return _digest(path) in (own.after, _digest(deeds.kept_folder(deed.number) / own.kept))
    if (info.st_size, info.st_mtime_ns) == (step.size, step.mtime_ns):
        return True
    return bool(step.blake3) and _digest(path) == step.blake3


def _look_rewritten(deed: Deed, step: Rewritten, path: Path, changed: list[str], later: _Later) -> Back | None:
    kept = deeds.kept_folder(deed.number) / step.kept
    now = later.digest(path)
    if now != step.after:
        # It may be as before: the step was not taken, or was taken back already.
        if now == "" or now != _digest(kept):
            changed.append(f"{path} was changed")
        return None
    if not kept.is_file():
        changed.append(f"what {path} was is no longer kept")
    return Back(path, "as before")


def _tree_changes(
    deed: Deed, step: Tree, path: Path, rewritten: dict[str, Rewritten], later: _Later | None = None
) -> Iterable[str]:
    """Name what in a tree is not as it was put there; what a later deed of the same command made goes first."""
    gone_by_then = later.made if later is not None else set()
    try:
        then = deeds.tree_lines(deed, step.listing)
    except (OSError, ValueError) as error:
        return [f"the list of what was in {path} cannot be read ({error})"]
    listing = walk(str(path))
    now: dict[str, tuple[int, int]] = {file.path: (file.size, file.mtime_ns) for file in listing.files}
    now |= {folder.path: (-1, 0) for folder in listing.folders if folder.path}
    now |= {link.path: (-2, 0) for link in listing.links}
    now |= {other.path: (-3, 0) for other in (*listing.others, *listing.unreadable)}
    found = []
    for name in sorted({*then, *now}):
        line, here = then.get(name), now.get(name)
        if line is None:
            if str(path / name) not in gone_by_then:
                found.append(f"{path / name} is new")
        elif here is None:
            found.append(f"{path / name} is gone")
        elif here != (line.size, line.mtime_ns if line.size >= 0 else 0):
            own = rewritten.get(str(path / name))
            kept = deeds.kept_folder(deed.number) / own.kept if own is not None else None
            now_digest = later.digest(path / name) if later is not None else _digest(path / name)
            if kept is None or now_digest not in (_digest(kept), own.after if own is not None else ""):
                found.append(f"{path / name} was changed")
    return found
