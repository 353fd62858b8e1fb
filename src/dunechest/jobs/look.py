"""Look at one library: what is in it by role, the biggest things, and whether it is in use."""

from __future__ import annotations

import os
from dataclasses import dataclass
from typing import TYPE_CHECKING

from dunechest.errors import CutOff
from dunechest.findings import Finding, weightiest_first
from dunechest.jobs.find import Library, library_at
from dunechest.library.inuse import Use, in_use
from dunechest.library.kinds import Kind
from dunechest.library.recognise import expand
from dunechest.library.roles import RoleTotal, role_of, totals
from dunechest.machine.folders import own_home, standard_folders
from dunechest.names import shown
from dunechest.transfer.walk import Walk, walk

if TYPE_CHECKING:
    import pandas as pd

_BIGGEST = 8


@dataclass(frozen=True, slots=True)
class BigThing:
    """A file or a folder of the library's top, and its bytes and files."""

    path: str
    role: str
    files: int
    bytes: int


@dataclass(frozen=True, slots=True)
class Readiness:
    """What a look at a library shows; `findings` are weightiest first."""

    library: Library
    files: int
    bytes: int
    roles: tuple[RoleTotal, ...]
    biggest: tuple[BigThing, ...]
    links: int
    folders: int
    uses: tuple[Use, ...]
    findings: tuple[Finding, ...]

    def to_frame(self) -> pd.DataFrame:
        """Return one row a role: role, files, bytes."""
        import pandas as pd

        return pd.DataFrame(
            [{"role": r.role, "files": r.files, "bytes": r.bytes} for r in self.roles],
            columns=["role", "files", "bytes"],
        )


def look(library: Library | str | os.PathLike[str]) -> Readiness:
    """Look at a library without changing anything or opening its files.

    Parameters
    ----------
    library : Library or path
        What to look at.

    Returns
    -------
    Readiness

    Raises
    ------
    CutOff
        If its folder cannot be listed.
    """
    if not isinstance(library, Library):
        library = library_at(library)
    listing = list_library(library)
    uses = in_use(library.path, library.kind, [f.path for f in listing.files])
    return Readiness(
        library=library,
        files=len(listing.files),
        bytes=listing.bytes,
        roles=totals(library.kind, listing.files),
        biggest=_biggest(library.kind, listing),
        links=len(listing.links),
        folders=len(listing.folders),
        uses=uses,
        findings=weightiest_first(library_findings(library, listing, uses)),
    )


def list_library(library: Library) -> Walk:
    """Walk a library; an unreadable top is a `CutOff`."""
    try:
        return walk(str(library.path))
    except OSError as error:
        raise CutOff(f"{shown(str(library.path))} cannot be listed: {error.strerror}.") from error


def library_findings(library: Library, listing: Walk, uses: tuple[Use, ...]) -> list[Finding]:
    """Return what is to be said of a library before a byte moves."""
    findings = []
    application = library.kind.application or "the application"
    if uses:
        first = uses[0]
        others = f" and {len(uses) - 1} more" if len(uses) > 1 else ""
        findings.append(
            Finding(
                "in-use",
                "stop",
                f"The library is in use by {shown(first.process)} (process {first.pid}){others}: {shown(first.how)}.",
                f"Close {application} and try again; or go on with --despite in-use, and what changes "
                "meanwhile may not fit together.",
                yields=True,
            )
        )
    findings.extend(_halves(library, listing))
    if not listing.files:
        findings.append(
            Finding("empty", "warn", "There is not one file in it.", "Make sure that this is the right folder.")
        )
    if listing.unreadable:
        first_one = listing.unreadable[0]
        findings.append(
            Finding(
                "unreadable",
                "warn",
                f"{len(listing.unreadable)} folder(s) or name(s) cannot be read, the first being "
                f"{shown(first_one.path)}: {first_one.why}.",
                "Run the command as someone who may read them, or accept that they stay behind.",
            )
        )
    if listing.others:
        findings.append(
            Finding(
                "no-files",
                "note",
                f"{len(listing.others)} name(s) are sockets, pipes or devices.",
                "They hold no bytes and will be named and left out.",
            )
        )
    findings.extend(_elsewhere(library))
    return findings


def _halves(library: Library, listing: Walk) -> list[Finding]:
    """Find what belongs together and is not there together."""
    files = {f.path for f in listing.files}
    folders = {f.path for f in listing.folders}
    findings = []
    for group in library.kind.together:
        present = [p for p in group if (p.rstrip("/") in folders if p.endswith("/") else p in files)]
        missing = [p for p in group if p not in present]
        if present and missing:
            findings.append(
                Finding(
                    "half-library",
                    "stop",
                    f"{', '.join(present)} is here, {', '.join(missing)} is not; one is worth nothing without "
                    "the other.",
                    "Find the missing half and put it back in its place; or go on with --despite half-library.",
                    yields=True,
                )
            )
    return findings


def _elsewhere(library: Library) -> list[Finding]:
    """Tell of what the application keeps outside the library."""
    findings = []
    folders = standard_folders(own_home())
    for one in library.kind.elsewhere:
        for place in expand(one.place, folders):
            if place.exists():
                findings.append(
                    Finding(
                        "elsewhere",
                        "warn",
                        f"{library.kind.application or 'The application'} keeps {shown(one.what)} outside "
                        f"the library, in {shown(str(place))}.",
                        "Archive that folder too: it is not part of this library.",
                    )
                )
    return findings


def _biggest(kind: Kind, listing: Walk) -> tuple[BigThing, ...]:
    """Return the biggest things directly in the library: its files, and its folders with all in them."""
    sums: dict[tuple[str, str], list[int]] = {}
    for file in listing.files:
        head, inside, _ = file.path.partition("/")
        entry = sums.setdefault((head + inside, role_of(kind, file.path)), [0, 0])
        entry[0] += 1
        entry[1] += file.size
    things = [BigThing(path, role, count, size) for (path, role), (count, size) in sums.items()]
    things.sort(key=lambda t: (-t.bytes, t.path))
    return tuple(things[:_BIGGEST])
