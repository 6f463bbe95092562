"""`answers` and `note`: what was written in a run, what is said of it, and a person's own words."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store
from zinc_kettle.cli import output
from zinc_kettle.cli.cells import one_cell
from zinc_kettle.cli.options import RUN, JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.remarks import MARKS, Answer, answers_of, scripts_of
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.run.decisions import Mark
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.core.units import digits
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import find, open_run

SHOWN_CHARACTERS = 60
SHOWN_ID = 18


def tell_answers(place: str, cell: str, mark: str, store_path: Path | None, *, as_json: bool) -> None:
    """List the answers of a run, or mark one of them.

    Raises:
        UsageError: No such study, cell, answer or mark.
    """
    store = open_store(places(store_path))
    run_id = find(store, place)
    results = open_run(store, run_id)
    if mark:
        chosen, answer, word = _marked(results, mark)
        decision = Mark(time.time(), chosen.cell.levels, request=answer.request_id, mark=word)
        store.decide(run_id, decision)
        taken = word in answer.marks
        output.line(f"{chosen.title}, {answer.request_id}: {'no longer ' if taken else ''}{word}")
        return
    only = one_cell(results, cell) if cell else None
    rows = []
    for there, answer in _answers(results):
        if only is not None and there is not only:
            continue
        t = answer.timeline
        speed = t.decode_rate
        if as_json:
            output.json_line(
                {
                    "study": results.study.name,
                    "run": results.run.number,
                    "cell": dict(there.cell.levels),
                    "request": answer.request_id,
                    "tokens": t.total_tokens,
                    "finish": t.finish,
                    "decode": speed,
                    "found": list(answer.found),
                    "marks": list(answer.marks),
                    "text": answer.text,
                }
            )
            continue
        said = ", ".join([*answer.found, *(f"marked {m}" for m in answer.marks)])
        text = shorten(neutralise(answer.text, keep_newlines=False), SHOWN_CHARACTERS)
        rows.append(
            (
                there.title,
                answer.request_id[-SHOWN_ID:],
                f"{t.total_tokens:,}",
                "–" if speed is None else digits(speed),
                said or "–",
                text,
            )
        )
    if not as_json:
        output.table(("cell", "request", "tokens", "tok/s", "said of it", "text"), rows)


def _answers(results: StudyResults) -> Iterator[tuple[CellResults, Answer]]:
    scripts = scripts_of(results.study)
    for cell in results.cells:
        for repeat in cell.repeats:
            for answer in answers_of(results.study, results.run.decisions, repeat.timelines, scripts):
                yield cell, answer


def _marked(results: StudyResults, said: str) -> tuple[CellResults, Answer, str]:
    request, equals, word = said.partition("=")
    if not equals or word not in MARKS:
        raise UsageError(f"{said!r} is no mark", remedy=f"--mark REQUEST=MARK, with {nearest(word, MARKS)}")
    found = [(c, a) for c, a in _answers(results) if a.request_id.endswith(request)]
    if len(found) != 1:
        what = "no answer" if not found else f"{len(found)} answers"
        raise UsageError(f"{what} with the id {request!r}", remedy="zinc-kettle answers STUDY lists them")
    return (*found[0], word)


def keep_note(place: str, text: str, cell: str, store_path: Path | None) -> None:
    """Keep a note on a run, or on one of its cells.

    Raises:
        UsageError: No such study or cell, or nothing to keep.
    """
    store = open_store(places(store_path))
    run_id = find(store, place)
    said = neutralise(text.strip(), keep_newlines=False)
    if not said:
        raise UsageError("the note is empty", remedy="zinc-kettle note STUDY 'the words'")
    key = one_cell(open_run(store, run_id), cell).cell.key if cell else None
    store.add_note(run_id, key, said, wall_s=time.time())
    output.line(f"kept with {place}" + (f", {cell}" if cell else ""))


EXAMPLES = (
    "zinc-kettle answers night-log-desk",
    "zinc-kettle answers night-log-desk --cell threads=2 --json",
)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for one cell only.")] = "",
    mark: Annotated[
        str, typer.Option("--mark", help="REQUEST=MARK: cut short, rambling, repeats itself, ignored the ask, fine.")
    ] = "",
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """List the answers of a run with remarks, or mark one; marking it again removes the mark."""
    tell_answers(study, cell, mark, store, as_json=as_json)
