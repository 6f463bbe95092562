"""Machines from their data sheets, as people say them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.core.fit.sizing import LaunchSettings
from zinc_kettle.core.rig import Fact, Rig, RigPlan, rig_of
from zinc_kettle.core.said_model import said_model
from zinc_kettle.core.said_rig import MOST_CARDS, SAY, said_rig, sheet_problem
from zinc_kettle.present.fit_across import KnownRig, across, across_cells, across_record
from zinc_kettle.present.fit_rows import Candidate


def test_every_part_in_any_order() -> None:
    """What the example says, in base units; the same turned round."""
    told = said_rig(SAY)
    assert told == said_rig(", ".join(reversed(SAY.split(", "))))
    assert told.facts["memory_bytes"] == 64e9 and told.facts["bandwidth"] == 60e9 and told.facts["price"] == 2400
    assert (told.facts["physical_cores"], told.facts["load_w"], told.facts["idle_w"]) == (16, 450, 60)
    assert [(c["name"], c["memory_bytes"], c["bandwidth"]) for c in told.cards] == [
        ("card 1", 24_000_000_000, 936e9),
        ("card 2", 24_000_000_000, 936e9),
    ]
    assert said_rig("1 TiB, 1.5 TFLOP/s, 2 x card of 8 GiB").facts == {"memory_bytes": 1 << 40, "arithmetic": 1.5e12}


@pytest.mark.parametrize(
    ("said", "why"),
    [
        ("60 GB/s", "missing"),
        ("64 GB, a lot", "'a lot' is not understood"),
        ("64 GB, 32 GB", "twice"),
        ("64 KB", "'64 KB' is not understood"),
        ("64 GB, 900 kB/s", "not understood"),
        ("0 GB", "cannot be"),
        ("64 GB, card 0 GB", "cannot be"),
        (f"64 GB, {MOST_CARDS + 1} cards 8 GB", "more than"),
        ("64 GB, 99999999 cards 8 GB", "more than"),
    ],
)
def test_what_is_no_data_sheet(said: str, why: str) -> None:
    """Is refused with the part that is wrong, and an example."""
    with pytest.raises(ValueError, match=why):
        said_rig(said)
    assert SAY in sheet_problem(said) and not sheet_problem("") and not sheet_problem(SAY)


@given(st.text(max_size=40))
def test_any_words_are_read_or_refused(text: str) -> None:
    """Nothing else happens."""
    assert isinstance(sheet_problem(text), str)


def test_machines_side_by_side() -> None:
    """A rig on paper beside one with a measured bandwidth: the fastest first, what does not fit last, each marked."""
    heron = rig_of(RigPlan("heron", "paper", sheet="128 GB, 90 GB/s, 16 cores, 2 cards 24 GB 936 GB/s, price 4200"), {})
    desk = Rig("desk", "here", {"memory_bytes": Fact(64 << 30, "gathered"), "bandwidth": Fact(50e9, "typed")})
    tiny = rig_of(RigPlan("tiny", "paper", sheet="8 GB, 10 GB/s"), {})
    assert heron.on_paper and not desk.on_paper and heron.facts["price"].source == "data sheet"
    shape = said_model("32b Q4_K_M")
    assert shape is not None
    known = [KnownRig(rig, rig.prior()) for rig in (tiny, desk, heron)]
    found = across(Candidate(shape.name, shape, "on paper"), known, LaunchSettings(), pace=5.3)
    assert [a.rig.name for a in found] == ["heron", "desk", "tiny"]
    first, second, last = (across_cells(a) for a in found)
    assert first[0] == "heron (on paper)" and first[1] == "2 × 24.0 GB + 128 GB" and first[4] == "4,200"
    assert second[0] == "desk" and last[2] == "–" and "will not fit" in last[5]
    told = across_record(found[0], LaunchSettings())
    assert told["on_paper"] is True and told["price"] == 4200 and told["state"] == "split"
    assert [p["layers"] for p in told["placement"]] == [32, 32, 0]
