"""``dunechest copy``."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from dunechest.cli.commands.release import releasing
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped

if TYPE_CHECKING:
    from collections.abc import Sequence

    from dunechest.jobs.copy import CopyPlan, CopyResult


@shaped(
    "dunechest copy blue sand",
    "dunechest copy blue sand dune-survey --plan",
    "dunechest copy blue sand --limit 20",
)
@click.command("copy", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("other", metavar="OTHER", shell_complete=complete_chest)
@click.argument("libraries", nargs=-1, metavar="[LIBRARY]...", shell_complete=complete_held)
@click.option("--limit", type=float, metavar="MB/S", help="Send and read no more megabytes a second.")
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@common
@releasing
def command(
    out: Out, chest: str, other: str, libraries: tuple[str, ...], limit: float | None, plan_only: bool
) -> int:
    """Copy a chest, or some of its libraries, to another chest.

    All editions are copied. Each file is read once, compared with the digest that was
    recorded when it was archived, written, and read back from the other drive. Names
    that the other drive cannot hold are changed there; a restore gives them back.

    OTHER can be on a server, by its label or address. Each file is read back from there,
    too; a large one goes on where it was if the connection ended. With --plan it is
    reckoned how many bytes and requests that takes, now and each month.

    A later run copies only what is new. Editions that were dropped in OTHER are not
    copied again, and nothing is deleted there. A file that is damaged in CHEST is
    named, and taken from a third chest if one that has it is connected.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import copy as view
    from dunechest.errors import UsageError
    from dunechest.findings import blocking
    from dunechest.jobs.copy import carry_out, plan_copy, refuse_if_stopped, result_of_nothing
    from dunechest.jobs.known.named import resolve_chest
    from dunechest.progress import Step
    from dunechest.transfer.pace import limited

    if limit is not None and limit <= 0:
        raise UsageError("--limit takes a number of megabytes a second that is larger than 0.")
    begun = time.monotonic()
    if plan_only:
        out.expect("copy-plan")
    source, target = resolve_chest(chest), resolve_chest(other)
    out.chests += [target, source]
    for opened in (source, target):
        say_recovered(out, opened)
    with out.following() as progress:
        progress(Step("reading-records", 0, 0, 0, 0, source.label))
        plans = plan_copy(source, target, libraries)
    if plan_only:
        return _plan(out, plans, every=not libraries, target=target.to_dict())
    out.document("copy", source, target=target.to_dict())
    refuse_if_stopped(plans, every=not libraries)
    whole = {plan.name: plan.copy_bytes for plan in plans}
    results: list[CopyResult] = []
    for plan in plans:
        if blocking(plan.findings):
            result = result_of_nothing(plan)
        else:
            with out.following(whole) as progress, limited(limit * 1e6 if limit else None):
                result = carry_out(plan, progress=progress)
        results.append(result)
        out.document("copy", libraries=results)
        out.problem(*view.problems(result))
        out.note_findings(result.findings, result.name)
    if out.shows:
        view.show(out, results, source, target, time.monotonic() - begun)
    return 0 if all(result.ok for result in results) else 1


def _plan(out: Out, plans: Sequence[CopyPlan], *, every: bool, target: dict[str, str]) -> int:
    from dunechest.cli.views import copy as view
    from dunechest.errors import RefusedError
    from dunechest.jobs.copy import refuse_if_stopped
    from dunechest.jobs.copy.traffic import costs_of

    would_run = True
    try:
        refuse_if_stopped(plans, every=every)
    except RefusedError:
        would_run = False
    source = plans[0].source if plans else None
    costs = costs_of(plans)
    out.document("copy-plan", source, libraries=plans, target=target, would_run=would_run, costs=costs)
    for plan in plans:
        out.note_findings(plan.findings, plan.name)
    if out.shows:
        view.show_plans(out, plans, would_run=would_run)
        if costs is not None:
            view.show_costs(out, costs)
    return 0 if would_run else 3
