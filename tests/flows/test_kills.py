"""Three kills at random moments; fifty by `make bench-kills`."""

from __future__ import annotations

from pathlib import Path

from benchmarks.kills import chain


def test_three_kills_lose_no_request_that_was_received(paced: str, tmp_path: Path) -> None:
    """All that reached the tool is in the store, nothing is left running, and the study goes on to its end."""
    rounds = chain(3, paced, tmp_path)
    assert len(rounds) == 3 and rounds[-1].received > 3
    assert sum(r.missing for r in rounds) == 0 and sum(r.left_processes for r in rounds) == 0
    assert all(r.resumed for r in rounds)
