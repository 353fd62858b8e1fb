"""The first bytes of many files, asked for together."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from dunechest.transfer import medium
from dunechest.transfer.beginnings import TOGETHER, beginnings


def test_each_gives_its_own_and_what_cannot_be_read_gives_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    count = 2 * TOGETHER + 3
    for number in range(count):
        (tmp_path / str(number)).write_bytes(b"%d " % number * 9000)
    wanted: list[tuple[str | os.PathLike[str], int]] = [(tmp_path / str(n), n * 100) for n in range(1, count)]
    expected = [(b"%d " % n * 9000)[: n * 100] for n in range(1, count)]
    assert beginnings(wanted) == expected
    assert beginnings([]) == []
    if hasattr(os, "mkfifo"):
        os.mkfifo(tmp_path / "pipe")
    (tmp_path / "folder").mkdir()
    odd = [(tmp_path / name, 10) for name in ("pipe", "folder", "not there", "a\0b", "7")]
    assert beginnings(odd) == [b"", b"", b"", b"", b"7 7 7 7 7 "]

    def refuse(fd: int, length: int = 0) -> None:
        raise OSError(22, "not here")

    monkeypatch.setattr(medium, "expect", refuse)
    assert beginnings(wanted) == expected
