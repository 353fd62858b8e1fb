"""Words become things: the library, the chest or the bag that a person named."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.find_chest import find_chest
from dunechest.chest.layout import CHEST
from dunechest.chest.records import LibraryRecord
from dunechest.errors import CutOffError, DuneChestError, NotConnectedError, RefusedError, UsageError
from dunechest.jobs.known.chests import list_chests, note_chest
from dunechest.jobs.known.this_computer import machine_name
from dunechest.ledger.folder import state_folder
from dunechest.library.library import SAID, Library
from dunechest.machine.closed import why_closed
from dunechest.model.chests import ChestStatus
from dunechest.names import AnyPath, meant, quoted, shown, slug
from dunechest.paths import true_path
from dunechest.remote.address import is_address

if TYPE_CHECKING:
    from dunechest.library.kinds.schema import Kind
    from dunechest.model.homes import Home

AnyLibrary = Library | str | os.PathLike[str]


def resolve_chest(text: str | os.PathLike[str]) -> Chest:
    """Open the chest that a person named: by label, id, folder, or mount point of its drive.

    Raises
    ------
    UsageError
        If there is none, several have that label, or its drive is not plugged in.
    """
    name = os.fspath(text)
    machine = machine_name()
    if is_address(name):
        return _on_server(name)
    if os.path.isdir(name) and find_chest(Path(name)) is not None:
        chest = Chest.open(name, machine=machine)
        note_chest(chest)
        return chest
    # One that is retired and not connected is not meant, whatever it was called.
    chests = [known for known in list_chests().chests if known.connected or known.retired_at is None]
    wanted = [c for c in chests if name in (c.label, c.id)]
    wanted = wanted or [c for c in chests if c.label.casefold() == name.casefold()]
    # Of several with one label, those that are retired are not meant: their label is free for another drive.
    wanted = [c for c in wanted if c.retired_at is None] or wanted
    if not wanted and len(name) >= 6:
        wanted = [c for c in chests if c.id.startswith(name)]
    present = [c for c in wanted if c.connected]
    away = [c for c in wanted if not c.connected]
    if present and away:
        raise NotConnectedError(
            f"The chest {shown(name)!r} that this computer knows is not connected. Another chest with that label is, in "
            f"{shown(str(present[0].path))}. Nothing was changed. Connect the right drive; or, if you mean that other "
            f"one, name its folder: {quoted(str(present[0].path.parent))}"
        )
    if not present and len(wanted) == 1 and wanted[0].address:
        return _on_server(wanted[0].address)
    if len(present) == 1:
        chest = Chest.open(present[0].path, machine=machine)
        note_chest(chest)
        return chest
    raise _not_there(name, chests, present, wanted)


def _not_there(
    name: str, chests: list[ChestStatus], present: list[ChestStatus], wanted: list[ChestStatus]
) -> DuneChestError:
    """Say why a word names no chest that can be opened now."""
    if len(present) > 1:
        places = "; ".join(shown(str(c.path)) for c in present)
        return UsageError(f"Several chests are called {shown(name)!r}. Name one by its folder: {places}.")
    if wanted and (why := why_closed(wanted[0].path) or why_closed(wanted[0].path.parent)):
        return CutOffError(f"The chest {shown(name)!r} is there, but closed: {why} Nothing was changed.")
    if wanted:
        return NotConnectedError(
            f"The chest {shown(name)!r} is not connected; it was last seen in {shown(str(wanted[0].path))}. "
            "Connect its drive, or name the folder where it is now."
        )
    if os.path.isdir(name) and (why := why_closed(Path(name)) or why_closed(Path(name) / CHEST)):
        return CutOffError(f"Whether there is a chest in {shown(name)} cannot be told. {why} Nothing was changed.")
    if os.path.isdir(name):
        real = os.path.realpath(name)
        was = [c for c in chests if not c.connected and real in (str(c.path), str(c.path.parent))]
        if was:
            return NotConnectedError(
                f"The chest {shown(was[0].label)!r} was in {shown(name)}, and is gone now: its drive is not connected, "
                "or is mounted elsewhere. Nothing was changed."
            )
        return UsageError(
            f"There is no chest in {shown(name)}. To make one: dunechest chest new {quoted(name)} --label NAME"
        )
    labels = ", ".join(shown(c.label) for c in chests) or "none yet"
    hint = meant(name, (c.label for c in chests))
    return UsageError(
        f"No chest is called {shown(name)!r} and there is no such folder.{hint} Known chests: {labels}."
    )


def _on_server(address: str) -> Chest:
    from dunechest.jobs.known.servers import open_server_chest

    chest = open_server_chest(address)
    note_chest(chest)
    return chest


def own_bag(chest: Chest, library: str) -> tuple[BagEntry, LibraryRecord]:
    """Return a bag of our own by the library's name, and its record.

    Raises
    ------
    UsageError
        If there is no such library.
    RefusedError
        If it is not a whole bag of Dune Chest's making.
    """
    entry = chest.bag(library)
    if entry.library is None:
        if entry.state == "damaged":
            raise DuneChestError(entry.why)
        raise RefusedError(f"{shown(entry.name)} has no editions: {entry.why or entry.state}. Run: dunechest verify")
    return entry, entry.library


def refuse_if_damaged(entry: BagEntry) -> None:
    """Refuse to write a new record over one that is not proven: that would seal the damage with new digests.

    Raises
    ------
    RefusedError
        If any record of the bag is damaged.
    """
    faults = entry.records.faults()
    if faults:
        raise RefusedError(
            f"{shown(entry.name)} is damaged ({shown(faults[0].path)}: {shown(faults[0].why)}), so nothing in it was "
            "changed. Run: dunechest verify"
        )


def library_at(
    path: str | os.PathLike[str], *, kinds: Mapping[str, Kind] | None = None, kind: str | None = None
) -> Library:
    """Return the library at a path, of the kind that its signs show, or of the plain kind.

    Parameters
    ----------
    path : path
        The folder or file.
    kinds : mapping, optional
        Kinds by name; those that this computer knows by default.
    kind : str, optional
        The kind that a person says it is, whatever its signs.

    Raises
    ------
    UsageError
        If nothing is there, or something that is neither a folder nor a file, or the kind is not known.
    """
    # Loaded here: a job on a chest alone needs no kinds, and pays for none.
    from dunechest.library.kinds.schema import PLAIN_KIND
    from dunechest.library.recognise import recognise

    place = true_path(path)
    if kinds is None:
        from dunechest.library.kinds.load import load_kinds

        kinds = load_kinds(state_folder(), [])
    name = slug(Path(os.path.abspath(path)).name)
    if kind is not None:
        from dunechest.library.kinds.load import kind_named

        chosen = kind_named(kinds, kind)
        if place.is_dir() or place.is_file():
            return Library(name, chosen, place, "folder" if place.is_dir() else "file", SAID)
    elif place.is_dir():
        here = recognise(place, kinds.values())
        if here is not None:
            return Library(name, here.kind, place, "folder", here.evidence)
        return Library(name, PLAIN_KIND, place, "folder", ("only its path",))
    elif place.is_file():
        return Library(name, PLAIN_KIND, place, "file", ("only its path",))
    raise UsageError(f"There is no folder or file {shown(os.fspath(path))}.")


def resolve_library(text: str, *, kind: str | None = None) -> Library:
    """Return the library that a person named: by a path, or by a name that `find` showed; of a kind, if they say so.

    Raises
    ------
    UsageError
        If it is neither, or the name belongs to several.
    """
    if os.path.lexists(text):
        _refuse_missing(text)
        return library_at(text, kind=kind)

    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        # A link that a move left leads to the library itself.
        by_real = {os.path.realpath(place): place for place in reversed(ledger.places_of(text)) if place.exists()}
        places = [Path(real) if place.is_symlink() else place for real, place in by_real.items()]
        known = ledger.places_of(text)
        hint = meant(text, ledger.library_names()) if not known else ""
    if len(places) == 1:
        library = library_at(places[0], kind=kind)
        return Library(text, library.kind, library.path, library.shape, library.evidence)
    if not places:
        _refuse_missing(text)
        there = [home for home in _moved(text) if home.connected and home.second is None]
        if len(there) == 1:  # it is called by the place where it was
            library = library_at(there[0].path, kind=kind)
            return Library(there[0].name, library.kind, library.path, library.shape, library.evidence)
        if known:
            raise UsageError(
                f"{shown(text)!r} was in {shown(str(known[0]))}, and is not there any more. Run `dunechest find`, or give the "
                "folder's path."
            )
        raise UsageError(
            f"{shown(text)!r} is neither a path nor a name that `dunechest find` has shown.{hint} "
            "Run `dunechest find`, or give the folder's path."
        )
    listed = "; ".join(shown(str(place)) for place in places)
    if len(moved := _moved(text)) == 1 and moved[0].second is not None:
        raise UsageError(f"{shown(text)}: {moved[0].message} To make one library of the two: {moved[0].command}")
    raise UsageError(f"{shown(text)!r} is the name of several libraries. Give the path of one: {listed}.")


def _moved(text: str) -> tuple[Home, ...]:
    """Return the libraries that were moved to a drive and are called so, or were in that place."""
    from dunechest.jobs.known.homes import homes_named

    try:
        return homes_named(text)
    except DuneChestError:
        return ()


def _refuse_missing(text: str) -> None:
    """Raise `NotConnectedError` if a library was moved to a drive that is not connected, and nothing is there instead."""
    if os.path.exists(text):
        return
    for home in _moved(text):
        if not home.connected and home.second is None:
            raise NotConnectedError(
                f"{shown(home.name)} was moved to the drive {shown(home.drive)}, which is not connected; it was in "
                f"{shown(str(home.path))}. Connect the drive."
            )


def get_libraries(values: AnyLibrary | Iterable[AnyLibrary]) -> tuple[Library, ...]:
    """Return libraries as values: given as such, by path, or by a name that `find` showed; one alone is taken as one.

    Raises
    ------
    UsageError
        If one of them is none of these.
    """
    if isinstance(values, Library | str | os.PathLike):
        values = (values,)
    return tuple(get_library(value) for value in values)


def get_library(value: AnyLibrary) -> Library:
    """Return a library, given as a `Library`, path or name; see `get_libraries`."""
    if isinstance(value, Library):
        return value
    place = os.path.expanduser(value)
    return resolve_library(place) if isinstance(place, str) else library_at(place)


def get_chest(value: Chest | AnyPath) -> Chest:
    """Return a chest, given as a `Chest` or by its label, id, folder or mount point; see `resolve_chest`."""
    return value if isinstance(value, Chest) else resolve_chest(value)


def names_of(values: str | Iterable[str]) -> tuple[str, ...]:
    """Return names as a tuple; a single one is taken as one."""
    return (values,) if isinstance(values, str) else tuple(values)
