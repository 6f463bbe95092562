"""Which combinations are measured, what is doubtful about a plan, and how it is typed, said and edited."""

from __future__ import annotations

import itertools
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import KNOWN, study
from zinc_kettle.app.side_names import one_by_one
from zinc_kettle.core.checks.doubts import doubts
from zinc_kettle.core.grid import axes_choices, grid_of
from zinc_kettle.core.plan.design import Design, combinations, count_before
from zinc_kettle.core.plan.factors import FACTORS
from zinc_kettle.core.plan.fields import FIELDS, SECTIONS, CannotReadError, field_text, read_field
from zinc_kettle.core.plan.history import History
from zinc_kettle.core.plan.recipe import BUILT_IN, factors_of
from zinc_kettle.core.plan.study import Limits, Study
from zinc_kettle.core.results import StudyResults
from zinc_kettle.formats import study_edit
from zinc_kettle.formats.study import check_study
from zinc_kettle.present.plan_lines import plan_lines, sentence
from zinc_kettle.present.planned import Planned, dropped_by

BUILT = factors_of([KNOWN.engines[BUILT_IN]])
NUMBERS = {"whole", "number", "percent", "seconds"}
FILE = """# Why this study: the night log.
format = 1
name = "night"                # a name
question = "How many threads?"

[vary]                        # the sweep
threads = [1, 2, 4]
batch = [64, 128, 256]

[hold]
model = "brine-15m"           # the smallest
prompt_tokens = 128
"""


def checked(text: str) -> tuple[Study | None, list[str]]:
    """The study of a text, and what is wrong with it."""
    found = check_study(tomllib.loads(text), Path(), KNOWN)
    return found.study, [problem.what for problem in found.problems]


# designs
@given(
    st.dictionaries(st.sampled_from("abcd"), st.lists(st.integers(1, 9), min_size=1, max_size=3, unique=True)),
    st.data(),
)
def test_what_is_left_out_is_what_a_loop_would_skip(vary: dict[str, list[int]], data: st.DataObject) -> None:
    """Every combination but those that have all named levels, each once, in the order of the plain product."""
    rules: Any = tuple(
        {n: tuple(data.draw(st.lists(st.sampled_from(vary[n]), min_size=1))) for n in names}
        for names in data.draw(
            st.lists(st.sets(st.sampled_from(sorted(vary)), min_size=1), max_size=2) if vary else st.just([])
        )
    )
    found = list(combinations(vary, Design(without=rules)))
    whole = [dict(zip(vary, levels, strict=True)) for levels in itertools.product(*vary.values())]
    assert found == [c for c in whole if not any(all(c[n] in rule[n] for n in rule) for rule in rules)]
    assert count_before(vary, Design()) == len(whole)


@given(st.dictionaries(st.sampled_from("abc"), st.lists(st.integers(1, 9), min_size=1, max_size=4, unique=True)))
def test_one_at_a_time_differs_from_its_baseline_in_one_factor(vary: dict[str, list[int]]) -> None:
    """The baseline first, then each other level of each factor once, all else as in the baseline."""
    base: Any = {name: levels[-1] for name, levels in vary.items()}
    design = Design("one-at-a-time", baseline=base)
    first, *others = list(combinations(vary, design))
    assert first == base and len(others) + 1 == count_before(vary, design)
    assert all(sum(cell[n] != base[n] for n in vary) == 1 for cell in others)
    assert len({tuple(cell.items()) for cell in others}) == sum(len(levels) - 1 for levels in vary.values())


@given(st.dictionaries(st.sampled_from("abc"), st.lists(st.integers(1, 9), min_size=1, max_size=4, unique=True)))
def test_a_chain_changes_one_factor_at_each_step(vary: dict[str, list[int]]) -> None:
    """From its baseline on, and ends with the last level of each; every level is met once or more."""
    base: Any = {name: levels[0] for name, levels in vary.items()}
    cells = list(combinations(vary, Design("chain", baseline=base)))
    assert cells[0] == base and len(cells) == count_before(vary, Design("chain"))
    assert all(sum(a[n] != b[n] for n in vary) == 1 for a, b in itertools.pairwise(cells))
    assert cells[-1] == {name: levels[-1] for name, levels in vary.items()}


def test_a_chain_is_told_as_a_ladder() -> None:
    """Its map is one row of what each cell changes, and its steps are those that were measured."""
    plan = study({"threads": (1, 2, 4), "flash_attention": (False, True)}, design=Design("chain"))
    (part,) = grid_of(StudyResults(plan)).slices
    assert part.columns.labels == ("1 thread · flash attention off", "2 threads", "4 threads", "flash attention on")
    assert plan.steps("threads") == [(1, 2), (2, 4)] and plan.steps("flash_attention") == [(False, True)]
    assert len(one_by_one(StudyResults(plan))) == 4


def test_tied_factors_change_together() -> None:
    """Level by level; a step of one is a step of the other; the map has one side for both."""
    plan = study(
        {"threads": (1, 2), "batch": (64, 128), "micro_batch": (32, 64)},
        design=Design(ties=(("batch", "micro_batch"),)),
    )
    assert [(c.levels["batch"], c.levels["micro_batch"]) for c in plan.cells] == [(64, 32), (128, 64)] * 2
    assert plan.leading == ["threads", "batch"]
    assert plan.moved(plan.cells[0].levels, "micro_batch", 64) == {"threads": 1, "batch": 128, "micro_batch": 64}
    (part,) = grid_of(StudyResults(plan)).slices
    assert part.columns.labels == ("64 / 32", "128 / 64") and len(axes_choices(plan)) == 2


def test_the_map_of_one_factor_at_a_time_is_a_row_for_each() -> None:
    """The baseline's cell stands in every row; what a design leaves out of a whole map is an empty place."""
    vary = {"quantization": ("F16", "Q4_0"), "threads": (1, 2, 4)}
    alone = study(vary, design=Design("one-at-a-time", baseline={"threads": 2}))
    parts = grid_of(StudyResults(alone)).slices
    assert [len(part.keys[0]) for part in parts] == [2, 3] and parts[0].keys[0][0] == parts[1].keys[0][1]
    assert alone.steps("threads") == [(2, 1), (2, 4)]
    holed = study(vary, design=Design(without=({"quantization": ("F16",), "threads": (4,)},)))
    (whole,) = grid_of(StudyResults(holed)).slices
    assert whole.keys[0][2] is None and sum(key is None for row in whole.keys for key in row) == 1


@pytest.mark.parametrize(
    ("section", "said"),
    [
        ('ties = [["threads", "context"]]', "this study does not vary context"),
        ('ties = [["threads"]]', "a tie needs two factors or more"),
        ('ties = [["threads", "batch"], ["batch", "threads"]]', "a factor is tied twice"),
        ("without = [{ threads = 3 }]", "threads has no level 3 here"),
        ("without = [{ threads = true }]", "threads has no level on here"),
        ("without = [{ threads = [1, 2, 4] }]", "every cell is left out"),
        ('kind = "one-at-a-time"\nwithout = [{ threads = 1 }]', "the baseline itself is left out"),
        ('kind = "one-at-a-time"\nbaseline = { slots = 1 }', "this study does not vary slots"),
        ("baseline = { threads = 1 }", "a baseline is of one factor at a time, or of a chain"),
    ],
)
def test_a_design_that_cannot_be_is_refused(section: str, said: str) -> None:
    """Each with a word on what is wrong; ties of lists of unequal length too."""
    assert checked(f"{FILE}\n[design]\n{section}\n")[1] == [said]
    unequal = FILE.replace("[64, 128, 256]", "[64, 128]") + '\n[design]\nties = [["threads", "batch"]]\n'
    assert "different numbers of levels" in checked(unequal)[1][0]


def test_a_cap_drops_the_last_blocks_first() -> None:
    """By the guess of each repeat; the first repeat is measured whatever it takes."""
    plan = study({"threads": (1, 2)}, limits=Limits(total_s=50))
    planned = dict.fromkeys(plan.by_key, Planned(seconds=10))
    dropped = dropped_by(plan, planned)
    assert dropped is not None and (dropped.repeats, dropped.of, dropped.cells, dropped.fewest) == (1, 6, (), 2)
    one = dropped_by(study({"threads": (1, 2)}, limits=Limits(total_s=5)), planned)
    assert one is not None and one.repeats == 5 and len(one.cells) == 1
    assert dropped_by(study({"threads": (1, 2)}, limits=Limits(total_s=60)), planned) is None


# doubts
@pytest.mark.parametrize(
    ("vary", "hold", "doubt"),
    [
        ({"threads": (1, 8)}, {}, "8 threads on 4 cores"),
        ({"threads": (1, 2)}, {"prompt_tokens": 100}, "100 prompt tokens are few"),
        ({"threads": (1, 2)}, {"output_tokens": 4}, "4 output tokens are few"),
        ({"concurrency": (1, 4)}, {"slots": 2}, "4 streams share 2 slots"),
        ({"threads": (2,)}, {}, "threads has one level"),
        ({"threads": (1, 2)}, {"salt": False}, "prompts are sent without a salt"),
        (
            {"micro_batch": (64, 2_048, 4_096)},
            {"batch": 2_048, "prompt_tokens": 9_000},
            "micro-batches of 2,048 and 4,096",
        ),
        ({"micro_batch": (64, 256, 512)}, {}, "micro-batches of 256 and 512"),
    ],
)
def test_doubts_name_their_place(vary: dict[str, Any], hold: dict[str, Any], doubt: str) -> None:
    """Each is found, and leads to a line of the plan; at the boundary there is none."""
    plan = study(vary, hold={"prompt_tokens": 128, "output_tokens": 16, **hold})
    found = [d for d in doubts(plan, cores=4) if d.what.startswith(doubt)]
    assert len(found) == 1 and found[0].path[0] in {"vary", "hold"}
    fine = study({"threads": (1, 4)}, hold={"prompt_tokens": 128, "output_tokens": 16})
    assert not [d for d in doubts(fine, cores=4) if d.path[0] in {"vary", "hold"}]
    fine = study({"micro_batch": (64, 128)}, hold={"prompt_tokens": 128, "output_tokens": 16})
    assert not [d for d in doubts(fine) if d.path == ("vary", "micro_batch")]


# typing
@pytest.mark.parametrize("path", FIELDS)
def test_every_field_reads_its_own_example(path: tuple[str, ...]) -> None:
    """The example is one of its values, and is typed back the same."""
    of = FIELDS[path]
    value = read_field(of, of.example, BUILT)
    assert value is not None and read_field(of, field_text(of, value), BUILT) == value
    assert read_field(of, "  ", BUILT) is None
    if of.kind not in {"text", "names"}:
        with pytest.raises(CannotReadError):
            read_field(of, "no such thing", BUILT)


@pytest.mark.parametrize("path", [path for path, of in FIELDS.items() if of.kind in NUMBERS])
def test_every_number_of_a_study_file_has_its_bounds(path: tuple[str, ...]) -> None:
    """Below them it is refused, with the place it stands at; no record is made of it."""
    values: dict[str, Any] = {**tomllib.loads(FILE), "endpoint": {"url": "http://127.0.0.1:8080"}}
    *tables, name = path
    table = values
    for each in tables:
        table = table.setdefault(each, {})
    table[name] = -1
    checked = check_study(values, Path(), KNOWN)
    assert checked.study is None and path in [problem.path for problem in checked.problems]


LENGTHS = st.one_of(
    st.builds(lambda n: {"kind": "fixed", "tokens": n}, st.integers(1, 9999)),
    st.builds(lambda a, b: {"kind": "uniform", "low": a, "high": b}, st.integers(1, 99), st.integers(100, 9999)),
    st.builds(
        lambda p: {"kind": "table", "table": [[a, float(b)] for a, b in p]},
        st.lists(st.tuples(st.integers(1, 999), st.integers(1, 9)), min_size=1),
    ),
)


@given(LENGTHS)
def test_lengths_are_typed_as_they_are_read(value: dict[str, Any]) -> None:
    """Every distribution is typed back to itself."""
    of = FIELDS["prompts", "lengths"]
    assert read_field(of, field_text(of, value), BUILT) == value


# the text
VALUES = st.sampled_from(
    [
        (("vary", "threads"), [1, 2, 8]),
        (("vary", "depth"), [100, 200]),
        (("hold", "context"), 512),
        (("repeats", "count"), 6),
        (("promise", "ttft_s"), 2.0),
        (("limits", "quiet_s"), 20.0),
        (("seed",), 7),
        (("design", "without"), [{"threads": [1, 2], "batch": 64}]),
        (("load", "shape"), "burst"),
        (("prompts", "lengths"), {"kind": "fixed", "tokens": 9}),
        (("hold", "model"), "brine-60m"),
    ]
)


@given(st.lists(st.tuples(st.booleans(), VALUES), max_size=12))
def test_edits_change_the_values_and_keep_the_comments(edits: list[tuple[bool, tuple[tuple[str, ...], Any]]]) -> None:
    """After any edits the file says what a plain dictionary would, and no comment of what stayed is lost."""
    text, plain = FILE, tomllib.loads(FILE)
    for remove, (path, value) in edits:
        text = study_edit.without_value(text, path) if remove else study_edit.with_value(text, path, value)
        table = plain
        for name in path[:-1]:
            table = table.setdefault(name, {})
        if remove:
            table.pop(path[-1], None)
            if len(path) > 1 and not table and path[0] not in {"vary", "hold"}:
                plain.pop(path[0])
        else:
            table[path[-1]] = value
    assert tomllib.loads(text) == plain
    assert all(f"# {words}" in text for words in ("Why this study: the night log.", "a name", "the sweep"))
    kept = [name for name in SECTIONS if isinstance(plain.get(name), dict)]
    found = [line.strip("[] ").split("]")[0] for line in text.splitlines() if line.startswith("[")]
    assert sorted(found) == sorted(kept)


def test_lines_say_what_a_plan_says_and_where() -> None:
    """Every section in one line, factors with their levels; unfolded, each field with its default marked as one."""
    raw = tomllib.loads(FILE + "\n[repeats]\nuntil_answered = 'threads'\nceiling = 12\n")
    lines = plan_lines(raw, BUILT, {"repeats"})
    said = {line.path: line for line in lines if line.kind != "add"}
    assert said["vary", "threads"].edit == "1, 2, 4" and "reload" in said["vary", "threads"].note
    assert "what each step of threads brings" in said["repeats",].said and "12 at most" in said["repeats",].said
    assert said["repeats", "ceiling"].said == "12" and said["repeats", "count"].default
    assert [line.heading for line in lines if line.heading] == [SECTIONS[s] for s in SECTIONS if s != "endpoint"]
    broken = {"vary": {"threads": "many"}, "repeats": 7, "load": {"shape": 3}, "design": {"without": 1}}
    assert plan_lines(broken, FACTORS, set(SECTIONS)) and sentence({}, "limits") == "no cap on time; a request 10 min"


@given(st.lists(st.sampled_from(["undo", "redo", "a", "b", "c"]), max_size=30))
def test_undo_and_redo_are_a_list_with_a_place(steps: list[str]) -> None:
    """The same as a list one walks in; a change drops what had been undone."""
    history, texts, at = History(("",)), [""], 0
    for step in steps:
        if step == "undo":
            history, at = history.undone(), max(0, at - 1)
        elif step == "redo":
            history, at = history.redone(), min(len(texts) - 1, at + 1)
        elif step != texts[at]:
            history, texts = history.changed(step), [*texts[: at + 1], step]
            at = len(texts) - 1
        assert history.text == texts[at]
