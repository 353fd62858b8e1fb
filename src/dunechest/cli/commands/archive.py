"""``dunechest archive``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("archive")
@click.argument("libraries", nargs=-1, required=True, metavar="LIBRARY...")
@click.option(
    "--to",
    "chests",
    required=True,
    multiple=True,
    metavar="CHEST",
    help="The chest: its label, id, folder or drive. One only.",
)
@click.option("--name", metavar="N", help="Another name for the library in the chest.")
@click.option("--part", "parts", multiple=True, metavar="P", help="Only this part (an album, a title); repeatable.")
@click.option(
    "--leave-rebuildable/--take-rebuildable",
    "leave_rebuildable",
    default=None,
    help="Leave out, or take, what the application can make again; by default it is taken if it is small "
    "beside the rest.",
)
@click.option("--leave-strays", is_flag=True, help="Do not gather files outside the library that it refers to.")
@click.option("--take-hollow", is_flag=True, help="Read hollow files all the same; this may download them.")
@click.option("--reread", is_flag=True, help="Distrust sizes and times: read all, and report silent changes.")
@click.option("--plan", "plan_only", is_flag=True, help="Say what would be done, and do nothing.")
@click.option(
    "--despite",
    multiple=True,
    metavar="CODE",
    help="Go on in spite of a stop finding of that code; repeatable.",
)
@common
def command(
    out: Out,
    libraries: tuple[str, ...],
    chests: tuple[str, ...],
    name: str | None,
    parts: tuple[str, ...],
    leave_rebuildable: bool | None,
    leave_strays: bool,
    take_hollow: bool,
    reread: bool,
    plan_only: bool,
    despite: tuple[str, ...],
) -> int:
    """Copy one or several libraries to a chest, and prove every byte.

    LIBRARY is a path, or a name that `dunechest find` showed. Each file is read
    once, written to the drive, flushed, read back from the drive and compared,
    and only then takes its place. Nothing on this machine is changed.

    Files outside the library that it refers to are gathered along with it, each
    once. With --part only the files of that part are taken, the files outside
    that it refers to, and the database or descriptor it needs; the copy says that
    it is partial. `dunechest look` lists the parts.

    A library that is in the chest already gets its next edition: only new and
    changed files are read and written, what was replaced or dropped stays in the
    chest, and `dunechest editions` lists and `restore --edition` brings back
    every earlier state.

    The run ends with an account: what was found, what was copied, and what was
    left out, file by file, with the reason. The status is 1 if a file could not
    be copied or changed meanwhile.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import archive as archive_view
    from dunechest.errors import WordsOff
    from dunechest.findings import stops
    from dunechest.jobs.archive import ArchiveOptions, carry_out, plan_archive, refuse_if_stopped, unchanged
    from dunechest.jobs.named import resolve_chest, resolve_library
    from dunechest.jobs.study.selection import Choice

    if len(chests) > 1:
        raise WordsOff("--to is given more than once. Archive to one chest at a time. Nothing was changed.")
    (chest,) = chests
    target = resolve_chest(chest)
    say_recovered(out, target)
    known = [resolve_library(text) for text in libraries]
    rebuildable = None if leave_rebuildable is None else not leave_rebuildable
    choice = Choice(parts, rebuildable, not leave_strays, take_hollow)
    options = ArchiveOptions(name, choice, reread, despite)
    results = []
    if not plan_only:
        for library in list(known):
            seen = unchanged(library, target, options)
            if seen is not None:
                results.append(seen)
                known.remove(library)
                out.problem(*archive_view.problems(seen))
                if out.shows:
                    archive_view.show_result(out, seen, target)
    plans = plan_archive(known, target, options) if known else ()
    if plan_only:
        if out.json:
            out.document(archive_view.plans_document(plans, despite))
        elif out.shows:
            archive_view.show_plans(out, plans, despite)
        return 3 if any(stops(plan.findings, despite) for plan in plans) else 0
    refuse_if_stopped(plans)
    for plan in plans:
        with out.following() as progress:
            result = carry_out(plan, progress=progress)
        results.append(result)
        out.problem(*archive_view.problems(result))
        if out.shows:
            archive_view.show_result(out, result, target)
    if out.json:
        out.document(archive_view.results_document(results, target))
    return 0 if all(result.well for result in results) else 1
