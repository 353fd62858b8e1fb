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
_POSIX_PATHS = "writes paths as POSIX has them"
_TEXTS = "writes texts with the lines and letters of this system"
_MODES = "permissions as POSIX has them"
_SIGNALS = "signals and calls of POSIX"
_OPEN = "who has a file open, which wine does not tell"
_JUNCTION = "makes junctions, which wine cannot"
_SCHEDULER = "the scheduler of another system"
_NOT_INSTALLED = "a tool of development, or the program as it is installed"
#: Under the simulated macOS: tests by the beginning of their id, and what they need.
MACOS = {
    "tests/jobs/study/test_finding_libraries.py::test_search_roots_are_drives": "names drives where Linux mounts them",
    "tests/jobs/study/test_findings.py::test_a_finding_about_a_library[placeholders": _BLOCKS,
    "tests/jobs/study/test_findings.py::test_a_finding_about_a_library[elsewhere": _LINUX_HOME,
    "tests/jobs/study/test_findings.py::test_the_most_serious_comes_first": _BLOCKS,
    "tests/jobs/study/test_findings.py::test_a_second_process_that_has_it_open_is_caught[process]": _LINUX_HOME,
    "tests/jobs/study/test_findings.py::test_a_disk_that_can_be_unplugged": "asks for the tree of block devices",
    "tests/jobs/restore/test_answers.py::test_a_plan_is_read_and_answered": _LINUX_HOME,
    "tests/transfer/test_transfer.py::test_a_filesystem_that_wants_other_blocks": "reads around the cache as Linux does",
    "tests/jobs/restore/test_repointing.py::test_a_library_of_another_system_comes_home": _LINUX_HOME,
    "tests/jobs/restore/test_repointing.py::test_a_setting_that_names_another_library": _LINUX_HOME,
    "tests/jobs/check/test_believed.py::test_two_chests_of_one_id_are_two": "needs the UUID of a volume, which only a Mac tells",
    "tests/jobs/known/test_own_things.py::test_the_home_and_standard_folders_are_never_set_aside[.": _LINUX_HOME,
    "tests/jobs/archive/test_choices.py::test_placeholders_stop": _BLOCKS,
    "tests/jobs/archive/test_choices.py::test_no_placeholder_is_opened": _BLOCKS,
    "tests/jobs/archive/test_choices.py::test_a_whole_small_file_and_a_true_sparse_one": _BLOCKS,
    "tests/jobs/restore/test_destinations.py::test_a_standard_folder_exists_on_every_system": _LINUX_HOME,
    "tests/jobs/restore/test_destinations.py::test_a_kind_that_has_one_place_on_each_system": _LINUX_HOME,
    "tests/jobs/restore/test_destinations.py::test_a_home_of_somebody_else": _LINUX_HOME,
    "tests/jobs/move/test_reclaiming.py::test_a_placeholder_is_not_deleted": _BLOCKS,
    "tests/jobs/move/test_reclaiming.py::test_a_chest_on_the_library_s_own_drive": "needs the disks that only a Mac lists",
    "tests/jobs/move/test_rehoming.py::test_two_libraries_become_one_by_setting": _LINUX_HOME,
    "tests/jobs/move/test_rehoming.py::test_an_edited_setting": _LINUX_HOME,
    "tests/jobs/undo/test_undoing.py": _LINUX_HOME,
    "tests/jobs/study/test_watching.py::test_it_shows_what_is_still_to_come": _BLOCKS,
    "tests/jobs/study/test_watching.py::test_it_says_when_nothing_has_moved": _BLOCKS,
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
    "tests/jobs/archive/test_honest_summaries.py::test_very_long_names": "paths longer than Windows takes: a finding says so",
    "tests/jobs/study/test_findings.py::test_what_a_drive_holds": "what filesystem it is, which wine does not tell",
    "tests/jobs/study/test_findings.py::test_a_disk_that_can_be_unplugged": "asks for the tree of block devices",
    "tests/whole/test_hostile.py::test_a_record_of_folders_deeper": "a path on which wine waits for ever",
    "tests/jobs/check/test_other_spellings.py": "a drive that tells cases apart",
    "tests/jobs/move/test_reclaiming.py::test_the_trash": "the recycle bin, which wine has not",
    "tests/jobs/archive/test_summaries.py::test_a_restore_to_a_place_that_tells_no_cases": "a drive that tells cases apart",
    "tests/cli/test_interface.py::test_examples_in_docstrings_run[dunechest.machine._attributes_linux": "the calls of Linux",
    "tests/cli/test_interface.py::test_examples_in_docstrings_run[dunechest.machine._locks_posix": "the calls of POSIX",
    "tests/whole/test_system_files.py::test_a_move_and_its_way_back": "makes junctions, which wine cannot",
}

#: And there, by reason, below the folder of the tests.
_WINDOWS_GROUPS = {
    _LINUX_HOME: (
        "jobs/restore/test_destinations.py::test_a_standard_folder_exists_on_every_system",
        "jobs/restore/test_destinations.py::test_a_kind_that_has_one_place",
        "jobs/restore/test_destinations.py::test_a_home_of_somebody_else",
        "jobs/study/test_findings.py::test_a_finding_about_a_library[elsewhere",
        "jobs/known/test_own_things.py::test_the_home_and_standard_folders",
        "jobs/known/test_own_things.py::test_undo_of_one_library_leaves",
        "jobs/move/test_rehoming.py::test_two_libraries_become_one_by_setting",
        "jobs/move/test_rehoming.py::test_an_edited_setting",
        "jobs/restore/test_repointing.py::test_a_setting_that_names_another_library",
        "jobs/restore/test_repointing.py::test_a_library_of_another_system_comes_home",
        "jobs/undo/test_undoing.py",
        "cli/test_interface.py::test_place_of_prefers",
        "whole/test_homecoming.py",
        "whole/test_living_on_a_drive.py",
        "whole/test_round_trip.py::test_home_is_where_it_goes",
        "whole/test_foreign.py::test_a_record_of_an_old_version",
    ),
    _BLOCKS: (
        "jobs/archive/test_choices.py::test_placeholders",
        "jobs/archive/test_choices.py::test_no_placeholder_is_opened",
        "jobs/archive/test_choices.py::test_a_whole_small_file_and_a_true_sparse_one",
        "jobs/study/test_findings.py::test_a_finding_about_a_library[placeholders",
        "jobs/move/test_reclaiming.py::test_a_placeholder_is_not_deleted",
        "jobs/study/test_watching.py",
    ),
    _POSIX_PATHS: (
        "jobs/restore/test_answers.py::test_a_part_of_an_earlier_edition",
        "jobs/archive/test_choices.py::test_an_outside_file_on_a_card",
        "jobs/editions/test_editions.py::test_only_what_is_new_is_read",
        "jobs/study/test_finding_libraries.py::test_all_drives_and_a_former_system",
        "jobs/study/test_finding_libraries.py::test_search_roots_are_drives",
        "jobs/study/test_findings.py::test_a_finding_about_a_library[drive-away",
        "jobs/move/test_reclaiming.py::test_licensed_left_out",
        "jobs/restore/test_repointing.py::test_a_folder_in_a_table",
        "jobs/restore/test_repointing.py::test_paths_of_windows_lead_somewhere_here[sub",
        "jobs/restore/test_repointing.py::test_paths_of_windows_lead_somewhere_here[..",
        "jobs/routine/test_routine.py::test_names_that_cannot_be_meant",
        "jobs/routine/test_routine.py::test_a_routine_file_gives_back",
        "jobs/move/test_rehoming.py::test_a_drive_that_cannot_hold_names",
        "cli/test_layout.py::test_places_begin_with_the_home_folder",
        "cli/test_interface.py::test_everything_public",
        "cli/test_interface.py::test_examples_in_docstrings_run[dunechest.jobs.move.reclaim",
        "cli/test_interface.py::test_examples_in_docstrings_run[dunechest.names",
        "library/test_open_formats.py::test_a_path_inside_the_folder",
        "library/test_open_formats.py::test_latex",
        "library/test_references.py::test_columns_of_a_database",
        "whole/test_round_trip.py::test_a_real_tree_that_nobody_here_wrote",
        "whole/test_round_trip.py::test_any_tree_comes_back",
        "whole/test_power.py::test_what_was_proven_before",
        "whole/test_power.py::test_the_next_command_finishes",
        "whole/test_power.py::test_a_damaged_journal_never",
        "whole/test_trust.py::test_leads_out_agrees",
    ),
    _TEXTS: (
        "jobs/restore/test_repointing.py::test_each_format_is_written_anew",
        "jobs/move/test_reclaiming.py::test_what_other_libraries_use",
        "library/test_references.py::test_each_format_is_read[m3u8",
    ),
    _MODES: (
        "jobs/archive/test_honest_summaries.py::test_a_file_that_its_owner_may_not_read",
        "jobs/editions/test_editions.py::test_what_cannot_be_read_stays",
        "jobs/study/test_findings.py::test_a_finding_about_a_library[unreadable",
        "jobs/routine/test_routine.py::test_a_memory_that_lies",
        "jobs/routine/test_routine.py::test_the_log_rotates",
        "jobs/routine/test_steps.py::test_a_file_that_may_not_be_read",
        "jobs/archive/test_summaries.py::test_every_payload_file",
        "jobs/archive/test_summaries.py::test_rights_to_act_as_another",
    ),
    _SIGNALS: (
        "jobs/archive/test_summaries.py::test_a_leftover_of_a_killed",
        "jobs/archive/test_honest_summaries.py::test_waiting_for_a_database",
        "jobs/known/test_own_things.py::test_recovery_never_takes",
        "jobs/routine/test_routine.py::test_damage_is_told_first",
        "jobs/study/test_findings.py::test_a_finding_about_a_library[no-files",
        "jobs/check/test_reading_never_waits.py::test_paths_deeper_than_recursion",
        "whole/test_foreign.py::test_a_file_made_to_swell",
        "whole/test_faults.py",
    ),
    _OPEN: (
        "jobs/study/test_findings.py::test_a_second_process",
        "jobs/move/test_reclaiming.py::test_each_condition_that_fails",
        "jobs/routine/test_routine.py::test_an_open_library",
    ),
    _JUNCTION: (
        "jobs/move/test_rehoming.py::test_a_drive_that_is_missing",
        "jobs/move/test_reclaiming.py::test_one_command_does_the_whole_errand",
        "cli/test_json.py::test_every_command_that_ends_well",
        "cli/test_json.py::test_a_lost_drive_is_forgotten",
    ),
    _SCHEDULER: (
        "jobs/routine/test_routine.py::test_a_file_that_is_not_understood",
        "jobs/routine/test_routine.py::test_a_routine_that_nothing_starts",
        "cli/test_help.py::test_the_examples_of_every_command",
        "whole/test_pages.py::test_every_night_by_itself",
    ),
    _NOT_INSTALLED: (
        "cli/test_help.py::test_man_pages",
        "cli/test_interface.py::test_a_real_process_gives_status",
        "cli/test_json.py::test_the_published_schemas",
        "cli/test_words.py::test_suggested_commands",
        "library/test_open_kinds.py::test_a_library_of_an_open_format_is_known_by_its_content[environment",
    ),
}
WINDOWS |= {f"tests/{test}": why for why, tests in _WINDOWS_GROUPS.items() for test in tests}

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
