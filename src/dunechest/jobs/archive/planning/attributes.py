"""Owners, access lists and extended attributes of what is archived: gathered, so that they can come back."""

from __future__ import annotations

import os
from collections.abc import Iterator

import msgspec

from dunechest.chest.records import AttributeRecord, OwnerRecord
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.machine.attributes import attributes_of, own_numbers, owner_names
from dunechest.model.archive import Attributes, Difference
from dunechest.model.findings import finding_of
from dunechest.model.study import Selection
from dunechest.names import WireName, to_wire

#: Bytes of all that is recorded of a library's attributes.
_MOST = 8 << 20


class _Room(msgspec.Struct):
    """How much may still be recorded, and how many files it was too much for."""

    left: int = _MOST
    unrecorded: int = 0


def gather(library: Library, selection: Selection) -> tuple[Attributes, list[Finding]]:
    """Return whose the files and folders are, if not the usual owner's, and their attributes, and what is not recorded."""
    usual = own_numbers(library.path)
    root = os.fsencode(library.path)
    owners: dict[tuple[str, str], list[str]] = {}
    kept: dict[tuple[str, str], list[str]] = {}
    room = _Room()
    for path, owner in _paths(library, selection):
        place = root + b"/" + os.fsencode(path) if path and library.shape == "folder" else root
        if usual is not None:  # the system has owners by number
            owners.setdefault(owner_names(place, usual, owner), []).append(path)
        for name, value in attributes_of(place):
            size = len(path) + 4 + (len(name) + len(value) if (name, value) not in kept else 0)
            if size > room.left:
                room.unrecorded += 1
                continue
            room.left -= size
            kept.setdefault((name, value), []).append(path)
    attributes = tuple(
        AttributeRecord(name, value, tuple(map(to_wire, paths))) for (name, value), paths in sorted(kept.items())
    )
    recorded = _owners(owners, room)
    return Attributes(recorded, attributes), [*_about_owners(owners), *_unrecorded(room)]


def with_carried(attributes: Attributes, previous: Difference) -> Attributes:
    """Return attributes with those that the latest edition records of what cannot be seen now."""
    before = previous.record
    if not (before.owners or before.attributes) or not (previous.carried or previous.carried_folders):
        return attributes
    away = {to_wire(item.path) for item in previous.carried if not item.outside}
    away |= {folder.path for folder in previous.carried_folders}
    owners: dict[tuple[str, str], tuple[WireName, ...]] = {(o.user, o.group): o.paths for o in attributes.owners}
    usual = next(((o.user, o.group) for o in attributes.owners if not o.paths), ("", ""))
    told = {path: (o.user, o.group) for o in before.owners for path in o.paths}
    usual_then = next(((o.user, o.group) for o in before.owners if not o.paths), ("", ""))
    for path in sorted(away, key=repr):
        whose = told.get(path, usual_then)
        if whose != usual:
            owners[whose] = (*owners.get(whose, ()), path)
    kept = {(item.name, item.value): item.paths for item in attributes.attributes}
    for item in before.attributes:
        if own := tuple(path for path in item.paths if path in away):
            kept[item.name, item.value] = (*kept.get((item.name, item.value), ()), *own)
    return Attributes(
        tuple(OwnerRecord(*whose, paths) for whose, paths in owners.items()),
        tuple(
            AttributeRecord(name, value, tuple(sorted(paths, key=repr)))
            for (name, value), paths in sorted(kept.items())
        ),
    )


def _paths(library: Library, selection: Selection) -> Iterator[tuple[str, tuple[int, int] | None]]:
    """Yield each path, and whose it is where that is known already."""
    if library.shape == "file":
        yield "", None
        return
    yield from ((folder.path, None) for folder in selection.listing.folders)
    yield from ((file.path, file.owner) for file in selection.files)


def _owners(owners: dict[tuple[str, str], list[str]], room: _Room) -> tuple[OwnerRecord, ...]:
    """Say whose everything is: what most of it has is said once, and the paths of the rest."""
    if set(owners) <= {("", "")}:
        return ()
    most = max(owners, key=lambda names: len(owners[names]))
    found = [OwnerRecord(*most)] if most != ("", "") else []
    for names, paths in sorted(owners.items()):
        size = sum(len(path) + 4 for path in paths)
        if names == most:
            continue
        if size > room.left:
            room.unrecorded += len(paths)
            continue
        room.left -= size
        found.append(OwnerRecord(*names, tuple(map(to_wire, paths))))
    return tuple(found)


def _about_owners(owners: dict[tuple[str, str], list[str]]) -> list[Finding]:
    others = {names: len(paths) for names, paths in owners.items() if names != ("", "")}
    if not others:
        return []
    told = ", ".join(
        " and ".join(part for part in (f"user {user}" if user else "", f"group {group}" if group else "") if part)
        + f" ({count:,})"
        for (user, group), count in sorted(others.items(), key=lambda owner: -owner[1])[:3]
    )
    return [finding_of("owners", entries=sum(others.values()), told=told)]


def _unrecorded(room: _Room) -> list[Finding]:
    if not room.unrecorded:
        return []
    return [finding_of("attributes-left", files=room.unrecorded, most=_MOST >> 20)]
