"""What lies around an original and would be harmed if it went: who has it open, mounts, links and references from outside."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.study.contents import list_library
from dunechest.jobs.study.protected_places import why_protected
from dunechest.ledger.ledger import open_ledger
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.references.reading import read_references
from dunechest.machine.folders import own_home
from dunechest.machine.mounts import mounts
from dunechest.model.findings import finding_of
from dunechest.names import shown
from dunechest.paths import is_folder, is_link, prefix_of
from dunechest.transfer.walk import FileEntry

#: Seconds that links from outside are looked for.
_PATIENCE = 60.0


def around_findings(
    library: Library, uses: Iterable[Use], going: Iterable[FileEntry], *, whole: bool
) -> Iterator[Finding]:
    """Yield what there is to say of an original's surroundings.

    Parameters
    ----------
    library : Library
        The library that goes, or a part of it.
    uses : iterable of Use
        Who has it open.
    going : iterable of FileEntry
        The files that are deleted.
    whole : bool
        Whether the whole library goes: what refers to it is only asked then.
    """
    place = library.path
    for use in list(uses)[:1]:
        pid = f" (process {use.process_id})" if use.process_id > 0 else ""
        yield finding_of(
            "in-use/reclaim",
            process=use.process,
            pid=pid,
            how=use.how,
            application=shown(library.kind.application) or "the application",
        )
    if not os.access(place.parent, os.W_OK | os.X_OK):
        yield finding_of("no-access/reclaim", parent=str(place.parent))
    yield from mount_findings(place)
    yield from _hard_links(going)
    if whole:
        why = why_protected(place, own_home())
        if why and not any(mounts_in(place)):
            yield finding_of("protected-place/reclaim", place=str(place), why=why)
        yield from _links_to(place)
        yield from _references_to(library)


def mounts_in(place: Path) -> Iterator[Path]:
    """Yield the folders below a place, or the place itself, in which something is mounted."""
    for part in mounts():
        mount = Path(part.mountpoint)
        if mount == place or mount.is_relative_to(place):
            yield mount


def mount_findings(place: Path) -> Iterator[Finding]:
    """Yield a finding where something is mounted in a folder: what lies there is on another drive."""
    for mount in list(mounts_in(place))[:1]:
        yield finding_of("mounted", mount=str(mount))


def _hard_links(going: Iterable[FileEntry]) -> Iterator[Finding]:
    names: dict[tuple[int, int], int] = {}
    counts: dict[tuple[int, int], int] = {}
    sizes: dict[tuple[int, int], FileEntry] = {}
    for file in going:
        if file.names > 1:
            key = (file.device, file.inode)
            counts[key] = counts.get(key, 0) + 1
            names[key] = file.names
            sizes[key] = file
    left = [sizes[key] for key, count in counts.items() if names[key] > count]
    if left:
        yield finding_of("hard-links", files=len(left), first=left[0].path)


def _links_to(place: Path) -> Iterator[Finding]:
    """Yield a finding if symbolic links in the home lead into a folder."""
    real = os.path.realpath(place)
    until = time.monotonic() + _PATIENCE
    found: list[str] = []
    pending = [os.path.realpath(own_home())]
    while pending and time.monotonic() < until:
        folder = pending.pop()
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if is_link(entry):
                        target = os.path.realpath(entry.path)
                        if target == real or target.startswith(prefix_of(real)):
                            found.append(entry.path)
                    elif is_folder(entry) and entry.path != real and not os.path.ismount(entry.path):
                        pending.append(entry.path)
        except OSError:
            continue
    if found:
        yield finding_of("linked-from", links=len(found), first=sorted(found)[0])


def _references_to(library: Library) -> Iterator[Finding]:
    """Yield a finding if another library that `find` showed uses files of this one."""
    place = os.path.realpath(library.path)
    try:
        with open_ledger() as ledger:
            seen = ledger.seen_libraries()
    except DuneChestError:
        return
    using: dict[str, int] = {}
    for name, _, other in seen:
        real = os.path.realpath(other)
        if (
            not os.path.isdir(real)
            or real == place
            or real.startswith(prefix_of(place))
            or place.startswith(prefix_of(real))
        ):
            continue
        count = _count_references(Path(real), place)
        if count:
            using[name] = count
    for name, count in sorted(using.items())[:1]:
        more = f", and {len(using) - 1} more libraries use it" if len(using) > 1 else ""
        yield finding_of("referred-to", name=name, files=count, more=more)


def _count_references(other: Path, place: str) -> int:
    """Count the files below a place that another library refers to."""
    from dunechest.jobs.known.named import library_at

    try:
        found = library_at(other)
        report = read_references(found.kind, other, list_library(found), Path(os.path.realpath(own_home())))
    except (DuneChestError, OSError):
        return 0
    targets = {os.path.realpath(r.target) for r in report.references if r.state == "outside"}
    return sum(target.startswith(prefix_of(place)) for target in targets)
