"""Thinning: rules in plain words, and that what stays comes back."""

from __future__ import annotations

import datetime
import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.jobs.editions.doing import carry_out
from dunechest.model.retention_rule import kept_by, parse_rule
from tests.support.editions import archive, back
from tests.support.runs import Command
from tests.support.trees import bag_of, facts

UTC = datetime.UTC

NOW = datetime.datetime(2026, 11, 24, 12, tzinfo=UTC)
DAYS = [NOW - datetime.timedelta(days=days) for days in (800, 500, 400, 90, 70, 65, 20, 10, 3, 0)]
RULES = [
    ("all of the last month", {7, 8, 9, 10}),
    ("the last 3", {8, 9, 10}),
    ("one a year for ever", {2, 3, 10} | {1}),
    ("one a month for a year", {4, 6, 10}),
    ("All of the last two weeks, one a month for 3 months; the last one", {6, 8, 9, 10}),
    ("all of the last 5 years", set(range(1, 11))),
]


@pytest.mark.parametrize(("rule", "kept"), RULES, ids=[r for r, _ in RULES])
def test_rules_in_plain_words(rule: str, kept: set[int]) -> None:
    clauses = parse_rule(rule)
    found = kept_by(clauses, list(enumerate(DAYS, start=1)), NOW)
    if rule.startswith("one a year"):
        kept = {max(n for n, d in enumerate(DAYS, 1) if d.year == year) for year in {d.year for d in DAYS}}
    if rule.startswith("one a month for a year"):
        young = [(n, d) for n, d in enumerate(DAYS, 1) if (NOW - d).days <= 366]
        kept = {max(n for n, d in young if (d.year, d.month) == m) for m in {(d.year, d.month) for _, d in young}}
    if "3 months" in rule:
        young = [(n, d) for n, d in enumerate(DAYS, 1) if (NOW - d).days <= 93]
        kept = {8, 9, 10} | {
            max(n for n, d in young if (d.year, d.month) == m) for m in {(d.year, d.month) for _, d in young}
        }
    assert found == kept


@pytest.mark.parametrize(
    "rule", ["", "some", "all of the last", "one a fortnight for ever", "the last zero", "all of the last 0 days"]
)
def test_rules_that_are_none(rule: str, library: Path, chest: dunechest.Chest, command: Command) -> None:
    archive(library, chest)
    with pytest.raises(dunechest.UsageError, match="Example of a rule"):
        parse_rule(rule)
    if rule:
        assert command("editions", "drop", chest.folder, "shed", "--retain", rule).status == 2


@given(
    st.lists(st.integers(0, 3000), max_size=30), st.integers(1, 40), st.sampled_from(["day", "week", "month", "year"])
)
def test_a_rule_keeps_one_of_each_period(ages: list[int], number: int, unit: str) -> None:
    editions = [(n, NOW - datetime.timedelta(days=age)) for n, age in enumerate(sorted(ages, reverse=True), 1)]
    clauses = parse_rule(f"one a {unit} for {number} {unit}s")
    kept = kept_by(clauses, editions, NOW)
    assert kept <= {n for n, _ in editions}
    everything = kept_by(parse_rule("one a day for ever"), editions, NOW)
    assert len(everything) == len({when.date() for _, when in editions})


def test_dropping_frees_space_and_the_rest_comes_back(
    library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    truth = {}
    for number in range(1, 7):
        (library / "rope.txt").write_text(f"{number} metres\n" * 200)
        (library / f"only in {number}").write_text(str(number) * 100)
        if number > 1:
            (library / f"only in {number - 1}").unlink()
        archive(library, chest)
        truth[number] = facts(library)
    before = sum(p.stat().st_size for p in bag_of(chest, "shed").rglob("*") if p.is_file())
    planned = facts(chest.folder)
    ran = command("editions", "drop", chest.folder, "shed", "--retain", "the last 2", "--plan", "--json")
    assert (ran.library["dropped_editions"], ran.json["done"]) == ([1, 2, 3, 4], False)
    assert facts(chest.folder) == planned
    ran = command("editions", "drop", chest.folder, "shed", "--retain", "the last 2", "--yes", "--json")
    assert ran.json["done"] is True
    after = sum(p.stat().st_size for p in bag_of(chest, "shed").rglob("*") if p.is_file())
    assert before - after == pytest.approx(ran.library["freed_bytes"], abs=9000)
    for number in (5, 6):
        assert back(chest, "shed", number, tmp_path / "back") == truth[number]
    assert [e.edition for e in dunechest.list_editions(chest, "shed").editions] == [5, 6]
    assert dunechest.verify(chest).ok
    (library / "rope.txt").write_text("on it goes")
    assert archive(library, chest).edition == 7
    assert back(chest, "shed", 5, tmp_path / "back") == truth[5]
    assert (
        "Nothing to delete"
        in command("editions", "drop", chest.folder, "shed", "--retain", "all of the last year").out
    )
    assert command("editions", "drop", chest.folder, "shed", "--plan").status == 2


def test_the_ledger_still_knows_a_bag_after_dropping_as_its_own(
    library: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    """A link out of the library is made only if this computer made the bag, and it is unaltered since."""
    (library / "out").symlink_to("/somewhere/else")
    for text in ("a", "b", "c"):
        (library / "rope.txt").write_text(text)
        archive(library, chest)
    carry_out(dunechest.plan_drop(chest, "shed", "the last 1"))
    result = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert os.readlink(tmp_path / "back" / "out") == "/somewhere/else"
    assert result.ok
