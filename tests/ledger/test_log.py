"""The log of events: earlier ledgers become one, each note is taken in once, and the order of arrival makes no difference."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest
import sqlalchemy as sa
from alembic.config import Config
from alembic.script import ScriptDirectory
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest import clock
from dunechest.ledger import events, upgrade
from dunechest.ledger.folder import state_folder
from dunechest.ledger.gather import gather, own_ledger
from dunechest.ledger.ledger import open_ledger
from dunechest.ledger.memory import libraries_of
from dunechest.ledger.own import own_rows
from dunechest.ledger.revisions import LAST, REVISIONS
from dunechest.ledger.tables import EVENTS, META, Numbered, put_events

#: Tables and rows as versions without a log wrote them.
BEFORE = """
CREATE TABLE chests (id VARCHAR NOT NULL, label VARCHAR NOT NULL, folder VARCHAR NOT NULL, seen FLOAT NOT NULL, PRIMARY KEY (id));
CREATE TABLE checks (number INTEGER NOT NULL, chest VARCHAR NOT NULL, bag VARCHAR NOT NULL, quick BOOLEAN NOT NULL,
    intact BOOLEAN NOT NULL, files INTEGER NOT NULL, wrong INTEGER NOT NULL, "when" FLOAT NOT NULL,
    "where" VARCHAR DEFAULT '' NOT NULL, PRIMARY KEY (number));
CREATE TABLE archives (number INTEGER NOT NULL, chest VARCHAR NOT NULL, bag VARCHAR NOT NULL, origin VARCHAR NOT NULL,
    edition INTEGER NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL, "when" FLOAT NOT NULL, PRIMARY KEY (number));
CREATE TABLE retired (chest VARCHAR NOT NULL, retired BOOLEAN NOT NULL, "when" FLOAT NOT NULL, PRIMARY KEY (chest));
CREATE TABLE forgotten (chest VARCHAR NOT NULL, bag VARCHAR NOT NULL, "when" FLOAT NOT NULL, PRIMARY KEY (chest, bag));
CREATE TABLE taken (note VARCHAR NOT NULL, PRIMARY KEY (note));
INSERT INTO chests VALUES ('c1', 'blue', '/media/blue/dune-chest', 50.0), ('c2', 'sänd', '/media/sand/dune-chest', 60.0);
INSERT INTO archives VALUES (1, 'c1', 'ropes', '/home/tern/ropes', 1, 3, 40, 10.0);
INSERT INTO archives VALUES (2, 'c1', 'kites', '/home/tern/kites', 1, 3, 40, 11.0);
INSERT INTO checks VALUES (1, 'c1', 'ropes', 0, 0, 3, 2, 20.0, ''), (2, 'c1', 'ropes', 0, 1, 3, 0, 30.0, ''),
    (3, 'c1', 'ropes', 1, 1, 3, 0, 40.0, '');
INSERT INTO retired VALUES ('c2', 1, 70.0);
INSERT INTO forgotten VALUES ('c1', 'kites', 80.0);
"""


@pytest.fixture(autouse=True)
def early(monkeypatch: pytest.MonkeyPatch) -> None:
    """What happens here happens in the first seconds of 1970, as the rows have it."""
    monkeypatch.setattr(clock, "now", lambda: 1000.0)


def _before(folder: Path) -> Path:
    folder.mkdir(exist_ok=True)
    with sqlite3.connect(folder / "ledger.sqlite") as connection:
        connection.executescript(BEFORE)
    connection.close()
    return folder / "ledger.sqlite"


def test_what_an_earlier_ledger_knew_is_known() -> None:
    _before(state_folder())
    events.append("retire", chest="c2", retired=False)
    with open_ledger() as ledger:
        assert [(chest.label, chest.seen, chest.retired) for chest in ledger.chests()] == [
            ("blue", 50.0, None),
            ("sänd", 60.0, None),
        ]
        assert [(c.quick, c.intact, c.when) for c in ledger.checks("c1")] == [
            (True, True, 40.0),
            (False, True, 30.0),
            (False, False, 20.0),
        ]
    remembered = libraries_of("c1")
    assert remembered.keys() == {"ropes"} and (remembered["ropes"].wrong, remembered["ropes"].checked) == (0, 30.0)
    with open_ledger() as ledger:
        assert len(ledger.checks("c1")) == 3, "it is taken over once"


def test_an_earlier_ledger_that_cannot_be_changed_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    place = _before(state_folder())

    def torn(connection: sa.Connection) -> bool:
        connection.exec_driver_sql("CREATE TABLE events (id INTEGER)")
        raise sa.exc.OperationalError("", None, sqlite3.OperationalError("disk I/O error"))

    monkeypatch.setattr("dunechest.ledger.gather.upgrade", torn)
    before = place.read_bytes()
    with pytest.raises(dunechest.DuneChestError, match="disk I/O error"), open_ledger():
        pass
    assert place.read_bytes() == before, "what was begun is taken back"
    monkeypatch.undo()


def test_a_ledger_of_a_later_version_is_left_alone() -> None:
    events.append("chest", id="c1", label="blue", folder="/x")
    gather(state_folder())
    with sqlite3.connect(state_folder() / "ledger.sqlite") as connection:
        connection.execute("UPDATE alembic_version SET version_num = '9999'")
    connection.close()
    with pytest.raises(dunechest.DuneChestError, match="later version"), open_ledger():
        pass
    with pytest.raises(dunechest.errors.ChestUnusableError, match="later version"):
        gather(state_folder())


def test_each_revision_leads_to_the_tables_that_are_used(tmp_path: Path) -> None:
    config = Config()
    config.set_main_option("script_location", str(Path(upgrade.__file__).with_name("migrations")))
    found = [script.revision for script in ScriptDirectory.from_config(config).walk_revisions()]
    assert tuple(reversed(found)) == REVISIONS and found[0] == LAST
    with own_ledger(state_folder()) as connection:
        there = sa.inspect(connection)
        for table in META.sorted_tables:
            columns = {column["name"] for column in there.get_columns(table.name)}
            assert columns == {column.name for column in table.columns}, table.name


def test_a_note_is_taken_in_once_though_it_was_not_deleted() -> None:
    events.append("hold", chest="c", bag="b", gone=False)
    events.append("hold", chest="c", bag="b", gone=True)
    notes = {path: path.read_bytes() for path in (state_folder() / "notes").iterdir()}
    gather(state_folder())
    events.append("hold", chest="c", bag="b", gone=False)
    for path, content in notes.items():
        path.write_bytes(content)  # the power failed before they were deleted
    with open_ledger() as ledger:
        assert [held.gone for held in ledger.holdings()] == [False]
    gather(state_folder())
    with own_ledger(state_folder()) as connection:
        assert len(connection.execute(sa.select(EVENTS)).all()) == 3
    with open_ledger() as ledger:
        assert [held.gone for held in ledger.holdings()] == [False], "what was said last still holds"


_FACTS = st.one_of(
    st.builds(
        lambda chest, bag, edition: ("hold", {"chest": chest, "bag": bag, "edition": edition, "gone": False}),
        st.sampled_from("xy"), st.sampled_from("ab"), st.integers(0, 9),
    ),
    st.builds(lambda c, b: ("hold", {"chest": c, "bag": b, "gone": True}), st.sampled_from("xy"), st.sampled_from("ab")),
    st.builds(lambda chest, retired: ("retire", {"chest": chest, "retired": retired}), st.sampled_from("xy"), st.booleans()),
    st.builds(
        lambda quick, intact, wrong: (
            "check", {"chest": "x", "bag": "a", "quick": quick, "intact": intact, "files": 1, "wrong": wrong},
        ),
        st.booleans(), st.booleans(), st.integers(0, 5),
    ),
    st.just(("of-another-version", {"chest": "x", "more": [1, 2]})),
)  # fmt: skip


@given(st.lists(_FACTS, max_size=12), st.randoms())
def test_events_in_any_order_and_more_than_once_make_the_same_ledger(told: list[tuple[str, dict]], shuffle) -> None:  # type: ignore[no-untyped-def, type-arg]
    folder = state_folder()
    numbered = [Numbered(f"{n}-e", n, what, float(n), facts) for n, (what, facts) in enumerate(told, 1)]

    def ledger_of(items: list[Numbered]) -> dict[str, list[dict[str, object]]]:
        (folder / "ledger.sqlite").unlink(missing_ok=True)
        with own_ledger(folder) as connection:
            for item in items:
                put_events(connection, 0, [item])
        rows = own_rows()
        return {what: rows.of(what) for what in ("hold", "retire", "check")}

    wanted = ledger_of(numbered)
    other = [*numbered, *numbered]
    shuffle.shuffle(other)
    assert ledger_of(other) == wanted
    model = {}
    for number, (what, facts) in enumerate(told, 1):
        if what == "retire":
            model[facts["chest"]] = (facts["retired"], float(number))
    assert {row["chest"]: (row["retired"], row["when"]) for row in wanted["retire"]} == model
    assert sum(put for put in _put_again(folder, numbered)) == 0, "each is there once"


def _put_again(folder: Path, numbered: list[Numbered]) -> list[int]:
    with own_ledger(folder) as connection:
        return [put_events(connection, 0, [item]) for item in numbered]


@pytest.mark.parametrize("wrong", [4e9, 1e18, 1e9 - 1, -5.0])
def test_a_clock_that_was_wrong_for_one_night_has_not_the_last_word(
    wrong: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number, moment in enumerate((1.7e9, wrong, 1.7e9 + 86400)):
        monkeypatch.setattr(clock, "now", lambda moment=moment: moment)
        events.append("state", place="/home/tern/papers", state=f"{number:064x}", follows="")
    for _ in range(2):
        with open_ledger() as ledger:
            assert [int(state, 16) for state in ledger.states_at({"/home/tern/papers"})] == [0, 1, 2]
        gather(state_folder())
