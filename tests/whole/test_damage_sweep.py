"""A cut of the damage sweep; `make damage` tries all of it."""

from __future__ import annotations

from pathlib import Path

import pytest

from dunechest.jobs.study import drive as study
from dunechest.machine.drives import limits_of, with_limits
from tests.support.harms import HARMS, cases, copied, make, try_harm, try_mending

_CASES = 8


@pytest.mark.slow
@pytest.mark.parametrize("first", range(2))
def test_whatever_is_harmed_nothing_untrue_is_said_with_status_0(
    first: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("HOME", "DUNECHEST_HOME", "DUNECHEST_DRIVES"):
        monkeypatch.setenv(name, "")  # so that they are as before afterwards
    ground = make(tmp_path / "ground")
    every = list(cases(ground))
    assert len(every) > 800
    lies = []
    for path, harm in every[:: len(every) // _CASES][first::2]:
        lies += try_harm(ground, path, harm, tmp_path / "harmed")
    assert lies == []


@pytest.mark.slow
@pytest.mark.parametrize("names", ["the same names", "other names"])
def test_whatever_is_harmed_is_mended_byte_for_byte(
    names: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("HOME", "DUNECHEST_HOME", "DUNECHEST_DRIVES"):
        monkeypatch.setenv(name, "")
    real = study.filesystem
    if names == "other names":
        limits = limits_of("exfat")
        monkeypatch.setattr(
            study, "filesystem", lambda p: with_limits(real(p), limits) if "sand" in str(p) else real(p)
        )
    ground = make(tmp_path / "ground")
    sand = copied(ground)
    every = list(cases(ground))
    first = 0 if names == "the same names" else 7
    lost = []
    for path, harm in every[first :: len(every) // 11]:
        lost += try_mending(ground, sand, path, harm, tmp_path / "harmed")
    assert lost == []


@pytest.mark.slow
def test_the_sweep_would_see_a_lie(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where records are believed unproven, the sweep says so."""
    from dunechest.chest.bag_records import BagRecords

    for name in ("HOME", "DUNECHEST_HOME", "DUNECHEST_DRIVES"):
        monkeypatch.setenv(name, "")
    ground = make(tmp_path / "ground")
    monkeypatch.setattr(BagRecords, "judge", lambda self, *rest: None)
    monkeypatch.setattr(BagRecords, "fault_of", lambda self, path: None)
    path = Path("bags/shed/dune/files.jsonl")
    harm = next(item for item in HARMS if item.name == "flip in the middle")
    assert try_harm(ground, path, harm, tmp_path / "harmed")
