"""``dunechest editions``."""

from __future__ import annotations

import sys

import click

from dunechest.cli.output import Out, common


@click.command("editions")
@click.argument("chest", metavar="CHEST")
@click.argument("library", metavar="LIBRARY")
@click.option(
    "--thin",
    is_flag=False,
    flag_value="",
    metavar="RULE",
    help="Thin them out by a rule in plain words; without one: all of the last month, one a month for a year, "
    "one a year for ever.",
)
@click.option("--plan", "plan_only", is_flag=True, help="With --thin: say what would go, and do nothing.")
@click.option("--yes", is_flag=True, help="With --thin: do not ask. Without a terminal it is needed.")
@common
def command(out: Out, chest: str, library: str, thin: str | None, plan_only: bool, yes: bool) -> int:
    """List the editions of a library, and what changed from one to the next.

    Each archive of a changed library makes an edition. Any of them can be brought
    back with `dunechest restore CHEST LIBRARY --edition N`.

    With --thin editions are dropped by a rule, such as "the last 5, one a week for
    two months, one a year for ever". The current one is never dropped, nor are those
    before an edition in which a large share of the files changed at once.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import editions as editions_view
    from dunechest.errors import RefusedError, UsageError
    from dunechest.jobs.editions import carry_out, list_editions, plan_drop
    from dunechest.jobs.editions.retention_rule import USUAL
    from dunechest.jobs.named import resolve_chest
    from dunechest.names import shown
    from dunechest.words import number

    if plan_only and thin is None:
        raise UsageError("--plan goes with --thin: a list changes nothing anyway.")
    target = resolve_chest(chest)
    say_recovered(out, target)
    if thin is None:
        listed = list_editions(target, library)
        out.problem(*(f"{listed.bag}: {fault.path}: {fault.why}" for fault in listed.damage))
        if out.json:
            out.document(editions_view.document(listed))
        elif out.shows:
            editions_view.show(out, listed)
        return 0
    plan = plan_drop(target, library, thin or USUAL)
    if not plan_only and plan.dropped and not yes:
        if out.json or out.quiet or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise RefusedError(
                f"{number(len(plan.dropped), 'edition')} of {shown(plan.bag)} would be deleted for good. Nothing was changed. "
                "To see which: --plan. To do it without being asked: --yes"
            )
        editions_view.show_thin(out, plan, done=False)
        if not click.confirm(f"Delete {number(len(plan.dropped), 'edition')} for good?", default=False):
            out.console.print("Nothing was changed.")
            return 3
    if not plan_only:
        carry_out(plan)
    if out.json:
        out.document(editions_view.thin_document(plan, done=not plan_only))
    elif out.shows:
        editions_view.show_thin(out, plan, done=not plan_only)
    return 0
