"""Nobody changes what another computer said, nobody listens in, and no password is written down."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import psycopg
import pytest

import dunechest
from dunechest.ledger import events
from dunechest.ledger.office.address import address_of
from dunechest.machine import secrets
from tests.support.offices import SECRET, OfficeOf, archive_one, office_of
from tests.support.postgres import Server, certificate
from tests.support.runs import Command

#: What somebody tries who knows the password of another computer, whose number is 2; the victim's is 1.
ATTACKS = [
    "INSERT INTO events (computer, id, number, what, key, fields, moment, facts) "
    "VALUES (1, 'x', 999, 'keep', '[\"c\"]', 'chest,place', 5, '{\"chest\": \"c\", \"place\": \"forged\"}')",
    "INSERT INTO events (computer, id, number, what, key, fields, moment, facts, received) "
    "VALUES (2, 'x', 999, 'keep', '[]', '', 5, '{}', 99999999999)",
    'UPDATE events SET facts = \'{"chest": "c", "place": "forged"}\'',
    "UPDATE events SET computer = 2",
    "DELETE FROM events",
    "TRUNCATE events",
    "UPDATE latest SET facts = '{}'",
    "DELETE FROM latest",
    "INSERT INTO latest VALUES (1, 'keep', '[\"c\"]', 'chest,place', 999, 'x', 5, '{\"chest\": \"c\", \"place\": \"forged\"}')",
    "INSERT INTO latest VALUES (2, 'keep', '[]', '', 999, 'x', 5, '{}')",
    "UPDATE computers SET machine = 'stolen-machine' WHERE number = 1",
    "INSERT INTO computers (role, name) VALUES (session_user || 'x', 'third')",
    "DELETE FROM computers",
    "ALTER TABLE events DISABLE ROW LEVEL SECURITY",
    "ALTER TABLE events DISABLE TRIGGER ALL",
    "DROP TABLE events",
    "DROP POLICY own_are_added ON events",
    "CREATE OR REPLACE FUNCTION own_computer() RETURNS integer LANGUAGE sql AS 'SELECT 1'",
    "CREATE TABLE dunechest.more (x integer)",
    "CREATE FUNCTION dunechest.evil() RETURNS integer LANGUAGE sql AS 'SELECT 1'",
    "SET ROLE keeper",
    "SET SESSION AUTHORIZATION keeper",
    "ALTER ROLE keeper PASSWORD 'mine'",
    "CREATE ROLE another LOGIN",
    "SET session_replication_role = replica",
    "SELECT take_event()",
    "COPY events TO PROGRAM 'id'",
    "SELECT pg_read_file('/etc/passwd')",
    "SELECT rolpassword FROM pg_authid",
    "UPDATE alembic_version SET version_num = '0000'",
    "INSERT INTO listings (computer, chest, bag, library, name, kind, top, edition, files, editions, roles) "
    "VALUES (1, 'c', 'b', 'l', 'n', 'k', 't', 1, 1, '[]', '[]')",
    "INSERT INTO files VALUES (1, 1, 1, 'forged.txt', NULL, 1, 1, 1, 1, 0)",
    "INSERT INTO files_00 VALUES (1, 2, 1, 'forged.txt', NULL, 1, 1, 1, 1, 0)",
    "UPDATE files SET name = 'forged.txt'",
    "UPDATE listings SET top = 'forged'",
    "TRUNCATE files, folders, listings",
]
#: What the server lets pass and what comes to nothing, since rows of others are not among one's own.
HARMLESS = [
    "DELETE FROM listings WHERE computer = 1",
    "DELETE FROM files WHERE computer = 1",
    "DELETE FROM folders",
    "SELECT introduce('another-machine')",
    "INSERT INTO files VALUES ((SELECT min(id) FROM listings), 2, 1, 'forged.txt', NULL, 1, 1, 1, 1, 0)",
    "INSERT INTO folders VALUES ((SELECT min(id) FROM listings), 2, 1, 'forged', NULL)",
]


@pytest.fixture
def office(office_server: Server, tmp_path: Path) -> OfficeOf:
    office = office_of(office_server, tmp_path)
    archive_one(office, "office-pc", "blue", {"tide.txt": "high"})
    office.join("office-pc")
    with office.at("office-pc"):
        chest = dunechest.list_chests().chests[0].id
        events.append("keep", chest=chest, place="desk")
        dunechest.offices.send_to_office()
    office.join("new-laptop")
    return office


def _all(office: OfficeOf) -> tuple[object, ...]:
    with office.connect() as connection:
        tables = ("events", "latest", "computers", "listings")
        rows = [
            connection.execute(f"SELECT * FROM {name} WHERE {name}::text != '' ORDER BY 1, 2").fetchall()
            for name in tables
        ]  # type: ignore[call-overload]
        count = connection.execute("SELECT count(*) FROM files WHERE computer = 1").fetchone()
        return (
            *[
                [row for row in told if row[0] != 2 or name == "listings"]
                for name, told in zip(tables, rows, strict=True)
            ],
            count,
        )


def test_with_the_password_of_one_computer_nobody_changes_what_another_said(office: OfficeOf) -> None:
    before = _all(office)
    for attack in ATTACKS:
        with office.connect("new-laptop") as connection, pytest.raises(psycopg.Error):
            connection.execute(attack)  # type: ignore[call-overload]
    assert _all(office) == before
    for attempt in HARMLESS:
        with office.connect("new-laptop") as connection:
            connection.execute(attempt)  # type: ignore[call-overload]
    assert _all(office) == before
    with office.at("office-pc"):
        assert [file.path for file in dunechest.search("t", office=True).files] == ["tide.txt"]
        assert not dunechest.search("forged", office=True).files
        assert dunechest.status(office=True).chests[0].kept_at_place == "desk"


def test_a_forged_word_of_another_computer_is_told_as_its_own_and_not_of_the_future(office: OfficeOf) -> None:
    with office.connect("new-laptop") as connection:
        connection.execute(
            "INSERT INTO events (computer, id, number, what, key, fields, moment, facts) VALUES "
            "(2, 'f', 9, 'chest', '[]', 'x', 'infinity', '{\"id\": \"c9\", \"label\": \"forged\", \"folder\": \"/x\"}'), "
            "(2, 'n', 10, 'room', '[]', 'y', 'NaN', '{\"chest\": \"c9\", \"free\": true, \"total\": -1}'), "
            "(2, 'o', 11, 'hold', '[]', 'z', 5, '[1, 2]'), (2, 'p', 12, 'hold', 'k', 'z', 5, '{\"chest\": 7}')"
        )
    with office.at("office-pc"):
        told = {chest.label: chest.last_seen_by for chest in dunechest.status(office=True).chests}
        assert told == {"blue": "office-pc", "forged": "new-laptop"}
    # A row under the key of another computer's row hides nothing of it.
    with office.connect("new-laptop") as connection:
        connection.execute(
            "INSERT INTO events (computer, id, number, what, key, fields, moment, facts) SELECT 2, id || 'x', number, what, "
            'key, fields, moment, \'{"chest": "nobody", "bag": "nothing", "gone": true}\' FROM events WHERE computer = 1'
        )
    with office.at("office-pc"):
        told_again = dunechest.status(office=True)
        assert [item.name for item in told_again.libraries] == ["notes"]
        assert [copy.state for copy in told_again.libraries[0].copies] == ["safe"]


def test_a_stolen_computer_is_shut_out_at_once(office: OfficeOf, command: Command) -> None:
    with office.connect("new-laptop") as connection:
        dunechest.offices.remove_office_computer(office.owner, "new-laptop")
        with pytest.raises(psycopg.Error):
            connection.execute("SELECT 1")
    with office.at("new-laptop"):
        with pytest.raises(dunechest.errors.OfficeUnreachableError, match="does not let this computer in"):
            dunechest.offices.send_to_office()
        ran = command("office", "show")
        assert ran.status == 4 and SECRET.format("new-laptop") not in ran.out + ran.err
    with office.at("office-pc"):
        told = {item.name: item.removed_at is not None for item in dunechest.offices.show_office().computers}
        assert told == {"new-laptop": True, "office-pc": False}
    with pytest.raises(dunechest.UsageError, match="no computer 'gull'"):
        dunechest.offices.remove_office_computer(office.owner, "gull")
    with office.at("new-laptop"):
        assert office.join("new-laptop").brought_back_count == 0, "it may be let in again"


def test_the_server_must_prove_who_it_is(office: OfficeOf, office_server: Server, tmp_path: Path) -> None:
    if office_server.root is None:
        pytest.skip("no openssl here")
    role = office.role("new-laptop")
    other, _ = certificate(tmp_path, "other", "localhost")
    command = office.password("new-laptop")
    with office.at("third"):
        for address in (
            office_server.remote(role, office.database, host="127.0.0.1"),
            office_server.remote(role, office.database, root=other),
            office_server.remote(role, office.database, root=tmp_path / "nothing"),
        ):
            with pytest.raises(dunechest.errors.OfficeUnreachableError):
                dunechest.offices.join_office(address, command=command)
    with office.at("new-laptop"):
        assert dunechest.offices.join_office(office_server.remote(role, office.database), command=command).where


@pytest.mark.parametrize(
    ("address", "why"),
    [
        ("postgresql+psycopg://a:hidden-word@h/d", "has a password in it"),
        ("postgresql://a@h/d?sslmode=require", "need not prove"),
        ("postgresql://a@h/d?sslmode=disable", "need not prove"),
        ("postgresql://a@h/d?options=-csearch_path=x", "not understood"),
        ("sqlite:////tmp/x", "PostgreSQL"),
        ("postgresql://h/d", "does not name"),
        ("postgresql://a@h", "does not name"),
        ("not an address hidden-word", "no address"),
        ("", "no address"),
    ],
)
def test_an_address_that_is_none_or_unsafe_is_refused(address: str, why: str, command: Command) -> None:
    with pytest.raises(dunechest.UsageError, match=why):
        address_of(address)
    ran = command("office", "join", address)
    assert ran.status == 2 and "hidden-word" not in ran.out + ran.err


def test_the_password_is_written_down_nowhere(office: OfficeOf, command: Command) -> None:
    """Not in a file, an answer or the arguments of a process; the server gets only what proves it."""
    secret = SECRET.format("new-laptop")
    script = office.top / "print-secret"
    script.write_text("#!/bin/sh\nprintf 'tern-%s-under-the-mat\\n' new-laptop\n")
    script.chmod(0o755)
    address = office.server.address(office.role("new-laptop"), office.database)
    with office.at("new-laptop") as home:
        said = [
            command("office", "leave"),
            command("office", "join", address, "--password-from", str(script), "--json"),
        ]
        said += [command("office", "show", "--json"), command("status", "--office", "--verbose")]
        assert [ran.status for ran in said] == [0, 0, 0, 1]
        assert all(secret not in ran.out + ran.err for ran in said)
        for place in home.rglob("*"):
            assert place.is_dir() or secret.encode() not in place.read_bytes(), place
        assert ((home / "state" / "settings.toml").stat().st_mode & 0o077) == 0
    assert secret not in (office.server.folder / "log").read_text()
    with office.connect() as connection:
        (kept,) = connection.execute(
            "SELECT rolpassword FROM pg_authid WHERE rolname = %s", [office.role("new-laptop")]
        ).fetchone() or ("",)
        assert str(kept).startswith("SCRAM-SHA-256$")


def test_a_keyring_keeps_the_password_and_gives_it_up_again(
    office: OfficeOf, monkeypatch: pytest.MonkeyPatch
) -> None:
    keyring = pytest.importorskip("keyring")
    kept: dict[tuple[str, str], str] = {}

    class Own(keyring.backend.KeyringBackend):  # type: ignore[misc, name-defined]
        priority = 1

        def get_password(self, service: str, username: str) -> str | None:
            return kept.get((service, username))

        def set_password(self, service: str, username: str, password: str) -> None:
            kept[service, username] = password

        def delete_password(self, service: str, username: str) -> None:
            del kept[service, username]

    before = keyring.get_keyring()
    keyring.set_keyring(Own())
    try:
        address = office.server.address(office.role("new-laptop"), office.database)
        with office.at("new-laptop"):
            with pytest.raises(dunechest.errors.OfficeUnreachableError):
                dunechest.offices.join_office(address, "a wrong password")
            assert not kept, "a wrong one is not kept"
            dunechest.offices.join_office(address, SECRET.format("new-laptop"))
            assert list(kept) == [("dunechest", address.partition("?")[0])]
            assert dunechest.offices.send_to_office().event_count == 0
            with pytest.raises(dunechest.errors.OfficeUnreachableError):
                dunechest.offices.join_office(address, "a wrong password")
            assert dunechest.offices.show_office().computers, "the one before is still there"
            dunechest.offices.leave_office()
            assert not kept
        Own.__module__ = "keyrings.alt.file"
        with office.at("new-laptop"), pytest.raises(dunechest.UsageError, match="plain file"):
            dunechest.offices.join_office(address, SECRET.format("new-laptop"))
        assert not kept
    finally:
        keyring.set_keyring(before)


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (["/nowhere/at-all"], "cannot be run"),
        ([sys.executable, "-c", "print('hush'); raise SystemExit(3)"], "ended with status 3"),
        ([sys.executable, "-c", ""], "printed nothing"),
    ],
)
def test_a_command_that_gives_no_password_says_so_without_what_it_printed(words: list[str], why: str) -> None:
    with pytest.raises(dunechest.UsageError, match=why) as raised:
        secrets.from_command(words)
    assert "hush" not in str(raised.value)
    assert secrets.from_command([sys.executable, "-c", "print('one; $(two)\\nthree')"]) == "one; $(two)"


def test_nothing_asks_where_nobody_can_answer(office: OfficeOf) -> None:
    """A routine or a pipe gets an error and no prompt that waits for ever."""
    address = office.server.address(office.role("new-laptop"), office.database)
    env = {
        **os.environ,
        "DUNECHEST_HOME": str(office.top / "third"),
        "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring",
    }
    for words in (["join", address], ["add", office.owner, "third"]):
        ran = subprocess.run(
            [sys.executable, "-m", "dunechest", "office", *words],
            capture_output=True, text=True, stdin=subprocess.DEVNULL, env=env, timeout=60, check=False,
        )  # fmt: skip
        assert (ran.returncode, "COMMAND" in ran.stderr) == (2, True), ran.stderr


def test_settings_that_are_none_say_which_key(command: Command, tmp_path: Path) -> None:
    state = tmp_path / "state"
    state.mkdir(exist_ok=True)
    for text, why in (
        ("ledger = 3", "ledger must be a table"),
        ("[ledger]\nurl = 3", "ledger.url must be"),
        ('[ledger]\nurl = "postgresql://a@h/d"\npassword = "x"', "ledger.password: there is no such key"),
        ('[ledger]\nurl = "postgresql://a@h/d"\npassword_command = "x"', "must be a list"),
        ("", "belongs to no office"),
    ):
        (state / "settings.toml").write_text(text)
        ran = command("office", "show")
        assert ran.status == 2 and why in ran.err, (text, ran.err)
