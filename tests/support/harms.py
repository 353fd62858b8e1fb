"""The damage sweep: harm every file of a chest in every way, and see whether anything untrue is said with status 0."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import signal
import sqlite3
import stat
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from types import FrameType
from typing import Any

import dunechest
from tests.support import burrow
from tests.support.burrow import refer
from tests.support.trees import facts

LIBRARIES = ("burrow", "shed", "catalogue", "ledgers")
_LIMIT = 60


@dataclass
class Ground:
    """A machine with four libraries and a chest that holds them; what each edition must give back."""

    top: Path
    truth: dict[tuple[str, int], dict[bytes, tuple[Any, ...]]] = field(default_factory=dict)
    listings: dict[str, Any] = field(default_factory=dict)

    @property
    def chest(self) -> Path:
        return self.top / "drive" / "dune-chest"

    def source(self, name: str) -> Path:
        return self.top / "documents" / name


def run(*words: object) -> tuple[int, str, str]:
    """Run a command in this process, for so many seconds at most."""
    from dunechest.cli.app import run as command

    def too_long(number: int, frame: FrameType | None) -> None:
        raise TimeoutError("it hangs")

    out, err = io.StringIO(), io.StringIO()
    before = signal.signal(signal.SIGALRM, too_long)
    signal.alarm(_LIMIT)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = command([str(word) for word in words])
    except TimeoutError:
        status = 124
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)
    return status, out.getvalue(), err.getvalue()


def _shed(library: Path) -> None:
    (library / "a" / "b").mkdir(parents=True)
    (library / "empty" / "inner").mkdir(parents=True)
    (library / "a" / "plank.txt").write_text("oak\n" * 30)
    (library / "a" / "b" / "50%\noff \u00e9.txt").write_text("odd name\n")
    (library / ("n" * 240 + ".txt")).write_text("long name\n")
    os.link(library / "a" / "plank.txt", library / "a" / "same plank")
    (library / "secret").write_text("0600\n")
    (library / "secret").chmod(0o600)
    (library / "a" / "b").chmod(0o750)
    (library / "to plank").symlink_to("a/plank.txt")
    (library / "to nothing").symlink_to("nowhere")
    (library / os.fsdecode(b"raw \xff")).write_text("not UTF-8\n")


def _catalogue(library: Path) -> None:
    library.mkdir(parents=True)
    content = bytearray(os.urandom(64) * ((9 << 20) // 64))
    for at in range(0, len(content), 4096):
        content[at : at + 8] = at.to_bytes(8, "little")
    (library / "big.cat").write_bytes(content)
    (library / "note").write_text("one\n")


def make(top: Path) -> Ground:
    """Make libraries, a chest, and three editions of two of them."""
    ground = Ground(top)
    top.mkdir(parents=True)
    (top / "home").mkdir()
    enter(ground)
    library = burrow.make(top)
    outside = top / "home" / "Pictures"
    outside.mkdir()
    (outside / "dune.map").write_bytes(b"outside" * 100)
    refer(library, outside / "dune.map")
    with closing(sqlite3.connect(library / "index.bur")) as index:
        index.execute("PRAGMA journal_mode=WAL")
    held = sqlite3.connect(library / "index.bur")
    held.execute("CREATE TABLE more (x)")
    held.commit()
    held.close()
    _shed(ground.source("shed"))
    _catalogue(ground.source("catalogue"))
    ledgers = ground.source("ledgers")
    ledgers.mkdir()
    for number in range(5):
        (ledgers / f"{number}.txt").write_text(f"ledger {number}\n" * 9)
    (top / "drive").mkdir()
    assert run("chest", "new", top / "drive", "--label", "blue")[0] == 0
    _archive(ground, LIBRARIES)
    (ledgers / "1.txt").rename(ledgers / "2b.txt")
    (ledgers / "0.txt").write_text("rewritten\n")
    (ledgers / "new.txt").write_text("new\n")
    _change_big(ground)
    _archive(ground, ("catalogue", "ledgers"))
    a, b = ledgers / "2.txt", ledgers / "3.txt"
    a.rename(ledgers / "x")
    b.rename(a)
    (ledgers / "x").rename(b)
    (ledgers / "new.txt").unlink()
    _change_big(ground)
    (ground.source("shed") / "a" / "plank.txt").write_text("pine\n")
    _archive(ground, ("catalogue", "ledgers", "shed"))
    for name in LIBRARIES:
        ground.listings[name] = _editions(ground, name)[1]
    ground.listings["show"] = _told(run("chest", "show", ground.chest, "--json")[1])
    return ground


def _change_big(ground: Ground) -> None:
    path = ground.source("catalogue") / "big.cat"
    content = bytearray(path.read_bytes())
    content[len(content) // 3 : len(content) // 3 + 300] = os.urandom(300)
    path.write_bytes(content)


def _archive(ground: Ground, names: tuple[str, ...]) -> None:
    from dunechest.chest.chest import Chest

    status, out, err = run("archive", *(ground.source(name) for name in names), "--to", ground.chest)
    assert status == 0, out + err
    entries = {entry.name: entry for entry in Chest.open(ground.chest).bags()}
    for name in names:
        library = entries[name].library
        assert library is not None
        back = ground.top / "truth"
        status, out, err = _restore(ground, name, library.edition, back)
        assert status == 0, out + err
        ground.truth[name, library.edition] = facts(back)
        shutil.rmtree(back)
        shutil.rmtree(ground.top / "truth outside files", ignore_errors=True)


def enter(ground: Ground) -> None:
    """Be on the computer of a ground."""
    os.environ["HOME"] = str(ground.top / "home")
    os.environ["DUNECHEST_HOME"] = str(ground.top / "state")
    os.environ["DUNECHEST_DRIVES"] = ""


def _restore(ground: Ground, name: str, edition: int, into: Path) -> tuple[int, str, str]:
    words = ["restore", ground.chest, name, "--edition", edition, "--into", into, "--keep-paths"]
    return run(*words, "--no-update-settings")


def _editions(ground: Ground, name: str) -> tuple[int, Any]:
    status, out, _ = run("editions", "list", ground.chest, name, "--json")
    return status, json.loads(out)["libraries"] if out else None


def _told(out: str) -> Any:
    keys = ("name", "state", "kind", "path", "archived_at", "file_count", "size_bytes", "left_out_count")
    document = json.loads(out)
    return [{key: item[key] for key in keys} for item in document.get("libraries", [])]


@dataclass(frozen=True)
class Harm:
    """One way to harm one file: its name, what it does, and whether names and sizes alone can tell."""

    name: str
    do: Callable[[Path, Path], bool]
    sizes_tell: bool = True


def _flip(share: float) -> Callable[[Path, Path], bool]:
    def do(path: Path, other: Path) -> bool:
        content = bytearray(path.read_bytes())
        if not content:
            return False
        content[min(int(len(content) * share), len(content) - 1)] ^= 0x01
        info = path.stat()
        path.write_bytes(content)
        os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
        return True

    return do


def _cut(path: Path, other: Path) -> bool:
    size = path.stat().st_size
    os.truncate(path, size // 2)
    return size > 1


def _empty(path: Path, other: Path) -> bool:
    size = path.stat().st_size
    os.truncate(path, 0)
    return size > 0


def _delete(path: Path, other: Path) -> bool:
    path.unlink()
    return True


def _folder(path: Path, other: Path) -> bool:
    path.unlink()
    path.mkdir()
    return True


def _link(path: Path, other: Path) -> bool:
    kept = path.parent.parent / "kept elsewhere"
    path.rename(kept)
    path.symlink_to(kept)
    return True


def _pipe(path: Path, other: Path) -> bool:
    path.unlink()
    os.mkfifo(path)
    return True


def _garbage(path: Path, other: Path) -> bool:
    with path.open("ab") as file:
        file.write(b"\xff garbage \x00\n" * 3)
    return True


def _swap(path: Path, other: Path) -> bool:
    if not other.is_file() or other == path or other.read_bytes() == path.read_bytes():
        return False
    path.write_bytes(other.read_bytes())
    return True


def _line(which: int) -> Callable[[Path, Path], bool]:
    def do(path: Path, other: Path) -> bool:
        lines = path.read_bytes().splitlines(keepends=True)
        if path.suffix not in (".txt", ".jsonl", ".json") or "data" in path.parts or len(lines) < 2:
            return False
        del lines[which]
        path.write_bytes(b"".join(lines))
        return True

    return do


def _both(do: Callable[[Path, Path], bool]) -> Callable[[Path, Path], bool]:
    def both(path: Path, other: Path) -> bool:
        if path.name != "manifest-sha512.txt":
            return False
        return all([do(path, other), do(path.parent / "dune" / "files.jsonl", other)])

    return both


HARMS = (
    Harm("flip at the start", _flip(0.0), False),
    Harm("flip in the middle", _flip(0.5), False),
    Harm("flip at the end", _flip(1.0), False),
    Harm("cut", _cut),
    Harm("empty", _empty),
    Harm("delete", _delete),
    Harm("a folder instead", _folder),
    Harm("a link instead", _link),
    Harm("a pipe instead", _pipe),
    Harm("garbage added", _garbage),
    Harm("swapped", _swap, False),
    Harm("the first line missing", _line(0)),
    Harm("a line in the middle missing", _line(1)),
    Harm("both lists empty", _both(_empty)),
    Harm("a line missing in both lists", _both(_line(0))),
    Harm("both lists deleted", _both(_delete)),
)


def files_of(ground: Ground) -> list[Path]:
    """Every file of the chest, relative to it, but for the lock."""
    found = [p.relative_to(ground.chest) for p in sorted(ground.chest.rglob("*")) if p.is_file()]
    return [p for p in found if not p.name.startswith(".in-use")]


def _partner(path: Path) -> Path:
    """The file of the same name in another library's bag."""
    if path.parts[0] != "bags":
        return path
    other = LIBRARIES[(LIBRARIES.index(path.parts[1]) + 1) % len(LIBRARIES)]
    return Path("bags", other, *path.parts[2:])


def cases(ground: Ground, stride: int = 1, offset: int = 0) -> Iterator[tuple[Path, Harm]]:
    every = [(path, harm) for path in files_of(ground) for harm in HARMS]
    yield from every[offset::stride]


def try_harm(ground: Ground, path: Path, harm: Harm, scratch: Path) -> list[str]:
    """Harm a copy of the ground's chest; return what was said that is not true."""
    here = Ground(scratch, ground.truth, ground.listings)
    shutil.rmtree(scratch, ignore_errors=True)
    scratch.mkdir(parents=True)
    for name in ("drive", "state", "home"):
        shutil.copytree(ground.top / name, scratch / name, symlinks=True)
    enter(here)
    if not harm.do(here.chest / path, here.chest / _partner(path)):
        return []
    where = f"{harm.name}: {path}"
    return [f"{where}: {lie}" for lie in _lies(ground, here, path, harm)]


def tree(folder: Path) -> dict[str, object]:
    """What is in a chest, by path, but for its log: the bytes of files, and what everything else is."""
    found: dict[str, object] = {}
    for place in sorted(folder.rglob("*")):
        info = place.lstat()
        if place.relative_to(folder).parts[0] == "log":
            continue
        if not stat.S_ISDIR(info.st_mode) and not place.name.startswith(".in-use"):
            regular = stat.S_ISREG(info.st_mode)
            found[place.relative_to(folder).as_posix()] = place.read_bytes() if regular else stat.S_IFMT(info.st_mode)
    return found


def copied(ground: Ground) -> dunechest.Chest:
    """Make a second chest with all that the ground's has, on a drive that holds other names."""
    enter(ground)
    (ground.top / "sand").mkdir()
    sand = dunechest.create_chest(ground.top / "sand", "sand")
    assert all(result.ok for result in dunechest.copy_chest(dunechest.Chest.open(ground.chest), sand))
    return sand


def try_mending(ground: Ground, other: dunechest.Chest, path: Path, harm: Harm, scratch: Path) -> list[str]:
    """Harm a copy of the ground's chest and mend it from the other one; return what is not as it was and not said."""
    enter(ground)
    here = scratch / "dune-chest"
    shutil.rmtree(scratch, ignore_errors=True)
    shutil.copytree(ground.chest, here, symlinks=True)
    if not harm.do(here / path, here / _partner(path)):
        return []
    harmed, truth = tree(here), tree(ground.chest)
    where = f"{harm.name}: {path}"
    results = dunechest.mend(here, helpers=[other])
    after = tree(here)
    # What a harm puts beside is nothing of ours.
    unlike = [p for p in {*after, *truth} if after.get(p) != truth.get(p) and Path(p).name != "kept elsewhere"]
    found = [f"{where}: worse: {p}" for p in unlike if harmed.get(p) == truth.get(p)]
    if unlike and all(result.ok for result in results):
        found.append(f"{where}: said to be mended: {unlike}")
    if not unlike and not all(result.ok for result in results):
        found.append(f"{where}: mended, and said not to be: {results}")
    return [*found, *(f"{where}: not mended: {p}" for p in unlike if not found)]


def _lies(ground: Ground, here: Ground, path: Path, harm: Harm) -> Iterator[str]:
    own = path.parts[1] if path.parts[0] == "bags" else None
    restorable: dict[tuple[str, int], bool] = {}
    names = [own] if own is not None else ["ledgers"]
    others = [name for name in LIBRARIES if name not in names][:1]
    yield from _of_checks(here, path, harm)
    for name in names:
        yield from _of_library(ground, here, name, restorable)
    for name in others:
        edition = max(e for n, e in here.truth if n == name)
        if own is not None:
            status, exact, _ = _back(here, name, edition)
            if status or not exact:
                yield f"another library ({name}) is touched: restore has status {status}"
            elif run("verify", here.chest, name)[0]:
                yield f"another library ({name}) is touched: verify"
    before = dict(restorable)
    for name in names:
        status, out, err = run("archive", ground.source(name), "--to", here.chest)
        yield from _sane(f"archive {name}", status, out, err)
    for (name, edition), well in before.items():
        status, exact, said = _back(here, name, edition)
        yield from _sane(f"restore {name} {edition} after the next archive", status, said, "")
        if status == 0 and not exact:
            yield f"restore {name} {edition} after the next archive differs from the truth with status 0"
        if well and status:
            yield f"edition {edition} of {name} was lost by the next archive"


def _of_checks(here: Ground, path: Path, harm: Harm) -> Iterator[str]:
    bulk = path.parts[0] == "bags" and (path.parts[2] == "data" or path.parts[2:4] == ("dune", "earlier"))
    for words in (("verify",), ("verify", "--quick")):
        status, out, err = run(*words, here.chest)
        yield from _sane(" ".join(words), status, out, err)
        # A log is no content: nothing that is archived is less intact without it.
        if status == 0 and path.parts[0] != "log" and not ("--quick" in words and bulk and not harm.sizes_tell):
            yield f"{' '.join(words)}: status 0"
    if path.parts[0] == "log":
        yield from _sane("status", *run("status"))
    status, out, err = run("chest", "show", here.chest, "--json")
    yield from _sane("chest show", status, out, err)
    if status == 0 and _told(out) != here.listings["show"]:
        yield "chest show differs from the truth with status 0"


def _of_library(ground: Ground, here: Ground, name: str, restorable: dict[tuple[str, int], bool]) -> Iterator[str]:
    status, listed = _editions(here, name)
    if status == 0 and listed != here.listings[name]:
        yield f"editions {name} differs from the truth with status 0"
    editions = sorted(e for n, e in here.truth if n == name)
    for edition in editions:
        status, exact, said = _back(here, name, edition)
        yield from _sane(f"restore {name} {edition}", status, said, "")
        if status == 0 and not exact:
            yield f"restore {name} {edition} differs from the truth with status 0"
        restorable[name, edition] = status == 0
    status, out, err = run("drill", here.chest, name)
    yield from _sane(f"drill {name}", status, out, err)
    if status == 0 and not restorable[name, editions[-1]]:
        yield f"drill {name} passes, and a restore does not"
    status, out, err = run("restore", here.chest, "--all", "--plan")
    yield from _sane("restore --all", status, out, err)
    status, out, err = run("compare", ground.source(name), f"{here.chest}/{name}")
    yield from _sane(f"compare {name}", status, out, err)
    if status == 0 and not restorable[name, editions[-1]]:
        yield f"compare {name}: status 0"


def _back(here: Ground, name: str, edition: int) -> tuple[int, bool, str]:
    into = here.top / "back"
    status, out, err = _restore(here, name, edition, into)
    exact = into.exists() and facts(into) == here.truth[name, edition]
    for place in (into, here.top / "back outside files"):
        shutil.rmtree(place, ignore_errors=True)
    return status, exact, out + err


def _sane(what: str, status: int, out: str, err: str) -> Iterator[str]:
    if status in (70, 124):
        yield f"{what}: {'hangs' if status == 124 else 'a fault of the program'}: {(out + err)[-600:]}"
    elif status not in (0, 1, 2, 3, 4):
        yield f"{what}: status {status}"
