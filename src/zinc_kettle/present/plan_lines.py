"""A plan as a person reads it: sentences and lists, each with the place in the study file it speaks of."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from zinc_kettle.core.plan.decide import is_condition
from zinc_kettle.core.plan.factors import FACTORS, Factor, label
from zinc_kettle.core.plan.fields import FIELDS, SECTIONS, PlanField, Section, field_text
from zinc_kettle.core.units import plural

LineKind = Literal["sentence", "factor", "field", "add"]
Raw = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class PlanLine:
    """One line of a plan."""

    kind: LineKind
    section: Section
    path: tuple[str, ...]
    """What it speaks of in the study file."""
    heading: str
    """The word before the section; empty behind its first line."""
    label: str
    """Name of the factor or field; empty for a sentence."""
    said: str
    note: str = ""
    """Beside it, dim."""
    edit: str = ""
    """What it says, as it is typed."""
    default: bool = False
    """True where nothing is said and the default holds."""


def plan_lines(raw: Raw, factors: Mapping[str, Factor], unfolded: Collection[Section]) -> list[PlanLine]:
    """The lines of a plan, in the order a person reads them.

    Args:
        raw: Values of the study file, whether they are right or not.
        factors: What may be varied, by name.
        unfolded: Sections whose fields are shown one by one.
    """
    out: list[PlanLine] = []
    for section, heading in SECTIONS.items():
        if section in {"vary", "hold"}:
            out += _factors(raw, section, heading, factors)
        elif section != "endpoint" or "endpoint" in raw or section in unfolded:
            edit = str(raw.get("question", "")) if section == "question" else ""
            out.append(PlanLine("sentence", section, (section,), heading, "", sentence(raw, section), edit=edit))
            out += _fields(raw, section) if section in unfolded else []
    return out


def _table(raw: Raw, section: str) -> Mapping[str, Any]:
    found = raw.get(section, {})
    return found if isinstance(found, Mapping) else {}


def _factors(raw: Raw, section: Section, heading: str, factors: Mapping[str, Factor]) -> list[PlanLine]:
    out: list[PlanLine] = []
    for name, value in _table(raw, section).items():
        levels = value if isinstance(value, list) else [value]
        factor = factors.get(name)
        note = [plural(len(levels), "level")] if section == "vary" else []
        if factor is not None and factor.kind == "launch" and section == "vary":
            note.append("needs a reload")
        out.append(
            PlanLine(
                "factor",
                section,
                (section, name),
                heading if not out else "",
                name.replace("_", " "),
                _listed(levels),
                " · ".join(note),
                ", ".join(_typed(level) for level in levels),
            )
        )
    words = "add a factor to vary" if section == "vary" else "add what is held"
    out.append(PlanLine("add", section, (section,), heading if not out else "", "", f"+ {words}"))
    return out


def _listed(levels: Sequence[object]) -> str:
    return ", ".join(label(v) if isinstance(v, (str, int)) else str(v) for v in levels) or "no levels yet"


def _typed(level: object) -> str:
    return label(level).replace(",", "") if isinstance(level, (str, int)) else str(level)


def _fields(raw: Raw, section: Section) -> list[PlanLine]:
    out = []
    for of in FIELDS.values():
        if of.section != section:
            continue
        value = raw.get(of.name) if section == "question" else _table(raw, section).get(of.name)
        typed = _safe_text(of, value)
        said = typed or field_text(of, of.default) or "–"
        out.append(PlanLine("field", section, of.path, "", of.label, said, of.help, typed, default=not typed))
    return out


# sentences
class _Said:
    """What a section says, with its defaults."""

    def __init__(self, raw: Raw, section: Section) -> None:
        self._table = raw if section == "question" else _table(raw, section)
        self._section = section

    def __call__(self, name: str) -> Any:
        """The value of a field, or its default."""
        of = FIELDS[(name,) if self._section == "question" else (self._section, name)]
        return self._table.get(name, of.default)

    def text(self, name: str) -> str:
        """The same, as a person types it."""
        of = FIELDS[(name,) if self._section == "question" else (self._section, name)]
        return _safe_text(of, self(name))

    def given(self, name: str) -> bool:
        """True where the file says it."""
        return self._table.get(name) not in (None, [], {})


def _safe_text(of: PlanField, value: object) -> str:
    try:
        return field_text(of, value)
    except (TypeError, ValueError, AttributeError):
        return str(value)


def sentence(raw: Raw, section: Section) -> str:
    """What a section says, in a sentence."""
    return _SENTENCES[section](_Said(raw, section), raw)


def _question(said: _Said, _raw: Raw) -> str:
    return str(said("question") or "nothing yet")


def _decide(said: _Said, raw: Raw) -> str:
    vary = list(_table(raw, "vary"))
    named = said("choose") if said.given("choose") else [n for n in vary if not is_condition(n, FACTORS.get(n))]
    rest = [n.replace("_", " ") for n in vary if n not in named]
    chosen = " and ".join(name.replace("_", " ") for name in named)
    over = " and ".join(rest)
    if chosen:
        what = f"which {chosen} to take" + (f", over every {over}" if over else "")
    else:
        what = f"how it changes with {over}" if over else "nothing yet: nothing varies"
    measure = f", by {said('by')}" if said.given("by") else ""
    levels = said("baseline")
    now = f", against {_listed(list(levels.values()))} as now" if isinstance(levels, dict) and levels else ""
    needs = f"; provided: {said.text('provided')}" if said.given("provided") else ""
    return f"{what}{measure}{now}{needs}"


def _prompts(said: _Said, raw: Raw) -> str:
    files, hold = said("files"), {**_table(raw, "hold"), **_table(raw, "vary")}
    what = f"from {said.text('files')}" if files else "made-up words"
    if "task" in hold:
        what = "as the task of the suite has them"
    if said.given("sample"):
        what += f", {said('sample')} drawn"
    if said.given("lengths"):
        what += f", {said.text('lengths')} tokens long"
    return what + (f"; answers {said.text('outputs')} tokens" if said.given("outputs") else "")


def _load(said: _Said, _raw: Raw) -> str:
    shape = said("shape")
    think = f", pausing {said.text('think_s')} in the mean" if said.given("think_s") else ""
    words = {
        "closed": f"closed loop: each stream sends when its last answer has ended{think}",
        "burst": "burst: all requests at the same moment",
        "batch": "batch: all prompts in one request",
        "open": f"open loop: arrivals {said('arrivals')}, at the rate that is set",
        "conversation": f"conversations of {said('turns')} turns{think}",
    }
    return words.get(str(shape), str(shape))


def _repeats(said: _Said, _raw: Raw) -> str:
    if said.given("until_answered"):
        asked = said("until_answered")
        what = "which is best" if asked == "best" else f"what each step of {asked} brings"
        often = f"until it is known {what} in {said('until_measure')}, to {said.text('smallest_percent')}"
    elif said.given("until_percent"):
        often = f"until {said('until_measure')} is known to ±{said.text('until_percent')}"
    else:
        often = f"each cell {said('count')} times"
    if said.given("ceiling"):
        often += f", {said('ceiling')} at most"
    requests = f", {plural(said('requests'), 'request')} each" if isinstance(said("requests"), int) else ""
    order = "interleaved" if said("order") == "interleaved" else "launch by launch"
    warm = "no warm-up" if said("warm_up") == 0 else f"{said('warm_up')} to warm up"
    return f"{often}{requests}, {warm}, {order}"


def _promise(said: _Said, _raw: Raw) -> str:
    parts = [f"first token within {said.text('ttft_s')}"] if said.given("ttft_s") else []
    parts += [f"each token within {said.text('tpot_s')}"] if said.given("tpot_s") else []
    if not parts:
        return "none: nothing is held against a promise"
    return f"{', '.join(parts)}, {said('percentile'):g}% of the time; {said.text('failures_percent')} may fail"


def _capacity(said: _Said, _raw: Raw) -> str:
    if not said.given("factor"):
        return "none: the loads are those that are planned"
    noun = "streams" if said("factor") == "concurrency" else "requests per minute"
    return (
        f"the largest load that keeps the promise, in {noun}, up to {said('most'):,}, "
        f"within {said.text('within_percent')} in {said('steps')} steps at most"
    )


def _design(said: _Said, _raw: Raw) -> str:
    parts = [f"{said.text('ties')} change together"] if said.given("ties") else []
    if said("kind") == "one-at-a-time":
        base = f" ({said.text('baseline')})" if said.given("baseline") else ""
        parts.append(f"all but one factor at a time from the baseline{base}")
    if said("kind") == "chain":
        base = f", from {said.text('baseline')} on" if said.given("baseline") else ""
        parts.append(f"all but one change after the other{base}")
    if said.given("without"):
        parts.append(said.text("without"))
    return "; ".join(parts) or "nothing: every combination is a cell"


def _limits(said: _Said, _raw: Raw) -> str:
    cap = said("total_s")
    out = f"{said.text('total_s')} in all" if cap else "no cap on time"
    if said("quiet_s"):
        out += f", waits {said.text('quiet_s')} for a quiet moment"
    return f"{out}; a request {said.text('request_s')}"


def _retry(said: _Said, _raw: Raw) -> str:
    times = said("times")
    return "none: what fails has failed" if not times else f"{times} after {said.text('on')}"


def _endpoint(said: _Said, _raw: Raw) -> str:
    key = "key_variable" if said.given("key_variable") else "key_file" if said.given("key_file") else ""
    return f"{said('url') or 'no address yet'}, model {said('model')}" + (f", key in {said(key)}" if key else "")


_SENTENCES: Mapping[str, Callable[[_Said, Raw], str]] = {
    "question": _question,
    "decide": _decide,
    "prompts": _prompts,
    "load": _load,
    "repeats": _repeats,
    "promise": _promise,
    "capacity": _capacity,
    "design": _design,
    "limits": _limits,
    "retry": _retry,
    "endpoint": _endpoint,
}


def setting_words(factor: Factor) -> tuple[str, str]:
    """What a factor may be set to, and its default, in a few words each."""
    if factor.choices:
        levels = ", ".join(factor.choices)
    else:
        words = {"switch": "on or off", "text": "a name", "model": "a model"}
        levels = words.get(factor.type) or f"{factor.low:,} to {factor.high:,}"
    default = "none" if factor.default is None else label(factor.default)
    return levels, default
