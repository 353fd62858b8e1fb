"""``python -m dunechest`` is the command ``dunechest``."""

from dunechest.cli import main

if __name__ == "__main__":
    main()
