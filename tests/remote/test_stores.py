"""Every protocol does what a chest needs of it; a stranger's, added by an entry point, is a place for chests like any other."""

from __future__ import annotations

import importlib
import importlib.metadata
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.errors import UsageError
from dunechest.remote import protocols
from dunechest.remote.address import address_of
from dunechest.remote.chest import close_all
from dunechest.remote.store import Store
from dunechest.testing import StoreTests
from tests.support.runs import Command
from tests.support.servers import PROTOCOLS, Server, server_of

pytest.importorskip("fsspec")

#: A package that somebody else wrote: chests in a tin, which is a folder of this computer.
TIN = """
import os, shutil
from pathlib import Path
from dunechest.remote.protocols import Protocol
from dunechest.remote.store import Store

class TinStore(Store):
    connections = 2

    def __init__(self, address, password):
        super().__init__(address, password)
        self._top = Path(address.options["shelf"]) / address.host / address.folder
        self._top.mkdir(parents=True, exist_ok=True)

    def listing(self, folder):
        top = self._top / folder
        inside = list(top.rglob("*")) if top.is_dir() else []
        told = {p.relative_to(self._top).as_posix().removeprefix("."): p for p in [top, *inside] if p.exists()}
        return {n: p.stat().st_size for n, p in told.items() if p.is_file()}, {n for n, p in told.items() if p.is_dir()}

    def size(self, path):
        return (self._top / path).stat().st_size if (self._top / path).is_file() else None

    def read(self, path, offset=0):
        with open(self._top / path, "rb") as file:
            file.seek(offset)
            while piece := file.read(1 << 16):
                yield piece

    def write(self, path, chunks, size, begun=0):
        beside = self._top / (path + ".beside")
        beside.parent.mkdir(parents=True, exist_ok=True)
        with open(beside, "wb") as file:
            for piece in chunks:
                file.write(piece)
        os.replace(beside, self._top / path)

    def create(self, path, content):
        try:
            with open(self._top / path, "xb") as file:
                file.write(content)
        except FileExistsError:
            return False
        return True

    def move(self, old, new):
        os.replace(self._top / old, self._top / new)

    move_folder = move

    def remove(self, path):
        (self._top / path).unlink(missing_ok=True)

    def make_folder(self, path):
        (self._top / path).mkdir(parents=True, exist_ok=True)

    def remove_folder(self, path):
        if (self._top / path).is_dir():
            (self._top / path).rmdir()

TIN = Protocol("tin", "tin_chests:TinStore", frozenset({"shelf"}), file_requests=7, part_requests=1)
NONSENSE = 3
"""


@pytest.fixture
def tin(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """Have the stranger's package installed; return the folder of its tins."""
    site = tmp_path / "site"
    told = site / "tin_chests-1.0.dist-info"
    told.mkdir(parents=True)
    (site / "tin_chests.py").write_text(TIN)
    (told / "METADATA").write_text("Metadata-Version: 2.1\nName: tin-chests\nVersion: 1.0\n")
    (told / "entry_points.txt").write_text(
        "[dunechest.protocols]\ntin = tin_chests:TIN\nodd = tin_chests:NONSENSE\nbroken = no_such_module:X\n"
        "sftp = tin_chests:TIN\n"
    )
    monkeypatch.syspath_prepend(str(site))
    importlib.invalidate_caches()
    protocols._added.cache_clear()
    yield tmp_path / "tins"
    close_all()
    protocols._added.cache_clear()
    sys.modules.pop("tin_chests", None)


class TestTin(StoreTests):
    """The stranger's store."""

    @pytest.fixture
    def store(self, tin: Path) -> Store:
        return protocols.open_store(address_of(f"tin://red/a?shelf={tin}"), None)


@pytest.fixture(scope="module", params=PROTOCOLS)
def server(request: pytest.FixtureRequest) -> Iterator[Server]:
    pytest.importorskip({"sftp": "paramiko", "webdav": "webdav4", "s3": "s3fs"}[request.param])
    with server_of(request.param, f"stores-{request.param}") as running:
        yield running


class TestServers(StoreTests):
    """Those that come with it."""

    @pytest.fixture
    def store(self, server: Server, request: pytest.FixtureRequest) -> Store:
        store = server.store(request.node.name.partition("[")[0])
        store.make_folder("")
        return store


def test_a_protocol_that_a_package_adds_is_like_any_other(
    tin: Path, library: Path, drive: Path, tmp_path: Path, command: Command
) -> None:
    address = f"tin://red/chests?shelf={tin}"
    assert command("chest", "new", address, "--label", "tin").status == 0
    assert command("chest", "new", drive, "--label", "blue").status == 0
    assert command("archive", library, "--to", "blue").status == 0
    planned = command("copy", "blue", "tin", "--plan", "--json")
    files = planned.library["copy_count"]
    assert planned.json["costs"]["now"]["request_count"] == files * 7 + 60, "what its package says a file costs"
    assert command("copy", "blue", "tin").status == 0
    assert command("archive", library, "--to", "tin").status == 0
    ran = command("verify", "tin", "--json")
    assert (ran.status, ran.library["ok"]) == (0, True)
    assert command("restore", "tin", "shed", "--into", tmp_path / "back").status == 0
    assert {path.name for path in (tmp_path / "back").rglob("*")} == {path.name for path in library.rglob("*")}
    assert {chest.label for chest in dunechest.list_chests().chests} == {"blue", "tin"}


def test_a_package_that_does_not_work_says_so(tin: Path, command: Command) -> None:
    assert protocols.names()[:3] == ("sftp", "webdav", "s3")
    assert protocols.protocol_of("sftp") is not None and protocols.protocol_of("sftp").name == "sftp"  # type: ignore[union-attr]
    with pytest.raises(UsageError, match="cannot be used: No module named 'no_such_module'"):
        address_of("broken://red/a")
    with pytest.raises(UsageError, match=r"tin_chests:NONSENSE is not a `Protocol`"):
        address_of("odd://red/a")
    with pytest.raises(UsageError, match="speaks sftp, webdav, s3, broken, odd or tin"):
        address_of("nothing://red/a")
    with pytest.raises(UsageError, match=r"lid, which is not understood\. It may say: shelf"):
        address_of("tin://red/a?lid=on")
