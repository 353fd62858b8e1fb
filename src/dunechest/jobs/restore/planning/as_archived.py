"""What a library was when it was archived, of what comes back of it."""

from __future__ import annotations

from collections.abc import Sequence

from dunechest.chest.records import LibraryRecord
from dunechest.jobs.restore.descriptors import agreements_in
from dunechest.jobs.restore.planning.bag_tree import BagTree
from dunechest.library.kinds.schema import FoundReferences, Kind
from dunechest.library.parts import Part
from dunechest.model.restore import AsArchived
from dunechest.names import from_wire
from dunechest.values import FrozenDict


def as_archived(
    record: LibraryRecord,
    kind: Kind,
    tree: BagTree,
    sources: Sequence[str],
    parts: Sequence[Part],
    missing: Sequence[str] = (),
) -> AsArchived:
    """Gather what the library was, as it was written down when it was archived, of what comes back of it.

    Nothing is counted in the bag: what is lost there would be missing in both counts. `missing` are paths of what
    the chest has lost.
    """
    coming = set(sources)
    whole = not parts
    databases = [
        from_wire(database.path) for database in record.databases if whole or from_wire(database.path) in coming
    ]
    references = None
    counts = record.references
    same = counts.open_formats or not any(isinstance(spec, FoundReferences) for spec in kind.references)
    if whole and same and kind.name == record.kind and not record.partial:
        references = {
            "inside": counts.inside,
            "outside": counts.outside_files,
            "missing": counts.missing,
            "away": counts.away,
        }
    chosen = {(part.what, part.name) for part in parts}
    sizes = {(part.what, part.name): part.files for part in record.parts if whole or (part.what, part.name) in chosen}
    lying = {file.path: file.size for file in tree.listing.files if file.path in coming}
    found = agreements_in(kind, tree.root, coming, lying, {})
    # A folder of which the chest has lost something agreed when it was archived.
    agreed = sum(not why or any(path.startswith(f"{folder}/") for path in missing) for folder, why in found)
    return AsArchived(
        FrozenDict(references) if references is not None else None,
        FrozenDict(sizes),
        tuple(databases),
        agreed if found else None,
    )
