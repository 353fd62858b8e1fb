"""Measure how exactly a routine's limit of megabytes a second is held.

    python benchmarks/limit.py            each limit once
    python benchmarks/limit.py --write    also puts the table into docs/performance.md

Each limit is held against the bytes of the library and the seconds that its archive took, and against `cp -a` and `sync` of the
same folder without a limit in the same run. What a run takes besides reading (starting, planning, records) is measured by a
run in which nothing has changed, and subtracted.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

from run import ROOT, drop_caches, make_shape, run_dunechest, timed

MARK = "limit"
SHAPES = {
    "small": ("4,000 files of 20 KB", 4_000, 20_000),
    "medium": ("200 files of 1 MB", 200, 1_000_000),
    "large": ("one file of 400 MB", 1, 400_000_000),
}
LIMITS = {"small": (5.0, 10.0, 80.0), "medium": (10.0, 20.0), "large": (20.0, 80.0)}


def bench(top: Path, shape: str, limit: float) -> tuple[float, float]:
    """Return megabytes a second that a routine reached, and those of plain commands."""
    _, count, size = SHAPES[shape]
    library, drive, state = top / shape, top / "drive", top / "state"
    if not library.exists():
        make_shape(library, count, size)
    for place in (drive, state, top / "plain"):
        shutil.rmtree(place, ignore_errors=True)
    drive.mkdir()
    run_dunechest(["chest", "new", str(drive), "--label", "drive"], state)
    words = ["--to", str(drive), "--when", "every hour", "--scheduler", "none", "--limit", str(limit)]
    run_dunechest(["routine", "add", "limited", str(library), *words], state)
    drop_caches()
    first = run_dunechest(["routine", "run", "limited"], state).seconds
    again = run_dunechest(["routine", "run", "limited"], state).seconds
    total = sum(path.stat().st_size for path in library.rglob("*") if path.is_file()) / 1e6
    drop_caches()
    plain = timed(f"cp -a '{library}' '{top / 'plain'}' && sync", top).seconds
    return total / max(first - again, 0.001), total / plain


def main() -> int:
    """Measure, and print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    rows = ["| library | limit | reached | of the limit | plain commands, no limit |", "|---|---|---|---|---|"]
    with tempfile.TemporaryDirectory(prefix="dunechest-bench-") as folder:
        for shape, (title, _, _) in SHAPES.items():
            for limit in LIMITS[shape]:
                reached, plain = bench(Path(folder), shape, limit)
                rows.append(
                    f"| {title} | {limit:g} MB/s | {reached:.2f} MB/s | {reached / limit:.3f} | {plain:.0f} MB/s |"
                )
                print(rows[-1], flush=True)
    table = "\n".join(rows)
    if options.write:
        page = ROOT / "docs" / "performance.md"
        text = page.read_text(encoding="utf-8")
        begin, end = f"<!-- {MARK} -->", f"<!-- end of {MARK} -->"
        before, _, rest = text.partition(begin)
        page.write_text(f"{before}{begin}\n{table}\n{end}{rest.partition(end)[2]}", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
