"""How an application finds its library afterwards: by its setting, or by a link in the old place."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from dunechest.library.kinds.schema import Kind
from dunechest.library.settings import setting_in
from dunechest.machine.folders import own_home, standard_folders
from dunechest.model.restore import SettingChange


def settings_to(kind: Kind, source: Path, target: Path) -> tuple[SettingChange, ...]:
    """Return the settings of the application that name a library, and what they are to say.

    One that names another library or none stays as it is: where the application looks by itself, a link stands.
    """
    return tuple(
        SettingChange(file, key, told, str(target))
        for file, key, told in settings_of(kind)
        if _leads_to(told, source)
    )


def settings_of(kind: Kind) -> Iterator[tuple[Path, str, str]]:
    """Yield file, key and value of each setting of the application that names a library."""
    yield from (setting for setting in every_setting_of(kind) if setting[2])


def every_setting_of(kind: Kind) -> Iterator[tuple[Path, str, str]]:
    """Yield file, key and value of each setting in which the application names its library; empty if it names none."""
    folders = standard_folders(own_home())
    for setting in kind.settings:
        standard, _, rest = setting.file[1:].partition("}")
        if standard not in folders or any(mark in rest for mark in "*?["):
            continue
        file = folders[standard] / rest.strip("/")
        told = setting_in(file, setting.key)
        if told is not None:
            yield file, setting.key, told


def _leads_to(told: str, place: Path) -> bool:
    """Whether a setting names a place, itself or through links."""
    path = os.path.abspath(os.path.expanduser(told))
    return path == str(place) or os.path.realpath(path) == os.path.realpath(place)
