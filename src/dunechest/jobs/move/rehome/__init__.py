"""Move a library to a drive so that its application goes on working with it there.

`plan_rehome` decides, `carry_out` does, `rehome` is both in one call. `plan_rehome_back` and `rehome_back` return it,
`plan_rejoin` and `rejoin` make one library of two.
"""

from __future__ import annotations

import os
from pathlib import Path

from msgspec.structs import replace

from dunechest.jobs.known.homes import home_named
from dunechest.jobs.known.named import AnyLibrary, get_library, library_at
from dunechest.jobs.move.rehome.doing.forget import give_up_home
from dunechest.jobs.move.rehome.doing.moving import carry_out
from dunechest.jobs.move.rehome.one_of_two import carry_out_rejoin
from dunechest.jobs.move.rehome.parts import carry_out_parts
from dunechest.jobs.move.rehome.planning import plan_rehome as make
from dunechest.jobs.move.rehome.planning import rejoin as rejoining
from dunechest.jobs.move.rehome.planning.parts import plan_parts
from dunechest.jobs.undo import recover
from dunechest.library.library import Library
from dunechest.model.homes import Home
from dunechest.model.rehome import (
    USUAL,
    OutsideMove,
    PartMovePlan,
    RehomeOptions,
    RehomePlan,
    RehomeResult,
    RejoinPlan,
    RejoinResult,
)
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent

__all__ = [
    "Home",
    "OutsideMove",
    "PartMovePlan",
    "RehomeOptions",
    "RehomePlan",
    "RehomeResult",
    "RejoinPlan",
    "RejoinResult",
    "carry_out",
    "carry_out_parts",
    "carry_out_rejoin",
    "forget_home",
    "plan_rehome",
    "plan_rehome_back",
    "plan_rehome_parts",
    "plan_rejoin",
    "rehome",
    "rehome_back",
    "rejoin",
]


def plan_rehome(library: AnyLibrary, to: AnyPath, options: RehomeOptions = USUAL) -> RehomePlan:
    """Plan to move a library to a drive. Changes nothing.

    Parameters
    ----------
    library : Library, path or name
        What to move; one that was moved already is moved on.
    to : path
        The folder on the drive that is to hold the library's own folder.
    options : RehomeOptions
        What was chosen.

    Returns
    -------
    RehomePlan

    Raises
    ------
    UsageError
        If there is no such library or folder.
    RefusedError
        If a second library was made meanwhile.
    """
    return make.plan_rehome(get_library(library), Path(os.path.expanduser(to)), options)


def plan_rehome_back(library: AnyLibrary, options: RehomeOptions = USUAL) -> RehomePlan:
    """Plan to move a library back to where its application found it at first. Changes nothing.

    Parameters
    ----------
    library : Library, path or name
        A library that was moved to a drive.
    options : RehomeOptions
        What was chosen.

    Raises
    ------
    UsageError
        If no such library was moved.
    NotConnectedError
        If its drive is not connected.
    RefusedError
        If a second library was made meanwhile.
    """
    home = _home(library)
    make.refuse_away(home)
    return make.plan_back(home, replace(library_at(home.path), name=home.name), options)


def plan_rehome_parts(library: AnyLibrary, to: AnyPath, options: RehomeOptions) -> PartMovePlan:
    """Plan to move parts of a library to a drive, where they become a library of their own. Changes nothing.

    Parameters
    ----------
    library, to
        As for `plan_rehome`.
    options : RehomeOptions
        What was chosen; `parts` names the parts.

    Raises
    ------
    UsageError
        If there is no such library, folder or part.
    """
    return plan_parts(get_library(library), Path(os.path.expanduser(to)), options)


def plan_rejoin(library: AnyLibrary, options: RehomeOptions = USUAL) -> RejoinPlan:
    """Plan to make one library of a moved one and a second one. Changes nothing.

    Parameters
    ----------
    library : Library, path or name
        A library that was moved to a drive.
    options : RehomeOptions
        What was chosen.

    Raises
    ------
    UsageError
        If no such library was moved.
    NotConnectedError
        If its drive is not connected.
    """
    return rejoining.plan_rejoin(_home(library), options)


def rehome(
    library: AnyLibrary, to: AnyPath, options: RehomeOptions = USUAL, *, progress: Progress = silent
) -> RehomeResult:
    """Move a library to a drive; its application finds it there by its setting, or by a link in the old place.

    Parameters
    ----------
    library, to, options
        As for `plan_rehome`; with `parts` only these move, and become a library of their own.
    progress : Progress
        Told how far it is.

    Returns
    -------
    RehomeResult
        The original is set aside, not deleted: `reclaim` frees its space.

    Raises
    ------
    RefusedError
        If something blocks it. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. The library is where it was.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), pathlib.Path(tempfile.mkdtemp())
    >>> (home / "notes").mkdir()
    >>> _ = (home / "notes" / "tide.txt").write_text("spring tide at noon")
    >>> moved = dunechest.rehome(home / "notes", drive)
    >>> moved.way, (home / "notes").is_symlink(), (drive / "notes" / "tide.txt").read_text()
    ('link', True, 'spring tide at noon')
    """
    recover()
    if options.parts:
        return carry_out_parts(plan_rehome_parts(library, to, options), progress=progress)
    return carry_out(plan_rehome(library, to, options), progress=progress)


def rehome_back(library: AnyLibrary, options: RehomeOptions = USUAL, *, progress: Progress = silent) -> RehomeResult:
    """Move a library back from its drive to where its application found it at first.

    Parameters
    ----------
    library, options
        As for `plan_rehome_back`.
    progress : Progress
        Told how far it is.

    Raises
    ------
    RefusedError, CutOffError
        As `rehome` does.
    """
    recover()
    return carry_out(plan_rehome_back(library, options), progress=progress)


def rejoin(library: AnyLibrary, options: RehomeOptions = USUAL, *, progress: Progress = silent) -> RejoinResult:
    """Make one library of a moved one and the second one that was made while its drive was missing.

    Parameters
    ----------
    library, options
        As for `plan_rejoin`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    RejoinResult
        The second library is set aside, not deleted.

    Raises
    ------
    RefusedError
        If the two cannot be made one. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. Both libraries are as they were.
    """
    recover()
    return carry_out_rejoin(plan_rejoin(library, options), progress=progress)


def forget_home(library: AnyLibrary) -> Home:
    """Stop expecting a library on a drive that is lost or broken; a link to it that stands in its old place goes.

    Parameters
    ----------
    library : Library, path or name
        A library that was moved to a drive which is not connected.

    Returns
    -------
    Home
        What was known of it.

    Raises
    ------
    UsageError
        If no such library was moved.
    RefusedError
        If its drive is connected: then `rehome_back` returns it.
    """
    recover()
    home = _home(library)
    give_up_home(home)
    return home


def _home(library: AnyLibrary) -> Home:
    return home_named(str(library.path) if isinstance(library, Library) else os.fspath(library))
