"""How commands speak: standard output for results, standard error for progress and errors."""

from __future__ import annotations

import functools
import json
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import click

from dunechest.findings import Finding
from dunechest.names import quoted, shown
from dunechest.progress import Progress, silent

if TYPE_CHECKING:
    from rich.console import Console

    from dunechest.chest.chest import Chest

# Tones that can be read on a dark ground and on a light one.
_STYLES = {"blocks": "bold red", "warning": "dark_orange3", "info": "dark_cyan"}


@dataclass(frozen=True, slots=True)
class Out:
    """The output options that every command has, and the problems it met: with any, the status is 1 at least."""

    json: bool
    quiet: bool
    progress: bool
    verbose: bool
    problems: list[str] = field(default_factory=list)

    def problem(self, *lines: str) -> None:
        """Note problems. With ``--quiet`` each is a line on standard error: damage is never silent."""
        self.problems.extend(lines)
        if self.quiet:
            for line in lines:
                click.echo(shown(line), err=True)

    def document(self, value: dict[str, Any]) -> None:
        """Print the one JSON document. Escapes keep every byte of odd names, and keep terminals safe."""
        click.echo(json.dumps(value, indent=2, ensure_ascii=True))

    @property
    def console(self) -> Console:
        """Where results go."""
        return _console(False)

    @property
    def shows(self) -> bool:
        """Whether results are to be shown in words."""
        return not self.json and not self.quiet

    @contextmanager
    def following(self) -> Iterator[Progress]:
        """Show progress on standard error while the block runs, if that is a terminal."""
        if self.json or self.quiet or not self.progress or not sys.stderr.isatty():
            yield silent
            return
        from dunechest.cli.bar import bar

        with bar(_console(True)) as progress:
            yield progress


@functools.cache
def _console(error: bool) -> Console:
    from rich.console import Console

    # Without colour interpretation of the text itself: names from a disk are never markup.
    return Console(stderr=error, markup=False, highlight=False, emoji=False)


def common(function: Callable[..., int | None]) -> Callable[..., int | None]:
    """Give a command the options that every command has; it gets them as its first argument."""

    @click.option("--json", "as_json", is_flag=True, help="Print one JSON document and nothing else.")
    @click.option("--quiet", is_flag=True, help="Print only errors and one line for each problem.")
    @click.option("--no-progress", is_flag=True, help="Show no progress.")
    @click.option("--verbose", is_flag=True, help="Do not shorten lists.")
    @functools.wraps(function)
    def wrapped(as_json: bool, quiet: bool, no_progress: bool, verbose: bool, **rest: Any) -> int | None:
        out = Out(as_json, quiet, not no_progress, verbose)
        status = function(out, **rest)
        return 1 if out.problems and not status else status

    return wrapped


def fail(
    message: str,
    status: int,
    as_json: bool,
    *,
    hint: str = "",
    findings: Iterable[Finding] = (),
    lines: bool = False,
) -> int:
    """Show an error, and return the exit status; with `lines` each line of it is one to be shown."""
    every = list(findings)
    text = "\n".join(map(shown, message.split("\n"))) if lines else shown(message)
    if as_json:
        document = {"error": message, "status": status, "findings": [finding_document(f) for f in every]}
        click.echo(json.dumps(document, indent=2, ensure_ascii=True))
        return status
    console = _console(True)
    console.print(text, style="bold red", soft_wrap=True)
    show_findings(console, every)
    if hint:
        console.print(hint, soft_wrap=True)
    return status


def interrupted(as_json: bool) -> int:
    """Say that the job was interrupted, and return the exit status."""
    return fail("Interrupted. Run the same command again to continue.", 130, as_json)


def show_findings(console: Console, findings: Sequence[Finding]) -> None:
    """Show findings, each with what was found and what to do.

    A terminal gets them in a column, words kept whole; a file or program a line each.
    """
    from rich.table import Table
    from rich.text import Text

    if console.is_terminal:
        table = Table.grid(padding=(0, 1))
        table.add_column(width=7)
        table.add_column(overflow="fold")
        for finding in findings:
            what = Text.assemble((f"{finding.code}: ", "bold"), shown(finding.message))
            table.add_row(Text(finding.severity, style=_STYLES[finding.severity]), what)
            table.add_row("", Text(f"-> {shown(finding.action)}"))
        console.print(table)
        return
    for finding in findings:
        line = Text()
        line.append(f"{finding.severity:<7} ", style=_STYLES[finding.severity])
        line.append(f"{finding.code}: ", style="bold")
        line.append(shown(finding.message))
        console.print(line, soft_wrap=True)
        console.print(Text(f"        -> {shown(finding.action)}"), soft_wrap=True)


def say_recovered(out: Out, chest: Chest) -> None:
    """Say on standard error which cut-off changes were finished when a chest was opened."""
    for fault in chest.faults:
        where = f"the chest's own record {fault.path} is damaged: {fault.why}"
        out.problem(f"{chest.label}: {where}")
        if not out.quiet and not out.json:
            words = f"In the chest {shown(chest.label)}, {shown(where)}."
            _console(True).print(words, style="bold red", soft_wrap=True)
            how = f"-> dunechest chest rebuild {quoted(str(chest.folder))}"
            _console(True).print(how, soft_wrap=True)
    if out.quiet:
        return
    for name in chest.recovered:
        _console(True).print(f"A cut-off change in {shown(name)} was finished first.", style="dark_orange3")
    for name, why in chest.unfinished.items():
        words = f"A change in {shown(name)} was interrupted and waits: {shown(why)}. It can be read all the same."
        _console(True).print(words, style="dark_orange3", soft_wrap=True)


def finding_document(finding: Finding) -> dict[str, Any]:
    """Return a finding for the JSON document."""
    return {
        "code": finding.code,
        "severity": finding.severity,
        "message": finding.message,
        "action": finding.action,
        "can_be_ignored": finding.yields,
    }


def limited(items: Sequence[Any], verbose: bool, most: int = 20) -> tuple[Sequence[Any], int]:
    """Return what of a long list to show, and how many are left unshown."""
    if verbose or len(items) <= most:
        return items, 0
    return items[:most], len(items) - most


def listing(
    console: Console,
    heads: Sequence[str],
    rows: Sequence[Sequence[str]],
    places: Sequence[str],
    *,
    right: Sequence[int] = (),
) -> None:
    """Show rows in columns, each with its place on a line below, where a long path does no harm."""
    from rich.text import Text

    widths = [max(len(row[i]) for row in (heads, *rows)) for i in range(len(heads))]

    def line(cells: Sequence[str]) -> str:
        padded = (
            c.rjust(w) if i in right else c.ljust(w) for i, (c, w) in enumerate(zip(cells, widths, strict=True))
        )
        return "  ".join(padded).rstrip()

    console.print(Text(line(heads), style="dim"), soft_wrap=True)
    for row, place in zip(rows, places, strict=True):
        text = Text(line(row))
        text.stylize("bold", 0, len(row[0]))
        console.print(text, soft_wrap=True)
        for below in place.split("\n"):
            console.print(
                Text("    " + below, style="bold red" if "problems found" in below else "dim"), soft_wrap=True
            )
    console.print()
