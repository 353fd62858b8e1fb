"""Harm every file of a chest in every way; count what is said with status 0 and is not true.

    python scripts/damage_sweep.py [EVERY]

The chest holds four libraries: odd and very long names, links, empty folders, hard links, modes, a database with a log,
files from outside, earlier states in pieces, three editions with moves. Each file is flipped at the start, in the middle
and at the end, cut, emptied, deleted, replaced by a folder, a link, a pipe, swapped with another library's, has garbage added or
a line missing; and both lists of a library at once. After each harm come: verify, verify --quick, chest show,
editions, restore of every edition, drill, compare, the next archive, and restore again; and it is mended from a second
chest, byte for byte. With a number only every so
many of the cases are tried.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))


def main() -> int:
    if len(sys.argv) == 4:
        return part(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))
    every = int(sys.argv[1]) if len(sys.argv) > 1 else 1
    workers = os.cpu_count() or 1
    memory = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="dunechest-harm-", dir=memory) as name:
        processes = [
            subprocess.Popen(
                [sys.executable, __file__, str(Path(name) / str(number)), str(every * workers), str(every * number)],
                stdout=subprocess.PIPE,
                text=True,
            )
            for number in range(workers)
        ]
        outputs = [process.communicate()[0] for process in processes]
    lies = [line for output in outputs for line in output.splitlines() if not line.startswith("tried ")]
    tried = sum(
        int(line.split()[1]) for output in outputs for line in output.splitlines() if line.startswith("tried ")
    )
    for line in lies:
        print(line)
    print(f"{tried} harmed chests, untrue with status 0, lost, hung or crashed: {len(lies)}")
    return 1 if lies or any(process.returncode for process in processes) else 0


def part(top: Path, stride: int, offset: int) -> int:
    from tests.support import harms

    ground = harms.make(top / "ground")
    other = harms.copied(ground)
    count = 0
    for path, harm in harms.cases(ground, stride, offset):
        count += 1
        for lie in harms.try_harm(ground, path, harm, top / "harmed"):
            print(lie, flush=True)
        for lie in harms.try_mending(ground, other, path, harm, top / "mended"):
            print(lie, flush=True)
    print(f"tried {count}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
