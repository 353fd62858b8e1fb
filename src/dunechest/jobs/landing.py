"""Where a library goes on this machine: its standard folder's counterpart, that of another drive, or as told."""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import msgspec

from dunechest.chest.origin import from_windows, old_path
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError, WordsOff
from dunechest.findings import Finding
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.schema import Kind
from dunechest.machine import written_paths
from dunechest.machine.folders import own_home, standard_folders, usual_below
from dunechest.machine.identity import system_name
from dunechest.names import from_wire, shown, why_unsafe
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

_FILE = "counterparts.json"

Existing = Literal["stop", "set-aside", "join"]
Prefer = Literal["both", "here", "chest", "newer"]


class RestoreChoice(msgspec.Struct, frozen=True):
    """What a person chose for a restore.

    Parameters
    ----------
    home : str, optional
        Whose home it goes into; one's own by default.
    into : str, optional
        The folder it becomes, exactly.
    edition : int, optional
        Which edition; the current one by default.
    parts : tuple of str
        Only these parts; everything if empty.
    existing : {"stop", "set-aside", "join"}
        What becomes of what is in the way.
    prefer : {"both", "here", "chest", "newer"}
        When joining, of two files of one name and other bytes.
    outward_links : bool, optional
        Whether links out of the library are made; by default if this machine made the bag.
    repoint : bool
        Whether references are written anew.
    settings : bool, optional
        Whether the application's setting is written; by default if it names nothing that exists.
    day : str
        The day that names what is set aside.
    counterparts : tuple of pairs
        Folders of another machine and what stands for them here, beside those that are remembered.
    """

    home: str | None = None
    into: str | None = None
    edition: int | None = None
    parts: tuple[str, ...] = ()
    existing: Existing = "stop"
    prefer: Prefer = "both"
    outward_links: bool | None = None
    repoint: bool = True
    settings: bool | None = None
    day: str = ""
    counterparts: tuple[tuple[str, str], ...] = ()

    @property
    def home_folder(self) -> Path:
        """The home it goes into."""
        return Path(os.path.abspath(self.home)) if self.home is not None else own_home()


def today() -> str:
    """Return the present day, as names of what is set aside have it."""
    return datetime.datetime.now().astimezone().date().isoformat()


class _Counterpart(msgspec.Struct, frozen=True):
    old: str
    new: str
    machine: str = ""


def counterparts() -> tuple[tuple[str, str], ...]:
    """Return old folders and what was said to be their counterpart on this machine."""
    return tuple((one.old, one.new) for one in _read())


def _read() -> list[_Counterpart]:
    try:
        content = safe.read_bounded(state_folder() / _FILE, 1 << 20)
        return msgspec.json.decode(content, type=list[_Counterpart])
    except (OSError, ValueError, msgspec.MsgspecError):
        return []


def remember_counterpart(old: str, new: str | os.PathLike[str], *, machine: str = "") -> None:
    """Remember which folder of this machine stands for one of another machine.

    Parameters
    ----------
    old : str
        The folder as it was called there: on a second drive, for example.
    new : path
        The folder here.
    machine : str
        Id of the other machine; any if empty.

    Raises
    ------
    WordsOff
        If one of them is not a full path.
    DuneChestError
        If it cannot be written down.
    """
    wanted = _Counterpart(*counterpart(old, new), machine)
    rest = [one for one in _read() if (one.old, one.machine) != (wanted.old, machine)]
    folder = state_folder()
    try:
        make_own(folder)
        safe.write_file(folder / _FILE, msgspec.json.format(msgspec.json.encode([*rest, wanted]), indent=2))
        hand_over(folder)
    except OSError as error:
        raise DuneChestError(f"{shown(str(folder / _FILE))} cannot be written: {error.strerror}.") from error


def counterpart(old: str, new: str | os.PathLike[str]) -> tuple[str, str]:
    """Return a pair of folders as a choice has it: one of another machine, and what stands for it here.

    Raises
    ------
    WordsOff
        If the first is not a full path.
    """
    before = written_paths.read(old, False)
    if before is None or not before.full:
        raise WordsOff(f"{shown(old)!r} is not the full path of a folder on the other machine.")
    return written_paths.normal(before.path), os.path.abspath(os.path.expanduser(os.fspath(new)))


@dataclass(frozen=True, slots=True)
class Landing:
    """Where a library goes, and how that is known; no place if it is not."""

    place: Path | None
    how: Literal["into", "standard", "counterpart", "kind", "unknown"]


def land(record: LibraryRecord, kind: Kind, choice: RestoreChoice) -> Landing:
    """Say where a library goes on this machine."""
    own_name = old_path(record).rstrip("/").rpartition("/")[2]
    if choice.into is not None:
        target = Path(os.path.abspath(choice.into))
        if record.shape != "file":
            return Landing(target, "into")
        if why_unsafe(own_name) is None:
            return Landing(target / own_name, "into")
        return Landing(None, "unknown")
    folders = standard_folders(choice.home_folder)
    if record.origin.standard:
        if record.origin.system != system_name() and (place := _of_kind(record, kind, folders)) is not None:
            return Landing(place, "kind")
        relative = from_wire(record.origin.relative)
        if record.origin.standard in folders and why_unsafe(relative) is None:
            return Landing(folders[record.origin.standard] / relative, "standard")
    best: tuple[int, Path] | None = None
    for one in (*(_Counterpart(old, new) for old, new in choice.counterparts), *_read()):
        rest = written_paths.below(old_path(record), one.old, cases=not from_windows(record))
        fits = one.machine in ("", record.origin.machine_id)
        if rest is not None and fits and (not rest or why_unsafe(rest) is None):
            place = Path(one.new, *rest.split("/")) if rest else Path(one.new)
            if best is None or len(one.old) > best[0]:  # of equal ones the first: what was said just now
                best = (len(one.old), place)
    return Landing(best[1], "counterpart") if best is not None else Landing(None, "unknown")


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
        return Finding(
            "no-place",
            "stop",
            "It is not recorded where this was, so its place on this machine is not known.",
            "Say where it goes with --into FOLDER. Its files lie in the folder data of the bag, too.",
        )
    folder = old_path(record).rpartition("/")[0]
    return Finding(
        "no-place",
        "stop",
        f"The library was in {shown(from_wire(record.origin.path))}, on another drive or outside of any home, so its "
        "place on this machine is not known.",
        f'Say which folder here stands for that one, once and for all such: --counterpart "{shown(folder)}=FOLDER"; '
        "or where this library goes: --into FOLDER.",
    )


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
