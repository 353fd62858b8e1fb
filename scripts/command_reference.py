"""Make docs/commands.md from the help texts; with --check, say whether it is up to date."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from _pages import keep

from dunechest.cli.app import cli

PAGE = Path(__file__).resolve().parents[1] / "docs" / "commands.md"
HEAD = "# Commands\n\nMade from the help texts by `make docs`; do not edit.\n"


def sections(command: click.Command, path: list[str], parent: click.Context | None) -> list[str]:
    context = click.Context(command, info_name=path[-1], parent=parent)
    context.max_content_width = context.terminal_width = 90
    text = "\n".join(line.rstrip() for line in command.get_help(context).splitlines())
    parts = [f"## {' '.join(path)}\n\n```text\n{text}\n```\n"]
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None
            parts += sections(inner, [*path, name], context)
    return parts


def main() -> int:
    text = HEAD + "\n" + "\n".join(sections(cli, ["dunechest"], None))
    return keep(PAGE.parent, ".md", {PAGE.name: text})


if __name__ == "__main__":
    sys.exit(main())
