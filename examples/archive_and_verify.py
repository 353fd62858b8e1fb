"""Archive a folder to a drive, look at the summary, and verify the copy.

python examples/archive_and_verify.py FOLDER DRIVE
"""

import sys

import dunechest


def main(folder: str, drive: str) -> None:
    """Archive `folder` to a new chest on `drive`."""
    chest = dunechest.create_chest(drive, "example")
    (result,) = dunechest.archive(folder, chest)
    print(f"{result.files_copied} of {result.files_found} files copied, {result.bytes_stored} bytes")
    for file in result.left_out:
        print(f"left out: {file.path}: {file.why}")
    check = dunechest.verify(chest)
    print("all intact" if check.well else check.to_frame())


if __name__ == "__main__":
    main(*sys.argv[1:])
