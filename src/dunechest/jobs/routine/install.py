"""Add routines to the system's scheduler, look whether it has them, and remove them."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path

from msgspec.structs import replace

from dunechest import clock
from dunechest.errors import DuneChestError, NotConnectedError, RefusedError, UsageError
from dunechest.jobs.chests.changes import known_chest
from dunechest.jobs.find import find_libraries
from dunechest.jobs.known.homes import homes_named, list_homes
from dunechest.jobs.known.named import AnyLibrary, get_chest, get_library, names_of
from dunechest.jobs.routine.file import names, read_routine, routine_file, routine_log, text_of, write_routine
from dunechest.jobs.routine.memory import forget
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import kind_named, load_kinds
from dunechest.library.library import Library
from dunechest.machine import schedulers
from dunechest.machine.drives import DRIVES
from dunechest.machine.identity import system_name
from dunechest.machine.schedulers import Entry, Taken
from dunechest.model.routine import (
    PATIENCE,
    PATIENCE_PLUGGED,
    USUAL,
    InstalledFile,
    Routine,
    RoutineChest,
    RoutineInstallation,
    RoutineLibrary,
    RoutineOptions,
)
from dunechest.model.when import moments_of, parse_when
from dunechest.names import AnyPath, quoted, shown
from dunechest.transfer import disk

#: What stands for a scheduler where a person starts the routines, or another program that they have.
NONE = "none"


def plan_routine(
    name: str,
    libraries: AnyLibrary | Iterable[AnyLibrary],
    chests: AnyPath | Sequence[AnyPath],
    when: str | Sequence[str],
    options: RoutineOptions = USUAL,
    *,
    copy_to: Sequence[AnyPath] = (),
) -> Routine:
    """Return a routine as it is meant now: libraries by their place, chests by their id. Changes nothing.

    Parameters
    ----------
    name : str
        What it is called: small letters, digits and hyphens.
    libraries : Library, path or name, or several
        Which to archive.
    chests : path or label, or several
        Where to; each is served when it is connected.
    when : str or several
        When it is due, such as ``every day at 22:00``; see `dunechest.model.when`.
    options : RoutineOptions
        What else was chosen.
    copy_to : sequence of path or label
        Chests that the first one is copied to afterwards.

    Raises
    ------
    UsageError
        If one of them is not there, or the routine cannot be meant.
    RefusedError
        If no scheduler was chosen, and none of the system takes orders from this person.
    """
    texts = names_of(when)
    targets = (chests,) if isinstance(chests, str | os.PathLike) else tuple(chests)
    several = (libraries,) if isinstance(libraries, Library | str | os.PathLike) else tuple(libraries)
    timed = [parse_when(text) is not None for text in texts]
    kinds = load_kinds(state_folder(), []) if options.kinds else {}
    for kind in options.kinds:
        kind_named(kinds, kind)
    patience = options.patience if options.patience is not None else PATIENCE if any(timed) else PATIENCE_PLUGGED
    return Routine(
        name=name,
        chests=tuple(_chest(chest) for chest in targets),
        times=tuple(" ".join(text.split()) for text in texts),
        named_libraries=tuple(_library(given) for given in several),
        kinds=options.kinds,
        all_libraries_in_home=options.every,
        copy_chests=tuple(_chest(chest) for chest in copy_to),
        verify_minutes=options.verify_minutes,
        drills_monthly=options.drill,
        retention_rule=options.keep,
        only_on_mains=options.on_mains,
        limit=options.limit,
        patience=patience,
        notifies=options.notify,
        tell_command=options.tell,
        scheduler=_scheduler(options.scheduler),
    )


def _scheduler(chosen: str | None) -> str:
    if chosen == NONE:
        return NONE
    if chosen is not None:
        return schedulers.scheduler(chosen).name
    usual = schedulers.usual_scheduler()
    if usual is None:
        raise RefusedError(
            "No scheduler of this system takes orders from you, so nothing would start the routine. Nothing was changed. With "
            "--scheduler none it is added all the same, and something else has to run this every hour: "
            "dunechest routine run --due"
        )
    return usual.name


def _library(given: AnyLibrary) -> RoutineLibrary:
    try:
        library = get_library(given)
    except NotConnectedError:
        # It was moved to a drive that is away: the routine waits for it.
        homes = homes_named(os.path.expanduser(given)) if isinstance(given, str) else ()
        if len(homes) != 1:
            raise
        return RoutineLibrary(homes[0].name, str(homes[0].old_path))
    old = os.path.abspath(os.path.expanduser(given)) if isinstance(given, str | os.PathLike) else ""
    home = next((home for home in list_homes() if str(home.path) == str(library.path)), None)
    # The place where it was at first is the one that stays, wherever a library is moved.
    if home is not None:
        return RoutineLibrary(library.name, str(home.old_path))
    return RoutineLibrary(library.name, old if old and os.path.lexists(old) else str(library.path))


def _chest(given: AnyPath) -> RoutineChest:
    on_server = False
    try:
        chest = get_chest(given)
        own, label, on_server = chest.id, chest.label, chest.is_on_server
    except NotConnectedError:
        # A drive that is away is known all the same: the routine waits for it.
        known = known_chest(os.fspath(given))
        own, label, on_server = known.id, known.label, bool(known.address)
    if on_server:
        raise UsageError(
            f"A routine serves drives, and the chest {shown(label)} is on a server. Have your system's scheduler run: "
            f"dunechest copy CHEST {quoted(label)}"
        )
    return RoutineChest(label, own)


def entry_of(routine: Routine) -> Entry:
    """Return what the scheduler is asked for: to do what is due, of all routines, at the times of this one."""
    words = [_python(), "-P", "-m", "dunechest", "routine", "run", "--due", "--state", str(state_folder().absolute())]
    if DRIVES in os.environ:
        words += ["--drives", os.environ[DRIVES]]
    return Entry(routine.name, tuple(words), moments_of(routine.times), _mounts())


def _python() -> str:
    if system_name() == "windows":
        quiet = Path(sys.executable).with_name("pythonw.exe")
        if quiet.is_file():
            return str(quiet)
    return sys.executable


def _mounts() -> tuple[Path, ...]:
    """Return the folders in which this person's drives appear on Linux, for the schedulers that watch folders."""
    if system_name() != "linux":
        return ()
    import getpass

    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        return ()
    return tuple(Path(top) / user for top in ("/media", "/run/media"))


def plan_add(routine: Routine, *, replace_old: bool = False) -> RoutineInstallation:
    """Return what adding a routine would install. Changes nothing.

    Raises
    ------
    RefusedError
        If there is a routine of that name already, unless it is to be replaced.
    """
    if routine.name in names() and not replace_old:
        raise RefusedError(
            f"There is a routine {shown(routine.name)} already. Nothing was changed. Choose another name; or replace it: "
            "--replace"
        )
    libraries = [item.path for item in routine.named_libraries]
    if routine.all_libraries_in_home or routine.kinds:
        from dunechest.machine.folders import own_home

        found = find_libraries([own_home()]).libraries
        libraries += [
            str(item.library.path)
            for item in found
            if not item.whose and (routine.all_libraries_in_home or item.library.kind.name in routine.kinds)
        ]
    files = [InstalledFile(str(routine_file(routine.name)), text_of(routine))]
    if routine.scheduler == NONE:
        sentence = "nothing starts it by itself: see to it that its command runs every hour"
        entry = entry_of(routine)
        return RoutineInstallation(
            routine, entry.command, tuple(files), False, sentence, tuple(dict.fromkeys(libraries))
        )
    entry = entry_of(routine)
    own = schedulers.scheduler(routine.scheduler)
    files += [
        InstalledFile(str(file.place) if file.place is not None else "", file.text) for file in own.files(entry)
    ]
    return RoutineInstallation(
        routine, entry.command, tuple(files), False, "not installed yet", tuple(dict.fromkeys(libraries))
    )


def add_routine(routine: Routine, *, replace_old: bool = False) -> RoutineInstallation:
    """Add a routine, and ask the scheduler whether it took it.

    Parameters
    ----------
    routine : Routine
        From `plan_routine`.
    replace_old : bool
        Whether one of that name is replaced; what is remembered of it stays. One that was read from its file is as old as it
        was.

    Returns
    -------
    RoutineInstallation
        `RoutineInstallation.taken` is what the scheduler says.

    Raises
    ------
    RefusedError
        If there is one already, or the scheduler does not take it. Nothing was changed then.
    """
    routine = replace(routine, added_at=routine.added_at or clock.now())
    plan = plan_add(routine, replace_old=replace_old)
    before = None
    if routine.name in names():
        try:
            before = read_routine(routine.name)
        except DuneChestError:
            pass  # what is not understood is replaced all the same
    if before is not None and before.scheduler not in (NONE, routine.scheduler):
        schedulers.scheduler(before.scheduler).remove(routine.name)
    if routine.scheduler == NONE:
        write_routine(routine)
        return plan
    own = schedulers.scheduler(routine.scheduler)
    # The routine's file first: what the scheduler starts finds it.
    write_routine(routine)
    try:
        own.install(entry_of(routine))
        taken = own.taken(routine.name)
        if not taken.taken:
            own.remove(routine.name)
            raise RefusedError(f"The scheduler did not take it: {taken.sentence}. Nothing was changed.")
    except DuneChestError:
        if before is not None:
            write_routine(before)
        else:
            disk.remove(routine_file(routine.name), missing_ok=True)
        raise
    return replace(plan, installed=True, scheduler_says=taken.sentence)


def remove_routine(name: str) -> tuple[str, ...]:
    """Remove a routine: from the scheduler, its file, and what is remembered of it. Chests and libraries stay as they are.

    Returns
    -------
    tuple of str
        What was removed.

    Raises
    ------
    UsageError
        If there is none of that name.
    RefusedError
        If the scheduler refuses; the routine is there still.
    """
    if name not in names():
        read_routine(name)  # says what there is
    own: list[str] = []
    try:
        own = [read_routine(name).scheduler]
    except UsageError:
        # A file that is not understood does not say who starts it: all that this system has are asked.
        own = [key for key in schedulers.NAMES if schedulers.scheduler(key).here()]
    gone = []
    for key in own:
        if key == NONE:
            continue
        scheduler = schedulers.scheduler(key)
        there = scheduler.taken(name).taken
        scheduler.remove(name)
        if scheduler.taken(name).taken:
            raise RefusedError(f"{key} still has the routine {shown(name)}. It was not removed.")
        if there:
            gone.append(f"its entry in {key}")
    disk.remove(routine_file(name), missing_ok=True)
    gone.append(str(routine_file(name)))
    forget(name)
    if not names():
        _sweep()
    return tuple(gone)


def _sweep() -> None:
    """Remove what all routines had in common, after the last one."""
    folder = routine_file("any").parent
    for place in (*folder.glob(f"{routine_log().name}*"), folder / ".running"):
        disk.remove(place, missing_ok=True)
    try:
        folder.rmdir()
    except OSError:
        pass  # somebody put something there


def taken(routine: Routine) -> Taken:
    """Ask the scheduler of a routine whether it has it."""
    if routine.scheduler == NONE:
        return Taken(True, "started by hand, or by a program of yours")
    try:
        own = schedulers.scheduler(routine.scheduler)
        answer = own.taken(routine.name)
        if answer.taken and not own.same(entry_of(routine)):
            return Taken(
                False,
                f"{routine.scheduler} has it with other times, or for a Dune Chest in another place than this one",
            )
        return answer
    except DuneChestError as error:
        return Taken(False, str(error))
