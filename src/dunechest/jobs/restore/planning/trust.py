"""What a stranger's archive may not do."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.protected import why_archive
from dunechest.library.kinds.schema import Kind
from dunechest.machine.sensitive import why_sensitive
from dunechest.model.restore import Placement
from dunechest.names import from_wire, quoted, shown


def place_findings(
    record: LibraryRecord, kind: Kind, placement: Placement, made_here: Callable[[], bool]
) -> Iterator[Finding]:
    """Stop where a library must not go: into an archive, or, because a stranger's record says so, where files act."""
    assert placement.place is not None
    if why := why_archive(placement.place):
        yield Finding(
            "inside-archive",
            "blocks",
            f"{shown(str(placement.place))} cannot be its place: {shown(why)}.",
            "An archive must not be changed. Restore elsewhere with --into FOLDER.",
        )
    origin = f"{{{record.origin.standard}}}/{from_wire(record.origin.relative)}"
    known = any(origin in places for places in kind.places.values())
    if placement.how != "standard" or known:
        return
    relative = from_wire(record.origin.relative)
    why = why_sensitive(relative, standard=record.origin.standard, file=record.shape == "file")
    if why and not made_here():
        yield Finding(
            "sensitive-place",
            "blocks",
            f"The archive says it belongs in {shown(str(placement.place))}; {why}. It was made on another computer.",
            f"If you trust it and want it there, name the folder yourself: --into {quoted(str(placement.place))}",
        )
