"""What a library holds, learned once: its files, who has it open, what it refers to, its parts."""

from __future__ import annotations

import os
from bisect import bisect_left
from pathlib import Path

from dunechest.errors import CutOffError
from dunechest.ledger.folder import state_folder
from dunechest.library.in_use import in_use, lock_marks, marked
from dunechest.library.integrity import databases_in
from dunechest.library.kinds.load import load_kinds
from dunechest.library.library import Library
from dunechest.library.parts import Part, list_parts
from dunechest.library.recognise import Recognised
from dunechest.library.references.open_formats import with_open_formats
from dunechest.library.references.reading import ReferenceReport, read_references
from dunechest.library.roles import roles_of
from dunechest.library.search import inside
from dunechest.machine.closed import advice_on
from dunechest.machine.folders import own_home
from dunechest.model.study import Contents
from dunechest.names import shown
from dunechest.transfer.walk import Walk, walk_own
from dunechest.values import FrozenDict


def study(library: Library, listing: Walk | None = None) -> Contents:
    """Walk a library and read what it refers to; nothing is changed, and no placeholder is opened.

    Parameters
    ----------
    library : Library
        The library.
    listing : Walk, optional
        From `list_library`, if it was walked a moment ago.

    Raises
    ------
    CutOffError
        If its folder cannot be listed.
    """
    listing = listing or list_library(library)
    home = Path(os.path.realpath(own_home()))
    report = ReferenceReport()
    parts: tuple[Part, ...] = ()
    contains: tuple[Recognised, ...] = ()
    if library.shape == "folder":
        kind = with_open_formats(library.kind, library.path, listing.files)
        report = read_references(kind, library.path, listing, home)
        parts = list_parts(library.kind, library.path, listing, report.references, home)
        contains = inside(library.path, library.kind, listing, load_kinds(state_folder(), []).values())
    # Last, so that nobody who opened it meanwhile is missed. A placeholder would be fetched by asking.
    there = [f.path for f in listing.files if not f.placeholder]
    uses = in_use(library.path, library.kind, there, home)
    for inner in contains:
        within = inner.path.relative_to(library.path).as_posix()
        # In their order the files of a folder stand together; 0 comes after the slash.
        below = there[bisect_left(there, f"{within}/") : bisect_left(there, f"{within}0")]
        uses += marked(inner.path, inner.kind, [path[len(within) + 1 :] for path in below], uses)
    marks = lock_marks(library.path, library.kind, listing.files)
    roles = FrozenDict(roles_of(library.kind, listing.files, marks))
    databases = frozenset(databases_in(library.path, listing) if uses and library.shape == "folder" else ())
    return Contents(library, listing, roles, uses, report, parts, marks, contains, databases)


def list_library(library: Library) -> Walk:
    """Walk a library; an unreadable top is a `CutOffError`."""
    try:
        return walk_own(str(library.path))
    except OSError as error:
        advice = advice_on(error)
        more = f" {advice}." if advice else ""
        raise CutOffError(f"{shown(str(library.path))} cannot be listed: {error.strerror}.{more}") from error
