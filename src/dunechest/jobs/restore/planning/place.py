"""Where a library goes on this computer: by its standard folder, by that of another drive, or as told."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from dunechest.chest.origin import from_windows, old_path
from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.restore.places_map import mapped_places
from dunechest.library.kinds.schema import Kind
from dunechest.machine import written_paths
from dunechest.machine.folders import standard_folders, usual_below
from dunechest.machine.identity import system_name
from dunechest.model.findings import finding_of
from dunechest.model.restore import MappedPlace, Placement, RestoreOptions
from dunechest.names import from_wire, why_unsafe


def place_for(record: LibraryRecord, kind: Kind, options: RestoreOptions) -> Placement:
    """Say where a library goes on this computer."""
    own_name = old_path(record).rstrip("/").rpartition("/")[2]
    if options.into is not None:
        target = Path(os.path.abspath(options.into))
        if record.shape != "file":
            return Placement(target, "into")
        if why_unsafe(own_name) is None:
            return Placement(target / own_name, "into")
        return Placement(None, "unknown")
    folders = standard_folders(options.home_folder)
    if record.origin.standard:
        if record.origin.system != system_name() and (place := _of_kind(record, kind, folders)) is not None:
            return Placement(place, "kind")
        relative = from_wire(record.origin.relative)
        if record.origin.standard in folders and why_unsafe(relative) is None:
            return Placement(folders[record.origin.standard] / relative, "standard")
    best: tuple[int, Path] | None = None
    for item in (*(MappedPlace(old, new) for old, new in options.places), *mapped_places()):
        rest = written_paths.below(old_path(record), item.old, cases=not from_windows(record))
        fits = item.computer in ("", record.origin.machine_id)
        if rest is not None and fits and (not rest or why_unsafe(rest) is None):
            place = Path(item.new, *rest.split("/")) if rest else Path(item.new)
            if best is None or len(item.old) > best[0]:  # of equal ones the first: what was said just now
                best = (len(item.old), place)
    return Placement(best[1], "map") if best is not None else Placement(None, "unknown")


def _of_kind(record: LibraryRecord, kind: Kind, folders: dict[str, Path]) -> Path | None:
    """Return the one place such libraries have on this system, if this one was in the one place of its own."""
    origin = f"{{{record.origin.standard}}}/{from_wire(record.origin.relative)}"
    if origin not in kind.places.get(record.origin.system, ()):
        return None
    for place in kind.places.get(system_name(), ()):
        standard, _, rest = place[1:].partition("}")
        if "*" not in rest and rest.strip("/") and standard in folders:
            return folders[standard] / rest.strip("/")
    return None


def no_place(record: LibraryRecord) -> Finding:
    """Return the finding that no place is known."""
    if not from_wire(record.origin.path):
        return finding_of("no-place/unknown")
    folder = old_path(record).rpartition("/")[0]
    return finding_of("no-place", path=from_wire(record.origin.path), folder=folder)


def standard_moves(
    record: LibraryRecord, home: Path, also: Iterable[tuple[str, str, str]] = ()
) -> tuple[tuple[tuple[str, str], ...], str]:
    """Return old and new places of standard folders, and the old home, as far as the record tells.

    `also` has more of what tells it: a full old path, its standard folder, and its path below that.
    """
    here = standard_folders(home)
    cases = not from_windows(record)
    pairs: dict[str, str] = {}
    old_home = ""
    origin = record.origin
    known = [(old_path(record), origin.standard, from_wire(origin.relative)), *also]
    for path, standard, relative in known:
        if not standard or not path.casefold().endswith("/" + relative.casefold()):
            continue
        base = path[: -len(relative) - 1]
        if standard in here:
            pairs.setdefault(base, str(here[standard]))
        usual = usual_below(standard, origin.system)
        if not old_home and usual is not None:
            if not usual:
                old_home = base
            elif written_paths.below(base, base[: -len(usual) - 1], cases=cases) == usual:
                old_home = base[: -len(usual) - 1]
    if old_home:
        for standard, place in here.items():
            usual = usual_below(standard, origin.system)
            if usual:
                pairs.setdefault(f"{old_home}/{usual}", str(place))
        pairs.setdefault(old_home, str(home))
    ordered = sorted(pairs.items(), key=lambda pair: -len(pair[0]))
    return tuple(ordered), old_home
