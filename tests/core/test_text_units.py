"""Safe text and readable numbers."""

from __future__ import annotations

import math
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.core.units import SPOKEN, byte_size, digits, duration, plural, scale, with_unit


@given(st.text())
def test_no_control_survives(text: str) -> None:
    """Whatever an engine says, no control, surrogate or direction override reaches a terminal."""
    clean = neutralise(text)
    assert all(c == "\n" or unicodedata.category(c) not in {"Cc", "Cs"} for c in clean)
    assert not set(clean) & set("\u202e\u2066\u200f")
    assert neutralise(clean) == clean


@pytest.mark.parametrize(
    ("raw", "clean"),
    [
        ("\x1b[31mred\x1b[0m", "red"),
        ("\x1b]0;title\x07x", "x"),
        ("a\x00b\tc", "a·b c"),
        ("a\r\nb", "a·\nb"),
        ("zinć", "zinć"),
    ],
)
def test_known_tricks(raw: str, clean: str) -> None:
    """Colours, titles, nulls and returns."""
    assert neutralise(raw) == clean


def test_shorten() -> None:
    """Cut with an ellipsis, within the width."""
    assert shorten("abcdef", 4) == "abc…" and shorten("abc", 4) == "abc" and shorten("abc", 0) == "…"


@pytest.mark.parametrize(
    ("value", "spread", "text"),
    [
        (12.3456, None, "12.3"),
        (12.3456, 0.04, "12.3"),
        (12.34, 3.0, "12"),
        (2.9, 6.0, "2.9"),
        (1234.5, None, "1,234"),
        (0, None, "0"),
    ],
)
def test_digits_follow_the_spread(value: float, spread: float | None, text: str) -> None:
    """As many digits as the spread allows, never fewer than two."""
    assert digits(value, spread=spread) == text


def test_odd_numbers() -> None:
    """Infinite, not a number and negative do not break a screen."""
    assert (
        digits(math.nan) == "–"
        and digits(math.inf) == "–"
        and duration(math.inf) == "unknown"
        and duration(-1) == "unknown"
    )


def test_units() -> None:
    """Milliseconds under a second, decimal bytes, percent for shares."""
    assert with_unit(0.0123, "s") == "12.3 ms" and with_unit(1.5, "s") == "1.50 s"
    assert with_unit(2.5e9, "bytes") == "2.50 GB" and scale(0.5, "share") == (50.0, "%", 100.0)
    assert byte_size(12) == "12 B" and byte_size(1.68e9) == "1.68 GB"
    assert [duration(s) for s in (5, 400, 120, 7500)] == ["5 s", "6 min 40 s", "2 min", "2 h 05 min"]
    assert plural(1, "cell") == "1 cell" and plural(2000, "cell") == "2,000 cells"


def test_memory_is_said_in_binary_units_where_that_is_set(monkeypatch: pytest.MonkeyPatch) -> None:
    """A 24 GiB card is 24 GiB, its spread scaled alike; sizes below switch where a binary person would."""
    monkeypatch.setattr(SPOKEN, "memory", "GiB")
    assert byte_size(24 * 2**30) == "24.0 GiB" and byte_size(1000 * 2**20) == "1,000 MiB"
    assert scale(2.0**31, "bytes")[1:] == ("GiB", 2.0**-30) and byte_size(1023) == "1023 B"
    assert with_unit(2.0**31, "bytes", spread=2.0**29) == "2.0 GiB"
