"""Libraries that were moved to a drive: which, where each is now, and whether its application has made a second one.

What the ledger remembers says only where to look. That a library is there is told by a mark beside it, which holds the
id of its move: an application that finds its drive missing makes a new, empty library under the same path.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.ledger import events
from dunechest.ledger.ledger import PastHome, open_ledger
from dunechest.ledger.memory import home_before, home_without
from dunechest.machine.drives import drive_folders
from dunechest.machine.folder_links import target_of
from dunechest.model.homes import Home, NewLibrary
from dunechest.names import from_line, shown, to_line
from dunechest.paths import is_link
from dunechest.transfer import disk, safe
from dunechest.transfer.walk import each_file

if TYPE_CHECKING:
    from dunechest.library.recognise import Recognised

#: Bytes; a mark is small.
_MOST = 1 << 16


class Mark(msgspec.Struct, frozen=True):
    """What the mark beside a moved library says: the id of the move, its name, and its old place as text."""

    id: str
    library: str = ""
    old: str = ""


def mark_of(place: Path) -> Path:
    """Return where the mark of a moved library is: beside it, hidden."""
    return place.with_name(f".{place.name[:200]}.dune-chest")


def mark_content(home_id: str, name: str, old: Path) -> bytes:
    """Return what a mark says."""
    return msgspec.json.format(msgspec.json.encode(Mark(home_id, name, to_line(str(old)))), indent=1) + b"\n"


def is_marked(place: Path, home_id: str) -> bool:
    """Whether the library in a place is the one of that move."""
    if not home_id or not _is_folder(place):
        return False
    try:
        return msgspec.json.decode(safe.read_bounded(mark_of(place), _MOST), type=Mark).id == home_id
    except (OSError, ValueError, msgspec.MsgspecError):
        return False


def _is_folder(path: Path) -> bool:
    """Whether there is a folder; not on a drive that was pulled out and still seems to be mounted."""
    try:
        return path.is_dir()
    except OSError:
        return False


def list_homes() -> tuple[Home, ...]:
    """Return the libraries that were moved to a drive, by name, and where each is now."""
    with open_ledger() as ledger:
        past = ledger.homes()
    return tuple(_now(home) for home in past)


def known_homes() -> tuple[Home, ...]:
    """Return what `list_homes` does, or nothing if the ledger cannot be used: whoever only looks is not kept from it."""
    try:
        return list_homes()
    except DuneChestError:
        return ()


def _now(past: PastHome) -> Home:
    place, old = Path(past.place), Path(past.old)
    candidates = [place]
    if past.below and not os.path.isabs(past.below):
        candidates += [folder / past.below for folder in drive_folders()]
    here = next((folder for folder in candidates if is_marked(folder, past.id)), None)
    ours = {past.place} | ({str(here)} if here is not None else set())
    second = None
    if target_of(old) not in ours and old not in (here, place):
        second = _library_in(old, past.when)
    if second is None and here != place and not is_marked(place, past.id):
        second = _library_in(place, past.when)
    return Home(
        past.name, past.kind, old, here or place, past.drive, here is not None, past.way, past.when, past, second
    )


def _library_in(folder: Path, after: float) -> NewLibrary | None:
    """Return what was made in a folder since a library was moved away from it; None if nothing was."""
    if is_link(folder) or not _is_folder(folder):
        return None
    times = [file.mtime_ns / 1e9 for file in each_file(str(folder))]
    if not times and not os.listdir(folder):
        return None
    return NewLibrary(folder, len(times), max(after, min(times, default=after)))


def places_meant(text: str) -> set[str]:
    """Return the full paths that a word can mean: as it is, with links above it followed, and with all followed."""
    full = os.path.abspath(os.path.expanduser(text))
    above, name = os.path.split(full)
    return {full, os.path.join(os.path.realpath(above), name), os.path.realpath(full)}


def homes_named(text: str, homes: Iterable[Home] | None = None) -> tuple[Home, ...]:
    """Return the moved libraries that a word means: a name, the old place or the place on the drive."""
    every = tuple(homes) if homes is not None else list_homes()
    meant = places_meant(text)
    by_place = [home for home in every if meant & {str(home.old_path), str(home.path), home.past.place}]
    return tuple(by_place or [home for home in every if home.name == text])


def home_named(text: str) -> Home:
    """Return the moved library that a word means.

    Raises
    ------
    UsageError
        If there is none, or several.
    """
    every = list_homes()
    found = homes_named(text, every)
    if len(found) == 1:
        return found[0]
    if found:
        places = "; ".join(shown(str(home.old_path)) for home in found)
        raise UsageError(f"Several moved libraries are called {shown(text)!r}. Name one by its old place: {places}.")
    known = ", ".join(shown(home.name) for home in every) or "none"
    raise UsageError(f"No library {shown(text)!r} was moved to a drive by this computer. Moved libraries: {known}.")


def home_at(path: Path, homes: Iterable[Home] | None = None) -> Home | None:
    """Return the moved library that lies in a folder."""
    every = tuple(homes) if homes is not None else list_homes()
    return next((home for home in every if home.connected and home.path == path), None)


def home_of_second(path: Path, homes: Iterable[Home] | None = None) -> Home | None:
    """Return the moved library of which a second one was made in a folder."""
    every = tuple(homes) if homes is not None else list_homes()
    return next((home for home in every if home.second is not None and home.second.path == path), None)


def where_moved(found: Recognised, homes: Iterable[Home]) -> str:
    """Say in words that a library that was found is a moved one, or a second one; empty if it is neither."""
    every = tuple(homes)
    if not every:
        return ""
    real = Path(os.path.realpath(found.path))
    home = home_at(real, every) or home_of_second(real, every)
    if home is None:
        return ""
    if home.second is not None:
        return home.message
    return f"on the drive {shown(home.drive)}, moved there from {shown(str(home.old_path))}"


def note_move(facts: dict[str, Any]) -> str:
    """Note that a library was moved, with what was noted of it before; return why that failed, or nothing."""
    return events.try_append(("rehome", facts | {"before": home_before(facts["old"])}))


def must_note_move(facts: dict[str, Any], aside: Path | None = None, of_aside: dict[str, Any] | None = None) -> None:
    """Note that a library is about to be moved, and what is set aside for that: all of it, or nothing.

    Parameters
    ----------
    facts : dict
        What is noted of the move.
    aside : Path, optional
        What is set aside.
    of_aside : dict, optional
        What is noted of that.

    Raises
    ------
    CutOffError
        If it cannot be written down: then nothing must be moved, for nobody would know what it is.
    """
    items = [("rehome", facts | {"before": home_before(facts["old"])})]
    if aside is not None:
        items.append(_aside(aside, gone=False, facts=of_aside))
    why = events.try_append(*items)
    if why:
        raise CutOffError(f"Where the library will be cannot be written down, so nothing was moved. {why}")


def must_note_aside(path: Path, facts: dict[str, Any]) -> None:
    """Note that an original is about to be set aside.

    Raises
    ------
    CutOffError
        If that cannot be written down: then it must not be done, for nobody would know what it is.
    """
    why = note_aside(path, gone=False, facts=facts)
    if why:
        raise CutOffError(f"What is set aside cannot be written down, so nothing was moved. {why}")


def note_aside(path: Path, *, gone: bool, facts: dict[str, Any] | None = None) -> str:
    """Note that an original was set aside, or that it is `gone`; return why that failed, or nothing."""
    return events.try_append(_aside(path, gone=gone, facts=facts))


def _aside(path: Path, *, gone: bool, facts: dict[str, Any] | None = None) -> tuple[str, dict[str, Any]]:
    usual = {"id": "", "name": "", "old": "", "listing": ""}
    return "aside", usual | (facts or {}) | {"path": to_line(str(path)), "gone": gone}


def note_aside_gone(path: Path) -> None:
    """Note that an original that was set aside is deleted, and remove the mark that was beside it on a drive."""
    note_aside(path, gone=True)
    mark = mark_of(path)
    try:
        msgspec.json.decode(safe.read_bounded(mark, _MOST), type=Mark)
    except (OSError, ValueError, msgspec.MsgspecError):
        return
    disk.remove(mark, missing_ok=True)


def note_place(place: Path, name: str, kind: str) -> None:
    """Note where a library is now, so that its name leads there."""
    if str(place).isprintable():
        events.try_append(("seen", {"place": str(place), "name": name, "kind": kind, "gone": False}))


def note_undone(old: Path, move: str, asides: Iterable[Path]) -> None:
    """Note that a move of a library was undone, and that what it set aside is in its place again.

    Parameters
    ----------
    old : Path
        Where its application found it at first.
    move : str
        The id of the move.
    asides : iterable of Path
        The names that were given, and are no more.

    Raises
    ------
    DuneChestError
        If that cannot be written down.
    """
    before = home_without(to_line(str(old)), move)
    if before is not None:
        items = [("rehome", before), *(_aside(path, gone=True) for path in asides)]
        # Whoever undoes a move must not forget that it was undone: if this fails, it is tried again by the next command.
        events.append_many(items)
        place = from_line(before["old"] if before.get("back") else before["place"])
        note_place(Path(place), before["name"], before["kind"])
