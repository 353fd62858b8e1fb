"""Give what came back its owners, access lists and extended attributes."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from dunechest.findings import Finding
from dunechest.jobs.restore.doing.run import Run
from dunechest.machine.attributes import give_attribute, give_owner, own_numbers, owner_names
from dunechest.model.findings import finding_of
from dunechest.names import from_wire, shown
from dunechest.paths import is_link
from dunechest.transfer.below import link_between


def give_back(run: Run) -> list[Finding]:
    """Give files and folders that were restored their recorded owners and attributes; say what could not be so here."""
    record = run.plan.record
    if not (record.owners or record.attributes):
        return []
    places = dict(_places(run))
    missed: dict[str, list[str]] = {}
    # Owners first: what changes hands loses some attributes.
    named = {path for owner in record.owners for path in map(from_wire, owner.paths)}
    usual = own_numbers(run.place)
    for owner in record.owners:
        paths = [from_wire(path) for path in owner.paths] if owner.paths else [p for p in places if p not in named]
        for path in paths:
            place = places.get(path)
            if place is None or usual is None or owner_names(place, usual) == (owner.user, owner.group):
                continue
            why = give_owner(place, owner.user, owner.group) if owner.user or owner.group else ""
            if why:
                missed.setdefault(f"{_whose(owner.user, owner.group)}: {why}", []).append(path)
    for attribute in record.attributes:
        for path in map(from_wire, attribute.paths):
            place = places.get(path)
            if place is None:
                continue
            why = give_attribute(place, attribute.name, attribute.value)
            if why:
                missed.setdefault(f"{_called(attribute.name)}: {why}", []).append(path)
    return [
        finding_of(
            "attributes-missing/restore", entries=len(paths), what=what, first=shown(paths[0]) or "the library itself"
        )
        for what, paths in sorted(missed.items())
    ]


def _places(run: Run) -> Iterator[tuple[str, bytes]]:
    """Yield what was restored: the path it had in the library, and where it is; nothing that lies behind a link."""
    if run.plan.record.shape == "file":
        if run.restored:
            yield "", os.fsencode(run.place)
        return
    others = {file.own: other for file, other in run.plan.existing.beside}
    safe: dict[Path, bool] = {}
    for file in run.restored:
        place = run.place / others.get(file.own, file.path)
        if safe.setdefault(place.parent, link_between(run.place, place.parent) is None) and not is_link(place):
            yield file.own, os.fsencode(place)
    if run.plan.existing.mode != "merge":  # the folders there are a person's own already
        for path, _, _ in run.plan.folders:
            place = run.place / path
            if safe.setdefault(place, link_between(run.place, place) is None) and place.is_dir():
                yield path, os.fsencode(place)


def _whose(user: str, group: str) -> str:
    return " and ".join(part for part in (f"user {user}" if user else "", f"group {group}" if group else "") if part)


def _called(name: str) -> str:
    if name in ("access", "default"):
        return "an access list"
    return f"the attribute {name.removeprefix('user.')}"
