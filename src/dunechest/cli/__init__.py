"""The command line: parse, call, show. The only rooms that print, prompt or exit."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command and end with its exit status."""
    from dunechest.cli.app import run

    sys.exit(run(sys.argv[1:]))
