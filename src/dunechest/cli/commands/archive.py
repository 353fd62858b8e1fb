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
    help="The chest: its label, id, folder or drive.",
)
@click.option("--as", "as_name", metavar="N", help="Give the library this name in the chest.")
@click.option(
    "--continue",
    "continues",
    metavar="N",
    help="Continue library N of the chest: it is the same one, from another computer or place.",
)
@click.option("--kind", metavar="K", help="Treat it as this kind of library; see `dunechest kinds list`.")
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
    """Archive one or more libraries to a chest and check every byte.

    LIBRARY is a path, or a name that `dunechest find` showed. Each file is read
    once, written to the drive, flushed, read back from the drive and compared
    before it counts. Nothing on this computer is changed.

    Files stored elsewhere that the library uses are archived too. With --part only
    that part is archived, with the outside files it uses and the database or index it
    needs; the archive says that it is partial. `dunechest look` lists the parts.

    A library that is already in the chest gets its next edition: only new and
    changed files are copied. Replaced and deleted files stay in the chest;
    `dunechest editions list` shows earlier states, and `restore --edition` restores them.

    The run ends with a summary: what was found, copied and left out, with the
    reasons. The exit status is 1 if a file could not be copied or changed meanwhile.
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
