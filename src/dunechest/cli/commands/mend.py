"""``dunechest mend``."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from dunechest.cli.commands.release import releasing
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.jobs.check.mend import MendResult
    from dunechest.library.library import Library


@shaped(
    "dunechest mend blue --from sand",
    'dunechest mend blue marram-papers --from ~/Documents/"Marram Papers"',
    "dunechest mend blue --plan",
)
@click.command("mend", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...", shell_complete=complete_held)
@click.option(
    "--from",
    "others",
    metavar="OTHER",
    multiple=True,
    help="Another chest, or the library itself on this computer; repeatable. By default all other connected chests.",
    shell_complete=complete_chest,
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what is damaged, without changing anything.")
@common
@releasing
def command(out: Out, chest: str, libraries: tuple[str, ...], others: tuple[str, ...], plan_only: bool) -> int:
    """Replace damaged and missing files of a chest by intact ones from another chest.

    Every file of the chest is read and compared with the digest that was recorded when
    it was archived. Only what is damaged or missing is written, and only with exactly
    the content that was recorded. Damaged records are made again where that is certain.
    An intact file whose name was written otherwise (accents, capitals) gets its name back.

    The exit status is 1 if something could not be mended; everything else is mended all
    the same, and what could not is named.
    """
    from dunechest.chest.chest import Chest
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import mend as view
    from dunechest.jobs.check.mend import carry_out, plan_mend
    from dunechest.jobs.known.named import resolve_chest

    begun = time.monotonic()
    if plan_only:
        out.expect("mend-plan")
    target = resolve_chest(chest)
    helpers, library = _helpers(others)
    rebuilt = [fault.path for fault in target.faults]
    if rebuilt and not plan_only:
        target = Chest.rebuild(target.folder)
    say_recovered(out, target)
    out.chests.append(target)
    whole = {entry.name: entry.library.totals.bytes_stored for entry in target.bags() if entry.library is not None}
    with out.following(whole) as progress:
        plans = plan_mend(target, libraries, helpers=helpers if others else None, library=library, progress=progress)
    if plan_only:
        out.document("mend-plan", target, libraries=plans)
        out.problem(*(line for plan in plans for line in view.damage(plan)))
        for plan in plans:
            out.note_findings(plan.findings, plan.name)
        if out.shows:
            view.show_plans(out, plans, target)
        return 1 if any(plan.damaged_count for plan in plans) else 0
    results: list[MendResult] = []
    out.document("mend", target)
    for plan in plans:
        with out.following() as progress:
            results.append(carry_out(plan, progress=progress))
        out.document("mend", libraries=results)
        out.problem(*view.problems(results[-1]))
        out.note_findings(results[-1].findings, plan.name)
    if out.shows:
        view.show(out, results, target, rebuilt, time.monotonic() - begun)
    return 0 if all(result.ok for result in results) else 1


def _helpers(others: tuple[str, ...]) -> tuple[list[Chest], Library | None]:
    """Tell the chests that were named from a library; a path without a chest in it is a library's."""
    import os
    from pathlib import Path

    from dunechest.chest.find_chest import find_chest
    from dunechest.errors import NotConnectedError, UsageError
    from dunechest.jobs.known.chests import list_chests
    from dunechest.jobs.known.named import resolve_chest, resolve_library
    from dunechest.names import shown

    chests: list[Chest] = []
    library: Library | None = None
    labels = {name for known in list_chests().chests for name in (known.label.casefold(), known.id)}
    for other in others:
        if other.casefold() in labels or (os.path.isdir(other) and find_chest(Path(other)) is not None):
            chests.append(resolve_chest(other))
            continue
        if library is not None:
            raise UsageError("Name one library with --from, not several.")
        try:
            library = resolve_library(other)
        except NotConnectedError:
            raise
        except UsageError as error:
            raise UsageError(
                f"{shown(other)!r} is no chest that this computer knows, and no library. Connect its drive, or name its folder."
            ) from error
    return chests, library
