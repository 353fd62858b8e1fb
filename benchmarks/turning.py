"""Small files on a drive that turns: what reading costs if each read waits for the head, and how much the order saves.

    python benchmarks/turning.py             1,500 files of 4 KB; some minutes
    python benchmarks/turning.py --write     also puts the table into docs/performance.md

A turning drive is simulated: a filesystem (FUSE) that shows a folder and waits before each read as a head would. Every file
has a place on the disk, spread at random as on a drive that was filled over years. There is one head. Of all reads that
wait for it, it takes the next one in its direction, as drives and systems do; so whoever has many reads in flight has short
ways, and whoever asks for one after the other has long ones. The way costs 2 ms and up to 13 ms more with the
square root of its length; the turn of the disk costs half a turn, 4.2 ms.

Compared are `cat` (one read at a time) and `dunechest verify` of a chest on that drive, `cp -a` and `dunechest archive` of a
library on it; and by the same reckoning alone, without any filesystem, the orders and depths that were considered.
"""

from __future__ import annotations

import argparse
import math
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from bisect import bisect_left, insort
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

from run import ROOT, drop_caches, machine, make_shape, run_dunechest, timed

FILES, SIZE = 1_500, 4_000
#: Half a turn at 7,200 turns a minute; the shortest way of the head, and what is added for the longest (seconds).
TURN, NEAR, FAR = 60 / 7200 / 2, 0.002, 0.013


def way(here: float, there: float) -> float:
    """Return the seconds until a head can read at another place; places are shares of the disk."""
    length = abs(there - here)
    return 0.0002 if length < 1e-6 else NEAR + FAR * math.sqrt(length) + TURN


class Head:
    """The head of a drive: serves whoever waits, the next one in its direction first."""

    def __init__(self) -> None:
        self._lock = threading.Condition()
        self._waiting: list[tuple[float, int]] = []
        self._served: set[int] = set()
        self._number = 0
        self._here = 0.0
        threading.Thread(target=self._move, daemon=True).start()

    def wait(self, place: float) -> None:
        """Return when the head has been at a place."""
        with self._lock:
            self._number += 1
            own = self._number
            insort(self._waiting, (place, own))
            self._lock.notify_all()
            self._lock.wait_for(lambda: own in self._served)
            self._served.discard(own)

    def _move(self) -> None:
        while True:
            with self._lock:
                self._lock.wait_for(lambda: bool(self._waiting))
                place, number = self._waiting.pop(_next(self._waiting, self._here))
            time.sleep(way(self._here, place))
            self._here = place
            with self._lock:
                self._served.add(number)
                self._lock.notify_all()


def _next(waiting: Sequence[tuple[float, int]], here: float) -> int:
    at = bisect_left(waiting, (here, 0))
    return at if at < len(waiting) else 0


def reckoned(places: Iterable[float], depth: int) -> float:
    """Return the seconds that reading takes in this order, with so many reads in flight."""
    source: Iterator[float] = iter(places)
    waiting: list[tuple[float, int]] = []
    here = total = 0.0
    for number, place in enumerate(source):
        insort(waiting, (place, number))
        if len(waiting) >= depth:
            there, _ = waiting.pop(_next(waiting, here))
            total, here = total + way(here, there), there
    while waiting:
        there, _ = waiting.pop(_next(waiting, here))
        total, here = total + way(here, there), there
    return total


def serve(folder: str, place: str) -> None:
    """Show a folder, read-only, until its mount point is unmounted."""
    import mfusepy

    head = Head()

    class Drive(mfusepy.Operations):  # type: ignore[misc]
        use_ns = True

        def _do(self, call: Any, *words: Any) -> Any:
            try:
                return call(*words)
            except OSError as error:
                raise mfusepy.FuseOSError(error.errno) from error

        def getattr(self, path: str, fh: Any = None) -> dict[str, Any]:
            info = self._do(os.lstat, folder + path)
            told = {
                f"st_{key}": getattr(info, f"st_{key}") for key in ("gid", "mode", "nlink", "size", "uid", "blocks")
            }
            return told | {f"st_{key}": getattr(info, f"st_{key}_ns") for key in ("atime", "mtime", "ctime")}

        def readdir(self, path: str, fh: Any) -> list[str]:
            return [".", "..", *self._do(os.listdir, folder + path)]

        def readlink(self, path: str) -> str:
            return str(self._do(os.readlink, folder + path))

        def open(self, path: str, flags: int) -> Any:
            return self._do(os.open, folder + path, os.O_RDONLY)

        def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
            # A long file lies in one piece: only its beginning has to be found.
            if offset == 0:
                head.wait(random.Random(path).random())
            return os.pread(fh, size, offset)

        def release(self, path: str, fh: int) -> Any:
            return os.close(fh)

        def statfs(self, path: str) -> dict[str, Any]:
            info = os.statvfs(folder)
            return {key: getattr(info, key) for key in dir(info) if key.startswith("f_") and key != "f_fsid"}

    kept = {"attr_timeout": 600, "entry_timeout": 600, "kernel_cache": True}
    mfusepy.FUSE(Drive(), place, foreground=True, ro=True, max_background=256, congestion_threshold=256, **kept)


class Mounted:
    """The simulated drive, as long as the ``with`` block lasts."""

    def __init__(self, folder: Path, place: Path) -> None:
        self._folder, self._place = folder, place

    def __enter__(self) -> Path:
        self._place.mkdir(exist_ok=True)
        self._process = subprocess.Popen([sys.executable, __file__, "--serve", str(self._folder), str(self._place)])
        until = time.monotonic() + 20
        while not os.path.ismount(self._place):
            if self._process.poll() is not None or time.monotonic() > until:
                raise SystemExit("the simulated drive could not be mounted: FUSE and mfusepy are needed")
            time.sleep(0.05)
        return self._place

    def __exit__(self, *error: object) -> None:
        subprocess.run(["fusermount3", "-u", "-z", str(self._place)], check=False)
        self._process.wait(timeout=20)


def measure(rounds: int, work: Path) -> list[str]:
    """Measure all; return the lines of the tables."""
    library, drive, state, place = (work / name for name in ("library", "drive", "state", "turning"))
    make_shape(library, FILES, SIZE)
    drive.mkdir()
    run_dunechest(["chest", "new", str(drive), "--label", "turning"], state)
    run_dunechest(["archive", str(library), "--to", str(drive)], state)
    lines = ["| on the simulated drive | Dune Chest | plain | ratio |", "|---|---|---|---|"]
    for title, folder in (("verify", drive), ("archive", library)):
        ours, plain = [], []
        for turn in range(rounds):
            with Mounted(folder, place) as mounted:
                drop_caches()
                if title == "verify":
                    data = mounted / "dune-chest" / "bags" / "library" / "data"
                    plain.append(timed("find . -type f -print0 | xargs -0 cat > /dev/null", data).seconds)
                else:
                    plain.append(timed(f"cp -a '{mounted}' '{work}/copy{turn}'; sync", work).seconds)
            with Mounted(folder, place) as mounted:
                drop_caches()
                if title == "verify":
                    ours.append(run_dunechest(["verify", str(mounted)], state).seconds)
                else:
                    (work / f"fast{turn}").mkdir()
                    run_dunechest(["chest", "new", str(work / f"fast{turn}"), "--label", f"fast{turn}"], state)
                    words = ["archive", str(mounted), "--to", str(work / f"fast{turn}")]
                    ours.append(run_dunechest(words, state).seconds)
        a, b = statistics.median(ours), statistics.median(plain)
        what = "`cat` of its files" if title == "verify" else "`cp -a`, `sync`"
        spread = f"({min(ours):.1f} to {max(ours):.1f}) | {b:.1f} s ({min(plain):.1f} to {max(plain):.1f}), {what}"
        lines.append(f"| {title} of {FILES:,} files of {SIZE // 1000} KB | {a:.1f} s {spread} | {a / b:.2f} |")
    paths = sorted(f"/{path.relative_to(library)}" for path in library.rglob("*") if path.is_file())
    places = [random.Random(path).random() for path in paths]
    lines += ["", "| order of reading, reckoned | reads in flight | seconds |", "|---|---|---|"]
    for depth in (1, 4, 32, 512, 3 * 512):
        lines.append(f"| by name | {depth:,} | {reckoned(places, depth):.1f} |")
    lines.append(f"| by place on the disk | 1 | {reckoned(sorted(places), 1):.1f} |")
    return lines


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    parser.add_argument("--serve", nargs=2, metavar=("FOLDER", "PLACE"), help=argparse.SUPPRESS)
    words = parser.parse_args()
    if words.serve:
        serve(*words.serve)
        return
    work = Path(tempfile.mkdtemp(prefix="dunechest-turning-"))
    try:
        lines = measure(words.rounds, work)
    finally:
        shutil.rmtree(work, ignore_errors=True)
    text = "\n".join([*lines, "", f"Made by `python benchmarks/turning.py --rounds {words.rounds}` on {machine()}."])
    print(text)
    if words.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- turning -->")
        _, _, after = rest.partition("<!-- end of turning -->")
        page.write_text(f"{before}<!-- turning -->\n{text}\n<!-- end of turning -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
