"""One class for each kind of step of a change: what undoing it means, and the undoing of it."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Generic, TypeVar

import msgspec

from dunechest.jobs.undo.as_left import (
    came_to_it,
    digest_or_none,
    file_as_made,
    is_empty_folder,
    kept_file,
    tree_changes,
)
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import (
    Aside,
    ChangedLink,
    Made,
    MadeFolder,
    MadeLink,
    PastChange,
    Removing,
    Rewritten,
    Step,
    Swapped,
    Tree,
    WasEmpty,
    Working,
)
from dunechest.machine import folder_links
from dunechest.model.undo import UndoAction
from dunechest.names import from_wire, to_wire
from dunechest.paths import is_link, prefix_of
from dunechest.transfer import disk, patient, safe
from dunechest.transfer.below import folders_in
from dunechest.transfer.owner import give, owner_above

_Step = TypeVar("_Step", bound=Step)


class Later(msgspec.Struct):
    """What later changes of the same command have done by the time an earlier one is undone: they go first."""

    made: set[str] = msgspec.field(default_factory=set)
    digests: dict[str, str] = msgspec.field(default_factory=dict)

    def digest(self, path: Path) -> str:
        """Return the digest a file will have by then."""
        return self.digests.get(str(path)) or digest_or_none(path)


class Look(msgspec.Struct, frozen=True):
    """What undoing a step does, if anything, and what forbids it."""

    action: UndoAction | None = None
    changed: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class UndoStep(Generic[_Step]):
    """A step of a change, to be looked at and to be undone.

    Parameters
    ----------
    past_change : PastChange
        The past_change.
    step : Step
        The step, which may have been taken or not.
    rewritten : mapping
        Files that the same change rewrote, by their full paths.
    """

    past_change: PastChange
    step: _Step
    rewritten: Mapping[str, Rewritten]

    def look(self, later: Later) -> Look:
        """Say what undoing the step does, given what was undone before. Changes nothing."""
        return Look()

    def note(self, later: Later) -> None:
        """Note in `later` what is different once this step is undone."""

    def back(self) -> None:
        """Undo the step, whether it was taken or not.

        Raises
        ------
        OSError
            If the system refuses.
        """


class _Aside(UndoStep[Aside]):
    def look(self, later: Later) -> Look:
        old, new = Path(from_wire(self.step.old)), Path(from_wire(self.step.new))
        if os.path.lexists(new):
            return Look(UndoAction(old, "renamed back"))
        return Look(changed=() if os.path.lexists(old) else (f"{new} is gone",))

    def back(self) -> None:
        old, new = Path(from_wire(self.step.old)), Path(from_wire(self.step.new))
        if not os.path.lexists(new) or (os.path.lexists(old) and not is_empty_folder(old)):
            return
        if os.path.lexists(old):
            disk.remove_bare_folder(old)
        disk.make_folder(old.parent)
        patient.rename(new, old)
        disk.flush_folder(old.parent)


class _Rewritten(UndoStep[Rewritten]):
    def look(self, later: Later) -> Look:
        path, kept = Path(from_wire(self.step.path)), kept_file(self.past_change, self.step)
        now = later.digest(path)
        if now != self.step.after:
            # It may be as before: the step was not taken, or was undone already.
            as_before = now != "" and now == digest_or_none(kept)
            return Look(changed=() if as_before else (f"{path} was changed",))
        gone = () if kept.is_file() else (f"the earlier content of {path} is no longer kept",)
        return Look(UndoAction(path, "as before"), gone)

    def note(self, later: Later) -> None:
        later.digests[from_wire(self.step.path)] = digest_or_none(kept_file(self.past_change, self.step))

    def back(self) -> None:
        path, kept = Path(from_wire(self.step.path)), kept_file(self.past_change, self.step)
        now = digest_or_none(path)
        if now == self.step.after:
            owner = owner_above(path)
            safe.write_file(path, kept.read_bytes(), mode=self.step.mode)
            give(owner, [path])
            now = digest_or_none(kept)
        # Also where the content is as before already: cut off, it may lack its mode and time.
        if now and now == digest_or_none(kept):
            os.chmod(path, self.step.mode)
            os.utime(path, ns=(self.step.mtime_ns, self.step.mtime_ns))


class _WasEmpty(UndoStep[WasEmpty]):
    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        if not os.path.lexists(path):
            path.mkdir()
            path.chmod(self.step.mode)


class _Working(UndoStep[Working]):
    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        if os.path.lexists(path):
            _clear(path)


class _Tree(UndoStep[Tree]):
    def look(self, later: Later) -> Look:
        path = Path(from_wire(self.step.path))
        if not os.path.lexists(path) or (
            not self.past_change.finished and not came_to_it(self.past_change, self.step, path)
        ):
            return Look()  # it did not come to that; what is there is somebody else's
        changed = tree_changes(
            self.past_change, self.step, path, self.rewritten, gone_by_then=later.made, digests=later.digests
        )
        return Look(UndoAction(path, "removed"), tuple(changed))

    def note(self, later: Later) -> None:
        later.made.add(from_wire(self.step.path))

    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        # Whatever somebody put there in the very moment in which it failed is not ours to remove.
        if not came_to_it(self.past_change, self.step, path):
            return
        if list(tree_changes(self.past_change, self.step, path, self.rewritten)):
            return
        # Gone from its place in one step: cut off while it is removed, it can be told from a changed one.
        aside = path.with_name(f"{past_changes.WORKING[0]}undo-{self.past_change.number:06d}-{path.name[:100]}")
        past_changes.add(self.past_change.number, Working(to_wire(str(aside))))
        patient.rename(path, aside)
        disk.flush_folder(path.parent)
        _clear(aside)


class _Made(UndoStep[Made]):
    def look(self, later: Later) -> Look:
        path = Path(from_wire(self.step.path))
        if not os.path.lexists(path) or (
            not self.past_change.finished and not came_to_it(self.past_change, self.step, path)
        ):
            return Look()
        as_made = file_as_made(self.past_change, self.step, path, self.rewritten)
        return Look(UndoAction(path, "removed"), () if as_made else (f"{path} was changed",))

    def note(self, later: Later) -> None:
        later.made.add(from_wire(self.step.path))

    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        if came_to_it(self.past_change, self.step, path) and file_as_made(
            self.past_change, self.step, path, self.rewritten
        ):
            disk.remove(path)


class _MadeLink(UndoStep[MadeLink]):
    def _as_made(self, path: Path) -> bool:
        return is_link(path) and os.readlink(path) == from_wire(self.step.target)

    def look(self, later: Later) -> Look:
        path = Path(from_wire(self.step.path))
        if not os.path.lexists(path):
            return Look()
        return Look(UndoAction(path, "removed"), () if self._as_made(path) else (f"{path} was changed",))

    def note(self, later: Later) -> None:
        later.made.add(from_wire(self.step.path))

    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        if self._as_made(path):
            disk.remove(path)


class _MadeFolder(UndoStep[MadeFolder]):
    def note(self, later: Later) -> None:
        later.made.add(from_wire(self.step.path))

    def back(self) -> None:
        path = Path(from_wire(self.step.path))
        if is_empty_folder(path):
            disk.remove_bare_folder(path)


class _Swapped(UndoStep[Swapped]):
    def _paths(self) -> tuple[Path, Path, str]:
        return Path(from_wire(self.step.old)), Path(from_wire(self.step.new)), from_wire(self.step.target)

    def look(self, later: Later) -> Look:
        old, new, target = self._paths()
        if folder_links.is_link_to(new, target):
            return Look()  # it did not come to that: the link waits beside
        if not os.path.lexists(new):
            return Look(changed=() if old.is_dir() and not is_link(old) else (f"{new} is gone",))
        in_the_way = os.path.lexists(old) and not folder_links.is_link_to(old, target) and not is_empty_folder(old)
        return Look(UndoAction(old, "renamed back"), (f"{old} was changed",) if in_the_way else ())

    def back(self) -> None:
        old, new, target = self._paths()
        if folder_links.is_link_to(new, target):
            folder_links.remove_link(new)
            return
        if not os.path.lexists(new):
            return
        if folder_links.is_link_to(old, target):
            if folder_links.exchange(old, new):
                folder_links.remove_link(new)
                disk.flush_folder(old.parent)
                return
            folder_links.remove_link(old)
        elif is_empty_folder(old):
            disk.remove_bare_folder(old)
        elif os.path.lexists(old):
            return
        disk.rename(new, old)
        disk.flush_folder(old.parent)


class _ChangedLink(UndoStep[ChangedLink]):
    def look(self, later: Later) -> Look:
        path, before, after = (from_wire(item) for item in (self.step.path, self.step.before, self.step.after))
        gone_by_then = path in later.made
        now = "" if gone_by_then else folder_links.target_of(path)
        if now == before and (before or not os.path.lexists(path) or gone_by_then):
            return Look()
        if now != after or (not after and os.path.lexists(path) and not gone_by_then):
            return Look(changed=(f"{path} was changed",))
        return Look(UndoAction(Path(path), "as before"))

    def back(self) -> None:
        path, before, after = (from_wire(item) for item in (self.step.path, self.step.before, self.step.after))
        if folder_links.target_of(path) == before:
            return
        if after and folder_links.is_link_to(path, after):
            folder_links.remove_link(path)
        if before and not os.path.lexists(path):
            folder_links.make_link(path, before)
        disk.flush_folder(os.path.dirname(path))


class _Removing(UndoStep[Removing]):
    def look(self, later: Later) -> Look:
        path, how = from_wire(self.step.path), self.step.how
        return Look(changed=(f"{path} was deleted to free its space{': ' + how if how else ''}",))


_KINDS: dict[type[Step], type[UndoStep[Any]]] = {
    Aside: _Aside,
    Rewritten: _Rewritten,
    WasEmpty: _WasEmpty,
    Working: _Working,
    Tree: _Tree,
    Made: _Made,
    MadeLink: _MadeLink,
    MadeFolder: _MadeFolder,
    Swapped: _Swapped,
    ChangedLink: _ChangedLink,
    Removing: _Removing,
}


def undo_steps(
    past_change: PastChange, rewritten: Mapping[str, Rewritten], *, only_references: bool
) -> Iterable[UndoStep[Any]]:
    """Yield the steps of a change to undo, the last one first; what was rewritten in a tree goes with the tree."""
    trees = tuple(prefix_of(from_wire(step.path)) for step in past_change.steps if isinstance(step, Tree))
    for step in reversed(past_change.steps):
        if only_references:
            wanted = isinstance(step, Rewritten) and step.why in ("references", "setting")
        else:
            in_tree = isinstance(step, Rewritten) and from_wire(step.path).startswith(trees or ("\0",))
            wanted = not in_tree
        if wanted:
            yield _KINDS[type(step)](past_change, step, rewritten)


def _clear(path: Path) -> None:
    """Remove what a restore worked in, by its name; nothing else."""
    if not (path.name.startswith(past_changes.WORKING[0]) or path.name.endswith(past_changes.WORKING[1])):
        return
    if path.is_dir() and not is_link(path):
        # A folder that may not be written to could not be emptied.
        folders_in(path, before=lambda folder: os.chmod(folder, stat.S_IMODE(os.lstat(folder).st_mode) | 0o700))
        disk.remove_tree(path)
    else:
        disk.remove(path)
