"""``dunechest undo``."""

from __future__ import annotations

import sys

import click

from dunechest.cli.output import Out, common


@click.command("undo")
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
    from dunechest.cli.views import undo as undo_view
    from dunechest.cli.views.restore import say_taken_back
    from dunechest.jobs.undo import carry_out, cut_off, plan_undo, recover

    taken_back = () if plan_only else recover()
    for deed in taken_back:
        say_taken_back(out, deed)
    if taken_back:
        return 0  # what was interrupted was the last change; taking it back was what was asked for
    waiting = cut_off() if plan_only else ()
    if waiting and out.shows:
        out.console.print("A restore had been interrupted. This would take back what it had begun:", style="yellow")
    plan = plan_undo(waiting[0] if waiting else None, only_references=only_references)
    if out.shows and not plan_only and not yes and sys.stdin.isatty() and sys.stdout.isatty():
        undo_view.show(out, plan, done=False)
        if not plan.changed and not click.confirm("Do this?", default=False):
            return 3
    if not plan_only:
        carry_out(plan)
    if out.json:
        out.document(undo_view.document(plan, done=not plan_only))
    elif out.shows:
        undo_view.show(out, plan, done=not plan_only)
    return 3 if plan_only and plan.changed else 0
