"""How commands speak: standard output for results, standard error for progress and errors."""

from __future__ import annotations

import functools
import os
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, TypeVar

import click
import msgspec

from dunechest import clock
from dunechest.findings import Finding
from dunechest.names import quoted, shown
from dunechest.progress import Progress, silent

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

    from dunechest.chest.chest import Chest
    from dunechest.cli.bar import Display
    from dunechest.values import Value

_T = TypeVar("_T")


class Out(msgspec.Struct):
    """One run of the command: its output options, the problems it met, and what its document will hold.

    With any problem the exit status is 1 at least.
    """

    json: bool = False
    quiet: bool = False
    progress: bool = True
    verbose: bool = False
    events: bool = False
    problems: list[str] = msgspec.field(default_factory=list)
    #: The chests that the command used, for whoever releases their drives at its end.
    chests: list[Chest] = msgspec.field(default_factory=list)
    command: str = ""
    started: float = msgspec.field(default_factory=clock.now)
    _begun: float = msgspec.field(default_factory=time.monotonic)
    _schema: str = "error"
    _body: dict[str, Any] = msgspec.field(default_factory=dict)
    _chest: dict[str, Any] | None = None
    _findings: list[Any] = msgspec.field(default_factory=list)
    _said: set[tuple[str, str, str]] = msgspec.field(default_factory=set)
    _display: Display | None = None
    _event_lines: Progress | None = None
    _whole: Mapping[str, int] | None = None

    def problem(self, *lines: str) -> None:
        """Note problems. With ``--quiet`` each is a line on standard error: damage is never silent."""
        self.problems.extend(lines)
        if self.quiet:
            for line in lines:
                click.echo(shown(line), err=True)

    def document(self, schema: str, chest: Chest | None = None, *, told: Value | None = None, **body: Any) -> None:
        """Note which document the run ends with, and what stands in it beside the envelope.

        Parameters
        ----------
        schema : str
            Name of the document, one of `dunechest.model.bodies.BODIES`.
        chest : Chest, optional
            The chest it is about.
        told : Value, optional
            What the job returned; all of it stands in the document.
        **body
            The fields, as documents, values with `to_dict`, or JSON values. They add to what was noted before.
        """
        if not self.json:
            return
        from dunechest.document import plain

        self._schema = schema
        if chest is not None:
            self._chest = plain(chest)
        if told is not None:
            self._body |= told.to_dict()
        self._body |= {name: plain(value) for name, value in body.items()}

    def note_findings(self, findings: Iterable[Finding], library: str | None = None) -> None:
        """Note findings for the document, with the library that they are about."""
        if not self.json:
            return
        from dunechest.document import to_json

        for finding in findings:
            told = to_json(finding)
            if library is not None:
                told["data"]["library"] = library
            self._findings.append(told)

    def print_document(self, status: int, error: tuple[str, str, str] | None = None) -> None:
        """Print the one JSON document. Escapes keep every byte of odd names, and keep terminals safe."""
        from dunechest.document import moment
        from dunechest.model.schemas import name_of
        from dunechest.version import version_number

        body = {**self._body}
        whole = {
            "schema": name_of(self._schema),
            "version": version_number(),
            "command": self.command,
            "exit_status": status,
            "ok": status == 0,
            "started_at": moment(self.started),
            "seconds": round(time.monotonic() - self._begun, 3),
            "chest": self._chest,
            "libraries": body.pop("libraries", []),
            "findings": self._findings,
            "problems": self.problems,
            "error": dict(zip(("code", "message", "hint"), error, strict=True)) if error is not None else None,
            **body,
        }
        import json

        click.echo(json.dumps(whole, indent=2, ensure_ascii=True))

    @property
    def schema(self) -> str:
        """The name of the document that the run ends with."""
        return self._schema

    @property
    def has_document(self) -> bool:
        """Whether a command said what its document holds."""
        return self._schema != "error"

    def expect(self, schema: str) -> None:
        """Say which document this run would end with, so that an error is told in it."""
        self._schema = schema

    @property
    def console(self) -> Console:
        """Where results go."""
        return _console(False)

    def place(self, path: str | os.PathLike[str], *, indent: int = 4, before: str = "") -> Text:
        """Return a place as a line of its own; a long one is shortened on a terminal, unless all is asked for."""
        from dunechest.cli.layout import place_line

        width = self.console.width if self.console.is_terminal and not self.verbose else None
        return place_line(path, width, indent=indent, before=before)

    def show_pairs(self, title: str, pairs: Sequence[tuple[str, str]], *, most: int = 5) -> None:
        """Show a titled list of places and what becomes of each: ``-> `` and another place, or a name."""
        from dunechest.cli.layout import say

        if not pairs:
            return
        say(self.console, title, indent=2)
        some, more = limited(pairs, self.verbose, most)
        for old, new in some:
            if old and old != new:
                self.console.print(self.place(old), soft_wrap=True)
                self.console.print(self.place(new, indent=6, before="-> "), soft_wrap=True)
            else:
                self.console.print(self.place(new), soft_wrap=True)
        if more:
            say(self.console, f"and {more:,} more (--verbose shows all)", indent=4)

    @property
    def shows(self) -> bool:
        """Whether results are to be shown in words."""
        return not self.json and not self.quiet

    @contextmanager
    def following(self, whole: Mapping[str, int] | None = None) -> Iterator[Progress]:
        """Show progress on standard error while the block runs, if that is a terminal or more is asked for.

        Parameters
        ----------
        whole : mapping of str to int, optional
            All libraries that the job is about, and the bytes of each. Given again, what was told of all goes on.
        """
        if self.events:
            from dunechest.cli.bar import event_lines

            self._event_lines = self._event_lines or event_lines(lambda line: click.echo(line, err=True))
            yield self._event_lines
            return
        if self.json or self.quiet or not self.progress:
            yield silent
            return
        if not self.verbose and not _console(True).is_terminal:
            yield silent
            return
        from dunechest.cli.bar import Display, bar, lines

        if _console(True).is_terminal:
            if self._display is None or whole is None or whole is not self._whole:
                self._display, self._whole = Display(whole), whole
            with bar(_console(True), self._display):
                yield self._display
        else:
            yield lines(_console(True))

    def new_findings(self, findings: Iterable[Finding]) -> list[Finding]:
        """Return those that were not shown in this run: a warning that says the same for every library is said once."""
        new = []
        for finding in findings:
            key = (finding.code, finding.message, finding.action)
            if finding.severity == "blocks" or key not in self._said:
                new.append(finding)
            self._said.add(key)
        return new


@functools.cache
def _console(error: bool) -> Console:
    from rich.console import Console

    # Without colour interpretation of the text itself: names from a disk are never markup.
    console = Console(stderr=error, markup=False, highlight=False, emoji=False)
    # With 16 colours each terminal has its own, readable on one ground and not on the other: weight alone is used there.
    console.no_color = console.no_color or console.color_system in ("standard", "windows")
    return console


def forget_consoles() -> None:
    """Make new consoles when they are asked for: standard output is another one now."""
    _console.cache_clear()


#: The options that every command takes, before or after its name.
COMMON = {
    "--json": "Print one JSON document and nothing else.",
    "--quiet": "Print only errors and one line for each problem.",
    "--no-progress": "Show no progress.",
    "--json-events": "Tell on standard error how far it is, a JSON object a line.",
    "--verbose": "Show whole paths and lists, and progress off a terminal.",
}


def common(function: Callable[..., int]) -> Callable[..., Any]:
    """Give a command the options that every command has; it gets the run's output as its first argument."""

    @click.option("--json", "as_json", is_flag=True, help=COMMON["--json"])
    @click.option("--quiet", is_flag=True, help=COMMON["--quiet"])
    @click.option("--no-progress", is_flag=True, help=COMMON["--no-progress"])
    @click.option("--json-events", is_flag=True, help=COMMON["--json-events"])
    @click.option("--verbose", is_flag=True, help=COMMON["--verbose"])
    @functools.wraps(function)
    def wrapped(as_json: bool, quiet: bool, no_progress: bool, json_events: bool, verbose: bool, **rest: Any) -> int:
        context = click.get_current_context()
        out = context.find_root().ensure_object(Out)
        out.json |= as_json
        out.quiet |= quiet
        out.progress &= not no_progress
        out.verbose |= verbose
        out.events |= json_events
        out.command = context.command_path.partition(" ")[2]
        if out.json:
            out.expect(schema_for(out.command))
        return function(out, **rest)

    return wrapped


def schema_for(command: str) -> str:
    """Return the document that a command's run ends with, if nothing more is known of it."""
    from dunechest.model.bodies import BODIES

    name = command.replace(" ", "-")
    return name if name in BODIES else "error"


def fail(
    out: Out,
    code: str,
    message: str,
    status: int,
    *,
    hint: str = "",
    findings: Iterable[Finding] = (),
    lines: bool = False,
) -> int:
    """Show an error, and return the exit status; with `lines` each line of it is one to be shown."""
    every = list(findings)
    if out.json:
        out.note_findings(every)
        out.print_document(status, (code, message, hint))
        return status
    from dunechest.cli.layout import BAD, say

    console = _console(True)
    if lines:
        for line in message.split("\n"):
            console.print(shown(line), style=BAD, soft_wrap=True)
    else:
        say(console, shown(message), BAD)
    show_findings(out, every, console)
    if hint:
        say(console, hint)
    return status


def interrupted(out: Out) -> int:
    """Say that the job was interrupted, and return the exit status."""
    return fail(out, "interrupted", "Interrupted. Run the same command again to continue.", 130)


def show_findings(out: Out, findings: Iterable[Finding], console: Console | None = None) -> None:
    """Show findings, each with what was found and what to do; one that was shown in this run is not shown again."""
    from rich.text import Text

    from dunechest.cli.layout import STYLES, say, tilde

    console = console or out.console
    for finding in out.new_findings(findings):
        line = Text().append(f"{finding.severity:<7} ", style=STYLES[finding.severity])
        line.append(f"{finding.code}: ", style="bold")
        line.append(tilde(shown(finding.message)), style="not bold default")
        say(console, line, indent=2, hang=8)
        say(console, f"-> {shown(finding.action)}", indent=10, hang=3)


def say_recovered(out: Out, chest: Chest) -> None:
    """Say on standard error which interrupted changes were finished when a chest was opened."""
    from dunechest.chest.log import read_log
    from dunechest.cli.layout import BAD, WARN, say

    console = _console(True)
    for fault in chest.faults:
        where = f"the chest's own record {fault.path} is damaged: {fault.why}"
        out.problem(f"{chest.label}: {where}")
        if out.shows:
            say(console, f"In the chest {shown(chest.label)}, {shown(where)}.", BAD)
            say(console, f"-> dunechest chest rebuild {quoted(str(chest.folder))}", indent=2)
    if out.quiet:
        return
    for log in read_log(chest.folder):
        if log.broken or log.signed < len(log.events):
            words = f"The log of the computer {shown(log.head.name)} in the chest {shown(chest.label)} is damaged after entry"
            say(console, f"{words} {log.signed}; what follows is not believed.", WARN)
    for name in chest.recovered:
        say(console, f"An interrupted change of {shown(name)} was finished first.", WARN)
    for name, why in chest.unfinished.items():
        words = f"A change of {shown(name)} was interrupted and is waiting: {shown(why)}. It can still be read."
        say(console, words, WARN)


def limited(items: Sequence[_T], verbose: bool, most: int = 20) -> tuple[Sequence[_T], int]:
    """Return what of a long list to show, and how many are left unshown."""
    if verbose or len(items) <= most:
        return items, 0
    return items[:most], len(items) - most


def show_list(out: Out, title: str, lines: Sequence[Any], *, most: int = 20, style: str = "") -> None:
    """Show a titled list of lines, shortened unless all is asked for; nothing if it is empty.

    Parameters
    ----------
    out : Out
        The run.
    title : str
        Said before it.
    lines : sequence of str or Text
        Already made safe to show.
    most : int
        So many are shown without ``--verbose``.
    style : str
        Of the title.
    """
    from dunechest.cli.layout import say

    if not lines:
        return
    say(out.console, title, style, indent=2)
    some, more = limited(lines, out.verbose, most)
    for line in some:
        say(out.console, line, indent=4)
    if more:
        say(out.console, f"and {more:,} more (--verbose shows all)", indent=4)
