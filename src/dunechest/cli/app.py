"""The command ``dunechest``: its group of commands, and what becomes of errors."""

from __future__ import annotations

import io
import os
import sys
from collections.abc import Iterable, Sequence
from importlib import import_module
from typing import Any

import click

from dunechest.errors import DuneChestError
from dunechest.model.findings import finding_of

#: Command, its module in this package, and the line that ``--help`` shows, by what people want to do; a module is
#: loaded when its command is used, so that help comes at once.
GROUPS: dict[str, dict[str, str]] = {
    "Start": {
        "demo": "Take a guided tour on sample data.",
        "find": "Find libraries on this computer and its drives.",
        "look": "Inspect a library before anything is copied.",
    },
    "Keep": {
        "chest": "Make a chest on a drive; list chests; show one.",
        "archive": "Archive libraries to a chest and check every byte.",
        "copy": "Copy a chest to another one, all editions included.",
        "editions": "List or drop earlier states of a library.",
    },
    "Check": {
        "status": "Show how well each library is protected, and what to do next.",
        "report": "Write one HTML page: what is safe, what is not, what to do.",
        "verify": "Check that every archived file is intact.",
        "drill": "Test a restore in a scratch folder.",
        "mend": "Replace damaged files by intact ones from another chest.",
        "compare": "Compare two places file by file.",
    },
    "By itself": {
        "routine": "Archive and check by itself, every night.",
        "release": "Make a drive safe to unplug.",
    },
    "Together": {
        "computers": "Say which other computers on your drives are yours.",
        "office": "Share with other computers what is safe.",
    },
    "Bring back": {
        "search": "Find a file on any drive, connected or not.",
        "restore": "Restore libraries and check the result.",
        "undo": "Undo the last change on this computer.",
    },
    "Make room": {
        "rehome": "Move a library to a drive and go on working with it there.",
        "reclaim": "Free the space of an original whose copies are proven.",
    },
    "Advanced": {
        "kinds": "Show, draft, try and add kinds of libraries.",
        "places": "List or forget remembered folders of other computers.",
        "completion": "Print what makes the Tab key complete commands.",
        "schema": "Print the JSON schema of a command's document.",
        "help": "Show the help of a command.",
    },
}
#: Commands that are groups of others.
_GROUPS = ("chest", "computers", "kinds", "editions", "places", "routine", "office")
COMMANDS = {name: line for group in GROUPS.values() for name, line in group.items()}

EPILOG = """\b
Exit status: 0 all well; 1 finished, with problems; 2 mistake in the command
line; 3 refused, nothing changed (or the answer was no); 4 interrupted by the
system (drive gone, not connected, full, unreadable): run the same command
again to continue; 70 a fault in Dune Chest itself; 130 interrupted.

\b
--json, --quiet, --no-progress and --verbose may stand before or after the
command. Help for one of them: dunechest help COMMAND"""


class Group(click.Group):
    """A group of commands that says which name was probably meant, where there is none of that name."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is named first, and the words after it."""
        name = args[0]
        if not ctx.resilient_parsing and self.get_command(ctx, name) is None and not name.startswith("-"):
            from dunechest.names import meant, shown

            hint = meant(name, self.list_commands(ctx))
            raise click.UsageError(f"There is no command {shown(name)!r}.{hint}", ctx)
        return super().resolve_command(ctx, args)

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order in which people need them."""
        return list(self.commands)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands, each with its whole first sentence."""
        rows = []
        for name in self.list_commands(ctx):
            command = self.get_command(ctx, name)
            if command is not None:
                rows.append((name, command.get_short_help_str(limit=200)))
        with formatter.section("Commands"):
            formatter.write_dl(rows)


class _Main(Group):
    """The group that knows its commands' names and loads each on use."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"dunechest.cli.commands.{cmd_name}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        wide = max(map(len, COMMANDS))
        for title, commands in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(name.ljust(wide), line) for name, line in commands.items()])


def _show_version(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if value and not ctx.resilient_parsing:
        from dunechest.version import version

        click.echo(version())
        ctx.exit()


@click.group(
    cls=_Main,
    epilog=EPILOG,
    subcommand_metavar="COMMAND ...",
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.option(
    "--version",
    is_flag=True,
    callback=_show_version,
    expose_value=False,
    is_eager=True,
    help="Show the version and exit.",
)
def cli() -> None:
    """Archive your applications' libraries to external drives, check the copies and restore them.

    To begin, with a drive mounted at /media/blue:

    \b
      dunechest chest new /media/blue --label blue
      dunechest find
      dunechest archive NAME --to blue
      dunechest verify blue
      dunechest restore blue NAME

    To try it first, on sample data that is made up: dunechest demo
    """  # noqa: D301 - the backspace is click's mark for lines that stay as they are


def run(args: Sequence[str]) -> int:
    """Run a command and return its exit status.

    Parameters
    ----------
    args : sequence of str
        The words after ``dunechest``.
    """
    # A file or pipe may be in an encoding that has no letter for some name: that is no reason to end after the work is done.
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    from dunechest.cli.hints import HINTS
    from dunechest.computer import Computer, using

    try:
        with using(Computer(words=HINTS)):
            return _run(args, out_for(args))
    finally:
        module = sys.modules.get("dunechest.remote.chest")
        if module is not None:
            module.close_all()


def out_for(args: Sequence[str]) -> Any:
    """Return a run's output: in which form it is to come is needed before the words are understood."""
    from dunechest.cli.output import Out

    return Out(json="--json" in args[: args.index("--") if "--" in args else None])


def _run(args: Sequence[str], out: Any) -> int:
    from dunechest.cli.output import fail, interrupted

    words = _common_first(out, list(args))
    try:
        result: Any = cli.main(words, prog_name="dunechest", standalone_mode=False, obj=out)
        status = result if isinstance(result, int) else 0
        _tell_office(out)
        _say_lost(out)
        _ask_whose(out)
        if out.problems and not status:
            status = 1
        if out.json and out.has_document:
            out.print_document(status)
        sys.stdout.flush()
        return status
    except click.exceptions.NoArgsIsHelpError as error:
        if out.json:
            return fail(out, "usage", "A command is missing.", 2, hint=_usage(error))
        click.echo(error.ctx.get_help() if error.ctx else "", err=True)
        return 2
    except click.exceptions.Exit as error:
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        return interrupted(out)
    except click.ClickException as error:
        _place_usage_error(out, error)
        return fail(out, "usage", _sentence(error), 2, hint=_usage(error))
    except DuneChestError as error:
        findings = getattr(error, "findings", ())
        return fail(out, error.code, error.message, error.status, findings=findings, lines=error.lines)
    except BrokenPipeError:
        # Whoever read our output has enough; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        from dunechest.machine.closed import advice_on

        advice = advice_on(error) or "Run the same command again to continue"
        message = f"The system refused: {error}. {advice}."
        return fail(out, "system", message, 4)
    except Exception as error:
        return _fault(out, error)


def _tell_office(out: Any) -> None:
    """Tell the office, if this computer belongs to one, what is new.

    What fails is tried again later, and `status` says so.
    """
    if "dunechest.ledger.folder" not in sys.modules or out.command.startswith("office"):
        return
    from dunechest.ledger.folder import state_folder

    if not (state_folder() / "settings.toml").is_file():
        return
    from dunechest.jobs.office.exchange import send_if_due

    send_if_due()


def _say_lost(out: Any) -> None:
    """Warn if this computer could not write down what was done: `status` then knows nothing of it."""
    module = sys.modules.get("dunechest.ledger.events")
    reasons = module.take_lost() if module is not None else []
    if not reasons:
        return
    from dunechest.cli.output import show_findings

    found = [finding_of("not-remembered", reason=reason) for reason in reasons]
    out.note_findings(found)
    if out.shows:
        show_findings(out, found)


def _ask_whose(out: Any) -> None:
    """Ask of each computer that was met for the first time in the log of a chest whether it is this person's."""
    if "dunechest.jobs.known.logs" not in sys.modules or not out.shows or out.command.startswith("computers"):
        return
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return
    from dunechest.jobs.known.computers import list_computers, say_computer
    from dunechest.names import shown

    for computer in list_computers():
        if computer.whose != "unknown":
            continue
        click.echo(
            f"\nThe computer {shown(computer.name)} uses the drive {shown(computer.met_on_chest)} too. If it is yours, what it "
            "archived and checked counts here as well."
        )
        told = click.prompt("Is it yours?", type=click.Choice(["yes", "no", "later"]), default="later")
        if told != "later":
            say_computer(computer.id, mine=told == "yes")


def _common_first(out: Any, words: list[str]) -> list[str]:
    """Take note of the common options that stand before the command, or between a group and its command."""
    flags = {
        "--json": "json",
        "--quiet": "quiet",
        "--no-progress": "progress",
        "--verbose": "verbose",
        "--json-events": "events",
    }
    place = 0
    while place < len(words) and words[place] in flags:
        place += 1
    head, rest = words[:place], words[place:]
    group = rest[:1] if rest and rest[0] in _GROUPS else []
    after = rest[len(group) :]
    while group and after and after[0] in flags:
        head.append(after.pop(0))
    for word in head:
        setattr(out, flags[word], word != "--no-progress")
    return [*group, *after]


def _place_usage_error(out: Any, error: click.ClickException) -> None:
    """Take note of the command that a mistake was made in, for the document that tells of it."""
    from dunechest.cli.output import schema_for

    if out.json and isinstance(error, click.UsageError) and error.ctx is not None:
        out.command = error.ctx.command_path.partition(" ")[2]
        out.expect(schema_for(out.command))


def _sentence(error: click.ClickException) -> str:
    text = error.format_message()
    return text if text.endswith((".", "?", ")")) else text + "."


def _fault(out: Any, error: Exception) -> int:
    """Say that something is wrong with this program itself, and what to report."""
    import traceback

    from dunechest.cli.output import fail

    place = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{os.path.basename(place.filename)}, line {place.lineno}"
    message = (
        f"This is a fault in Dune Chest itself: {type(error).__name__}: {error} ({where}). Nothing that was archived is "
        "changed by it. Please report it with the lines below."
    )
    status = fail(out, "fault", message, 70)
    click.echo("".join(traceback.format_exception(error)).encode("ascii", "backslashreplace").decode(), err=True)
    return status


def _usage(error: click.ClickException) -> str:
    if isinstance(error, click.UsageError) and error.ctx is not None:
        return f"Try: {error.ctx.command_path} --help"
    return ""


def every_command(group: click.Group | None = None, before: Iterable[str] = ()) -> list[tuple[str, click.Command]]:
    """Return all commands with their full names, those of groups included, in the order of the help."""
    group = group if group is not None else cli
    context = click.Context(group)
    found: list[tuple[str, click.Command]] = []
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if command is None:
            continue
        words = (*before, name)
        found.append((" ".join(words), command))
        if isinstance(command, click.Group):
            found += every_command(command, words)
    return found
