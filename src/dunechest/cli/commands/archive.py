"""``dunechest archive``."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.commands.release import releasing
from dunechest.cli.output import Out, common
from dunechest.cli.parts import (
    Command,
    complete_chest,
    complete_code,
    complete_kind,
    complete_library,
    shaped,
)

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.errors import CutOffError
    from dunechest.library.library import Library
    from dunechest.model.archive import ArchiveOptions, ArchiveResult
    from dunechest.progress import Progress


@shaped(
    "dunechest archive dune-survey --to blue --plan",
    "dunechest archive dune-survey marram-papers --to blue --to sand",
    "dunechest archive ~/Documents/letters --to blue --as letters",
    sections={
        "What to archive": ("parts", "kind", "without_rebuildable", "without_outside_files", "read_placeholders"),
        "Where, and as what": ("chests", "as_name", "continues"),
        "How": ("plan_only", "read_all", "forget_absent", "release", "ignore"),
    },
)
@click.command("archive", cls=Command)
@click.argument("libraries", nargs=-1, required=True, metavar="LIBRARY...", shell_complete=complete_library)
@click.option(
    "--to",
    "chests",
    required=True,
    multiple=True,
    metavar="CHEST",
    help="The chest: its label, id, folder or drive. Repeatable: several chests, and the library is read once.",
    shell_complete=complete_chest,
)
@click.option("--as", "as_name", metavar="N", help="Give the library this name in the chest.")
@click.option(
    "--continue",
    "continues",
    metavar="N",
    help="Continue library N of the chest: it is the same one, from another computer or place.",
)
@click.option(
    "--kind",
    metavar="K",
    help="Treat it as this kind of library; see `dunechest kinds list`.",
    shell_complete=complete_kind,
)
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
@click.option(
    "--forget-absent",
    "forget_absent",
    multiple=True,
    metavar="PATTERN",
    help="Files that cannot be seen now are really gone: do not keep them any longer. A path, folder or pattern; repeatable.",
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option(
    "--ignore",
    multiple=True,
    metavar="CODE",
    help="Continue despite this blocking problem; repeatable.",
    shell_complete=complete_code,
)
@common
@releasing
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

    Files that cannot be seen now (their drive is not connected, their folder may not
    be read) stay in the archive as they were, and are named; --forget-absent says
    that they are really gone.

    With several --to each library is read once: the second chest gets what the first
    one has just been given, checked again, so that all have the same state of it.

    The run ends with a summary: what was found, copied and left out, with the
    reasons. The exit status is 1 if a file could not be copied or changed meanwhile.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.jobs.known.named import resolve_chest, resolve_library
    from dunechest.transfer.helpers import standing

    begun = time.monotonic()
    if asked["plan_only"]:
        out.expect("archive-plan")
    options = _options(asked)
    targets = [resolve_chest(chest) for chest in chests]
    out.chests += targets
    for target in targets:
        say_recovered(out, target)
    known = [resolve_library(text, kind=asked["kind"]) for text in libraries]
    if asked["plan_only"]:
        return _plan(out, known, targets, options)
    with standing():
        return _archive(out, known, targets, options, begun)


def _archive(
    out: Out, known: Sequence[Library], targets: Sequence[Chest], options: ArchiveOptions, begun: float
) -> int:
    from dunechest.cli.views import archive as view
    from dunechest.jobs.archive.several import archive_several, plan_several, refuse_several

    results: list[ArchiveResult] = []
    out.document("archive", targets[0] if len(targets) == 1 else None)
    with out.following() as progress:
        _say_reading(progress, known)
        several = plan_several(known, targets, options)
    if len(targets) == 1:  # what is there unchanged is told, even if another library is refused
        for result in several.seen.values():
            _tell(out, results, result, targets[0])
    refuse_several(several)
    whole, told = several.bytes, set(map(id, results))
    cut_off: list[CutOffError] = []
    for target, result in archive_several(several, lambda: out.following(whole), cut_off):
        if id(result) not in told:
            _tell(out, results, result, target)
    if out.shows:
        view.show_total(out, results, targets, time.monotonic() - begun)
    if cut_off:
        raise cut_off[0]
    return 0 if all(result.ok for result in results) else 1


def _plan(out: Out, libraries: Sequence[Library], chests: Sequence[Chest], options: ArchiveOptions) -> int:
    from dunechest.cli.views import archive as view
    from dunechest.findings import blocking
    from dunechest.jobs.archive.planning.plan_archive import plan_archive

    with out.following() as progress:
        _say_reading(progress, libraries)
        plans = [plan for chest in chests for plan in plan_archive(libraries, chest, options)]
    would_run = not any(blocking(plan.findings, options.ignore) for plan in plans)
    out.document("archive-plan", chests[0] if len(chests) == 1 else None, libraries=plans, would_run=would_run)
    for plan in plans:
        out.note_findings(plan.findings, plan.library.name)
    if out.shows:
        view.show_plans(out, plans, options.ignore)
    return 0 if would_run else 3


def _tell(out: Out, results: list[ArchiveResult], result: ArchiveResult, chest: Chest) -> None:
    from dunechest.cli.views import archive as view

    before = results[-1] if results and results[-1].name == result.name else None
    results.append(result)
    out.document("archive", libraries=results)
    view.tell(out, result, chest, before)


def _options(asked: dict[str, Any]) -> ArchiveOptions:
    from dunechest.model.archive import ArchiveOptions
    from dunechest.model.study import Choice

    leave = asked["without_rebuildable"]
    choice = Choice(
        parts=asked["parts"],
        rebuildable=None if leave is None else not leave,
        outside_files=not asked["without_outside_files"],
        placeholders=asked["read_placeholders"],
    )
    return ArchiveOptions(
        asked["as_name"], choice, asked["read_all"], asked["ignore"], asked["continues"], asked["forget_absent"]
    )


def _say_reading(progress: Progress, libraries: Sequence[Library]) -> None:
    from dunechest.progress import Step

    progress(Step("reading", 0, 0, 0, 0, libraries[0].name if len(libraries) == 1 else "the libraries"))
