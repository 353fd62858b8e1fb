"""Fixtures that several tests share."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.support import postgres
from tests.support.mounts import MAKERS
from tests.support.worlds import Departed, depart
from tests.whole.test_homecoming import clean_again
from tests.whole.test_round_trip import NASTY


@pytest.fixture(scope="module")
def departed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Departed]:
    with pytest.MonkeyPatch.context() as patch:
        folder = tmp_path_factory.mktemp("departed")
        yield depart(folder / "marram-point", folder / "none", patch)


@pytest.fixture(scope="session")
def office_server() -> Iterator[postgres.Server]:
    with postgres.server() as server:
        yield server


@pytest.fixture
def new_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A clean computer: another user, other folders, another second drive."""
    home = tmp_path / "new-laptop" / "plover"
    clean_again(home)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "new-laptop" / "state"))
    return home


class Image:
    """A drive in an image file, which can be unplugged and plugged in, elsewhere too."""

    def __init__(self, kind: str, folder: Path) -> None:
        self.kind = kind
        self.place = folder / "mounted drive"
        self._image = folder / "image"
        self._device = ""

    def make(self) -> None:
        """Make the image and its device; the test is skipped where that cannot be."""
        make, mount = MAKERS[self.kind]
        for tool in (make[0], mount[0]):
            if shutil.which(tool) is None:
                pytest.skip(f"{tool} is not installed")
        if os.geteuid() != 0:
            pytest.skip("mounting an image needs root")
        with self._image.open("wb") as file:
            file.truncate(96 << 20)
        subprocess.run([*make, str(self._image)], check=True, capture_output=True)
        done = subprocess.run(
            ["losetup", "-f", "--show", str(self._image)], capture_output=True, text=True, check=False
        )
        if done.returncode:
            pytest.skip(f"no loop device is available: {done.stderr.strip()}")
        self._device = done.stdout.strip()

    def plug(self, place: Path | None = None) -> Path:
        """Mount it, where it was last or in another folder."""
        self.place = place or self.place
        self.place.mkdir(exist_ok=True)
        mount = MAKERS[self.kind][1]
        done = subprocess.run([*mount, self._device, str(self.place)], capture_output=True, text=True, check=False)
        if done.returncode:
            pytest.skip(f"{self.kind} cannot be mounted here: {done.stderr.strip()}")
        return self.place

    def unplug(self) -> None:
        """Unmount it."""
        for attempt in range(10):
            done = subprocess.run(["umount", str(self.place)], check=False, capture_output=True)
            if not done.returncode:
                return
            time.sleep(0.1 * attempt)
        raise AssertionError(f"it cannot be unmounted: {done.stderr!r}")

    def drop(self) -> None:
        """Remove all traces of it."""
        subprocess.run(["umount", "-l", str(self.place)], check=False, capture_output=True)
        if self._device:
            subprocess.run(["losetup", "-d", self._device], check=False)


@pytest.fixture(params=sorted(MAKERS))
def image(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Image]:
    drive = Image(request.param, tmp_path)
    try:
        drive.make()
        yield drive
    finally:
        drive.drop()


@pytest.fixture
def mounted(image: Image) -> Iterator[Path]:
    yield image.plug()
    image.unplug()


@pytest.fixture
def nasty(tmp_path: Path) -> Path:
    """A tree with everything in it that trips programs up."""
    place = tmp_path / "nasty tree"
    base = os.fsencode(place)
    os.makedirs(base)
    for number, name in enumerate(NASTY):
        with open(os.path.join(base, name), "wb") as file:
            file.write(b"content %d" % number)
        os.makedirs(os.path.join(base, b"folders", name + b"~"[: len(name) < 255]))
    (place / "empty file").touch()
    (place / "deep" / "er" / "and" / "deeper").mkdir(parents=True)
    os.symlink(b"plain.txt", os.path.join(base, b"link"))
    os.symlink(b"no\nwhere\xff", os.path.join(base, b"dangling\xff"))
    os.symlink(b"deep/er", os.path.join(base, b"link to folder"))
    os.symlink(b".", os.path.join(base, b"loop"))
    (place / "read only").write_text("r")
    (place / "read only").chmod(0o444)
    (place / "program").write_text("#!")
    (place / "program").chmod(0o755)
    (place / "secret").write_text("s")
    (place / "secret").chmod(0o600)
    (place / "deep" / "er").chmod(0o750)
    os.link(place / "program", place / "deep" / "same program")
    for number, path in enumerate(sorted(place.rglob("*"), key=lambda p: -len(p.parts))):
        os.utime(path, ns=(10**9, 10**9 * (number - 5) + number), follow_symlinks=False)
    os.utime(place, ns=(10**9, 1_234_567_890_123_456_789))
    return place


@pytest.fixture
def table(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A `crontab` command that keeps its table in a file."""
    place = tmp_path / "table"
    program = tmp_path / "bin" / "crontab"
    program.parent.mkdir()
    program.write_text(
        f"""#!/bin/sh
case "$1" in
-l) cat '{place}' 2>/dev/null || {{ echo "no crontab for tern" >&2; exit 1; }} ;;
-r) rm '{place}' ;;
-) [ -e '{place}.refuses' ] && {{ echo "you may not" >&2; exit 1; }}; cat > '{place}' ;;
esac
"""
    )
    program.chmod(0o755)
    monkeypatch.setenv("PATH", f"{program.parent}{os.pathsep}{os.environ['PATH']}")
    monkeypatch.setattr("dunechest.machine.schedulers.cron._daemon_runs", lambda: True)
    return place


#: Runs a command as another user, given by number.
AsPerson = Callable[..., subprocess.CompletedProcess[str]]


def give(user: int, *folders: Path) -> None:
    """Give folders with all in them to a user, given by number."""
    for folder in folders:
        for place in (folder, *folder.rglob("*")):
            os.lchown(place, user, user)


@pytest.fixture
def as_person(tmp_path: Path) -> AsPerson:
    """Run a command as somebody who is not the administrator, with a home and records of their own."""
    if not hasattr(os, "geteuid") or os.geteuid() != 0 or shutil.which("setpriv") is None:
        pytest.skip("needs root, to be somebody else")
    for folder in (tmp_path, *tmp_path.parents):
        if folder.stat().st_mode & 0o005 != 0o005:
            folder.chmod(folder.stat().st_mode | 0o055)

    def run(*words: str | os.PathLike[str], user: int = 54321) -> subprocess.CompletedProcess[str]:
        state, home = tmp_path / f"state {user}", tmp_path / f"home {user}"
        for folder in (state, home):
            folder.mkdir(exist_ok=True)
            give(user, folder)
        environment = {**os.environ, "HOME": str(home), "DUNECHEST_HOME": str(state)}
        other = ["setpriv", "--reuid", str(user), "--regid", str(user), "--clear-groups"]
        ran = subprocess.run(
            [*other, sys.executable, "-m", "dunechest", *map(str, words)],
            capture_output=True,
            text=True,
            check=False,
            env=environment,
            cwd=tmp_path,
        )
        if ran.returncode in (126, 127) or "No module named" in ran.stderr:
            pytest.skip(f"another user cannot run this Python: {ran.stderr[:200]}")
        return ran

    return run
