"""What the command line says a person can do about a finding, where that is a command or an option.

By the keys of `dunechest.model.findings.FINDINGS`; what is not here is said as it stands there.
"""

from __future__ import annotations

HINTS: dict[str, str] = {
    "another-library/old-computer": (
        "To use the restored one, choose it in the application's settings, or restore with --update-settings."
    ),
    "another-library/restore": (
        "To use the restored one, choose it in the application's settings, or restore with --update-settings."
    ),
    "changed": ("Archive it again: dunechest archive {library!q}{to}"),
    "chest-damaged/archive": ("Rebuild it: dunechest chest rebuild {folder!q}"),
    "chest-damaged/copy": ("Rebuild it: dunechest chest rebuild {folder!q}"),
    "continues": ("It gets its next edition there. If it is another library, give it another name with --as."),
    "copy-not-counted": ("Run: dunechest verify {chest!q} {name!q}"),
    "copy-not-counted/incomplete": ("Bring it up to date: dunechest archive {library!q} --to {chest!q}"),
    "damaged-archive/archive": (
        "With another intact copy, dunechest mend repairs it. Without one, leave it alone and archive the "
        "library under another name: --as {other}. Its intact files can be restored; dunechest verify lists "
        "the others."
    ),
    "damaged-archive/in-source": (
        "See what is damaged: dunechest verify {source!q} {name!q}. With another intact copy, dunechest mend "
        "repairs it."
    ),
    "damaged-archive/in-target": ("Mend it first: dunechest mend {target!q} {there!q} --from {source!q}"),
    "diverged": (
        "Archive the library to both: dunechest archive {called!q} --to {source!q} --to {target!q}. Neither of "
        "the two is changed by this copy."
    ),
    "diverged/two-computers": (
        "Bring the other state here first: dunechest restore {target!q} {bag!q} --if-exists merge. Then "
        "archive the library to both: dunechest archive {called!q} --to {source!q} --to {target!q}"
    ),
    "file-too-large/archive": (
        "Use a drive with another filesystem; or leave them out with --ignore file-too-large."
    ),
    "half-library": ("Put the missing half back in its place, or continue with --ignore half-library."),
    "in-memory/reclaim": ("Move it to a real drive. Or continue with --ignore in-memory."),
    "in-use": (
        "Close {application} and try again. Or continue with --ignore in-use; files that change meanwhile may "
        "then not match each other."
    ),
    "inside-archive": ("An archive must not be changed. Restore elsewhere with --into FOLDER."),
    "kind-lost": (
        "Check whether its catalogue or index is still there. It is archived as before, outside files "
        "included; use --kind folder to treat it as a plain folder."
    ),
    "kind-unknown": (
        "Its files are restored; to have references and settings updated, put the kind file into the folder "
        "kinds of this computer's state first (dunechest kinds list says which are known)."
    ),
    "last-part": ("Leave out --part, and take the whole library."),
    "library-gone": ("Copy it again: dunechest copy {label!q} {chest!q} {name!q}"),
    "library-gone/in-the-way": ("Rename {folder}, then copy it again: dunechest copy {label!q} {chest!q} {name!q}"),
    "linked-from": ("Remove the links first, if nothing needs them. Or continue with --ignore linked-from."),
    "mass-change/archive": (
        "That is what a mistake or malicious encryption looks like: open a few of them first. To get the "
        "library back as it was: dunechest restore {chest!q} {name!q} --into {folder!q} --if-exists set-aside. "
        "If you did this yourself, continue with --ignore mass-change; the edition before is kept until you "
        "name it."
    ),
    "mass-change/reclaim": ("Open the library and look. If that was you, continue with --ignore mass-change."),
    "merge": ("To make another library, choose another name with --as NAME."),
    "moved-here": ("To move it back: dunechest rehome --back {name!q}"),
    "name-taken/archive": (
        "Give this library another name with --as, for example: --as {free_name}. If it is the same library, "
        "from another place: --continue {bag}"
    ),
    "network/rehome": ("Use a drive that is connected to this computer. Or continue with --ignore network."),
    "newer-state": (
        "Bring that state here first: dunechest restore {where} --if-exists merge. Or archive this one under "
        "another name: --as {other_name}. To go on from here all the same: --ignore newer-state (edition "
        "{edition} is kept)."
    ),
    "newer-there": ("To copy it the other way: dunechest copy {target!q} {source!q} {name!q}"),
    "no-access-to-files": (
        "Restore as administrator: sudo dunechest restore {folder!q} {plan!q} --into {path_2!q}. What is "
        "restored so will belong to you."
    ),
    "no-access/restore": ("Run as a user who has it, or restore elsewhere with --into FOLDER."),
    "no-place": (
        'Say which folder here stands for that one (it is remembered): --map "{folder}=FOLDER"; or set the '
        "destination of this library: --into FOLDER."
    ),
    "no-place/unknown": ("Set it with --into FOLDER. Its files are also in the folder data of the bag."),
    "no-room/after-others": ("Free that much, or restore some of them to another drive with --into FOLDER."),
    "no-room/restore": ("Free that much, or restore to another drive with --into FOLDER."),
    "not-identical": ("Compare them: dunechest compare {one!q} {other!q}"),
    "not-in-chest": (
        "Connect the drive {they_are} on. Or bring the library over first: dunechest copy {holder!q} {chest!q} "
        "{name!q}. To archive it without {these_files}: --ignore not-in-chest"
    ),
    "not-joinable": (
        "Choose one with --on-conflict keep-mine, keep-archived or keep-newer (the other is kept); or use "
        "--if-exists set-aside."
    ),
    "not-remembered": ("Make room there or mend what is wrong; then: dunechest chest show CHEST, for each chest."),
    "not-seen": ("{advice} If {they_are} really gone: --forget-absent {forget}"),
    "occupied/in-the-way": ("Rename it, or restore elsewhere with --into FOLDER."),
    "occupied/not-mergeable": ("Use --if-exists set-aside, or restore elsewhere with --into FOLDER."),
    "occupied/other-kind": ("Choose another folder, or another name with --as NAME."),
    "occupied/part": ("Choose another folder, or another name with --as NAME."),
    "occupied/rehome": ("Choose another folder, or another name with --as NAME."),
    "occupied/restore": (
        "Choose what becomes of it: --if-exists set-aside renames it with today's date, --if-exists merge adds "
        "only what is missing; or restore elsewhere with --into FOLDER."
    ),
    "only-copy": ("Archive it: dunechest archive {name!q} --to CHEST"),
    "outside-files": ("They are archived too; skip them with --without-outside-files."),
    "outside-files-left": ("Leave out --without-outside-files to archive them too."),
    "outside-files-left/reclaim": ("To delete them, too: --with-outside-files."),
    "outside-files-left/rehome": ("To move them to the drive, too: --with-outside-files."),
    "path-length": (
        "Make the chest at the top of its drive, or give the library a shorter name with --as. Or have Windows "
        "take long paths: as administrator, reg add HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v "
        "LongPathsEnabled /t REG_DWORD /d 1, and sign in again."
    ),
    "path-length/restore": (
        "Restore to a folder nearer to the top of the drive, with --into. Or have Windows take long paths: as "
        "administrator, reg add HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v LongPathsEnabled /t "
        "REG_DWORD /d 1, and sign in again."
    ),
    "perhaps-same": ("If it is, use --continue {other}; if it is another one, name it: --as {name}"),
    "placeholders": (
        "Have the application or service download them first. Or leave them out with --ignore placeholders, or "
        "read them with --read-placeholders, which may download them."
    ),
    "protected-place/restore": (
        "--into names the folder that becomes the library itself, not the one that will contain it. To put it "
        "in there: --into {inside!q}"
    ),
    "rebuildable": (
        "That saves {share}% of the space. --with-rebuildable includes them; then they need not be rebuilt."
    ),
    "rebuildable/included": (
        "Included. --without-rebuildable saves {share}% of the space; {application} must then rebuild them."
    ),
    "referred-to": (
        "Archive {name} with the files it uses, or remove them there. Or continue with --ignore referred-to."
    ),
    "same-place": ("Restore one of them separately with --into FOLDER."),
    "sensitive-place": ("If you trust it and want it there, name the folder yourself: --into {place!q}"),
    "staying": ("To delete some of them, too, name them: --also PATTERN."),
    "staying/aside": ("To delete some of them, too, name them: --also PATTERN."),
    "sync-folder/rehome": ("Use a drive of your own. Or continue with --ignore sync-folder."),
    "too-few-copies": ("Archive it to another drive: dunechest archive {library!q} --to CHEST"),
    "too-few-places": ("Say where a drive is kept: dunechest chest place {chest!q} PLACE"),
    "two-libraries": ("To make one library of the two: {command}"),
    "two-libraries/reclaim": ("Make one library of the two first: dunechest rehome --rejoin {name!q}"),
    "unfinished/change": ("It is finished when the chest is next used: dunechest chest show {chest!q}"),
}
