"""Measure `find` and `look` on 300,000 files against `find -type f` and `du`, in the same run, in turn.

    python benchmarks/looking.py             medians of three
    python benchmarks/looking.py --write     also puts the table into docs/performance.md

Timed are: `find` through a folder of 300,000 files in which two libraries lie, `look` at all
of it as a plain folder, and `look` at a photo catalogue of 300,000 files with 100,000 pictures in its database,
each of which is a reference to resolve; then `find` in a home of 300,000 files of open formats, 100,000 of them text, and
`look` at the whole of it, which reads what its texts name (held against `grep -r` too). Once with caches dropped before each command, where that is allowed, once with all warm.
"""

from __future__ import annotations

import argparse
import os
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
from contextlib import closing
from pathlib import Path

from run import ROOT, drop_caches, machine, run_dunechest, timed

FILES = 300_000
AIM = 3


def make_tree(folder: Path) -> None:
    """Make 300,000 small files, and in their midst two libraries."""
    for number in range(FILES // 500):
        place = folder / f"{number // 25:02d}" / f"folder {number:04d}"
        place.mkdir(parents=True)
        for inner in range(500):
            (place / f"file {inner:03d}.dat").write_bytes(b"x" * (inner % 50))
    for number in (3, 17):
        library = folder / f"{number:02d}" / f"papers {number}"
        (library / "papers.files").mkdir(parents=True)
        (library / "papers.bib").write_text("% Seaholly references\n")


def make_catalogue(library: Path) -> None:
    """Make a photo catalogue: 100,000 pictures, each with a sidecar and a preview."""
    (library / "originals").mkdir(parents=True)
    with closing(sqlite3.connect(library / "catalogue.glw")) as catalogue:
        catalogue.executescript(
            "CREATE TABLE folder (id INTEGER PRIMARY KEY, path TEXT); CREATE TABLE album (id INTEGER PRIMARY KEY, title TEXT);"
            "CREATE TABLE picture (id INTEGER PRIMARY KEY, folder INTEGER, name TEXT);"
            "CREATE TABLE album_picture (album INTEGER, picture INTEGER);"
            "INSERT INTO album VALUES (1, 'Terns'), (2, 'Storm');"
        )
        for number in range(FILES // 3):
            place = library / "originals" / f"{number // 500:04d}"
            previews = library / "previews" / f"{number // 500:04d}"
            if number % 500 == 0:
                place.mkdir()
                previews.mkdir(parents=True)
                catalogue.execute("INSERT INTO folder VALUES (?, ?)", (number // 500, str(place)))
            (place / f"{number:06d}.jpg").write_bytes(b"\xff\xd8")
            (place / f"{number:06d}.xmp").write_bytes(b"<x/>")
            (previews / f"{number:06d}.jpg").write_bytes(b"\xff\xd8")
            catalogue.execute("INSERT INTO picture VALUES (?, ?, ?)", (number, number // 500, f"{number:06d}.jpg"))
            if number % 100 == 0:
                catalogue.execute("INSERT INTO album_picture VALUES (?, ?)", (1 + number % 200 // 100, number))
        catalogue.commit()


def make_home(home: Path) -> None:
    """Make a home of 300,000 files: notes, data, drawings and documents that name one another, pictures, music, mail."""
    texts = (
        ("Documents/Notes", "md", 60_000, "# Day {n}\n\nSee [[day {m}]] and [a picture](../../Pictures/2020/{k:06d}.jpg).\n" + "Wind. " * 80),
        ("Documents/Data", "json", 20_000, '{{"file": "/home/tern/Pictures/{k:06d}.jpg", "number": {n}}}\n' + " " * 400),
        ("Documents/Drawings", "svg", 5_000, '<svg xmlns="http://www.w3.org/2000/svg"><image href="{k:06d}.png"/></svg>\n'),
        ("Documents/Thesis", "tex", 5_000, "\\section{{Chapter {n}}}\n\\includegraphics{{figure{k}}}\n" + "Terns. " * 90),
        ("Projects/accounts", "txt", 10_000, "2026-01-01 opening {n}\n" + "  assets  {n}\n" * 20),
    )  # fmt: skip
    for folder, ending, count, text in texts:
        for number in range(count):
            place = home / folder / f"{number // 1000:03d}"
            if number % 1000 == 0:
                place.mkdir(parents=True)
            content = text.format(n=number, m=number + 1, k=number % 150_000)
            (place / f"day {number}.{ending}").write_text(content, encoding="utf-8")
    (home / "Documents/Thesis/thesis.tex").write_text("\\documentclass{book}\n", encoding="utf-8")
    others = (
        ("Pictures", "jpg", FILES // 2, b"\xff\xd8\xff" + bytes(40)),
        ("Music", "flac", FILES // 10, b"fLaC" + bytes(40)),
        ("Mail/cur", "marram", FILES // 15, b"Subject: terns\n\nkree-ar\n"),
    )
    for folder, ending, count, content in others:
        for number in range(count):
            place = home / folder if folder == "Mail/cur" else home / folder / f"{2000 + number // 2000}"
            if not place.is_dir():
                place.mkdir(parents=True)
            (place / f"{number:06d}.{ending}").write_bytes(content)
    for name in ("new", "tmp"):
        (home / "Mail" / name).mkdir()


def measure(rounds: int, work: Path) -> tuple[list[str], bool]:
    """Measure all; return lines of the table, and whether caches could be dropped."""
    tree, library, state = work / "tree", work / "Pictures" / "Dune Survey", work / "state"
    make_tree(tree)
    make_catalogue(library)
    home = work / "tern"
    make_home(home)
    os.sync()
    plain = {
        "tree": ("find . -type f | wc -l", "du -s ."),
        "library": ("find . -type f | wc -l", "du -s ."),
        "home": ("find . -type f | wc -l", "du -s ."),
        "texts": ("find . -type f | wc -l", "grep -rlF -e /home/ -e '](' -e '[[' . | wc -l"),
    }
    folders = {"tree": tree, "library": library, "home": home, "texts": home}
    jobs = {
        "`find` in 300,000 files": (["find", str(tree)], "tree"),
        "`look` at them as a plain folder": (["look", str(tree)], "tree"),
        "`look` at a catalogue of 300,000 files, 100,000 references": (["look", str(library)], "library"),
        "`find` in a home of 300,000 files of open formats": (["find", str(home)], "home"),
        "`look` at that home, 100,000 of them text (second: `grep -rl`)": (["look", str(home)], "texts"),
    }
    lines = []
    could = drop_caches()
    for title, (words, where) in jobs.items():
        folder = folders[where]
        for cold in (True, False):
            taken: dict[str, list[float]] = {"ours": [], "find": [], "du": []}
            for _ in range(rounds):
                for name, command in zip(("find", "du"), plain[where], strict=True):
                    if cold:
                        drop_caches()
                    taken[name].append(timed(command, folder).seconds)
                if cold:
                    drop_caches()
                taken["ours"].append(run_dunechest(words, state).seconds)
            memory = run_dunechest(words, state, watched=True).memory
            ours, find, du = (statistics.median(taken[name]) for name in ("ours", "find", "du"))
            lines.append(
                f"| {title} | {'cold' if cold else 'warm'} | {ours:.2f} s | {find:.2f} s | {du:.2f} s | "
                f"{ours / find:.1f} | {ours / du:.1f} | {memory / 1e6:.0f} MB |"
            )
            print(lines[-1], file=sys.stderr, flush=True)
    return lines, could


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--work", type=Path, default=None, help="where to work; a temporary folder by default")
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    words = parser.parse_args()
    work = words.work or Path(tempfile.mkdtemp(prefix="dunechest-bench-"))
    try:
        lines, could = measure(words.rounds, work)
    finally:
        subprocess.run(["rm", "-rf", str(work)], check=False) if shutil.which("rm") else shutil.rmtree(work)
    text = "\n".join(
        [
            f"| job | caches | Dune Chest | `find -type f` | `du` | ratio to `find` (aim {AIM}) | ratio to `du` | peak memory (aim 300 MB) |",
            "|---|---|---|---|---|---|---|---|",
            *lines,
            "",
            f"Made by `python benchmarks/looking.py --rounds {words.rounds}` on {machine()}; "
            f"caches {'dropped before each cold command' if could else 'could not be dropped'}.",
        ]
    )
    print(text)
    if words.write:
        page = ROOT / "docs" / "performance.md"
        before, _, rest = page.read_text(encoding="utf-8").partition("<!-- looking -->")
        _, _, after = rest.partition("<!-- end of looking -->")
        page.write_text(f"{before}<!-- looking -->\n{text}\n<!-- end of looking -->{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
