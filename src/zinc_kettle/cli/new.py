"""`new`: a study file from a template."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

import psutil

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.core.factors import Factor, Level
from zinc_kettle.core.ranges import read_level, read_levels
from zinc_kettle.core.recipe import BUILT_IN, Engine, factors_of
from zinc_kettle.core.templates import TEMPLATES, Template, core_counts, missing
from zinc_kettle.core.validate import nearest
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.new_study import study_text
from zinc_kettle.formats.study import parse_study
from zinc_kettle.wiring.build import known

USUAL_QUANTIZATION = "Q8_0"
_NAME = re.compile(r"[^a-z0-9]+")


def list_templates() -> None:
    """Every template, with its question and why it is built so."""
    for template in TEMPLATES.values():
        output.line(f"{template.name}: {template.question}")
        output.line(f"  {template.reason}")
        given = missing(template, ())
        if given:
            output.line(f"  give --vary {given[0]}=…")


def new_study(
    chosen: str, vary: Sequence[str], hold: Sequence[str], name: str, out: Path | None, store: Path | None
) -> None:
    """Write a study file.

    Raises:
        UsageError: No such template, a level that cannot be, a design that cannot be measured, a file that is there.
    """
    if chosen not in TEMPLATES:
        raise UsageError(f"there is no template {chosen!r}", remedy=nearest(chosen, TEMPLATES))
    template, where = TEMPLATES[chosen], places(store)
    engines = known(where)
    asked, kept = _pairs(vary), _pairs(hold)
    factors = factors_of(_engines({**kept, **asked}, engines.engines.values()))
    varied = {factor: _levels(factors, factor, said) for factor, said in _varied(template, asked).items()}
    held: dict[str, Level] = {n: level for n, level in template.hold.items() if n not in varied}
    held.update({factor: _one(factors, factor, said) for factor, said in kept.items()})
    model = str(held.get("model", ""))
    if model and not {"quantization"} & {*varied, *held} and not model.endswith(".gguf") and "/" not in model:
        held["quantization"] = USUAL_QUANTIZATION  # a file has its own, a name says nothing of it
    lacking = missing(template, list(varied)) or ([] if varied else ["NAME"])
    if lacking:
        raise UsageError(f"{chosen} needs to know what to vary", remedy=f"--vary {lacking[0]}=…,…")
    title = name or _NAME.sub("-", f"{chosen}-{held.get('model', held.get('engine', 'here'))}".lower()).strip("-")
    text = study_text(template, title, vary=varied, hold=held)
    file = out or where.studies / f"{title}.study.toml"
    parse_study(text, engines, file=file.name, folder=file.parent)
    if file.exists():
        raise UsageError(f"{file.name} is there already", remedy="choose another --name or --out")
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(text, encoding="utf-8")
    output.line(str(file))
    output.note(f"zinc-kettle plan {file} shows what it would do, zinc-kettle run {file} measures it")


def _pairs(given: Sequence[str]) -> dict[str, str]:
    """`factor=what` of several options."""
    out = {}
    for part in given:
        name, equals, said = part.partition("=")
        if not equals or not name.strip() or not said.strip():
            raise UsageError(f"{part!r} names no level", remedy="factor=level, such as threads=1..8x2")
        out[name.strip()] = said.strip()
    return out


def _engines(asked: dict[str, str], there: Iterable[Engine]) -> list[Engine]:
    """Engines the design is about: those it names, else the built-in one."""
    names = {name.strip() for name in asked.get("engine", BUILT_IN).split(",")}
    return [engine for engine in there if engine.name in names]


def _varied(template: Template, asked: dict[str, str]) -> dict[str, str]:
    """Factors and their levels in shorthand: the template's, with what a person wants otherwise, then what is added."""
    cores = psutil.cpu_count(logical=False) or os.cpu_count() or 1
    own = {
        name: ", ".join(map(str, core_counts(cores))) if levels == "cores" else levels
        for name, levels in template.vary.items()
    }
    return {name: said for name, said in {**own, **asked}.items() if said}


def _levels(factors: dict[str, Factor], name: str, said: str) -> tuple[Level, ...]:
    if name not in factors:
        raise UsageError(f"{name} is not a factor", remedy=nearest(name, factors))
    try:
        levels = read_levels(factors[name], said)
    except ValueError as error:
        raise UsageError(f"{name}={said}: {error}", remedy=f"{name}=1..8 x2, or {name}=1,2,4") from error
    if levels is None:
        raise UsageError(f"{name}={said} holds something that is no level of it", why=factors[name].meaning,
                         remedy="levels parted by commas; numbers also as 1..8 x2 or 512..2048 +512")  # fmt: skip
    return levels


def _one(factors: dict[str, Factor], name: str, said: str) -> Level:
    if name not in factors:
        raise UsageError(f"{name} is not a factor", remedy=nearest(name, factors))
    level = read_level(factors[name], said)
    if level is None:
        raise UsageError(f"{said!r} is no level of {name}", why=factors[name].meaning, remedy="see docs/study-files.md")
    return level
