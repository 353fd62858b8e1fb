"""``dunechest reclaim``."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_library, shaped

if TYPE_CHECKING:
    from collections.abc import Sequence

    from dunechest.jobs.move.reclaim import ReclaimPlan, ReclaimResult
    from dunechest.ledger.past_changes import PastChange


@shaped(
    "dunechest reclaim marram-papers --plan",
    "dunechest reclaim marram-papers --yes",
    "dunechest reclaim winter-games --part Lanternfish --yes",
    sections={
        "What": ("parts", "outside_files", "also"),
        "How": ("plan_only", "yes", "trash", "scratch", "ignore"),
    },
)
@click.command("reclaim", cls=Command)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_library)
@click.option(
    "--part",
    "parts",
    multiple=True,
    metavar="PART",
    help="Only this part (a title, a project, an album); repeatable.",
)
@click.option(
    "--with-outside-files", "outside_files", is_flag=True, help="Delete files stored elsewhere that it uses, too."
)
@click.option(
    "--also",
    multiple=True,
    metavar="PATTERN",
    help="Delete these files, too, which would stay: licensed ones, placeholders, what was left out. Repeatable.",
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option("--yes", is_flag=True, help="Do not ask. Needed where there is no terminal.")
@click.option("--trash", is_flag=True, help="Move it to the system's trash; emptying the trash frees the space.")
@click.option(
    "--scratch",
    metavar="FOLDER",
    type=click.Path(exists=True, file_okay=False),
    help="A folder with room for a drill, if one is needed.",
)
@click.option("--ignore", multiple=True, metavar="CODE", help="Continue despite this blocking problem.")
@common
def command(out: Out, library: str, plan_only: bool, yes: bool, **options: Any) -> int:
    """Delete a library's original to free its space, once its copies are proven.

    Nothing is deleted unless the library is unchanged since it was archived, is complete on
    as many connected drives as its rule asks for (two, if nothing else is set), was fully
    checked on each lately, passed a drill on one, and is neither open nor used from outside.
    Missing checks and the drill are done first. Just before anything is deleted, every
    byte of it and of its copies is read once more. Licensed files, placeholders and what was
    left out of the archive stay, and are listed.

    Of a library that was moved to a drive by dunechest rehome, the original that was set
    aside is deleted, never the library itself.
    """
    from dunechest.cli.views import reclaim as view
    from dunechest.cli.views.restore import say_undone_first
    from dunechest.errors import UsageError
    from dunechest.jobs.move.reclaim import ReclaimOptions, plan_reclaim
    from dunechest.jobs.move.reclaim.planning.aside import asides_of
    from dunechest.jobs.undo import recover

    choice = ReclaimOptions(**options)
    meant = _meant(library)
    if not plan_only:
        finished = recover()
        for past_change in finished:
            say_undone_first(out, past_change)
        if any(is_deletion_of(past_change, meant) for past_change in finished) and not asides_of(library):
            out.document("reclaim", libraries=[])
            return 0  # that was what was asked for
    try:
        plans = plan_reclaim(library, choice)
    except UsageError:
        if not _say_deleted_before(out, meant):
            raise
        return 0
    if plan_only:
        out.document("reclaim-plan", libraries=plans)
        for plan in plans:
            out.note_findings(plan.findings, plan.name)
        if out.shows:
            for plan in plans:
                view.show_plan(out, plan)
        return 3 if any(plan.blocked for plan in plans) else 0
    out.expect("reclaim")
    status, results = reclaim_plans(out, plans, yes)
    if results:
        out.document("reclaim", libraries=results)
    return status


def reclaim_plans(out: Out, plans: Sequence[ReclaimPlan], yes: bool) -> tuple[int, list[ReclaimResult]]:
    """Ask, if that is needed, and delete what plans say; return the exit status and what was done."""
    from dunechest.cli.views import reclaim as view
    from dunechest.jobs.move.reclaim import prove_and_carry_out
    from dunechest.jobs.restore import new_command

    if not any(plan.blocked for plan in plans) and not _may_delete(out, plans, yes):
        return 3, []
    shared = new_command()
    results = []
    for plan in plans:
        with out.following() as progress:
            results.append(prove_and_carry_out(plan, progress=progress, command=shared))
        out.note_findings(results[-1].findings, plan.name)
        if out.shows:
            view.show(out, results[-1])
    return 0, results


def _meant(library: str) -> set[str]:
    """Return the names and places by which a deletion that was begun can be known."""
    from dunechest.jobs.known.homes import homes_named, places_meant
    from dunechest.jobs.move.reclaim.planning.aside import every_aside_of

    moved = homes_named(library)
    return {
        library,
        *places_meant(library),
        *(item.path for item in every_aside_of(library)),
        *(home.name for home in moved),
    }


def _say_deleted_before(out: Out, meant: set[str]) -> bool:
    """Say so if what a word means was deleted before, by the last change on this computer; whether it was."""
    from dunechest.cli.layout import GOOD, say
    from dunechest.ledger import past_changes
    from dunechest.names import from_wire, shown
    from dunechest.words import ago

    last = next(past_changes.past_changes(), None)
    if last is None or last.how != "done" or not is_deletion_of(last, meant):
        return False
    if os.path.lexists(from_wire(last.head.place)):
        return False
    out.document("reclaim", libraries=[])
    if out.shows:
        say(
            out.console,
            f"Nothing to delete: the original of {shown(last.head.about)} was deleted {ago(last.head.when)}.",
            GOOD,
        )
    return True


def is_deletion_of(past_change: PastChange, meant: set[str]) -> bool:
    """Whether a change that was just finished is the deletion that was asked for, by the library's name or by its place."""
    from dunechest.jobs.undo.forward import begun_removal
    from dunechest.names import from_wire

    return (
        past_change.head.job == "reclaim"
        and bool({past_change.head.about, from_wire(past_change.head.place)} & meant)
        and begun_removal(past_change)
    )


def _may_delete(out: Out, plans: Sequence[ReclaimPlan], yes: bool) -> bool:
    from dunechest.cli.views import reclaim as view
    from dunechest.errors import RefusedError
    from dunechest.names import shown
    from dunechest.words import number, size

    if yes:
        return True
    count = number(sum(plan.file_count for plan in plans), "file")
    held = size(sum(plan.size_bytes for plan in plans))
    if not out.shows or not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise RefusedError(
            f"Refused: {count} ({held}) of {shown(plans[0].name)} would be deleted, and there is no terminal to ask on. Nothing "
            "was changed. To see what: --plan. To do it without being asked: --yes"
        )
    for plan in plans:
        view.show_plan(out, plan, asking=True)
    trash = plans[0].options.trash
    if click.confirm(
        f"{'Move' if trash else 'Delete'} {count} ({held}){' to the trash' if trash else ''}?", default=False
    ):
        return True
    out.console.print("Nothing was changed.")
    return False
