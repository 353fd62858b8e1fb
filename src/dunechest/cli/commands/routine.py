"""``dunechest routine``."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_kind, complete_library, shaped

if TYPE_CHECKING:
    from dunechest.jobs.routine import Routine


@click.group("routine", cls=Group)
def command() -> None:
    """Archive and check by itself: every night, every Sunday, or when the drive is plugged in.

    A routine says what is done, to which chests and when. The system's own scheduler
    starts it. A run that was missed, because the computer slept or the drive was away,
    is made later. Nothing is asked and nothing is forced: what needs a decision is told,
    with the command that decides. As long as nothing is wrong, nothing is said.
    """


@shaped(
    "dunechest routine add nightly marram-papers --to blue --when 'every day at 22:00'",
    "dunechest routine add sundays --all --to blue --when 'every Sunday at 18:00' --verify 20min",
    "dunechest routine add plugged marram-papers --to sand --when 'when plugged in' --plan",
    sections={
        "What": ("every", "kinds", "chests", "copy_to"),
        "When": ("when", "patience"),
        "What then": ("verify", "drill", "keep"),
        "Limits": ("on_mains", "limit"),
        "Whom to tell": ("tell", "no_notify"),
        "How": ("plan_only", "scheduler", "replace_old", "again"),
    },
)
@command.command("add", cls=Command)
@click.argument("name", metavar="NAME")
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...", shell_complete=complete_library)
@click.option("--all", "every", is_flag=True, help="All libraries in your home folder, new ones included.")
@click.option("--kind", "kinds", multiple=True, metavar="K", help="All of this kind.", shell_complete=complete_kind)
@click.option(
    "--to",
    "chests",
    multiple=True,
    metavar="CHEST",
    help="The chest to archive to; repeatable. Each is served when it is connected.",
    shell_complete=complete_chest,
)
@click.option(
    "--copy-to",
    multiple=True,
    metavar="CHEST",
    help="A chest that the first one is copied to afterwards; repeatable.",
    shell_complete=complete_chest,
)
@click.option(
    "--when",
    multiple=True,
    metavar="TIME",
    help="'every day at 22:00', 'every Sunday', 'every month on the 1st', 'every hour', 'when plugged in'; repeatable.",
)
@click.option("--patience", type=float, metavar="DAYS", help="Tell when a drive has been away so long. Usually 3.")
@click.option("--verify", metavar="TIME", help="Then verify each chest for so long, such as 20min.")
@click.option("--drill", is_flag=True, help="Then drill one library of each chest every month.")
@click.option("--retain", "keep", default="", metavar="RULE", help="Then drop editions that this rule does not keep.")
@click.option("--on-mains", is_flag=True, help="Wait while the computer runs on its battery.")
@click.option("--limit", type=float, metavar="MB/S", help="Read no more megabytes a second.")
@click.option(
    "--tell", default="", metavar="COMMAND", help="Give this command a JSON document when something is wrong."
)
@click.option("--no-notify", is_flag=True, help="No notification on the desktop.")
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be installed, without doing it.")
@click.option(
    "--scheduler",
    metavar="NAME",
    help="systemd, cron, launchd or task-scheduler; none, to start it yourself.",
)
@click.option("--replace", "replace_old", is_flag=True, help="Replace a routine of that name.")
@click.option(
    "--again",
    is_flag=True,
    help="Install it again as its file has it, after that was edited or Dune Chest was moved.",
)
@common
def add(out: Out, name: str, plan_only: bool, replace_old: bool, again: bool, **asked: Any) -> int:
    """Add a routine, and have the system's scheduler start it.

    What is installed is shown, and the scheduler is asked whether it took it. The
    routine runs as you, with low priority, and never asks for a password.

    LIBRARY is a path, or a name that `dunechest find` showed. The routine keeps its
    place, and the chest's id: another library or drive of the same name is not meant.
    """
    from dunechest.cli.views import routine as view
    from dunechest.jobs.routine import add_routine, plan_add

    routine = _again(name, asked) if again else _meant(name, asked)
    replace_old |= again
    put = plan_add if plan_only else add_routine
    installation = put(routine, replace_old=replace_old)
    out.document("routine-add", installation=installation)
    if out.shows:
        view.show_added(out, installation, plan=plan_only)
    return 0


def _again(name: str, asked: dict[str, Any]) -> Routine:
    """Return a routine as its file has it."""
    from dunechest.errors import UsageError
    from dunechest.jobs.routine.file import read_routine

    if any(asked.values()):
        raise UsageError("--again installs the routine as its file has it; nothing else goes with it but --plan.")
    return read_routine(name)


def _meant(name: str, asked: dict[str, Any]) -> Routine:
    """Return the routine that was asked for."""
    from dunechest.errors import UsageError
    from dunechest.jobs.routine import RoutineOptions, plan_routine
    from dunechest.names import shown
    from dunechest.words import seconds_of

    if not asked["chests"] or not asked["when"]:
        raise UsageError("Say where to and when: --to CHEST --when 'every day at 22:00'")
    seconds = seconds_of(asked["verify"]) if asked["verify"] else 0.0
    if seconds is None:
        raise UsageError(f"--verify takes a time such as 20min or 2h, not {shown(asked['verify'])!r}.")
    options = RoutineOptions(
        kinds=asked["kinds"], every=asked["every"], verify_minutes=seconds / 60, drill=asked["drill"], keep=asked["keep"],
        on_mains=asked["on_mains"], limit=asked["limit"], patience=asked["patience"], notify=not asked["no_notify"],
        tell=asked["tell"], scheduler=asked["scheduler"],
    )  # fmt: skip
    return plan_routine(name, asked["libraries"], asked["chests"], asked["when"], options, copy_to=asked["copy_to"])


@shaped("dunechest routine list", "dunechest routine list nightly")
@command.command("list", cls=Command)
@click.argument("name", required=False, metavar="[NAME]")
@common
def list_all(out: Out, name: str | None) -> int:
    """List routines: when each last ran, what came of it, when it runs next, what is overdue.

    With NAME everything about one routine is shown. The exit status is 1 if one of
    them needs you.
    """
    from dunechest.cli.views import routine as view
    from dunechest.jobs.routine import list_routines

    found = list_routines(name)
    out.document("routine-list", routines=found)
    out.problem(*(f"{state.name}: {state.message or 'overdue'}" for state in found if not state.ok))
    if out.shows:
        if name is not None:
            view.show_one(out, found[0])
        else:
            view.show_all(out, found)
    return 0 if all(state.ok for state in found) else 1


@shaped("dunechest routine run nightly", "dunechest routine run --due")
@command.command("run", cls=Command)
@click.argument("name", required=False, metavar="[NAME]")
@click.option("--due", is_flag=True, help="What is due of all routines; the scheduler starts this.")
@click.option("--state", metavar="FOLDER", help="This computer's records, if not in their usual place.")
@click.option("--drives", metavar="FOLDERS", help="Look for drives only there, as DUNECHEST_DRIVES does.")
@common
def run(out: Out, name: str | None, due: bool, state: str | None, drives: str | None) -> int:
    """Run a routine now, or all that is due.

    A run that was missed is made once, later. A drive that is not connected is waited
    for. The exit status is 1 if something is wrong, 3 if something waits for your decision, 4 if
    no drive was connected.
    """
    from dunechest.cli.views import routine as view
    from dunechest.jobs.routine import DueRuns, named_or_due, run_due, run_routine
    from dunechest.ledger.folder import STATE
    from dunechest.machine import effort
    from dunechest.machine.drives import DRIVES

    named_or_due(name, due)
    if due:
        effort.give_way()
    if state is not None:
        os.environ[STATE] = state
    if drives is not None:
        os.environ[DRIVES] = drives
    with out.following() as progress:
        named = run_routine(name, progress=progress) if name is not None else None
        result = DueRuns((named,)) if named is not None else run_due(progress=progress)
    out.document(
        "routine-run",
        runs=result.runs,
        busy=result.busy,
        waiting_routines=result.waiting,
    )
    out.problem(*(f"{item.name}: {item.message}" for item in result.runs if item.message))
    if out.shows:
        view.show_runs(out, result)
    return view.status_of(result)


@shaped("dunechest routine remove nightly")
@command.command("remove", cls=Command)
@click.argument("name", metavar="NAME")
@common
def remove(out: Out, name: str) -> int:
    """Remove a routine. Chests and libraries stay as they are."""
    from dunechest.cli.views import routine as view
    from dunechest.jobs.routine import remove_routine

    gone = remove_routine(name)
    out.document("routine-remove", name=name, removed_items=list(gone))
    if out.shows:
        view.show_removed(out, name, gone)
    return 0
