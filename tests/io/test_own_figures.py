"""Files of a person's own figures, and of somebody else's: what is read, and what is refused with a word on why."""

from __future__ import annotations

from pathlib import Path

import pytest

from zinc_kettle.core.compare.reported import of_measure, pairs, series
from zinc_kettle.core.preferences import Money, Pace, Preferences
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.preferences import read_preferences
from zinc_kettle.formats.reported import read_reported

CSV = """source,measure,value,unit,low,high,rig,model,quantization,concurrency
harbour paper,decode,50,tok/s,48,52,osprey,brine-1b,Q8_0,1
harbour paper,decode,30,,,,osprey,brine-1b,Q8_0,8
harbour paper,throughput,200,tokens/s,,,osprey,brine-1b,Q8_0,8
harbour paper,ttft,250,ms,,,osprey,brine-1b,Q8_0,1
"""


def test_preferences(tmp_path: Path) -> None:
    """No file: reading pace and usual hours. A file: its own figures, and where they are from."""
    file = tmp_path / "preferences.toml"
    assert read_preferences(file) == Preferences() and Pace().rate == pytest.approx(238 / 60 * 4 / 3)
    file.write_text('format = 1\n[pace]\nwords_per_minute = 180\n[money]\ncurrency = "EUR"\nenergy_per_kwh = 0.3\n')
    found = read_preferences(file)
    assert found.pace.rate == 4.0 and found.pace.origin == "preferences.toml" and found.pace.name == "your pace"
    assert found.money == Money("EUR", 0.3, origin="preferences.toml")
    file.write_text("format = 1\n[pace]\n[money]\n")
    assert read_preferences(file) == Preferences(), "an empty section says nothing"
    for bad in ("format = 1\n[pace]\ntokens_per_s = -1\n", "format = 2\n", "format = 1\n[money]\nprice = 3\n"):
        file.write_text(bad)
        with pytest.raises(StudyFileError):
            read_preferences(file)


def test_reported_figures(tmp_path: Path) -> None:
    """Units are turned into those of the measure, other columns are levels, and figures that belong together are."""
    file = tmp_path / "others.csv"
    file.write_text(CSV)
    found = read_reported(file)
    assert [(r.measure, r.value, r.levels) for r in found][-1] == ("ttft", 0.25, {"concurrency": 1})
    line = series(found, "decode", "concurrency")
    assert [(x, r.value, r.low) for x, r in line["osprey brine-1b Q8_0 (reported by harbour paper)"]] == [
        (1.0, 50.0, 48.0),
        (8.0, 30.0, None),
    ]
    ((both,),) = pairs(found, "decode", "throughput").values()
    assert (both[0].value, both[1].value) == (30.0, 200.0)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("measure,value\ndecode,1\n", "no column 'source'"),
        ("source,measure,value\nme,speed,1\n", "'speed', which there is not"),
        ("source,measure,value\n,decode,1\n", "names no source"),
        ("source,measure,value\nme,decode,fast\n", "where a number should be"),
        ("source,measure,value\nme,decode,nan\n", "where a number should be"),
        ("source,measure,value,unit\nme,decode,1,furlongs\n", "in 'furlongs'"),
        ("source,measure,value\n" + "me,decode,1\n" * 20_001, "more than 20,000 rows"),
    ],
)
def test_bad_rows_are_refused(tmp_path: Path, text: str, said: str) -> None:
    """With the file, the line and the reason."""
    file = tmp_path / "others.csv"
    file.write_text(text)
    with pytest.raises(StudyFileError, match=said):
        read_reported(file)


def test_escapes_never_come_through(tmp_path: Path) -> None:
    """A source with terminal controls is shown without them."""
    file = tmp_path / "others.csv"
    file.write_text("source,measure,value\n\x1b[31mred\x1b[0m,decode,1\n")
    assert "\x1b" not in read_reported(file)[0].source


def test_others_stand_below_a_lineup_and_are_never_ranked(tmp_path: Path) -> None:
    """Two rigs ranked; a reported one that would be first stands in a panel of its own, said to be reported, and the
    axis reaches it."""
    from tests.build import rates, run
    from zinc_kettle.core.compare.lineup import Entrant, lineup
    from zinc_kettle.core.compare.sides import Side
    from zinc_kettle.present.charts.lineup import lineup_chart
    from zinc_kettle.present.lineup import REPORTED, reported_rows

    file = tmp_path / "others.csv"
    file.write_text(CSV)
    others = read_reported(file)
    assert [f.value for f in of_measure(others, "decode")] == [50.0, 30.0]
    results = run("r", rates(1.05))
    entrants = [Entrant(q, Side(results, {"quantization": q})) for q in ("Q8_0", "Q4_0")]
    found = lineup(entrants, "decode")
    chart = lineup_chart(found, Pace(), others)
    ranked, told = chart.panels
    assert ranked.y.labels == ("Q4_0", "Q8_0") and told.title == REPORTED and told.x.high == 50.0
    assert all("reported by harbour paper" in name for name in told.y.labels)
    assert reported_rows(others, "decode")[0][2] == "50.0 tok/s (48.0 tok/s to 52.0 tok/s), reported"
    assert len(lineup_chart(found, Pace(), ()).panels) == 1


def test_settings_are_changed_one_by_one_and_comments_stay(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is typed is kept with what stands around it; empty restores the default; two ways to say the pace never
    stand together; wrong values change nothing."""
    from zinc_kettle.app.display import speak, worn
    from zinc_kettle.app.settings import change, rows
    from zinc_kettle.config import Places
    from zinc_kettle.core.units import SPOKEN
    from zinc_kettle.errors import UsageError

    places, file = Places(tmp_path, tmp_path / "kettle.db"), tmp_path / "preferences.toml"
    change(places, "money.currency", "EUR")
    file.write_text(file.read_text() + "# what the harbour pays\n")
    change(places, "energy_per_kwh", "0.31")
    change(places, "pace.words_per_minute", "180")
    change(places, "pace", "6")  # by its title
    change(places, "screen.theme", "light")
    change(places, "units.memory", "GiB")
    monkeypatch.setattr(SPOKEN, "memory", "GB")
    speak(places)
    assert SPOKEN.memory == "GiB" and worn(places) == "light"
    found = read_preferences(file)
    assert found.pace.rate == 6.0 and found.money.energy_per_kwh == 0.31 and found.screen.theme == "light"
    assert "# what the harbour pays" in file.read_text() and "words_per_minute" not in file.read_text()
    told = {row.title: row for row in rows(places)}
    assert told["energy"].value == "0.31 EUR per kWh" and told["energy"].origin == "preferences.toml"
    assert told["store"].setting is None and told["store"].value == str(places.store)
    before = file.read_text()
    for key, text in (("money.years", "-1"), ("money.years", "long"), ("screen.theme", "blue"), ("money.colour", "1")):
        with pytest.raises(UsageError):
            change(places, key, text)
    assert file.read_text() == before
    change(places, "pace.tokens_per_s", "")
    assert read_preferences(file).pace == Pace()
