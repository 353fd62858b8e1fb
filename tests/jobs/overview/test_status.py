"""How well libraries are protected, from what this computer has seen: against a plain model, and by real archives."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import dunechest
from dunechest import clock
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.gather import gather
from tests.support.open_libraries import bibliography
from tests.support.runs import Command
from tests.support.trees import bag_of, flip

DAY = 86_400.0


@pytest.fixture
def drives(drive: Path, monkeypatch: pytest.MonkeyPatch, command: Command) -> dict[str, Path]:
    """Two drives with a chest on each."""
    places = {"blue": drive, "sand": drive.parent / "sand"}
    places["sand"].mkdir()
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, places.values())))
    for label, place in places.items():
        assert command("chest", "new", place, "--label", label).status == 0
    return places


def states(command: Command) -> dict[str, dict[str, str]]:
    document = command("status", "--json").json
    return {item["name"]: {copy["label"]: copy["state"] for copy in item["copies"]} for item in document["libraries"]}


def test_a_library_becomes_safe_and_is_no_longer(library: Path, drives: dict[str, Path], command: Command) -> None:
    ran = command("status")
    assert (ran.status, "Nothing is known yet" in ran.out) == (0, True)
    command("archive", library, "--to", "blue")
    ran = command("status")
    assert (ran.status, "NOT SAFE: 1 of 1 library not protected." in ran.out) == (1, True)
    assert f"-> dunechest archive {library} --to sand" in ran.out
    command("archive", library, "--to", "sand")
    ran = command("status")
    assert (ran.status, ran.out.split("\n")[0]) == (0, "SAFE: The only library is protected.")
    for place in drives.values():
        place.rename(f"{place} away")
    assert command("status").status == 0, "no drive need be connected"
    for place in drives.values():
        Path(f"{place} away").rename(place)
    (library / "rope.txt").write_text("cut")
    command("archive", library, "--to", "blue")
    assert states(command) == {"shed": {"blue": "safe", "sand": "behind"}}
    command("archive", library, "--to", "sand")
    assert states(command) == {"shed": {"blue": "safe", "sand": "safe"}}
    flip(bag_of(dunechest.Chest.open(drives["sand"]), "shed") / "data" / "library" / "rope.txt")
    assert command("status").status == 0, "what is on a drive is not read"
    command("verify", "sand")
    ran = command("status")
    assert (ran.status, "shed on sand is damaged." in ran.out, "DAMAGED" in ran.out) == (1, True, True)
    command("verify", "sand", "--quick")
    assert states(command)["shed"]["sand"] == "damaged", "a quick check cannot take that back"
    shutil.rmtree(drives["blue"] / "dune-chest" / "bags" / "shed")
    command("verify", "blue")
    assert states(command)["shed"] == {"blue": "missing", "sand": "damaged"}
    command("chest", "forget", "blue", "shed")
    assert states(command)["shed"] == {"sand": "damaged"}


def test_two_libraries_of_one_name_are_two(tmp_path: Path, drives: dict[str, Path], command: Command) -> None:
    for label in drives:
        place = tmp_path / f"{label} home" / "notes"
        place.mkdir(parents=True)
        (place / "a.txt").write_text(f"of {label}")
        command("archive", place, "--to", label)
    document = command("status", "--json").json
    assert [(item["name"], item["good_copy_count"], item["safe"]) for item in document["libraries"]] == [
        ("notes", 1, False),
        ("notes", 1, False),
    ]


def test_two_chests_on_one_drive_are_one_copy(
    library: Path, drive: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DUNECHEST_DRIVES", str(drive))
    for label in ("blue", "sand"):
        (drive / label).mkdir()
        command("chest", "new", drive / label, "--label", label)
        command("archive", library, "--to", drive / label)
    item = command("status", "--json").library
    assert (item["good_copy_count"], item["safe"], len(item["copies"])) == (1, False, 2)
    file = state_folder() / "settings.toml"
    file.write_text("[protection]\ncopies = 2\ndrives = 1\n")
    item = command("status", "--json").library
    assert (item["good_copy_count"], item["safe"], item["wanted_drive_count"]) == (2, True, 1)
    file.write_text("[protection]\ncopies = 3\ndrives = 2\n")
    item = command("status", "--json").library
    assert (item["good_copy_count"], item["safe"], item["wanted_drive_count"]) == (2, False, 2)


def test_what_was_found_and_never_archived_is_in_it(
    library: Path, tmp_path: Path, drives: dict[str, Path], command: Command
) -> None:
    place = tmp_path / "home" / "papers"
    place.mkdir(parents=True, exist_ok=True)
    bibliography(place)
    command("find", tmp_path / "home")
    ran = command("status")
    assert (ran.status, "NEVER ARCHIVED" in ran.out) == (1, True)


def test_rules_of_the_settings(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    for label in drives:
        command("archive", library, "--to", label)
    file = state_folder() / "settings.toml"
    file.write_text("[protection]\ndays = 30\n[protection.libraries.shed]\nplaces = 2\n")
    ran = command("status")
    assert (ran.status, "kept in too few places" in ran.out) == (1, True)
    command("chest", "place", "sand", "with grandmother")
    assert command("status").status == 0
    now = clock.now()
    monkeypatch.setattr(clock, "now", lambda: now + 31 * DAY)
    ran = command("status")
    assert (ran.status, "-> dunechest verify blue" in ran.out) == (1, True)
    assert states(command)["shed"] == {"blue": "unchecked", "sand": "unchecked"}
    for label in drives:
        command("verify", label)
    assert command("status").status == 0
    file.write_text("[protection.libraries.shed]\ndrill_days = 10\n")
    ran = command("status")
    assert (ran.status, "-> dunechest drill blue shed" in ran.out) == (1, True)
    command("drill", "sand")
    assert command("status").status == 0
    monkeypatch.setattr(clock, "now", lambda: now + 42 * DAY)
    assert command("status").status == 1, "that drill was too long ago"
    command("chest", "retire", "sand")
    assert states(command)["shed"] == {"blue": "safe"}
    for text, words in (
        ("[protection]\ncopies = 0\n", "whole number"),
        ("[protection]\ncopie = 2\n", "no such key"),
        ("protection = 3\n", "must be a table"),
        ("[protection\n", "cannot be read"),
    ):
        file.write_text(text)
        ran = command("status")
        assert (ran.status, words in ran.err) == (2, True), text


def test_a_chest_from_another_computer_is_met(
    library: Path, drives: dict[str, Path], tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    for label in drives:
        command("archive", library, "--to", label)
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "another computer"))
    command("chest", "show", drives["blue"])
    ran = command("status")
    assert (ran.status, "-> dunechest verify blue" in ran.out, "archive it again" in ran.out) == (1, True, False)
    assert command("verify", "blue").status == 0
    assert "-> dunechest verify sand" in command("status").out, "the log of the drive tells of it"
    item = command("status", "--json").library
    assert (item["safe"], item["on_this_computer"], item["good_copy_count"]) == (False, True, 1)
    # What another computer read is its own knowledge; what is checked here counts.
    assert command("verify", "sand").status == 0
    item = command("status", "--json").library
    assert (item["safe"], item["on_this_computer"], item["good_copy_count"]) == (True, True, 2)


LIBRARIES, CHESTS = ("papers", "notes"), ("c1" * 16, "c2" * 16, "c3" * 16)
ACTS = st.one_of(
    st.tuples(st.just("archive"), st.sampled_from(LIBRARIES), st.sampled_from(CHESTS), st.integers(1, 3)),
    st.tuples(st.just("check"), st.sampled_from(LIBRARIES), st.sampled_from(CHESTS), st.booleans()),
    st.tuples(st.just("drill"), st.sampled_from(LIBRARIES), st.sampled_from(CHESTS), st.booleans()),
    st.tuples(st.just("gone"), st.sampled_from(LIBRARIES), st.sampled_from(CHESTS), st.none()),
    st.tuples(st.just("retire"), st.none(), st.sampled_from(CHESTS), st.booleans()),
    st.tuples(st.just("days"), st.none(), st.none(), st.integers(1, 60)),
)


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=15)
@given(acts=st.lists(ACTS, max_size=14))
def test_it_agrees_with_a_plain_model(
    acts: list[tuple[str, str, str, object]], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A model knows of each library and chest its state, when it was archived and last checked, and what failed since.

    An archive takes back nothing that failed.
    """
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setenv("DUNECHEST_HOME", folder)
        now = [1_800_000_000.0]
        patch.setattr(clock, "now", lambda: now[0])
        model: dict[tuple[str, str], dict[str, object]] = {}
        retired: set[str] = set()
        for number, chest in enumerate(CHESTS):
            events.append("chest", id=chest, label=f"drive {number}", folder=f"/nowhere/{number}")
        for what, library, chest, value in acts:
            now[0] += 60.0
            key = (library, chest)
            if what == "archive":
                facts = {
                    "name": library,
                    "machine": "m",
                    "origin": f"/home/{library}",
                    "edition": 1,
                    "archived": now[0],
                }
                facts |= {
                    "fingerprint": f"{library}{value}",
                    "drive": chest,
                    "gone": False,
                    "kind": "",
                    "computer": "",
                }
                events.append(
                    "hold",
                    chest=chest,
                    bag=library,
                    files=1,
                    bytes=1,
                    partial=False,
                    incomplete=False,
                    where="",
                    **facts,
                )
                before = model.get(key, {"bad": False, "undrilled": False, "checked": now[0]})
                edition = 2 if key in model else 1
                events.append(
                    "archive", chest=chest, bag=library, origin="", edition=edition, files=1, bytes=1, top=f"{now[0]}"
                )
                model[key] = before | {"state": value, "archived": now[0], "gone": False}
            elif what == "check" and key in model and not model[key]["gone"]:
                events.append("check", chest=chest, bag=library, quick=False, intact=value, files=1, wrong=0)
                model[key] |= {"bad": not value} | ({"checked": now[0], "undrilled": False} if value else {})
            elif what == "drill" and key in model and not model[key]["gone"]:
                events.append("drill", chest=chest, bag=library, edition=1, passed=value, files=1, top="t")
                model[key]["undrilled"] = not value  # one that passes later shows that the copy is whole after all
            elif what == "gone" and key in model:
                events.append("hold", chest=chest, bag=library, gone=True)
                model[key]["gone"] = True
            elif what == "retire":
                events.append("retire", chest=chest, retired=value)
                (retired.add if value else retired.discard)(chest)
            elif what == "days":
                now[0] += float(value) * DAY  # type: ignore[arg-type]
        wanted = {}
        for library in LIBRARIES:
            copies = {
                chest: told for (name, chest), told in model.items() if name == library and chest not in retired
            }
            if not copies:
                continue
            newest = max(copies.values(), key=lambda told: told["archived"])  # type: ignore[arg-type, return-value]
            wanted[library] = sum(
                not (told["gone"] or told["bad"] or told["undrilled"]) and told["state"] == newest["state"]
                and now[0] - told["checked"] <= 90 * DAY  # type: ignore[operator]
                for told in copies.values()
            )  # fmt: skip
        told = {item.name: item.good_copy_count for item in dunechest.status(everyone=True).libraries}
        assert told == wanted


def test_a_ledger_that_lacks_something_and_a_torn_one_say_so(
    library: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", library, "--to", "blue")
    gather(state_folder())
    ledger = state_folder() / "ledger.sqlite"
    with sqlite3.connect(ledger) as connection:
        connection.execute("DELETE FROM latest WHERE what = 'hold'")
        connection.execute("UPDATE latest SET facts = '{torn' WHERE what = 'archive'")
    connection.close()
    ran = command("status")
    assert ran.status in (0, 1), "what a chest holds is learnt again when it is met"
    command("chest", "show", "blue")
    assert states(command) == {"shed": {"blue": "safe"}}, "the log of the chest told it again"
    ledger.write_bytes(b"not a database, though long enough to be taken for one" * 40)
    ran = command("status")
    assert ran.status == 1 and "own record is damaged" in ran.out


@pytest.mark.parametrize("seen_by", ["show", "mend", "verify", "restore", "archive", "copy from", "copy to"])
@pytest.mark.parametrize("what", ["record", "list", "fifo", "link"])
def test_damage_that_any_command_saw_is_known(
    seen_by: str, what: str, library: Path, drives: dict[str, Path], command: Command, tmp_path: Path
) -> None:
    command("archive", library, "--to", "blue", "--to", "sand")
    assert command("status").status == 0
    bag = bag_of(dunechest.Chest.open(drives["blue"]), "shed")
    if what == "list" and seen_by in ("show", "restore"):
        pytest.skip("they do not read the list of files")
    if what in ("record", "list"):
        flip(bag / "dune" / ("library.json" if what == "record" else "files.jsonl"))
    else:
        bag.rename(tmp_path / "elsewhere")
        os.mkfifo(bag) if what == "fifo" else bag.symlink_to(tmp_path / "elsewhere")
    words = {
        "show": ("chest", "show", "blue"),
        "mend": ("mend", "blue", "--from", tmp_path / "none"),
        "verify": ("verify", "blue", "--quick"),
        "restore": ("restore", "blue"),
        "archive": ("archive", library, "--to", "blue"),
        "copy from": ("copy", "blue", tmp_path / "none"),
        "copy to": ("copy", "sand", "blue", "shed"),
    }[seen_by]
    if seen_by == "archive":
        (library / "rope.txt").write_text("cut")
    if seen_by in ("mend", "copy from"):
        (tmp_path / "none").mkdir()
        dunechest.Chest.create(tmp_path / "none", "none")
    command(*words)
    ran = command("status")
    assert (ran.status, "shed on blue is damaged" in ran.out) == (1, True), ran.out


@pytest.mark.parametrize("met_by", ["restore", "copy", "drill", "mend"])
def test_damage_that_any_job_met_is_known(
    met_by: str, library: Path, drives: dict[str, Path], command: Command, tmp_path: Path
) -> None:
    command("archive", library, "--to", "blue", "--to", "sand")
    bag = bag_of(dunechest.Chest.open(drives["blue"]), "shed")
    (tmp_path / "other").mkdir()
    dunechest.Chest.create(tmp_path / "other", "other")
    flip(bag / "data" / "library" / "rope.txt")
    (bag / "data" / "library" / "rafters" / "oar.txt").unlink()
    words = {
        "restore": ("restore", "blue", "shed", "--into", tmp_path / "back"),
        "copy": ("copy", "blue", tmp_path / "other"),
        "drill": ("drill", "blue", "shed"),
        "mend": ("mend", "blue", "--from", tmp_path / "other"),
    }[met_by]
    assert command(*words).status in ((0, 1) if met_by == "copy" else (1,))
    shutil.rmtree(tmp_path / "other")
    assert states(command)["shed"]["blue"] == "damaged"
    command("mend", "blue", "--from", "sand")
    assert states(command)["shed"]["blue"] == "safe"


def test_what_could_not_be_written_down_is_said(library: Path, drives: dict[str, Path], command: Command) -> None:
    command("archive", library, "--to", "blue")
    notes = state_folder() / "notes"
    shutil.rmtree(notes)
    notes.write_text("in the way")
    (library / "rope.txt").write_text("cut")
    ran = command("archive", library, "--to", drives["blue"])
    assert (ran.status, ran.out.count("not-remembered"), "The job itself is done" in ran.out) == (0, 1, True)
    found = command("verify", drives["blue"], "--json").json["findings"]
    assert [item["code"] for item in found] == ["not-remembered"]
    notes.unlink()
    assert "not-remembered" not in command("verify", "blue").out


def _spoil(drives: dict[str, Path], name: str = "oar.txt") -> None:
    flip(bag_of(dunechest.Chest.open(drives["blue"] / "dune-chest"), "shed") / "data" / "library" / "rafters" / name)


def test_damage_is_known_until_every_byte_was_found_right(
    library: Path, drives: dict[str, Path], command: Command
) -> None:
    """No later archive takes it back, nor a copy of a next edition, a moved chest folder, a new id."""
    for label in drives:
        command("archive", library, "--to", label)
    assert command("status").status == 0
    _spoil(drives)
    assert command("verify", "blue").status == 1
    (library / "new.txt").write_text("one small file")
    for label in drives:
        assert command("archive", library, "--to", label).status == 0
    assert states(command)["shed"] == {"blue": "damaged", "sand": "safe"}
    (library / "more.txt").write_text("and another")
    command("archive", library, "--to", "sand")
    assert command("copy", "sand", "blue", "shed").status == 0
    assert states(command)["shed"]["blue"] == "damaged"
    (drives["blue"] / "elsewhere").mkdir()
    (drives["blue"] / "dune-chest").rename(drives["blue"] / "elsewhere" / "dune-chest")
    command("chest", "show", drives["blue"] / "elsewhere" / "dune-chest")
    assert states(command)["shed"]["blue"] == "damaged"
    (drives["blue"] / "elsewhere" / "dune-chest").rename(drives["blue"] / "dune-chest")
    assert command("chest", "new-id", drives["blue"] / "dune-chest", "--yes").status == 0
    place = drives["blue"] / "dune-chest"
    command("chest", "show", place)

    def state() -> str:
        (item,) = command("status", "--json").json["libraries"]
        return next(copy["state"] for copy in item["copies"] if copy["chest_id"] == dunechest.Chest.open(place).id)

    assert state() == "damaged"
    assert command("mend", place, "shed").status == 0
    assert state() == "safe"


@pytest.mark.parametrize("ahead", [400 * DAY, 8 * 366 * DAY, -25 * 366 * DAY])
def test_damage_that_was_found_after_a_night_with_a_wrong_clock_is_known(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch, ahead: float
) -> None:
    now = clock.now()
    for label in drives:
        command("archive", library, "--to", label)
    with monkeypatch.context() as wrong:
        wrong.setattr(clock, "now", lambda: now + ahead)
        assert command("verify", "blue").status == 0
        assert command("drill", "blue", "shed").status == 0
    _spoil(drives)
    assert command("drill", "blue", "shed").status == 1
    assert states(command)["shed"]["blue"] == "damaged"
    assert command("mend", "blue", "shed").status == 0
    assert states(command)["shed"]["blue"] == "safe"
    _spoil(drives)
    assert command("verify", "blue").status == 1
    assert states(command)["shed"]["blue"] == "damaged"
    assert command("status").status == 1


def test_a_copy_that_was_removed_and_made_anew_is_none_of_what_was_damaged(
    library: Path, drives: dict[str, Path], command: Command
) -> None:
    command("archive", library, "--to", "blue")
    _spoil(drives)
    assert command("verify", "blue").status == 1
    shutil.rmtree(drives["blue"] / "dune-chest" / "bags" / "shed")
    assert command("verify", "blue").status == 1
    assert command("archive", library, "--to", "blue").status == 0
    assert states(command)["shed"] == {"blue": "safe"}


def test_a_copy_is_as_proven_as_its_oldest_file(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A small edition every three months reads nothing of what lay there before."""
    begun = clock.now()
    command("archive", library, "--to", "blue")
    assert command("copy", "blue", "sand").status == 0
    for quarter in range(1, 5):
        monkeypatch.setattr(clock, "now", lambda days=quarter * 80: begun + days * DAY)
        (library / f"quarter {quarter}.txt").write_text("one more")
        assert command("archive", library, "--to", "blue", "--to", "sand").status == 0
        if quarter == 1:
            assert states(command)["shed"] == {"blue": "safe", "sand": "safe"}
    assert states(command)["shed"] == {"blue": "unchecked", "sand": "unchecked"}
    assert command("verify", "blue").status == 0
    assert states(command)["shed"] == {"blue": "safe", "sand": "unchecked"}


@pytest.mark.parametrize("off", [365 * DAY, 8 * 366 * DAY, -25 * 366 * DAY])
def test_ages_do_not_believe_a_clock_that_was_wrong_for_a_night(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch, off: float
) -> None:
    begun = clock.now()
    for label in drives:
        command("archive", library, "--to", label)
    with monkeypatch.context() as wrong:
        wrong.setattr(clock, "now", lambda: begun + off)
        for label in drives:
            assert command("verify", label).status == 0
    assert states(command)["shed"] == {"blue": "safe", "sand": "safe"}
    assert "days ago" not in command("chest", "list").out and "in the future" not in command("chest", "list").out
    monkeypatch.setattr(clock, "now", lambda: begun + 100 * DAY)
    assert states(command)["shed"] == {"blue": "unchecked", "sand": "unchecked"}
    assert command("verify", "blue").status == 0
    assert states(command)["shed"] == {"blue": "safe", "sand": "unchecked"}


def test_a_clock_that_went_back_is_said_until_something_is_noted(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = clock.now()
    monkeypatch.setattr(clock, "now", lambda: real + 3000 * DAY)
    command("archive", library, "--to", "blue", "--to", "sand")
    monkeypatch.setattr(clock, "now", lambda: real)
    ran = command("status")
    assert ran.status == 1 and "Set the clock if it is wrong" in ran.out, "of a check that is to come no age is known"
    assert command("verify", "blue").status == command("verify", "sand").status == 0
    ran = command("status")
    assert ran.status == 0 and "clock" not in ran.out


def test_an_interrupted_next_edition_leaves_its_copies_behind(
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("archive", library, "--to", "blue", "--to", "sand")
    (library / "new.txt").write_text("a knot")

    def cut_off(*_: object, **__: object) -> None:
        raise dunechest.CutOffError("The drive is gone.")

    with monkeypatch.context() as patch:
        patch.setattr("dunechest.jobs.archive.doing.archiving.copy", cut_off)
        assert command("archive", library, "--to", "blue").status == 4
    assert states(command) == {"shed": {"blue": "behind", "sand": "behind"}}
    assert command("chest", "show", "blue").status == 0
    assert states(command) == {"shed": {"blue": "behind", "sand": "behind"}}, "a look changes nothing"
    command("archive", library, "--to", "blue")
    assert states(command) == {"shed": {"blue": "safe", "sand": "behind"}}
    (library / "newer.txt").write_text("another knot")
    with monkeypatch.context() as patch:
        patch.setattr("dunechest.jobs.archive.doing.archiving.copy", cut_off)
        assert command("archive", library, "--to", "blue").status == 4
    (library / "newer.txt").unlink()
    command("archive", library, "--to", "blue")
    assert states(command) == {"shed": {"blue": "safe", "sand": "behind"}}, "it is as it was"
