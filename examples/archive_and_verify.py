"""Archive a folder to a drive, look at the summary, and verify the copy.

python examples/archive_and_verify.py FOLDER DRIVE
"""

import sys

import dunechest


def main(folder: str, drive: str) -> None:
    """Archive `folder` to a new chest on `drive`."""
    chest = dunechest.create_chest(drive, "example")
    (result,) = dunechest.archive(folder, chest)
    print(f"{result.archived_count} of {result.found_count} files archived, {result.stored_bytes} bytes")
    for file in result.left_out:
        print(f"left out: {file.path}: {file.why}")
    check = dunechest.verify(chest)
    print("all intact" if check.ok else check.to_frame())


if __name__ == "__main__":
    main(*sys.argv[1:])
