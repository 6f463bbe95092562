"""The guided walk: it goes through real screens by itself, and any key of the person's ends it."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.screen.term import Term
from zinc_kettle.tui.walk import STEPS


def test_every_stop_is_reached_and_a_key_takes_over(demo_home: Path) -> None:
    """Hurried by space through all of it: each stop says its words on the screen it names; then one more start, and a
    key in the middle ends it there."""
    assert 180 <= sum(step.takes_s for step in STEPS) <= 300
    command = [sys.executable, "-m", "zinc_kettle", "demo", "--walk"]
    env = {"ZINC_KETTLE_HOME": str(demo_home)}
    with Term(command, env=env) as t:
        for number, step in enumerate(STEPS, start=1):
            at, begin = f"{number} of {len(STEPS)};", " ".join(step.say.split()[:4])
            t.until(lambda page, at=at, begin=begin: at in page and begin in " ".join(page.split()), at)  # type: ignore[misc]
            if number < len(STEPS):
                t.keys("Space")
        t.keys("q").wait_exit()
    with Term(command, env=env) as t:
        t.wait(f"1 of {len(STEPS)};")
        t.keys("Space").wait(f"2 of {len(STEPS)};")
        t.keys("5").gone(f"of {len(STEPS)};")
        t.wait("is better")
        t.keys("q").wait_exit()
