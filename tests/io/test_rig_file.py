"""The rig file: read, refused with its place, and written to without losing a comment; and what rigs then are."""

from __future__ import annotations

import asyncio
import shutil
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest

from tests.build import RECIPES, study
from zinc_kettle.app.fitting import calibration
from zinc_kettle.app.fleet import Fleet
from zinc_kettle.app.rig_service import RigService
from zinc_kettle.app.rigbook import RigBook
from zinc_kettle.config import Places
from zinc_kettle.core.fit.predict import device_band
from zinc_kettle.core.plan.factors import Factor, Level
from zinc_kettle.core.rig import Fact, Probe, Rig, RigPlan, rig_of
from zinc_kettle.errors import RigError, StudyFileError, UsageError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.rigs import read_rigs, type_fact
from zinc_kettle.present.rig_rows import busy_line, fact_rows, probe_rows, rig_record
from zinc_kettle.rigs import local
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

FILE = """# the office's machines
format = 1

[petrel]            # the laptop
reach = "ssh"
host = "petrel"
engine_python = "venv/bin/python"
models = "/srv/models"
facts.bandwidth = { value = 51.2, unit = "GB/s", from = "data sheet" }
facts.price = { value = 1150, from = "receipt" }

[quay]
reach = "url"
url = "http://127.0.0.1:9"
"""


def test_a_rig_file(tmp_path: Path) -> None:
    """Every rig with how it is reached and what was typed in; this machine first, named or not."""
    path = tmp_path / "rigs.toml"
    assert [p.reach for p in read_rigs(path)] == ["here"]
    path.write_text(FILE)
    here, petrel, quay = read_rigs(path)
    assert (here.name, petrel.address, quay.address) == ("here", "ssh petrel", "http://127.0.0.1:9")
    assert petrel.typed["bandwidth"].value == 51.2e9 and petrel.typed["bandwidth"].source == "data sheet"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[a]\nreach = 'here'", "format = 1"),
        ("format = 1\n[a]\nreach = 'ssh'", "names no host"),
        ("format = 1\n[a]\nreach = 'url'", "names no url"),
        ("format = 1\n[a]\nreach = 'url'\nurl = 'http://h?key=1'", "a.url: it holds a query"),
        ("format = 1\n[a]\nreach = 'boat'", "a.reach"),
        ("format = 1\n[a]\nreach = 'ssh'\nhost = '-oProxyCommand=x'", "a.host"),
        ("format = 1\n[A]\nreach = 'here'", "not a valid rig name"),
        ("format = 1\n[a]\nreach = 'here'\npassword = 'x'", "a.password"),
        ("format = 1\n[a]\nreach = 'here'\nfacts.cores = { value = 3 }", "is not a fact"),
        ("format = 1\n[a]\nreach = 'here'\nfacts.bandwidth = { value = 3, unit = 'mph' }", "no unit"),
        ("format = 1\n[a]\nreach = 'here'\nfacts.idle_w = { value = 'much', unit = 'W' }", "number"),
        ("format = 1\n[a", "not TOML"),
    ],
)
def test_what_is_wrong_is_named(tmp_path: Path, text: str, said: str) -> None:
    """With the file, the rig and the field."""
    path = tmp_path / "rigs.toml"
    path.write_text(text)
    with pytest.raises(StudyFileError, match=said) as caught:
        read_rigs(path)
    assert "rigs.toml" in str(caught.value) and caught.value.exit_code == 2


def test_typing_a_fact_keeps_the_file(tmp_path: Path) -> None:
    """Comments stay, the fact is there, a rig the file does not name is added; a bad fact changes nothing."""
    path = tmp_path / "rigs.toml"
    path.write_text(FILE)
    petrel = read_rigs(path)[1]
    type_fact(path, petrel, "idle_w", 9.5, "W", "wall meter")
    type_fact(path, RigPlan("here", "here"), "note", "by the window", "", "")
    text = path.read_text()
    assert "# the office's machines" in text and "# the laptop" in text
    rigs = {p.name: p for p in read_rigs(path)}
    assert rigs["petrel"].typed["idle_w"].value == 9.5 and rigs["here"].typed["note"].value == "by the window"
    with pytest.raises(UsageError):
        type_fact(path, petrel, "speed", 1, "", "")
    assert path.read_text() == text


KNOWN = {
    "facts": {
        "processor": "made-up",
        "physical_cores": 4,
        "memory_bytes": 16_000_000_000,
        "memory_limit_bytes": 8e9,
        "graphics": [{"name": "card", "memory_bytes": 12_000_000_000}],
    },
    "probe": {"reading": {"1": [9e9, 10e9, 11e9], "4": [20e9, 21e9, 25e9]}, "gemm": {"1": [50e9]}},
    "busy": {
        "cores": 1.5,
        "memory_used_bytes": 4,
        "memory_total_bytes": 16,
        "stolen_share": 0.1,
        "top": [["film", 1.4]],
    },
}


def test_what_is_known_of_a_rig() -> None:
    """Typed facts beside gathered ones, the container's limit, bandwidth as probed, each with its origin."""
    typed = read_typed()
    rig = rig_of(RigPlan("petrel", "ssh", typed=typed, host="petrel"), KNOWN)
    assert rig.memory_bytes == 8_000_000_000 and rig.bandwidth == 21e9 and rig.cores == 4
    card, main = rig.devices()
    assert not card.main and card.bandwidth_bytes_per_s == 300e9 and main.main
    machine = rig.machine(1)
    assert machine is not None and machine.bandwidth_bytes_per_s == 10e9 and machine.flops == 50e9
    rows = {row[0]: row for row in fact_rows(rig)}
    assert rows["bandwidth of a device"][1:] == ["300 GB/s", "typed in: data sheet"]
    assert rows["processor"][2] == "gathered" and "12.0 GB" in rows["device"][1]
    assert busy_line(rig).startswith("Busy: 1.5 cores in use (film 1.4); the hypervisor takes 10%")
    assert probe_rows(rig)[1][2:] == ["21.0 GB/s", "20.0–25.0 GB/s, 3 windows"]
    record = rig_record(rig)
    assert record["facts"]["price"]["origin"] == "typed" and record["busy"]["top"] == [["film", 1.4]]
    assert rig.probe is not None and Probe.from_plain(rig.probe.plain()) == rig.probe


def read_typed() -> dict[str, Fact]:
    """Two typed facts."""
    return {"device_bandwidth": Fact(300e9, "typed", "data sheet"), "price": Fact(680.0, "typed", "receipt")}


def test_a_rig_of_which_nothing_is_known() -> None:
    """No memory, no speed, no guess."""
    rig = Rig("x", "url")
    assert rig.devices() == [] and rig.machine() is None and rig.bandwidth is None and probe_rows(rig) == []
    assert "cannot be seen" in busy_line(rig)


async def test_a_book_keeps_what_was_told(tmp_path: Path) -> None:
    """Gathered once, there again next time, in a private file; trouble stays with the rig."""
    places = Places(tmp_path, tmp_path / "s.db")
    (tmp_path / "rigs.toml").write_text(FILE)
    book = RigBook(places)
    rig = await book.gather("here")
    assert rig.memory_bytes and rig.busy and not rig.trouble
    lost = await book.gather("quay")
    assert "quay does not answer" in lost.trouble
    with pytest.raises(RigError, match="cannot be probed"):
        await book.probe("quay")
    again = RigBook(places)
    assert again.rig("here").memory_bytes == rig.memory_bytes
    assert (tmp_path / "known-rigs.json").stat().st_mode & 0o077 == 0
    with pytest.raises(UsageError, match="no rig 'gull'"):
        again.plan("gull")
    (tmp_path / "known-rigs.json").write_text("{broken")
    assert RigBook(places).rig("here").memory_bytes is None


LAUNCH = [s for s in RECIPES["built-in"].engine.settings if s.on_launch]


@pytest.mark.parametrize("factor", LAUNCH, ids=lambda f: f.name)
@pytest.mark.parametrize("where", ["vary", "hold"])
def test_a_rig_behind_an_address_refuses_what_it_cannot_set(tmp_path: Path, factor: Factor, where: str) -> None:
    """Each launch factor but the model: accepted and ignored, it would make equal cells look different."""
    (tmp_path / "rigs.toml").write_text(FILE)
    types: dict[str, Level] = {"text": "Q8_0", "model": "m", "number": 16, "switch": True}
    level = factor.choices[-1] if factor.choices else types[factor.type]
    settings: dict[str, tuple[Level, ...]] = {"rig": ("quay",), **({factor.name: (level,)} if where == "vary" else {})}
    book = RigBook(Places(tmp_path, tmp_path / "s.db"))
    held: dict[str, Level] = {"model": "brine-15m", "engine": "built-in"}
    plan = study(settings, hold={**held, **({factor.name: level} if where == "hold" else {})})
    with pytest.raises(UsageError, match=f"{factor.name} cannot be set on quay"):
        Fleet(plan, book, ModelFolder(tmp_path), RECIPES)
    fine = study({"rig": ("quay",)}, hold={"model": "brine-15m"}, rig_engines={"quay": "open-protocol"})
    Fleet(fine, book, ModelFolder(tmp_path), RECIPES)
    with pytest.raises(UsageError, match="quay does not run built-in"):
        Fleet(study({"rig": ("quay",)}, hold=held), book, ModelFolder(tmp_path), RECIPES)


@pytest.mark.parametrize("text", ["bandwidth = 51.2 GB/s, data sheet", "bandwidth=51.2 GB/s"])
def test_a_fact_as_it_is_typed_on_the_screen(tmp_path: Path, text: str) -> None:
    """Name, number, unit, source."""
    services = RigService(Places(tmp_path, tmp_path / "s.db"), lambda: pytest.fail("no store is needed"))
    assert services.type_fact("here", text).bandwidth == 51.2e9
    services.type_fact("here", "note = by the window, me")
    assert services.all()[0].get("note") == "by the window"
    for wrong in ("bandwidth", "bandwidth = 3 knots", "bandwidth = fast, me", "= 3"):
        with pytest.raises(UsageError):
            services.type_fact("here", wrong)


def test_a_rig_with_a_device_is_corrected_by_what_ran_on_it(tmp_path: Path) -> None:
    """What a card reached says how fast its memory is read, and nothing of main memory."""
    copy = tmp_path / "jobs.db"
    shutil.copyfile("tests/data/jobs.db", copy)
    with closing(KettleStore(copy)) as store:
        run = next(row for row in shelf(store) if row.name == "three-questions").runs[0]
        facts = open_run(store, run.run_id).run.facts["rigs"]["gannet"]
        rig = rig_of(RigPlan("gannet", "rehearsal"), {"facts": facts})
        found = calibration(store, rig)
    assert found.device_points >= 6 and device_band(found) < device_band(rig.prior())
    assert replace(found, device=0.0, device_points=0, device_error=0.0) == replace(
        rig.prior(), device=0.0, device_points=0, device_error=0.0
    )


def test_a_rig_on_paper_is_kept_and_measured_by_nobody(tmp_path: Path) -> None:
    """Written as it was said and read again; gathered without a word, never probed, and refused in a plan."""
    book = RigBook(Places(tmp_path, tmp_path / "s.db"))
    added = book.add_on_paper("heron", "128 GB, card 24 GB 936 GB/s")
    again = RigBook(Places(tmp_path, tmp_path / "s.db"))
    assert again.rig("heron") == added == asyncio.run(again.gather("heron"))
    assert [d.capacity_bytes for d in added.devices()] == [24_000_000_000, 128_000_000_000]
    with pytest.raises(RigError, match="on paper"):
        asyncio.run(again.probe("heron"))
    with pytest.raises(UsageError, match="nothing can be measured on heron"):
        Fleet(study({"rig": ("heron",)}, hold={"model": "brine-15m"}), again, ModelFolder(tmp_path), RECIPES)
    for name, sheet in (("heron", "64 GB"), ("tern", "a lot"), ("tern", ""), ("here", "64 GB")):
        with pytest.raises((UsageError, StudyFileError)):
            again.add_on_paper(name, sheet)


async def test_an_unasked_probe_is_quick_quiet_and_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Made where nothing is known, and only once; not beside other programs; trouble with it is nobody's."""
    places = Places(tmp_path, tmp_path / "s.db")
    monkeypatch.setattr(local, "busy", lambda _seconds: {"cores": 1.0})
    assert not await RigBook(places).probe_unasked("here")
    monkeypatch.setattr(local, "busy", lambda _seconds: {"cores": 0.0})
    book = RigBook(places)
    assert await book.probe_unasked("here") and not await book.probe_unasked("here")
    found = RigBook(places).rig("here")
    assert found.probe is not None and (found.bandwidth or 0) > 1e8 and 1 in found.probe.reading

    def broken(_what: str, _arguments: list[str]) -> None:
        raise RigError("no")

    monkeypatch.setattr(local, "_script", broken)
    (tmp_path / "known-rigs.json").unlink()
    assert not await RigBook(places).probe_unasked("here")
