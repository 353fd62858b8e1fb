"""``dunechest restore``."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec
from msgspec.structs import replace

from dunechest.cli.output import Out, common
from dunechest.cli.parts import NUMBER, Command, complete_chest, complete_held, shaped
from dunechest.model.restore import LeftBehind

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.jobs.restore import RestoreOptions, RestorePlan, RestoreResult
    from dunechest.progress import Progress


@shaped(
    "dunechest restore blue",
    "dunechest restore blue dune-survey --plan",
    "dunechest restore blue marram-papers --file papers.bib --edition 1",
    sections={
        "What to restore": ("everything", "edition", "parts", "files"),
        "Where": ("home", "into", "mapped"),
        "If something is there already": ("if_exists", "on_conflict"),
        "References and settings": ("keep_paths", "update_settings", "allow_outside_links"),
        "How": ("plan_only", "apply_plan", "yes"),
    },
)
@click.command("restore", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("libraries", metavar="[LIBRARY]...", nargs=-1, shell_complete=complete_held)
@click.option("--all", "everything", is_flag=True, help="Every library in the chest.")
@click.option("--home", metavar="DIR", type=click.Path(), help="Restore into this home folder; your own by default.")
@click.option("--into", metavar="FOLDER", type=click.Path(), help="Restore to exactly this folder.")
@click.option(
    "--map",
    "mapped",
    multiple=True,
    metavar="OLD=NEW",
    help="Folder NEW on this computer stands for OLD on the other one; remembered, repeatable.",
)
@click.option("--edition", type=NUMBER, metavar="N", help="Restore this edition; the current one by default.")
@click.option("--part", "parts", multiple=True, metavar="P", help="Only this part (an album, a title); repeatable.")
@click.option(
    "--file",
    "files",
    multiple=True,
    metavar="PATTERN",
    help="Only this file or folder, by its path in the library or a pattern; added to what is there. Repeatable.",
)
@click.option(
    "--if-exists",
    type=click.Choice(["refuse", "set-aside", "merge"]),
    default="refuse",
    show_default=True,
    help="If something is there already: refuse, rename it with the date, or add what is missing.",
)
@click.option(
    "--on-conflict",
    type=click.Choice(["keep-both", "keep-mine", "keep-archived", "keep-newer"]),
    default="keep-both",
    show_default=True,
    help="When merging, which of two different files of the same name to keep.",
)
@click.option("--keep-paths", is_flag=True, help="Do not update paths that name places of the old computer.")
@click.option(
    "--update-settings/--no-update-settings",
    default=None,
    help="Whether to update the application's setting; by default only if it names nothing that exists.",
)
@click.option(
    "--allow-outside-links",
    is_flag=True,
    help="Also make symbolic links that lead out of the library (if you trust the drive).",
)
@click.option(
    "--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it; --json to save it."
)
@click.option(
    "--apply-plan",
    metavar="FILE",
    type=click.Path(dir_okay=False),
    help="Carry out a saved plan exactly, or do nothing.",
)
@click.option("--yes", is_flag=True, help="Do not ask. On a terminal the plan is otherwise shown first.")
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], everything: bool, **asked: Any) -> int:
    """Restore libraries to this computer and check the result.

    Without a LIBRARY it lists what the chest holds and where each would be restored.

    A library is restored to the place it had relative to a standard folder (home,
    pictures, settings, data ...), in your home or the one --home names; to the folder
    that --map says; or exactly where --into says. Every file is checked by its digest
    as it is written. Paths inside the library and in the application's settings are
    updated to the new place; `dunechest undo` undoes the whole restore.

    Nothing that exists is ever overwritten or lost, whatever --if-exists says.

    Install the application first, and do not start it until this is done.
    """
    from dunechest.transfer.helpers import standing

    with standing():
        return _restore(out, chest, libraries, everything, asked)


def _restore(out: Out, chest: str, libraries: tuple[str, ...], everything: bool, asked: dict[str, Any]) -> int:
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import restore as view
    from dunechest.cli.views.restore_lists import show_left_behind
    from dunechest.cli.views.restore_plan import problems_of_plans, show_planned, show_plans
    from dunechest.findings import blocking
    from dunechest.jobs.known.named import resolve_chest
    from dunechest.jobs.restore import refuse_if_stopped
    from dunechest.jobs.restore.places_map import remember_places

    begun = time.monotonic()
    saved, plan_only = asked["apply_plan"], asked["plan_only"]
    out.expect("restore-plan" if plan_only else "restore")
    _refuse_contradictions(libraries, everything, saved, plan_only, bool(asked["files"]))
    source = resolve_chest(chest)
    say_recovered(out, source)
    options = _options(asked)
    asks = not asked["yes"] and not plan_only and out.shows and sys.stdin.isatty() and sys.stdout.isatty()
    if not libraries and not everything and not saved:
        if not _show_offers(out, source, options, asks):
            return 0
        everything = True
    planned = _plan(out, source, libraries, options, everything=everything, saved=saved, plan_only=plan_only)
    if asks and not saved:
        planned = _with_places(out, planned)
    plans = planned.plans
    out.problem(*(f"{name}: not restored: {why}" for name, why in planned.left))
    if plan_only:
        out.problem(*problems_of_plans(plans))
        show_planned(out, source, plans, planned.left)
        return 3 if any(blocking(plan.findings) for plan in plans) else 0
    if asks:
        show_plans(out, plans, asking=True)
        show_left_behind(out, planned.left)
    refuse_if_stopped(plans)
    if asks and not click.confirm("Do this?", default=False):
        out.console.print("Nothing was changed.")
        return 3
    remember_places(planned.options.places)
    out.document("restore", source, left_behind=planned.left)
    # A plan that a person read, or saved, is not made again behind their back.
    results = _carry_out(out, plans, again=not asks and not saved)
    if out.shows:
        show_left_behind(out, planned.left)
        view.show_last(out, results, time.monotonic() - begun)
    wrong = [result for result in results if not result.ok]
    if not wrong and not planned.left:
        return 0
    return 4 if wrong and not planned.left and all(result.only_closed for result in wrong) else 1


class _Planned(msgspec.Struct, frozen=True):
    """Plans, what they were made from, and the libraries of the chest that are left behind, with the reasons."""

    source: Chest
    names: tuple[str, ...]
    options: RestoreOptions
    plans: tuple[RestorePlan, ...]
    left: tuple[LeftBehind, ...] = ()
    #: Of those, the ones that something here blocks: an answer may help.
    blocked: tuple[RestorePlan, ...] = ()


def _refuse_contradictions(
    libraries: tuple[str, ...], everything: bool, saved: str | None, plan_only: bool, files: bool
) -> None:
    from dunechest.errors import UsageError

    if files and len(libraries) != 1:
        raise UsageError("--file restores single files of one library: name just that library.")
    if everything and libraries:
        raise UsageError("--all restores every library: do not name one as well.")
    if saved and (libraries or everything or plan_only):
        raise UsageError("--apply-plan carries out the saved plan: do not name libraries too.")


def _options(asked: dict[str, Any]) -> RestoreOptions:
    from dunechest.jobs.restore import RestoreOptions

    return RestoreOptions(
        home=asked["home"],
        into=asked["into"],
        edition=asked["edition"],
        parts=asked["parts"],
        files=asked["files"],
        if_exists=asked["if_exists"],
        on_conflict=asked["on_conflict"],
        outside_links=True if asked["allow_outside_links"] else None,
        repoint=not asked["keep_paths"],
        settings=asked["update_settings"],
        places=tuple(_pair(word) for word in asked["mapped"]),
    )


def _show_offers(out: Out, source: Chest, options: RestoreOptions, asks: bool) -> bool:
    """Show what a chest holds and where each would go; return whether to plan all of it."""
    from dunechest.cli.views import offers as view
    from dunechest.jobs.restore import left_behind, offers

    found, left = offers(source, options), left_behind(source)
    out.problem(*(f"{name}: {why}" for name, why in left))
    if not asks:
        out.document("restore-list", source, libraries=found, left_behind=left)
    if out.shows:
        view.show_offers(out, source, found, left)
    return bool(asks and found and click.confirm("Plan to restore all of these?", default=False))


def _plan(
    out: Out,
    source: Chest,
    libraries: tuple[str, ...],
    options: RestoreOptions,
    *,
    everything: bool,
    saved: str | None,
    plan_only: bool,
) -> _Planned:
    """Plan what was asked for. Only a command that restores first undoes what an interrupted one had begun."""
    from dunechest.jobs.restore import left_behind, plan_as_saved, plan_restores, restorable
    from dunechest.jobs.restore.planning.several import check_names

    if saved:
        _undo_interrupted(out)
        with out.following() as progress:
            return _Planned(source, (), options, plan_as_saved(source, Path(saved), progress=progress))
    names = restorable(source) if everything else libraries
    check_names(source, names)
    left = left_behind(source) if everything else ()
    if not plan_only:
        _undo_interrupted(out)
    with out.following() as progress:
        if everything:
            return _all_of(source, names, options, left, progress)
        return _Planned(source, names, options, plan_restores(source, names, options, progress=progress), left)


def _all_of(
    source: Chest,
    names: tuple[str, ...],
    options: RestoreOptions,
    left: tuple[LeftBehind, ...],
    progress: Progress,
) -> _Planned:
    """Plan all of a chest's libraries; those that something blocks are left behind, with why."""
    from dunechest.jobs.restore.planning.several import plan_all, why_left

    plans, blocked = plan_all(source, names, options, progress=progress)
    why = (LeftBehind(plan.name, why_left(plan)) for plan in blocked)
    return _Planned(source, tuple(plan.name for plan in plans), options, plans, (*left, *why), blocked)


def _with_places(out: Out, planned: _Planned) -> _Planned:
    """Ask for the places that are not known, and plan again with what was answered."""
    from dunechest.jobs.restore import plan_restores

    answers = _ask_places(out, (*planned.plans, *planned.blocked))
    if not answers:
        return planned
    told = (*planned.options.places, *map(_pair, answers))
    options = replace(planned.options, places=told)
    with out.following() as progress:
        if planned.blocked:
            names = (*planned.names, *(plan.name for plan in planned.blocked))
            others = planned.left[: len(planned.left) - len(planned.blocked)]
            return _all_of(planned.source, names, options, others, progress)
        plans = plan_restores(planned.source, planned.names, options, progress=progress)
    return msgspec.structs.replace(planned, options=options, plans=plans)


def _carry_out(out: Out, plans: tuple[RestorePlan, ...], *, again: bool) -> list[RestoreResult]:
    from dunechest.cli.views import restore as view
    from dunechest.jobs.restore import carry_out, new_command

    results: list[RestoreResult] = []
    command_id = new_command()
    whole = {plan.name: plan.size_bytes for plan in plans}
    for plan in plans:
        with out.following(whole) as progress:
            result = carry_out(plan, command=command_id, progress=progress, again=again)
        results.append(result)
        out.document("restore", libraries=results)
        out.note_findings(result.findings, result.name)
        out.problem(*view.problems(result))
        if out.shows:
            view.show_result(out, result)
    return results


def _undo_interrupted(out: Out) -> None:
    """Undo what an interrupted restore had begun; only a command that restores does."""
    from dunechest.cli.views.restore import say_undone_first
    from dunechest.jobs.undo import recover

    for past_change in recover():
        say_undone_first(out, past_change)


def _pair(word: str) -> tuple[str, str]:
    from dunechest.errors import UsageError
    from dunechest.jobs.restore.places_map import place_pair
    from dunechest.names import shown

    old, mark, new = word.partition("=")
    if not mark or not old or not new:
        raise UsageError(f"--map {shown(word)}: write the old folder, an equals sign, and the one here: OLD=NEW.")
    return place_pair(old, new)


def _ask_places(out: Out, plans: tuple[RestorePlan, ...]) -> tuple[str, ...]:
    """Ask once for each folder of the other computer that nothing is known to stand for here."""
    from dunechest.jobs.restore.planning.several import origin_folder
    from dunechest.names import shown

    told: dict[str, str] = {}
    for plan in plans:
        folder = origin_folder(plan)
        if plan.path is None and folder and folder not in told:
            out.console.print(
                f"{shown(plan.record.name)} was in {shown(folder)} on {shown(plan.record.origin.machine)}.",
                soft_wrap=True,
            )
            answer = click.prompt("Which folder of this computer stands for that one (empty for none)", default="")
            if answer.strip():
                told[folder] = answer.strip()
    return tuple(f"{old}={new}" for old, new in told.items())
