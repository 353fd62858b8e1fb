"""Archive a folder to a drive, look at the account, and verify the copy.

python examples/archive_and_verify.py FOLDER DRIVE
"""

import sys

import dunechest


def main(folder: str, drive: str) -> None:
    """Archive `folder` to a new chest on `drive`."""
    chest = dunechest.Chest.create(drive, "example")
    (account,) = dunechest.archive([folder], chest)
    print(f"{account.files_copied} of {account.files_found} files copied, {account.bytes_stored} bytes")
    for one in account.left_out:
        print(f"left out: {one.path}: {one.why}")
    check = dunechest.verify(chest)
    print("all sound" if check.well else check.to_frame())


if __name__ == "__main__":
    main(*sys.argv[1:])
