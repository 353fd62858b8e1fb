"""A person's own settings: ``settings.toml`` in this computer's state folder. A household need not touch it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dunechest.errors import CutOffError, UsageError
from dunechest.ledger.folder import state_folder
from dunechest.names import shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

_FILE = "settings.toml"
_MOST = 1 << 20


def settings_file() -> Path:
    """Return where the settings are, whether there are any or not."""
    return state_folder() / _FILE


def read_settings() -> dict[str, Any]:
    """Return the settings; empty if there are none.

    Raises
    ------
    UsageError
        If they cannot be read.
    """
    try:
        text = _text()
    except (OSError, ValueError) as error:
        raise _unreadable(error) from error
    if not text:
        return {}
    import tomllib

    try:
        return tomllib.loads(text)
    except ValueError as error:
        raise _unreadable(error) from error


def table_of(told: Mapping[str, Any], name: str) -> dict[str, Any]:
    """Return a table of the settings; empty if it is not there.

    Raises
    ------
    UsageError
        If it is no table.
    """
    found = told.get(name, {})
    if not isinstance(found, dict):
        raise UsageError(f"{shown(str(settings_file()))}: {name} must be a table.")
    return found


def put_table(name: str, values: Mapping[str, Any] | None) -> None:
    """Replace a table of the settings, or remove it; all else in the file stays as it is, comments too.

    Parameters
    ----------
    name : str
        The table.
    values : mapping or None
        What it holds from now on; None to remove it.

    Raises
    ------
    UsageError
        If the settings cannot be read.
    CutOffError
        If they cannot be written.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document = tomlkit.parse(_text())
    except (OSError, ValueError, TOMLKitError) as error:
        raise _unreadable(error) from error
    if values is None:
        if name not in document:
            return
        document.remove(name)
    else:
        table = tomlkit.table()
        for key, value in values.items():
            table.add(key, value)
        document[name] = table
    path = settings_file()
    try:
        make_own(path.parent)
        safe.write_file(path, tomlkit.dumps(document).encode(), mode=0o600)
        hand_over(path.parent)
    except OSError as error:
        raise CutOffError(f"{shown(str(path))} cannot be written: {error.strerror}. Nothing was changed.") from error


def _text() -> str:
    try:
        return safe.read_bounded(settings_file(), _MOST).decode()
    except FileNotFoundError:
        return ""


def _unreadable(error: Exception) -> UsageError:
    return UsageError(f"{shown(str(settings_file()))} cannot be read: {shown(str(error))}")
