"""Every name in a chest, once: what lies where, and what each file is called.

A chest is a folder ``dune-chest`` at the top of a drive::

    dune-chest/
      chest.json  READ-ME.txt  chest-sha512.txt
      log/COMPUTER.jsonl                  what each computer did to the chest and found in it
      bags/NAME/                          a bag (RFC 8493), one a library
        bagit.txt  bag-info.txt  manifest-sha512.txt  tagmanifest-sha512.txt  HOW-TO-RESTORE.txt
        data/library/                     the library
        data/outside/                      files from outside that it refers to
        dune/library.json  files.jsonl  tags.jsonl
        dune/editions/0001/               the records of an earlier edition
        dune/earlier/0001/                files that only earlier editions have
        dune/pending/                     what is being changed; nothing in it counts yet
"""

from __future__ import annotations

from pathlib import Path

CHEST = "dune-chest"
BAGS = "bags"
CHEST_RECORD = "chest.json"
READ_ME = "READ-ME.txt"
CHEST_SUMS = "chest-sha512.txt"
#: What each computer did and found, a file each.
LOG = "log"

#: The payload in a bag, and below that the library itself and files from outside it; as prefixes of paths, too.
DATA_FOLDER = "data"
LIBRARY_FOLDER = "library"
DATA = "data/"
LIBRARY_FILES = "library/"
OUTSIDE_FILES = "outside/"

DECLARATION = "bagit.txt"
INFO = "bag-info.txt"
MANIFEST = "manifest-sha512.txt"
TAG_MANIFEST = "tagmanifest-sha512.txt"
HOW_TO_RESTORE = "HOW-TO-RESTORE.txt"

#: The folder of a bag with the records that are ours alone.
DUNE = "dune"
LIBRARY = "dune/library.json"
FILES = "dune/files.jsonl"
TAGS = "dune/tags.jsonl"
EDITIONS = "dune/editions"
EARLIER = "dune/earlier"

#: What is being changed. Nothing in it counts before the change is decided.
PENDING = "dune/pending"
PAYLOAD = PENDING + "/payload"
PENDING_TAGS = PENDING + "/tags"
PROVEN = PENDING + "/proven.jsonl"
FOR = PENDING + "/for.json"
CAPTURES = PENDING + "/captures"
JOURNAL = PENDING + "/journal.json"
#: Where what is deleted waits until the records no longer speak of it.
GONE = PENDING + "/gone"
#: Where what only gets another name waits between two phases.
MOVED = PENDING + "/moved"

#: What every bag of ours has, beside the records of earlier editions.
ALWAYS = (MANIFEST, FILES, LIBRARY, HOW_TO_RESTORE, INFO, DECLARATION)
#: What a bag has from the moment on in which it is whole.
OF_A_WHOLE_BAG = (DATA_FOLDER, DECLARATION, INFO, MANIFEST, TAG_MANIFEST)


def bag_folder(chest: Path, name: str) -> Path:
    """Return the folder of a bag in a chest's folder, by a name that is known to be one."""
    return chest / BAGS / name


def edition_path(number: int) -> str:
    """Return the path in the bag of an earlier edition's record."""
    return f"{EDITIONS}/{number:04d}/library.json"


def changes_path(number: int) -> str:
    """Return the path in the bag of the list in which an earlier edition differs from the next."""
    return f"{EDITIONS}/{number:04d}/changes.jsonl"


def kept_path(number: int, path: str) -> str:
    """Return where a file is kept that only editions up to a number have; `path` is the one below ``data/``."""
    return f"{EARLIER}/{number:04d}/{path}"
