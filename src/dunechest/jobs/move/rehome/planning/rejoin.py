"""Plan to make one library of a moved one and a second one, and to have its application find it again."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from dunechest.findings import Finding
from dunechest.jobs.known.named import library_at
from dunechest.jobs.move.rehome.planning.plan_rehome import refuse_away
from dunechest.jobs.move.rehome.planning.way import every_setting_of
from dunechest.jobs.restore.aside import aside_name
from dunechest.library.in_use import in_use
from dunechest.library.library import Library
from dunechest.machine.folder_links import target_of
from dunechest.machine.folders import own_home
from dunechest.model.findings import finding_of
from dunechest.model.homes import Home
from dunechest.model.rehome import USUAL, RehomeOptions, RejoinPlan
from dunechest.model.restore import SettingChange
from dunechest.names import shown
from dunechest.transfer.walk import each_file


def plan_rejoin(home: Home, options: RehomeOptions = USUAL) -> RejoinPlan:
    """Plan to rejoin a moved library. Changes nothing.

    Parameters
    ----------
    home : Home
        The moved library.
    options : RehomeOptions
        What was chosen.

    Raises
    ------
    NotConnectedError
        If its drive is not connected.
    """
    refuse_away(home)
    library = library_at(home.path)
    kind_differs = library.kind.name != home.kind
    before, after = target_of(home.old_path), ""
    if home.way == "link" and (before or not os.path.lexists(home.old_path) or _is_second(home)):
        after = str(home.path)
    elif before and before not in (home.past.place, str(home.path)):
        after = before  # a link that is not ours stays
    findings = list(_findings(home, library, kind_differs=kind_differs))
    settings = tuple(_settings(home, library)) if home.way == "setting" else ()
    second = home.second
    return RejoinPlan(
        home=home,
        options=options,
        settings=settings,
        link_before=before,
        link_after=after,
        set_aside_path=aside_name(second.path, options.day) if second is not None else None,
        findings=tuple(findings),
    )


def _is_second(home: Home) -> bool:
    return home.second is not None and home.second.path == home.old_path


def _settings(home: Home, library: Library) -> Iterator[SettingChange]:
    """Yield the settings that are to name the library again: those that name a place where it was, or nothing there is."""
    places = {str(home.old_path), home.past.place} | ({str(home.second.path)} if home.second is not None else set())
    for file, key, told in every_setting_of(library.kind):
        full = os.path.abspath(os.path.expanduser(told)) if told else ""
        if full == str(home.path):
            continue
        if not told or full in places or not os.path.exists(full):
            yield SettingChange(file, key, told, str(home.path))


def _findings(home: Home, library: Library, *, kind_differs: bool) -> Iterator[Finding]:
    if kind_differs and home.kind != "folder":
        yield finding_of("kind-differs", path=str(home.path), kind=home.kind)
    places = [home.path] + ([home.second.path] if home.second is not None else [])
    for place in places:
        paths = [file.path for file in each_file(str(place))]
        uses = in_use(place, library.kind, paths, own_home())
        if uses:
            yield finding_of(
                "in-use/rejoin",
                place=str(place),
                process=uses[0].process,
                how=uses[0].how,
                application=shown(library.kind.application) or "the application",
            )
            return
    others = [
        told
        for _, _, told in every_setting_of(library.kind)
        if told and Path(told) not in (home.path, home.old_path) and os.path.exists(os.path.expanduser(told))
    ]
    if home.way == "setting" and others and not _known(home, others[0]):
        yield finding_of("another-library", application=library.kind.application, other=others[0])


def _known(home: Home, told: str) -> bool:
    full = os.path.abspath(os.path.expanduser(told))
    return full in (home.past.place, str(home.path), str(home.second.path) if home.second is not None else "")
