"""The office of Marram Point: three computers, two drives, and two servers that are started for it and stopped."""

from __future__ import annotations

import getpass
import os
import random
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from dunechest.demo import notebook, papers
from dunechest.demo.world import SEED
from dunechest.errors import DuneChestError

COMPUTERS = ("office-pc", "new-laptop", "hut-pc")
#: Who owns the database.
_OWNER = "keeper"
_SETTINGS = "listen_addresses = ''\nunix_socket_directories = '{place}'\nport = 5432\nfsync = off\n"
_RULES = f"local all {_OWNER} trust\nlocal all all scram-sha-256\n"
_SSH = """HostKey {place}/host
AuthorizedKeysFile {place}/authorized
ListenAddress 127.0.0.1
PidFile {place}/pid
PasswordAuthentication no
KbdInteractiveAuthentication no
UsePAM no
StrictModes no
Subsystem sftp internal-sftp
"""


class OfficeWorld(msgspec.Struct, frozen=True):
    """The folders of the sample office."""

    folder: Path

    def home(self, machine: str) -> Path:
        """Return a computer's home folder."""
        return self.folder / machine / "home"

    @property
    def drives(self) -> tuple[Path, Path]:
        """The two drives."""
        return self.folder / "drives" / "blue", self.folder / "drives" / "sand"

    def standard(self, name: str) -> Path:
        """Return where applications of the first computer keep their data."""
        return self.home(COMPUTERS[0]) / name

    def environment(self, machine: str) -> dict[str, str]:
        """Return the environment in which a command runs as if on a computer of the office."""
        keep = {name: value for name, value in os.environ.items() if not name.startswith("XDG_")}
        home = str(self.home(machine))
        # Each drive is with the computer that it belongs to; the hut is next to the office.
        with_it = {"office-pc": self.drives[:1], "new-laptop": self.drives[1:], "hut-pc": self.drives[:1]}[machine]
        drives = os.pathsep.join(str(drive) for drive in with_it)
        state = str(self.folder / machine / "state")
        return {**keep, "HOME": home, "USERPROFILE": home, "DUNECHEST_HOME": state, "DUNECHEST_DRIVES": drives}


class Servers(msgspec.Struct, frozen=True):
    """The two servers: the address of the office's ledger for its owner, and that of the folder for the chest."""

    ledger: str
    barn: str

    def ledger_for(self, computer: str) -> str:
        """Return the address of the ledger for a computer."""
        head, rest = self.ledger.split("@", 1)
        return f"{head.rpartition('//')[0]}//office-{computer}@{rest}"


def make_office(folder: Path) -> OfficeWorld:
    """Make the homes, libraries and drives of the office, in a new folder or one that an earlier tour made.

    Raises
    ------
    FileExistsError
        If the folder holds something else.
    """
    mark = folder / ".marram-office"
    if folder.exists() and any(folder.iterdir()) and not mark.exists():
        raise FileExistsError(f"{folder} is not empty, and it is not a sample office. Name another folder.")
    if mark.exists():
        shutil.rmtree(folder)
    folder.mkdir(parents=True, exist_ok=True)
    mark.touch()
    world = OfficeWorld(folder.resolve())
    rng = random.Random(SEED)
    for machine in COMPUTERS:
        world.home(machine).mkdir(parents=True)
    for drive in world.drives:
        drive.mkdir(parents=True)
    office, laptop = world.home("office-pc"), world.home("new-laptop")
    papers.make(office / "Documents" / "Marram Papers", office, rng, 12)
    notebook.make(laptop / "Tide Notes", rng, 60)
    return world


@contextmanager
def servers() -> Iterator[Servers]:
    """Run both servers while the block runs, in a folder that is removed afterwards.

    Raises
    ------
    DuneChestError
        If one of them is not installed, or does not start.
    """
    initdb = _program("initdb", sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True))
    sshd = _program("sshd", [Path("/usr/sbin")])
    if os.name != "posix" or initdb is None or sshd is None:
        raise DuneChestError(
            "The tour of an office starts a PostgreSQL server and an SFTP server of its own: initdb and sshd must be installed "
            "(on Debian: postgresql and openssh-server)."
        )
    place = Path(tempfile.mkdtemp(prefix="dune-office-"))
    place.chmod(0o755)
    ssh = None
    try:
        _start_postgres(initdb, place)
        port, ssh = _start_ssh(sshd, place)
        (place / "served").mkdir()
        barn = (
            f"sftp://{getpass.getuser()}@localhost:{port}/{place}/served?known-hosts={place}/known&key={place}/user"
        )
        yield Servers(f"postgresql+psycopg://{_OWNER}@/office?host={place}", barn)
    except (OSError, subprocess.SubprocessError) as error:
        raise DuneChestError(f"The servers of the sample office cannot be started: {error}") from error
    finally:
        if ssh is not None:
            ssh.terminate()
            ssh.wait()
        _as_other([initdb.with_name("pg_ctl"), "-D", place / "data", "-m", "immediate", "stop"], place, check=False)
        shutil.rmtree(place, ignore_errors=True)


def _program(name: str, folders: list[Path]) -> Path | None:
    found = next((folder / name for folder in folders if (folder / name).exists()), None)
    other = shutil.which(name)
    return found or (Path(other) if other else None)


def _as_other(words: list[object], place: Path, *, check: bool = True) -> None:
    """Run a program of the database as whoever may: it refuses to be run by the administrator."""
    who: dict[str, object] = {}
    if sys.platform != "win32" and os.geteuid() == 0:
        import pwd

        try:
            own = pwd.getpwnam("postgres")
        except KeyError as error:
            raise DuneChestError(
                "The database is not run by the administrator: start the tour as another user."
            ) from error
        who = {"user": own.pw_uid, "group": own.pw_gid, "extra_groups": []}
        for path in (place, *place.iterdir()):
            if path.name not in ("host", "user", "served"):
                os.chown(path, own.pw_uid, own.pw_gid)
    subprocess.run([str(word) for word in words], check=check, capture_output=True, cwd=place, timeout=60, **who)  # type: ignore[call-overload]


def _start_postgres(initdb: Path, place: Path) -> None:
    data = place / "data"
    _as_other([initdb, "-D", data, "-U", _OWNER, "--no-sync", "-E", "UTF8", "--locale=C", "--auth=trust"], place)
    (data / "pg_hba.conf").write_text(_RULES)
    with (data / "postgresql.conf").open("a") as settings:
        settings.write(_SETTINGS.format(place=place))
    _as_other([initdb.with_name("pg_ctl"), "-D", data, "-w", "-l", place / "log", "start"], place)
    _as_other([initdb.with_name("createdb"), "-h", place, "-U", _OWNER, "office"], place)


def _start_ssh(sshd: Path, place: Path) -> tuple[int, subprocess.Popen[bytes]]:
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(place / name)], check=True)
    shutil.copy(place / "user.pub", place / "authorized")
    (place / "ssh").write_text(_SSH.format(place=place))
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = int(free.getsockname()[1])
    key = (place / "host.pub").read_text().split()
    (place / "known").write_text(f"[localhost]:{port} {key[0]} {key[1]}\n")
    if sys.platform != "win32" and os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen(
        [str(sshd), "-D", "-f", str(place / "ssh"), "-p", str(port)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    for _ in range(100):
        with socket.socket() as asked:
            if asked.connect_ex(("127.0.0.1", port)) == 0:
                return port, process
        time.sleep(0.05)
    process.terminate()
    raise OSError("sshd does not listen")
