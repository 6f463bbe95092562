"""Reports: what they say, in three formats, with a person's own words, and nothing that a text could make them do."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import pytest
import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from zinc_kettle.app.reporting import Reports, write_report
from zinc_kettle.app.side_names import Sides
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.core.report import ReportPart, ReportPlan, section_key
from zinc_kettle.errors import StudyFileError, UsageError
from zinc_kettle.formats.report.page import markdown_text
from zinc_kettle.formats.report.words import read_words
from zinc_kettle.formats.report_plan import read_report_plan, write_report_plan
from zinc_kettle.present.report.document import Document, Grid, Paragraph
from zinc_kettle.present.report.study import SECTIONS
from zinc_kettle.store import schema as s
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import KettleStore
from zinc_kettle.tui.draw.report import section_text
from zinc_kettle.tui.theme import DARK

STUDY = ReportPart("study", ("three-ways",))
DUEL = ReportPart("duel", ("three-ways@quantization=F16", "three-ways@quantization=Q4_0"))
LINEUP = ReportPart("lineup", ("which-rig",), by="rig")
EVIL = "A <script>alert(1)</script> | `x` [y](z) ![i](j) $a$ #set page(width: 1pt) *b* \\"


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> KettleStore:
    """The finished examples."""
    path = tmp_path_factory.mktemp("sample") / "kettle.db"
    copy_database(DEMO_FILES / SAMPLE_STORE, path)
    return KettleStore(path)


@pytest.fixture(scope="module")
def reports(store: KettleStore) -> Reports:
    """Makes reports of them."""
    places = Places(home=store.path.parent, store=store.path)
    return Reports(places, Sides(places, lambda: store), lambda _run: store, tuple)


class Seen(HTMLParser):
    """What a browser would find in a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.sources: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Count a tag, and keep what it loads."""
        self.tags.append(tag)
        self.sources += [value or "" for name, value in attrs if name in {"src", "href"} or name.startswith("on")]

    def handle_data(self, data: str) -> None:
        """Keep its text."""
        self.text += data


def seen(path: Path) -> Seen:
    """A page as a browser finds it."""
    found = Seen()
    found.feed(path.read_text(encoding="utf-8"))
    return found


def test_a_study_tells_everything_it_should(reports: Reports, tmp_path: Path) -> None:
    """Every section but notes, which there are none of; the study file inside; charts as vectors in the file itself;
    nothing that is loaded, and no script."""
    made = reports.document(ReportPlan(parts=(STUDY,)))
    assert [x.key for x in made.shown] == [section_key(STUDY, k.name) for k in SECTIONS if k.name != "notes"]
    (out,) = write_report(made, tmp_path / "r.html")
    page = seen(out)
    assert "script" not in page.tags and all(src.startswith("data:image/svg+xml;base64,") for src in page.sources)
    charts = [base64.b64decode(src.partition(",")[2]) for src in page.sources]
    assert len(charts) == len(made.pictures) >= 3 and all(b"<svg" in chart for chart in charts)
    said = page.text
    for wanted in (
        "Q4_0 · 2 threads is the fastest in decode",
        "95% intervals",
        "xllamacpp",
        'name = "three-ways"',
        "warm-up requests",
        "▲ noisy",
        "sha256",
        "zinc-kettle run three-ways.study.toml",
    ):
        assert wanted in said, wanted


def test_parts_stand_together(reports: Reports, tmp_path: Path) -> None:
    """A study, a duel and a lineup in one page, in all three formats, each chart under a name of its own."""
    made = reports.document(ReportPlan("What we take", (STUDY, DUEL, LINEUP)))
    assert made.title == "What we take" and made.simulated  # the lineup is of a rehearsal
    names = [picture.name for picture in made.pictures]
    assert len(set(names)) == len(names) and {"2-duel", "3-lineup"} <= set(names)
    page, text, *charts = write_report(made, tmp_path / "r.html") + write_report(made, tmp_path / "r.md")
    (paper,) = write_report(made, tmp_path / "r.pdf")
    assert "SIMULATED" in page.read_text(encoding="utf-8") and "SIMULATED" in text.read_text(encoding="utf-8")
    named = re.findall(r"\]\((r-charts/[^)]+)\)", text.read_text(encoding="utf-8"))
    assert [tmp_path / name for name in named] == charts and all(chart.is_file() for chart in charts)
    assert paper.read_bytes().startswith(b"%PDF-") and len(paper.read_bytes()) > 50_000


def test_the_same_report_is_the_same_bytes(reports: Reports, tmp_path: Path) -> None:
    """Two times each format: nothing in it depends on when it was written, but for the day it says."""
    made = reports.document(ReportPlan(parts=(DUEL,)))
    for ending in (".html", ".md", ".pdf"):
        first, again = (write_report(made, tmp_path / f"{n}{ending}")[0].read_bytes() for n in ("a", "b"))
        assert first.replace(b"a-charts", b"b-charts") == again


def test_own_words_are_kept_and_survive_a_new_run(reports: Reports, store: KettleStore, tmp_path: Path) -> None:
    """Words and choices are in a file a person can edit; a later run of the study changes the figures around them."""
    key, out = section_key(STUDY, "answer"), section_key(STUDY, "settings")
    plan = ReportPlan("Ours", (STUDY,)).saying(key, "We take **Q4_0**.\n\n- it fits").saying("", "For the office.")
    reports.keep("ours", plan.toggled(out))
    assert reports.names() == ["ours"]
    with store.writing() as db:  # a run more, with nothing in it yet
        row = db.execute(sa.select(s.runs).join(s.studies).where(s.studies.c.name == "three-ways")).one()
        db.execute(s.runs.insert().values(**{**row._mapping, "id": "later", "number": 2, "state": "stopped"}))
    try:
        made = reports.document(reports.plan("ours"))
    finally:
        with store.writing() as db:
            db.execute(s.runs.delete().where(s.runs.c.id == "later"))
    answer = next(x for x in made.sections if x.key == key)
    assert "run 2" in str(answer.blocks[0]) and [b for b in answer.blocks if getattr(b, "own", False)]
    assert out not in [x.key for x in made.shown] and made.sections[0].blocks[0] == read_words("For the office.")[0]
    text = write_report(made, tmp_path / "r.md")[0].read_text(encoding="utf-8")
    assert "> We take **Q4\\_0**." in text and "> - it fits" in text and text.startswith("# Ours")
    page = seen(write_report(made, tmp_path / "r.html")[0])
    assert "strong" in page.tags and "We take Q4_0." in page.text


@pytest.mark.parametrize("ending", [".html", ".md", ".pdf"])
def test_texts_are_texts(reports: Reports, tmp_path: Path, ending: str) -> None:
    """A title, words and a question that look like markup of each format are said, and obeyed by none."""
    made = reports.document(ReportPlan(EVIL, (STUDY,), words={section_key(STUDY, "answer"): EVIL + "\n\n" + "# x"}))
    made = replace(made, lead=EVIL, sections=(*made.sections, replace(made.sections[0], title=EVIL, key="x")))
    (out, *_) = write_report(made, tmp_path / f"r{ending}")
    if ending == ".html":
        page = seen(out)
        assert "script" not in page.tags and page.text.count("<script>alert(1)</script>") >= 4
        assert page.tags.count("img") == len(made.pictures) and "a" not in page.tags
    if ending == ".md":
        assert "<script>" not in out.read_text(encoding="utf-8").replace("\\<script\\>", "")


@given(st.text(max_size=80))
def test_escaped_markdown_says_what_it_was(text: str) -> None:
    """Read as Markdown, an escaped text is the text, in one paragraph; blanks at its ends are nobody's."""
    from zinc_kettle.core.text import neutralise

    plain = re.sub(r"\s+", " ", neutralise(text, keep_newlines=False)).strip()
    blocks = read_words(f"x {markdown_text(plain)} x")
    assert len(blocks) == 1 and isinstance(blocks[0], Paragraph)
    assert "".join(span.text for span in blocks[0].spans) == f"x {plain} x".replace("&amp;", "&")


KEYS = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cf", "Cs", "Zl", "Zp")), min_size=1, max_size=30)


@given(
    title=st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cf", "Cs", "Zl", "Zp")), max_size=60),
    words=st.dictionaries(KEYS, KEYS, max_size=4),
    left=st.frozensets(KEYS, max_size=4),
)
def test_a_plan_is_read_as_it_was_written(
    tmp_path_factory: pytest.TempPathFactory, title: str, words: dict[str, str], left: frozenset[str]
) -> None:
    """Whatever a person writes comes back as it was."""
    plan = ReportPlan(title, (STUDY, DUEL, LINEUP), left, words)
    path = tmp_path_factory.mktemp("plan") / "x.report.toml"
    write_report_plan(plan, path)
    assert read_report_plan(path) == plan


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("format = 2", "format"),
        ("format = 1\n[[parts]]", "either a study, a duel or a lineup"),
        ('format = 1\n[[parts]]\nstudy = "a"\nduel = ["a", "b"]', "either a study, a duel or a lineup"),
        ('format = 1\n[[parts]]\nduel = ["a"]', "duel"),
        ('format = 1\ncolour = "red"', "colour"),
        ("format = ", "TOML"),
    ],
)
def test_a_file_that_is_wrong_says_what(tmp_path: Path, text: str, said: str) -> None:
    """With its name and what is wrong in it."""
    path = tmp_path / "x.report.toml"
    path.write_text(text)
    with pytest.raises(StudyFileError, match=said):
        read_report_plan(path)


def test_what_cannot_be_told_is_refused(reports: Reports, tmp_path: Path) -> None:
    """A study there is not, a measure there is not, a format there is not, a folder that is a file."""
    made = reports.document(ReportPlan(parts=(DUEL,)))
    cases: list[tuple[Callable[[], object], str]] = [
        (lambda: reports.document(ReportPlan(parts=(ReportPart("study", ("nothing",)),))), "no study"),
        (lambda: reports.document(ReportPlan(parts=(replace(STUDY, measure="decodes"),))), "no measure"),
        (lambda: write_report(made, tmp_path / "x.docx"), "ends in none of"),
        (lambda: reports.file("../x"), "no name for a report"),
    ]
    (tmp_path / "file").write_text("")
    cases.append((lambda: write_report(made, tmp_path / "file" / "x.html"), "cannot be written"))
    for act, said in cases:
        with pytest.raises(UsageError, match=said):
            act()


def test_an_empty_report_says_what_to_do(reports: Reports) -> None:
    """No parts yet: not an error."""
    made: Document = reports.document(ReportPlan())
    assert "Choose" in made.lead and made.sections == ()


@pytest.mark.parametrize("width", [58, 92, 140])
def test_no_figure_is_broken_on_the_screen(reports: Reports, width: int) -> None:
    """In narrow terminals, too, every word of a table stands as it is, and no line is wider than there is room."""
    made = reports.document(ReportPlan(parts=(ReportPart("study", ("three-ways",)),)))
    tables = [(section, block) for section in made.sections for block in section.blocks if isinstance(block, Grid)]
    assert tables
    for section, grid in tables:
        lines = section_text(section, width, DARK).plain.splitlines()
        assert max(map(cell_len, lines)) <= width
        words = {word for line in lines for word in line.split()}
        wanted = {word for row in grid.rows for cell in row for word in cell.split()}
        assert {word for word in wanted if "-" not in word and len(word) < 60} <= words  # a checksum has no room
