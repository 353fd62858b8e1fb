"""Random histories of a household against a plain model: nothing that was archived is lost by what a later run cannot see.

Two computers archive one library to two chests, each from its own copy of it. A card with pictures that the library uses is taken
out and put back, a folder of it is closed, drives are away, everything is encrypted, editions are dropped by rules, and one
computer's place holds fewer names than the other's. By hand: ``DUNECHEST_HISTORIES=2000 pytest tests/whole/test_sequences.py``.
"""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from msgspec.structs import replace

import dunechest
from dunechest.jobs.editions.doing import carry_out
from dunechest.jobs.editions.planning import plan_drop
from dunechest.machine import drives

FILES = ["a.txt", "b.txt", "closed/c.txt", "closed/d.txt", "e: f.txt", "deep/g?.txt", "deep/h.txt", "i.txt"]
PICTURES = [f"p{number}.jpg" for number in range(6)]
COMPUTERS, CHESTS = ("tern", "plover"), ("blue", "sand")

#: Content by path: that in the library, or the full one of a picture on the card.
Tree = dict[str, bytes]


def whole(result: dunechest.model.RestoreResult) -> bool:
    """Whether all was brought back. A reference that stays as it is may lead to a card that is out."""
    faults = [item for item in result.not_restored if item.fault]
    wrong = [line for line in result.proof.lines if not line.passed and not line.what.startswith("references")]
    return not faults and not wrong and not result.damaged_records


class Household(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.top = Path(tempfile.mkdtemp())
        self.before = dict(os.environ)
        self.card, self.away = self.top / "card", False
        self.card.mkdir()
        self.count = 0
        for name in PICTURES:
            self._write(self.card / name)
        self.libraries: dict[str, Tree | None] = dict.fromkeys(COMPUTERS)
        self.names: dict[str, dict[str, str]] = {name: {} for name in COMPUTERS}
        self.editions: dict[str, dict[int, Tree]] = {name: {} for name in CHESTS}
        self.protected: dict[str, set[int]] = {name: set() for name in CHESTS}
        self.lesser: dict[str, str] = {}
        self.had: dict[str, list[Tree]] = {name: [] for name in COMPUTERS}
        self.closed = False
        for name in CHESTS:
            (self.top / name).mkdir()
            self._be("tern")
            dunechest.create_chest(self.top / name, name)
        self._be("tern")
        library = self._place("tern")
        self.libraries["tern"] = {}
        for name in FILES:
            self._put("tern", name)
        lines = "".join(f"{self.card / name}\n" for name in PICTURES)
        (library / "list.m3u8").write_text("#EXTM3U\n" + lines)
        self.libraries["tern"]["list.m3u8"] = (library / "list.m3u8").read_bytes()
        # One computer's place refuses some names, as a drive for Windows does.
        lesser = str(self._place("plover").parent)
        drives.pretend = lambda found: (
            replace(found, limits=drives.limits_of("exfat")) if str(found.mount) == lesser else found
        )
        self.true_filesystem = drives._mounted
        drives._mounted = lambda real: (
            ("exfat", Path(lesser)) if str(real).startswith(lesser) else self.true_filesystem(real)
        )

    def teardown(self) -> None:
        drives.pretend, drives._mounted = None, self.true_filesystem
        os.environ.clear()
        os.environ.update(self.before)
        shutil.rmtree(self.top)

    def _be(self, computer: str) -> None:
        home = self.top / computer
        (home / "home").mkdir(parents=True, exist_ok=True)
        os.environ.update(HOME=str(home / "home"), DUNECHEST_HOME=str(home / "state"), DUNECHEST_DRIVES="")

    def _place(self, computer: str) -> Path:
        place = self.top / computer / "work" / "logbook"
        place.parent.mkdir(parents=True, exist_ok=True)
        return place

    def _write(self, path: Path) -> bytes:
        self.count += 1
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(f"{path.name} {self.count} ".encode() * 40)
        return path.read_bytes()

    def _here(self, computer: str, name: str) -> Path:
        """Where a file lies on a computer: under another name where that cannot hold its own."""
        return self._place(computer) / self.names[computer].get(name, name)

    def _put(self, computer: str, name: str) -> None:
        library = self.libraries[computer]
        assert library is not None
        library[name] = self._write(self._here(computer, name))

    @rule(
        computer=st.sampled_from(COMPUTERS),
        name=st.sampled_from([name for name in FILES if "/" not in name or "deep" in name]),
    )
    def work(self, computer: str, name: str) -> None:
        library = self.libraries[computer]
        if library is not None and (computer == "tern" or name in library):
            self._put(computer, name)

    @rule(computer=st.sampled_from(COMPUTERS), name=st.sampled_from(FILES))
    def delete(self, computer: str, name: str) -> None:
        library = self.libraries[computer]
        if library is not None and name in library and not self.closed:
            self._here(computer, name).unlink()
            del library[name]

    @rule(computer=st.sampled_from(COMPUTERS))
    def encrypt(self, computer: str) -> None:
        library = self.libraries[computer]
        if library is None or self.closed:
            return
        for name in [name for name in library if name != "list.m3u8"]:
            self._put(computer, name)

    @rule()
    def card_out_or_in(self) -> None:
        self.away = not self.away
        drawer = self.top / "drawer"
        self.card.rename(drawer) if self.away else drawer.rename(self.card)

    @rule(name=st.sampled_from(PICTURES))
    def new_picture(self, name: str) -> None:
        if not self.away:
            self._write(self.card / name)

    @rule()
    def close_or_open(self) -> None:
        self.closed = not self.closed

    def _outside(self, tree: Tree) -> Tree:
        if self.away or "list.m3u8" not in tree:
            return {}
        return {str(path): path.read_bytes() for name in PICTURES if (path := self.card / name).is_file()}

    def _expected(self, computer: str, chest: str) -> Tree:
        """What the next edition holds: what is seen, and of the one before what is not."""
        last, there = self._last(chest), self.libraries[computer] or {}
        library = {self._true(computer, name, last): data for name, data in there.items()}
        seen = {name: data for name, data in library.items() if not (self.closed and name.startswith("closed/"))}
        kept = {
            name: data
            for name, data in last.items()
            if (self.closed and name.startswith("closed/"))
            or (self.away and name.startswith(str(self.card)) and "list.m3u8" in library)
        }
        return kept | seen | self._outside(library)

    def _true(self, computer: str, name: str, last: Tree) -> str:
        """The name that a file goes on under: where one computer cannot hold it, that of the edition before."""
        if computer == "tern":
            return name
        here = self.names[computer].get(name, name)
        true = next((path for path, lesser in self.lesser.items() if lesser == here), here)
        return true if true in last else here

    def _last(self, chest: str) -> Tree:
        return self.editions[chest][max(self.editions[chest])] if self.editions[chest] else {}

    @rule(computer=st.sampled_from(COMPUTERS), chest=st.sampled_from(CHESTS), force=st.booleans())
    def archive(self, computer: str, chest: str, force: bool) -> None:
        library = self.libraries[computer]
        if library is None:
            return
        self._be(computer)
        last, expected = self._last(chest), self._expected(computer, chest)
        options = dunechest.ArchiveOptions(
            ignore=("mass-change", "newer-state", "not-in-chest") if force else (),
            continues="logbook" if self.editions[chest] and computer == "plover" else None,
        )
        with self._closed_folder():
            try:
                (result,) = dunechest.archive(self._place(computer), self.top / chest, options)
            except dunechest.RefusedError as error:
                codes = {finding.code for finding in error.findings}
                assert not force or codes <= {"name-taken", "perhaps-same"}, error
                if last and last in self.had[computer]:
                    assert "newer-state" not in codes, error
                return
        if last and last not in self.had[computer] and not force and self.had[computer]:
            # What another computer did is never taken back unasked: all of it is still there.
            assert last.items() <= expected.items(), "another computer's work was reverted"
        record = dunechest.Chest.open(self.top / chest).bag("logbook").library
        assert record is not None
        if result.state == "unchanged":
            assert expected == last
        else:
            before = max(self.editions[chest], default=0)
            assert record.edition == before + 1
            self.editions[chest][record.edition] = expected
            if before and dunechest.list_editions(self.top / chest, "logbook").editions[-2].protected:
                self.protected[chest].add(before)
        if not record.incomplete or not self._lacking(expected):
            self._have(computer, expected)

    def _lacking(self, tree: Tree) -> bool:
        """Whether any chest has a file that could not be seen and is not in this edition."""
        return any(
            name not in tree
            for chest in CHESTS
            for name in self._last(chest)
            if name.startswith(str(self.card)) or name.startswith("closed/")
        )

    def _have(self, computer: str, tree: Tree) -> None:
        if tree in self.had[computer]:
            self.had[computer].remove(tree)
        self.had[computer].append(tree)

    @contextmanager
    def _closed_folder(self) -> Iterator[None]:
        scan, places = os.scandir, tuple(str(self._place(name) / "closed") for name in COMPUTERS)

        def closed(path: str | int = ".") -> object:
            if self.closed and not isinstance(path, int) and os.fspath(path) in places:
                raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), path)
            return scan(path)

        os.scandir = closed  # type: ignore[assignment]
        try:
            yield
        finally:
            os.scandir = scan

    @rule(computer=st.sampled_from(COMPUTERS), chest=st.sampled_from(CHESTS), last=st.integers(0, 3))
    def restore(self, computer: str, chest: str, last: int) -> None:
        """A computer gets what a chest has in the place of what it had."""
        if not self.editions[chest]:
            return
        self._be(computer)
        number = sorted(self.editions[chest])[-1 if last else 0]
        place = self._place(computer)
        result = dunechest.restore(
            self.top / chest,
            "logbook",
            dunechest.RestoreOptions(into=str(place), edition=number, if_exists="set-aside", repoint=False),
        )
        for old in place.parent.glob("logbook (set aside*"):
            shutil.rmtree(old)
        tree = self.editions[chest][number]
        assert whole(result)
        self.names[computer] = dict(result.renamed)
        self.lesser |= self.names[computer]
        own = {name: data for name, data in tree.items() if not name.startswith("/")}
        assert {name: self._here(computer, name).read_bytes() for name in own} == own
        self.libraries[computer] = dict(own)
        self._have(computer, tree)

    @initialize(copied=st.booleans(), restored=st.sampled_from(["", *CHESTS]))
    def begin(self, copied: bool, restored: str) -> None:
        """What most households begin with: an archive, its copy, and a second computer that has the library, too."""
        self.archive(computer="tern", chest="blue", force=False)
        if copied:
            self.copy(source="blue")
        if restored:
            self.restore(chest=restored, computer="plover", last=1)

    @rule(source=st.sampled_from(CHESTS))
    def copy(self, source: str) -> None:
        """One chest is copied to the other; where neither came after the other, nothing is changed."""
        (target,) = set(CHESTS) - {source}
        if not self.editions[source]:
            return
        self._be("tern")
        before = {number: dict(tree) for number, tree in self.editions[target].items()}
        try:
            dunechest.copy_chest(self.top / source, self.top / target)
        except dunechest.RefusedError:
            return
        listed = dunechest.list_editions(self.top / target, "logbook").editions
        found = {edition.edition: self._held(target, edition.edition) for edition in listed}
        assert all(tree in found.values() for tree in before.values()), "an edition of the target was lost"
        assert all(tree in [*self.editions[source].values(), *before.values()] for tree in found.values())
        self.editions[target] = found
        self.protected[target] = {edition.edition for edition in listed if edition.protected}

    @rule(chest=st.sampled_from(CHESTS), last=st.integers(1, 2))
    def drop(self, chest: str, last: int) -> None:
        if not self.editions[chest]:
            return
        self._be("tern")
        plan = plan_drop(self.top / chest, "logbook", f"the last {last}")
        carry_out(plan)
        numbers = sorted(self.editions[chest])
        assert set(plan.kept_editions) == set(numbers[-last:]) | (self.protected[chest] & set(numbers))
        self.editions[chest] = {number: self.editions[chest][number] for number in plan.kept_editions}

    def _held(self, chest: str, number: int) -> Tree:
        """What an edition gives back."""
        place = self.top / "back" / "logbook"
        self._be("tern")
        result = dunechest.restore(
            self.top / chest, "logbook", dunechest.RestoreOptions(into=str(place), edition=number, repoint=False)
        )
        assert whole(result)
        tree = {path.relative_to(place).as_posix(): path.read_bytes() for path in place.rglob("*") if path.is_file()}
        tree |= {origin: Path(there).read_bytes() for origin, there in result.outside_files}
        dunechest.undo()
        shutil.rmtree(self.top / "back", ignore_errors=True)
        return tree

    @invariant()
    def chests_hold_what_they_should(self) -> None:
        self.turn = getattr(self, "turn", 0) + 1
        for chest in CHESTS:
            numbers = sorted(self.editions[chest])
            if numbers and self.turn % 3 == 0:
                number = numbers[self.turn % len(numbers)]
                assert self._held(chest, number) == self.editions[chest][number], (chest, number)


Household.TestCase.settings = settings(
    max_examples=int(os.environ.get("DUNECHEST_HISTORIES", "4")),
    stateful_step_count=16,
    deadline=None,
    phases=[Phase.generate] if os.environ.get("DUNECHEST_HISTORIES") else tuple(Phase),
)
TestHousehold = pytest.mark.slow(Household.TestCase)
