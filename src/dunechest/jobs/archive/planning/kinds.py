"""The kind of a library that was archived before: lost since, or another one by now."""

from __future__ import annotations

from msgspec.structs import replace

from dunechest.chest.chest import Chest
from dunechest.chest.origin import came_from
from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.carried import carried, kind_from
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN, Kind
from dunechest.library.library import SAID, Library
from dunechest.model.findings import finding_of
from dunechest.names import shown

#: The evidence of a library that shows no sign any more of the kind it had.
_FORMER = ("its kind in the last archive",)


def with_former_kind(library: Library, chest: Chest) -> Library:
    """Return a library with the kind it had in the chest, if it is not recognised any more.

    A catalogue that was lost or renamed takes the signs away, and what it named outside would no longer be protected. So
    the kind stays until a person says another one.
    """
    if library.evidence == SAID or not (library.kind.name == PLAIN or library.kind.open):
        return library
    own = [e.library for e in chest.bags() if e.library is not None and came_from(e.library, library.path)]
    if not own:
        return library
    record = max(own, key=lambda record: record.archived)
    former = load_kinds(state_folder(), []).get(record.kind) or kind_from(record.kind_file, record.kind)
    if former is None or former.open or former.name == library.kind.name:
        return library
    return replace(library, kind=former, evidence=_FORMER)


def kind_findings(library: Library, before: LibraryRecord | None) -> list[Finding]:
    """Say that a library lost its kind, or has another one than when it was archived last."""
    title = shown(library.kind.title)
    if library.evidence == _FORMER:
        return [finding_of("kind-lost", title=title)]
    if before is None or not kind_changed(library.kind, before):
        return []
    return [finding_of("kind-changed", before=before.kind_title, now=title)]


def kind_changed(kind: Kind, before: LibraryRecord) -> bool:
    """Whether a library has another kind than in its latest edition, or the kind says something else by now."""
    return kind.name != before.kind or carried(kind) != before.kind_file
