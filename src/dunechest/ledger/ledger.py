"""The ledger: what this computer remembers of chests, libraries, checks and restores, and the questions that are asked of it.

Events are written down as notes and now and then gathered into an SQLite database; an answer takes both into account.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from dunechest.errors import DuneChestError
from dunechest.ledger.folder import state_folder
from dunechest.ledger.own import own_rows
from dunechest.ledger.rows import HARMED, Row, Rows, waiting
from dunechest.names import from_line, shown

#: With so many notes it takes longer to read them than to gather them.
_MANY = 40


class KnownChest(msgspec.Struct, frozen=True):
    """A chest this computer has seen: where it was the last time, and when (seconds since 1970).

    `retired` says since when it is no longer expected, None if it is; `place` where its drive is kept; `address` where it is
    on a server, empty if it is on a drive.
    """

    id: str
    label: str
    folder: Path
    seen: float
    retired: float | None = None
    place: str = ""
    address: str = ""


class Holding(msgspec.Struct, frozen=True):
    """A library in a chest, as this computer last saw it: times in seconds since 1970.

    `machine` is the id of the computer that it came from, `origin` its folder there, made safe to show; `fingerprint` is the
    same for the same state of a library in every chest, and may be empty; `gone` says that it was not there any more. `state`
    is what it holds, by content, and `follows` the states it came after, with blanks between; `carried` counts files that
    were not seen when it was last archived. `turn` says what was noted after what, of whatever sort; no clock does. `by` is
    the id in logs of the computer that saw it, empty for this one. `disk` are the disks that it lies on, with blanks between,
    and `weak` why a copy there protects against nothing, if so (`dunechest.machine.physical`).
    """

    chest: str
    bag: str
    name: str
    kind: str
    machine: str
    computer: str
    origin: str
    edition: int
    archived: float
    files: int
    bytes: int
    fingerprint: str
    partial: bool
    incomplete: bool
    where: str
    drive: str
    gone: bool
    when: float
    state: str = ""
    follows: str = ""
    carried: int = 0
    turn: int = 0
    by: str = ""
    disk: str = ""
    weak: str = ""


class PastRoom(msgspec.Struct, frozen=True):
    """Bytes free and in all on the drive of a chest, and when that was (seconds since 1970)."""

    free: int
    total: int
    when: float


class PastArchive(msgspec.Struct, frozen=True):
    """An edition that was archived: when (seconds since 1970), where the chest was, and after what (`turn`).

    The first of a bag wrote all of it, and read it back.
    """

    bag: str
    edition: int
    when: float
    where: str
    turn: int


class PastCheck(msgspec.Struct, frozen=True):
    """The outcome of a verification: counts of files, when (seconds since 1970), and after what (`turn`).

    `by` is the id in logs of the computer that checked, empty for this one; `how` is ``mend`` if it was the end of a mend.
    """

    bag: str
    quick: bool
    intact: bool
    files: int
    wrong: int
    when: float
    where: str = ""
    turn: int = 0
    by: str = ""
    how: str = ""


class PastDrill(msgspec.Struct, frozen=True):
    """The outcome of a drill: of which edition, whether it passed, the bag's tag manifest, when, and after what (`turn`)."""

    bag: str
    edition: int
    passed: bool
    top: str
    when: float
    where: str = ""
    turn: int = 0


class Round(msgspec.Struct, frozen=True):
    """A check of a library that was begun: the next file, what was found wrong and looked at so far, and where the chest was."""

    bag: str
    next: str
    wrong: int
    files: int
    where: str = ""


class PastLoose(msgspec.Struct, frozen=True):
    """A folder with files that lie in no library: how many, their bytes, and whether it is a standard folder."""

    place: str
    files: int
    bytes: int
    standard: bool


class PastRefusal(msgspec.Struct, frozen=True):
    """A library that was not archived to a chest: its folder, the finding's code, what it said, what to do, and when."""

    place: str
    chest: str
    code: str
    message: str
    action: str
    when: float


#: Sorts of entries that say nothing of how well a copy is.
_OF_NO_COPY = frozenset(
    {
        # The line of a chest's log says whether it was damage.
        "line known",
        "seen",
        "loose",
        "begun",
        "room",
        "rehome",
        "aside",
        "reclaim",
        "restore",
        "state",
        "chest",
        "keep",
        "computer",
        "refused",
        "retire",
    }
)


class HarmedEntry(msgspec.Struct, frozen=True):
    """An entry of the ledger that is harmed: of which chest, as far as can be read, of what sort, and after what (`turn`)."""

    chest: str
    what: str
    turn: int

    @property
    def could_be_damage(self) -> bool:
        """Whether it may have told of damage; of an unknown sort it may be anything."""
        return self.what not in _OF_NO_COPY


class KnownComputer(msgspec.Struct, frozen=True):
    """A computer that wrote into the log of a chest: its id in logs, its name, the chest, and when it was first met there.

    `machine` is its own id in the records of bags; times are seconds since 1970.
    """

    id: str
    name: str
    machine: str
    chest: str
    when: float


class PutBack(msgspec.Struct, frozen=True):
    """A chest that lacks what is known of it: how many lines of its log, when that was found, where, and after what (`turn`)."""

    chest: str
    missing: int
    when: float
    where: str
    turn: int


class PastHome(msgspec.Struct, frozen=True):
    """A library that was moved to a drive: where its application used to find it, and where it was moved to.

    `old` and `place` are full paths; `below` is the place below the drive's mount point, `drive` what the drive is called;
    `way` is how the application finds it (``setting`` or ``link``), `id` what the mark beside it says; `identity` tells the
    drive's filesystem, if the system does; `when` is in seconds since 1970.
    """

    old: str
    id: str
    name: str
    kind: str
    place: str
    below: str
    drive: str
    way: str
    identity: str
    when: float


class PastAside(msgspec.Struct, frozen=True):
    """An original that was set aside: its path, which library's it is (`id` of its move), and the list of its files."""

    path: str
    id: str
    name: str
    old: str
    listing: str
    when: float


class Ledger:
    """What the ledger held when it was opened."""

    def __init__(self, rows: Rows) -> None:
        self._rows = rows

    def chests(self) -> tuple[KnownChest, ...]:
        """All known chests, by label."""
        gone = {row["chest"]: row["when"] for row in self._rows.of("retire") if row["retired"]}
        places = {row["chest"]: row["place"] for row in self._rows.of("keep")}
        return tuple(
            KnownChest(
                row["id"],
                row["label"],
                Path(row["folder"]),
                row["seen"],
                gone.get(row["id"]),
                places.get(row["id"], ""),
                row["address"],
            )
            for row in sorted(self._rows.of("chest"), key=lambda row: (row["label"], row["id"]))
        )

    def holdings(self) -> tuple[Holding, ...]:
        """What all chests hold, as last seen."""
        rows = sorted(self._rows.of("hold"), key=lambda row: (row["chest"], row["bag"]))
        return tuple(Holding(**row) for row in rows)

    def homes(self) -> tuple[PastHome, ...]:
        """Libraries that were moved to a drive and not back, by name."""
        rows = [row for row in self._rows.of("rehome") if not row["back"]]
        found = [
            PastHome(
                from_line(row["old"]), row["id"], row["name"], row["kind"], from_line(row["place"]),
                from_line(row["below"]), row["drive"], row["way"], row["identity"], row["when"],
            )
            for row in rows
        ]  # fmt: skip
        return tuple(sorted(found, key=lambda home: (home.name, home.old)))

    def former_homes(self) -> tuple[tuple[str, str, bool], ...]:
        """Where each moved library was before, where it was moved to, and whether it is back."""
        rows = self._rows.of("rehome")
        return tuple((from_line(row["old"]), from_line(row["place"]), row["back"]) for row in rows)

    def asides(self) -> tuple[PastAside, ...]:
        """Originals that were set aside and are not deleted, as far as this computer knows; the latest first."""
        rows = [row for row in self._rows.of("aside") if not row["gone"]]
        found = [
            PastAside(
                from_line(row["path"]), row["id"], row["name"], from_line(row["old"]), row["listing"], row["when"]
            )
            for row in rows
        ]
        return tuple(sorted(found, key=lambda aside: -aside.when))

    def rooms(self) -> dict[str, PastRoom]:
        """Return how full the drive of each chest was when it was last met, by the chest's id."""
        return {row["chest"]: PastRoom(row["free"], row["total"], row["when"]) for row in self._rows.of("room")}

    def seen_libraries(self) -> tuple[tuple[str, str, str], ...]:
        """Name, kind and place of all libraries that `find` showed."""
        rows = sorted(self._rows.of("seen"), key=lambda row: row["place"])
        return tuple((row["name"], row["kind"], row["place"]) for row in rows)

    def said_gone(self) -> frozenset[str]:
        """The places of libraries that `find` showed once, and of which an office was told that they are not there."""
        return frozenset(row["place"] for row in self._rows.of("seen") if row["gone"])

    def forgotten_in(self, chest: str) -> dict[str, int]:
        """Bags of a chest that a person removed on purpose, and the turn in which that was said."""
        return {row["bag"]: row["turn"] for row in self._of("forget", chest)}

    def checks(self, chest: str) -> tuple[PastCheck, ...]:
        """The checks of one chest, the one that was noted last first; no clock counts."""
        return tuple(
            PastCheck(
                r["bag"],
                r["quick"],
                r["intact"],
                r["files"],
                r["wrong"],
                r["when"],
                r["where"],
                r["turn"],
                r["by"],
                r["how"],
            )
            for r in self._latest("check", chest)
        )

    def drills(self, chest: str) -> tuple[PastDrill, ...]:
        """The drills of one chest, the one that was noted last first."""
        return tuple(
            PastDrill(r["bag"], r["edition"], r["passed"], r["top"], r["when"], r["where"], r["turn"])
            for r in self._latest("drill", chest)
        )

    def archives(self, chest: str) -> tuple[PastArchive, ...]:
        """What was archived to one chest, the one that was noted last first."""
        return tuple(
            PastArchive(r["bag"], r["edition"], r["when"], r["where"], r["turn"])
            for r in self._latest("archive", chest)
        )

    def rounds(self, chest: str) -> tuple[Round, ...]:
        """The checks of a chest's libraries that were begun and are not complete."""
        return tuple(
            Round(row["bag"], row["next"], row["wrong"], row["files"], row["where"])
            for row in self._of("round", chest)
            if row["next"]
        )

    def places_of(self, name: str) -> tuple[Path, ...]:
        """The places of libraries that `find` showed under a name, the latest first."""
        rows = [row for row in self._rows.of("seen") if row["name"] == name]
        return tuple(Path(row["place"]) for row in sorted(rows, key=lambda row: row["when"], reverse=True))

    def library_names(self) -> tuple[str, ...]:
        """The names of libraries that `find` showed."""
        return tuple(sorted({row["name"] for row in self._rows.of("seen")}))

    def archived_here(self, chest: str, bag: str, top: str) -> bool:
        """Whether this computer itself made a bag whose tag manifest has that SHA-512 digest."""
        return any(row["bag"] == bag and row["top"] == top and not row["by"] for row in self._of("archive", chest))

    def computers(self) -> tuple[KnownComputer, ...]:
        """The other computers that wrote into the logs of chests, by name."""
        rows = sorted(self._rows.of("computer"), key=lambda row: (row["name"], row["id"]))
        return tuple(KnownComputer(r["id"], r["name"], r["machine"], r["chest"], r["when"]) for r in rows)

    @property
    def last_moment(self) -> float | None:
        """When this computer noted something last, as its clock said then (seconds since 1970); None if it never did."""
        return self._rows.last_moment

    def moments(self) -> dict[str, float]:
        """Return when each computer noted something last in a chest, as its own clock said, by its id in logs."""
        found: dict[str, float] = {}
        for row in self._rows.of("line"):
            found[row["by"]] = max(found.get(row["by"], 0.0), row["moment"])
        return found

    def harmed(self) -> tuple[HarmedEntry, ...]:
        """The entries that are not as they were noted: nobody knows what they said."""
        return tuple(
            HarmedEntry(row["chest"] if isinstance(row["chest"], str) else "", str(row["what"]), row["turn"])
            for row in self._rows.of(HARMED)
        )

    def vouched(self) -> set[tuple[str, str, str]]:
        """Return what computers of which no person said whose they are found right: chest, bag, and the computer's id in logs."""
        return self._rows.vouched()

    def put_back(self, chest: str) -> tuple[PutBack, ...]:
        """Where a chest was found to be an older image of itself, the last time first."""
        return tuple(
            PutBack(r["chest"], r["missing"], r["when"], r["where"], r["turn"]) for r in self._latest("older", chest)
        )

    def unfinished(self) -> dict[str, str]:
        """The libraries of which a next edition was begun, and neither it nor any other state was noted since.

        By the place of each, the fingerprint that it had then; empty if it could not be told.
        """
        states = {row["place"]: row["turn"] for row in self._rows.of("state") if not row["gone"]}
        archived: dict[tuple[str, str], int] = {}
        for row in self._rows.of("archive"):
            archived[row["chest"], row["bag"]] = row["turn"]
        return {
            row["place"]: row["fingerprint"]
            for row in self._rows.of("begun")
            if row["turn"] > max(archived.get((row["chest"], row["bag"]), 0), states.get(row["place"], 0))
        }

    def loose(self) -> tuple[PastLoose, ...]:
        """The folders of the home with files that lie in no library, as `find` saw them last, those with most files first."""
        rows = sorted(self._rows.of("loose"), key=lambda row: (-row["files"], row["place"]))
        return tuple(PastLoose(r["place"], r["files"], r["bytes"], r["standard"]) for r in rows if r["files"])

    def refusals(self) -> tuple[PastRefusal, ...]:
        """What was not archived because a person has to decide first, as far as nothing was archived or restored there since."""
        since: dict[tuple[str, str], int] = {}
        for row in self._rows.of("archive"):
            since[row["origin"], row["chest"]] = max(since.get((row["origin"], row["chest"]), 0), row["turn"])
        states: dict[str, int] = {}
        for row in self._rows.of("state"):
            states[row["place"]] = row["turn"]
        return tuple(
            PastRefusal(r["place"], r["chest"], r["code"], r["message"], r["action"], r["when"])
            for r in self._rows.of("refused")
            if r["turn"] > max(since.get((r["place"], r["chest"]), 0), states.get(r["place"], 0))
        )

    def states_now(self) -> dict[str, str]:
        """Return the places of libraries on this computer, by the state that each had last."""
        last: dict[str, str] = {}
        for row in self._rows.of("state"):
            last.pop(row["place"], None)
            if not row["gone"]:
                last[row["place"]] = row["state"]
        return {state: place for place, state in last.items()}

    def states_at(self, places: Collection[str]) -> dict[str, tuple[str, ...]]:
        """Return the states that a library had here, with what each follows; the one it had last at the end.

        Parameters
        ----------
        places : collection of str
            The folders that it is or was in, made safe to show.
        """
        found: dict[str, tuple[str, ...]] = {}
        for row in self._rows.of("state"):
            if row["place"] in places:
                found.pop(row["state"], None)
                if not row["gone"]:
                    found[row["state"]] = tuple(row["follows"].split())
        return found

    def restored_from(self, chest: str, place: str) -> str:
        """Return the bag of a chest that was last restored to a place; empty if none was."""
        return next((row["bag"] for row in self._latest("restore", chest) if row["place"] == place), "")

    def _of(self, what: str, chest: str) -> list[Row]:
        return [row for row in self._rows.of(what) if row["chest"] == chest]

    def _latest(self, what: str, chest: str) -> list[Row]:
        """The events of a chest, the one that was noted last first."""
        return self._of(what, chest)[::-1]


@contextmanager
def open_ledger() -> Iterator[Ledger]:
    """Read the ledger; many notes are gathered first.

    Raises
    ------
    DuneChestError
        If the database or its folder cannot be used.
    """
    folder = state_folder()
    try:
        if len(waiting(folder)) > _MANY:
            _gather(folder)
        rows = own_rows()
    except (OSError, sqlite3.Error) as error:
        raise DuneChestError(
            f"The ledger in {shown(str(folder))} cannot be used ({error}). What is archived does not need it, but this computer "
            "then forgets its checks, its drills and what undo could undo. If it belongs to another user, give it back to "
            "its owner; otherwise move it aside, and name chests by their folder."
        ) from error
    yield Ledger(rows)


def _gather(folder: Path) -> None:
    """Gather notes if possible; they can be read all the same if it is not."""
    from sqlalchemy.exc import DatabaseError

    from dunechest.ledger.gather import gather

    try:
        gather(folder)
    except (OSError, DatabaseError):
        return
