"""``dunechest schema``."""

from __future__ import annotations

import json

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_document, shaped


@shaped("dunechest schema verify", "dunechest schema restore-plan")
@click.command("schema", cls=Command)
@click.argument("name", metavar="COMMAND", nargs=-1, required=True, shell_complete=complete_document)
@common
def command(out: Out, name: tuple[str, ...]) -> int:
    """Print the JSON schema of a command's document.

    COMMAND is a command such as `verify` or `chest list`. Some commands have more than one
    document: `archive-plan`, `restore-list`, `restore-plan` and `look-watch` are those
    of `archive --plan`, of `restore` without a library, of `restore --plan`, and of
    `look --watch`. An error is told in the document of its command, or in `error`; `event`
    is a line of `--json-events`.
    """
    from dunechest.errors import UsageError
    from dunechest.model.bodies import BODIES
    from dunechest.model.schemas import schema_of
    from dunechest.names import meant, shown

    wanted = "-".join(name)
    if wanted not in BODIES and wanted != "event":
        raise UsageError(
            f"There is no document {shown(wanted)!r}.{meant(wanted, BODIES)} The documents: {', '.join(BODIES)}."
        )
    click.echo(json.dumps(schema_of(wanted), indent=2))
    return 0
