"""Run commands in processes of their own that begin with everything loaded: loading it again takes longer than most commands."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Mapping, Sequence
from importlib import import_module
from pathlib import Path

#: What most commands need.
_LOADED = (
    "dunechest.cli.app",
    "dunechest.jobs.archive.doing.archiving",
    "dunechest.jobs.archive.planning.plan_archive",
    "dunechest.jobs.archive.several",
    "dunechest.jobs.check.drill",
    "dunechest.jobs.editions",
    "dunechest.jobs.restore",
    "dunechest.jobs.check.verify",
    "dunechest.ledger.ledger",
    "dunechest.cli.views.archive",
    "dunechest.cli.views.restore",
    "dunechest.demo.applications",
)


def run_module(
    module: str,
    words: Sequence[str],
    *,
    folder: Path,
    environment: Mapping[str, str],
    caught: bool,
    ahead: float = 0.0,
) -> tuple[int, bytes]:
    """Run ``python -m module words`` and return its exit status, and what it wrote to standard output.

    Parameters
    ----------
    module : str
        ``dunechest`` or a package below it.
    words : sequence of str
        The words after it.
    folder : Path
        Where it runs.
    environment : mapping of str to str
        Its whole environment.
    caught : bool
        Whether what it writes is caught, not shown.
    ahead : float
        Seconds that its clock is ahead.
    """
    # A thread would not live on in the copy, and what it holds would be held for ever. On macOS the system itself has some.
    if sys.platform == "linux" and threading.active_count() == 1:
        return _fork(module, words, folder, environment, caught, ahead)
    # -P: the folder is never a place to import from.
    ran = subprocess.run(
        [sys.executable, "-P", "-c", _LATER, str(ahead), module, *words]
        if ahead
        else [sys.executable, "-P", "-m", module, *words],
        cwd=folder,
        env=environment,
        stdin=subprocess.DEVNULL,  # nobody is there to be asked
        stdout=subprocess.PIPE if caught else None,
        stderr=subprocess.PIPE if caught else None,
        check=False,
    )
    return ran.returncode, ran.stdout or b""


#: A process of its own whose clock is ahead.
_LATER = """
import runpy, sys
from dunechest.cli.forked import turn_clock
turn_clock(float(sys.argv[1]))
del sys.argv[:2]
runpy.run_module(sys.argv[0], run_name="__main__", alter_sys=True)
"""


def turn_clock(ahead: float) -> None:
    """Have the clock of this process be so many seconds ahead."""
    import time

    from dunechest import clock

    clock.now = lambda: time.time() + ahead


def _fork(
    module: str, words: Sequence[str], folder: Path, environment: Mapping[str, str], caught: bool, ahead: float
) -> tuple[int, bytes]:
    for name in _LOADED:
        import_module(name)
    sys.stdout.flush()
    sys.stderr.flush()
    with tempfile.TemporaryFile() as caught_out, tempfile.TemporaryFile() as caught_errors:
        child = _copy_of_this()
        if child == 0:
            status = 70
            try:
                if caught:
                    os.dup2(caught_out.fileno(), 1)
                    os.dup2(caught_errors.fileno(), 2)
                if ahead:
                    turn_clock(ahead)
                status = _be(module, words, folder, environment)
            except BaseException:
                traceback.print_exc()
            finally:
                os._exit(status)
        _, state = os.waitpid(child, 0)
        caught_out.seek(0)
        return os.waitstatus_to_exitcode(state), caught_out.read() if caught else b""


def _be(module: str, words: Sequence[str], folder: Path, environment: Mapping[str, str]) -> int:
    """Become the command, and return its exit status."""
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    sys.stdin = io.TextIOWrapper(os.fdopen(0, "rb", closefd=False), encoding="utf-8")
    sys.stdout = io.TextIOWrapper(os.fdopen(1, "wb", closefd=False), encoding="utf-8", line_buffering=os.isatty(1))
    sys.stderr = io.TextIOWrapper(
        os.fdopen(2, "wb", closefd=False), encoding="utf-8", errors="backslashreplace", line_buffering=True
    )
    # Whoever wraps these finds them alive for as long as the process lives, as in a process from nothing.
    sys.__stdin__, sys.__stdout__, sys.__stderr__ = sys.stdin, sys.stdout, sys.stderr  # type: ignore[misc]
    sys.argv = [module, *words]
    from dunechest.cli.output import forget_consoles

    forget_consoles()
    try:
        main = import_module("dunechest.cli" if module == "dunechest" else f"{module}.__main__").main
        status = main()
        return status if isinstance(status, int) else 0
    except SystemExit as ended:
        code = ended.code
        if isinstance(code, str):
            print(code, file=sys.stderr)
        return code if isinstance(code, int) else 0 if code is None else 1
    finally:
        sys.stdout.flush()
        sys.stderr.flush()


def _copy_of_this() -> int:
    if sys.platform != "win32":
        return os.fork()
    raise NotImplementedError
