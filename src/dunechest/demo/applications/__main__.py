"""Start a stand-in application from the command line."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

from dunechest.demo.applications import APPLICATIONS, Opened, RefusalError
from dunechest.names import shown


def _show(opened: Opened, *, everything: bool) -> None:
    counts = ", ".join(f"{count} {what}" for what, count in opened.counts.items())
    print(f"{shown(str(opened.library))}: {counts}, {len(opened.missing)} missing", flush=True)
    for line in opened.done:
        print(f"  {shown(line)}", flush=True)
    for line in opened.missing:
        print(f"  missing: {shown(line)}", flush=True)
    if everything:
        for line in opened.things:
            print(f"  {shown(line)}")


def _call_itself(name: str) -> None:
    """Have the process listed under the application's name, where the system lets one choose (Linux: prctl)."""
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(15, name.encode(), 0, 0, 0)


def main() -> int:
    """Open a library as the application does; the status is 1 if it is refused or something is missing."""
    parser = argparse.ArgumentParser(prog="python -m dunechest.demo.applications", description=__doc__)
    parser.add_argument("application", choices=sorted(APPLICATIONS))
    parser.add_argument("verb", choices=["open", "list"], help="open: counts and what is missing; list: all of it")
    parser.add_argument("--home", type=Path, default=Path.home(), help="whose home")
    parser.add_argument("--library", type=Path, help="choose this library first, and remember it")
    parser.add_argument("--hold", type=float, default=0.0, metavar="SECONDS", help="keep it open so long")
    words = parser.parse_args()
    _call_itself(words.application)
    application = APPLICATIONS[words.application](words.home)
    if words.library is not None:
        application.point_to(words.library.absolute())
    try:
        with application.open() as opened:
            _show(opened, everything=words.verb == "list")
            time.sleep(words.hold)
            return 1 if opened.missing else 0
    except RefusalError as refusal:
        print(f"refused: {shown(str(refusal))}", file=sys.stderr)
        return 1


if __name__ == "__main__":
    sys.exit(main())
