"""The role of each file of a library: what cannot be lost, and what can be made again."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Literal

import msgspec

from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.kinds.schema import Kind
from dunechest.transfer.walk import FileEntry

Role = Literal["essential", "rebuildable", "must-not-leave"]


class RoleTotal(msgspec.Struct, frozen=True):
    """How many files have a role, and their bytes."""

    role: Role
    file_count: int
    size_bytes: int


def role_of(kind: Kind, path: str, *, lock_mark: bool = False) -> Role:
    """Return the role of one file. What no pattern names is essential: a doubt never costs a file."""
    if kind.must_not_leave.match(path):
        return "must-not-leave"
    if kind.kept.match(path):
        return "essential"
    if lock_mark or kind.rebuildable.match(path):
        return "rebuildable"
    return "essential"


def roles_of(kind: Kind, files: Iterable[FileEntry], lock_marks: Collection[str] = ()) -> dict[str, Role]:
    """Return by path the roles of those files that are not essential; a certain lock mark can be made again.

    Most are essential, and there may be hundreds of thousands, so each is held against the patterns once.
    """
    special = kind.not_essential.among([f.path for f in files])
    found = ((path, role_of(kind, path, lock_mark=path in lock_marks)) for path in special)
    return {path: role for path, role in found if role != "essential"}


def totals(roles: Mapping[str, Role], files: Iterable[FileEntry]) -> tuple[RoleTotal, ...]:
    """Count files and bytes by role, the essential ones first."""
    counts: dict[Role, list[int]] = {"essential": [0, 0], "rebuildable": [0, 0], "must-not-leave": [0, 0]}
    for file in files:
        count = counts[roles.get(file.path, "essential")]
        count[0] += 1
        count[1] += file.size
    return tuple(RoleTotal(role, *count) for role, count in counts.items() if role != "must-not-leave" or count[0])


def databases_among(
    kind: Kind, files: Iterable[FileEntry], known: Collection[str] = ()
) -> dict[str, tuple[str, ...]]:
    """Find the databases that are to be captured, each with the companion files that lie beside it.

    Those that the kind names, those that are `known` to be databases, and in any library whatever has a filled write-ahead
    log or rollback journal beside it: its main file alone would be a broken copy.
    """
    sizes = {file.path: file.size for file in files}
    found: dict[str, tuple[str, ...]] = {}
    for path in (*kind.database_patterns.among(sizes), *(path for path in known if path in sizes)):
        found[path] = tuple(path + end for end in COMPANIONS if path + end in sizes)
    for path, size in sizes.items():
        if path.endswith(("-wal", "-journal")) and size:
            main = path.removesuffix("-wal").removesuffix("-journal")
            if main in sizes and main not in found:
                found[main] = tuple(main + end for end in COMPANIONS if main + end in sizes)
    return found
