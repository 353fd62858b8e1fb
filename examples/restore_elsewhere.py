"""Plan a restore, read the plan, and carry it out.

python examples/restore_elsewhere.py DRIVE LIBRARY FOLDER
"""

import sys

import dunechest


def main(drive: str, library: str, folder: str) -> None:
    """Restore `library` from the chest on `drive` into `folder`."""
    chest = dunechest.get_chest(drive)
    plan = dunechest.plan_restore(chest, library, dunechest.RestoreOptions(into=folder))
    print(f"{plan.file_count} files, {plan.size_bytes} bytes, to {plan.path}")
    for finding in plan.findings:
        print(f"{finding.severity} {finding.code}: {finding.message}")
    try:
        result = dunechest.carry_out(plan)
    except dunechest.RefusedError as refusal:
        print("refused:", *(finding.code for finding in refusal.findings))
        return
    print(f"{result.file_count} files restored; {'all well' if result.ok else 'not all well'}")


if __name__ == "__main__":
    main(*sys.argv[1:])
