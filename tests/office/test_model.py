"""Computers that come and go, against a plain model: whatever the order, each event is told once, and the latest one holds."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest import clock
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.gather import gather
from tests.support.offices import OfficeOf, office_of
from tests.support.postgres import Server

NAMES = ("gannet", "plover", "tern")
#: Some time ago: the server believes nobody that a thing was seen later than it was told.
BEGIN = 1_700_000_000.0

_STEP = st.tuples(
    st.sampled_from(NAMES),
    st.one_of(
        st.tuples(st.just("keep"), st.sampled_from("xy"), st.sampled_from(["desk", "barn", "shed"])),
        st.tuples(st.just("hold"), st.sampled_from("xy"), st.sampled_from(["full", "gone"])),
        st.tuples(st.just("retire"), st.sampled_from("xy"), st.booleans()),
        st.just(("send",)), st.just(("gather",)), st.just(("copy",)), st.just(("put back",)),
    ),
)  # fmt: skip


@pytest.fixture(scope="module")
def office(office_server: Server, tmp_path_factory: pytest.TempPathFactory) -> OfficeOf:
    return office_of(office_server, tmp_path_factory.mktemp("office"), NAMES)


def _note(what: str, chest: str, value: Any, number: int) -> None:
    if what == "keep":
        events.append("keep", chest=chest, place=value)
    elif what == "retire":
        events.append("retire", chest=chest, retired=value)
    elif value == "gone":
        events.append("hold", chest=chest, bag="b", gone=True)
    else:
        events.append("hold", chest=chest, bag="b", name="b", edition=number, gone=False)


def _wanted(told: list[tuple[float, str, str, Any]]) -> dict[str, Any]:
    """Return what holds: of each chest its place, whether it is retired, and the edition and state of what it holds."""
    found: dict[str, Any] = {}
    for _, what, chest, value in sorted(told):
        if what == "hold":
            before = found.get(f"hold {chest}", (0, False))
            found[f"hold {chest}"] = (before[0], True) if value == "gone" else (int(value), False)
        else:
            found[f"{what} {chest}"] = value
    return found


@given(st.lists(_STEP, min_size=1, max_size=24))
@settings(max_examples=12)
def test_an_office_knows_what_was_said_last_whoever_came_and_went(office: OfficeOf, steps: list[Any]) -> None:
    with office.connect() as connection:
        connection.execute("TRUNCATE events, latest, listings CASCADE")
    for name in NAMES:
        with office.at(name) as home:
            for made in ("ledger.sqlite", "notes", "office.json", "older"):
                place = home / "state" / made if made != "older" else home / made
                shutil.rmtree(place, ignore_errors=True) if place.is_dir() else place.unlink(missing_ok=True)
    #: What each computer knows, what was kept of that as a copy, and what the office was told.
    known: dict[str, dict[int, tuple[float, str, str, Any]]] = {name: {} for name in NAMES}
    older: dict[str, dict[int, tuple[float, str, str, Any]]] = {}
    told: dict[int, tuple[float, str, str, Any]] = {}
    with pytest.MonkeyPatch.context() as patch:
        for number, (name, step) in enumerate([*steps, *[(name, ("send",)) for name in NAMES]], 1):
            patch.setattr(clock, "now", lambda number=number: BEGIN + number)
            with office.at(name) as home:
                if step[0] == "send":
                    assert dunechest.offices.send_to_office().event_count == len(known[name].keys() - told.keys())
                    told |= known[name]
                elif step[0] == "gather":
                    gather(state_folder())
                elif step[0] == "copy":
                    _put(home / "state", home / "older")
                    older[name] = dict(known[name])
                elif step[0] == "put back":
                    if name in older:
                        _put(home / "older", home / "state")
                        known[name] = dict(older[name])
                else:
                    what, chest, value = step
                    _note(what, chest, value, number)
                    value = number if (what, value) == ("hold", "full") else value
                    known[name][number] = (BEGIN + number, what, chest, value)
        patch.setattr(clock, "now", lambda: BEGIN + 1000)
        with office.at("gannet"):
            from dunechest.jobs.office.view import see_office

            rows, _ = see_office().now.known()
    found = {f"hold {row['chest']}": (row["edition"], row["gone"]) for row in rows.of("hold")}
    found |= {f"keep {row['chest']}": row["place"] for row in rows.of("keep")}
    found |= {f"retire {row['chest']}": row["retired"] for row in rows.of("retire")}
    assert found == _wanted(list(told.values()))
    with office.connect() as connection:
        assert connection.execute("SELECT count(*) FROM events").fetchone() == (len(told),)


def _put(source: Path, target: Path) -> None:
    """Make a state folder what another one is; who the computer is and where its office is stays."""
    shutil.rmtree(target, ignore_errors=True)
    shutil.copytree(source, target)
