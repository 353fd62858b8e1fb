"""Let every single operation of an archive fail, and the power with it; count what is lost.

    python scripts/fault_sweep.py [JOB]...

Moving a library to a drive, on, back, a part of one, and freeing its space are stopped before each operation, too, by a kill and
by a refusal: the application must find the whole library in one place, and the same command, or undo, must end well.

Tried are a first archive, a next edition that adds, changes, moves, swaps and drops files, dropping editions, a first copy to
another chest and the next one, mending, and a new label. For
each operation: the power fails (names and bytes that were not flushed are dropped, or torn), the drive is full, the
drive is gone. One file is larger than what is copied as a whole. This computer's own disk is full at each write to the
ledger, too, once or from there on. Afterwards the chest is opened, verified, every edition restored and compared, and the
job run again to its end.
"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))


def _moves(wanted: list[str]) -> list[Any]:
    """Stop moving and freeing everywhere; return the outcomes."""
    from tests.support import home_sweep

    found = []
    for job in home_sweep.JOBS.values():
        if wanted and job.name not in wanted:
            continue
        for how in ("kill", "refuse"):
            with tempfile.TemporaryDirectory(prefix="dunechest-sweep-") as name:
                outcome = home_sweep.sweep(job, Path(name) / "stage", how=how)
            found.append(outcome)
            print(
                f"{job.name:<18} {how:<6} {outcome.operations:>4} operations, {outcome.tried:>5} states tried, "
                f"losses: {len(outcome.losses)}",
                flush=True,
            )
            for loss in outcome.losses[:5]:
                print(f"    {loss}")
    return found


def main() -> int:
    from tests.support.sweep import JOBS, full_ledger_sweep, kill_sweep, sweep

    # In memory where the system has such a place: what is flushed is noted, and need not reach a disk.
    memory = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="dunechest-sweep-", dir=memory) as name:
        top = Path(name)
        os.environ["HOME"] = str(top)
        os.environ["DUNECHEST_HOME"] = str(top / "state")
        outcomes = []
        for job in JOBS.values():
            if sys.argv[1:] and job.name not in sys.argv[1:]:
                continue
            outcome = sweep(job, top / job.name.replace(" ", "-"))
            outcomes.append(outcome)
            print(
                f"{job.name:<14} {outcome.operations:>4} operations, {outcome.tried:>5} states tried, losses: {len(outcome.losses)}",
                flush=True,
            )
            full = full_ledger_sweep(job, top / f"{job.name}-ledger".replace(" ", "-"))
            outcomes.append(full)
            print(
                f"{job.name:<14} {full.operations:>4} writes to the ledger, {full.tried:>5} states tried, losses: {len(full.losses)}",
                flush=True,
            )
            for loss in [*outcome.losses[:5], *full.losses[:5]]:
                print(f"    {loss}")
        outcomes += _moves(sys.argv[1:])
        if sys.argv[1:]:
            return sum(len(outcome.losses) for outcome in outcomes) > 0
        killed = kill_sweep(top / "kill", 200)
        print(
            f"SIGKILL at {killed.tried} random moments, {killed.operations - 1} of them after the change was decided; losses: {len(killed.losses)}"
        )
        outcomes.append(killed)
    operations, tried = sum(o.operations for o in outcomes[:-1]), sum(o.tried for o in outcomes)
    losses = sum(len(o.losses) for o in outcomes)
    print(f"together: {operations} operations, {tried} states tried, losses: {losses}")
    return 1 if losses else 0


if __name__ == "__main__":
    sys.exit(main())
