r"""Routine files: one TOML file for each routine in ``routines`` in the state folder, which a person may read and edit.

::

    [what]
    libraries = [{ name = "marram-papers", place = "/home/ada/Papers/Marram Papers" }]
    kinds = []
    all = false
    chests = [{ label = "blue", id = "5f1c..." }]
    copy_to = []

    [when]
    times = ["every day at 22:00"]
    patience_days = 3.0

    [then]
    verify_minutes = 20.0
    drill_monthly = true
    keep_editions = "all of the last month, one a month for a year"

    [limits]
    on_mains = true
    mb_per_second = 20.0

    [tell]
    notify = true
    command = ""

    [scheduler]
    name = "systemd"
    added = 1795730000.0

Places are written as `dunechest.names.to_line` does it. The file is for its owner's eyes only.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from dunechest.errors import CutOffError, UsageError
from dunechest.ledger.folder import state_folder
from dunechest.model.routine import PATIENCE, Routine, RoutineChest, RoutineLibrary
from dunechest.names import from_line, is_slug, meant, shown, to_line
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

_ENDING = ".toml"
_MOST = 1 << 20
_HEAD = (
    "# A routine of Dune Chest. It may be edited: what is written here is done from the next hour on.\n"
    "# To see what is understood of it: dunechest routine list\n"
    "# Keep passwords out of it; a command that needs one should read it from a file of its own.\n"
)


class Unusable(msgspec.Struct, frozen=True):
    """A routine whose file is not understood: its name, and why."""

    name: str
    why: str


def routines_folder() -> Path:
    """Return the folder of routine files."""
    return state_folder() / "routines"


def routine_file(name: str) -> Path:
    """Return the file of a routine."""
    return routines_folder() / f"{name}{_ENDING}"


def routine_log() -> Path:
    """Return the file of the log; earlier ones lie beside it with a number."""
    return routines_folder() / "log.txt"


def names() -> tuple[str, ...]:
    """Return the names of all routines."""
    try:
        found = [place.name.removesuffix(_ENDING) for place in routines_folder().iterdir() if place.suffix == _ENDING]
    except OSError:
        return ()
    return tuple(sorted(name for name in found if is_slug(name)))


def read_all() -> tuple[tuple[Routine, ...], tuple[Unusable, ...]]:
    """Read all routines; those that are not understood come apart, each with the reason."""
    found: list[Routine] = []
    unusable: list[Unusable] = []
    for name in names():
        try:
            found.append(read_routine(name))
        except UsageError as error:
            unusable.append(Unusable(name, str(error)))
    return tuple(found), tuple(unusable)


def read_routine(name: str) -> Routine:
    """Read one routine.

    Raises
    ------
    UsageError
        If there is none, or its file is not understood; the message names the key.
    """
    place = routine_file(name)
    try:
        if not is_slug(name):
            raise FileNotFoundError
        told = tomllib.loads(safe.read_bounded(place, _MOST).decode())
    except FileNotFoundError as error:
        listed = ", ".join(names()) or "none yet"
        raise UsageError(f"There is no routine {shown(name)!r}.{meant(name, names())} Routines: {listed}.") from error
    except (OSError, ValueError) as error:
        raise UsageError(f"{shown(str(place))} cannot be read: {shown(str(error))}") from error
    table = _Table(shown(str(place)), "", told, ("what", "when", "then", "limits", "tell", "scheduler"))
    what = table.table("what", ("libraries", "kinds", "all", "chests", "copy_to"))
    when = table.table("when", ("times", "patience_days"))
    then = table.table("then", ("verify_minutes", "drill_monthly", "keep_editions"))
    limits = table.table("limits", ("on_mains", "mb_per_second"))
    tell = table.table("tell", ("notify", "command"))
    scheduler = table.table("scheduler", ("name", "added"))
    try:
        return Routine(
            name=name,
            chests=tuple(RoutineChest(*pair) for pair in what.pairs("chests", ("label", "id"))),
            times=what_texts(when, "times"),
            named_libraries=tuple(
                RoutineLibrary(own, from_line(path)) for own, path in what.pairs("libraries", ("name", "place"))
            ),
            kinds=what_texts(what, "kinds"),
            all_libraries_in_home=what.get("all", bool, False),
            copy_chests=tuple(RoutineChest(*pair) for pair in what.pairs("copy_to", ("label", "id"))),
            verify_minutes=then.number("verify_minutes", 0.0),
            drills_monthly=then.get("drill_monthly", bool, False),
            retention_rule=then.get("keep_editions", str, ""),
            only_on_mains=limits.get("on_mains", bool, False),
            limit=limits.number("mb_per_second", 0.0) or None,
            patience=when.number("patience_days", PATIENCE),
            notifies=tell.get("notify", bool, True),
            tell_command=tell.get("command", str, ""),
            scheduler=scheduler.get("name", str, "none"),
            added_at=scheduler.number("added", 0.0),
        )
    except UsageError as error:
        if str(error).startswith(table.where):
            raise
        raise UsageError(f"{table.where}: {error}") from error


class _Table(msgspec.Struct, frozen=True):
    """A table of a file whose keys and types are looked at before they are believed."""

    file: str
    name: str
    told: Any
    keys: tuple[str, ...]

    def __post_init__(self) -> None:
        if not isinstance(self.told, Mapping):
            raise UsageError(f"{self.where} must be a table.")
        for key in self.told:
            if key not in self.keys:
                raise UsageError(
                    f"{self.where}: there is no key {shown(key)!r}.{meant(key, self.keys)} Keys: {', '.join(self.keys)}."
                )

    @property
    def where(self) -> str:
        return f"{self.file}: [{self.name}]" if self.name else self.file

    def table(self, name: str, keys: tuple[str, ...]) -> _Table:
        return _Table(self.file, name, self.told.get(name, {}), keys)

    def get(self, key: str, kind: type, usual: Any) -> Any:
        value = self.told.get(key, usual)
        if type(value) is not kind:
            word = {bool: "true or false", str: "a text in quotes"}[kind]
            raise UsageError(f"{self.where}: {key} must be {word}.")
        return value

    def number(self, key: str, usual: float) -> float:
        value = self.told.get(key, usual)
        if type(value) not in (int, float) or not abs(value) < 1e15:
            raise UsageError(f"{self.where}: {key} must be a number.")
        return float(value)

    def items(self, key: str) -> list[Any]:
        value = self.told.get(key, [])
        if not isinstance(value, list):
            raise UsageError(f"{self.where}: {key} must be a list in square brackets.")
        return value

    def pairs(self, key: str, names: tuple[str, str]) -> list[tuple[str, str]]:
        found = []
        for item in self.items(key):
            if not isinstance(item, dict) or set(item) != set(names) or not all(type(item[n]) is str for n in names):
                raise UsageError(f"{self.where}: each of {key} must be {{ {names[0]} = TEXT, {names[1]} = TEXT }}.")
            found.append((item[names[0]], item[names[1]]))
        return found


def what_texts(table: _Table, key: str) -> tuple[str, ...]:
    """Return a list of texts of a table."""
    found = table.items(key)
    if not all(type(item) is str for item in found):
        raise UsageError(f"{table.where}: {key} must be a list of texts.")
    return tuple(found)


def write_routine(routine: Routine) -> Path:
    """Write a routine's file, for its owner's eyes only; return it.

    Raises
    ------
    CutOffError
        If it cannot be written.
    """
    place = routine_file(routine.name)
    try:
        make_own(place.parent, 0o700)
        safe.write_file(place, text_of(routine).encode(), mode=0o600)
        hand_over(place.parent)
    except OSError as error:
        raise CutOffError(f"{shown(str(place))} cannot be written: {error.strerror}.") from error
    return place


def text_of(routine: Routine) -> str:
    """Return a routine as its file has it."""
    tables: tuple[tuple[str, tuple[tuple[str, Any], ...]], ...] = (
        (
            "what",
            (
                ("libraries", [{"name": item.name, "place": to_line(item.path)} for item in routine.named_libraries]),
                ("kinds", list(routine.kinds)),
                ("all", routine.all_libraries_in_home),
                ("chests", [{"label": item.label, "id": item.id} for item in routine.chests]),
                ("copy_to", [{"label": item.label, "id": item.id} for item in routine.copy_chests]),
            ),
        ),
        ("when", (("times", list(routine.times)), ("patience_days", float(routine.patience)))),
        (
            "then",
            (
                ("verify_minutes", float(routine.verify_minutes)),
                ("drill_monthly", routine.drills_monthly),
                ("keep_editions", routine.retention_rule),
            ),
        ),
        ("limits", (("on_mains", routine.only_on_mains), ("mb_per_second", float(routine.limit or 0)))),
        ("tell", (("notify", routine.notifies), ("command", routine.tell_command))),
        ("scheduler", (("name", routine.scheduler), ("added", float(routine.added_at)))),
    )
    return _HEAD + "".join(
        f"\n[{name}]\n" + "".join(f"{key} = {_toml(value)}\n" for key, value in rows) for name, rows in tables
    )


def _toml(value: Any) -> str:
    """Return a value as TOML 1.0 writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, str):
        # A JSON string with its characters as they are is a basic string of TOML, but for the delete character.
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007F")
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{key} = {_toml(item)}" for key, item in value.items()) + " }"
    assert isinstance(value, Iterable)
    return "[" + ", ".join(map(_toml, value)) + "]"
