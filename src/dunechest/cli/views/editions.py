"""How editions are shown, and which are or would be dropped."""

from __future__ import annotations

from typing import Any

import msgspec
from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.cli.views.archive import changes_in_words
from dunechest.jobs.editions.listing import Edition, EditionList
from dunechest.jobs.editions.plan import DropPlan
from dunechest.names import shown
from dunechest.words import number, size


def document(listed: EditionList) -> dict[str, Any]:
    """Return the JSON document of `editions`."""
    return {
        "chest": listed.chest.label,
        "library": listed.bag,
        "earlier_bytes": listed.earlier_bytes,
        "editions": [
            {
                "number": e.number,
                "archived": e.record.archived,
                "machine": e.record.origin.machine,
                "current": e.current,
                "files": e.files,
                "bytes": e.bytes,
                "incomplete": e.record.incomplete,
                "mass_change": e.record.mass_change,
                "changes": msgspec.to_builtins(e.changes) if e.changes is not None else None,
                "named": [{"what": c.what, "path": c.path, "was": c.was} for c in e.named],
            }
            for e in listed.editions
        ],
    }


def show(out: Out, listed: EditionList) -> None:
    """Show `editions`, the current one last."""
    console = out.console
    for edition in listed.editions:
        _show_one(out, edition)
    earlier = len(listed.editions) - 1
    if earlier:
        console.print(
            f"{number(earlier, 'earlier edition')} on {shown(listed.chest.label)}; {size(listed.earlier_bytes)} are "
            "kept for them alone.",
            style="dim",
            soft_wrap=True,
        )
        console.print(
            f"To have one back: dunechest restore {shown(listed.chest.label)} {shown(listed.bag)} --edition N",
            style="dim",
            soft_wrap=True,
        )
    else:
        console.print("It is the only one kept. Archive the library again when it has changed.", style="dim")


def _show_one(out: Out, edition: Edition) -> None:
    console = out.console
    record = edition.record
    head = Text(f"edition {edition.number}", style="bold")
    head.append(
        f"  {record.archived.replace('T', ' ').rstrip('Z')} UTC, {shown(record.origin.machine)}", style="not bold"
    )
    head.append(f"  {number(edition.files, 'file')}, {size(edition.bytes)}", style="not bold")
    if edition.current:
        head.append("  current", style="green")
    if record.incomplete:
        head.append("  not complete", style="dark_orange3")
    if record.mass_change:
        head.append("  mass change", style="bold red")
    console.print(head, soft_wrap=True)
    if edition.changes is None:
        return
    added = f"; {size(edition.changes.bytes_added)} new" if edition.changes.bytes_added else ""
    console.print(f"    {changes_in_words(edition.changes)}{added}", style="dim", soft_wrap=True)
    some, _ = limited(edition.named, out.verbose, 6)
    for change in some:
        was = f"  (was {_own(change.was)})" if change.was else ""
        console.print(Text(f"      {change.what:<8} {_own(change.path)}{was}"), soft_wrap=True)
    counts = edition.changes
    more = counts.added + counts.changed + counts.moved + counts.dropped - len(some)
    if more:
        hint = "" if out.verbose else f" (--verbose names the first {len(edition.named)})"
        console.print(f"      and {more:,} more{hint}", style="dim")


def _own(path: str) -> str:
    return shown(path.removeprefix("library/"))


def drop_document(plan: DropPlan, *, done: bool) -> dict[str, Any]:
    """Return the JSON document of `editions drop`."""
    return {
        "chest": plan.chest.label,
        "library": plan.bag,
        "rule": plan.rule,
        "done": done,
        "kept": list(plan.kept),
        "dropped": list(plan.dropped),
        "exempt": list(plan.exempt),
        "files": list(plan.files),
        "bytes": plan.bytes,
    }


def show_drop(out: Out, plan: DropPlan, *, done: bool) -> None:
    """Show which editions are or would be dropped."""
    console = out.console
    console.print(f"Rule: {shown(plan.rule)}", soft_wrap=True)
    console.print(f"stay: {', '.join(map(str, plan.kept))} (the last is the current one)", soft_wrap=True)
    if plan.exempt:
        console.print(
            f"  of these {', '.join(map(str, plan.exempt))} only because a large share of the files changed later",
            style="dark_orange3",
            soft_wrap=True,
        )
    if not plan.dropped:
        console.print("No edition goes; nothing was changed.", style="green")
        return
    console.print(f"{'gone' if done else 'go'}:   {', '.join(map(str, plan.dropped))}", soft_wrap=True)
    console.print(
        f"{size(plan.bytes)} {'are free now' if done else 'would become free'} on the drive.", soft_wrap=True
    )
    if not done:
        console.print("This is a plan: nothing was changed.", style="dim")
