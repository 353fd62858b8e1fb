"""Fixtures that several tests share."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.mounts import MAKERS
from tests.support.worlds import Departed, depart
from tests.whole.test_homecoming import clean_again
from tests.whole.test_round_trip import NASTY


@pytest.fixture(scope="module")
def departed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Departed]:
    with pytest.MonkeyPatch.context() as patch:
        folder = tmp_path_factory.mktemp("departed")
        yield depart(folder / "marram-point", folder / "none", patch)


@pytest.fixture
def new_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A clean computer: another user, other folders, another second drive."""
    home = tmp_path / "new-laptop" / "plover"
    clean_again(home)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "new-laptop" / "state"))
    return home


@pytest.fixture(params=sorted(MAKERS))
def mounted(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Path]:
    make, mount = MAKERS[request.param]
    for tool in (make[0], mount[0]):
        if shutil.which(tool) is None:
            pytest.skip(f"{tool} is not installed")
    if os.geteuid() != 0:
        pytest.skip("mounting an image needs root")
    image, place = tmp_path / "image", tmp_path / "mounted drive"
    with image.open("wb") as file:
        file.truncate(96 << 20)
    place.mkdir()
    subprocess.run([*make, str(image)], check=True, capture_output=True)
    done = subprocess.run(["losetup", "-f", "--show", str(image)], capture_output=True, text=True, check=False)
    device = done.stdout.strip()
    if done.returncode:
        pytest.skip(f"no loop device is available: {done.stderr.strip()}")
    try:
        done = subprocess.run([*mount, device, str(place)], capture_output=True, text=True, check=False)
        if done.returncode:
            pytest.skip(f"{request.param} cannot be mounted here: {done.stderr.strip()}")
        yield place
        subprocess.run(["umount", str(place)], check=True)
    finally:
        subprocess.run(["losetup", "-d", device], check=False)


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
