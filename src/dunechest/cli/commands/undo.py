"""``dunechest undo``."""

from __future__ import annotations

import sys

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, shaped


@shaped("dunechest undo --plan", "dunechest undo --yes", "dunechest undo --only-references")
@click.command("undo", cls=Command)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option("--only-references", is_flag=True, help="Undo only what was updated: references and settings.")
@click.option("--yes", is_flag=True, help="Do not ask. On a terminal it is otherwise shown first.")
@common
def command(out: Out, plan_only: bool, only_references: bool, yes: bool) -> int:
    """Undo the last change on this computer: a restore, with everything it did.

    Files that were put here are removed, what was renamed gets its name back, and
    updated files become what they were. If anything has changed since, nothing is
    undone, and the changes are listed.
    """
    from dunechest.cli.layout import WARN, say
    from dunechest.cli.views import undo as view
    from dunechest.cli.views.restore import say_undone_first
    from dunechest.jobs.undo import UndoResult, carry_out, cut_off, plan_undo, recover

    undone = () if plan_only else recover()
    for past_change in undone:
        say_undone_first(out, past_change)
    if undone:
        # What was interrupted was the last change; undoing it was what was asked for.
        out.document("undo", told=UndoResult(tuple(undone), ()))
        return 0
    waiting = cut_off() if plan_only else ()
    if waiting and out.shows:
        say(out.console, "A restore had been interrupted. This would undo what it had begun:", WARN)
    plan = plan_undo(waiting[0] if waiting else None, only_references=only_references)
    out.document("undo", told=plan, done=False)
    if out.shows and not plan_only and not yes and sys.stdin.isatty() and sys.stdout.isatty():
        view.show(out, plan, done=False)
        if not plan.changed_since and not click.confirm("Do this?", default=False):
            out.console.print("Nothing was changed.")
            return 3
    if not plan_only:
        carry_out(plan)
        out.document("undo", done=True)
    if out.shows:
        view.show(out, plan, done=not plan_only)
    return 3 if plan_only and plan.changed_since else 0
