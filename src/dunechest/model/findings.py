"""Every finding, once: its code, how serious it is, what was found and what a person can do about it.

The key of an entry is the code, with a word behind it where one code is said in several ways: ``in-use/restore``. The words
are neutral: no command and no option is named. What an interface says instead in its own words, it gives itself
(`dunechest.computer.Computer.words`), by the same keys.

In a text, ``{name}`` is a fact as it is, a name or a number; ``{files:file}`` a number with its word, and
``{entries:file or folder|files and folders}`` one with the plural; ``{files:?is|are}`` the word alone; ``{total:bytes}`` a
size; ``{chest!q}`` a word of a command line.
"""

from __future__ import annotations

import string
from collections.abc import Mapping
from typing import NamedTuple

from dunechest.computer import here
from dunechest.findings import Finding, Severity
from dunechest.names import quoted, shown
from dunechest.words import number, size

#: What a text can tell of: a name, or how many.
Fact = str | int | float


class Saying(NamedTuple):
    """How a finding is said."""

    severity: Severity
    message: str
    action: str
    can_be_ignored: bool = False


def finding_of(key: str, **facts: Fact) -> Finding:
    """Return a finding of the catalogue.

    Parameters
    ----------
    key : str
        One of `FINDINGS`.
    **facts
        What its texts tell of, by name.
    """
    saying = FINDINGS[key]
    action = here().words.get(key, saying.action)
    return Finding(
        key.partition("/")[0],
        saying.severity,
        worded(saying.message, facts),
        worded(action, facts),
        saying.can_be_ignored,
    )


def worded(text: str, facts: Mapping[str, Fact]) -> str:
    """Return a text of the catalogue with the facts in it.

    >>> worded("{files:file} {files:?is|are} in {chest}: {total:bytes}.", {"files": 2, "chest": "blue", "total": 2000})
    '2 files are in blue: 2.0 kB.'
    """
    told = []
    for before, name, spec, conversion in string.Formatter().parse(text):
        told.append(before)
        if name is not None:
            told.append(_told(facts[name], spec or "", conversion))
    return "".join(told)


def _told(fact: Fact, spec: str, conversion: str | None) -> str:
    if conversion == "q":
        return quoted(str(fact))
    if isinstance(fact, str):
        return shown(fact)
    if spec == "bytes":
        return size(int(fact))
    if spec.startswith("?"):
        one, _, many = spec[1:].partition("|")
        return one if fact == 1 else many
    if spec:
        one, _, many = spec.partition("|")
        return number(int(fact), one, many or None)
    return f"{fact:,}" if isinstance(fact, int) else f"{fact:.3g}"


FINDINGS: dict[str, Saying] = {
    "also": Saying(
        "blocks",
        "{unused}, which was to be deleted too, names nothing in the library.",
        "Look at the list of what stays, and name paths or patterns from it.",
    ),
    "another-library": Saying(
        "warning",
        "{application} uses another library now: {other}. Its setting is not changed.",
        "To use this one, choose it in the application's settings.",
    ),
    "another-library/old-computer": Saying(
        "warning",
        "{application} used another library on the old computer, so its setting is not updated to this one.",
        "To use the restored one, choose it in the application's settings, or have the settings updated.",
    ),
    "another-library/restore": Saying(
        "warning",
        "{application} uses another library now: {old_text}. Its setting is not changed.",
        "To use the restored one, choose it in the application's settings, or have the settings updated.",
    ),
    "as-files": Saying(
        "warning",
        "{name} is restored as files, without links, empty folders and folder permissions: {why}",
        "Check that the application opens them; references in them are not updated. They are also in {folder}, "
        "too, and can be copied from there.",
    ),
    "attributes-left": Saying(
        "warning",
        "Owners or attributes of {files:file} are not recorded: it would be more than {most} MB.",
        "The files themselves are archived. Write down by hand what matters.",
    ),
    "attributes-missing/rehome": Saying(
        "warning",
        "{entries:file or folder|files and folders} lost access lists or extended attributes, which that drive "
        "cannot hold; the first: {first}.",
        "The files themselves are complete. The original still has them.",
    ),
    "attributes-missing/restore": Saying(
        "warning",
        "{entries:file or folder|files and folders} came back without {what}; the first: {first}.",
        "The files themselves are complete. The archive's library.json says what was recorded.",
    ),
    "catalogue": Saying(
        "blocks",
        "{application}'s catalogue cannot be freed of {titles}: {why}.",
        "Remove {titles} in {application} itself.",
    ),
    "changed": Saying(
        "blocks",
        "{files:file} new or changed since the library was archived: {some}.",
        "Archive it again.",
    ),
    "chest-damaged/archive": Saying(
        "blocks",
        "The chest's own record {path} is damaged: {why}.",
        "Rebuild it.",
    ),
    "chest-damaged/copy": Saying(
        "blocks",
        "The record {path} of the chest {chest} is damaged: {why}.",
        "Rebuild it.",
    ),
    "chest-inside": Saying(
        "blocks",
        "The chest {chest} lies inside what is to be archived.",
        "Name a folder that does not contain the chest.",
    ),
    "coarse-times": Saying(
        "info",
        "The drive keeps file times in steps of {step} s, too coarse for {files:file}.",
        "The exact times are recorded; a restore gives them back.",
    ),
    "contains": Saying(
        "info",
        "It contains {libraries:other library|other libraries}: {some}.",
        "They are archived with it. Each can also be archived on its own, by its path.",
    ),
    "continues": Saying(
        "info",
        "This is the library {name} of this chest: {how}{same}.",
        "It gets its next edition there. If it is another library, give it another name.",
    ),
    "copy-not-counted": Saying(
        "warning",
        "The copy in {chest} does not count: {why_not}.",
        "Check it.",
    ),
    "copy-not-counted/incomplete": Saying(
        "warning",
        "The copy in {chest} does not count: {why_not}.",
        "Bring it up to date.",
    ),
    "damaged-archive/archive": Saying(
        "blocks",
        "The archive {name} in this chest is damaged ({path}: {why}{more}), so no edition is added to it, "
        "which would hide the damage.",
        "With another intact copy it can be mended. Without one, leave it alone and archive the library under "
        "another name. Its intact files can be restored; a check lists the others.",
    ),
    "damaged-archive/in-source": Saying(
        "blocks",
        "{name} in {source} is damaged and cannot be copied ({why}).",
        "See what is damaged, by checking it. With another intact copy it can be mended.",
    ),
    "damaged-archive/in-target": Saying(
        "blocks",
        "{there} in {target} is damaged ({why}), so nothing is added to it.",
        "Mend it first.",
    ),
    "damaged-archive/waiting": Saying(
        "blocks",
        "A decided change of {entry} waits to be finished: {unfinished}",
        "Solve that first; nothing in the archive is lost.",
    ),
    "diverged": Saying(
        "blocks",
        "{bag} has diverged: {source} has {states} that {target} does not have, and {target} has {states_2} "
        "that {source} does not have.",
        "Archive the library to both. Neither of the two is changed by this copy.",
    ),
    "diverged/two-computers": Saying(
        "blocks",
        "{bag} has diverged: {source} has {states} that {target} does not have, and {target} has {states_2} "
        "that {source} does not have.",
        "Bring the other state here first. Then archive the library to both.",
    ),
    "drive-away": Saying(
        "warning",
        "{references:reference} to the drive or card '{drive}', which is not connected: {some}.",
        "Connect {drive} and look again; otherwise what is on it is not protected.",
    ),
    "editions-between": Saying(
        "info",
        "{source} has {states:earlier state} of {name} that {target} does not get: edition {editions}.",
        "They stay where they are.",
    ),
    "elsewhere": Saying(
        "warning",
        "{application} keeps {what} outside the library, in {place}.",
        "Archive that folder too: it is not part of this library.",
    ),
    "empty": Saying(
        "warning",
        "It contains no files.",
        "Check that this is the right folder.",
    ),
    "file-too-large/archive": Saying(
        "blocks",
        "{files:file} larger than the {filesystem} filesystem of the drive can hold, the first being {first}.",
        "Use a drive with another filesystem. Or leave them out, by ignoring this.",
        can_be_ignored=True,
    ),
    "file-too-large/copy": Saying(
        "blocks",
        "{files:file} larger than the {filesystem} filesystem of the drive can hold, the first being {first}.",
        "Use a drive with another filesystem.",
    ),
    "file-too-large/rehome": Saying(
        "blocks",
        "{files:file} too large for that drive ({kept}); first {first}.",
        "Use a drive with another filesystem.",
    ),
    "first": Saying(
        "info",
        "It belongs to the application {application}.",
        "Install it first, and do not start it until the restore is done.",
    ),
    "folder-outside": Saying(
        "warning",
        "{links:reference or link|references or links} to folders outside the library, which are not archived: "
        "{some}.",
        "If they matter, archive each of them too, by its path.",
    ),
    "foreign": Saying(
        "warning",
        "{entry} was made by another program, and is not copied.",
        "Copy its folder by hand.",
    ),
    "forget-absent": Saying(
        "blocks",
        "{pattern}, which was said to be gone, names nothing that could not be seen.",
        "Leave it out, or name files from the list of those that could not be seen.",
    ),
    "half-library": Saying(
        "blocks",
        "{present} is here, but {missing} is missing; they are only useful together.",
        "Put the missing half back in its place, or ignore this.",
        can_be_ignored=True,
    ),
    "hard-links": Saying(
        "info",
        "{files:file} have other names elsewhere on the disk (hard links); first {first}.",
        "Those names keep their content, and deleting these frees no space.",
    ),
    "holes": Saying(
        "info",
        "{files:file} with holes {files:?takes|take} {held} on this drive, which cannot hold holes; the first "
        "is {first}.",
        "The holes are recorded; a restore to a drive that can hold them makes them again.",
    ),
    "in-a-library": Saying(
        "blocks",
        "{folder} is a library itself ({kind}).",
        "Name a folder that belongs to no application.",
    ),
    "in-an-archive": Saying(
        "blocks",
        "{folder}: {why}.",
        "Name another folder.",
    ),
    "in-memory": Saying(
        "warning",
        "The chest is in memory: it is lost when the computer is switched off.",
        "Use a real drive.",
    ),
    "in-memory/reclaim": Saying(
        "blocks",
        "The library in {place} is in memory: it is lost when the computer is switched off.",
        "Move it to a real drive. Or ignore this.",
        can_be_ignored=True,
    ),
    "in-memory/rehome": Saying(
        "warning",
        "{folder} is in memory: it is lost when the computer is switched off.",
        "Use a real drive.",
    ),
    "in-use": Saying(
        "blocks",
        "The library is in use by {process}{number}{others}: {how}.",
        "Close {application} and try again. Or ignore this; files that change meanwhile may then not match "
        "each other.",
        can_be_ignored=True,
    ),
    "in-use/part": Saying(
        "blocks",
        "The library is in use by {process}: {how}.",
        "Close {application}, and try again.",
    ),
    "in-use/reclaim": Saying(
        "blocks",
        "It is in use by {process}{pid}: {how}.",
        "Close {application}, and try again.",
    ),
    "in-use/rehome": Saying(
        "blocks",
        "The library is in use by {process}{number}: {how}.",
        "Close {application}, and try again.",
    ),
    "in-use/rejoin": Saying(
        "blocks",
        "The library in {place} is in use by {process}: {how}.",
        "Close {application}, and try again.",
    ),
    "in-use/restore": Saying(
        "blocks",
        "The application is open: {who}.",
        "Close {what} first, and start it only when the restore is done.",
    ),
    "incomplete": Saying(
        "warning",
        "This archive is incomplete: {files:file} could not be archived{placeholders}.",
        "dune/library.json in the bag lists them under left_out, with the reasons.",
    ),
    "inside-archive": Saying(
        "blocks",
        "{place} cannot be its place: {why}.",
        "An archive must not be changed. Restore elsewhere.",
    ),
    "inside-chest": Saying(
        "blocks",
        "{path} lies inside the chest itself.",
        "Name the library on this computer, not its copy.",
    ),
    "inside-itself": Saying(
        "blocks",
        "{target} is inside the library itself.",
        "Name a folder on another drive.",
    ),
    "is-live": Saying(
        "blocks",
        "It is the library itself.",
        "Nothing has to be done.",
    ),
    "kind-changed": Saying(
        "info",
        "It was archived as '{before}', and is of the kind '{now}' now.",
        "The next edition uses the new kind: its references, its parts, and what can be rebuilt.",
    ),
    "kind-differs": Saying(
        "warning",
        "The library in {path} no longer looks like what was moved ({kind}).",
        "Look at it with its application before you go on.",
    ),
    "kind-lost": Saying(
        "warning",
        "It was of the kind '{title}' in the last archive, and its signs are missing now.",
        "Check whether its catalogue or index is still there. It is archived as before, outside files "
        "included, unless you say that it is a plain folder.",
    ),
    "kind-unknown": Saying(
        "warning",
        "It is of the kind {kind}, which this computer does not know.",
        "Its files are restored; to have references and settings updated, put the kind file into the folder "
        "kinds of this computer's state first.",
    ),
    "last-part": Saying(
        "blocks",
        "Nothing but {titles} is in {name}: without that {application} would find no library.",
        "Take the whole library, not a part of it.",
    ),
    "library-gone": Saying(
        "warning",
        "{name} was archived in {chest}, and its folder is gone.",
        "Copy it again.",
    ),
    "library-gone/in-the-way": Saying(
        "warning",
        "What should be the folder of {name} in {chest} is a link or no folder at all.",
        "Rename {folder}, then copy it again.",
    ),
    "linked-from": Saying(
        "blocks",
        "{links:link} elsewhere lead into it; first {first}.",
        "Remove the links first, if nothing needs them. Or ignore this.",
        can_be_ignored=True,
    ),
    "little-room": Saying(
        "warning",
        "It fits and leaves {free:bytes} free. Judging by how the library has grown, {spare:bytes} will soon "
        "be needed.",
        "Plan for a larger drive.",
    ),
    "little-room/rehome": Saying(
        "warning",
        "It fits and leaves {free:bytes} free. A library in use grows: {spare:bytes} more may soon be needed.",
        "Plan for a larger drive.",
    ),
    "made-from": Saying(
        "info",
        "All of it can be rebuilt, from {what}.",
        "Archive the list of its packages; then the environment itself need not be archived.",
    ),
    "mass-change/archive": Saying(
        "blocks",
        "Of {files:file} in the newest known state ({then}), {change}.",
        "That is what a mistake or malicious encryption looks like: open a few of them first. The library can "
        "be restored as it was. If you did this yourself, ignore this; the edition before is kept until you "
        "name it.",
        can_be_ignored=True,
    ),
    "mass-change/reclaim": Saying(
        "blocks",
        "{changed} of {files:file} in {place} were changed since it was moved; first {first}.",
        "Open the library and look. If that was you, ignore this.",
        can_be_ignored=True,
    ),
    "merge": Saying(
        "info",
        "There is a library of the same kind in {there}: the parts are merged into it.",
        "To make another library, choose another name.",
    ),
    "missing": Saying(
        "warning",
        "{references:reference} to files that do not exist: {some}.",
        "Look for these files before you delete the original; the application cannot find them either.",
    ),
    "modes": Saying(
        "warning",
        "That drive ({filesystem}) keeps no permissions: every file there has the same ones, and "
        "{programs:program} in the library {programs:?is|are} no longer told from other files.",
        "Version control may show all files as changed there. Moving it back gives the permissions back.",
    ),
    "mounted": Saying(
        "blocks",
        "Something is mounted in {mount}: what is in there lies on another drive.",
        "Unmount it first.",
    ),
    "moved": Saying(
        "info",
        "{references:reference} to another place, but the files are here: {some}.",
        "The library was moved, or comes from an old system. The files are archived as they are.",
    ),
    "moved-here": Saying(
        "info",
        "It was moved here from {old_path}; its application finds it by {way}.",
        "It can be moved back.",
    ),
    "moved-here/reclaim": Saying(
        "warning",
        "{name} is in use on this drive; this deletes the library itself, not an earlier original.",
        "Go on only if you do not want to work with it any more.",
    ),
    "must-not-leave": Saying(
        "info",
        "{files:file} ({size:bytes}), bought or licensed, must not leave this computer: {some}.",
        "They are left out and listed. Keep the receipt or licence to get them again.",
    ),
    "must-not-leave/part": Saying(
        "blocks",
        "{files:file}, bought or licensed for this computer, belong to it; first {first}.",
        "Move the whole library instead.",
    ),
    "must-not-leave/rehome": Saying(
        "warning",
        "{files:file} ({total:bytes}), bought or licensed for this computer, will be on that drive: {some}{more}.",
        "Use the drive with this computer only, and do not lend it.",
    ),
    "name-taken/archive": Saying(
        "blocks",
        "The name {bag} is already taken by {holder} in this chest.",
        "Give this library another name. If it is the same library, from another place, say that it continues "
        "that one.",
    ),
    "name-taken/copy": Saying(
        "blocks",
        "{target} has a folder {entry} already that Dune Chest did not make.",
        "Copy to a chest without it, or move it away from that chest.",
    ),
    "names": Saying(
        "info",
        "{names:name} cannot be kept on this drive ({filesystem}) or in a manifest: {some}.",
        "They get another name there; a restore gives the original names back.",
    ),
    "names/rehome": Saying(
        "blocks",
        "{names:name} cannot be used on that drive ({kept}): {some}.",
        "Give them other names in the application first, or use a drive with another filesystem.",
    ),
    "network": Saying(
        "warning",
        "The chest is not on a drive of this computer: its filesystem ({kind}) is on a network or provided by "
        "a program.",
        "Use a drive that you can unplug and put away, or make sure who else can write there.",
    ),
    "network/rehome": Saying(
        "blocks",
        "{folder} is not on a drive of this computer: its filesystem ({filesystem}) is on a network or "
        "provided by a program. Many applications damage a library there.",
        "Use a drive that is connected to this computer. Or ignore this.",
        can_be_ignored=True,
    ),
    "newer-state": Saying(
        "blocks",
        "The newest state of {name} in this chest (edition {edition}, from the computer {machine}) is not "
        "known to have been on this computer. An archive from here would {effect} in it.",
        "Bring that state here first. Or archive this one under another name. To go on from here all the same, "
        "ignore this (edition {edition} is kept).",
        can_be_ignored=True,
    ),
    "newer-there": Saying(
        "info",
        "{target} has a newer state of {name} (edition {edition}) than {source} (edition {edition_2}).",
        "It can be copied the other way.",
    ),
    "no-access-to-files": Saying(
        "warning",
        "{files:file} in this chest may not be read by this user{whose}: {first}{more}. That is no damage; "
        "everything else is restored.",
        "Restore as administrator. What is restored so will belong to you.",
    ),
    "no-access/reclaim": Saying(
        "blocks",
        "No permission to delete anything in {parent}.",
        "Run the command as a user who has it.",
    ),
    "no-access/rehome": Saying(
        "blocks",
        "No permission to rename anything in {folder}.",
        "Run the command as a user who has it.",
    ),
    "no-access/restore": Saying(
        "blocks",
        "No permission to write to {near}.",
        "Run as a user who has it, or restore elsewhere.",
    ),
    "no-databases": Saying(
        "blocks",
        "That drive ({kept}) cannot hold a database in use: {no_databases}.",
        "Use a drive with another filesystem.",
    ),
    "no-files": Saying(
        "info",
        "It contains {odd:socket, pipe or device|sockets, pipes and devices}.",
        "They have no content; they are listed and left out.",
    ),
    "no-files/rehome": Saying(
        "info",
        "It contains {odd:socket, pipe or device|sockets, pipes and devices}.",
        "They have no content, and are not moved; the application makes them again.",
    ),
    "no-links": Saying(
        "info",
        "The drive cannot hold symbolic links, and the library has {links}.",
        "They are recorded; a restore recreates them.",
    ),
    "no-links/rehome": Saying(
        "blocks",
        "That drive ({kept}) cannot hold symbolic links, and the library has {links}; first {first}.",
        "Use a drive with another filesystem.",
    ),
    "no-place": Saying(
        "blocks",
        "The library was in {path}, on another drive or outside any home, so its destination here is unknown.",
        "Say which folder here stands for that one (it is remembered); or name the destination of this library.",
    ),
    "no-place/unknown": Saying(
        "blocks",
        "It is not recorded where this was, so its destination is unknown.",
        "Name the destination. Its files are also in the folder data of the bag.",
    ),
    "no-room": Saying(
        "blocks",
        "Not enough space on the drive: {need:bytes} needed, {free:bytes} free, {missing:bytes} short.",
        "Free that much on the drive, or use another drive.",
    ),
    "no-room/after-others": Saying(
        "blocks",
        "With those before it, {need} bytes are needed where the library goes, and {free} are free: {missing} "
        "bytes are missing.",
        "Free that much, or restore some of them to another drive.",
    ),
    "no-room/names": Saying(
        "blocks",
        "The drive can only hold {entries:more file or folder|more files and folders}, whatever their size; "
        "{needed} are needed.",
        "Use another drive, or one formatted for more files.",
    ),
    "no-room/rehome": Saying(
        "blocks",
        "Not enough space there: {need:bytes} needed, {free:bytes} free, {missing:bytes} short.",
        "Free that much on the drive, or use another drive.",
    ),
    "no-room/restore": Saying(
        "blocks",
        "{need} bytes are needed where the library goes, and {free} are free: {missing} bytes are missing.",
        "Free that much, or restore to another drive.",
    ),
    "not-connected": Saying(
        "info",
        "Not connected, so not counted: {chests}.",
        "Nothing has to be done.",
    ),
    "not-identical": Saying(
        "blocks",
        "{first} is not the same in {labels}, though size and date are.",
        "Compare them.",
    ),
    "not-in-chest": Saying(
        "blocks",
        "{files:file} could not be seen, and {chest} does not have {them}; {holder} has. The first is {first}.",
        "Connect the drive {they_are} on. Or bring the library over first, by copying it. To archive it "
        "without {these_files}, ignore this.",
        can_be_ignored=True,
    ),
    "not-joinable": Saying(
        "blocks",
        "{path} already exists with other contents, and its kind ({kind}) does not say how two of them become one.",
        "Choose which of the two stays (the other is kept); or set aside what is there.",
    ),
    "not-listed": Saying(
        "blocks",
        "The list of what it held when it was set aside is gone or damaged, so nothing proves that it was copied.",
        "Look through it, and delete it yourself if you do not need it.",
    ),
    "not-remembered": Saying(
        "warning",
        "{reason}",
        "Make room there or mend what is wrong, and open each chest once.",
    ),
    "not-seen": Saying(
        "warning",
        "{files:file} could not be seen: {reason}. The archive keeps {them}, last seen in {edition}; the first "
        "is {first}.",
        "{advice} If {they_are} really gone, say so.",
    ),
    "nothing": Saying(
        "blocks",
        "There is nothing that could be deleted.",
        "Nothing has to be done.",
    ),
    "nothing-goes": Saying(
        "blocks",
        "All files of {titles} are used by other parts too, or {application}'s catalogue cannot be edited from here.",
        "Remove {titles} in {application} itself.",
    ),
    "occupied/back": Saying(
        "blocks",
        "Something is already in {target}, and nothing existing is ever overwritten.",
        "Move it away or rename it first.",
    ),
    "occupied/in-the-way": Saying(
        "blocks",
        "{parent} is in the way: it is not a folder.",
        "Rename it, or restore elsewhere.",
    ),
    "occupied/not-mergeable": Saying(
        "blocks",
        "{place} is not a {shape}, so the library cannot be merged into it.",
        "Set aside what is there, or restore elsewhere.",
    ),
    "occupied/old-place": Saying(
        "blocks",
        "Something that is not the library's link is in its old place, {old}.",
        "Look at it, and move it away.",
    ),
    "occupied/other-kind": Saying(
        "blocks",
        "Something is already in {there}, and it is no library of the same kind.",
        "Choose another folder, or another name.",
    ),
    "occupied/part": Saying(
        "blocks",
        "Something is already in {there}.",
        "Choose another folder, or another name.",
    ),
    "occupied/rehome": Saying(
        "blocks",
        "Something is already in {target}, and nothing existing is ever overwritten.",
        "Choose another folder, or another name.",
    ),
    "occupied/restore": Saying(
        "blocks",
        "Something is already in {place}, and nothing existing is ever overwritten.{looks}",
        "Choose what becomes of it: it can be renamed with today's date, or only what is missing is added; or "
        "restore elsewhere.",
    ),
    "old-place": Saying(
        "warning",
        "{files:file} {verb} {places}: {some}.",
        "They are not updated. If a program needs these paths, change them by hand.",
    ),
    "only-copy": Saying(
        "warning",
        "{name} is in no chest: without the original, what is in {left} is the only copy.",
        "Archive it.",
    ),
    "other-history": Saying(
        "blocks",
        "{name} in {target} {why}.",
        "Archive the library itself to both chests; or copy to a chest that does not have it yet. Neither of "
        "the two is changed.",
    ),
    "outside-files": Saying(
        "info",
        "It uses {files:file} ({total:bytes}) stored elsewhere: {some}.",
        "They are archived too, unless you leave them out.",
    ),
    "outside-files-left": Saying(
        "warning",
        "It uses {files:file} stored elsewhere that this archive does not protect: {some}.",
        "They are archived too, if you ask for it.",
    ),
    "outside-files-left/reclaim": Saying(
        "info",
        "{files:file} ({total:bytes}) stored elsewhere that it uses stay where they are.",
        "They are deleted, too, if you ask for it.",
    ),
    "outside-files-left/rehome": Saying(
        "info",
        "It uses {files:file} stored elsewhere, which stay where they are: {some}.",
        "They are moved to the drive, too, if you ask for it.",
    ),
    "outside-files-refused": Saying(
        "warning",
        "It uses {files:file} that will not be archived: {some}.",
        "Nothing is archived from such places unless you ask: if they matter, archive them by their paths.",
    ),
    "own-archive": Saying(
        "info",
        "{target} has this state of {name} from an archive of its own.",
        "Nothing is to be copied.",
    ),
    "owners": Saying(
        "info",
        "{entries:file or folder|files and folders} of it belong to others: {told}.",
        "That is recorded. Run the restore as administrator to get them back.",
    ),
    "owners/lost": Saying(
        "warning",
        "Some of it belonged to {whose}; here it will belong to you.",
        "If that matters, as for a server's data, run the restore as administrator.",
    ),
    "owners/restore": Saying(
        "info",
        "Some of it belonged to {whose}, and will again, as far as they exist here.",
        "The summary lists files where that was not possible.",
    ),
    "partial": Saying(
        "info",
        "This archive holds only a part of the library: {parts}.",
        "The rest of the library is not in it.",
    ),
    "path-length": Saying(
        "blocks",
        "{paths:path} would be longer than the {most} characters that this computer takes, the longest by "
        "{over}: {longest}.",
        "Make the chest at the top of its drive, or give the library a shorter name. Or have Windows take long "
        "paths: as administrator, reg add HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v "
        "LongPathsEnabled /t REG_DWORD /d 1, and sign in again.",
    ),
    "path-length/copy": Saying(
        "blocks",
        "{paths:path} would be longer than the {most} characters that this computer takes, the longest by "
        "{over}: {longest}.",
        "Make the chest at the top of its drive. Or have Windows take long "
        "paths: as administrator, reg add HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v "
        "LongPathsEnabled /t REG_DWORD /d 1, and sign in again.",
    ),
    "path-length/restore": Saying(
        "blocks",
        "{paths:path} would be longer than the {most} characters that this computer takes, the longest by "
        "{over}: {longest}.",
        "Restore to a folder nearer to the top of the drive. Or have Windows take long paths: as "
        "administrator, reg add HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v LongPathsEnabled /t "
        "REG_DWORD /d 1, and sign in again.",
    ),
    "perhaps-same": Saying(
        "blocks",
        "This may be a library that is already in the chest: {names}.",
        "If it is, say that it continues that one; if it is another one, give it another name.",
    ),
    "placeholders": Saying(
        "blocks",
        "{files:essential file} {files:?is|are} only {files:?a placeholder|placeholders}; the content "
        "({total:bytes}) is not on this computer: {some}.",
        "Have the application or service download them first. Or leave them out, by ignoring this; or have "
        "them read, which may download them.",
        can_be_ignored=True,
    ),
    "placeholders/rehome": Saying(
        "blocks",
        "{files:file} only {files:?a placeholder|placeholders}: the content is not on this computer. First {first}.",
        "Have the application or service download them first.",
    ),
    "protected-place/reclaim": Saying(
        "blocks",
        "{place} is not deleted: {why}.",
        "Name a library.",
    ),
    "protected-place/rehome": Saying(
        "blocks",
        "{path} is not moved: {why}.",
        "Name the library's own folder.",
    ),
    "protected-place/restore": Saying(
        "blocks",
        "{place} is not set aside: {why}.",
        "Name the folder that becomes the library itself, not the one that will contain it, such as {inside}.",
    ),
    "read-only": Saying(
        "blocks",
        "The chest {chest} cannot be written to: {why_not}.",
        "Make the drive writable (its switch, its permissions, how it is mounted), or use another drive.",
    ),
    "read-only/rehome": Saying(
        "blocks",
        "{folder} cannot be written to: {why_not}.",
        "Make it writable (the drive's switch, its permissions, how it is mounted), or use another drive.",
    ),
    "rebuildable": Saying(
        "info",
        "{owner} can rebuild {files:file} ({held:bytes}); left out.",
        "That saves {share}% of the space. If you include them, they need not be rebuilt.",
    ),
    "rebuildable/included": Saying(
        "info",
        "{owner} can rebuild {files:file} ({held:bytes}).",
        "Included. Without them {share}% of the space is saved; {application} must then rebuild them.",
    ),
    "references-lost/rehome": Saying(
        "warning",
        "{references:reference} lead to nothing; the first: {text} in {file}.",
        "They did before, too; the application shows them as missing.",
    ),
    "references-lost/restore": Saying(
        "warning",
        "{references:reference} will lead to nothing here; the first: {text} in {file}.",
        "The plan lists them, each with what to do.",
    ),
    "references-unread": Saying(
        "warning",
        "References could not be read in {files:file}, first {path}: {why}.",
        "They are archived as they are. Outside files that only they name are not found.",
    ),
    "referred-to": Saying(
        "blocks",
        "The library {name} uses {files:file} of it{more}: they would be missing there.",
        "Archive {name} with the files it uses, or remove them there. Or ignore this.",
        can_be_ignored=True,
    ),
    "removable": Saying(
        "info",
        "The drive can be unplugged.",
        "Eject it before you unplug it, and keep it away from the computer.",
    ),
    "removable/rehome": Saying(
        "info",
        "The drive can be unplugged.",
        "Connect it before you start the application, and eject it before you unplug it.",
    ),
    "same-device": Saying(
        "warning",
        "The chest {chest} is on the same physical disk as the library ({devices}): if that fails, both are lost.",
        "This does not protect against disk failure; use another drive.",
    ),
    "same-device/chests": Saying(
        "warning",
        "The chests {source} and {target} are on the same physical disk ({devices}): if that fails, both are lost.",
        "This does not protect against disk failure; use another drive.",
    ),
    "same-device/rehome": Saying(
        "warning",
        "It is on the same drive as the library is now: moving it there frees nothing.",
        "Name a folder on another drive.",
    ),
    "same-place": Saying(
        "blocks",
        "{one} and {other} would both go to {path}.",
        "Restore one of them separately.",
    ),
    "sensitive-place": Saying(
        "blocks",
        "The archive says it belongs in {place}; {why}. It was made on another computer.",
        "If you trust it and want it there, name the folder yourself.",
    ),
    "set-aside": Saying(
        "info",
        "{old} will be called {new}{more}",
        "Nothing in it is changed. Look through it after the restore, and remove it yourself.",
    ),
    "shared": Saying(
        "info",
        "{files:file} of {title} stay, because other parts use them: {some}.",
        "They go when the last part that uses them goes.",
    ),
    "slow": Saying(
        "warning",
        "The drive is slow ({speed} MB a second): writing this library takes about {span}, then it is read back.",
        "Try another socket or cable, or run it overnight. If it is interrupted, the same command continues.",
    ),
    "staying": Saying(
        "info",
        "{links:file or link|files and links} stay in their place: {some}{more}.",
        "To delete some of them, too, name them.",
    ),
    "staying/aside": Saying(
        "info",
        "{links:file or link|files and links} stay there: {some}{more}.",
        "To delete some of them, too, name them.",
    ),
    "sync-folder": Saying(
        "warning",
        "The chest's folder seems to be synchronised with another place: {mark}.",
        "Deletions and damage there are copied here. Use a drive of your own.",
    ),
    "sync-folder/rehome": Saying(
        "blocks",
        "That folder seems to be synchronised with another place: {mark}. A library in use is damaged when two "
        "computers change it.",
        "Use a drive of your own. Or ignore this.",
        can_be_ignored=True,
    ),
    "system-files": Saying(
        "info",
        "{entries:file or folder|files and folders} of operating systems {entries:?is|are} left out: {listed}.",
        "Systems make them again.{tags}",
    ),
    "there-already/part": Saying(
        "blocks",
        "{there} is in the library itself.",
        "Name another folder.",
    ),
    "there-already/rehome": Saying(
        "blocks",
        "{library} is already in {target}.",
        "Nothing has to be done.",
    ),
    "too-few-copies": Saying(
        "blocks",
        "Only {found} {good:?is|are} connected and complete.",
        "Archive it to another drive.",
    ),
    "too-few-copies/absent": Saying(
        "blocks",
        "Only {found} {good:?is|are} connected and complete.",
        "Connect {chests}.",
    ),
    "too-few-drives": Saying(
        "blocks",
        "Its copies are on too few drives.",
        "Archive it to a chest on another drive.",
    ),
    "too-few-places": Saying(
        "blocks",
        "Its copies are kept in {places:place}; {wanted} are asked for.",
        "Say where a drive is kept.",
    ),
    "two-libraries": Saying(
        "warning",
        "{message}",
        "Make one library of the two.",
    ),
    "two-libraries/drive-away": Saying(
        "warning",
        "{message}",
        "Connect the drive first, and then make one library of the two.",
    ),
    "two-libraries/reclaim": Saying(
        "blocks",
        "{message}",
        "Make one library of the two first.",
    ),
    "unfinished/archive": Saying(
        "warning",
        "An archive of {name} to {chest} was interrupted. What it had copied is kept.",
        "To continue, archive the library once more.",
    ),
    "unfinished/change": Saying(
        "warning",
        "A change of {name} in {chest} was decided and could not be finished: {why}.",
        "It is finished when the chest is next used.",
    ),
    "unfinished/copy": Saying(
        "warning",
        "The archive of {name} in {source} was interrupted; there is nothing to copy yet.",
        "Run that archive again to continue it.",
    ),
    "unfinished/recover": Saying(
        "warning",
        "{error}",
        "Look at it; the drive itself may be unplugged.",
    ),
    "unreadable": Saying(
        "warning",
        "{names:folder or name|folders or names} cannot be read, first {first}: {why}.",
        "Run the command as a user who may read them; otherwise they are not archived.",
    ),
    "unreadable/rehome": Saying(
        "blocks",
        "{names:folder or name|folders or names} cannot be read, first {first}: {why}.",
        "Run the command as a user who may read them.",
    ),
}
