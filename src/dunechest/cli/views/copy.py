"""How the plan and the outcome of a copy from chest to chest are shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.layout import BAD, GOOD, WARN, listing, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.findings import Finding, blocking
from dunechest.machine.drives import ENDLESS
from dunechest.model.copy import CopyPlan, CopyResult, Costs
from dunechest.names import quoted, shown
from dunechest.words import duration, number, size


def problems(result: CopyResult) -> list[str]:
    """Return a line for each thing that keeps a copy from being complete."""
    found = [f"{result.name}: {path}: not copied: {why}" for path, why in result.missing_files]
    if result.state in ("blocked", "foreign"):
        told = [finding.message for finding in result.findings if finding.severity != "info"]
        found.append(f"{result.name}: not copied: {told[0] if told else result.state}")
    return found


def show(out: Out, results: Sequence[CopyResult], source: Chest, target: Chest, seconds: float) -> None:
    """Show the outcome of the whole, then each library, then the next step."""
    console = out.console
    names = f"from {shown(source.label)} to {shown(target.label)}"
    if not results:
        say(console, f"There is nothing in {shown(source.label)} to copy yet.")
        return
    done = [result for result in results if result.editions or result.copied_count]
    files, count = sum(r.copied_count for r in done), sum(r.copied_bytes for r in done)
    missing = sum(len(result.missing_files) for result in results)
    blocked = [result for result in results if result.state in ("blocked", "foreign")]
    if missing or blocked:
        words = [number(missing, "file")] if missing else []
        words += [number(len(blocked), "library", "libraries")] if blocked else []
        say(console, f"INCOMPLETE: {' and '.join(words)} could not be copied {names}.", BAD)
    elif not done:
        held = number(len(results), "library", "libraries")
        say(console, f"Unchanged: {shown(target.label)} has all of {shown(source.label)} already ({held}).", GOOD)
    else:
        what = number(len(done), "library", "libraries")
        text = Text(f"Copied {what} {names}", style=GOOD)
        text.append(
            f": {number(files, 'file')}, {size(count)}, each checked and read back ({duration(seconds)})",
            style="not bold default",
        )
        say(console, text)
    show_findings(out, _of_all([result.findings for result in results]))
    for result in results:
        _show_library(out, result, source)
    if not missing and not blocked and done:
        kept = "" if target.is_on_server else f"keep {shown(target.label)} in another place. "
        say(console, f"Next: {kept}To test a restore from it:" if kept else "Next, to test a restore from there:")
        say(console, f"dunechest drill {quoted(target.label)}", indent=2)


def _show_library(out: Out, result: CopyResult, source: Chest) -> None:
    console = out.console
    line = Text(shown(result.name), style="bold")
    if result.state in ("blocked", "foreign"):
        line = Text("NOT COPIED  ", style=BAD).append(shown(result.name), style="bold")
    elif result.missing_files:
        line = Text("INCOMPLETE  ", style=BAD).append(shown(result.name), style="bold")
    if result.file_count:
        line.append(f"  {number(result.file_count, 'file')}, {size(result.size_bytes)}", style="not bold default")
    if result.editions:
        line.append(f"  {_editions(result.editions)}", style="not bold default")
    elif result.state == "unchanged":
        line.append("  unchanged", style="not bold default")
    elif result.copied_count:
        line.append(f"  {number(result.copied_count, 'file')} that had gone copied again", style=WARN)
    say(console, line, indent=2)
    show_findings(out, result.findings)
    lost = [f"{shown(path)}: {shown(why)}" for path, why in result.missing_files]
    show_list(out, "Not copied:", lost, most=5, style=BAD)
    taken = [f"{shown(path)}: from {shown(label)}" for path, label in result.from_other_chests]
    show_list(out, f"Not intact in {shown(source.label)}, and intact elsewhere:", taken, most=5, style=WARN)
    if result.missing_files or result.from_other_chests:
        say(console, f"-> dunechest mend {quoted(source.label)} {quoted(result.name)}", indent=4, hang=3)
    if result.resumed_count:
        say(
            console,
            f"{number(result.resumed_count, 'file')} had been copied by a run that was interrupted.",
            indent=4,
        )


def _of_all(findings: Sequence[Sequence[Finding]]) -> list[Finding]:
    """Return what is said of every library: it is about the chests."""
    first = findings[0] if findings else ()
    return [finding for finding in first if all(finding in others for others in findings)]


def _editions(numbers: Sequence[int]) -> str:
    if len(numbers) == 1:
        return f"edition {numbers[0]}"
    return f"{len(numbers)} editions ({numbers[0]} to {numbers[-1]})"


_STATES = {
    "new": "will be copied",
    "next": "will be brought up to date",
    "unchanged": "is there already; nothing will be done",
    "newer": "is newer there; nothing will be done",
    "foreign": "is not copied",
    "blocked": "cannot be copied now",
}


def show_plans(out: Out, plans: Sequence[CopyPlan], *, would_run: bool) -> None:
    """Show `copy --plan`."""
    console = out.console
    if would_run:
        say(console, "This is a plan; nothing was written.", GOOD)
    else:
        names = ", ".join(shown(plan.name) for plan in plans if blocking(plan.findings))
        say(console, f"This would be refused: {names} cannot be copied now.", BAD)
    show_findings(out, _of_all([plan.findings for plan in plans]))
    for plan in plans:
        head = Text(shown(plan.name), style="bold")
        head.append(f" -> {shown(plan.target.label)}: {_STATES[plan.state]}", style="not bold")
        say(console, head, indent=2)
        show_findings(out, plan.findings)
        if plan.state in ("new", "next"):
            editions = f"{_editions(plan.editions)}, " if plan.editions else ""
            say(console, f"{editions}{number(plan.copy_count, 'file')} to copy, {size(plan.copy_bytes)}", indent=4)
    need = sum(plan.room.need for plan in plans)
    if plans and need and plans[0].room.free < ENDLESS:
        say(console, f"Space needed: {size(need)} of {size(plans[0].room.free)} free.")


def show_costs(out: Out, costs: Costs) -> None:
    """Show what a chest on a server costs in bytes and requests."""
    rows = []
    for what, told in (
        ("now", costs.now),
        ("a month, if 1 % changes", costs.monthly),
        ("to check every byte", costs.check),
    ):
        rows.append(
            (
                what,
                size(told.sent_bytes) if told.sent_bytes else "",
                size(told.received_bytes),
                f"{told.request_count:,}",
            )
        )
    out.console.print()
    listing(out.console, ("reckoned", "sent", "received", "requests"), rows, [[] for _ in rows], right=(1, 2, 3))
