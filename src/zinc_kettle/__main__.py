"""Lets `python -m zinc_kettle` do what `zinc-kettle` does."""

from zinc_kettle.cli.entry import main

if __name__ == "__main__":
    main()
