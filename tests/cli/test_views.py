"""What people read: the words of each command in good days and bad ones."""

from __future__ import annotations

import os
import re
import select
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest import words
from dunechest.cli.output import limited
from dunechest.findings import Finding, blocking, most_serious_first
from dunechest.names import is_slug, slug
from tests.support.runs import Command
from tests.support.trees import bag_of, flip


@given(st.integers(0, 10**17))
def test_sizes_are_short_and_true(count: int) -> None:
    text = words.size(count)
    assert len(text) <= 13
    value, unit = text.split(" ")
    factor = {"byte": 1, "bytes": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}[unit]
    assert float(value) * factor == pytest.approx(count, rel=0.06)


@given(st.floats(0, 10**7))
def test_durations_are_true(seconds: float) -> None:
    text = words.duration(seconds)
    spans = {"s": 1, "min": 60, "h": 3600}
    total = sum(float(v) * spans[u] for v, u in re.findall(r"([\d.]+) (s|min|h)", text))
    assert abs(total - seconds) <= max(60 if seconds >= 3600 else 1, 0.06)


def test_moments_that_no_clock_knows() -> None:
    assert words.day(0) == "-"
    assert words.day(1e30) == "far off"
    assert words.ago(0, -100) == "just now"
    assert words.number(1, "library", "libraries") == "1 library"


@given(st.text(max_size=80))
def test_every_text_has_a_slug_that_may_be_a_bag(text: str) -> None:
    assert is_slug(slug(text))
    assert slug(slug(text)) == slug(text)


def test_findings_are_sorted_and_only_some_yield() -> None:
    note, warn = Finding("n", "info", "a", "b"), Finding("w", "warning", "a", "b")
    stop, hard = Finding("s", "blocks", "a", "b", can_be_ignored=True), Finding("h", "blocks", "a", "b")
    assert most_serious_first([note, stop, warn, hard]) == (stop, hard, warn, note)
    assert blocking([note, stop, warn, hard], ["s", "h", "w"]) == (hard,)


def test_long_lists_are_cut_and_say_so() -> None:
    assert limited(list(range(30)), verbose=False) == (list(range(20)), 10)
    assert limited(list(range(30)), verbose=True) == (list(range(30)), 0)


def test_the_account_says_what_was_left_out_and_why(library: Path, chest: dunechest.Chest, command: Command) -> None:
    for number in range(25):
        os.mkfifo(library / f"pipe {number:02}")
    ran = command("archive", library, "--to", chest.folder)
    assert "Archived shed to blue/shed: 3 files" in ran.out
    assert "Left out: 25 files, 0 bytes" in ran.out
    assert "pipe 19  0 bytes: a pipe" in ran.out
    assert "pipe 20" not in ran.out
    assert "and 5 more (--verbose shows all)" in ran.out
    ran = command("archive", library, "--to", chest.folder, "--as", "again", "--verbose")
    assert "pipe 24" in ran.out


def test_names_that_change_are_told(tmp_path: Path, chest: dunechest.Chest, command: Command) -> None:
    place = tmp_path / "lib"
    place.mkdir()
    for number in range(7):
        Path(os.fsdecode(os.fsencode(place) + b"/caf\xe9 %d" % number)).write_text("x")
    ran = command("archive", place, "--to", chest.folder)
    assert "7 names cannot be stored" in ran.out
    assert "caf\\xe9 0\n      -> caf_ 0~" in ran.out
    assert "and 2 more" in ran.out


def test_verify_speaks_plainly(library: Path, chest: dunechest.Chest, command: Command) -> None:
    assert "nothing in this chest to verify" in command("verify", chest.folder).out
    command("archive", library, "--to", chest.folder)
    assert "OK: all 3 files and 7 records are intact" in command("verify", chest.folder).out
    flip(bag_of(chest, "shed") / "data" / "library" / "rope.txt")
    ran = command("verify", chest.folder)
    assert re.search(r"PROBLEM  shed  3 files and 7 records, 26\d kB; 9 of 10 intact", ran.out)
    assert "changed: data/library/rope.txt" in ran.out
    assert "PROBLEMS FOUND: 1 problem in shed." in ran.out
    assert "dunechest mend blue --from OTHER" in ran.out


def test_a_cut_off_archive_is_told_everywhere(chest: dunechest.Chest, library: Path, command: Command) -> None:
    (chest.folder / "bags" / "half" / "dune" / "pending" / "payload").mkdir(parents=True)
    assert "interrupted" in command("chest", "show", chest.folder).out
    ran = command("verify", chest.folder)
    assert ran.status == 1, "something is unfinished"
    assert "archive the library again to finish it" in ran.out
    ran = command("restore", chest.folder, "half")
    assert ran.status == 3
    assert "interrupted and is incomplete" in ran.err


def test_a_foreign_bag_in_a_chest_is_told(chest: dunechest.Chest, command: Command, tmp_path: Path) -> None:
    from tests.support.bags import make_bag

    make_bag(chest.folder / "bags" / "theirs", "sha256")
    assert "another program's bag" in command("chest", "show", chest.folder).out
    ran = command("verify", chest.folder)
    assert ran.status == 0
    assert "made by another program" in ran.out
    ran = command("restore", chest.folder, "theirs", "--into", tmp_path / "x")
    assert ran.status == 0
    assert "another program made it" in ran.out
    assert sorted(p.name for p in (tmp_path / "x").rglob("*")) == sorted(
        p.name for p in (chest.folder / "bags" / "theirs" / "data").rglob("*")
    )


def test_restore_plan_says_where_and_what_and_writes_nothing(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    (library / "out").symlink_to("/etc/hostname")
    command("archive", library, "--to", chest.folder)
    ran = command("restore", chest.folder, "shed", "--into", tmp_path / "there", "--plan")
    assert ran.status == 0
    assert f"to {tmp_path / 'there'}" in ran.out
    assert "to restore    3 files" in ran.out
    assert "nothing was changed" in ran.out
    assert not (tmp_path / "there").exists()
    document = command("restore", chest.folder, "shed", "--into", tmp_path / "there", "--plan", "--json").json
    (plan,) = document["libraries"]
    assert (plan["file_count"], document["would_run"], plan["link_count"]) == (3, True, 1)
    ran = command("restore", chest.folder, "shed", "--plan")
    assert "This would be refused: shed cannot be restored like this." in ran.out
    assert command("restore", chest.folder, "shed", "--home", "x", "--into", "y").status == 2


def test_archive_plan_in_words(library: Path, chest: dunechest.Chest, command: Command) -> None:
    ran = command("archive", library, "--to", chest.folder, "--plan")
    assert "shed -> blue/shed: will be archived" in ran.out
    assert "space needed" in ran.out
    command("archive", library, "--to", chest.folder)
    assert "nothing will be done" in command("archive", library, "--to", chest.folder, "--plan").out
    (library / "rope.txt").write_text("cut")
    ran = command("archive", library, "--to", chest.folder, "--plan")
    assert ran.status == 0
    assert "shed -> blue/shed: will get its next edition" in ran.out
    assert "unchanged" in ran.out
    ran = command("archive", library, chest.folder.parent, "--to", chest.folder, "--plan")
    assert ran.status == 3
    assert "This would be refused: drive cannot be archived now." in ran.out


def test_lists_without_anything_in_them_say_what_to_do(command: Command, chest: dunechest.Chest) -> None:
    assert "To make one: dunechest chest new" in command("chest", "list").out
    assert "no library in it" in command("chest", "show", chest.folder).out


def test_kinds_in_words(command: Command) -> None:
    listed = command("kinds", "list").out
    for name in ("glasswort", "tidewrack", "seaholly", "cuttlebone", "folder"):
        assert name in listed
    shown = command("kinds", "show", "cuttlebone").out
    for text in ("Installed games", "descriptors/*.title", "saves and house rules", "launcher.open"):
        assert text in shown


def on_a_terminal(arguments: list[str], done: Callable[[bytes], bool], **environment: str) -> bytes:
    """Run a command on a terminal of its own, and return all it wrote there."""
    import pty

    inner, outer = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "dunechest", *arguments],
        stdin=outer, stdout=outer, stderr=outer, close_fds=True,
        env={**os.environ, "TERM": "xterm-256color", "COLUMNS": "120", **environment},
    )  # fmt: skip
    os.close(outer)
    seen = b""
    begun = time.monotonic()
    while time.monotonic() - begun < 60 and not done(seen):
        if select.select([inner], [], [], 0.1)[0]:
            try:
                data = os.read(inner, 65536)
            except OSError:
                break
            if not data:
                break
            seen += data
    process.wait(timeout=30)
    os.close(inner)
    return seen


@pytest.mark.slow
def test_progress_with_rate_and_time_left_on_a_terminal(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = tmp_path / "big"
    library.mkdir()
    for number in range(6):
        (library / f"{number}").write_bytes(os.urandom(40_000_000))
    seen = on_a_terminal(["archive", str(library), "--to", str(chest.folder)], lambda text: False)
    assert b"copying big" in seen
    assert re.search(rb"of 6 files", seen)
    assert re.search(rb"[\d.]+ MB of 240 MB", seen)
    assert re.search(rb"[\d.]+ MB/s", seen)
    assert b"left" in seen


def test_colour_on_a_terminal_unless_it_is_not_wanted(library: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    words_ = ["verify", str(chest.folder), "--no-progress"]
    assert b"\x1b[" in on_a_terminal(words_, lambda text: False)
    assert b"\x1b[3" not in on_a_terminal(words_, lambda text: False, NO_COLOR="1")
