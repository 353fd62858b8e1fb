"""Bytes: the walk, the copy and its proof, the digests, the helper processes, safe writing."""

from __future__ import annotations

import errno
import hashlib
import os
import signal
import socket
import subprocess
from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from dunechest.errors import CutOffError
from dunechest.transfer import copying, digests, fingerprints, medium, safe, stream
from dunechest.transfer.copying import MovedError
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import AROUND, WHOLE, CopyJob, CopyTask, DigestJob, DigestTask, LookJob
from dunechest.transfer.totals import total_of_job
from dunechest.transfer.walk import walk
from dunechest.transfer.workers import BATCH_BYTES, BATCH_FILES, Workers, batches

SIZES = [
    0,
    1,
    4095,
    4096,
    4097,
    AROUND - 1,
    AROUND,
    AROUND + 1,
    500_000,
    WHOLE - 1,
    WHOLE,
    WHOLE + 1,
    10_000_019,
]


def silent(count: int) -> None:
    """Take no note."""


def task(source: Path, target: Path, *, expect: bytes | None = None, mode: int = 0o640) -> CopyTask:
    info = source.lstat()
    return CopyTask(os.fsencode(source), os.fsencode(target), info.st_size, info.st_mtime_ns, mode, expect)


@pytest.fixture
def sized(tmp_path: Path) -> list[Path]:
    """A file of each size at which the way of copying changes."""
    folder = tmp_path / "sized"
    folder.mkdir()
    paths = []
    for size in SIZES:
        path = folder / f"{size}"
        path.write_bytes(os.urandom(size))
        os.utime(path, ns=(10**18, 10**18 + size))
        paths.append(path)
    (tmp_path / "out").mkdir()
    return paths


@pytest.mark.parametrize("whole_sync", [True, False])
@pytest.mark.parametrize("sha512", [True, False])
def test_every_size_is_copied_and_digested_exactly(
    sized: list[Path], tmp_path: Path, whole_sync: bool, sha512: bool
) -> None:
    tasks = [task(path, tmp_path / "out" / path.name) for path in sized]
    told: list[int] = []
    outcomes = copying.copy_files(CopyJob(tasks, sha512, whole_sync), told.append)
    assert sum(told) == sum(SIZES)
    for path, outcome in zip(sized, outcomes, strict=True):
        content = path.read_bytes()
        copy = tmp_path / "out" / path.name
        assert outcome.state == "ok", outcome
        assert copy.read_bytes() == content
        assert outcome.blake3 == blake3(content).digest()
        assert outcome.sha512 == (hashlib.sha512(content).digest() if sha512 else b"")
        assert copy.stat().st_mtime_ns == path.stat().st_mtime_ns
        assert os.name == "nt" or copy.stat().st_mode & 0o777 == 0o640


def test_a_time_of_this_very_moment_proves_nothing_yet(tmp_path: Path) -> None:
    """On a filesystem whose clock ticks in seconds, a change may leave the time as it is."""
    source = tmp_path / "source"
    source.write_text("just now")
    info = source.stat()
    fine = os.stat_result([*info[:10]], {"st_mtime_ns": 10**18 + 1, "st_ctime_ns": 10**18 + 1})
    coarse = os.stat_result([*info[:10]], {"st_mtime_ns": 10**18, "st_ctime_ns": 10**18})
    fd = os.open(source, os.O_RDONLY)
    for before, age, moved in (
        (fine, 10_000_000, True),
        (fine, 30_000_000, False),
        (fine, -10_000_000, True),
        (coarse, 1_900_000_000, True),
        (coarse, -1_900_000_000, True),
        (coarse, 2_100_000_000, False),
    ):
        young = abs(age) < (copying.TICK_COARSE if before is coarse else copying.TICK_FINE)
        assert young is moved
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(os, "fstat", lambda _, before=before: before)
            if moved:
                with pytest.raises(MovedError):
                    copying.still(fd, before, before.st_size, 10**18 + age)
            else:
                copying.still(fd, before, before.st_size, 10**18 + age)
    os.close(fd)


def test_a_digest_that_is_expected_must_be_met(sized: list[Path], tmp_path: Path) -> None:
    good = [task(p, tmp_path / "out" / p.name, expect=blake3(p.read_bytes()).digest()) for p in sized]
    assert {o.state for o in copying.copy_files(CopyJob(good, False, True), silent)} == {"ok"}
    bad = [task(p, tmp_path / "out" / f"{p.name}.bad", expect=b"\0" * 32) for p in sized]
    assert {o.state for o in copying.copy_files(CopyJob(bad, False, True), silent)} == {"not-intact"}
    assert not list((tmp_path / "out").glob("*.bad"))


def test_without_a_way_around_the_cache_all_is_the_same(
    sized: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(medium, "bypass", lambda fd, on: False)
    tasks = [task(path, tmp_path / "out" / path.name) for path in sized]
    outcomes = copying.copy_files(CopyJob(tasks, True, False), silent)
    for path, outcome in zip(sized, outcomes, strict=True):
        assert outcome.sha512 == hashlib.sha512(path.read_bytes()).digest()
        assert (tmp_path / "out" / path.name).read_bytes() == path.read_bytes()


def test_a_filesystem_that_wants_other_blocks_gets_them_through_the_cache(
    sized: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    real, refused = os.pwrite, []

    def picky(fd: int, data: object, offset: int) -> int:
        if not refused:
            refused.append(1)
            raise OSError(errno.EINVAL, "Invalid argument")
        return real(fd, data, offset)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "pwrite", picky)
    (outcome,) = copying.copy_files(CopyJob([task(sized[-1], tmp_path / "out" / "x")], True, True), silent)
    assert refused
    assert outcome.state == "ok"
    assert (tmp_path / "out" / "x").read_bytes() == sized[-1].read_bytes()


@pytest.mark.parametrize("size", [100, 300_000, 9_000_000])
@pytest.mark.parametrize("code", [errno.ENOSPC, errno.EIO, errno.EROFS])
def test_a_target_that_fails_cuts_off_and_leaves_nothing(
    size: int, code: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = tmp_path / "source"
    source.write_bytes(os.urandom(size))
    os.utime(source, ns=(10**18, 10**18))

    def fail(*words: object) -> int:
        raise OSError(code, os.strerror(code))

    monkeypatch.setattr(os, "write", fail)
    monkeypatch.setattr(os, "pwrite", fail)
    (outcome,) = copying.copy_files(CopyJob([task(source, tmp_path / "target")], True, True), silent)
    monkeypatch.undo()
    assert outcome.state == "cut-off"
    assert errno.errorcode[code] in outcome.why
    assert not (tmp_path / "target").exists()


def test_an_existing_target_is_never_written_to(tmp_path: Path) -> None:
    source, target = tmp_path / "source", tmp_path / "target"
    source.write_text("new")
    target.write_text("old")
    (outcome,) = copying.copy_files(CopyJob([task(source, target)], True, True), silent)
    assert outcome.state == "cut-off"
    assert target.read_text() == "old"
    link = tmp_path / "link"
    link.symlink_to(tmp_path / "elsewhere")
    (outcome,) = copying.copy_files(CopyJob([task(source, link)], True, True), silent)
    assert outcome.state == "cut-off"
    assert not (tmp_path / "elsewhere").exists()


def test_what_is_no_plain_file_is_not_read(tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("secret")
    (tmp_path / "link").symlink_to("secret")
    os.mkfifo(tmp_path / "pipe")
    for name in ("link", "pipe"):
        (outcome,) = copying.copy_files(CopyJob([task(tmp_path / name, tmp_path / "t")], True, True), silent)
        assert outcome.state == "unreadable"
        (found,) = digest_files([DigestTask(os.fsencode(tmp_path / name), 6)], silent)
        assert found.state == "unreadable"
    (found,) = digest_files([DigestTask(os.fsencode(tmp_path / "none"), 6)], silent)
    assert found.state == "vanished"


@pytest.mark.parametrize("algorithm", [*digests.ALGORITHMS])
def test_digests_are_those_of_the_standard_library(algorithm: str, sized: list[Path]) -> None:
    outcomes = digest_files([DigestTask(os.fsencode(p), p.stat().st_size, (algorithm,)) for p in sized], silent)
    for path, outcome in zip(sized, outcomes, strict=True):
        content = path.read_bytes()
        wanted = blake3(content).digest() if algorithm == "blake3" else hashlib.new(algorithm, content).digest()
        assert outcome.digests == (wanted,)
        assert outcome.size == len(content)


def test_a_growing_file_does_not_go_on_for_ever(tmp_path: Path) -> None:
    source = os.open("/dev/zero", os.O_RDONLY)
    target = os.open(tmp_path / "t", os.O_RDWR | os.O_CREAT)
    size, _, _, _ = stream.copy(source, target, sha512=False, tell=silent, most=10 << 20)
    os.close(source)
    os.close(target)
    assert 10 << 20 < size <= (10 << 20) + stream.CHUNK


def test_a_source_that_fails_in_the_middle_is_told_from_a_target(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = tmp_path / "source"
    source.write_bytes(os.urandom(9_000_000))
    os.utime(source, ns=(10**18, 10**18))
    real = os.preadv

    def fail(fd: int, buffers: list[memoryview], offset: int, *rest: int) -> int:
        if offset >= 4 << 20 and os.readlink(f"/proc/self/fd/{fd}").endswith("source"):
            raise OSError(errno.EIO, "Input/output error")
        return real(fd, buffers, offset)

    monkeypatch.setattr(os, "preadv", fail)
    (outcome,) = copying.copy_files(CopyJob([task(source, tmp_path / "t")], True, True), silent)
    assert outcome.state == "unreadable"
    assert not (tmp_path / "t").exists()


def test_walk_tells_everything_apart(tmp_path: Path) -> None:
    top = tmp_path / "top"
    (top / "a" / "b").mkdir(parents=True)
    (top / "a" / "file").write_bytes(b"12345")
    (top / "a" / "link").symlink_to("..")
    os.link(top / "a" / "file", top / "twin")
    os.mkfifo(top / "pipe")
    sock = socket.socket(socket.AF_UNIX)
    sock.bind(str(top / "socket"))
    sock.close()
    found = walk(str(top))
    assert [(f.path, f.size, f.names) for f in found.files] == [("a/file", 5, 2), ("twin", 5, 2)]
    assert found.files[0].inode == found.files[1].inode != 0
    assert [(f.path, f.empty) for f in found.folders] == [("", False), ("a", False), ("a/b", True)]
    assert [(k.path, k.target) for k in found.links] == [("a/link", "..")]
    assert [o.path for o in found.others] == ["pipe", "socket"]
    assert found.bytes == 10
    assert [f.path for f in walk(str(top), skip=lambda path: path == "a").files] == ["twin"]
    assert [f.path for f in walk(str(top / "twin")).files] == ["twin"]
    with pytest.raises(OSError, match="none"):
        walk(str(top / "none"))


@given(st.lists(st.integers(0, 6 << 20), max_size=900))
def test_batches_hold_everything_in_order_and_keep_their_bounds(sizes: list[int]) -> None:
    made = list(batches(sizes, lambda size: size))
    assert sorted(size for batch in made for size in batch) == sorted(sizes)
    small = [size for batch in made for size in batch if size <= WHOLE]
    assert small == [size for size in sizes if size <= WHOLE]
    for batch in made:
        assert len(batch) == 1 or max(batch) <= WHOLE
        assert len(batch) <= BATCH_FILES
        assert sum(batch[:-1]) < BATCH_BYTES


@pytest.mark.parametrize("workers", [0, 1, 3])
@pytest.mark.parametrize("one_large", [False, True])
def test_a_crew_answers_in_order_whoever_is_faster(workers: int, one_large: bool, sized: list[Path]) -> None:
    paths = [*sized, *reversed(sized)]
    told: list[int] = []
    jobs = [DigestJob([DigestTask(os.fsencode(p), p.stat().st_size)]) for p in paths]
    with Workers(workers, told.append, one_large=one_large) as own:
        done = list(own.run(jobs))
    assert [d.number for d in done] == list(range(len(paths)))
    wanted = [blake3(p.read_bytes()).digest() for p in paths]
    assert [d.digests[0].digests[0] for d in done if d.digests] == wanted
    assert sum(told) == 2 * sum(SIZES)


def test_a_helper_that_is_killed_is_a_cut_off(tmp_path: Path) -> None:
    big = tmp_path / "big"
    with big.open("wb") as file:
        file.truncate(600 << 20)
    jobs = [DigestJob([DigestTask(os.fsencode(big), 600 << 20, ("sha512",))]) for _ in range(4)]
    with pytest.raises(CutOffError, match="ended from outside"), Workers(2, silent) as workers:
        running = workers.run(jobs)
        os.kill(workers.processes[0].pid, signal.SIGKILL)
        list(running)


def test_leaving_a_crew_early_ends_its_processes(tmp_path: Path) -> None:
    little, big = tmp_path / "little", tmp_path / "big"
    little.write_bytes(b"x")
    with big.open("wb") as file:
        file.truncate(600 << 20)
    jobs = [
        DigestJob([DigestTask(os.fsencode(path), path.stat().st_size, ("sha512",))])
        for path in (little, big, big, big)
    ]
    processes: list[subprocess.Popen[bytes]] = []
    with pytest.raises(KeyboardInterrupt), Workers(2, silent) as workers:
        processes += workers.processes
        next(workers.run(jobs))
        raise KeyboardInterrupt
    # Ended by us, in the middle: one that had gone on to the end of its work would have left with 0.
    assert all(process.poll() not in (None, 0) for process in processes)


def test_a_small_job_starts_no_process(tmp_path: Path) -> None:
    assert Workers.for_job(10, 1000, [tmp_path], silent).workers == 0
    assert Workers.for_job(10_000, 1000, [tmp_path], silent).workers >= 1


def test_safe_writing_keeps_the_old_file_until_the_new_one_is_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "records" / "record"
    path.parent.mkdir()
    safe.write_file(path, b"old")
    monkeypatch.setattr(medium, "flush_file", lambda fd: (_ for _ in ()).throw(OSError(errno.ENOSPC, "full")))
    with pytest.raises(OSError, match="full"):
        safe.write_file(path, b"new")
    assert path.read_bytes() == b"old"
    assert [p.name for p in path.parent.iterdir()] == ["record"]
    monkeypatch.undo()
    (path.parent / f"record{safe.BESIDE}").write_bytes(b"left by a crash")
    safe.write_file(path, b"new", mode=0o600)
    assert path.read_bytes() == b"new"
    assert os.name == "nt" or path.stat().st_mode & 0o777 == 0o600


def test_bounded_reading(tmp_path: Path) -> None:
    (tmp_path / "f").write_bytes(b"12345")
    assert safe.read_bounded(tmp_path / "f", 5) == b"12345"
    with pytest.raises(ValueError, match="larger than 4"):
        safe.read_bounded(tmp_path / "f", 4)
    (tmp_path / "link").symlink_to("f")
    os.mkfifo(tmp_path / "pipe")
    for name in ("link", "pipe", "none", "."):
        with pytest.raises(OSError):
            safe.read_bounded(tmp_path / name, 10)


def test_a_folder_adds_up_to_the_same_whoever_looks_over_its_parts(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(150):
        folder = tmp_path / f"a{number % 7}" / "b\nc" / os.fsdecode(b"d\xff") / str(number)
        folder.mkdir(parents=True)
        (folder / f"{number}.txt").write_text("x" * number)
    alone = fingerprints.total_of_folder(str(tmp_path), 150)
    monkeypatch.setattr(fingerprints, "MANY", 1)
    assert fingerprints.total_of_folder(str(tmp_path), 150) == alone
    assert fingerprints.total_of_folder(str(tmp_path / "a0"), 150) != alone
    os.utime(tmp_path / "a3" / "b\nc" / os.fsdecode(b"d\xff") / "3" / "3.txt", ns=(1, 1))
    assert fingerprints.total_of_folder(str(tmp_path), 150) != alone
    with pytest.raises(OSError, match="none"):
        fingerprints.total_of_folder(str(tmp_path / "none"), 150)
    job = LookJob(os.fsencode(tmp_path), [b"a1", b"not there"])
    assert total_of_job(job) is None
