"""`make docs`: tables of these pages that are made from what the code declares.

    python docs/generate.py           writes them
    python docs/generate.py --check   ends with 1 where a page is stale, and says which

A table stands between two marks, the first of which names it; all else on a page is written by people.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path

from zinc_kettle.formats.recipe import shipped
from zinc_kettle.formats.study import StudyFile
from zinc_kettle.present.reference import TABLES, settings, table
from zinc_kettle.tui.actions import ACTIONS, EVERYWHERE
from zinc_kettle.tui.stations import STATIONS

DOCS = Path(__file__).parent
END = "<!-- end of table -->"
MARK = re.compile(r"(<!-- table of ([a-z -]+), made by `make docs` -->\n).*?(" + re.escape(END) + ")", re.DOTALL)


def stations() -> str:
    """Every station of the screen."""
    return table(("station", "key", "its question"), ((s.title, s.key or "–", s.question) for s in STATIONS))


def keys() -> str:
    """Every key and what it does."""
    titles = {s.name: s.title for s in STATIONS} | {EVERYWHERE: EVERYWHERE}
    rows = ((titles[a.place], f"`{a.shown_key or a.key}`", a.title, a.help) for a in ACTIONS if a.listed)
    return table(("where", "key", "action", "what it does"), rows)


MAKERS: Mapping[str, Callable[[], str]] = {
    **TABLES,
    "stations": stations,
    "keys": keys,
    "settings of the built-in engine": partial(settings, shipped()["built-in"].engine),
    "settings of mistralrs": partial(settings, shipped()["mistralrs"].engine),
}


def study_schema() -> str:
    """What a study file may say, as JSON Schema."""
    return json.dumps(StudyFile.model_json_schema(), indent=2, ensure_ascii=False) + "\n"


def page(text: str) -> str:
    """A page with its tables as they should be."""
    return MARK.sub(lambda found: f"{found[1]}\n{MAKERS[found[2]]()}\n\n{found[3]}", text)


def main() -> int:
    """Write, or check."""
    stale = []
    wanted = {path: page(path.read_text(encoding="utf-8")) for path in sorted(DOCS.glob("*.md"))}
    wanted[DOCS / "study-file.schema.json"] = study_schema()
    for path, text in wanted.items():
        if not path.exists() or path.read_text(encoding="utf-8") != text:
            stale.append(path.name)
            if "--check" not in sys.argv:
                path.write_text(text, encoding="utf-8")
    if stale and "--check" in sys.argv:
        sys.stderr.write(f"stale: {', '.join(stale)}. Run `make docs` and commit what it writes.\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
