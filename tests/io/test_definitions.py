"""Old results under new definitions: computed again from their stamps, and never mixed without a word."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import sqlalchemy as sa

from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.core import fingerprint
from zinc_kettle.core.compare.duel import duel
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.summary import CATALOGUE
from zinc_kettle.present.findings import WORDING
from zinc_kettle.present.json import cell_json
from zinc_kettle.store import schema as s
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import KettleStore

STUDIES = ("night-log-desk", "deep-context", "which-rig")


@pytest.fixture
def store(tmp_path: Path) -> KettleStore:
    """The examples, recorded by versions of the tool of several weeks."""
    copy_database(DEMO_FILES / SAMPLE_STORE, tmp_path / "kettle.db")
    return KettleStore(tmp_path / "kettle.db")


def told(store: KettleStore, study: str) -> list[str]:
    """Everything that is said of a study's cells."""
    results = open_run(store, find(store, study))
    return [json.dumps(cell_json(results, cell)) for cell in results.cells]


def test_a_first_start_computes_nothing(store: KettleStore) -> None:
    """The examples come with figures and answers of the definitions of now; `make sample` makes them."""
    with store.reading() as db:
        assert set(db.execute(sa.select(s.summaries.c.definitions)).scalars()) == {CATALOGUE}
        said = set(db.execute(sa.select(s.runs.c.answer_by)).scalars())
        processors = set(db.execute(sa.select(sa.func.json_extract(s.runs.c.facts, "$.processor"))).scalars())
    assert said == {f"{fingerprint.DEFINITIONS_VERSION}.{WORDING}"}
    assert processors == {"x86-64 server processor, 2.50 GHz"}, "examples name no maker"


@pytest.mark.parametrize("study", STUDIES)
def test_figures_of_other_definitions_are_computed_again(store: KettleStore, study: str) -> None:
    """Summaries that were made under another catalogue are not believed, whatever they hold: the figures are those of
    the stamps, and are kept under the definitions of now."""
    before = told(store, study)
    run = find(store, study)
    mine = s.summaries.c.run == run
    with store.writing() as db:
        bodies = list(db.execute(sa.select(s.summaries.c.cell, s.summaries.c.body).where(mine)))
        for row, other in zip(bodies, bodies[1:] + bodies[:1], strict=True):  # each cell has another one's figures
            one = mine & (s.summaries.c.cell == row.cell)
            db.execute(s.summaries.update().where(one).values(definitions=1, body=other.body))
    assert told(store, study) == before
    with store.reading() as db:
        assert 1 not in set(db.execute(sa.select(s.summaries.c.definitions).where(mine)).scalars())


def test_the_shelf_says_an_old_answer_anew(store: KettleStore, tmp_path: Path) -> None:
    """An answer that was kept under other definitions, or in other words, is found again."""
    from zinc_kettle.app.services import Services
    from zinc_kettle.config import Places

    run = find(store, "deep-context")
    store.keep_answer(run, "an answer of last year", by="1.1")
    entry = next(e for e in Services(Places(tmp_path, store.path)).studies.shelf() if e.runs[0].run_id == run)
    assert entry.runs[0].answer.startswith("Decode falls from ")


def test_two_versions_side_by_side_are_said(store: KettleStore) -> None:
    """A side whose figures follow older definitions is a difference and a caution, and no clean comparison."""
    results = open_run(store, find(store, "deep-context"))

    class Older(StudyResults):
        """The same run as an older version of the tool would have told it."""

        @property
        def definitions(self) -> int:
            """One version back."""
            return fingerprint.DEFINITIONS_VERSION - 1

    older = Older(results.schedule.study, results.run, {c.cell.key: c.kept for c in results.cells})
    found = duel(Side(older), Side(results), ["decode"])
    assert "different-definitions" in found.cautions
    assert {d.name for d in found.alignment.differences} == {"definitions"}
