"""``dunechest archive``."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.output import Out, common

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.jobs.archive import ArchiveOptions, ArchivePlan, ArchiveResult
    from dunechest.library.library import Library


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
@click.option("--as", "as_name", metavar="N", help="Another name for the library in the chest.")
@click.option(
    "--continue",
    "continues",
    metavar="N",
    help="This is the library N of the chest, from another computer or place: it gets the next edition.",
)
@click.option("--kind", metavar="K", help="Take it for a library of this kind; see `dunechest kinds list`.")
@click.option("--part", "parts", multiple=True, metavar="P", help="Only this part (an album, a title); repeatable.")
@click.option(
    "--without-rebuildable/--with-rebuildable",
    "without_rebuildable",
    default=None,
    help="Leave out, or include, what the application can rebuild; by default it is included if it is small "
    "compared with the rest.",
)
@click.option(
    "--without-outside-files", is_flag=True, help="Do not archive files stored elsewhere that the library uses."
)
@click.option("--read-placeholders", is_flag=True, help="Read placeholders too; this may download their content.")
@click.option(
    "--read-all",
    is_flag=True,
    help="Read every file instead of trusting its size and date.",
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option(
    "--ignore",
    multiple=True,
    metavar="CODE",
    help="Continue despite this blocking problem; repeatable.",
)
@common
def command(out: Out, libraries: tuple[str, ...], chests: tuple[str, ...], **asked: Any) -> int:
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
    from dunechest.cli.views import archive as view
    from dunechest.errors import UsageError
    from dunechest.findings import blocking
    from dunechest.jobs.archive import plan_archive, refuse_if_stopped
    from dunechest.jobs.named import resolve_chest, resolve_library

    if len(chests) > 1:
        raise UsageError("--to is given more than once. Archive to one chest at a time. Nothing was changed.")
    options = _options(asked)
    target = resolve_chest(chests[0])
    say_recovered(out, target)
    known = [resolve_library(text, kind=asked["kind"]) for text in libraries]
    results: list[ArchiveResult] = []
    if not asked["plan_only"]:
        results, known = _unchanged(out, known, target, options)
    plans = plan_archive(known, target, options) if known else ()
    if asked["plan_only"]:
        if out.json:
            out.document(view.plans_document(plans, options.ignore))
        elif out.shows:
            view.show_plans(out, plans, options.ignore)
        return 3 if any(blocking(plan.findings, options.ignore) for plan in plans) else 0
    refuse_if_stopped(plans)
    results += _carry_out(out, plans, target)
    if out.json:
        out.document(view.results_document(results, target))
    return 0 if all(result.well for result in results) else 1


def _options(asked: dict[str, Any]) -> ArchiveOptions:
    from dunechest.jobs.archive import ArchiveOptions
    from dunechest.jobs.study.selection import Choice

    leave = asked["without_rebuildable"]
    choice = Choice(
        parts=asked["parts"],
        rebuildable=None if leave is None else not leave,
        outside_files=not asked["without_outside_files"],
        placeholders=asked["read_placeholders"],
    )
    return ArchiveOptions(asked["as_name"], choice, asked["read_all"], asked["ignore"], asked["continues"])


def _unchanged(
    out: Out, libraries: Sequence[Library], chest: Chest, options: ArchiveOptions
) -> tuple[list[ArchiveResult], list[Library]]:
    """Show what is in the chest just so; return those results, and the libraries that remain."""
    from dunechest.cli.views import archive as view
    from dunechest.jobs.archive import unchanged

    results, rest = [], []
    for library in libraries:
        result = unchanged(library, chest, options)
        if result is None:
            rest.append(library)
        else:
            results.append(result)
            view.tell(out, result, chest)
    return results, rest


def _carry_out(out: Out, plans: Iterable[ArchivePlan], chest: Chest) -> Iterator[ArchiveResult]:
    from dunechest.cli.views import archive as view
    from dunechest.jobs.archive import carry_out

    for plan in plans:
        with out.following() as progress:
            result = carry_out(plan, progress=progress)
        view.tell(out, result, chest)
        yield result
