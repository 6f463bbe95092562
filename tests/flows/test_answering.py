"""Duel, ladder, lineup and chart on the command line: what they print, draw and refuse."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from tests.cli import kettle
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE

Q4, Q8, F16 = (f"three-ways@quantization={name}" for name in ("Q4_0", "Q8_0", "F16"))


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder whose store holds the finished examples."""
    folder = tmp_path_factory.mktemp("answers")
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, folder / "kettle.db")
    return folder


def test_a_store_from_elsewhere_is_a_side_and_is_not_written_to(home: Path, tmp_path: Path) -> None:
    """The same run out of another file: unpaired, every ratio is 1 with an interval; the file stays as it is."""
    other = tmp_path / "other.db"
    shutil.copyfile(home / "kettle.db", other)
    before = other.read_bytes()
    ran = kettle(home, "duel", F16, f"{other}::{F16}", "--json")
    assert ran.returncode == 0, ran.stderr
    found = json.loads(ran.stdout)
    assert found["cautions"] == ["unpaired"] and found["measures"]["decode"]["ratio"]["value"] == 1.0
    assert found["measures"]["decode"]["verdict"] == "open" and other.read_bytes() == before
    assert not list(tmp_path.glob("other.db-*"))


def test_ladder_and_lineup_agree_with_the_duel(home: Path) -> None:
    """The step of a ladder is the duel of its two sides; the lineup's order and the index follow the same ratios."""
    one = json.loads(kettle(home, "duel", F16, Q4, "--measure", "decode", "--json").stdout)
    rungs = [json.loads(line) for line in kettle(home, "ladder", F16, Q8, Q4, "--json").stdout.splitlines()]
    assert rungs[-1]["whole"]["measures"]["decode"]["ratio"] == one["measures"]["decode"]["ratio"]
    product = 1.0
    for rung in rungs:
        product *= rung["step"]["measures"]["decode"]["ratio"]["value"]
    assert product == pytest.approx(one["measures"]["decode"]["ratio"]["value"], rel=1e-4)
    chain = [json.loads(line) for line in kettle(home, "ladder", "three-ways", "--json").stdout.splitlines()]
    steps = [[(d["name"], d["a"], d["b"]) for d in rung["step"]["differences"]] for rung in chain]
    assert steps == [[("quantization", "F16", "Q4_0")], [("threads", "1", "2")]]
    ranked = json.loads(kettle(home, "lineup", "three-ways", "--by", "quantization", "--json").stdout)
    assert ranked["groups"][0]["places"][0]["name"] == "Q4_0" and ranked["cells"] == 4
    against = kettle(home, "lineup", "three-ways", "--by", "quantization", "--index", "F16", "--json")
    decode = next(row for row in json.loads(against.stdout)["index"] if row["name"] == "Q4_0")["decode"]
    assert decode["value"] == pytest.approx(one["measures"]["decode"]["ratio"]["value"], rel=1e-4)


def test_examples_are_found_by_name_where_nothing_was_measured_yet(tmp_path: Path) -> None:
    """What the README says works as it stands; a name that nothing has lists those there are."""
    for words in (("decide", "which-rig"), ("duel", "which-rig@rig=gannet", "which-rig@rig=petrel")):
        ran = kettle(tmp_path, *words, "--json")
        assert ran.returncode == 0 and json.loads(ran.stdout), ran.stderr
    ran = kettle(tmp_path, "show", "no-such")
    assert ran.returncode == 2 and "which-rig" in ran.stderr
    own = kettle(tmp_path, "show", "which-rig", "--store", tmp_path / "kettle.db")
    assert own.returncode == 2, "a store that is named is meant alone"


def test_scores_of_a_run_are_those_of_its_bundle_in_a_folder(tmp_path: Path) -> None:
    """One scale, wherever it was measured; what has no tasks, or cannot be a reference, is told."""
    shutil.copyfile("tests/data/jobs.db", tmp_path / "kettle.db")
    assert kettle(tmp_path, "doctor", "--adopt", tmp_path / "kettle.db").returncode == 0
    own = json.loads(kettle(tmp_path, "score", "one-score", "--json").stdout)
    values = {place["name"].split(" · ")[0]: place["value"] for place in own["groups"][0]["places"]}
    assert list(values) == ["cormorant", "gannet", "petrel"] and own["per"] == "score" and own["cells"] == 3
    (tmp_path / "bundles").mkdir()
    packed = kettle(tmp_path, "pack", "one-score", "--out", tmp_path / "bundles" / "others.kettle")
    assert packed.returncode == 0, packed.stderr
    theirs = json.loads(kettle(tmp_path, "score", tmp_path / "bundles", "--by", "rig", "--json").stdout)
    assert [place["value"] for place in theirs["groups"][0]["places"]] == list(values.values())
    for words, said in (
        (("score", "threads"), "nothing was measured over the tasks"),
        (("score", "one-score", "--against", "one-score"), "several cells of the task"),
        (("score", "one-score", "--by", "moon"), "rig, model, quantization, engine"),
        (("score", tmp_path), "there is no bundle"),
    ):
        ran = kettle(tmp_path, *words)
        assert ran.returncode == 2 and said in ran.stderr, (words, ran.stderr)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("duel", "three-ways", "no-such"), "there is no study 'no-such'"),
        (("duel", Q4, "three-ways@quantization=Q5"), "no cell of three-ways has quantization=Q5"),
        (("duel", Q4, "three-ways@colour=red"), "names no level"),
        (("duel", Q4, Q8, "--measure", "decodes"), "Try: decode"),
        (("duel", Q4, "/nowhere.db::three-ways"), "there is no file"),
        (("ladder", Q4), "two rungs or more"),
        (("lineup", "three-ways", "--by", "colour"), "colour varies in none"),
        (("lineup", "three-ways", "--per", "pound"), "price, watt, device, cost or score"),
        (("lineup", "three-ways", "--per", "cost", "--measure", "ttft"), "no rate of tokens"),
        (("lineup", "three-ways", "--index", "Q9"), "is not in this lineup"),
        (("capacity", "three-ways"), "looks for no limit"),
        (("chart", "three-ways", "--kind", "scaling", "-o", "x.svg", "--range", "9..1"), "is no range"),
        (("chart", "three-ways", "--kind", "scaling", "-o", "x.svg", "--log", "z"), "there is no axis"),
        (("chart", "three-ways", "--kind", "frontier", "-o", "x.svg"), "no load varies"),
        (("chart", "three-ways", "-o", "x.png"), "ends in none of .svg, .pdf"),
    ],
)
def test_wrong_input_is_refused_with_a_remedy(home: Path, words: tuple[str, ...], said: str) -> None:
    """Exit code 2, what is wrong, and nothing written."""
    ran = kettle(home, *words)
    assert ran.returncode == 2 and said.lower() in ran.stderr.lower() and not ran.stdout, ran.stderr
