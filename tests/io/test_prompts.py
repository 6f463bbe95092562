"""Prompt files, arrival times, and the sections of a study file that speak of loads: right ones and hostile ones."""

from __future__ import annotations

import contextlib
import json
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from tests.build import KNOWN
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.checks.validate import validate
from zinc_kettle.core.plan.study import Study, without_texts, workload
from zinc_kettle.core.plan.suite import SUITE
from zinc_kettle.core.plan.traffic import Recorded
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.prompts import BadPromptFile, NamedPrompt, read_prompts, read_times
from zinc_kettle.formats.shared_study import copied_study, shared_study
from zinc_kettle.formats.study import line_of, parse_study
from zinc_kettle.formats.suite import task_texts

HEAD = 'format = 1\nname = "desks"\nquestion = "How many?"\nseed = 4\n'
HOLD = '[vary]\nthreads = [1]\n[hold]\nmodel = "brine-15m"\ncontext = 4096\n'


def parse(text: str, folder: Path) -> Study:
    """A study file's text."""
    return parse_study(HEAD + text, KNOWN, file="s.toml", folder=folder)


def talks(folder: Path, count: int = 9) -> Path:
    """Recorded conversations of two turns."""
    path = folder / "talks.jsonl"
    rows = [
        {
            "messages": [
                {"role": "user", "content": f"ask {i}"},
                {"role": "assistant", "content": "aye"},
                {"role": "user", "content": f"again {i}"},
            ],
            "output_tokens": 10 + i,
        }
        for i in range(count)
    ]
    path.write_text("\n".join(json.dumps(r) for r in rows) + "\n\n")
    return path


def test_json_lines_csv_and_text(tmp_path: Path) -> None:
    """Each kind by its ending."""
    recorded = _recorded(talks(tmp_path))
    assert len(recorded) == 9
    assert recorded[2].asks == 2 and recorded[2].output_tokens == 12 and recorded[2].messages[1] == ("assistant", "aye")
    table = tmp_path / "asks.csv"
    table.write_text('prompt,output_tokens,name\n"When, please?",32,tide\nWho is due?,,\n')
    rows = _recorded(table)
    assert [r.output_tokens for r in rows] == [32, None]
    assert [one.name for one in read_prompts(table)] == ["tide", "asks-2"]
    assert rows[0].messages == (("user", "When, please?"),)
    plain = tmp_path / "log.txt"
    plain.write_text("\ufeff the log \n")
    assert read_prompts(plain) == [NamedPrompt("log", "the log")]


def _recorded(path: Path) -> list[Recorded]:
    found = [one.prompt for one in read_prompts(path)]
    assert all(isinstance(prompt, Recorded) for prompt in found)
    return [prompt for prompt in found if isinstance(prompt, Recorded)]


BAD = {
    "a.jsonl": [
        "{",
        '{"messages": []}',
        '{"prompt": ""}',
        "[1]",
        "",
        "[" * 50_000,
        '{"prompt": "x", "messages": [{"role": "user", "content": "y"}]}',
        '{"messages": [{"role": "pirate", "content": "x"}]}',
        '{"messages": [{"role": "assistant", "content": "x"}]}',
        '{"prompt": "x", "output_tokens": -1}',
        '{"prompt": "x", "output_tokens": "9"}',
    ],
    "a.csv": [
        "name\nx\n",
        "prompt\n\n,\n",
        "prompt,output_tokens\nx,many\n",
        "prompt,output_tokens\nx,0\n",
        'prompt\n"unclosed\n',
    ],
}


@pytest.mark.parametrize(("name", "text"), [(name, text) for name, texts in BAD.items() for text in texts])
def test_bad_files_are_named(tmp_path: Path, name: str, text: str) -> None:
    """A clause that says what, with the line where there is one; never a crash."""
    path = tmp_path / name
    path.write_text(text)
    with pytest.raises(BadPromptFile):
        read_prompts(path)


TABLES = st.tuples(
    st.sampled_from(["prompt", "prompt,output_tokens", "at_s", 'prompt,"']),
    st.text(alphabet='ab1٣,"\n\r \x00', max_size=60),
).map(lambda parts: "\n".join(parts).encode())


@given(st.binary(max_size=300) | TABLES, st.sampled_from(["a.jsonl", "a.csv", "a.txt"]))
@example(b'"', "a.csv")
@example(b"prompt,output_tokens\na,1" + b"0" * 5000, "a.csv")
@example(b"1\n" + b'"' + b"1" * 200_000, "a.csv")
def test_any_bytes_are_a_file_or_an_error(tmp_path_factory: pytest.TempPathFactory, data: bytes, name: str) -> None:
    """Fuzzed: prompts or times, or one kind of error."""
    path = tmp_path_factory.mktemp("f") / name
    path.write_bytes(data)
    with contextlib.suppress(BadPromptFile):
        assert read_prompts(path)
    with contextlib.suppress(BadPromptFile):
        assert len(read_times(path)) >= 2


def test_arrival_times(tmp_path: Path) -> None:
    """One a line, or a column; sorted and counted from the first."""
    plain, table = tmp_path / "t.txt", tmp_path / "t.csv"
    plain.write_text("12.5\n10\n\n11\n")
    table.write_text("who,at_s\na,3\nb,5.5\n")
    assert read_times(plain) == (0.0, 1.0, 2.5) and read_times(table) == (0.0, 2.5)
    for text in ("5\n", "a\nb\n", "1\nnan\n", "1\ninf\n", ""):
        plain.write_text(text)
        with pytest.raises(BadPromptFile):
            read_times(plain)


def test_a_sample_is_part_of_the_study(tmp_path: Path) -> None:
    """Four of nine by the study's seed; another seed draws others."""
    talks(tmp_path)
    text = HOLD + '[prompts]\nfiles = ["talks.jsonl"]\nsample = 4\n[load]\nshape = "conversation"\n'
    one, same = parse(text, tmp_path), parse(text, tmp_path)
    assert len(one.prompts.recorded) == 4 and one == same
    other = parse_study((HEAD + text).replace("seed = 4", "seed = 5"), KNOWN, file="s.toml", folder=tmp_path)
    assert other.prompts.recorded != one.prompts.recorded


def test_the_suite_comes_with_its_texts(tmp_path: Path) -> None:
    """Every task has questions of the demo's harbour, and a study carries those it uses."""
    for name in SUITE:
        assert task_texts(name) and all(len(text) > 60 for text in task_texts(name))
    plan = parse('[vary]\ntask = ["code", "drafting"]\n[hold]\nmodel = "m"\ncontext = 4096\n', tmp_path)
    assert set(plan.prompts.tasks) == {"code", "drafting"}
    assert [c.settings["output_tokens"] for c in plan.cells] == [320, 512]


def test_until_and_retry_and_limits(tmp_path: Path) -> None:
    """Floor, ceiling and policy as written, with sound values where nothing is."""
    text = HOLD + 'prompt_tokens = 64\n[repeats]\nuntil_percent = 3\n[retry]\ntimes = 2\non = ["stall", "http-502"]\n'
    plan = parse(text, tmp_path)
    assert (plan.repeats.count, plan.repeats.most) == (6, 30)
    assert plan.retry.on == ("stall", "http-502") and plan.retry.times == 2


ASK = HOLD + "prompt_tokens = 64\n"
WRONG: dict[str, tuple[str, str]] = {
    "a rate without a schedule": (ASK + "rate = 60\n", "open loop"),
    "a schedule without a rate": (ASK + '[load]\nshape = "open"\n', "needs a rate"),
    "concurrency of a schedule": (ASK + 'rate = 60\nconcurrency = 2\n[load]\nshape = "open"\n', "concurrency"),
    "times without a file": (ASK + '[load]\nshape = "open"\narrivals = "recorded"\n', "times_file"),
    "a file that is not there": (
        ASK + '[load]\nshape = "open"\narrivals = "recorded"\ntimes_file = "no.csv"\n',
        "cannot be read",
    ),
    "thinking in a burst": (ASK + '[load]\nshape = "burst"\nthink_s = 1\n', "think"),
    "two lengths": (ASK + '[prompts.lengths]\nkind = "fixed"\ntokens = 5\n', "both set the length"),
    "half a distribution": (HOLD + '[prompts.lengths]\nkind = "lognormal"\nmedian = 5\n', "sigma"),
    "a length beyond the context": (HOLD + '[prompts.lengths]\nkind = "uniform"\nlow = 5\nhigh = 9000\n', "do not fit"),
    "turns beyond the context": (
        HOLD + 'prompt_tokens = 500\noutput_tokens = 100\n[load]\nshape = "conversation"\nturns = 8\n',
        "do not fit",
    ),
    "too low a floor": (ASK + "[repeats]\ncount = 3\nuntil_percent = 2\n", "95%"),
    "a ceiling for nothing": (ASK + "[repeats]\nceiling = 9\n", "until_percent"),
    "no such measure": (ASK + '[repeats]\nuntil_percent = 2\nuntil_measure = "mood"\n', "is not a measure"),
    "no such fault": (ASK + '[retry]\non = ["tired"]\n', "is not a fault code"),
    "a sample of nothing": (ASK + "[prompts]\nsample = 3\n", "nothing to sample"),
    "no such task": (HOLD + 'task = "poetry"\n', "short-ask"),
    "two keys": (
        '[vary]\nconcurrency = [1]\n[hold]\nprompt_tokens = 9\n[endpoint]\nurl = "http://x"\nkey_file = "a"\n'
        'key_variable = "B"\n',
        "not from both",
    ),
    "an unknown field of a distribution": (HOLD + '[prompts.lengths]\nkind = "fixed"\ntoken = 5\n', "tokens"),
}


@pytest.mark.parametrize("name", WRONG)
def test_wrong_loads_are_explained(tmp_path: Path, name: str) -> None:
    """What is wrong, in the words of the file; exit code 2."""
    text, words = WRONG[name]
    with pytest.raises(StudyFileError) as caught:
        parse(text, tmp_path)
    assert words in str(caught.value) and caught.value.exit_code == 2


QUESTIONS = '[hold]\nmodel = "brine-15m"\ncontext = 4096\n[prompts]\nfiles = ["tide.txt", "berth.txt"]\n'


def _questions(folder: Path, vary: str = '"all"', more: str = "") -> Study:
    for name in ("tide", "berth"):
        (folder / f"{name}.txt").write_text(f"What of the {name}?")
    return parse(f"[vary]\nprompt = [{vary}]\n{QUESTIONS}{more}", folder)


def test_a_studys_own_prompts_are_a_factor(tmp_path: Path) -> None:
    """By the names of their files or lines; each cell asks its own, and nothing else of the work differs."""
    plan = _questions(tmp_path)
    assert [cell.levels for cell in plan.cells] == [{"prompt": "tide"}, {"prompt": "berth"}]
    assert not plan.ranked and plan.conditions == ("prompt",)
    tide, berth = (workload(plan, cell) for cell in plan.cells)
    assert {name for name in tide if tide[name] != berth[name]} == {"prompts"}
    assert workload(plan, plan.cells[0], ["prompt"]) == workload(plan, plan.cells[1], ["prompt"])
    alone = parse(QUESTIONS.replace('"berth.txt"', "").replace("[hold]", "[vary]\nsalt = [true]\n[hold]"), tmp_path)
    assert plan.prompts.only("berth").texts == ("What of the berth?",) and alone.prompts.names == ()
    renamed = _questions(tmp_path, '"low", "berth"', 'names = ["low", "berth"]\n')
    assert workload(renamed, renamed.cells[0]) == tide  # a name is not work


def test_a_copy_and_a_plan_without_texts_are_the_same_work(tmp_path: Path) -> None:
    """A copied plan names its prompts as before; left-out texts keep the fingerprint of each."""
    plan = _questions(tmp_path)
    text, files = copied_study(plan, comment="")
    for name, data in files.items():
        (tmp_path / name).write_bytes(data)
    copy = parse_study(text, KNOWN, file="s.toml", folder=tmp_path)
    bare = replace(plan, prompts=without_texts(without_texts(plan.prompts)))
    for other in (copy, bare):
        assert [workload(other, cell) for cell in other.cells] == [workload(plan, cell) for cell in plan.cells]
    assert not validate(bare, KNOWN.engines)


def test_names_are_shortened_with_their_levels(tmp_path: Path) -> None:
    """A name like a path is shortened as its level is, so that the plan still names its prompts."""
    plan = _questions(tmp_path, '"annika/tide", "berth"', 'names = ["annika/tide", "berth"]\n')
    for prompts in (plan.prompts, without_texts(plan.prompts)):
        shared = shared_study(replace(plan, prompts=prompts), Anonymiser())
        assert "annika" not in str(shared.vary) + str(shared.prompts.names) + str(shared.prompts.withheld)
        assert not validate(shared, KNOWN.engines)
        assert [workload(shared, c) for c in shared.cells] == [workload(plan, c) for c in plan.cells]


@pytest.mark.parametrize(
    ("vary", "more", "path"),
    [
        ('"tides"', "", ("vary", "prompt")),
        ('"all"', 'names = ["one"]\n', ("prompts", "names")),
        ('"all"', 'names = ["one", "one"]\n', ("prompts", "names")),
    ],
)
def test_prompts_that_cannot_be_told_apart(tmp_path: Path, vary: str, more: str, path: tuple[str, ...]) -> None:
    """A name that no prompt has, too few names, and one name for two."""
    with pytest.raises(StudyFileError) as caught:
        _questions(tmp_path, vary, more)
    text = f"{HEAD}[vary]\nprompt = [{vary}]\n{QUESTIONS}{more}"
    assert caught.value.line == line_of(text, *path) and caught.value.remedy


def test_a_prompt_without_prompts(tmp_path: Path) -> None:
    """Made-up words have no names."""
    with pytest.raises(StudyFileError) as caught:
        parse('[vary]\nprompt = ["tide"]\n[hold]\nmodel = "brine-15m"\nprompt_tokens = 64\n', tmp_path)
    assert "prompts" in str(caught.value)


def test_a_repeat_of_one_cold_request_is_refused(tmp_path: Path) -> None:
    """Nothing of it would count; a second request, or a warm-up, or an engine that already runs mends it."""
    text = '[vary]\nthreads = [1]\n[hold]\nmodel = "brine-15m"\nprompt_tokens = 64\n[repeats]\nwarm_up = 0\n'
    with pytest.raises(StudyFileError) as caught:
        parse(text, tmp_path)
    assert caught.value.line == line_of(HEAD + text, "repeats", "warm_up")
    assert parse(text + "requests = 2\n", tmp_path).repeats.warm_up == 0
    there = text.replace("threads = [1]", "prompt_tokens = [64]").replace(
        'model = "brine-15m"\nprompt_tokens = 64\n', ""
    )
    assert parse(f'{there}[endpoint]\nurl = "http://127.0.0.1:9"\n', tmp_path).cells
