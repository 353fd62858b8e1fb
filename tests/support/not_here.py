"""What tests need that another system has not, real, under wine or simulated: they are skipped there, each with the reason."""

from __future__ import annotations

import errno
import os
import signal
import sys
import time
import traceback
from pathlib import Path
from typing import Any

import pytest

_LINUX_HOME = "names the folders of a home as Linux has them"
_BLOCKS = "makes placeholders as Linux knows them, by their blocks"
#: Under the simulated macOS: tests by the beginning of their id, and what they need.
MACOS = {
    "tests/jobs/test_finding_libraries.py::test_search_roots_are_drives": "names drives where Linux mounts them",
    "tests/jobs/test_findings.py::test_a_finding_about_a_library[placeholders": _BLOCKS,
    "tests/jobs/test_findings.py::test_a_finding_about_a_library[elsewhere": _LINUX_HOME,
    "tests/jobs/test_findings.py::test_the_most_serious_comes_first": _BLOCKS,
    "tests/jobs/test_findings.py::test_a_second_process_that_has_it_open_is_caught[process]": _LINUX_HOME,
    "tests/jobs/test_findings.py::test_a_disk_that_can_be_unplugged": "asks for the tree of block devices",
    "tests/jobs/test_answers.py::test_a_plan_is_read_and_answered": _LINUX_HOME,
    "tests/transfer/test_transfer.py::test_a_filesystem_that_wants_other_blocks": "reads around the cache as Linux does",
    "tests/jobs/test_repointing.py::test_a_library_of_another_system_comes_home": _LINUX_HOME,
    "tests/jobs/test_repointing.py::test_a_setting_that_names_another_library": _LINUX_HOME,
    "tests/jobs/test_believed.py::test_two_chests_of_one_id_are_two": "needs the UUID of a volume, which only a Mac tells",
    "tests/jobs/test_own_things.py::test_the_home_and_standard_folders_are_never_set_aside[.": _LINUX_HOME,
    "tests/jobs/test_choices.py::test_placeholders_stop": _BLOCKS,
    "tests/jobs/test_choices.py::test_no_placeholder_is_opened": _BLOCKS,
    "tests/jobs/test_choices.py::test_a_whole_small_file_and_a_true_sparse_one": _BLOCKS,
    "tests/jobs/test_destinations.py::test_a_standard_folder_exists_on_every_system": _LINUX_HOME,
    "tests/jobs/test_destinations.py::test_a_kind_that_has_one_place_on_each_system": _LINUX_HOME,
    "tests/jobs/test_destinations.py::test_a_home_of_somebody_else": _LINUX_HOME,
    "tests/jobs/test_reclaiming.py::test_a_placeholder_is_not_deleted": _BLOCKS,
    "tests/jobs/test_reclaiming.py::test_a_chest_on_the_library_s_own_drive": "needs the disks that only a Mac lists",
    "tests/jobs/test_rehoming.py::test_two_libraries_become_one_by_setting": _LINUX_HOME,
    "tests/jobs/test_rehoming.py::test_an_edited_setting": _LINUX_HOME,
    "tests/jobs/test_undoing.py": _LINUX_HOME,
    "tests/jobs/test_watching.py::test_it_shows_what_is_still_to_come": _BLOCKS,
    "tests/jobs/test_watching.py::test_it_says_when_nothing_has_moved": _BLOCKS,
}
#: Likewise on Windows.
WINDOWS = {
    "tests/bag/test_bag.py::test_manifest_comes_back_as_written": "names files as no system but POSIX takes them",
    "tests/bag/test_rfc.py::test_a_bag_that_keeps_it_is_valid_and_one_that_does_not_is_not[2.1.3 A line break": "makes such a name",
    "tests/machine/test_schedulers.py::test_what_each_is_given_is_as_it_was_looked_through[systemd]": "places as Linux has them",
    "tests/machine/test_schedulers.py::test_the_other_lines": "the scheduler of another system",
    "tests/machine/test_schedulers.py::test_the_table_is_gone": "the scheduler of another system",
    "tests/machine/test_schedulers.py::test_a_scheduler_that_refuses": "the scheduler of another system",
    "tests/machine/test_schedulers.py::test_units_are_for_their_owner": "the scheduler of another system",
    "tests/transfer/test_transfer.py::test_a_growing_file": "reads an endless device",
    "tests/chest/test_chest.py::test_the_commands_page_is_up_to_date": "a tool of development",
    "tests/chest/test_pieces.py::test_earlier_states_of_large_files": "asks the command sha512sum",
    "tests/machine/test_machine.py::test_limits_of_each": "the filesystems of other systems",
    "tests/machine/test_machine.py::test_the_last_mount": "mounts as POSIX has them",
    "tests/machine/test_machine.py::test_a_process_lives": "the name of a process, which wine does not tell",
    "tests/machine/test_machine.py::test_a_zombie": "a process that ended and was not collected: there is none",
    "tests/machine/test_machine.py::test_openers": "who has a file open, which wine does not tell",
    "tests/machine/test_machine.py::test_user_dirs": "folders as Linux has them",
    "tests/machine/test_machine.py::test_windows_and_macos_ways": "the calls of other systems",
    "tests/machine/test_machine.py::test_linux": "the calls of Linux",
    "tests/machine/test_machine.py::test_without_a_home": "a home as POSIX has it",
    "tests/machine/test_other_systems.py": "simulates this system on another one",
    "tests/machine/test_folder_links.py": "makes junctions, which wine cannot",
    "tests/whole/test_system_files.py::test_a_move_and_its_way_back": "makes junctions, which wine cannot",
}

_MODULES = (os, signal, time)
_PROGRAMS = ("sha512sum", "sh", "bash", "crontab", "systemctl", "man", "git", "cp", "true", "false", "sleep")
# ERROR_PRIVILEGE_NOT_HELD, ERROR_NOT_SUPPORTED, ERROR_BAD_EXE_FORMAT
_REFUSED = (1314, 50, 193)
# ERROR_NOT_SUPPORTED, ERROR_INVALID_NAME
_NO_JUNCTIONS, _NO_NAME = 50, 123


def why_not(item: pytest.Item) -> str | None:
    """Return why a test cannot be run here, or None."""
    name = item.nodeid.replace("\\", "/")
    table = WINDOWS if sys.platform == "win32" else MACOS if os.environ.get("DUNECHEST_SIMULATE") == "macos" else {}
    return next((why for start, why in table.items() if name.startswith(start)), None)


def needs_posix(error: BaseException) -> str | None:
    """Return what a test itself asked for that is not here; None if it failed for another reason, or in the program."""
    if isinstance(error.__cause__, OSError) and getattr(error.__cause__, "winerror", None) == _NO_JUNCTIONS:
        return "makes a junction, which wine cannot"
    frames = traceback.extract_tb(error.__traceback__)
    inside = [frame for frame in frames if "dunechest" in Path(frame.filename).parts]
    if inside and "tests" not in Path(inside[-1].filename).parts:
        return None
    if isinstance(error, ModuleNotFoundError) and error.name in ("fcntl", "resource", "pwd", "grp", "termios", "pty"):
        return f"needs the module {error.name}"
    if isinstance(error, AttributeError) and getattr(error, "obj", None) in _MODULES:
        return f"needs {error.obj.__name__}.{error.name}"
    if isinstance(error, AttributeError) and "<module 'os'" in str(error):
        return "needs a call of POSIX"
    if isinstance(error, OSError) and getattr(error, "winerror", None) in _REFUSED:
        return f"needs what this system refuses: {error}"
    if isinstance(error, OSError) and (error.errno == errno.EINVAL or getattr(error, "winerror", None) == _NO_NAME):
        return f"makes a name that this system cannot have: {error}"
    if isinstance(error, UnicodeDecodeError) and "fsdecode" in {frame.name for frame in frames}:
        return "makes a name that is not text"
    if isinstance(error, FileNotFoundError) and Path(frames[-1].filename).name == "subprocess.py":
        return "needs a program that is not here"
    return None


def no_links(*words: Any, **more: Any) -> None:
    """Stand for the making of symbolic links, which needs a privilege on Windows and is unknown to wine."""
    if "tests" in Path(sys._getframe(1).f_code.co_filename).parts:
        pytest.skip("needs symbolic links")
    raise OSError(22, "symbolic links are not to be had", None, 1314)


def take_away() -> None:
    """Have tests that need what is not here be skipped."""
    if sys.platform == "win32":
        import _winapi

        if hasattr(_winapi, "CopyFile2"):
            del _winapi.CopyFile2  # wine ends a process that asks for it; shutil has another way
        os.symlink = no_links  # type: ignore[assignment]
        Path.symlink_to = no_links  # type: ignore[assignment,method-assign]
        setenv = pytest.MonkeyPatch.setenv

        def with_home(self: pytest.MonkeyPatch, name: str, value: str, *more: Any, **others: Any) -> None:
            setenv(self, name, value, *more, **others)
            if name == "HOME":  # where Windows looks for it
                setenv(self, "USERPROFILE", value)

        pytest.MonkeyPatch.setenv = with_home  # type: ignore[method-assign,assignment]
