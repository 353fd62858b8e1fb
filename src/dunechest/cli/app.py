"""The command ``dunechest``: its group of commands, and what becomes of errors."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import Any

import click

from dunechest.errors import DuneChestError

#: Command, its module in this package, and the line that ``--help`` shows; a module is
#: loaded when its command is used, so that help comes at once.
COMMANDS = {
    "find": "Find libraries on this computer and its drives.",
    "look": "Inspect a library before anything is copied.",
    "kinds": "Show, draft, try and add kinds of libraries.",
    "chest": "Make a chest on a drive; list chests; show one.",
    "archive": "Archive libraries to a chest and check every byte.",
    "verify": "Check that every archived file is intact.",
    "editions": "List or drop earlier states of a library.",
    "restore": "Restore libraries and check the result.",
    "drill": "Test a restore in a scratch folder.",
    "undo": "Undo the last change on this computer.",
    "compare": "Compare two places file by file.",
    "demo": "Take a guided tour on sample data.",
}

EPILOG = """\b
Exit status: 0 all well; 1 finished, with problems; 2 mistake in the command
line; 3 refused, nothing changed (or the answer was no); 4 interrupted by the
system (drive gone, not connected, full, unreadable): run the same command
again to continue; 70 a fault in Dune Chest itself; 130 interrupted."""


class _Group(click.Group):
    """A group that knows its commands' names and loads each on use."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"dunechest.cli.commands.{cmd_name}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


def _show_version(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if value and not ctx.resilient_parsing:
        from dunechest.version import version

        click.echo(version())
        ctx.exit()


@click.group(cls=_Group, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
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
    """  # noqa: D301 - the backspace is click's mark for lines that stay as they are


def run(args: Sequence[str]) -> int:
    """Run a command and return its exit status.

    Parameters
    ----------
    args : sequence of str
        The words after ``dunechest``.
    """
    from dunechest.cli.output import fail

    as_json = "--json" in args
    try:
        result: Any = cli.main(list(args), prog_name="dunechest", standalone_mode=False)
        status = result if isinstance(result, int) else 0
        sys.stdout.flush()
        return status
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.ctx.get_help() if error.ctx else "", err=True)
        return 2
    except click.exceptions.Exit as error:
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        from dunechest.cli.output import interrupted

        return interrupted(as_json)
    except click.ClickException as error:
        return fail(error.format_message(), 2, as_json, hint=_usage(error))
    except DuneChestError as error:
        return fail(error.message, error.status, as_json, findings=getattr(error, "findings", ()), lines=error.lines)
    except BrokenPipeError:
        # Whoever read our output has enough; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return fail(f"The system refused: {error}. Run the same command again to continue.", 4, as_json)
    except Exception as error:
        return _fault(error, as_json)


def _fault(error: Exception, as_json: bool) -> int:
    """Say that something is wrong with this program itself, and what to report."""
    import traceback

    from dunechest.cli.output import fail

    place = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{os.path.basename(place.filename)}, line {place.lineno}"
    message = (
        f"This is a fault in Dune Chest itself: {type(error).__name__}: {error} ({where}). Nothing that was archived is "
        "changed by it. Please report it with the lines below."
    )
    status = fail(message, 70, as_json)
    click.echo("".join(traceback.format_exception(error)).encode("ascii", "backslashreplace").decode(), err=True)
    return status


def _usage(error: click.ClickException) -> str:
    if isinstance(error, click.UsageError) and error.ctx is not None:
        return f"Try: {error.ctx.command_path} --help"
    return ""
