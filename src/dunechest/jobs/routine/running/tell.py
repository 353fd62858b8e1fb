"""Tell the person of a run: a line in the log for each step, and one message if something is wrong. Failing is no failure."""

from __future__ import annotations

import io
import json
import logging
import logging.handlers
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dunechest.jobs.routine.file import routine_log
from dunechest.machine.notify import notify
from dunechest.machine.system_command import command_line
from dunechest.model.routine import Routine, RoutineRun
from dunechest.names import shown
from dunechest.transfer.owner import hand_over, make_own
from dunechest.words import day

#: Seconds that the person's own command may take.
_PATIENCE = 60.0
#: Bytes of the log, and number of the earlier ones that are kept.
_LOG_BYTES, _LOGS = 1_000_000, 5


class _PrivateLog(logging.handlers.RotatingFileHandler):
    """A log that rotates, for its owner's eyes only."""

    def _open(self) -> io.TextIOWrapper:
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_NOFOLLOW", 0)
        file = os.fdopen(os.open(self.baseFilename, flags, 0o600), "ab")
        return io.TextIOWrapper(file, encoding="utf-8", errors="backslashreplace")

    def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802 - the name that the base class has
        raise  # noqa: PLE0704 - it is called while the error is handled


def write_log(run: RoutineRun) -> str:
    """Write the lines of a run to the log; return why that failed, or nothing."""
    try:
        make_own(routine_log().parent, 0o700)
        log = _PrivateLog(routine_log(), maxBytes=_LOG_BYTES, backupCount=_LOGS, delay=True)
        try:
            for line in lines_of(run):
                log.emit(logging.LogRecord("dunechest", logging.INFO, "", 0, line, None, None))
        finally:
            log.close()
        hand_over(routine_log().parent)
    except OSError as error:
        return f"the log {shown(str(routine_log()))}: {error.strerror}"
    return ""


def lines_of(run: RoutineRun) -> Iterator[str]:
    """Yield the lines of a run as the log has them."""
    when = day(run.begun_at)
    for step in run.steps:
        end = f" -> {step.command}" if step.command else ""
        yield shown(f"{when} {run.name}: {step.outcome}: {step.message}{end}")
    for label in run.absent_labels:
        yield shown(f"{when} {run.name}: waiting: {label} is not connected")
    if run.waiting_for:
        yield shown(f"{when} {run.name}: waiting: {run.waiting_for}")
    for why in run.failed_ways:
        yield shown(f"{when} {run.name}: could not tell by {why}")


def tell(routine: Routine, run: RoutineRun) -> tuple[str, ...]:
    """Tell the person of the worst of a run; return the ways that failed, each with the reason."""
    worst = run.worst
    if worst is None:
        return ()
    failed = []
    if routine.notifies:
        more = f"\n{worst.command}" if worst.command else ""
        why = _safely(lambda: notify(f"Dune Chest: {routine.name}", run.message + more))
        if why:
            failed.append(f"a notification: {why}")
    if routine.tell_command:
        document = json.dumps(run.to_dict(), ensure_ascii=True, indent=2) + "\n"
        why = _safely(lambda: _command(routine.tell_command, document))
        if why:
            failed.append(f"the command {routine.tell_command}: {why}")
    return tuple(failed)


def _safely(work: Any) -> str:
    """Do it; whatever goes wrong comes back as words: telling never fails the run."""
    try:
        return str(work())
    except Exception as error:
        return shown(str(error))[:300] or type(error).__name__


def _command(words: str, document: str) -> str:
    """Run the person's own command, without a shell; return why it failed, or nothing."""
    process = subprocess.Popen(
        command_line(words),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        encoding="utf-8",
        errors="replace",
        cwd=Path.home(),
        start_new_session=True,
    )
    try:
        said, _ = process.communicate(document, timeout=_PATIENCE)
    except subprocess.TimeoutExpired:
        _end(process)
        return f"it did not end within {_PATIENCE:.0f} s and was ended"
    except BrokenPipeError:
        process.wait(timeout=_PATIENCE)
        said = ""
    if process.returncode:
        return f"it ended with {process.returncode}: {shown(said.strip())[:300]}"
    return ""


def _end(process: subprocess.Popen[str]) -> None:
    """End a command with all that it started."""
    try:
        if sys.platform == "win32":
            process.kill()
        else:
            os.killpg(process.pid, signal.SIGKILL)
    except OSError:
        pass
    process.wait(timeout=_PATIENCE)
    for pipe in (process.stdin, process.stdout):
        if pipe is not None:
            pipe.close()
