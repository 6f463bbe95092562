"""The screen in a terminal, with a data folder of its own."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.cli import STUDY
from tests.screen.term import Term
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import KettleStore

EXAMPLE = "three-ways"
COMMAND = [sys.executable, "-m", "zinc_kettle"]


def own_home(home: Path, folder: Path, *, count: int = 2, output: int = 24) -> Path:
    """A data folder with the tiny models and one study ready to run."""
    new = folder / "home"
    (new / "studies").mkdir(parents=True)
    (new / "models").symlink_to(home / "models")
    text = STUDY.format(count=count, output=output)
    (new / "studies" / "quick.study.toml").write_text(text)
    return new


def open_app(home: Path, *, columns: int = 142, rows: int = 42, newcomer: bool = False, **env: str) -> Term:
    """The tool as a person starts it, who is no newcomer, unless it is said so."""
    if not newcomer:
        (home / "models").mkdir(parents=True, exist_ok=True)
    return Term(COMMAND, columns=columns, rows=rows, env={"ZINC_KETTLE_HOME": str(home), **env})


def examples(home: Path) -> Path:
    """The store of the examples, which the first start puts into the data folder."""
    return home / "examples.db"


def opened(home: Path, t: Term) -> str:
    """Go to the map of the example with three ways; gives what is shown."""
    t.wait("example")
    rows = sorted(shelf(KettleStore(examples(home))), key=lambda row: row.runs[0].simulated)
    for _ in range([row.name for row in rows].index(EXAMPLE)):
        t.keys("Down")
    t.keys("Enter")
    t.wait("tide table")
    return t.wait("best decode")
