"""Protection rules: how many copies of a library are wanted, and how lately they must have been checked.

They are in ``settings.toml`` in this computer's state folder; a household need not touch them::

    [protection]
    copies = 2      # current copies
    drives = 2      # on so many drives; as many as copies if it is not said
    places = 1      # different places in which these drives are kept
    days = 90       # since every byte of each was checked
    drill_days = 365  # since one of them passed a drill; not asked if it is not said

    [protection.libraries.dune-survey]
    copies = 3
    places = 2
"""

from __future__ import annotations

import msgspec

from dunechest.errors import UsageError
from dunechest.ledger.settings import read_settings, settings_file
from dunechest.model.overview import Protection
from dunechest.names import shown


class Rules(msgspec.Struct, frozen=True):
    """The rule for all libraries, and those that have one of their own, by name."""

    usual: Protection
    own: dict[str, Protection]

    def of(self, library: str) -> Protection:
        """Return the rule for a library."""
        return self.own.get(library, self.usual)


def read_rules() -> Rules:
    """Read the rules; the usual ones where nothing is set.

    Raises
    ------
    UsageError
        If the settings cannot be understood; the message names the key.
    """
    path, told = settings_file(), read_settings()
    protection = told.get("protection", {})
    if not isinstance(protection, dict):
        raise UsageError(f"{shown(str(path))}: protection must be a table.")
    usual = _rule(protection, Protection(), f"{path}: protection")
    libraries = protection.get("libraries", {})
    if not isinstance(libraries, dict):
        raise UsageError(f"{shown(str(path))}: protection.libraries must be a table.")
    own = {name: _rule(rule, usual, f"{path}: protection.libraries.{name}") for name, rule in libraries.items()}
    return Rules(usual, own)


def _rule(told: object, usual: Protection, where: str) -> Protection:
    if not isinstance(told, dict):
        raise UsageError(f"{shown(where)} must be a table.")
    known = set(Protection.__struct_fields__)
    values = {}
    for key, value in told.items():
        if key == "libraries":
            continue
        if key not in known:
            raise UsageError(f"{shown(where)}.{shown(key)}: there is no such key. Keys: {', '.join(sorted(known))}.")
        if not isinstance(value, int) or isinstance(value, bool) or value < 1:
            raise UsageError(f"{shown(where)}.{key} must be a whole number from 1 on.")
        values[key] = value
    return Protection(**{name: values.get(name, getattr(usual, name)) for name in known})
