"""Every MUST and MUST NOT of RFC 8493 that a reader of bags can check: a bag that keeps it, and one that does not."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import pytest

import dunechest
from tests.support.bags import make_bag

PAGE = Path(__file__).resolve().parents[2] / "docs" / "rfc-8493.md"


def write(name: str, content: bytes) -> Callable[[Path], object]:
    def do(bag: Path) -> None:
        (bag / name).parent.mkdir(parents=True, exist_ok=True)
        (bag / name).write_bytes(content)

    return do


def change(name: str, old: bytes, new: bytes) -> Callable[[Path], object]:
    def do(bag: Path) -> None:
        content = (bag / name).read_bytes()
        assert old in content
        (bag / name).write_bytes(content.replace(old, new, 1))

    return do


def add(name: str, content: bytes) -> Callable[[Path], object]:
    return lambda bag: (bag / name).write_bytes((bag / name).read_bytes() + content)


def together(*steps: Callable[[Path], object]) -> Callable[[Path], object]:
    return lambda bag: [step(bag) for step in steps]


def nothing(bag: Path) -> None: ...


def second_manifest(bag: Path) -> None:
    make_bag(bag, "sha512")


def tag_manifest(*names: str, algorithm: str = "sha256", wrong: bool = False) -> Callable[[Path], object]:
    def do(bag: Path) -> None:
        lines = []
        for name in names:
            content = (bag / name).read_bytes() if (bag / name).is_file() else b""
            lines.append(f"{hashlib.new(algorithm, content + b'x' * wrong).hexdigest()} {name}\n")
        (bag / f"tagmanifest-{algorithm}.txt").write_text("".join(lines))

    return do


def fetched(path: str) -> Callable[[Path], object]:
    return write("fetch.txt", f"https://example.org/x 5 {path}\n".encode())


def empty(bag: Path) -> None:
    (bag / "data").mkdir(exist_ok=True)
    for path in sorted((bag / "data").rglob("*"), reverse=True):
        path.rmdir() if path.is_dir() else path.unlink()
    (bag / "manifest-sha256.txt").write_text("")
    (bag / "bag-info.txt").write_text("Payload-Oxum: 0.0\n")


DECLARED = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
DIGEST = b"0" * 64


class Rule(NamedTuple):
    section: str
    what: str
    keeps: Callable[[Path], object]
    breaks: Callable[[Path], object]
    version: str = "1.0"


RULES = (
    Rule("2", "There is a bag declaration", nothing, lambda bag: (bag / "bagit.txt").unlink()),
    Rule(
        "2.1.1",
        "The declaration has just two lines, in this order",
        write("bagit.txt", DECLARED.replace(b"\n", b"\r\n")),
        write("bagit.txt", b"\n".join(reversed(DECLARED.splitlines())) + b"\n"),
    ),
    Rule("2.1.1", "No third line", write("bagit.txt", DECLARED[:-1]), write("bagit.txt", DECLARED + b"Contact: x\n")),
    Rule("2.1.1", "No byte order mark", nothing, write("bagit.txt", b"\xef\xbb\xbf" + DECLARED)),
    Rule(
        "2.1.1",
        "The version is a known number",
        write("bagit.txt", DECLARED.replace(b"1.0", b"0.97")),
        write("bagit.txt", DECLARED.replace(b"1.0", b"2.0")),
    ),
    Rule("2.1.2", "There is a folder data", empty, together(empty, lambda bag: (bag / "data").rmdir())),
    Rule("2.1.3", "There is a payload manifest", nothing, lambda bag: (bag / "manifest-sha256.txt").unlink()),
    Rule(
        "2.1.3",
        "A manifest's name has the algorithm in small letters and digits",
        nothing,
        lambda bag: (bag / "manifest-sha256.txt").rename(bag / "manifest-SHA-256.txt"),
    ),
    Rule(
        "2.1.3",
        "Each line is a digest and a path",
        change("manifest-sha256.txt", b" data/one", b"\t  data/one"),
        add("manifest-sha256.txt", b"no digest at all\n"),
    ),
    Rule(
        "2.1.3",
        "A digest is hexadecimal, in either case, and as long as the algorithm makes it",
        lambda bag: (bag / "manifest-sha256.txt").write_text(
            "".join(
                line[:64].upper() + line[64:]
                for line in (bag / "manifest-sha256.txt").read_text().splitlines(keepends=True)
            )
        ),
        add("manifest-sha256.txt", b"g" * 64 + b" data/one.txt\n"),
    ),
    Rule(
        "2.1.3",
        "Every path lies in data",
        nothing,
        together(write("outside.txt", b""), add("manifest-sha256.txt", DIGEST + b" outside.txt\n")),
    ),
    Rule("2.1.3", "No path leads out of the bag", nothing, add("manifest-sha256.txt", DIGEST + b" data/../../x\n")),
    Rule("2.1.3", "No path is absolute", nothing, add("manifest-sha256.txt", DIGEST + b" /etc/hostname\n")),
    Rule(
        "2.1.3",
        "A line break and a percent sign in a path are written with a percent sign",
        lambda bag: make_bag(bag, "sha256", names=("one.txt", "deep/two.txt", "100%.txt", "a\nb", "c\rd")),
        change("manifest-sha256.txt", b"100%25", b"100%"),
    ),
    Rule(
        "2.1.3",
        "A path is listed once",
        nothing,
        lambda bag: add("manifest-sha256.txt", (bag / "manifest-sha256.txt").read_bytes().splitlines()[0] + b"\n")(bag),
    ),
    Rule("3", "Every listed payload file is there", nothing, lambda bag: (bag / "data/one.txt").unlink()),
    Rule("3", "Every payload file is listed", nothing, write("data/more.txt", b"more")),
    Rule(
        "3",
        "Every payload file is listed in every payload manifest",
        second_manifest,
        together(
            second_manifest,
            lambda bag: (bag / "manifest-sha512.txt").write_text(
                "".join((bag / "manifest-sha512.txt").read_text().splitlines(keepends=True)[1:])
            ),
        ),
    ),
    Rule("3", "Every digest of every payload manifest fits", second_manifest, together(
        second_manifest,
        lambda bag: (bag / "manifest-sha512.txt").write_text(
            "".join("0" * 128 + line[128:] for line in (bag / "manifest-sha512.txt").read_text().splitlines(True))
        ),
    )),
    Rule(
        "2.2.1",
        "A tag manifest lists no payload",
        tag_manifest("bagit.txt", "bag-info.txt", "manifest-sha256.txt"),
        tag_manifest("bagit.txt", "manifest-sha256.txt", "data/one.txt"),
    ),
    Rule(
        "2.2.1",
        "A tag manifest lists no tag manifest",
        tag_manifest("bagit.txt", "manifest-sha256.txt"),
        together(
            tag_manifest("bagit.txt", "manifest-sha256.txt", algorithm="md5"),
            tag_manifest("bagit.txt", "manifest-sha256.txt", "tagmanifest-md5.txt"),
        ),
    ),
    Rule(
        "3",
        "Every file that a tag manifest lists is there",
        tag_manifest("bagit.txt", "manifest-sha256.txt"),
        tag_manifest("bagit.txt", "manifest-sha256.txt", "notes/gone.txt"),
    ),
    Rule(
        "3",
        "Every digest of a tag manifest fits",
        tag_manifest("bagit.txt", "manifest-sha256.txt"),
        tag_manifest("bagit.txt", "manifest-sha256.txt", wrong=True),
    ),
    Rule(
        "2.2.2",
        "A line has a label, a colon, one white space and a value",
        add("bag-info.txt", b"Contact-Name:\tA tern\r\n  of the dunes\r\n"),
        add("bag-info.txt", b"Contact-Name:A tern\n"),
    ),
    Rule(
        "2.2.2",
        "A label neither begins nor ends with white space",
        add("bag-info.txt", b"Contact Name: A tern\n"),
        add("bag-info.txt", b"Contact-Name : A tern\n"),
    ),
    Rule(
        "2.2.2",
        "Payload-Oxum is there at most once",
        nothing,
        lambda bag: add("bag-info.txt", (bag / "bag-info.txt").read_bytes())(bag),
    ),
    Rule(
        "2.2.2",
        "Payload-Oxum is bytes and files",
        change("bag-info.txt", b"Payload-Oxum", b"payload-oxum"),
        write("bag-info.txt", b"Payload-Oxum: three files\n"),
    ),
    Rule("2.2.2", "Payload-Oxum is true", nothing, change("bag-info.txt", b".3", b".4")),
    Rule(
        "2.2.3",
        "A line of fetch.txt is an address, a length and a path",
        together(fetched("data/one.txt"), write("fetch.txt", b"https://example.org/a%20b - data/one.txt\n")),
        write("fetch.txt", b"https://example.org/one.txt data/one.txt\n"),
    ),
    Rule("2.2.3", "fetch.txt lists payload only", fetched("data/one.txt"), fetched("bagit.txt")),
    Rule(
        "2.2.3",
        "What fetch.txt lists is listed in every payload manifest",
        fetched("data/one.txt"),
        fetched("data/never listed.txt"),
    ),
    Rule(
        "2.2.3",
        "A bag is not complete until what fetch.txt lists is there",
        fetched("data/one.txt"),
        together(fetched("data/one.txt"), lambda bag: (bag / "data/one.txt").unlink()),
    ),
    Rule(
        "2.3",
        "Tag files are text in the encoding that is declared",
        together(
            write("bagit.txt", DECLARED.replace(b"UTF-8", b"ISO-8859-1")),
            add("bag-info.txt", "Contact-Name: D\u00fcne\n".encode("iso-8859-1")),
        ),
        add("bag-info.txt", "Contact-Name: D\u00fcne\n".encode("iso-8859-1")),
    ),
    Rule(
        "2.3",
        "The encoding is a known one",
        nothing,
        write("bagit.txt", DECLARED.replace(b"UTF-8", b"dune-code")),
    ),
    Rule("2.2.4", "Other tag files may be there, listed or not", write("notes/anything.xml", b"\xff"), fetched("../x")),
    Rule("2.4", "SHA-256 and SHA-512 are known", second_manifest, write("manifest-dunehash.txt", b"12 data/one.txt\n")),
)  # fmt: skip


@pytest.mark.parametrize("rule", RULES, ids=lambda rule: f"{rule.section} {rule.what}")
def test_a_bag_that_keeps_it_is_valid_and_one_that_does_not_is_not(rule: Rule, tmp_path: Path) -> None:
    good = make_bag(tmp_path / "good", "sha256", version=rule.version)
    rule.keeps(good)
    assert [s for s in dunechest.verify(good).libraries[0].problems if s.state != "noted"] == []
    bad = make_bag(tmp_path / "bad", "sha256", version=rule.version)
    rule.breaks(bad)
    try:
        assert not dunechest.verify(bad).ok
    except dunechest.UsageError:
        assert not (bad / "bagit.txt").exists(), "without a declaration it is no bag at all"


def test_drafts_before_it_are_judged_by_what_they_asked_for(tmp_path: Path) -> None:
    bag = make_bag(tmp_path / "old", "sha256", version="0.97", names=("one.txt", "two.txt"))
    make_bag(bag, "md5", version="0.97", names=("one.txt", "two.txt"))
    lines = (bag / "manifest-md5.txt").read_text().splitlines(keepends=True)
    (bag / "manifest-md5.txt").write_text(lines[0])
    assert dunechest.verify(bag).ok, "one manifest that lists a file was enough"
    literal = make_bag(tmp_path / "percent", "md5", version="0.97", names=("100%25.txt",))
    manifest = literal / "manifest-md5.txt"
    manifest.write_text(manifest.read_text().replace("%2525", "%25"))
    assert dunechest.verify(literal).ok, "a percent sign was not written in another way"


def test_the_table_in_the_docs_has_each_of_them() -> None:
    page = PAGE.read_text()
    rows = "".join(f"| {rule.section} | {rule.what} |\n" for rule in RULES)
    assert rows in page, f"docs/rfc-8493.md should have:\n{rows}"
