"""How the outcome of a verification is shown."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, INFO, WARN, say
from dunechest.cli.output import Out, limited
from dunechest.model.verify import BagCheck, VerifyResult
from dunechest.names import quoted, shown
from dunechest.words import both, duration, number, size

_STYLES = {
    "changed": BAD,
    "missing": BAD,
    "unreadable": BAD,
    "unlisted": WARN,
    "unfinished": WARN,
    "no-access": WARN,
    "noted": INFO,
}


def problems(result: VerifyResult) -> list[str]:
    """Return a line for each fault."""
    return [
        f"{check.name}: {state.path or 'the whole'}: {state.state}: {state.why}"
        for check in result.libraries
        for state in check.problems
        if state.state != "noted"
    ]


def show(out: Out, result: VerifyResult) -> None:
    """Show the outcome of the whole, then each library."""
    if not result.libraries:
        say(out.console, "There is nothing in this chest to verify yet.")
        return
    _show_outcome(out, result)
    for check in result.libraries:
        _show_bag(out, check)
    if result.libraries and any(check.closed for check in result.libraries):
        say(out.console, "-> Check them as administrator:", hang=3)
        say(out.console, f"sudo dunechest verify {quoted(str(result.path))}", indent=3)
    if any(check.wrong and check.kind not in ("missing", "unfinished") for check in result.libraries):
        if result.chest:
            say(
                out.console,
                "-> Do not archive to this drive now. With another copy of these libraries it can be mended:",
                hang=3,
            )
            say(out.console, f"dunechest mend {quoted(result.chest)} --from OTHER", indent=3)
            say(
                out.console,
                "Without one, restore what is intact, or archive the libraries again to another drive.",
                indent=3,
            )
        else:
            say(out.console, "-> Copy what is intact to another drive; do not write to this one.", hang=3)


def _show_outcome(out: Out, result: VerifyResult) -> None:
    console = out.console
    files, records = (
        sum(check.file_count for check in result.libraries),
        sum(check.record_count for check in result.libraries),
    )
    earlier = sum(check.earlier_file_count for check in result.libraries)
    counted = both(files + earlier, records)
    every = f"all {counted} are" if files + earlier + records > 1 else f"{counted} is"
    seconds = sum(check.seconds for check in result.libraries)
    closed = sum(check.closed for check in result.libraries)
    if closed and not result.damaged:
        names = ", ".join(shown(check.name) for check in result.libraries if check.closed)
        say(console, f"NOT CHECKED: {number(closed, 'file')} of {names} may not be read by this user.", WARN)
        say(console, "This says nothing about damage. Everything else is intact.")
    elif not result.ok:
        wrong = [check for check in result.libraries if not check.ok]
        names = ", ".join(shown(check.name) for check in wrong[:5])
        more = f" and {len(wrong) - 5} more" if len(wrong) > 5 else ""
        count = sum(check.wrong for check in wrong)
        say(console, f"PROBLEMS FOUND: {number(count, 'problem')} in {names}{more}.", BAD)
        if result.quick:
            say(console, "This was a quick check: no content was read.")
    elif result.quick:
        say(console, f"OK: names and sizes of {counted} are as recorded.", GOOD)
        say(console, "No content was read; to check every byte, run it without --quick.")
    elif left := sum(check.remaining_count for check in result.libraries):
        say(console, f"OK so far: {every} intact ({duration(seconds)}).", GOOD)
        say(
            console,
            f"{number(left, 'file')} of this library and the other libraries are still to be checked; run the same command "
            "again to continue.",
        )
    else:
        of = f" in {number(len(result.libraries), 'library', 'libraries')}" if len(result.libraries) > 1 else ""
        say(console, f"OK: {every} intact{of} ({duration(seconds)}).", GOOD)


def _show_bag(out: Out, check: BagCheck) -> None:
    console = out.console
    line = Text()
    if check.kind == "unfinished":
        line.append("UNFINISHED  ", style=WARN)
    elif check.kind == "missing":
        line.append("MISSING  ", style=BAD)
    else:
        well = "present  " if check.quick else "intact   "  # a quick check never says what only a full one can
        if check.closed and not check.wrong:
            line.append("CLOSED   ", style=WARN)
        else:
            line.append(well if check.ok else "PROBLEM  ", style=GOOD if check.ok else BAD)
    line.append(shown(check.name), style="bold")
    if check.files:
        counted = both(check.file_count, check.record_count)
        earlier = (
            f", {number(check.earlier_file_count, 'file')} of earlier editions" if check.earlier_file_count else ""
        )
        of = (
            "" if check.intact_count == check.files else f"; {check.intact_count:,} of {check.files:,} {_what(check)}"
        )
        line.append(f"  {counted}{earlier}, {size(check.size_bytes)}{of}", style="not bold default")
    if check.kind == "foreign bag":
        line.append(", made by another program", style="not bold default")
    say(console, line, indent=2, hang=11)
    some, more = limited(check.problems, out.verbose)
    for state in some:
        if not state.path and check.kind in ("missing", "unfinished"):
            say(console, shown(state.why), indent=6)
            continue
        entry = Text(f"{state.state}: ", style=_STYLES[state.state])
        entry.append(shown(state.path) or "(the whole)", style="not bold default")
        say(console, entry, indent=6)
        say(console, shown(state.why), indent=8)
    if more:
        say(console, f"and {more:,} more (--verbose shows all)", indent=6)


def _what(check: BagCheck) -> str:
    return "as recorded" if check.quick else "intact"
