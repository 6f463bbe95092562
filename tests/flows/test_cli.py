"""The command line as a person and a script use it."""

from __future__ import annotations

import itertools
import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import psutil
import pytest

from tests.cli import STUDY, environment, gone, kettle, study_file
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.store.reading import find, open_run, shelf
from zinc_kettle.store.store import KettleStore


@pytest.fixture(scope="module")
def measured(home: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, subprocess.CompletedProcess[str]]:
    """A store with one study, measured by `run --json`."""
    folder = tmp_path_factory.mktemp("measured")
    ran = kettle(home, "run", study_file(folder), "--json", "--store", folder / "s.db")
    return folder / "s.db", ran


def test_run_gives_a_json_line_a_cell(measured: tuple[Path, subprocess.CompletedProcess[str]]) -> None:
    """Every measure of docs/output.md, with value, bounds, n and unit, or null with a reason."""
    _, ran = measured
    assert ran.returncode == 0, ran.stderr
    records = [json.loads(line) for line in ran.stdout.splitlines()]
    assert {r["cell"]["quantization"] for r in records} == {"Q8_0", "Q4_0"}
    for r in records:
        assert (r["study"], r["state"], r["simulated"], r["failure"]) == ("quick", "measured", False, None)
        assert set(r["measures"]) == set(MEASURES)
        for m in r["measures"].values():
            if m["value"] is None:
                assert m["reason"]
            else:
                assert (
                    set(m) - {"thin"} == {"value", "low", "high", "bound", "n", "unit"}
                    and m["low"] <= m["value"] <= m["high"]
                )
        assert all(set(c) == {"code", "evidence"} for c in r["cautions"])
    assert "1 of 4 repeats" in ran.stderr and "\x1b" not in ran.stderr


def test_documented_names_are_the_names() -> None:
    """docs/output.md lists each measure and no other."""
    text = Path("docs/output.md").read_text()
    listed = {line.split("`")[1] for line in text.splitlines() if line.startswith("| `")}
    assert set(MEASURES) <= listed


def test_charts_are_drawn_and_the_same_twice(
    measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path, tmp_path: Path
) -> None:
    """SVG and PDF, map and lines, byte for byte from two processes."""
    store, _ = measured
    for kind in ("map", "lines"):
        for ending, magic in (("svg", b"<?xml"), ("pdf", b"%PDF")):
            outs = [tmp_path / f"{i}-{kind}.{ending}" for i in range(2)]
            for out in outs:
                drawn = kettle(home, "chart", "quick", "--kind", kind, "-o", out, "--store", store)
                assert drawn.returncode == 0, drawn.stderr
            first, second = (out.read_bytes() for out in outs)
            assert first == second and first.startswith(magic) and len(first) > 5_000


def test_all_charts_of_a_run_and_of_a_cell(
    measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path, tmp_path: Path
) -> None:
    """Every kind the data allow, each as SVG and PDF, in one process; a cell's by its levels."""
    store, _ = measured
    drawn = kettle(home, "chart", "quick:1", "--all", tmp_path / "all", "--store", store)
    names = sorted(Path(line).name for line in drawn.stdout.splitlines())
    both = [f"quick-1-decode-{kind}.{ending}" for kind in ("lines", "map") for ending in ("pdf", "svg")]
    # What else there is depends on what the machine let be measured; each in both formats.
    assert set(both) <= set(names) and sorted({n.replace(".svg", ".pdf") for n in names}) == names[::2]
    out = tmp_path / "requests.pdf"
    one = kettle(
        home, "chart", "quick", "--kind", "requests", "--cell", "quantization=Q4_0", "-o", out, "--store", store
    )
    assert one.returncode == 0 and out.read_bytes().startswith(b"%PDF"), one.stderr
    wrong = kettle(home, "chart", "quick", "--kind", "requests", "--cell", "threads=9", "-o", out, "--store", store)
    assert wrong.returncode == 2 and "--cell quantization=Q8_0" in wrong.stderr


def test_show_tells_a_kept_run_without_measuring(
    measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path
) -> None:
    """The same records as the run gave; for people the table, the answer and when it was; a run that is not there."""
    store, ran = measured
    shown = kettle(home, "show", "quick:1", "--json", "--store", store)
    records = {json.dumps(json.loads(line), sort_keys=True) for line in shown.stdout.splitlines()}
    assert records == {json.dumps(json.loads(line), sort_keys=True) for line in ran.stdout.splitlines()}
    told = kettle(home, "show", "quick", "--store", store)
    assert told.stdout.startswith("quick, run 1, ") and "Which quantization?" in told.stdout and "tok/s" in told.stdout
    missing = kettle(home, "show", "quick:7", "--store", store)
    assert missing.returncode == 2 and "one of its runs: 1" in missing.stderr


def test_a_dry_plan_shows_what_would_be_started_and_sent(
    measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path, tmp_path: Path
) -> None:
    """The very line that a run then keeps, and the body of each cell's requests; no key of an endpoint."""
    dry = kettle(home, "plan", study_file(tmp_path), "--dry", "--json", "--store", tmp_path / "none.db")
    assert dry.returncode == 0, dry.stderr
    records = [json.loads(line) for line in dry.stdout.splitlines()]
    store = KettleStore(measured[0])
    kept = {str(c.kept.engine["launch_line"]) for c in open_run(store, find(store, "quick")).cells}
    assert {r["line"] for r in records} == kept
    assert all(r["body"]["stream"] and r["body"]["messages"] and r["body"]["seed"] == 2 for r in records)
    text = (
        'format = 1\nname = "far"\nquestion = "?"\n[vary]\nconcurrency = [1, 2]\n[hold]\nprompt_tokens = 64\n'
        '[endpoint]\nurl = "https://127.0.0.1:9/v1"\nkey_variable = "DESK_KEY"\n'
    )
    far = kettle(home, "plan", study_file(tmp_path, text=text), "--dry", env={"DESK_KEY": "tide-and-lamp"})
    assert far.returncode == 0 and "Authorization: Bearer (hidden)" in far.stdout and "tide" not in far.stdout
    assert "https://127.0.0.1:9" in far.stdout and not (tmp_path / "none.db").exists()


def test_a_caution_is_acknowledged_with_a_reason(
    measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path, tmp_path: Path
) -> None:
    """Of the cells named; it stays, with the reason beside it, in records, the table and the findings."""
    store = tmp_path / "s.db"
    shutil.copy(measured[0], store)

    def reasons() -> dict[str, list[str | None]]:
        shown = kettle(home, "show", "quick", "--json", "--store", store).stdout
        return {
            r["cell"]["quantization"]: [c.get("acknowledged") for c in r["cautions"] if c["code"] == "tiny-prompt"]
            for r in map(json.loads, shown.splitlines())
        }

    def say(*more: str) -> subprocess.CompletedProcess[str]:
        return kettle(home, "acknowledge", "quick", *more, "--store", store)

    assert say("tiny-prompt", "--note", "only decode\nmatters", "--cell", "quantization=Q4_0").returncode == 0
    assert reasons() == {"Q8_0": [None], "Q4_0": ["only decode matters"]}
    assert say("tiny-prompt", "--note", "only decode").returncode == 0
    assert reasons() == {"Q8_0": ["only decode"], "Q4_0": ["only decode"]}
    told = kettle(home, "show", "quick", "--store", store).stdout
    assert "(tiny-prompt)" in told and "Acknowledged: only decode." in told
    for wrong, word in ((("noisy-fan", "--note", "x"), "tiny-prompt"), (("tiny-prompt", "--note", " "), "no reason")):
        refused = say(*wrong)
        assert refused.returncode == 2 and word in refused.stderr


def test_until_narrow_tells_the_last_state_of_each_cell(paced: str, home: Path, tmp_path: Path) -> None:
    """A cell may be told again when it got further repeats: its last line is its final state, as `show` has it."""
    text = (
        'format = 1\nname = "narrow"\nquestion = "?"\n[vary]\nconcurrency = [1, 2]\n[hold]\noutput_tokens = 3\n'
        'salt = true\n[prompts]\nfiles = ["ask.txt"]\n[repeats]\ncount = 6\nuntil_percent = 0.001\nceiling = 8\n'
        f'requests = 2\n[endpoint]\nurl = "{paced}"\n'
    )
    (tmp_path / "ask.txt").write_text("When is high water?")
    ran = kettle(home, "run", study_file(tmp_path, text=text), "--json", "--store", tmp_path / "s.db")
    assert ran.returncode == 0, ran.stderr
    last = {str(r["cell"]): r for r in map(json.loads, ran.stdout.splitlines())}
    assert {(r["repeats"]["done"], r["repeats"]["wanted"], r["state"]) for r in last.values()} == {(8, 8, "measured")}
    shown = kettle(home, "show", "narrow", "--json", "--store", tmp_path / "s.db")
    assert {str(r["cell"]): r for r in map(json.loads, shown.stdout.splitlines())} == last


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["chart", "nothing", "-o", "x.svg"], "there is no study"),
        (["chart", "quick", "-o", "x.gif"], "ends in none of .svg, .pdf"),
        (["chart", "quick", "-o", "x.svg", "--measure", "speed"], "there is no measure"),
        (["chart", "quick", "-o", "x.svg", "--kind", "pie"], "one of: map, lines"),
        (["chart", "quick"], "one file or all charts"),
        (["show", "nothing"], "there is no study"),
        (["run", "nowhere.toml"], "cannot be read"),
        (["plan", "nowhere.toml"], "cannot be read"),
        (["synth", "brine-7b"], "there is no preset"),
        (["synth", "brine-15m", "--quantization", "Q9"], "no quantization"),
        (["synth", "own", "--layers", "1"], "all five sizes"),
        (["synth", "../own"], "cannot be the name of a model"),
        (["synth", "brine-15m", "--seed", "5"], "seed 1 only"),
        (["fly"], "No such command"),
        (["run"], "no study is named"),
        ([], "needs a terminal"),
    ],
)
def test_wrong_usage_is_exit_two(
    measured: tuple[Path, subprocess.CompletedProcess[str]],
    home: Path,
    tmp_path: Path,
    arguments: list[str],
    words: str,
) -> None:
    """A clear sentence on standard error, nothing on standard output, no traceback."""
    store, _ = measured
    given = [*arguments, "--store", str(store)] if arguments else []
    ran = kettle(home, *given)
    assert ran.returncode == 2, ran.stderr
    assert words in ran.stderr and "Traceback" not in ran.stderr and not ran.stdout
    assert not (tmp_path / "x.gif").exists()


def test_plan_measures_nothing(home: Path, tmp_path: Path) -> None:
    """Cells, sizes and a rough length; JSON with every measure null; no store is made."""
    said = kettle(home, "plan", study_file(tmp_path), "--store", tmp_path / "none.db")
    assert said.returncode == 0 and "2 cells, 2 repeats each" in said.stdout and "15.7 MB" in said.stdout
    told = kettle(home, "plan", study_file(tmp_path), "--json", "--store", tmp_path / "none.db")
    records = [json.loads(line) for line in told.stdout.splitlines()]
    assert [r["state"] for r in records] == ["planned", "planned"]
    assert all(m["value"] is None for r in records for m in r["measures"].values())
    assert not (tmp_path / "none.db").exists()


def test_a_cell_that_will_not_load_is_exit_zero_and_all_of_them_one(home: Path, tmp_path: Path) -> None:
    """One broken model beside a good one is a result; only broken ones measured nothing."""
    (tmp_path / "bad.gguf").write_bytes(b"not a model at all")
    text = STUDY.replace('quantization = ["Q8_0", "Q4_0"]', "model = {models}").replace('model = "brine-15m"\n', "")
    good = home / "models" / "brine-15m.Q8_0.gguf"
    for models, code, states in (
        ([str(good), str(tmp_path / "bad.gguf")], 0, {"measured", "failed"}),
        ([str(tmp_path / "bad.gguf")], 1, {"failed"}),
    ):
        path = study_file(tmp_path, count=1, text=text.replace("{models}", json.dumps(models)))
        ran = kettle(home, "run", path, "--json", "--store", tmp_path / f"{code}.db")
        assert ran.returncode == code, ran.stderr
        assert {json.loads(line)["state"] for line in ran.stdout.splitlines()} == states


def test_synth_says_the_need_and_where(home: Path, tmp_path: Path) -> None:
    """A shape of one's own into a folder of one's own."""
    shape = ["--layers", "1", "--width", "64", "--heads", "2", "--kv-heads", "1", "--ffn", "96"]
    ran = kettle(home, "synth", "gull", *shape, "--quantization", "Q4_0", "--to", tmp_path, "--seed", "9")
    assert ran.returncode == 0 and "of disk" in ran.stderr
    assert Path(ran.stdout.strip()).stat().st_size > 100_000


def test_the_demo_without_a_terminal_says_what_to_run(home: Path, tmp_path: Path) -> None:
    """Exit 0, with a command that works; the finished studies that come with the tool are there."""
    folder = tmp_path / "home"
    (folder / "models").mkdir(parents=True)
    for model, name in itertools.product(("brine-250m", "brine-60m-bpe"), ("F16", "Q8_0", "Q4_0")):
        # The demo's own models are large; any file of that name will do where nothing is loaded.
        shutil.copyfile(home / "models" / "brine-15m.Q4_0.gguf", folder / "models" / f"{model}.{name}.gguf")
    ran = kettle(folder, "demo")
    assert ran.returncode == 0 and "zinc-kettle run" in ran.stdout
    sample = tmp_path / "sample.db"
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, sample)
    finished = [study.name for study in shelf(KettleStore(folder / "demo" / "kettle.db"))]
    assert finished == [study.name for study in shelf(KettleStore(sample))] != []


def descendants(pid: int) -> list[psutil.Process]:
    """Processes a tool has started."""
    return list(psutil.Process(pid).children(recursive=True))


def start(home: Path, path: Path, store: Path) -> subprocess.Popen[str]:
    """A run in the background."""
    command = [sys.executable, "-m", "zinc_kettle", "run", str(path), "--store", str(store)]
    return subprocess.Popen(command, env=environment(home), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_for(process: subprocess.Popen[str], words: str) -> None:
    """Read standard error until it says something."""
    assert process.stderr is not None
    for line in process.stderr:
        if words in line:
            return
    raise AssertionError(f"it ended without saying {words!r}")


@pytest.mark.parametrize("round_", range(2))
def test_sigkill_leaves_nothing_behind_and_loses_nothing(home: Path, tmp_path: Path, round_: int) -> None:
    """Killed in the middle: engine and driver gone within five seconds, what was told done is kept, resume ends it."""
    path, store = study_file(tmp_path, count=3, output=64), tmp_path / "s.db"
    with start(home, path, store) as tool:
        wait_for(tool, f"{2 + round_} of 6 repeats")
        time.sleep(0.13 * round_)
        children = descendants(tool.pid)
        tool.kill()
        assert gone(children, 5)
    opened = KettleStore(store)
    run = find(opened, "quick")
    before = [r for mine in opened.all_repeats(run).values() for r in mine]
    kept = {r.repeat.repeat_id for r in before if r.state == "measured"}
    assert len(kept) >= 2 + round_
    requests = {t.request_id for r in before for t in r.repeat.timelines}
    opened.close()
    again = kettle(home, "run", path, "--store", store)
    assert again.returncode == 0, again.stderr
    assert f"{len(kept)} of them kept" in again.stderr
    reopened = KettleStore(store)
    after = [r for mine in reopened.all_repeats(find(reopened, "quick")).values() for r in mine]
    measured = {r.repeat.repeat_id for r in after if r.state == "measured"}
    assert kept <= measured and len(measured) == 6
    assert requests <= {t.request_id for r in after for t in r.repeat.timelines}


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_stops_cleanly(home: Path, tmp_path: Path, number: signal.Signals) -> None:
    """Exit 1, said so, everything kept, nothing left running."""
    path, store = study_file(tmp_path, count=20, output=64), tmp_path / "s.db"
    with start(home, path, store) as tool:
        wait_for(tool, "2 of 40 repeats")
        children = descendants(tool.pid)
        tool.send_signal(number)
        out, err = tool.communicate(timeout=20)
        assert tool.returncode == 1 and "continues from there" in err and "Which quantization?" in out
        assert gone(children, 5)
    assert shelf(KettleStore(store))[0].runs[0].state == "stopped"


def test_a_new_study_from_a_template(tmp_path: Path) -> None:
    """Written into the person's studies, ready to plan; wrong wishes are explained, and nothing is overwritten."""
    wanted = ("--template", "threads", "--hold", "model=brine-15m", "--vary", "threads=1..2")
    made = kettle(tmp_path, "new", *wanted)
    assert made.returncode == 0, made.stderr
    file = Path(made.stdout.strip())
    assert file.parent == tmp_path / "studies" and "threads = [1, 2]" in file.read_text()
    planned = kettle(tmp_path, "plan", file)
    assert planned.returncode == 0 and "until it is known which is best" in planned.stdout
    before = file.read_text()
    for wrong, words in (
        (wanted, "there already"),
        (("--template", "thread"), "Try: threads"),
        (("--template", "setting", "--hold", "model=brine-15m"), "needs to know what to vary"),
        ((*wanted[:4], "--vary", "threads=8..1"), "never reaches its end"),
        ((*wanted[:4], "--vary", "threads=0,1", "--name", "other"), "out of range"),
    ):
        refused = kettle(tmp_path, "new", *wrong)
        assert refused.returncode == 2 and words in refused.stderr, refused.stderr
    assert file.read_text() == before and len(list(file.parent.iterdir())) == 1
    listed = kettle(tmp_path, "new")
    assert listed.returncode == 0 and "How many threads are the fastest?" in listed.stdout


def test_answers_are_read_and_marked(measured: tuple[Path, subprocess.CompletedProcess[str]], home: Path) -> None:
    """Each answer with what is seen of it; marked by its id, once more takes it back; wrong words are refused."""
    store, _ = measured

    def told() -> list[dict[str, Any]]:
        ran = kettle(home, "answers", "quick", "--json", "--store", store)
        return [json.loads(line) for line in ran.stdout.splitlines()]

    first = told()
    assert len(first) == 4 and all(a["tokens"] == 8 and a["text"] and not a["marks"] for a in first)
    assert not any("cut" in words for a in first for words in a["found"]), "the tool itself asked for that length"
    mark = f"{first[1]['request']}=rambling"
    assert kettle(home, "answers", "quick", "--mark", mark, "--store", store).returncode == 0
    assert [a["marks"] for a in told()] == [[], ["rambling"], [], []]
    assert "no longer rambling" in kettle(home, "answers", "quick", "--mark", mark, "--store", store).stdout
    for words in (("--mark", "x=rambling"), ("--mark", "odd"), ("--cell", "quantization=F16")):
        assert kettle(home, "answers", "quick", *words, "--store", store).returncode == 2
    one = kettle(home, "answers", "quick", "--cell", "quantization=Q8_0", "--store", store).stdout
    assert "Q8_0" in one and "Q4_0" not in one
    assert kettle(home, "note", "quick", "fog on the mole", "--store", store).returncode == 0
    assert kettle(home, "note", "quick", " ", "--store", store).returncode == 2
    assert kettle(home, "watch", "quick", "--store", store).returncode == 0
    assert kettle(home, "watch", "--store", store).returncode == 2


def test_a_run_from_a_template_in_one_line(home: Path, tmp_path: Path) -> None:
    """Written into the studies, measured, and continued by the same line; two ways at once are refused."""
    mine = tmp_path / "home"
    mine.mkdir()
    (mine / "models").symlink_to(home / "models")
    words = (
        "run",
        "--template",
        "prompt-length",
        "--hold",
        "model=brine-15m",
        "--vary",
        "prompt_tokens=32,64",
        "--hold",
        "output_tokens=8",
        "--hold",
        "context=256",
        "--json",
    )
    ran = kettle(mine, *words)
    lengths = {json.loads(line)["cell"]["prompt_tokens"] for line in ran.stdout.splitlines()}
    assert ran.returncode == 0 and lengths == {32, 64}
    assert (mine / "studies" / "prompt-length-brine-15m.study.toml").is_file()
    assert kettle(mine, *words, "x.study.toml").returncode == 2
