"""Whether what a change put somewhere is as it was left."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path

from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import Made, PastChange, Rewritten, Tree
from dunechest.names import from_wire
from dunechest.paths import is_link
from dunechest.transfer.digest_files import digest_of
from dunechest.transfer.system_files import is_of_system, is_system_file
from dunechest.transfer.walk import walk


def digest_or_none(path: Path) -> str:
    """Return a file's BLAKE3 digest in hexadecimal; empty if it cannot be read."""
    try:
        return digest_of(path)
    except OSError:
        return ""


def rewritten_in(past_change: PastChange) -> dict[str, Rewritten]:
    """Return the files that a change rewrote, by their full paths."""
    return {from_wire(step.path): step for step in past_change.steps if isinstance(step, Rewritten)}


def kept_file(past_change: PastChange, step: Rewritten) -> Path:
    """Return where a rewritten file is kept as it was before."""
    return past_changes.kept_folder(past_change.number) / step.kept


def is_empty_folder(path: Path) -> bool:
    """Whether a path is a folder with nothing in it, and no link."""
    return path.is_dir() and not is_link(path) and all(is_system_file(path / name) for name in os.listdir(path))


def came_to_it(past_change: PastChange, step: Tree | Made, path: Path) -> bool:
    """Whether what is in a place can be what the change put there.

    A change that was interrupted may not have come to it, and then something else is there. It is told by device and inode,
    which a rename keeps.
    """
    try:
        info = path.lstat()
    except OSError:
        return False
    if isinstance(step, Tree) and not stat.S_ISDIR(info.st_mode):
        return False
    if past_change.finished or not step.inode:
        return True
    return (info.st_dev, info.st_ino) == (step.device, step.inode)


def file_as_made(past_change: PastChange, step: Made, path: Path, rewritten: Mapping[str, Rewritten]) -> bool:
    """Whether a file is as it was made, or as the change rewrote it."""
    info = path.lstat()
    if not stat.S_ISREG(info.st_mode):
        return False
    own = rewritten.get(str(path))
    if own is not None:
        return digest_or_none(path) in (own.after, digest_or_none(kept_file(past_change, own)))
    if (info.st_size, info.st_mtime_ns) == (step.size, step.mtime_ns):
        return True
    return bool(step.blake3) and digest_or_none(path) == step.blake3


def tree_changes(
    past_change: PastChange,
    step: Tree,
    path: Path,
    rewritten: Mapping[str, Rewritten],
    *,
    gone_by_then: Collection[str] = (),
    digests: Mapping[str, str] | None = None,
) -> Iterable[str]:
    """Name what in a tree is not as it was put there.

    Parameters
    ----------
    past_change, step, path
        Which tree of which change, and where it is.
    rewritten : mapping
        Files that the change rewrote.
    gone_by_then : collection of str
        Paths that a later change of the same command made: they go first.
    digests : mapping
        Digests that files will have by then.
    """
    try:
        then = past_changes.tree_lines(past_change, step.listing)
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
            if str(path / name) not in gone_by_then and not is_of_system(path, name):
                found.append(f"{path / name} is new")
        elif here is None:
            found.append(f"{path / name} is gone")
        elif here != (line.size, line.mtime_ns if line.size >= 0 else 0):
            own = rewritten.get(str(path / name))
            digest = (digests or {}).get(str(path / name)) or digest_or_none(path / name)
            if own is None or digest not in (digest_or_none(kept_file(past_change, own)), own.after):
                found.append(f"{path / name} was changed")
    return found
