"""A study file written from a plan: what stands in it is what the plan says, and nothing of any earlier text."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import Any

from zinc_kettle.core.plan.decide import Decide
from zinc_kettle.core.plan.design import Design
from zinc_kettle.core.plan.study import Limits, Repeats, Study
from zinc_kettle.core.plan.traffic import NEEDED, CapacitySearch, Lengths, Load, Promise, RetryPolicy


def write_study(study: Study, *, files: Sequence[str] = (), times_file: str = "", comment: str = "") -> str:
    """The text of a study file that plans the same study.

    Args:
        study: The plan.
        files: The files its prompts are in now; those it names where none are given.
        times_file: The file its recorded arrival times are in now; the one it names where none is given.
        comment: Said at the top; may be empty.
    """
    import tomlkit

    document = tomlkit.document()
    for line in comment.splitlines():
        document.add(tomlkit.comment(line))
    document.update({"format": 1, "name": study.name, "question": study.question})
    document.update(_changed(study, Study(study.name, study.question, {}), ("seed", "temperature")))
    for title, content in _sections(study, files, times_file).items():
        if content or title in {"vary", "hold"}:
            table = tomlkit.table()
            table.update(content)
            document.add(tomlkit.nl())
            document.add(title, table)
    return tomlkit.dumps(document)


def _sections(study: Study, files: Sequence[str], times_file: str) -> dict[str, dict[str, Any]]:
    """In the order a person reads them."""
    repeats, endpoint = study.repeats, study.endpoint
    return {
        "decide": _changed(study.decide, Decide()),
        "vary": {name: list(levels) for name, levels in study.vary.items()},
        "hold": dict(study.hold),
        "design": _design(study.design),
        "endpoint": {} if endpoint is None else _given({f.name: getattr(endpoint, f.name) for f in fields(endpoint)}),
        "prompts": _prompts(study, files),
        "load": _load(study.load, times_file),
        "repeats": {"count": repeats.count, **_changed(repeats, Repeats(repeats.count))},
        "promise": _changed(study.promise, Promise()),
        "capacity": _changed(study.capacity, CapacitySearch()) if study.capacity.factor else {},
        "retry": _changed(study.retry, RetryPolicy()),
        "limits": _changed(study.limits, Limits()),
    }


def _changed(value: Any, default: Any, names: Sequence[str] = ()) -> dict[str, Any]:
    """The fields that are not as the default has them."""
    wanted = names or [f.name for f in fields(value)]
    mine = {name: getattr(value, name) for name in wanted if getattr(value, name) != getattr(default, name)}
    return _given(mine)


def _given(values: Mapping[str, Any]) -> dict[str, Any]:
    return {name: list(v) if isinstance(v, tuple) else v for name, v in values.items() if v is not None}


def _design(design: Design) -> dict[str, Any]:
    out = _changed(design, Design())
    if design.ties:
        out["ties"] = [list(tie) for tie in design.ties]
    if design.without:
        out["without"] = [{name: list(levels) for name, levels in rule.items()} for rule in design.without]
    return out


def _prompts(study: Study, files: Sequence[str]) -> dict[str, Any]:
    prompts = study.prompts
    out: dict[str, Any] = {"files": list(files or prompts.files)} if prompts.files else {}
    if prompts.sample is not None and not files:  # a file of what was drawn is not drawn from again
        out["sample"] = prompts.sample
    if prompts.names and prompts.files:
        out["names"] = list(prompts.names)
    for name, lengths in (("lengths", prompts.lengths), ("outputs", prompts.outputs)):
        if lengths is not None:
            out[name] = _lengths(lengths)
    return out


def _lengths(lengths: Lengths) -> dict[str, Any]:
    values = {name: getattr(lengths, name) for name in NEEDED[lengths.kind]}
    if lengths.kind == "table":
        values["table"] = [list(entry) for entry in lengths.table]
    return {"kind": lengths.kind, **values}


def _load(load: Load, times_file: str) -> dict[str, Any]:
    out = _changed(load, Load())
    out.pop("times_s", None)
    if load.times_file is not None:
        out["times_file"] = times_file or load.times_file
    return out
