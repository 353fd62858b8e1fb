"""The texts for a person who finds the drive and has no Dune Chest.

They may meet any computer, so the texts are plain ASCII lines that every editor
shows, and every command in them is one that the operating system brings along.
"""

from __future__ import annotations

import functools
from typing import Any

from dunechest.chest.records import ChestRecord, LibraryRecord
from dunechest.names import from_wire, shown
from dunechest.words import number

_READ_ME = """\
WHAT THIS IS
============
This folder is a chest: it holds copies of libraries (pictures, notes, papers,
games and so on), deliberately copied from a computer for safekeeping.

  Label of this chest: {{ label }}
  Id of this chest:    {{ id }}
  Made on:             {{ made }}

Please do not rename, change or delete anything in here.

HOW TO RESTORE FILES WITHOUT ANY SPECIAL PROGRAM
================================================
Every file is a plain file under its own name. Nothing is encrypted, and nothing
of the latest state is compressed. To restore a library by hand:

  1. Open the folder "bags". Each folder in it is one library.
  2. Open that library's folder and read HOW-TO-RESTORE.txt in it. It says where
     the library came from, where it belongs, how to check the copy, and what to
     do first.
  3. Copy everything in "data/library" to where it belongs.

A single picture or paper? Just open it in "bags/.../data/library" and copy it.

WITH DUNE CHEST
===============
Dune Chest is a free program for Python. With it installed:

  dunechest chest show "FOLDER WHERE THIS DRIVE IS"
  dunechest verify     "FOLDER WHERE THIS DRIVE IS"
  dunechest restore    "FOLDER WHERE THIS DRIVE IS" NAME-OF-A-LIBRARY

THE FORMAT
==========
Each library's folder is a "bag" as RFC 8493 (The BagIt File Packaging Format)
describes it, so any program that knows that open standard can check it.
"""

_HOW_TO = """\
HOW TO RESTORE: {{ name }}
================{{ "=" * name|length }}
What it is:      {{ kind_title }}{% if application %} (kept by the application {{ application }}){% endif %}

Came from:       {{ origin_path }}
On the computer: {{ machine }} ({{ system }})
Archived on:     {{ archived }}
Holds:           {{ files|number("file") }}, {{ size }} bytes
{% if partial %}ONLY A PART:     {{ partial }}
                 The rest of the library is not in here.
{% endif %}{% if incomplete %}INCOMPLETE:      some files could not be archived; dune/library.json lists them
{% endif %}{% if left_out %}Left out:        {{ left_out|number("file") }}; dune/library.json says which and why
{% endif %}
1. CHECK THE COPY FIRST
-----------------------
Open a terminal (a command window) in this folder, the one with this text in it.

Linux:
    sha512sum --quiet -c manifest-sha512.txt
  No output means that every file is intact.

macOS:
    shasum -a 512 -c manifest-sha512.txt | grep -v ': OK$'
  No output means that every file is intact.

Windows (PowerShell):
    Get-Content -Encoding UTF8 manifest-sha512.txt | ForEach-Object {
      $sum, $path = $_ -split '  ', 2
      $path = $path -replace '%0D', "`r" -replace '%0A', "`n" -replace '%25', '%'
      if ((Get-FileHash -Algorithm SHA512 -LiteralPath $path).Hash -ne $sum) { "DAMAGED: $path" }
    }
  No output means that every file is intact.

One file by itself:
    Linux:   sha512sum "data/library/NAME"
    macOS:   shasum -a 512 "data/library/NAME"
    Windows: certutil -hashfile "data\\library\\NAME" SHA512
  and look for the same digits in manifest-sha512.txt.
{% if odd_names %}
  {{ odd_names|number("file has", "files have") }} a line break or a percent sign in the name. The manifest
  writes these as %0A, %0D and %25, as RFC 8493 asks, and sha512sum and shasum
  then say that they cannot find them. That is not damage.
{% endif %}
2. BEFORE YOU COPY IT
---------------------
{% if application -%}
- Install {{ application }}, but DO NOT START IT yet. Started too early, it may make
  a new, empty library in the same place, or begin to download things again.
{% endif -%}
- If something is already in the place where the library goes, do not copy over
  it. Rename what is there first (for example by adding today's date).

3. COPY IT
----------
{% if shape == "file" -%}
- Copy the file in          data/library
{% else -%}
- Copy everything inside    data/library      (hidden files too)
{% endif -%}
- to                        {{ origin_path }}
{% if place_words %}  or, on another computer,  {{ place_words }}
{% endif %}{% if outside_files %}
The library uses {{ outside_files|length|number("file") }} stored elsewhere. They are in data/outside.
Copy each to where it was, or tell the application where they are now:
{% for stored, path in outside_files[:20] %}- data/{{ stored }}
    was {{ path }}
{% endfor %}{% if outside_files|length > 20 %}- and so on: "outside_files" in dune/library.json lists all.
{% endif %}{% endif %}
{% if links or changed or folders_empty %}
What plain copying cannot restore is listed in dune/library.json, a text file:
{% if links %}- {{ links|number("symbolic link") }}: "links" names each and what it points to.
{% endif -%}
{% if folders_empty %}- {{ folders_empty|number("empty folder") }}: "folders", those with "empty": true.
{% endif -%}
{% if changed %}- {{ changed|number("name") }} that had to change on this drive: "changed_names" has the
  library's own name ("path") and the name here ("stored").
{% endif -%}
{% endif %}
4. AFTERWARDS
-------------
{% if application -%}
- Start {{ application }} and let it open the library in its place.
{% endif -%}
{% if edition > 1 -%}
- This is edition {{ edition }}. Files of earlier editions are in dune/earlier, in a folder
  with the number of the last edition that had them.
{% endif -%}
- Compare: {{ files|number("file") }} should be there.
- Keep this drive as it is until you are sure.

With Dune Chest installed, one command does all of this, checks every file while
it is written, and restores links, empty folders, times and permissions too:
    dunechest restore "FOLDER WHERE THIS DRIVE IS" {{ bag }}
"""

_IN_WORDS = {
    "home": "your home folder",
    "pictures": "your Pictures folder",
    "music": "your Music folder",
    "videos": "your Videos folder",
    "documents": "your Documents folder",
    "desktop": "your Desktop",
    "configuration": "the folder of application settings (Linux: .config in your home folder)",
    "data": "the folder of application data (Linux: .local/share in your home folder)",
}


@functools.cache
def _template(text: str) -> Any:
    import jinja2

    environment = jinja2.Environment(keep_trailing_newline=True, undefined=jinja2.StrictUndefined, autoescape=False)
    environment.filters["number"] = number
    return environment.from_string(text)


def read_me(chest: ChestRecord) -> bytes:
    """Return ``READ-ME.txt`` of a chest."""
    text: str = _template(_READ_ME).render(label=shown(chest.label), id=chest.id, made=chest.made)
    return text.encode()


def place_in_words(record: LibraryRecord) -> str:
    """Say in words where a library belongs on any computer; empty if that is not known."""
    if not record.origin.standard:
        return ""
    base = _IN_WORDS.get(record.origin.standard, record.origin.standard)
    return f'"{shown(from_wire(record.origin.relative))}" in {base}'


def how_to_restore(record: LibraryRecord, bag: str, odd_names: int) -> bytes:
    """Return ``HOW-TO-RESTORE.txt`` of a bag.

    Parameters
    ----------
    record : LibraryRecord
        The library.
    bag : str
        Name of the bag's folder.
    odd_names : int
        Number of payload files whose names a manifest has to write in another way.
    """
    text: str = _template(_HOW_TO).render(
        name=shown(record.name),
        kind_title=shown(record.kind_title),
        application=shown(record.application),
        origin_path=shown(from_wire(record.origin.path)),
        machine=shown(record.origin.machine),
        system=record.origin.system,
        archived=record.archived,
        files=record.totals.files_copied,
        size=f"{record.totals.bytes_stored:,}",
        left_out=record.totals.files_left_out,
        partial=", ".join(shown(part) for part in record.partial),
        incomplete=record.incomplete,
        outside_files=[
            (shown(outside_file.stored), shown(from_wire(outside_file.path))) for outside_file in record.outside_files
        ],
        shape=record.shape,
        edition=record.edition,
        odd_names=odd_names,
        place_words=place_in_words(record),
        links=len(record.links),
        changed=len(record.changed_names),
        folders_empty=sum(folder.empty for folder in record.folders),
        bag=bag,
    )
    return text.encode()
