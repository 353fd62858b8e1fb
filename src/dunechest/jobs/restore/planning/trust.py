"""What a stranger's archive may not do."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.study.protected_places import why_archive
from dunechest.library.kinds.schema import Kind
from dunechest.machine.sensitive import why_sensitive
from dunechest.model.findings import finding_of
from dunechest.model.restore import Placement
from dunechest.names import from_wire


def place_findings(
    record: LibraryRecord, kind: Kind, placement: Placement, archived_here: Callable[[], bool]
) -> Iterator[Finding]:
    """Stop where a library must not go: into an archive, or, because a stranger's record says so, where files act."""
    assert placement.place is not None
    if why := why_archive(placement.place):
        yield finding_of("inside-archive", place=str(placement.place), why=why)
    origin = f"{{{record.origin.standard}}}/{from_wire(record.origin.relative)}"
    known = any(origin in places for places in kind.places.values())
    if placement.how != "standard" or known:
        return
    relative = from_wire(record.origin.relative)
    why = why_sensitive(relative, standard=record.origin.standard, file=record.shape == "file")
    if why and not archived_here():
        yield finding_of("sensitive-place", place=str(placement.place), why=why)
