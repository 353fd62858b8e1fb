"""Plan a restore, read the plan, and carry it out.

python examples/restore_elsewhere.py DRIVE LIBRARY FOLDER
"""

import sys

import dunechest


def main(drive: str, library: str, folder: str) -> None:
    """Restore `library` from the chest on `drive` into `folder`."""
    chest = dunechest.Chest.open(drive)
    plan = dunechest.plan_restore(chest, library, dunechest.RestoreOptions(into=str(folder)))
    print(f"{len(plan.files)} files, {plan.bytes} bytes, to {plan.place}")
    for finding in plan.findings:
        print(f"{finding.weight} {finding.code}: {finding.what}")
    try:
        account = dunechest.restore(chest, library, dunechest.RestoreOptions(into=str(folder)))
    except dunechest.RefusedError as refusal:
        print("refused:", *(finding.code for finding in refusal.findings))
        return
    print(f"{account.files} files restored; {'all well' if account.well else 'not all well'}")


if __name__ == "__main__":
    main(*sys.argv[1:])
