"""Large files: a ring of buffers between a reader, the digests and a writer that proves as it goes.

While the main thread computes SHA-512 (the slowest step on processors without
instructions for it), one thread reads ahead and another writes, flushes and reads
back what it wrote a stretch at a time. Long digests and file calls release the
interpreter lock, so the three run at once, and memory does not grow with the file.
"""

from __future__ import annotations

import errno
import mmap
import os
import queue
import sys
import threading
from collections.abc import Callable, Iterator

from dunechest.transfer import digests, disk, holes, medium

CHUNK = 2 << 20
_BUFFERS = 6
#: Where nothing is written meanwhile, longer reads keep the drive busier.
_LONG_CHUNK = 8 << 20
_LONG_BUFFERS = 3
#: Bytes written before they are flushed and read back.
STRETCH = 64 << 20

Tell = Callable[[int], None]


class TargetFailedError(Exception):
    """The side that is written to failed; the cause is the system's own error.

    Kept apart from a plain ``OSError``, which in this module always means the source.
    """


class ReadAhead:
    """Read an open file to its end, a few chunks ahead of whoever iterates.

    Each step of the iteration gives a view of the bytes and the function that
    hands its buffer back; a buffer not handed back is not used again, which is
    what keeps the reader from running away.
    """

    def __init__(self, fd: int, chunk: int = CHUNK, buffers: int = _BUFFERS) -> None:
        self._fd = fd
        self._free: queue.SimpleQueue[mmap.mmap | None] = queue.SimpleQueue()
        self._full: queue.SimpleQueue[tuple[mmap.mmap, int] | BaseException | None] = queue.SimpleQueue()
        # Anonymous maps start on a page, which uncached reading and writing asks for.
        for _ in range(buffers):
            self._free.put(mmap.mmap(-1, chunk))
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def _read(self) -> None:
        offset = 0
        try:
            while (buffer := self._free.get()) is not None:
                got = _read_at(self._fd, buffer, offset)
                if got == 0:
                    break
                self._full.put((buffer, got))
                offset += got
            self._full.put(None)
        except BaseException as error:
            self._full.put(error)

    def __iter__(self) -> Iterator[tuple[memoryview, Callable[[], None]]]:
        while (item := self._full.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            buffer, length = item
            yield memoryview(buffer)[:length], lambda b=buffer: self._free.put(b)  # type: ignore[misc]

    def close(self) -> None:
        """Stop reading; safe to call at any time."""
        self._free.put(None)
        self._thread.join()


def _read_at(fd: int, buffer: mmap.mmap, offset: int) -> int:
    """Fill a buffer as far as the file goes (an interrupted read may give less at first)."""
    done = 0
    view = memoryview(buffer)
    while done < len(view):
        try:
            got = _pread_into(fd, view[done:], offset + done)
        except OSError:
            # Uncached reading may be refused in the middle of a block: ask again through the cache.
            if not done or not medium.bypass(fd, False):
                raise
            got = _pread_into(fd, view[done:], offset + done)
        if got == 0:
            break
        done += got
        if done % 4096:  # a short read off the block grid: the end, or a filesystem of its own mind
            medium.bypass(fd, False)
    return done


def _pread_into(fd: int, view: memoryview, offset: int) -> int:
    if sys.platform != "win32" and hasattr(os, "preadv"):  # macOS has it from version 11 on
        return os.preadv(fd, [view], offset)
    os.lseek(fd, offset, os.SEEK_SET)
    data = os.read(fd, len(view))
    view[: len(data)] = data
    return len(data)


class ProvingWriter:
    """Write chunks in a thread; flush each stretch, read it back from the medium, digest what came.

    The written file is proven when `finish` returns the digest of what was *read back*.
    """

    def __init__(self, fd: int, algorithm: str | None, data: holes.Data | None = None) -> None:
        self._fd = fd
        self._data = data
        # Pieces between holes begin and end anywhere.
        self._bypassed = data is None and medium.bypass(fd, True)
        self._written = 0
        self._proven = 0
        self._back = digests.new("blake3")
        self._own = digests.new(algorithm) if algorithm else None
        self._chunks: queue.Queue[tuple[memoryview, Callable[[], None]] | None] = queue.Queue()
        self._error: BaseException | None = None
        self._spare = mmap.mmap(-1, CHUNK)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def put(self, view: memoryview, give_back: Callable[[], None]) -> None:
        """Hand over a chunk; its buffer is given back once it is written."""
        self._check()
        self._chunks.put((view, give_back))

    def finish(self) -> tuple[bytes, bytes]:
        """Wait for the last byte; return the digest of what was written and of what was read back."""
        self._chunks.put(None)
        self._thread.join()
        self._check()
        return (self._own.digest() if self._own else b""), self._back.digest()

    def _check(self) -> None:
        if self._error is not None:
            raise TargetFailedError from self._error

    def abandon(self) -> None:
        """Stop writing after an error elsewhere."""
        self._chunks.put(None)
        self._thread.join()

    def _run(self) -> None:
        while (item := self._chunks.get()) is not None:
            view, give_back = item
            if self._error is None:
                try:
                    self._write(view)
                except BaseException as error:
                    self._error = error
            give_back()
        if self._error is None:
            try:
                self._prove()
            except BaseException as error:
                self._error = error

    def _write(self, view: memoryview) -> None:
        if self._own is not None:
            self._own.update(view)
        if self._data is not None:
            self._write_pieces(view)
            return
        if self._bypassed and len(view) % 4096:  # the end of the file is no whole block
            self._through_cache()
        while view:
            try:
                count = disk.write_at(self._fd, view, self._written)
            except OSError as error:
                if self._bypassed and error.errno == errno.EINVAL:  # this filesystem wants other blocks
                    self._through_cache()
                    continue
                raise
            self._written += count
            view = view[count:]
            if self._bypassed and count % 4096:
                self._through_cache()
        if self._written - self._proven >= STRETCH:
            self._prove()

    def _write_pieces(self, view: memoryview) -> None:
        """Write what is no hole, and give the file its size so far."""
        length = len(view)
        for offset, piece in holes.pieces_of(view, self._written, self._data):
            while piece:
                count = disk.write_at(self._fd, piece, offset)
                piece, offset = piece[count:], offset + count
        self._written += length
        disk.set_size(self._fd, self._written)
        if self._written - self._proven >= STRETCH:
            self._prove()

    def _through_cache(self) -> None:
        medium.bypass(self._fd, False)
        self._bypassed = False

    def _prove(self) -> None:
        """Flush what was written since the last time, and read it back from the medium."""
        disk.flush_file(self._fd)
        medium.forget(self._fd, self._proven, self._written - self._proven)
        view = memoryview(self._spare)
        while self._proven < self._written:
            want = min(CHUNK, self._written - self._proven)
            if self._bypassed or want == CHUNK:
                got = _pread_into(self._fd, view, self._proven)
            else:
                got = _pread_into(self._fd, view[:want], self._proven)
            if got == 0:
                raise OSError(errno.EIO, "the drive gave back less than was written")
            got = min(got, want)
            self._back.update(view[:got])
            self._proven += got


def copy(
    source: int, target: int, *, sha512: bool, tell: Tell, most: int | None = None, data: holes.Data | None = None
) -> tuple[int, bytes, bytes, bytes]:
    """Copy one open file into another, reading the source once.

    Parameters
    ----------
    source, target : int
        File descriptors; `target` is open for reading and writing and is empty.
    sha512 : bool
        Whether the SHA-512 digest is wanted too.
    tell : callable
        Called with the number of bytes of each chunk.
    most : int, optional
        Give up (with what was read so far) beyond this many bytes: a file that
        grows faster than it can be read would otherwise never end.
    data : tuple of int, optional
        Where the data of the source lies, if it has holes: these stay.

    Returns
    -------
    tuple
        Size in bytes, BLAKE3 of what was read, BLAKE3 of what was read back
        from the target, and SHA-512 (empty if not asked for).

    Raises
    ------
    OSError
        If the source cannot be read.
    TargetFailedError
        If the target cannot be written or read back.
    """
    reader = ReadAhead(source)
    writer = ProvingWriter(target, "blake3", data)
    slow = digests.new("sha512") if sha512 else None
    size = 0
    try:
        for view, give_back in reader:
            length = len(view)
            if slow is not None:
                slow.update(view)
            writer.put(view, give_back)
            size += length
            tell(length)
            if most is not None and size > most:
                break
        read, back = writer.finish()
    except BaseException:
        writer.abandon()
        raise
    finally:
        reader.close()
    return size, read, back, slow.digest() if slow is not None else b""


def digest(fd: int, algorithms: tuple[str, ...], tell: Tell) -> tuple[int, tuple[bytes, ...]]:
    """Digest an open file as the medium holds it.

    Returns
    -------
    tuple
        Size in bytes, and the digests in the order of `algorithms`.
    """
    medium.forget(fd)
    medium.bypass(fd, True)
    reader = ReadAhead(fd, _LONG_CHUNK, _LONG_BUFFERS)
    running = [digests.new(name) for name in algorithms]
    size = 0
    try:
        for view, give_back in reader:
            for item in running:
                item.update(view)
            size += len(view)
            tell(len(view))
            give_back()
    finally:
        reader.close()
    return size, tuple(item.digest() for item in running)
