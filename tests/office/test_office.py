"""An office on a real server: what its computers tell it, and what each is told of all."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

import dunechest
from dunechest import clock
from dunechest.jobs.office.exchange import send_if_due
from dunechest.ledger import events
from dunechest.ledger.ledger import open_ledger
from tests.support.offices import OfficeOf, archive_one, drives, office_of
from tests.support.postgres import Server, server
from tests.support.runs import Command
from tests.support.trees import flip

LIST = [{"name": "notes", "computer": "office-pc"}]


@pytest.fixture
def office(office_server: Server, tmp_path: Path) -> OfficeOf:
    return office_of(office_server, tmp_path)


def test_each_computer_sees_what_all_know(office: OfficeOf, command: Command) -> None:
    archive_one(office, "office-pc", "blue", {"tide.txt": "high", "far/Ebb.md": "low"})
    archive_one(office, "new-laptop", "sand", {"songs.txt": "whistle"}, "songs")
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    with office.at("new-laptop"), drives(office.top / "drives" / "sand"):
        told = dunechest.status(office=True)
        assert {(item.name, item.computer, item.on_this_computer) for item in told.libraries} == {
            ("notes", "office-pc", False),
            ("songs", "new-laptop", True),
        }
        assert {(chest.label, chest.connected, chest.last_seen_by) for chest in told.chests} == {
            ("blue", False, "office-pc"),
            ("sand", True, "new-laptop"),
        }
        only = dunechest.status(computer="office-pc")
        assert [item.name for item in only.libraries] == ["notes"] and [c.label for c in only.chests] == ["blue"]
        assert [item.name for item in dunechest.status().libraries] == ["songs"], "by itself it knows what it saw"
        found = dunechest.search("ebb", office=True)
        assert [(file.library, file.path, file.copies[0].last_seen_by) for file in found.files] == [
            ("notes", "far/Ebb.md", "office-pc")
        ]
        assert not dunechest.search("ebb").files and not dunechest.search("ebb", computer="new-laptop").files
        assert not dunechest.search("ebb", office=True, options=dunechest.SearchOptions(library="songs")).files
        report = dunechest.overview(office=True)
        assert {item.name for item in report.histories} == {"notes", "songs"}
        assert {drive.label: drive.free_bytes is not None for drive in report.drives} == {"blue": True, "sand": True}
        shown = dunechest.offices.show_office()
        assert {(item.name, item.this_computer, item.chest_count) for item in shown.computers} == {
            ("office-pc", False, 1),
            ("new-laptop", True, 1),
        }
        ran = command("status", "--office", "--json")
        assert (ran.status, json.loads(ran.out)["office"]["computer_count"]) == (1, 2)
        assert "last seen just now by office-pc" in command("status", "--office").out
        assert command("status", "--computer", "offic-pc").status == 2


def test_what_is_archived_is_told_by_itself_and_what_was_seen_last_is_right(
    office: OfficeOf, command: Command
) -> None:
    archive_one(office, "office-pc", "blue", {"tide.txt": "high"})
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    blue = office.top / "drives" / "blue"
    with office.at("office-pc") as home, drives(blue):
        (home / "home" / "notes" / "new.txt").write_text("spring tide")
        assert command("archive", home / "home" / "notes", "--to", "blue").status == 0
    with office.at("new-laptop"):
        (found,) = dunechest.search("new.txt", office=True).files
        assert found.copies[0].last_edition == 2
        assert dunechest.status(office=True).libraries[0].copies[0].edition == 2
        with drives(blue):  # the drive is carried over; the library is gone from it
            shutil.rmtree(blue / "dune-chest" / "bags" / "notes")
            events.append("hold", chest=dunechest.list_chests().chests[0].id, bag="notes", gone=True)
            assert command("chest", "list").status == 0
    with office.at("office-pc"):
        told = dunechest.status(office=True)
        assert [copy.state for copy in told.libraries[0].copies] == ["missing"]
        assert not dunechest.search("new.txt", office=True).files, "a copy that is gone is not offered"
        assert dunechest.status().libraries[0].copies[0].state == "missing", "the folder is there to be looked into"


def test_a_library_that_was_found_and_is_gone_is_not_asked_for(office: OfficeOf, command: Command) -> None:
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    with office.at("office-pc") as home:
        place = home / "home" / "papers"
        place.mkdir()
        (place / "papers.bib").write_text("@article{a, title={Dunes}}\n" * 20)
        events.append("seen", place=str(place), name="papers", kind="folder", gone=False)
        assert send_if_due() == ""
    with office.at("new-laptop"):
        told = dunechest.status(office=True)
        assert [(item.name, item.computer) for item in told.unprotected_libraries] == [("papers", "office-pc")]
        archive_one(office, "new-laptop", "sand", {"a": "b"})
        assert "On office-pc, papers was never archived. Archive it there." in command("status", "--office").out
    place.rename(place.with_name("elsewhere"))
    with office.at("office-pc"):
        dunechest.offices.send_to_office()
        assert not dunechest.status(office=True).unprotected_libraries
    place.with_name("elsewhere").rename(place)
    with office.at("office-pc"):
        dunechest.offices.send_to_office()
    with office.at("new-laptop"):
        assert [item.name for item in dunechest.status(office=True).unprotected_libraries] == ["papers"]


def test_a_library_on_the_drive_that_it_was_moved_to_has_no_copy_there_for_others_either(office: OfficeOf) -> None:
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    with office.at("office-pc"):
        machine = _own_id()
        events.append(
            "rehome", old="/home/tern/ropes", id="m1", name="ropes", kind="folder", place="/media/sand/ropes",
            below="ropes", drive="sand", way="link", identity="drive-1", back=False, move="m1", before="",
        )  # fmt: skip
        events.append("chest", id="c1", label="sand", folder="/media/sand/dune-chest")
        events.append(
            "hold", chest="c1", bag="ropes", name="ropes", kind="folder", machine=machine, computer="office-pc",
            origin="/media/sand/ropes", edition=1, archived=clock.now(), files=1, bytes=1, fingerprint="f", partial=False,
            incomplete=False, where="", drive="drive-1", gone=False,
        )  # fmt: skip
        dunechest.offices.send_to_office()
        assert [item.good_copy_count for item in dunechest.status(office=True).libraries] == [0]
    with office.at("new-laptop"):
        (library,) = dunechest.status(office=True).libraries
        assert (library.good_copy_count, library.moved is not None and library.moved.message) == (
            0,
            "It is on the drive sand of office-pc.",
        )


def test_drives_are_told_apart_and_damage_counts_whatever_number_a_drive_has_on_a_computer(office: OfficeOf) -> None:
    """Both call another drive ``811``, as systems do with some filesystems; and the same drive 811 and 821."""
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    facts = {
        "bag": "ropes", "name": "ropes", "kind": "folder", "machine": "m", "computer": "x", "origin": "/ropes", "edition": 1,
        "files": 1, "bytes": 1, "fingerprint": "f", "partial": False, "incomplete": False, "gone": False,
    }  # fmt: skip
    for name, chest in (("office-pc", "c1"), ("new-laptop", "c2")):
        with office.at(name):
            events.append("chest", id=chest, label=chest, folder=f"/media/{chest}")
            events.append("archive", chest=chest, bag="ropes", origin="/ropes", edition=1, files=1, bytes=1)
            events.append("hold", chest=chest, archived=clock.now(), where="811:dune-chest", drive="811", **facts)
            dunechest.offices.send_to_office()
    with office.at("office-pc"):
        (library,) = dunechest.status(office=True).libraries
        assert (library.good_copy_count, library.safe) == (2, True)
    with office.at("new-laptop"):
        events.append(
            "check", chest="c1", bag="ropes", quick=False, intact=False, files=1, wrong=1, where="821:dune-chest"
        )
        dunechest.offices.send_to_office()
    with office.at("office-pc"):
        (library,) = dunechest.status(office=True).libraries
        assert {copy.label: copy.state for copy in library.copies} == {"c1": "damaged", "c2": "safe"}


def _own_id() -> str:
    from dunechest.ledger.folder import state_folder
    from dunechest.machine.identity import this_machine

    return this_machine(state_folder()).id


def test_without_the_server_every_computer_works_and_tells_it_later(tmp_path: Path, command: Command) -> None:
    with server() as own:
        office = office_of(own, tmp_path, ("office-pc", "new-laptop"))
        archive_one(office, "office-pc", "blue", {"tide.txt": "high"})
        with office.at("office-pc"):
            assert dunechest.status(office=True).libraries
    blue = office.top / "drives" / "blue"
    with office.at("office-pc") as home, drives(blue):
        (home / "home" / "notes" / "new.txt").write_text("spring tide")
        ran = command("archive", home / "home" / "notes", "--to", "blue")
        assert ran.status == 0 and "office" not in ran.err
        assert "It cannot be asked now" not in command("status").out
        ran = command("status", "--office")
        assert "it cannot be asked now" in ran.out and "notes" in ran.out
        ran = command("search", "tide", "--office")
        assert (ran.status, "cannot be reached" in ran.err) == (4, True)
        assert command("office", "send").status == 4
        assert command("report", "--office", "--write", tmp_path / "r.html").status == 1
        later = clock.now() + 8 * 86_400
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(clock, "now", lambda: later)
            assert "has not heard of this computer for more than a week" in command("status").out
    with office.at("new-laptop"):
        ran = command("status", "--office")
        assert (ran.status, "cannot be reached" in ran.err) == (4, True), "it never saw what the office knows"
        left = dunechest.offices.leave_office()
        assert not left.sent and "cannot be reached" in left.why
        assert command("status").status in (0, 1) and command("status", "--office").status == 2


def test_a_computer_that_lost_its_ledger_gets_it_back(office: OfficeOf, tmp_path: Path) -> None:
    archive_one(office, "office-pc", "blue", {"tide.txt": "high"})
    office.join("office-pc")
    with office.at("office-pc") as home, drives(office.top / "drives" / "blue"):
        before = dunechest.status()
        shutil.rmtree(home / "state")
        events.append("keep", chest=before.chests[0].id, place="barn")
        assert not dunechest.status().safe, "the drive tells what it holds; nothing of it is proven here"
        with pytest.raises(dunechest.errors.OfficeError, match="does not know this computer"):
            dunechest.offices.join_office(office.server.address(office.role("office-pc"), office.database),
                                  command=office.password("office-pc"))  # fmt: skip
        assert not (home / "state" / "settings.toml").exists(), "it belongs to no office then"
        joined = office.join("office-pc")
        assert joined.brought_back_count > 3
        told = dunechest.status()
        assert [item.name for item in told.libraries] == ["notes"] and told.chests[0].kept_at_place == "barn"
        assert dunechest.offices.send_to_office().event_count == 0
        left = dunechest.offices.leave_office()
        assert left.sent and dunechest.status().libraries


def test_a_ledger_put_back_from_an_older_copy_loses_and_doubles_nothing(office: OfficeOf, tmp_path: Path) -> None:
    office.join("office-pc")
    with office.at("office-pc") as home:
        events.append("keep", chest="c", place="desk")
        events.append("chest", id="c", label="blue", folder="/x")
        dunechest.offices.send_to_office()
        shutil.copytree(home / "state", tmp_path / "older")
        events.append("keep", chest="c", place="barn")
        dunechest.offices.send_to_office()
        shutil.rmtree(home / "state")
        shutil.copytree(tmp_path / "older", home / "state")
        events.append("keep", chest="c", place="with grandmother")
        assert dunechest.offices.send_to_office().event_count == 1
        assert [chest.kept_at_place for chest in dunechest.status(office=True).chests] == ["with grandmother"]
        assert dunechest.offices.send_to_office().event_count == 0
        with open_ledger() as ledger:
            assert ledger.chests()[0].place == "with grandmother"
    with office.connect() as connection:
        assert connection.execute("SELECT count(*), count(DISTINCT number) FROM events").fetchone() == (4, 4)


def test_each_command_has_its_document(office_server: Server, tmp_path: Path, command: Command) -> None:
    office = OfficeOf(office_server, office_server.new_database(), tmp_path)
    secret = office.password("new-laptop")
    address = office_server.address(office.role("new-laptop"), office.database)
    seen = {
        "office-send",
        "office-show",
        "office-leave",
        "office-join",
        "office-remove",
        "office-add",
        "office-set-up",
    }
    with office.at("new-laptop"):
        for words, changed in (
            (["set-up", office.owner], {"changed": True}),
            (["set-up", office.owner], {"changed": False}),
            (["add", office.owner, "new-laptop", "--secret-from", secret], {"address": address}),
            (["join", address, "--password-from", secret], {"event_count": 0, "brought_back_count": 0}),
            (["send"], {"event_count": 0}),
            (["show"], {"why": ""}),
            (["leave"], {"sent": True}),
            (["remove", office.owner, "new-laptop"], {"name": "new-laptop"}),
        ):
            ran = command("office", *words, "--json")
            assert (ran.status, ran.err) == (0, ""), (words, ran.out, ran.err)
            seen.discard(ran.json["schema"].split("/")[1])
            assert {key: ran.json[key] for key in changed} == changed
        assert not seen
        ran = command("office", "add", office.owner, "Not A Name", "--secret-from", secret, "--json")
        assert (ran.status, ran.json["error"]["code"]) == (2, "usage")


def test_odd_names_and_long_paths_travel(office: OfficeOf) -> None:
    office.join("office-pc")
    long = "/home/" + "d\u00fcne/" * 900
    with office.at("office-pc"):
        events.append("chest", id="c\u0000x", label="b\x1b[31mlue\u0000", folder=long)
        events.append("keep", chest="c\u0000x", place="'; DROP TABLE events; -- \\u0000")
        events.append("seen", place=long, name="x" * 3000, kind="folder", gone=False)
        events.append("of-a-later-version", more={"deep": [1, None, "\u0000"]})
        dunechest.offices.send_to_office()
        (chest,) = dunechest.status(office=True).chests
        assert chest.kept_at_place == "'; DROP TABLE events; -- \\u0000"
        assert "\u0000" not in chest.label and str(chest.path).startswith("/home/d")
    with office.connect() as connection:
        assert connection.execute("SELECT count(*) FROM events").fetchone() == (4,), "one says that the place is gone"


WORDS = ("tern", "Ebb", "100%", "a_b", "grün", "back\\slash")


def test_what_is_found_in_an_office_is_what_is_found_here(
    office_server: Server, tmp_path: Path, library: Path
) -> None:
    """Words, patterns, sizes and days, in names and folders: the office's indexes and this computer's find the same."""
    office = office_of(office_server, tmp_path)
    files = {f"{one} x/{two} {three}.txt": one * 9 for one in WORDS for two in WORDS[:4] for three in WORDS[:3]}
    files |= {f"Tern Colony/deep {word}/N{place}.jpg": word for place, word in enumerate(WORDS)}
    archive_one(office, "office-pc", "blue", files)
    archive_one(office, "office-pc", "blue", {"tern/new one.txt": "flood", f"{WORDS[0]} x/Ebb tern.txt": "changed"})
    office.join("office-pc")
    asked: list[tuple[tuple[str, ...], dunechest.SearchOptions]] = [
        ((one, two), dunechest.SearchOptions()) for one in WORDS for two in WORDS
    ]
    asked += [
        ((*WORDS[:2], "deep", "n1", "jp"), dunechest.SearchOptions()),
        (("*.jpg", "tern"), dunechest.SearchOptions()),
    ]
    asked += [(("tern colony/*/n?.JPG",), dunechest.SearchOptions()), (("deep grün/n4",), dunechest.SearchOptions())]
    asked += [
        ((), dunechest.SearchOptions(smallest=30)),
        (("n",), dunechest.SearchOptions(largest=4, library="notes")),
    ]
    asked += [
        ((), dunechest.SearchOptions(since=1.0, chest="blue")),
        (("tern",), dunechest.SearchOptions(before=1.0)),
    ]
    with office.at("office-pc"):
        for patterns, options in asked:
            here = dunechest.search(patterns, options, most=1000)
            there = dunechest.search(patterns, options, most=1000, office=True)
            told = [
                {
                    (file.path, file.size_bytes, copy.first_edition, copy.last_edition)
                    for file in found.files
                    for copy in file.copies
                }
                for found in (here, there)
            ]
            assert told[0] == told[1], patterns
            assert len(here.files) == len(there.files), "none twice"


def test_the_office_goes_by_the_logs_of_chests_and_by_no_clock(
    office: OfficeOf, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    archive_one(office, "office-pc", "blue", {"tide.txt": "high"})
    blue, real = office.top / "drives" / "blue", clock.now
    for name in ("office-pc", "new-laptop"):
        office.join(name)
    with office.at("office-pc"), drives(blue):
        dunechest.verify(blue)
        dunechest.offices.send_to_office()
    with office.at("new-laptop"), drives(blue), monkeypatch.context() as behind:
        behind.setattr(
            clock, "now", lambda: real() - 3600
        )  # an hour behind: it seems to have looked before the other one
        flip(blue / "dune-chest" / "bags" / "notes" / "data" / "library" / "tide.txt")
        assert command("verify", blue).status == 1
        dunechest.offices.send_to_office()
    with office.at("office-pc"):
        (library,) = dunechest.status(office=True).libraries
        assert [copy.state for copy in library.copies] == ["damaged"]
