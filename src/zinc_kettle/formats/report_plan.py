"""Reports as files a person can write and edit: parts, what is left out, and their own words."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.declared import complaint
from zinc_kettle.formats.toml import read_toml

ENDING = ".report.toml"
Place = Annotated[str, Field(min_length=1, max_length=400)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    study: Place | None = None
    duel: Annotated[list[Place], Field(min_length=2, max_length=2)] | None = None
    lineup: Annotated[list[Place], Field(min_length=1, max_length=20)] | None = None
    measure: Annotated[str, Field(max_length=60)] = ""
    by: Annotated[str, Field(max_length=60)] = ""


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    format: Literal[1]
    title: Annotated[str, Field(max_length=300)] = ""
    leave_out: list[Annotated[str, Field(max_length=500)]] = []
    parts: Annotated[list[_Part], Field(max_length=50)] = []
    words: dict[str, Annotated[str, Field(max_length=100_000)]] = {}


def read_report_plan(path: Path) -> ReportPlan:
    """A report a person put together.

    Raises:
        StudyFileError: The file cannot be used.
    """
    raw, _ = read_toml(path)
    try:
        model = _File.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise StudyFileError(
            f"{where}: {complaint(first)}", file=path.name, remedy="docs/reports.md has an example"
        ) from error
    parts = tuple(_part(part, path.name) for part in model.parts)
    words = {neutralise(key, keep_newlines=False): neutralise(text) for key, text in model.words.items()}
    return ReportPlan(neutralise(model.title, keep_newlines=False), parts, frozenset(model.leave_out), words)


def _part(part: _Part, file: str) -> ReportPart:
    named = [name for name in ("study", "duel", "lineup") if getattr(part, name) is not None]
    if len(named) != 1:
        raise StudyFileError("a part is either a study, a duel or a lineup", file=file, remedy='study = "which-rig"')
    if part.study is not None:
        return ReportPart("study", (part.study,), part.measure, part.by)
    if part.duel is not None:
        return ReportPart("duel", tuple(part.duel), part.measure, part.by)
    return ReportPart("lineup", tuple(part.lineup or ()), part.measure, part.by)


def write_report_plan(plan: ReportPlan, path: Path) -> None:
    """Keep a report; the file that was there is replaced when all is written.

    Raises:
        UsageError: It cannot be written.
    """
    text = report_plan_text(plan)
    with atomic_file(path) as part:
        part.write_text(text, encoding="utf-8")


def report_plan_text(plan: ReportPlan) -> str:
    """A report as TOML."""
    document = tomlkit.document()
    document.update({"format": 1, "title": plan.title, "leave_out": sorted(plan.left_out)})
    parts = tomlkit.aot()
    for part in plan.parts:
        table: dict[str, Any] = {part.kind: part.of[0] if part.kind == "study" else list(part.of)}
        table |= {name: said for name, said in (("measure", part.measure), ("by", part.by)) if said}
        parts.append(tomlkit.item(table))
    if plan.parts:
        document.append("parts", parts)
    words = tomlkit.table()
    for key, text in plan.words.items():
        words.append(key, tomlkit.string(text, multiline="\n" in text))
    document.append("words", words)
    return tomlkit.dumps(document)
