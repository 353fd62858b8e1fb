"""How fast the catalogue answers, and how large it is: by default five million files in ten chests.

    python benchmarks/catalogue.py [MILLIONS] [CHESTS]

The chests hold different files, which is the worst case: what several have alike is kept once. Each answer is measured in
a process of its own, the way a command runs, and beside it `grep -c` over a list of the same paths.
"""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

WORDS = [
    "tern",
    "dune",
    "ridge",
    "gull",
    "marsh",
    "plover",
    "heath",
    "sand",
    "wave",
    "rope",
    "oar",
    "net",
    "kelp",
    "storm",
    "tide",
    "moor",
    "fen",
    "reed",
]
ASKED = (
    ("marram-0012345",),
    ("*storm*0099*",),
    ("kelp", "ridge", "4242"),
    ("*.notthere",),
    ("--larger", "1999000"),
    ("--since", "2023-05-01", "--until", "2023-05-01"),
)


def rows(count: int, seed: int) -> Iterator[object]:
    from dunechest.ledger.catalogue_rows import Row

    dice = random.Random(seed)
    for number in range(count):
        event = number // 400
        year, word, other = 2000 + event % 24, WORDS[event % 17], WORDS[event % 13]
        folder = f"originals/{year}/{word} {other} {event:05d}"
        name = f"{WORDS[number % 18]}-{seed}-marram-{number:07d}.{'jpg' if number % 3 else 'xmp'}"
        moment = 1_100_000_000 + dice.randrange(650_000_000)
        yield Row(folder, name, dice.randrange(2_000_000), moment, dice.randrange(-(1 << 62), 1 << 62), 1, 0)


def main() -> int:
    total = int(float(sys.argv[1]) * 1_000_000) if len(sys.argv) > 1 else 5_000_000
    chests = int(sys.argv[2]) if len(sys.argv) > 2 else 10
    with tempfile.TemporaryDirectory(prefix="dunechest-catalogue-") as folder:
        os.environ["DUNECHEST_HOME"] = folder
        os.environ["DUNECHEST_DRIVES"] = ""
        from dunechest.ledger import events
        from dunechest.ledger.catalogue import NAME, open_catalogue
        from dunechest.ledger.catalogue_rows import BagKey

        begun = time.monotonic()
        with (Path(folder) / "paths").open("w") as paths:
            for number in range(chests):
                key = BagKey(f"{number:032x}", "survey", f"library {number}", f"survey {number}", "folder", "top", 1)
                made = list(rows(total // chests, number))
                paths.writelines(f"{row.folder}/{row.name}\n" for row in made)  # type: ignore[attr-defined]
                with open_catalogue(write=True) as catalogue:
                    catalogue.put(key, made)  # type: ignore[arg-type]
                events.append("chest", id=f"{number:032x}", label=f"drive {number}", folder=f"/media/{number}")
        spent = time.monotonic() - begun
        size = sum(path.stat().st_size for path in Path(folder).glob(f"{NAME}*"))
        print(f"{total:,} files in {chests} chests: {size / 1e6:,.0f} MB, filled in {spent:.0f} s")
        for asked in ASKED:
            print(f"  {' '.join(asked):40} {_answer(asked)}")
        begun = time.monotonic()
        subprocess.run(
            ["grep", "-c", "marram-0012345", str(Path(folder) / "paths")], capture_output=True, check=False
        )
        print(f"  grep -c over the list of paths           {time.monotonic() - begun:.2f} s")
    return 0


def _answer(asked: tuple[str, ...]) -> str:
    """Ask once, as a command does; return the time of the answer alone, and that of the whole command."""
    code = (
        "import sys, time; from dunechest.jobs.overview.search import SearchOptions, search; from dunechest.words import *;"
        "from dunechest.jobs import known_chests; known_chests.list_chests(); begun = time.monotonic();"
        "words = sys.argv[1:]; options = {};"
        "\nwhile words and words[0].startswith('--'):"
        "\n    name, value = words[0], words[1]; words = words[2:]"
        "\n    if name == '--larger': options['smallest'] = bytes_of(value)"
        "\n    if name == '--since': options['since'] = days_of(value)[0]"
        "\n    if name == '--until': options['before'] = days_of(value)[1]"
        "\nresult = search(words, SearchOptions(**options));"
        "print(f'{time.monotonic() - begun:.2f} s, {len(result.files)} files')"
    )
    done = subprocess.run([sys.executable, "-c", code, *asked], capture_output=True, text=True, check=False)
    return done.stdout.strip() or done.stderr.strip()[-200:]


if __name__ == "__main__":
    sys.exit(main())
