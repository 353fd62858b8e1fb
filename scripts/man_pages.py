"""Make the man pages in man/ from the help of every command; --check only compares."""

from __future__ import annotations

import inspect
import re
import sys
from pathlib import Path

import click
from _pages import keep

from dunechest.cli.app import EPILOG, GROUPS, cli, every_command
from dunechest.cli.output import COMMON
from dunechest.cli.parts import Command

FOLDER = Path(__file__).resolve().parents[1] / "man"


def _roff(text: str) -> str:
    """Escape a line for roff: its own marks, hyphens that are to be typed, and a dot or quote at the beginning."""
    text = (
        text.replace("\\", "\\e")
        .replace("-", "\\-")
        .replace("`", "\\(ga")
        .replace("~", "\\(ti")
        .replace("'", "\\(aq")
    )
    return "\\&" + text if text.startswith((".", "'")) else text


def _paragraphs(text: str) -> list[str]:
    """Return a help text as roff: paragraphs, and lines that stay as they are behind click's mark for them."""
    lines: list[str] = []
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        if paragraph.startswith("\b"):
            lines += [".PP", ".nf", *(_roff(line) for line in paragraph.splitlines()[1:]), ".fi"]
        else:
            lines += [".PP", *(_roff(line.strip()) for line in paragraph.splitlines())]
    return lines


def _options(command: click.Command, context: click.Context) -> list[str]:
    lines = []
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context) if isinstance(parameter, click.Option) else None
        if record is not None and not set(parameter.opts) & set(COMMON):
            lines += [".TP", f".B {_roff(record[0])}", _roff(record[1])]
    return lines


def page(name: str, command: click.Command) -> str:
    """Return the man page of a command."""
    whole = f"dunechest {name}".strip()
    parent = click.Context(cli, info_name="dunechest", **cli.context_settings)
    context = click.Context(command, info_name=name, parent=parent) if name else parent
    title = whole.replace(" ", "-")
    summary = command.get_short_help_str(limit=200).rstrip(".")
    lines = [
        f'.TH "{_roff(title.upper())}" "1" "" "Dune Chest" "Dune Chest"',
        ".SH NAME",
        f"{_roff(title)} \\- {_roff(summary[:1].lower() + summary[1:])}",
        ".SH SYNOPSIS",
        f".B {_roff(whole)}",
        _roff(" ".join(command.collect_usage_pieces(context))),
        ".SH DESCRIPTION",
        *_paragraphs(inspect.cleandoc(command.help or "")),
    ]
    options = _options(command, context)
    if options:
        lines += [".SH OPTIONS", *options]
    if isinstance(command, click.Group):
        lines.append(".SH COMMANDS")
        groups = GROUPS if command is cli else {"": dict.fromkeys(command.list_commands(context), "")}
        for title_of, names in groups.items():
            lines += [f".SS {_roff(title_of)}"] if title_of else []
            for inner, line in names.items():
                found = command.get_command(context, inner)
                told = line or (found.get_short_help_str(limit=200) if found is not None else "")
                lines += [".TP", f".B {_roff(inner)}", _roff(told)]
    else:
        lines += [".SH COMMON OPTIONS"]
        for flag, told in COMMON.items():
            lines += [".TP", f".B {_roff(flag)}", _roff(told)]
    if isinstance(command, Command) and command.examples:
        lines += [".SH EXAMPLES", ".nf", *(_roff(example) for example in command.examples), ".fi"]
    status = EPILOG.split("\n\n")[0].removeprefix("\b\n").removeprefix("Exit status: ")
    lines += [".SH EXIT STATUS", *(_roff(line) for line in status.splitlines())]
    if name:
        lines += [".SH SEE ALSO", f".BR {_roff('dunechest')} (1)"]
    return "\n".join(lines) + "\n"


def main() -> int:
    wanted = {"dunechest.1": page("", cli)}
    wanted |= {f"dunechest-{name.replace(' ', '-')}.1": page(name, command) for name, command in every_command()}
    return keep(FOLDER, ".1", wanted)


if __name__ == "__main__":
    sys.exit(main())
