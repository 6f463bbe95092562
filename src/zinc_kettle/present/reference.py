"""Tables and lists of all there is of a kind, made from the entries that declare it, for help and docs/."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial

from zinc_kettle.core.cautions import KINDS
from zinc_kettle.core.declared import Declared, declared
from zinc_kettle.core.faults import FAULTS
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.plan.factors import FACTORS, Factor, LevelType
from zinc_kettle.core.plan.fields import FIELDS, field_text
from zinc_kettle.core.plan.recipe import Ask, Count, Engine, ReportedAt, Requests, Setting, Start
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.present.charts import CHART_KINDS
from zinc_kettle.present.report.study import SECTIONS
from zinc_kettle.present.tables import LONG_CELL, OF_CELL, OF_REPEAT, OF_REQUEST, OF_TOKEN, PLACE, Column

BETTER = {"more": "more", "less": "less", "neither": "–"}


def table(head: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """A table in Markdown."""
    lines = [head, ["---"] * len(head), *rows]
    return "\n".join(f"| {' | '.join(cell.replace('|', '&#124;') for cell in line)} |" for line in lines)


def measures() -> str:
    """Every measure."""
    head = ("measure", "name on the screen", "unit", "better", "what it is", "mistakes to avoid")
    rows = ((f"`{m.name}`", m.title, m.unit, BETTER[m.better], m.meaning, m.mistakes) for m in MEASURES.values())
    return table(head, rows)


def map_measures() -> str:
    """Those that the map can show, in the order of its key; a list, since a screen has no room for a wide table."""
    shown = (MEASURES[name] for name in MAP_MEASURES)
    return "\n".join(f"- **{m.title}**: {m.meaning}." + (f" *{m.mistakes}*" if m.mistakes else "") for m in shown)


def cautions() -> str:
    """Every caution."""
    head = ("caution", "what it means", "raised", "what to do")
    return table(head, ((f"`{k.code}`", k.sentence, k.threshold, k.advice) for k in KINDS.values()))


def charts() -> str:
    """Every kind of chart."""
    head = ("kind", "drawn of", "the question it answers")
    return table(head, ((f"`{k.name}`", f"a {k.of}", k.help) for k in CHART_KINDS.values()))


def factors() -> str:
    """Every factor of a study."""
    return table(("factor", "level", "meaning", "default"), (_factor(f) for f in FACTORS.values()))


def plan_fields() -> str:
    """Every field of a study file besides its factors."""
    head = ("field", "how it is typed on Plan", "meaning", "default")
    rows = (
        (f"`{'.'.join(of.path)}`", of.example, _with_choices(of.declared), field_text(of, of.default) or "–")
        for of in FIELDS.values()
    )
    return table(head, rows)


def rig_fields() -> str:
    """Every field of a rig in the rig file."""
    rows = (
        (f"`{name}`", of.about.example, _with_choices(of), "–" if of.default in (None, "") else str(of.default))
        for name, of in declared(RigPlan).items()
    )
    return table(("field", "example", "meaning", "default"), rows)


RECIPE_SECTIONS: Mapping[str, type] = {
    "start": Start,
    "requests": Requests,
    "reports.NAME": ReportedAt,
    "count": Count,
    "facts.NAME": Ask,
    "settings.NAME": Setting,
}


def recipe_fields() -> str:
    """Every field of the sections of a recipe file."""
    rows = (
        (
            f"`{section}.{name}`",
            f"`{of.about.example}`",
            _with_choices(of),
            "–" if of.default in (None, "", [], {}) else f"`{_toml(of.default)}`",
        )
        for section, record in RECIPE_SECTIONS.items()
        for name, of in declared(record).items()
    )
    return table(("field", "example", "meaning", "default"), rows)


def _toml(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)


def _with_choices(of: Declared) -> str:
    choices = "; ".join(f"`{name}`: {what}" for name, what in of.about.choices.items())
    return f"{of.about.help} {choices}." if choices else of.about.help


def settings(engine: Engine) -> str:
    """Every setting of an engine."""
    return table(("factor", "level", "meaning", "default"), (_factor(s) for s in engine.settings))


def _factor(factor: Factor) -> tuple[str, str, str, str]:
    types: dict[LevelType, str] = {"text": "text", "number": "number", "switch": "true, false", "model": "a model"}
    level = ", ".join(factor.choices) or types[factor.type]
    default = factor.default
    said = str(default).lower() if isinstance(default, bool) else "–" if default is None else str(default)
    return f"`{factor.name}`", level, factor.meaning, said


def faults() -> str:
    """Every fault of a request."""
    rows = [(f"`{code}`", meaning) for code, meaning in FAULTS.items()]
    return table(("code", "what happened"), [*rows, ("`http-NNN`", "an answer with that status, such as `http-429`")])


def report_sections() -> str:
    """Every section a study has in a report."""
    return table(("section", "title", "what it tells"), ((f"`{k.name}`", k.title, k.help) for k in SECTIONS))


def columns(of: Sequence[Column]) -> str:
    """Columns of a table."""
    return table(("column", "kind", "unit", "what it is"), ((f"`{c.name}`", c.kind, c.unit, c.meaning) for c in of))


TABLES: Mapping[str, Callable[[], str]] = {
    "measures": measures,
    "map measures": map_measures,
    "cautions": cautions,
    "charts": charts,
    "factors": factors,
    "faults": faults,
    "place columns": partial(columns, PLACE),
    "cell columns": partial(columns, OF_CELL),
    "long cell columns": partial(columns, LONG_CELL),
    "repeat columns": partial(columns, OF_REPEAT),
    "plan fields": plan_fields,
    "rig fields": rig_fields,
    "recipe fields": recipe_fields,
    "report sections": report_sections,
    "request columns": partial(columns, OF_REQUEST),
    "token columns": partial(columns, OF_TOKEN),
}
"""By the name with which a text asks for one."""


def filled(text: str) -> str:
    """A text with its tables in the place of their names: `{{measures}}`."""
    for name, make in TABLES.items():
        mark = "{{" + name + "}}"
        if mark in text:
            text = text.replace(mark, make())
    return text
