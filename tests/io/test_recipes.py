"""Recipe files: those that come with the tool, a person's own, and what is wrong with one."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zinc_kettle.driver.chunk import Reader
from zinc_kettle.errors import KettleError, StudyFileError
from zinc_kettle.formats.recipe import read_recipes, shipped
from zinc_kettle.wire.messages import ReportedAt

START = 'format = 1\n[start]\nargv = ["a", "{model}", "{port}"]\n'


def own(folder: Path, text: str, name: str = "lantern") -> Path:
    """A folder with one recipe of the person's."""
    (folder / f"{name}.toml").write_text(text)
    return folder


def test_those_that_come_with_the_tool() -> None:
    """The built-in one first; each setting has one role at most."""
    assert list(shipped()) == ["built-in", "mistralrs", "open-protocol"]
    for recipe in shipped().values():
        roles = [s.role for s in recipe.engine.settings if s.role]
        assert len(roles) == len(set(roles)) and recipe.meaning
    assert shipped()["built-in"].engine.fits and not shipped()["open-protocol"].engine.started


def test_a_version_takes_over_all_but_its_python(tmp_path: Path) -> None:
    """Tables are merged, down to one field of one setting."""
    text = 'format = 1\nbased_on = "built-in"\n[start]\npython = "/v/bin/python"\n[settings.context]\ndefault = 99\n'
    found = read_recipes(own(tmp_path, text, "older"))
    base, older = found["built-in"], found["older"]
    assert older.start is not None and base.start is not None and older.start.python == "/v/bin/python"
    assert older.start.argv == base.start.argv and older.reports == base.reports
    changed = [(a, b) for a, b in zip(base.engine.settings, older.engine.settings, strict=True) if a != b]
    assert [(a.default, b.default) for a, b in changed] == [(2048, 99)]
    assert "older" not in shipped()


WRONG = {
    "an unknown key": ("format = 1\ntitel = 'a'\n", "titel is not known", "title"),
    "one of a setting": (
        "format = 1\n[settings.oil]\ntype = 'number'\nmeaning = 'm'\nargument = '-o'\nnuon = 'a'\n",
        "settings.oil.nuon is not known",
        "noun",
    ),
    "no way in": ("format = 1\n[settings.oil]\ntype = 'number'\nmeaning = 'm'\n", "settings.oil is not valid", "docs"),
    "a general factor": (
        "format = 1\n[settings.model]\ntype = 'text'\nmeaning = 'm'\nrequest = 'm'\n",
        "not valid",
        "docs",
    ),
    "a role twice": (
        "format = 1\n"
        + "".join(
            f"[settings.{n}]\ntype = 'number'\nmeaning = 'm'\nargument = '-{n}'\nrole = 'threads'\n" for n in "ab"
        ),
        "not valid",
        "docs",
    ),
    "an unknown role": (
        "format = 1\n[settings.a]\ntype = 'number'\nmeaning = 'm'\nargument = '-a'\nrole = 'king'\n",
        "settings.a.role is not valid",
        "docs",
    ),
    "no place for the model": ("format = 1\n[start]\nargv = ['a', '{port}']\n", "start is not valid", "docs"),
    "no such launcher": (START.replace('"a"', '"{launcher}"') + "launcher = 'gull'\n", "start is not valid", "docs"),
    "what is no place": (START.replace('"a"', '"{model.__class__}"'), "start is not valid", "docs"),
    "an unknown report": ("format = 1\n[reports]\nprompt_mss = 'a'\n", "not valid", "docs"),
    "itself": ("format = 1\nbased_on = 'lantern'\n", "is based on itself", "another"),
    "a list": ("format = 1\nbased_on = ['lantern']\n", "not the name", "built-in"),
    "nothing": ("format = 1\nbased_on = 'lamp'\n", "no recipe 'lamp'", "lantern"),
    "a default of another type": (
        "format = 1\n[settings.a]\ntype = 'switch'\nmeaning = 'm'\nflag = '-'\ndefault = 1\n",
        "settings.a is not valid",
        "docs",
    ),
    "started and at an address": (START + "[endpoint]\nurl = 'http://127.0.0.1:1'\n", "not valid", "docs"),
    "no format": ("title = 'a'\n", "format is missing", "add format"),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_is_named(tmp_path: Path, name: str) -> None:
    """The file, the field, and what to try."""
    text, what, remedy = WRONG[name]
    with pytest.raises(StudyFileError) as caught:
        read_recipes(own(tmp_path, text))
    assert what in str(caught.value) and remedy in str(caught.value) and "lantern.toml" in str(caught.value)


@pytest.mark.parametrize("name", ["built-in", "Lantern", "a b"])
def test_names_that_cannot_be(tmp_path: Path, name: str) -> None:
    """A recipe of the tool's is not replaced in silence."""
    with pytest.raises(StudyFileError, match="name"):
        read_recipes(own(tmp_path, "format = 1\n", name))


@settings(max_examples=150)
@given(st.data())
def test_mutants_are_read_or_refused(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    """A line dropped, doubled, or with its value replaced: never anything but a recipe or an error of ours."""
    lines = (Path(str(shipped.__wrapped__.__code__.co_filename)).parent / "recipes" / "built-in.toml").read_text()
    rows = lines.splitlines()
    at = data.draw(st.integers(0, len(rows) - 1))
    value = data.draw(st.sampled_from(["1", "-1", "true", '"x"', "[]", "{}", "[[1]]", '"{x}"', '"\\u0000"', "1e400"]))
    key = rows[at].partition("=")[0]
    rows[at : at + 1] = data.draw(st.sampled_from([[], [rows[at]] * 2, [f"{key} = {value}"]]))
    folder = tmp_path_factory.mktemp("mutant")
    try:
        assert read_recipes(own(folder, "\n".join(rows)))["lantern"].name == "lantern"
    except KettleError as error:
        assert "lantern.toml" in str(error)


# what recipes say of chunks
def test_an_account_is_read_where_the_recipe_says() -> None:
    """Nested, in other units, beside the protocol's own fields; less than both counts and clocks is no account."""
    where = {
        "prompt_tokens": ReportedAt("usage.prompt_tokens"),
        "prompt_ms": ReportedAt("own.deep.first_s", 1_000.0),
        "output_tokens": ReportedAt("own.n"),
        "output_ms": ReportedAt("usage.ms"),
        "cached_tokens": ReportedAt("own.kept"),
    }
    reader = Reader(where)
    chunk = reader.decode(
        b'{"choices":[],"usage":{"prompt_tokens":9,"completion_tokens":4,"ms":20},"own":{"n":4,"deep":{"first_s":0.5}}}'
    )
    assert chunk.usage.completion_tokens == 4 and reader.count(chunk) == 4
    account = reader.account(reader.own(chunk))
    assert account is not None and (account.prompt_ms, account.prompt_n, account.cache_n) == (500.0, 9, 0)
    assert (account.predicted_n, account.predicted_ms, account.draft_n) == (4, 20.0, None)
    partly = reader.decode(b'{"choices":[],"own":{"n":4}}')
    assert reader.account(partly) is None and reader.count(partly) == 4
    bare = Reader({}).decode(b'{"choices":[],"timings":{"predicted_n":4}}')
    assert Reader({}).own(bare) is None
