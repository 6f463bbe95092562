"""Study files: what is right is read, what is wrong is named with its line and a remedy."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import KNOWN
from zinc_kettle.app.build import model_sizes
from zinc_kettle.app.services import Services
from zinc_kettle.app.views import Checked
from zinc_kettle.config import DEMO_FILES, Places
from zinc_kettle.core.plan.factors import label
from zinc_kettle.core.text import is_hidden
from zinc_kettle.errors import KettleError, ModelError, StudyFileError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.study import line_of, parse_study, read_study

GOOD = """format = 1
name = "night-log"
question = "Which?"

[vary]
quantization = ["F16", "Q8_0"]
threads = [1, 2]

[hold]
model = "brine-15m"
context = 256
prompt_tokens = 64

[repeats]
count = 4
"""


def parse(text: str, folder: Path = Path()) -> object:
    """Parse as a file called s.toml."""
    return parse_study(text, KNOWN, file="s.toml", folder=folder)


@pytest.mark.parametrize(
    "path", [*sorted(Path("examples").glob("*.toml")), *sorted(DEMO_FILES.glob("*.study.toml"))], ids=str
)
def test_shipped_studies_are_right(path: Path) -> None:
    """Examples and the demo's study."""
    study, text = read_study(path, KNOWN)
    assert len(study.cells) >= 2 and study.question and text


def test_defaults() -> None:
    """What is not said is as the docs say."""
    study = parse_study(GOOD, KNOWN, file="s", folder=Path())
    assert study.repeats.count == 4 and study.repeats.warm_up == 1 and study.seed == 1
    assert study.limits.load_s == 300.0 and study.endpoint is None


WRONG = [
    ("not toml", GOOD + "\n[[", "is not TOML", None),
    ("unknown section", GOOD + "\n[repeat]\ncount = 1\n", "Try: repeats", 17),
    ("unknown key", GOOD.replace("count = 4", "cuont = 4"), "Try: count", 15),
    ("unknown factor", GOOD.replace("threads =", "thread ="), "Try: threads", 7),
    ("wrong type", GOOD.replace("[1, 2]", '[1, "two"]'), "threads should be a whole number", 7),
    ("boolean as number", GOOD.replace("[1, 2]", "[true]"), "threads should be a whole number", 7),
    ("out of bounds", GOOD.replace("[1, 2]", "[0]"), "1 to 1,024", 7),
    ("twice", GOOD.replace("[1, 2]", "[2, 2]"), "has a level twice", 7),
    ("empty", GOOD.replace("[1, 2]", "[]"), "has no levels", 7),
    ("both", GOOD.replace("[hold]", "[hold]\nthreads = 1"), "both varied and held", 10),
    ("no model", GOOD.replace('model = "brine-15m"\n', ""), "no model is named", 9),
    ("no prompts", GOOD.replace("prompt_tokens = 64\n", ""), "no prompts are named", None),
    ("too long", GOOD.replace("prompt_tokens = 64", "prompt_tokens = 250"), "do not fit a context of 256", 11),
    ("bad count", GOOD.replace("count = 4", "count = 0"), "repeats.count", 15),
    ("bad name", GOOD.replace("night-log", "Night Log!"), "no name for a study", 2),
    ("format 2", GOOD.replace("format = 1", "format = 2"), "format", 1),
    ("missing", GOOD.replace('question = "Which?"\n', ""), "question is missing", None),
    ("choice", GOOD + "", "", None),
    ("no file", GOOD + '\n[prompts]\nfiles = ["no.txt"]\n', "cannot be read", 18),
    ("outside", GOOD + '\n[prompts]\nfiles = ["../../etc/hostname"]\n', "outside the study", 18),
    ("no low", GOOD + '\n[prompts.outputs]\nkind = "uniform"\nhigh = 9\n', "uniform needs low", 17),
    ("endpoint and threads", GOOD + '\n[endpoint]\nurl = "http://127.0.0.1:1"\n', "cannot be set on an endpoint", 6),
    ("key in address", GOOD + '\n[endpoint]\nurl = "http://me:pw@x/"\n', "endpoint.url", 18),
]
WRONG = [w for w in WRONG if w[2]] + [
    ("choice", GOOD.replace("context = 256", 'context = 256\ncache_precision = "f8"'), "f32, f16, q8_0, q4_0", 12)
]


@pytest.mark.parametrize(("text", "words", "line"), [w[1:] for w in WRONG], ids=[w[0] for w in WRONG])
def test_wrong_files_are_named(text: str, words: str, line: int | None) -> None:
    """File, line where there is one, cause or remedy; exit code 2."""
    with pytest.raises(StudyFileError) as caught:
        parse(text)
    assert words in str(caught.value)
    assert str(caught.value).startswith("s.toml")
    assert caught.value.exit_code == 2
    if line is not None:
        assert caught.value.line == line


def test_all_that_is_wrong_is_said_at_once() -> None:
    """Fields, factors and what goes together, in the order of their lines, each with its own line."""
    text = GOOD.replace("threads = [1, 2]", 'threads = [0]\nthrads = [1]\nthreads_ = ["x"]').replace("= 4", '= "four"')
    with pytest.raises(StudyFileError) as caught:
        parse(text.replace("context = 256", "context = -1"))
    lines = str(caught.value).splitlines()
    assert [line.split(": ")[0] for line in lines] == ["s.toml:7", "s.toml:8", "s.toml:9", "s.toml:13", "s.toml:17"]
    assert "Try: threads" in lines[1] and "16 to" in lines[3] and "repeats.count" in lines[4]
    both = (
        GOOD.replace("prompt_tokens = 64", "rate = 60\nslots = 2") + '[load]\nshape = "burst"\n[prompts]\nsample = 3\n'
    )
    with pytest.raises(StudyFileError) as caught:
        parse(both)
    told = str(caught.value)
    assert all(w in told for w in ("rate only applies to an open loop", "no prompts are named", "nothing to sample"))


def test_prompt_files_are_read_beside_the_study(tmp_path: Path) -> None:
    """And kept with the study, so that it can be repeated."""
    (tmp_path / "log.txt").write_text("  02:14 fog  ")
    text = GOOD.replace("prompt_tokens = 64\n", "") + '\n[prompts]\nfiles = ["log.txt"]\n'
    assert parse_study(text, KNOWN, file="s", folder=tmp_path).prompts.texts == ("02:14 fog",)
    (tmp_path / "log.txt").write_text("  ")
    with pytest.raises(StudyFileError, match="empty"):
        parse(text, tmp_path)


def test_files_that_cannot_be_read(tmp_path: Path) -> None:
    """Missing, not text, far too large."""
    for name, data in (("a", None), ("b", b"\xff\xfe"), ("c", b"#" * (1 << 20) + b"#")):
        if data is not None:
            (tmp_path / name).write_bytes(data)
        with pytest.raises(StudyFileError):
            read_study(tmp_path / name, KNOWN)


@given(st.text(max_size=200))
def test_any_text_is_a_study_or_a_clear_error(text: str) -> None:
    """No other exception, whatever a file holds."""
    try:
        parse(text)
    except KettleError as error:
        assert str(error)


NASTY = (
    "[" * 4_000,
    "[" * 400 + "]" * 400,
    "{a=" * 1_500,
    "9" * 5_000,
    "-" + "9" * 400,
    "1e999",
    "nan",
    "0x" + "f" * 900,
    '"\\u0000"',
    '"\u200b"',
    '"\u202e2 sdaerht"',
    '"a\u2028b"',
    '"~nobody-here/x.gguf"',
    '"/"',
    '"\\u001b[2J"',
    "true",
    "[[]]",
    "{}",
    "1979-05-27",
    '""',
    '"../x"',
    "'''",
    "[endpoint]",
    "[vary.threads]",
    "= =",
    "\ud7ff",
)


@settings(max_examples=150)
@given(st.data())
def test_mutants_of_a_study_file_end_in_a_sentence(data: st.DataObject) -> None:
    """Values, keys and lines replaced by what breaks readers: a study with sizes to show, or a clear error."""
    lines = GOOD.splitlines()
    for _ in range(data.draw(st.integers(1, 3))):
        at, nasty = data.draw(st.integers(0, len(lines) - 1)), data.draw(st.sampled_from(NASTY))
        key, sign, _ = lines[at].partition("=")
        lines[at] = data.draw(st.sampled_from([f"{key}{sign or '='} {nasty}", f"{key}{sign} [{nasty}]", nasty]))
    try:
        study = parse_study("\n".join(lines), KNOWN, file="s.toml", folder=Path())
        model_sizes(study, Places(Path("nowhere"), Path("nowhere.db")))
    except KettleError as error:
        assert str(error)
    else:
        shown = [label(level) for cell in study.cells for level in cell.levels.values()]
        assert not any(is_hidden(char) for text in shown for char in text)


def test_hidden_characters_are_refused_where_they_stand() -> None:
    """A model that looks like another one, a list, a key; line feeds of a text are no harm."""
    for text in ('"brine-\u200b15m"', '["a\\u202eb"]', '{ "k\u2066" = 1 }'):
        with pytest.raises(StudyFileError, match="invisible character"):
            parse(GOOD.replace('"brine-15m"', text))
    assert parse(GOOD.replace('"Which?"', '"Which\\nof them?"'))


def test_line_of() -> None:
    """Keys are found in their own table."""
    text = "a = 1\n[t]\na = 2\n[t.u]\nb = 3\n"
    assert (line_of(text, "a"), line_of(text, "t", "a"), line_of(text, "t", "u", "b")) == (1, 3, 5)
    assert line_of(text, "t", "nothing") == 2 and line_of(text, "x") is None


def test_models_are_found_or_missed_clearly(tmp_path: Path) -> None:
    """By preset, by name in the folder, by path; a wrong one says what there is."""
    folder = ModelFolder(tmp_path)
    assert folder.find("brine-15m", "Q4_0") is None
    (tmp_path / "kelp.Q8_0.gguf").write_bytes(b"GGUF")
    found = folder.find("Kelp", "q8_0")
    assert found is not None and found.size_bytes == 4
    assert folder.find(str(tmp_path / "kelp.Q8_0.gguf"), None) is not None
    for model, quantization in (("brine-15m", None), ("brine-15m", "Q9"), ("fathom", "F16"), ("no/such.gguf", None)):
        with pytest.raises(ModelError):
            folder.find(model, quantization)


def test_every_example_can_be_planned_again(tmp_path: Path) -> None:
    """In a data folder that has none of the files they were measured from: their prompts come with the copy."""
    services = Services(Places(tmp_path, tmp_path / "kettle.db"))
    plans = {}
    for entry in services.studies.shelf():
        results = services.studies.open(entry)
        plan = services.plans.copy_of(results, entry.file)
        plans[results.study.name] = services.plans.check(plan.text, plan.folder, Checked()).problems
    assert len(plans) > 5 and not [found for found in plans.values() if found]
