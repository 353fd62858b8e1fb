"""What the tests of moving and freeing have in common: which application sees what, and every moment of a command."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from tests.support.trees import facts

ROOT = Path(__file__).resolve().parents[2]


def libraries_of(world: World) -> dict[str, Path]:
    """The eight libraries, by the applications that keep them."""
    return {
        "glasswort": world.photos,
        "tidewrack": world.notes,
        "seaholly": world.papers,
        "cuttlebone": world.games,
        "redshank": world.sounds,
        "spindrift": world.film,
        "saltpan": world.designs,
        "limpet": world.handsets,
    }


def opens(name: str, home: Path, library: Path | None = None) -> tuple[dict[str, int], int]:
    """What an application shows of its library: counts, and how much is missing; another library may be chosen for once."""
    application = APPLICATIONS[name](home)
    before = application.settings_file.read_bytes() if application.settings_file.is_file() else None
    if library is not None:
        application.point_to(library)
    try:
        with application.open() as opened:
            return dict(opened.counts), len(opened.missing)
    finally:
        if library is not None and before is not None:
            application.settings_file.write_bytes(before)


#: Runs a command and ends the process, without any cleaning up, before an operation that changes something; or lets the
#: system refuse that one. Operation -1 never comes: then the number of operations is written to the file.
_KILLED = """
import errno, os, sys
from dunechest.transfer import disk
stop, how, report, words = int(sys.argv[1]), sys.argv[2], sys.argv[3], sys.argv[4:]
count = 0
def gate(operation, *what):
    global count
    count += 1
    if count - 1 == stop:
        if how == "kill":
            os._exit(137)
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
disk.gate = gate
from dunechest.cli.app import run
status = run(words)
open(report, "w").write(str(count))
sys.exit(status)
"""


def stopped_at(stop: int, words: list[str], report: Path, how: str = "kill") -> subprocess.CompletedProcess[str]:
    """Run a command in a process that ends before the operation of that number, or is refused it; -1 for never."""
    return subprocess.run(
        [sys.executable, "-c", _KILLED, str(stop), how, str(report), *words],
        capture_output=True,
        text=True,
        check=False,
        cwd=ROOT,
    )


@dataclass
class Outcome:
    """What a sweep found: operations of the command, moments tried, and the losses in words."""

    operations: int = 0
    tried: int = 0
    losses: list[str] = field(default_factory=list)


def stop_everywhere(
    top: Path,
    words: list[str],
    check: Callable[[int], None],
    *,
    how: str = "kill",
    some: int | None = None,
    offset: int = 0,
) -> Outcome:
    """Stop a command before each of its operations, or some that lie evenly apart; `check` looks at what is left.

    Parameters
    ----------
    top : Path
        All that the command works on, its ledger too; it is put back before each moment.
    words : list of str
        The command.
    check : callable
        Called after each moment with the exit status; what it raises is a loss.
    how : {"kill", "refuse"}
        Whether the process is killed, or the system refuses the operation.
    some, offset : int
        How many moments are tried, and from which one on.
    """
    before = top.with_name(f"{top.name} before")
    shutil.copytree(top, before, symlinks=True)
    report = top.with_name(f"{top.name} count")
    done = stopped_at(-1, words, report)
    outcome = Outcome()
    if done.returncode:
        outcome.losses.append(f"the command itself ends with {done.returncode}: {done.stderr}{done.stdout}")
        return outcome
    outcome.operations = count = int(report.read_text())
    for k in range(count) if some is None else sorted({(offset + n * count // some) % count for n in range(some)}):
        clear(top)
        shutil.copytree(before, top, symlinks=True, dirs_exist_ok=True)
        stopped = stopped_at(k, words, report, how)
        outcome.tried += 1
        try:
            assert stopped.returncode in ((137,) if how == "kill" else (0, 1, 3, 4)), (
                stopped.returncode,
                stopped.stderr,
            )
            check(stopped.returncode)
        except Exception as error:
            outcome.losses.append(f"{how} at {k}: {type(error).__name__}: {error}")
    return outcome


def clear(top: Path) -> None:
    for path in top.iterdir():
        if path.is_dir() and not path.is_symlink():
            for folder, inner, _ in os.walk(path):
                for name in inner:
                    if not os.path.islink(os.path.join(folder, name)):
                        os.chmod(os.path.join(folder, name), 0o700)
            shutil.rmtree(path)
        else:
            path.unlink()


def wholes(place: Path, wanted: dict[bytes, tuple[object, ...]]) -> Iterator[Path]:
    """Yield the folders below a place that hold just the wanted tree, times of folders aside."""
    for folder, inner, _ in os.walk(place):
        for name in inner:
            path = Path(folder, name)
            if not path.is_symlink() and same_files(path, wanted):
                yield path


def same_files(path: Path, wanted: Mapping[bytes, tuple[object, ...]], *, but: str = "") -> bool:
    """Whether a folder holds the wanted names with their bytes, targets and modes; of files with an ending `but`, the names."""

    def told(found: Mapping[bytes, tuple[object, ...]]) -> dict[bytes, tuple[object, ...]]:
        ending = os.fsencode(but)
        return {
            name: fact[:1] if ending and name.endswith(ending) else fact[:-1]
            for name, fact in found.items()
            if name != b"."
        }

    return told(facts(path)) == told(wanted)
