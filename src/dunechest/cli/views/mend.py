"""How damage, and what was mended, is shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.chest.chest import Chest
from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.model.mend import MendPlan, MendResult
from dunechest.names import quoted, shown
from dunechest.words import duration, number, size


def problems(result: MendResult) -> list[str]:
    """Return a line for each thing that is still damaged."""
    return [f"{result.name}: {path}: not mended: {why}" for path, why in result.unmended_files]


def damage(plan: MendPlan) -> list[str]:
    """Return a line for each thing that is damaged."""
    return [f"{plan.name}: {path}: {why}" for path, why in (*plan.damaged_files, *plan.unmendable_files)]


def show(out: Out, results: Sequence[MendResult], chest: Chest, rebuilt: Sequence[str], seconds: float) -> None:
    """Show the outcome of the whole, then each library with damage."""
    console = out.console
    label = shown(chest.label)
    if not results:
        say(console, f"There is nothing in {label} to mend.")
        return
    mended = sum(len(result.mended_files) for result in results) + len(rebuilt)
    left = sum(len(result.unmended_files) for result in results)
    checked = number(sum(result.checked_count for result in results), "file")
    if left:
        done = f"; {number(mended, 'file')} mended" if mended else ""
        say(console, f"NOT ALL MENDED: {number(left, 'file')} in {label} still damaged or missing{done}.", BAD)
    elif mended:
        text = Text(f"Mended {number(mended, 'file')} in {label}", style=GOOD)
        text.append(
            f", each exactly as it was archived; all {checked} are intact now ({duration(seconds)})",
            style="not bold default",
        )
        say(console, text)
    else:
        say(console, f"Nothing to mend: all {checked} in {label} are intact ({duration(seconds)}).", GOOD)
    show_list(out, "Records of the chest itself, made again:", [shown(path) for path in rebuilt])
    for result in results:
        if result.mended_files or result.unmended_files or result.other_files or result.findings:
            _show_library(out, result)
    if left:
        say(
            console,
            "-> Connect another chest that has these libraries and run it again; or name the library itself with --from.",
            hang=3,
        )
    elif mended:
        say(
            console,
            f"Damage often comes back: watch this drive, and have another copy. To check it again: dunechest verify "
            f"{quoted(chest.label)}",
        )


def _show_library(out: Out, result: MendResult) -> None:
    console = out.console
    say(console, Text(shown(result.name), style="bold"), indent=2)
    show_findings(out, result.findings)
    lost = [f"{shown(path)}: {shown(why)}" for path, why in result.unmended_files]
    show_list(out, "Not mended:", lost, most=10, style=BAD)
    done = [f"{shown(path)}: from {shown(whose)}" for path, whose in result.mended_files]
    show_list(out, f"Mended ({size(result.mended_bytes)}):", done, most=10)
    _show_left(out, result.other_files)


def _show_left(out: Out, left: Sequence[tuple[str, str]]) -> None:
    show_list(out, "Left alone:", [f"{shown(path)}: {shown(why)}" for path, why in left], most=5, style=WARN)


def show_plans(out: Out, plans: Sequence[MendPlan], chest: Chest) -> None:
    """Show `mend --plan`."""
    console = out.console
    bad = sum(plan.damaged_count for plan in plans)
    checked = number(sum(plan.checked_count for plan in plans), "file")
    if not bad:
        say(console, f"Nothing to mend: all {checked} in {shown(chest.label)} are intact.", GOOD)
    else:
        say(console, f"{number(bad, 'file')} in {shown(chest.label)} damaged or missing. Nothing was changed.", BAD)
    for plan in plans:
        if not (plan.damaged_count or plan.other_files or plan.findings):
            continue
        say(console, Text(shown(plan.name), style="bold"), indent=2)
        show_findings(out, plan.findings)
        lines = [f"{shown(path)}: {shown(why)}" for path, why in plan.damaged_files]
        show_list(out, "Damaged:", lines, most=10, style=BAD)
        lines = [f"{shown(path)}: {shown(why)}" for path, why in plan.unmendable_files]
        show_list(out, "These cannot be mended:", lines, most=10, style=BAD)
        _show_left(out, plan.other_files)
    if any(plan.records or plan.wanted for plan in plans):
        others = [other for plan in plans[:1] for other in plan.helpers]
        if others:
            names = " ".join(f"--from {quoted(other.label)}" for other in others)
            say(console, f"-> dunechest mend {quoted(chest.label)} {names}", hang=3)
        else:
            say(console, "-> Connect another chest that has these libraries, then run it without --plan.", hang=3)
