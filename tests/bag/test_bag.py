"""RFC 8493: the grammar of manifests and tag files, and bags that others made."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.bag import manifest, tags
from dunechest.bag.bag import list_bag, read_bag
from dunechest.transfer import digests
from tests.support.bags import make_bag
from tests.support.runs import Command
from tests.support.trees import flip

# Any path a filesystem can hold that is text: pieces without "/" and NUL.
pieces = st.text(st.characters(exclude_characters="/\0", exclude_categories=("Cs",)), min_size=1, max_size=20).filter(
    lambda piece: piece not in (".", "..")
)
paths = st.lists(pieces, min_size=1, max_size=4).map(lambda p: "data/" + "/".join(p))
digest = st.binary(min_size=64, max_size=64).map(bytes.hex)


@given(st.dictionaries(paths, digest, max_size=30))
def test_manifest_comes_back_as_written(entries: dict[str, str]) -> None:
    text = "".join(manifest.format_line(digest, path) for path, digest in sorted(entries.items()))
    back = manifest.parse_manifest("m", "sha512", text, payload=True, digest_length=128)
    assert back.entries == entries
    assert back.problems == []


@given(st.text(max_size=300))
def test_no_text_breaks_the_reader_and_no_path_leaves_the_bag(text: str) -> None:
    back = manifest.parse_manifest("m", "md5", text, payload=True, digest_length=32)
    for path in back.entries:
        assert path.startswith("data/")
        assert ".." not in path.split("/")
    entries, _ = manifest.parse_fetch(text)
    assert all(entry.path.startswith("data/") for entry in entries)


@given(st.text(max_size=40))
def test_path_encoding_is_inverse(text: str) -> None:
    encoded = manifest.encode_path(text)
    assert "\n" not in encoded
    assert "\r" not in encoded
    assert manifest.decode_path(encoded) == text


@pytest.mark.parametrize("ends", ["\n", "\r", "\r\n"])
def test_all_line_ends_are_read(ends: str) -> None:
    lines = [f"{'a' * 32}  data/x", f"{'b' * 32}\tdata/y z", f"{'C' * 32} *data/binary"]
    back = manifest.parse_manifest("m", "md5", ends.join(lines), payload=True, digest_length=32)
    assert back.entries == {"data/x": "a" * 32, "data/y z": "b" * 32, "data/binary": "c" * 32}


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("nonsense", "not a digest"),
        (f"{'a' * 31}  data/x", "31 digits"),
        (f"{'a' * 32}  /etc/x", "absolute"),
        (f"{'a' * 32}  data/../../x", "upwards"),
        (f"{'a' * 32}  elsewhere/x", "does not lie in data/"),
        (f"{'a' * 32}  data/x\0y", "NUL"),
        (f"{'a' * 32}  data//x", "empty piece"),
        (f"{'a' * 32}  data/twice\n{'b' * 32}  data/twice", "twice"),
        ("a" * 70_000, "too long"),
    ],
)
def test_a_bad_line_is_a_problem_and_the_rest_is_used(line: str, why: str) -> None:
    text = f"{'d' * 32}  data/good\n{line}\n{'e' * 32}  data/last\n"
    back = manifest.parse_manifest("m", "md5", text, payload=True, digest_length=32)
    assert why in back.problems[0].why
    assert {"data/good", "data/last"} <= set(back.entries)


def test_info_folds_and_unfolds() -> None:
    pairs, problems = tags.parse_info("Contact: A person\n  of the station\nPayload-Oxum: 12.3\ntorn line\n")
    assert pairs == [("Contact", "A person of the station"), ("Payload-Oxum", "12.3")]
    assert tags.oxum(pairs) == (12, 3)
    assert problems[0].line == 4
    assert tags.parse_info(tags.format_info([("A", "one\ntwo")]).decode())[0] == [("A", "one two")]


@pytest.mark.parametrize(
    "text",
    ["", "hello", "BagIt-Version: 9.0\nTag-File-Character-Encoding: UTF-8\n",
     "BagIt-Version: 1.0\nTag-File-Character-Encoding: no-such\n",
     "BagIt-Version: 1.0\nTag-File-Character-Encoding: hex\n"],
)  # fmt: skip
def test_a_declaration_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(dunechest.errors.BagUnusableError):
        tags.parse_declaration(text.encode())


@pytest.mark.parametrize("algorithm", sorted(digests.of_manifests()))
def test_a_bag_that_someone_else_made_is_verified(algorithm: str, tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", algorithm)
    result = dunechest.verify(bag)
    assert result.ok
    assert result.libraries[0].kind == "foreign bag"
    flip(bag / "data" / "one.txt")
    (state,) = dunechest.verify(bag).libraries[0].problems
    assert (state.path, state.state) == ("data/one.txt", "changed")


def test_another_algorithm_is_one_entry(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    started = digests.Algorithm(128, lambda data: hashlib.blake2b(data, usedforsecurity=False))
    monkeypatch.setitem(digests.ALGORITHMS, "blake2b", started)
    (tmp_path / "drive").mkdir()
    chest = dunechest.create_chest(tmp_path / "drive", "red")
    bag = make_bag(chest.folder / "bags" / "theirs", "blake2b")
    assert dunechest.verify(chest).ok
    into = dunechest.RestoreOptions(into=str(tmp_path / "back"))
    assert dunechest.restore(chest, "theirs", into).ok
    assert (tmp_path / "back" / "one.txt").read_bytes() == (bag / "data" / "one.txt").read_bytes()
    flip(bag / "data" / "one.txt")
    assert not dunechest.verify(chest).ok
    into = dunechest.RestoreOptions(into=str(tmp_path / "again"))
    assert not dunechest.restore(chest, "theirs", into).ok


def test_each_state_of_a_foreign_bag(tmp_path: Path, command: Command) -> None:
    bag = make_bag(tmp_path / "bag", "sha256", names=("a", "b", "c", "d"))
    (bag / "data" / "a").write_text("other")
    (bag / "data" / "b").unlink()
    (bag / "data" / "c").unlink()
    (bag / "data" / "c").symlink_to("/etc/hostname")
    (bag / "data" / "new").write_text("nobody listed me")
    ran = command("verify", bag, "--json")
    assert ran.status == 1
    states = {s["path"]: s["state"] for s in ran.json["libraries"][0]["problems"]}
    assert states == {"data/a": "changed", "data/b": "missing", "data/c": "unreadable", "data/new": "unlisted"}


def test_fetch_is_read_and_never_fetched(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", "sha256")
    (bag / "data" / "one.txt").unlink()
    (bag / "fetch.txt").write_text("http://127.0.0.1:1/never 18 data/one.txt\nbad line\n")
    states = {s.path: s for s in dunechest.verify(bag).libraries[0].problems}
    assert states["data/one.txt"].state == "missing"
    assert "fetch.txt" in states["data/one.txt"].why
    assert "line 2" in states["fetch.txt"].why


def test_oxum_is_what_a_quick_check_of_a_foreign_bag_goes_by(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", "sha256")
    assert dunechest.verify(bag, quick=True).ok
    (bag / "data" / "one.txt").write_text("longer than it was before")
    assert not dunechest.verify(bag, quick=True).ok


def test_older_versions_and_other_encodings(tmp_path: Path) -> None:
    old = make_bag(tmp_path / "old", "md5", version="0.97")
    assert dunechest.verify(old).ok
    odd = make_bag(tmp_path / "odd", "sha1", encoding="UTF-16", names=("gr\u00fcn.txt",))
    assert dunechest.verify(odd).ok


def test_several_manifests_must_all_agree(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", "sha256")
    make_bag(bag, "md5")
    assert dunechest.verify(bag).ok
    flip(bag / "manifest-md5.txt", 3)
    assert not dunechest.verify(bag).ok


def test_tag_manifest_of_a_foreign_bag_is_checked(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", "sha256")
    content = (bag / "bag-info.txt").read_bytes()
    (bag / "tagmanifest-sha256.txt").write_text(f"{hashlib.sha256(content).hexdigest()}  bag-info.txt\n")
    assert dunechest.verify(bag).ok
    (bag / "bag-info.txt").write_bytes(content + b"Contact: nobody\n")
    (state,) = dunechest.verify(bag).libraries[0].problems
    assert (state.path, state.state) == ("bag-info.txt", "changed")


def test_a_manifest_that_names_the_world_outside_touches_nothing(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "bag", "md5")
    secret = tmp_path / "secret.txt"
    secret.write_text("not yours")
    value = hashlib.md5(secret.read_bytes()).hexdigest()
    with (bag / "manifest-md5.txt").open("a") as file:
        file.write(f"{value}  data/../../secret.txt\n{value}  {secret}\n")
    (bag / "data" / "door").symlink_to(tmp_path)
    read = read_bag(bag)
    assert all("secret" not in path for m in read.payload for path in m.entries)
    assert not any(path.startswith("data/door/") for path in list_bag(bag).files)
    assert not dunechest.verify(bag).ok


def test_no_bag_at_all_is_said_so(tmp_path: Path, command: Command) -> None:
    (tmp_path / "empty").mkdir()
    ran = command("verify", tmp_path / "empty")
    assert ran.status == 2
    assert "no chest" in ran.err
