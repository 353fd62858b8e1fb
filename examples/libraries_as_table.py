"""Find libraries below a folder and show them as a pandas table, with progress.

python examples/libraries_as_table.py FOLDER
"""

import sys

import dunechest


def progress(step: dunechest.model.Step) -> None:
    """Show how far the search is."""
    print(f"{step.stage} {step.done_count} of {step.total_count}: {step.about}", file=sys.stderr)


def main(folder: str) -> None:
    """Find the libraries below `folder`."""
    found = dunechest.find_libraries(folder, progress=progress)
    print(found.to_frame()[["name", "kind", "file_count", "size_bytes"]].to_string(index=False))
    for known in found.libraries:
        readiness = dunechest.look(known.library)
        for finding in readiness.findings:
            print(f"{known.library.name}: {finding.severity} {finding.code}")


if __name__ == "__main__":
    main(*sys.argv[1:])
