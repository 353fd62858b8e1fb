"""``dunechest restore``."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunechest.cli.output import Out, common

if TYPE_CHECKING:
    from dunechest.jobs.restore import RestorePlan


@click.command("restore")
@click.argument("chest", metavar="CHEST")
@click.argument("libraries", metavar="[LIBRARY]...", nargs=-1)
@click.option("--all", "everything", is_flag=True, help="Every library of the chest.")
@click.option("--home", metavar="DIR", type=click.Path(), help="Whose home it goes into; your own by default.")
@click.option("--into", metavar="FOLDER", type=click.Path(), help="The folder it becomes, exactly.")
@click.option(
    "--counterpart",
    "counterparts",
    multiple=True,
    metavar="OLD=NEW",
    help="Folder NEW of this machine stands for OLD of the other; remembered, repeatable.",
)
@click.option(
    "--edition", type=click.IntRange(1), metavar="N", help="An earlier edition; the current one by default."
)
@click.option("--part", "parts", multiple=True, metavar="P", help="Only this part (an album, a title); repeatable.")
@click.option(
    "--existing",
    type=click.Choice(["stop", "set-aside", "join"]),
    default="stop",
    show_default=True,
    help="If something is there: refuse; rename it with the date; or add only what is missing.",
)
@click.option(
    "--prefer",
    type=click.Choice(["both", "here", "chest", "newer"]),
    default="both",
    show_default=True,
    help="When joining, of two files of one name that differ: keep both, or which one counts.",
)
@click.option(
    "--leave-references", is_flag=True, help="Do not write references anew that name places of the old machine."
)
@click.option(
    "--settings/--leave-settings",
    default=None,
    help="Whether the application's setting is written; by default if it names nothing that exists.",
)
@click.option(
    "--outward-links",
    is_flag=True,
    help="Also make symbolic links that lead out of the library (trust the drive).",
)
@click.option("--plan", "plan_only", is_flag=True, help="Say what would be done, and do nothing; --json to keep it.")
@click.option(
    "--follow", metavar="FILE", type=click.Path(dir_okay=False), help="Do just what a kept plan says, or nothing."
)
@click.option("--yes", is_flag=True, help="Do not ask; on a terminal the plan is shown first, and asked about.")
@common
def command(
    out: Out,
    chest: str,
    libraries: tuple[str, ...],
    everything: bool,
    home: str | None,
    into: str | None,
    counterparts: tuple[str, ...],
    edition: int | None,
    parts: tuple[str, ...],
    existing: str,
    prefer: str,
    leave_references: bool,
    settings: bool | None,
    outward_links: bool,
    plan_only: bool,
    follow: str | None,
    yes: bool,
) -> int:
    """Bring libraries back to this machine, and prove that they are what they were.

    Without a LIBRARY it lists what the chest holds and where each would go.

    A library goes to the place it had relative to a standard folder (home,
    pictures, settings, data ...), in your own home or in the one --home names; to
    the counterpart of its folder on another drive; or exactly where --into says.
    Every file is checked by digest while it is written. References that name places
    of the old machine, and the application's setting, are written anew; the files
    are kept as they were, and dunechest undo takes the whole restore back.

    Nothing existing is ever overwritten or lost, whatever --existing says.

    Install the application first, and do not start it until this is done.
    """
    import msgspec

    from dunechest.cli import offers_view, restore_view
    from dunechest.cli.output import say_recovered
    from dunechest.errors import WordsOff
    from dunechest.findings import stops
    from dunechest.jobs import restore_jobs, restore_many, restoring
    from dunechest.jobs.landing import RestoreChoice, remember_counterpart
    from dunechest.jobs.named import resolve_chest

    if prefer != "both" and existing != "join":
        raise WordsOff("--prefer decides between two files when joining: it goes with --existing join.")
    if everything and libraries:
        raise WordsOff("--all means every library: name none beside it.")
    if follow and (libraries or everything or plan_only):
        raise WordsOff("--follow does what the kept plan says: name no library beside it.")
    source = resolve_chest(chest)
    say_recovered(out, source)
    told = tuple(_pair(word) for word in counterparts)
    choice = RestoreChoice(
        home=home,
        into=into,
        edition=edition,
        parts=parts,
        existing=existing,  # type: ignore[arg-type]
        prefer=prefer,  # type: ignore[arg-type]
        outward_links=True if outward_links else None,
        repoint=not leave_references,
        settings=settings,
        counterparts=told,
    )
    asks = not yes and not plan_only and out.shows and sys.stdin.isatty() and sys.stdout.isatty()
    left: tuple[tuple[str, str], ...] = ()
    if follow:
        _take_back_first(out)
        with out.following() as progress:
            plans = restore_many.follow(source, Path(follow), progress=progress)
    else:
        names = restore_many.restorable(source) if everything else libraries
        if not names:
            offers = restore_many.offers(source, choice)
            left = restore_many.left_behind(source)
            out.problem(*(f"{name}: {why}" for name, why in left))
            if out.json:
                out.document(offers_view.offers_document(source, offers, left))
            elif out.shows:
                offers_view.show_offers(out, source, offers, left)
            if not asks or not offers or not click.confirm("Plan to restore all of these?", default=False):
                return 0
            names, everything = restore_many.restorable(source), True
        restore_many.check_names(source, names)
        left = restore_many.left_behind(source) if everything else ()
        if not plan_only:
            _take_back_first(out)
        with out.following() as progress:
            plans = restore_many.plan_many(source, names, choice, progress=progress)
        if asks and (answers := _ask_places(out, plans)):
            told = (*told, *map(_pair, answers))
            choice = msgspec.structs.replace(choice, counterparts=told)
            with out.following() as progress:
                plans = restore_many.plan_many(source, names, choice, progress=progress)
    out.problem(*(f"{name}: not restored: {why}" for name, why in left))
    for plan in plans:
        if plan_only:
            out.problem(*(f"{plan.bag}: {fault.path}: {fault.why}" for fault in plan.damage))
            out.problem(*(f"{plan.bag}: {one.path}: {one.why}" for one in plan.not_done if one.fault))
    if plan_only:
        if out.json:
            out.document(restore_view.plans_document(source, plans))
        elif out.shows:
            restore_view.show_plans(out, source, plans)
            restore_view.show_left_behind(out, left)
        return 3 if any(stops(plan.findings) for plan in plans) else 0
    if asks:
        restore_view.show_plans(out, source, plans, asking=True)
        restore_view.show_left_behind(out, left)
    restoring.refuse_if_stopped(plans)
    if asks and not click.confirm("Do this?", default=False):
        out.console.print("Nothing was changed.")
        return 3
    for old, new in told:
        remember_counterpart(old, new)
    results = []
    command_id = restore_jobs.new_command()
    for plan in plans:
        with out.following() as progress:
            # A plan that a person read, or kept, is not made again behind their back.
            again = not asks and not follow
            result = restore_jobs.carry_out(plan, command=command_id, progress=progress, again=again)
        results.append(result)
        out.problem(*restore_view.problems(result))
        if out.shows:
            restore_view.show_result(out, result)
    if out.json:
        out.document(restore_view.results_document(source, results, left))
    elif out.shows:
        restore_view.show_left_behind(out, left)
        restore_view.show_last(out, results)
    return 0 if all(result.well for result in results) else 1


def _take_back_first(out: Out) -> None:
    """Take back what an earlier restore had begun and not finished; only a command that restores does."""
    from dunechest.cli.restore_view import say_taken_back
    from dunechest.jobs import undoing

    for deed in undoing.recover():
        say_taken_back(out, deed)


def _pair(word: str) -> tuple[str, str]:
    from dunechest.errors import WordsOff
    from dunechest.jobs.landing import counterpart
    from dunechest.names import shown

    old, mark, new = word.partition("=")
    if not mark or not old or not new:
        raise WordsOff(
            f"--counterpart {shown(word)}: write the old folder, an equals sign, and the one here: OLD=NEW."
        )
    return counterpart(old, new)


def _ask_places(out: Out, plans: tuple[RestorePlan, ...]) -> tuple[str, ...]:
    """Ask once for each folder of the other machine whose counterpart is not known."""
    from dunechest.jobs.restore_many import origin_folder
    from dunechest.names import shown

    told: dict[str, str] = {}
    for plan in plans:
        folder = origin_folder(plan)
        if plan.place is None and folder and folder not in told:
            out.console.print(
                f"{shown(plan.record.name)} was in {shown(folder)} on {shown(plan.record.origin.machine)}.",
                soft_wrap=True,
            )
            answer = click.prompt("Which folder of this machine stands for that one (empty for none)", default="")
            if answer.strip():
                told[folder] = answer.strip()
    return tuple(f"{old}={new}" for old, new in told.items())
