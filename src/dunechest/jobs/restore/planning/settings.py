"""Plan what the application's settings become."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.chest.records import LibraryRecord
from dunechest.library.kinds.schema import Kind
from dunechest.library.settings import setting_in
from dunechest.machine.folders import standard_folders
from dunechest.model.restore import RestoreOptions, SettingChange


def plan_settings(
    kind: Kind, place: Path, options: RestoreOptions, record: LibraryRecord
) -> tuple[list[SettingChange], list[SettingChange]]:
    """Return the settings to write, and those that are left although they name another place.

    A setting is written where it names nothing that exists; where it names another library that is there,
    only if that is asked for: the application must not turn away from it unasked.
    """
    changes, left = [], []
    if options.settings is False:
        return [], []
    folders = standard_folders(options.home_folder)
    for setting in kind.settings:
        standard, _, rest = setting.file[1:].partition("}")
        if standard not in folders or any(mark in rest for mark in "*?["):
            continue
        file = folders[standard] / rest.strip("/")
        old = setting_in(file, setting.key)
        if old is None:  # it is there and cannot be understood: the person's to mend
            continue
        change = SettingChange(file, setting.key, old, str(place))
        if old and os.path.realpath(os.path.expanduser(old)) == os.path.realpath(place):
            continue
        names_another = bool(old) and os.path.exists(os.path.expanduser(old))
        # Of two libraries of one kind the application kept one; the other is not pushed upon it.
        second = not old and record.chosen is False
        if options.settings or not (names_another or second):
            changes.append(change)
        else:
            left.append(change)
    return changes, left
