"""How the outcome of a verification is shown."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.jobs.verify.result import BagCheck, VerifyResult
from dunechest.names import shown
from dunechest.words import duration, number, size

_STYLES = {
    "changed": "bold red",
    "missing": "bold red",
    "unreadable": "bold red",
    "unlisted": "yellow",
    "unfinished": "yellow",
    "noted": "cyan",
}


def document(result: VerifyResult) -> dict[str, Any]:
    """Return the JSON document of `verify`."""
    return {
        "place": str(result.place),
        "chest": result.chest or None,
        "quick": result.quick,
        "well": result.well,
        "libraries": [
            {
                "name": check.bag,
                "kind": check.kind,
                "well": check.well,
                "files": check.files,
                "bytes": check.bytes,
                "intact": check.intact,
                "remaining": check.remaining,
                "not_sound": [{"path": s.path, "state": s.state, "why": s.why} for s in check.states],
                "seconds": round(check.seconds, 3),
            }
            for check in result.checks
        ],
    }


def problems(result: VerifyResult) -> list[str]:
    """Return a line for each fault."""
    return [
        f"{check.bag}: {state.path or 'the whole'}: {state.state}: {state.why}"
        for check in result.checks
        for state in check.states
        if state.state != "noted"
    ]


def show(out: Out, result: VerifyResult) -> None:
    """Show the outcome, bag by bag, and the whole."""
    for check in result.checks:
        _show_bag(out, check)
    console = out.console
    if not result.checks:
        console.print("There is nothing in this chest to verify yet.")
        return
    files = sum(check.files for check in result.checks)
    if result.well and result.quick:
        console.print(
            f"OK: names and sizes of {number(files, 'file')} are as recorded. No content was read; run it without "
            "--quick to check every byte.",
            style="green",
            soft_wrap=True,
        )
    elif result.well and (left := sum(check.remaining for check in result.checks)):
        console.print(f"OK so far: {_all(files)} intact.", style="green")
        console.print(
            f"{number(left, 'file')} of this library and the other libraries are still to be checked; run the same command "
            "again to continue.",
            style="dim",
            soft_wrap=True,
        )
    elif result.well:
        console.print(f"OK: {_all(files)} intact.", style="bold green")
    else:
        wrong = sum(1 for check in result.checks for s in check.states if s.state != "noted")
        console.print(f"Problems found: {number(wrong, 'fault')}.", style="bold red")
        if result.quick:
            console.print("This was a quick check: no content was read.")
        console.print(
            "Do not write to this drive. Restore what is intact, or archive the library again to another drive.",
            soft_wrap=True,
        )


def _all(count: int) -> str:
    return "1 file is" if count == 1 else f"all {count:,} files are"


def _show_bag(out: Out, check: BagCheck) -> None:
    console = out.console
    line = Text()
    if check.kind == "unfinished":
        line.append("unfinished ", style="yellow")
    elif check.kind == "missing":
        line.append("MISSING ", style="bold red")
    else:
        well = "there  " if check.quick else "intact  "  # a quick check never says what only a full one can
        line.append(well if check.well else "PROBLEM ", style="green" if check.well else "bold red")
    line.append(shown(check.bag), style="bold")
    kind = ", made by another program" if check.kind == "foreign bag" else ""
    line.append(
        f"  {check.intact:,} of {number(check.files, 'file')} {'as recorded' if check.quick else 'intact'}, "
        f"{size(check.bytes)}, {duration(check.seconds)}{kind}",
        style="dim",
    )
    console.print(line, soft_wrap=True)
    some, more = limited(check.states, out.verbose)
    for state in some:
        entry = Text("  ")
        entry.append(f"{state.state:<10} ", style=_STYLES[state.state])
        entry.append(shown(state.path) or "(the whole)")
        console.print(entry, soft_wrap=True)
        console.print(Text(f"             {shown(state.why)}", style="dim"), soft_wrap=True)
    if more:
        console.print(f"  and {more:,} more; --verbose shows all.")
