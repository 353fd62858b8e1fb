"""Tests that whoever adds to Dune Chest inherits.

`StoreTests` says what a `Store` must do. A package that adds a protocol has a class of its own::

    class TestTin(StoreTests):
        @pytest.fixture
        def store(self, tmp_path):
            return TinStore(address_of(f"tin://shelf/{tmp_path.name}"), None)

and pytest runs all of it against that store, which must be an empty folder to begin with.
"""

from __future__ import annotations

from collections.abc import Iterator

from dunechest.remote.store import CHUNK, Store


class StoreTests:
    """What every `Store` does. The fixture `store` returns an empty one."""

    #: Bytes of a file that is larger than what travels at a time.
    large = 2 * CHUNK + 4321

    def test_nothing_is_there_at_first(self, store: Store) -> None:
        """An empty folder lists nothing, and what is not there is not there."""
        files, folders = store.listing("")
        assert (files, folders - {""}) == ({}, set())
        assert store.size("a") is None
        assert store.listing("no/such folder") == ({}, set())
        store.remove("a")
        store.remove_folder("no such folder")

    def test_what_is_written_is_read(self, store: Store) -> None:
        """A file comes back, also an empty one, from any place on, under any name that a chest gives; and is replaced."""
        store.make_folder("far/below here")
        for name in ("a", "far/grün+ 100%#ü&.txt", "far/below here/what's (1).txt", "empty"):
            content = b"" if name == "empty" else name.encode() * 50
            store.write(name, iter([content[:7], content[7:]]), len(content))
            assert b"".join(store.read(name)) == content
            assert store.size(name) == len(content)
        assert b"".join(store.read("a", 10)) == b"a" * 40
        store.write("a", iter([b"other"]), 5)
        assert b"".join(store.read("a")) == b"other"
        files, folders = store.listing("")
        assert files == {
            "a": 5, "far/grün+ 100%#ü&.txt": 50 * len("far/grün+ 100%#ü&.txt".encode()),
            "far/below here/what's (1).txt": 50 * len("far/below here/what's (1).txt"), "empty": 0,
        }  # fmt: skip
        assert folders - {""} == {"far", "far/below here"}
        below = set(store.listing("far/below here")[0])
        assert below == {"far/below here/what's (1).txt"}, "a path is from the top of the store, whatever is listed"

    def test_a_large_file(self, store: Store) -> None:
        """More than travels at a time arrives whole."""
        content = bytes(range(256)) * (self.large // 256)
        pieces = (content[place : place + CHUNK] for place in range(0, len(content), CHUNK))
        store.write("large", pieces, len(content))
        assert b"".join(store.read("large")) == content

    def test_a_file_that_is_cut_short_has_not_its_name(self, store: Store) -> None:
        """What could not be sent whole is not there under its name; where it can be continued, it is."""
        content = bytes(range(256)) * (self.large // 256)

        def breaks() -> Iterator[bytes]:
            yield content[:CHUNK]
            raise InterruptedError("the cable was pulled")

        try:
            store.write("torn", breaks(), len(content))
        except Exception:  # whatever it is called
            pass
        assert store.size("torn") is None
        begun = store.begun("torn") if store.continues else 0
        assert 0 <= begun <= CHUNK
        store.write("torn", iter([content[begun:]]), len(content), begun)
        assert b"".join(store.read("torn")) == content

    def test_what_exists_is_not_made_again(self, store: Store) -> None:
        """Only one of two that make the same small file has made it."""
        assert store.create("lock", b"mine")
        assert not store.create("lock", b"yours")
        assert b"".join(store.read("lock")) == b"mine"

    def test_names_change(self, store: Store) -> None:
        """A file replaces another, a folder takes all in it along, and what is gone is gone."""
        store.make_folder("one/inner")
        for name in ("one/a", "one/inner/b", "c"):
            store.write(name, iter([name.encode()]), len(name))
        store.move("c", "one/a")
        assert b"".join(store.read("one/a")) == b"c"
        store.move_folder("one", "two")
        assert set(store.listing("")[0]) == {"two/a", "two/inner/b"}
        assert b"".join(store.read("two/inner/b")) == b"one/inner/b"
        store.remove("two/inner/b")
        store.remove_folder("two/inner")
        files, folders = store.listing("")
        assert (files, folders - {""}) == ({"two/a": 1}, {"two"})
        store.close()
