"""The command line: parse, call, show. The only modules that print, prompt or exit."""

from __future__ import annotations

import errno
import gc
import io
import os
import signal
import sys
from types import FrameType


def nobody_reads(error: OSError) -> bool:
    """Whether a write failed since whoever read has enough: Windows calls it an invalid argument."""
    return isinstance(error, BrokenPipeError) or (sys.platform == "win32" and error.errno == errno.EINVAL)


class _Tolerant(io.TextIOWrapper):
    """Standard output that goes on where its reader has enough, so that the work behind it is not lost."""

    def write(self, text: str) -> int:
        try:
            return super().write(text)
        except OSError as error:
            if not nobody_reads(error):
                raise
            self._to_nowhere()
            return len(text)

    def flush(self) -> None:
        try:
            super().flush()
        except OSError as error:
            if not nobody_reads(error):
                raise
            self._to_nowhere()

    def _to_nowhere(self) -> None:
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, self.fileno())
        os.close(nowhere)


def _interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def main() -> None:
    """Run the command and end with its exit status."""
    # Looking for rings of dead objects again and again while modules are loaded, and once more among all that lives at the
    # end, took a quarter of a short command.
    gc.set_threshold(50_000, 20, 20)
    from dunechest.cli.app import run

    # Ended by the system, it is to stop as neatly as by Ctrl-C.
    signal.signal(signal.SIGTERM, _interrupt)
    if sys.stdout is not None:
        out = sys.stdout
        sys.stdout = _Tolerant(
            out.buffer, encoding=out.encoding, errors="backslashreplace", line_buffering=bool(out.line_buffering)
        )
    if isinstance(sys.stderr, io.TextIOWrapper):
        sys.stderr.reconfigure(errors="backslashreplace")
    if "_DUNECHEST_COMPLETE" in os.environ:
        from dunechest.cli.shells import register

        register()
    status = run(sys.argv[1:])
    if sys.stdout is not None:
        sys.stdout.flush()
    gc.freeze()
    sys.exit(status)
