"""The driver's self-test: real figures against the paced server, kept for an hour, never taken from a damaged file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from zinc_kettle.app import selftest
from zinc_kettle.core.drivers import FULL_SHARE
from zinc_kettle.errors import DriverError


async def test_it_measures_and_is_used_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Errors of both patterns, the cost and the ceiling that follows; the second time nothing is run."""
    kept = tmp_path / "cache" / "driver-test.json"
    found = await selftest.test_driver(3, kept)
    assert found["streams"] == 3 and found["stamp"] in {"kernel", "user"}
    for pattern in ("spread", "burst"):
        assert 0 <= found[pattern]["p50_ms"] <= found[pattern]["p99_ms"] <= found[pattern]["max_ms"]
    assert 0 < found["turnaround_ms"] < 1_000
    assert found["ceiling_tokens_per_s"] == pytest.approx(FULL_SHARE * 1e6 / found["cpu_us_per_token"], rel=0.05)

    async def never(_streams: int) -> dict[str, Any]:
        raise AssertionError("measured again")

    monkeypatch.setattr(selftest, "_measure", never)
    assert await selftest.test_driver(3, kept) == found
    entry = json.loads(kept.read_text())
    entry["3"]["at_s"] -= selftest.KEPT_S + 1
    kept.write_text(json.dumps(entry))
    with pytest.raises(AssertionError, match="measured again"):
        await selftest.test_driver(3, kept)
    for damage in ("{", "[]", '{"3": 4}'):
        kept.write_text(damage)
        with pytest.raises(AssertionError, match="measured again"):
            await selftest.test_driver(3, kept)


async def test_a_failure_is_an_error_with_its_cause(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A study goes on without it; here it only has to say why."""

    async def broken(_streams: int) -> dict[str, Any]:
        raise OSError("no process")

    monkeypatch.setattr(selftest, "_measure", broken)
    with pytest.raises(DriverError, match="did not finish"):
        await selftest.test_driver(1, tmp_path / "t.json")
