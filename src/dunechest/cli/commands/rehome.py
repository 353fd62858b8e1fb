"""``dunechest rehome``."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_library, shaped

if TYPE_CHECKING:
    from dunechest.jobs.move.rehome import PartMovePlan, RehomePlan, RehomeResult, RejoinPlan


@shaped(
    "dunechest rehome winter-games --to /media/sand --reclaim --yes",
    "dunechest rehome --rejoin winter-games",
    "dunechest rehome --back winter-games",
    sections={
        "Where to": ("to", "as_name", "back", "rejoin", "forget"),
        "What": ("parts", "outside_files", "link", "on_conflict"),
        "How": ("plan_only", "reclaim", "yes", "ignore"),
    },
)
@click.command("rehome", cls=Command)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_library)
@click.option(
    "--to",
    metavar="FOLDER",
    help="A folder on the drive; the library's own folder will be in it.",
    type=click.Path(file_okay=False),
)
@click.option("--back", is_flag=True, help="Move the library back to where it was at first.")
@click.option(
    "--rejoin",
    is_flag=True,
    help="The drive was missing and the application made a new library: make one of the two.",
)
@click.option("--forget", is_flag=True, help="The drive is lost or broken: stop expecting the library on it.")
@click.option("--as", "as_name", metavar="NAME", help="Name of the library's folder on the drive.")
@click.option(
    "--part",
    "parts",
    multiple=True,
    metavar="PART",
    help="Only this part (a title, a project, an album); repeatable. It becomes a library of its own.",
)
@click.option(
    "--with-outside-files", "outside_files", is_flag=True, help="Move files stored elsewhere that it uses, too."
)
@click.option("--link", is_flag=True, help="Leave a link in the old place even if the application has a setting.")
@click.option(
    "--on-conflict",
    type=click.Choice(["keep-both", "keep-mine", "keep-archived", "keep-newer"]),
    default="keep-both",
    show_default=True,
    help="With --rejoin, where both have a file and it differs: mine is the one on the drive.",
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option("--reclaim", is_flag=True, help="Delete the original as soon as the copy is proven.")
@click.option("--yes", is_flag=True, help="Do not ask. Needed with --reclaim where there is no terminal.")
@click.option("--ignore", multiple=True, metavar="CODE", help="Continue despite this blocking problem.")
@common
def command(out: Out, library: str, to: str | None, back: bool, rejoin: bool, forget: bool, **options: Any) -> int:
    """Move a library to a drive, so that its application goes on working with it there.

    The library is copied and every file is read back and compared. Then the application's
    setting names the new place; where there is no such setting, a link stands in the old
    place. The original gets another name and is not deleted, until dunechest reclaim or
    --reclaim does that.

    Close the application first. Connect the drive before you start it again: without the
    drive, many applications make a new, empty library. --rejoin makes one library of the
    two then. --back returns the library, and undo takes back a move that was just made.
    """
    from dunechest.errors import UsageError

    if (to is not None) + back + rejoin + forget != 1:
        raise UsageError("Say what to do: --to FOLDER, --back, --rejoin or --forget, one of them.")
    if forget:
        return _forget(out, library)
    if (back or rejoin) and (options["parts"] or options["as_name"] or options["outside_files"] or options["link"]):
        raise UsageError("--part, --as, --link and --with-outside-files only go with --to.")
    if rejoin and options["reclaim"]:
        raise UsageError("--reclaim does not go with --rejoin. Look through what was set aside first.")
    return _run(out, library, to, back, rejoin, options)


def _run(out: Out, library: str, to: str | None, back: bool, rejoin: bool, options: dict[str, Any]) -> int:
    from dunechest.cli.layout import GOOD, say
    from dunechest.cli.views.restore import say_undone_first
    from dunechest.errors import UsageError
    from dunechest.jobs.move.reclaim.planning.aside import asides_of
    from dunechest.jobs.move.rehome import (
        RehomeOptions,
        plan_rehome,
        plan_rehome_back,
        plan_rehome_parts,
        plan_rejoin,
    )
    from dunechest.jobs.undo import recover
    from dunechest.names import shown

    choice = RehomeOptions(
        name=options["as_name"], link=options["link"], outside_files=options["outside_files"], parts=options["parts"],
        on_conflict=options["on_conflict"], ignore=_codes(options["ignore"]),
    )  # fmt: skip
    for past_change in () if options["plan_only"] else recover():
        say_undone_first(out, past_change)
    if rejoin:
        return _rejoin(out, plan_rejoin(library, choice), options["plan_only"])
    if choice.parts:
        assert to is not None
        try:
            plan = plan_rehome_parts(library, to, choice)
        except UsageError:
            target = _target_of_parts(library, to, choice.name)
            if not _holds(target, choice.parts):
                raise
            if out.shows:
                say(out.console, f"Nothing to move: {shown(', '.join(choice.parts))} is there already.", GOOD)
            # Of an errand that was interrupted the deletion may be left.
            asides = [Path(aside.path) for aside in asides_of(str(target))] if options["reclaim"] else []
            return _rest_of_errand(out, asides, options["yes"])
        return _parts(out, plan, options)
    if back:
        return _move(out, plan_rehome_back(library, choice), options)
    assert to is not None
    return _move(out, plan_rehome(library, to, choice), options)


def _forget(out: Out, library: str) -> int:
    """Stop expecting a library on a drive that is lost."""
    from dunechest.cli.layout import GOOD, say
    from dunechest.jobs.move.rehome import forget_home
    from dunechest.names import shown

    home = forget_home(library)
    out.document("rehome-forget", libraries=[home])
    if out.shows:
        say(
            out.console,
            f"Forgotten: {shown(home.name)} is no longer expected on the drive {shown(home.drive)}.",
            GOOD,
        )
        say(out.console, "-> To restore it from a chest: dunechest search, or dunechest restore CHEST", hang=3)
    return 0


#: Codes of the blocking findings that yield.
_YIELDING = ("network", "sync-folder")


def _codes(ignore: tuple[str, ...]) -> tuple[str, ...]:
    from dunechest.errors import UsageError
    from dunechest.names import meant, shown

    for code in ignore:
        if code not in _YIELDING:
            known = ", ".join(_YIELDING)
            raise UsageError(
                f"--ignore {shown(code)}: that cannot be overruled.{meant(code, _YIELDING)} Codes: {known}."
            )
    return ignore


def _move(out: Out, plan: RehomePlan, options: dict[str, Any]) -> int:
    from dunechest.cli.views import rehome as view
    from dunechest.jobs.move.rehome import carry_out
    from dunechest.jobs.restore import new_command

    if options["plan_only"]:
        out.document("rehome-plan", libraries=[plan])
        out.note_findings(plan.findings, plan.name)
        if out.shows:
            view.show_plan(out, plan)
        return 0 if plan.would_run else 3
    if plan.new_path == plan.path:
        return _there_already(out, plan, options)
    if options["reclaim"] and not plan.blocked and not _may_delete(out, plan, options["yes"]):
        return 3
    command = new_command()
    out.expect("rehome")
    with out.following({plan.name: plan.size_bytes}) as progress:
        result = carry_out(plan, progress=progress, command=command)
    return _finish(out, result, reclaim=options["reclaim"], command=command)


def _there_already(out: Out, plan: RehomePlan, options: dict[str, Any]) -> int:
    """Say that a library is where it is to go; of an errand that was interrupted, delete what is left to be deleted."""
    from dunechest.cli.layout import GOOD, say
    from dunechest.jobs.move.reclaim.planning.aside import asides_of
    from dunechest.names import shown

    if out.shows:
        say(out.console, f"Nothing to move: {shown(plan.name)} is there already.", GOOD)
    asides = [Path(aside.path) for aside in asides_of(str(plan.old_path))] if options["reclaim"] else []
    return _rest_of_errand(out, asides, options["yes"])


def _target_of_parts(library: str, to: str, name: str | None) -> Path:
    """Return the folder that parts of a library are to be in."""
    from dunechest.jobs.known.named import get_library

    return Path(os.path.realpath(to)) / (name if name is not None else get_library(library).path.name)


def _holds(place: Path, parts: tuple[str, ...]) -> bool:
    """Whether a folder is a library with these parts."""
    from dunechest.errors import DuneChestError
    from dunechest.jobs.known.named import library_at
    from dunechest.jobs.study.contents import study
    from dunechest.jobs.study.take_out import parts_of

    try:
        return bool(parts_of(study(library_at(place)), parts))
    except DuneChestError:
        return False


def _rest_of_errand(out: Out, asides: list[Path], yes: bool) -> int:
    """Delete what is still to be deleted of an errand whose move was done before."""
    from dunechest.cli.commands.reclaim import reclaim_plans
    from dunechest.jobs.move.reclaim import plan_reclaim

    out.document("rehome", libraries=[], reclaimed_libraries=[])
    if not asides:
        return 0
    status, results = reclaim_plans(out, [plan for aside in asides for plan in plan_reclaim(aside)], yes)
    out.document("rehome", reclaimed_libraries=results)
    return status


def _parts(out: Out, plan: PartMovePlan, options: dict[str, Any]) -> int:
    from dunechest.cli.views import rehome as view
    from dunechest.jobs.move.rehome import carry_out_parts
    from dunechest.jobs.restore import new_command

    if options["plan_only"]:
        out.document("rehome-part-plan", libraries=[plan])
        out.note_findings(plan.findings, plan.name)
        if out.shows:
            view.show_part_plan(out, plan)
        return 0 if plan.would_run else 3
    if options["reclaim"] and not plan.blocked and not _may_delete(out, plan, options["yes"]):
        return 3
    command = new_command()
    out.expect("rehome")
    with out.following() as progress:
        result = carry_out_parts(plan, progress=progress, command=command)
    return _finish(out, result, reclaim=options["reclaim"], command=command)


def _may_delete(out: Out, plan: RehomePlan | PartMovePlan, yes: bool) -> bool:
    """Ask the one question of the errand: move, and delete the original when the copy is proven."""
    from dunechest.cli.views import rehome as view
    from dunechest.errors import RefusedError
    from dunechest.jobs.move.reclaim.planning.aside import only_copy
    from dunechest.jobs.move.rehome import RehomePlan
    from dunechest.names import shown
    from dunechest.words import size

    if yes:
        return True
    if not out.shows or not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise RefusedError(
            f"Refused: --reclaim deletes the original of {shown(plan.name)}, and there is no terminal to ask on. Nothing was "
            "changed. To see what it would do: --plan. To do it without being asked: --yes"
        )
    if isinstance(plan, RehomePlan):
        more = tuple(only_copy(plan.name, plan.new_path, (plan.path, plan.old_path)))
        view.show_plan(out, plan, deleting=True, more=more)
    else:
        more = tuple(only_copy(plan.name, plan.new_path, (plan.path,)))
        view.show_part_plan(out, plan, deleting=True, more=more)
    if click.confirm(
        f"Move it, and delete the original ({size(plan.size_bytes)}) once the copy is proven?", default=False
    ):
        return True
    out.console.print("Nothing was changed.")
    return False


def _finish(out: Out, result: RehomeResult, *, reclaim: bool, command: str) -> int:
    from dunechest.cli.views import reclaim as reclaim_view
    from dunechest.cli.views import rehome as view
    from dunechest.jobs.move.reclaim import plan_reclaim, prove_and_carry_out

    out.document("rehome", libraries=[result], reclaimed_libraries=[])
    out.note_findings(result.findings, result.name)
    if out.shows:
        view.show(out, result, reclaim=reclaim)
    if not reclaim or result.set_aside_path is None:
        return 0
    gone = []
    for plan in plan_reclaim(result.set_aside_path):
        with out.following() as progress:
            gone.append(prove_and_carry_out(plan, progress=progress, command=command))
    out.document("rehome", reclaimed_libraries=gone)
    if out.shows:
        for item in gone:
            reclaim_view.show(out, item)
    return 0


def _rejoin(out: Out, plan: RejoinPlan, plan_only: bool) -> int:
    from dunechest.cli.views import rehome as view
    from dunechest.jobs.move.rehome import carry_out_rejoin

    if plan_only:
        out.document("rejoin-plan", libraries=[plan])
        out.note_findings(plan.findings, plan.name)
        if out.shows:
            view.show_rejoin_plan(out, plan)
        return 3 if plan.blocked else 0
    out.expect("rejoin")
    with out.following() as progress:
        result = carry_out_rejoin(plan, progress=progress)
    out.document("rejoin", libraries=[result])
    out.note_findings(result.findings, result.name)
    if out.shows:
        view.show_rejoined(out, result, nothing=plan.nothing)
    return 0
